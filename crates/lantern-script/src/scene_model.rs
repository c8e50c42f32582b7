//! Rehearsal scenes: what comes in and when, and what must go out.
//!
//! Owns the form of a scene as read by the parser and written by [`SceneAct`]'s `Display`.
//! Playing one is up to the caller, who owns a back end and an engine.

use std::fmt;
use std::time::Duration;

use lantern_model::{KeyCombination, KeySpec, StrokePath, Time, Value, WallTime};

use crate::Span;

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

/// What is drawn in a scene.
#[derive(Debug, Clone, PartialEq)]
pub enum Sketch {
    /// A shape of the rules, by its name.
    Shape(String),
    /// `path "words"`
    Path(Vec<String>),
    /// `along "x,y x,y / x,y"`: places of the screen, strokes divided by a slash.
    Along(Vec<StrokePath>),
    /// `drawn "file"`: the first drawing of a file.
    Drawn(String),
}

impl fmt::Display for Sketch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Sketch::Shape(name) => f.write_str(name),
            Sketch::Path(words) => write!(f, "path {}", quoted(&words.join(" "))),
            Sketch::Drawn(file) => write!(f, "drawn {}", quoted(file)),
            Sketch::Along(strokes) => {
                let points = |stroke: &StrokePath| {
                    let points = stroke.iter().map(|(x, y)| format!("{x},{y}"));
                    points.collect::<Vec<_>>().join(" ")
                };
                let strokes: Vec<String> = strokes.iter().map(points).collect();
                write!(f, "along {}", quoted(&strokes.join(" / ")))
            }
        }
    }
}

/// The strokes that a text of places means: `x,y x,y / x,y`.
pub(crate) fn strokes_of_text(text: &str) -> Option<Vec<StrokePath>> {
    let point = |words: &str| {
        let (x, y) = words.split_once(',')?;
        let [x, y] = [x.parse::<f32>().ok()?, y.parse::<f32>().ok()?];
        (x.is_finite() && y.is_finite()).then_some((x, y))
    };
    let stroke = |words: &str| words.split_whitespace().map(point).collect::<Option<StrokePath>>();
    let strokes: Vec<StrokePath> = text.split('/').map(stroke).collect::<Option<_>>()?;
    strokes.iter().all(|stroke| !stroke.is_empty()).then_some(strokes)
}

/// What a line of a scene does.
#[derive(Debug, Clone, PartialEq)]
pub enum SceneAct {
    /// `key COMBO [from device "x"]`: pressed and let go within 50 ms.
    Key(KeyCombination, Option<String>),
    /// `holds COMBO for D`
    Holds(KeyCombination, Duration),
    /// `presses COMBO`: goes down and stays down.
    Presses(KeyCombination),
    /// `lets go COMBO`
    LetsGo(KeyCombination),
    /// `types "text"`: one key after another, 30 ms apart.
    Types(String),
    /// `moves to X, Y`: the person moves the pointer.
    MovesTo(i32, i32),
    /// `hears "words" [score N]`
    Hears(String, f64),
    /// `draws SHAPE holding KEY [score N]`. With a score the shape counts as recognised, without one it
    /// is drawn and recognised.
    Draws(Sketch, KeySpec, Option<f64>),
    /// `line DEVICE "text"`: these bytes come from the device.
    Line(String, String),
    /// `message "topic" "text" on BROKER`
    Message(String, String, String),
    /// `call "/path" ["text"] on LISTENER`
    Call(String, String, String),
    /// `window opens app "x" [title "y"]`: a program starts and comes to the front.
    WindowOpens(String, Option<String>),
    /// `window focused app "x"`: a program that is open comes to the front.
    WindowFocused(String),
    /// `window title "y"`: the window in front has another title.
    WindowTitle(String),
    /// `locks`, `unlocks`
    Locks(bool),
    /// `pauses`, `resumes`: everything, as `lantern pause` does
    Pauses(bool),
    /// `clock "2031-06-21 23:59" [offset D]`: what the wall clock shows from now on.
    Clock(WallTime),
    /// `answers VALUE`: what the next step that asks gets.
    Answers(Value),
    /// `fails "reason"`: the next step that asks something of the world fails.
    Fails(String),
    /// `copies "text"`: the clipboard holds it.
    Copies(String),
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
    Tapped(KeyCombination),
    /// A button was clicked, or a wheel turned, so often.
    Clicked(KeyCombination, usize),
    /// The pointer moved to this place.
    PointerAt(i32, i32),
    /// A hint was shown.
    Hint(TextTest),
    /// A line was logged.
    Logged(TextTest),
    /// Something was asked of the world, by the word for it that has been done.
    Done(&'static str, TextTest),
    /// A run ended because a step failed.
    Failed(TextTest),
    /// A key of the person's reached the program.
    Reached(KeyCombination),
    /// These keys are down for the program now.
    Down(KeyCombination),
    /// None of these keys is down for the program now.
    Up(KeyCombination),
    /// Nothing went out, and nothing does for this long.
    Nothing(Duration),
}

/// The words for what is expected of the world, each with the step that does it.
pub const DONE_WORDS: &[(&str, &str)] = &[
    ("launched", "launch"),
    ("ran", "run"),
    ("shelled", "shell"),
    ("opened", "open"),
    ("ended", "end"),
    ("focused", "focus"),
    ("closed", "close"),
    ("chose", "choose"),
    ("tallied", "tally"),
    ("pasted", "paste"),
    ("notified", "notify"),
    ("said", "say"),
    ("played", "play"),
    ("volume", "volume"),
    ("asked", "ask"),
    ("confirmed", "confirm"),
    ("picked", "pick"),
    ("sent", "send"),
    ("published", "publish"),
    ("got", "get"),
    ("put", "put"),
    ("posted", "post"),
];

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

impl fmt::Display for TextTest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            TextTest::Is(text) => f.write_str(&quoted(text)),
            TextTest::Contains(text) => write!(f, "contains {}", quoted(text)),
        }
    }
}

