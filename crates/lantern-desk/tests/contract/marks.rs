//! The list of held keys.

use lantern_desk::{HeldKeys, HeldMarks};

#[test]
fn marks_outlive_the_one_who_made_them() {
    let folder = tempfile::tempdir().expect("it can be made");
    let path = folder.path().join("held");
    assert_eq!(HeldKeys::read(&path), HeldMarks::default());
    let mut held = HeldKeys::open(&path).expect("it can be made");
    for code in [8, 38, 255] {
        held.mark_key(code, true);
    }
    held.mark_key(38, false);
    held.mark_button(9, true);
    held.mark_lent(250, true);
    assert!(held.has_keys());
    drop(held);
    let marks = HeldKeys::read(&path);
    assert_eq!((marks.keycodes, marks.buttons, marks.lent), (vec![8, 255], vec![9], vec![250]));
    let mut held = HeldKeys::open(&path).expect("it is there");
    held.clear();
    held.mark_button(9, true);
    assert!(!held.has_keys(), "a button is none");
    held.clear();
    assert_eq!(HeldKeys::read(&path), HeldMarks::default());
    assert!(HeldKeys::open(&folder.path().join("no/such/folder")).is_err());
}
