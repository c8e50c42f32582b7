//! Texts: escapes, values in braces, several lines.

use super::Parser;
use crate::codes::Code;
use crate::token::TokenKind;
use crate::tree::{ExprSyntax, ExprSyntaxKind, TextPart};
use crate::{Finding, Span};

impl Parser<'_> {
    /// The parts of the text token at `span`.
    pub(super) fn read_text(&mut self, span: Span) -> Vec<TextPart> {
        let raw = self.slice(span);
        let quotes = if raw.starts_with("\"\"\"") { 3 } else { 1 };
        let start = span.start as usize + quotes;
        let closed = raw.len() >= 2 * quotes && raw.ends_with(&"\"\"\""[..quotes]);
        let end = (span.end as usize - if closed { quotes } else { 0 }).max(start);
        let mut reader = TextReader { literal: String::new(), parts: Vec::new() };
        if quotes == 3 {
            for line in indented_lines(self.text, start, end) {
                self.read_stretch(line.0, line.1, &mut reader);
            }
        } else {
            self.read_stretch(start, end, &mut reader);
        }
        reader.end_literal();
        reader.parts
    }

    fn read_stretch(&mut self, start: usize, end: usize, reader: &mut TextReader) {
        let text = self.text;
        let mut at = start;
        while at < end {
            let rest = &text[at..end];
            let character = rest.chars().next().expect("the stretch is not at its end");
            match character {
                '\\' => at += self.read_escape(at, rest, reader),
                '{' if rest.starts_with("{{") => {
                    reader.literal.push('{');
                    at += 2;
                }
                '}' if rest.starts_with("}}") => {
                    reader.literal.push('}');
                    at += 2;
                }
                '{' => at += self.read_value(at, rest, reader),
                '}' => {
                    let span = Span::new(at, at + 1);
                    self.findings.push(
                        Finding::new(Code::BadText, span, "this `}` closes nothing")
                            .label("write `}}` for a brace")
                            .help("braces put a value into a text; for the character itself write `}}`")
                            .fix(span, "}}"),
                    );
                    at += 1;
                }
                _ => {
                    let plain = rest.find(['\\', '{', '}']).unwrap_or(rest.len());
                    reader.literal.push_str(&rest[..plain]);
                    at += plain;
                }
            }
        }
    }

    fn read_escape(&mut self, at: usize, rest: &str, reader: &mut TextReader) -> usize {
        let mut inside = rest[1..].chars();
        let Some(letter) = inside.next() else {
            return 1;
        };
        let plain = match letter {
            'n' => Some('\n'),
            'r' => Some('\r'),
            't' => Some('\t'),
            '"' | '\\' => Some(letter),
            _ => None,
        };
        if let Some(character) = plain {
            reader.literal.push(character);
            return 2;
        }
        if letter == 'u'
            && let Some(digits) = rest[2..].strip_prefix('{')
            && let Some(length) = digits.find('}')
        {
            let code = u32::from_str_radix(&digits[..length], 16).ok().and_then(char::from_u32);
            if let Some(character) = code {
                reader.literal.push(character);
                return length + 4;
            }
        }
        let length = 1 + letter.len_utf8();
        self.findings.push(
            Finding::new(
                Code::BadText,
                Span::new(at, at + length),
                "this escape is none",
            )
            .label("not an escape")
            .help(
                "there are \\n \\r \\t \\\" \\\\ and \\u{2122}; raw text stands between backticks",
            ),
        );
        length
    }

    /// Reads `{value}` and gives its length.
    fn read_value(&mut self, at: usize, rest: &str, reader: &mut TextReader) -> usize {
        let Some(length) = rest.find('}') else {
            let span = Span::new(at, at + 1);
            self.findings.push(
                Finding::new(Code::BadText, span, "this `{` is not closed within the text")
                    .label("a value begins here")
                    .help("close it with `}`, or write `{{` for the character itself")
                    .fix(span, "{{"),
            );
            return rest.len();
        };
        reader.end_literal();
        let span = Span::new(at, at + length + 1);
        let value = self.read_inner(at + 1, at + length, span);
        reader.parts.push(TextPart::Value(value));
        length + 1
    }

    /// Reads the stretch inside a text as an expression of its own.
    fn read_inner(&mut self, start: usize, end: usize, span: Span) -> ExprSyntax {
        let mut findings = Vec::new();
        let pieces = Parser::cut(self.text, start, end, &mut findings, None);
        let mut inner = Parser::new(self.text, pieces, findings);
        inner.depth = self.depth + 1;
        let result = inner.join_lines(|parser| {
            let value = parser.nest(Parser::parse_expr)?;
            match parser.peek().kind {
                TokenKind::End => Ok(value),
                _ => parser.fail("`}` after the value"),
            }
        });
        self.operators = self.operators.max(inner.operators);
        self.findings.append(&mut inner.findings);
        self.broken.append(&mut inner.broken);
        result.unwrap_or(ExprSyntax { kind: ExprSyntaxKind::Unread, span })
    }
}

struct TextReader {
    literal: String,
    parts: Vec<TextPart>,
}

impl TextReader {
    fn end_literal(&mut self) {
        if !self.literal.is_empty() {
            self.parts.push(TextPart::Literal(std::mem::take(&mut self.literal)));
        }
    }
}

/// The stretches of a text of several lines, without its first line end, the indent that all lines
/// share, and its last line end.
fn indented_lines(text: &str, start: usize, end: usize) -> Vec<(usize, usize)> {
    let mut lines = Vec::new();
    let mut at = start;
    for line in text[start..end].split_inclusive('\n') {
        lines.push((at, at + line.len()));
        at += line.len();
    }
    if lines.first().is_some_and(|line| text[line.0..line.1].trim().is_empty()) {
        lines.remove(0);
    }
    let is_blank = |line: &(usize, usize)| text[line.0..line.1].trim().is_empty();
    if lines.last().is_some_and(|line| is_blank(line) && !text[line.0..line.1].ends_with('\n')) {
        lines.pop();
    }
    let indent_of = |line: &(usize, usize)| {
        text[line.0..line.1].bytes().take_while(|byte| matches!(byte, b' ' | b'\t')).count()
    };
    let shared = lines.iter().filter(|line| !is_blank(line)).map(indent_of).min().unwrap_or(0);
    for line in &mut lines {
        line.0 += indent_of(line).min(shared);
    }
    if let Some(last) = lines.last_mut()
        && text[last.0..last.1].ends_with('\n')
    {
        last.1 -= 1;
    }
    lines
}
