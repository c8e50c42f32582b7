//! Sleeping until something happens.
//!
//! The desk is asked for by itself. What calls now and then only stands behind one descriptor: the kernel
//! goes through every one that is waited for, at every press.

use std::io::Read as _;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::time::Duration;

use lantern_desk::Desk;
use rustix::event::{PollFd, PollFlags, Timespec, epoll, poll};

use super::Session;
use crate::failure::Failure;

/// What ended a wait, besides the desk and the clock.
#[derive(Default)]
pub(super) struct Woken {
    pub signal: bool,
    pub saved: bool,
    /// Whether the guardian has died.
    pub unguarded: bool,
    pub returned: bool,
    pub door: bool,
}

/// Who calls now and then.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Caller {
    Signals,
    SavedFiles,
    Guardian,
    Clock,
    Services,
    Door,
}

impl Caller {
    const ALL: [Caller; 6] = [
        Caller::Signals,
        Caller::SavedFiles,
        Caller::Guardian,
        Caller::Clock,
        Caller::Services,
        Caller::Door,
    ];
}

/// Everybody who calls now and then. Who closes what was watched is forgotten with that.
#[derive(Debug)]
pub(super) struct Callers(OwnedFd);

impl Callers {
    pub(super) fn new() -> Result<Callers, Failure> {
        epoll::create(epoll::CreateFlags::CLOEXEC).map(Callers).map_err(failed)
    }

    /// Waits for this one too, by what becomes readable when it calls.
    pub(super) fn watch(&self, caller: Caller, readable: impl AsFd) -> Result<(), Failure> {
        let number = epoll::EventData::new_u64(caller as u64);
        epoll::add(&self.0, readable, number, epoll::EventFlags::IN).map_err(failed)
    }

    /// Who calls now.
    fn calling(&self) -> Result<Vec<Caller>, Failure> {
        let mut room = [MaybeUninit::uninit(); Caller::ALL.len()];
        let now = Timespec { tv_sec: 0, tv_nsec: 0 };
        match epoll::wait(&self.0, &mut room, Some(&now)) {
            Ok((events, _)) => {
                let numbers = events.iter().map(|event| event.data.u64());
                Ok(numbers.filter_map(|at| Caller::ALL.get(at as usize).copied()).collect())
            }
            Err(rustix::io::Errno::INTR) => Ok(Vec::new()),
            Err(error) => Err(failed(error)),
        }
    }
}

impl<D: Desk> Session<'_, D> {
    /// Waits from now on for all who call now and then; the guardian and the wall clock as they come.
    pub(super) fn await_callers(&self) -> Result<(), Failure> {
        self.callers.watch(Caller::Signals, &self.signals)?;
        self.callers.watch(Caller::SavedFiles, &self.saved.inotify)?;
        self.callers.watch(Caller::Services, self.errands.bell())?;
        self.callers.watch(Caller::Door, self.place.door.listener())?;
        match &self.place.guarded {
            Some(guarded) => self.callers.watch(Caller::Guardian, guarded.descriptor()),
            None => Ok(()),
        }
    }

    /// Sleeps until something happens; only looks, if there is more to do at once.
    pub(super) fn wait(&mut self, sleep: bool) -> Result<Woken, Failure> {
        if let Some(guarded) = &mut self.place.guarded {
            guarded.sleep();
        }
        let timeout = if sleep { self.next_due() } else { Some(Duration::ZERO) }.map(timespec);
        let desk = self.desk.descriptor();
        let mut fds = vec![PollFd::new(&self.callers.0, PollFlags::IN)];
        fds.extend(desk.as_ref().map(|fd| PollFd::new(fd, PollFlags::IN)));
        let first_program = fds.len();
        let programs: Vec<BorrowedFd<'_>> = self.errands.endings().collect();
        fds.extend(programs.iter().map(|fd| PollFd::new(fd, PollFlags::IN)));
        let first_client = fds.len();
        let clients: Vec<_> = self.place.door.clients().collect();
        fds.extend(clients.iter().map(|(fd, events)| PollFd::new(fd, *events)));
        let polled = poll(&mut fds, timeout.as_ref());
        if let Some(guarded) = &mut self.place.guarded {
            guarded.wake();
        }
        match polled {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(failed(error)),
        }
        let ready = |fd: &PollFd<'_>| !fd.revents().is_empty();
        let mut woken = Woken {
            returned: fds[first_program..first_client].iter().any(ready),
            door: fds[first_client..].iter().any(ready),
            ..Woken::default()
        };
        if ready(&fds[0]) {
            for caller in self.callers.calling()? {
                match caller {
                    Caller::Signals => woken.signal = true,
                    Caller::SavedFiles => woken.saved = true,
                    Caller::Guardian => woken.unguarded = true,
                    Caller::Services => woken.returned = true,
                    Caller::Door => woken.door = true,
                    // It says nothing but that the clock was set; the loop looks at it each time round.
                    Caller::Clock => {
                        let clock = self.clock_set.as_ref();
                        let _ = clock.map(|clock| rustix::io::read(clock, &mut [0; 8]));
                    }
                }
            }
        }
        if woken.signal {
            let _ = self.signals.read(&mut [0; 16]);
        }
        Ok(woken)
    }

    /// How long until something is due; nothing if nothing will be.
    fn next_due(&self) -> Option<Duration> {
        let own = [self.engine.next_deadline(), self.desk.next_deadline()];
        let read_due = self.read_due.map(|(_, due)| due);
        let deadlines = own.into_iter().chain([self.heartbeat.next_deadline(), read_due]);
        let pauses = self.pauses.iter().map(|pause| pause.until);
        deadlines.flatten().chain(pauses).min().map(|due| due.since(self.now()))
    }
}

fn failed(source: rustix::io::Errno) -> Failure {
    Failure::System { what: "cannot wait for events", source: source.into() }
}

fn timespec(span: Duration) -> Timespec {
    Timespec {
        tv_sec: i64::try_from(span.as_secs()).unwrap_or(i64::MAX),
        tv_nsec: span.subsec_nanos().into(),
    }
}
