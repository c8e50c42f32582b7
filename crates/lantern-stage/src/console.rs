//! A reader of the kernel's input devices, as a display server or the console is: it reads all
//! devices that no program has grabbed.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::time::{Duration, Instant, SystemTime};

use evdev::{AbsoluteAxisCode, Device, EventType, RelativeAxisCode};
use lantern_model::{Key, KeyKind, Layout, ShiftLevel};

use crate::waiting::pause;

/// The longest that anything is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

/// A key as it came: 0 is up, 1 down, 2 a repeat.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Came {
    /// The kernel's code.
    pub code: u16,
    /// What it did.
    pub value: i32,
}

/// The receiver.
#[derive(Debug)]
pub struct Console {
    devices: BTreeMap<PathBuf, Device>,
    screen: (i32, i32),
    pointer: (i32, i32),
    /// Each key with the devices on which it is down.
    down: BTreeMap<u16, BTreeSet<PathBuf>>,
    caps: bool,
    /// Made once: who is slow between two readings loses keys.
    layout: Layout,
    came: Vec<Came>,
    words: Vec<String>,
    text: String,
}

impl Console {
    /// A receiver with a screen of that size.
    pub fn open(screen: (i32, i32)) -> Console {
        let mut console = Console {
            devices: BTreeMap::new(),
            screen,
            pointer: (screen.0 / 2, screen.1 / 2),
            down: BTreeMap::new(),
            caps: false,
            layout: Layout::us(),
            came: Vec::new(),
            words: Vec::new(),
            text: String::new(),
        };
        console.look();
        console
    }

    /// Opens what is there, and forgets what is gone.
    fn look(&mut self) {
        let nodes = std::fs::read_dir("/dev/input").into_iter().flatten().flatten();
        let nodes: BTreeSet<PathBuf> = nodes
            .map(|node| node.path())
            .filter(|path| path.to_string_lossy().contains("/event"))
            .collect();
        let gone: Vec<PathBuf> =
            self.devices.keys().filter(|path| !nodes.contains(*path)).cloned().collect();
        for path in gone {
            self.forget(&path);
        }
        for path in nodes {
            if !self.devices.contains_key(&path)
                && let Ok(device) = Device::open(&path)
                && device.set_nonblocking(true).is_ok()
            {
                self.devices.insert(path, device);
            }
        }
    }

    /// A device is gone: what was down on it is up.
    fn forget(&mut self, path: &PathBuf) {
        self.devices.remove(path);
        for on in self.down.values_mut() {
            on.remove(path);
        }
        self.down.retain(|_, on| !on.is_empty());
    }

    /// Takes in what came by now, in the order of the kernel's stamps; whether anything did.
    pub fn read(&mut self) -> bool {
        self.look();
        let mut events: Vec<(SystemTime, usize, PathBuf, evdev::InputEvent)> = Vec::new();
        let mut gone = Vec::new();
        for (path, device) in &mut self.devices {
            match device.fetch_events() {
                Ok(fetched) => {
                    for event in fetched {
                        events.push((event.timestamp(), events.len(), path.clone(), event));
                    }
                }
                Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
                Err(_) => gone.push(path.clone()),
            }
        }
        if !gone.is_empty() {
            gone.iter().for_each(|path| self.forget(path));
            // Another device may have taken the place of one, by the same number.
            self.look();
        }
        events.sort_by_key(|(time, order, ..)| (*time, *order));
        let any = !events.is_empty();
        for (.., path, event) in events {
            self.take(path, event);
        }
        any
    }

    fn take(&mut self, path: PathBuf, event: evdev::InputEvent) {
        let (code, value) = (event.code(), event.value());
        match event.event_type() {
            EventType::KEY => self.take_key(path, code, value),
            EventType::RELATIVE => match RelativeAxisCode(code) {
                RelativeAxisCode::REL_X => self.move_to(self.pointer.0 + value, self.pointer.1),
                RelativeAxisCode::REL_Y => self.move_to(self.pointer.0, self.pointer.1 + value),
                RelativeAxisCode::REL_WHEEL => self.words.push(format!("wheel {value}")),
                _ => {}
            },
            EventType::ABSOLUTE => {
                let scaled = |size: i32| (i64::from(value) * i64::from(size) / 65_536) as i32;
                match AbsoluteAxisCode(code) {
                    AbsoluteAxisCode::ABS_X => self.move_to(scaled(self.screen.0), self.pointer.1),
                    AbsoluteAxisCode::ABS_Y => self.move_to(self.pointer.0, scaled(self.screen.1)),
                    _ => {}
                }
            }
            _ => {}
        }
    }

