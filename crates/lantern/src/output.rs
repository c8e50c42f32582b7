//! Lines for the terminal, the system's journal and the log file.
//!
//! A command that runs and ends writes them directly. `lantern run` starts a thread that writes
//! them from a bounded queue: a terminal stopped with ctrl+s, an unread pipe or a slow disk then
//! blocks that thread and never the event loop. What does not fit in the queue is dropped and
//! counted, and the count is written once writing works again.

use std::borrow::Cow;
use std::collections::VecDeque;
use std::fmt;
use std::io::{IsTerminal, Write};
use std::sync::{Condvar, LazyLock, Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use crate::escaping::{acts, push_shown};
use crate::log_file::LogFile;
use crate::style;

/// Writes a line to standard output.
macro_rules! say {
    ($($words:tt)*) => {
        $crate::output::write_line($crate::output::Stream::Out, format_args!($($words)*))
    };
}

/// Writes a line to standard error.
macro_rules! complain {
    ($($words:tt)*) => {
        $crate::output::write_line($crate::output::Stream::Err, format_args!($($words)*))
    };
}

pub(crate) use {complain, say};

/// Most bytes in the queue.
const MOST_BYTES: usize = 1 << 20;
/// Most lines in the queue.
const MOST_LINES: usize = 8192;
/// Maximum time for which the end of the program waits until the queue is written.
const LAST_LINES: Duration = Duration::from_secs(1);

/// Where a line goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stream {
    /// Standard output.
    Out,
    /// Standard error.
    Err,
    /// The log file of `--log-file`, if there is one.
    Log,
}

static QUEUE: OnceLock<Queue> = OnceLock::new();

/// Lines that wait to be written, and their writer's state.
#[derive(Debug, Default)]
struct Queue {
    waiting: Mutex<Waiting>,
    /// Signalled when a line was added, and when all are written.
    changed: Condvar,
}

#[derive(Debug, Default)]
struct Waiting {
    lines: VecDeque<(Stream, String)>,
    bytes: usize,
    dropped: u64,
    /// Whether the thread is writing a line that it took.
    is_writing: bool,
}

impl Waiting {
    /// Adds a line, or counts it as dropped.
    fn add(&mut self, stream: Stream, line: String) {
        if self.bytes + line.len() > MOST_BYTES || self.lines.len() >= MOST_LINES {
            self.dropped += 1;
            return;
        }
        self.bytes += line.len();
        self.lines.push_back((stream, line));
    }

    /// The next line to write. The number of dropped lines follows the lines before them.
    fn take(&mut self) -> Option<(Stream, String)> {
        if let Some((stream, line)) = self.lines.pop_front() {
            self.bytes -= line.len();
            return Some((stream, line));
        }
        let dropped = std::mem::take(&mut self.dropped);
        (dropped > 0).then(|| (Stream::Err, dropped_words(dropped)))
    }

    fn is_done(&self) -> bool {
        self.lines.is_empty() && self.dropped == 0 && !self.is_writing
    }
}

impl Queue {
    fn lock(&self) -> MutexGuard<'_, Waiting> {
        // A panic between two changes of the counters loses no more than a line.
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Writes lines for ever.
    fn write_all(&self, mut log: Option<LogFile>) {
        loop {
            let mut waiting = self.lock();
            let (stream, line) = loop {
                waiting.is_writing = false;
                if let Some(next) = waiting.take() {
                    waiting.is_writing = true;
                    break next;
                }
                self.changed.notify_all();
                waiting = self.changed.wait(waiting).unwrap_or_else(PoisonError::into_inner);
            };
            drop(waiting);
            match stream {
                Stream::Log => write_log(&mut log, &line),
                _ => write_now(stream, &line),
            }
        }
    }
}

fn dropped_words(count: u64) -> String {
    let lines = if count == 1 { "line was" } else { "lines were" };
    format!(
        "{}warning{0:#}: {count} {lines} left out, since nothing read the output in time\n",
        style::WARNING
    )
}

/// Starts the thread that writes from the queue. Lines of [`Stream::Log`] go into `log`.
///
/// # Errors
/// When the system has no thread left.
pub fn start_queue(log: Option<LogFile>) -> std::io::Result<()> {
    let queue = QUEUE.get_or_init(Queue::default);
    // The hook of the library writes directly.
    std::panic::set_hook(Box::new(|panic| complain!("{}fault{0:#}: {panic}", style::ERROR)));
    thread::Builder::new().name("output".to_owned()).spawn(|| queue.write_all(log)).map(drop)
}

/// Writes a line to a stream, or queues it where [`start_queue`] was called. A reader that went away
/// is no fault.
pub fn write_line(stream: Stream, words: fmt::Arguments) {
    let line = format!("{words}\n");
    let Some(queue) = QUEUE.get() else { return write_now(stream, &line) };
    queue.lock().add(stream, line);
    queue.changed.notify_all();
}

/// Waits until what was queued is written, for a second at the most.
pub fn finish() {
    let Some(queue) = QUEUE.get() else { return };
    let until = Instant::now() + LAST_LINES;
    let mut waiting = queue.lock();
    while !waiting.is_done() {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return;
        }
        let woken = queue.changed.wait_timeout(waiting, left);
        waiting = woken.unwrap_or_else(PoisonError::into_inner).0;
    }
}

