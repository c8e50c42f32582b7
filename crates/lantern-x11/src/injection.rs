//! Batches of input: the person's modifiers are suspended for a batch, grabs of the injected keys too, and
//! both are restored after it.

use lantern_model::{
    Command, CommandError, CommandKind, EffectId, InputAction, InputBatch, Key, Time,
};
use lantern_model::{ModifierKey, ShiftLevel};
use x11rb::protocol::xproto::Window;

use super::clipboard::ClipboardWork;
use super::grabs::KeyOrButton;
use super::injector::{self, Motion};
use super::keyboard_state::set_locks;
use super::keymap::keycode_of;
use super::ping::{PingClient, ping, select_root_events};
use super::pointer::is_pointed;
use super::press_tracker::modifier_codes;
use super::temporary_keymap::{LendingContext, LendingStep, TemporaryKeymap};
use super::{LOCK, X11Backend, windows};
use lantern_backend::BackendError;

/// Batches.
impl X11Backend {
    /// Sends a press or release of a keycode.
    pub(super) fn send_code(&mut self, code: u8, motion: Motion) -> Result<(), BackendError> {
        self.injector.send_code(&self.link, code, motion)
    }

    /// Sends a press or release of a key or button.
    pub(super) fn send_key(&mut self, key: Key, motion: Motion) -> Result<(), BackendError> {
        self.injector.send_key(&self.link, key, motion)
    }

    pub(super) fn flush(&mut self) -> Result<(), BackendError> {
        self.injector.flush(&self.link)
    }

    /// Performs a whole batch whose characters the keyboard has.
    pub(super) fn perform_batch(
        &mut self,
        now: Time,
        batch: &InputBatch,
    ) -> Result<(), BackendError> {
        self.note_typed(now, batch);
        let mut suspended = self.begin_batch(batch)?;
        for action in &batch.actions {
            self.perform_action(action)?;
        }
        // A physical modifier that a rule released lost its press with it, and is restored like one that
        // was suspended.
        suspended.extend(modifier_codes(batch.actions.iter().filter_map(|action| match action {
            InputAction::Up(key) => Some(key),
            _ => None,
        })));
        if batch.actions.iter().any(is_movement) {
            self.presses.note_pointer_moved();
        }
        self.end_batch(batch, suspended)
    }

    fn note_typed(&mut self, now: Time, batch: &InputBatch) {
        let is_typed =
            |action: &&InputAction| matches!(action, InputAction::Text(_) | InputAction::Tap(_));
        for action in batch.actions.iter().filter(is_typed) {
            self.windows.note_typed();
            // Clicks do not pass through input methods.
            if !matches!(action, InputAction::Tap(keys) if keys.iter().copied().all(is_pointed)) {
                self.methods.note_typed(now);
            }
        }
    }

    /// Suspends what must not be down; gives the keycodes of the person's modifiers among it.
    fn begin_batch(&mut self, batch: &InputBatch) -> Result<Vec<u8>, BackendError> {
        let keys = || batch.actions.iter().flat_map(keys_of).copied();
        let at_pointer = keys().any(is_pointed) || batch.actions.iter().any(is_movement);
        let is_nothing_down = self.answers_button_alone();
        let mut suspended = Vec::new();
        if batch.suspend_modifiers {
            let keep: Vec<u8> = batch.keep.iter().filter_map(|key| keycode_of(*key)).collect();
            suspended = match self.presses.take_pressed_under() {
                // The press that led here said which modifiers were down; both sides of each are
                // released, since a release of a key that is up does nothing.
                Some(mask) => self.keyboard.keymap().modifier_codes(mask).collect(),
                None => self.modifiers_to_suspend()?,
            };
            suspended.retain(|code| !keep.contains(code));
        }
        self.end_active_grabs(at_pointer)?;
        for detail in keys().filter_map(KeyOrButton::of) {
            self.grabs.suspend_for_batch(&self.link, detail)?;
        }
        self.keyboard.suspend_accessx(&self.link)?;
        self.injector.release_modifiers(&self.link, self.keyboard.keymap(), &suspended)?;
        for key in &batch.park {
            self.send_key(*key, Motion::Up)?;
        }
        if !is_nothing_down {
            self.release_keys(batch)?;
        }
        Ok(suspended)
    }

