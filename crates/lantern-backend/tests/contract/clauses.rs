//! The clauses of the contract.

use lantern_backend::Backend;
use lantern_model::{
    EffectId, Event, GrabSet, HeldModifiers, InputAction, InputBatch, Key, KeyGrab, Modifier,
    ModifierKey, ModifierSet, ReplayKey, Time,
};

/// Gives a macro the names of all clauses, behind what else it takes.
macro_rules! with_clauses {
    ($($callback:ident)::+; $($before:tt)*) => {
        $($callback)::+! {
            $($before)*;
            an_armed_key_is_withheld_and_reported
            an_unarmed_key_reaches_the_program
            only_the_exact_modifiers_are_withheld
            a_release_is_reported_when_it_is_followed
            fingers_are_reported_when_asked_for
            fingers_that_are_down_already_are_reported
            a_tap_reaches_the_program_and_is_not_the_persons
            text_arrives_as_written
            the_persons_modifiers_are_out_of_the_way_and_put_back
            what_the_run_holds_stays_down
            what_others_hold_is_parked
            a_tapped_key_that_is_armed_reaches_the_program
            a_key_given_back_is_down_until_the_finger_leaves
            the_pointer_moves_by_and_to_pixels
            sides_are_told_apart_when_asked
            every_step_has_its_outcome
            while_one_key_waits_every_key_is_withheld_and_given_back_in_order
            a_tap_is_given_back_of_a_key_that_is_down_again
            a_key_may_become_another_as_long_as_it_is_down
            an_armed_button_is_withheld_and_reported
        }
    };
}
pub(crate) use with_clauses;

/// A back end with a program in front, and a person at its keyboard.
pub trait Bench {
    /// The back end.
    fn backend(&mut self) -> &mut dyn Backend;
    /// The person presses a key of the board.
    fn press(&mut self, key: Key);
    /// The person lets it go.
    fn release(&mut self, key: Key);
    /// Everything the back end reports until nothing more comes, but for layout and focus.
    fn events(&mut self) -> Vec<Event>;
    /// What the program in front got since the last time: each key or character as it sees it,
    /// with the modifiers it sees: `ctrl+a`.
    fn received(&mut self) -> Vec<String>;
    /// The keys the program in front believes to be down.
    fn keys_down(&mut self) -> Vec<Key>;
    /// Where the pointer is.
    fn pointer(&mut self) -> (i32, i32);
}

fn key(name: &str) -> Key {
    Key::named(name).unwrap_or_else(|| panic!("no key {name}"))
}

fn armed(name: &str, families: &[Modifier]) -> KeyGrab {
    let families = families.iter().fold(ModifierSet::NONE, |set, family| set.with(*family));
    let key = key(name);
    KeyGrab {
        key,
        modifiers: families,
        any_extra_modifiers: false,
        side_specific: false,
        report_release: false,
        synchronous: false,
    }
}

fn arm(bench: &mut dyn Bench, keys: &[KeyGrab], fingers: bool) {
    let armed = GrabSet { keys: keys.to_vec(), raw_keys: fingers, ..GrabSet::default() };
    bench.backend().set_grabs(armed).expect("the back end is there");
}

fn step(bench: &mut dyn Bench, step: InputBatch) {
    bench.backend().send_input(Time::START, EffectId(7), &step).expect("the back end is there");
    assert_eq!(outcomes(&bench.events()), 1, "a step has one outcome");
}

fn lifted(acts: Vec<InputAction>) -> InputBatch {
    InputBatch { actions: acts, suspend_modifiers: true, ..InputBatch::default() }
}

fn outcomes(events: &[Event]) -> usize {
    events.iter().filter(|event| matches!(event, Event::Outcome { result: Ok(_), .. })).count()
}

fn tap(names: &[&str]) -> InputAction {
    InputAction::Tap(names.iter().map(|name| key(name)).collect())
}

fn pressed(name: &str, sides: &[ModifierKey]) -> Event {
    Event::Pressed { key: key(name), modifiers: sides.iter().copied().collect::<HeldModifiers>() }
}

