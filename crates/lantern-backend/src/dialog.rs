//! A question to the person, as it stands: what was asked, what is written or chosen so far. Keys go
//! in, an answer comes out; a picture can be drawn of it at any time. Knows nothing of displays.

use crate::canvas::{Canvas, Color, Fonts, broken};

/// What may be answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DialogChoice {
    /// Any line of text.
    Text,
    /// Yes or no.
    YesNo,
    /// One of these.
    One(Vec<String>),
}

/// What was answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DialogAnswer {
    /// A text.
    Text(String),
    /// Yes or no.
    Truth(bool),
    /// The number of the one that was picked, from 0.
    Picked(usize),
    /// The person does not want to say.
    Dismissed,
}

/// A key for a question.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DialogKey {
    /// A character.
    Letter(char),
    /// The last character goes.
    Erase,
    /// All of them go.
    EraseAll,
    /// The next one.
    Down,
    /// The one before.
    Up,
    /// That is it.
    Accept,
    /// No answer.
    Dismiss,
}

/// Maximum length of an answer, in characters.
const LONGEST: usize = 500;
/// So many of a list are shown at a time.
const SHOWN: usize = 12;

/// A question that is being answered.
#[derive(Debug, Clone)]
pub struct Dialog {
    asked: String,
    choice: DialogChoice,
    written: String,
    chosen: usize,
}

/// Where things stand on the picture, for the pointer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DialogLayout {
    /// The upper edge of the first row.
    pub top: usize,
    /// The height of each.
    pub height: usize,
    /// The number of the first one shown.
    pub first: usize,
}

impl Dialog {
    /// Nothing is answered yet.
    pub fn new(asked: &str, choice: DialogChoice) -> Dialog {
        Dialog { asked: asked.to_owned(), choice, written: String::new(), chosen: 0 }
    }

    /// Takes a key; gives the answer if it was the last one needed.
    pub fn take(&mut self, stroke: DialogKey) -> Option<DialogAnswer> {
        let rows = self.rows();
        match (stroke, &self.choice) {
            (DialogKey::Dismiss, _) => return Some(DialogAnswer::Dismissed),
            (DialogKey::Accept, DialogChoice::Text) => {
                return Some(DialogAnswer::Text(std::mem::take(&mut self.written)));
            }
            (DialogKey::Accept, _) => return self.pick(self.chosen),
            (DialogKey::Down, _) if !rows.is_empty() => {
                self.chosen = (self.chosen + 1) % rows.len()
            }
            (DialogKey::Up, _) if !rows.is_empty() => {
                self.chosen = (self.chosen + rows.len() - 1) % rows.len();
            }
            (DialogKey::Letter(character), DialogChoice::YesNo) => {
                match character.to_lowercase().next() {
                    Some('y') => return Some(DialogAnswer::Truth(true)),
                    Some('n') => return Some(DialogAnswer::Truth(false)),
                    _ => {}
                }
            }
            (DialogKey::Letter(character), _) if self.written.chars().count() < LONGEST => {
                self.written.push(character);
                return self.look_for_written();
            }
            (DialogKey::Erase, _) => {
                self.written.pop();
                return self.look_for_written();
            }
            (DialogKey::EraseAll, _) => self.written.clear(),
            _ => {}
        }
        None
    }

    /// Answers with the row of that number.
    pub fn pick(&self, row: usize) -> Option<DialogAnswer> {
        match &self.choice {
            DialogChoice::Text => None,
            DialogChoice::YesNo => Some(DialogAnswer::Truth(row == 0)),
            DialogChoice::One(rows) => (row < rows.len()).then_some(DialogAnswer::Picked(row)),
        }
    }

    /// Moves to the first of a list that begins with what is written, or that contains it.
    fn look_for_written(&mut self) -> Option<DialogAnswer> {
        if let DialogChoice::One(rows) = &self.choice {
            let written = self.written.to_lowercase();
            let begins = rows.iter().position(|row| row.to_lowercase().starts_with(&written));
            let contains = || rows.iter().position(|row| row.to_lowercase().contains(&written));
            match begins.or_else(contains) {
                Some(row) => self.chosen = row,
                // What fits none is not written.
                None => drop(self.written.pop()),
            }
        }
        None
    }

