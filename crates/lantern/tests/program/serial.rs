//! Serial ports: boards that bounce, break lines, are pulled out and put back.

use lantern_net::Pedals;

use crate::at_work;
use crate::home::Home;

/// Rules for a board at `pedals` in that home.
fn rules(home: &Home, rest: &str) -> String {
    format!("device pedals = serial \"{}\" at 9600\n{rest}\n", home.path().join("pedals").display())
}

fn plug(home: &Home) -> Pedals {
    Pedals::plug_in(Some(&home.path().join("pedals"))).expect("there is a pseudo-terminal")
}

#[test]
fn a_bouncing_pedal_counts_once_and_its_lamp_is_lit() {
    let home = Home::new();
    let link = home.path().join("pedals").display().to_string();
    let mut pedals =
        at_work::start(&home, &["standin", "pedals", "--link", &link, "--bounce", "9"]);
    pedals.expect("the pedals are at");
    let steps = "let n = 0
when line from pedals contains \"left\" at most once per 300ms {
    set n = n + 1
    send pedals \"lamp {n}\\n\"
}";
    let _run = at_work::run(&home, &rules(&home, steps));
    pedals.say("left");
    pedals.expect("was sent lamp 1");
    pedals.say("wait 400");
    pedals.say("left");
    pedals.expect("was sent lamp 2");
    let lamps = pedals.stop();
    assert_eq!(lamps.iter().filter(|line| line.contains("was sent")).count(), 2, "{lamps:?}");
}

#[test]
fn ten_thousand_bouncing_lines_in_pieces_with_the_board_pulled_out_between_are_each_counted_once() {
    const PRESSES: usize = 2_500;
    const BOUNCES: usize = 4;
    let home = Home::new();
    let last = [PRESSES / 2 - 1, PRESSES - 1];
    let steps = format!(
        "let n = 0
let seen = \"\"
when line from pedals matches `^press (?<id>[0-9]+)$` as said again overlaps {{
    if said.id != seen {{
        set seen = said.id
        set n = n + 1
        if said.id == \"{}\" or said.id == \"{}\" {{ log \"{{n}} pressed\" }}
    }}
}}
when line from pedals is \"half\" => log \"never\"",
        last[0], last[1]
    );
    let pedals = plug(&home);
    let mut run = at_work::run(&home, &rules(&home, &steps));
    let send = |pedals: &Pedals, from: usize| {
        let presses = from..from + PRESSES / 2;
        let lines: String = presses.map(|id| format!("press {id}\r\n").repeat(BOUNCES)).collect();
        // Pieces that end anywhere but where lines do.
        for piece in lines.as_bytes().chunks(701) {
            let mut rest = piece;
            while !rest.is_empty() {
                match pedals.send_some(rest) {
                    Ok(sent) => rest = &rest[sent..],
                    Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {
                        std::thread::yield_now();
                    }
                    Err(error) => panic!("the port is open: {error}"),
                }
            }
        }
    };
    send(&pedals, 0);
    run.expect(&format!("{} pressed", PRESSES / 2));
    // What it had begun to say is no line, and does not spoil the next.
    pedals.send(b"hal").expect("the port is open");
    drop(pedals);
    run.expect("pedals is not there");
    let pedals = plug(&home);
    pedals.send(b"f\n").expect("the port is open");
    send(&pedals, PRESSES / 2);
    run.expect(&format!("{PRESSES} pressed"));
    assert!(!run.stop().iter().any(|line| line.contains("never")));
}

#[test]
fn every_line_end_counts_and_what_is_no_text_or_too_long_does_no_harm() {
    let home = Home::new();
    let pedals = plug(&home);
    let mut run = at_work::run(
        &home,
        &rules(&home, "when line from pedals as said again overlaps => log \"<{said.text}>\""),
    );
    pedals.send(b"one\ntwo\r\nthree\rfour\n\n\r\n").expect("the port is open");
    run.expect("<one>");
    run.expect("<two>");
    run.expect("<three>");
    run.expect("<four>");
    pedals.send(b"a\xff\xfeb\n").expect("the port is open");
    run.expect("<a\u{fffd}\u{fffd}b>");
    for _ in 0..10 {
        while pedals.send(&[b'x'; 1000]).is_err() {}
    }
    run.expect("pedals sent a line of over 4096 bytes");
    pedals.send(b"\nlast\n").expect("the port is open");
    let line = run.expect("<xxx");
    assert_eq!(line.len(), 4096 + 2, "it is cut");
    run.expect("<last>");
}

