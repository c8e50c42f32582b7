//! Tracks grabbed presses until the engine has answered, and what is down in their place after that.
//!
//! Owns no connection and sends nothing. The back end asks it what to release and what programs are to see.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::{HeldModifiers, Key, ModifierKey};

use super::device_event::DeviceEvent;
use super::grabs::KeyOrButton;
use super::keymap::keycode_of;

/// A press whose grab is still active.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ActiveGrab {
    /// A key, with the locks from before it, and whether the server waits for our answer.
    Key { code: u8, locked: u16, waits: bool },
    /// A button, and whether the server waits for our answer.
    Button { button: u8, waits: bool },
}

/// A press as the server reports it.
#[derive(Debug, Clone, Copy)]
pub(super) struct ServerPress {
    /// The server's time, in milliseconds.
    pub time: u32,
    pub detail: KeyOrButton,
    pub key: Option<Key>,
    /// Core modifiers that are pressed, and in force.
    pub base: u16,
    pub effective: u16,
    pub locked: u16,
    /// The input device, if the server names it.
    pub source: Option<u16>,
    pub place: Option<(f64, f64)>,
}

impl ServerPress {
    pub(super) fn of(detail: KeyOrButton, key: Option<Key>, event: &DeviceEvent) -> ServerPress {
        let pixels = |fixed: i32| f64::from(fixed) / 65536.0;
        ServerPress {
            time: event.time,
            detail,
            key,
            base: event.base,
            effective: event.effective,
            locked: event.locked,
            source: Some(event.source),
            place: Some((pixels(event.place.0), pixels(event.place.1))),
        }
    }
}

/// Presses of the person's keys and buttons.
#[derive(Debug, Default)]
pub(super) struct PressTracker {
    /// Where the pointer was at the last grabbed press.
    pressed_at: Option<(f64, f64)>,
    active: Option<ActiveGrab>,
    /// The modifiers of the press that is being answered.
    pressed_under: Option<u16>,
    /// Whether a press was reported and only its answer was handled since.
    is_answering: bool,
    /// Grabbed keys whose release must be reported.
    followed: BTreeSet<Key>,
    /// Keys that the program got, with what is down in their place until their release.
    substitutions: BTreeMap<Key, Vec<Key>>,
    /// Modifiers withheld from the program as long as a key is down.
    hidden: BTreeMap<Key, Vec<u8>>,
    /// Buttons that the program gets as a click when they are released, and where they were pressed.
    owed: BTreeMap<Key, Option<(i32, i32)>>,
    /// Whether the keys that are down must be queried, since a release may have come already.
    must_look: bool,
    /// Buttons that are down in an active grab.
    grabbed_buttons: BTreeSet<u8>,
    /// Keys that are down; kept only while every key is reported.
    down: BTreeSet<Key>,
    /// The device that was reported last.
    source: Option<u16>,
    has_pointer_moved: bool,
}

impl PressTracker {
    /// Takes a press in a grab. Its grab stays active until [`PressTracker::take_active`].
    pub(super) fn begin(&mut self, press: &ServerPress, waits: bool) {
        self.pressed_at = press.place;
        self.active = Some(match press.detail {
            KeyOrButton::Code(code) => ActiveGrab::Key { code, locked: press.locked, waits },
            KeyOrButton::Button(button) => ActiveGrab::Button { button, waits },
        });
    }

    /// Where the pointer was at the last grabbed press.
    pub(super) fn pressed_at(&self) -> Option<(f64, f64)> {
        self.pressed_at
    }

    /// The press whose grab is still active.
    pub(super) fn active(&self) -> Option<ActiveGrab> {
        self.active
    }

    pub(super) fn take_active(&mut self) -> Option<ActiveGrab> {
        self.active.take()
    }

    /// Takes that the press is reported to the engine, with the modifiers that are pressed.
    pub(super) fn begin_answer(&mut self, base: u16) {
        self.pressed_under = Some(base);
        self.is_answering = true;
    }

    /// The modifiers of the press that is being answered, if it is the last thing that came.
    pub(super) fn pressed_under(&self) -> Option<u16> {
        self.pressed_under
    }

    pub(super) fn take_pressed_under(&mut self) -> Option<u16> {
        self.pressed_under.take()
    }

    /// Whether a press was reported and only its answer was handled since.
    pub(super) fn take_answering(&mut self) -> bool {
        std::mem::take(&mut self.is_answering)
    }

