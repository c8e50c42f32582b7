//! One serial port: bytes in, bytes out, and looked for again when it was unplugged.

use std::fs::OpenOptions;
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};

use lantern_model::{ConnectionState, Event};
use rustix::fs::{FlockOperation, OFlags, flock};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};
use tokio::net::unix::pipe::{Receiver, Sender};
use tokio::sync::mpsc::UnboundedReceiver;

use super::{BackOff, DeviceRequest, LinkError, Outcome, TaskContext};

/// Maximum number of bytes that become one event. The event loop looks for keys after each, and the
/// lines of one are matched within a few milliseconds also where 300 rules want them.
const PIECE: usize = 512;

/// An open port: what comes from it, and what goes to it. To the runtime both are ends of a pipe.
struct OpenPort {
    from: Receiver,
    to: Sender,
}

impl OpenPort {
    /// The next bytes, at least one.
    async fn read(&self, piece: &mut [u8]) -> io::Result<usize> {
        loop {
            self.from.readable().await?;
            match self.from.try_read(piece) {
                Ok(0) => return Err(io::ErrorKind::NotFound.into()),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                other => return other.map_err(unplugged),
            }
        }
    }

    async fn write(&self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            self.to.writable().await?;
            match self.to.try_write(bytes) {
                Ok(written) => bytes = &bytes[written..],
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                Err(error) => return Err(unplugged(error)),
            }
        }
        Ok(())
    }
}

/// Speaks with a port as long as the rules have it.
pub(super) async fn serve(
    context: TaskContext,
    port: String,
    speed: u32,
    mut jobs: UnboundedReceiver<DeviceRequest>,
) {
    let mut back_off = BackOff::default();
    loop {
        let error = match open(&port, speed) {
            Ok(opened) => {
                back_off.reset();
                context.say(ConnectionState::Open).await;
                match converse(&context, &port, &opened, &mut jobs).await {
                    Some(error) => error,
                    None => return,
                }
            }
            Err(error) => error,
        };
        let why = error.line();
        context.say(ConnectionState::Down(why.clone())).await;
        let mut rest = std::pin::pin!(back_off.rest());
        loop {
            tokio::select! {
                () = &mut rest => break,
                job = jobs.recv() => match job {
                    Some(job) => {
                        context.tell.outcome(job.effect, Err(LinkError::Away(why.clone())));
                    }
                    None => return,
                },
            }
        }
    }
}

/// Works until the port fails; returns nothing when the port is no longer wanted.
async fn converse(
    context: &TaskContext,
    port: &str,
    opened: &OpenPort,
    jobs: &mut UnboundedReceiver<DeviceRequest>,
) -> Option<LinkError> {
    let mut piece = [0; PIECE];
    loop {
        tokio::select! {
            read = opened.read(&mut piece) => match read {
                Ok(length) => {
                    let bytes = piece[..length].to_vec();
                    let device = context.device.to_string();
                    context.events.send(Event::Bytes { device, bytes }).await;
                }
                Err(error) => return Some(broken(port, error)),
            },
            job = jobs.recv() => {
                let job = job?;
                let outcome = job.within(send(port, opened, job.word(0))).await;
                context.tell.outcome(job.effect, outcome);
            }
        }
    }
}

async fn send(port: &str, opened: &OpenPort, text: &str) -> Outcome {
    let sent = opened.write(text.as_bytes()).await;
    sent.map(|()| None).map_err(|error| broken(port, error))
}

fn broken(port: &str, source: io::Error) -> LinkError {
    let port = port.to_owned();
    match source.kind() {
        io::ErrorKind::NotFound => LinkError::Unplugged { port },
        _ => LinkError::Port { port, source },
    }
}

/// A port that is pulled out gives an input error; what is meant is that it is not there.
fn unplugged(error: io::Error) -> io::Error {
    match rustix::io::Errno::from_io_error(&error) {
        Some(rustix::io::Errno::IO | rustix::io::Errno::NXIO) => io::ErrorKind::NotFound.into(),
        _ => error,
    }
}

/// Opens a port for us alone, byte for byte, at a speed in bits a second.
fn open(port: &str, speed: u32) -> Result<OpenPort, LinkError> {
    let named = |source: io::Error| match source.kind() {
        io::ErrorKind::PermissionDenied => {
            LinkError::NotAllowed { port: port.to_owned(), group: group_of(port) }
        }
        _ => broken(port, source),
    };
    let flags = (OFlags::NOCTTY | OFlags::NONBLOCK).bits() as i32;
    let metadata = std::fs::metadata(port).map_err(named)?;
    if !metadata.file_type().is_char_device() {
        return Err(LinkError::NotAPort { port: port.to_owned() });
    }
    let file =
        OpenOptions::new().read(true).write(true).custom_flags(flags).open(port).map_err(named)?;
    let in_use = |_| LinkError::InUse { port: port.to_owned() };
    flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(in_use)?;
    let system = |error: rustix::io::Errno| named(error.into());
    let mut termios =
        tcgetattr(&file).map_err(|_| LinkError::NotAPort { port: port.to_owned() })?;
    termios.make_raw();
    termios.set_speed(speed).map_err(system)?;
    tcsetattr(&file, OptionalActions::Now, &termios).map_err(system)?;
    let from = file.try_clone().and_then(Receiver::from_file_unchecked).map_err(named)?;
    Ok(OpenPort { from, to: Sender::from_file_unchecked(file).map_err(named)? })
}

/// The group that may open it, by its name.
fn group_of(port: &str) -> String {
    let number = std::fs::metadata(port).map_or(0, |metadata| metadata.gid()).to_string();
    let groups = std::fs::read_to_string("/etc/group").unwrap_or_default();
    let named = groups.lines().find_map(|line| {
        let mut parts = line.split(':');
        let name = parts.next()?;
        (parts.nth(1)? == number).then(|| name.to_owned())
    });
    named.unwrap_or(number)
}

/// Reads a port without writing to it, as `watch --raw` does: `ready` is called when it is open,
/// `seen` with each piece of data.
///
/// # Errors
/// When it cannot be opened, or breaks off.
pub fn read_port(
    port: &str,
    speed: u32,
    ready: impl FnOnce(),
    mut seen: impl FnMut(&[u8]),
) -> Result<(), LinkError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|source| broken(port, source))?;
    runtime.block_on(async {
        let opened = open(port, speed)?;
        ready();
        let mut piece = [0; PIECE];
        loop {
            let length = opened.read(&mut piece).await.map_err(|error| broken(port, error))?;
            seen(&piece[..length]);
        }
    })
}
