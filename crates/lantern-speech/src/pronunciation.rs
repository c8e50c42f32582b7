//! How words sound: by a pronunciation dictionary where there is one, by letter-to-sound rules for
//! English otherwise.
//!
//! Sounds are the 39 of the ARPAbet without stress. The rules are our own short list: the longest
//! group of letters that fits is taken first, with a vowel's long sound before a consonant and a
//! silent e.

use std::collections::BTreeMap;
use std::sync::LazyLock;

/// Declares the phonemes with their letters and the features by which they are compared.
macro_rules! phonemes {
    ($($name:ident $letters:literal $kind:ident $place:literal $manner:literal;)*) => {
        /// A sound of speech.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        #[repr(u8)]
        #[allow(missing_docs)]
        pub enum Phoneme { $($name),* }

        impl Phoneme {
            /// Every phoneme.
            pub const ALL: &[Phoneme] = &[$(Phoneme::$name),*];

            /// Its letters in the ARPAbet.
            pub const fn letters(self) -> &'static str {
                match self { $(Phoneme::$name => $letters),* }
            }

            const fn features(self) -> (PhonemeKind, i8, i8) {
                match self { $(Phoneme::$name => (PhonemeKind::$kind, $place, $manner)),* }
            }
        }
    };
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum PhonemeKind {
    Vowel,
    Voiced,
    Voiceless,
}

// Vowels: how far front (0) to back (4), how close (0) to open (4). Consonants: place from lips (0)
// to throat (6); manner: stop 0, affricate 1, fricative 2, nasal 4, liquid 5, glide 6.
phonemes! {
    Iy "IY" Vowel 0 0;  Ih "IH" Vowel 0 1;  Ey "EY" Vowel 0 1;  Eh "EH" Vowel 0 2;
    Ae "AE" Vowel 0 3;  Aa "AA" Vowel 3 4;  Ao "AO" Vowel 4 3;  Ow "OW" Vowel 4 2;
    Uh "UH" Vowel 4 1;  Uw "UW" Vowel 4 0;  Ah "AH" Vowel 2 3;  Er "ER" Vowel 2 2;
    Ay "AY" Vowel 1 4;  Aw "AW" Vowel 3 3;  Oy "OY" Vowel 3 2;
    P "P" Voiceless 0 0;  B "B" Voiced 0 0;  T "T" Voiceless 3 0;  D "D" Voiced 3 0;
    K "K" Voiceless 5 0;  G "G" Voiced 5 0;  Ch "CH" Voiceless 4 1;  Jh "JH" Voiced 4 1;
    F "F" Voiceless 1 2;  V "V" Voiced 1 2;  Th "TH" Voiceless 2 2;  Dh "DH" Voiced 2 2;
    S "S" Voiceless 3 2;  Z "Z" Voiced 3 2;  Sh "SH" Voiceless 4 2;  Zh "ZH" Voiced 4 2;
    Hh "HH" Voiceless 6 2;  M "M" Voiced 0 4;  N "N" Voiced 3 4;  Ng "NG" Voiced 5 4;
    L "L" Voiced 3 5;  R "R" Voiced 4 5;  Y "Y" Voiced 4 6;  W "W" Voiced 0 6;
}

impl Phoneme {
    /// The phoneme with these letters, a digit of stress left out.
    pub fn from_letters(letters: &str) -> Option<Phoneme> {
        let letters = letters.trim_end_matches(|c: char| c.is_ascii_digit());
        Phoneme::ALL.iter().copied().find(|phoneme| phoneme.letters() == letters)
    }

    /// Whether it is a vowel.
    pub fn is_vowel(self) -> bool {
        self.features().0 == PhonemeKind::Vowel
    }

    /// How far it is from another, from 0 (the same) to 10.
    pub fn distance(self, other: Phoneme) -> u8 {
        static TABLE: LazyLock<Vec<[u8; Phoneme::ALL.len()]>> = LazyLock::new(|| {
            let row = |one: &Phoneme| std::array::from_fn(|other| one.measure(Phoneme::ALL[other]));
            Phoneme::ALL.iter().map(row).collect()
        });
        TABLE[self as usize][other as usize]
    }

    fn measure(self, other: Phoneme) -> u8 {
        if self == other {
            return 0;
        }
        let (kind, place, manner) = self.features();
        let (other_kind, other_place, other_manner) = other.features();
        if (kind == PhonemeKind::Vowel) != (other_kind == PhonemeKind::Vowel) {
            return 10;
        }
        let apart = place.abs_diff(other_place) + manner.abs_diff(other_manner);
        if kind == PhonemeKind::Vowel {
            return (2 + apart).min(7);
        }
        let voicing = if kind == other_kind { 0 } else { 2 };
        (2 + voicing + apart).min(10)
    }
}

