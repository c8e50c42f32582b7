//! What becomes of each key event of the person: it is forwarded, withheld, or forwarded as another
//! key. Independent of devices.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use lantern_model::{
    Event, GrabSet, HeldModifiers, Key, KeyKind, Layout, Modifier, ModifierKey, ModifierSet, Point,
    ReplayKey, ShiftLevel,
};

/// Maximum number of positions of a path that are kept until they are reported.
const MOST_UNTOLD: usize = 4096;

/// What goes to the programs in the place of a key event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ForwardedKey {
    /// The event itself.
    Pass,
    /// Nothing.
    Keep,
    /// These keys, down or up.
    Instead(Vec<(Key, bool)>),
}

/// A physical press of a key on one device.
#[derive(Debug, Clone, Copy)]
struct PhysicalKey {
    device: usize,
    /// What programs know of it they know through us.
    ours: bool,
}

/// A key that is another for the programs while it is physically down.
#[derive(Debug)]
struct KeySubstitution {
    becomes: Vec<Key>,
    /// Modifiers of the person's that programs do not see meanwhile.
    hidden: Vec<Key>,
}

/// The state of the person's hands, and of what programs know of it.
#[derive(Debug)]
pub struct KeyFilter {
    layout: Layout,
    grabs: GrabSet,
    /// Keys that are physically down, each with the devices on which it is.
    physical_keys: BTreeMap<Key, Vec<PhysicalKey>>,
    /// Those that no program knows of, each with whether its release is reported.
    withheld: BTreeMap<Key, bool>,
    substitutions: BTreeMap<Key, KeySubstitution>,
    /// Down by our doing.
    pressed: BTreeSet<Key>,
    caps: bool,
    device: Option<usize>,
    /// Where the pointer went since this was told last, or since a rule's key went down: a shape may be
    /// drawn with it, which the rules say later only.
    way: Vec<Point>,
    /// Where a rule's key went down, as long as the pointer stands there.
    way_from: Option<Point>,
    place: Point,
    events: VecDeque<Event>,
    panicked: bool,
}

/// Whether it is the key that locks capital letters.
pub fn is_caps_lock(key: Key) -> bool {
    key.name() == "caps-lock"
}

impl KeyFilter {
    /// A filter that withholds nothing.
    pub fn new(layout: Layout) -> KeyFilter {
        KeyFilter {
            layout,
            grabs: GrabSet::default(),
            physical_keys: BTreeMap::new(),
            withheld: BTreeMap::new(),
            substitutions: BTreeMap::new(),
            pressed: BTreeSet::new(),
            caps: false,
            device: None,
            way: Vec::new(),
            way_from: None,
            place: (0.0, 0.0),
            events: VecDeque::new(),
            panicked: false,
        }
    }

    /// Takes another layout.
    pub fn set_layout(&mut self, layout: Layout) {
        self.layout = layout;
    }

    /// The layout.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// What is withheld.
    pub fn grabs(&self) -> &GrabSet {
        &self.grabs
    }

    /// Replaces what is withheld.
    pub fn set_grabs(&mut self, grabs: GrabSet) {
        if grabs.raw_keys && !self.grabs.raw_keys {
            let down = self.physical_keys.keys().map(|key| Event::RawKey { key: *key, down: true });
            self.events.extend(down);
        }
        self.grabs = grabs;
    }

    /// Takes the events since the last call.
    pub fn take_events(&mut self) -> VecDeque<Event> {
        std::mem::take(&mut self.events)
    }

    /// Whether the panic combination was pressed since this was asked last.
    pub fn take_panic(&mut self) -> bool {
        std::mem::take(&mut self.panicked)
    }

    /// Handles a physical press. Only presses of a grabbed device (`taken`) can be withheld.
    pub fn press(&mut self, device: usize, name: &str, key: Key, taken: bool) -> ForwardedKey {
        if self.grabs.source_devices && self.device.replace(device) != Some(device) {
            self.events.push_back(Event::ActiveDevice(name.to_owned()));
        }
        let held = self.modifiers_held();
        let on = self.physical_keys.entry(key).or_default();
        on.push(PhysicalKey { device, ours: taken });
        if on.len() > 1 {
            // It is down on another device already.
            return ForwardedKey::Keep;
        }
        if self.grabs.raw_keys {
            self.events.push_back(Event::RawKey { key, down: true });
        }
        let families = held.modifiers(self.layout.alt_gr_is_level3);
        if self.grabs.panic == Some((key, families)) {
            self.panicked = true;
        }
        match self.grabs.withholds(key, families).filter(|_| taken || self.panicked) {
            Some(follow) => {
                self.withheld.insert(key, follow);
                self.events.push_back(Event::Pressed { key, modifiers: held });
                self.begin_way();
                ForwardedKey::Keep
            }
            None => {
                // A press that programs do not see locks nothing for them.
                if is_caps_lock(key) {
                    self.caps = !self.caps;
                }
                self.note_letter(key, held);
                ForwardedKey::Pass
            }
        }
    }

