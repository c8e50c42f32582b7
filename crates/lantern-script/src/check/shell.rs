//! Where the values of a command line stand.
//!
//! A value becomes one word of a line for the shell: it is put between single quotes. That holds
//! only where the line itself is outside of all quotes. [`ShellLexer`] reads what stands before a value as
//! the shell does (POSIX.1-2017, volume 3, section 2.3) and names the place of the value. Where shells
//! differ, or where it would take a whole shell to know, the value is refused.

/// A place in a line at which a value cannot become exactly one word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum UnsafePlace {
    SingleQuotes,
    DoubleQuotes,
    Backquotes,
    Backslash,
    Dollar,
    Parameter,
    Arithmetic,
    Comment,
    HereDocument,
    /// Behind `$[` or `$'`.
    Unclear,
}

impl UnsafePlace {
    /// The place in words, for a label.
    pub(super) fn words(self) -> &'static str {
        match self {
            UnsafePlace::SingleQuotes => "inside single quotes",
            UnsafePlace::DoubleQuotes => "inside double quotes",
            UnsafePlace::Backquotes => "inside backquotes",
            UnsafePlace::Backslash => "behind a backslash",
            UnsafePlace::Dollar => "behind a dollar sign",
            UnsafePlace::Parameter => "inside `${...}`",
            UnsafePlace::Arithmetic => "inside arithmetic",
            UnsafePlace::Comment => "inside a comment",
            UnsafePlace::HereDocument => "behind `<<`",
            UnsafePlace::Unclear => "behind `$[` or `$'`, which shells read differently",
        }
    }

    /// What to write instead.
    pub(super) fn help(self) -> &'static str {
        match self {
            UnsafePlace::SingleQuotes | UnsafePlace::DoubleQuotes => {
                "leave the quotes around the value out: it becomes one word, whatever is in it"
            }
            UnsafePlace::Backquotes => "write `$(...)` in place of the backquotes",
            UnsafePlace::HereDocument => {
                "hand it over with `printf '%s\\n' {value} |` in front of the program"
            }
            UnsafePlace::Backslash => "leave the backslash out: the value becomes one word",
            UnsafePlace::Dollar | UnsafePlace::Parameter | UnsafePlace::Arithmetic => {
                "give the value to a variable first: `v={value}; ... \"$v\"`"
            }
            UnsafePlace::Comment => "leave the comment out",
            UnsafePlace::Unclear => "write `$(( ))` in place of `$[ ]`, and leave `$'...'` out",
        }
    }
}

/// What is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum OpenQuote {
    Single,
    Double,
    Backquote,
    /// `$(`, closed by `)`.
    Command,
    /// `(` of its own, closed by `)`.
    Group,
    /// `${`, closed by `}`.
    Parameter,
    /// `$((`, closed by `))`.
    Arithmetic,
    Comment,
}

/// Reads a line piece by piece.
#[derive(Debug, Default)]
pub(super) struct ShellLexer {
    open: Vec<OpenQuote>,
    after_backslash: bool,
    after_dollar: bool,
    /// Whether the next character begins a word.
    begins_word: bool,
    has_here_document: bool,
    /// Whether something stood in the line that shells read differently.
    is_unclear: bool,
    /// Whether the character closed quotes or a substitution.
    has_closed: bool,
    /// The character before.
    before: Option<char>,
}

impl ShellLexer {
    /// A lexer at the beginning of a line.
    pub(super) fn new() -> ShellLexer {
        ShellLexer { begins_word: true, ..ShellLexer::default() }
    }

