//! The text of a set of files, and where things stand in it.
//!
//! All files of a set lie one behind another in one text, so that a place in any of them is one
//! number; the first is the one that was asked for.

use std::ops::Range;

use lantern_model::SourceLocation;

use crate::lexer::BYTE_ORDER_MARK;

/// A stretch of the set's text, in bytes.
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
        let narrow = |at: usize| u32::try_from(at).expect("a set of files is under 4 GB");
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

/// One file of a set.
#[derive(Debug, Clone)]
struct Member {
    name: String,
    start: usize,
    end: usize,
    /// The index of its first line among all lines.
    first_line: usize,
}

/// Files as they were read.
#[derive(Debug, Clone)]
pub struct Source {
    text: String,
    members: Vec<Member>,
    line_starts: Vec<u32>,
}

impl Source {
    /// The largest file that is read, in bytes.
    pub const LARGEST: usize = 16 << 20;
    /// The most files that a set may have.
    pub const MOST_FILES: usize = 256;

    /// A file with that name and text.
    pub fn new(name: impl Into<String>, text: impl AsRef<str>) -> Source {
        let mut source =
            Source { text: String::new(), members: Vec::new(), line_starts: Vec::new() };
        source.add(name, text.as_ref());
        source
    }

    /// Adds a file; gives its number.
    pub fn add(&mut self, name: impl Into<String>, text: &str) -> usize {
        if !self.members.is_empty() {
            self.text.push('\n');
        }
        let start = self.text.len();
        self.text.push_str(text);
        let ends =
            text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1);
        let first_line = self.line_starts.len();
        self.line_starts.extend(
            std::iter::once(0).chain(ends).map(|at| Span::new(start + at, start + at).start),
        );
        self.members.push(Member { name: name.into(), start, end: self.text.len(), first_line });
        self.members.len() - 1
    }

    /// The whole text; spans are places in it.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The name of the first file.
    pub fn name(&self) -> &str {
        &self.members[0].name
    }

    /// The names of all files.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.members.iter().map(|member| member.name.as_str())
    }

    /// The number of the file with that name.
    pub fn file_named(&self, name: &str) -> Option<usize> {
        self.members.iter().position(|member| member.name == name)
    }

    /// The stretch of a file.
    pub fn span_of(&self, file: usize) -> Span {
        Span::new(self.members[file].start, self.members[file].end)
    }

    /// The text of a file.
    pub fn text_of(&self, file: usize) -> &str {
        self.slice(self.span_of(file))
    }

    /// The number of the file that a byte is in.
    pub fn file_at(&self, at: u32) -> usize {
        self.members.partition_point(|member| member.start <= at as usize) - 1
    }

    /// The name of the file that a byte is in.
    pub fn name_at(&self, at: u32) -> &str {
        &self.members[self.file_at(at)].name
    }

    /// The text of a stretch.
    pub fn slice(&self, span: Span) -> &str {
        &self.text[span.range()]
    }

    /// File, line and column of a byte; columns count characters.
    pub fn place(&self, at: u32) -> SourceLocation {
        let file = self.file_at(at);
        let line = self.line_starts.partition_point(|start| *start <= at) - 1;
        let start = self.line_starts[line] as usize;
        let before = self.text[start..at as usize].trim_start_matches(BYTE_ORDER_MARK);
        let column = before.chars().count() + 1;
        SourceLocation {
            file: u16::try_from(file).unwrap_or(u16::MAX),
            line: (line - self.members[file].first_line) as u32 + 1,
            column: u32::try_from(column).unwrap_or(u32::MAX),
        }
    }

    /// The stretch from the start of line `from` to the end of line `to` of a file, without its
    /// line end.
    pub fn lines(&self, file: usize, from: u32, to: u32) -> Span {
        let member = &self.members[file];
        let start = self.line_starts[member.first_line + from as usize - 1] as usize;
        let next = self.line_starts.get(member.first_line + to as usize);
        let end = next.map_or(member.end, |next| (*next as usize - 1).min(member.end));
        Span::new(start, end.max(start))
    }
}