pub fn an_armed_key_is_withheld_and_reported(bench: &mut dyn Bench) {
    arm(bench, &[armed("f9", &[])], false);
    bench.press(key("f9"));
    assert_eq!(bench.events(), [pressed("f9", &[])]);
    bench.release(key("f9"));
    assert_eq!(bench.events(), []);
    assert_eq!(bench.received(), [""; 0]);
    arm(bench, &[], false);
    bench.press(key("f9"));
    bench.release(key("f9"));
    assert_eq!(bench.events(), []);
    assert_eq!(bench.received(), ["f9"]);
}

pub fn an_unarmed_key_reaches_the_program(bench: &mut dyn Bench) {
    arm(bench, &[armed("f9", &[])], false);
    bench.press(key("b"));
    bench.release(key("b"));
    assert_eq!(bench.events(), []);
    assert_eq!(bench.received(), ["b"]);
}

pub fn only_the_exact_modifiers_are_withheld(bench: &mut dyn Bench) {
    arm(bench, &[armed("f9", &[Modifier::Ctrl, Modifier::Shift])], false);
    for name in ["left-ctrl", "f9"] {
        bench.press(key(name));
    }
    bench.release(key("f9"));
    assert_eq!(bench.events(), []);
    assert_eq!(bench.received(), ["ctrl+f9"]);
    bench.press(key("right-shift"));
    bench.press(key("f9"));
    let events = bench.events();
    let Some(Event::Pressed { modifiers, .. }) = events.first() else { panic!("{events:?}") };
    let families: Vec<Modifier> = modifiers.modifiers(false).iter().collect();
    assert_eq!(families, [Modifier::Shift, Modifier::Ctrl]);
    for name in ["f9", "right-shift", "left-ctrl"] {
        bench.release(key(name));
    }
    assert_eq!(bench.received(), [""; 0]);
    assert_eq!(bench.keys_down(), []);
}

pub fn a_release_is_reported_when_it_is_followed(bench: &mut dyn Bench) {
    arm(bench, &[KeyGrab { report_release: true, ..armed("f9", &[]) }], false);
    bench.press(key("f9"));
    assert_eq!(bench.events(), [pressed("f9", &[])]);
    bench.release(key("f9"));
    assert_eq!(bench.events(), [Event::Released { key: key("f9") }]);
    assert_eq!(bench.received(), [""; 0]);
}

pub fn fingers_are_reported_when_asked_for(bench: &mut dyn Bench) {
    arm(bench, &[], true);
    bench.press(key("b"));
    bench.release(key("b"));
    let finger = |down| Event::RawKey { key: key("b"), down };
    assert_eq!(bench.events(), [finger(true), finger(false)]);
    assert_eq!(bench.received(), ["b"]);
    arm(bench, &[], false);
    bench.press(key("b"));
    bench.release(key("b"));
    assert_eq!(bench.events(), []);
}

pub fn fingers_that_are_down_already_are_reported(bench: &mut dyn Bench) {
    bench.press(key("left-shift"));
    bench.events();
    arm(bench, &[], true);
    assert_eq!(bench.events(), [Event::RawKey { key: key("left-shift"), down: true }]);
    bench.release(key("left-shift"));
}

pub fn a_tap_reaches_the_program_and_is_not_the_persons(bench: &mut dyn Bench) {
    arm(bench, &[], true);
    step(bench, lifted(vec![tap(&["left-ctrl", "left-shift", "e"]), tap(&["enter"])]));
    assert_eq!(bench.received(), ["shift+ctrl+e", "enter"]);
    assert_eq!(bench.events(), []);
    assert_eq!(bench.keys_down(), []);
}

pub fn text_arrives_as_written(bench: &mut dyn Bench) {
    step(bench, lifted(vec![InputAction::Text("a B?{1}".to_owned())]));
    let typed: String = bench.received().concat();
    assert_eq!(typed, "a B?{1}");
}

pub fn the_persons_modifiers_are_out_of_the_way_and_put_back(bench: &mut dyn Bench) {
    for name in ["left-ctrl", "left-alt"] {
        bench.press(key(name));
    }
    bench.received();
    step(bench, lifted(vec![tap(&["b"])]));
    assert_eq!(bench.received(), ["b"]);
    assert_eq!(bench.keys_down(), [key("left-ctrl"), key("left-alt")]);
    bench.release(key("left-alt"));
    step(bench, lifted(vec![tap(&["b"])]));
    assert_eq!(bench.received(), ["b"]);
    assert_eq!(bench.keys_down(), [key("left-ctrl")]);
    bench.release(key("left-ctrl"));
    assert_eq!(bench.keys_down(), []);
}

