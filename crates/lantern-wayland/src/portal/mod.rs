//! The portal back end: shortcuts and input by the desktop portals, for Wayland sessions in which the
//! kernel's devices may not be read. The person agrees to both in the desktop's own dialogs.
//!
//! The portal reports whole combinations only: single keys that pass, remaps, shapes and abbreviations cannot
//! be had here. Shortcuts and input are each optional: where one is missing, the rules that need it are named
//! and all others work. `shortcuts` and `input` speak with the portal on a thread each; this module decides
//! what follows from their reports.

mod bus;
mod input;
mod shortcuts;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;
use std::time::Duration;

use futures::channel::mpsc::{UnboundedSender, unbounded};
use futures::executor::block_on;
use lantern_model::{
    Command, CommandError, ConnectionState, EffectId, Event, GrabSet, HeldModifiers, InputAction,
    InputBatch, Key, KeyCombination, KeyGrab, KeyKind, Layout, ModifierSet, Refusal, ReplayKey,
    RuleSet, Time, TriggerKind,
};
use rustix::event::{EventfdFlags, eventfd};
use zbus::Connection;

use input::{Batch, PortalInput, WITHOUT_OUTCOME, serve_input};
use lantern_backend::keysyms::typed_keysym;
use lantern_backend::without_session;
use lantern_backend::{Ability, Backend, BackendError, system_layout};
use shortcuts::{PortalShortcut, serve_shortcuts};

pub use bus::{PortalOffers, portal_offers};

/// Maximum time for which a batch waits until the person has released the combination that fired
/// it: the portal cannot release keys that are physically held.
const RELEASE_TIMEOUT: Duration = Duration::from_secs(2);
/// The names under which the log and `watch` report the two parts of the portal.
const SHORTCUTS_PART: &str = "shortcuts of the portal";
const INPUT_PART: &str = "input by the portal";

/// What the threads report.
#[derive(Debug)]
enum PortalEvent {
    /// The ids of the shortcuts that the desktop granted.
    ShortcutsGranted(BTreeSet<String>),
    /// There are no shortcuts, or none any more.
    ShortcutsLost(String),
    InputReady,
    /// No input can be made, or none any more.
    InputLost(String),
    Pressed(String),
    Released(String),
    /// A batch was sent, or was not.
    Done(EffectId, Result<(), CommandError>),
}

/// Sends events from the threads to the event loop.
#[derive(Debug, Clone)]
struct PortalEventSender {
    events: Sender<PortalEvent>,
    waker: Arc<OwnedFd>,
}

impl PortalEventSender {
    fn send(&self, event: PortalEvent) {
        // If the receiver is gone, the program is ending.
        if self.events.send(event).is_ok() {
            let _ = rustix::io::write(&*self.waker, &1u64.to_ne_bytes());
        }
    }
}

