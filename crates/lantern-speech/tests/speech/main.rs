//! Phrases from the outside: how they are written, what they match, how alike they sound.

mod acoustics;
mod listening;

use std::collections::BTreeMap;

use lantern_speech::{
    MatchedPart, Phoneme, PhonemeSequence, Phrase, PhraseError, PhraseIndex, Pronunciations,
    WordList, alike_pairs, heard_words, likeness, number_at,
};
use proptest::prelude::*;

fn lists() -> BTreeMap<String, WordList> {
    let tray = Phrase::parse_list("north | spare tray | (old | worn) one").expect("it is a list");
    BTreeMap::from([("tray".to_owned(), tray)])
}

/// What a phrase makes of words: nothing, or its parts.
fn parts(phrase: &str, heard: &str) -> Option<Vec<(String, MatchedPart)>> {
    let phrase = Phrase::parse(phrase, &lists()).unwrap_or_else(|error| panic!("{error}"));
    let book = PhraseIndex::new(vec![phrase]);
    book.understand(heard, |_| true).pop().map(|understood| understood.parts)
}

fn number(number: f64) -> MatchedPart {
    MatchedPart::Number(number)
}

#[test]
fn words_options_and_choices() {
    let fits = |phrase: &str, heard: &str| parts(phrase, heard).is_some();
    assert!(fits("next [core] section", "Next section!"));
    assert!(fits("next [core] section", "next core section"));
    assert!(!fits("next [core] section", "next core core section"));
    assert!(fits("(go | carry) on [with it [now | again]]", "carry on with it again"));
    assert!(!fits("(go | carry) on", "on"));
    assert!(fits("cut ...", "cut"));
    assert!(fits("... stop ...", "would you please stop it"));
    assert!(!fits("next section", "next section please"));
}

#[test]
fn slots_take_what_is_theirs() {
    assert_eq!(
        parts("cut <number> metres", "cut forty two metres"),
        Some(vec![("number".into(), number(42.0))])
    );
    assert_eq!(
        parts("fan at <percent>", "fan at 7.5%"),
        Some(vec![("percent".into(), MatchedPart::Share(0.075))])
    );
    assert_eq!(
        parts("from <tray> to <tray>", "from spare tray to worn one"),
        Some(vec![
            ("tray".into(), MatchedPart::Words("spare tray".into())),
            ("tray-2".into(), MatchedPart::Words("worn one".into())),
        ])
    );
    assert_eq!(
        parts("note ... [end]", "note cloudy band end"),
        Some(vec![("rest".into(), MatchedPart::Words("cloudy band".into()))])
    );
    assert_eq!(parts("fan at <percent>", "fan at seven"), None);
}

#[test]
fn numbers_are_words_or_digits() {
    let cases: [(&str, Option<(f64, usize)>); 14] = [
        ("zero", Some((0.0, 1))),
        ("nineteen", Some((19.0, 1))),
        ("twenty one", Some((21.0, 2))),
        ("a hundred and five", Some((105.0, 4))),
        ("two hundred", Some((200.0, 2))),
        ("three thousand and seven", Some((3007.0, 4))),
        ("one million two hundred thousand", Some((1_200_000.0, 5))),
        ("minus three point one five", Some((-3.15, 5))),
        ("3.5", Some((3.5, 1))),
        ("1,200", Some((1200.0, 1))),
        ("forty north", Some((40.0, 1))),
        ("hundred", None),
        ("core", None),
        ("", None),
    ];
    for (text, wanted) in cases {
        let words: Vec<&str> = text.split_whitespace().collect();
        assert_eq!(number_at(&words), wanted, "{text}");
    }
}

#[test]
fn mistakes_are_said_with_their_place() {
    let error = |text: &str| Phrase::parse(text, &lists()).expect_err("it is broken");
    assert_eq!(error("next [core"), PhraseError::Unclosed { at: 5, open: '[' });
    assert_eq!(error("next core]"), PhraseError::Stray { at: 9, sign: ']' });
    assert_eq!(error("a | b"), PhraseError::Stray { at: 2, sign: '|' });
    assert_eq!(error("next [ ]").at(), Some(7));
    assert_eq!(error("go <try>"), PhraseError::UnknownSlot { at: 4, name: "try".to_owned() });
    assert_eq!(error("[next] ..."), PhraseError::NothingSaid);
    assert_eq!(error(""), PhraseError::NothingSaid);
    let deep = format!("a {}b{}", "[x ".repeat(30), "]".repeat(30));
    assert!(matches!(error(&deep), PhraseError::TooDeep { .. }));
    for text in ["next [core", "a | b", "go <try>", ""] {
        assert!(!error(text).hint().is_empty());
    }
}

#[test]
fn many_phrases_are_told_apart_and_the_unwanted_left_out() {
    let phrases =
        ["open the drawer", "open the [old] drawer", "open ... drawer", "close <number> drawers"];
    let phrases = phrases.map(|text| Phrase::parse(text, &lists()).expect("it is a phrase"));
    let book = PhraseIndex::new(phrases.into());
    let understood = |heard: &str| -> Vec<(usize, usize)> {
        let found = book.understand(heard, |phrase| phrase != 1);
        found.into_iter().map(|found| (found.phrase, found.loose)).collect()
    };
    assert_eq!(understood("open the drawer"), [(0, 0), (2, 1)]);
    assert_eq!(understood("open the very old drawer"), [(2, 3)]);
    assert_eq!(understood("close two drawers"), [(3, 0)]);
    assert_eq!(understood("shut the door"), []);
}

