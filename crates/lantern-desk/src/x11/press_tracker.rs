//! The person's hands: presses that are withheld, what is handed back of them, and what their
//! fingers do beside that.
//!
//! A withheld press keeps its grab until the engine has answered, by the next request to the back
//! end. Then the grab ends. A key is released in the server, so that neither its release nor its
//! repeats reach a program. A button cannot be released; it stays grabbed until the person releases
//! it, or is replayed to the program.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::{Event, GrabSet, HeldModifiers, Key, KeyGrab, KeyKind, ModifierKey};
use x11rb::CURRENT_TIME;
use x11rb::connection::SequenceNumber;
use x11rb::protocol::xinput::{ConnectionExt as _, EventMode, GrabOwner, XIEventMask};
use x11rb::protocol::xproto::GrabMode;

use super::device_event::{DeviceEvent, What};
use super::grabs::KeyOrButton;
use super::keyboard_idle::KeyboardIdle;
use super::keymap::{key_of, keycode_of};
use super::modifier_suspension::SuspendedPress;
use super::pointer::{self, button_of, is_pointed, key_of_button};
use super::{X11Backend, raw_events};
use crate::BackendError;

/// What is known of the person's hands.
#[derive(Debug, Default)]
pub(super) struct PressTracker {
    /// Where the pointer was when that was pressed which was withheld last.
    pub pressed_at: Option<(f64, f64)>,
    /// A press that was withheld just now and whose grab is still on.
    pub(super) ending: Option<ActiveGrab>,
    /// The modifiers of the press that is being answered.
    pub pressed_under: Option<u16>,
    /// Whether a press was told and nothing but its answer was seen to since.
    pub answering: bool,
    /// Withheld keys whose release must be reported.
    pub followed: BTreeSet<Key>,
    /// Keys handed to the program, with what is down in their place until the finger leaves.
    pub substitutions: BTreeMap<Key, Vec<Key>>,
    /// Modifiers kept from the program as long as a key is down.
    pub(super) hidden: BTreeMap<Key, Vec<u8>>,
    /// Buttons the program gets as a click when they are let go.
    pub(super) owed: BTreeMap<Key, Option<(i32, i32)>>,
    /// Whether `followed` must be looked at, since a release may have come already.
    pub look_again: bool,
    /// Whether every key comes to us.
    board_taken: bool,
    /// Buttons that are down in a grab of ours.
    buttons_taken: BTreeSet<u8>,
    /// Under the fingers; kept only while every finger is reported.
    down: BTreeSet<Key>,
    /// The device that was told of last.
    board: Option<u16>,
    selected: raw_events::RawEventSelection,
    pub(super) keyboard: KeyboardIdle,
    pub pointer_moved: bool,
}

/// A press whose grab is still on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ActiveGrab {
    /// A key, with the locks from before it, and whether the server waits for our answer.
    Key {
        code: u8,
        locked: u16,
        waits: bool,
    },
    Button {
        button: u8,
        waits: bool,
    },
}

/// A press as the server tells it.
#[derive(Debug, Clone, Copy)]
pub(super) struct ServerPress {
    /// The server's time, in milliseconds.
    pub time: u32,
    pub detail: KeyOrButton,
    pub key: Option<Key>,
    /// Modifiers under fingers, and in force.
    pub base: u16,
    pub effective: u16,
    pub locked: u16,
    pub source: Option<u16>,
    pub place: Option<(f64, f64)>,
}

