//! Steps and blocks of steps.

use lantern_model::{Key, KeyRef};

use super::{Parsed, Parser, Said, not_yet};
use crate::near_name;
use crate::token::{Sign, TokenKind};
use crate::tree::{Combo, Expr, KeyPart, Step, StepKind};

/// Steps of the language that this version does, by their first word.
const STEPS: &[&str] = &[
    "tap", "press", "release", "toggle", "hold", "type", "click", "move", "scroll", "launch",
    "run", "wait", "repeat", "if", "set", "let", "log", "hint", "stop",
];

/// What gives a value as the whole right side of `let` or `set`.
const GIVES_VALUE: &[&str] = &["run", "shell", "get", "ask", "pick", "confirm", "read"];

impl Parser<'_> {
    /// `{ steps }`
    pub(super) fn parse_block(&mut self, why: &str) -> Parsed<Vec<Step>> {
        let open = self.join_lines(|parser| parser.expect_sign(Sign::BraceOpen, why))?;
        self.nest(|parser| {
            parser.split_lines(|parser| {
                let mut steps = Vec::new();
                loop {
                    parser.take_line_ends();
                    let piece = parser.peek();
                    match piece.kind {
                        TokenKind::Sign(Sign::BraceClose) => {
                            parser.next();
                            return Ok(steps);
                        }
                        TokenKind::Sign(Sign::Semicolon) => {
                            parser.next();
                        }
                        _ if piece.kind == TokenKind::End || parser.begins_item(parser.at) => {
                            parser.say_unclosed_block(open);
                            return Ok(steps);
                        }
                        _ => steps.extend(parser.parse_single_step()),
                    }
                }
            })
        })
    }

    /// One step; one that cannot be read is said and looked past.
    pub(super) fn parse_single_step(&mut self) -> Vec<Step> {
        let start = self.at;
        let result = self.nest(|parser| {
            let step = parser.parse_step()?;
            parser.expect_end_of_statement()?;
            Ok(step)
        });
        match result {
            Ok(step) => vec![step],
            Err(Said) => {
                self.recover_statement(start);
                let span = self.pieces[start].span;
                vec![Step { kind: StepKind::Unread, span }]
            }
        }
    }

    fn parse_step(&mut self) -> Parsed<Step> {
        let piece = self.peek();
        if piece.kind != TokenKind::Word {
            return self.fail("a step, such as `type \"text\"`");
        }
        let word = self.slice(piece.span);
        let follower = self.peek_second();
        let is_call = follower.kind == TokenKind::Sign(Sign::ParenOpen) && !follower.spaced;
        let kind = if let Some(kind) = self.parse_step_kind(word)? {
            kind
        } else if is_call {
            self.parse_call()?
        } else if not_yet::STEPS.contains(&word) {
            let span = self.skip_not_yet(&format!("`{word}`"));
            return Ok(Step { kind: StepKind::Unread, span });
        } else {
            let known = STEPS.iter().chain(not_yet::STEPS).copied();
            let near = near_name(word, known)
                .map(|name| format!("did you mean `{name}`?"))
                .or_else(|| Some(format!("to call a macro write `{word}()`")));
            return self.fail_at(piece, "a step", near);
        };
        Ok(Step { kind, span: piece.span.to(self.last_span()) })
    }

    fn parse_step_kind(&mut self, word: &str) -> Parsed<Option<StepKind>> {
        if !STEPS.contains(&word) {
            return Ok(None);
        }
        self.next();
        Ok(Some(match word {
            "tap" => self.parse_tap()?,
            "press" => StepKind::Press(self.parse_combo()?),
            "release" => StepKind::Release(self.parse_combo()?),
            "toggle" => StepKind::Toggle(self.parse_combo()?),
            "hold" => {
                let combo = self.parse_combo()?;
                StepKind::Hold(combo, self.parse_block("after the keys to hold")?)
            }
            "type" => {
                let text = self.parse_expr()?;
                let pace = if self.take_word("every") { Some(self.parse_expr()?) } else { None };
                StepKind::Type { text, pace, anyway: self.take_word("anyway") }
            }
            "click" => self.parse_click()?,
            "move" => self.parse_move()?,
            "scroll" => self.parse_scroll()?,
            "launch" => self.parse_launch()?,
            "run" => self.parse_run()?,
            "wait" => self.parse_wait()?,
            "repeat" => self.parse_repeat()?,
            "if" => self.parse_if()?,
            "set" | "let" => self.parse_assignment(word == "let")?,
            "log" => StepKind::Log(self.parse_expr()?),
            "hint" => self.parse_hint()?,
            _ => self.parse_stop()?,
        }))
    }

    fn parse_tap(&mut self) -> Parsed<StepKind> {
        let mut combos = vec![self.parse_combo()?];
        while self.take_sign(Sign::Comma) {
            self.take_line_ends();
            combos.push(self.parse_combo()?);
        }
        let (times, pace) = self.parse_times_and_pace()?;
        Ok(StepKind::Tap { combos, times, pace })
    }

    /// `click left`, `click (button)`
    fn parse_click(&mut self) -> Parsed<StepKind> {
        let piece = self.peek();
        let button = match piece.kind {
            TokenKind::Sign(Sign::ParenOpen) => self.parse_combo()?,
            _ => {
                self.parse_pointer_key("-button", &["left", "middle", "right", "back", "forward"])?
            }
        };
        let (times, pace) = self.parse_times_and_pace()?;
        Ok(StepKind::Tap { combos: vec![button], times, pace })
    }

    /// `scroll down 3`
    fn parse_scroll(&mut self) -> Parsed<StepKind> {
        let wheel = self.parse_pointer_key("wheel-", &["up", "down", "left", "right"])?;
        let times = if self.at_end_of_statement() { None } else { Some(self.parse_expr()?) };
        Ok(StepKind::Tap { combos: vec![wheel], times, pace: None })
    }

    /// One of `words`, as the pointer key whose name has `affix`.
    pub(super) fn parse_pointer_key(&mut self, affix: &str, words: &[&str]) -> Parsed<Combo> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind != TokenKind::Word || !words.contains(&word) {
            let list: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
            return self.fail_unknown(&list.join(", "), words);
        }
        self.next();
        let name = if affix.starts_with('-') {
            format!("{word}{affix}")
        } else {
            format!("{affix}{word}")
        };
        let key = Key::named(&name).expect("every button and wheel direction is a key");
        let part = KeyPart::Key(KeyRef::Named(key), piece.span);
        Ok(Combo { parts: vec![part], span: piece.span })
    }

    fn parse_move(&mut self) -> Parsed<StepKind> {
        let by = self.take_word("by");
        if !by {
            self.expect_word("to", "or `by` after `move`")?;
        }
        let x = self.parse_expr()?;
        self.expect_sign(Sign::Comma, "between the two numbers")?;
        let y = self.parse_expr()?;
        for word in ["over", "of"] {
            if self.is_word(word) {
                let span = self.next().span;
                self.split_lines(Parser::skip_statement);
                self.say_not_yet(&format!("`move ... {word}`"), span);
                return Ok(StepKind::Unread);
            }
        }
        Ok(if by { StepKind::MoveBy(x, y) } else { StepKind::MoveTo(x, y) })
    }

    fn parse_launch(&mut self) -> Parsed<StepKind> {
        let program = self.parse_expr()?;
        if self.take_word("as") {
            let name = self.expect_name("a name for what is started")?;
            self.say_not_yet("`launch ... as`", name.span);
            self.mentions.push(name.text);
        }
        Ok(StepKind::Launch(program))
    }

    fn parse_run(&mut self) -> Parsed<StepKind> {
        let mut words = vec![self.parse_expr()?];
        while self.take_sign(Sign::Comma) {
            self.take_line_ends();
            words.push(self.parse_expr()?);
        }
        let limit = if self.is_words("at", "most") {
            self.next();
            self.next();
            Some(self.parse_expr()?)
        } else {
            None
        };
        self.skip_else();
        Ok(StepKind::Run { words, limit })
    }

    /// `else { }` behind a step that can fail is not done yet.
    fn skip_else(&mut self) {
        if self.is_word("else") {
            let span = self.peek().span;
            self.split_lines(Parser::skip_statement);
            self.say_not_yet("`else` after a step that can fail", span);
        }
    }

    fn parse_wait(&mut self) -> Parsed<StepKind> {
        if self.is_word("until") {
            let span = self.peek().span;
            self.split_lines(Parser::skip_statement);
            self.say_not_yet("`wait until`", span);
            return Ok(StepKind::Unread);
        }
        let forever = self.at_end_of_statement();
        Ok(StepKind::Wait(if forever { None } else { Some(self.parse_expr()?) }))
    }

    fn parse_repeat(&mut self) -> Parsed<StepKind> {
        let (times, every) = self.parse_times_and_pace()?;
        let condition = if self.take_word("while") { Some(self.parse_expr()?) } else { None };
        let body = self.parse_block("before the steps to repeat")?;
        Ok(StepKind::Repeat { times, every, condition, body })
    }

    fn parse_if(&mut self) -> Parsed<StepKind> {
        let condition = self.parse_expr()?;
        let then = self.parse_block("after the condition")?;
        let mut otherwise = Vec::new();
        let after = self.at;
        self.take_line_ends();
        if !self.is_word("else") {
            self.at = after;
        } else {
            let word = self.next().span;
            otherwise = if self.take_word("if") {
                let kind = self.nest(Parser::parse_if)?;
                vec![Step { kind, span: word.to(self.last_span()) }]
            } else {
                self.parse_block("or `if` after `else`")?
            };
        }
        Ok(StepKind::If { condition, then, otherwise })
    }

    fn parse_assignment(&mut self, fresh: bool) -> Parsed<StepKind> {
        let name = self.expect_name("a name")?;
        self.expect_sign(Sign::Assign, "after the name")?;
        self.take_line_ends();
        let piece = self.peek();
        if piece.kind == TokenKind::Word && GIVES_VALUE.contains(&self.slice(piece.span)) {
            self.mentions.push(name.text.clone());
            self.skip_not_yet(&format!("the value of `{}`", self.slice(piece.span)));
            let value = Expr { kind: crate::tree::ExprKind::Unread, span: piece.span };
            return Ok(if fresh { StepKind::Let(name, value) } else { StepKind::Set(name, value) });
        }
        let value = self.parse_expr()?;
        Ok(if fresh { StepKind::Let(name, value) } else { StepKind::Set(name, value) })
    }

    fn parse_hint(&mut self) -> Parsed<StepKind> {
        let text = self.parse_expr()?;
        let mut at = None;
        if self.take_word("at") && !self.take_word("pointer") {
            let x = self.parse_expr()?;
            self.expect_sign(Sign::Comma, "between the two numbers")?;
            at = Some((x, self.parse_expr()?));
        }
        let span = if self.take_word("for") { Some(self.parse_expr()?) } else { None };
        Ok(StepKind::Hint { text, at, span })
    }

    fn parse_stop(&mut self) -> Parsed<StepKind> {
        if self.at_end_of_statement() {
            return Ok(StepKind::Stop);
        }
        if self.take_word("all") {
            return Ok(StepKind::StopAll);
        }
        Ok(StepKind::StopNamed(self.expect_name("the name of a rule, or `all`")?))
    }

    fn parse_call(&mut self) -> Parsed<StepKind> {
        let name = self.expect_name("a macro's name")?;
        self.next();
        let arguments = self.join_lines(|parser| {
            let mut arguments = Vec::new();
            while !parser.is_sign(Sign::ParenClose) {
                arguments.push(parser.parse_expr()?);
                if !parser.take_sign(Sign::Comma) {
                    break;
                }
            }
            parser.expect_sign(Sign::ParenClose, "after the values")?;
            Ok(arguments)
        })?;
        Ok(StepKind::Call(name, arguments))
    }
}
