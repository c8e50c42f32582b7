//! The keyboard's layout, as the machine is configured. Below a display server the active one of
//! several groups is unknown; the first is assumed.

use std::collections::BTreeMap;
use std::{env, fs};

use kbvm::lookup::LookupTable;
use kbvm::xkb::rmlvo::Group as Named;
use kbvm::xkb::{Context, Keymap};
use kbvm::{GroupIndex, Keycode, ModifierMask};
use lantern_model::{Key, KeyKind, KeyRepeat, Layout, LayoutGroup, ModifierKey, ShiftLevel};

use crate::keysyms::keysym_character;

/// Where XKB keeps its layouts.
const XKB: &str = "/usr/share/X11/xkb/rules";
/// Where Debian keeps which one it is.
const SETUP: &str = "/etc/default/keyboard";

/// What the machine is set up to have, by the names XKB has for it.
#[derive(Debug, Default)]
struct RmlvoNames {
    model: Option<String>,
    layout: Option<String>,
    variant: Option<String>,
    options: Option<String>,
}

/// The keyboard's layout, as the machine is configured.
pub fn system_layout() -> Layout {
    let setup = setup();
    let name = setup.layout.as_deref().unwrap_or("us");
    if fs::metadata(XKB).is_ok() {
        return compiled(&setup);
    }
    // No layouts of the system: those that everybody knows by name.
    let first = name.split(',').next().unwrap_or(name);
    Layout::named(first).unwrap_or_else(Layout::us)
}

/// The environment first, as compositors read it, then the system's own file.
fn setup() -> RmlvoNames {
    let kept = fs::read_to_string(SETUP).unwrap_or_default();
    let of = |variable: &str, line: &str| {
        let from_file = || {
            let value = kept.lines().find_map(|kept| kept.strip_prefix(line)?.strip_prefix('='))?;
            Some(value.trim().trim_matches('"').to_owned())
        };
        env::var(variable).ok().or_else(from_file).filter(|value| !value.is_empty())
    };
    RmlvoNames {
        model: of("XKB_DEFAULT_MODEL", "XKBMODEL"),
        layout: of("XKB_DEFAULT_LAYOUT", "XKBLAYOUT"),
        variant: of("XKB_DEFAULT_VARIANT", "XKBVARIANT"),
        options: of("XKB_DEFAULT_OPTIONS", "XKBOPTIONS"),
    }
}

/// The keymap of that layout in the text format of XKB.
pub fn system_keymap() -> String {
    let setup = setup();
    keymap_of(&setup, &groups_of(&setup)).format().to_string()
}

fn groups_of(setup: &RmlvoNames) -> Vec<Named<'_>> {
    let variant = setup.variant.as_deref().unwrap_or_default();
    let layouts = setup.layout.iter();
    layouts.flat_map(|layout| Named::from_layouts_and_variants(layout, variant)).collect()
}

fn compiled(setup: &RmlvoNames) -> Layout {
    let groups = groups_of(setup);
    layout_of(&keymap_of(setup, &groups), groups.len().max(1))
}

