//! Takes the prose out of Rust and Markdown files.

/// A comment, a message or a paragraph.
#[derive(Debug, PartialEq)]
pub struct Passage {
    /// Its first line, from 1.
    pub line: usize,
    /// Its text on one line, with the word `code` in place of each code span.
    pub text: String,
}

impl Passage {
    fn new(line: usize, text: &str) -> Passage {
        let parts = text.trim().split('`').enumerate();
        let plain = parts.map(|(index, part)| if index % 2 == 0 { part } else { "code" });
        Passage { line, text: plain.collect() }
    }

    /// Its sentences. One ends at a full stop, question or exclamation mark before a blank.
    pub fn sentences(&self) -> Vec<&str> {
        let mut found = Vec::new();
        let mut rest = self.text.as_str();
        while !rest.is_empty() {
            let ends = [". ", "? ", "! "].iter().filter_map(|end| rest.find(end)).min();
            let (sentence, behind) = rest.split_at(ends.map_or(rest.len(), |end| end + 1));
            found.push(sentence.trim());
            rest = behind.trim_start();
        }
        found
    }
}

/// Comments, and string literals of four words or more.
pub fn rust_passages(source: &str) -> Vec<Passage> {
    let mut found = Vec::new();
    // The comment that is being read: its first line, its kind and its text.
    let mut open: Option<(usize, &str, String)> = None;
    let mut in_fence = false;
    for (index, line) in source.lines().enumerate() {
        let number = index + 1;
        let trimmed = line.trim_start();
        let kind = ["///", "//!", "//"].into_iter().find(|kind| trimmed.starts_with(kind));
        let Some(kind) = kind else {
            close(&mut open, &mut found);
            in_fence = false;
            messages(number, line, &mut found);
            continue;
        };
        let text = trimmed[kind.len()..].trim();
        if text.starts_with("```") {
            in_fence = !in_fence;
            close(&mut open, &mut found);
        } else if in_fence || text.is_empty() || text.starts_with('|') {
            close(&mut open, &mut found);
        } else {
            let begins = text.starts_with("- ") || text.starts_with('#');
            if begins || open.as_ref().is_some_and(|(_, other, _)| *other != kind) {
                close(&mut open, &mut found);
            }
            let (_, _, gathered) = open.get_or_insert((number, kind, String::new()));
            gathered.push(' ');
            gathered.push_str(text.trim_start_matches("- "));
        }
    }
    close(&mut open, &mut found);
    found
}

fn close(open: &mut Option<(usize, &str, String)>, found: &mut Vec<Passage>) {
    if let Some((line, _, text)) = open.take() {
        found.push(Passage::new(line, &text));
    }
}

/// String literals of one line that look like sentences.
fn messages(number: usize, line: &str, found: &mut Vec<Passage>) {
    let mut rest = line;
    while let Some(start) = rest.find('"') {
        let behind = &rest[start + 1..];
        let Some(end) = end_of_literal(behind) else { return };
        let literal = &behind[..end];
        if literal.split_whitespace().count() >= 4 {
            found.push(Passage::new(number, &literal.replace("\\n", " ").replace("\\\"", "`")));
        }
        rest = &behind[end + 1..];
    }
}

/// The index of the quote that ends a literal.
fn end_of_literal(text: &str) -> Option<usize> {
    let mut is_escaped = false;
    text.char_indices().find_map(|(index, character)| {
        let ends = character == '"' && !is_escaped;
        is_escaped = character == '\\' && !is_escaped;
        ends.then_some(index)
    })
}

/// Paragraphs, list items and cells of tables, without blocks of code.
pub fn markdown_passages(text: &str) -> Vec<Passage> {
    let mut found = Vec::new();
    let mut open: Option<(usize, &str, String)> = None;
    let mut in_fence = false;
    for (index, line) in text.lines().enumerate() {
        let (number, trimmed) = (index + 1, line.trim());
        if trimmed.starts_with("```") {
            in_fence = !in_fence;
            close(&mut open, &mut found);
        } else if in_fence || trimmed.is_empty() || line.starts_with("    ") && open.is_none() {
            close(&mut open, &mut found);
        } else if trimmed.starts_with('|') {
            close(&mut open, &mut found);
            let cells = trimmed.trim_matches('|').split(" | ");
            found.extend(cells.map(|cell| Passage::new(number, cell)));
        } else {
            if trimmed.starts_with("- ") || trimmed.starts_with('#') {
                close(&mut open, &mut found);
            }
            let (_, _, gathered) = open.get_or_insert((number, "", String::new()));
            gathered.push(' ');
            gathered.push_str(trimmed.trim_start_matches("- "));
        }
    }
    close(&mut open, &mut found);
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(passages: &[Passage]) -> Vec<&str> {
        passages.iter().map(|passage| passage.text.as_str()).collect()
    }

    #[test]
    fn comments_of_one_kind_are_joined_and_code_is_left_out() {
        let source = "/// Gives `x` back.\n/// Twice.\nfn a() {} // here\n// other\n/// ```\n/// let a = 1;\n/// ```\n";
        assert_eq!(texts(&rust_passages(source)), ["Gives code back. Twice.", "other"]);
    }

    #[test]
    fn messages_are_string_literals_of_four_words() {
        let source = "let a = (\"one two three\", \"cannot read the file \\\"x\\\"\");\n";
        assert_eq!(texts(&rust_passages(source)), ["cannot read the file code"]);
    }

    #[test]
    fn paragraphs_items_and_cells_stand_alone() {
        let text = "# Title\n\nOne\ntwo.\n- first\n- second\n\n| a b | c |\n```\ncode here\n```\n";
        let found = markdown_passages(text);
        assert_eq!(texts(&found), ["# Title", "One two.", "first", "second", "a b", "c"]);
        assert_eq!(found[1].line, 3);
    }

    #[test]
    fn sentences_end_at_marks_before_blanks() {
        let passage = Passage::new(1, "At 0.7 s it ends. Why? Because.");
        assert_eq!(passage.sentences(), ["At 0.7 s it ends.", "Why?", "Because."]);
    }
}
