//! A small desktop with no display: programs with a text field each, one of them in front, a
//! keyboard with a layout, a pointer, and the person's fingers moved by whoever plays them.
//!
//! It keeps everything that came out ([`Output`]) in order. Time is handed in.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::os::fd::BorrowedFd;
use std::time::Duration;

use lantern_model::{
    Act, App, Armed, ArmedKey, EffectId, Event, HintPlace, InputStep, Key, KeyKind, Layout, Level,
    Modifiers, Side, Time,
};

use crate::{Desk, DeskError};

/// Something that came out of the desk.
#[derive(Debug, Clone, PartialEq)]
pub struct Output {
    /// When.
    pub time: Time,
    /// The effect that made it; none if the person's own hand did.
    pub effect: Option<EffectId>,
    /// The program in front.
    pub app: String,
    /// What it was.
    pub what: What,
}

/// What came out.
#[derive(Debug, Clone, PartialEq)]
pub enum What {
    /// Characters.
    Typed(String),
    /// Keys pressed and let go together; the modifiers that were down stand first.
    Tapped(Vec<Key>),
    /// A key went down and stayed.
    Pressed(Key),
    /// A key went up.
    LetGo(Key),
    /// The pointer came to this pixel.
    PointerAt(i32, i32),
    /// A hint was shown.
    Hint(String),
}

/// The desk.
#[derive(Debug)]
pub struct SimulatedDesk {
    layout: Layout,
    armed: Armed,
    /// Under the person's fingers, whether a program knows or not.
    fingers: BTreeSet<Key>,
    withheld: BTreeMap<Key, ArmedKey>,
    /// Held down by us.
    pressed: BTreeSet<Key>,
    apps: Vec<App>,
    fields: BTreeMap<u64, String>,
    front: Option<usize>,
    pointer: (i32, i32),
    events: VecDeque<Event>,
    outputs: Vec<Output>,
}

/// The size of the simulated screen, in pixels.
const SCREEN: (i32, i32) = (1280, 800);

impl SimulatedDesk {
    /// A desk with that layout and no program open. It reports the layout first.
    pub fn new(layout: Layout) -> SimulatedDesk {
        SimulatedDesk {
            events: VecDeque::from([Event::Layout(layout.clone())]),
            layout,
            armed: Armed::default(),
            fingers: BTreeSet::new(),
            withheld: BTreeMap::new(),
            pressed: BTreeSet::new(),
            apps: Vec::new(),
            fields: BTreeMap::new(),
            front: None,
            pointer: (SCREEN.0 / 2, SCREEN.1 / 2),
            outputs: Vec::new(),
        }
    }

    /// Opens a program, if it is not open, and brings it to the front.
    pub fn open(&mut self, name: &str) {
        let lower = name.to_lowercase();
        let known = self.apps.iter().position(|app| app.names[0] == lower);
        let index = known.unwrap_or_else(|| {
            let window = self.apps.len() as u64 + 1;
            self.apps.push(App { window, names: vec![lower], title: name.to_owned() });
            self.apps.len() - 1
        });
        self.front = Some(index);
        self.events.push_back(Event::Focus(self.apps[index].clone()));
    }

    /// Whether a program of that name is open.
    pub fn is_open(&self, name: &str) -> bool {
        self.apps.iter().any(|app| app.names[0] == name.to_lowercase())
    }

    /// What stands in a program's text field.
    pub fn field(&self, name: &str) -> &str {
        let app = self.apps.iter().find(|app| app.names[0] == name.to_lowercase());
        app.and_then(|app| self.fields.get(&app.window)).map_or("", String::as_str)
    }

    /// Where the pointer is.
    pub fn pointer(&self) -> (i32, i32) {
        self.pointer
    }

    /// Everything that came out, in order.
    pub fn outputs(&self) -> &[Output] {
        &self.outputs
    }

    /// The keys that the program in front believes to be down.
    pub fn held_keys(&self) -> BTreeSet<Key> {
        let shown = self.fingers.iter().filter(|key| !self.withheld.contains_key(key));
        shown.chain(&self.pressed).copied().collect()
    }

    /// The person presses a key.
    pub fn press(&mut self, now: Time, key: Key) {
        let held = sides(self.fingers.iter().copied());
        if !self.fingers.insert(key) {
            return;
        }
        let families = held.families(self.layout.alt_gr_is_level3);
        let armed =
            self.armed.keys.iter().find(|k| k.key == key && k.families == families).copied();
        if self.armed.fingers {
            self.events.push_back(Event::Finger { key, down: true });
        }
        match armed {
            Some(armed) => {
                self.withheld.insert(key, armed);
                self.events.push_back(Event::Pressed { key, modifiers: held });
            }
            None => {
                self.deliver(now, None, key, held);
            }
        }
    }

    /// The person lets a key go.
    pub fn release(&mut self, key: Key) {
        if !self.fingers.remove(&key) {
            return;
        }
        if self.armed.fingers {
            self.events.push_back(Event::Finger { key, down: false });
        }
        if self.withheld.remove(&key).is_some_and(|armed| armed.follow) {
            self.events.push_back(Event::LetGo { key });
        }
    }