    /// Releases the keys that a batch types or taps, as the person may still hold one: a key that is down
    /// cannot be pressed. A release of a key that is up does nothing.
    fn release_keys(&mut self, batch: &InputBatch) -> Result<(), BackendError> {
        let mut codes = Vec::new();
        for action in &batch.actions {
            match action {
                InputAction::Text(text) => {
                    codes.extend(text.chars().filter_map(|c| Some(self.spell(c)?.0)));
                }
                // Modifiers are suspended already.
                InputAction::Tap(keys) => {
                    let plain = keys.iter().filter(|key| ModifierKey::of(**key).is_none());
                    codes.extend(plain.filter_map(|key| keycode_of(*key)));
                }
                _ => {}
            }
        }
        codes.sort_unstable();
        codes.dedup();
        let is_kept = |code| batch.keep.iter().any(|key| keycode_of(*key) == Some(code));
        for code in codes {
            // The grab of a grabbed key ends with its release.
            if !is_kept(code) && !self.grabs.has(KeyOrButton::Code(code)) {
                self.send_code(code, Motion::Up)?;
            }
        }
        Ok(())
    }

    /// Restores what was suspended for a batch, if the person still holds it.
    fn end_batch(&mut self, batch: &InputBatch, suspended: Vec<u8>) -> Result<(), BackendError> {
        for key in &batch.park {
            self.send_key(*key, Motion::Down)?;
        }
        self.grabs.end_batch(&self.link, batch)?;
        self.restore_modifiers(suspended)?;
        self.keyboard.resume_accessx(&self.link)?;
        self.grabs.grab_keyboard_if_wanted(&self.link)?;
        let writes_text = batch.actions.iter().any(|action| matches!(action, InputAction::Text(_)));
        self.injector.bound_queue(&self.link, writes_text)
    }

    fn perform_action(&mut self, action: &InputAction) -> Result<(), BackendError> {
        match action {
            InputAction::Tap(keys) => {
                for key in keys {
                    self.send_key(*key, Motion::Down)?;
                }
                for key in keys.iter().rev() {
                    self.send_key(*key, Motion::Up)?;
                }
                Ok(())
            }
            InputAction::Down(key) => self.send_key(*key, Motion::Down),
            InputAction::Up(key) => self.send_key(*key, Motion::Up),
            InputAction::Text(text) => self.type_text(text),
            InputAction::MoveBy(x, y) => injector::move_by(&self.link, *x, *y),
            InputAction::MoveTo(x, y) => injector::move_to(&self.link, (*x, *y)),
        }
    }

    /// Types characters that the layout has, or that a spare keycode was lent to.
    fn type_text(&mut self, text: &str) -> Result<(), BackendError> {
        let has_caps = self.keyboard.locked() & LOCK != 0;
        if has_caps {
            set_locks(&self.link, LOCK, 0)?;
        }
        let mut level = ShiftLevel::Plain;
        for character in text.chars() {
            let Some((code, wanted)) = self.spell(character) else {
                continue;
            };
            let keymap = self.keyboard.keymap();
            self.injector.change_level(&self.link, keymap, level, wanted)?;
            level = wanted;
            let (link, injector) = (&self.link, &mut self.injector);
            let tap = || injector.tap_code(link, code);
            self.grabs.without(link, KeyOrButton::Code(code), tap)?;
        }
        let keymap = self.keyboard.keymap();
        self.injector.change_level(&self.link, keymap, level, ShiftLevel::Plain)?;
        if has_caps {
            set_locks(&self.link, LOCK, LOCK)?;
        }
        Ok(())
    }

    /// The keycode and level that give a character now.
    fn spell(&self, character: char) -> Option<(u8, ShiftLevel)> {
        self.temporary_keymap.spell(self.keyboard.keymap(), character)
    }
}

/// Characters that the layout lacks, and the clipboard.
impl X11Backend {
    /// Begins a batch, and reports its outcome now or later.
    pub(super) fn begin_effect(
        &mut self,
        now: Time,
        effect: EffectId,
        batch: &InputBatch,
    ) -> Result<(), BackendError> {
        if batch.types()
            && let Some(message) = self.windows.focus_problem(&self.link)?
        {
            self.queue.push_outcome(effect, Err(message));
            return Ok(());
        }
        let keymap = self.keyboard.keymap();
        if self.temporary_keymap.missing_characters(keymap, batch).next().is_some() {
            let batch = batch.clone();
            return self.lend(now, |lending, cx| lending.begin(cx, effect, batch));
        }
        self.perform_batch(now, batch)?;
        if self.presses.take_answering() {
            self.link.conn.wait_at_most(&super::BREATH)?;
        }
        self.queue.push_outcome(effect, Ok(None));
        Ok(())
    }

    /// Has the temporary keymap do something, and does what it then needs.
    pub(super) fn lend(
        &mut self,
        now: Time,
        work: impl FnOnce(
            &mut TemporaryKeymap,
            &mut LendingContext<'_>,
        ) -> Result<LendingStep, BackendError>,
    ) -> Result<(), BackendError> {
        let step = self.with_lending(now, work)?;
        match step {
            LendingStep::Wait => Ok(()),
            LendingStep::Perform(batch) => {
                self.perform_batch(now, &batch)?;
                self.with_lending(now, TemporaryKeymap::after_batch)
            }
            LendingStep::Report(outcome) => {
                self.queue.push_outcome_event(outcome);
                self.end_pings()
            }
        }
    }

