//! Takes rules that were saved anew while they run; broken ones change nothing.

use lantern_backend::Backend;
use serde_json::json;

use super::Session;
use super::background::Finished;
use super::rule_files::{Read, Reading, ReloadRequest, Unread};
use crate::diagnostics::print_rendered;
use crate::event_log::LogLevel;
use crate::failure::Failure;
use crate::ipc::protocol::{RpcError, reply};
use crate::style;
use crate::text::counted;

impl<D: Backend> Session<'_, D> {
    /// Takes rules that were read, if any were.
    pub(super) fn finish_reading(&mut self) -> Result<(), Failure> {
        let now = self.now();
        let finished = match self.files.poll(now) {
            Reading::Pending => return Ok(()),
            Reading::BeingWritten => {
                let wait = "a program is writing the file; it is read after that";
                self.answer_reloads(|_| Err(RpcError::refused(wait)));
                return Ok(());
            }
            Reading::Done(finished) => *finished,
        };
        let was_broken = self.files.set_broken(true);
        self.take_read(finished)?;
        if self.files.is_broken() && !was_broken {
            let name = self.files.path().display();
            self.notify(format!("{name} is broken\nThe rules from before stay in force."));
        } else if was_broken && !self.files.is_broken() {
            let (name, count) = (self.files.path().display(), self.engine.rules().count());
            let rules = counted(count, "rule");
            self.notify(format!("{name} is in force again\nIt is correct now: {rules}."));
        }
        self.answer_reloads(|session| {
            let name = session.files.path().display();
            if session.files.is_broken() {
                let stay = "the rules from before stay in force; `lantern check` says where";
                return Err(RpcError::refused(format!("{name} is broken: {stay}")));
            }
            let count = session.engine.rules().count();
            Ok(json!({ "file": name.to_string(), "rules": count }))
        });
        Ok(())
    }

    fn answer_reloads(&mut self, answer: impl Fn(&Self) -> Result<serde_json::Value, RpcError>) {
        for ReloadRequest { client, id } in self.files.take_requests() {
            if let Some(id) = id {
                let line = reply(&id, answer(self));
                self.place.ipc.send(client, &line);
            }
        }
    }

    fn take_read(&mut self, finished: Finished<Read>) -> Result<(), Failure> {
        let name = self.files.path().display().to_string();
        let read = match finished {
            Finished::JobResult(read) => read,
            Finished::TooSlow(limit) => {
                let seconds = limit.as_secs();
                self.report_unread(&name, &format!("takes more than {seconds} s to read"));
                return Ok(());
            }
            Finished::Fault => {
                self.report_unread(&name, "cannot be read by a fault of this program");
                return Ok(());
            }
        };
        print_rendered(read.rendered);
        let prepared = match read.rules {
            Ok(prepared) => prepared,
            Err(Unread::Failed(failure)) => {
                failure.report();
                self.report_unread(&name, "cannot be read");
                return Ok(());
            }
            Err(Unread::Broken) => {
                self.report_unread(&name, "is broken");
                return Ok(());
            }
            Err(Unread::Refused(refusal)) => {
                refusal.print_missing().report();
                self.report_unread(&name, "is not taken");
                return Ok(());
            }
        };
        self.files.set_broken(false);
        let rules = prepared.rules();
        let count = rules.count();
        self.files.watch_others(rules)?;
        if rules.needs_password_field() {
            self.executor.watch_typing();
        }
        self.clock.restart_wall(rules.reads_clock());
        self.executor
            .set_devices(rules)
            .map_err(|source| Failure::System { what: "cannot watch devices", source })?;
        self.backend.set_rules(prepared.rules());
        let now = self.now();
        self.engine.replace_rules(now, prepared);
        self.perform_effects(now)?;
        let journal = self.reporter.journal();
        journal.note(&format!("{name} reloaded: {}", counted(count, "rule")));
        Ok(())
    }

    fn report_unread(&self, name: &str, what: &str) {
        let error = style::ERROR;
        let words = format!("{error}{name} {what}{error:#}: the rules from before stay in force");
        self.reporter.journal().tell(LogLevel::Warning, &words);
    }
}