/// A combination that the portal is asked for.
#[derive(Debug, Clone, Copy)]
struct RequestedShortcut {
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

/// What the desktop answered about shortcuts.
#[derive(Debug)]
enum ShortcutState {
    /// It was asked and has not answered.
    Pending,
    /// The ids that it granted.
    Granted(BTreeSet<String>),
    /// There are none, for this reason.
    Unavailable(String),
}

/// What the desktop answered about input.
#[derive(Debug)]
enum InputState {
    Pending,
    Ready,
    Unavailable(String),
}

/// The back end that uses the desktop's portals.
#[derive(Debug)]
pub struct PortalBackend {
    events_of_threads: Receiver<PortalEvent>,
    waker: Arc<OwnedFd>,
    wanted_shortcuts: UnboundedSender<Vec<PortalShortcut>>,
    batches: UnboundedSender<Batch>,
    layout: Layout,
    /// Whether the compositor tells which window is in front.
    knows_front: bool,
    grabs: GrabSet,
    requested: BTreeMap<String, RequestedShortcut>,
    /// The list that the thread was given last.
    asked: Vec<PortalShortcut>,
    shortcuts: ShortcutState,
    input: InputState,
    /// Grabs that were reported as refused.
    refused: BTreeSet<(Key, ModifierSet)>,
    /// Combinations that are down.
    down: BTreeSet<String>,
    waiting: VecDeque<PendingStep>,
    events: VecDeque<Event>,
}

impl PortalBackend {
    /// Begins to ask for the combinations of rules and for input. The person may take their time to answer.
    /// `token` is the file that keeps the permission for input; `knows_front` says whether the compositor
    /// tells which window is in front.
    ///
    /// # Errors
    /// When the system is out of descriptors. A missing bus or portal is reported as an event.
    pub fn open(
        rules: &RuleSet,
        token: PathBuf,
        knows_front: bool,
    ) -> Result<PortalBackend, BackendError> {
        let (sender, events_of_threads) = channel();
        let flags = EventfdFlags::CLOEXEC | EventfdFlags::NONBLOCK;
        let waker = eventfd(0, flags).map_err(|error| BackendError::Lost(Box::new(error)))?;
        let waker = Arc::new(waker);
        let sender = PortalEventSender { events: sender, waker: Arc::clone(&waker) };
        let (wanted_shortcuts, changes) = unbounded();
        let (batches, coming) = unbounded();
        let bus = block_on(Connection::session()).map_err(|error| error.to_string());
        match bus {
            Ok(bus) => {
                let (of_shortcuts, events) = (bus.clone(), sender.clone());
                thread::spawn(move || block_on(serve_shortcuts(of_shortcuts, changes, events)));
                thread::spawn(move || block_on(serve_input(bus, token, coming, sender)));
            }
            Err(why) => {
                let why = format!("there is no session bus: {why}");
                sender.send(PortalEvent::ShortcutsLost(why.clone()));
                sender.send(PortalEvent::InputLost(why));
            }
        }
        let mut backend = PortalBackend {
            events_of_threads,
            waker,
            wanted_shortcuts,
            batches,
            layout: system_layout(),
            knows_front,
            grabs: GrabSet::default(),
            requested: BTreeMap::new(),
            asked: Vec::new(),
            shortcuts: ShortcutState::Pending,
            input: InputState::Pending,
            refused: BTreeSet::new(),
            down: BTreeSet::new(),
            waiting: VecDeque::new(),
            events: VecDeque::new(),
        };
        backend.events.push_back(Event::Layout(backend.layout.clone()));
        backend.request_shortcuts(rules);
        Ok(backend)
    }

    /// Asks for the combinations of a set. A rule for one program takes no key from all programs where
    /// the window in front is unknown.
    fn request_shortcuts(&mut self, rules: &RuleSet) {
        self.requested.clear();
        let mut shortcuts = Vec::new();
        let mut add = |combo: &KeyCombination, description: &str| {
            let id = combo.to_string();
            if self.requested.contains_key(&id) {
                return;
            }
            let Some((trigger, requested)) = request_for(combo, &self.layout) else { return };
            self.requested.insert(id.clone(), requested);
            shortcuts.push(PortalShortcut { id, description: description.to_owned(), trigger });
        };
        add(&rules.settings.panic, "Stop everything");
        for rule in &rules.rules {
            let needs_front = rule.filter.apps.is_some()
                || rule.filter.titles.is_some()
                || !rule.filter.not_apps.is_empty();
            if needs_front && !self.knows_front {
                continue;
            }
            for trigger in &rule.triggers {
                let combos = match &trigger.kind {
                    TriggerKind::Key { combo, .. } => std::slice::from_ref(combo),
                    TriggerKind::Keys { combos, .. } => combos.as_slice(),
                    _ => &[],
                };
                combos.iter().for_each(|combo| add(combo, &rule.label));
            }
        }
        // Without a bus there is no thread that takes it, which was reported.
        if shortcuts != self.asked
            && self.wanted_shortcuts.unbounded_send(shortcuts.clone()).is_ok()
        {
            self.asked = shortcuts;
            self.shortcuts = ShortcutState::Pending;
        }
    }

