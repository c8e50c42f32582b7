//! Characters that the layout lacks: spare keycodes are mapped to them for a while.
//!
//! All new characters of a batch are mapped at once. Before they are typed, the program in front gets a
//! ping (`_NET_WM_PING`), because only its answer proves that it has read the new map. It gets another
//! before the keycodes change their meaning, because it must have read the typed keys by then.
//!
//! For a program that does not answer pings, the module checks whether it sleeps. The same is checked
//! of the display's input methods, through which its keys may pass. If that is unknown, as on another
//! machine, a fixed time passes.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

use lantern_model::{CommandError, EffectId, Event, InputAction, InputBatch, ShiftLevel, Time};
use x11rb::protocol::xkb::{self, ConnectionExt as _, KeySymMap, MapPart, SetMapAux};
use x11rb::protocol::xproto::{ConnectionExt as _, Window};

use super::connection::XConnection;
use super::injector::Injector;
use super::input_method::XInputMethods;
use super::keymap::{Keymap, keycode_of};
use super::ping::{PingClient, ping};
use super::process_idle::{IdleState, ProcessIdleProbe};
use super::windows;
use lantern_backend::BackendError;
use lantern_backend::keysyms::character_keysym;

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

/// A batch that waits for the program in front.
#[derive(Debug)]
struct WaitingBatch {
    effect: EffectId,
    batch: InputBatch,
    /// What follows it, when one batch needs more keycodes than there are.
    rest: VecDeque<InputBatch>,
    /// The window that was pinged.
    pinged: Option<Window>,
    /// The program and the display's input methods, if it answers no pings.
    idle: Option<ProcessIdleProbe>,
    /// When waiting ends without an answer.
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

/// What the back end has to do for a batch that needs lent keycodes.
#[derive(Debug)]
pub(super) enum LendingStep {
    /// Nothing now.
    Wait,
    /// Perform this batch, and call [`TemporaryKeymap::after_batch`].
    Perform(InputBatch),
    /// Report this outcome. Pings are not awaited any more.
    Report(Event),
}

/// What lending keycodes needs of the back end.
#[derive(Debug)]
pub(super) struct LendingContext<'a> {
    pub now: Time,
    pub link: &'a XConnection,
    pub keymap: &'a Keymap,
    pub injector: &'a mut Injector,
    pub methods: &'a mut XInputMethods,
    /// The process of the program in front.
    pub process: Option<u32>,
}

/// Keycodes that are lent to characters, and the batch that waits for them.
#[derive(Debug, Default)]
pub(super) struct TemporaryKeymap {
    lent: BTreeMap<char, (u8, ShiftLevel)>,
    waiting: Option<WaitingBatch>,
    take_back_at: Option<Time>,
}

/// How many characters a lent keycode can stand for.
pub(super) fn lent_levels(keymap: &Keymap) -> usize {
    if keymap.four_levels.is_some() { 4 } else { 2 }
}

impl TemporaryKeymap {
    /// The keycode and level that give a character now.
    pub(super) fn spell(&self, keymap: &Keymap, character: char) -> Option<(u8, ShiftLevel)> {
        if let Some((key, level)) = keymap.layout.group().key_for(character) {
            return keycode_of(key).map(|code| (code, level));
        }
        self.lent.get(&character).copied()
    }

    /// Whether any keycode is lent.
    pub(super) fn is_lending(&self) -> bool {
        !self.lent.is_empty()
    }

    /// Whether the answer to a ping is awaited.
    pub(super) fn awaits_pong(&self) -> bool {
        self.waiting.is_some()
    }

    /// Whether a ping of this window is awaited.
    pub(super) fn is_pinged(&self, window: Window) -> bool {
        self.waiting.as_ref().and_then(|waiting| waiting.pinged) == Some(window)
    }

    /// The characters of a batch that no keycode gives now.
    pub(super) fn missing_characters(
        &self,
        keymap: &Keymap,
        batch: &InputBatch,
    ) -> impl Iterator<Item = char> {
        let texts = batch.actions.iter().filter_map(|action| match action {
            InputAction::Text(text) => Some(text),
            _ => None,
        });
        let characters = texts.flat_map(|text| text.chars());
        characters.filter(|character| self.spell(keymap, *character).is_none())
    }

