//! The portal back end: shortcuts and input by the desktop portals, for Wayland sessions in which we may not read the
//! kernel's devices. The person agrees to both in the desktop's own words, once.
//!
//! The portal tells of whole combinations only, so rules for single keys that go through, remaps, shapes and
//! abbreviations are not to be had here. `bus` speaks with the portal on a thread of its own; here stands what
//! follows from what it says.

mod bus;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::os::fd::BorrowedFd;
use std::path::PathBuf;
use std::time::Duration;

use lantern_model::{
    Command, CommandError, EffectId, Event, GrabSet, HeldModifiers, InputAction, InputBatch, Key,
    KeyCombination, KeyKind, Layout, ModifierSet, ReplayKey, Time,
};

use bus::{Portal, PortalEvent, PortalInput};
use lantern_backend::keysyms::character_keysym;
use lantern_backend::without_session;
use lantern_backend::{Backend, BackendError, system_layout};

pub use bus::{PortalOffers, portal_offers};

/// Maximum time for which a batch waits until the person has released the combination that fired
/// it: the portal cannot release keys that are physically held.
const RELEASE_TIMEOUT: Duration = Duration::from_secs(2);

/// A combination that the portal is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequestedShortcut {
    /// The combination, as the rules write it.
    pub combo: KeyCombination,
    /// What it does, for the person who is asked.
    pub description: String,
}

/// A combination that the portal gave us.
#[derive(Debug, Clone, Copy)]
struct GrantedShortcut {
    key: Key,
    modifiers: HeldModifiers,
    families: ModifierSet,
}

/// A batch that waits until held modifiers are up.
#[derive(Debug)]
struct PendingStep {
    effect: EffectId,
    moves: Vec<PortalInput>,
    until: Time,
}

/// The back end that uses the desktop's portals.
#[derive(Debug)]
pub struct PortalBackend {
    portal: Portal,
    grabs: GrabSet,
    given: BTreeMap<String, GrantedShortcut>,
    /// Combinations that are down.
    down: BTreeSet<String>,
    waiting: VecDeque<PendingStep>,
    events: VecDeque<Event>,
}

impl PortalBackend {
    /// Asks the portal for these combinations and for input. The person may take their time to agree; `token`
    /// is the file in which is kept that they did.
    ///
    /// # Errors
    /// When there is no session bus, or no portal on it that has both.
    pub fn open(
        wanted: &[RequestedShortcut],
        token: PathBuf,
    ) -> Result<PortalBackend, BackendError> {
        let layout = system_layout();
        let mut given = BTreeMap::new();
        let mut shortcuts = Vec::new();
        for (number, RequestedShortcut { combo, description }) in wanted.iter().enumerate() {
            let Some((trigger, one)) = given_for(combo, &layout) else { continue };
            let id = format!("lantern-{number}");
            shortcuts.push((id.clone(), description.clone(), trigger));
            given.insert(id, one);
        }
        let portal = Portal::open(shortcuts, token)?;
        Ok(PortalBackend {
            portal,
            events: VecDeque::from([Event::Layout(layout)]),
            grabs: GrabSet::default(),
            given,
            down: BTreeSet::new(),
            waiting: VecDeque::new(),
        })
    }

    fn take_told(&mut self, told: PortalEvent) -> Result<(), BackendError> {
        match told {
            PortalEvent::Pressed(id) => {
                let Some(given) = self.given.get(&id).copied() else { return Ok(()) };
                let GrantedShortcut { key, modifiers, families } = given;
                // Of a rule for another place it is nobody's: the portal has taken it all the same.
                let is_grabbed =
                    |grab: &lantern_model::KeyGrab| grab.key == key && grab.modifiers == families;
                if self.down.insert(id) && self.grabs.keys.iter().any(is_grabbed) {
                    self.events.push_back(Event::Pressed { key, modifiers });
                }
            }
            PortalEvent::Released(id) => {
                if let (true, Some(given)) = (self.down.remove(&id), self.given.get(&id)) {
                    self.events.push_back(Event::Released { key: given.key });
                }
            }
            PortalEvent::Done(effect, result) => {
                self.events.push_back(Event::Outcome { effect, result: result.map(|()| None) });
            }
            PortalEvent::Ended(why) => return Err(BackendError::Portal { why }),
        }
        Ok(())
    }

    /// Sends the batches for which no held modifier is in the way any more.
    fn send_waiting(&mut self, now: Time) {
        let held = self.down.iter().any(|id| !self.given[id].modifiers.is_empty());
        while self.waiting.front().is_some_and(|step| !held || step.until <= now) {
            if let Some(PendingStep { effect, moves, .. }) = self.waiting.pop_front() {
                self.portal.send(effect, moves);
            }
        }
    }

