//! The keyboard with what is taken, once for each set of modifiers that some rule uses.

use lantern_model::{Key, Modifier, ModifierKey, ModifierSet};
use svg::Document;
use svg::node::element::Title;

use super::{FAINT, GUIDE, HELD, INK, TAKEN, block, sheet, shortened, words};

/// A key that a rule takes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Binding {
    /// The modifiers' words, joined; empty for none.
    pub modifiers: String,
    /// The key, or all plain keys of the combination.
    pub keys: Vec<Key>,
    /// The whole combination as written.
    pub combo: String,
    /// Where it is taken, in words; empty for everywhere.
    pub place: String,
    /// The rule.
    pub rule: String,
    /// File and line.
    pub at: String,
}

impl Binding {
    /// The modifiers that are held, whichever side the rule names.
    pub fn families(&self) -> ModifierSet {
        let family = |word: &str| match word {
            "alt-gr" | "right-alt" => Some(Modifier::Level3),
            word => {
                Modifier::from_word(word.trim_start_matches("left-").trim_start_matches("right-"))
            }
        };
        self.modifiers.split('+').filter_map(family).fold(ModifierSet::NONE, ModifierSet::with)
    }
}

const WIDTH: f64 = 1280.0;
const UNIT: f64 = 37.0;
const LEFT: f64 = 24.0;
/// Where the list beside a keyboard begins.
const LIST: f64 = LEFT + 23.0 * UNIT + 18.0;

/// Rows of a keyboard: each key's W3C code and width in units; an empty code is a gap.
const ROWS: &[&[(&str, f64)]] = &[
    &[
        ("Escape", 1.0),
        ("", 1.0),
        ("F1", 1.0),
        ("F2", 1.0),
        ("F3", 1.0),
        ("F4", 1.0),
        ("", 0.5),
        ("F5", 1.0),
        ("F6", 1.0),
        ("F7", 1.0),
        ("F8", 1.0),
        ("", 0.5),
        ("F9", 1.0),
        ("F10", 1.0),
        ("F11", 1.0),
        ("F12", 1.0),
        ("", 0.25),
        ("PrintScreen", 1.0),
        ("ScrollLock", 1.0),
        ("Pause", 1.0),
    ],
    &[
        ("Backquote", 1.0),
        ("Digit1", 1.0),
        ("Digit2", 1.0),
        ("Digit3", 1.0),
        ("Digit4", 1.0),
        ("Digit5", 1.0),
        ("Digit6", 1.0),
        ("Digit7", 1.0),
        ("Digit8", 1.0),
        ("Digit9", 1.0),
        ("Digit0", 1.0),
        ("Minus", 1.0),
        ("Equal", 1.0),
        ("Backspace", 2.0),
        ("", 0.25),
        ("Insert", 1.0),
        ("Home", 1.0),
        ("PageUp", 1.0),
        ("", 0.25),
        ("NumLock", 1.0),
        ("NumpadDivide", 1.0),
        ("NumpadMultiply", 1.0),
        ("NumpadSubtract", 1.0),
    ],
    &[
        ("Tab", 1.5),
        ("KeyQ", 1.0),
        ("KeyW", 1.0),
        ("KeyE", 1.0),
        ("KeyR", 1.0),
        ("KeyT", 1.0),
        ("KeyY", 1.0),
        ("KeyU", 1.0),
        ("KeyI", 1.0),
        ("KeyO", 1.0),
        ("KeyP", 1.0),
        ("BracketLeft", 1.0),
        ("BracketRight", 1.0),
        ("Backslash", 1.5),
        ("", 0.25),
        ("Delete", 1.0),
        ("End", 1.0),
        ("PageDown", 1.0),
        ("", 0.25),
        ("Numpad7", 1.0),
        ("Numpad8", 1.0),
        ("Numpad9", 1.0),
        ("NumpadAdd", 1.0),
    ],
    &[
        ("CapsLock", 1.75),
        ("KeyA", 1.0),
        ("KeyS", 1.0),
        ("KeyD", 1.0),
        ("KeyF", 1.0),
        ("KeyG", 1.0),
        ("KeyH", 1.0),
        ("KeyJ", 1.0),
        ("KeyK", 1.0),
        ("KeyL", 1.0),
        ("Semicolon", 1.0),
        ("Quote", 1.0),
        ("Enter", 2.25),
        ("", 3.5),
        ("Numpad4", 1.0),
        ("Numpad5", 1.0),
        ("Numpad6", 1.0),
    ],
    &[
        ("ShiftLeft", 2.25),
        ("KeyZ", 1.0),
        ("KeyX", 1.0),
        ("KeyC", 1.0),
        ("KeyV", 1.0),
        ("KeyB", 1.0),
        ("KeyN", 1.0),
        ("KeyM", 1.0),
        ("Comma", 1.0),
        ("Period", 1.0),
        ("Slash", 1.0),
        ("ShiftRight", 2.75),
        ("", 1.25),
        ("ArrowUp", 1.0),
        ("", 1.25),
        ("Numpad1", 1.0),
        ("Numpad2", 1.0),
        ("Numpad3", 1.0),
        ("NumpadEnter", 1.0),
    ],
    &[
        ("ControlLeft", 1.25),
        ("MetaLeft", 1.25),
        ("AltLeft", 1.25),
        ("Space", 6.25),
        ("AltRight", 1.25),
        ("MetaRight", 1.25),
        ("ContextMenu", 1.25),
        ("ControlRight", 1.25),
        ("", 0.25),
        ("ArrowLeft", 1.0),
        ("ArrowDown", 1.0),
        ("ArrowRight", 1.0),
        ("", 0.25),
        ("Numpad0", 2.0),
        ("NumpadDecimal", 1.0),
    ],
];

