//! The real desktop, over the X protocol: XInput 2 to take keys, XTEST to put input in.
//!
//! What is done here and why was measured first; ARCHITECTURE.md, "What the X server does", tells.

mod connection;
mod fingers;
mod focus;
mod grabs;
mod hint;
mod inject;
mod keymap;
mod lend;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::os::fd::{AsFd, BorrowedFd};
use std::path::Path;
use std::time::Duration;

use lantern_model::{
    Armed, Deed, EffectId, Event, GiveBack, HintPlace, InputStep, Key, Modifiers, Side, Time,
};
use x11rb::connection::Connection;
use x11rb::protocol::Event as XEvent;
use x11rb::protocol::xinput::{self, ConnectionExt as _, KeyEventFlags, XIEventMask};
use x11rb::protocol::xkb::{self, ConnectionExt as _, EventType, MapPart};
use x11rb::protocol::xproto::{self, ConnectionExt as _};
use x11rb::protocol::xtest::ConnectionExt as _;

use crate::{Desk, DeskError, HeldKeys};
use connection::Link;
use grabs::Grabs;
use hint::Hint;
use keymap::{Keymap, key_of, keycode_of};
use lend::WaitingStep;

/// The desk on an X display.
#[derive(Debug)]
pub struct X11Desk {
    link: Link,
    keymap: Keymap,
    /// Locked modifiers, as XKB last said.
    locked: u16,
    /// What must be withheld.
    armed: Armed,
    grabs: Grabs,
    held: HeldKeys,
    /// Releases that were put together but not sent.
    ups: Vec<u8>,
    button_ups: Vec<u8>,
    /// Keycodes whose grabs are let go for the present step.
    suspended: Vec<u8>,
    /// Keycodes whose grabs are let go as long as we hold them down.
    open: BTreeSet<u8>,
    /// The modifiers of the press that is being answered.
    pressed_under: Option<u16>,
    /// Withheld keys whose release must be reported.
    followed: BTreeSet<Key>,
    /// Whether the followed keys must be looked at, since their release may have come already.
    look_again: bool,
    /// Keys given back to the program, down through XTEST until the finger leaves.
    given_back: BTreeSet<Key>,
    selected_raw: (bool, bool),
    steps_ahead: u32,
    lent: BTreeMap<char, u8>,
    waiting: Option<WaitingStep>,
    take_back_at: Option<Time>,
    hints: Vec<Hint>,
    /// Seen, and not yet handed over.
    events: VecDeque<Event>,
    /// Done, and not yet handed over. What the person does comes first, so that a loop of steps
    /// never keeps the key that stops it waiting.
    outcomes: VecDeque<Event>,
}

impl X11Desk {
    /// Connects to the display in DISPLAY. `held` is where held keys are listed; what it lists from
    /// a run that died is let go first.
    ///
    /// # Errors
    /// When the display cannot be reached, or lacks what we need.
    pub fn open(held: HeldKeys) -> Result<X11Desk, DeskError> {
        X11Desk::open_on(None, held)
    }

    /// The same for a display by its name.
    ///
    /// # Errors
    /// When the display cannot be reached, or lacks what we need.
    pub fn open_on(display: Option<&str>, held: HeldKeys) -> Result<X11Desk, DeskError> {
        let link = Link::open(display)?;
        release_marked(&link, held.path())?;
        let mut held = held;
        held.clear();
        let keymap = Keymap::read(&link.conn)?;
        let mut desk = X11Desk {
            link,
            keymap,
            locked: 0,
            armed: Armed::default(),
            grabs: Grabs::default(),
            held,
            ups: Vec::new(),
            button_ups: Vec::new(),
            suspended: Vec::new(),
            open: BTreeSet::new(),
            pressed_under: None,
            followed: BTreeSet::new(),
            look_again: false,
            given_back: BTreeSet::new(),
            selected_raw: (false, false),
            steps_ahead: 0,
            lent: BTreeMap::new(),
            waiting: None,
            take_back_at: None,
            hints: Vec::new(),
            events: VecDeque::new(),
            outcomes: VecDeque::new(),
        };
        desk.select_root_events(false)?;
        desk.select_keyboard_events()?;
        let layout = desk.keymap.layout.clone();
        let app = focus::active_app(&desk.link)?;
        let screen = desk.link.screen_frame();
        desk.events.extend([
            Event::Screens(vec![screen]),
            Event::Focus(app),
            Event::Layout(layout),
        ]);
        desk.flush()?;
        Ok(desk)
    }

