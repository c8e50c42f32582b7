//! Tokens joined give the text back.
#![no_main]

use lantern_script::lex;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let tokens = lex(text, 0, text.len(), &mut Vec::new());
    let joined: String = tokens.iter().map(|token| &text[token.span.range()]).collect();
    assert_eq!(joined, text);
});
