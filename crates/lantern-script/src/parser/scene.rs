//! Scenes: one line at a time, with the keys and texts of the language.

use lantern_model::{KeyCombination, Time, Value, WallTime};

use super::{ErrorReported, Parsed, Parser};
use crate::codes::Code;
use crate::scene_model::{Scene, SceneAct, SceneLine, Sketch, strokes_of_text};
use crate::token::{Sign, TokenKind};
use crate::tree::{ExprSyntaxKind, KeyPart, TextPart};
use crate::{Finding, Source};

/// The first words of all lines.
const LINE_WORDS: &[&str] = &[
    "at", "key", "holds", "presses", "lets", "types", "moves", "hears", "draws", "line", "message",
    "call", "window", "locks", "unlocks", "pauses", "resumes", "clock", "answers", "fails",
    "copies", "expect",
];

/// Reads a scene.
pub fn parse_scene(source: &Source) -> (Scene, Vec<Finding>) {
    let mut findings = Vec::new();
    let text = source.text();
    let pieces = Parser::cut(text, 0, text.len(), &mut findings, None);
    let mut parser = Parser::new(text, pieces, findings);
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
            Ok(line) => scene.lines.push(line),
            Err(ErrorReported) => parser.recover_statement(start),
        }
    }
}

impl Parser<'_> {
    fn parse_scene_line(&mut self, clock: &mut Time) -> Parsed<SceneLine> {
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
            SceneAct::Wait
        } else {
            self.parse_scene_act()?
        };
        self.expect_end_of_statement()?;
        Ok(SceneLine { at, act, span: start.to(self.last_span()) })
    }

    fn parse_scene_act(&mut self) -> Parsed<SceneAct> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind != TokenKind::Word || !LINE_WORDS.contains(&word) {
            return self.fail_unknown("what happens, such as `key f9`, or `expect`", LINE_WORDS);
        }
        self.next();
        Ok(match word {
            "key" => {
                let combo = self.parse_scene_combo()?;
                let from = self.take_words(&["from", "device"]);
                let device = if from { Some(self.parse_text("the device's name")?) } else { None };
                SceneAct::Key(combo, device)
            }
            "holds" => {
                let combo = self.parse_scene_combo()?;
                self.expect_word("for", "after the keys")?;
                SceneAct::Holds(combo, self.parse_duration()?)
            }
            "presses" => SceneAct::Presses(self.parse_scene_combo()?),
            "lets" => {
                self.expect_word("go", "after `lets`")?;
                SceneAct::LetsGo(self.parse_scene_combo()?)
            }
            "types" => SceneAct::Types(self.parse_text("what is typed")?),
            "moves" => {
                self.expect_word("to", "after `moves`")?;
                let (x, y) = self.parse_pixels()?;
                SceneAct::MovesTo(x, y)
            }
            "hears" => {
                let words = self.parse_text("what is heard")?;
                SceneAct::Hears(words, self.parse_score()?)
            }
            "draws" => self.parse_draws()?,
            "line" => {
                let device = self.expect_path("the device's name")?;
                SceneAct::Line(device.text, self.parse_text("what it sends")?)
            }
            "message" => {
                let topic = self.parse_text("the topic")?;
                let text = self.parse_text("its text")?;
                self.expect_word("on", "before the broker's name")?;
                SceneAct::Message(topic, text, self.expect_path("the broker's name")?.text)
            }
            "call" => {
                let path = self.parse_text("the path")?;
                let text = if self.is_word("on") {
                    String::new()
                } else {
                    self.parse_text("what is sent along, or `on`")?
                };
                self.expect_word("on", "before the listener's name")?;
                SceneAct::Call(path, text, self.expect_path("the listener's name")?.text)
            }
            "window" => self.parse_scene_window()?,
            "locks" => SceneAct::Locks(true),
            "unlocks" => SceneAct::Locks(false),
            "pauses" => SceneAct::Pauses(true),
            "resumes" => SceneAct::Pauses(false),
            "clock" => self.parse_clock()?,
            "answers" => SceneAct::Answers(self.parse_answer()?),
            "fails" => SceneAct::Fails(self.parse_text("the reason")?),
            "copies" => SceneAct::Copies(self.parse_text("what is copied")?),
            "expect" => SceneAct::Expect(self.parse_expectation()?),
            _ => return self.fail("what happens at that time"),
        })
    }

    fn parse_draws(&mut self) -> Parsed<SceneAct> {
        let sketch = self.parse_sketch()?;
        self.expect_word("holding", "before the key or button that is held")?;
        let span = self.peek().span;
        let combo = self.parse_scene_combo()?;
        let Some(key) = combo.last().filter(|_| combo.0.len() == 1) else {
            let finding = Finding::new(Code::Unexpected, span, "one key or button is held");
            self.findings.push(finding.label("name one"));
            return Err(ErrorReported);
        };
        let score = if self.is_word("score") { Some(self.parse_score()?) } else { None };
        Ok(SceneAct::Draws(sketch, key, score))
    }

    fn parse_sketch(&mut self) -> Parsed<Sketch> {
        if self.take_word("path") {
            let text = self.parse_text("directions")?;
            return Ok(Sketch::Path(text.split_whitespace().map(str::to_owned).collect()));
        }
        if self.take_word("drawn") {
            return Ok(Sketch::Drawn(self.parse_text("a file's name")?));
        }
        if self.take_word("along") {
            let span = self.peek().span;
            let text = self.parse_text("places as \"x,y x,y\"")?;
            return strokes_of_text(&text).map(Sketch::Along).ok_or_else(|| {
                let finding = Finding::new(Code::BadText, span, "these are no places");
                let finding = finding.label("not as `x,y x,y / x,y`");
                self.findings.push(finding.help("each is two numbers; a slash begins a stroke"));
                ErrorReported
            });
        }
        Ok(Sketch::Shape(self.expect_path("the shape's name")?.text))
    }

    fn parse_score(&mut self) -> Parsed<f64> {
        if !self.take_word("score") {
            return Ok(1.0);
        }
        let value = self.parse_expr()?;
        match value.kind {
            ExprSyntaxKind::Value(Value::Number(score)) if (0.0..=1.0).contains(&score) => {
                Ok(score)
            }
            _ => {
                let finding = Finding::new(Code::WrongKind, value.span, "a score runs from 0 to 1");
                self.findings.push(finding.label("not a score"));
                Err(ErrorReported)
            }
        }
    }

    fn parse_scene_window(&mut self) -> Parsed<SceneAct> {
        if self.take_word("title") {
            return Ok(SceneAct::WindowTitle(self.parse_text("the title")?));
        }
        let opens = self.take_word("opens");
        if !opens {
            self.expect_word("focused", "`opens` or `title` after `window`")?;
        }
        self.expect_word("app", "before the program's name")?;
        let app = self.parse_text("a program's name")?;
        if !opens {
            return Ok(SceneAct::WindowFocused(app));
        }
        let title =
            if self.take_word("title") { Some(self.parse_text("the title")?) } else { None };
        Ok(SceneAct::WindowOpens(app, title))
    }

    /// `"2031-06-21 23:59:30" [offset MINUTES]`, or a time of day on the first day.
    fn parse_clock(&mut self) -> Parsed<SceneAct> {
        let piece = self.peek();
        let mut wall = if piece.kind == TokenKind::Clock {
            let time = self.parse_time_of_day()?;
            WallTime { local: i64::from(time.seconds()), offset: 0 }
        } else {
            let text = self.parse_text("a date and time, such as \"2031-06-21 23:59\"")?;
            match wall_time(&text) {
                Some(wall) => wall,
                None => return self.fail_at(piece, "a date and time: \"2031-06-21 23:59\"", None),
            }
        };
        if self.take_word("offset") {
            wall.offset = self.parse_pixel()?.saturating_mul(60);
        }
        Ok(SceneAct::Clock(wall))
    }

    /// A value as it is written: a text, number, truth, duration, share, time or list of these.
    fn parse_answer(&mut self) -> Parsed<Value> {
        let expr = self.parse_expr()?;
        constant(&expr).ok_or_else(|| {
            let finding =
                Finding::new(Code::WrongKind, expr.span, "a scene gives values as they are");
            self.findings.push(finding.label("not a plain value"));
            ErrorReported
        })
    }

    pub(super) fn parse_text(&mut self, what: &str) -> Parsed<String> {
        self.parse_raw_or_text(&format!("{what} between quotes")).map(|(text, _)| text)
    }

    pub(super) fn parse_scene_combo(&mut self) -> Parsed<KeyCombination> {
        let combo = self.parse_combo()?;
        if let Some(fixed) = combo.fixed() {
            return Ok(fixed);
        }
        if !combo.parts.iter().any(|part| matches!(part, KeyPart::Unread(_))) {
            self.findings.push(
                Finding::new(Code::Unexpected, combo.span, "a scene names its keys as they are")
                    .label("not a key by name"),
            );
        }
        Err(ErrorReported)
    }

    pub(super) fn parse_pixels(&mut self) -> Parsed<(i32, i32)> {
        let x = self.parse_pixel()?;
        self.expect_sign(Sign::Comma, "between the two numbers")?;
        Ok((x, self.parse_pixel()?))
    }

    pub(super) fn parse_pixel(&mut self) -> Parsed<i32> {
        let value = self.parse_expr()?;
        match value.kind {
            ExprSyntaxKind::Value(Value::Number(number)) if number.fract() == 0.0 => {
                Ok(number as i32)
            }
            ExprSyntaxKind::Negate(inner)
                if matches!(inner.kind, ExprSyntaxKind::Value(Value::Number(_))) =>
            {
                match inner.kind {
                    ExprSyntaxKind::Value(Value::Number(number)) => Ok(-number as i32),
                    _ => Err(ErrorReported),
                }
            }
            ExprSyntaxKind::Unread => Err(ErrorReported),
            _ => {
                let finding = Finding::new(Code::WrongKind, value.span, "expected a whole number");
                self.findings.push(finding.label("not a whole number"));
                Err(ErrorReported)
            }
        }
    }
}