    fn handle_report(&mut self, report: PortalEvent) {
        match report {
            PortalEvent::Pressed(id) => {
                let Some(shortcut) = self.requested.get(&id).copied() else { return };
                let RequestedShortcut { key, modifiers, families } = shortcut;
                // Of a rule for another place it is nobody's: the portal has taken it all the same.
                let is_grabbed = |grab: &KeyGrab| grab.key == key && grab.modifiers == families;
                if self.down.insert(id) && self.grabs.keys.iter().any(is_grabbed) {
                    self.events.push_back(Event::Pressed { key, modifiers });
                }
            }
            PortalEvent::Released(id) => self.release(&id),
            PortalEvent::Done(effect, result) => {
                self.events.push_back(Event::Outcome { effect, result: result.map(|()| None) });
            }
            PortalEvent::ShortcutsGranted(ids) => {
                if matches!(self.shortcuts, ShortcutState::Unavailable(_)) {
                    self.report_part(SHORTCUTS_PART, ConnectionState::Open);
                }
                self.shortcuts = ShortcutState::Granted(ids);
                self.report_refused();
            }
            PortalEvent::ShortcutsLost(why) => {
                self.report_part(SHORTCUTS_PART, ConnectionState::Down(why.clone()));
                self.shortcuts = ShortcutState::Unavailable(why);
                let down: Vec<String> = self.down.iter().cloned().collect();
                down.iter().for_each(|id| self.release(id));
                self.report_refused();
            }
            PortalEvent::InputReady => {
                if matches!(self.input, InputState::Unavailable(_)) {
                    self.report_part(INPUT_PART, ConnectionState::Open);
                }
                self.input = InputState::Ready;
            }
            PortalEvent::InputLost(why) => {
                self.report_part(INPUT_PART, ConnectionState::Down(why.clone()));
                self.input = InputState::Unavailable(why);
            }
        }
    }

    fn report_part(&mut self, part: &str, state: ConnectionState) {
        self.events.push_back(Event::ConnectionState { device: part.to_owned(), state });
    }

    fn release(&mut self, id: &str) {
        if let (true, Some(shortcut)) = (self.down.remove(id), self.requested.get(id)) {
            self.events.push_back(Event::Released { key: shortcut.key });
        }
    }

    /// Whether the desktop granted a grab; none if it has not answered.
    fn is_granted(&self, grab: &KeyGrab) -> Option<bool> {
        let is_it = |one: &RequestedShortcut| one.key == grab.key && one.families == grab.modifiers;
        match &self.shortcuts {
            ShortcutState::Pending => None,
            ShortcutState::Unavailable(_) => Some(false),
            ShortcutState::Granted(ids) => {
                Some(self.requested.iter().any(|(id, one)| is_it(one) && ids.contains(id)))
            }
        }
    }

    /// Reports the grabs of rules that the desktop did not grant, and those that it granted since.
    fn report_refused(&mut self) {
        let (mut refused, mut freed) = (Vec::new(), Vec::new());
        for grab in &self.grabs.keys {
            let id = (grab.key, grab.modifiers);
            match self.is_granted(grab) {
                Some(false) if !self.refused.contains(&id) => {
                    refused.push((*grab, Refusal::NotGranted));
                }
                Some(true) if self.refused.contains(&id) => freed.push(*grab),
                _ => {}
            }
        }
        self.refused.extend(refused.iter().map(|(grab, _)| (grab.key, grab.modifiers)));
        for grab in &freed {
            self.refused.remove(&(grab.key, grab.modifiers));
        }
        if !freed.is_empty() {
            self.events.push_back(Event::GrabsFreed(freed));
        }
        if !refused.is_empty() {
            self.events.push_back(Event::GrabsRefused(refused));
        }
    }

    fn queue_batch(&self, effect: EffectId, moves: Vec<PortalInput>) {
        // The thread ends with the bus; then the state of input says so.
        let _ = self.batches.unbounded_send((effect, moves));
    }

