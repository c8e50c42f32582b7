//! Steps of input, written through the devices of our own.

use lantern_model::{CommandError, InputAction, InputBatch, Key, KeyKind, ModifierKey};

use super::EvdevBackend;
use super::uinput_output;
use lantern_backend::BackendError;

impl EvdevBackend {
    /// Does a step as a whole; why not, if it cannot be done.
    pub(super) fn do_step(
        &mut self,
        step: &InputBatch,
    ) -> Result<Result<(), CommandError>, BackendError> {
        if let Err(why) = self.check(step) {
            return Ok(Err(why));
        }
        let lifted: Vec<Key> = match step.suspend_modifiers {
            true => self.key_filter.shown_modifiers().iter().map(ModifierKey::key).collect(),
            false => Vec::new(),
        };
        let lifted: Vec<Key> = lifted.into_iter().filter(|key| !step.keep.contains(key)).collect();
        self.lift(&lifted);
        for key in &step.park {
            self.write_key(*key, false);
        }
        // A key that is down cannot be pressed, and a typed key may be physically down.
        for key in self.keys_of(step) {
            self.key_filter.hide(key);
            self.write_key(key, false);
        }
        self.output.flush()?;
        for act in &step.actions {
            self.act(act)?;
            self.output.flush()?;
        }
        for key in &step.park {
            self.write_key(*key, true);
        }
        // Keys that went up meanwhile are reported as released by their own device, right after
        // this.
        for key in &lifted {
            self.write_key(*key, true);
        }
        self.output.flush()?;
        Ok(Ok(()))
    }

    /// The keys that a batch types or taps and that are physically down.
    fn keys_of(&self, step: &InputBatch) -> Vec<Key> {
        let group = self.key_filter.layout().group();
        let mut keys = Vec::new();
        for act in &step.actions {
            match act {
                InputAction::Text(text) => {
                    keys.extend(
                        text.chars().filter_map(|character| Some(group.key_for(character)?.0)),
                    );
                }
                InputAction::Tap(tapped) => keys.extend(tapped.iter().copied()),
                _ => {}
            }
        }
        keys.retain(|key| self.key_filter.is_shown(*key) && ModifierKey::of(*key).is_none());
        keys
    }

    /// Modifiers out of the way. One that opens a menu when it goes up alone gets company.
    fn lift(&mut self, keys: &[Key]) {
        let opens = |key: &Key| {
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
        if keys.iter().any(opens) {
            self.output.key(uinput_output::MEANINGLESS, 1);
            self.output.key(uinput_output::MEANINGLESS, 0);
        }
        for key in keys {
            self.write_key(*key, false);
        }
    }

    fn check(&self, step: &InputBatch) -> Result<(), CommandError> {
        for act in &step.actions {
            match act {
                InputAction::MoveTo(..) if self.screen.is_none() => {
                    return Err(CommandError::unavailable(
                        "the size of the screen is not known; `--screen 1920x1080` gives it",
                    ));
                }
                InputAction::Text(text) => {
                    let group = self.key_filter.layout().group();
                    let missing =
                        text.chars().find(|character| group.key_for(*character).is_none());
                    if let Some(character) = missing {
                        return Err(CommandError::unsupported(format!(
                            "no key of this layout types {character:?}"
                        )));
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn act(&mut self, act: &InputAction) -> Result<(), BackendError> {
        match act {
            InputAction::Tap(keys) => {
                for key in keys {
                    self.send_key(*key, true);
                    self.output.flush()?;
                }
                for key in keys.iter().rev() {
                    self.send_key(*key, false);
                    self.output.flush()?;
                }
            }
            InputAction::Down(key) => self.send_key(*key, true),
            InputAction::Up(key) => self.send_key(*key, false),
            InputAction::Text(text) => self.type_text(text)?,
            InputAction::MoveBy(x, y) => {
                self.output.motion(0, *x);
                self.output.motion(1, *y);
            }
            InputAction::MoveTo(x, y) => self.output.move_to(*x, *y),
        }
        Ok(())
    }

    /// Writes a key down or up, unless it is physically in the other state.
    fn send_key(&mut self, key: Key, down: bool) {
        if key.kind() == KeyKind::Wheel {
            if down {
                self.output.turn(key);
            }
        } else if self.key_filter.note_own(key, down) {
            self.write_key(key, down);
        }
    }

    pub(super) fn write_key(&mut self, key: Key, down: bool) {
        if let Some(code) = key.kernel() {
            self.output.key(code, i32::from(down));
        }
    }

    fn type_text(&mut self, text: &str) -> Result<(), BackendError> {
        let caps = Key::named("caps-lock").filter(|_| self.key_filter.caps_is_on());
        self.tap_lock(caps)?;
        for character in text.chars() {
            // Whether all are there was looked at before anything went out.
            let spelled = self.key_filter.layout().group().key_for(character);
            let Some((key, level)) = spelled else { continue };
            let with: Vec<Key> = level.modifier_keys().iter().map(|side| side.key()).collect();
            for key in &with {
                self.write_key(*key, true);
            }
            self.write_key(key, true);
            self.output.flush()?;
            self.write_key(key, false);
            for key in with.iter().rev() {
                self.write_key(*key, false);
            }
            self.output.flush()?;
        }
        self.tap_lock(caps)
    }

    fn tap_lock(&mut self, lock: Option<Key>) -> Result<(), BackendError> {
        let Some(lock) = lock else { return Ok(()) };
        for down in [true, false] {
            self.write_key(lock, down);
            self.output.flush()?;
        }
        Ok(())
    }
}
