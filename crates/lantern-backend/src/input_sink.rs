//! Batches of input for back ends that forward every key themselves, after a [`KeyFilter`].

use lantern_model::{CommandError, InputAction, InputBatch, Key, KeyKind, ModifierKey};

use crate::{BackendError, KeyFilter};

/// Where keys and pointer movements go.
pub trait InputSink {
    /// A key or button by its kernel code: 0 is up, 1 down, 2 a repeat.
    fn key(&mut self, code: u16, value: i32);

    /// One turn of the wheel.
    fn turn(&mut self, wheel: Key);

    /// Moves the pointer by pixels.
    fn move_by(&mut self, x: i32, y: i32);

    /// Moves the pointer to a pixel of the screen.
    fn move_to(&mut self, x: i32, y: i32);

    /// Why the pointer cannot be moved to a place, if it cannot.
    ///
    /// # Errors
    /// When the size of the screen is unknown.
    fn check_move_to(&self) -> Result<(), CommandError>;

    /// Sends what was written.
    ///
    /// # Errors
    /// When the desktop or the device is gone.
    fn flush(&mut self) -> Result<(), BackendError>;

    /// Taps a key that means nothing, so that a modifier was not pressed alone.
    fn tap_meaningless(&mut self);

    /// Why a text cannot be typed, if it cannot.
    ///
    /// # Errors
    /// When the layout lacks a character, unless the sink has other ways.
    fn check_text(&self, filter: &KeyFilter, text: &str) -> Result<(), CommandError> {
        let group = filter.layout().group();
        match text.chars().find(|character| group.key_for(*character).is_none()) {
            None => Ok(()),
            Some(character) => {
                Err(CommandError::unsupported(format!("no key of this layout types {character:?}")))
            }
        }
    }

    /// Types a text that was checked, by the keys of the layout unless the sink has other ways.
    ///
    /// # Errors
    /// When the desktop or the device is gone.
    fn type_text(&mut self, filter: &KeyFilter, text: &str) -> Result<(), BackendError> {
        let caps = Key::named("caps-lock").filter(|_| filter.caps_is_on());
        self.tap_lock(caps)?;
        for character in text.chars() {
            let spelled = filter.layout().group().key_for(character);
            let Some((key, level)) = spelled else { continue };
            let with: Vec<Key> = level.modifier_keys().iter().map(|side| side.key()).collect();
            for key in &with {
                self.write_key(*key, true);
            }
            self.write_key(key, true);
            self.flush()?;
            self.write_key(key, false);
            for key in with.iter().rev() {
                self.write_key(*key, false);
            }
            self.flush()?;
        }
        self.tap_lock(caps)
    }

    /// Writes a key down or up. Keys without a kernel code are left out.
    fn write_key(&mut self, key: Key, down: bool) {
        if let Some(code) = key.kernel() {
            self.key(code, i32::from(down));
        }
    }

    /// Taps a lock key, if one is given.
    ///
    /// # Errors
    /// When the desktop or the device is gone.
    fn tap_lock(&mut self, lock: Option<Key>) -> Result<(), BackendError> {
        let Some(lock) = lock else { return Ok(()) };
        for down in [true, false] {
            self.write_key(lock, down);
            self.flush()?;
        }
        Ok(())
    }
}

