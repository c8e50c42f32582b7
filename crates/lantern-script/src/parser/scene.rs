//! Scenes: one line at a time, with the keys and texts of the language.

use std::time::Duration;

use lantern_model::{Combo, Time, Value};

use super::{Parsed, Parser, Said};
use crate::codes::Code;
use crate::scene::{Expectation, Scene, SceneAct, SceneLine, TextTest};
use crate::token::{Sign, TokenKind};
use crate::tree::{ExprKind, KeyPart};
use crate::{Finding, Source};

/// Lines that later versions do, by their first word.
const LATER: &[&str] =
    &["hears", "draws", "line", "message", "call", "locks", "unlocks", "clock", "copies"];
/// Expectations that later versions do.
const LATER_EXPECTED: &[&str] =
    &["said", "notified", "sent", "put", "posted", "published", "played"];

/// Reads a scene.
pub fn parse_scene(source: &Source) -> (Scene, Vec<Finding>) {
    let mut findings = Vec::new();
    let pieces = Parser::cut(&source.text, 0, source.text.len(), &mut findings);
    let mut parser = Parser::new(&source.text, pieces, findings);
    let mut scene = Scene::default();
    let mut clock = Time::START;
    loop {
        parser.take_line_ends();
        match parser.peek().kind {
            TokenKind::End => return (scene, parser.findings),
            TokenKind::Description | TokenKind::Sign(Sign::Semicolon) => {
                parser.next();
                continue;
            }
            _ => {}
        }
        let start = parser.at;
        match parser.parse_scene_line(&mut clock) {
            Ok(line) => scene.lines.extend(line),
            Err(Said) => parser.recover_statement(start),
        }
    }
}

