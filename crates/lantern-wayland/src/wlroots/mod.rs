//! The back end for compositors of the wlroots family: no root and no group is needed.
//!
//! It is the seat's input method, whose keyboard grab brings every key here first. What no rule wants is
//! forwarded by a virtual keyboard with the session's keymap; texts are typed by another one with a keymap
//! made for them, and the pointer is a virtual one. The compositor exempts virtual keyboards of the input
//! method's own client from the grab, so that input of rules fires no rule. If this process ends, the
//! compositor ends the grab.

mod output;
mod session;
mod typing_keymap;

use std::collections::{BTreeSet, VecDeque};
use std::os::fd::BorrowedFd;

use lantern_backend::{
    Ability, Backend, BackendError, ForwardedKey, InputSink, KeyFilter, is_caps_lock,
    layout_of_keymap, send_batch, system_keymap, system_layout, without_session,
};
use lantern_model::{
    Command, CommandError, ConnectionState, EffectId, Event, GrabSet, InputBatch, Key, Layout,
    ModifierSet, Refusal, ReplayKey, Time,
};

use output::{LOCK, VirtualDevices};
use session::{KeyboardEvent, WlrootsSession};

pub use session::wlroots_offers;

/// All keys of the seat come from one keyboard for us.
const KEYBOARD: usize = 0;
/// The name under which the log and `watch` report the grab.
const GRAB: &str = "the keyboard of the seat";

/// The back end that is the seat's input method.
#[derive(Debug)]
pub struct WlrootsBackend {
    session: WlrootsSession,
    output: VirtualDevices,
    filter: KeyFilter,
    /// Another input method has the seat: no key comes here.
    is_displaced: bool,
    /// Grabs that were reported as refused.
    refused: BTreeSet<(Key, ModifierSet)>,
    /// Presses of caps lock that programs did not see were an odd number: the compositor's keyboard locks
    /// with each of them.
    is_caps_inverted: bool,
    /// What the compositor sent and was not handled yet.
    pending: VecDeque<KeyboardEvent>,
    events: VecDeque<Event>,
}

impl WlrootsBackend {
    /// Takes the keyboard of the seat.
    ///
    /// # Errors
    /// When no compositor answers, or it lacks one of the protocols.
    pub fn open() -> Result<WlrootsBackend, BackendError> {
        let (session, mut output) = WlrootsSession::open()?;
        let layout = system_layout();
        // Until the keyboard in use reports its own.
        output.set_keymap(system_keymap().as_bytes(), layout.alt_gr_is_level3)?;
        let mut backend = WlrootsBackend {
            session,
            output,
            events: VecDeque::from([Event::Layout(layout.clone())]),
            filter: KeyFilter::new(layout),
            is_displaced: false,
            refused: BTreeSet::new(),
            is_caps_inverted: false,
            pending: VecDeque::new(),
        };
        backend.output.flush()?;
        Ok(backend)
    }

    /// Takes in what the compositor sent by now, up to the first event for the engine: what the engine
    /// answers comes before later keys.
    fn read(&mut self) -> Result<(), BackendError> {
        self.pending.extend(self.session.read()?);
        if self.pending.is_empty() {
            return Ok(());
        }
        while self.events.is_empty()
            && let Some(event) = self.pending.pop_front()
        {
            self.handle(event)?;
            self.events.extend(self.filter.take_events());
        }
        self.output.flush()
    }

    fn handle(&mut self, event: KeyboardEvent) -> Result<(), BackendError> {
        match event {
            KeyboardEvent::Key { code, is_down } => self.handle_key(code, is_down),
            KeyboardEvent::Keymap(text) => self.handle_keymap(&text)?,
            KeyboardEvent::Locks(mut locks) => {
                self.handle_group(locks.group);
                if self.is_caps_inverted {
                    locks.locked ^= LOCK;
                }
                self.filter.set_caps(locks.locked & LOCK != 0);
                self.output.set_locks(locks);
            }
            KeyboardEvent::Unavailable => {
                self.is_displaced = true;
                let why = "another input method has it; end that one, or use --backend portal";
                let state = ConnectionState::Down(why.to_owned());
                self.events.push_back(Event::ConnectionState { device: GRAB.to_owned(), state });
                self.report_refused();
            }
            KeyboardEvent::Screens(screens) => {
                self.output.set_screens(screens.clone());
                self.events.push_back(Event::Screens(screens));
            }
        }
        Ok(())
    }