    /// Handles a physical release.
    pub fn release(&mut self, device: usize, key: Key, taken: bool) -> ForwardedKey {
        let Some(on) = self.physical_keys.get_mut(&key) else {
            // It was down before we looked.
            return ForwardedKey::Pass;
        };
        if let Some(at) = on.iter().position(|press| press.device == device) {
            on.swap_remove(at);
        }
        if !on.is_empty() {
            return ForwardedKey::Keep;
        }
        self.physical_keys.remove(&key);
        if self.grabs.raw_keys {
            self.events.push_back(Event::RawKey { key, down: false });
        }
        if let Some(follow) = self.withheld.remove(&key) {
            if follow {
                self.hand_over_way();
                self.events.push_back(Event::Released { key });
            }
            // What went down in its place goes up with it.
            return match self.substitutions.remove(&key) {
                Some(substitution) => self.end_substitution(&substitution),
                None => ForwardedKey::Keep,
            };
        }
        if let Some(substitution) = self.substitutions.remove(&key) {
            return self.end_substitution(&substitution);
        }
        if taken && self.is_down_otherwise(key) { ForwardedKey::Keep } else { ForwardedKey::Pass }
    }

    /// A held key repeats: programs hear it if they know that it is down.
    pub fn repeat(&self, key: Key) -> ForwardedKey {
        let known = !self.withheld.contains_key(&key) && !self.substitutions.contains_key(&key);
        if known { ForwardedKey::Pass } else { ForwardedKey::Keep }
    }

    /// The keys that are down on a device.
    pub fn keys_down_on(&self, device: usize) -> Vec<Key> {
        let is_on = |physical_keys: &[PhysicalKey]| {
            physical_keys.iter().any(|press| press.device == device)
        };
        let on = self.physical_keys.iter().filter(|(_, physical_keys)| is_on(physical_keys));
        on.map(|(key, _)| *key).collect()
    }

    /// The device is given back: those of its keys that programs must be told of as up, as they will not hear
    /// of their release through us.
    pub fn lose_device(&mut self, device: usize) -> Vec<Key> {
        let mut keys = self.keys_down_on(device);
        keys.retain(|key| self.is_shown(*key) && !self.is_down_otherwise(*key));
        let physical_keys = self.physical_keys.values_mut().flatten();
        physical_keys.filter(|press| press.device == device).for_each(|press| press.ours = false);
        keys
    }

    /// Programs receive the release of a key that the person still holds.
    pub fn hide(&mut self, key: Key) {
        let physical_keys = self.physical_keys.get_mut(&key).into_iter().flatten();
        physical_keys.for_each(|press| press.ours = false);
    }

    /// A withheld key goes to the programs after all.
    pub fn give_back(&mut self, back: &ReplayKey) -> ForwardedKey {
        let ReplayKey {
            key,
            output: becomes,
            modifiers: under,
            hidden_modifiers: hide,
            is_tap: tap,
            path: _,
        } = back;
        let stays = !tap && self.physical_keys.contains_key(key);
        let shown = self.shown_modifiers();
        let hidden: Vec<Key> =
            hide.iter().filter(|side| shown.contains(*side)).map(ModifierKey::key).collect();
        let missing: Vec<Key> = under
            .iter()
            .filter(|side| !shown.contains(*side) && !hide.contains(*side))
            .map(ModifierKey::key)
            .collect();
        let mut keys: Vec<(Key, bool)> = hidden.iter().map(|key| (*key, false)).collect();
        keys.extend(missing.iter().map(|key| (*key, true)));
        keys.extend(becomes.iter().map(|key| (*key, true)));
        if stays {
            keys.extend(missing.iter().rev().map(|key| (*key, false)));
            self.withheld.remove(key);
            let itself = becomes.as_slice() == [*key];
            if !itself || !hidden.is_empty() {
                self.substitutions
                    .insert(*key, KeySubstitution { becomes: becomes.clone(), hidden });
            }
        } else {
            keys.extend(becomes.iter().rev().map(|key| (*key, false)));
            keys.extend(missing.iter().rev().map(|key| (*key, false)));
            keys.extend(hidden.iter().map(|key| (*key, true)));
        }
        ForwardedKey::Instead(keys)
    }

    fn end_substitution(&self, substitution: &KeySubstitution) -> ForwardedKey {
        let up = substitution.becomes.iter().rev().filter(|key| !self.is_down_otherwise(**key));
        let mut keys: Vec<(Key, bool)> = up.map(|key| (*key, false)).collect();
        let back = substitution.hidden.iter().filter(|key| self.physical_keys.contains_key(key));
        keys.extend(back.map(|key| (*key, true)));
        ForwardedKey::Instead(keys)
    }

    /// Whether programs must see a key as down for another reason than the person's press.
    fn is_down_otherwise(&self, key: Key) -> bool {
        self.pressed.contains(&key)
            || self.substitutions.values().any(|substitution| substitution.becomes.contains(&key))
    }

