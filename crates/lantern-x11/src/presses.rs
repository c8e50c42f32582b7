//! Grabbed presses, from the X event to the answer of the engine, and the keys that are down in their
//! place after that.
//!
//! A grabbed press keeps its grab until the engine has answered, by the next request to the back end.
//! Then the grab ends. A key is released in the server, so that neither its release nor its repeats reach
//! a program. A button cannot be released; it stays grabbed until the person releases it, or is replayed
//! to the program.

use std::collections::BTreeSet;

use lantern_model::{
    Event, GrabSet, HeldModifiers, Key, KeyKind, ModifierKey, ModifierSet, ReplayKey,
};
use x11rb::CURRENT_TIME;
use x11rb::connection::SequenceNumber;
use x11rb::protocol::xinput::{ConnectionExt as _, EventMode};

use super::X11Backend;
use super::device_event::{DeviceEvent, What};
use super::grabs::KeyOrButton;
use super::injector::{self, Motion};
use super::keyboard_state::set_locks;
use super::keymap::{key_of, keycode_of, side_of};
use super::modifier_suspension::SuspendedPress;
use super::pointer::{self, button_of, is_pointed, key_of_button};
use super::press_tracker::{ActiveGrab, ServerPress, modifier_codes};
use super::raw_events::{self, RawEventSelection};
use lantern_backend::BackendError;

/// Modifiers that do not fit a press that is replayed, as keycodes.
#[derive(Debug, Default)]
struct WrongModifiers {
    /// Down, though the key was not pressed under them or hides them.
    unwanted: Vec<u8>,
    missing: Vec<u8>,
}

