//! Gestures: the path of the pointer while a gesture key is held, stroke by stroke, until a shape is
//! recognised or the drawing is cancelled.
//!
//! A press with little movement is an ordinary press and is replayed to the program with its movement. A
//! longer path is never replayed; if no shape is recognised, the best match is reported.
//!
//! Owns the drawing and the shapes that rules want. The engine hands it presses and paths, and fires what
//! it recognises.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_gesture::{RankedShapes, Recognition, ShapeIndex, frame_of, is_drawing};
use lantern_model::{Point, Rect, RuleSet, StrokePath, Time, TriggerKind, TriggerRef};

use crate::key_stroke::KeyStroke;
use crate::keys::{Press, ReleasedWith};
use crate::scope::Scope;
use crate::timers::{Timer, TimerQueue};

/// Time without movement after which a press is an ordinary one.
const STILL_AT_FIRST: Duration = Duration::from_millis(500);
/// Time without movement after which a drawing is cancelled.
const STILL: Duration = Duration::from_millis(1000);
/// Maximum time until the next stroke of a drawing begins.
const NEXT_STROKE: Duration = Duration::from_millis(450);
/// Maximum number of points of one stroke: a minute of a fast mouse.
const MOST_POINTS: usize = 60_000;

/// The shapes of a set of rules, with the triggers that want them.
#[derive(Debug, Default)]
pub(crate) struct ShapeTriggers {
    by_shape: BTreeMap<String, Vec<TriggerRef>>,
    /// The shapes of the set, by their numbers.
    shapes: ShapeIndex,
}

impl ShapeTriggers {
    pub(crate) fn new(rules: &RuleSet) -> ShapeTriggers {
        let mut by_shape: BTreeMap<String, Vec<TriggerRef>> = BTreeMap::new();
        for (trigger, kind) in rules.triggers() {
            if let TriggerKind::Gesture { shape, .. } = kind {
                by_shape.entry(shape.clone()).or_default().push(trigger);
            }
        }
        ShapeTriggers { by_shape, shapes: ShapeIndex::new(&rules.shapes) }
    }

    /// The triggers that want a shape.
    pub(crate) fn of_shape(&self, name: &str) -> &[TriggerRef] {
        self.by_shape.get(name).map_or(&[], Vec::as_slice)
    }
}

/// How a stroke ended.
#[derive(Debug)]
pub(crate) struct StrokeEnd {
    pub with: ReleasedWith,
    /// The path of the pointer during an ordinary press, in pixels.
    pub path: Vec<(i32, i32)>,
    /// Whether the drawing is complete.
    pub is_complete: bool,
}

/// A drawing that was cancelled.
#[derive(Debug, Clone, Copy)]
pub(crate) struct CancelledDrawing {
    /// The press that it was made with.
    pub press: u64,
    /// Whether it was long enough for a stroke.
    pub was_drawing: bool,
}

/// What the recogniser makes of a complete drawing.
#[derive(Debug)]
pub(crate) enum DrawingResult {
    /// A shape, drawn while this was held; the score is from 0 to 1.
    Shape { name: String, bounds: Rect, score: f64, held: KeyStroke },
    /// Taps of the key, which are ordinary presses.
    Taps,
    /// No shape, for this reason.
    NoShape(String),
}

/// The drawing that is being made.
#[derive(Debug, Default)]
pub(crate) struct GestureRecognizer {
    triggers: ShapeTriggers,
    /// What is held, as rules see it.
    held: Option<KeyStroke>,
    /// The press of the present stroke.
    press: Option<u64>,
    /// Strokes that are done.
    done: Vec<StrokePath>,
    /// The press of the last stroke that is done.
    last_press: u64,
    /// The present stroke.
    path: StrokePath,
    /// Whether it is long enough for one.
    is_drawing: bool,
    moved_at: Time,
}

impl GestureRecognizer {
    /// A recognizer without a drawing, for these shapes.
    pub(crate) fn new(triggers: ShapeTriggers) -> GestureRecognizer {
        GestureRecognizer { triggers, ..GestureRecognizer::default() }
    }

    pub(crate) fn triggers(&self) -> &ShapeTriggers {
        &self.triggers
    }

    /// Whether a shape is being drawn that is long enough for one.
    pub(crate) fn is_drawing(&self) -> bool {
        self.is_drawing
    }

    /// A key went down with which a shape may be drawn.
    pub(crate) fn begin_stroke(
        &mut self,
        now: Time,
        press: Press,
        held: KeyStroke,
        timers: &mut TimerQueue<Timer>,
    ) {
        if self.held != Some(held) {
            self.done.clear();
        }
        self.held = Some(held);
        self.press = Some(press.number);
        self.path.clear();
        self.is_drawing = false;
        self.moved_at = now;
        timers.set(Timer::PointerStill(press.number), now + STILL_AT_FIRST);
    }

