//! Starting programs and seeing them end, and the list of held keys.

use std::time::Duration;

use lantern_desk::{HeldKeys, HeldMarks, LaunchError, Launcher};
use lantern_model::{EffectId, Event, Time};
use rustix::event::{PollFd, PollFlags, poll};

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

/// Waits until a started program has ended and gives its outcome.
fn outcome(launcher: &mut Launcher) -> Result<(), String> {
    loop {
        {
            let ends: Vec<_> = launcher.descriptors().collect();
            let mut fds: Vec<_> = ends.iter().map(|fd| PollFd::new(fd, PollFlags::IN)).collect();
            poll(&mut fds, None).expect("waiting works");
        }
        if let Some(Event::Outcome { result, .. }) = launcher.reap(Time::START).pop() {
            return result;
        }
    }
}

#[test]
fn the_end_of_a_program_is_its_outcome() {
    let mut launcher = Launcher::default();
    let effect = EffectId(1);
    launcher.run(Time::START, effect, &words(&["true"]), None).expect("it is there");
    assert_eq!(outcome(&mut launcher), Ok(()));
    launcher.run(Time::START, effect, &words(&["sh", "-c", "exit 3"]), None).expect("it is there");
    assert_eq!(outcome(&mut launcher), Err("`sh` ended with status 3".to_owned()));
    assert_eq!(launcher.descriptors().count(), 0);
}

#[test]
fn a_program_whose_time_is_up_is_ended() {
    let mut launcher = Launcher::default();
    let limit = Some(Duration::from_secs(5));
    launcher.run(Time::START, EffectId(1), &words(&["sleep", "600"]), limit).expect("it is there");
    let due = launcher.next_deadline().expect("it has a limit");
    assert_eq!(due, Time::START + Duration::from_secs(5));
    let events = launcher.reap(due);
    let [Event::Outcome { result: Err(message), .. }] = events.as_slice() else {
        panic!("{events:?}");
    };
    assert!(message.contains("too long"), "{message}");
    assert_eq!(launcher.next_deadline(), None);
}

#[test]
fn what_is_not_there_is_named() {
    let mut launcher = Launcher::default();
    for name in ["no-such-saw", "/no/such/saw"] {
        let error = launcher.launch(name).expect_err("there is none");
        assert!(matches!(error, LaunchError::NotFound { .. }) && error.to_string().contains(name));
    }
    assert!(matches!(launcher.launch(""), Err(LaunchError::Nothing)));
    assert!(matches!(launcher.launch("\"open"), Err(LaunchError::Nothing)));
    assert!(matches!(launcher.launch("/etc/passwd"), Err(LaunchError::Start { .. })));
}

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
    drop(held);
    let marks = HeldKeys::read(&path);
    assert_eq!((marks.keycodes, marks.buttons, marks.lent), (vec![8, 255], vec![9], vec![250]));
    HeldKeys::open(&path).expect("it is there").clear();
    assert_eq!(HeldKeys::read(&path), HeldMarks::default());
    assert!(HeldKeys::open(&folder.path().join("no/such/folder")).is_err());
}