    fn with_lending<T>(
        &mut self,
        now: Time,
        work: impl FnOnce(&mut TemporaryKeymap, &mut LendingContext<'_>) -> T,
    ) -> T {
        let mut cx = LendingContext {
            now,
            link: &self.link,
            keymap: self.keyboard.keymap(),
            injector: &mut self.injector,
            methods: &mut self.methods,
            process: self.windows.front().process,
        };
        work(&mut self.temporary_keymap, &mut cx)
    }

    /// Selects the answers to pings as long as one is awaited. They come by way of the root window, which
    /// reports much else meanwhile.
    pub(super) fn end_pings(&mut self) -> Result<(), BackendError> {
        let awaits_pong = self.temporary_keymap.awaits_pong()
            || self.windows.awaits_pong()
            || self.clipboard.awaits_pong();
        select_root_events(&self.link, awaits_pong)
    }

    /// Has the clipboard do something, and does what it then needs.
    pub(super) fn use_clipboard(
        &mut self,
        now: Time,
        work: impl FnOnce(&mut ClipboardWork<'_>) -> Result<(), BackendError>,
    ) -> Result<(), BackendError> {
        work(&mut ClipboardWork {
            clipboard: &mut self.clipboard,
            link: &self.link,
            layout: &self.keyboard.keymap().layout,
            front: self.windows.front(),
            now,
        })?;
        self.queue.extend_outcomes(self.clipboard.take_outcomes());
        match self.clipboard.take_paste_keys() {
            Some(keys) => self.tap_paste_keys(now, keys),
            None => Ok(()),
        }
    }

    fn tap_paste_keys(&mut self, now: Time, keys: Vec<Key>) -> Result<(), BackendError> {
        let batch = InputBatch {
            actions: vec![InputAction::Tap(keys)],
            suspend_modifiers: true,
            ..InputBatch::default()
        };
        self.perform_batch(now, &batch)?;
        if let Some(window) = windows::focused_window(&self.link)? {
            ping(&self.link, window, PingClient::Clipboard)?;
        }
        self.flush()
    }
}

/// Commands to windows and the clipboard.
impl X11Backend {
    /// Executes a command, if the display is what it is for; whether it is.
    pub(super) fn execute_command(
        &mut self,
        now: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError> {
        let word = command.arguments.first().map_or("", String::as_str);
        let result = match command.kind {
            CommandKind::Focus => match windows::of_program(&self.link, word)? {
                Some(window) => return self.focus(now, effect, window, Some(word)),
                None => Err(no_window(word)),
            },
            CommandKind::FocusWindow(window) => {
                let window = Window::try_from(window).unwrap_or(x11rb::NONE);
                return self.focus(now, effect, window, None);
            }
            CommandKind::Close => match windows::of_program(&self.link, word)? {
                Some(window) => windows::close(&self.link, window).map(|()| Ok(None))?,
                None => Err(no_window(word)),
            },
            CommandKind::Paste => match self.windows.focus_problem(&self.link)? {
                Some(message) => Err(message),
                None => {
                    self.use_clipboard(now, |clipboard| clipboard.paste(effect, word))?;
                    return Ok(true);
                }
            },
            CommandKind::ReadClipboard => {
                self.use_clipboard(now, |clipboard| clipboard.read_clipboard(effect))?;
                return Ok(true);
            }
            _ => return Ok(false),
        };
        self.queue.push_outcome(effect, result);
        self.flush()?;
        Ok(true)
    }

    fn focus(
        &mut self,
        now: Time,
        effect: EffectId,
        window: Window,
        name: Option<&str>,
    ) -> Result<bool, BackendError> {
        if let Some(outcome) = self.windows.focus(&self.link, now, effect, window, name)? {
            self.queue.push_outcome_event(outcome);
        }
        self.flush()?;
        Ok(true)
    }
}

fn no_window(name: &str) -> CommandError {
    CommandError::not_found(format!("no window of `{name}` is open"))
}

fn keys_of(action: &InputAction) -> &[Key] {
    match action {
        InputAction::Tap(keys) => keys,
        InputAction::Down(key) | InputAction::Up(key) => std::slice::from_ref(key),
        InputAction::Text(_) | InputAction::MoveBy(..) | InputAction::MoveTo(..) => &[],
    }
}

fn is_movement(action: &InputAction) -> bool {
    matches!(action, InputAction::MoveBy(..) | InputAction::MoveTo(..))
}