    /// Whether the key is physically down and programs know of it.
    pub fn is_shown(&self, key: Key) -> bool {
        let hidden =
            self.substitutions.values().any(|substitutions| substitutions.hidden.contains(&key));
        self.physical_keys.get(&key).is_some_and(|on| on.iter().any(|press| press.ours))
            && !hidden
            && !self.withheld.contains_key(&key)
            && !self.substitutions.contains_key(&key)
    }

    /// We press a key, or let it go; whether programs are to be told.
    pub fn note_own(&mut self, key: Key, down: bool) -> bool {
        if down {
            let fresh = self.pressed.insert(key);
            return fresh && !self.is_shown(key);
        }
        self.pressed.remove(&key);
        !self.is_shown(key) && !self.is_down_otherwise(key)
    }

    /// The person's modifiers that programs see, with those that stand for others.
    pub fn shown_modifiers(&self) -> HeldModifiers {
        let physical_keys = self.physical_keys.keys().copied().filter(|key| self.is_shown(*key));
        let stood =
            self.substitutions.values().flat_map(|substitutions| &substitutions.becomes).copied();
        physical_keys.chain(stood).filter_map(ModifierKey::of).collect()
    }

    /// The person's modifiers, seen through remaps.
    fn modifiers_held(&self) -> HeldModifiers {
        let real =
            self.physical_keys.keys().copied().filter(|key| !self.substitutions.contains_key(key));
        let stood =
            self.substitutions.values().flat_map(|substitutions| &substitutions.becomes).copied();
        real.chain(stood).filter_map(ModifierKey::of).collect()
    }

    /// Whether a turn of the wheel is a key of a rule now.
    pub fn wants_turn(&self, key: Key) -> bool {
        let families = self.modifiers_held().modifiers(self.layout.alt_gr_is_level3);
        self.grabs.keys.iter().any(|grab| grab.key == key && grab.modifiers == families)
    }

    /// The wheel turned by one.
    pub fn turn(&mut self, key: Key) {
        let modifiers = self.modifiers_held();
        self.events.push_back(Event::Pressed { key, modifiers });
        self.events.push_back(Event::Released { key });
    }

    /// The pointer moved along an axis, 0 across and 1 down.
    pub fn move_pointer(&mut self, axis: u16, by: i32) {
        match axis {
            0 => self.place.0 += by as f32,
            1 => self.place.1 += by as f32,
            _ => return,
        }
        self.go_on_way();
    }

    /// The pointer is at a place along an axis.
    pub fn place_pointer(&mut self, axis: u16, at: f32) {
        match axis {
            0 => self.place.0 = at,
            _ => self.place.1 = at,
        }
        self.go_on_way();
    }

    fn begin_way(&mut self) {
        if self.grabs.pointer_path.is_none() {
            self.way.clear();
            self.way_from = Some(self.place);
        }
    }

    fn go_on_way(&mut self) {
        if !self.withheld.is_empty() && self.way.len() < MOST_UNTOLD {
            self.way.extend(self.way_from.take());
            self.way.push(self.place);
        }
    }

    /// Reports the path of the pointer since the last report, if paths are requested.
    pub fn tell_way(&mut self) {
        if self.grabs.pointer_path.is_some() {
            self.hand_over_way();
        }
    }

    /// Tells it before the release of a key in any case: rules that had no time yet to ask for it have the
    /// whole of a shape that was drawn meanwhile.
    fn hand_over_way(&mut self) {
        let way = std::mem::take(&mut self.way);
        if !way.is_empty() {
            self.events.push_back(Event::PointerPath(way));
        }
    }

    /// The person typed into the program in front.
    fn note_letter(&mut self, key: Key, held: HeldModifiers) {
        if !self.grabs.text_input || key.kind() == KeyKind::Modifier || key.kind() == KeyKind::Lock
        {
            return;
        }
        let character = self.character(key, held.modifiers(self.layout.alt_gr_is_level3));
        self.events.push_back(Event::TextInput(character));
    }

    fn character(&self, key: Key, held: ModifierSet) -> Option<char> {
        if held.iter().any(|family| !matches!(family, Modifier::Shift | Modifier::Level3)) {
            return None;
        }
        if key.name() == "backspace" {
            return Some('\u{8}');
        }
        let level = ShiftLevel::from_modifiers(
            held.contains(Modifier::Shift),
            held.contains(Modifier::Level3),
        );
        let given = self.layout.group().character(key, level)?;
        match (self.caps, given.is_lowercase()) {
            (false, _) => Some(given),
            (true, true) => given.to_uppercase().next(),
            (true, false) => given.to_lowercase().next(),
        }
    }

    /// Takes whether caps lock is on, where something else knows it.
    pub fn set_caps(&mut self, is_on: bool) {
        self.caps = is_on;
    }

    /// Whether caps lock is on, derived from its presses.
    pub fn caps_is_on(&self) -> bool {
        self.caps
    }
}