/// Sends a batch as a whole; the inner error says why not, if it cannot be sent.
///
/// # Errors
/// When the desktop or the device is gone.
pub fn send_batch(
    filter: &mut KeyFilter,
    sink: &mut impl InputSink,
    batch: &InputBatch,
) -> Result<Result<(), CommandError>, BackendError> {
    if let Err(why) = check(filter, sink, batch) {
        return Ok(Err(why));
    }
    let suspended: Vec<Key> = match batch.suspend_modifiers {
        true => filter.shown_modifiers().iter().map(ModifierKey::key).collect(),
        false => Vec::new(),
    };
    let suspended: Vec<Key> =
        suspended.into_iter().filter(|key| !batch.keep.contains(key)).collect();
    suspend(sink, &suspended);
    for key in &batch.park {
        sink.write_key(*key, false);
    }
    // A key that is down cannot be pressed, and a typed key may be physically down.
    for key in keys_in_the_way(filter, batch) {
        filter.hide(key);
        sink.write_key(key, false);
    }
    sink.flush()?;
    for action in &batch.actions {
        send_action(filter, sink, action, &suspended)?;
        sink.flush()?;
    }
    for key in &batch.park {
        sink.write_key(*key, true);
    }
    // Keys that went up meanwhile are reported as released by their own device, right after this.
    for key in &suspended {
        sink.write_key(*key, true);
    }
    sink.flush()?;
    Ok(Ok(()))
}

fn check(
    filter: &KeyFilter,
    sink: &impl InputSink,
    batch: &InputBatch,
) -> Result<(), CommandError> {
    batch.actions.iter().try_for_each(|action| match action {
        InputAction::MoveTo(..) => sink.check_move_to(),
        InputAction::Text(text) => sink.check_text(filter, text),
        _ => Ok(()),
    })
}

/// The keys that a batch types or taps and that are physically down.
fn keys_in_the_way(filter: &KeyFilter, batch: &InputBatch) -> Vec<Key> {
    let group = filter.layout().group();
    let mut keys = Vec::new();
    for action in &batch.actions {
        match action {
            InputAction::Text(text) => {
                keys.extend(text.chars().filter_map(|character| Some(group.key_for(character)?.0)));
            }
            InputAction::Tap(tapped) => keys.extend(tapped.iter().copied()),
            _ => {}
        }
    }
    keys.retain(|key| filter.is_shown(*key) && ModifierKey::of(*key).is_none());
    keys
}

/// Releases modifiers for a batch. One that opens a menu when it is released alone gets company.
fn suspend(sink: &mut impl InputSink, keys: &[Key]) {
    let opens_menu = |key: &Key| {
        ModifierKey::of(*key).is_some_and(|side| {
            !matches!(
                side,
                ModifierKey::LeftShift
                    | ModifierKey::RightShift
                    | ModifierKey::LeftCtrl
                    | ModifierKey::RightCtrl
            )
        })
    };
    if keys.iter().any(opens_menu) {
        sink.tap_meaningless();
    }
    for key in keys {
        sink.write_key(*key, false);
    }
}

fn send_action(
    filter: &mut KeyFilter,
    sink: &mut impl InputSink,
    action: &InputAction,
    suspended: &[Key],
) -> Result<(), BackendError> {
    match action {
        InputAction::Tap(keys) => {
            for key in keys {
                send_key(filter, sink, *key, true, suspended);
                sink.flush()?;
            }
            for key in keys.iter().rev() {
                send_key(filter, sink, *key, false, suspended);
                sink.flush()?;
            }
        }
        InputAction::Down(key) => send_key(filter, sink, *key, true, suspended),
        InputAction::Up(key) => send_key(filter, sink, *key, false, suspended),
        InputAction::Text(text) => sink.type_text(filter, text)?,
        InputAction::MoveBy(x, y) => sink.move_by(*x, *y),
        InputAction::MoveTo(x, y) => sink.move_to(*x, *y),
    }
    Ok(())
}

/// Writes a key down or up, unless it is physically in the other state. A suspended modifier is up for the
/// programs although it is physically down.
fn send_key(
    filter: &mut KeyFilter,
    sink: &mut impl InputSink,
    key: Key,
    down: bool,
    suspended: &[Key],
) {
    let is_wanted = |filter: &mut KeyFilter| filter.note_own(key, down) || suspended.contains(&key);
    if key.kind() == KeyKind::Wheel {
        if down {
            sink.turn(key);
        }
    } else if is_wanted(filter) {
        sink.write_key(key, down);
    }
}
