//! The list of held keys.

use lantern_backend::{HeldKeyReader, HeldKeyWriter, HeldMarks};

#[test]
fn marks_outlive_the_one_who_made_them() {
    let folder = tempfile::tempdir().expect("it can be made");
    let path = folder.path().join("held");
    assert!(HeldKeyReader::open(&path).is_err(), "there is none");
    let read = || HeldKeyReader::open(&path).expect("it is there").marks();
    let mut held = HeldKeyWriter::open(&path).expect("it can be made");
    for code in [8, 38, 255] {
        held.mark_key(code, true);
    }
    held.mark_key(38, false);
    held.mark_button(9, true);
    held.mark_lent(250, true);
    assert!(held.has_keys());
    drop(held);
    let marks = read().expect("it is whole");
    assert_eq!((marks.keycodes, marks.buttons, marks.lent), (vec![8, 255], vec![9], vec![250]));
    let mut held = HeldKeyWriter::open(&path).expect("it is there");
    held.clear();
    held.mark_button(9, true);
    assert!(!held.has_keys(), "a button is none");
    held.clear();
    assert_eq!(read(), Some(HeldMarks::default()));
    assert!(HeldKeyWriter::open(&folder.path().join("no/such/folder")).is_err());
}

#[test]
fn a_list_that_was_made_shorter_is_known_to_be_lost_and_one_that_was_removed_is_read_on() {
    let folder = tempfile::tempdir().expect("it can be made");
    let path = folder.path().join("held");
    let mut held = HeldKeyWriter::open(&path).expect("it can be made");
    held.mark_key(38, true);
    let file = HeldKeyReader::open(&path).expect("it is there");
    std::fs::remove_file(&path).expect("it is ours");
    held.mark_key(39, true);
    assert_eq!(file.marks().map(|marks| marks.keycodes), Some(vec![38, 39]));
    std::fs::write(&path, [1; 40]).expect("it is ours");
    let file = HeldKeyReader::open(&path).expect("it is there");
    assert_eq!((file.marks(), file.pulse()), (None, None));
    // The next start makes it whole, and keeps what it held.
    drop(HeldKeyWriter::open(&path).expect("it is there"));
    assert_eq!(file.marks().map(|marks| marks.keycodes.len()), Some(32));
}

#[test]
fn a_link_in_the_place_of_the_list_is_not_followed() {
    let folder = tempfile::tempdir().expect("it can be made");
    let (path, letter) = (folder.path().join("held"), folder.path().join("letter"));
    std::fs::write(&letter, "core 12").expect("it can be written");
    std::os::unix::fs::symlink(&letter, &path).expect("it can be made");
    assert!(HeldKeyWriter::open(&path).is_err());
    assert_eq!(std::fs::read_to_string(&letter).expect("it is there"), "core 12");
}

#[test]
fn the_pulse_is_odd_while_the_loop_is_awake_and_changes_each_time() {
    let folder = tempfile::tempdir().expect("it can be made");
    let path = folder.path().join("held");
    let mut held = HeldKeyWriter::open(&path).expect("it can be made");
    let (pulse, file) = (held.pulse(), HeldKeyReader::open(&path).expect("it is there"));
    let mut seen = vec![file.pulse().expect("it is whole")];
    for _ in 0..2 {
        pulse.wake();
        seen.push(file.pulse().expect("it is whole"));
        held.clear();
        pulse.sleep();
        seen.push(file.pulse().expect("it is whole"));
    }
    assert_eq!(seen.iter().map(|pulse| pulse % 2).collect::<Vec<_>>(), [0, 1, 0, 1, 0]);
    seen.dedup();
    assert_eq!(seen.len(), 5, "{seen:?}");
    assert_ne!(seen[1], seen[3]);
}
