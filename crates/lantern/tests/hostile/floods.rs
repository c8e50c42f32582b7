//! Devices that send faster than rules can be evaluated.

use std::io::ErrorKind;
use std::process::Child;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::{JoinHandle, yield_now};

use lantern_devices::Pedals;
use lantern_stage::wait_until;

use super::output::{expect_end, start, wait_for_work};
use super::receiver::{Desk, FIRES};

/// Maximum resident memory of the program in a flood, in KiB.
const MOST_MEMORY: u64 = 64 * 1024;

/// A port whose other end sends without a pause.
struct Flood {
    stop: Arc<AtomicBool>,
    sent: Arc<AtomicU64>,
    sender: Option<JoinHandle<()>>,
}

impl Flood {
    fn from(pedals: Pedals) -> Flood {
        let (stop, sent) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let (until, count) = (Arc::clone(&stop), Arc::clone(&sent));
        let sender = std::thread::spawn(move || {
            let lines = "abc\n".repeat(1000);
            while !until.load(Ordering::SeqCst) {
                match pedals.send_some(lines.as_bytes()) {
                    Ok(sent) => drop(count.fetch_add(sent as u64, Ordering::SeqCst)),
                    Err(error) if error.kind() == ErrorKind::WouldBlock => yield_now(),
                    Err(error) => panic!("the port is open: {error}"),
                }
            }
        });
        Flood { stop, sent, sender: Some(sender) }
    }

    /// Waits until this number of further bytes was taken from the port.
    fn wait_for(&self, bytes: u64) {
        let before = self.sent.load(Ordering::SeqCst);
        wait_until("the port to be read", || self.sent.load(Ordering::SeqCst) >= before + bytes);
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
    let mut desk = Desk::set_up();
    let port = desk.display.folder().join("drill");
    let pedals = Pedals::plug_in(Some(&port)).expect("there is a pseudo-terminal");
    let rules = format!(
        "device drill = serial \"{}\" at 115200\n{FIRES}let n = 0\n{of_lines}",
        port.display()
    );
    let child = start(&desk.display, &rules);
    wait_for_work(&desk.display);
    let flood = Flood::from(pedals);
    flood.wait_for(100_000);
    desk.expect_keys_at_once();
    flood.wait_for(100_000);
    let memory = memory(&child);
    assert!(memory <= MOST_MEMORY, "{memory} KiB");
    desk.expect_panic();
    drop(flood);
    expect_end(child);
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
