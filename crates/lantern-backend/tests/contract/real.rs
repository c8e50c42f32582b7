//! The X11 back end, on a server of its own with a bare window in front.

use lantern_backend::{Backend, BackendError, HeldKeyReader, HeldKeyWriter};
use lantern_model::{
    EffectId, Event, InputAction, InputBatch, Key, KeyKind, Layout, ModifierKey, Refusal,
    ShiftLevel, Time,
};
use lantern_stage::{Display, Person, ReceivedKey, Target};
use lantern_x11::{X11Backend, release_held};

use crate::clauses::Bench;

pub struct Real {
    backend: X11Backend,
    pub target: Target,
    person: Person,
    pub display: Display,
}

impl Real {
    pub fn new() -> Real {
        let display = Display::start("us");
        let person = Person::sit_down(&display);
        let target = Target::open(&display);
        let held = HeldKeyWriter::open(&display.folder().join("held")).expect("it can be made");
        let backend =
            X11Backend::open_on(Some(display.name()), held).expect("the display is there");
        let mut bench = Real { backend, target, person, display };
        bench.events();
        bench
    }

    /// Waits until the server has done what the back end asked: any answer to the back end comes after that.
    pub fn settle(&self) {
        self.backend.tells_programs().expect("it is there");
    }
}

impl Bench for Real {
    fn backend(&mut self) -> &mut dyn Backend {
        &mut self.backend
    }

    fn press(&mut self, key: Key) {
        self.settle();
        self.person.press(key.name());
    }

    fn release(&mut self, key: Key) {
        self.settle();
        self.person.release(key.name());
    }

    fn events(&mut self) -> Vec<Event> {
        let mut events = Vec::new();
        // What the back end asks for in its answer to an event may send it further events.
        let mut quiet_rounds = 0;
        while quiet_rounds < 2 {
            // The server answers after it has done what both asked, and what came of it is sent by then.
            self.person.wait_for_server();
            self.settle();
            let known = events.len();
            while let Some(event) = self.backend.poll_event(Time::START).expect("it is there") {
                events.push(event);
            }
            quiet_rounds = if events.len() == known { quiet_rounds + 1 } else { 0 };
        }
        let is_of_keys = |event: &Event| {
            let others = matches!(event, Event::Layout(_) | Event::Screens(_));
            !others && !matches!(event, Event::Focus(_) | Event::WindowOpened(_))
        };
        events.retain(is_of_keys);
        events
    }

    fn received(&mut self) -> Vec<String> {
        let presses = self.target.take_all().into_iter().filter(|got| got.down && !got.button);
        presses.filter_map(|got| words(&got)).collect()
    }

    fn keys_down(&mut self) -> Vec<Key> {
        let codes = self.person.keys_down();
        let mut keys: Vec<Key> =
            codes.iter().filter_map(|code| Key::from_kernel(u16::from(*code) - 8)).collect();
        keys.sort();
        keys
    }

    fn pointer(&mut self) -> (i32, i32) {
        let (x, y) = self.person.pointer();
        (x.into(), y.into())
    }
}

/// A press as a program sees it: the character, or the key with its modifiers.
fn words(got: &ReceivedKey) -> Option<String> {
    let key = Key::from_kernel(u16::from(got.detail) - 8)?;
    if key.kind() == KeyKind::Modifier {
        return None;
    }
    let shift = got.state & 1 != 0;
    let others: Vec<&str> = [(4, "ctrl"), (8, "alt"), (64, "super")]
        .into_iter()
        .filter_map(|(mask, word)| (got.state & mask != 0).then_some(word))
        .collect();
    if others.is_empty()
        && let Some(character) =
            Layout::us().group().character(key, ShiftLevel::from_modifiers(shift, false))
    {
        return Some(character.to_string());
    }
    let shift = shift.then_some("shift");
    let names = shift.into_iter().chain(others).chain([key.name()]);
    Some(names.collect::<Vec<_>>().join("+"))
}

crate::hold_to_the_contract!(Real::new());

#[test]
fn a_lifted_alt_or_super_is_never_seen_pressed_alone() {
    let mut bench = Real::new();
    for name in ["left-alt", "left-super"] {
        bench.press(Key::named(name).expect("there is one"));
        let step = InputBatch {
            actions: vec![InputAction::Text("b".into())],
            suspend_modifiers: true,
            ..InputBatch::default()
        };
        bench.backend.send_input(Time::START, EffectId(1), &step).expect("it is there");
        bench.release(Key::named(name).expect("there is one"));
        bench.events();
        let got = bench.target.take_all();
        let own = ModifierKey::ALL.map(|side| side.key().kernel().expect("it has one") as u8 + 8);
        for pair in got.windows(2) {
            let alone = pair[0].down && !pair[1].down && pair[0].detail == pair[1].detail;
            assert!(!(alone && own.contains(&pair[0].detail)), "{name}: {got:?}");
        }
        assert!(bench.keys_down().is_empty());
    }
}