    /// A step as the portal takes it; why not, if it cannot be done.
    fn moves_of(&self, step: &InputBatch) -> Result<Vec<PortalInput>, CommandError> {
        let mut moves = Vec::new();
        for key in &step.park {
            moves.push(key_move(*key, false)?);
        }
        for act in &step.actions {
            match act {
                InputAction::Tap(keys) if keys.iter().any(|key| key.kind() == KeyKind::Wheel) => {
                    let turns = keys.iter().filter(|key| key.kind() == KeyKind::Wheel);
                    moves.extend(turns.filter_map(|key| turn(*key)));
                }
                InputAction::Tap(keys) => {
                    for key in keys {
                        moves.push(key_move(*key, true)?);
                    }
                    for key in keys.iter().rev() {
                        moves.push(key_move(*key, false)?);
                    }
                }
                InputAction::Down(key) => moves.push(key_move(*key, true)?),
                InputAction::Up(key) => moves.push(key_move(*key, false)?),
                InputAction::Text(text) => {
                    for character in text.chars() {
                        let symbol = symbol_of(character);
                        moves.extend([
                            PortalInput::Symbol(symbol, true),
                            PortalInput::Symbol(symbol, false),
                        ]);
                    }
                }
                InputAction::MoveBy(x, y) => {
                    moves.push(PortalInput::Motion((*x).into(), (*y).into()))
                }
                InputAction::MoveTo(..) => {
                    return Err(CommandError::unsupported(
                        "the portal moves the pointer by steps only, not to a place",
                    ));
                }
            }
        }
        for key in &step.park {
            moves.push(key_move(*key, true)?);
        }
        Ok(moves)
    }
}

/// What is asked for, and what it is when it comes.
fn given_for(combo: &KeyCombination, layout: &Layout) -> Option<(String, GrantedShortcut)> {
    let keys = layout.press_order(combo).ok()?;
    let (key, held) = keys.split_last()?;
    if key.is_pointer() || held.iter().any(|key| lantern_model::ModifierKey::of(*key).is_none()) {
        return None;
    }
    let modifiers: HeldModifiers =
        held.iter().filter_map(|key| lantern_model::ModifierKey::of(*key)).collect();
    let families = modifiers.modifiers(layout.alt_gr_is_level3);
    Some((trigger_words(*key, families)?, GrantedShortcut { key: *key, modifiers, families }))
}

/// A combination as the XDG shortcuts specification writes it: `CTRL+SHIFT+F9`.
fn trigger_words(key: Key, families: ModifierSet) -> Option<String> {
    use lantern_model::Modifier;
    let mut parts: Vec<&str> = [
        (Modifier::Ctrl, "CTRL"),
        (Modifier::Alt, "ALT"),
        (Modifier::Shift, "SHIFT"),
        (Modifier::Super, "LOGO"),
    ]
    .into_iter()
    .filter_map(|(family, word)| families.contains(family).then_some(word))
    .collect();
    if families.contains(Modifier::Level3) {
        return None;
    }
    let name = xkeysym::Keysym::new(key.keysym()?).name()?;
    parts.push(name.trim_start_matches("XK_"));
    Some(parts.join("+"))
}

fn key_move(key: Key, down: bool) -> Result<PortalInput, CommandError> {
    let code =
        key.kernel().ok_or_else(|| CommandError::unsupported(format!("{key} cannot be held")))?;
    Ok(if key.is_pointer() {
        PortalInput::Button(code, down)
    } else {
        PortalInput::Key(code, down)
    })
}

fn turn(key: Key) -> Option<PortalInput> {
    // The axis, 0 for up and down, and the steps along it.
    let (axis, steps) = match key.name() {
        "wheel-up" => (0, -1),
        "wheel-down" => (0, 1),
        "wheel-left" => (1, -1),
        "wheel-right" => (1, 1),
        _ => return None,
    };
    Some(PortalInput::Turn(axis, steps))
}

fn symbol_of(character: char) -> u32 {
    match character {
        '\n' | '\r' => 0xff0d,
        '\t' => 0xff09,
        '\u{8}' => 0xff08,
        '\u{1b}' => 0xff1b,
        character => character_keysym(character),
    }
}

impl Backend for PortalBackend {
    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError> {
        self.grabs = grabs;
        Ok(())
    }

    fn send_input(
        &mut self,
        now: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        match self.moves_of(step) {
            Ok(moves) => {
                let until = if step.suspend_modifiers { now + RELEASE_TIMEOUT } else { now };
                self.waiting.push_back(PendingStep { effect, moves, until });
                self.send_waiting(now);
            }
            Err(why) => self.events.push_back(Event::Outcome { effect, result: Err(why) }),
        }
        Ok(())
    }

    fn replay_key(&mut self, _: Time, back: &ReplayKey) -> Result<(), BackendError> {
        // It was a whole combination, and the program never knew of it: it gets all of it.
        let keys: Vec<Key> = back
            .modifiers
            .iter()
            .map(lantern_model::ModifierKey::key)
            .chain(back.output.clone())
            .collect();
        let down = keys.iter().filter_map(|key| key_move(*key, true).ok());
        let up = keys.iter().rev().filter_map(|key| key_move(*key, false).ok());
        self.portal.send(bus::WITHOUT_OUTCOME, down.chain(up).collect());
        Ok(())
    }

    fn execute(
        &mut self,
        _: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError> {
        let Some(why) = without_session(&command.kind) else { return Ok(false) };
        self.events
            .push_back(Event::Outcome { effect, result: Err(CommandError::unsupported(why)) });
        Ok(true)
    }

    fn poll_event(&mut self, now: Time) -> Result<Option<Event>, BackendError> {
        while let Some(told) = self.portal.next_told() {
            self.take_told(told)?;
        }
        self.send_waiting(now);
        Ok(self.events.pop_front())
    }

    fn handle_deadline(&mut self, now: Time) -> Result<(), BackendError> {
        self.send_waiting(now);
        Ok(())
    }

    fn next_deadline(&self) -> Option<Time> {
        self.waiting.front().map(|step| step.until)
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.portal.descriptor())
    }
}
