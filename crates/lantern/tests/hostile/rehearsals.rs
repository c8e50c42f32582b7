//! Scenes that would never end.

use serde_json::Value;

use crate::home::Home;

#[test]
fn a_rehearsal_without_an_end_is_cut_in_bounded_memory() {
    let home = Home::new();
    for (rules, scene, why) in [
        (
            "when key f1 { repeat { wait 0ms } }\n",
            "at 0s key f1\nat 1s expect nothing for 1s\n",
            "steps are repeated without any time between them",
        ),
        (
            "let n = 0\nwhen every 1ms { set n = n + 1 }\n",
            "at 24h expect nothing for 1s\n",
            "more than 200000 decisions were made",
        ),
    ] {
        home.write("bench.lantern", rules);
        home.write("end.scene", scene);
        let program = env!("CARGO_BIN_EXE_lantern");
        let line =
            format!("ulimit -v 1500000; exec '{program}' rehearse bench.lantern end.scene --json");
        let mut shell = std::process::Command::new("sh");
        let output = shell.args(["-c", &line]).current_dir(home.path()).output();
        let output = output.expect("there is a shell");
        assert_eq!(output.status.code(), Some(1), "{rules}");
        let report: Value = serde_json::from_slice(&output.stdout).expect("it is JSON");
        let scene = &report["scenes"][0];
        assert_eq!((&scene["passed"], &scene["cut"]), (&Value::from(false), &Value::from(why)));
    }
}