/// The value of an expression that holds no names.
pub(super) fn constant(expr: &crate::tree::ExprSyntax) -> Option<Value> {
    match &expr.kind {
        ExprSyntaxKind::Value(value) => Some(value.clone()),
        ExprSyntaxKind::Text(parts) => match parts.as_slice() {
            [] => Some(Value::Text(String::new())),
            [TextPart::Literal(text)] => Some(Value::Text(text.clone())),
            _ => None,
        },
        ExprSyntaxKind::Key(combo) => combo.fixed().map(Value::Key),
        ExprSyntaxKind::List(values) => {
            values.iter().map(constant).collect::<Option<_>>().map(Value::List)
        }
        _ => None,
    }
}

/// `2031-06-21 23:59[:30]`
fn wall_time(text: &str) -> Option<WallTime> {
    let (date, time) = text.split_once(' ')?;
    let mut date = date.splitn(3, '-').map(|part| part.parse::<u32>().ok());
    let mut time = time.splitn(3, ':').map(|part| part.parse::<u32>().ok());
    let (year, month, day) = (date.next()??, date.next()??, date.next()??);
    let (hour, minute) = (time.next()??, time.next()??);
    let second = time.next().unwrap_or(Some(0))?;
    let sound = (1..=9999).contains(&year)
        && (1..=12).contains(&month)
        && (1..=31).contains(&day)
        && hour < 24
        && minute < 60
        && second < 60;
    sound.then(|| WallTime::from_civil(year.into(), month, day, hour, minute, second))
}