    /// A key of the person's.
    fn handle_key(&mut self, code: u16, is_down: bool) {
        let flow = match Key::from_kernel(code) {
            None => ForwardedKey::Pass,
            Some(key) if is_down => {
                let flow = self.filter.press(KEYBOARD, "", key, true);
                self.is_caps_inverted ^= is_caps_lock(key) && flow != ForwardedKey::Pass;
                flow
            }
            Some(key) => self.filter.release(KEYBOARD, key, true),
        };
        self.forward(&flow, code, i32::from(is_down));
    }

    fn forward(&mut self, flow: &ForwardedKey, code: u16, value: i32) {
        match flow {
            ForwardedKey::Keep => {}
            ForwardedKey::Pass => self.output.key(code, value),
            ForwardedKey::Instead(keys) => {
                for (key, down) in keys {
                    self.output.write_key(*key, *down);
                }
            }
        }
    }

    fn handle_keymap(&mut self, text: &[u8]) -> Result<(), BackendError> {
        let Some(layout) = layout_of_keymap(text) else { return Ok(()) };
        self.output.set_keymap(text, layout.alt_gr_is_level3)?;
        self.take_layout(layout);
        Ok(())
    }

    /// Another group of the layout is active.
    fn handle_group(&mut self, group: u32) {
        let layout = self.filter.layout();
        let active = usize::try_from(group).unwrap_or(0);
        if active != layout.active && active < layout.groups.len() {
            self.take_layout(Layout { active, ..layout.clone() });
        }
    }

    fn take_layout(&mut self, layout: Layout) {
        if layout != *self.filter.layout() {
            self.filter.set_layout(layout.clone());
            self.events.push_back(Event::Layout(layout));
        }
    }

    /// Reports grabs that cannot be had: buttons and the wheel do not come here, and no key does while
    /// another input method has the seat.
    fn report_refused(&mut self) {
        let mut refused = Vec::new();
        for grab in &self.filter.grabs().keys {
            let id = (grab.key, grab.modifiers);
            if (self.is_displaced || grab.key.is_pointer()) && self.refused.insert(id) {
                refused.push((*grab, Refusal::NotGranted));
            }
        }
        if !refused.is_empty() {
            self.events.push_back(Event::GrabsRefused(refused));
        }
    }
}

impl Backend for WlrootsBackend {
    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError> {
        let wanted: BTreeSet<(Key, ModifierSet)> =
            grabs.keys.iter().map(|grab| (grab.key, grab.modifiers)).collect();
        self.refused.retain(|grab| wanted.contains(grab));
        self.filter.set_grabs(grabs);
        self.events.extend(self.filter.take_events());
        self.report_refused();
        Ok(())
    }

    fn send_input(
        &mut self,
        _: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        let result = send_batch(&mut self.filter, &mut self.output, step)?;
        self.events.push_back(Event::Outcome { effect, result: result.map(|()| None) });
        Ok(())
    }

    fn replay_key(&mut self, _: Time, back: &ReplayKey) -> Result<(), BackendError> {
        let flow = self.filter.give_back(back);
        self.forward(&flow, 0, 0);
        self.output.flush()
    }

    fn execute(
        &mut self,
        _: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError> {
        let Some(why) = without_session(&command.kind) else { return Ok(false) };
        let result = Err(CommandError::unsupported(why));
        self.events.push_back(Event::Outcome { effect, result });
        Ok(true)
    }

    fn knows_layout(&self) -> bool {
        true
    }

    fn abilities(&self) -> Vec<Ability> {
        let keys = if self.is_displaced {
            "none: another input method has the keyboard"
        } else {
            "the keyboard grab of an input method, without buttons"
        };
        vec![
            Ability::by("keys", keys),
            Ability::by("input", "a virtual keyboard and pointer, any character"),
        ]
    }

    fn poll_event(&mut self, _: Time) -> Result<Option<Event>, BackendError> {
        if self.events.is_empty() {
            self.read()?;
        }
        Ok(self.events.pop_front())
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.session.descriptor())
    }
}
