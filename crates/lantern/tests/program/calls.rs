//! Calls from outside: who may, how often, how much, and what is answered.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::unix::process::CommandExt;
use std::time::Duration;

use serde_json::Value;

use crate::at_work;
use crate::home::Home;

/// A free port of this machine.
fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("there is a port");
    listener.local_addr().expect("it has one").port()
}

/// The number of a user whom no test runs as.
const NOBODY: u32 = 65_534;

/// Beginnings of requests: nothing, a part of a head, and a head with a part of a body.
const BEGINNINGS: [&str; 3] = [
    "",
    "POST /x HTTP/1.1\r\n",
    "POST /x HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 9\r\n\r\nx",
];

/// Connections that begin so, and say no more.
fn slow_connections(port: u16, beginnings: &[&str]) -> Vec<TcpStream> {
    let slow = |beginning: &&str| {
        let mut stream = TcpStream::connect(("127.0.0.1", port)).expect("somebody listens");
        stream.write_all(beginning.as_bytes()).expect("it is taken");
        stream
    };
    beginnings.iter().cycle().take(40).map(slow).collect()
}

/// The status and the body that come back.
fn call(port: u16, request: &str) -> (u16, String) {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).expect("somebody listens");
    stream.set_read_timeout(Some(Duration::from_secs(20))).expect("it can be set");
    stream.write_all(request.as_bytes()).expect("it is taken");
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    let status = answer.split(' ').nth(1).and_then(|status| status.parse().ok());
    let body = answer.split_once("\r\n\r\n").map_or("", |(_, body)| body).to_owned();
    (status.unwrap_or_else(|| panic!("no answer: {answer:?}")), body)
}

fn post(port: u16, path: &str, head: &str, body: &str) -> (u16, String) {
    let length = body.len();
    call(
        port,
        &format!(
            "POST {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n{head}Content-Length: {length}\r\n\r\n{body}"
        ),
    )
}

#[test]
fn callers_prove_who_they_are_and_are_told_which_rules_ran() {
    let (home, port) = (Home::new(), free_port());
    home.write("ilva.key", "glacier-bell\n");
    home.write("pump.key", "slow-thaw\n");
    let rules = format!(
        "secret ilva-key = file \"ilva.key\"
secret pump-key = file \"pump.key\"
device door = listener \"127.0.0.1:{port}\" with token ilva = ilva-key, token pump = pump-key
when call \"/next\" on door as said named next-section => log \"{{said.caller}} says {{said.text}}\"
when call \"/next\" on door if 1 > 2 => log \"unheard\""
    );
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    run.expect("door is there");
    let bearer = |token: &str| format!("Authorization: Bearer {token}\r\n");
    let (status, body) = post(port, "/next", &bearer("slow-thaw"), "bag 17");
    run.expect("pump says bag 17");
    assert_eq!(status, 200);
    let answer: Value = serde_json::from_str(&body).expect("it is JSON");
    assert_eq!(answer["ran"][0]["rule"], "next-section");
    assert_eq!(answer["ran"][0]["place"], "bench.lantern:4");
    assert!(
        answer["did_not"][0]["why"].as_str().is_some_and(|why| why.contains("1 > 2")),
        "{body}"
    );
    assert_eq!(post(port, "/next", &bearer("glacier-bel"), "x").0, 401);
    assert_eq!(post(port, "/next", "", "x").0, 401);
    assert_eq!(post(port, "/other", &bearer("glacier-bell"), "x").0, 404);
    let get = format!("GET /next HTTP/1.1\r\nHost: x\r\n{}\r\n", bearer("glacier-bell"));
    assert_eq!(call(port, &get).0, 405);
    home.call(&["pause"]);
    let (status, body) = post(port, "/next", &bearer("glacier-bell"), "x");
    assert_eq!(status, 409, "{body}");
    let said = run.stop().join("\n");
    assert!(
        !said.lines().any(|line| line == "unheard")
            && !said.contains("glacier")
            && !said.contains("thaw"),
        "{said}"
    );
}

