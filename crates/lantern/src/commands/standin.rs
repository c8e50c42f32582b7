//! `lantern standin`: this program as a small device, until it is stopped.

use std::io::{Read, stdin};
use std::os::fd::AsFd;
use std::thread;
use std::time::Duration;

use lantern_net::{Pedals, serve_fans};
use rustix::event::{PollFd, PollFlags, poll};

use crate::arguments::{FansArguments, PedalsArguments, StandinCommand};
use crate::failure::{Failure, Status};
use crate::output::{complain, say};
use crate::signals;
use crate::style;

/// From one line of a bouncing contact to the next.
const BOUNCING: Duration = Duration::from_millis(3);

pub fn run(command: StandinCommand) -> Result<Status, Failure> {
    match command {
        StandinCommand::Fans(arguments) => fans(arguments),
        StandinCommand::Pedals(arguments) => pedals(&arguments),
    }
}

fn fans(arguments: FansArguments) -> Result<Status, Failure> {
    let mut signals = signals::endings()?;
    thread::spawn(move || {
        // However it ends, the signal was read.
        let _ = signals.read(&mut [0; 16]);
        std::process::exit(0);
    });
    let ready = |address| {
        complain!("{}the fans are at http://{address}; Ctrl+C ends it{0:#}", style::FAINT);
    };
    serve_fans(arguments.port, &arguments.zones, ready, |change| say!("{change}"))
        .map_err(|source| Failure::System { what: "cannot be the fans", source })?;
    Ok(Status::Done)
}

fn pedals(arguments: &PedalsArguments) -> Result<Status, Failure> {
    let failed = |source| Failure::System { what: "cannot be a pedal board", source };
    let signals = signals::endings()?;
    let mut pedals = Some(plug(arguments)?);
    let (mut input, mut typed) = (stdin().lock(), Vec::new());
    let mut listens = true;
    loop {
        let sent = pedals.as_ref().map(|pedals| pedals.descriptor());
        let mut fds = vec![PollFd::new(signals, PollFlags::IN)];
        let watched = stdin();
        if listens {
            fds.push(PollFd::from_borrowed_fd(watched.as_fd(), PollFlags::IN));
        }
        if let Some(sent) = sent {
            fds.push(PollFd::from_borrowed_fd(sent, PollFlags::IN));
        }
        match poll(&mut fds, None) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(failed(error.into())),
        }
        let ready = |at: usize| fds.get(at).is_some_and(|fd| !fd.revents().is_empty());
        let (ended, spoke) = (ready(0), listens && ready(1));
        let lamps = ready(1 + usize::from(listens));
        drop(fds);
        if ended {
            return Ok(Status::Done);
        }
        if let (true, Some(pedals)) = (lamps, &pedals) {
            for line in pedals.take_sent() {
                say!("{}was sent{0:#} {line}", style::CAME_IN);
            }
        }
        if spoke {
            let mut piece = [0; 4096];
            let length = input.read(&mut piece).map_err(failed)?;
            listens = length > 0;
            typed.extend_from_slice(&piece[..length]);
            while let Some(end) = typed.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = typed.drain(..=end).collect();
                obey(String::from_utf8_lossy(&line).trim(), &mut pedals, arguments)?;
            }
        }
    }
}

/// One line of what the board is to do.
fn obey(
    line: &str,
    pedals: &mut Option<Pedals>,
    arguments: &PedalsArguments,
) -> Result<(), Failure> {
    let failed = |source| Failure::System { what: "cannot press a pedal", source };
    let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
    match (word, &pedals) {
        ("", _) => {}
        ("unplug", _) => *pedals = None,
        ("plug", None) => *pedals = Some(plug(arguments)?),
        ("plug", Some(_)) => complain!("it is plugged in already"),
        (_, None) => complain!("the board is pulled out; `plug` puts it back"),
        ("wait", _) => thread::sleep(Duration::from_millis(rest.parse().unwrap_or(100))),
        ("raw", Some(pedals)) => {
            let text = rest.replace("\\r", "\r").replace("\\n", "\n");
            pedals.send(text.as_bytes()).map_err(failed)?;
        }
        (_, Some(pedals)) => {
            for time in 0..arguments.bounce.max(1) {
                if time > 0 {
                    thread::sleep(BOUNCING);
                }
                pedals.send(format!("{line}\r\n").as_bytes()).map_err(failed)?;
            }
            say!("pressed {line}");
        }
    }
    Ok(())
}

fn plug(arguments: &PedalsArguments) -> Result<Pedals, Failure> {
    let failed = |source| Failure::System { what: "cannot be a pedal board", source };
    let pedals = Pedals::plug_in(arguments.link.as_deref()).map_err(failed)?;
    let path = arguments.link.as_deref().unwrap_or(pedals.path()).display();
    complain!("{}the pedals are at {path}; Ctrl+C ends it{0:#}", style::FAINT);
    Ok(pedals)
}
