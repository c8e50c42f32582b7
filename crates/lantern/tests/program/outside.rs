//! Whatever comes from outside is data: no line, call, answer or name of a file ever becomes a command.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};

use lantern_net::Pedals;
use lantern_stage::wait_until;

use crate::at_work;
use crate::home::Home;

/// Texts that would touch a file called `owned`, were any of them read by a shell.
const EVIL: [&str; 9] = [
    "; touch owned",
    "$(touch owned)",
    "`touch owned`",
    "' ; touch owned ; '",
    "\" ; touch owned ; \"",
    "&& touch owned",
    "| touch owned",
    "a\ttouch owned",
    "-n $HOME \\",
];

fn lines_of(home: &Home, name: &str) -> Vec<String> {
    let text = std::fs::read_to_string(home.path().join(name)).unwrap_or_default();
    text.lines().map(str::to_owned).collect()
}

fn wait_for(home: &Home, name: &str, count: usize) {
    wait_until(name, || lines_of(home, name).len() >= count);
}

#[test]
fn lines_of_a_board_stay_one_word_in_a_shell_and_no_shell_is_there_for_run() {
    let home = Home::new();
    let board = Pedals::plug_in(Some(&home.path().join("pedals"))).expect("there is one");
    let rules = "device pedals = serial \"pedals\" at 9600
when line from pedals as said again waits {
    shell \"printf '%s\\\\n' {said.text} >> shelled\"
    let told = run \"printf\", \"%s\", said.text
    log \"<{told}>\"
}";
    let mut run = at_work::run(&home, rules);
    for (number, text) in EVIL.iter().enumerate() {
        board.send(format!("{text}\r\n").as_bytes()).expect("the port is open");
        run.expect(&format!("<{text}>"));
        wait_for(&home, "shelled", number + 1);
    }
    assert_eq!(lines_of(&home, "shelled"), EVIL);
    assert!(!home.path().join("owned").exists());
}

#[test]
fn what_is_called_and_answered_stays_data() {
    let home = Home::new();
    let web = TcpListener::bind("127.0.0.1:0").expect("there is a port");
    let address = web.local_addr().expect("it has one");
    std::thread::spawn(move || {
        for (mut stream, text) in web.incoming().map_while(Result::ok).zip(EVIL.iter().cycle()) {
            // What is not read is taken for a broken connection.
            let mut request = Vec::new();
            while !request.ends_with(b"\r\n\r\n") {
                let mut byte = [0];
                stream.read_exact(&mut byte).expect("it asks for something");
                request.push(byte[0]);
            }
            let body = serde_json::json!({ "state": text }).to_string();
            let length = body.len();
            let head = "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: close";
            let _ = write!(stream, "{head}\r\nContent-Length: {length}\r\n\r\n{body}");
        }
    });
    let own = TcpListener::bind("127.0.0.1:0").expect("there is a port");
    let port = own.local_addr().expect("it has one").port();
    drop(own);
    let rules = format!(
        "device fans = web \"http://{address}\"
device door = listener \"127.0.0.1:{port}\"
when call \"/shell\" on door as said again waits {{
    shell \"printf '%s\\\\n' {{said.text}} >> called\"
    let answer = get fans \"/state\"
    shell \"printf '%s\\\\n' {{answer.state}} >> answered\"
    log \"done\"
}}"
    );
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    run.expect("door is there");
    for (number, text) in EVIL.iter().enumerate() {
        let length = text.len();
        let mut stream = TcpStream::connect(("127.0.0.1", port)).expect("it listens");
        write!(
            stream,
            "POST /shell HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: {length}\r\n\r\n{text}"
        )
        .expect("it listens");
        wait_for(&home, "answered", number + 1);
    }
    assert_eq!(lines_of(&home, "called"), EVIL);
    assert_eq!(lines_of(&home, "answered"), EVIL);
    assert!(!home.path().join("owned").exists());
}
