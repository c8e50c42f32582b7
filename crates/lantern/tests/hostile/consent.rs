//! Used files that try to do more than was agreed to.

use std::fs;
use std::os::unix::fs::{PermissionsExt, chown};

use crate::home::Home;

/// Agrees to all that the set can do now.
fn agree(home: &Home) {
    let called = home.call(&["check", "--powers", "--agree", "main.lantern"]);
    assert_eq!(called.status, 0, "{}{}", called.stdout, called.stderr);
    assert_eq!(home.call(&["check", "main.lantern"]).status, 0);
}

/// What `run` says before it does anything.
fn refusal(home: &Home) -> String {
    let called = home.call(&["run", "--backend", "simulated", "main.lantern"]);
    assert_eq!(called.status, 2, "{}{}", called.stdout, called.stderr);
    called.stderr
}

#[test]
fn a_constant_that_changes_and_a_value_that_is_given_anew_are_asked_about() {
    let home = Home::new();
    let used = |cmd: &str| {
        let rule = "when key f9 { let more = word; run (cmd), more }";
        format!("let cmd = \"{cmd}\"\nlet word = \"core\"\n{rule}\n")
    };
    home.write("used.lantern", used("true"));
    home.write("main.lantern", "use \"used.lantern\" as used\n");
    agree(&home);
    home.write("used.lantern", used("/srv/other.sh"));
    assert!(refusal(&home).contains("starts /srv/other.sh"), "{}", refusal(&home));
    agree(&home);
    // The words of the power are the same, but the values in it are others.
    home.write("main.lantern", "use \"used.lantern\" as used with word = \"rm\"\n");
    assert!(refusal(&home).contains("starts /srv/other.sh …"), "{}", refusal(&home));
    agree(&home);
    home.write(
        "main.lantern",
        "use \"used.lantern\" as used with word = \"rm\", cmd = \"/srv/third.sh\"\n",
    );
    assert!(refusal(&home).contains("starts /srv/third.sh"), "{}", refusal(&home));
    // An edit of the person's own asks nothing.
    home.write(
        "main.lantern",
        "use \"used.lantern\" as used with word = \"rm\"\nwhen key f8 => run \"own\"\n",
    );
    assert_eq!(home.call(&["check", "main.lantern"]).status, 0);
}

#[test]
fn a_set_with_a_drawn_shape_can_be_agreed_to() {
    let home = Home::new();
    home.write("d.csv", "drawing,stroke,x,y\n1,1,0,0\n1,1,50,50\n1,1,100,0\n");
    let used = "shape s = drawn \"d.csv\"\nwhen gesture s while holding f8 => run \"df\"\n";
    home.write("used.lantern", used);
    home.write("main.lantern", "use \"used.lantern\" as used\n");
    agree(&home);
}

#[test]
fn files_and_folders_of_another_user_do_not_run() {
    const NOBODY: u32 = 65_534;
    let home = Home::new();
    home.write("main.lantern", "when key f9 => log \"x\"\n");
    let shared = home.write("shared/used.lantern", "when key f8 => log \"x\"\n");
    let (main, folder) = (home.path().join("main.lantern"), home.path().join("shared"));
    assert_eq!(home.call(&["check", "main.lantern"]).status, 0);
    // Only root can give a file away; an ordinary user's run of the tests leaves that to the machine's.
    let is_root = rustix::process::geteuid().is_root();
    if is_root {
        chown(&main, Some(NOBODY), None).expect("we are root");
        assert!(refusal(&home).contains("belongs to another user"));
        chown(&main, Some(0), None).expect("we are root");
    }
    home.write("main.lantern", "use \"shared/used.lantern\" as used\n");
    agree(&home);
    for (path, mode, words) in
        [(&shared, 0o666, "others may write"), (&folder, 0o777, "others may write")]
    {
        let before = fs::metadata(path).expect("it is there").permissions();
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("it is ours");
        assert!(refusal(&home).contains(words), "{}", refusal(&home));
        fs::set_permissions(path, before).expect("it is ours");
    }
    // With the sticky bit others cannot put another file in its place.
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o1777)).expect("it is ours");
    assert_eq!(home.call(&["check", "main.lantern"]).status, 0);
    if is_root {
        chown(&folder, Some(NOBODY), None).expect("we are root");
        assert!(refusal(&home).contains("belongs to another user"));
    }
}

#[test]
fn a_set_brings_no_agreement_of_its_own() {
    let home = Home::new();
    home.write("used.lantern", "when key f8 => run \"df\"\n");
    home.write("main.lantern", "use \"used.lantern\" as used\n");
    agree(&home);
    let record = home.path().join(".local/state/cold-lantern/agreed.json");
    let mode = fs::metadata(&record).expect("it is there").permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    // A record that others may write is none.
    fs::set_permissions(&record, fs::Permissions::from_mode(0o666)).expect("it is ours");
    assert!(refusal(&home).contains("starts df"));
    fs::set_permissions(&record, fs::Permissions::from_mode(0o600)).expect("it is ours");
    // Without a home there is no record, and none is looked for where the set lies.
    home.write("cold-lantern/agreed.json", fs::read(&record).expect("it is there"));
    for set in [None, Some("."), Some("")] {
        let mut command = home.command();
        command.args(["check", "main.lantern"]).env_remove("HOME");
        command.envs(set.map(|path| ("HOME", path)));
        let called = command.output().expect("it starts");
        assert_eq!(called.status.code(), Some(1), "HOME {set:?}");
        command.args(["--powers", "--agree"]);
        assert_ne!(command.output().expect("it starts").status.code(), Some(0), "HOME {set:?}");
    }
}