fn write_now(stream: Stream, line: &str) {
    let _ = match stream {
        Stream::Out => {
            let line = fit_for(&std::io::stdout(), line);
            anstream::stdout().write_all(line.as_bytes())
        }
        _ => {
            let line = fit_for(&std::io::stderr(), line);
            anstream::stderr().write_all(line.as_bytes())
        }
    };
}

/// The line as it may be written: a terminal acts on nothing in it but our own colours and line ends.
fn fit_for<'l>(stream: &impl IsTerminal, line: &'l str) -> Cow<'l, str> {
    if stream.is_terminal() { without_sequences(line) } else { Cow::Borrowed(line) }
}

/// The line with every control character escaped that is not a line end, a tab or a colour of ours.
fn without_sequences(line: &str) -> Cow<'_, str> {
    if !line.chars().any(|c| acts(c) && c != '\n' && c != '\t') {
        return Cow::Borrowed(line);
    }
    let mut fit = String::with_capacity(line.len() + 16);
    let mut rest = line;
    while let Some(c) = rest.chars().next() {
        let own = OWN_SEQUENCES.iter().find(|own| rest.starts_with(own.as_str()));
        let length = match own {
            Some(own) => {
                fit.push_str(own);
                own.len()
            }
            None => {
                if matches!(c, '\n' | '\t') {
                    fit.push(c)
                } else {
                    push_shown(&mut fit, c)
                }
                c.len_utf8()
            }
        };
        rest = &rest[length..];
    }
    Cow::Owned(fit)
}

/// The sequences that our colours consist of.
static OWN_SEQUENCES: LazyLock<Vec<String>> = LazyLock::new(|| {
    let rendered = style::ALL.iter().map(|style| format!("{style}{style:#}"));
    let mut own: Vec<String> = rendered
        .flat_map(|text| text.split_inclusive('m').map(str::to_owned).collect::<Vec<_>>())
        .collect();
    own.sort();
    own.dedup();
    own
});

fn write_log(log: &mut Option<LogFile>, line: &str) {
    let Some(file) = log else { return };
    if let Err(error) = file.write(line) {
        let path = file.path().display();
        let words = format!(
            "{}warning{0:#}: cannot write {path}: {error}; nothing more is logged there\n",
            style::WARNING
        );
        write_now(Stream::Err, &words);
        *log = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_fit_is_dropped_and_counted_behind_what_did() {
        let mut waiting = Waiting::default();
        for number in 0..MOST_LINES + 3 {
            waiting.add(Stream::Out, format!("{number}\n"));
        }
        for number in 0..MOST_LINES {
            assert_eq!(waiting.take(), Some((Stream::Out, format!("{number}\n"))));
        }
        let (stream, words) = waiting.take().expect("the count is written");
        assert_eq!(stream, Stream::Err);
        assert!(words.contains(": 3 lines were left out"), "{words}");
        assert_eq!(waiting.take(), None);
        assert!(waiting.is_done());
    }

    #[test]
    fn a_terminal_gets_our_colours_and_no_other_sequence() {
        let own = format!("{}warning{0:#}: core\t12\n", style::WARNING);
        assert_eq!(without_sequences(&own), own);
        for (foreign, fit) in [
            ("\u{1b}[8mhidden", "\\u{1b}[8mhidden"),
            ("\u{1b}]52;c;aGk=\u{7}", "\\u{1b}]52;c;aGk=\\u{7}"),
            ("\u{1b}[2K\r", "\\u{1b}[2K\\u{d}"),
            ("\u{9b}1A", "\\u{9b}1A"),
            ("\u{202e}x\u{1b}", "\\u{202e}x\\u{1b}"),
        ] {
            assert_eq!(without_sequences(foreign), fit);
        }
        assert!(OWN_SEQUENCES.iter().all(|own| own.starts_with("\u{1b}[") && own.len() < 8));
    }

    #[test]
    fn a_finding_reaches_a_terminal_as_it_was_rendered() {
        let text = "let spare = 1\nwhen key f9 => tap esc\nwhen key f8 => log \"x\"\nwhen key f8 => log \"y\"\n";
        let source = lantern_script::Source::new("bench.lantern", text);
        let findings = lantern_script::check(&source).findings;
        assert!(findings.iter().any(lantern_script::Finding::is_error), "{findings:?}");
        assert!(findings.iter().any(|finding| !finding.others.is_empty()), "{findings:?}");
        for finding in findings {
            let rendered = lantern_script::render(&finding, &source, true);
            assert!(rendered.contains('\u{1b}'), "it has colours");
            assert_eq!(without_sequences(&rendered), rendered);
        }
    }

    #[test]
    fn the_queue_holds_a_mebibyte() {
        let mut waiting = Waiting::default();
        waiting.add(Stream::Err, "x".repeat(MOST_BYTES));
        waiting.add(Stream::Err, "y".to_owned());
        assert_eq!(waiting.take().map(|(_, line)| line.len()), Some(MOST_BYTES));
        waiting.add(Stream::Err, "z".to_owned());
        assert_eq!(waiting.take().map(|(_, line)| line), Some("z".to_owned()));
        assert!(waiting.take().is_some_and(|(_, line)| line.contains(": 1 line was")));
    }
}
