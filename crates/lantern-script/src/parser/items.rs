//! Top-level parts of a file.

use lantern_model::{ShapeTolerance, Value};

use super::{ErrorReported, Parsed, Parser};
use crate::codes::Code;
use crate::token::{Sign, TokenKind};
use crate::tree::{
    Clause, ClauseKind, ExprSyntax, ExprSyntaxKind, Item, Macro, Name, Quoted, RemapSyntax,
    ShapeSyntax, TextPart, Use, When,
};
use crate::{Finding, Span};

/// The version of the language this program reads.
const VERSION: &str = "1";

/// The first words of all top-level parts.
pub(super) const ITEM_WORDS: &[&str] = &[
    "when", "macro", "let", "settings", "use", "in", "language", "layer", "device", "words",
    "shape", "remap", "secret",
];

impl Parser<'_> {
    /// The parts up to the end of the file, or up to the brace that closes `within`.
    pub(super) fn parse_items(&mut self, within: Option<Span>) -> Vec<Item> {
        let around = self.step_block.take();
        let items = self.parse_items_within(within);
        self.step_block = around;
        items
    }

    fn parse_items_within(&mut self, within: Option<Span>) -> Vec<Item> {
        let mut items = Vec::new();
        let mut description = String::new();
        loop {
            self.take_line_ends();
            let piece = self.peek();
            match piece.kind {
                TokenKind::End => {
                    if let Some(open) = within {
                        self.say_unclosed_block(open);
                    }
                    return items;
                }
                TokenKind::Sign(Sign::BraceClose) if within.is_some() => {
                    self.next();
                    return items;
                }
                TokenKind::Sign(Sign::Semicolon) => {
                    self.next();
                }
                TokenKind::Description => {
                    self.next();
                    let text = self.slice(piece.span);
                    let line = text.strip_prefix("##").unwrap_or(text).trim();
                    if !description.is_empty() {
                        description.push('\n');
                    }
                    description.push_str(line);
                }
                _ => {
                    let start = self.at;
                    match self.nest(|parser| parser.parse_item(std::mem::take(&mut description))) {
                        Ok(Some(item)) => items.push(item),
                        Ok(None) => {}
                        Err(ErrorReported) => {
                            self.recover_item(self.at == start);
                            self.remember_broken(start);
                        }
                    }
                    description.clear();
                }
            }
        }
    }

    /// Keeps the words of a part that could not be read: what they may have named is not missed.
    fn remember_broken(&mut self, start: usize) {
        for piece in &self.pieces[start..self.at] {
            if piece.kind == TokenKind::Word {
                self.broken.push(self.slice(piece.span).to_owned());
            }
        }
    }

    /// Skips to the next item, at least by one token. Behind a word that begins no item, the next line
    /// that is not indented may be another such mistake.
    fn recover_item(&mut self, has_wrong_start: bool) {
        let start = self.at;
        self.joined = 0;
        while self.pieces[self.at].kind != TokenKind::End {
            if self.at > start && self.begins_item(self.at) {
                return;
            }
            if self.at > start && has_wrong_start && self.is_unindented_word(self.at) {
                return;
            }
            let before = self.at;
            self.skip_statement();
            if self.at == before {
                self.next();
            }
        }
    }

    /// Whether a line without indentation begins with the word at `at`.
    fn is_unindented_word(&self, at: usize) -> bool {
        let piece = self.pieces[at];
        let start = piece.span.start as usize;
        piece.kind == TokenKind::Word
            && self.starts_line(at)
            && (start == 0 || self.text.as_bytes()[start - 1] == b'\n')
    }

    fn parse_item(&mut self, description: String) -> Parsed<Option<Item>> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind != TokenKind::Word || !ITEM_WORDS.contains(&word) {
            let expected = "`when`, `macro`, `let` or another part of a file";
            let advice = self.advisor().advise_part();
            return self.fail_advised(expected, ITEM_WORDS, advice);
        }
        if word == "in" {
            return self.parse_place_block(piece.span).map(Some);
        }
        self.next();
        let item = match word {
            "language" => {
                self.parse_version()?;
                return Ok(None);
            }
            "let" => {
                let (name, value) = self.parse_binding()?;
                return Ok(Some(Item::Let(name, value)));
            }
            "settings" => self.parse_settings()?,
            "macro" => self.parse_macro(description)?,
            "when" => self.parse_when(description, piece.span)?,
            "layer" => self.parse_layer_block(piece.span)?,
            "use" => self.parse_use(piece.span)?,
            "device" => self.parse_device()?,
            "words" => {
                let name = self.expect_name("a name for the words")?;
                self.expect_sign(Sign::Assign, "after the name")?;
                Item::Words(name, self.parse_raw_or_text("the words between quotes")?)
            }
            "shape" => self.parse_shape()?,
            "secret" => self.parse_secret()?,
            _ => self.parse_remap(piece.span)?,
        };
        if !matches!(item, Item::When(_) | Item::Macro(_) | Item::Settings(_) | Item::Within(..)) {
            self.expect_end_of_statement()?;
        }
        Ok(Some(item))
    }

    fn parse_version(&mut self) -> Parsed<()> {
        let piece = self.peek();
        if piece.kind != TokenKind::Number {
            return self.fail("the version of the language, `1`");
        }
        self.next();
        let text = self.slice(piece.span);
        if text != VERSION {
            self.findings.push(
                Finding::new(
                    Code::UnknownVersion,
                    piece.span,
                    format!("this program reads version {VERSION} of the language, not {text}"),
                )
                .label("unknown version")
                .help(format!("write `language {VERSION}`, or use a newer program"))
                .fix(piece.span, VERSION),
            );
        }
        Ok(())
    }

    fn parse_settings(&mut self) -> Parsed<Item> {
        let open = self.expect_sign(Sign::BraceOpen, "after `settings`")?;
        let mut settings = Vec::new();
        loop {
            self.take_line_ends();
            if self.take_sign(Sign::BraceClose) {
                return Ok(Item::Settings(settings));
            }
            if self.take_sign(Sign::Semicolon) {
                continue;
            }
            if self.peek().kind == TokenKind::End || self.begins_item(self.at) {
                self.say_unclosed_block(open);
                return Ok(Item::Settings(settings));
            }
            let start = self.at;
            match self.parse_setting() {
                Ok(setting) => settings.push(setting),
                Err(ErrorReported) => self.recover_statement(start),
            }
        }
    }

    /// A setting: its name may be a word of the language.
    fn parse_setting(&mut self) -> Parsed<(Name, ExprSyntax)> {
        let piece = self.peek();
        if piece.kind != TokenKind::Word {
            return self.fail("the name of a setting");
        }
        self.next();
        self.parse_value_of(Name { text: self.slice(piece.span).to_owned(), span: piece.span })
    }

    /// `NAME = EXPR`
    pub(super) fn parse_binding(&mut self) -> Parsed<(Name, ExprSyntax)> {
        let name = self.expect_name("a name")?;
        self.parse_value_of(name)
    }

    /// `= EXPR`, behind a name.
    fn parse_value_of(&mut self, name: Name) -> Parsed<(Name, ExprSyntax)> {
        self.expect_sign(Sign::Assign, "after the name")?;
        self.take_line_ends();
        let value = self.parse_expr()?;
        self.expect_end_of_statement()?;
        Ok((name, value))
    }

    fn parse_macro(&mut self, description: String) -> Parsed<Item> {
        let name = self.expect_name("the macro's name")?;
        let mut parameters = Vec::new();
        if self.is_sign(Sign::ParenOpen) && !self.peek().spaced {
            self.next();
            self.join_lines(|parser| {
                while !parser.is_sign(Sign::ParenClose) {
                    let parameter = parser.expect_name("a parameter's name")?;
                    let default = if parser.take_sign(Sign::Assign) {
                        Some(parser.parse_expr()?)
                    } else {
                        None
                    };
                    parameters.push((parameter, default));
                    if !parser.take_sign(Sign::Comma) {
                        break;
                    }
                }
                parser.expect_sign(Sign::ParenClose, "after the parameters").map(|_| ())
            })?;
        }
        let body = self.parse_block("before the macro's steps")?;
        let whole = name.span.to(self.last_span());
        Ok(Item::Macro(Macro { description, name, parameters, body, whole }))
    }

    fn parse_when(&mut self, description: String, word: Span) -> Parsed<Item> {
        let (triggers, clauses) = self.join_lines(|parser| {
            let triggers = parser.parse_triggers()?;
            let clauses = parser.parse_clauses()?;
            parser.peek();
            Ok::<_, ErrorReported>((triggers, clauses))
        })?;
        let head = word.to(self.last_span());
        let body = if self.take_sign(Sign::Arrow) {
            self.take_line_ends();
            self.parse_single_step()
        } else {
            self.parse_block("or `=>` before the steps")?
        };
        let whole = word.to(self.last_span());
        Ok(Item::When(When { description, triggers, clauses, body, head, whole }))
    }

    fn parse_place_block(&mut self, word: Span) -> Parsed<Item> {
        let kind = self.parse_place()?;
        self.parse_within(word, kind)
    }

    fn parse_layer_block(&mut self, word: Span) -> Parsed<Item> {
        let name = self.expect_name("the layer's name")?;
        self.parse_within(word, ClauseKind::InLayer(name))
    }

    fn parse_within(&mut self, word: Span, kind: ClauseKind) -> Parsed<Item> {
        let span = word.to(self.last_span());
        if !self.is_sign(Sign::BraceOpen) {
            let piece = self.peek();
            let advice = self.advisor().advise_place();
            return self.fail_at(piece, "`{` before the rules inside", advice);
        }
        let open = self.next().span;
        Ok(Item::Within(Clause { kind, span }, self.parse_items(Some(open))))
    }

    fn parse_use(&mut self, word: Span) -> Parsed<Item> {
        let path = self.parse_plain_text("the file's name between quotes")?;
        let name = if self.take_word("as") { Some(self.expect_name("a name")?) } else { None };
        let mut given = Vec::new();
        if self.take_word("with") {
            loop {
                let name = self.expect_name("a name of the other file")?;
                self.expect_sign(Sign::Assign, "after the name")?;
                given.push((name, self.parse_expr()?));
                if !self.take_sign(Sign::Comma) {
                    break;
                }
                self.take_line_ends();
            }
        }
        Ok(Item::Use(Use { path, name, given, span: word.to(self.last_span()) }))
    }

    fn parse_shape(&mut self) -> Parsed<Item> {
        let name = self.expect_name("a name for the shape")?;
        self.expect_sign(Sign::Assign, "after the name")?;
        let drawn = self.take_word("drawn");
        if !drawn && !self.take_word("path") {
            return self.fail_unknown("`path` or `drawn`", &["path", "drawn"]);
        }
        let how = self.parse_plain_text(if drawn { "a file's name" } else { "directions" })?;
        let mut allowed = ShapeTolerance::default();
        while !self.at_end_of_statement() {
            self.parse_allowed(&mut allowed)?;
        }
        Ok(Item::Shape(ShapeSyntax { name, drawn, how, allowed }))
    }

    /// One thing that a shape allows.
    fn parse_allowed(&mut self, allowed: &mut ShapeTolerance) -> Parsed<()> {
        if self.take_word("any-way") {
            allowed.any_direction = true;
        } else if self.take_word("mirrored") {
            allowed.mirrored = true;
        } else if self.take_word("turned") {
            if self.take_word("any") {
                allowed.max_rotation = 180.0;
                return Ok(());
            }
            let degrees = self.parse_expr()?;
            match degrees.kind {
                ExprSyntaxKind::Value(Value::Number(number)) if (0.0..=180.0).contains(&number) => {
                    allowed.max_rotation = number as f32;
                }
                _ => {
                    let message = "a shape is turned by 0 to 180 degrees, or `any`";
                    let finding = Finding::new(Code::BadNumber, degrees.span, message);
                    self.findings.push(finding.label("not so many degrees"));
                    return Err(ErrorReported);
                }
            }
        } else {
            let words = ["any-way", "mirrored", "turned"];
            return self.fail_unknown("`any-way`, `mirrored`, `turned` or the line's end", &words);
        }
        Ok(())
    }

    fn parse_remap(&mut self, word: Span) -> Parsed<Item> {
        let from = self.parse_trigger_combo()?;
        self.expect_word("to", "after the keys")?;
        let to = self.parse_trigger_combo()?;
        let mut tapped = None;
        if self.take_sign(Sign::Comma) {
            self.take_line_ends();
            self.expect_word("tapped", "after the comma")?;
            self.expect_word("to", "after `tapped`")?;
            tapped = Some(self.parse_trigger_combo()?);
        }
        Ok(Item::Remap(RemapSyntax { from, to, tapped, span: word.to(self.last_span()) }))
    }

    /// A raw text, or one without values in it.
    pub(super) fn parse_raw_or_text(&mut self, what: &str) -> Parsed<Quoted> {
        let piece = self.peek();
        if piece.kind != TokenKind::Raw {
            return self.parse_plain_text(what);
        }
        self.next();
        Ok((self.slice(piece.span).trim_matches('`').to_owned(), piece.span))
    }

    /// A text without values in it.
    pub(super) fn parse_plain_text(&mut self, what: &str) -> Parsed<(String, Span)> {
        let piece = self.peek();
        if piece.kind != TokenKind::Text {
            let advice = self.advisor().advise_text();
            return self.fail_at(piece, what, advice);
        }
        self.next();
        match self.read_text(piece.span).as_slice() {
            [] => Ok((String::new(), piece.span)),
            [TextPart::Literal(text)] => Ok((text.clone(), piece.span)),
            _ => self.fail_at(piece, &format!("{what}, without values in it"), None),
        }
    }

    pub(super) fn say_unclosed_block(&mut self, open: Span) {
        self.findings.push(
            Finding::new(Code::Unclosed, open, "this block is not closed")
                .label("opened here")
                .help("end it with `}` on a line of its own"),
        );
    }

    /// Whether a statement may end here; behind a block that was not closed, a new part may begin.
    pub(super) fn at_end_of_statement(&mut self) -> bool {
        matches!(
            self.peek().kind,
            TokenKind::LineEnd
                | TokenKind::End
                | TokenKind::Sign(Sign::Semicolon | Sign::BraceClose)
        ) || self.begins_item(self.at)
    }

    pub(super) fn expect_end_of_statement(&mut self) -> Parsed<()> {
        if self.at_end_of_statement() {
            return Ok(());
        }
        let piece = self.peek();
        let advice = self.advisor().advise_end();
        self.fail_at(piece, "the end of the line", advice)
    }
}