    /// Takes that everything that came was handled.
    pub(super) fn end_answer(&mut self) {
        self.pressed_under = None;
        self.is_answering = false;
    }

    /// Has the release of a grabbed key reported.
    pub(super) fn follow(&mut self, key: Key) {
        self.followed.insert(key);
    }

    /// The same; a release may have come already.
    pub(super) fn follow_and_look(&mut self, key: Key) {
        self.follow(key);
        self.must_look = true;
    }

    /// Ends [`PressTracker::follow`]; whether the key was followed.
    pub(super) fn unfollow(&mut self, key: Key) -> bool {
        self.followed.remove(&key)
    }

    /// Has the keys that are down queried when nothing else is to do.
    pub(super) fn look_later(&mut self) {
        self.must_look = true;
    }

    pub(super) fn must_look(&self) -> bool {
        self.must_look
    }

    pub(super) fn end_look(&mut self) {
        self.must_look = false;
    }

    /// Takes that keys are down in the place of one until its release.
    pub(super) fn substitute(&mut self, key: Key, output: Vec<Key>) {
        self.substitutions.insert(key, output);
        self.must_look = true;
    }

    /// The keys that are down in the place of one.
    pub(super) fn substitution(&self, key: Key) -> Option<&[Key]> {
        self.substitutions.get(&key).map(Vec::as_slice)
    }

    /// Takes the keys that are down in the place of one.
    pub(super) fn take_substitution(&mut self, key: Key) -> Vec<Key> {
        self.substitutions.remove(&key).unwrap_or_default()
    }

    /// Whether a key is down in the place of another or of itself.
    pub(super) fn is_substitute(&self, key: Key) -> bool {
        self.substitutions.values().flatten().any(|other| *other == key)
    }

    /// Whether the person has a modifier down that stands for itself.
    pub(super) fn is_own_modifier_down(&self, key: Key, down: &BTreeSet<u8>) -> bool {
        let itself = self.substitution(key).is_none_or(|keys| *keys == [key]);
        itself
            && ModifierKey::of(key).is_some()
            && keycode_of(key).is_some_and(|code| down.contains(&code))
    }

    /// Takes that modifiers are withheld from the program until the release of a key.
    pub(super) fn hide(&mut self, key: Key, codes: Vec<u8>) {
        self.hidden.insert(key, codes);
    }

    pub(super) fn take_hidden(&mut self, key: Key) -> Option<Vec<u8>> {
        self.hidden.remove(&key)
    }

    /// Takes that the program gets a button as a click when it is released.
    pub(super) fn owe(&mut self, key: Key) {
        let place = self.pressed_at.map(|(x, y)| (x.round() as i32, y.round() as i32));
        self.owed.insert(key, place);
        self.follow(key);
    }

    /// Takes a button that the program gets as a click, with where it was pressed.
    pub(super) fn take_owed(&mut self, key: Key) -> Option<Option<(i32, i32)>> {
        self.owed.remove(&key)
    }

    /// Keys and buttons whose release must not be missed.
    pub(super) fn watched(&self) -> impl Iterator<Item = &Key> {
        self.followed.iter().chain(self.substitutions.keys())
    }

    /// Takes that a button is down in an active grab.
    pub(super) fn note_grabbed_button(&mut self, button: u8) {
        self.grabbed_buttons.insert(button);
    }

    pub(super) fn forget_grabbed_button(&mut self, button: u8) {
        self.grabbed_buttons.remove(&button);
    }

    /// Forgets the buttons in active grabs; whether there were any.
    pub(super) fn take_grabbed_buttons(&mut self) -> bool {
        !std::mem::take(&mut self.grabbed_buttons).is_empty()
    }

    /// Takes the keys that are down, from when every key is reported.
    pub(super) fn set_down(&mut self, down: BTreeSet<Key>) {
        self.down = down;
    }

    pub(super) fn note_down(&mut self, key: Key) {
        self.down.insert(key);
    }

    pub(super) fn note_up(&mut self, key: Key) {
        self.down.remove(&key);
    }

    /// The modifiers under which the program gets a character, while every key is reported.
    pub(super) fn text_modifiers(&self) -> HeldModifiers {
        let own = self.down.iter().filter_map(|key| ModifierKey::of(*key));
        let own = own.filter(|modifier| !self.substitutions.contains_key(&modifier.key()));
        let substitutes = self.substitutions.values().flatten();
        own.chain(substitutes.filter_map(|key| ModifierKey::of(*key))).collect()
    }