#[test]
fn a_port_that_is_none_or_not_there_is_said_with_what_to_do() {
    let home = Home::new();
    home.write("pedals", "no port");
    let mut run = at_work::run(
        &home,
        &rules(&home, "when started { send pedals \"x\" else { log \"not sent\" } }"),
    );
    let said = run.expect("is no serial port");
    assert!(said.contains("`lantern ports` lists those that are there"), "{said}");
    run.expect("not sent");
    std::fs::remove_file(home.path().join("pedals")).expect("it is there");
    run.expect("is not there; plug it in");
    let pedals = plug(&home);
    pedals.send(b"x\n").expect("the port is open");
    let status = home.call(&["status"]);
    assert!(status.stdout.contains("pedals"), "{}{}", status.stdout, status.stderr);
    drop(pedals);
}

#[test]
fn a_port_has_one_reader_others_look_through_it_and_a_reload_keeps_it_open() {
    let home = Home::new();
    let pedals = plug(&home);
    let text = rules(&home, "when line from pedals as said => log \"first {said.text}\"");
    let mut run = at_work::run_with(&home, &text, &["--log-level", "info"]);
    run.expect("pedals is there");
    let port = home.path().join("pedals").display().to_string();
    let mut raw = at_work::start(&home, &["watch", "--raw", "--port", &port]);
    raw.expect("is what the running lantern listens to");
    let elsewhere = Home::new().call(&["watch", "--raw", "--port", &port]);
    assert_eq!(elsewhere.status, 2, "{}", elsewhere.stdout);
    assert!(elsewhere.stderr.contains("is in use by another program"), "{}", elsewhere.stderr);
    home.write("bench.lantern", text.replace("first", "second"));
    run.expect("reloaded");
    pedals.send(b"left\n").expect("the port is open");
    run.expect("second left");
    raw.expect("left\\n");
    let said = run.stop();
    assert_eq!(said.iter().filter(|line| line.contains("pedals is there")).count(), 1, "{said:?}");
}

#[test]
fn lines_are_seen_as_they_come_by_who_only_looks() {
    let home = Home::new();
    let pedals = plug(&home);
    let port = home.path().join("pedals").display().to_string();
    let mut raw = at_work::start(&home, &["watch", "--raw", "--port", &port, "--speed", "115200"]);
    raw.expect("is open at 115200");
    pedals.send(b"left\r\nbad \xff\x07\n").expect("the port is open");
    raw.expect("left\\r\\n");
    raw.expect("bad \\xff\\x07\\n");
    pedals.send(b"half").expect("the port is open");
    raw.expect("half");
}

#[test]
fn ports_lists_what_the_rules_name_and_whether_it_is_there() {
    let home = Home::new();
    home.write(
        "bench.lantern",
        "device pedals = serial \"pedals\"\ndevice drill = serial \"/dev/ttyDrill\"
when line from pedals or line from drill => log \"x\"\n",
    );
    let _board = plug(&home);
    let called = home.call(&["ports", "bench.lantern", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&called.stdout).expect("it is JSON");
    let of = |name: &str| {
        let ports = data["ports"].as_array().expect("a list").iter();
        ports.clone().find(|port| port["device"] == name).expect("it is listed").clone()
    };
    assert_eq!(of("pedals")["there"], true);
    assert_eq!(of("drill")["there"], false);
    let shown = home.call(&["ports", "bench.lantern"]).stdout;
    assert!(shown.contains("serial \"/dev/ttyDrill\"  not there"), "{shown}");
    assert!(shown.contains("device pedals"), "{shown}");
}