fn keymap_of(setup: &RmlvoNames, groups: &[Named<'_>]) -> Keymap {
    let options: Vec<&str> = setup.options.iter().flat_map(|options| options.split(',')).collect();
    Context::builder().build().keymap_from_names(
        // What is odd in the files of the system is nobody's concern here.
        Vec::new(),
        None,
        setup.model.as_deref(),
        (!groups.is_empty()).then_some(groups),
        (!options.is_empty()).then_some(options.as_slice()),
    )
}

/// The layout of a keymap in the text format of XKB, as a compositor sends it to its clients. None if it is
/// no keymap, or one that lacks most characters, as those of programs that type by a keymap of their own.
pub fn layout_of_keymap(text: &[u8]) -> Option<Layout> {
    let keymap = Context::builder().build().keymap_from_bytes(Vec::new(), None, text).ok()?;
    let count = keymap.keys().map(|key| key.groups().count()).max()?;
    let layout = layout_of(&keymap, count.clamp(1, MOST_GROUPS));
    let has_digits = ('0'..='9').all(|digit| layout.group().key_for(digit).is_some());
    has_digits.then_some(layout)
}

/// XKB knows four groups.
const MOST_GROUPS: usize = 4;

fn layout_of(keymap: &Keymap, count: usize) -> Layout {
    let table = keymap.to_builder().build_lookup_table();
    let alt_gr =
        keycode_of(ModifierKey::AltGr.key()).and_then(|code| symbol(&table, 0, code, NONE));
    let alt_gr_is_level3 = alt_gr.is_some_and(|symbol| symbol == LEVEL3);
    let groups = (0..count).map(|group| group_of(&table, group, alt_gr_is_level3)).collect();
    let last_kernel_code = 0x2ff;
    Layout { groups, active: 0, alt_gr_is_level3, repeat: KeyRepeat::default(), last_kernel_code }
}

const NONE: ModifierMask = ModifierMask::NONE;
/// `ISO_Level3_Shift`
const LEVEL3: u32 = 0xfe03;

fn keycode_of(key: Key) -> Option<Keycode> {
    key.kernel().filter(|_| !key.is_pointer()).map(|code| Keycode::from_evdev(code.into()))
}

fn symbol(table: &LookupTable, group: usize, code: Keycode, held: ModifierMask) -> Option<u32> {
    let looked = table.lookup(GroupIndex(group as u32), held, code);
    // A modifier that the key does not look at would be seen beside it.
    let unused = looked.remaining_mods().0 & held.0 != 0;
    let symbol = looked.into_iter().next()?.keysym().0;
    (!unused).then_some(symbol)
}

fn group_of(table: &LookupTable, group: usize, third: bool) -> LayoutGroup {
    let mut caps = BTreeMap::new();
    for key in Key::all().filter(|key| key.kind() != KeyKind::Pad) {
        let Some(code) = keycode_of(key) else { continue };
        let mut levels = [None; 4];
        for level in ShiftLevel::ALL {
            let (with_shift, with_third) = (
                matches!(level, ShiftLevel::Shift | ShiftLevel::ShiftThird),
                matches!(level, ShiftLevel::Third | ShiftLevel::ShiftThird),
            );
            if with_third && !third {
                continue;
            }
            let mut held = NONE;
            if with_shift {
                held |= ModifierMask::SHIFT;
            }
            if with_third {
                // The modifier that every XKB map of the system gives to the third level.
                held |= ModifierMask::MOD5;
            }
            let symbol = symbol(table, group, code, held);
            levels[level as usize] = symbol.and_then(keysym_character);
        }
        if levels.iter().any(Option::is_some) {
            caps.insert(key, levels);
        }
    }
    LayoutGroup::new(caps)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(layout: &str, variant: &str, index: usize) -> LayoutGroup {
        let setup = RmlvoNames {
            layout: Some(layout.to_owned()),
            variant: Some(variant.to_owned()),
            ..RmlvoNames::default()
        };
        compiled(&setup).groups.swap_remove(index)
    }

    fn spelled(group: &LayoutGroup, character: char) -> Option<(&'static str, ShiftLevel)> {
        group.key_for(character).map(|(key, level)| (key.name(), level))
    }

    #[test]
    fn layouts_of_the_system_say_which_key_types_what() {
        let us = group("us", "", 0);
        assert_eq!(spelled(&us, 'A'), Some(("a", ShiftLevel::Shift)));
        assert_eq!(spelled(&us, '?'), Some(("slash", ShiftLevel::Shift)));
        assert_eq!(spelled(&us, 'ß'), None);
        let de = group("de", "", 0);
        assert_eq!(spelled(&de, 'z'), Some(("y", ShiftLevel::Plain)));
        assert_eq!(spelled(&de, '@'), Some(("q", ShiftLevel::Third)));
        assert_eq!(spelled(&de, 'ß'), Some(("minus", ShiftLevel::Plain)));
        let russian = group("us,ru", ",", 1);
        assert_eq!(spelled(&russian, 'ф'), Some(("a", ShiftLevel::Plain)));
        let fr = group("fr", "bepo", 0);
        assert_eq!(spelled(&fr, 'é'), Some(("w", ShiftLevel::Plain)));
    }
}