    /// Begins a batch for whose characters keycodes must be lent.
    pub(super) fn begin(
        &mut self,
        cx: &mut LendingContext<'_>,
        effect: EffectId,
        batch: InputBatch,
    ) -> Result<LendingStep, BackendError> {
        if cx.keymap.spare.is_empty() {
            let problem = "this keyboard map has no free key for characters it lacks";
            let result = Err(CommandError::unsupported(problem));
            return Ok(LendingStep::Report(Event::Outcome { effect, result }));
        }
        let mut rest: VecDeque<InputBatch> = cut_for_lending(cx.keymap, &batch).into();
        let batch = rest.pop_front().unwrap_or_default();
        // What was typed with keycodes lent before must be read before they change.
        let next = if self.lent.is_empty() { Next::Type } else { Next::Lend };
        if next == Next::Type {
            self.lend(cx, &batch)?;
        }
        let (pinged, idle, until) = (None, None, cx.now);
        self.wait(cx, WaitingBatch { effect, batch, rest, pinged, idle, until, next })?;
        Ok(LendingStep::Wait)
    }

    /// Waits until the program in front has read what was sent.
    fn wait(
        &mut self,
        cx: &mut LendingContext<'_>,
        waiting: WaitingBatch,
    ) -> Result<(), BackendError> {
        let pinged = windows::focused_window(cx.link)?;
        if let Some(window) = pinged {
            ping(cx.link, window, PingClient::TemporaryKeymap)?;
        }
        let mut idle = match (pinged, cx.process) {
            (None, Some(process)) => {
                cx.methods.look(cx.link)?;
                let methods = cx.methods.processes(cx.link)?;
                let has_typed = waiting.next != Next::Type;
                ProcessIdleProbe::of(process, methods, has_typed, cx.now)
            }
            _ => None,
        };
        let until = sample_idle(cx, &mut idle)?.unwrap_or_else(|| {
            cx.now
                + match (pinged, waiting.next) {
                    (Some(_), _) => PATIENCE,
                    (None, Next::Type | Next::End) => BLIND_WAIT,
                    (None, Next::Lend) => BLIND_READING,
                }
        });
        self.waiting = Some(WaitingBatch { pinged, idle, until, ..waiting });
        cx.injector.flush(cx.link)
    }

    /// When the waiting batch continues without an answer, or lent keycodes are taken back.
    pub(super) fn deadline(&self) -> Option<Time> {
        let waiting = self.waiting.as_ref().map(|waiting| waiting.until);
        waiting.or(self.take_back_at)
    }

    pub(super) fn handle_deadline(
        &mut self,
        cx: &mut LendingContext<'_>,
    ) -> Result<LendingStep, BackendError> {
        if self.deadline().is_none_or(|due| due > cx.now) {
            return Ok(LendingStep::Wait);
        }
        let Some(waiting) = &mut self.waiting else {
            self.take_back(cx.link, cx.keymap, cx.injector)?;
            return Ok(LendingStep::Wait);
        };
        match sample_idle(cx, &mut waiting.idle)? {
            Some(later) => {
                waiting.until = later;
                Ok(LendingStep::Wait)
            }
            None => self.advance(cx),
        }
    }

    /// Takes that the program in front has read what was sent.
    pub(super) fn advance(
        &mut self,
        cx: &mut LendingContext<'_>,
    ) -> Result<LendingStep, BackendError> {
        let Some(waiting) = self.waiting.take() else { return Ok(LendingStep::Wait) };
        match waiting.next {
            Next::End => {
                self.take_back_at = Some(cx.now + LENT_FOR);
                let outcome = Event::Outcome { effect: waiting.effect, result: Ok(None) };
                Ok(LendingStep::Report(outcome))
            }
            Next::Lend => {
                self.lend(cx, &waiting.batch)?;
                self.wait(cx, WaitingBatch { next: Next::Type, ..waiting })?;
                Ok(LendingStep::Wait)
            }
            Next::Type => {
                let batch = waiting.batch.clone();
                self.waiting = Some(waiting);
                Ok(LendingStep::Perform(batch))
            }
        }
    }

    /// Takes that the batch was performed.
    pub(super) fn after_batch(&mut self, cx: &mut LendingContext<'_>) -> Result<(), BackendError> {
        let Some(mut waiting) = self.waiting.take() else { return Ok(()) };
        (waiting.batch, waiting.next) = match waiting.rest.pop_front() {
            Some(batch) => (batch, Next::Lend),
            None => (InputBatch::default(), Next::End),
        };
        self.wait(cx, waiting)
    }

