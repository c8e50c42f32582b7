//! A small desktop with no display: programs with a text field each, one of them in front, a
//! keyboard with a layout, a pointer. A scene or a test moves the person's keys.
//!
//! It keeps everything that came out ([`SimulatedOutput`]) in order. Time is handed in.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::os::fd::BorrowedFd;

use lantern_model::{
    App, Command, CommandError, CommandKind, EffectId, Event, GrabSet, HeldModifiers, Hint,
    HintContent, InputAction, InputBatch, Key, KeyKind, Layout, ModifierKey, Rect, ReplayKey,
    ShiftLevel, Time, Value,
};

use crate::{Ability, Backend, BackendError};

/// Something that came out of the back end.
#[derive(Debug, Clone, PartialEq)]
pub struct SimulatedOutput {
    /// When.
    pub time: Time,
    /// The effect that made it; none if the person's own hand did.
    pub effect: Option<EffectId>,
    /// The program in front.
    pub app: String,
    /// What it was.
    pub what: OutputKind,
}

/// What came out.
#[derive(Debug, Clone, PartialEq)]
pub enum OutputKind {
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
    /// Text came by the clipboard.
    Pasted(String),
}

/// The simulated back end.
#[derive(Debug)]
pub struct SimulatedBackend {
    layout: Layout,
    grabs: GrabSet,
    /// Keys that are physically down, also those that no program knows of.
    physical_keys: BTreeSet<Key>,
    /// Those that no program knows of, each with whether its release is reported.
    withheld: BTreeMap<Key, bool>,
    /// Those that are others for the programs.
    substitutions: BTreeMap<Key, Vec<Key>>,
    /// Held down by us.
    pressed: BTreeSet<Key>,
    apps: Vec<App>,
    /// How many windows were opened so far.
    windows: u64,
    fields: BTreeMap<u64, String>,
    front: Option<usize>,
    pointer: (i32, i32),
    clipboard: String,
    events: VecDeque<Event>,
    outputs: Vec<SimulatedOutput>,
}

/// The size of the simulated screen, in pixels.
const SCREEN: (i32, i32) = (1280, 800);

impl SimulatedBackend {
    /// A back end with that layout and no program open. It reports the layout first.
    pub fn new(layout: Layout) -> SimulatedBackend {
        SimulatedBackend {
            events: VecDeque::from([
                Event::Screens(vec![Rect { x: 0, y: 0, width: SCREEN.0, height: SCREEN.1 }]),
                Event::Layout(layout.clone()),
            ]),
            layout,
            grabs: GrabSet::default(),
            physical_keys: BTreeSet::new(),
            withheld: BTreeMap::new(),
            substitutions: BTreeMap::new(),
            pressed: BTreeSet::new(),
            apps: Vec::new(),
            windows: 0,
            fields: BTreeMap::new(),
            front: None,
            pointer: (SCREEN.0 / 2, SCREEN.1 / 2),
            clipboard: String::new(),
            outputs: Vec::new(),
        }
    }

    /// Opens a program, if it is not open, and brings it to the front.
    pub fn open(&mut self, name: &str) {
        let index = self.index_of(name).unwrap_or_else(|| {
            self.windows += 1;
            let offset = i32::try_from(self.windows % 8).unwrap_or(0) * 20;
            let frame = Rect { x: 100 + offset, y: 60 + offset, width: 800, height: 600 };
            let app = App {
                window: self.windows,
                names: vec![name.to_lowercase()],
                title: name.to_owned(),
                process: None,
                bounds: Some(frame),
            };
            self.events.push_back(Event::WindowOpened(app.clone()));
            self.apps.push(app);
            self.apps.len() - 1
        });
        self.bring_to_front(Some(index));
    }

    /// Gives the window in front another title.
    pub fn set_title(&mut self, title: &str) {
        if let Some(front) = self.front {
            title.clone_into(&mut self.apps[front].title);
            self.bring_to_front(Some(front));
        }
    }

