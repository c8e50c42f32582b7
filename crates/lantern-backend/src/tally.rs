//! Numbers on the screen, of which the person picks one by its digits. Keys go in, the number comes
//! out; a picture of each can be drawn at any time. Knows nothing of displays.

use crate::canvas::{Canvas, Color, Fonts};
use crate::dialog::{DialogAnswer, DialogKey};

/// Numbers from 1 to a count, and the digits typed so far.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tally {
    count: usize,
    typed: String,
}

impl Tally {
    /// Nothing is typed yet.
    pub fn of(count: usize) -> Tally {
        Tally { count, typed: String::new() }
    }

    /// Takes a key; gives the answer if it was the last one needed.
    pub fn take(&mut self, stroke: DialogKey) -> Option<DialogAnswer> {
        match stroke {
            DialogKey::Letter(digit) if digit.is_ascii_digit() => {
                self.typed.push(digit);
                let fitting = (1..=self.count).filter(|number| self.fits(*number)).take(2);
                match fitting.collect::<Vec<_>>()[..] {
                    [] => {
                        // No number begins like that.
                        self.typed.pop();
                        None
                    }
                    [only] => Some(DialogAnswer::Picked(only - 1)),
                    _ => None,
                }
            }
            DialogKey::Erase => {
                self.typed.pop();
                None
            }
            DialogKey::EraseAll => {
                self.typed.clear();
                None
            }
            DialogKey::Accept => {
                let number = self.typed.parse().ok().filter(|n| (1..=self.count).contains(n));
                number.map(|number: usize| DialogAnswer::Picked(number - 1))
            }
            DialogKey::Dismiss => Some(DialogAnswer::Dismissed),
            DialogKey::Letter(_) | DialogKey::Down | DialogKey::Up => None,
        }
    }

    /// Whether a number may still be the one.
    pub fn fits(&self, number: usize) -> bool {
        number.to_string().starts_with(&self.typed)
    }

    /// How a number looks: the digits typed already are faint.
    pub fn draw(&self, fonts: &mut Fonts, number: usize, scale: f32) -> Canvas {
        let size = 15.0 * scale;
        let (margin, height) = ((3.0 * scale) as usize, (size * 1.15) as usize);
        let number = number.to_string();
        let (typed, rest) = number.split_at(self.typed.len().min(number.len()));
        let mut canvas = Canvas::boxed(fonts.width(&number, size) + 2 * margin, height);
        let baseline = (size * 0.88) as usize;
        let at = fonts.draw(&mut canvas, (margin, baseline), typed, size, Color::FAINT);
        fonts.draw(&mut canvas, (at, baseline), rest, size, Color::WORDS);
        canvas
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn take_all(tally: &mut Tally, digits: &str) -> Option<DialogAnswer> {
        digits.chars().map(|digit| tally.take(DialogKey::Letter(digit))).last().flatten()
    }

    #[test]
    fn a_number_is_picked_as_soon_as_no_other_begins_like_it() {
        let mut tally = Tally::of(12);
        assert_eq!(take_all(&mut tally, "7"), Some(DialogAnswer::Picked(6)));
        let mut tally = Tally::of(12);
        assert_eq!(take_all(&mut tally, "1"), None, "10, 11 and 12 begin like it");
        assert_eq!(tally.take(DialogKey::Accept), Some(DialogAnswer::Picked(0)));
        assert_eq!(take_all(&mut tally, "2"), Some(DialogAnswer::Picked(11)));
        assert_eq!(take_all(&mut Tally::of(9), "1"), Some(DialogAnswer::Picked(0)));
    }

    #[test]
    fn what_no_number_begins_with_is_not_taken_and_digits_can_be_erased() {
        let mut tally = Tally::of(12);
        for stroke in ['0', 'x', '1', '7'] {
            assert_eq!(tally.take(DialogKey::Letter(stroke)), None);
        }
        assert!(tally.fits(1) && tally.fits(11) && !tally.fits(2));
        assert_eq!(tally.take(DialogKey::Erase), None);
        assert!(tally.fits(2));
        assert_eq!(tally.take(DialogKey::Accept), None, "nothing is typed");
        assert_eq!(take_all(&mut tally, "2"), Some(DialogAnswer::Picked(1)));
        assert_eq!(tally.take(DialogKey::Dismiss), Some(DialogAnswer::Dismissed));
    }

    #[test]
    fn digits_typed_already_are_faint() {
        let mut fonts = Fonts::default();
        let faint = |tally: &Tally, fonts: &mut Fonts| {
            let canvas = tally.draw(fonts, 12, 2.0);
            canvas.pixels.contains(&Color::FAINT.0)
        };
        let mut tally = Tally::of(12);
        assert!(!faint(&tally, &mut fonts));
        tally.take(DialogKey::Letter('1'));
        assert!(faint(&tally, &mut fonts));
    }
}