impl ServerPress {
    fn of(detail: KeyOrButton, key: Option<Key>, event: &DeviceEvent) -> ServerPress {
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

impl X11Backend {
    /// A key or button moved in a grab of ours.
    pub(super) fn handle_device_event(&mut self, event: &DeviceEvent) -> Result<(), BackendError> {
        let number = event.detail;
        let button_key = || key_of_button(&self.link.devices, event.source, number);
        match event.what {
            What::KeyRepeat => Ok(()),
            What::KeyPress => {
                self.handle_press(ServerPress::of(KeyOrButton::Code(number), key_of(number), event))
            }
            What::ButtonPress => {
                let press = ServerPress::of(KeyOrButton::Button(number), button_key(), event);
                self.presses.buttons_taken.insert(number);
                self.handle_press(press)
            }
            What::ButtonRelease => {
                let key = button_key();
                self.presses.buttons_taken.remove(&number);
                key.map_or(Ok(()), |key| self.let_go(key))
            }
        }
    }

    /// A key or button went down in a grab of ours.
    pub(super) fn handle_press(&mut self, press: ServerPress) -> Result<(), BackendError> {
        self.end_grab()?;
        self.queue_way();
        self.report_source_device(press.source);
        self.presses.pressed_at = press.place;
        let waits = self.grabs.waits(press.detail);
        self.presses.ending = Some(match press.detail {
            KeyOrButton::Code(code) => ActiveGrab::Key { code, locked: press.locked, waits },
            KeyOrButton::Button(button) => ActiveGrab::Button { button, waits },
        });
        let Some(key) = press.key else {
            return self.end_grab();
        };
        match self.suspensions.take_bare(key, press.time) {
            Some(SuspendedPress::Reported) => return self.end_grab(),
            Some(SuspendedPress::Unbound) => return self.replay_unbound(key),
            None => {}
        }
        let Some(armed) = self.withheld_as(key, press.effective) else {
            return self.replay_unbound(key);
        };
        self.presses.pressed_under = Some(press.base);
        let modifiers: HeldModifiers = if armed.side_specific {
            let down = self.shown_keycodes()?;
            let is_down =
                |side: &ModifierKey| keycode_of(side.key()).is_some_and(|c| down.contains(&c));
            ModifierKey::ALL.into_iter().filter(|side| side.key() != key).filter(is_down).collect()
        } else {
            self.keymap.usual_sides(press.effective).collect()
        };
        if armed.report_release {
            self.presses.followed.insert(key);
            self.presses.look_again = true;
        }
        self.presses.answering = true;
        self.events.push_back(Event::Pressed { key, modifiers });
        Ok(())
    }

    /// Reports a press under suspended modifiers, which no grab saw under them. The program has
    /// received it, but its rule must fire too: otherwise a loop that clicks could not be stopped.
    pub(super) fn report_missed(&mut self, key: Key, modifiers: HeldModifiers) -> bool {
        let Some(armed) = self.grabs.find(key, self.families_of(modifiers)) else { return false };
        if armed.report_release {
            self.presses.followed.insert(key);
            self.presses.look_again = true;
        }
        self.events.push_back(Event::Pressed { key, modifiers });
        true
    }

    /// How a key under these modifiers is withheld, if it is.
    fn withheld_as(&self, key: Key, mask: u16) -> Option<KeyGrab> {
        let families = self.keymap.families_in(mask);
        let everything = || {
            let all = self.wanted_grabs.whole_keyboard
                && ModifierKey::of(key).is_none()
                && !is_pointed(key);
            let (further, sides, follow, waits) = (false, false, true, true);
            all.then_some(KeyGrab {
                key,
                modifiers: families,
                any_extra_modifiers: further,
                side_specific: sides,
                report_release: follow,
                synchronous: waits,
            })
        };
        self.grabs.find(key, families).or_else(everything)
    }

    /// A press that came to us only because a grab was on: it is the program's.
    fn replay_unbound(&mut self, key: Key) -> Result<(), BackendError> {
        if ModifierKey::of(key).is_some() {
            // A modifier changes the server's state, whichever client receives its press.
            self.presses.ending = None;
            return self.answer_press(self.link.devices.master_keyboard, EventMode::ASYNC_DEVICE);
        }
        if is_pointed(key) {
            return self.replay_press();
        }
        self.end_grab()?;
        self.set_delays_aside()?;
        self.hand_over(key, vec![key])?;
        self.bring_delays_back()?;
        self.flush()
    }

    fn report_source_device(&mut self, source: Option<u16>) {
        let Some(source) = source.filter(|source| self.presses.board != Some(*source)) else {
            return;
        };
        if !self.wanted_grabs.source_devices {
            return;
        }
        self.presses.board = Some(source);
        let name = self.link.devices.names.get(&source).cloned().unwrap_or_default();
        self.events.push_back(Event::ActiveDevice(name));
    }

    /// Ends the grab of the press that was answered.
    pub(super) fn end_grab(&mut self) -> Result<(), BackendError> {
        match self.presses.ending.take() {
            None => Ok(()),
            Some(ActiveGrab::Key { code, locked, waits }) => {
                if waits {
                    let board = self.link.devices.master_keyboard;
                    self.answer_press(board, EventMode::ASYNC_DEVICE)?;
                }
                self.fake_key(code, false)?;
                // The server has turned the lock already.
                if key_of(code).is_some_and(|key| key.kind() == KeyKind::Lock) {
                    self.set_locks(self.keymap.locks(), locked)?;
                }
                Ok(())
            }
            Some(ActiveGrab::Button { waits: false, .. }) => Ok(()),
            Some(ActiveGrab::Button { .. }) => {
                self.answer_press(self.link.devices.master_pointer, EventMode::ASYNC_DEVICE)
            }
        }
    }

    /// Replays the button that was pressed to the program, as if it had not been grabbed.
    pub(super) fn replay_press(&mut self) -> Result<(), BackendError> {
        if let Some(ActiveGrab::Button { button, .. }) = self.presses.ending.take() {
            self.presses.buttons_taken.remove(&button);
            self.answer_press(self.link.devices.master_pointer, EventMode::REPLAY_DEVICE)?;
        }
        Ok(())
    }

    fn answer_press(&self, device: u16, answer: EventMode) -> Result<(), BackendError> {
        self.link.conn.xinput_xi_allow_events(CURRENT_TIME, device, answer, 0, x11rb::NONE)?;
        Ok(())
    }

    /// Takes every key of the board, or gives it up.
    pub(super) fn grab_keyboard(&mut self, take: bool) -> Result<(), BackendError> {
        if take == self.presses.board_taken {
            return Ok(());
        }
        self.presses.board_taken = take;
        let (conn, board) = (&self.link.conn, self.link.devices.master_keyboard);
        if !take {
            conn.xinput_xi_ungrab_device(CURRENT_TIME, board)?;
            return Ok(());
        }
        let mask = XIEventMask::KEY_PRESS | self.raw_in_grabs().of_masters();
        // Should a menu have the board, keys go there, as they do anyway.
        let (mode, owner) = (GrabMode::ASYNC, GrabOwner::NO_OWNER);
        let (root, cursor) = (self.link.root, x11rb::NONE);
        conn.xinput_xi_grab_device(
            root,
            CURRENT_TIME,
            cursor,
            board,
            mode,
            mode,
            owner,
            &[mask.into()],
        )?
        .discard_reply_and_errors();
        Ok(())
    }

    /// Everything that came was taken in.
    pub(super) fn rest(&mut self) -> Result<(), BackendError> {
        self.presses.pressed_under = None;
        self.presses.answering = false;
        if !self.wanted_grabs.whole_keyboard { self.grab_keyboard(false) } else { Ok(()) }
    }

    /// Ends active grabs that would receive injected input.
    pub(super) fn make_way(&mut self, at_pointer: bool) -> Result<(), BackendError> {
        self.end_grab()?;
        self.grab_keyboard(false)?;
        if at_pointer && !std::mem::take(&mut self.presses.buttons_taken).is_empty() {
            let pointer = self.link.devices.master_pointer;
            self.link.conn.xinput_xi_ungrab_device(CURRENT_TIME, pointer)?;
        }
        Ok(())
    }

    /// Takes it again.
    pub(super) fn take_way(&mut self) -> Result<(), BackendError> {
        if self.wanted_grabs.whole_keyboard { self.grab_keyboard(true) } else { Ok(()) }
    }

    /// A finger moved, if not a program did.
    pub(super) fn handle_raw(
        &mut self,
        time: u32,
        source: u16,
        key: Option<Key>,
        down: bool,
    ) -> Result<(), BackendError> {
        let Some(key) = key.filter(|_| !self.link.devices.injected.contains(&source)) else {
            return Ok(());
        };
        if down && !is_pointed(key) {
            self.touch_keyboard()?;
        }
        self.report_source_device(Some(source));
        self.follow_lift(time, key, down);
        if self.wanted_grabs.raw_keys {
            self.events.push_back(Event::RawKey { key, down });
        }
        if !down {
            self.presses.down.remove(&key);
            return self.let_go(key);
        }
        if self.wanted_grabs.text_input {
            self.presses.down.insert(key);
            let held = self.presses.down.iter().filter_map(|key| ModifierKey::of(*key));
            let substitutes = self
                .presses
                .substitutions
                .values()
                .flatten()
                .filter_map(|key| ModifierKey::of(*key));
            let held: HeldModifiers = held
                .filter(|side| !self.presses.substitutions.contains_key(&side.key()))
                .chain(substitutes)
                .collect();
            let families = self.families_of(held);
            let withheld = self.presses.board_taken || self.grabs.find(key, families).is_some();
            if !withheld {
                self.report_letter(Some(key), families);
            }
        }
        Ok(())
    }

    /// Tells of a character that the program got from the person's hand.
    pub(super) fn report_letter(&mut self, key: Option<Key>, held: lantern_model::ModifierSet) {
        let Some(key) =
            key.filter(|key| self.wanted_grabs.text_input && ModifierKey::of(*key).is_none())
        else {
            return;
        };
        let letter = self.keymap.letter(key, held, self.locked);
        self.events.push_back(Event::TextInput(letter));
    }

    pub(super) fn select_raw_events(&mut self) -> Result<(), BackendError> {
        if self.presses.selected != self.wanted_raw(self.suspensions.are_away()) {
            self.select_raw(self.suspensions.are_away())?;
        }
        Ok(())
    }

    /// What the server tells us of while a grab is on: only what the grab itself asks for.
    pub(super) fn raw_in_grabs(&self) -> raw_events::RawEventSelection {
        raw_events::RawEventSelection {
            all: self.wanted_grabs.raw_keys || self.wanted_grabs.text_input,
            motion: self.wanted_grabs.pointer_position,
            ..raw_events::RawEventSelection::default()
        }
    }

    /// Keys and buttons whose release must not be missed.
    fn watched(&self) -> impl Iterator<Item = &Key> {
        self.presses.followed.iter().chain(self.presses.substitutions.keys())
    }

    fn wanted_raw(&self, lifted: bool) -> raw_events::RawEventSelection {
        raw_events::RawEventSelection {
            all: self.wanted_grabs.raw_keys || self.wanted_grabs.text_input,
            keys: lifted || self.presses.keyboard == KeyboardIdle::Untouched,
            key_releases: self.watched().any(|key| button_of(*key).is_none()),
            button_releases: self.watched().any(|key| button_of(*key).is_some()),
            motion: self.wanted_grabs.pointer_position || self.wanted_grabs.pointer_path.is_some(),
        }
    }

    /// Asks for the raw events that are needed now; gives the number of the request.
    pub(super) fn select_raw(&mut self, lifted: bool) -> Result<SequenceNumber, BackendError> {
        let wanted = self.wanted_raw(lifted);
        let before = std::mem::replace(&mut self.presses.selected, wanted);
        let number = raw_events::select_raw(&self.link, before, wanted)?;
        // What is pressed between the two is seen by both.
        if wanted.all && !before.all {
            self.presses.down = raw_events::real_keys(&self.link, &self.buttons)?;
        }
        Ok(number)
    }

    /// Other devices are under the hands: asks each of them for what is needed.
    pub(super) fn select_raw_anew(&mut self) -> Result<(), BackendError> {
        self.presses.selected = raw_events::RawEventSelection::default();
        self.presses.keyboard = KeyboardIdle::Unknown;
        self.select_raw_events()
    }

    /// Keycodes that the person holds, as programs are to see it: without what is withheld, with
    /// what stands for others. Where the finger has left, what stood for it goes up in a moment.
    pub(super) fn shown_keycodes(&self) -> Result<BTreeSet<u8>, BackendError> {
        let real = raw_events::real_keycodes(&self.link)?;
        let mut down = real.clone();
        let own = self.presses.followed.iter().chain(self.presses.substitutions.keys());
        for code in own.filter_map(|key| keycode_of(*key)) {
            down.remove(&code);
        }
        if let Some(ActiveGrab::Key { code, .. }) = self.presses.ending {
            down.remove(&code);
        }
        for (key, others) in &self.presses.substitutions {
            if keycode_of(*key).is_none_or(|code| real.contains(&code)) {
                down.extend(others.iter().filter_map(|key| keycode_of(*key)));
            }
        }
        for code in self.presses.hidden.values().flatten() {
            down.remove(code);
        }
        Ok(down)
    }

    /// Asks to be told of followed keys' releases, and looks whether they are still under the fingers:
    /// they may have gone up by now. Done when nothing else is to do, to lose no time on a key's way.
    pub(super) fn look_at_followed(&mut self) -> Result<(), BackendError> {
        self.presses.look_again = false;
        self.begin_look_at_keyboard()?;
        let real = raw_events::real_keys(&self.link, &self.buttons)?;
        self.end_look_at_keyboard(&real)?;
        let gone: Vec<Key> = self.watched().filter(|key| !real.contains(key)).copied().collect();
        gone.into_iter().try_for_each(|key| self.let_go(key))
    }

    /// Updates the state of presses for a new set of grabs.
    pub(super) fn arm_hands(&mut self, armed: GrabSet) -> Result<(), BackendError> {
        let told_before = self.raw_in_grabs();
        let before = std::mem::replace(&mut self.wanted_grabs, armed);
        // First every key, then the end of the press that led here: nothing slips in between. They
        // are given up only when all that came meanwhile was taken in.
        if self.wanted_grabs.whole_keyboard {
            self.grab_keyboard(true)?;
        }
        self.end_grab()?;
        if before.keys != self.wanted_grabs.keys || told_before != self.raw_in_grabs() {
            self.take_grabs()?;
        }
        if self.wanted_grabs.source_devices && !before.source_devices {
            self.presses.board = None;
        }
        if self.wanted_grabs.pointer_position && !before.pointer_position {
            let (x, y) = pointer::place(&self.link)?;
            self.events.push_back(Event::Pointer(x, y));
        }
        self.follow_way()?;
        self.select_raw_events()?;
        if self.wanted_grabs.raw_keys && !before.raw_keys {
            for key in raw_events::real_keys(&self.link, &self.buttons)? {
                self.events.push_back(Event::RawKey { key, down: true });
            }
        }
        self.flush()
    }
}