    /// What the clipboard holds from now on.
    pub fn copy(&mut self, text: &str) {
        text.clone_into(&mut self.clipboard);
    }

    /// The person moves the pointer.
    pub fn move_to(&mut self, x: i32, y: i32) {
        self.pointer = (x.clamp(0, SCREEN.0 - 1), y.clamp(0, SCREEN.1 - 1));
        self.report_pointer();
    }

    fn report_pointer(&mut self) {
        if self.grabs.pointer_position {
            self.events.push_back(Event::Pointer(self.pointer.0, self.pointer.1));
        }
    }

    fn index_of(&self, name: &str) -> Option<usize> {
        let lower = name.to_lowercase();
        self.apps.iter().position(|app| app.names[0] == lower)
    }

    fn bring_to_front(&mut self, index: Option<usize>) {
        self.front = index;
        let app = index.map_or_else(App::default, |index| self.apps[index].clone());
        self.events.push_back(Event::Focus(app));
    }

    /// Whether a program of that name is open.
    pub fn is_open(&self, name: &str) -> bool {
        self.index_of(name).is_some()
    }

    /// What stands in a program's text field.
    pub fn field(&self, name: &str) -> &str {
        let app = self.index_of(name).map(|index| self.apps[index].window);
        app.and_then(|window| self.fields.get(&window)).map_or("", String::as_str)
    }

    /// What stands in each program's text field.
    pub fn fields(&self) -> BTreeMap<String, String> {
        self.apps
            .iter()
            .map(|app| (app.name().to_owned(), self.field(app.name()).to_owned()))
            .collect()
    }

    /// Where the pointer is.
    pub fn pointer(&self) -> (i32, i32) {
        self.pointer
    }

    /// Takes out what came out so far.
    pub fn take_outputs(&mut self) -> Vec<SimulatedOutput> {
        std::mem::take(&mut self.outputs)
    }

    /// Everything that came out, in order.
    pub fn outputs(&self) -> &[SimulatedOutput] {
        &self.outputs
    }

    /// Forgets what came out by now, on a back end that is at work for long.
    pub fn forget(&mut self) {
        self.outputs.clear();
        self.fields.clear();
    }

    /// The keys that the program in front believes to be down.
    pub fn held_keys(&self) -> BTreeSet<Key> {
        let known =
            |key: &&Key| !self.withheld.contains_key(key) && !self.substitutions.contains_key(key);
        let shown = self.physical_keys.iter().filter(known);
        let stood = self.substitutions.values().flatten();
        shown.chain(stood).chain(&self.pressed).copied().collect()
    }

    /// The modifiers of the person's, seen through remaps.
    fn modifiers_held(&self) -> HeldModifiers {
        let real = self.physical_keys.iter().filter(|key| !self.substitutions.contains_key(key));
        sides(real.chain(self.substitutions.values().flatten()).copied())
    }

    /// The person presses a key of the keyboard.
    pub fn press(&mut self, now: Time, key: Key) {
        self.press_on(now, key, "keyboard");
    }

    /// The person presses a key of an input device with that name.
    pub fn press_on(&mut self, now: Time, key: Key, device: &str) {
        if self.grabs.source_devices {
            self.events.push_back(Event::ActiveDevice(device.to_owned()));
        }
        let held = self.modifiers_held();
        if !self.physical_keys.insert(key) {
            return;
        }
        if self.grabs.raw_keys {
            self.events.push_back(Event::RawKey { key, down: true });
        }
        match self.grabs.withholds(key, held.modifiers(self.layout.alt_gr_is_level3)) {
            Some(follow) => {
                self.withheld.insert(key, follow);
                self.events.push_back(Event::Pressed { key, modifiers: held });
            }
            None => self.deliver(now, None, key, held),
        }
    }

    /// The person lets a key go.
    pub fn release(&mut self, key: Key) {
        if !self.physical_keys.remove(&key) {
            return;
        }
        self.substitutions.remove(&key);
        if self.grabs.raw_keys {
            self.events.push_back(Event::RawKey { key, down: false });
        }
        if self.withheld.remove(&key) == Some(true) {
            self.events.push_back(Event::Released { key });
        }
    }

