//! Characters that the layout lacks: spare keycodes are lent to them for a while.
//!
//! All new characters of a batch are mapped at once. The program in front gets a ping
//! (`_NET_WM_PING`) before they are typed, because only its answer proves that it has read the new
//! map, and again before the keycodes change their meaning, because it must have read the typed
//! keys by then. For a program that does not answer pings, the module checks whether it sleeps, and
//! with it the display's input methods, through which its keys may pass. If that is unknown, as on
//! another machine, a fixed time passes.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

use lantern_model::{EffectId, Event, InputAction, InputBatch, ShiftLevel, Time};
use x11rb::protocol::xkb::{self, ConnectionExt as _, KeySymMap, MapPart, SetMapAux};
use x11rb::protocol::xproto::{self, ClientMessageEvent, ConnectionExt as _, Window};

use super::keymap::Keymap;
use super::process_idle::{IdleState, ProcessIdleProbe};
use super::{X11Backend, windows};
use crate::BackendError;
use crate::keysyms::character_keysym;

/// How long a program that answers pings may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// How long a program that does not, and cannot be looked at, is given to read a new map.
const BLIND_WAIT: Duration = Duration::from_millis(200);
/// How long it is given to read what was typed with the old one.
const BLIND_READING: Duration = Duration::from_millis(400);
/// How long keycodes stay lent after the last use.
const LENT_FOR: Duration = Duration::from_secs(2);

/// A lent keycode stands for so many characters: one alone, one with shift, and so on.
const LEVELS: [ShiftLevel; 4] =
    [ShiftLevel::Plain, ShiftLevel::Shift, ShiftLevel::Third, ShiftLevel::ShiftThird];
/// The type of a key with two levels is the second of the four that every map has (XKB protocol).
const TWO_LEVELS: u8 = 1;

/// The part that sends a ping.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum PingClient {
    /// Before keycodes change, and before they are used.
    Lending = 1,
    /// After the paste keys.
    Pasting = 2,
    /// Before another window comes to the front.
    Leaving = 3,
}

/// A step that waits for the program in front.
#[derive(Debug)]
pub(super) struct WaitingStep {
    effect: EffectId,
    step: InputBatch,
    /// What follows it, when one step needs more keycodes than there are.
    rest: VecDeque<InputBatch>,
    /// The window that was pinged.
    pinged: Option<Window>,
    /// The program and the display's input methods, if it answers no pings.
    resting: Option<ProcessIdleProbe>,
    /// When waiting ends anyway.
    until: Time,
    /// What is done when it answers.
    next: Next,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Next {
    /// The program has read all that was typed: lend anew.
    Lend,
    /// The program has read the new map: type.
    Type,
    /// The program has read all of it: whatever comes next, another window in front or the old map,
    /// cannot change what was typed any more.
    End,
}

/// How many characters a lent keycode can stand for.
pub(super) fn lent_levels(keymap: &Keymap) -> usize {
    if keymap.four_levels.is_some() { 4 } else { 2 }
}

impl X11Backend {
    /// The characters of a step that no keycode gives now.
    pub(super) fn missing_characters(&self, step: &InputBatch) -> impl Iterator<Item = char> {
        let texts = step.actions.iter().filter_map(|act| match act {
            InputAction::Text(text) => Some(text),
            _ => None,
        });
        let characters = texts.flat_map(|text| text.chars());
        characters.filter(|character| self.spell(*character).is_none())
    }

    /// Begins a step for whose characters keycodes must be lent.
    pub(super) fn begin_lending(
        &mut self,
        now: Time,
        effect: EffectId,
        step: InputBatch,
    ) -> Result<(), BackendError> {
        if self.keymap.spare.is_empty() {
            let result =
                Err("this keyboard map has no free key for characters it lacks".to_owned());
            self.outcomes.push_back(Event::Outcome { effect, result });
            return Ok(());
        }
        let mut rest: VecDeque<InputBatch> = self.cut_for_lending(&step).into();
        let step = rest.pop_front().unwrap_or_default();
        // What was typed with keycodes lent before must be read before they change.
        let next = if self.lent.is_empty() { Next::Type } else { Next::Lend };
        if next == Next::Type {
            self.lend(&step)?;
        }
        let until = now;
        let waiting = WaitingStep { effect, step, rest, pinged: None, resting: None, until, next };
        self.wait_for_program(now, waiting)
    }

    fn wait_for_program(&mut self, now: Time, waiting: WaitingStep) -> Result<(), BackendError> {
        let pinged = windows::focused_window(&self.link)?;
        if let Some(window) = pinged {
            self.ping(window, PingClient::Lending)?;
        }
        let mut resting = match (pinged, self.front.process) {
            (None, Some(process)) => {
                self.methods.look(&self.link)?;
                let methods = self.methods.processes(&self.link)?;
                ProcessIdleProbe::of(process, methods, waiting.next != Next::Type, now)
            }
            _ => None,
        };
        let until = self.look_whether_they_rest(now, &mut resting)?.unwrap_or_else(|| {
            now + match (pinged, waiting.next) {
                (Some(_), _) => PATIENCE,
                (None, Next::Type | Next::End) => BLIND_WAIT,
                (None, Next::Lend) => BLIND_READING,
            }
        });
        self.waiting = Some(WaitingStep { pinged, resting, until, ..waiting });
        self.flush()
    }

