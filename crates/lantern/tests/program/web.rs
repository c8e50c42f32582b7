//! Things with a web interface: what is sent, what comes back, and every way in which they misbehave.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::{Duration, Instant};

use lantern_stage::{Talking, pass_time, wait_until};

use crate::at_work;
use crate::home::Home;

/// A thing of our own that answers each request as `answer` says; what it was sent comes by the channel.
fn thing(
    answer: impl Fn(&str, &mut TcpStream) + Clone + Send + 'static,
) -> (String, Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("there is a port");
    let address = format!("http://{}", listener.local_addr().expect("it has one"));
    let (sender, requests) = channel();
    thread::spawn(move || {
        for mut stream in listener.incoming().map_while(Result::ok) {
            let (sender, answer) = (sender.clone(), answer.clone());
            thread::spawn(move || {
                let request = read_request(&mut stream);
                let _ = sender.send(request.clone());
                answer(&request, &mut stream);
            });
        }
    });
    (address, requests)
}

/// Head and body, by the given length.
fn read_request(stream: &mut TcpStream) -> String {
    let mut bytes = Vec::new();
    let mut piece = [0; 4096];
    loop {
        let text = String::from_utf8_lossy(&bytes).into_owned();
        if let Some((head, body)) = text.split_once("\r\n\r\n") {
            let length = head.lines().find_map(|line| line.strip_prefix("content-length: "));
            if body.len() >= length.map_or(0, |length| length.parse().expect("a number")) {
                return text;
            }
        }
        match stream.read(&mut piece) {
            Ok(0) | Err(_) => return text,
            Ok(length) => bytes.extend_from_slice(&piece[..length]),
        }
    }
}

fn say(stream: &mut TcpStream, status: &str, kind: &str, body: &str) {
    let length = body.len();
    let head = format!(
        "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n"
    );
    let _ = stream.write_all(format!("{head}{body}").as_bytes());
}

