//! A real broker: messages in and out, brokers that go away and come back, desks that act as one.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use lantern_stage::{Talking, wait_until};

use crate::at_work;
use crate::home::Home;

/// A broker on a port of this machine, with a folder in which it keeps what it knows.
pub struct Broker {
    home: Home,
    pub port: u16,
    child: Child,
}

impl Broker {
    pub fn start(more: &str) -> Broker {
        let listener = TcpListener::bind("127.0.0.1:0").expect("there is a port");
        let port = listener.local_addr().expect("it has one").port();
        drop(listener);
        let home = Home::new();
        let folder = home.path().display();
        home.write(
            "broker.conf",
            format!(
                "listener {port} 127.0.0.1\nuser root\npersistence true\n\
                 persistence_location {folder}/\nautosave_interval 1\nautosave_on_changes true\n{more}\n"
            ),
        );
        let child = Broker::spawn(&home);
        let broker = Broker { home, port, child };
        broker.wait();
        broker
    }

    fn spawn(home: &Home) -> Child {
        let path = std::env::var("PATH").unwrap_or_default();
        Command::new("mosquitto")
            .arg("-c")
            .arg(home.path().join("broker.conf"))
            .env("PATH", format!("{path}:/usr/sbin"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("scripts/test installs mosquitto")
    }

    fn wait(&self) {
        wait_until("the broker to listen", || TcpStream::connect(("127.0.0.1", self.port)).is_ok());
    }

    /// Kills it.
    fn fall(&mut self) {
        self.child.kill().expect("it runs");
        self.child.wait().expect("it ran");
    }

    /// Starts it again.
    fn rise(&mut self) {
        self.child = Broker::spawn(&self.home);
        self.wait();
    }

    fn address(&self) -> String {
        format!("mqtt://127.0.0.1:{}", self.port)
    }
}

impl Drop for Broker {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Rules at work that have seen their broker.
fn listening(home: &Home, rules: &str) -> Talking {
    let mut run = at_work::run_with(home, rules, &["--log-level", "info"]);
    run.expect("hut is there");
    run
}

/// The numbers behind `word` in lines that begin with it.
fn numbers(lines: &[String], word: &str) -> Vec<usize> {
    let told = lines.iter().filter_map(|line| line.strip_prefix(word));
    told.filter_map(|rest| rest.trim().parse().ok()).collect()
}

#[test]
fn two_desks_act_as_one_and_a_desk_that_dies_is_missed() {
    let broker = Broker::start("allow_anonymous true");
    let (saw, bench) = (Home::new(), Home::new());
    let mut at_saw = listening(
        &saw,
        &format!(
            "device hut = broker \"{}\" with greeting \"desks/saw\" = \"here\", will \"desks/saw\" = \"away\"
when message \"saw/+\" on hut as said => log \"{{said.topic}} is {{said.text}}\"",
            broker.address()
        ),
    );
    let mut at_bench = listening(
        &bench,
        &format!(
            "device hut = broker \"{}\"
macro lights(state) {{ publish hut \"saw/lights\" body state retained; log \"told\" }}
when message \"desks/#\" on hut as said => log \"{{said.topic}} {{said.text}}\"",
            broker.address()
        ),
    );
    at_bench.expect("desks/saw here");
    assert_eq!(bench.call(&["fire", "lights", "on"]).status, 0);
    at_saw.expect("saw/lights is on");
    at_bench.expect("told");
    let killed = rustix::process::kill_process(at_saw.pid(), rustix::process::Signal::KILL);
    killed.expect("it runs");
    at_bench.expect("desks/saw away");
    drop(at_saw);
    // A retained message is delivered once to a later subscriber.
    let rules = std::fs::read_to_string(saw.path().join("bench.lantern")).expect("it is there");
    let mut again = listening(&saw, &rules);
    again.expect("saw/lights is on");
    at_bench.expect("desks/saw here");
    again.stop();
    at_bench.expect("desks/saw away");
}

#[test]
fn a_phrase_said_at_one_desk_acts_at_another_and_what_a_message_says_stays_data() {
    let broker = Broker::start("allow_anonymous true");
    let (bench, saw) = (Home::new(), Home::new());
    // A program that hears: it says its phrase once there is something to listen for.
    let ear = bench.write(
        "ear.sh",
        "read wanted; while [ ! -e say ]; do sleep 0.05; done
echo '{\"text\": \"lights at the saw\", \"confidence\": 0.9}'; cat > /dev/null\n",
    );
    let mut at_saw = listening(
        &saw,
        &format!(
            "device hut = broker \"{}\"
when message \"saw/+\" on hut as said {{
    shell \"printf '%s' {{said.text}} > told\"
    log \"{{said.topic}}: {{said.text}}\"
}}",
            broker.address()
        ),
    );
    let mut at_bench = listening(
        &bench,
        &format!(
            "settings {{ recogniser = \"sh {}\" }}  # allow no-attention-word
device hut = broker \"{}\"
when voice \"lights at the saw\" => publish hut \"saw/lights\" body \"$(touch owned); on\"",
            ear.display(),
            broker.address()
        ),
    );
    bench.write("say", "");
    at_bench.expect("fired by voice");
    at_saw.expect("saw/lights: $(touch owned); on");
    let told = std::fs::read_to_string(saw.path().join("told")).expect("it was written");
    assert_eq!(told, "$(touch owned); on");
    assert!(!saw.path().join("owned").exists());
}

#[test]
fn a_broker_that_is_killed_under_load_loses_nothing_and_nothing_fires_twice() {
    const EACH: usize = 150;
    let mut broker = Broker::start("allow_anonymous true\nmax_queued_messages 0");
    let (sender, hearer) = (Home::new(), Home::new());
    let mut hears = listening(
        &hearer,
        &format!(
            "device hut = broker \"{}\"
when message \"core/count\" on hut as said again overlaps => log \"heard {{said.text}}\"",
            broker.address()
        ),
    );
    let mut sends = listening(
        &sender,
        &format!(
            "device hut = broker \"{}\"
let n = 0
when every 10ms if n < {EACH} again overlaps {{
    set n = n + 1
    let number = n
    publish hut \"core/count\" body \"{{number}}\" at most 30s
    log \"confirmed {{number}}\"
}}
macro last() {{ publish hut \"core/count\" body \"the last\" }}",
            broker.address()
        ),
    );
    sends.expect("confirmed 40");
    broker.fall();
    hears.expect("hut is not there");
    broker.rise();
    sends.expect(&format!("confirmed {EACH}"));
    hears.expect(&format!("heard {EACH}"));
    // The broker hands on in order: what comes twice comes before the last message.
    sender.call(&["fire", "last"]);
    hears.expect("heard the last");
    let confirmed = numbers(sends.lines_so_far(), "confirmed");
    let heard = numbers(hears.lines_so_far(), "heard");
    let mut once = heard.clone();
    once.sort_unstable();
    assert_eq!(once, (1..=EACH).collect::<Vec<_>>(), "each once; confirmed {confirmed:?}");
    assert_eq!(confirmed.len(), EACH);
}

#[test]
fn what_was_kept_is_not_told_again_when_the_broker_comes_back() {
    let mut broker = Broker::start("allow_anonymous true");
    let home = Home::new();
    let rules = format!(
        "device hut = broker \"{}\"
macro keep(state) {{ publish hut \"store/door\" body state retained }}
when message \"store/door\" on hut as said => log \"door {{said.text}}\"",
        broker.address()
    );
    let mut run = listening(&home, &rules);
    home.call(&["fire", "keep", "shut"]);
    run.expect("door shut");
    let kept = broker.home.path().join("mosquitto.db");
    wait_until("the broker to write down what it keeps", || {
        let text = std::fs::read(&kept).unwrap_or_default();
        text.windows(10).any(|part| part == b"store/door")
    });
    broker.fall();
    run.expect("hut is not there");
    broker.rise();
    run.expect("hut is there");
    home.call(&["fire", "keep", "open"]);
    run.expect("door open");
    let lines = run.stop();
    assert_eq!(lines.iter().filter(|line| line.starts_with("door")).count(), 2, "{lines:?}");
}

#[test]
fn a_broker_wants_a_password_and_one_that_is_away_fails_the_step_in_time() {
    let home = Home::new();
    let made = Command::new("mosquitto_passwd")
        .args(["-b", "-c"])
        .arg(home.path().join("passwords"))
        .args(["bench", "blue-ice"])
        .output()
        .expect("it comes with mosquitto");
    assert!(made.status.success());
    let file = home.path().join("passwords").display().to_string();
    let mut broker = Broker::start(&format!("allow_anonymous false\npassword_file {file}"));
    home.write("hut.key", "wrong");
    let rules = format!(
        "secret hut-key = file \"hut.key\"
device hut = broker \"{}\" with user = \"bench\", password = hut-key
macro tell() {{ publish hut \"saw/state\" body \"on\" at most 300ms else {{ log upper(\"nobody\") }} }}
when message \"saw/state\" on hut as said => log \"saw is {{said.text}}\"",
        broker.address()
    );
    let mut run = at_work::run_with(&home, &rules, &["--log-level", "info"]);
    let refused = run.expect("refuses us");
    assert!(refused.contains("look at its `user` and `password`"), "{refused}");
    home.write("hut.key", "blue-ice");
    run.expect("hut is there");
    home.call(&["fire", "tell"]);
    run.expect("saw is on");
    broker.fall();
    run.expect("hut is not there");
    home.call(&["fire", "tell"]);
    // In capitals it is what the rule said, and not the rule's own text in a finding.
    run.expect("NOBODY");
    broker.rise();
    run.expect("hut is there");
    let lines = run.stop();
    assert!(!lines.iter().any(|line| line.contains("blue-ice")), "{lines:?}");
    // A message whose outcome was no longer needed was not sent late.
    assert_eq!(lines.iter().filter(|line| line.contains("saw is on")).count(), 1, "{lines:?}");
}

/// How a broker ends a connection in a version that it does not know.
#[derive(Debug, Clone, Copy)]
enum Ending {
    /// With what the client sent unread, so that the connection is reset.
    Reset,
    /// In order, as MQTT 3.1.1 asks for.
    Close,
}

/// A broker without MQTT 5: it refuses that version in the older one. Everything else is forwarded
/// to the real broker.
fn before_the_fifth(broker: u16, ending: Ending) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("there is a port");
    let port = listener.local_addr().expect("it has one").port();
    std::thread::spawn(move || {
        for mut client in listener.incoming().map_while(Result::ok) {
            // Kind, length and the name of the protocol take up to nine bytes, then comes the version.
            let mut head = [0; 9];
            client.read_exact(&mut head).expect("it says who it is");
            if head[8] == 5 {
                if matches!(ending, Ending::Close) {
                    let mut rest = vec![0; usize::from(head[1]) - 7];
                    client.read_exact(&mut rest).expect("it says all of it");
                }
                let _ = client.write_all(&[0x20, 2, 0, 1]);
                continue;
            }
            let mut real = TcpStream::connect(("127.0.0.1", broker)).expect("it is there");
            real.write_all(&head).expect("it listens");
            for (mut from, mut to) in [
                (client.try_clone().expect("it can be"), real.try_clone().expect("it can be")),
                (real, client),
            ] {
                std::thread::spawn(move || {
                    let _ = std::io::copy(&mut from, &mut to);
                    let _ = to.shutdown(std::net::Shutdown::Both);
                });
            }
        }
    });
    port
}

#[test]
fn an_old_broker_that_closes_a_newer_connection_is_spoken_to_in_the_older_version() {
    speaks_the_older_version(Ending::Close);
}

#[test]
fn an_old_broker_that_resets_a_newer_connection_is_spoken_to_in_the_older_version() {
    speaks_the_older_version(Ending::Reset);
}

fn speaks_the_older_version(ending: Ending) {
    let broker = Broker::start("allow_anonymous true");
    let port = before_the_fifth(broker.port, ending);
    let home = Home::new();
    let rules = format!(
        "device hut = broker \"mqtt://127.0.0.1:{port}\" with will \"desks/old\" = \"away\"
when started {{ publish hut \"saw/state\" body \"on\"; log \"confirmed\" }}
macro last() {{ publish hut \"saw/state\" body \"last\" }}
when message \"#\" on hut as said => log \"{{said.topic}} {{said.text}}\""
    );
    let mut run = listening(&home, &rules);
    run.expect("saw/state on");
    run.expect("confirmed");
    home.call(&["fire", "last"]);
    run.expect("saw/state last");
    let lines = run.lines_so_far();
    assert!(!lines.iter().any(|line| line.contains("desks/old away")), "{lines:?}");
}

#[test]
fn a_message_at_a_topic_that_is_none_fails_at_once_and_holds_up_no_other() {
    let broker = Broker::start("allow_anonymous true");
    let home = Home::new();
    let rules = format!(
        "device hut = broker \"{}\"
macro note(topic) {{ publish hut topic body \"x\" else {{ log \"refused\"; stop }}; log \"confirmed\" }}",
        broker.address()
    );
    let mut run = listening(&home, &rules);
    for topic in ["saw/#", "a/+/b", "", "#"] {
        home.call(&["fire", "note", topic]);
        run.expect("refused");
        home.call(&["fire", "note", "saw/state"]);
        run.expect("confirmed");
    }
    let lines = run.stop();
    assert!(!lines.iter().any(|line| line.contains("hut is away")), "{lines:?}");
}

/// A way to a broker that can be torn in the middle of what the broker says.
struct Way {
    port: u16,
    state: Arc<AtomicU8>,
}

impl Way {
    const WHOLE: u8 = 0;
    /// The next thing the broker says is cut off.
    const TEARING: u8 = 1;
    const GONE: u8 = 2;

    fn to(broker: u16) -> Way {
        let listener = TcpListener::bind("127.0.0.1:0").expect("there is a port");
        let port = listener.local_addr().expect("it has one").port();
        let state = Arc::new(AtomicU8::new(Way::WHOLE));
        let way = Way { port, state: Arc::clone(&state) };
        std::thread::spawn(move || {
            for client in listener.incoming().map_while(Result::ok) {
                if state.load(Ordering::SeqCst) == Way::WHOLE {
                    let real = TcpStream::connect(("127.0.0.1", broker)).expect("it is there");
                    Way::join(&client, &real, None);
                    Way::join(&real, &client, Some(Arc::clone(&state)));
                }
            }
        });
        way
    }

    /// Hands on what one says to the other, until it is torn.
    fn join(from: &TcpStream, to: &TcpStream, state: Option<Arc<AtomicU8>>) {
        let mut from = from.try_clone().expect("it can be");
        let mut to = to.try_clone().expect("it can be");
        std::thread::spawn(move || {
            let mut piece = [0; 4096];
            while let Ok(length @ 1..) = from.read(&mut piece) {
                let (torn, gone) = (Way::TEARING, Way::GONE);
                let (before, after) = (Ordering::SeqCst, Ordering::SeqCst);
                let is_torn = state
                    .as_ref()
                    .is_some_and(|state| state.compare_exchange(torn, gone, before, after).is_ok());
                let passed = if is_torn { length.min(3) } else { length };
                if to.write_all(&piece[..passed]).is_err() || is_torn {
                    break;
                }
            }
            let _ = from.shutdown(std::net::Shutdown::Both);
            let _ = to.shutdown(std::net::Shutdown::Both);
        });
    }

    fn set(&self, state: u8) {
        self.state.store(state, Ordering::SeqCst);
    }
}

#[test]
fn a_connection_that_breaks_in_the_middle_of_a_message_goes_on_with_its_session() {
    let broker = Broker::start("allow_anonymous true");
    let way = Way::to(broker.port);
    let (sender, hearer) = (Home::new(), Home::new());
    let mut hears = listening(
        &hearer,
        &format!(
            "device hut = broker \"mqtt://127.0.0.1:{}\"
when message \"saw/state\" on hut as said => log \"heard {{said.text}}\"",
            way.port
        ),
    );
    let mut sends = listening(
        &sender,
        &format!(
            "device hut = broker \"{}\"
macro tell(state) {{ publish hut \"saw/state\" body state; log \"told {{state}}\" }}",
            broker.address()
        ),
    );
    for (state, after) in [("on", Way::WHOLE), ("off", Way::TEARING), ("stuck", Way::GONE)] {
        way.set(after);
        assert_eq!(sender.call(&["fire", "tell", state]).status, 0);
        sends.expect(&format!("told {state}"));
        match after {
            Way::TEARING => hears.expect("it broke off in the middle of a message"),
            Way::WHOLE => hears.expect("heard on"),
            _ => continue,
        };
    }
    way.set(Way::WHOLE);
    hears.expect("heard off");
    hears.expect("heard stuck");
    let lines = hears.stop();
    assert_eq!(lines.iter().filter(|line| line.starts_with("heard")).count(), 3, "{lines:?}");
}
