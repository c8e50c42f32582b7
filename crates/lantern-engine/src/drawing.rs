//! Gestures: the path of the pointer while a gesture key is held, stroke by stroke, until a shape is
//! recognised or the drawing is cancelled.
//!
//! A press with little movement is an ordinary press and is replayed to the program with its movement. A
//! longer path is never replayed; if no shape is recognised, the best match is reported.

use std::time::Duration;

use lantern_model::{
    EffectKind, Hint, HintContent, HintPlace, Point, Rect, StrokePath, Time, TriggerKind,
};
use lantern_sense::{RankedShapes, Recognition, frame_of, is_drawing};

use crate::activation::Press;
use crate::decision_log::DecisionKind;
use crate::engine::Engine;
use crate::key_recognizer::Won;
use crate::key_stroke::{KeyStroke, key_stroke_of};
use crate::timers::Timer;

/// Time without movement after which a press is an ordinary one.
const STILL_AT_FIRST: Duration = Duration::from_millis(500);
/// Time without movement after which a drawing is cancelled.
const STILL: Duration = Duration::from_millis(1000);
/// Maximum time until the next stroke of a drawing begins.
const NEXT_STROKE: Duration = Duration::from_millis(450);
/// How long the name of a shape is shown.
const NAME_SHOWN: Duration = Duration::from_millis(900);
/// Places of one stroke at the most: a minute of a fast mouse.
const MOST_PLACES: usize = 60_000;

/// A drawing that is being made.
#[derive(Debug, Default)]
pub(crate) struct Drawing {
    /// What is held, as rules see it.
    held: Option<KeyStroke>,
    /// The press that the pen is down with.
    press: Option<u64>,
    /// Strokes that are done, and the press of the last.
    done: Vec<StrokePath>,
    last: u64,
    /// The stroke at hand.
    way: StrokePath,
    /// Whether it is long enough for one.
    begun: bool,
    moved_at: Time,
}

impl Drawing {
    fn take_way(&mut self) -> StrokePath {
        self.begun = false;
        self.press = None;
        std::mem::take(&mut self.way)
    }
}

fn is_drawn(way: &StrokePath) -> bool {
    is_drawing(std::slice::from_ref(way))
}

impl Engine {
    /// A key went down with which a shape may be drawn.
    pub(crate) fn begin_stroke(&mut self, now: Time, press: Press, held: KeyStroke) {
        let drawing = &mut self.drawing;
        if drawing.held != Some(held) {
            drawing.done.clear();
        }
        drawing.held = Some(held);
        drawing.press = Some(press.number);
        drawing.way.clear();
        drawing.begun = false;
        drawing.moved_at = now;
        self.timers.set(Timer::PointerStill(press.number), now + STILL_AT_FIRST);
    }

    /// The pointer went this way.
    pub(crate) fn handle_pointer_path(&mut self, now: Time, spots: &[Point]) {
        let Some(number) = self.drawing.press else { return };
        let drawing = &mut self.drawing;
        drawing.moved_at = now;
        let room = MOST_PLACES.saturating_sub(drawing.way.len());
        drawing.way.extend(spots.iter().take(room));
        if drawing.begun || !is_drawn(&drawing.way) {
            return;
        }
        drawing.begun = true;
        if let Some(waiting) = self.keys.waiting(number) {
            waiting.draw_on();
        }
    }

    /// Whether a shape is being drawn that is long enough for one.
    pub(crate) fn is_drawing(&self) -> bool {
        self.drawing.begun
    }

    /// The pointer may have been still for long.
    pub(crate) fn on_pointer_still(&mut self, now: Time, press: u64) {
        if self.drawing.press != Some(press) {
            return;
        }
        let due = self.drawing.moved_at + STILL;
        if self.drawing.begun && due > now {
            self.timers.set(Timer::PointerStill(press), due);
        } else {
            self.cancel_drawing(now, "the pointer was still");
        }
    }

    /// The drawing at hand is no more. A press that was not drawn with is an ordinary one.
    pub(crate) fn cancel_drawing(&mut self, now: Time, why: &str) {
        let Some(number) = self.drawing.press else { return };
        let begun = self.drawing.begun;
        self.drawing.take_way();
        self.timers.cancel(Timer::PointerStill(number));
        if let Some(waiting) = self.keys.waiting(number) {
            waiting.may_be_gesture = false;
            waiting.is_taken |= begun;
        }
        if begun {
            let why = format!("a drawing given up: {why}");
            self.record_decision(now, None, DecisionKind::NotRecognized(why));
            self.drop_strokes();
        } else {
            self.end_drawing(now);
        }
        self.resolve(now);
        self.request_grabs();
    }

    /// The key went up that a shape may have been drawn with; whether it was.
    pub(crate) fn end_stroke(&mut self, now: Time, number: u64) -> bool {
        if self.drawing.press != Some(number) {
            return false;
        }
        self.timers.cancel(Timer::PointerStill(number));
        let begun = self.drawing.begun;
        if !begun && !self.wants_tap() {
            // An ordinary press. What was drawn before it stands.
            let way = self.drawing.take_way();
            let found = self.keys.waiting(number);
            if let Some(give) = found.and_then(|waiting| waiting.replay.as_mut()) {
                let whole = |(x, y): &Point| (x.round() as i32, y.round() as i32);
                give.path = way.iter().map(whole).collect();
            }
            self.end_drawing(now);
            return false;
        }
        let mut way = self.drawing.take_way();
        if !begun {
            way.truncate(1);
        }
        self.drawing.done.push(way);
        self.drawing.last = number;
        if let Some(waiting) = self.keys.waiting(number) {
            waiting.more_strokes = true;
        }
        if self.may_go_on() {
            self.timers.set(Timer::NextStroke(number), now + NEXT_STROKE);
        } else {
            self.end_drawing(now);
        }
        true
    }