pub fn what_the_run_holds_stays_down(bench: &mut dyn Bench) {
    let ctrl = key("left-ctrl");
    step(bench, InputBatch { actions: vec![InputAction::Down(ctrl)], ..InputBatch::default() });
    step(bench, InputBatch { keep: vec![ctrl], ..lifted(vec![tap(&["b"])]) });
    assert!(bench.received().contains(&"ctrl+b".to_owned()));
    assert_eq!(bench.keys_down(), [ctrl]);
    step(bench, InputBatch { actions: vec![InputAction::Up(ctrl)], ..InputBatch::default() });
    assert_eq!(bench.keys_down(), []);
}

pub fn what_others_hold_is_parked(bench: &mut dyn Bench) {
    let ctrl = key("left-ctrl");
    step(bench, InputBatch { actions: vec![InputAction::Down(ctrl)], ..InputBatch::default() });
    bench.received();
    step(bench, InputBatch { park: vec![ctrl], ..lifted(vec![tap(&["b"])]) });
    assert!(bench.received().contains(&"b".to_owned()));
    assert_eq!(bench.keys_down(), [ctrl]);
    step(bench, InputBatch { actions: vec![InputAction::Up(ctrl)], ..InputBatch::default() });
}

pub fn a_tapped_key_that_is_armed_reaches_the_program(bench: &mut dyn Bench) {
    arm(bench, &[armed("b", &[])], false);
    step(bench, lifted(vec![tap(&["b"]), InputAction::Text("abc".to_owned())]));
    assert_eq!(bench.received().concat(), "babc");
    bench.press(key("b"));
    assert_eq!(bench.events(), [pressed("b", &[])], "it is armed again");
    bench.release(key("b"));
}

pub fn a_key_given_back_is_down_until_the_finger_leaves(bench: &mut dyn Bench) {
    arm(bench, &[KeyGrab { report_release: true, ..armed("b", &[]) }], false);
    bench.press(key("b"));
    bench.events();
    assert_eq!(bench.received(), [""; 0]);
    let back = ReplayKey {
        key: key("b"),
        output: vec![key("b")],
        modifiers: HeldModifiers::NONE,
        hidden_modifiers: HeldModifiers::NONE,
        is_tap: false,
        path: Vec::new(),
    };
    bench.backend().replay_key(Time::START, &back).expect("the back end is there");
    bench.events();
    assert_eq!(bench.received(), ["b"]);
    assert_eq!(bench.keys_down(), [key("b")]);
    bench.release(key("b"));
    bench.events();
    assert_eq!(bench.keys_down(), []);
    bench.press(key("b"));
    assert_eq!(bench.events(), [pressed("b", &[])], "the next press is withheld again");
    bench.release(key("b"));
}

pub fn the_pointer_moves_by_and_to_pixels(bench: &mut dyn Bench) {
    step(
        bench,
        InputBatch { actions: vec![InputAction::MoveTo(300, 200)], ..InputBatch::default() },
    );
    assert_eq!(bench.pointer(), (300, 200));
    let acts =
        vec![InputAction::MoveBy(1, 0), InputAction::MoveBy(0, -1), InputAction::MoveBy(40, 30)];
    step(bench, InputBatch { actions: acts, ..InputBatch::default() });
    assert_eq!(bench.pointer(), (341, 229));
    step(
        bench,
        InputBatch { actions: vec![InputAction::MoveBy(-9000, -9000)], ..InputBatch::default() },
    );
    assert_eq!(bench.pointer(), (0, 0), "the edge of the screen holds it");
}

pub fn sides_are_told_apart_when_asked(bench: &mut dyn Bench) {
    arm(bench, &[KeyGrab { side_specific: true, ..armed("f9", &[Modifier::Ctrl]) }], false);
    for (name, side) in
        [("left-ctrl", ModifierKey::LeftCtrl), ("right-ctrl", ModifierKey::RightCtrl)]
    {
        bench.press(key(name));
        bench.press(key("f9"));
        assert_eq!(bench.events(), [pressed("f9", &[side])]);
        bench.release(key("f9"));
        bench.release(key(name));
    }
}

