//! What happened, in the order it happened: what came in, which rule fired, what went out.

use lantern_model::{Key, KeyCombination, ModifierKey, RunId, Time};
use lantern_script::scene::{DONE_WORDS, Expectation};
use serde::Serialize;
use unicode_width::UnicodeWidthStr;

use crate::style;
use crate::text::{combo_name, reference_layout};

/// Something that went out for a rule. Repetitions are one entry with a count.
#[derive(Debug, Clone, PartialEq)]
pub struct SentEffect {
    /// When, the first time.
    pub time: Time,
    /// When, the last time.
    pub until: Time,
    /// The run it was for.
    pub run: Option<RunId>,
    /// The run's rule.
    pub rule: Option<String>,
    /// What it was.
    pub kind: SentEffectKind,
    /// How often.
    pub count: usize,
}

/// What went out.
#[derive(Debug, Clone, PartialEq)]
pub enum SentEffectKind {
    /// Text, to a program.
    Typed(String, String),
    /// Keys together, to a program.
    Tapped(Vec<Key>, String),
    /// A key went down and stayed.
    Pressed(Key),
    /// A key went up.
    LetGo(Key),
    /// The pointer came to a pixel.
    PointerAt(i32, i32),
    /// Something was asked of the world: the step's words, and what was asked.
    Done(&'static str, String),
    /// A hint was shown.
    Hint(String),
    /// A line was logged.
    Logged(String),
    /// A run ended because a step failed.
    Failed {
        /// Why.
        message: String,
        /// The same with the place.
        words: String,
    },
}

impl SentEffectKind {
    /// Something was asked of the world.
    pub fn done(step: &'static str, text: impl Into<String>) -> SentEffectKind {
        SentEffectKind::Done(step, text.into())
    }
}

impl SentEffect {
    /// In words.
    pub fn describe(&self) -> String {
        let into = |app: &str| {
            if app.is_empty() { String::new() } else { format!(" into {app}") }
        };
        let words = match &self.kind {
            SentEffectKind::Typed(text, app) => format!("types {text:?}{}", into(app)),
            SentEffectKind::Tapped(keys, app) => match keys.as_slice() {
                [key] if key.name().ends_with("-button") => {
                    format!("clicks {}", key.name().trim_end_matches("-button"))
                }
                [key] if key.name().starts_with("wheel-") => {
                    format!("scrolls {}", key.name().trim_start_matches("wheel-"))
                }
                keys => format!("taps {}{}", combo_name(keys), into(app)),
            },
            SentEffectKind::Pressed(key) => format!("holds {key} down"),
            SentEffectKind::LetGo(key) => format!("lets {key} go"),
            SentEffectKind::PointerAt(x, y) => format!("moves the pointer to {x}, {y}"),
            SentEffectKind::Done(step, text) => done_words(step, text),
            SentEffectKind::Failed { words, .. } => words.clone(),
            SentEffectKind::Hint(text) => format!("shows {text:?}"),
            SentEffectKind::Logged(text) => format!("logs {text:?}"),
        };
        match self.count {
            1 => words,
            count => format!("{words}, {count} times until {}", self.until),
        }
    }

    /// Whether it is what was expected.
    pub fn meets(&self, expectation: &Expectation) -> bool {
        match (expectation, &self.kind) {
            (Expectation::Typed(test), SentEffectKind::Typed(text, _)) => test.passes(text),
            (Expectation::Tapped(combo), SentEffectKind::Tapped(keys, _)) => same_keys(combo, keys),
            (Expectation::Clicked(combo, count), SentEffectKind::Tapped(keys, _)) => {
                same_keys(combo, keys) && self.count == *count
            }
            (Expectation::PointerAt(x, y), SentEffectKind::PointerAt(at_x, at_y)) => {
                (x, y) == (at_x, at_y)
            }
            (Expectation::Done(word, test), SentEffectKind::Done(step, text)) => {
                DONE_WORDS.contains(&(*word, *step)) && test.passes(text)
            }
            (Expectation::Failed(test), SentEffectKind::Failed { message, .. }) => {
                test.passes(message)
            }
            (Expectation::Hint(test), SentEffectKind::Hint(text)) => test.passes(text),
            (Expectation::Logged(test), SentEffectKind::Logged(text)) => test.passes(text),
            _ => false,
        }
    }