    /// No further stroke came in time.
    pub(crate) fn end_strokes(&mut self, now: Time, press: u64) {
        if self.drawing.press.is_none() && self.drawing.last == press {
            self.end_drawing(now);
            self.resolve(now);
            self.request_grabs();
        }
    }

    /// Discards the drawing, because a scene reports the gesture itself.
    pub(crate) fn forget_drawing(&mut self) {
        self.drawing.take_way();
        self.drop_strokes();
    }

    /// Presses of strokes that are done wait no more, and are not given back.
    fn drop_strokes(&mut self) {
        self.drawing.done.clear();
        for waiting in self.keys.pending.iter_mut().filter(|w| w.more_strokes) {
            waiting.more_strokes = false;
            waiting.is_taken = true;
        }
    }

    /// Which shape it is, now that it is done.
    fn end_drawing(&mut self, now: Time) {
        let strokes = std::mem::take(&mut self.drawing.done);
        let (Some(held), false) = (self.drawing.held, strokes.is_empty()) else { return };
        let press = self.keys.pending.iter().rev().find(|w| w.more_strokes).map(|w| w.press);
        let book = &self.triggers.shape_book;
        let found = book.recognise(&strokes, |shape| self.counts(shape, held));
        let only_taps = strokes.iter().all(|way| !is_drawn(way));
        match found.verdict {
            Recognition::Is(shape) => {
                let score = f64::from(found.ranked[0].score);
                let name = self.triggers.shape_book.name(shape).to_owned();
                self.drop_strokes();
                self.show_name(&name);
                let about = (frame(&strokes), score);
                self.fire_gesture(now, &name, about, press, |engine, won| engine.holds(won, held));
            }
            _ if only_taps => {
                for waiting in &mut self.keys.pending {
                    waiting.more_strokes = false;
                }
            }
            _ => {
                self.drop_strokes();
                let why = self.describe_miss(&found);
                self.show_name("no shape");
                self.record_decision(now, None, DecisionKind::NotRecognized(why));
            }
        }
    }

    fn show_name(&mut self, name: &str) {
        if self.rules.settings.draws_trail {
            let what = HintContent::Drawing(name.to_owned());
            let place = HintPlace::Pointer;
            self.emit(
                None,
                EffectKind::Hint(Hint { content: what, place, duration: NAME_SHOWN, rule: None }),
            );
        }
    }

    fn describe_miss(&self, found: &RankedShapes) -> String {
        let named = |at: usize| {
            let ranked = &found.ranked[at];
            let percent = (ranked.score * 100.0).round();
            format!("{} ({percent} %)", self.triggers.shape_book.name(ranked.shape))
        };
        match found.verdict {
            Recognition::TooClose => format!("drawn: both {} and {}", named(0), named(1)),
            Recognition::NoSuch => "drawn: no shape has as many strokes here".to_owned(),
            _ => format!("drawn: no shape; the nearest is {}", named(0)),
        }
    }

    /// Whether a rule here wants the shape drawn while that is held.
    fn counts(&self, shape: usize, held: KeyStroke) -> bool {
        let name = self.triggers.shape_book.name(shape);
        self.triggers.of_shape(name).iter().any(|won| self.holds(*won, held) && self.applies(*won))
    }

    /// Whether a trigger is a shape drawn while exactly that is held.
    pub(crate) fn holds(&self, (rule, trigger): Won, held: KeyStroke) -> bool {
        match &self.rules.rules[rule].triggers[trigger].kind {
            TriggerKind::Gesture { holding, .. } => {
                key_stroke_of(&holding.0, &self.layout).is_ok_and(|(stroke, _)| stroke == held)
            }
            _ => false,
        }
    }

    /// Whether what is drawn by now may be the beginning of a shape that counts here.
    fn may_go_on(&self) -> bool {
        let Some(held) = self.drawing.held else { return false };
        let counts = |shape: usize| self.counts(shape, held);
        self.triggers.shape_book.may_go_on(&self.drawing.done, counts)
    }

    /// Whether a tap may be the next stroke of a shape that counts here.
    fn wants_tap(&self) -> bool {
        let (Some(held), next) = (self.drawing.held, self.drawing.done.len()) else {
            return false;
        };
        let is_tap =
            |drawing: &Vec<StrokePath>| drawing.get(next).is_some_and(|way| !is_drawn(way));
        let shapes = self.rules.shapes.iter().enumerate();
        shapes
            .filter(|(_, shape)| shape.drawings.iter().any(is_tap))
            .any(|(number, _)| self.counts(number, held))
    }
}

/// The frame around a drawing.
fn frame(strokes: &[StrokePath]) -> Rect {
    let (left, top, right, bottom) = frame_of(strokes).unwrap_or_default();
    Rect {
        x: left.round() as i32,
        y: top.round() as i32,
        width: (right - left).round() as i32,
        height: (bottom - top).round() as i32,
    }
}
