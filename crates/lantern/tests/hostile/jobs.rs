//! Jobs that are given something to choke on.

use crate::at_work;
use crate::home::Home;

#[test]
fn an_address_that_is_none_fails_its_step_and_the_next_is_opened() {
    let home = Home::new();
    home.write("core.log", "core 12");
    let rules =
        "macro look(address) { open address else { log \"not opened\"; stop }; log \"opened\" }\n";
    let mut run = at_work::run(&home, rules);
    for address in
        ["file:aé", "file:", "file:/", "FILE://é", "file:%", "a:é", "file:\u{1b}]0;x\u{7}"]
    {
        for _ in 0..2 {
            home.call(&["fire", "look", address]);
            run.expect("not opened");
        }
    }
    let lines = run.stop();
    assert!(lines.iter().any(|line| line.contains("every key is let go")), "{lines:?}");
    assert!(!lines.iter().any(|line| line.contains("fault")), "{lines:?}");
}

#[test]
fn rules_that_start_programs_without_end_are_held_to_a_pace_and_a_number() {
    let home = Home::new();
    home.write("wait.sh", "exec sleep 60\n");
    let rules = "macro flood() { let n = 0; repeat 300 times { launch \"sh wait.sh\" else { set n = n + 1 } }; log \"{n} refused\" }\n";
    let mut run = at_work::run(&home, rules);
    home.call(&["fire", "flood"]);
    let line = run.expect(" refused");
    let refused: u32 = line.split(' ').next().and_then(|n| n.parse().ok()).expect("a number");
    assert!((150..=260).contains(&refused), "{line}");
    let answer = home.call(&["status", "--json"]).stdout;
    let status: serde_json::Value = serde_json::from_str(&answer).expect("it is JSON");
    let programs = status["programs"].as_array().expect("it is a list");
    assert_eq!(programs.len(), 300 - refused as usize);
    for program in programs {
        let process = program["process"].as_u64().expect("a number").to_string();
        assert_eq!(home.call(&["end", &process]).status, 0);
    }
}

#[test]
fn a_recogniser_that_reads_nothing_is_heard_all_the_same() {
    let home = Home::new();
    home.write(
        "hear.sh",
        "while [ ! -e said ]; do sleep 0.05; done; echo '{\"text\": \"lantern next core\"}'; exec sleep 60\n",
    );
    // More phrases than a pipe has room for.
    let others: String = (0..3000)
        .map(|number| {
            format!("when voice \"shelve the long core number {number} away\" => log \"x\"\n")
        })
        .collect();
    let script = home.path().join("hear.sh");
    let rules = format!(
        "settings {{ recogniser = \"sh {}\"; attention = \"lantern\" }}
when voice \"next core\" => log \"understood\"\n{others}",
        script.display()
    );
    let mut run = at_work::run(&home, &rules);
    home.write("said", "");
    run.expect("understood");
    run.stop();
}
