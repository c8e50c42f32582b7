//! Which keys a program takes for a paste, and which clipboard it takes the text from.

use lantern_model::{Key, KeySpec, Layout};

/// Programs that paste what is selected (the primary selection), on shift+insert.
const OLD_TERMINALS: [&str; 4] = ["xterm", "uxterm", "urxvt", "rxvt"];
/// Part of the names of terminals that paste the clipboard on ctrl+shift+v.
const TERMINALS: [&str; 9] =
    ["term", "konsole", "kitty", "tilix", "foot", "ghostty", "alacritty", "ptyxis", "console"];

/// How a program pastes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PasteKeys {
    /// From the clipboard, on ctrl+v.
    Clipboard,
    /// From the clipboard, on ctrl+shift+v, as ctrl+v means something else in a terminal.
    TerminalClipboard,
    /// From the primary selection, on shift+insert.
    Primary,
}

impl PasteKeys {
    /// How the program with these names, in lower case, pastes.
    pub fn of_program(names: &[String]) -> PasteKeys {
        if names.iter().any(|name| OLD_TERMINALS.contains(&name.as_str())) {
            PasteKeys::Primary
        } else if names.iter().any(|name| TERMINALS.iter().any(|part| name.contains(part))) {
            PasteKeys::TerminalClipboard
        } else {
            PasteKeys::Clipboard
        }
    }

    /// The keys of the keyboard that paste under that layout, in the order in which they are pressed.
    pub fn keys(self, layout: &Layout) -> Vec<Key> {
        let names: &[&str] = match self {
            PasteKeys::Clipboard => &["left-ctrl", "v"],
            PasteKeys::TerminalClipboard => &["left-ctrl", "left-shift", "v"],
            PasteKeys::Primary => &["left-shift", "insert"],
        };
        let key = |name: &&str| layout.resolve(KeySpec::Named(Key::named(name)?));
        names.iter().filter_map(key).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pressed(program: &str, layout: &str) -> Vec<&'static str> {
        let layout = Layout::named(layout).expect("it is known");
        let keys = PasteKeys::of_program(&[program.to_owned()]).keys(&layout);
        keys.into_iter().map(Key::name).collect()
    }

    #[test]
    fn each_program_gets_the_keys_it_pastes_on() {
        assert_eq!(pressed("mousepad", "us"), ["left-ctrl", "v"]);
        for terminal in ["foot", "gnome-terminal-server", "org.kde.konsole", "alacritty"] {
            assert_eq!(pressed(terminal, "us"), ["left-ctrl", "left-shift", "v"], "{terminal}");
        }
        assert_eq!(pressed("xterm", "us"), ["left-shift", "insert"]);
    }

    #[test]
    fn the_key_is_the_one_that_gives_v_in_the_layout() {
        let layout = Layout::us();
        let mut caps = std::collections::BTreeMap::new();
        let dot = Key::named("period").or(Key::named("dot")).expect("it is in the table");
        caps.insert(dot, [Some('v'), Some('V'), None, None]);
        let other = Layout { groups: vec![lantern_model::LayoutGroup::new(caps)], ..layout };
        assert_eq!(PasteKeys::Clipboard.keys(&other).last(), Some(&dot));
    }
}