    /// Joins the next entry if it is a repetition or continues the same text.
    fn absorb(&mut self, next: &SentEffect) -> bool {
        if self.run != next.run {
            return false;
        }
        match (&mut self.kind, &next.kind) {
            (SentEffectKind::Typed(text, app), SentEffectKind::Typed(more, same_app))
                if app == same_app =>
            {
                text.push_str(more);
            }
            (mine, theirs) if mine == theirs && matches!(mine, SentEffectKind::Tapped(..)) => {
                self.count += next.count;
            }
            _ => return false,
        }
        self.until = next.until;
        true
    }
}

/// Whether keys that went out are a combination, whichever side its modifiers are.
pub fn same_keys(combo: &KeyCombination, keys: &[Key]) -> bool {
    let layout = reference_layout();
    let Ok(wanted) = layout.press_order(combo) else {
        return false;
    };
    let family = |key: &Key| ModifierKey::of(*key).map(|side| side.modifier(false));
    let (Some((last, held)), Some((key, with))) = (wanted.split_last(), keys.split_last()) else {
        return false;
    };
    let mut held: Vec<_> = held.iter().map(family).collect();
    let mut with: Vec<_> = with.iter().map(family).collect();
    held.sort();
    with.sort();
    last == key && held == with
}

/// A step in the words of the table.
fn done_words(step: &str, text: &str) -> String {
    let verb = match step {
        "launch" => "starts",
        "run" => "runs",
        "shell" => "gives the shell",
        "open" => "opens",
        "end" => "ends",
        "focus" => "brings to the front",
        "close" => "closes",
        "choose" => "chooses",
        "tally" if text.is_empty() => return "numbers what can be pressed".to_owned(),
        "tally" => "picks number",
        "paste" => return format!("pastes {text:?}"),
        "notify" => return format!("notifies {text:?}"),
        "say" => return format!("says {text:?}"),
        "ask" | "confirm" | "pick" => return format!("asks {text:?}"),
        "send" => return format!("sends {text:?}"),
        "play" => "plays",
        "publish" => "publishes",
        "get" => "gets",
        "put" => "puts",
        "post" => "posts",
        other => other,
    };
    format!("{verb} {text}")
}

/// One line of the table.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct TimelineRow {
    /// When, in seconds.
    #[serde(serialize_with = "seconds")]
    pub time: Time,
    /// What came in.
    pub came_in: Option<String>,
    /// The rule that fired or that it belongs to.
    pub rule: Option<String>,
    /// What went out, by its number among the things sent; in JSON its words.
    #[serde(skip)]
    sent: Option<usize>,
    /// What went out, or what was decided.
    pub went_out: Option<String>,
    /// Whether it is an expectation that did not come true.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub unmet: bool,
}

fn seconds<S: serde::Serializer>(time: &Time, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_f64(time.as_micros() as f64 / 1e6)
}

/// A run of a rule, from its start to its end.
#[derive(Debug, Clone, PartialEq)]
pub struct RunBar {
    /// The run.
    pub run: RunId,
    /// Its rule.
    pub rule: String,
    /// When it began.
    pub start: Time,
    /// When it ended; missing as long as it lives.
    pub end: Option<Time>,
    /// Whether a step of it failed.
    pub failed: bool,
}

/// A key held down by a rule.
#[derive(Debug, Clone, PartialEq)]
pub struct HoldLine {
    /// The key.
    pub key: Key,
    /// When it went down.
    pub start: Time,
    /// When it went up; missing as long as it is down.
    pub end: Option<Time>,
}

/// What happened.
#[derive(Debug, Default)]
pub struct Timeline {
    rows: Vec<TimelineRow>,
    sent: Vec<SentEffect>,
    runs: Vec<RunBar>,
    holds: Vec<HoldLine>,
    /// When the last thing happened.
    end: Time,
}

impl Timeline {
    /// Everything that went out, in order.
    pub fn sent(&self) -> &[SentEffect] {
        &self.sent
    }

    /// Every run, in the order of their start.
    pub fn runs(&self) -> &[RunBar] {
        &self.runs
    }

    /// Every key that rules held, in the order in which they went down.
    pub fn holds(&self) -> &[HoldLine] {
        &self.holds
    }

    /// What came in, each with its time.
    pub fn inputs(&self) -> impl Iterator<Item = (Time, &str)> {
        self.rows.iter().filter_map(|row| Some((row.time, row.came_in.as_deref()?)))
    }

    /// When the last thing happened.
    pub fn end(&self) -> Time {
        self.end
    }

    /// A run began.
    pub fn begin_run(&mut self, time: Time, run: RunId, rule: String) {
        self.end = self.end.max(time);
        self.runs.push(RunBar { run, rule, start: time, end: None, failed: false });
    }

    /// A run ended.
    pub fn end_run(&mut self, time: Time, run: RunId, failed: bool) {
        self.end = self.end.max(time);
        if let Some(bar) = self.runs.iter_mut().rev().find(|bar| bar.run == run) {
            bar.end = Some(time);
            bar.failed = failed;
        }
    }

    /// Something came in.
    pub fn come(&mut self, time: Time, words: String) {
        self.end = self.end.max(time);
        self.rows.push(TimelineRow {
            time,
            came_in: Some(words),
            rule: None,
            sent: None,
            went_out: None,
            unmet: false,
        });
    }