    /// Takes the device of a press; whether it is another one than before.
    pub(super) fn is_new_source(&mut self, source: u16) -> bool {
        self.source.replace(source) != Some(source)
    }

    /// Has the next device reported, also if it is the same.
    pub(super) fn forget_source(&mut self) {
        self.source = None;
    }

    pub(super) fn note_pointer_moved(&mut self) {
        self.has_pointer_moved = true;
    }

    pub(super) fn take_pointer_moved(&mut self) -> bool {
        std::mem::take(&mut self.has_pointer_moved)
    }

    /// Keycodes that programs are to see as down, of those that are down on the real keyboards: without
    /// grabbed keys, with substitutes. What stood for a key that was released goes up in a moment.
    pub(super) fn shown_keycodes(&self, real: BTreeSet<u8>) -> BTreeSet<u8> {
        let mut shown = real.clone();
        for code in self.watched().filter_map(|key| keycode_of(*key)) {
            shown.remove(&code);
        }
        if let Some(ActiveGrab::Key { code, .. }) = self.active {
            shown.remove(&code);
        }
        for (key, others) in &self.substitutions {
            if keycode_of(*key).is_none_or(|code| real.contains(&code)) {
                shown.extend(others.iter().filter_map(|key| keycode_of(*key)));
            }
        }
        for code in self.hidden.values().flatten() {
            shown.remove(code);
        }
        shown
    }
}

/// The keycodes of the modifiers among keys.
pub(super) fn modifier_codes<'k>(keys: impl IntoIterator<Item = &'k Key>) -> Vec<u8> {
    let modifiers = keys.into_iter().filter(|key| ModifierKey::of(**key).is_some());
    modifiers.filter_map(|key| keycode_of(*key)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(name: &str) -> Key {
        Key::named(name).expect("the key is in the table")
    }

    fn code(name: &str) -> u8 {
        keycode_of(key(name)).expect("a key of the keyboard")
    }

    fn codes(names: &[&str]) -> BTreeSet<u8> {
        names.iter().map(|name| code(name)).collect()
    }

    #[test]
    fn programs_see_substitutes_in_place_of_grabbed_keys() {
        let mut presses = PressTracker::default();
        presses.follow(key("f1"));
        presses.substitute(key("caps-lock"), vec![key("left-ctrl")]);
        let real = codes(&["f1", "caps-lock", "left-shift"]);
        assert_eq!(presses.shown_keycodes(real), codes(&["left-ctrl", "left-shift"]));
        assert_eq!(presses.shown_keycodes(codes(&["f1"])), BTreeSet::new(), "it was released");
        presses.hide(key("a"), vec![code("left-shift")]);
        assert_eq!(presses.shown_keycodes(codes(&["left-shift"])), BTreeSet::new());
        assert_eq!(presses.take_hidden(key("a")), Some(vec![code("left-shift")]));
        assert_eq!(presses.shown_keycodes(codes(&["left-shift"])), codes(&["left-shift"]));
    }

    #[test]
    fn a_key_in_an_active_grab_is_not_shown() {
        let mut presses = PressTracker::default();
        let press = ServerPress {
            time: 0,
            detail: KeyOrButton::Code(code("f1")),
            key: Some(key("f1")),
            base: 0,
            effective: 0,
            locked: 2,
            source: None,
            place: None,
        };
        presses.begin(&press, true);
        assert_eq!(presses.shown_keycodes(codes(&["f1"])), BTreeSet::new());
        let grab = ActiveGrab::Key { code: code("f1"), locked: 2, waits: true };
        assert_eq!(presses.take_active(), Some(grab));
        assert_eq!(presses.shown_keycodes(codes(&["f1"])), codes(&["f1"]));
    }

    #[test]
    fn characters_are_typed_under_the_substitutes_of_modifiers() {
        let mut presses = PressTracker::default();
        presses.set_down([key("left-alt"), key("left-shift"), key("a")].into_iter().collect());
        presses.substitute(key("left-alt"), vec![key("left-ctrl")]);
        let held: HeldModifiers =
            [ModifierKey::LeftCtrl, ModifierKey::LeftShift].into_iter().collect();
        assert_eq!(presses.text_modifiers(), held);
    }

    #[test]
    fn a_device_is_new_once() {
        let mut presses = PressTracker::default();
        assert!(presses.is_new_source(9) && !presses.is_new_source(9));
        presses.forget_source();
        assert!(presses.is_new_source(9));
    }
}