    fn rows(&self) -> Vec<String> {
        match &self.choice {
            DialogChoice::Text => Vec::new(),
            DialogChoice::YesNo => vec!["Yes".to_owned(), "No".to_owned()],
            DialogChoice::One(rows) => rows.clone(),
        }
    }

    /// It in words, for who cannot see it: what was asked, and what stands chosen now.
    pub fn spoken(&self) -> String {
        let rows = self.rows();
        match rows.get(self.chosen) {
            Some(row) => format!("{}: {row}, {} of {}", self.asked, self.chosen + 1, rows.len()),
            None => format!("{}. {}", self.asked, self.advice()),
        }
    }

    fn advice(&self) -> &'static str {
        match self.choice {
            DialogChoice::Text => "Enter answers, Escape does not",
            DialogChoice::YesNo => "Y or N, Escape for neither",
            DialogChoice::One(_) => "Arrows or first letters, Enter takes it, Escape none",
        }
    }

    /// Draws it, and tells where its rows are.
    pub fn draw(&self, fonts: &mut Fonts, scale: f32) -> (Canvas, DialogLayout) {
        let scaled = |pixels: f32| (pixels * scale) as usize;
        let (size, small) = (18.0 * scale, 14.0 * scale);
        let (margin, width, step) = (scaled(18.0), scaled(460.0), scaled(30.0));
        let inner = width - 2 * margin;
        let heading = broken(fonts, &self.asked, size, inner);
        let rows = self.rows();
        let shown = rows.len().min(SHOWN);
        let first = self.chosen.saturating_sub(SHOWN - 1).min(rows.len() - shown);
        let written = matches!(self.choice, DialogChoice::Text);
        let body = if written { scaled(40.0) } else { shown * step };
        let top = margin + heading.len() * scaled(24.0) + scaled(6.0);
        let mut canvas = Canvas::boxed(width, top + body + scaled(40.0));
        for (index, line) in heading.iter().enumerate() {
            let baseline = margin + index * scaled(24.0) + scaled(14.0);
            fonts.draw(&mut canvas, (margin, baseline), line, size, Color::WORDS);
        }
        if written {
            self.draw_field(&mut canvas, fonts, (margin, top, inner), scale);
        }
        for (index, row) in rows.iter().skip(first).take(shown).enumerate() {
            let at = top + index * step;
            if first + index == self.chosen {
                canvas.fill(margin - scaled(6.0), at, inner + scaled(12.0), step, Color::FIELD);
                canvas.fill(margin - scaled(6.0), at, scaled(3.0), step, Color::FULL);
            }
            let row = fitted(fonts, row, size, inner - scaled(12.0));
            let place = (margin + scaled(6.0), at + scaled(21.0));
            fonts.draw(&mut canvas, place, &row, size, Color::WORDS);
        }
        let mut advice = self.advice().to_owned();
        if shown < rows.len() {
            advice = format!("{} of {} · {advice}", self.chosen + 1, rows.len());
        }
        let place = (margin, top + body + scaled(24.0));
        fonts.draw(&mut canvas, place, &advice, small, Color::FAINT);
        (canvas, DialogLayout { top, height: step, first })
    }

    /// The field with what is written; of a long text its end.
    fn draw_field(
        &self,
        canvas: &mut Canvas,
        fonts: &mut Fonts,
        (x, y, width): (usize, usize, usize),
        scale: f32,
    ) {
        let scaled = |pixels: f32| (pixels * scale) as usize;
        let size = 18.0 * scale;
        canvas.fill(x, y, width, scaled(34.0), Color::FIELD);
        let mut end = self.written.as_str();
        while fonts.width(end, size) > width - scaled(24.0) {
            let mut rest = end.chars();
            rest.next();
            end = rest.as_str();
        }
        let place = (x + scaled(8.0), y + scaled(23.0));
        let after = fonts.draw(canvas, place, end, size, Color::WORDS);
        canvas.fill(after + 1, y + scaled(7.0), scaled(2.0).max(1), scaled(20.0), Color::FULL);
    }
}

