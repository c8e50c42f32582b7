//! Rehearsal scenes: what comes in and when, and what must go out.
//!
//! Owns the form of a scene as read by [`parse_scene`]. Playing one is up to the caller, who owns a
//! desk and an engine.

use std::time::Duration;

use lantern_model::{Combo, Time};

use crate::Span;
pub use crate::parser::scene::parse_scene;

/// A scene, line by line.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Scene {
    /// Its lines, in order.
    pub lines: Vec<SceneLine>,
}

/// One line of a scene.
#[derive(Debug, Clone, PartialEq)]
pub struct SceneLine {
    /// When it happens, if it says so: since the start, counting `+D` from the line before.
    pub at: Option<Time>,
    /// What happens.
    pub act: SceneAct,
    /// Where it stands.
    pub span: Span,
}

/// What a line of a scene does.
#[derive(Debug, Clone, PartialEq)]
pub enum SceneAct {
    /// `key COMBO`: pressed and let go within 50 ms.
    Key(Combo),
    /// `holds COMBO for D`
    Holds(Combo, Duration),
    /// `window opens app "x"`: a program starts and comes to the front.
    WindowOpens(String),
    /// `window focused app "x"`: a program that is open comes to the front.
    WindowFocused(String),
    /// `expect ...`
    Expect(Expectation),
    /// A time alone: nothing but the clock moves.
    Wait,
}

/// What must have gone out since the expectation before.
#[derive(Debug, Clone, PartialEq)]
pub enum Expectation {
    /// Text came to the program in front.
    Typed(TextTest),
    /// A combination was tapped.
    Tapped(Combo),
    /// A button was clicked, or a wheel turned, so often.
    Clicked(Combo, usize),
    /// The pointer moved to this place.
    PointerAt(i32, i32),
    /// A program was started.
    Launched(TextTest),
    /// A hint was shown.
    Hint(TextTest),
    /// A line was logged.
    Logged(TextTest),
    /// Nothing went out, and nothing does for this long.
    Nothing(Duration),
}

/// How a text is compared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TextTest {
    /// The same text.
    Is(String),
    /// A part of it.
    Contains(String),
}

impl TextTest {
    /// Whether `text` passes.
    pub fn passes(&self, text: &str) -> bool {
        match self {
            TextTest::Is(wanted) => text == wanted,
            TextTest::Contains(part) => text.contains(part.as_str()),
        }
    }
}

impl std::fmt::Display for TextTest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            TextTest::Is(text) => write!(f, "{text:?}"),
            TextTest::Contains(text) => write!(f, "contains {text:?}"),
        }
    }
}

impl std::fmt::Display for Expectation {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Expectation::Typed(test) => write!(f, "typed {test}"),
            Expectation::Tapped(combo) => write!(f, "tapped {combo}"),
            Expectation::Clicked(combo, 1) => write!(f, "clicked {combo}"),
            Expectation::Clicked(combo, count) => write!(f, "clicked {combo} {count} times"),
            Expectation::PointerAt(x, y) => write!(f, "pointer at {x}, {y}"),
            Expectation::Launched(test) => write!(f, "launched {test}"),
            Expectation::Hint(test) => write!(f, "hint {test}"),
            Expectation::Logged(test) => write!(f, "logged {test}"),
            Expectation::Nothing(span) if span.is_zero() => f.write_str("nothing"),
            Expectation::Nothing(span) => {
                write!(f, "nothing for {}", lantern_model::Value::Duration(*span))
            }
        }
    }
}