    /// Takes the path of the pointer. Gives the press that it makes a drawing.
    pub(crate) fn extend(&mut self, now: Time, path: &[Point]) -> Option<u64> {
        let press = self.press?;
        self.moved_at = now;
        let room = MOST_POINTS.saturating_sub(self.path.len());
        self.path.extend(path.iter().take(room));
        if self.is_drawing || !is_stroke(&self.path) {
            return None;
        }
        self.is_drawing = true;
        Some(press)
    }

    /// Takes that the timer of a still pointer is due; whether the drawing must be cancelled.
    pub(crate) fn is_still(
        &mut self,
        now: Time,
        press: u64,
        timers: &mut TimerQueue<Timer>,
    ) -> bool {
        if self.press != Some(press) {
            return false;
        }
        let due = self.moved_at + STILL;
        let is_moving = self.is_drawing && due > now;
        if is_moving {
            timers.set(Timer::PointerStill(press), due);
        }
        !is_moving
    }

    /// Cancels the present stroke, if there is one.
    pub(crate) fn cancel(&mut self, timers: &mut TimerQueue<Timer>) -> Option<CancelledDrawing> {
        let press = self.press?;
        let was_drawing = self.is_drawing;
        self.take_path();
        timers.cancel(Timer::PointerStill(press));
        if was_drawing {
            self.done.clear();
        }
        Some(CancelledDrawing { press, was_drawing })
    }

    /// Takes that the key of a press went up with which a shape may be drawn.
    pub(crate) fn end_stroke(
        &mut self,
        now: Time,
        press: Press,
        scope: Scope<'_>,
        timers: &mut TimerQueue<Timer>,
    ) -> StrokeEnd {
        let none = StrokeEnd { with: ReleasedWith::NoStroke, path: Vec::new(), is_complete: false };
        if self.press != Some(press.number) {
            return none;
        }
        timers.cancel(Timer::PointerStill(press.number));
        let was_drawing = self.is_drawing;
        if !was_drawing && !self.wants_tap(scope) {
            // An ordinary press. What was drawn before it stands.
            let whole = |(x, y): &Point| (x.round() as i32, y.round() as i32);
            let path = self.take_path().iter().map(whole).collect();
            return StrokeEnd { path, is_complete: true, ..none };
        }
        let mut path = self.take_path();
        if !was_drawing {
            path.truncate(1);
        }
        self.done.push(path);
        self.last_press = press.number;
        let is_complete = !self.may_have_more_strokes(scope);
        if !is_complete {
            timers.set(Timer::NextStroke(press.number), now + NEXT_STROKE);
        }
        StrokeEnd { with: ReleasedWith::Stroke, is_complete, ..none }
    }

    /// Whether the timer for the stroke after that of a press ends the drawing.
    pub(crate) fn is_last_stroke(&self, press: u64) -> bool {
        self.press.is_none() && self.last_press == press
    }

    /// Discards the drawing.
    pub(crate) fn forget(&mut self) {
        self.take_path();
        self.done.clear();
    }

    /// Recognises the drawing, if there is one.
    pub(crate) fn finish(&mut self, scope: Scope<'_>) -> Option<DrawingResult> {
        let strokes = std::mem::take(&mut self.done);
        let held = self.held.filter(|_| !strokes.is_empty())?;
        let shapes = &self.triggers.shapes;
        let found = shapes.recognise(&strokes, |shape| self.is_wanted(shape, held, scope));
        let only_taps = strokes.iter().all(|path| !is_stroke(path));
        Some(match found.verdict {
            Recognition::Is(shape) => DrawingResult::Shape {
                name: shapes.name(shape).to_owned(),
                bounds: bounds_of(&strokes),
                score: f64::from(found.ranked[0].score),
                held,
            },
            _ if only_taps => DrawingResult::Taps,
            _ => DrawingResult::NoShape(self.describe_miss(&found)),
        })
    }

    fn take_path(&mut self) -> StrokePath {
        self.is_drawing = false;
        self.press = None;
        std::mem::take(&mut self.path)
    }

    fn describe_miss(&self, found: &RankedShapes) -> String {
        let named = |at: usize| {
            let ranked = &found.ranked[at];
            let percent = (ranked.score * 100.0).round();
            format!("{} ({percent} %)", self.triggers.shapes.name(ranked.shape))
        };
        match found.verdict {
            Recognition::TooClose => format!("drawn: both {} and {}", named(0), named(1)),
            Recognition::NoSuch => "drawn: no shape has as many strokes here".to_owned(),
            _ => format!("drawn: no shape; the nearest is {}", named(0)),
        }
    }

    /// Whether a rule that applies wants the shape drawn while that is held.
    fn is_wanted(&self, shape: usize, held: KeyStroke, scope: Scope<'_>) -> bool {
        let triggers = self.triggers.of_shape(self.triggers.shapes.name(shape));
        triggers
            .iter()
            .any(|trigger| scope.is_drawn_with(*trigger, held) && scope.applies(*trigger))
    }

