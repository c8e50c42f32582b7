//! The kernel desk held to the contract of all desks.

use lantern_backend::Backend;
use lantern_evdev::{DeviceSelection, EvdevBackend};
use lantern_model::{Event, GrabSet, Key, KeyGrab, Modifier, ModifierSet, Time};
use lantern_stage::{Console, VirtualDevices};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::clauses::{self, Bench};

const SCREEN: (i32, i32) = (1280, 800);

struct Kernel {
    backend: EvdevBackend,
    boards: VirtualDevices,
    console: Console,
}

impl Kernel {
    fn new() -> Kernel {
        let boards = VirtualDevices::plug_in("Contract");
        let only = vec!["Contract".to_owned()];
        let choice = DeviceSelection { only, screen: Some(SCREEN), ..DeviceSelection::default() };
        let backend = EvdevBackend::open(choice).expect("the machine has input");
        let mut bench = Kernel { backend, boards, console: Console::open(SCREEN) };
        // The panic combination is always armed, and so the keyboard is always taken.
        let escape = Key::named("escape").expect("there is one");
        let families = [Modifier::Ctrl, Modifier::Alt, Modifier::Shift];
        let families = families.into_iter().fold(ModifierSet::NONE, ModifierSet::with);
        let (further, sides, follow, waits) = (false, false, true, false);
        let keys = vec![KeyGrab {
            key: escape,
            modifiers: families,
            any_extra_modifiers: further,
            side_specific: sides,
            report_release: follow,
            synchronous: waits,
        }];
        let armed = GrabSet { keys, panic: Some((escape, families)), ..GrabSet::default() };
        bench.backend.set_grabs(armed).expect("it is there");
        bench.events();
        bench.console.clear();
        bench
    }
}

impl Bench for Kernel {
    fn backend(&mut self) -> &mut dyn Backend {
        &mut self.backend
    }

    fn press(&mut self, key: Key) {
        self.boards.key(key, true);
    }

    fn release(&mut self, key: Key) {
        self.boards.key(key, false);
    }

    fn events(&mut self) -> Vec<Event> {
        let mut events = Vec::new();
        loop {
            while let Some(event) = self.backend.poll_event(Time::START).expect("it is there") {
                events.push(event);
            }
            // The kernel hands an event to its readers within the write of it, so that nothing is on
            // its way.
            let fd = self.backend.descriptor().expect("it has one");
            let mut fds = [PollFd::new(&fd, PollFlags::IN)];
            if poll(&mut fds, Some(&Timespec::default())).expect("waiting works") == 0 {
                events.retain(|event| !matches!(event, Event::Layout(_) | Event::Screens(_)));
                return events;
            }
        }
    }

    fn received(&mut self) -> Vec<String> {
        // What the person did goes through the desk first.
        let kept = self.events();
        assert!(kept.is_empty(), "{kept:?} came late");
        self.console.read_all();
        self.console.take_words()
    }

    fn keys_down(&mut self) -> Vec<Key> {
        self.events();
        self.console.read_all();
        self.console.keys_down()
    }

    fn pointer(&mut self) -> (i32, i32) {
        self.console.read_all();
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