    /// A key press comes to the program in front with these modifiers down.
    fn deliver(&mut self, now: Time, effect: Option<EffectId>, key: Key, held: Modifiers) {
        if key.kind() == KeyKind::Modifier {
            return;
        }
        if let Some(character) = self.character(key, held) {
            self.edit_field(character);
        }
        let modifiers = held.iter().map(Side::key);
        let keys = modifiers.chain([key]).collect();
        self.put_out(now, effect, What::Tapped(keys));
    }

    fn character(&self, key: Key, held: Modifiers) -> Option<char> {
        let mut shift = false;
        let mut third = false;
        for family in held.families(self.layout.alt_gr_is_level3).iter() {
            match family {
                lantern_model::Family::Shift => shift = true,
                lantern_model::Family::Level3 => third = true,
                _ => return None,
            }
        }
        match key.name() {
            "enter" | "pad-enter" => Some('\n'),
            "tab" => Some('\t'),
            "backspace" => Some('\u{8}'),
            _ => self.layout.group().character(key, Level::needing(shift, third)),
        }
    }

    fn edit_field(&mut self, character: char) {
        let Some(front) = self.front else { return };
        let field = self.fields.entry(self.apps[front].window).or_default();
        match character {
            '\u{8}' => {
                field.pop();
            }
            other => field.push(other),
        }
    }

    fn put_out(&mut self, time: Time, effect: Option<EffectId>, what: What) {
        let app = self.front.map_or_else(String::new, |front| self.apps[front].name().to_owned());
        self.outputs.push(Output { time, effect, app, what });
    }

    fn act(&mut self, now: Time, effect: EffectId, act: &Act, step: &InputStep) {
        let held = self.modifiers_for(step);
        match act {
            Act::Tap(keys) => {
                let Some((last, with)) = keys.split_last() else {
                    return;
                };
                let held = sides(with.iter().copied()).iter().fold(held, Modifiers::with);
                self.deliver(now, Some(effect), *last, held);
            }
            Act::Text(text) => {
                for character in text.chars() {
                    self.edit_field(character);
                }
                self.put_out(now, Some(effect), What::Typed(text.clone()));
            }
            Act::Down(key) => {
                self.pressed.insert(*key);
                if let Some(character) = self.character(*key, held)
                    && key.kind() != KeyKind::Modifier
                {
                    self.edit_field(character);
                }
                self.put_out(now, Some(effect), What::Pressed(*key));
            }
            Act::Up(key) => {
                if self.pressed.remove(key) {
                    self.put_out(now, Some(effect), What::LetGo(*key));
                }
            }
            Act::MoveBy(x, y) => {
                self.move_pointer(now, effect, self.pointer.0 + x, self.pointer.1 + y)
            }
            Act::MoveTo(x, y) => self.move_pointer(now, effect, *x, *y),
        }
    }

    fn move_pointer(&mut self, now: Time, effect: EffectId, x: i32, y: i32) {
        self.pointer = (x.clamp(0, SCREEN.0 - 1), y.clamp(0, SCREEN.1 - 1));
        self.put_out(now, Some(effect), What::PointerAt(self.pointer.0, self.pointer.1));
    }

    /// The modifiers that the program sees during a step.
    fn modifiers_for(&self, step: &InputStep) -> Modifiers {
        let ours = self.pressed.iter().copied().filter(|key| !step.park.contains(key));
        let fingers = self.fingers.iter().copied().filter(|_| !step.lift);
        sides(ours.chain(fingers))
    }
}

fn sides(keys: impl Iterator<Item = Key>) -> Modifiers {
    keys.filter_map(Side::of).collect()
}

impl Desk for SimulatedDesk {
    fn arm(&mut self, armed: Armed) -> Result<(), DeskError> {
        if armed.fingers && !self.armed.fingers {
            let down = self.fingers.iter().map(|key| Event::Finger { key: *key, down: true });
            self.events.extend(down);
        }
        self.armed = armed;
        Ok(())
    }

    fn input(&mut self, now: Time, effect: EffectId, step: &InputStep) -> Result<(), DeskError> {
        for act in &step.acts {
            self.act(now, effect, act, step);
        }
        self.events.push_back(Event::Outcome { effect, result: Ok(()) });
        Ok(())
    }

    fn give_back(&mut self, now: Time, key: Key) -> Result<(), DeskError> {
        if self.withheld.remove(&key).is_some() {
            let held = sides(self.fingers.iter().copied().filter(|other| *other != key));
            self.deliver(now, None, key, held);
        }
        Ok(())
    }

    fn hint(
        &mut self,
        now: Time,
        effect: EffectId,
        text: &str,
        _: HintPlace,
        _: Duration,
    ) -> Result<(), DeskError> {
        self.put_out(now, Some(effect), What::Hint(text.to_owned()));
        Ok(())
    }

    fn poll_event(&mut self, _: Time) -> Result<Option<Event>, DeskError> {
        Ok(self.events.pop_front())
    }

    fn handle_deadline(&mut self, _: Time) -> Result<(), DeskError> {
        Ok(())
    }

    fn next_deadline(&self) -> Option<Time> {
        None
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        None
    }
}
