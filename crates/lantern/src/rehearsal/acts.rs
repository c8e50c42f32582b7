//! What a scene lets happen.

use std::time::Duration;

use lantern_gesture::strokes_of_words;
use lantern_model::{Event, Key, KeyCombination, KeySpec, Point, Rect, StrokePath};
use lantern_script::scene::{SceneAct, Sketch};

use super::{KEY_DOWN, ScenePlayer};
use crate::text::reference_layout;

/// From one key of a typed text to the next.
const TYPING: Duration = Duration::from_millis(30);
/// How long a shape takes to draw.
const DRAWING: Duration = Duration::from_millis(300);
/// From one of its strokes to the next.
const BETWEEN_STROKES: Duration = Duration::from_millis(150);
/// Number of parts in which the path of a stroke is sent.
const PIECES: usize = 8;

impl ScenePlayer {
    pub(super) fn act(&mut self, act: &SceneAct) {
        if !matches!(act, SceneAct::Expect(_) | SceneAct::Wait) {
            self.timeline.come(self.now, act.to_string());
        }
        match act {
            SceneAct::Key(combo, device) => self.press_for(combo, KEY_DOWN, device.as_deref()),
            SceneAct::Holds(combo, span) => self.press_for(combo, *span, None),
            SceneAct::Presses(combo) => {
                self.press_keys(combo, None);
            }
            SceneAct::LetsGo(combo) => {
                for key in keys_of(combo).into_iter().rev() {
                    self.backend.release(key);
                    self.settle();
                }
            }
            SceneAct::Types(text) => self.type_text(text),
            SceneAct::MovesTo(x, y) => self.backend.move_to(*x, *y),
            SceneAct::Draws(sketch, key, score) => self.draw(sketch, *key, *score),
            SceneAct::WindowOpens(app, title) => {
                self.backend.open(app);
                if let Some(title) = title {
                    self.backend.set_title(title);
                }
            }
            SceneAct::WindowFocused(app) if self.backend.is_open(app) => self.backend.open(app),
            SceneAct::WindowFocused(app) => {
                self.timeline.note(self.now, None, format!("{app} is not open"));
            }
            SceneAct::WindowTitle(title) => self.backend.set_title(title),
            SceneAct::Copies(text) => self.backend.copy(text),
            SceneAct::Answers(value) => {
                if let Some((effect, answer)) = self.world.answer(value.clone()) {
                    self.finish_effect(effect, answer);
                }
            }
            SceneAct::Fails(reason) => {
                if let Some((effect, answer)) = self.world.fail(reason.clone()) {
                    self.finish_effect(effect, answer);
                }
            }
            SceneAct::Hears(words, score) => {
                let (words, began) = (words.clone(), Duration::ZERO);
                self.tell(Event::Heard { words, score: *score, began });
            }
            SceneAct::Line(device, text) => {
                let bytes = text.clone().into_bytes();
                self.tell(Event::Bytes { device: device.clone(), bytes });
            }
            SceneAct::Message(topic, text, device) => {
                let (topic, text) = (topic.clone(), text.clone());
                self.tell(Event::Message { device: device.clone(), topic, text });
            }
            SceneAct::Call(path, text, device) => {
                let (path, text) = (path.clone(), text.clone());
                let (number, caller) = (0, String::new());
                let device = device.clone();
                self.tell(Event::Call { call: number, device, caller, path, text });
            }
            SceneAct::Locks(locked) => self.tell(Event::Locked(*locked)),
            SceneAct::Pauses(pauses) => {
                let order = if *pauses {
                    lantern_engine::Engine::pause
                } else {
                    lantern_engine::Engine::resume
                };
                order(&mut self.engine, self.now, None).expect("all of it needs no name");
            }
            SceneAct::Clock(wall) => self.tell(Event::WallClock(*wall)),
            SceneAct::Expect(_) | SceneAct::Wait => {}
        }
        self.settle();
    }

    /// Presses keys and lets them go later.
    fn press_for(&mut self, combo: &KeyCombination, span: Duration, device: Option<&str>) {
        let mut keys = self.press_keys(combo, device);
        keys.reverse();
        self.release_later(keys, span);
    }