    /// Whether a window manager tells which program is in front.
    ///
    /// # Errors
    /// When the display is gone.
    pub fn tells_programs(&self) -> Result<bool, DeskError> {
        let any = xproto::AtomEnum::ANY;
        let active = self.link.atoms._NET_ACTIVE_WINDOW;
        let cookie = self.link.conn.get_property(false, self.link.root, active, any, 0, 1)?;
        Ok(cookie.reply().is_ok_and(|reply| reply.type_ != x11rb::NONE))
    }

    fn select_root_events(&self, pings: bool) -> Result<(), DeskError> {
        let mut mask = xproto::EventMask::PROPERTY_CHANGE;
        if pings {
            mask |= xproto::EventMask::SUBSTRUCTURE_NOTIFY;
        }
        self.link.select_root(mask)
    }

    /// Changes of the map, of the group and of locks, and keyboards coming and going.
    ///
    /// The notice of a new keyboard is not asked for: the server sends it twice for every injected
    /// key between two of the person's. A new layout also changes a property of the root window.
    fn select_keyboard_events(&mut self) -> Result<(), DeskError> {
        let core = xkb::ID::USE_CORE_KBD.into();
        let details = xkb::SelectEventsAux::new().state_notify(xkb::SelectEventsAuxStateNotify {
            affect_state: xkb::StatePart::GROUP_STATE | xkb::StatePart::MODIFIER_LOCK,
            state_details: xkb::StatePart::GROUP_STATE | xkb::StatePart::MODIFIER_LOCK,
        });
        let map = MapPart::KEY_TYPES | MapPart::KEY_SYMS | MapPart::MODIFIER_MAP;
        let none = EventType::from(0u16);
        self.link.conn.xkb_select_events(core, none, none, map, map, &details)?;
        let hierarchy = XIEventMask::HIERARCHY;
        let masks = [xinput::EventMask { deviceid: 0, mask: vec![hierarchy] }];
        self.link.conn.xinput_xi_select_events(self.link.root, &masks)?;
        let state = self.link.conn.xkb_get_state(core)?.reply()?;
        self.locked = state.locked_mods.into();
        Ok(())
    }