    /// Waits until everything that any client has sent to the server has been delivered. The server
    /// serves its clients in turns: a client that sent before us has been served by the end of the
    /// next turn at the latest.
    fn let_server_catch_up(&self) -> Result<(), BackendError> {
        for _ in 0..2 {
            self.link.conn.get_input_focus()?.reply()?;
        }
        Ok(())
    }

    /// Asks a program for a sign of life.
    pub(super) fn ping(&mut self, window: Window, asker: PingClient) -> Result<(), BackendError> {
        self.select_root_events(true)?;
        // Where a window manager puts a time we put who asks; the program gives back all of it.
        let data = [self.link.atoms._NET_WM_PING, asker as u32, window, 0, 0];
        let message = ClientMessageEvent::new(32, window, self.link.atoms.WM_PROTOCOLS, data);
        let mask = xproto::EventMask::NO_EVENT;
        self.link.conn.send_event(false, window, mask, message)?;
        Ok(())
    }

    /// Signs of life come by way of the root window, which tells much else meanwhile.
    fn end_pings(&mut self) -> Result<(), BackendError> {
        let wanted =
            self.waiting.is_some() || self.awaits_leaving() || self.clipboard.awaits_reading();
        self.select_root_events(wanted)
    }

    /// A program gave a sign of life.
    pub(super) fn handle_pong(
        &mut self,
        now: Time,
        message: &ClientMessageEvent,
    ) -> Result<(), BackendError> {
        let [what, asker, window, ..] = message.data.as_data32();
        if what == self.link.atoms._NET_WM_PING && asker == PingClient::Pasting as u32 {
            self.note_keys_read(now, window);
            return self.end_pings();
        }
        if what == self.link.atoms._NET_WM_PING && asker == PingClient::Leaving as u32 {
            self.let_others_come(now)?;
            return self.end_pings();
        }
        let ours = self.waiting.as_ref().and_then(|waiting| waiting.pinged);
        if what == self.link.atoms._NET_WM_PING
            && asker == PingClient::Lending as u32
            && ours == Some(window)
        {
            self.go_on(now)?;
        }
        Ok(())
    }

    /// Time at which the waiting batch continues without an answer, or mapped keycodes are
    /// restored.
    pub(super) fn lending_deadline(&self) -> Option<Time> {
        let waiting = self.waiting.as_ref().map(|waiting| waiting.until);
        waiting.or(self.take_back_at)
    }

    pub(super) fn handle_lending_deadline(&mut self, now: Time) -> Result<(), BackendError> {
        if self.lending_deadline().is_none_or(|due| due > now) {
            return Ok(());
        }
        let Some(mut waiting) = self.waiting.take() else {
            return self.take_back();
        };
        let later = self.look_whether_they_rest(now, &mut waiting.resting)?;
        waiting.until = later.unwrap_or(waiting.until);
        self.waiting = Some(waiting);
        if later.is_none() { self.go_on(now) } else { Ok(()) }
    }

    /// When to look again; nothing if the program and the input methods rest, or cannot be looked at.
    fn look_whether_they_rest(
        &mut self,
        now: Time,
        resting: &mut Option<ProcessIdleProbe>,
    ) -> Result<Option<Time>, BackendError> {
        let Some(resting) = resting else { return Ok(None) };
        self.let_server_catch_up()?;
        match resting.look_again(now) {
            IdleState::Rest => Ok(None),
            IdleState::ReentryPolicy(later) => Ok(Some(later)),
            IdleState::Wake(later) => {
                self.methods.wake(&self.link)?;
                self.flush()?;
                Ok(Some(later))
            }
        }
    }

    fn go_on(&mut self, now: Time) -> Result<(), BackendError> {
        let Some(waiting) = self.waiting.take() else {
            return Ok(());
        };
        if waiting.pinged.is_some() {
            self.end_pings()?;
        }
        if waiting.next == Next::End {
            self.take_back_at = Some(now + LENT_FOR);
            let (effect, result) = (waiting.effect, Ok(None));
            self.outcomes.push_back(Event::Outcome { effect, result });
            return Ok(());
        }
        if waiting.next == Next::Lend {
            self.lend(&waiting.step)?;
            return self.wait_for_program(now, WaitingStep { next: Next::Type, ..waiting });
        }
        self.perform_batch(now, &waiting.step)?;
        let mut rest = waiting.rest;
        let (step, next) = match rest.pop_front() {
            Some(step) => (step, Next::Lend),
            None => (InputBatch::default(), Next::End),
        };
        self.wait_for_program(now, WaitingStep { step, rest, next, ..waiting })
    }

