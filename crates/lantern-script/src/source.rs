//! A file's text and where things stand in it.

use std::ops::Range;

use lantern_model::Place;

/// A stretch of a file, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Span {
    /// The first byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Span {
    /// The stretch from `start` to `end`.
    pub fn new(start: usize, end: usize) -> Span {
        let narrow = |at: usize| u32::try_from(at).expect("a file is under 4 GB");
        Span { start: narrow(start), end: narrow(end) }
    }

    /// From the start of this one to the end of `other`.
    #[must_use]
    pub fn to(self, other: Span) -> Span {
        Span { start: self.start.min(other.start), end: self.end.max(other.end) }
    }

    /// The empty stretch at its end.
    #[must_use]
    pub fn after(self) -> Span {
        Span { start: self.end, end: self.end }
    }

    /// As a range of bytes.
    pub fn range(self) -> Range<usize> {
        self.start as usize..self.end as usize
    }
}

/// A file as it was read.
#[derive(Debug, Clone)]
pub struct Source {
    /// The name to show.
    pub name: String,
    /// The text.
    pub text: String,
    line_starts: Vec<u32>,
}

impl Source {
    /// The largest file that is read, in bytes.
    pub const LARGEST: usize = 16 << 20;

    /// A file with that name and text.
    pub fn new(name: impl Into<String>, text: impl Into<String>) -> Source {
        let text = text.into();
        let line_starts = std::iter::once(0)
            .chain(
                text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1),
            )
            .map(|at| u32::try_from(at).expect("a file is under 4 GB"))
            .collect();
        Source { name: name.into(), text, line_starts }
    }

    /// The text of a stretch.
    pub fn slice(&self, span: Span) -> &str {
        &self.text[span.range()]
    }

    /// Line and column of a byte; columns count characters.
    pub fn place(&self, at: u32) -> Place {
        let line = self.line_starts.partition_point(|start| *start <= at) - 1;
        let start = self.line_starts[line] as usize;
        let column = self.text[start..at as usize].chars().count() + 1;
        Place { line: line as u32 + 1, column: u32::try_from(column).unwrap_or(u32::MAX) }
    }

    /// The stretch from the start of line `from` to the end of line `to`, without its line end.
    pub fn lines(&self, from: u32, to: u32) -> Span {
        let start = self.line_starts[from as usize - 1] as usize;
        let end = match self.line_starts.get(to as usize) {
            Some(next) => *next as usize - 1,
            None => self.text.len(),
        };
        Span::new(start, end.max(start))
    }
}
