//! Where the pointer goes: places in pixels or shares, at once or over a time.

use std::time::Duration;

use lantern_model::code::{Expr, MoveTarget};
use lantern_model::{InputAction, Rect, RunId, Time};

use crate::engine::Engine;
use crate::input::{InputJob, InputWork};
use crate::steps::{StepFlow, StepResult};

/// From one place of a slow movement to the next.
const PACE: Duration = Duration::from_millis(8);

impl Engine {
    pub(crate) fn do_move(
        &mut self,
        now: Time,
        id: RunId,
        to: &MoveTarget,
        over: Option<&Expr>,
    ) -> StepResult {
        let over = self.ask(now, id, |scope| scope.optional_duration(over))?;
        let act = self.act_of(now, id, to)?;
        if !self.acquire_input(now, id)? {
            return Ok(self.continue_now(id));
        }
        let Some(over) = over.filter(|over| *over > PACE) else {
            return Ok(self.await_input(now, id, vec![act]));
        };
        let (x, y) = self.pointer;
        let end = match act {
            InputAction::MoveBy(across, down) => (x.saturating_add(across), y.saturating_add(down)),
            InputAction::MoveTo(x, y) => (x, y),
            _ => unreachable!("a spot is moved to or by"),
        };
        let steps = (over.as_micros() / PACE.as_micros()).max(1) as usize;
        let pace = Some(over / steps as u32);
        let work = InputWork::Glide { from: (x, y), to: end, done: 0, steps };
        self.begin_job(
            now,
            id,
            InputJob { work, pace, due: now + over / steps as u32, window: None },
        );
        Ok(StepFlow::Wait)
    }

    fn act_of(&self, now: Time, id: RunId, to: &MoveTarget) -> Result<InputAction, String> {
        let [x, y] = to.coordinates();
        Ok(match to {
            MoveTarget::At(..) => {
                let (x, y) = self.ask(now, id, |scope| Ok((scope.pixels(x)?, scope.pixels(y)?)))?;
                if !self.screens.is_empty()
                    && !self.screens.iter().any(|screen| screen.contains((x, y)))
                {
                    let screens: Vec<String> = self.screens.iter().map(screen_words).collect();
                    return Err(format!(
                        "{x}, {y} is on no screen; there is {}",
                        screens.join(", ")
                    ));
                }
                InputAction::MoveTo(x, y)
            }
            MoveTarget::By(..) => {
                let (x, y) = self.ask(now, id, |scope| Ok((scope.pixels(x)?, scope.pixels(y)?)))?;
                InputAction::MoveBy(x, y)
            }
            MoveTarget::OfWindow(..) => {
                let frame =
                    self.app.bounds.ok_or("the back end does not report where the window is")?;
                self.share_of(now, id, frame, x, y)?
            }
            MoveTarget::OfScreen(..) => {
                let here = self.screens.iter().find(|screen| screen.contains(self.pointer));
                let frame = here.or(self.screens.first());
                let frame = frame.ok_or("the back end does not report the size of the screen")?;
                self.share_of(now, id, *frame, x, y)?
            }
        })
    }

    fn share_of(
        &self,
        now: Time,
        id: RunId,
        frame: Rect,
        x: &Expr,
        y: &Expr,
    ) -> Result<InputAction, String> {
        let (x, y) = self.ask(now, id, |scope| Ok((scope.share(x)?, scope.share(y)?)))?;
        // The far edge is the last pixel that belongs to it.
        let along = |start: i32, length: i32, share: f64| {
            start + (f64::from(length - 1) * share).round() as i32
        };
        Ok(InputAction::MoveTo(along(frame.x, frame.width, x), along(frame.y, frame.height, y)))
    }
}

fn screen_words(frame: &Rect) -> String {
    let Rect { x, y, width, height } = frame;
    format!("{width} x {height} at {x}, {y}")
}
