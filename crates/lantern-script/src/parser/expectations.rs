//! What a scene expects.

use std::time::Duration;

use super::steps::BUTTONS;
use super::{Parsed, Parser};
use crate::scene_model::{DONE_WORDS, Expectation, TextTest};
use crate::token::TokenKind;

/// The first words of expectations that are not about commands.
const EXPECTED: &[&str] = &[
    "typed", "tapped", "clicked", "scrolled", "pointer", "hint", "logged", "failed", "reached",
    "down", "up", "nothing",
];

impl Parser<'_> {
    pub(super) fn parse_expectation(&mut self) -> Parsed<Expectation> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        let done = DONE_WORDS.iter().find(|(done, _)| *done == word);
        if piece.kind != TokenKind::Word || (done.is_none() && !EXPECTED.contains(&word)) {
            let commands = DONE_WORDS.iter().map(|(done, _)| *done);
            let known: Vec<&str> = EXPECTED.iter().copied().chain(commands).collect();
            let expected = "what must go out, such as `typed`, `tapped`, `launched` or `nothing`";
            return self.fail_unknown(expected, &known);
        }
        self.next();
        if let Some((done, _)) = done {
            return Ok(Expectation::Done(done, self.parse_text_test()?));
        }
        Ok(match word {
            "typed" => Expectation::Typed(self.parse_text_test()?),
            "hint" => Expectation::Hint(self.parse_text_test()?),
            "logged" => Expectation::Logged(self.parse_text_test()?),
            "failed" => Expectation::Failed(self.parse_text_test()?),
            "tapped" => Expectation::Tapped(self.parse_scene_combo()?),
            "reached" => Expectation::Reached(self.parse_scene_combo()?),
            "down" => Expectation::Down(self.parse_scene_combo()?),
            "up" => Expectation::Up(self.parse_scene_combo()?),
            "clicked" | "scrolled" => self.parse_clicked(word == "clicked")?,
            "pointer" => {
                self.expect_word("at", "after `pointer`")?;
                let (x, y) = self.parse_pixels()?;
                Expectation::PointerAt(x, y)
            }
            _ => {
                let span =
                    if self.take_word("for") { self.parse_duration()? } else { Duration::ZERO };
                Expectation::Nothing(span)
            }
        })
    }

    fn parse_text_test(&mut self) -> Parsed<TextTest> {
        let contains = self.take_word("contains");
        let text = self.parse_text("a text")?;
        Ok(if contains { TextTest::Contains(text) } else { TextTest::Is(text) })
    }

    fn parse_clicked(&mut self, button: bool) -> Parsed<Expectation> {
        let combo = if button {
            self.parse_pointer_key("-button", BUTTONS)?
        } else {
            self.parse_pointer_key("wheel-", &["up", "down", "left", "right"])?
        };
        let mut count = 1;
        if self.peek().kind == TokenKind::Number {
            count = self.parse_pixel()?.max(0) as usize;
            if button {
                self.expect_word("times", "after how often")?;
            }
        }
        let combo = combo.fixed().expect("a button by name is no value");
        Ok(Expectation::Clicked(combo, count))
    }
}
