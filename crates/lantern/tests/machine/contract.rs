//! The kernel desk held to the contract of all desks.

use std::time::Duration;

use lantern_desk::{BoardChoice, Desk, EvdevDesk};
use lantern_model::{Armed, ArmedKey, Event, Families, Family, Key, Time};
use lantern_stage::{Boards, Console};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::clauses::{self, Bench};

/// Long enough that what was on its way has come.
const QUIET: Duration = Duration::from_millis(60);
const SCREEN: (i32, i32) = (1280, 800);

struct Kernel {
    desk: EvdevDesk,
    boards: Boards,
    console: Console,
}

impl Kernel {
    fn new() -> Kernel {
        let boards = Boards::plug_in("Contract");
        let only = vec!["Contract".to_owned()];
        let choice = BoardChoice { only, screen: Some(SCREEN), ..BoardChoice::default() };
        let desk = EvdevDesk::open(choice).expect("the machine has input");
        let mut bench = Kernel { desk, boards, console: Console::open(SCREEN) };
        // The panic combination is always armed, and so the keyboard is always taken.
        let escape = Key::named("escape").expect("there is one");
        let families = [Family::Ctrl, Family::Alt, Family::Shift];
        let families = families.into_iter().fold(Families::NONE, Families::with);
        let (further, sides, follow, waits) = (false, false, true, false);
        let keys = vec![ArmedKey { key: escape, families, further, sides, follow, waits }];
        let armed = Armed { keys, panic: Some((escape, families)), ..Armed::default() };
        bench.desk.arm(armed).expect("it is there");
        bench.events();
        bench.console.rest(QUIET);
        bench.console.clear();
        bench
    }
}

impl Bench for Kernel {
    fn desk(&mut self) -> &mut dyn Desk {
        &mut self.desk
    }

    fn press(&mut self, key: Key) {
        self.boards.key(key, true);
        // The desk decides in the order in which things happen.
        std::thread::sleep(Duration::from_millis(5));
    }

    fn release(&mut self, key: Key) {
        self.boards.key(key, false);
        std::thread::sleep(Duration::from_millis(5));
    }

    fn events(&mut self) -> Vec<Event> {
        let mut events = Vec::new();
        loop {
            while let Some(event) = self.desk.poll_event(Time::START).expect("it is there") {
                events.push(event);
            }
            let limit = Timespec { tv_sec: 0, tv_nsec: QUIET.as_nanos() as i64 };
            let fd = self.desk.descriptor().expect("it has one");
            let mut fds = [PollFd::new(&fd, PollFlags::IN)];
            if poll(&mut fds, Some(&limit)).expect("waiting works") == 0 {
                events.retain(|event| !matches!(event, Event::Layout(_) | Event::Screens(_)));
                return events;
            }
        }
    }

    fn received(&mut self) -> Vec<String> {
        // What the person did goes through the desk first.
        let kept = self.events();
        assert!(kept.is_empty(), "{kept:?} came late");
        self.console.rest(QUIET);
        self.console.take_words()
    }

    fn keys_down(&mut self) -> Vec<Key> {
        self.events();
        self.console.rest(QUIET);
        self.console.keys_down()
    }

    fn pointer(&mut self) -> (i32, i32) {
        self.console.rest(QUIET);
        self.console.pointer()
    }
}

/// A test of every clause.
macro_rules! hold_to_the_contract {
    (; $($clause:ident)*) => {
        $(pub fn $clause() {
            clauses::$clause(&mut Kernel::new());
        })*
    };
}

clauses::with_clauses! { hold_to_the_contract; }
