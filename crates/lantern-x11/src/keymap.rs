//! The server's keyboard map, read into a [`Layout`] and the modifier masks that go with it.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_model::{
    Key, KeyKind, KeyRepeat, Layout, LayoutGroup, Modifier, ModifierKey, ModifierSet, ShiftLevel,
};
use x11rb::protocol::xkb::{
    ConnectionExt as _, GetMapReply, ID, KeySymMap, KeyType, MapPart, VMod,
};
use x11rb::protocol::xproto::{ConnectionExt as _, ModMask};

use super::server::ServerConnection;
use lantern_backend::BackendError;
use lantern_backend::keysyms::keysym_character;

/// An X keycode is a kernel code plus this.
const KERNEL_OFFSET: u16 = 8;
const SHIFT: u16 = 1;
const LOCK: u16 = 2;
const LEVEL3_KEYSYM: u32 = 0xfe03;
const NUM_LOCK_KEYSYM: u32 = 0xff7f;

/// The X keycode of a key of the board, if X can have it.
pub(super) fn keycode_of(key: Key) -> Option<u8> {
    key.kernel()
        .filter(|_| !key.is_pointer())
        .and_then(|kernel| u8::try_from(kernel + KERNEL_OFFSET).ok())
}

/// The key of the board with that X keycode.
pub(super) fn key_of(keycode: u8) -> Option<Key> {
    u16::from(keycode).checked_sub(KERNEL_OFFSET).and_then(Key::from_kernel)
}

/// The modifier with that X keycode, if it is one.
pub(super) fn side_of(keycode: u8) -> Option<ModifierKey> {
    key_of(keycode).and_then(ModifierKey::of)
}

/// The map.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Keymap {
    pub layout: Layout,
    /// The keycodes of each of the eight modifiers.
    modifiers: [Vec<u8>; 8],
    /// The key that gives the third level.
    pub level3: Option<u8>,
    num_lock: u16,
    /// The modifier mask of each family.
    families: [u16; 5],
    /// Keycodes that mean nothing, for characters the layout lacks.
    pub spare: Vec<u8>,
    /// The type of a key with four levels, by shift and the third-level key, if the map has it.
    pub four_levels: Option<u8>,
    /// One more of them, which always means nothing.
    pub meaningless: Option<u8>,
}

impl Keymap {
    /// Asks the server.
    pub(super) fn read(conn: &ServerConnection) -> Result<Keymap, BackendError> {
        let core: u16 = ID::USE_CORE_KBD.into();
        let nothing = MapPart::from(0u16);
        let map = conn.xkb_get_map(
            core,
            MapPart::KEY_TYPES | MapPart::KEY_SYMS,
            nothing,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
            VMod::from(0u16),
            0,
            0,
            0,
            0,
            0,
            0,
        )?;
        let controls = conn.xkb_get_controls(core)?;
        let state = conn.xkb_get_state(core)?;
        let modifiers = conn.get_modifier_mapping()?;
        let map = map.reply()?;
        let controls = controls.reply()?;
        let active = usize::from(u8::from(state.reply()?.group));
        let modifiers = modifier_rows(&modifiers.reply()?.keycodes);
        let repeat = KeyRepeat {
            delay: Duration::from_millis(controls.repeat_delay.into()),
            interval: Duration::from_millis(controls.repeat_interval.max(1).into()),
        };
        Ok(Keymap::new(&map, modifiers, active, repeat))
    }

    fn new(map: &GetMapReply, modifiers: [Vec<u8>; 8], active: usize, repeat: KeyRepeat) -> Keymap {
        let symbols = Symbols {
            first: map.first_key_sym,
            types: map.map.types_rtrn.as_deref().unwrap_or_default(),
            keys: map.map.syms_rtrn.as_deref().unwrap_or_default(),
        };
        let level3_mask = symbols.mask_of(&modifiers, LEVEL3_KEYSYM);
        let level3 = symbols.keycode_of(LEVEL3_KEYSYM);
        let alt_gr = ModifierKey::AltGr.key();
        let alt_gr_is_level3 = level3_mask != 0
            && keycode_of(alt_gr)
                .is_some_and(|code| symbols.symbol(code, 0, 0) == Some(LEVEL3_KEYSYM));
        let groups =
            (0..symbols.group_count()).map(|group| symbols.group(group, level3_mask)).collect();
        let used =
            |code: u8| symbols.has_symbols(code) || modifiers.iter().any(|row| row.contains(&code));
        let layout = Layout {
            groups,
            active,
            alt_gr_is_level3,
            repeat,
            last_kernel_code: u16::from(map.max_key_code) - KERNEL_OFFSET,
        };
        let num_lock = symbols.mask_of(&modifiers, NUM_LOCK_KEYSYM);
        let free = |code: &u8| !used(*code) && key_of(*code).is_none();
        let mut spare: Vec<u8> = (map.min_key_code..=map.max_key_code).filter(free).collect();
        let meaningless = spare.pop();
        let four_levels = symbols.four_levels(level3_mask).filter(|_| level3.is_some());
        let mut map = Keymap {
            layout,
            modifiers,
            level3,
            num_lock,
            families: [0; 5],
            spare,
            four_levels,
            meaningless,
        };
        for side in ModifierKey::ALL {
            map.families[map.layout.modifier(side) as usize] |= map.mask(side);
        }
        map
    }

