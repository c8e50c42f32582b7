//! Starting programs and seeing them end, and the list of held keys.

use lantern_desk::{HeldKeys, HeldMarks, LaunchError, Launcher};
use lantern_model::{EffectId, Event, Value};
use rustix::event::{PollFd, PollFlags, poll};

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

/// Waits until a started program has ended and gives its outcome.
fn outcome(launcher: &mut Launcher) -> Result<Option<Value>, String> {
    loop {
        {
            let ends: Vec<_> = launcher.descriptors().collect();
            let mut fds: Vec<_> = ends.iter().map(|fd| PollFd::new(fd, PollFlags::IN)).collect();
            poll(&mut fds, None).expect("waiting works");
        }
        if let Some(Event::Outcome { result, .. }) = launcher.reap().pop() {
            return result;
        }
    }
}

#[test]
fn the_end_of_a_program_is_its_outcome() {
    let mut launcher = Launcher::default();
    let effect = EffectId(1);
    launcher.run(effect, &words(&["printf", "%s", "core 4"])).expect("it is there");
    let printed = Value::Text("core 4".to_owned());
    assert_eq!(outcome(&mut launcher), Ok(Some(printed)));
    launcher.run(effect, &words(&["sh", "-c", "exit 3"])).expect("it is there");
    assert_eq!(outcome(&mut launcher), Err("`sh` ended with status 3".to_owned()));
    assert_eq!(launcher.descriptors().count(), 0);
}

/// Waits until every started program has ended; gives the outcomes.
fn ends(launcher: &mut Launcher) -> Vec<Event> {
    let mut events = Vec::new();
    while launcher.descriptors().count() > 0 {
        {
            let ends: Vec<_> = launcher.descriptors().collect();
            let mut fds: Vec<_> = ends.iter().map(|fd| PollFd::new(fd, PollFlags::IN)).collect();
            poll(&mut fds, None).expect("waiting works");
        }
        events.extend(launcher.reap());
    }
    events
}

#[test]
fn a_program_nobody_waits_for_any_more_is_ended_without_a_word() {
    let mut launcher = Launcher::default();
    launcher.run(EffectId(1), &words(&["sleep", "600"])).expect("it is there");
    launcher.abandon(EffectId(1));
    assert_eq!(ends(&mut launcher), []);
}

#[test]
fn what_was_launched_is_ended_with_all_it_started() {
    let mut launcher = Launcher::default();
    launcher.launch(EffectId(7), "sh -c 'sleep 600; true'").expect("it is there");
    assert!(launcher.end(EffectId(7)));
    assert_eq!(ends(&mut launcher), []);
    assert!(!launcher.end(EffectId(7)), "it is gone");
}

#[test]
fn what_is_not_there_is_named() {
    let mut launcher = Launcher::default();
    for name in ["no-such-saw", "/no/such/saw"] {
        let error = launcher.launch(EffectId(9), name).expect_err("there is none");
        assert!(matches!(error, LaunchError::NotFound { .. }) && error.to_string().contains(name));
    }
    assert!(matches!(launcher.launch(EffectId(9), ""), Err(LaunchError::Nothing)));
    assert!(matches!(launcher.launch(EffectId(9), "\"open"), Err(LaunchError::Nothing)));
    assert!(matches!(launcher.launch(EffectId(9), "/etc/passwd"), Err(LaunchError::Start { .. })));
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