/// Draws what is taken: a keyboard for each set of modifiers.
pub fn keyboard(bindings: &[Binding], file: &str) -> Document {
    let mut layers: Vec<&str> = Vec::new();
    for binding in bindings {
        if !layers.contains(&binding.modifiers.as_str()) {
            layers.push(&binding.modifiers);
        }
    }
    layers
        .sort_by_key(|layer| (layer.matches('+').count() + usize::from(!layer.is_empty()), *layer));
    if layers.is_empty() {
        layers.push("");
    }
    let own = |layer: &str| -> Vec<&Binding> {
        bindings.iter().filter(|binding| binding.modifiers == layer).collect()
    };
    let keyboard_height = ROWS.len() as f64 * UNIT + 8.0;
    let height = |layer: &str| (own(layer).len() as f64 * 16.0 + 8.0).max(keyboard_height) + 52.0;
    let total: f64 = layers.iter().map(|layer| height(layer)).sum();
    let mut picture = sheet(WIDTH, total + 64.0);
    picture = picture.add(words(LEFT, 36.0, 18.0, INK, &format!("keys that {file} takes")));
    let mut y = 60.0;
    for layer in layers {
        let title = if layer.is_empty() { "alone" } else { layer };
        picture = picture.add(words(LEFT, y + 14.0, 14.0, FAINT, title));
        picture = add_board(picture, y + 24.0, layer, &own(layer));
        for (line, binding) in own(layer).into_iter().enumerate() {
            let at = y + 38.0 + line as f64 * 16.0;
            let place =
                Some(&binding.place).filter(|place| !place.is_empty()).map(|p| format!(" ({p})"));
            let place = place.unwrap_or_default();
            let text = shortened(&format!("{}{place}", binding.rule), 44);
            picture = picture
                .add(words(LIST, at, 12.0, TAKEN, &shortened(&binding.combo, 20)))
                .add(words(LIST + 124.0, at, 12.0, INK, &text));
        }
        y += height(layer);
    }
    picture
}

fn add_board(mut picture: Document, top: f64, layer: &str, bindings: &[&Binding]) -> Document {
    let held: Vec<&str> = layer.split('+').collect();
    for (row, keys) in ROWS.iter().enumerate() {
        // The function row stands a little apart.
        let y = top + row as f64 * UNIT + if row > 0 { 8.0 } else { 0.0 };
        let mut x = LEFT;
        for (code, units) in *keys {
            let width = units * UNIT;
            if let Some(key) = Key::from_code(code) {
                let is_held = is_modifier_of(&held, key);
                picture = add_key(picture, (x, y), width, (key, is_held), bindings);
            }
            x += width;
        }
    }
    picture
}

fn add_key(
    picture: Document,
    (x, y): (f64, f64),
    width: f64,
    (key, is_held): (Key, bool),
    bindings: &[&Binding],
) -> Document {
    let takers: Vec<&&Binding> =
        bindings.iter().filter(|binding| binding.keys.contains(&key)).collect();
    let taken = !takers.is_empty();
    let said: Vec<String> = takers.iter().map(|b| format!("{}: {}", b.combo, b.rule)).collect();
    let (fill, edge, ink) = match (taken, is_held) {
        (true, _) => (TAKEN, TAKEN, "#ffffff"),
        (_, true) => (HELD, HELD, "#ffffff"),
        _ => ("#ffffff", GUIDE, FAINT),
    };
    let cap = block(x + 1.5, y + 1.5, width - 3.0, UNIT - 3.0, fill)
        .set("rx", 4)
        .set("stroke", edge)
        .add(Title::new(said.join("\n")));
    let label = short_label(key);
    let size = if label.chars().count() > 2 { 9.5 } else { 13.0 };
    let text = words(x + width / 2.0, y + UNIT / 2.0 + size * 0.35, size, ink, &label)
        .set("text-anchor", "middle");
    picture.add(cap).add(text)
}

/// Whether a key is one of the modifiers that are held.
fn is_modifier_of(held: &[&str], key: Key) -> bool {
    ModifierKey::of(key).is_some_and(|side| {
        held.contains(&side.modifier(false).word()) && side == side.modifier(false).default_key()
            || held.contains(&side.name())
    })
}

/// The label of the key cap, if there is room.
fn short_label(key: Key) -> String {
    let label = match key.name() {
        "left-shift" | "right-shift" => "shift",
        "left-ctrl" | "right-ctrl" => "ctrl",
        "left-alt" => "alt",
        "alt-gr" => "alt gr",
        "left-super" | "right-super" => "super",
        "print-screen" => "print",
        "scroll-lock" => "scroll",
        "caps-lock" => "caps",
        "num-lock" => "num",
        "page-up" => "pg up",
        "page-down" => "pg dn",
        "backspace" => "back",
        "pad-enter" => "enter",
        name if name.starts_with("pad-") => key.label(),
        _ => key.label(),
    };
    shortened(label, 7)
}
