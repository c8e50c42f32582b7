//! A few layouts by name, for checks away from the keyboard they are for: what each key gives plain
//! and shifted, where it differs from a US keyboard, and with AltGr.
//!
//! Sources: the national standards' plain arrangements (BS 4822, DIN 2137-1, NF Z71-300's older
//! common form) as keyboards are sold with them.

use crate::layout::{Caps, us_caps};
use crate::{Key, Layout, LayoutGroup};

/// A row of keys by their places on a US keyboard, with the characters they give in that order:
/// plain, with shift and with AltGr; a blank for none.
struct KeyboardRow {
    places: &'static str,
    plain: &'static str,
    shifted: &'static str,
    third: &'static str,
}

const DIGITS: &str = "1234567890";

const GB: &[KeyboardRow] = &[
    KeyboardRow { places: "`", plain: "`", shifted: "¬", third: "¦" },
    KeyboardRow { places: DIGITS, plain: DIGITS, shifted: "!\"£$%^&*()", third: "   €      " },
    KeyboardRow { places: "'\\", plain: "'#", shifted: "@~", third: "  " },
];

const DE: &[KeyboardRow] = &[
    KeyboardRow { places: "`", plain: "^", shifted: "°", third: " " },
    KeyboardRow { places: DIGITS, plain: DIGITS, shifted: "!\"§$%&/()=", third: "  ²³  {[]}" },
    KeyboardRow { places: "-=", plain: "ß´", shifted: "?`", third: "\\ " },
    KeyboardRow { places: "yz", plain: "zy", shifted: "ZY", third: "  " },
    KeyboardRow { places: "qem", plain: "qem", shifted: "QEM", third: "@€µ" },
    KeyboardRow { places: "[]\\", plain: "ü+#", shifted: "Ü*'", third: " ~ " },
    KeyboardRow { places: ";'", plain: "öä", shifted: "ÖÄ", third: "  " },
    KeyboardRow { places: ",./", plain: ",.-", shifted: ";:_", third: "   " },
];

const FR: &[KeyboardRow] = &[
    KeyboardRow { places: "`", plain: "²", shifted: " ", third: " " },
    KeyboardRow { places: DIGITS, plain: "&é\"'(-è_çà", shifted: DIGITS, third: " ~#{[|`\\^@" },
    KeyboardRow { places: "-=", plain: ")=", shifted: "°+", third: "]}" },
    KeyboardRow { places: "qwaz", plain: "azqw", shifted: "AZQW", third: "    " },
    KeyboardRow { places: "e", plain: "e", shifted: "E", third: "€" },
    KeyboardRow { places: "[]\\", plain: "^$*", shifted: "¨£µ", third: " ¤ " },
    KeyboardRow { places: ";'", plain: "mù", shifted: "M%", third: "  " },
    KeyboardRow { places: "m,./", plain: ",;:!", shifted: "?./§", third: "    " },
];

impl Layout {
    /// The names of the layouts that are known by name.
    pub const NAMES: [&'static str; 4] = ["us", "gb", "de", "fr"];

    /// The layout with that name.
    ///
    /// ```
    /// use lantern_model::{Key, KeySpec, Layout};
    /// let layout = Layout::named("de").unwrap();
    /// let z = KeySpec::Named(Key::named("z").unwrap());
    /// assert_eq!(layout.resolve(z), Key::from_code("KeyY"));
    /// ```
    pub fn named(name: &str) -> Option<Layout> {
        let rows = match name {
            "us" => return Some(Layout::us()),
            "gb" => GB,
            "de" => DE,
            "fr" => FR,
            _ => return None,
        };
        let mut caps = us_caps();
        for row in rows {
            let characters = row.plain.chars().zip(row.shifted.chars()).zip(row.third.chars());
            for (place, ((plain, shifted), third)) in row.places.chars().zip(characters) {
                if let Some(key) = key_at(&caps, place) {
                    let given = |character: char| Some(character).filter(|c| *c != ' ');
                    caps.insert(key, [given(plain), given(shifted), given(third), None]);
                }
            }
        }
        let groups = vec![LayoutGroup::new(caps)];
        Some(Layout { groups, alt_gr_is_level3: true, ..Layout::us() })
    }
}

/// The key that gives a character on a US keyboard.
fn key_at(caps: &Caps, place: char) -> Option<Key> {
    caps.keys().copied().find(|key| key.character() == Some(place))
}