    /// A key press comes to the program in front with these modifiers down.
    fn deliver(&mut self, now: Time, effect: Option<EffectId>, key: Key, held: HeldModifiers) {
        if key.kind() == KeyKind::Modifier {
            return;
        }
        let character = self.character(key, held);
        if let Some(character) = character {
            self.edit_field(character);
        }
        if effect.is_none() && self.grabs.text_input {
            self.events
                .push_back(Event::TextInput(character.filter(|c| !matches!(c, '\n' | '\t'))));
        }
        let modifiers = held.iter().map(ModifierKey::key);
        let keys = modifiers.chain([key]).collect();
        self.put_out(now, effect, OutputKind::Tapped(keys));
    }

    fn character(&self, key: Key, held: HeldModifiers) -> Option<char> {
        let mut shift = false;
        let mut third = false;
        for family in held.modifiers(self.layout.alt_gr_is_level3).iter() {
            match family {
                lantern_model::Modifier::Shift => shift = true,
                lantern_model::Modifier::Level3 => third = true,
                _ => return None,
            }
        }
        match key.name() {
            "enter" | "pad-enter" => Some('\n'),
            "tab" => Some('\t'),
            "backspace" => Some('\u{8}'),
            _ => self.layout.group().character(key, ShiftLevel::from_modifiers(shift, third)),
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

    /// Closes a program's window; the one opened before it comes to the front.
    fn close(&mut self, index: usize) {
        let was_front = self.front == Some(index);
        self.apps.remove(index);
        self.front = self.front.filter(|_| !was_front).map(|f| f - usize::from(f > index));
        if was_front {
            self.bring_to_front(self.apps.len().checked_sub(1));
        }
    }

    fn put_out(&mut self, time: Time, effect: Option<EffectId>, what: OutputKind) {
        let app = self.front.map_or_else(String::new, |front| self.apps[front].name().to_owned());
        self.outputs.push(SimulatedOutput { time, effect, app, what });
    }

    fn act(&mut self, now: Time, effect: EffectId, act: &InputAction, step: &InputBatch) {
        let held = self.modifiers_for(step);
        match act {
            InputAction::Tap(keys) => {
                let Some((last, with)) = keys.split_last() else {
                    return;
                };
                let held = sides(with.iter().copied()).iter().fold(held, HeldModifiers::with);
                self.deliver(now, Some(effect), *last, held);
            }
            InputAction::Text(text) => {
                for character in text.chars() {
                    self.edit_field(character);
                }
                self.put_out(now, Some(effect), OutputKind::Typed(text.clone()));
            }
            InputAction::Down(key) => {
                self.pressed.insert(*key);
                if let Some(character) = self.character(*key, held)
                    && key.kind() != KeyKind::Modifier
                {
                    self.edit_field(character);
                }
                self.put_out(now, Some(effect), OutputKind::Pressed(*key));
            }
            InputAction::Up(key) => {
                if self.pressed.remove(key) {
                    self.put_out(now, Some(effect), OutputKind::LetGo(*key));
                }
            }
            InputAction::MoveBy(x, y) => {
                self.move_pointer(now, effect, self.pointer.0 + x, self.pointer.1 + y)
            }
            InputAction::MoveTo(x, y) => self.move_pointer(now, effect, *x, *y),
        }
    }

    fn move_pointer(&mut self, now: Time, effect: EffectId, x: i32, y: i32) {
        self.pointer = (x.clamp(0, SCREEN.0 - 1), y.clamp(0, SCREEN.1 - 1));
        self.put_out(now, Some(effect), OutputKind::PointerAt(self.pointer.0, self.pointer.1));
        self.report_pointer();
    }

    /// The modifiers that the program sees during a step.
    fn modifiers_for(&self, step: &InputBatch) -> HeldModifiers {
        let ours = self.pressed.iter().copied().filter(|key| !step.park.contains(key));
        let physical_keys =
            if step.suspend_modifiers { HeldModifiers::NONE } else { self.modifiers_held() };
        sides(ours.chain(physical_keys.iter().map(ModifierKey::key)))
    }
}

fn sides(keys: impl Iterator<Item = Key>) -> HeldModifiers {
    keys.filter_map(ModifierKey::of).collect()
}

impl Backend for SimulatedBackend {
    fn abilities(&self) -> Vec<Ability> {
        vec![Ability::by("keys", "simulated"), Ability::by("input", "simulated")]
    }

    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError> {
        if grabs.raw_keys && !self.grabs.raw_keys {
            let down = self.physical_keys.iter().map(|key| Event::RawKey { key: *key, down: true });
            self.events.extend(down);
        }
        if grabs.pointer_position && !self.grabs.pointer_position {
            self.events.push_back(Event::Pointer(self.pointer.0, self.pointer.1));
        }
        self.grabs = grabs;
        Ok(())
    }

    fn send_input(
        &mut self,
        now: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        for act in &step.actions {
            self.act(now, effect, act, step);
        }
        self.events.push_back(Event::Outcome { effect, result: Ok(None) });
        Ok(())
    }

    fn replay_key(&mut self, now: Time, back: &ReplayKey) -> Result<(), BackendError> {
        self.withheld.remove(&back.key);
        let Some((last, with)) = back.output.split_last() else {
            return Ok(());
        };
        let shown = back.modifiers.iter().filter(|side| !back.hidden_modifiers.contains(*side));
        let held = sides(with.iter().copied()).iter().fold(shown.collect(), HeldModifiers::with);
        let stays = !back.is_tap && self.physical_keys.contains(&back.key);
        if stays && back.output != [back.key] {
            self.substitutions.insert(back.key, back.output.clone());
        }
        self.deliver(now, None, *last, held);
        Ok(())
    }

    fn execute(
        &mut self,
        now: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError> {
        let name = command.arguments.first().map_or("", String::as_str);
        let missing = || Err(CommandError::not_found(format!("no window of {name} is open")));
        let result = match command.kind {
            CommandKind::Focus => match self.index_of(name) {
                Some(index) => {
                    self.bring_to_front(Some(index));
                    Ok(None)
                }
                None => missing(),
            },
            CommandKind::FocusWindow(window) => {
                let index = self.apps.iter().position(|app| app.window == window);
                if index.is_some() {
                    self.bring_to_front(index);
                }
                Ok(None)
            }
            CommandKind::Close => match self.index_of(name) {
                Some(index) => {
                    self.close(index);
                    Ok(None)
                }
                None => missing(),
            },
            CommandKind::Paste => {
                name.chars().for_each(|character| self.edit_field(character));
                self.put_out(now, Some(effect), OutputKind::Pasted(name.to_owned()));
                Ok(None)
            }
            CommandKind::ReadClipboard => Ok(Some(Value::Text(self.clipboard.clone()))),
            _ => return Ok(false),
        };
        self.events.push_back(Event::Outcome { effect, result });
        Ok(true)
    }

    fn show_hint(&mut self, now: Time, effect: EffectId, hint: &Hint) -> Result<(), BackendError> {
        let text = match &hint.content {
            HintContent::Text(text) => text.clone(),
            // Nothing that a rule shows.
            HintContent::Drawing(_) => return Ok(()),
            HintContent::Level { share, .. } => format!("{:.0} %", share * 100.0),
        };
        self.put_out(now, Some(effect), OutputKind::Hint(text));
        Ok(())
    }

    fn shows_hints(&self) -> bool {
        true
    }

    fn poll_event(&mut self, _: Time) -> Result<Option<Event>, BackendError> {
        Ok(self.events.pop_front())
    }

    fn handle_deadline(&mut self, _: Time) -> Result<(), BackendError> {
        Ok(())
    }

    fn next_deadline(&self) -> Option<Time> {
        None
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        None
    }
}
