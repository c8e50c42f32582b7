//! What a session tells the person: what came in, what was decided, and who else has a key. It changes
//! nothing but how far it has told.

use lantern_desk::Backend;
use lantern_devices::Shortcut;
use lantern_engine::DecisionKind;
use lantern_model::{ConnectionState, Event, Key, KeyCombination, KeySpec, MicrophoneState, Time};

use super::Session;
use crate::escaping::shown;
use crate::event_log::LogLevel;
use crate::style;
use crate::text::describe;

impl<D: Backend> Session<'_, D> {
    /// Tells of what comes in, at the level at which a person looks for a fault. Characters, and which
    /// keys typed them, are never told.
    pub(super) fn tell_event(&mut self, now: Time, event: &Event) {
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

    /// Says what the person should know of; everything that fires, if asked for.
    pub(super) fn tell_reasons(&mut self) {
        let mut seen = self.reasons_seen;
        let mut refused = false;
        for reason in self.engine.decisions_after(self.reasons_seen) {
            seen = reason.number;
            let rule = reason.rule.and_then(|rule| self.engine.rules().get(rule));
            let urgent = matches!(
                reason.kind,
                DecisionKind::Failed { .. }
                    | DecisionKind::RateLimited(_)
                    | DecisionKind::MissingKeys(_)
                    | DecisionKind::GrabsRefused(_)
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
                format!("{}: {}: ", self.engine.rules().show_place(rule.place), rule.label)
            });
            if matches!(reason.kind, DecisionKind::GrabsRefused(_)) {
                refused = true;
            }
            let word = if urgent { style::WARNING } else { style::FAINT };
            let what = describe(&reason.kind, self.engine.rules());
            self.journal.tell(level, &format!("{word}{}{word:#} {about}{what}", reason.time));
        }
        self.reasons_seen = seen;
        if refused {
            let words = format!(
                "  {}help{0:#}: it is taken up when it comes free; `lantern capture` says whose it is, \
                 `lantern keys --take` frees what a setting of the desktop has",
                style::HELP
            );
            self.journal.tell(LogLevel::Warning, &words);
        }
    }

    /// Says which setting of the desktop has a combination that a rule wants.
    pub(super) fn tell_owner(&mut self, taken: &Shortcut) {
        let (warning, help, faint) = (style::WARNING, style::HELP, style::FAINT);
        let words = format!(
            "{warning}{}{warning:#} {} belongs to {}\n  {help}help{help:#}: free it: {}\n  \
             {faint}give it back:{faint:#} {}",
            self.now(),
            taken.combo(),
            taken.setting,
            taken.free.line(),
            taken.give_back.line()
        );
        self.journal.tell(LogLevel::Warning, &words);
    }
}
