//! Steps and blocks of steps. Those that ask something of programs, devices or the person are in
//! `commands`.

use lantern_model::{Corner, ListenMode};

use super::commands::{self, GIVES_VALUE};
use super::items::ITEM_WORDS;
use super::{ErrorReported, Parsed, Parser};
use crate::token::{Sign, TokenKind};
use crate::tree::{HintPlaceSyntax, MoveOrigin, MoveTargetSyntax, Step, StepKind};
use crate::{Span, near_name};

/// The first words of the steps of this file.
const STEPS: &[&str] = &[
    "tap", "press", "release", "toggle", "hold", "type", "click", "drag", "move", "scroll", "with",
    "wait", "repeat", "for", "if", "any", "set", "let", "log", "hint", "stop", "pause", "resume",
    "enter", "leave", "listen",
];

impl Parser<'_> {
    /// `{ steps }`
    pub(super) fn parse_block(&mut self, why: &str) -> Parsed<Vec<Step>> {
        let open = self.join_lines(|parser| parser.expect_sign(Sign::BraceOpen, why))?;
        let around = self.step_block.replace(self.at - 1);
        let steps = self.parse_steps(open);
        self.step_block = around;
        steps
    }

    fn parse_steps(&mut self, open: Span) -> Parsed<Vec<Step>> {
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
                        TokenKind::Description if !parser.begins_item(parser.at) => {
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
            let mut step = parser.parse_step()?;
            step.otherwise = parser.parse_otherwise(&step.kind)?;
            parser.expect_end_of_statement()?;
            Ok(step)
        });
        match result {
            Ok(step) => vec![step],
            Err(ErrorReported) => {
                self.recover_statement(start);
                let span = self.pieces[start].span;
                vec![Step { kind: StepKind::Unread, otherwise: None, span }]
            }
        }
    }

    /// `else { }` behind a step, on the next line only behind a brace.
    fn parse_otherwise(&mut self, kind: &StepKind) -> Parsed<Option<Vec<Step>>> {
        let after = self.at;
        if self.pieces[after - 1].kind == TokenKind::Sign(Sign::BraceClose) {
            self.take_line_ends();
        }
        if matches!(kind, StepKind::If { .. }) || !self.take_word("else") {
            self.at = after;
            return Ok(None);
        }
        self.parse_block("after `else`").map(Some)
    }

    fn parse_step(&mut self) -> Parsed<Step> {
        let piece = self.peek();
        if piece.kind != TokenKind::Word {
            let advice = self.advisor().advise_step();
            return self.fail_at(piece, "a step, such as `type \"text\"`", advice);
        }
        let word = self.slice(piece.span);
        let kind = if STEPS.contains(&word) {
            self.next();
            self.parse_step_kind(word)?
        } else if commands::COMMANDS.contains(&word) {
            StepKind::Do(Box::new(self.parse_command()?))
        } else if self.begins_call() {
            self.parse_call()?
        } else {
            if ITEM_WORDS.contains(&word) {
                let help = format!("`{word}` begins a part of the file: write it outside of rules");
                return self.fail_at(piece, "a step", Some(help.into()));
            }
            let known: Vec<&str> = STEPS.iter().chain(commands::COMMANDS).copied().collect();
            let is_like_one = near_name(word, known.iter().copied()).is_some();
            let advice = self.advisor().advise_step().or_else(|| {
                (!is_like_one).then(|| format!("to call a macro write `{word}()`").into())
            });
            return self.fail_advised("a step", &known, advice);
        };
        Ok(Step { kind, otherwise: None, span: piece.span.to(self.last_span()) })
    }

    /// Whether a name, perhaps with dots, and a touching `(` stand here.
    fn begins_call(&self) -> bool {
        let mut at = self.at + 1;
        while self.pieces.get(at).is_some_and(|piece| piece.kind == TokenKind::Sign(Sign::Dot)) {
            at += 2;
        }
        let opens = TokenKind::Sign(Sign::ParenOpen);
        self.pieces.get(at).is_some_and(|piece| piece.kind == opens && !piece.spaced)
    }

    fn parse_step_kind(&mut self, word: &str) -> Parsed<StepKind> {
        Ok(match word {
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
            "drag" => self.parse_drag()?,
            "move" => self.parse_move()?,
            "scroll" => self.parse_scroll()?,
            "with" => {
                self.expect_word("app", "after `with`")?;
                let program = self.parse_expr()?;
                StepKind::With(program, self.parse_block("after the program")?)
            }
            "wait" => self.parse_wait()?,
            "repeat" => self.parse_repeat()?,
            "for" => self.parse_for()?,
            "if" => self.parse_if()?,
            "any" => self.parse_any_of()?,
            "set" | "let" => self.parse_assignment(word == "let")?,
            "log" => StepKind::Log(self.parse_expr()?),
            "hint" => self.parse_hint()?,
            "stop" => self.parse_stop()?,
            "pause" => StepKind::Pause(self.expect_path("the name of a rule")?),
            "resume" => StepKind::Resume(self.expect_path("the name of a rule")?),
            "enter" | "leave" => {
                self.expect_word("layer", &format!("after `{word}`"))?;
                let name = self.expect_path("the layer's name")?;
                if word == "enter" { StepKind::Enter(name) } else { StepKind::Leave(name) }
            }
            "listen" => self.parse_listen()?,
            other => unreachable!("`{other}` stands in the list of steps"),
        })
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
            _ => self.parse_pointer_key("-button", BUTTONS)?,
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

    /// `drag left to X, Y over D`
    fn parse_drag(&mut self) -> Parsed<StepKind> {
        let button = match self.peek().kind {
            TokenKind::Sign(Sign::ParenOpen) => self.parse_combo()?,
            _ => self.parse_pointer_key("-button", BUTTONS)?,
        };
        let (to, over) = self.parse_move_target("drag")?;
        Ok(StepKind::Drag { button, to, over })
    }

    fn parse_move(&mut self) -> Parsed<StepKind> {
        let (to, over) = self.parse_move_target("move")?;
        Ok(StepKind::Move { to, over })
    }

    /// `to X, Y [of window | of screen] [over D]`, `by X, Y [over D]`
    fn parse_move_target(
        &mut self,
        step: &str,
    ) -> Parsed<(MoveTargetSyntax, Option<crate::tree::ExprSyntax>)> {
        let by = self.take_word("by");
        if !by {
            self.expect_word("to", &format!("or `by` after `{step}`"))?;
        }
        let x = self.parse_expr()?;
        self.expect_sign(Sign::Comma, "between the two numbers")?;
        let y = self.parse_expr()?;
        let mut from = if by { MoveOrigin::Pointer } else { MoveOrigin::Corner };
        if !by && self.take_word("of") {
            from = if self.take_word("window") {
                MoveOrigin::Window
            } else {
                self.expect_word("screen", "or `window` after `of`")?;
                MoveOrigin::Screen
            };
        }
        let over = if self.take_word("over") { Some(self.parse_expr()?) } else { None };
        Ok((MoveTargetSyntax { x, y, from }, over))
    }

    fn parse_wait(&mut self) -> Parsed<StepKind> {
        if self.take_word("until") {
            let condition = self.parse_expr()?;
            return Ok(StepKind::WaitUntil { condition, limit: self.parse_limit()? });
        }
        let forever = self.at_end_of_statement();
        Ok(StepKind::Wait(if forever { None } else { Some(self.parse_expr()?) }))
    }

    /// `for NAME in LIST { }`
    fn parse_for(&mut self) -> Parsed<StepKind> {
        let name = self.expect_name("a name for each value")?;
        self.expect_word("in", "before the list")?;
        let list = self.parse_expr()?;
        let body = self.parse_block("before the steps for each value")?;
        Ok(StepKind::For { name, list, body })
    }

    /// `any of { } or { }`
    fn parse_any_of(&mut self) -> Parsed<StepKind> {
        self.expect_word("of", "after `any`")?;
        let mut blocks = vec![self.parse_block("after `any of`")?];
        loop {
            let after = self.at;
            self.take_line_ends();
            if !self.take_word("or") {
                self.at = after;
                return Ok(StepKind::AnyOf(blocks));
            }
            blocks.push(self.parse_block("after `or`")?);
        }
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
                vec![Step { kind, otherwise: None, span: word.to(self.last_span()) }]
            } else {
                self.parse_block("or `if` after `else`")?
            };
        }
        Ok(StepKind::If { condition, then, otherwise })
    }

    fn parse_assignment(&mut self, fresh: bool) -> Parsed<StepKind> {
        if self.is_word("layer") {
            let piece = self.peek();
            let help = "layers are switched by `enter layer NAME` and `leave layer NAME`";
            return self.fail_at(piece, "a name", Some(help.into()));
        }
        let name = if fresh { self.expect_name("a name")? } else { self.expect_path("a name")? };
        self.expect_sign(Sign::Assign, "after the name")?;
        self.take_line_ends();
        let piece = self.peek();
        if piece.kind == TokenKind::Word && GIVES_VALUE.contains(&self.slice(piece.span)) {
            let mut command = self.parse_command()?;
            command.into = Some((fresh, name));
            return Ok(StepKind::Do(Box::new(command)));
        }
        let value = self.parse_expr()?;
        Ok(if fresh { StepKind::Let(name, value) } else { StepKind::Set(name, value) })
    }

    fn parse_hint_place(&mut self) -> Parsed<HintPlaceSyntax> {
        if self.take_word("pointer") {
            return Ok(HintPlaceSyntax::Pointer);
        }
        if let Some(corner) = Corner::ALL.into_iter().find(|corner| self.take_word(corner.word())) {
            return Ok(HintPlaceSyntax::Corner(corner));
        }
        let x = self.parse_expr()?;
        self.expect_sign(Sign::Comma, "between the two numbers")?;
        Ok(HintPlaceSyntax::Point(x, self.parse_expr()?))
    }

    fn parse_hint(&mut self) -> Parsed<StepKind> {
        let text = self.parse_expr()?;
        let at =
            if self.take_word("at") { self.parse_hint_place()? } else { HintPlaceSyntax::Pointer };
        let span = if self.take_word("for") { Some(self.parse_expr()?) } else { None };
        Ok(StepKind::Hint { text, at, span })
    }

    fn parse_stop(&mut self) -> Parsed<StepKind> {
        if self.at_end_of_statement() {
            return Ok(StepKind::Stop);
        }
        if self.take_word("all") {
            if !self.take_word("until") {
                return Ok(StepKind::StopAll);
            }
            self.expect_word("resumed", "after `stop all until`")?;
            return Ok(StepKind::StopUntilResumed);
        }
        Ok(StepKind::StopNamed(self.expect_path("the name of a rule, or `all`")?))
    }

    /// `listen when called`, `listen freely`, `listen to nothing`
    fn parse_listen(&mut self) -> Parsed<StepKind> {
        for heed in ListenMode::ALL {
            let words: Vec<&str> = heed.words().split(' ').collect();
            if self.take_words(&words) {
                return Ok(StepKind::Listen(heed));
            }
        }
        let known: Vec<&str> =
            ListenMode::ALL.iter().filter_map(|heed| heed.words().split(' ').next()).collect();
        self.fail_unknown("`when called`, `freely` or `to nothing` after `listen`", &known)
    }

    fn parse_call(&mut self) -> Parsed<StepKind> {
        let name = self.expect_path("a macro's name")?;
        Ok(StepKind::Call(name, self.parse_arguments()?))
    }
}

/// Whether a step begins with this word.
pub(super) fn is_step_word(word: &str) -> bool {
    STEPS.contains(&word) || commands::COMMANDS.contains(&word)
}

/// The mouse buttons, as a click names them.
pub(super) const BUTTONS: &[&str] = &["left", "middle", "right", "back", "forward"];