#[test]
fn without_tokens_programs_may_call_and_pages_may_not() {
    let (home, port) = (Home::new(), free_port());
    let rules = format!(
        "device door = listener \"127.0.0.1:{port}\"
when call \"/bell\" on door as said => log \"rings <{{said.text}}>\""
    );
    home.write("bench.lantern", &rules);
    let checked = home.call(&["check", "bench.lantern"]).stdout;
    assert!(checked.contains("no-token"), "{checked}");
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    run.expect("door is there");
    assert_eq!(post(port, "/bell", "", "core $(touch here)").0, 200);
    run.expect("rings <core $(touch here)>");
    assert_eq!(post(port, "/bell", "Origin: https://elsewhere.example\r\n", "x").0, 403);
    let rebound = format!(
        "POST /bell HTTP/1.1\r\nHost: elsewhere.example:{port}\r\nContent-Length: 0\r\n\r\n"
    );
    assert_eq!(call(port, &rebound).0, 403);
    assert!(!home.path().join("here").exists());
}

#[test]
fn connections_that_say_nothing_keep_no_caller_out() {
    let (home, port, open) = (Home::new(), free_port(), free_port());
    home.write("b.key", "two");
    let rules = format!(
        "secret b-key = file \"b.key\"
device door = listener \"127.0.0.1:{port}\" with token b = b-key
device bell = listener \"127.0.0.1:{open}\"
when call \"/x\" on door again overlaps => log \"x\"
when call \"/x\" on bell again overlaps => log \"y\""
    );
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    run.expect("door is there");
    run.expect("bell is there");
    let mut slow = Vec::new();
    for _ in 0..5 {
        // Without tokens a head is a call of its own, and there is a limit to those.
        for (port, head, beginnings) in
            [(port, "Authorization: Bearer two\r\n", &BEGINNINGS[..]), (open, "", &BEGINNINGS[..2])]
        {
            slow.append(&mut slow_connections(port, beginnings));
            assert_eq!(post(port, "/x", head, "").0, 200);
        }
    }
    drop(slow);
    let lines = run.stop();
    for said in ["x", "y"] {
        assert_eq!(lines.iter().filter(|line| *line == said).count(), 5, "{lines:?}");
    }
}

#[test]
fn programs_of_other_users_may_not_call_without_a_token() {
    let (home, port) = (Home::new(), free_port());
    let rules = format!(
        "device door = listener \"127.0.0.1:{port}\"
when call \"/bell\" on door as said => log \"rings <{{said.text}}>\""
    );
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    run.expect("door is there");
    // Only root can become another user; others see the same decision in the unit tests of the table.
    if rustix::process::geteuid().is_root() {
        let url = format!("http://127.0.0.1:{port}/bell");
        let mut curl = std::process::Command::new("curl");
        curl.args(["-s", "-d", "theirs", &url]).uid(NOBODY);
        let answer = curl.output().expect("scripts/test installs curl");
        let said = String::from_utf8_lossy(&answer.stdout);
        assert!(said.contains("other users may not call"), "{said}");
    }
    assert_eq!(post(port, "/bell", "", "ours").0, 200);
    run.expect("rings <ours>");
    let lines = run.stop();
    assert!(!lines.iter().any(|line| line.contains("theirs")), "{lines:?}");
}

#[test]
fn who_calls_too_often_or_says_too_much_is_turned_away_and_nobody_else() {
    let (home, port) = (Home::new(), free_port());
    home.write("a.key", "one");
    home.write("b.key", "two");
    let rules = format!(
        "secret a-key = file \"a.key\"
secret b-key = file \"b.key\"
device door = listener \"127.0.0.1:{port}\" with token a = a-key, token b = b-key
when call \"/x\" on door again overlaps => log \"x\""
    );
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    run.expect("door is there");
    let as_a = "Authorization: Bearer one\r\n";
    assert_eq!(post(port, "/x", as_a, &"y".repeat(70_000)).0, 413);
    let statuses: Vec<u16> = (0..80).map(|_| post(port, "/x", as_a, "").0).collect();
    assert!(statuses.contains(&200) && statuses.contains(&429), "{statuses:?}");
    assert_eq!(post(port, "/x", "Authorization: Bearer two\r\n", "").0, 200);
    assert_eq!(call(port, "nonsense\r\n\r\n").0, 400);
}

#[test]
fn a_port_that_is_taken_is_said_and_taken_up_when_it_is_free() {
    let home = Home::new();
    let taken = std::net::TcpListener::bind("127.0.0.1:0").expect("there is a port");
    let port = taken.local_addr().expect("it has one").port();
    let rules = format!(
        "device door = listener \"127.0.0.1:{port}\"\nwhen call \"/x\" on door => log \"rings\""
    );
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    run.expect("another program listens there: choose another port");
    drop(taken);
    run.expect("door is there");
    post(port, "/x", "", "");
    run.expect("rings");
}
