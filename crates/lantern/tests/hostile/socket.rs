//! Clients of the control socket that ask too often, never ask, or never read.

use std::fs::Permissions;
use std::io::{BufRead, BufReader, ErrorKind, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::{JoinHandle, yield_now};
use std::time::Duration;

use lantern_stage::{Display, pass_time, wait_until};

use super::receiver::{FIRES, TestDesktop};
use crate::running::{Running, lantern};

/// Number of clients in a storm.
const CLIENTS: usize = 8;

fn folder(display: &Display) -> PathBuf {
    display.folder().join("cold-lantern")
}

fn connect(folder: &Path) -> UnixStream {
    let files = std::fs::read_dir(folder).expect("it is there").flatten();
    let mut sockets = files.filter(|file| file.file_name().to_string_lossy().starts_with("socket"));
    let socket = sockets.next().expect("it is there");
    UnixStream::connect(socket.path()).expect("it takes clients")
}

/// Clients that send the same line again and again and read every answer.
struct Storm {
    stop: Arc<AtomicBool>,
    sent: Arc<AtomicU64>,
    clients: Vec<JoinHandle<()>>,
}

impl Storm {
    fn of(folder: &Path, line: &str) -> Storm {
        let (stop, sent) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let clients = (0..CLIENTS).map(|_| {
            let stream = connect(folder);
            stream.set_nonblocking(true).expect("it is a socket");
            let (stop, sent, lines) = (Arc::clone(&stop), Arc::clone(&sent), line.repeat(50));
            std::thread::spawn(move || ask(stream, &lines, &stop, &sent))
        });
        Storm { clients: clients.collect(), stop, sent }
    }

    /// Waits until this number of further bytes was taken.
    fn wait_for(&self, bytes: u64) {
        let before = self.sent.load(Ordering::SeqCst);
        wait_until("requests to be taken", || self.sent.load(Ordering::SeqCst) >= before + bytes);
    }

    fn end(self) {
        self.stop.store(true, Ordering::SeqCst);
        for client in self.clients {
            client.join().expect("every client stays connected");
        }
    }
}

fn ask(mut stream: UnixStream, lines: &str, stop: &AtomicBool, sent: &AtomicU64) {
    let mut answers = vec![0; 64 * 1024];
    let mut rest = lines.as_bytes();
    while !stop.load(Ordering::SeqCst) {
        if rest.is_empty() {
            rest = lines.as_bytes();
        }
        let mut is_idle = true;
        match stream.write(rest) {
            Ok(count) => {
                rest = &rest[count..];
                sent.fetch_add(count as u64, Ordering::SeqCst);
                is_idle = false;
            }
            Err(error) => assert_eq!(error.kind(), ErrorKind::WouldBlock),
        }
        match stream.read(&mut answers) {
            Ok(count) => {
                assert_ne!(count, 0, "it was disconnected");
                is_idle = false;
            }
            Err(error) => assert_eq!(error.kind(), ErrorKind::WouldBlock),
        }
        if is_idle {
            yield_now();
        }
    }
}

fn request(method: &str) -> String {
    format!("{{\"jsonrpc\":\"2.0\",\"id\":1,\"method\":\"{method}\"}}\n")
}

#[test]
fn x11_clients_that_ask_without_a_pause_delay_no_key() {
    let mut desk = TestDesktop::set_up();
    let running = Running::start(&desk.display, FIRES);
    let lines = ["status", "why", "version", "reload", "none"].map(request);
    let empty = "\n".repeat(1000);
    for line in lines.iter().chain([&empty]) {
        let storm = Storm::of(&folder(&desk.display), line);
        storm.wait_for(10_000);
        desk.expect_keys_at_once(running.child.id());
        storm.wait_for(10_000);
        storm.end();
    }
    let storm = Storm::of(&folder(&desk.display), &request("status"));
    storm.wait_for(10_000);
    desk.expect_panic();
    storm.end();
    running.stop();
}

#[test]
fn x11_clients_that_stay_do_not_keep_others_out() {
    let mut desk = TestDesktop::set_up();
    let running = Running::start(&desk.display, FIRES);
    let folder = folder(&desk.display);
    let idle: Vec<UnixStream> = (0..300).map(|_| connect(&folder)).collect();
    assert!(lantern(&desk.display, &["status"]).status.success());
    drop(idle);
    // Those who watch keep their places, but there are fewer of these.
    let mut watching = Vec::new();
    let mut refused = 0;
    for _ in 0..250 {
        let mut stream = connect(&folder);
        stream.write_all(request("watch").as_bytes()).expect("it is connected");
        let mut answer = String::new();
        let mut reader = BufReader::new(stream);
        reader.read_line(&mut answer).expect("it is answered");
        refused += usize::from(answer.contains("as many watch already"));
        watching.push(reader);
    }
    assert_eq!(refused, 250 - 192);
    assert!(lantern(&desk.display, &["resume"]).status.success());
    desk.expect_keys_at_once(running.child.id());
    desk.expect_panic();
    running.stop();
}

#[test]
fn x11_without_descriptors_for_clients_the_program_rests_and_takes_the_next() {
    let mut desk = TestDesktop::set_up();
    let running = Running::start_with(&desk.display, FIRES, |command| {
        let program = command.get_program().to_owned();
        let arguments: Vec<_> = command.get_args().map(ToOwned::to_owned).collect();
        let line = "ulimit -n 40; exec \"$0\" \"$@\"";
        let mut shell = desk.display.command("sh");
        shell.args(["-c", line]).arg(program).args(arguments);
        shell.stdout(Stdio::null()).stderr(Stdio::piped());
        *command = shell;
    });
    let folder = folder(&desk.display);
    let clients: Vec<UnixStream> = (0..60).map(|_| connect(&folder)).collect();
    desk.expect_keys_at_once(running.child.id());
    let before = running.processor_time();
    pass_time(Duration::from_secs(2));
    let used = running.processor_time() - before;
    assert!(used < Duration::from_millis(500), "{used:?} within 2 s");
    let answer = lantern(&desk.display, &["status"]);
    assert!(answer.status.success(), "{answer:?}");
    drop(clients);
    desk.expect_panic();
    running.stop();
}

#[test]
fn x11_a_folder_that_is_open_to_others_is_closed_and_no_link_in_it_is_followed() {
    let desk = TestDesktop::set_up();
    let folder = folder(&desk.display);
    std::fs::create_dir_all(&folder).expect("it is ours");
    std::fs::set_permissions(&folder, Permissions::from_mode(0o777)).expect("it is ours");
    Running::start(&desk.display, FIRES).stop();
    let mode = std::fs::metadata(&folder).expect("it is there").permissions().mode();
    assert_eq!(mode & 0o777, 0o700);
    let names: Vec<PathBuf> = std::fs::read_dir(&folder)
        .expect("it is there")
        .flatten()
        .map(|file| file.path())
        .filter(|path| path.is_file())
        .collect();
    assert!(!names.is_empty());
    let victim = desk.display.folder().join("cores.csv");
    for name in names {
        std::fs::write(&victim, "core 12").expect("it is ours");
        std::fs::remove_file(&name).expect("it is ours");
        std::os::unix::fs::symlink(&victim, &name).expect("it can be made");
        let file = desk.display.folder().join("bench.lantern");
        let file = file.to_str().expect("it is text");
        let output = lantern(&desk.display, &["run", file]);
        assert!(!output.status.success(), "{output:?}");
        assert_eq!(std::fs::read_to_string(&victim).expect("it is there"), "core 12");
        std::fs::remove_file(&name).expect("it is ours");
    }
}