/// Letters and the sounds they make; the longest that fits is taken.
const RULES: &[(&str, &[Phoneme])] = {
    use Phoneme::*;
    &[
        ("ation", &[Ey, Sh, Ah, N]),
        ("ought", &[Ao, T]),
        ("ough", &[Ow]),
        ("tion", &[Sh, Ah, N]),
        ("sion", &[Zh, Ah, N]),
        ("eigh", &[Ey]),
        ("igh", &[Ay]),
        ("tch", &[Ch]),
        ("dge", &[Jh]),
        ("sch", &[S, K]),
        ("ear", &[Ih, R]),
        ("eer", &[Ih, R]),
        ("air", &[Eh, R]),
        ("oar", &[Ao, R]),
        ("our", &[Aw, Er]),
        ("ture", &[Ch, Er]),
        ("ck", &[K]),
        ("ch", &[Ch]),
        ("sh", &[Sh]),
        ("th", &[Th]),
        ("ph", &[F]),
        ("wh", &[W]),
        ("gh", &[]),
        ("kn", &[N]),
        ("wr", &[R]),
        ("qu", &[K, W]),
        ("ng", &[Ng]),
        ("ee", &[Iy]),
        ("ea", &[Iy]),
        ("ei", &[Ey]),
        ("ey", &[Iy]),
        ("ie", &[Iy]),
        ("oo", &[Uw]),
        ("oa", &[Ow]),
        ("ou", &[Aw]),
        ("ow", &[Ow]),
        ("oi", &[Oy]),
        ("oy", &[Oy]),
        ("ai", &[Ey]),
        ("ay", &[Ey]),
        ("au", &[Ao]),
        ("aw", &[Ao]),
        ("ue", &[Uw]),
        ("ui", &[Uw]),
        ("ew", &[Uw]),
        ("ar", &[Aa, R]),
        ("er", &[Er]),
        ("ir", &[Er]),
        ("or", &[Ao, R]),
        ("ur", &[Er]),
        ("ce", &[S]),
        ("ci", &[S, Ih]),
        ("cy", &[S, Iy]),
        ("ge", &[Jh]),
        ("gi", &[Jh, Ih]),
        ("a", &[Ae]),
        ("b", &[B]),
        ("c", &[K]),
        ("d", &[D]),
        ("e", &[Eh]),
        ("f", &[F]),
        ("g", &[G]),
        ("h", &[Hh]),
        ("i", &[Ih]),
        ("j", &[Jh]),
        ("k", &[K]),
        ("l", &[L]),
        ("m", &[M]),
        ("n", &[N]),
        ("o", &[Aa]),
        ("p", &[P]),
        ("q", &[K]),
        ("r", &[R]),
        ("s", &[S]),
        ("t", &[T]),
        ("u", &[Ah]),
        ("v", &[V]),
        ("w", &[W]),
        ("x", &[K, S]),
        ("y", &[Iy]),
        ("z", &[Z]),
    ]
};

/// Pronunciations: those of a dictionary, and rules for every other word.
#[derive(Debug, Clone, Default)]
pub struct Pronunciations {
    dictionary: BTreeMap<String, Vec<Phoneme>>,
}

impl Pronunciations {
    /// Rules only.
    pub fn by_rules() -> Pronunciations {
        Pronunciations::default()
    }

    /// With a dictionary: lines of a word and its phonemes in the ARPAbet, of which those for
    /// which `wanted` holds are kept. Other lines are passed over.
    pub fn with_dictionary(text: &str, wanted: impl Fn(&str) -> bool) -> Pronunciations {
        let mut dictionary = BTreeMap::new();
        for line in text.lines() {
            let mut words = line.split_whitespace();
            let Some(word) = words.next().filter(|word| wanted(word)) else { continue };
            let sounds: Option<Vec<Phoneme>> = words.map(Phoneme::from_letters).collect();
            if let Some(sounds) = sounds.filter(|sounds| !sounds.is_empty()) {
                dictionary.insert(word.to_owned(), sounds);
            }
        }
        Pronunciations { dictionary }
    }