impl Parser<'_> {
    fn parse_scene_line(&mut self, clock: &mut Time) -> Parsed<Option<SceneLine>> {
        let start = self.peek().span;
        let mut at = None;
        if self.take_word("at") {
            let from_before = self.take_sign(Sign::Plus);
            let span = self.peek().span;
            let offset = self.parse_duration()?;
            let time = if from_before { *clock + offset } else { Time::START + offset };
            if time < *clock {
                self.findings.push(
                    Finding::new(Code::Unexpected, span, "the line before is later than this")
                        .label(format!("the scene is at {clock} by then"))
                        .help("write the lines in the order of their times, or `+D` after the one before"),
                );
            }
            *clock = time.max(*clock);
            at = Some(*clock);
        }
        let act = if at.is_some() && self.at_end_of_statement() {
            Some(SceneAct::Wait)
        } else {
            self.parse_scene_act()?
        };
        self.expect_end_of_statement()?;
        let span = start.to(self.last_span());
        Ok(act.map(|act| SceneLine { at, act, span }))
    }

    fn parse_scene_act(&mut self) -> Parsed<Option<SceneAct>> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind == TokenKind::Word && LATER.contains(&word) {
            self.skip_not_yet(&format!("`{word}` in a scene"));
            return Ok(None);
        }
        if self.take_word("key") {
            return Ok(self.parse_scene_combo()?.map(SceneAct::Key));
        }
        if self.take_word("holds") {
            let combo = self.parse_scene_combo()?;
            self.expect_word("for", "after the keys")?;
            let span = self.parse_duration()?;
            return Ok(combo.map(|combo| SceneAct::Holds(combo, span)));
        }
        if self.take_word("window") {
            let opens = self.take_word("opens");
            if !opens {
                self.expect_word("focused", "or `opens` after `window`")?;
            }
            self.expect_word("app", "before the program's name")?;
            let (app, _) = self.parse_plain_text("a program's name between quotes")?;
            let make = if opens { SceneAct::WindowOpens } else { SceneAct::WindowFocused };
            return Ok(Some(make(app)));
        }
        if self.take_word("expect") {
            return Ok(self.parse_expectation()?.map(SceneAct::Expect));
        }
        let known: Vec<&str> = ["at", "key", "holds", "window", "expect"]
            .into_iter()
            .chain(LATER.iter().copied())
            .collect();
        self.fail_unknown("`key`, `holds`, `window` or `expect`", &known)
    }

    fn parse_expectation(&mut self) -> Parsed<Option<Expectation>> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind == TokenKind::Word && LATER_EXPECTED.contains(&word) {
            self.skip_not_yet(&format!("`expect {word}`"));
            return Ok(None);
        }
        type Make = fn(TextTest) -> Expectation;
        let texts: [(&str, Make); 4] = [
            ("typed", Expectation::Typed),
            ("launched", Expectation::Launched),
            ("hint", Expectation::Hint),
            ("logged", Expectation::Logged),
        ];
        for (word, make) in texts {
            if self.take_word(word) {
                let contains = self.take_word("contains");
                let (text, _) = self.parse_plain_text("a text")?;
                let test = if contains { TextTest::Contains(text) } else { TextTest::Is(text) };
                return Ok(Some(make(test)));
            }
        }
        if self.take_word("tapped") {
            return Ok(self.parse_scene_combo()?.map(Expectation::Tapped));
        }
        if self.take_word("clicked") || self.take_word("scrolled") {
            return self.parse_clicked(word);
        }
        if self.take_word("pointer") {
            self.expect_word("at", "after `pointer`")?;
            let x = self.parse_pixel()?;
            self.expect_sign(Sign::Comma, "between the two numbers")?;
            return Ok(Some(Expectation::PointerAt(x, self.parse_pixel()?)));
        }
        if self.take_word("nothing") {
            let span = if self.take_word("for") { self.parse_duration()? } else { Duration::ZERO };
            return Ok(Some(Expectation::Nothing(span)));
        }
        let known = [
            "typed", "tapped", "clicked", "scrolled", "launched", "hint", "logged", "pointer",
            "nothing",
        ];
        self.fail_unknown("`typed`, `tapped`, `clicked`, `launched`, `hint` or `nothing`", &known)
    }

    fn parse_clicked(&mut self, word: &str) -> Parsed<Option<Expectation>> {
        let button = if word == "clicked" {
            self.parse_pointer_key("-button", &["left", "middle", "right", "back", "forward"])?
        } else {
            self.parse_pointer_key("wheel-", &["up", "down", "left", "right"])?
        };
        let mut count = 1;
        if self.peek().kind == TokenKind::Number {
            count = self.parse_pixel()?.max(0) as usize;
            if word == "clicked" {
                self.expect_word("times", "after how often")?;
            }
        }
        Ok(button.fixed().map(|combo| Expectation::Clicked(combo, count)))
    }

    fn parse_scene_combo(&mut self) -> Parsed<Option<Combo>> {
        let combo = self.parse_combo()?;
        let fixed = combo.fixed();
        let unread = combo.parts.iter().any(|part| matches!(part, KeyPart::Unread(_)));
        if fixed.is_none() && !unread {
            self.findings.push(
                Finding::new(Code::Unexpected, combo.span, "a scene names its keys as they are")
                    .label("not a key by name"),
            );
        }
        Ok(fixed)
    }

    fn parse_duration(&mut self) -> Parsed<Duration> {
        let value = self.parse_expr()?;
        match value.kind {
            ExprKind::Value(Value::Duration(span)) => Ok(span),
            ExprKind::Unread => Err(Said),
            _ => {
                self.findings.push(
                    Finding::new(Code::WrongKind, value.span, "expected a duration")
                        .label("not a duration")
                        .help("write the unit: `500ms`, `2s`, `5min`, `1h`"),
                );
                Err(Said)
            }
        }
    }

    fn parse_pixel(&mut self) -> Parsed<i32> {
        let value = self.parse_expr()?;
        match value.kind {
            ExprKind::Value(Value::Number(number)) if number.fract() == 0.0 => Ok(number as i32),
            ExprKind::Unread => Err(Said),
            _ => {
                let finding = Finding::new(Code::WrongKind, value.span, "expected a whole number");
                self.findings.push(finding.label("not a whole number"));
                Err(Said)
            }
        }
    }
}