#[test]
fn characters_the_layout_lacks_are_typed_and_the_map_is_put_back() {
    let mut bench = Real::new();
    let many: String = ('а'..='я').chain("éß−°".chars()).collect();
    let step = InputBatch {
        actions: vec![InputAction::Text(many.clone())],
        suspend_modifiers: true,
        ..InputBatch::default()
    };
    bench.backend.send_input(Time::START, EffectId(1), &step).expect("it is there");
    let mut now = Time::START;
    let mut done = false;
    while let Some(due) = bench.backend.next_deadline() {
        now = due;
        bench.backend.handle_deadline(now).expect("it is there");
        done |= bench
            .events()
            .iter()
            .any(|event| matches!(event, Event::Outcome { result: Ok(_), .. }));
    }
    assert!(done, "the step has its outcome");
    // Some are a second level of their keycode, or a third: shift and the third-level key go along.
    const LEVEL_KEYS: [u8; 2] = [50, 92];
    let of_text = |got: &ReceivedKey| got.down && !LEVEL_KEYS.contains(&got.detail);
    let presses = bench.target.take_all().into_iter().filter(of_text).count();
    assert_eq!(presses, many.chars().count());
    let held = HeldKeyReader::open(&bench.display.folder().join("held")).expect("it is there");
    let marks = held.marks().expect("it is whole");
    assert_eq!((marks.keycodes.len(), marks.lent.len()), (0, 0), "at {now}");
}

#[test]
fn what_a_dead_process_left_down_is_let_go() {
    let bench = Real::new();
    let path = bench.display.folder().join("left");
    let mut held = HeldKeyWriter::open(&path).expect("it can be made");
    held.mark_key(38, true);
    held.mark_button(1, true);
    let mut other = Real { backend: bench.backend, ..bench };
    let acts =
        ["a", "left-button"].map(|name| InputAction::Down(Key::named(name).expect("there is one")));
    let step = InputBatch { actions: acts.to_vec(), ..InputBatch::default() };
    other.backend.send_input(Time::START, EffectId(1), &step).expect("it is there");
    other.events();
    assert!(other.person.buttons_down() && !other.keys_down().is_empty());
    let held = HeldKeyReader::open(&path).expect("it is there");
    release_held(Some(other.display.name()), &held).expect("the display is there");
    assert!(!other.person.buttons_down() && other.keys_down().is_empty());
}

#[test]
fn a_display_that_is_not_there_is_named_with_advice() {
    let folder = Display::start("us");
    let held = || HeldKeyWriter::open(&folder.folder().join("held")).expect("it can be made");
    let error = X11Backend::open_on(Some(":9999"), held()).expect_err("there is none");
    assert!(
        matches!(error, BackendError::Unreachable { .. }) && error.to_string().contains(":9999")
    );
    let error = X11Backend::open_on(Some(""), held()).expect_err("none is named");
    assert!(matches!(error, BackendError::NoDisplay) && error.hint().contains("DISPLAY"));
}

#[test]
fn the_layouts_of_the_server_are_read_as_they_are() {
    let cases = [
        ("us", 'y', "y", ShiftLevel::Plain, false),
        ("de", 'y', "z", ShiftLevel::Plain, true),
        ("de", '@', "q", ShiftLevel::Third, true),
        ("fr", '1', "1", ShiftLevel::Shift, true),
        ("us -variant intl", 'é', "e", ShiftLevel::Third, true),
        ("us -variant intl", '\'', "quote", ShiftLevel::Third, true),
    ];
    for (name, character, key, level, third) in cases {
        let display = Display::start(name);
        let held = HeldKeyWriter::open(&display.folder().join("held")).expect("it can be made");
        let mut backend = X11Backend::open_on(Some(display.name()), held).expect("it is there");
        let layout = std::iter::from_fn(|| backend.poll_event(Time::START).expect("it is there"))
            .find_map(|event| match event {
                Event::Layout(layout) => Some(layout),
                _ => None,
            })
            .expect("the layout is reported");
        let key = Key::named(key).expect("there is one");
        assert_eq!(
            layout.group().key_for(character),
            Some((key, level)),
            "{character} under {name}"
        );
        assert_eq!(layout.alt_gr_is_level3, third, "{name}");
        assert_eq!(layout.last_kernel_code, 247);
        for letter in ('a'..='z').chain('A'..='Z').chain('0'..='9') {
            assert!(layout.group().key_for(letter).is_some(), "{letter} under {name}");
        }
    }
}

#[test]
fn keys_that_somebody_else_holds_are_refused_whoever_it_is() {
    use lantern_model::{GrabSet, KeyGrab, ModifierSet};
    let mut bench = Real::new();
    let held = HeldKeyWriter::open(&bench.display.folder().join("other")).expect("it can be made");
    let mut other = X11Backend::open_on(Some(bench.display.name()), held).expect("it is there");
    let armed = |name: &str| KeyGrab {
        any_extra_modifiers: false,
        key: Key::named(name).expect("there is one"),
        modifiers: ModifierSet::NONE,
        side_specific: false,
        report_release: false,
        synchronous: false,
    };
    let arm = |backend: &mut X11Backend, names: &[&str]| {
        let keys = names.iter().map(|name| armed(name)).collect();
        backend.set_grabs(GrabSet { keys, ..GrabSet::default() }).expect("it is there");
    };
    arm(&mut other, &["f9"]);
    arm(&mut bench.backend, &["f9", "f10", "mic-mute"]);
    let refused = bench.events().into_iter().find_map(|event| match event {
        Event::GrabsRefused(keys) => Some(keys),
        _ => None,
    });
    let refused = refused.expect("two of them cannot be had");
    let told: Vec<_> = refused.iter().map(|(armed, why)| (armed.key.name(), *why)).collect();
    assert_eq!(told, [("mic-mute", Refusal::NotOnKeyboard), ("f9", Refusal::HeldByOther)]);
    bench.press(Key::named("f10").expect("there is one"));
    assert_eq!(bench.events().len(), 1, "the rest works");
}
