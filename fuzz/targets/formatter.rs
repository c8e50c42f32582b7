//! Laying out twice is laying out once.
#![no_main]

use lantern_script::{format, lex};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let mut findings = Vec::new();
    lex(text, 0, text.len(), &mut findings);
    let layout = format(text);
    if findings.is_empty() {
        assert_eq!(format(&layout), layout);
    }
});