/// A text between quotes, as the language reads it.
pub fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for character in text.chars() {
        match character {
            '"' => quoted.push_str("\\\""),
            '\\' => quoted.push_str("\\\\"),
            '\n' => quoted.push_str("\\n"),
            '\r' => quoted.push_str("\\r"),
            '\t' => quoted.push_str("\\t"),
            '{' => quoted.push_str("{{"),
            '}' => quoted.push_str("}}"),
            other if other.is_control() => {
                quoted.push_str(&format!("\\u{{{:x}}}", u32::from(other)));
            }
            other => quoted.push(other),
        }
    }
    quoted + "\""
}

/// A value as the language writes it, for the kinds a scene can give.
fn written(value: &Value) -> String {
    match value {
        Value::Text(text) => quoted(text),
        Value::Key(combo) => format!("key {combo}"),
        Value::List(values) => {
            let parts: Vec<String> = values.iter().map(written).collect();
            format!("[{}]", parts.join(", "))
        }
        other => other.to_string(),
    }
}

impl fmt::Display for SceneAct {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SceneAct::Key(combo, None) => write!(f, "key {combo}"),
            SceneAct::Key(combo, Some(device)) => {
                write!(f, "key {combo} from device {}", quoted(device))
            }
            SceneAct::Holds(combo, span) => {
                write!(f, "holds {combo} for {}", Value::Duration(*span))
            }
            SceneAct::Presses(combo) => write!(f, "presses {combo}"),
            SceneAct::LetsGo(combo) => write!(f, "lets go {combo}"),
            SceneAct::Types(text) => write!(f, "types {}", quoted(text)),
            SceneAct::MovesTo(x, y) => write!(f, "moves to {x}, {y}"),
            SceneAct::Hears(words, score) if *score >= 1.0 => write!(f, "hears {}", quoted(words)),
            SceneAct::Hears(words, score) => write!(f, "hears {} score {score}", quoted(words)),
            SceneAct::Draws(sketch, key, None) => write!(f, "draws {sketch} holding {key}"),
            SceneAct::Draws(sketch, key, Some(score)) => {
                write!(f, "draws {sketch} holding {key} score {score}")
            }
            SceneAct::Line(device, text) => write!(f, "line {device} {}", quoted(text)),
            SceneAct::Message(topic, text, broker) => {
                write!(f, "message {} {} on {broker}", quoted(topic), quoted(text))
            }
            SceneAct::Call(path, text, listener) if text.is_empty() => {
                write!(f, "call {} on {listener}", quoted(path))
            }
            SceneAct::Call(path, text, listener) => {
                write!(f, "call {} {} on {listener}", quoted(path), quoted(text))
            }
            SceneAct::WindowOpens(app, None) => write!(f, "window opens app {}", quoted(app)),
            SceneAct::WindowOpens(app, Some(title)) => {
                write!(f, "window opens app {} title {}", quoted(app), quoted(title))
            }
            SceneAct::WindowFocused(app) => write!(f, "window focused app {}", quoted(app)),
            SceneAct::WindowTitle(title) => write!(f, "window title {}", quoted(title)),
            SceneAct::Locks(true) => f.write_str("locks"),
            SceneAct::Locks(false) => f.write_str("unlocks"),
            SceneAct::Pauses(true) => f.write_str("pauses"),
            SceneAct::Pauses(false) => f.write_str("resumes"),
            SceneAct::Clock(wall) => {
                write!(f, "clock \"{wall}\"")?;
                match wall.offset {
                    0 => Ok(()),
                    offset => write!(f, " offset {}", offset / 60),
                }
            }
            SceneAct::Answers(value) => write!(f, "answers {}", written(value)),
            SceneAct::Fails(reason) => write!(f, "fails {}", quoted(reason)),
            SceneAct::Copies(text) => write!(f, "copies {}", quoted(text)),
            SceneAct::Expect(expectation) => write!(f, "expect {expectation}"),
            SceneAct::Wait => Ok(()),
        }
    }
}

impl fmt::Display for Expectation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let thing = |combo: &KeyCombination| {
            let name = combo.to_string();
            match name.strip_prefix("wheel-") {
                Some(way) => format!("scrolled {way}"),
                None => format!("clicked {}", name.trim_end_matches("-button")),
            }
        };
        match self {
            Expectation::Typed(test) => write!(f, "typed {test}"),
            Expectation::Tapped(combo) => write!(f, "tapped {combo}"),
            Expectation::Clicked(combo, 1) => f.write_str(&thing(combo)),
            Expectation::Clicked(combo, count) if thing(combo).starts_with("scrolled") => {
                write!(f, "{} {count}", thing(combo))
            }
            Expectation::Clicked(combo, count) => write!(f, "{} {count} times", thing(combo)),
            Expectation::PointerAt(x, y) => write!(f, "pointer at {x}, {y}"),
            Expectation::Hint(test) => write!(f, "hint {test}"),
            Expectation::Logged(test) => write!(f, "logged {test}"),
            Expectation::Done(word, test) => write!(f, "{word} {test}"),
            Expectation::Failed(test) => write!(f, "failed {test}"),
            Expectation::Reached(combo) => write!(f, "reached {combo}"),
            Expectation::Down(combo) => write!(f, "down {combo}"),
            Expectation::Up(combo) => write!(f, "up {combo}"),
            Expectation::Nothing(span) if span.is_zero() => f.write_str("nothing"),
            Expectation::Nothing(span) => write!(f, "nothing for {}", Value::Duration(*span)),
        }
    }
}