    fn handle_x_event(&mut self, now: Time, event: XEvent) -> Result<(), DeskError> {
        match event {
            XEvent::XinputKeyPress(press) => {
                let repeat = u32::from(press.flags) & u32::from(KeyEventFlags::KEY_REPEAT) != 0;
                if !repeat {
                    let low = |mask: u32| (mask & 0xff) as u16;
                    let (base, effective) = (low(press.mods.base), low(press.mods.effective));
                    self.handle_press(press.detail as u8, base, effective)?;
                }
            }
            // A press that fell into the moment in which a grab was tried.
            XEvent::KeyPress(press) => {
                let mask = u16::from(press.state) & 0xff;
                self.handle_press(press.detail, mask, mask)?;
            }
            XEvent::XinputRawKeyPress(raw) => {
                self.handle_raw(raw.sourceid, key_of_detail(raw.detail), true)?
            }
            XEvent::XinputRawKeyRelease(raw) => {
                self.handle_raw(raw.sourceid, key_of_detail(raw.detail), false)?
            }
            XEvent::XinputRawButtonPress(raw) => {
                self.handle_raw(raw.sourceid, button_of_detail(raw.detail), true)?
            }
            XEvent::XinputRawButtonRelease(raw) => {
                self.handle_raw(raw.sourceid, button_of_detail(raw.detail), false)?
            }
            XEvent::XinputHierarchy(_) => {
                self.link.devices = connection::query_devices(&self.link.conn)?;
                self.handle_new_map()?;
            }
            XEvent::XkbStateNotify(state) => self.handle_state(&state)?,
            XEvent::XkbMapNotify(_) => self.handle_new_map()?,
            XEvent::PropertyNotify(change) if change.atom == self.link.atoms._XKB_RULES_NAMES => {
                self.handle_new_map()?;
            }
            XEvent::PropertyNotify(change) if change.atom == self.link.atoms._NET_ACTIVE_WINDOW => {
                let app = focus::active_app(&self.link)?;
                self.events.push_back(Event::Focus(app));
            }
            XEvent::ClientMessage(message) => self.handle_pong(now, &message)?,
            XEvent::Expose(expose) => {
                if let Some(hint) = self.hints.iter().find(|hint| hint.is_in(expose.window)) {
                    hint.draw(&self.link)?;
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// A grabbed key went down, with these modifiers pressed and these in force. Letting it go in
    /// the server ends the grab without a stray release and without repeats; the finger's own
    /// release is seen as a raw event only.
    fn handle_press(&mut self, code: u8, base: u16, effective: u16) -> Result<(), DeskError> {
        self.fake_key(code, false)?;
        let found = self.grabs.find(&self.keymap, code, effective.into());
        let (Some(key), Some(armed)) = (key_of(code), found) else {
            return Ok(());
        };
        self.pressed_under = Some(base);
        let modifiers: Modifiers = if armed.sides {
            let real = fingers::real_keycodes(&self.link)?;
            let down =
                |side: &Side| keycode_of(side.key()).is_some_and(|code| real.contains(&code));
            Side::ALL.into_iter().filter(down).collect()
        } else {
            self.keymap.usual_sides(effective).collect()
        };
        if armed.follow {
            self.followed.insert(key);
            self.look_again = true;
            self.select_raw_events()?;
        }
        self.events.push_back(Event::Pressed { key, modifiers });
        Ok(())
    }

    fn handle_raw(&mut self, source: u16, key: Option<Key>, down: bool) -> Result<(), DeskError> {
        let Some(key) = key.filter(|_| !self.link.devices.injected.contains(&source)) else {
            return Ok(());
        };
        if self.armed.fingers {
            self.events.push_back(Event::Finger { key, down });
        }
        if !down {
            self.let_go(key)?;
        }
        Ok(())
    }

    /// A finger left a key that we follow or gave back.
    fn let_go(&mut self, key: Key) -> Result<(), DeskError> {
        if self.followed.remove(&key) {
            self.events.push_back(Event::LetGo { key });
        }
        if self.given_back.remove(&key)
            && let Some(code) = keycode_of(key)
        {
            self.fake_key(code, false)?;
            self.open.remove(&code);
            self.grabs.resume(&self.link, code)?;
            self.flush()?;
        }
        self.select_raw_events()
    }

    fn select_raw_events(&mut self) -> Result<(), DeskError> {
        let releases = !self.followed.is_empty() || !self.given_back.is_empty();
        let wanted = (self.armed.fingers, releases);
        if self.selected_raw != wanted {
            self.selected_raw = wanted;
            fingers::select_raw(&self.link, wanted.0, wanted.1)?;
        }
        Ok(())
    }

    /// Looks whether followed keys are still under the fingers: they may have gone up before raw
    /// events were selected.
    fn look_at_followed(&mut self) -> Result<(), DeskError> {
        self.look_again = false;
        let real = fingers::real_keycodes(&self.link)?;
        let up = |key: &Key| keycode_of(*key).is_none_or(|code| !real.contains(&code));
        let gone: Vec<Key> =
            self.followed.iter().chain(&self.given_back).filter(|key| up(key)).copied().collect();
        gone.into_iter().try_for_each(|key| self.let_go(key))
    }

    /// Grabs what must be withheld under the locks that are on; says what somebody else holds.
    fn take_grabs(&mut self) -> Result<(), DeskError> {
        let keys = &self.armed.keys;
        let refused = self.grabs.replace(&self.link, &self.keymap, self.locked, keys)?;
        for code in &self.open {
            self.grabs.suspend(&self.link, *code)?;
        }
        if !refused.is_empty() {
            self.events.push_back(Event::Refused(refused));
        }
        Ok(())
    }

    fn handle_state(&mut self, state: &xkb::StateNotifyEvent) -> Result<(), DeskError> {
        let locked = state.locked_mods.into();
        if locked != self.locked {
            self.locked = locked;
            self.take_grabs()?;
        }
        let group = usize::from(u8::from(state.group));
        if group != self.keymap.layout.active {
            self.keymap.layout.active = group;
            self.events.push_back(Event::Layout(self.keymap.layout.clone()));
        }
        Ok(())
    }

    /// The map may have changed, or only the device that typed last; looking tells.
    fn handle_new_map(&mut self) -> Result<(), DeskError> {
        let mut fresh = Keymap::read(&self.link.conn)?;
        if !self.lent.is_empty() {
            // Keycodes that we lent are still ours to give.
            fresh.spare.clone_from(&self.keymap.spare);
        }
        if fresh != self.keymap {
            self.keymap = fresh;
            self.take_grabs()?;
            self.events.push_back(Event::Layout(self.keymap.layout.clone()));
        }
        Ok(())
    }
}

impl Desk for X11Desk {
    fn arm(&mut self, armed: Armed) -> Result<(), DeskError> {
        let first_fingers = armed.fingers && !self.armed.fingers;
        self.armed = armed;
        self.take_grabs()?;
        if first_fingers {
            for key in fingers::real_keys(&self.link)? {
                self.events.push_back(Event::Finger { key, down: true });
            }
        }
        self.select_raw_events()?;
        self.flush()
    }

    fn input(&mut self, now: Time, effect: EffectId, step: &InputStep) -> Result<(), DeskError> {
        if !self.missing_characters(step).is_empty() {
            return self.begin_lending(now, effect, step.clone());
        }
        self.perform_step(step)?;
        self.outcomes.push_back(Event::Outcome { effect, result: Ok(None) });
        Ok(())
    }

    fn give_back(&mut self, _: Time, back: &GiveBack) -> Result<(), DeskError> {
        let Some(code) = keycode_of(back.key) else {
            return Ok(());
        };
        self.grabs.suspend(&self.link, code)?;
        self.fake_key(code, true)?;
        if back.tap {
            self.fake_key(code, false)?;
            self.grabs.resume(&self.link, code)?;
            return self.flush();
        }
        self.open.insert(code);
        self.given_back.insert(back.key);
        self.look_again = true;
        self.select_raw_events()?;
        self.flush()
    }

    fn attempt(&mut self, _: Time, _: EffectId, _: &Deed) -> Result<bool, DeskError> {
        Ok(false)
    }

    fn hint(
        &mut self,
        now: Time,
        _: EffectId,
        text: &str,
        place: HintPlace,
        span: Duration,
    ) -> Result<(), DeskError> {
        // One hint at a time: the newest is what matters.
        for old in self.hints.drain(..) {
            old.remove(&self.link)?;
        }
        self.hints.push(Hint::show(&self.link, now, text, place, span)?);
        Ok(())
    }

    fn poll_event(&mut self, now: Time) -> Result<Option<Event>, DeskError> {
        loop {
            if let Some(event) = self.events.pop_front() {
                return Ok(Some(event));
            }
            if let Some(event) = self.link.conn.poll_for_event()? {
                self.handle_x_event(now, event)?;
                continue;
            }
            if let Some(outcome) = self.outcomes.pop_front() {
                return Ok(Some(outcome));
            }
            self.pressed_under = None;
            self.flush()?;
            if !self.look_again {
                return Ok(None);
            }
            self.look_at_followed()?;
        }
    }

    fn handle_deadline(&mut self, now: Time) -> Result<(), DeskError> {
        let (gone, left) =
            std::mem::take(&mut self.hints).into_iter().partition(|h| h.until <= now);
        self.hints = left;
        let gone: Vec<Hint> = gone;
        gone.into_iter().try_for_each(|hint| hint.remove(&self.link))?;
        self.handle_lending_deadline(now)
    }

    fn next_deadline(&self) -> Option<Time> {
        let hints = self.hints.iter().map(|hint| hint.until);
        hints.chain(self.lending_deadline()).min()
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.link.conn.stream().as_fd())
    }
}

impl Drop for X11Desk {
    /// Leaves the display as it was. What fails here, the guardian does.
    fn drop(&mut self) {
        let _ = self.take_back();
        let _ = self.flush();
        if release_marked(&self.link, self.held.path()).is_ok() {
            self.held.clear();
        }
    }
}

/// Lets go of every key and button listed in `path`, and takes lent keycodes back, over a
/// connection of its own to a display, or to the one in DISPLAY. `watch` is called once the connection stands, and must return when the
/// time has come; true if there is anything to do.
///
/// # Errors
/// When the display cannot be reached.
pub fn release_held(
    display: Option<&str>,
    path: &Path,
    watch: impl FnOnce() -> bool,
) -> Result<(), DeskError> {
    let link = Link::open(display)?;
    if watch() {
        release_marked(&link, path)?;
        // What the dead client sent last may still be on its way through the server.
        std::thread::sleep(Duration::from_millis(50));
        release_marked(&link, path)?;
    }
    Ok(())
}

fn release_marked(link: &Link, path: &Path) -> Result<(), DeskError> {
    let marks = HeldKeys::read(path);
    let keys = marks.keycodes.into_iter().map(|code| (xproto::KEY_RELEASE_EVENT, code));
    let buttons = marks.buttons.into_iter().map(|button| (xproto::BUTTON_RELEASE_EVENT, button));
    for (kind, detail) in keys.chain(buttons) {
        link.conn.xtest_fake_input(kind, detail, x11rb::CURRENT_TIME, x11rb::NONE, 0, 0, 0)?;
    }
    for code in marks.lent {
        link.conn.change_keyboard_mapping(1, code, 2, &[0, 0])?;
    }
    link.conn.get_input_focus()?.reply()?;
    Ok(())
}

fn key_of_detail(detail: u32) -> Option<Key> {
    u8::try_from(detail).ok().and_then(key_of)
}

fn button_of_detail(detail: u32) -> Option<Key> {
    u8::try_from(detail).ok().and_then(Key::from_button)
}