    /// Lends spare keycodes to the characters of a step, in one go.
    fn lend(&mut self, step: &InputBatch) -> Result<(), BackendError> {
        let before = std::mem::take(&mut self.lent);
        let characters: BTreeSet<char> = self.missing_characters(step).collect();
        let characters: Vec<char> = characters.into_iter().collect();
        let levels = lent_levels(&self.keymap);
        let mut symbols: BTreeMap<u8, Vec<u32>> =
            before.into_values().map(|(code, _)| (code, Vec::new())).collect();
        for (pair, code) in characters.chunks(levels).zip(&self.keymap.spare) {
            self.held.mark_lent(*code, true);
            let places = LEVELS.iter().map(|level| (*code, *level));
            self.lent.extend(pair.iter().copied().zip(places));
            // A lone symbol would be taken for a pair of small and capital letter.
            let mut both: Vec<u32> = pair.iter().copied().map(character_keysym).collect();
            both.resize(levels, both[0]);
            symbols.insert(*code, both);
        }
        self.change_mapping(&symbols)
    }

    /// Gives the lent keycodes their old meaning: none.
    pub(super) fn take_back(&mut self) -> Result<(), BackendError> {
        self.take_back_at = None;
        let lent = std::mem::take(&mut self.lent).into_values();
        self.change_mapping(&lent.map(|(code, _)| (code, Vec::new())).collect())?;
        self.flush()?;
        for code in &self.keymap.spare {
            self.held.mark_lent(*code, false);
        }
        Ok(())
    }

    /// Gives keycodes their symbols, with a single request over all of them and those between, which
    /// keep theirs: every request makes every program read its map anew, and window managers take
    /// long over that.
    fn change_mapping(&self, symbols: &BTreeMap<u8, Vec<u32>>) -> Result<(), BackendError> {
        let (Some(first), Some(last)) = (symbols.keys().next(), symbols.keys().next_back()) else {
            return Ok(());
        };
        let conn = &self.link.conn;
        let (core, none) = (xkb::ID::USE_CORE_KBD.into(), xkb::VMod::from(0u16));
        let (part, count) = (MapPart::KEY_SYMS, last - first + 1);
        let nothing = MapPart::from(0u16);
        let now = conn.xkb_get_map(
            core, nothing, part, 0, 0, *first, count, 0, 0, 0, 0, none, 0, 0, 0, 0, 0, 0,
        )?;
        let now = now.reply()?;
        let mut keys = now.map.syms_rtrn.unwrap_or_default();
        for (code, key) in (now.first_key_sym..).zip(&mut keys) {
            let Some(syms) = symbols.get(&code) else { continue };
            let groups = u8::from(!syms.is_empty());
            let kind = if syms.len() == 4 { self.keymap.four_levels } else { None };
            let kt_index = [kind.unwrap_or(TWO_LEVELS) * groups; 4];
            let width = u8::try_from(syms.len()).expect("there are four at the most");
            *key = KeySymMap { kt_index, group_info: groups, width, syms: syms.clone() };
        }
        let total = keys.iter().map(|key| key.syms.len()).sum::<usize>();
        let total = u16::try_from(total).expect("256 keys have few symbols");
        let (low, high) = (now.min_key_code, now.max_key_code);
        let flags = xkb::SetMapFlags::from(0u16);
        let values = SetMapAux::new().syms(keys);
        conn.xkb_set_map(
            core, flags, low, high, 0, 0, *first, count, total, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
            0, 0, 0, none, &values,
        )?;
        Ok(())
    }

    /// Cuts a step into steps that each need no more keycodes than there are.
    fn cut_for_lending(&self, step: &InputBatch) -> Vec<InputBatch> {
        let most = self.keymap.spare.len() * lent_levels(&self.keymap);
        let mut steps = Vec::new();
        let mut acts = Vec::new();
        let mut wanted = BTreeSet::new();
        for act in &step.actions {
            let InputAction::Text(text) = act else {
                acts.push(act.clone());
                continue;
            };
            let mut piece = String::new();
            for character in text.chars() {
                let missing = self.keymap.layout.group().key_for(character).is_none()
                    && !character.is_control();
                if missing && !wanted.contains(&character) && wanted.len() >= most {
                    acts.push(InputAction::Text(std::mem::take(&mut piece)));
                    steps.push(InputBatch { actions: std::mem::take(&mut acts), ..step.clone() });
                    wanted.clear();
                }
                if missing {
                    wanted.insert(character);
                }
                piece.push(character);
            }
            acts.push(InputAction::Text(piece));
        }
        steps.push(InputBatch { actions: acts, ..step.clone() });
        steps
    }
}