    /// Sends the batches for which no held modifier is in the way any more.
    fn send_waiting(&mut self, now: Time) {
        let requested = &self.requested;
        let held = self
            .down
            .iter()
            .filter_map(|id| requested.get(id))
            .any(|shortcut| !shortcut.modifiers.is_empty());
        while self.waiting.front().is_some_and(|step| !held || step.until <= now) {
            if let Some(PendingStep { effect, moves, .. }) = self.waiting.pop_front() {
                self.queue_batch(effect, moves);
            }
        }
    }

    /// The keysyms of a text. The desktops drop characters that the layout lacks without a word, so such a
    /// text is refused as a whole.
    fn symbols_of(&self, text: &str) -> Result<Vec<u32>, CommandError> {
        let group = self.layout.group();
        let symbol = |character: char| match group.key_for(character) {
            Some(_) => Ok(typed_keysym(character)),
            None => Err(CommandError::unsupported(format!(
                "the portal cannot type {character:?}, which the keyboard layout lacks: \
                 use `paste`, or `clipboard = true` in `settings`"
            ))),
        };
        text.chars().map(symbol).collect()
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
                    for symbol in self.symbols_of(text)? {
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

/// The trigger to ask for, and what its press is.
fn request_for(combo: &KeyCombination, layout: &Layout) -> Option<(String, RequestedShortcut)> {
    let keys = layout.press_order(combo).ok()?;
    let (key, held) = keys.split_last()?;
    if key.is_pointer() || held.iter().any(|key| lantern_model::ModifierKey::of(*key).is_none()) {
        return None;
    }
    let modifiers: HeldModifiers =
        held.iter().filter_map(|key| lantern_model::ModifierKey::of(*key)).collect();
    let families = modifiers.modifiers(layout.alt_gr_is_level3);
    Some((trigger_words(*key, families)?, RequestedShortcut { key: *key, modifiers, families }))
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

impl Backend for PortalBackend {
    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError> {
        self.grabs = grabs;
        let wanted: BTreeSet<(Key, ModifierSet)> =
            self.grabs.keys.iter().map(|grab| (grab.key, grab.modifiers)).collect();
        self.refused.retain(|grab| wanted.contains(grab));
        self.report_refused();
        Ok(())
    }

    fn set_rules(&mut self, rules: &RuleSet) {
        self.request_shortcuts(rules);
    }

    fn set_layout(&mut self, layout: &Layout) {
        self.layout = layout.clone();
    }

    fn abilities(&self) -> Vec<Ability> {
        let keys = match &self.shortcuts {
            ShortcutState::Pending => "asked for; the desktop has not answered".to_owned(),
            ShortcutState::Unavailable(why) => format!("none: {why}"),
            ShortcutState::Granted(ids) => {
                let granted = self.requested.keys().filter(|id| ids.contains(*id)).count();
                format!("{granted} of {} shortcuts of the portal", self.requested.len())
            }
        };
        let input = match &self.input {
            InputState::Pending => "asked for; the desktop has not answered".to_owned(),
            InputState::Ready => "by the portal, characters of the layout".to_owned(),
            InputState::Unavailable(why) => format!("none: {why}"),
        };
        vec![Ability { name: "keys", way: keys }, Ability { name: "input", way: input }]
    }

    fn send_input(
        &mut self,
        now: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        if let InputState::Unavailable(why) = &self.input
            && self.batches.is_closed()
        {
            let why = CommandError::refused(format!("no input by the portal: {why}"));
            self.events.push_back(Event::Outcome { effect, result: Err(why) });
            return Ok(());
        }
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
        self.queue_batch(WITHOUT_OUTCOME, down.chain(up).collect());
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
        // It only wakes; the reports stand in the channel.
        let _ = rustix::io::read(&*self.waker, &mut [0; 8]);
        while let Ok(report) = self.events_of_threads.try_recv() {
            self.handle_report(report);
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
        Some(self.waker.as_fd())
    }
}
