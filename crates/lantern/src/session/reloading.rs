//! Rules that are saved anew while they run: when they are read, and what becomes of broken ones.

use std::path::PathBuf;
use std::time::Duration;

use lantern_desk::Desk;
use lantern_model::{Deed, EffectId, Verb};
use lantern_script::{Checked, Source};

use super::Session;
use crate::commands::run::refuse_unless_agreed;
use crate::failure::Failure;
use crate::findings::print_findings;
use crate::journal::LogLevel;
use crate::{files, findings, style};

/// So long no more of a saving must come before the file is read.
const SAVING_RESTS: Duration = Duration::from_millis(30);
/// A file that is saved again and again is read after so long anyway.
const SAVING_LASTS: Duration = Duration::from_millis(500);

impl<D: Desk> Session<'_, D> {
    /// A file that was saved is read when nothing more comes for a moment: who saves in two goes, or
    /// empties a file before writing to it, would be read half.
    pub(super) fn look_at_files(&mut self) {
        if self.saved.has_changed() {
            let now = self.now();
            let first = self.read_due.map_or(now, |(first, _)| first);
            self.read_due = Some((first, (now + SAVING_RESTS).min(first + SAVING_LASTS)));
        }
    }

    /// Whether somebody is writing one of the files.
    pub(super) fn is_being_saved(&mut self) -> bool {
        self.saved.is_being_written() || self.read_due.is_some()
    }

    /// Reads the file anew. A broken one changes nothing.
    pub(super) fn reload(&mut self) -> Result<(), Failure> {
        // What was saved by now is read now.
        self.look_at_files();
        self.read_due = None;
        let read = files::read_rules_again(&self.place.path);
        self.look_at_files();
        if self.is_being_saved() {
            // What was read may be half; it is read again when the saving is over.
            return Ok(());
        }
        // Who empties a file to write it anew may not have been told of yet.
        let empty = read.as_ref().is_ok_and(|(source, _)| source.text().is_empty());
        if empty && !std::mem::replace(&mut self.seen_empty, empty) {
            let now = self.now();
            self.read_due = Some((now, now + SAVING_LASTS));
            return Ok(());
        }
        self.seen_empty = empty;
        let was_broken = std::mem::replace(&mut self.broken, true);
        let result = self.take_rules(read);
        if self.broken && !was_broken {
            let (verb, name) = (Verb::Notify, self.place.path.display());
            let text = format!("{name} is broken\nThe rules from before stay in force.");
            let deed = Deed { verb, words: vec![text], value: None, limit: None };
            // Where nobody shows notices the terminal has said it.
            self.errands.attempt(EffectId(0), &deed);
        }
        result
    }

    fn take_rules(&mut self, read: Result<(Source, Checked), Failure>) -> Result<(), Failure> {
        let name = self.place.path.display().to_string();
        let (source, checked) = match read {
            Ok(read) => read,
            Err(failure) => {
                failure.report();
                self.say_unread(&name, "cannot be read");
                return Ok(());
            }
        };
        let mut findings = checked.findings;
        findings.extend(findings::lacking_on(self.place.desk, &checked.needs));
        print_findings(&findings, &source);
        let Some(rules) = checked.rules else {
            self.say_unread(&name, "is broken");
            return Ok(());
        };
        if let Err(failure) = refuse_unless_agreed(&source, &rules) {
            failure.report();
            self.say_unread(&name, "is not taken");
            return Ok(());
        }
        self.broken = false;
        let count = rules.count();
        let paths: Vec<PathBuf> = rules.files.iter().map(PathBuf::from).collect();
        self.saved.watch_others(&paths)?;
        self.asks_clock = rules.asks_clock();
        if rules.writes_text() {
            self.errands.watch_typing();
        }
        self.clock = None;
        self.errands
            .set_devices(&rules)
            .map_err(|source| Failure::System { what: "cannot watch devices", source })?;
        let now = self.now();
        self.engine.replace_rules(now, rules);
        self.carry_out(now)?;
        self.journal.note(&format!("{name} read anew: {count} rules"));
        Ok(())
    }

    fn say_unread(&mut self, name: &str, what: &str) {
        let error = style::ERROR;
        let words = format!("{error}{name} {what}{error:#}: the rules from before stay in force");
        self.journal.tell(LogLevel::Warning, &words);
    }
}