    fn move_to(&mut self, x: i32, y: i32) {
        self.pointer = (x.clamp(0, self.screen.0 - 1), y.clamp(0, self.screen.1 - 1));
    }

    fn take_key(&mut self, path: PathBuf, code: u16, value: i32) {
        self.came.push(Came { code, value });
        let key = Key::from_kernel(code);
        match value {
            0 => {
                if let Some(on) = self.down.get_mut(&code) {
                    on.remove(&path);
                    if on.is_empty() {
                        self.down.remove(&code);
                    }
                }
            }
            1 => {
                self.down.entry(code).or_default().insert(path);
                match key {
                    Some(key) if key.name() == "caps-lock" => self.caps = !self.caps,
                    Some(key) => self.note(key),
                    None => {}
                }
            }
            _ => {}
        }
    }

    /// A press as a program sees it: the character, or the key with its modifiers.
    fn note(&mut self, key: Key) {
        if key.kind() == KeyKind::Modifier || key.kind() == KeyKind::Mouse {
            return;
        }
        let holds = |names: &[&str]| {
            let codes = names.iter().filter_map(|name| Key::named(name)?.kernel());
            codes.into_iter().any(|code| self.down.contains_key(&code))
        };
        let shift = holds(&["left-shift", "right-shift"]);
        let others: Vec<&str> = [
            ("ctrl", ["left-ctrl", "right-ctrl"]),
            ("alt", ["left-alt", "alt-gr"]),
            ("super", ["left-super", "right-super"]),
        ]
        .into_iter()
        .filter_map(|(word, names)| holds(&names).then_some(word))
        .collect();
        let typed = match key.name() {
            "enter" => Some('\n'),
            "tab" => Some('\t'),
            _ => self.layout.group().character(key, ShiftLevel::from_modifiers(shift, false)),
        };
        if let (Some(letter), true) = (typed, others.is_empty()) {
            let letter = if self.caps { turned(letter) } else { letter };
            self.text.push(letter);
            if !letter.is_control() {
                self.words.push(letter.to_string());
                return;
            }
        }
        if key.name() == "backspace" {
            self.text.pop();
        }
        let shift = shift.then_some("shift");
        let names: Vec<&str> = shift.into_iter().chain(others).chain([key.name()]).collect();
        self.words.push(names.join("+"));
    }

    /// Reads everything that was sent so far: the kernel hands an event to its readers within the write
    /// of it.
    pub fn read_all(&mut self) {
        while self.read() {}
    }

    /// Reads for this time. A reader that pauses loses events, because the kernel's queue is short.
    pub fn read_for(&mut self, span: Duration) {
        let began = Instant::now();
        loop {
            self.read();
            if began.elapsed() >= span {
                return;
            }
            pause();
        }
    }

    /// Reads until nothing has come for this time.
    pub fn rest(&mut self, quiet: Duration) {
        let mut last = Instant::now();
        while last.elapsed() < quiet {
            if self.read() {
                last = Instant::now();
            }
            pause();
        }
    }

    /// Reads until it is as `done` says.
    ///
    /// # Panics
    /// If that does not come.
    pub fn until(&mut self, what: &str, done: impl Fn(&Console) -> bool) {
        let began = Instant::now();
        loop {
            self.read();
            if done(self) {
                return;
            }
            let (text, words) = (&self.text, &self.words);
            assert!(began.elapsed() < PATIENCE, "{what} did not come: {text:?}, {words:?}");
            pause();
        }
    }

    /// What came, as a program sees it.
    pub fn words(&self) -> &[String] {
        &self.words
    }

    /// The same since the last time.
    pub fn take_words(&mut self) -> Vec<String> {
        std::mem::take(&mut self.words)
    }

    /// Every key that came, as the kernel told it.
    pub fn keys(&self) -> &[Came] {
        &self.came
    }

    /// The same since the last time.
    pub fn take_keys(&mut self) -> Vec<Came> {
        std::mem::take(&mut self.came)
    }

    /// What stands in the text field that all of it goes to.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Drops everything that was sent so far.
    pub fn clear(&mut self) {
        self.read_all();
        self.text.clear();
        self.words.clear();
        self.came.clear();
    }

    /// The keys that programs believe to be down.
    pub fn keys_down(&self) -> Vec<Key> {
        let mut keys: Vec<Key> =
            self.down.keys().filter_map(|code| Key::from_kernel(*code)).collect();
        keys.sort();
        keys
    }

    /// Where the pointer is.
    pub fn pointer(&self) -> (i32, i32) {
        self.pointer
    }
}

fn turned(letter: char) -> char {
    if letter.is_lowercase() { letter.to_ascii_uppercase() } else { letter.to_ascii_lowercase() }
}