    /// A key of the person's reached its program, as every key that no rule wants.
    pub fn reach(&mut self, time: Time, keys: &str, app: &str) {
        let into = if app.is_empty() { "no program".to_owned() } else { app.to_owned() };
        self.note(time, None, format!("{keys} reaches {into}"));
    }

    /// A rule fired.
    pub fn fire(&mut self, time: Time, rule: String) {
        if let Some(row) = self.rows.last_mut()
            && row.time == time
            && row.came_in.is_some()
            && row.rule.is_none()
            && row.went_out.is_none()
        {
            row.rule = Some(rule);
            return;
        }
        let row = TimelineRow {
            time,
            came_in: None,
            rule: Some(rule),
            sent: None,
            went_out: None,
            unmet: false,
        };
        self.rows.push(row);
    }

    /// Something was decided that is neither a firing nor an output.
    pub fn note(&mut self, time: Time, rule: Option<String>, words: String) {
        self.put(time, rule, None, words);
    }

    /// Something was expected and did not come.
    pub fn miss(&mut self, time: Time, words: String) {
        let went_out = Some(words);
        self.rows.push(TimelineRow {
            time,
            came_in: None,
            rule: None,
            sent: None,
            went_out,
            unmet: true,
        });
    }

    /// Something went out.
    pub fn send(&mut self, sent: SentEffect) {
        if let Some(last) = self.sent.last_mut()
            && self.rows.last().is_some_and(|row| row.sent.is_some())
            && last.absorb(&sent)
        {
            return;
        }
        self.end = self.end.max(sent.time);
        match &sent.kind {
            SentEffectKind::Pressed(key) => {
                self.holds.push(HoldLine { key: *key, start: sent.time, end: None });
            }
            SentEffectKind::LetGo(key) => {
                let open = |hold: &&mut HoldLine| hold.key == *key && hold.end.is_none();
                if let Some(hold) = self.holds.iter_mut().rev().find(open) {
                    hold.end = Some(sent.time);
                }
            }
            _ => {}
        }
        let index = self.sent.len();
        self.put(sent.time, sent.rule.clone(), Some(index), String::new());
        self.sent.push(sent);
    }

    fn put(&mut self, time: Time, rule: Option<String>, sent: Option<usize>, words: String) {
        let went_out = Some(words).filter(|words| !words.is_empty());
        if let Some(row) = self.rows.last_mut()
            && row.time == time
            && row.sent.is_none()
            && row.went_out.is_none()
            && !row.unmet
            && (row.rule == rule || row.rule.is_none())
        {
            row.rule = rule.or(row.rule.take());
            row.sent = sent;
            row.went_out = went_out;
            return;
        }
        self.rows.push(TimelineRow { time, came_in: None, rule, sent, went_out, unmet: false });
    }

    /// The lines of the table, with what went out in words.
    pub fn rows(&self) -> Vec<TimelineRow> {
        let mut rows = self.rows.clone();
        for row in &mut rows {
            if let Some(sent) = row.sent {
                row.went_out = Some(self.sent[sent].describe());
            }
        }
        rows
    }

    /// Prints the table.
    pub fn print(&self) {
        let rows = self.rows();
        let width = |cells: &mut dyn Iterator<Item = usize>| cells.max().unwrap_or(0);
        let cell = |text: &Option<String>| text.as_deref().map_or(0, UnicodeWidthStr::width);
        let came_in = width(&mut rows.iter().map(|row| cell(&row.came_in))).max("came in".len());
        let rule = width(&mut rows.iter().map(|row| cell(&row.rule))).max("rule".len());
        let pad = |text: &str, width: usize| " ".repeat(width.saturating_sub(text.width()));
        let time_head = "    time";
        crate::output::say!(
            "{}{time_head}   came in{}   rule{}   went out{0:#}",
            style::HEAD,
            pad("came in", came_in),
            pad("rule", rule),
        );
        let mut shown_time = None;
        let mut shown_rule: Option<String> = None;
        for row in &rows {
            let time = row.time.to_string();
            let time = if shown_time == Some(row.time) { String::new() } else { time };
            let again = row.came_in.is_none() && shown_rule == row.rule;
            let label = if again { "" } else { row.rule.as_deref().unwrap_or("") };
            let in_words = row.came_in.as_deref().unwrap_or("");
            let out_style = match (row.unmet, row.sent) {
                (true, _) => style::ERROR,
                (_, Some(_)) => style::WENT_OUT,
                (_, None) => style::FAINT,
            };
            crate::output::say!(
                "{time:>8}   {}{in_words}{0:#}{}   {}{label}{2:#}{}   {}{}{4:#}",
                style::CAME_IN,
                pad(in_words, came_in),
                style::RULE,
                pad(label, rule),
                out_style,
                row.went_out.as_deref().unwrap_or(""),
            );
            shown_time = Some(row.time);
            shown_rule = row.rule.clone();
        }
    }
}