    /// Whether what is drawn by now may be the beginning of a shape that is wanted.
    fn may_have_more_strokes(&self, scope: Scope<'_>) -> bool {
        let Some(held) = self.held else { return false };
        let is_wanted = |shape: usize| self.is_wanted(shape, held, scope);
        self.triggers.shapes.may_go_on(&self.done, is_wanted)
    }

    /// Whether a tap may be the next stroke of a shape that is wanted.
    fn wants_tap(&self, scope: Scope<'_>) -> bool {
        let Some(held) = self.held else { return false };
        let next = self.done.len();
        let is_tap =
            |drawing: &Vec<StrokePath>| drawing.get(next).is_some_and(|path| !is_stroke(path));
        let shapes = scope.rules.shapes.iter().enumerate();
        shapes
            .filter(|(_, shape)| shape.drawings.iter().any(is_tap))
            .any(|(number, _)| self.is_wanted(number, held, scope))
    }
}

/// Whether a path is long enough for a stroke.
fn is_stroke(path: &StrokePath) -> bool {
    is_drawing(std::slice::from_ref(path))
}

/// The bounds of a drawing, in pixels.
fn bounds_of(strokes: &[StrokePath]) -> Rect {
    let (left, top, right, bottom) = frame_of(strokes).unwrap_or_default();
    Rect {
        x: left.round() as i32,
        y: top.round() as i32,
        width: (right - left).round() as i32,
        height: (bottom - top).round() as i32,
    }
}

#[cfg(test)]
mod tests {
    use lantern_model::{Key, ModifierSet};

    use super::*;
    use crate::context::Context;

    fn at(millis: u64) -> Time {
        Time::START + Duration::from_millis(millis)
    }

    fn press(number: u64) -> Press {
        Press { key: Key::named("right-button").expect("a button"), number }
    }

    fn line(length: i32) -> Vec<Point> {
        (0..=length).map(|x| (x as f32, 0.0)).collect()
    }

    #[test]
    fn a_path_becomes_a_drawing_once_and_a_still_pointer_cancels_it() {
        let (mut gestures, mut timers) = (GestureRecognizer::default(), TimerQueue::default());
        let held = (press(1).key, ModifierSet::NONE);
        assert_eq!(gestures.extend(at(0), &line(200)), None, "no key is held");
        gestures.begin_stroke(at(0), press(1), held, &mut timers);
        assert_eq!(timers.next(), Some(at(0) + STILL_AT_FIRST));
        assert_eq!(gestures.extend(at(10), &line(1)), None);
        assert_eq!(gestures.extend(at(20), &line(200)), Some(1));
        assert_eq!(gestures.extend(at(30), &line(200)), None);
        assert!(!gestures.is_still(at(500), 1, &mut timers), "it moved 470 ms ago");
        assert!(!gestures.is_still(at(5_000), 2, &mut timers), "that press is another one");
        assert!(gestures.is_still(at(1_030), 1, &mut timers));
        let cancelled = gestures.cancel(&mut timers).expect("a drawing");
        assert!(cancelled.press == 1 && cancelled.was_drawing && !gestures.is_drawing());
        assert!(gestures.cancel(&mut timers).is_none());
    }

    #[test]
    fn a_short_press_is_an_ordinary_one_with_its_path() {
        let (mut gestures, mut timers) = (GestureRecognizer::default(), TimerQueue::default());
        let (rules, context) = (RuleSet::default(), Context::default());
        let scope = Scope { rules: &rules, context: &context };
        gestures.begin_stroke(at(0), press(1), (press(1).key, ModifierSet::NONE), &mut timers);
        gestures.extend(at(10), &[(4.4, 5.6)]);
        let end = gestures.end_stroke(at(20), press(1), scope, &mut timers);
        assert_eq!(end.with, ReleasedWith::NoStroke);
        assert_eq!(end.path, [(4, 6)]);
        assert!(end.is_complete && timers.next().is_none());
        assert!(gestures.finish(scope).is_none());
    }

    #[test]
    fn a_drawing_that_no_rule_wants_is_no_shape() {
        let (mut gestures, mut timers) = (GestureRecognizer::default(), TimerQueue::default());
        let (rules, context) = (RuleSet::default(), Context::default());
        let scope = Scope { rules: &rules, context: &context };
        gestures.begin_stroke(at(0), press(1), (press(1).key, ModifierSet::NONE), &mut timers);
        gestures.extend(at(10), &line(200));
        let end = gestures.end_stroke(at(20), press(1), scope, &mut timers);
        assert!(end.with == ReleasedWith::Stroke && end.is_complete);
        assert!(matches!(gestures.finish(scope), Some(DrawingResult::NoShape(_))));
        assert!(gestures.finish(scope).is_none());
    }
}
