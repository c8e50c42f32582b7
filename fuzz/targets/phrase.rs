//! What may be said for a phrase is understood as it.
#![no_main]

use std::collections::BTreeMap;

use lantern_speech::{Phrase, PhraseIndex};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let tray = Phrase::parse_list("north | spare tray").expect("it is a list");
    let lists = BTreeMap::from([("tray".to_owned(), tray)]);
    let _ = Phrase::parse_list(text);
    if let Ok(phrase) = Phrase::parse(text, &lists) {
        let forms = phrase.spoken_forms(16);
        let book = PhraseIndex::new(vec![phrase]);
        for form in forms {
            assert_eq!(book.understand(&form.join(" "), |_| true).len(), 1, "{form:?}");
        }
    }
});