/// Grabbed presses.
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
                self.presses.note_grabbed_button(number);
                self.handle_press(press)
            }
            What::ButtonRelease => {
                let key = button_key();
                self.presses.forget_grabbed_button(number);
                key.map_or(Ok(()), |key| self.handle_release(key))
            }
        }
    }

    /// A key or button went down in a grab of ours.
    pub(super) fn handle_press(&mut self, press: ServerPress) -> Result<(), BackendError> {
        self.end_grab()?;
        self.queue_path();
        self.report_source_device(press.source);
        self.presses.begin(&press, self.grabs.is_synchronous(press.detail));
        let Some(key) = press.key else {
            return self.end_grab();
        };
        match self.suspensions.take_pressed(key, press.time) {
            Some(SuspendedPress::Reported) => return self.end_grab(),
            Some(SuspendedPress::Unbound) => return self.replay_unbound(key),
            None => {}
        }
        let keymap = self.keyboard.keymap();
        let Some(grab) = self.grabs.grab_of(key, keymap.families_in(press.effective)) else {
            return self.replay_unbound(key);
        };
        let modifiers: HeldModifiers = if grab.side_specific {
            let down = self.shown_keycodes()?;
            let is_down =
                |side: &ModifierKey| keycode_of(side.key()).is_some_and(|c| down.contains(&c));
            ModifierKey::ALL.into_iter().filter(|side| side.key() != key).filter(is_down).collect()
        } else {
            keymap.usual_sides(press.effective).collect()
        };
        if grab.report_release {
            self.presses.follow_and_look(key);
        }
        self.presses.begin_answer(press.base);
        self.queue.push(Event::Pressed { key, modifiers });
        Ok(())
    }

    /// Reports a press under suspended modifiers, which no grab matched; whether a rule wants it. The
    /// program has received it, but its rule must fire too: otherwise a loop that clicks could not be
    /// stopped.
    fn report_missed(&mut self, key: Key, modifiers: HeldModifiers) -> bool {
        let families = self.keyboard.families_of(modifiers);
        let Some(grab) = self.grabs.bound_grab_of(key, families) else { return false };
        if grab.report_release {
            self.presses.follow_and_look(key);
        }
        self.queue.push(Event::Pressed { key, modifiers });
        true
    }

    /// Replays a press that was reported only because a grab was active.
    fn replay_unbound(&mut self, key: Key) -> Result<(), BackendError> {
        if ModifierKey::of(key).is_some() {
            // A modifier changes the server's state, whichever client receives its press.
            self.presses.take_active();
            return self.answer_press(self.link.devices.master_keyboard, EventMode::ASYNC_DEVICE);
        }
        if is_pointed(key) {
            return self.replay_button();
        }
        self.end_grab()?;
        self.keyboard.suspend_delays(&self.link)?;
        self.substitute(key, vec![key])?;
        self.keyboard.resume_delays(&self.link)?;
        self.flush()
    }

    fn report_source_device(&mut self, source: Option<u16>) {
        let Some(source) = source.filter(|_| self.grabs.wanted().source_devices) else { return };
        if self.presses.is_new_source(source) {
            let name = self.link.devices.names.get(&source).cloned().unwrap_or_default();
            self.queue.push(Event::ActiveDevice(name));
        }
    }

    /// Ends the grab of the press that was answered.
    pub(super) fn end_grab(&mut self) -> Result<(), BackendError> {
        match self.presses.take_active() {
            None => Ok(()),
            Some(ActiveGrab::Key { code, locked, waits }) => {
                if waits {
                    let keyboard = self.link.devices.master_keyboard;
                    self.answer_press(keyboard, EventMode::ASYNC_DEVICE)?;
                }
                self.send_code(code, Motion::Up)?;
                // The server has switched the lock already.
                if key_of(code).is_some_and(|key| key.kind() == KeyKind::Lock) {
                    set_locks(&self.link, self.keyboard.keymap().locks(), locked)?;
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
    fn replay_button(&mut self) -> Result<(), BackendError> {
        if let Some(ActiveGrab::Button { button, .. }) = self.presses.take_active() {
            self.presses.forget_grabbed_button(button);
            self.answer_press(self.link.devices.master_pointer, EventMode::REPLAY_DEVICE)?;
        }
        Ok(())
    }

    fn answer_press(&self, device: u16, answer: EventMode) -> Result<(), BackendError> {
        self.link.conn.xinput_xi_allow_events(CURRENT_TIME, device, answer, 0, x11rb::NONE)?;
        Ok(())
    }

    /// Takes that everything that came was handled.
    pub(super) fn end_answers(&mut self) -> Result<(), BackendError> {
        self.presses.end_answer();
        if self.grabs.wanted().whole_keyboard {
            return Ok(());
        }
        self.grabs.grab_keyboard(&self.link, false)
    }

    /// Ends active grabs that would receive injected input.
    pub(super) fn end_active_grabs(&mut self, at_pointer: bool) -> Result<(), BackendError> {
        self.end_grab()?;
        self.grabs.grab_keyboard(&self.link, false)?;
        if at_pointer && self.presses.take_grabbed_buttons() {
            let pointer = self.link.devices.master_pointer;
            self.link.conn.xinput_xi_ungrab_device(CURRENT_TIME, pointer)?;
        }
        Ok(())
    }

    /// Installs what the rules need from now on.
    pub(super) fn install_grabs(&mut self, wanted: GrabSet) -> Result<(), BackendError> {
        let raw_before = self.grabs.raw_events();
        let before = self.grabs.set_wanted(wanted);
        // First every key, then the end of the press that led here: nothing slips in between. The
        // keyboard is ungrabbed only when all that came meanwhile was handled.
        self.grabs.grab_keyboard_if_wanted(&self.link)?;
        self.end_grab()?;
        if before.keys != self.grabs.wanted().keys || raw_before != self.grabs.raw_events() {
            self.reinstall_grabs()?;
        }
        let wanted = self.grabs.wanted();
        let (raw_keys, path) = (wanted.raw_keys && !before.raw_keys, wanted.pointer_path);
        if wanted.source_devices && !before.source_devices {
            self.presses.forget_source();
        }
        if wanted.pointer_position && !before.pointer_position {
            let (x, y) = pointer::place(&self.link)?;
            self.queue.push(Event::Pointer(x, y));
        }
        self.recorder.set_wanted(&self.link, path, self.presses.pressed_at())?;
        self.select_raw_events()?;
        if raw_keys {
            for key in self.real_keys()? {
                self.queue.push(Event::RawKey { key, down: true });
            }
        }
        self.flush()
    }

    /// Installs the grabs for the locks that are on.
    pub(super) fn reinstall_grabs(&mut self) -> Result<(), BackendError> {
        let events = self.grabs.install(&self.link, &self.keyboard)?;
        self.queue.extend(events);
        Ok(())
    }

    /// Queues the path of the pointer before the next event.
    fn queue_path(&mut self) {
        if let Some(path) = self.recorder.take_gathered() {
            self.queue.push(Event::PointerPath(path));
        }
    }
}

/// Raw events.
impl X11Backend {
    /// A physical key moved; injected ones are left aside.
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
        self.note_suspended(time, key, down);
        if self.grabs.wanted().raw_keys {
            self.queue.push(Event::RawKey { key, down });
        }
        if !down {
            self.presses.note_up(key);
            return self.handle_release(key);
        }
        if self.grabs.wanted().text_input {
            self.presses.note_down(key);
            let modifiers = self.keyboard.families_of(self.presses.text_modifiers());
            let is_withheld = self.grabs.is_keyboard_grabbed()
                || self.grabs.bound_grab_of(key, modifiers).is_some();
            if !is_withheld {
                self.report_text_input(Some(key), modifiers);
            }
        }
        Ok(())
    }

    /// Reports a character that the program gets from the person.
    fn report_text_input(&mut self, key: Option<Key>, modifiers: ModifierSet) {
        let key = key.filter(|key| ModifierKey::of(*key).is_none());
        let Some(key) = key.filter(|_| self.grabs.wanted().text_input) else { return };
        let keymap = self.keyboard.keymap();
        let character = keymap.character(key, modifiers, self.keyboard.locked());
        self.queue.push(Event::TextInput(character));
    }

    fn wanted_raw(&self, is_suspended: bool) -> RawEventSelection {
        let wanted = self.grabs.wanted();
        let mut watched = self.presses.watched();
        let key_releases = watched.any(|key| button_of(*key).is_none());
        let mut watched = self.presses.watched();
        RawEventSelection {
            keys: is_suspended || self.raw.watches_keys(),
            key_releases,
            button_releases: watched.any(|key| button_of(*key).is_some()),
            motion: wanted.pointer_position || wanted.pointer_path.is_some(),
            ..self.grabs.raw_events()
        }
    }

    /// Selects the raw events that are needed now, if they have changed.
    pub(super) fn select_raw_events(&mut self) -> Result<(), BackendError> {
        let is_suspended = self.suspensions.is_active();
        if !self.raw.is_selected(self.wanted_raw(is_suspended)) {
            self.select_raw(is_suspended)?;
        }
        Ok(())
    }

    /// Selects the raw events that are needed now; gives the number of the request.
    fn select_raw(&mut self, is_suspended: bool) -> Result<SequenceNumber, BackendError> {
        let wanted = self.wanted_raw(is_suspended);
        let (number, before) = self.raw.select(&self.link, wanted)?;
        // What is pressed between the two is seen by both.
        if wanted.all && !before.all {
            let down = self.real_keys()?;
            self.presses.set_down(down);
        }
        Ok(number)
    }

    /// Selects raw events on other devices than before.
    pub(super) fn select_raw_anew(&mut self) -> Result<(), BackendError> {
        self.raw.forget();
        self.select_raw_events()
    }

    /// Keys and buttons that are down on the real devices.
    fn real_keys(&self) -> Result<BTreeSet<Key>, BackendError> {
        raw_events::real_keys(&self.link, self.injector.buttons())
    }

    /// Keycodes that the person holds, as programs are to see them.
    fn shown_keycodes(&self) -> Result<BTreeSet<u8>, BackendError> {
        Ok(self.presses.shown_keycodes(raw_events::real_keycodes(&self.link)?))
    }

    /// Selects the releases of followed keys, and queries whether they are still down: they may have been
    /// released by now. Called when nothing else is to do, to lose no time while a key is handled.
    pub(super) fn query_followed(&mut self) -> Result<(), BackendError> {
        self.presses.end_look();
        self.raw.begin_query();
        self.select_raw_events()?;
        let down = self.real_keys()?;
        if !down.iter().all(|key| is_pointed(*key)) {
            self.touch_keyboard()?;
        }
        let watched = self.presses.watched();
        let gone: Vec<Key> = watched.filter(|key| !down.contains(key)).copied().collect();
        gone.into_iter().try_for_each(|key| self.handle_release(key))
    }

    /// A key is down on a real keyboard.
    fn touch_keyboard(&mut self) -> Result<(), BackendError> {
        if self.raw.touch() { self.select_raw_events() } else { Ok(()) }
    }

    /// Whether the next batch answers a button, with no key down. If that is not known, it is for the
    /// batch after it.
    pub(super) fn answers_button_alone(&mut self) -> bool {
        // If raw keys are selected for other reasons, the event may come too late.
        let is_late = self.grabs.raw_events().all;
        if is_late || !matches!(self.presses.active(), Some(ActiveGrab::Button { .. })) {
            return false;
        }
        if self.raw.request_query() {
            self.presses.look_later();
        }
        self.raw.is_untouched() && !self.injector.holds_keys()
    }
}

/// Modifiers that are suspended for a batch.
impl X11Backend {
    /// The keycodes of the modifiers to suspend, if the person holds any; raw events of every key are
    /// selected then.
    pub(super) fn modifiers_to_suspend(&mut self) -> Result<Vec<u8>, BackendError> {
        // Read again, now that later changes arrive as events.
        if self.held_modifiers()?.is_empty() { Ok(Vec::new()) } else { self.begin_suspension() }
    }

    /// Selects raw events of every key. Gives the keycodes of the modifiers that the person holds.
    fn begin_suspension(&mut self) -> Result<Vec<u8>, BackendError> {
        self.end_suspension()?;
        let from = self.select_raw(true)?;
        let codes = self.held_modifiers()?;
        let held = codes.iter().filter_map(|code| side_of(*code)).collect();
        self.suspensions.begin(from, held);
        Ok(codes)
    }

    /// The keycodes of the modifiers that the person holds.
    fn held_modifiers(&self) -> Result<Vec<u8>, BackendError> {
        let down = self.shown_keycodes()?;
        let modifiers = self.keyboard.keymap().all_modifier_codes();
        Ok(modifiers.filter(|code| down.contains(code)).collect())
    }

    fn end_suspension(&mut self) -> Result<(), BackendError> {
        if self.suspensions.is_active() {
            let until = self.select_raw(false)?;
            self.suspensions.end(until);
        }
        Ok(())
    }

    /// A key moved while modifiers may be suspended.
    fn note_suspended(&mut self, time: u32, key: Key, down: bool) {
        let Some(modifiers) = self.suspensions.note_motion(key, down) else { return };
        if down {
            let is_modifier = ModifierKey::of(key).is_some();
            let is_reported = !is_modifier && self.report_missed(key, modifiers);
            let what = if is_reported { SuspendedPress::Reported } else { SuspendedPress::Unbound };
            self.suspensions.note_pressed(key, time, what);
        }
    }

    /// Presses suspended modifiers again that the person still holds.
    pub(super) fn restore_modifiers(&mut self, suspended: Vec<u8>) -> Result<(), BackendError> {
        if suspended.is_empty() {
            self.end_suspension()?;
            return self.flush();
        }
        // After a press that was answered, raw events are selected only now, behind its key and in one
        // flush with it: the server delivers a key before it executes the next request.
        let real = if self.suspensions.is_active() {
            self.held_modifiers()?
        } else {
            self.begin_suspension()?
        };
        let again: Vec<u8> = suspended.into_iter().filter(|code| real.contains(code)).collect();
        self.injector.press_modifiers(&self.link, self.keyboard.keymap(), &again)?;
        self.flush()?;
        // A modifier may have been released between the query and the press. From here on its release
        // ends what we pressed for it.
        let real = self.shown_keycodes()?;
        for code in again {
            let Some(key) = key_of(code) else { continue };
            if real.contains(&code) {
                self.substitute_itself(key)?;
            } else {
                self.send_code(code, Motion::Up)?;
                self.press_again(key)?;
            }
        }
        self.end_suspension()?;
        self.flush()
    }
}

/// Keys that are sent to the program in place of the pressed one, until its release.
impl X11Backend {
    /// Replays a press as the engine has decided.
    pub(super) fn replay(&mut self, replay: &ReplayKey) -> Result<(), BackendError> {
        let is_itself = replay.output == [replay.key];
        self.presses.unfollow(replay.key);
        let modifiers = self.keyboard.families_of(replay.modifiers);
        self.report_text_input(replay.output.last().copied(), modifiers);
        if is_itself && !replay.is_tap && self.is_waiting_button(replay.key) {
            return self.replay_button();
        }
        let at_pointer = replay.output.iter().any(|key| is_pointed(*key));
        if is_itself && at_pointer && !replay.is_tap {
            // The server knows it as down, so that no press can be made of it before it is up.
            self.presses.owe(replay.key);
            return self.end_grab();
        }
        let answers = match self.presses.active() {
            Some(ActiveGrab::Key { code, .. }) => keycode_of(replay.key) == Some(code),
            _ => false,
        };
        // With nothing held when it was pressed just now, no modifier has to be queried.
        let is_alone = replay.modifiers.is_empty() && self.presses.pressed_under() == Some(0);
        // Queried before the grabs end: nothing of the person's may slip in.
        let WrongModifiers { unwanted, missing } = if answers && is_alone {
            WrongModifiers::default()
        } else {
            self.wrong_modifiers(replay)?
        };
        self.end_active_grabs(at_pointer)?;
        self.keyboard.suspend_delays(&self.link)?;
        self.injector.release_modifiers(&self.link, self.keyboard.keymap(), &unwanted)?;
        missing.iter().try_for_each(|code| self.send_code(*code, Motion::Down))?;
        let path: &[(i32, i32)] = if at_pointer && replay.is_tap { &replay.path } else { &[] };
        path.first().map_or(Ok(()), |place| injector::move_to(&self.link, *place))?;
        if replay.is_tap && !answers {
            // The person may have pressed the key again since. The X server drops a second press of a
            // key that is down.
            let keys = replay.output.iter().filter(|key| !is_pointed(**key));
            keys.filter_map(|key| keycode_of(*key))
                .try_for_each(|code| self.send_code(code, Motion::Up))?;
        }
        self.substitute(replay.key, replay.output.clone())?;
        injector::move_along(&self.link, path)?;
        missing.into_iter().rev().try_for_each(|code| self.send_code(code, Motion::Up))?;
        if replay.is_tap {
            self.end_substitution(replay.key)?;
        }
        self.grabs.grab_keyboard_if_wanted(&self.link)?;
        if replay.is_tap || replay.hidden_modifiers.is_empty() {
            self.restore_modifiers(unwanted)?;
        } else {
            self.end_suspension()?;
            self.presses.hide(replay.key, unwanted);
        }
        self.keyboard.resume_delays(&self.link)?;
        self.flush()
    }

    /// Whether the server waits for our answer to the press of a button.
    fn is_waiting_button(&self, key: Key) -> bool {
        match (self.presses.active(), button_of(key)) {
            (Some(ActiveGrab::Button { button, waits }), Some(own)) => {
                waits && button == own && is_pointed(key)
            }
            _ => false,
        }
    }

    /// The modifiers that do not fit a replayed press. If any is to be released, raw events of every key
    /// are selected from here on.
    fn wrong_modifiers(&mut self, replay: &ReplayKey) -> Result<WrongModifiers, BackendError> {
        let wrong = self.wrong_among(replay, self.held_modifiers()?);
        if wrong.unwanted.is_empty() {
            return Ok(wrong);
        }
        // Read again, now that later changes arrive as events.
        let shown = self.begin_suspension()?;
        Ok(self.wrong_among(replay, shown))
    }

    fn wrong_among(&self, replay: &ReplayKey, shown: Vec<u8>) -> WrongModifiers {
        let visible = replay.modifiers.iter().filter(|m| !replay.hidden_modifiers.contains(*m));
        let wanted = self.keyboard.families_of(visible.collect());
        let have: HeldModifiers = shown.iter().filter_map(|code| side_of(*code)).collect();
        let have = self.keyboard.families_of(have);
        let missing = wanted.iter().filter(|family| !have.contains(*family));
        let missing = missing.filter_map(|family| keycode_of(family.default_key().key())).collect();
        let layout = &self.keyboard.keymap().layout;
        let is_unwanted =
            |code: &u8| side_of(*code).is_some_and(|side| !wanted.contains(layout.modifier(side)));
        WrongModifiers { unwanted: shown.into_iter().filter(is_unwanted).collect(), missing }
    }

    /// Presses keys in the place of one, until its release.
    fn substitute(&mut self, key: Key, output: Vec<Key>) -> Result<(), BackendError> {
        for key in &output {
            self.grabs.open(&self.link, *key)?;
            self.send_key(*key, Motion::Down)?;
        }
        self.presses.substitute(key, output);
        Ok(())
    }

    /// A modifier that was released for a batch is down again by our doing as long as the person holds it.
    fn substitute_itself(&mut self, key: Key) -> Result<(), BackendError> {
        if !self.presses.is_substitute(key) {
            self.presses.substitute(key, vec![key]);
            self.select_raw_events()?;
        }
        Ok(())
    }

    fn end_substitution(&mut self, key: Key) -> Result<(), BackendError> {
        for other in self.presses.take_substitution(key).into_iter().rev() {
            self.send_key(other, Motion::Up)?;
            self.grabs.close(&self.link, other)?;
        }
        match self.presses.take_hidden(key) {
            Some(codes) => self.restore_modifiers(codes),
            None => Ok(()),
        }
    }

    /// A key that is followed or substituted was released.
    fn handle_release(&mut self, key: Key) -> Result<(), BackendError> {
        let owed = self.presses.take_owed(key);
        if self.presses.unfollow(key) && owed.is_none() {
            self.queue_path();
            self.queue.push(Event::Released { key });
        }
        if let Some(place) = owed {
            self.replay_click(key, place)?;
        }
        if let Some(others) = self.presses.substitution(key) {
            let modifiers = modifier_codes(others);
            // Only a modifier is queried once more: what is pressed beside it depends on it.
            if ModifierKey::of(key).is_some() {
                self.release_modifier(key)?;
            } else {
                self.end_substitution(key)?;
                // A physical modifier that it stood for was released with it.
                if modifiers.is_empty() {
                    self.flush()?;
                } else {
                    self.restore_modifiers(modifiers)?;
                }
            }
        }
        self.select_raw_events()
    }

    /// Presses a button where the person pressed it; what came since is a drag.
    fn replay_click(
        &mut self,
        key: Key,
        pressed_at: Option<(i32, i32)>,
    ) -> Result<(), BackendError> {
        let now = pointer::place(&self.link)?;
        let moved = pressed_at.filter(|place| *place != now);
        moved.map_or(Ok(()), |place| injector::move_to(&self.link, place))?;
        self.substitute(key, vec![key])?;
        moved.map_or(Ok(()), |_| injector::move_to(&self.link, now))
    }

    /// The person has released a modifier, and may have pressed it again by now. From the query
    /// until the substitute's state is right, raw events are selected.
    fn release_modifier(&mut self, key: Key) -> Result<(), BackendError> {
        let was_active = self.suspensions.is_active();
        if !was_active {
            self.begin_suspension()?;
        }
        let down = raw_events::real_keycodes(&self.link)?;
        if !self.presses.is_own_modifier_down(key, &down) {
            self.end_substitution(key)?;
            self.press_again(key)?;
        }
        if was_active { Ok(()) } else { self.end_suspension() }
    }

    /// A modifier that we held for the person was released. If they pressed it again between the query and
    /// our release, which ended their press, it is pressed again.
    fn press_again(&mut self, key: Key) -> Result<(), BackendError> {
        let down = raw_events::real_keycodes(&self.link)?;
        if !self.presses.is_own_modifier_down(key, &down) {
            return Ok(());
        }
        self.keyboard.suspend_delays(&self.link)?;
        self.send_key(key, Motion::Down)?;
        self.keyboard.resume_delays(&self.link)?;
        self.substitute_itself(key)?;
        self.flush()
    }
}