    fn release_later(&mut self, keys: Vec<Key>, span: Duration) {
        self.released += 1;
        self.releases.insert((self.now + span, self.released), keys);
    }

    fn press_keys(&mut self, combo: &KeyCombination, device: Option<&str>) -> Vec<Key> {
        let keys = keys_of(combo);
        for key in &keys {
            match device {
                Some(device) => self.backend.press_on(self.now, *key, device),
                None => self.backend.press(self.now, *key),
            }
            self.settle();
        }
        keys
    }

    /// Types characters one after another; characters that the layout lacks are skipped.
    fn type_text(&mut self, text: &str) {
        let layout = reference_layout();
        for character in text.chars() {
            let Some((key, level)) = layout.group().key_for(character) else { continue };
            let with = level.modifier_keys().iter().map(|side| side.key());
            let keys: Vec<Key> = with.chain([key]).collect();
            for key in &keys {
                self.backend.press(self.now, *key);
                self.settle();
            }
            for key in keys.iter().rev() {
                self.backend.release(*key);
                self.settle();
            }
            self.advance_to(self.now + TYPING);
        }
    }

    fn draw(&mut self, sketch: &Sketch, key: KeySpec, score: Option<f64>) {
        let Some(key) = reference_layout().resolve(key) else { return };
        match (sketch, score, self.strokes_of(sketch)) {
            (_, None, Some(strokes)) => self.trace(key, &strokes),
            (Sketch::Shape(shape), ..) => self.tell_drawn(shape, key, score.unwrap_or(1.0)),
            _ => {}
        }
    }

    /// The strokes of a sketch, if they are known; those of words begin where the pointer is.
    fn strokes_of(&self, sketch: &Sketch) -> Option<Vec<StrokePath>> {
        let strokes = match sketch {
            Sketch::Along(strokes) => return Some(strokes.clone()),
            Sketch::Drawn(_) => return None,
            Sketch::Path(words) => {
                strokes_of_words(words.iter().map(String::as_str)).swap_remove(0)
            }
            Sketch::Shape(name) => {
                let shapes = &self.engine.rules().shapes;
                let shape = shapes.iter().find(|shape| shape.name == *name)?;
                shape.drawings.first()?.clone()
            }
        };
        let first = *strokes.first()?.first()?;
        let (x, y) = self.backend.pointer();
        let place = |point: &Point| (point.0 - first.0 + x as f32, point.1 - first.1 + y as f32);
        Some(strokes.iter().map(|stroke| stroke.iter().map(place).collect()).collect())
    }

    /// Draws strokes, each with a press of its own.
    fn trace(&mut self, key: Key, strokes: &[StrokePath]) {
        for (number, stroke) in strokes.iter().enumerate() {
            if number > 0 {
                self.advance_to(self.now + BETWEEN_STROKES);
            }
            self.backend.press(self.now, key);
            self.settle();
            let step = DRAWING / PIECES as u32;
            for points in stroke.chunks(stroke.len().div_ceil(PIECES)) {
                self.tell(Event::PointerPath(points.to_vec()));
                self.advance_to(self.now + step);
            }
            if let Some((x, y)) = stroke.last() {
                self.backend.move_to(x.round() as i32, y.round() as i32);
            }
            self.backend.release(key);
            self.settle();
        }
    }

    /// A scene reports a gesture itself.
    fn tell_drawn(&mut self, shape: &str, key: Key, score: f64) {
        self.backend.press(self.now, key);
        self.settle();
        self.advance_to(self.now + DRAWING);
        let (x, y) = self.backend.pointer();
        let frame = Rect { x, y, width: 120, height: 80 };
        self.tell(Event::Gesture { shape: shape.to_owned(), key, bounds: frame, score });
        self.release_later(vec![key], KEY_DOWN);
    }
}

fn keys_of(combo: &KeyCombination) -> Vec<Key> {
    let layout = reference_layout();
    layout
        .press_order(combo)
        .unwrap_or_else(|_| combo.0.iter().filter_map(|part| layout.resolve(*part)).collect())
}
