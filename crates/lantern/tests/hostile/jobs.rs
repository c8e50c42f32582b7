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
