//! A set of files that use one another is checked without end or depth, whatever they use.
//!
//! The input is the files' texts, parted by lines of `---`; the files are called `0` to `9`.
#![no_main]

use lantern_script::{Source, check, powers, render, wanted_files};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let mut texts = text.split("\n---\n").take(10).enumerate();
    let Some((_, first)) = texts.next() else { return };
    let mut source = Source::new("0", first);
    for (number, text) in texts {
        source.add(number.to_string(), text);
    }
    for file in 0..source.names().count() {
        let _ = wanted_files(&source, file);
    }
    let checked = check(&source);
    for finding in &checked.findings {
        assert!(source.text().get(finding.span.range()).is_some());
        assert!(!render(finding, &source, false).is_empty());
    }
    if let Some(rules) = checked.rules {
        assert!(powers(&rules).iter().all(|power| usize::from(power.place.file) < 10));
    }
});