    /// The modifier mask of a side on this board; 0 if its key is no modifier here.
    fn mask(&self, side: ModifierKey) -> u16 {
        let Some(code) = keycode_of(side.key()) else {
            return 0;
        };
        self.mask_of_code(code)
    }

    /// The modifier mask that a key of the server stands for; 0 if it is no modifier.
    pub(super) fn mask_of_code(&self, code: u8) -> u16 {
        let row = self.modifiers.iter().position(|row| row.contains(&code));
        row.map_or(0, |row| 1 << row)
    }

    /// The bits of caps lock and num lock.
    pub(super) fn locks(&self) -> u16 {
        LOCK | self.num_lock
    }

    /// The mask under which exactly these families are down while these locks are on; all those
    /// under which they are down with others, if `further`. None if a family cannot be pressed on
    /// this board.
    pub(super) fn grab_masks(&self, families: ModifierSet, further: bool, locked: u16) -> Vec<u32> {
        let bits = |family: Modifier| self.families[family as usize];
        let Some(mask) = families
            .iter()
            .map(bits)
            .try_fold(locked & self.locks(), |mask, bits| (bits != 0).then_some(mask | bits))
        else {
            return Vec::new();
        };
        let mut masks = vec![u32::from(mask)];
        for family in
            Modifier::ALL.into_iter().filter(|family| further && bits(*family) & mask == 0)
        {
            let with = u32::from(bits(family));
            let more: Vec<u32> = masks.iter().map(|mask| mask | with).collect();
            masks.extend(more);
        }
        masks.sort_unstable();
        masks.dedup();
        masks
    }

    /// The families that are down under a mask.
    pub(super) fn families_in(&self, mask: u16) -> ModifierSet {
        self.usual_sides(mask)
            .fold(ModifierSet::NONE, |set, side| set.with(self.layout.modifier(side)))
    }

    /// The sides that may be down under a mask: the usual one for each family in it.
    pub(super) fn usual_sides(&self, mask: u16) -> impl Iterator<Item = ModifierKey> {
        Modifier::ALL
            .into_iter()
            .filter(move |family| {
                let bits = self.families[*family as usize];
                bits != 0 && mask & bits == bits
            })
            .map(Modifier::default_key)
    }

    /// The keycodes of every modifier in a mask, but for the locks.
    pub(super) fn modifier_codes(&self, mask: u16) -> impl Iterator<Item = u8> {
        let mask = mask & !self.locks();
        let rows = self.modifiers.iter().enumerate();
        rows.filter(move |(row, _)| mask & (1 << row) != 0)
            .flat_map(|(_, codes)| codes.iter().copied())
    }

    /// Every keycode that is a modifier but not a lock.
    pub(super) fn all_modifier_codes(&self) -> impl Iterator<Item = u8> {
        self.modifier_codes(0xff)
    }

    /// The character that a key gives with these modifiers and locks, backspace among them.
    pub(super) fn character(&self, key: Key, held: ModifierSet, locked: u16) -> Option<char> {
        let typing = [Modifier::Shift, Modifier::Level3];
        if held.iter().any(|family| !typing.contains(&family)) {
            return None;
        }
        if key.name() == "backspace" {
            return Some('\u{8}');
        }
        if key.kind() == KeyKind::Pad {
            let sign = key.label().chars().next().filter(|_| key.label().chars().count() == 1);
            let numbers = locked & self.num_lock != 0;
            return sign.filter(|sign| numbers || !sign.is_ascii_digit() && *sign != '.');
        }
        let level = ShiftLevel::from_modifiers(
            held.contains(Modifier::Shift),
            held.contains(Modifier::Level3),
        );
        let given = self.layout.group().character(key, level)?;
        if locked & LOCK == 0 || !given.is_alphabetic() {
            return Some(given);
        }
        let turned = if given.is_lowercase() {
            given.to_uppercase().next()
        } else {
            given.to_lowercase().next()
        };
        turned.or(Some(given))
    }

    /// Whether letting the key go alone would make a program or desktop open a menu.
    pub(super) fn opens_menu(&self, code: u8) -> bool {
        let side = side_of(code);
        side.is_some_and(|side| {
            matches!(self.layout.modifier(side), Modifier::Alt | Modifier::Super)
        })
    }
}

/// The symbols of the server's map, by keycode, group and level.
struct Symbols<'a> {
    first: u8,
    types: &'a [KeyType],
    keys: &'a [KeySymMap],
}