pub fn every_step_has_its_outcome(bench: &mut dyn Bench) {
    for count in 1..=40 {
        let step = lifted(vec![tap(&["b"]); count % 3]);
        bench
            .backend()
            .send_input(Time::START, EffectId(count as u64), &step)
            .expect("it is there");
    }
    assert_eq!(outcomes(&bench.events()), 40);
}

fn given_back(name: &str, becomes: &str) -> ReplayKey {
    ReplayKey {
        key: key(name),
        output: vec![key(becomes)],
        modifiers: HeldModifiers::NONE,
        hidden_modifiers: HeldModifiers::NONE,
        is_tap: false,
        path: Vec::new(),
    }
}

pub fn while_one_key_waits_every_key_is_withheld_and_given_back_in_order(bench: &mut dyn Bench) {
    let waiting = KeyGrab { report_release: true, synchronous: true, ..armed("b", &[]) };
    arm(bench, &[waiting], false);
    bench.press(key("b"));
    assert_eq!(bench.events(), [pressed("b", &[])]);
    let armed = GrabSet { keys: vec![waiting], whole_keyboard: true, ..GrabSet::default() };
    bench.backend().set_grabs(armed).expect("the back end is there");
    bench.press(key("c"));
    assert_eq!(bench.events(), [pressed("c", &[])]);
    assert_eq!(bench.received(), [""; 0], "neither reaches the program");
    for name in ["b", "c"] {
        bench
            .backend()
            .replay_key(Time::START, &given_back(name, name))
            .expect("the back end is there");
    }
    arm(bench, &[waiting], false);
    bench.events();
    assert_eq!(bench.received(), ["b", "c"]);
    for name in ["b", "c"] {
        bench.release(key(name));
    }
    bench.events();
    assert_eq!(bench.keys_down(), []);
    bench.press(key("c"));
    bench.release(key("c"));
    assert_eq!(bench.events(), [], "the others are free again");
    assert_eq!(bench.received(), ["c"]);
}

pub fn a_tap_is_given_back_of_a_key_that_is_down_again(bench: &mut dyn Bench) {
    let waiting = KeyGrab { report_release: true, synchronous: true, ..armed("b", &[]) };
    arm(bench, &[waiting], false);
    bench.press(key("b"));
    bench.events();
    let armed = GrabSet { keys: vec![waiting], whole_keyboard: true, ..GrabSet::default() };
    bench.backend().set_grabs(armed).expect("the back end is there");
    bench.release(key("b"));
    assert_eq!(bench.events(), [Event::Released { key: key("b") }]);
    bench.press(key("b"));
    let tap = ReplayKey { is_tap: true, ..given_back("b", "b") };
    bench.backend().replay_key(Time::START, &tap).expect("the back end is there");
    assert_eq!(bench.events(), [pressed("b", &[])]);
    bench.backend().replay_key(Time::START, &given_back("b", "b")).expect("the back end is there");
    arm(bench, &[waiting], false);
    bench.events();
    assert_eq!(bench.received(), ["b", "b"], "both presses reach the program");
    bench.release(key("b"));
    bench.events();
    assert_eq!(bench.keys_down(), []);
}

pub fn a_key_may_become_another_as_long_as_it_is_down(bench: &mut dyn Bench) {
    arm(bench, &[KeyGrab { report_release: true, ..armed("b", &[]) }], false);
    bench.press(key("b"));
    bench.events();
    bench.backend().replay_key(Time::START, &given_back("b", "c")).expect("the back end is there");
    bench.events();
    assert_eq!(bench.received(), ["c"]);
    assert_eq!(bench.keys_down(), [key("c")]);
    bench.release(key("b"));
    bench.events();
    assert_eq!(bench.keys_down(), []);
}

pub fn an_armed_button_is_withheld_and_reported(bench: &mut dyn Bench) {
    let button = KeyGrab { report_release: true, synchronous: true, ..armed("right-button", &[]) };
    arm(bench, &[button], false);
    bench.press(key("right-button"));
    assert_eq!(bench.events(), [pressed("right-button", &[])]);
    bench.release(key("right-button"));
    assert_eq!(bench.events(), [Event::Released { key: key("right-button") }]);
    arm(bench, &[], false);
    bench.press(key("right-button"));
    bench.release(key("right-button"));
    assert_eq!(bench.events(), [], "it is free again");
}