#[test]
fn a_value_in_a_path_leads_nowhere_else() {
    let home = Home::new();
    let (address, requests) = thing(|_, stream| say(stream, "200 OK", "text/plain", "on"));
    let rules = format!(
        "device fans = web \"{address}\"
macro look(zone) {{ get fans \"/zones/{{zone}}/fan?by={{zone}}\" else {{ log \"refused\"; stop }}; log \"asked\" }}"
    );
    let mut run = at_work::run(&home, &rules);
    for (zone, seen) in [
        ("saw", "/zones/saw/fan?by=saw"),
        ("../admin", "/zones/..%2Fadmin/fan?by=..%2Fadmin"),
        ("a?b#c", "/zones/a%3Fb%23c/fan?by=a%3Fb%23c"),
        ("é %", "/zones/%C3%A9%20%25/fan?by=%C3%A9%20%25"),
    ] {
        home.call(&["fire", "look", zone]);
        run.expect("asked");
        let request = requests.recv().expect("one came");
        assert!(request.starts_with(&format!("GET {seen} HTTP/1.1\r\n")), "{request}");
    }
    for zone in ["..", "."] {
        home.call(&["fire", "look", zone]);
        run.expect("refused");
    }
    run.stop();
    assert!(requests.try_recv().is_err(), "nothing else was asked");
}

#[test]
fn no_proxy_of_the_environment_sees_a_secret() {
    let home = Home::new();
    let (proxy, requests) = thing(|_, stream| say(stream, "200 OK", "text/plain", "on"));
    home.write("fan.key", "glacier-bell");
    home.write(
        "bench.lantern",
        "secret fan-key = file \"fan.key\"
device fans = web \"http://fans.invalid\" with header \"Authorization\" = fan-key
when started { get fans \"/state\" at most 5s else { log \"unreached\" } }",
    );
    let mut command = home.command();
    for variable in ["HTTP_PROXY", "http_proxy", "ALL_PROXY"] {
        command.env(variable, &proxy);
    }
    command.args(["run", "--backend", "simulated", "bench.lantern"]);
    let mut run = Talking::start(&mut command);
    run.expect("unreached");
    run.stop();
    assert!(requests.try_recv().is_err(), "the proxy was asked");
}

#[test]
fn pages_of_others_may_not_use_the_stand_in_fans() {
    let home = Home::new();
    let mut fans = at_work::start(&home, &["standin", "fans", "--port", "0"]);
    let line = fans.expect("the fans are at http://");
    let place = line.split("http://").nth(1).and_then(|rest| rest.split(';').next());
    let place = place.expect("it is named").trim_end_matches('/').to_owned();
    for (head, wanted) in [
        (format!("Host: {place}\r\nOrigin: http://elsewhere.example\r\n"), "403"),
        ("Host: elsewhere.example\r\n".to_owned(), "403"),
        (format!("Host: {place}\r\n"), "200"),
    ] {
        let mut stream = TcpStream::connect(&place).expect("it listens");
        let request = format!("GET /state HTTP/1.1\r\n{head}\r\n");
        stream.write_all(request.as_bytes()).expect("it is taken");
        let mut answer = String::new();
        stream.read_to_string(&mut answer).expect("it answers");
        assert!(answer.starts_with(&format!("HTTP/1.1 {wanted}")), "{answer}");
    }
}

#[test]
fn fans_are_switched_their_state_is_read_and_what_they_refuse_is_told() {
    let home = Home::new();
    let mut fans =
        at_work::start(&home, &["standin", "fans", "--port", "0", "--zones", "saw,hall"]);
    let line = fans.expect("the fans are at http://");
    let address =
        line.split("at ").nth(1).and_then(|rest| rest.split(';').next()).expect("it is named");
    let rules = format!(
        "device fans = web \"{address}\"
when started {{
    put fans \"/zones/saw/fan\" body \"toggle\"
    put fans \"/zones/saw/level\" body 65%
    let zone = get fans \"/zones/saw\"
    log \"{{zone.fan}} at {{zone.level}}\"
    let state = get fans \"/state\"
    log \"hall {{state.hall.fan}}\"
    put fans \"/zones/attic/fan\" body \"on\" else {{ log \"no attic\" }}
    put fans \"/zones/saw/fan\" body \"sideways\"
}}"
    );
    let mut run = at_work::run(&home, &rules);
    run.expect("on at 65");
    run.expect("hall off");
    run.expect("no attic");
    run.expect("400 Bad Request: a fan takes on, off or toggle");
    fans.expect("saw fan on");
    fans.expect("saw level 65");
}

#[test]
fn bodies_are_json_or_text_and_secrets_are_sent_but_never_shown() {
    let home = Home::new();
    home.write("fan.key", "moss-and-lichen\n");
    let (address, requests) = thing(|_, stream| say(stream, "200 OK", "text/plain", "fine"));
    let rules = format!(
        "secret fan-key = file \"fan.key\"
secret desk-key = environment \"DESK_KEY\"
device fans = web \"{address}\" with header \"Authorization\" = \"Bearer {{fan-key}}\",
    header \"X-Desk\" = desk-key
when started {{
    post fans \"/json\" body `{{\"level\": 3}}`
    post fans \"/list\" body [1, 2]
    post fans \"/text\" body \"level 3\"
    let said = get fans \"/nothing\"
    log \"said {{said}}\"
    put fans \"/gone\" body \"x\"
}}"
    );
    home.write("bench.lantern", rules);
    let run = home
        .command()
        .args(["run", "--backend", "simulated", "--log-level", "debug", "bench.lantern"])
        .env("DESK_KEY", "salt-flat")
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("it starts");
    let next = || requests.recv_timeout(Duration::from_secs(20)).expect("it is called");
    let json = next();
    assert!(
        json.contains("content-type: application/json") && json.ends_with("{\"level\": 3}"),
        "{json}"
    );
    assert!(json.contains("authorization: Bearer moss-and-lichen\r\n"), "{json}");
    assert!(json.contains("x-desk: salt-flat\r\n"), "{json}");
    let list = next();
    assert!(list.contains("application/json") && list.ends_with("[1.0,2.0]"), "{list}");
    let text = next();
    assert!(text.contains("text/plain") && text.ends_with("level 3"), "{text}");
    assert!(next().starts_with("GET /nothing "));
    assert!(next().starts_with("PUT /gone "));
    let status = home.call(&["status", "--json"]).stdout;
    let pid = rustix::process::Pid::from_child(&run);
    rustix::process::kill_process(pid, rustix::process::Signal::TERM).expect("it runs");
    let output = run.wait_with_output().expect("it ends");
    let all = [output.stdout, output.stderr, status.into_bytes()].concat();
    let all = String::from_utf8_lossy(&all);
    assert!(all.contains("said fine"), "{all}");
    assert!(!all.contains("moss") && !all.contains("salt-flat"), "{all}");
}

#[test]
fn a_secret_that_is_missing_is_said_and_found_once_it_is_there() {
    let home = Home::new();
    let (address, requests) = thing(|_, stream| say(stream, "200 OK", "text/plain", "fine"));
    let rules = format!(
        "secret fan-key = file \"fan.key\"
device fans = web \"{address}\" with header \"X-Key\" = fan-key
when every 200ms => get fans \"/\""
    );
    let mut run = at_work::run(&home, &rules);
    let said = run.expect("the secret in fan.key cannot be read");
    assert!(said.contains("failed at line 3"), "{said}");
    home.write("fan.key", "moss");
    let request = requests.recv_timeout(Duration::from_secs(20)).expect("it is called");
    assert!(request.contains("x-key: moss"), "{request}");
}

#[test]
fn a_thing_that_stalls_resets_lies_floods_or_sends_in_a_circle_fails_with_a_word() {
    let home = Home::new();
    let (address, _requests) = thing(|request, stream| {
        let path = request.split(' ').nth(1).unwrap_or_default().to_owned();
        match path.as_str() {
            "/stall" => pass_time(Duration::from_secs(30)),
            "/slow" => {
                let head = b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\n";
                let _ = stream.write_all(head);
                for _ in 0..300 {
                    let _ = stream.write_all(b"x");
                    pass_time(Duration::from_millis(100));
                }
            }
            "/short" => {
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\nabc");
            }
            "/long" => {
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nabcdef");
            }
            "/flood" => {
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 1073741824\r\n\r\n");
                let piece = [b'x'; 65536];
                for _ in 0..16384 {
                    if stream.write_all(&piece).is_err() {
                        return;
                    }
                }
            }
            "/circle" => {
                let _ = stream.write_all(
                    b"HTTP/1.1 302 Found\r\nLocation: /circle\r\nContent-Length: 0\r\nConnection: close\r\n\r\n",
                );
            }
            "/away" => {
                let _ = stream.write_all(
                    b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.2:9/\r\nContent-Length: 0\r\nConnection: close\r\n\r\n",
                );
            }
            "/garbage" => {
                let _ = stream.write_all(b"\x00\x01\x02 what\r\n\r\n");
            }
            // The stream is closed, with what was sent unread or not.
            _ => {}
        }
    });
    let steps: String = ["stall", "slow", "reset", "short", "flood", "circle", "away", "garbage"]
        .iter()
        .map(|path| format!("when started named {path} => get fans \"/{path}\" at most 2s\n"))
        .collect();
    let rules = format!(
        "device fans = web \"{address}\"\ndevice nobody = web \"http://127.0.0.1:9\"\n{steps}
when started {{ let said = get fans \"/long\"; log \"long gave {{said}}\" }}
when started named absent => get nobody \"/\"
when every 100ms => log \"tick\""
    );
    let mut run = at_work::run(&home, &rules);
    let began = Instant::now();
    run.expect("absent: failed at line");
    let mut told = |name: &str| run.expect(&format!("{name}: failed at line"));
    assert!(told("circle").contains("redirects in a circle"));
    assert!(told("away").contains("redirects to another host"));
    assert!(told("flood").contains("answers with more than 1048576 bytes"));
    assert!(told("short").contains("broke off"));
    assert!(told("reset").contains("broke off"));
    assert!(told("garbage").contains("broke off"));
    told("stall");
    told("slow");
    assert!(began.elapsed() < Duration::from_secs(10));
    run.expect("long gave ab");
    // Nothing else was held up meanwhile.
    let lines = run.stop();
    let ticks = lines.iter().filter(|line| line.contains("tick")).count();
    assert!(ticks >= 12, "{ticks} ticks in {:?}", began.elapsed());
}

#[test]
fn many_go_at_once_but_what_changes_one_path_goes_in_order() {
    let home = Home::new();
    let (address, requests) = thing(|request, stream| {
        let slow = request.contains("/zones/slow") || request.ends_with("1");
        pass_time(Duration::from_millis(if slow { 300 } else { 20 }));
        say(stream, "200 OK", "text/plain", "fine");
    });
    let rules = format!(
        "device fans = web \"{address}\"
when started again overlaps => get fans \"/zones/slow\"
when started {{ repeat 12 times {{ get fans \"/zones/a\" }}; log \"gets done\" }}
macro switch(n) {{ put fans \"/zones/b\" body \"{{n}}\" }}
when started => switch(1)
when started => switch(2)
when started => switch(3)"
    );
    let mut run = at_work::run(&home, &rules);
    run.expect("gets done");
    let seen: Vec<String> =
        std::iter::from_fn(|| requests.recv_timeout(Duration::from_secs(2)).ok())
            .filter(|request| request.starts_with("PUT"))
            .map(|request| request.chars().last().expect("it has a body").to_string())
            .collect();
    assert_eq!(seen, ["1", "2", "3"]);
}

#[test]
fn a_get_is_asked_again_when_the_line_breaks_a_post_never() {
    let home = Home::new();
    let (address, requests) = thing(|_, _| {});
    let rules = format!(
        "device fans = web \"{address}\"
when started {{ get fans \"/g\" else {{ log \"no get\" }}; post fans \"/p\" body \"1\" else {{ log \"no post\" }} }}"
    );
    let mut run = at_work::run(&home, &rules);
    run.expect("no post");
    let seen: Vec<String> =
        std::iter::from_fn(|| requests.recv_timeout(Duration::from_millis(500)).ok())
            .map(|request| request.split(' ').take(2).collect::<Vec<_>>().join(" "))
            .collect();
    assert_eq!(seen, ["GET /g", "GET /g", "POST /p"]);
}

/// Calls `openssl` in a home.
fn openssl(home: &Home, words: &[&str]) {
    let output =
        std::process::Command::new("openssl").args(words).current_dir(home.path()).output();
    let output = output.expect("scripts/test installs openssl");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn https_is_checked_by_the_roots_of_the_system() {
    let home = Home::new();
    home.write("leaf.ext", "subjectAltName=IP:127.0.0.1\nbasicConstraints=CA:FALSE\n");
    let root =
        ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=Polar"];
    openssl(&home, &[&root[..], &["-keyout", "root.key", "-out", "root.pem"]].concat());
    let leaf = ["req", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=fans"];
    openssl(&home, &[&leaf[..], &["-keyout", "leaf.key", "-out", "leaf.csr"]].concat());
    let sign = ["x509", "-req", "-in", "leaf.csr", "-CA", "root.pem", "-CAkey", "root.key"];
    let rest = ["-CAcreateserial", "-days", "2", "-extfile", "leaf.ext", "-out", "leaf.pem"];
    openssl(&home, &[&sign[..], &rest].concat());
    let free = TcpListener::bind("127.0.0.1:0").expect("there is a port");
    let port = free.local_addr().expect("it has one").port();
    drop(free);
    let mut server = std::process::Command::new("openssl")
        .args(["s_server", "-quiet", "-www", "-cert", "leaf.pem", "-key", "leaf.key"])
        .args(["-accept", &format!("127.0.0.1:{port}")])
        .current_dir(home.path())
        .stdin(std::process::Stdio::null())
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .expect("it starts");
    wait_until("the server to listen", || TcpStream::connect(("127.0.0.1", port)).is_ok());
    let rules = format!(
        "device fans = web \"https://127.0.0.1:{port}\"
when started {{ get fans \"/\" else {{ log \"not trusted\"; stop }}; log \"trusted\" }}"
    );
    home.write("bench.lantern", rules);
    let words = ["run", "--backend", "simulated", "bench.lantern"];
    let mut stranger = at_work::start(&home, &words);
    stranger.expect("not trusted");
    drop(stranger);
    let known = home.path().join("root.pem").display().to_string();
    let mut friend = Talking::start(home.command().args(words).env("SSL_CERT_FILE", &known));
    friend.expect("trusted");
    server.kill().expect("it runs");
    server.wait().expect("it ran");
}

#[test]
fn a_redirection_that_is_not_followed_is_told_by_its_reason() {
    let (address, _requests) = thing(|request, stream| {
        // The word in the reason also stands in an address.
        let to =
            if request.starts_with("GET /circle") { "/circle" } else { "http://circle.invalid/" };
        say(stream, &format!("302 Found\r\nlocation: {to}"), "text/plain", "");
    });
    let home = Home::new();
    let rules = format!(
        "device fans = web \"{address}\"\nwhen started {{ let a = get fans \"/circle\"; log a }}
when started {{ let a = get fans \"/elsewhere\"; log a }}\n"
    );
    let mut running = at_work::run(&home, &rules);
    let lines = [running.expect("redirects"), running.expect("redirects")];
    let reason = |part: &str| lines.iter().filter(|line| line.ends_with(part)).count();
    assert_eq!(reason("in a circle, or too often"), 1, "{lines:?}");
    assert_eq!(reason("to another host"), 1, "{lines:?}");
    running.stop();
}