impl Symbols<'_> {
    /// The number of a type whose levels are plain, shift, third and both.
    fn four_levels(&self, level3_mask: u16) -> Option<u8> {
        let level = |kind: &KeyType, mask: u16| {
            let entry =
                kind.map.iter().find(|entry| entry.active && u16::from(entry.mods_mask) == mask);
            entry.map(|entry| entry.level)
        };
        let is_it = |kind: &KeyType| {
            level3_mask != 0
                && kind.num_levels == 4
                && u16::from(kind.mods_mask) == SHIFT | level3_mask
                && level(kind, SHIFT) == Some(1)
                && level(kind, level3_mask) == Some(2)
                && level(kind, SHIFT | level3_mask) == Some(3)
        };
        self.types.iter().position(is_it).and_then(|index| u8::try_from(index).ok())
    }

    fn key(&self, code: u8) -> Option<&KeySymMap> {
        self.keys.get(usize::from(code.checked_sub(self.first)?))
    }

    fn codes(&self) -> impl Iterator<Item = u8> {
        let count = u8::try_from(self.keys.len()).unwrap_or(u8::MAX);
        let first = self.first;
        (0..count).map(move |offset| first.saturating_add(offset))
    }

    fn symbol(&self, code: u8, group: usize, level: usize) -> Option<u32> {
        let key = self.key(code)?;
        let groups = usize::from(key.group_info & 0x0f);
        let width = usize::from(key.width);
        if groups == 0 || level >= width {
            return None;
        }
        // Keys with fewer groups wrap, as the protocol's default for out-of-range groups.
        let symbol = key.syms.get((group % groups) * width + level);
        symbol.copied().filter(|symbol| *symbol != 0)
    }

    fn has_symbols(&self, code: u8) -> bool {
        self.key(code).is_some_and(|key| key.syms.iter().any(|symbol| *symbol != 0))
    }

    fn group_count(&self) -> usize {
        let groups = self.keys.iter().map(|key| usize::from(key.group_info & 0x0f));
        groups.max().unwrap_or(1).max(1)
    }

    fn keycode_of(&self, keysym: u32) -> Option<u8> {
        self.codes().find(|code| self.symbol(*code, 0, 0) == Some(keysym))
    }

    fn mask_of(&self, modifiers: &[Vec<u8>; 8], keysym: u32) -> u16 {
        let gives = |code: &u8| self.symbol(*code, 0, 0) == Some(keysym);
        let row = modifiers.iter().position(|row| row.iter().any(gives));
        row.map_or(0, |row| 1 << row)
    }

    fn group(&self, group: usize, level3_mask: u16) -> LayoutGroup {
        let mut caps = BTreeMap::new();
        for code in self.codes() {
            let Some(key) = key_of(code) else { continue };
            if key.kind() == lantern_model::KeyKind::Pad {
                continue;
            }
            let mut levels = [None; 4];
            for level in ShiftLevel::ALL {
                let shift = matches!(level, ShiftLevel::Shift | ShiftLevel::ShiftThird);
                let third = matches!(level, ShiftLevel::Third | ShiftLevel::ShiftThird);
                if third && level3_mask == 0 {
                    continue;
                }
                let held = if shift { SHIFT } else { 0 } | if third { level3_mask } else { 0 };
                levels[level as usize] = self.character(code, group, held);
            }
            if levels.iter().any(Option::is_some) {
                caps.insert(key, levels);
            }
        }
        LayoutGroup::new(caps)
    }

    /// The character of a key with these modifiers down.
    fn character(&self, code: u8, group: usize, held: u16) -> Option<char> {
        let key = self.key(code)?;
        let groups = usize::from(key.group_info & 0x0f).max(1);
        let kind = self.types.get(usize::from(key.kt_index[(group % groups).min(3)]))?;
        let relevant = held & u16::from(kind.mods_mask);
        if relevant != held {
            // The key does not look at one of them, so the program would see it beside the key.
            return None;
        }
        let entry =
            kind.map.iter().find(|entry| entry.active && u16::from(entry.mods_mask) == relevant);
        let level = entry.map_or(0, |entry| usize::from(entry.level));
        if level == 0 && held != 0 {
            return None;
        }
        self.symbol(code, group, level).and_then(keysym_character)
    }
}

fn modifier_rows(keycodes: &[u8]) -> [Vec<u8>; 8] {
    let per_row = keycodes.len() / 8;
    std::array::from_fn(|row| {
        let codes = &keycodes[row * per_row..(row + 1) * per_row];
        codes.iter().copied().filter(|code| *code != 0).collect()
    })
}

/// A mask as the core protocol writes it.
pub(super) fn core_mask(mask: u32) -> ModMask {
    ModMask::from(u16::try_from(mask).unwrap_or(u16::MAX))
}
