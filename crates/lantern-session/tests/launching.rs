//! Starting programs and seeing them end.

use lantern_model::{CommandError, CommandResult, EffectId, Event, Value};
use lantern_session::{LaunchError, Launcher, StartRequest, find_program};
use rustix::event::{PollFd, PollFlags, poll};

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

/// Waits until a started program has ended and gives its outcome.
fn outcome(launcher: &mut Launcher) -> CommandResult {
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
    assert_eq!(outcome(&mut launcher), Err(CommandError::failed("`sh` ended with status 3")));
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
    let start = find_program("sh -c 'sleep 600; true'").expect("it is there");
    launcher.launch(EffectId(7), &start).expect("it is there");
    assert!(launcher.end(EffectId(7)));
    assert_eq!(ends(&mut launcher), []);
    assert!(!launcher.end(EffectId(7)), "it is gone");
}

#[test]
fn what_is_not_there_is_named() {
    for name in ["no-such-saw", "/no/such/saw", "no such saw"] {
        let error = find_program(name).expect_err("there is none");
        assert!(matches!(error, LaunchError::NotFound { .. }) && error.to_string().contains(name));
    }
    assert!(matches!(find_program(""), Err(LaunchError::Nothing)));
    assert!(matches!(find_program("\"open"), Err(LaunchError::Nothing)));
    assert!(matches!(find_program("/etc/passwd"), Err(LaunchError::NotFound { .. })));
    let mut launcher = Launcher::default();
    let gone = StartRequest { words: words(&["/no/such/saw"]), ..StartRequest::default() };
    let error = launcher.launch(EffectId(9), &gone).expect_err("there is none");
    assert!(matches!(error, LaunchError::NotFound { .. }));
    let no_program = StartRequest { words: words(&["/etc/passwd"]), ..StartRequest::default() };
    let error = launcher.launch(EffectId(9), &no_program).expect_err("it is none");
    assert!(matches!(error, LaunchError::StartRequest { .. }));
}

#[test]
fn a_program_starts_in_its_folder() {
    let folder = tempfile::tempdir().expect("it can be made");
    let mark = folder.path().join("here");
    let start = StartRequest {
        words: words(&["touch", "here"]),
        folder: Some(folder.path().to_owned()),
        ..StartRequest::default()
    };
    let mut launcher = Launcher::default();
    launcher.launch(EffectId(3), &start).expect("it is there");
    assert_eq!(ends(&mut launcher), []);
    assert!(mark.is_file());
}

#[test]
fn a_program_that_another_started_can_be_ended() {
    let mut child = std::process::Command::new("sleep").arg("600").spawn().expect("sleep is there");
    let mut launcher = Launcher::default();
    launcher.adopt(EffectId(5), child.id());
    assert!(launcher.end(EffectId(5)));
    assert!(!child.wait().expect("it is ours").success());
}
