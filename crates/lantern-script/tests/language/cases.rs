//! A folder of files, each with a snapshot of what is said about it.

use crate::rendered;

#[test]
#[expect(clippy::disallowed_methods, reason = "a test may read its own cases")]
fn every_case_says_what_its_snapshot_says() {
    insta::glob!("cases/*.lantern", |path| {
        let text = std::fs::read_to_string(path).expect("the case can be read");
        insta::assert_snapshot!(rendered(&text));
    });
}
