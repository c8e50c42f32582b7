//! Calls from outside: who may, how often, how much, and what is answered.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use serde_json::Value;

use crate::at_work;
use crate::home::Home;

/// A free port of this machine.
fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("there is a port");
    listener.local_addr().expect("it has one").port()
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
    assert!(checked.contains("open-door"), "{checked}");
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
    // Who says nothing holds up nobody.
    let silent: Vec<TcpStream> = (0..10)
        .map(|_| TcpStream::connect(("127.0.0.1", port)).expect("somebody listens"))
        .collect();
    assert_eq!(post(port, "/x", "Authorization: Bearer two\r\n", "").0, 200);
    drop(silent);
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