    /// Rules only, worked out once for each of these words.
    pub fn of_words<'w>(words: impl IntoIterator<Item = &'w str>) -> Pronunciations {
        let mut dictionary = BTreeMap::new();
        for word in words {
            if !dictionary.contains_key(word) {
                dictionary.insert(word.to_owned(), by_rules(word));
            }
        }
        Pronunciations { dictionary }
    }

    /// How many words the dictionary has.
    pub fn known_words(&self) -> usize {
        self.dictionary.len()
    }

    /// How a word sounds.
    ///
    /// ```
    /// use lantern_speech::Pronunciations;
    /// let sounds = Pronunciations::by_rules().of_word("bright");
    /// let letters: Vec<&str> = sounds.iter().map(|sound| sound.letters()).collect();
    /// assert_eq!(letters, ["B", "R", "AY", "T"]);
    /// ```
    pub fn of_word(&self, word: &str) -> Vec<Phoneme> {
        match self.dictionary.get(word) {
            Some(sounds) => sounds.clone(),
            None => by_rules(word),
        }
    }
}

/// The words of a dictionary in the CMU form, each with the letters of one way to say it. Further ways have a
/// number in brackets behind the word.
pub(crate) fn entries(dictionary: &str) -> impl Iterator<Item = (&str, &str)> {
    dictionary.lines().filter_map(|line| {
        let (head, letters) = line.split_once(char::is_whitespace)?;
        Some((head.split('(').next().unwrap_or(head), letters.trim()))
    })
}

fn by_rules(word: &str) -> Vec<Phoneme> {
    let letters: String = word.chars().filter_map(plain_letter).collect();
    let mut sounds: Vec<Phoneme> = Vec::new();
    let mut at = 0;
    while at < letters.len() {
        let rest = &letters[at..];
        if let Some(long) = long_vowel(rest) {
            sounds.push(long);
            at += 1;
            continue;
        }
        // A last e is silent after a vowel somewhere before it.
        if rest == "e" && sounds.iter().any(|sound| sound.is_vowel()) {
            break;
        }
        let rule = rules_for(rest.as_bytes()[0]).iter().find(|(group, _)| rest.starts_with(group));
        let Some((group, made)) = rule else {
            at += 1;
            continue;
        };
        // A consonant written twice is said once.
        let doubled = group.len() == 1 && at > 0 && letters[..at].ends_with(group);
        if !doubled || made.iter().any(|sound| sound.is_vowel()) {
            sounds.extend(*made);
        }
        at += group.len();
    }
    sounds
}

/// The rules for groups that begin with a letter, the longest first.
fn rules_for(letter: u8) -> &'static [(&'static str, &'static [Phoneme])] {
    type Rules = Vec<(&'static str, &'static [Phoneme])>;
    static BY_LETTER: LazyLock<[Rules; 26]> = LazyLock::new(|| {
        std::array::from_fn(|at| {
            let first = b'a' + at as u8;
            RULES.iter().copied().filter(|(group, _)| group.as_bytes()[0] == first).collect()
        })
    });
    &BY_LETTER[usize::from(letter - b'a')]
}

/// A vowel before one consonant and a last e has its long sound.
fn long_vowel(rest: &str) -> Option<Phoneme> {
    let bytes = rest.as_bytes();
    let is_vowel = |byte: u8| matches!(byte, b'a' | b'e' | b'i' | b'o' | b'u' | b'y');
    let [vowel, consonant, b'e', ..] = bytes else { return None };
    let ends = bytes.len() == 3 || (bytes.len() == 4 && matches!(bytes[3], b's' | b'd'));
    if !ends || is_vowel(*consonant) || matches!(consonant, b'r' | b'x') {
        return None;
    }
    Some(match vowel {
        b'a' => Phoneme::Ey,
        b'e' => Phoneme::Iy,
        b'i' | b'y' => Phoneme::Ay,
        b'o' => Phoneme::Ow,
        b'u' => Phoneme::Uw,
        _ => return None,
    })
}

/// The nearest letter of the English alphabet; digits are read out elsewhere.
fn plain_letter(character: char) -> Option<char> {
    Some(match character {
        'a'..='z' => character,
        'à'..='å' | 'ā' | 'ă' | 'ą' => 'a',
        'æ' | 'è'..='ë' | 'ē' | 'ę' | 'ě' => 'e',
        'ç' | 'ć' | 'č' => 'c',
        'ì'..='ï' | 'ī' | 'į' => 'i',
        'ñ' | 'ń' | 'ň' => 'n',
        'ò'..='ö' | 'ø' | 'ō' | 'ő' => 'o',
        'ß' | 'ś' | 'š' => 's',
        'ù'..='ü' | 'ū' | 'ű' => 'u',
        'ý' | 'ÿ' => 'y',
        'ź' | 'ż' | 'ž' => 'z',
        'ł' => 'l',
        'ð' | 'đ' => 'd',
        'þ' => 't',
        _ => return None,
    })
}
