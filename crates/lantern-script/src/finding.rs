//! What is wrong in a file, as data.

use crate::Span;
use crate::codes::{Code, Severity};

/// One thing that is wrong, with its place, what to do, and perhaps the text that mends it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// Which sort of finding.
    pub code: Code,
    /// What is wrong, in the reader's words.
    pub message: String,
    /// Where.
    pub span: Span,
    /// The words under the underlined text.
    pub label: String,
    /// Other places that belong to it, each with its words.
    pub others: Vec<(Span, String)>,
    /// What to do.
    pub help: Option<String>,
    /// A change of the text that mends it.
    pub fix: Option<Fix>,
}

/// A change of the text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fix {
    /// What to replace; empty to insert.
    pub span: Span,
    /// With what.
    pub text: String,
    /// Whether the change is what was meant in any case; otherwise it is only likely.
    pub is_certain: bool,
}

impl Finding {
    /// A finding at a place.
    pub fn new(code: Code, span: Span, message: impl Into<String>) -> Finding {
        Finding {
            code,
            message: message.into(),
            span,
            label: String::new(),
            others: Vec::new(),
            help: None,
            fix: None,
        }
    }

    /// With words under the underlined text.
    #[must_use]
    pub fn label(mut self, label: impl Into<String>) -> Finding {
        self.label = label.into();
        self
    }

    /// With another place that belongs to it.
    #[must_use]
    pub fn other(mut self, span: Span, words: impl Into<String>) -> Finding {
        self.others.push((span, words.into()));
        self
    }

    /// With what to do.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Finding {
        self.help = Some(help.into());
        self
    }

    /// With what to do, if there is anything.
    #[must_use]
    pub fn maybe_help(mut self, help: Option<String>) -> Finding {
        self.help = help.or(self.help);
        self
    }

    /// With a change that mends it in any case.
    #[must_use]
    pub fn fix(mut self, span: Span, text: impl Into<String>) -> Finding {
        self.fix = Some(Fix { span, text: text.into(), is_certain: true });
        self
    }

    /// With a change that may be what was meant.
    #[must_use]
    pub fn likely_fix(mut self, span: Span, text: impl Into<String>) -> Finding {
        self.fix = Some(Fix { span, text: text.into(), is_certain: false });
        self
    }

    /// Whether it keeps the file from running.
    pub fn is_error(&self) -> bool {
        self.severity() == Severity::Error
    }

    /// How bad it is.
    pub fn severity(&self) -> Severity {
        self.code.row().severity
    }
}

/// How far two texts are apart, in characters changed.
pub fn distance(one: &str, other: &str) -> usize {
    strsim::damerau_levenshtein(one, other)
}

/// The name in `known` that is most like `word`, if one is near enough to be meant. Never `word` itself.
pub fn near_name<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let farthest = (word.chars().count() / 3).clamp(1, 3);
    known
        .into_iter()
        .map(|name| (distance(word, name), name))
        .filter(|(distance, _)| (1..=farthest).contains(distance))
        .min_by_key(|(distance, name)| {
            let other_start = !name.starts_with(word);
            (*distance, other_start, name.len().abs_diff(word.len()))
        })
        .map(|(_, name)| name)
}