/// The text, cut to a width.
fn fitted(fonts: &mut Fonts, text: &str, size: f32, width: usize) -> String {
    if fonts.width(text, size) <= width {
        return text.to_owned();
    }
    let mut kept: String = text.to_owned();
    while !kept.is_empty() && fonts.width(&format!("{kept}…"), size) > width {
        kept.pop();
    }
    format!("{kept}…")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn after(question: &mut Dialog, strokes: &[DialogKey]) -> Option<DialogAnswer> {
        strokes.iter().fold(None, |_, stroke| question.take(*stroke))
    }

    fn characters(text: &str) -> Vec<DialogKey> {
        text.chars().map(DialogKey::Letter).collect()
    }

    #[test]
    fn a_text_is_written_and_mended() {
        let mut question = Dialog::new("How deep?", DialogChoice::Text);
        assert_eq!(after(&mut question, &characters("311")), None);
        assert_eq!(
            after(&mut question, &[DialogKey::Erase, DialogKey::Letter('0'), DialogKey::Accept]),
            Some(DialogAnswer::Text("310".to_owned()))
        );
        let mut question = Dialog::new("How deep?", DialogChoice::Text);
        after(&mut question, &characters("311"));
        assert_eq!(
            after(&mut question, &[DialogKey::EraseAll, DialogKey::Accept]),
            Some(DialogAnswer::Text(String::new()))
        );
        assert_eq!(question.take(DialogKey::Dismiss), Some(DialogAnswer::Dismissed));
    }

    #[test]
    fn yes_and_no_are_letters_or_rows() {
        let mut question = Dialog::new("Melt it?", DialogChoice::YesNo);
        assert_eq!(question.take(DialogKey::Letter('x')), None);
        assert_eq!(question.take(DialogKey::Letter('N')), Some(DialogAnswer::Truth(false)));
        assert_eq!(question.take(DialogKey::Accept), Some(DialogAnswer::Truth(true)));
        assert_eq!(
            after(&mut question, &[DialogKey::Down, DialogKey::Accept]),
            Some(DialogAnswer::Truth(false))
        );
        assert_eq!(
            after(&mut question, &[DialogKey::Down, DialogKey::Accept]),
            Some(DialogAnswer::Truth(true))
        );
    }

    #[test]
    fn a_list_is_picked_from_by_arrows_and_first_letters() {
        let racks = ["north rack", "south rack", "door"].map(str::to_owned).to_vec();
        let mut question = Dialog::new("Where?", DialogChoice::One(racks));
        assert_eq!(
            after(&mut question, &[DialogKey::Up, DialogKey::Accept]),
            Some(DialogAnswer::Picked(2))
        );
        after(&mut question, &characters("SOx"));
        assert_eq!(question.take(DialogKey::Accept), Some(DialogAnswer::Picked(1)));
        assert_eq!(question.pick(3), None);
        let mut empty = Dialog::new("Where?", DialogChoice::One(Vec::new()));
        assert_eq!(after(&mut empty, &[DialogKey::Down, DialogKey::Up, DialogKey::Accept]), None);
    }

    #[test]
    fn long_lists_and_long_words_stay_in_their_box() {
        let mut fonts = Fonts::default();
        let many: Vec<String> = (1..=40).map(|n| format!("bag {n} {}", "x".repeat(200))).collect();
        let mut question = Dialog::new(&"why ".repeat(60), DialogChoice::One(many));
        let (canvas, rows) = question.draw(&mut fonts, 1.0);
        assert_eq!((canvas.width, rows.first), (460, 0));
        question.take(DialogKey::Up);
        let (_, rows) = question.draw(&mut fonts, 1.0);
        assert_eq!(rows.first, 28);
        let mut text = Dialog::new("How deep?", DialogChoice::Text);
        after(&mut text, &characters(&"310 ".repeat(200)));
        assert_eq!(text.draw(&mut fonts, 1.0).0.width, 460);
        assert_eq!(text.written.chars().count(), LONGEST);
    }
}