    /// Lends spare keycodes to the characters of a batch, in one request.
    fn lend(
        &mut self,
        cx: &mut LendingContext<'_>,
        batch: &InputBatch,
    ) -> Result<(), BackendError> {
        let before = std::mem::take(&mut self.lent);
        let characters: BTreeSet<char> = self.missing_characters(cx.keymap, batch).collect();
        let characters: Vec<char> = characters.into_iter().collect();
        let levels = lent_levels(cx.keymap);
        let mut symbols: BTreeMap<u8, Vec<u32>> =
            before.into_values().map(|(code, _)| (code, Vec::new())).collect();
        for (group, code) in characters.chunks(levels).zip(&cx.keymap.spare) {
            cx.injector.mark_lent(*code, true);
            let places = LEVELS.iter().map(|level| (*code, *level));
            self.lent.extend(group.iter().copied().zip(places));
            // A lone symbol would be taken for a pair of small and capital letter.
            let mut keysyms: Vec<u32> = group.iter().copied().map(character_keysym).collect();
            keysyms.resize(levels, keysyms[0]);
            symbols.insert(*code, keysyms);
        }
        change_mapping(cx.link, cx.keymap, &symbols)
    }

    /// Gives the lent keycodes their old meaning: none.
    pub(super) fn take_back(
        &mut self,
        link: &XConnection,
        keymap: &Keymap,
        injector: &mut Injector,
    ) -> Result<(), BackendError> {
        self.take_back_at = None;
        let lent = std::mem::take(&mut self.lent).into_values();
        change_mapping(link, keymap, &lent.map(|(code, _)| (code, Vec::new())).collect())?;
        injector.flush(link)?;
        for code in &keymap.spare {
            injector.mark_lent(*code, false);
        }
        Ok(())
    }
}

/// When to sample again; nothing if the program and the input methods are idle, or cannot be sampled.
fn sample_idle(
    cx: &mut LendingContext<'_>,
    idle: &mut Option<ProcessIdleProbe>,
) -> Result<Option<Time>, BackendError> {
    let Some(idle) = idle else { return Ok(None) };
    let_server_catch_up(cx.link)?;
    match idle.look_again(cx.now) {
        IdleState::Idle => Ok(None),
        IdleState::LookAgain(later) => Ok(Some(later)),
        IdleState::Wake(later) => {
            cx.methods.wake(cx.link)?;
            cx.injector.flush(cx.link)?;
            Ok(Some(later))
        }
    }
}

/// Waits until everything that any client has sent to the server has been delivered. The server serves its
/// clients in turns: a client that sent before us has been served by the end of the next turn at the
/// latest.
fn let_server_catch_up(link: &XConnection) -> Result<(), BackendError> {
    for _ in 0..2 {
        link.conn.get_input_focus()?.reply()?;
    }
    Ok(())
}

/// Gives keycodes their symbols, with a single request over all of them and those between, which
/// keep theirs: every request makes every program read its map anew, and window managers take
/// long over that.
fn change_mapping(
    link: &XConnection,
    keymap: &Keymap,
    symbols: &BTreeMap<u8, Vec<u32>>,
) -> Result<(), BackendError> {
    let (Some(first), Some(last)) = (symbols.keys().next(), symbols.keys().next_back()) else {
        return Ok(());
    };
    let conn = &link.conn;
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
        let kind = if syms.len() == 4 { keymap.four_levels } else { None };
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
        core, flags, low, high, 0, 0, *first, count, total, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
        0, 0, none, &values,
    )?;
    Ok(())
}

/// Cuts a batch into batches that each need no more keycodes than there are.
fn cut_for_lending(keymap: &Keymap, batch: &InputBatch) -> Vec<InputBatch> {
    let most = keymap.spare.len() * lent_levels(keymap);
    let mut batches = Vec::new();
    let mut actions = Vec::new();
    let mut wanted = BTreeSet::new();
    for action in &batch.actions {
        let InputAction::Text(text) = action else {
            actions.push(action.clone());
            continue;
        };
        let mut piece = String::new();
        for character in text.chars() {
            let missing =
                keymap.layout.group().key_for(character).is_none() && !character.is_control();
            if missing && !wanted.contains(&character) && wanted.len() >= most {
                actions.push(InputAction::Text(std::mem::take(&mut piece)));
                batches.push(InputBatch { actions: std::mem::take(&mut actions), ..batch.clone() });
                wanted.clear();
            }
            if missing {
                wanted.insert(character);
            }
            piece.push(character);
        }
        actions.push(InputAction::Text(piece));
    }
    batches.push(InputBatch { actions, ..batch.clone() });
    batches
}
