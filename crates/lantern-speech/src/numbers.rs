//! Numbers as they are spoken: in digits, or in English words up to the millions.

pub(crate) const ONES: [&str; 20] = [
    "zero",
    "one",
    "two",
    "three",
    "four",
    "five",
    "six",
    "seven",
    "eight",
    "nine",
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
];
pub(crate) const TENS: [&str; 10] =
    ["", "", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];

/// The longest number that `words` begin with, and how many words it takes.
///
/// ```
/// use lantern_speech::number_at;
/// assert_eq!(number_at(&["forty", "two", "percent"]), Some((42.0, 2)));
/// assert_eq!(number_at(&["minus", "3.5"]), Some((-3.5, 2)));
/// assert_eq!(number_at(&["core"]), None);
/// ```
pub fn number_at(words: &[&str]) -> Option<(f64, usize)> {
    if let Some("minus" | "negative") = words.first().copied() {
        let (number, taken) = unsigned_at(&words[1..])?;
        return Some((-number, taken + 1));
    }
    unsigned_at(words)
}

/// A whole number in words, as it is spoken.
///
/// ```
/// use lantern_speech::spoken_number;
/// assert_eq!(spoken_number(142).join(" "), "one hundred forty two");
/// ```
pub fn spoken_number(number: u32) -> Vec<String> {
    let number = number as usize;
    let group = |count: usize, word: &str| {
        let mut words = spoken_number(count as u32);
        words.push(word.to_owned());
        words
    };
    let (mut words, rest) = match number {
        0..20 => return vec![ONES[number].to_owned()],
        20..100 => (vec![TENS[number / 10].to_owned()], number % 10),
        100..1000 => (group(number / 100, "hundred"), number % 100),
        1000..1_000_000 => (group(number / 1000, "thousand"), number % 1000),
        _ => (group(number / 1_000_000, "million"), number % 1_000_000),
    };
    if rest > 0 {
        words.extend(spoken_number(rest as u32));
    }
    words
}

fn unsigned_at(words: &[&str]) -> Option<(f64, usize)> {
    if let Some(number) = words.first().and_then(|word| in_digits(word)) {
        return Some((number, 1));
    }
    let (whole, taken) = whole_at(words)?;
    let Some("point") = words.get(taken).copied() else {
        return Some((whole, taken));
    };
    let digits: String = words[taken + 1..].iter().map_while(|word| digit(word)).collect();
    if digits.is_empty() {
        return Some((whole, taken));
    }
    let number = format!("{whole}.{digits}").parse().ok()?;
    Some((number, taken + 1 + digits.len()))
}

fn in_digits(word: &str) -> Option<f64> {
    let plain = word.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.' || byte == b',');
    let starts = word.bytes().next().is_some_and(|byte| byte.is_ascii_digit());
    if plain && starts { word.replace(',', "").parse().ok() } else { None }
}

fn digit(word: &str) -> Option<char> {
    let value = match word {
        "oh" => 0,
        other => ONES[..10].iter().position(|one| *one == other).or_else(|| {
            other.parse::<usize>().ok().filter(|digit| *digit < 10 && other.len() == 1)
        })?,
    };
    char::from_digit(u32::try_from(value).ok()?, 10)
}

/// A whole number in words: groups below a thousand, with `thousand` and `million` between.
fn whole_at(words: &[&str]) -> Option<(f64, usize)> {
    let mut total = 0.0;
    let mut taken = 0;
    let mut limit = f64::INFINITY;
    while let Some((group, length)) = group_at(&words[taken..]) {
        let scale = match words.get(taken + length).copied() {
            Some("million") => 1e6,
            Some("thousand") => 1e3,
            _ => 1.0,
        };
        if scale >= limit {
            break;
        }
        total += group * scale;
        taken += length + usize::from(scale > 1.0);
        limit = scale;
        if scale == 1.0 {
            break;
        }
        if words.get(taken) == Some(&"and") && group_at(&words[taken + 1..]).is_some() {
            taken += 1;
        }
    }
    (taken > 0).then_some((total, taken))
}

/// A number below a thousand: `[N hundred [and]] N`.
fn group_at(words: &[&str]) -> Option<(f64, usize)> {
    let (first, taken) = match words.first().copied() {
        Some("a") if matches!(words.get(1), Some(&"hundred" | &"thousand" | &"million")) => (1, 1),
        _ => below_hundred_at(words)?,
    };
    if words.get(taken) != Some(&"hundred") {
        return Some((first as f64, taken));
    }
    let mut taken = taken + 1;
    let mut number = first * 100;
    let joins = usize::from(words.get(taken) == Some(&"and"));
    if let Some((rest, length)) = below_hundred_at(&words[(taken + joins).min(words.len())..]) {
        number += rest;
        taken += joins + length;
    }
    Some((number as f64, taken))
}

fn below_hundred_at(words: &[&str]) -> Option<(usize, usize)> {
    let word = *words.first()?;
    if let Some(one) = ONES.iter().position(|one| *one == word) {
        return Some((one, 1));
    }
    let ten = TENS.iter().position(|ten| !ten.is_empty() && *ten == word)?;
    let one = words.get(1).and_then(|next| ONES[1..10].iter().position(|one| one == next));
    Some(match one {
        Some(one) => (ten * 10 + one + 1, 2),
        None => (ten * 10, 1),
    })
}
