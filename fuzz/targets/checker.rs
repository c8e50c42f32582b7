//! Whatever is said of a file points into it and can be shown.
#![no_main]

use lantern_script::{Source, check, render};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let source = Source::new("bench.lantern", text);
    for finding in check(&source).findings {
        assert!(source.text().get(finding.span.range()).is_some());
        assert!(!render(&finding, &source, false).is_empty());
    }
});