#[test]
fn words_sound_as_they_are_said() {
    let sounds = Pronunciations::by_rules();
    let said = |word: &str| -> String {
        let letters: Vec<&str> = sounds.of_word(word).iter().map(|s| s.letters()).collect();
        letters.join(" ")
    };
    assert_eq!(said("night"), "N AY T");
    assert_eq!(said("section"), "S EH K SH AH N");
    assert_eq!(said("cane"), "K EY N");
    assert_eq!(said("tree"), "T R IY");
    assert_eq!(said("drawér"), "D R AO ER");
    assert_eq!(said("12"), "");
}

#[test]
fn a_dictionary_goes_before_the_rules() {
    let text = ";;; a comment\ncore K AO1 R\nbroken K XX\ncolonel K ER1 N AH0 L\n";
    let sounds = Pronunciations::with_dictionary(text, |word| word != "core");
    assert_eq!(sounds.known_words(), 1);
    assert_eq!(sounds.of_word("colonel")[1], Phoneme::Er);
}

#[test]
fn alike_pairs_are_ranked_and_the_rest_left_out() {
    let sounds = Pronunciations::by_rules();
    let texts =
        ["write the note", "right the note", "light the note", "open a drawer", "opened a drawer"];
    let saying = |(number, text): (usize, &str)| {
        PhonemeSequence::new(number, text.split(' ').map(str::to_owned).collect(), &sounds)
    };
    let sayings: Vec<PhonemeSequence> = texts.into_iter().enumerate().map(saying).collect();
    let pairs = alike_pairs(&sayings, 0.7, |_, _| true);
    assert_eq!((pairs[0].first, pairs[0].second, pairs[0].likeness), (0, 1, 1.0));
    let found: Vec<(usize, usize)> = pairs.iter().map(|pair| (pair.first, pair.second)).collect();
    assert!(found.contains(&(0, 2)) && found.contains(&(3, 4)), "{found:?}");
    assert!(!found.contains(&(0, 3)), "{found:?}");
    assert!(alike_pairs(&sayings, 0.7, |_, _| false).is_empty());
}

#[test]
fn likeness_is_the_same_both_ways_and_whole_for_the_same() {
    for one in Phoneme::ALL {
        assert_eq!(Phoneme::from_letters(one.letters()), Some(*one));
        for other in Phoneme::ALL {
            assert_eq!(one.distance(*other), other.distance(*one));
            assert_eq!(one.distance(*other) == 0, one == other);
        }
    }
    assert_eq!(likeness(&[], &[]), 1.0);
}

proptest! {
    #[test]
    fn no_phrase_makes_it_panic(text in "[a-z \\[\\]()|<>.]{0,40}|\\PC{0,20}", heard in "[a-z0-9% .]{0,40}|\\PC{0,20}") {
        if let Ok(phrase) = Phrase::parse(&text, &lists()) {
            let book = PhraseIndex::new(vec![phrase.clone()]);
            let _ = book.understand(&heard, |_| true);
            for form in phrase.spoken_forms(8) {
                prop_assert!(!form.is_empty());
            }
        }
        let _ = Phrase::parse_list(&text);
    }

    #[test]
    fn what_may_be_said_for_a_phrase_is_understood_as_it(text in "[ab]( [ab]| \\[[ab]( [cd])?\\]| \\([ab] \\| [cd]\\)){0,4}") {
        let phrase = Phrase::parse(&text, &lists()).expect("it is a phrase");
        let book = PhraseIndex::new(vec![phrase.clone()]);
        for form in phrase.spoken_forms(64) {
            prop_assert_eq!(book.understand(&form.join(" "), |_| true).len(), 1, "{}", form.join(" "));
        }
    }

    #[test]
    fn heard_words_are_bare(text in "\\PC{0,60}") {
        for word in heard_words(&text) {
            prop_assert!(!word.is_empty() && !word.contains(char::is_whitespace));
        }
    }
}

#[test]
fn a_range_takes_whole_numbers_within_it() {
    let bag = |heard: &str| parts("bag <1..40> [please]", heard);
    assert_eq!(bag("bag seventeen"), Some(vec![("number".to_owned(), number(17.0))]));
    assert_eq!(bag("bag 40 please"), Some(vec![("number".to_owned(), number(40.0))]));
    for outside in ["bag forty one", "bag zero", "bag one point five", "bag"] {
        assert_eq!(bag(outside), None, "{outside}");
    }
    let both = parts("rack <1..9> to <1..9>", "rack two to nine").expect("it is that");
    assert_eq!(both[1], ("number-2".to_owned(), number(9.0)));
    for wrong in ["<9..1>", "<1..x>", "<0..5000>"] {
        assert!(Phrase::parse(&format!("bag {wrong}"), &lists()).is_err(), "{wrong}");
    }
}

proptest! {
    #[test]
    fn a_number_that_is_spoken_is_understood(value in 0u32..2_000_000) {
        let words = lantern_speech::spoken_number(value);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        prop_assert_eq!(number_at(&words), Some((f64::from(value), words.len())));
    }
}
