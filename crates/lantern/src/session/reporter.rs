//! Reports to the person, on the terminal and in the log: events, decisions, and which setting of the
//! desktop has a key.

use lantern_engine::{DecisionKind, Engine};
use lantern_model::{ConnectionState, Event, Key, KeyCombination, KeySpec, MicrophoneState, Time};
use lantern_session::Shortcut;

use crate::escaping::shown;
use crate::event_log::{EventLog, LogLevel};
use crate::style;
use crate::text::describe;

/// More combinations than this make the X server slower for every program.
const MANY_COMBINATIONS: usize = 300;

/// What was reported so far.
#[derive(Debug)]
pub(super) struct Reporter<'j> {
    journal: &'j EventLog,
    /// The number of the last decision that was reported.
    last_decision: u64,
    has_warned_of_grabs: bool,
}

impl<'j> Reporter<'j> {
    /// A reporter to a log and to the terminal.
    pub(super) fn new(journal: &'j EventLog) -> Reporter<'j> {
        Reporter { journal, last_decision: 0, has_warned_of_grabs: false }
    }

    /// The log.
    pub(super) fn journal(&self) -> &'j EventLog {
        self.journal
    }

    /// Reports an event, at the level at which a person looks for a fault. Characters, and which keys typed
    /// them, are never reported.
    pub(super) fn report_event(&self, now: Time, event: &Event) {
        if !self.journal.wants(LogLevel::Debug) {
            return;
        }
        let words = match event {
            Event::Pressed { key, modifiers } => {
                let held = modifiers.iter().map(|side| side.key());
                let keys: Vec<Key> = held.chain([*key]).collect();
                let combo = KeyCombination(keys.iter().map(|key| KeySpec::Named(*key)).collect());
                if combo.types_character() {
                    "pressed a key that types".to_owned()
                } else {
                    format!("pressed {combo}")
                }
            }
            Event::Released { key }
                if KeyCombination::of(KeySpec::Named(*key)).types_character() =>
            {
                "let go a key that types".to_owned()
            }
            Event::Released { key } => format!("let go {key}"),
            Event::Focus(app) => format!("{} came to the front", shown(app.name())),
            _ => return,
        };
        self.journal.tell(LogLevel::Debug, &format!("{}{now}{0:#} {words}", style::FAINT));
    }

    /// Reports the decisions since the last call: failures and the like, and everything that fires if the
    /// person asked for it.
    pub(super) fn report_decisions(&mut self, engine: &Engine) {
        let rules = engine.rules();
        let mut last = self.last_decision;
        let mut refused = false;
        for reason in engine.decisions_after(self.last_decision) {
            last = reason.number;
            let rule = reason.rule.and_then(|rule| rules.get(rule));
            let urgent = matches!(
                reason.kind,
                DecisionKind::Failed { .. }
                    | DecisionKind::RateLimited(_)
                    | DecisionKind::MissingKeys(_)
                    | DecisionKind::GrabsRefused(_)
                    | DecisionKind::GrabsNotGranted(_)
                    | DecisionKind::MicrophoneState(MicrophoneState::Failed(_))
                    | DecisionKind::ConnectionState(_, ConnectionState::Down(_))
                    | DecisionKind::CutLine(_)
                    | DecisionKind::Panic { .. }
            );
            let level = if urgent { LogLevel::Warning } else { LogLevel::Info };
            if !self.journal.wants(level) {
                continue;
            }
            let about = rule.map_or_else(String::new, |rule| {
                format!("{}: {}: ", rules.show_place(rule.place), rule.label)
            });
            if matches!(reason.kind, DecisionKind::GrabsRefused(_)) {
                refused = true;
            }
            let word = if urgent { style::WARNING } else { style::FAINT };
            let what = describe(&reason.kind, rules);
            self.journal.tell(level, &format!("{word}{}{word:#} {about}{what}", reason.time));
        }
        self.last_decision = last;
        if refused {
            let words = format!(
                "  {}help{0:#}: it is taken up when it comes free; `lantern capture` says whose it is, \
                 `lantern keys --take` frees what a setting of the desktop has",
                style::HELP
            );
            self.journal.tell(LogLevel::Warning, &words);
        }
    }

    /// Warns once of more grabs than a server can take without growing slow.
    pub(super) fn report_grabs(&mut self, count: usize) {
        if count <= MANY_COMBINATIONS || std::mem::replace(&mut self.has_warned_of_grabs, true) {
            return;
        }
        let words = format!(
            "{}warning{0:#}: {count} combinations are taken at once; above {MANY_COMBINATIONS} \
             the X server grows slower for every program.\n  {}help{1:#}: put rules into \
             `in app` blocks, so that fewer are needed at a time",
            style::WARNING,
            style::HELP
        );
        self.journal.tell(LogLevel::Warning, &words);
    }

    /// Reports which setting of the desktop has a combination that a rule wants.
    pub(super) fn report_owner(&self, now: Time, taken: &Shortcut) {
        let (warning, help, faint) = (style::WARNING, style::HELP, style::FAINT);
        let words = format!(
            "{warning}{}{warning:#} {} belongs to {}\n  {help}help{help:#}: free it: {}\n  \
             {faint}give it back:{faint:#} {}",
            now,
            taken.combo(),
            taken.setting,
            taken.free.line(),
            taken.give_back.line()
        );
        self.journal.tell(LogLevel::Warning, &words);
    }
}