    /// A value stands here; the place, if it cannot become one word.
    pub(super) fn value(&mut self) -> Result<(), UnsafePlace> {
        let place = match self.open.last() {
            _ if self.has_here_document => Some(UnsafePlace::HereDocument),
            _ if self.is_unclear => Some(UnsafePlace::Unclear),
            _ if self.open.contains(&OpenQuote::Backquote) => Some(UnsafePlace::Backquotes),
            _ if self.open.contains(&OpenQuote::Parameter) => Some(UnsafePlace::Parameter),
            _ if self.open.contains(&OpenQuote::Arithmetic) => Some(UnsafePlace::Arithmetic),
            Some(OpenQuote::Single) => Some(UnsafePlace::SingleQuotes),
            Some(OpenQuote::Double) => Some(UnsafePlace::DoubleQuotes),
            Some(OpenQuote::Comment) => Some(UnsafePlace::Comment),
            _ if self.after_backslash => Some(UnsafePlace::Backslash),
            _ if self.after_dollar => Some(UnsafePlace::Dollar),
            _ => None,
        };
        (self.after_backslash, self.after_dollar, self.begins_word) = (false, false, false);
        self.before = None;
        place.map_or(Ok(()), Err)
    }

    /// Reads a piece of the line that is written in the rule.
    pub(super) fn literal(&mut self, text: &str) {
        text.chars().for_each(|next| self.take(next));
    }

    fn take(&mut self, next: char) {
        let before = self.before.replace(next);
        if std::mem::take(&mut self.after_backslash) {
            self.begins_word = false;
            return;
        }
        let after_dollar = std::mem::take(&mut self.after_dollar);
        match (self.open.last().copied(), next) {
            (Some(OpenQuote::Single), '\'') => self.close(),
            (Some(OpenQuote::Comment), '\n') => drop(self.open.pop()),
            (Some(OpenQuote::Single | OpenQuote::Comment), _) => {}
            (_, '\\') => self.after_backslash = true,
            (Some(OpenQuote::Double), '"') | (Some(OpenQuote::Parameter), '}') => self.close(),
            (_, '`') => match self.open.iter().rposition(|open| *open == OpenQuote::Backquote) {
                Some(at) => {
                    self.open.truncate(at);
                    self.has_closed = true;
                }
                None => self.open.push(OpenQuote::Backquote),
            },
            (_, '(') if after_dollar => self.open.push(OpenQuote::Command),
            (_, '{') if after_dollar => self.open.push(OpenQuote::Parameter),
            (_, '[') if after_dollar => self.is_unclear = true,
            (open, '\'') if after_dollar && open != Some(OpenQuote::Double) => {
                self.is_unclear = true
            }
            (_, '$') => self.after_dollar = true,
            // `$((` may be a command that begins with a group as well: refused as arithmetic.
            (Some(OpenQuote::Command), '(') if before == Some('(') => {
                self.open.pop();
                self.open.push(OpenQuote::Arithmetic);
            }
            // Of two parentheses the first closes nothing.
            (Some(OpenQuote::Arithmetic), ')') if before == Some(')') => self.close(),
            (Some(OpenQuote::Arithmetic), '(') => self.open.push(OpenQuote::Group),
            (Some(OpenQuote::Double), _) => {}
            (_, '"') => self.open.push(OpenQuote::Double),
            (_, '\'') => self.open.push(OpenQuote::Single),
            (Some(OpenQuote::Parameter | OpenQuote::Arithmetic), _) => {}
            (_, '#') if self.begins_word => self.open.push(OpenQuote::Comment),
            (_, '<') if before == Some('<') => self.has_here_document = true,
            (_, '(') => self.open.push(OpenQuote::Group),
            (Some(OpenQuote::Command | OpenQuote::Group), ')') => {
                self.close();
                self.before = None;
            }
            _ => {}
        }
        let separates =
            matches!(next, ' ' | '\t' | '\n' | ';' | '&' | '|' | '(' | ')' | '<' | '>' | '`');
        let is_plain = matches!(
            self.open.last(),
            None | Some(OpenQuote::Command | OpenQuote::Group | OpenQuote::Backquote)
        );
        // The end of a substitution or of quotes is a part of its word.
        let has_closed = std::mem::take(&mut self.has_closed);
        self.begins_word = separates && is_plain && !has_closed;
    }

