//! Devices that send faster than rules can be evaluated.

use std::io::{ErrorKind, Read, Result, Write};
use std::net::TcpStream;
use std::process::Child;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::{JoinHandle, yield_now};

use lantern_net::Pedals;
use lantern_stage::wait_until;

use super::output::{expect_end, start, wait_for_work};
use super::receiver::{FIRES, TestDesktop};
use crate::broker::Broker;

/// Maximum resident memory of the program in a flood, in KiB.
const MOST_MEMORY: u64 = 64 * 1024;

/// A sender without a pause.
struct Flood {
    stop: Arc<AtomicBool>,
    sent: Arc<AtomicU64>,
    sender: Option<JoinHandle<()>>,
}

impl Flood {
    /// Sends these bytes again and again; `send` gives how many of what it was given were taken.
    fn of(bytes: Vec<u8>, mut send: impl FnMut(&[u8]) -> Result<usize> + Send + 'static) -> Flood {
        let (stop, sent) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let (until, count) = (Arc::clone(&stop), Arc::clone(&sent));
        let sender = std::thread::spawn(move || {
            let mut rest = bytes.as_slice();
            while !until.load(Ordering::SeqCst) {
                if rest.is_empty() {
                    rest = &bytes;
                }
                match send(rest) {
                    Ok(sent) => {
                        rest = &rest[sent..];
                        count.fetch_add(sent as u64, Ordering::SeqCst);
                    }
                    Err(error) if error.kind() == ErrorKind::WouldBlock => yield_now(),
                    Err(error) => panic!("the other end is open: {error}"),
                }
            }
        });
        Flood { stop, sent, sender: Some(sender) }
    }

    /// Waits until this number of further bytes was taken.
    fn wait_for(&self, bytes: u64) {
        let before = self.sent.load(Ordering::SeqCst);
        wait_until("bytes to be taken", || self.sent.load(Ordering::SeqCst) >= before + bytes);
    }
}

impl Drop for Flood {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::SeqCst);
        if let Some(sender) = self.sender.take() {
            let _ = sender.join();
        }
    }
}

/// Resident memory of a process in KiB.
fn memory(child: &Child) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", child.id()));
    let status = status.expect("it runs");
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    let number = line.and_then(|line| line.split_whitespace().next());
    number.and_then(|number| number.parse().ok()).expect("the kernel says")
}

fn flooded(of_lines: &str) {
    let mut desk = TestDesktop::set_up();
    let port = desk.display.folder().join("drill");
    let pedals = Pedals::plug_in(Some(&port)).expect("there is a pseudo-terminal");
    let rules = format!(
        "device drill = serial \"{}\" at 115200\n{FIRES}let n = 0\n{of_lines}",
        port.display()
    );
    let child = start(&desk.display, &rules);
    wait_for_work(&desk.display);
    let flood = Flood::of(b"abc\n".repeat(1000), move |bytes| pedals.send_some(bytes));
    flood.wait_for(100_000);
    desk.expect_keys_at_once(child.id());
    flood.wait_for(100_000);
    expect_bounded(&mut desk, &child, MOST_MEMORY);
    drop(flood);
    expect_end(child);
}

/// Expects at most this much memory in KiB, and that the panic combination works.
fn expect_bounded(desk: &mut TestDesktop, child: &Child, most_memory: u64) {
    let memory = memory(child);
    assert!(memory <= most_memory, "{memory} KiB");
    desk.expect_panic();
}

#[test]
fn x11_a_port_without_a_pace_that_no_rule_wants_delays_no_key() {
    flooded("when line from drill is \"half\" => log \"never\"\n");
}

#[test]
fn x11_a_port_without_a_pace_that_three_hundred_patterns_want_delays_no_key() {
    let rules: String = (0..300)
        .map(|number| format!("when line from drill matches `^core {number}-([0-9]+)$` => tap c\n"))
        .collect();
    flooded(&rules);
}

#[test]
fn x11_a_port_without_a_pace_whose_lines_all_fire_delays_no_key() {
    flooded("when line from drill is \"abc\" again overlaps { set n = n + 1 }\n");
}

/// Connects to a broker as MQTT 3.1.1 says, section 3.1.
fn connect(broker: &Broker) -> TcpStream {
    let mut stream = TcpStream::connect(("127.0.0.1", broker.port)).expect("it listens");
    stream.write_all(b"\x10\x0c\0\x04MQTT\x04\x02\0\x3c\0\0").expect("it is taken");
    let mut welcome = [0; 4];
    stream.read_exact(&mut welcome).expect("it answers");
    assert_eq!(welcome, [0x20, 2, 0, 0]);
    stream
}

#[test]
fn x11_messages_without_a_pace_delay_no_key() {
    let mut desk = TestDesktop::set_up();
    let broker = Broker::start("allow_anonymous true");
    let rules = format!(
        "device hut = broker \"mqtt://127.0.0.1:{}\"\n{FIRES}let n = 0\n\
         when message \"core/#\" on hut as said again overlaps {{ set n = length(said.text) }}\n",
        broker.port
    );
    let child = start(&desk.display, &rules);
    wait_for_work(&desk.display);
    let mut stream = connect(&broker);
    // A packet that publishes a hundred bytes at `core/flow`, section 3.3.
    let packet = [b"\x30\x6f\0\x09core/flow".as_slice(), &[b'x'; 100]].concat();
    let flood = Flood::of(packet.repeat(100), move |bytes| stream.write(bytes));
    flood.wait_for(1_000_000);
    desk.expect_keys_at_once(child.id());
    expect_bounded(&mut desk, &child, MOST_MEMORY);
    drop(flood);
    expect_end(child);
}

#[test]
fn x11_large_values_delay_no_key() {
    let mut desk = TestDesktop::set_up();
    let rules = format!(
        "{FIRES}let n = 0\nwhen started {{\n    let t = \"core\"\n    repeat 16 times {{ set t = t + t }}\n    \
         repeat {{ set n = length(t + t) + length([t, t, t]) }}\n}}\n\
         when started {{\n    let l = [1..20000]\n    repeat {{ set n = length([l]) }}\n}}\n"
    );
    let child = start(&desk.display, &rules);
    wait_for_work(&desk.display);
    desk.expect_keys_at_once(child.id());
    expect_bounded(&mut desk, &child, 2 * MOST_MEMORY);
    expect_end(child);
}
