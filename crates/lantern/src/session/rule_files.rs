//! Rules that are saved anew while they run: when they are read, and what becomes of broken ones.
//!
//! They are read and checked on a thread of their own, since a large set takes a while.

use std::path::{Path, PathBuf};
use std::time::Duration;

use lantern_desk::Backend;
use lantern_engine::PreparedRules;
use lantern_model::{Command, CommandKind, EffectId};
use lantern_script::render;
use serde_json::json;

use super::Session;
use super::background::Finished;
use crate::arguments::BackendName;
use crate::commands::run::{ConsentRefusal, refuse_unless_agreed};
use crate::diagnostics::{self, print_rendered};
use crate::event_log::LogLevel;
use crate::failure::Failure;
use crate::ipc::protocol::{RpcError, reply};
use crate::ipc::server::ClientId;
use crate::text::counted;
use crate::{files, style};

/// Time without further changes after which a saved file is read.
const SAVING_RESTS: Duration = Duration::from_millis(30);
/// Maximum time after which a file that is saved again and again is read.
const SAVING_LASTS: Duration = Duration::from_millis(500);
/// Maximum time to read and check the rules.
pub(super) const READING_LASTS: Duration = Duration::from_secs(30);
/// Maximum number of requests to reload that wait for an answer.
const MOST_REQUESTS: usize = 64;

/// What was read of the files.
#[derive(Debug)]
pub(super) struct Read {
    /// Whether the file is empty.
    is_empty: bool,
    /// Findings as a person reads them.
    rendered: Vec<String>,
    rules: Result<PreparedRules, Unread>,
}

/// Why rules are not taken.
#[derive(Debug)]
enum Unread {
    /// The files cannot be read.
    Failed(Failure),
    /// The findings say what is wrong.
    Broken,
    /// The person has not agreed to what they can do, or another user may write them.
    Refused(ConsentRefusal),
}

/// A request to reload that waits for an answer: its client and its id, if it wants one.
#[derive(Debug)]
pub(super) struct ReloadRequest {
    pub client: ClientId,
    pub id: Option<serde_json::Value>,
}

/// Reads and checks rules.
fn read(path: &Path, backend: BackendName) -> Read {
    let mut read = match files::read_rules_again(path) {
        Ok(read) => read,
        Err(failure) => {
            let (is_empty, rendered) = (false, Vec::new());
            return Read { is_empty, rendered, rules: Err(Unread::Failed(failure)) };
        }
    };
    let mut found = std::mem::take(&mut read.checked.findings);
    found.extend(diagnostics::lacking_on(backend, &read.checked.needs));
    let rules = match read.checked.rules.take() {
        None => Err(Unread::Broken),
        Some(rules) => match refuse_unless_agreed(&read, &rules) {
            Ok(()) => Ok(PreparedRules::new(rules)),
            Err(refusal) => Err(Unread::Refused(refusal)),
        },
    };
    let source = &read.source;
    let rendered = found.iter().map(|finding| render(finding, source, true)).collect();
    Read { is_empty: source.text().is_empty(), rendered, rules }
}