    /// What is open last ends here.
    fn close(&mut self) {
        let closed = self.open.pop();
        self.has_closed = closed != Some(OpenQuote::Group);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The places of the values in a line, each written `@`.
    fn places(line: &str) -> Vec<Result<(), UnsafePlace>> {
        let mut lexer = ShellLexer::new();
        let mut found = Vec::new();
        for (number, part) in line.split('@').enumerate() {
            if number > 0 {
                found.push(lexer.value());
            }
            lexer.literal(part);
        }
        found
    }

    #[test]
    fn values_outside_of_quotes_become_words() {
        for line in [
            "echo @",
            "echo a@b@",
            "v=@; echo \"$v\"",
            "echo $(echo @) @",
            "echo \"$(printf %s @)\"",
            "(cd @ && ls) > @ 2>&1",
            "echo 'it''s' \"fine\" @",
            "echo a#b@ $# @",
            "echo '#' @",
            "echo \\\\@",
            "echo \\' @",
            "echo \"\\\"\" @",
            "# old\necho @",
            "echo ${core} @ ${core:-\"}\"} @",
            "echo $((1 + 2)) @",
            "echo $(( (1))) @",
            "echo $(( ((1)) + (2) )) $(echo @)",
            "echo $( (echo @) ) @",
            "echo $(date)# @",
            "echo `date`# @",
            "(echo)# 'x\n echo @",
            "if [ -e @ ]; then echo @; fi",
            "cat < @",
            "echo `date` @",
        ] {
            assert!(places(line).iter().all(Result::is_ok), "{line}: {:?}", places(line));
        }
    }

    #[test]
    fn values_inside_of_anything_are_refused_with_their_place() {
        for (line, place) in [
            ("echo \"@\"", UnsafePlace::DoubleQuotes),
            ("echo \"a $(date) @\"", UnsafePlace::DoubleQuotes),
            ("echo 'a @ b'", UnsafePlace::SingleQuotes),
            ("echo $'@'", UnsafePlace::Unclear),
            ("echo $'a\\'b' @", UnsafePlace::Unclear),
            ("echo $\"@\"", UnsafePlace::DoubleQuotes),
            ("echo \\@", UnsafePlace::Backslash),
            ("echo $@", UnsafePlace::Dollar),
            ("echo ${core:-@}", UnsafePlace::Parameter),
            ("echo $((1 + @))", UnsafePlace::Arithmetic),
            ("echo $[1 + @]", UnsafePlace::Unclear),
            ("echo $(( ((1)) + @ ))", UnsafePlace::Arithmetic),
            ("echo $(( (1) + (@) ))", UnsafePlace::Arithmetic),
            ("echo \"$(( ((1)) + @ ))\"", UnsafePlace::Arithmetic),
            ("echo ${core:-$(echo @)}", UnsafePlace::Parameter),
            ("echo `echo @`", UnsafePlace::Backquotes),
            ("echo `echo $(echo @)`", UnsafePlace::Backquotes),
            ("echo \"`echo @`\"", UnsafePlace::Backquotes),
            ("cat <<E\n@\nE", UnsafePlace::HereDocument),
            ("cat <<'E'\nx\nE\necho @", UnsafePlace::HereDocument),
            ("cat <<< @", UnsafePlace::HereDocument),
            ("echo core # @", UnsafePlace::Comment),
            ("echo \"$(echo \"@\")\"", UnsafePlace::DoubleQuotes),
            ("echo \"$(echo ')' '@')\"", UnsafePlace::SingleQuotes),
        ] {
            assert_eq!(places(line), [Err(place)], "{line}");
        }
    }

    #[test]
    fn after_a_value_the_line_goes_on_where_it_was() {
        assert_eq!(places("echo \"@\" @"), [Err(UnsafePlace::DoubleQuotes), Ok(())]);
        assert_eq!(places("echo @# @"), [Ok(()), Ok(())]);
        assert_eq!(places("echo @ # @"), [Ok(()), Err(UnsafePlace::Comment)]);
    }
}
