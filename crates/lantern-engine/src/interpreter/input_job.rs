//! What is left of a step of input, which is sent piece by piece, so that characters of two runs never
//! mix and a stop takes effect at once.

use std::time::Duration;

use lantern_model::{InputAction, Key, Time};

/// Characters in one piece without a pace.
const CHARACTERS: usize = 64;
/// Taps in one piece without a pace.
const TAPS: usize = 16;

/// What is left of a step of input.
#[derive(Debug)]
pub(super) struct InputJob {
    pub work: InputWork,
    /// From one character or tap to the next.
    pub pace: Option<Duration>,
    /// When the next piece is due.
    pub due: Time,
    /// The window it began in, if that must stay in front.
    pub window: Option<u64>,
}

/// What a step of input does.
#[derive(Debug)]
pub(super) enum InputWork {
    /// Tap each combination in turn, until `total` taps are done.
    Taps { combos: Vec<Vec<Key>>, done: usize, total: usize },
    /// Type the characters; `sure` are those before the piece that is being sent.
    Text { text: Vec<char>, done: usize, sure: usize },
    /// Move the pointer evenly from one place to another.
    Glide { from: (i32, i32), to: (i32, i32), done: usize, steps: usize },
}

impl InputWork {
    /// Types a text.
    pub(super) fn text(text: &str) -> InputWork {
        InputWork::Text { text: text.chars().collect(), done: 0, sure: 0 }
    }
}

impl InputJob {
    pub(super) fn is_done(&self) -> bool {
        match &self.work {
            InputWork::Taps { done, total, .. } => done >= total,
            InputWork::Text { text, done, .. } => *done >= text.len(),
            InputWork::Glide { done, steps, .. } => done >= steps,
        }
    }

    /// How much of a text the program has for certain, for a person; empty where there is none.
    pub(super) fn typed_words(&self) -> String {
        match &self.work {
            InputWork::Text { text, sure, .. } if *sure > 0 => {
                format!("; {sure} of {} characters were typed", text.len())
            }
            _ => String::new(),
        }
    }

    /// Takes the next piece.
    pub(super) fn next_actions(&mut self) -> Vec<InputAction> {
        let is_paced = self.pace.is_some();
        match &mut self.work {
            InputWork::Taps { combos, done, total } => {
                let count = if is_paced { 1 } else { TAPS }.min(*total - *done);
                let piece = *done..*done + count;
                *done += count;
                piece.map(|at| InputAction::Tap(combos[at % combos.len()].clone())).collect()
            }
            InputWork::Text { text, done, sure } => {
                *sure = *done;
                let count = if is_paced { 1 } else { CHARACTERS }.min(text.len() - *done);
                let piece = text[*done..*done + count].iter().collect();
                *done += count;
                vec![InputAction::Text(piece)]
            }
            InputWork::Glide { from, to, done, steps } => {
                *done += 1;
                let share = *done as f64 / *steps as f64;
                let along =
                    |from: i32, to: i32| from + (f64::from(to - from) * share).round() as i32;
                vec![InputAction::MoveTo(along(from.0, to.0), along(from.1, to.1))]
            }
        }
    }

    /// Sets when the piece after the one sent at `now` is due. Pieces that are late are not made up for.
    pub(super) fn set_next_due(&mut self, now: Time) {
        let Some(pace) = self.pace else { return };
        self.due = now.max(self.due + pace);
        if self.due == now && !pace.is_zero() {
            self.due = now + pace;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn job(work: InputWork, pace: Option<Duration>) -> InputJob {
        InputJob { work, pace, due: Time::START, window: None }
    }

    #[test]
    fn a_long_text_is_sent_in_pieces_and_what_is_certain_is_counted() {
        let mut job = job(InputWork::text(&"core ".repeat(20)), None);
        assert_eq!(job.next_actions().len(), 1);
        assert_eq!(job.typed_words(), "", "the first piece may be lost");
        assert!(!job.is_done());
        job.next_actions();
        assert_eq!(job.typed_words(), "; 64 of 100 characters were typed");
        assert!(job.is_done());
    }

    #[test]
    fn a_paced_job_sends_one_at_a_time_and_is_never_due_at_once() {
        let pace = Duration::from_millis(10);
        let mut job = job(InputWork::text("ab"), Some(pace));
        assert_eq!(job.next_actions(), [InputAction::Text("a".to_owned())]);
        job.set_next_due(Time::START);
        assert_eq!(job.due, Time::START + pace);
        job.set_next_due(Time::START + pace * 2);
        assert_eq!(job.due, Time::START + pace * 3, "a late piece is not made up for");
    }

    #[test]
    fn a_glide_ends_where_it_should() {
        let mut job = job(InputWork::Glide { from: (0, 9), to: (10, -9), done: 0, steps: 3 }, None);
        let places: Vec<_> =
            std::iter::from_fn(|| (!job.is_done()).then(|| job.next_actions())).collect();
        assert_eq!(
            places.concat(),
            [(3, 3), (7, -3), (10, -9)].map(|(x, y)| InputAction::MoveTo(x, y))
        );
    }
}