impl<D: Backend> Session<'_, D> {
    /// A file that was saved is read when nothing more comes for a moment: who saves in two goes, or
    /// empties a file before writing to it, would be read half.
    pub(super) fn look_at_files(&mut self) {
        if self.saved.has_changed() {
            let now = self.now();
            let first = self.read_due.map_or(now, |(first, _)| first);
            self.read_due = Some((first, (now + SAVING_RESTS).min(first + SAVING_LASTS)));
        }
    }

    /// Reads the files on another thread, unless that is under way.
    pub(super) fn begin_reading(&mut self) {
        if self.reading.is_under_way() {
            return;
        }
        // What was saved by now is read now.
        self.look_at_files();
        self.read_due = None;
        let (path, backend, now) = (self.place.path.clone(), self.place.backend, self.now());
        self.reading.start(now, move || read(&path, backend));
    }

    /// Reads the files, and answers a request once that is done.
    pub(super) fn reload_for(&mut self, request: ReloadRequest) -> Result<(), RpcError> {
        if self.reload_requests.len() >= MOST_REQUESTS {
            return Err(RpcError::refused("many requests to reload wait already"));
        }
        self.reload_requests.push(request);
        if self.reading.is_under_way() {
            // It may have read what was there before this request.
            let now = self.now();
            self.read_due.get_or_insert((now, now));
        } else {
            self.begin_reading();
        }
        Ok(())
    }

    /// Takes rules that were read, if any were. Broken ones change nothing.
    pub(super) fn finish_reading(&mut self) -> Result<(), Failure> {
        let now = self.now();
        let Some(finished) = self.reading.poll(now) else { return Ok(()) };
        self.look_at_files();
        if self.saved.is_being_written() {
            // What was read may be half; it is read again when the saving is over.
            let wait = "a program is writing the file; it is read after that";
            self.answer_reloads(|_| Err(RpcError::refused(wait)));
            return Ok(());
        }
        if self.read_due.is_some() {
            return Ok(());
        }
        // The event of a program that empties a file to write it again may still be pending.
        let empty = matches!(&finished, Finished::JobResult(read) if read.is_empty);
        if empty && !std::mem::replace(&mut self.seen_empty, empty) {
            self.read_due = Some((now, now + SAVING_LASTS));
            return Ok(());
        }
        self.seen_empty = empty;
        let was_broken = std::mem::replace(&mut self.broken, true);
        self.take_read(finished)?;
        if self.broken && !was_broken {
            let (verb, name) = (CommandKind::Notify, self.place.path.display());
            let text = format!("{name} is broken\nThe rules from before stay in force.");
            let deed = Command { kind: verb, arguments: vec![text], value: None, timeout: None };
            // Without a notification service the terminal has the message.
            self.executor.attempt(EffectId(0), &deed);
        }
        self.answer_reloads(|session| {
            let name = session.place.path.display();
            if session.broken {
                let stay = "the rules from before stay in force; `lantern check` says where";
                return Err(RpcError::refused(format!("{name} is broken: {stay}")));
            }
            let count = session.engine.rules().count();
            Ok(json!({ "file": name.to_string(), "rules": count }))
        });
        Ok(())
    }

    fn answer_reloads(&mut self, answer: impl Fn(&Self) -> Result<serde_json::Value, RpcError>) {
        for ReloadRequest { client, id } in std::mem::take(&mut self.reload_requests) {
            if let Some(id) = id {
                let line = reply(&id, answer(self));
                self.place.ipc.send(client, &line);
            }
        }
    }

    fn take_read(&mut self, finished: Finished<Read>) -> Result<(), Failure> {
        let name = self.place.path.display().to_string();
        let read = match finished {
            Finished::JobResult(read) => read,
            Finished::TooSlow(limit) => {
                let seconds = limit.as_secs();
                self.say_unread(&name, &format!("takes more than {seconds} s to read"));
                return Ok(());
            }
            Finished::Fault => {
                self.say_unread(&name, "cannot be read by a fault of this program");
                return Ok(());
            }
        };
        print_rendered(read.rendered);
        let prepared = match read.rules {
            Ok(prepared) => prepared,
            Err(Unread::Failed(failure)) => {
                failure.report();
                self.say_unread(&name, "cannot be read");
                return Ok(());
            }
            Err(Unread::Broken) => {
                self.say_unread(&name, "is broken");
                return Ok(());
            }
            Err(Unread::Refused(refusal)) => {
                refusal.print_missing().report();
                self.say_unread(&name, "is not taken");
                return Ok(());
            }
        };
        self.broken = false;
        let rules = prepared.rules();
        let count = rules.count();
        let paths: Vec<PathBuf> = rules.files.iter().map(PathBuf::from).collect();
        self.saved.watch_others(&paths)?;
        self.asks_clock = rules.reads_clock();
        if rules.needs_password_field() {
            self.executor.watch_typing();
        }
        self.clock = None;
        self.executor
            .set_devices(rules)
            .map_err(|source| Failure::System { what: "cannot watch devices", source })?;
        let now = self.now();
        self.engine.replace_rules(now, prepared);
        self.perform_effects(now)?;
        self.journal.note(&format!("{name} reloaded: {}", counted(count, "rule")));
        Ok(())
    }

    fn say_unread(&mut self, name: &str, what: &str) {
        let error = style::ERROR;
        let words = format!("{error}{name} {what}{error:#}: the rules from before stay in force");
        self.journal.tell(LogLevel::Warning, &words);
    }
}
