//! The simulated back end.

use lantern_backend::{Backend, OutputKind, SimulatedBackend};
use lantern_model::{Event, Key, KeyKind, Layout, ModifierKey, Time};

use crate::clauses::Bench;

struct Simulated {
    backend: SimulatedBackend,
    read: usize,
}

impl Simulated {
    fn new() -> Simulated {
        let mut backend = SimulatedBackend::new(Layout::us());
        backend.open("corelog");
        let mut bench = Simulated { backend, read: 0 };
        bench.events();
        bench
    }
}

impl Bench for Simulated {
    fn backend(&mut self) -> &mut dyn Backend {
        &mut self.backend
    }

    fn press(&mut self, key: Key) {
        self.backend.press(Time::START, key);
    }

    fn release(&mut self, key: Key) {
        self.backend.release(key);
    }

    fn events(&mut self) -> Vec<Event> {
        let next = || self.backend.poll_event(Time::START).expect("it never goes away");
        std::iter::from_fn(next)
            .filter(|event| {
                !matches!(
                    event,
                    Event::Layout(_) | Event::Focus(_) | Event::Screens(_) | Event::WindowOpened(_)
                )
            })
            .collect()
    }

    fn received(&mut self) -> Vec<String> {
        let fresh = &self.backend.outputs()[self.read..];
        let received = fresh.iter().filter_map(|output| match &output.what {
            OutputKind::Typed(text) => Some(text.clone()),
            OutputKind::Tapped(keys) => {
                let names = keys.iter().map(|key| match ModifierKey::of(*key) {
                    Some(side) => side.modifier(false).word(),
                    None => key.name(),
                });
                Some(names.collect::<Vec<_>>().join("+"))
            }
            OutputKind::Pressed(key) if key.kind() != KeyKind::Modifier => Some(key.to_string()),
            _ => None,
        });
        let received = received.collect();
        self.read = self.backend.outputs().len();
        received
    }

    fn keys_down(&mut self) -> Vec<Key> {
        self.backend.held_keys().into_iter().collect()
    }

    fn pointer(&mut self) -> (i32, i32) {
        self.backend.pointer()
    }
}

crate::hold_to_the_contract!(Simulated::new());

#[test]
fn text_and_keys_come_together_in_the_field_of_the_program() {
    let mut bench = Simulated::new();
    for name in ["h", "i", "backspace", "space"] {
        let key = Key::named(name).expect("there is one");
        bench.press(key);
        bench.release(key);
    }
    assert_eq!(bench.backend.field("corelog"), "h ");
    bench.backend.open("saw");
    assert_eq!((bench.backend.field("saw"), bench.backend.is_open("drill")), ("", false));
}
