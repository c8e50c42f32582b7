//! The files of the rules while they run: when a saved file is read again, and who waits for that.
//!
//! Files are read and checked on a thread of their own, since a large set takes a while. What becomes of
//! the result is the session's business.

use std::path::{Path, PathBuf};
use std::time::Duration;

use lantern_engine::PreparedRules;
use lantern_model::{RuleSet, Time};
use lantern_script::render;
use rustix::fd::{AsFd, BorrowedFd};

use super::background::{Background, Finished};
use super::file_watcher::SavedFile;
use crate::arguments::BackendName;
use crate::consent::{ConsentRefusal, refuse_unless_agreed};
use crate::diagnostics;
use crate::failure::Failure;
use crate::files;
use crate::ipc::protocol::RpcError;
use crate::ipc::server::ClientId;

/// Time without further changes after which a saved file is read.
const SAVING_RESTS: Duration = Duration::from_millis(30);
/// Maximum time after which a file that is saved again and again is read.
const SAVING_LASTS: Duration = Duration::from_millis(500);
/// Maximum time to read and check the rules.
const READING_LASTS: Duration = Duration::from_secs(30);
/// Maximum number of requests to reload that wait for an answer.
const MOST_REQUESTS: usize = 64;

/// What was read of the files.
#[derive(Debug)]
pub(super) struct Read {
    /// Whether the file is empty.
    is_empty: bool,
    /// Findings as a person reads them.
    pub rendered: Vec<String>,
    pub rules: Result<PreparedRules, Unread>,
}

/// Why rules are not taken.
#[derive(Debug)]
pub(super) enum Unread {
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

/// What came of reading the files.
#[derive(Debug)]
pub(super) enum Reading {
    /// Nothing yet, or the files are read again first.
    Pending,
    /// A program is writing the file. Requests are refused.
    BeingWritten,
    /// The files were read.
    Done(Box<Finished<Read>>),
}

/// The files of the rules.
#[derive(Debug)]
pub(super) struct RuleFiles {
    path: PathBuf,
    backend: BackendName,
    saved: SavedFile,
    /// When the files were seen to be saved first, and when they are to be read.
    due: Option<(Time, Time)>,
    reading: Background<Read>,
    requests: Vec<ReloadRequest>,
    /// Whether the file was empty when it was read last.
    was_empty: bool,
    /// Whether the file is broken now, so that rules from before are in force.
    is_broken: bool,
}

impl RuleFiles {
    /// Watches the files of rules that were read from `path`.
    pub(super) fn watch(
        path: PathBuf,
        backend: BackendName,
        rules: &RuleSet,
    ) -> Result<RuleFiles, Failure> {
        let failed = |source| Failure::System { what: "cannot watch services", source };
        Ok(RuleFiles {
            path,
            backend,
            saved: SavedFile::watch(&paths_of(rules))?,
            due: None,
            reading: Background::new(READING_LASTS).map_err(failed)?,
            requests: Vec::new(),
            was_empty: false,
            is_broken: false,
        })
    }

    /// Watches the files of other rules from now on.
    pub(super) fn watch_others(&mut self, rules: &RuleSet) -> Result<(), Failure> {
        self.saved.watch_others(&paths_of(rules))
    }

    /// The file that the person named.
    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// Whether the file is broken, so that rules from before are in force.
    pub(super) fn is_broken(&self) -> bool {
        self.is_broken
    }

    /// Takes whether the file is broken; whether it was before.
    pub(super) fn set_broken(&mut self, is_broken: bool) -> bool {
        std::mem::replace(&mut self.is_broken, is_broken)
    }

    /// Whether the files are being read.
    pub(super) fn is_reading(&self) -> bool {
        self.reading.is_under_way()
    }

    /// Whether a change was seen that must be looked at.
    pub(super) fn is_pending(&self) -> bool {
        self.saved.is_pending()
    }

    /// Looks for changes. A file that was saved is read when nothing more comes for a moment: one that is
    /// saved in two writes, or is emptied before a write, would be read half.
    pub(super) fn look(&mut self, now: Time) {
        if self.saved.has_changed() {
            let first = self.due.map_or(now, |(first, _)| first);
            self.due = Some((first, (now + SAVING_RESTS).min(first + SAVING_LASTS)));
        }
    }

    /// Reads the files on another thread if that is due and not under way.
    pub(super) fn read_if_due(&mut self, now: Time) {
        if self.due.is_some_and(|(_, due)| due <= now) {
            self.begin_reading(now);
        }
    }

    fn begin_reading(&mut self, now: Time) {
        if self.reading.is_under_way() {
            return;
        }
        // What was saved by now is read now.
        self.look(now);
        self.due = None;
        let (path, backend) = (self.path.clone(), self.backend);
        self.reading.start(now, move || read(&path, backend));
    }

    /// Reads the files, and keeps a request until that is done.
    pub(super) fn reload_for(&mut self, now: Time, request: ReloadRequest) -> Result<(), RpcError> {
        if self.requests.len() >= MOST_REQUESTS {
            return Err(RpcError::refused("many requests to reload wait already"));
        }
        self.requests.push(request);
        if self.reading.is_under_way() {
            // It may have read what was there before this request.
            self.due.get_or_insert((now, now));
        } else {
            self.begin_reading(now);
        }
        Ok(())
    }

    /// Takes the requests that wait for the files.
    pub(super) fn take_requests(&mut self) -> Vec<ReloadRequest> {
        std::mem::take(&mut self.requests)
    }

    /// Takes what came of reading the files.
    pub(super) fn poll(&mut self, now: Time) -> Reading {
        let Some(finished) = self.reading.poll(now) else { return Reading::Pending };
        self.look(now);
        if self.saved.is_being_written() {
            // What was read may be half; it is read again when the saving is over.
            return Reading::BeingWritten;
        }
        if self.due.is_some() {
            return Reading::Pending;
        }
        // The event of a program that empties a file to write it again may still be pending.
        let is_empty = matches!(&finished, Finished::JobResult(read) if read.is_empty);
        if is_empty && !std::mem::replace(&mut self.was_empty, is_empty) {
            self.due = Some((now, now + SAVING_LASTS));
            return Reading::Pending;
        }
        self.was_empty = is_empty;
        Reading::Done(Box::new(finished))
    }

    pub(super) fn next_deadline(&self) -> Option<Time> {
        // The files are read again only after the present reading.
        let due = self.due.filter(|_| !self.reading.is_under_way()).map(|(_, due)| due);
        self.reading.next_deadline().into_iter().chain(due).min()
    }

    /// Becomes readable when a file was saved.
    pub(super) fn saved_descriptor(&self) -> BorrowedFd<'_> {
        self.saved.inotify.as_fd()
    }

    /// Becomes readable when the files were read.
    pub(super) fn reading_descriptor(&self) -> Option<BorrowedFd<'_>> {
        self.reading.is_under_way().then(|| self.reading.descriptor())
    }
}

fn paths_of(rules: &RuleSet) -> Vec<PathBuf> {
    rules.files.iter().map(PathBuf::from).collect()
}
