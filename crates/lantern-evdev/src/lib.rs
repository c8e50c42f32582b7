//! The kernel back end: reads keyboards and mice of the kernel and writes every event for programs
//! through two devices made with uinput. It works under Wayland, under X11 and on the console.
//!
//! [`KeyFilter`] decides which keys programs do not get, by the grabs that the engine asks for;
//! `device_set` holds the devices that are read, and `uinput_output` the two that are written. The kernel knows no windows, menus or clipboard: commands on them fail with
//! [`lantern_model::CommandErrorKind::Unsupported`].

mod device_set;
mod screen;
mod uinput_output;

use std::collections::VecDeque;
use std::os::fd::BorrowedFd;

use lantern_model::{
    Command, CommandError, EffectId, Event, GrabSet, InputBatch, Key, Layout, Rect, ReplayKey, Time,
};

use device_set::{EvdevEvent, GrabRequest, InputDevices};
use lantern_backend::{
    Ability, Backend, BackendError, ForwardedKey, InputSink, KeyFilter, send_batch, without_session,
};
use uinput_output::UinputOutput;

pub use device_set::{DeviceSummary, input_devices};
pub use screen::screen_size;
pub use uinput_output::{UDEV_RULE, output_exists};

/// Which devices are used, and facts that the kernel does not report.
#[derive(Debug, Clone, Default)]
pub struct DeviceSelection {
    /// Only devices with one of these in their names, case-blind; all, if there are none.
    pub only: Vec<String>,
    /// None with one of these.
    pub without: Vec<String>,
    /// The screen's size in pixels, where no graphics driver tells.
    pub screen: Option<(i32, i32)>,
}

/// The back end that reads the kernel's input devices.
#[derive(Debug)]
pub struct EvdevBackend {
    devices: InputDevices,
    output: UinputOutput,
    key_filter: KeyFilter,
    screen: Option<(i32, i32)>,
    /// What the devices did and was not handled yet.
    pending: VecDeque<EvdevEvent>,
    events: VecDeque<Event>,
    /// The panic combination gave the devices back; they are taken again when rules want them again.
    gave_back: bool,
}

impl EvdevBackend {
    /// Opens the devices. None is taken before rules want its keys.
    ///
    /// # Errors
    /// When no keyboard may be read, or no device of our own may be made.
    pub fn open(choice: DeviceSelection) -> Result<EvdevBackend, BackendError> {
        let screen = choice.screen.or_else(screen_size);
        let output = UinputOutput::open(screen)?;
        let devices = InputDevices::open(choice)?;
        let layout = lantern_backend::system_layout();
        let mut events = VecDeque::from([Event::Layout(layout.clone())]);
        events.extend(
            screen.map(|(width, height)| Event::Screens(vec![Rect { x: 0, y: 0, width, height }])),
        );
        let key_filter = KeyFilter::new(layout);
        Ok(EvdevBackend {
            devices,
            output,
            key_filter,
            screen,
            pending: VecDeque::new(),
            events,
            gave_back: false,
        })
    }

    /// Takes in what the devices did by now, up to the first event for the engine: what the engine answers
    /// comes before later keys.
    fn read(&mut self) -> Result<(), BackendError> {
        self.pending.extend(self.devices.read());
        while self.events.is_empty()
            && let Some(event) = self.pending.pop_front()
        {
            self.handle(event)?;
            self.events.extend(self.key_filter.take_events());
        }
        if self.key_filter.take_panic() {
            self.gave_back = true;
            self.take(GrabRequest::default())
        } else {
            self.devices.take_up();
            self.follow_pens()
        }
    }

    fn handle(&mut self, event: EvdevEvent) -> Result<(), BackendError> {
        match event {
            EvdevEvent::Key { device, code, value, taken } => {
                self.take_key(device, code, value, taken);
            }
            EvdevEvent::Moved { axis, by, taken } => {
                self.key_filter.move_pointer(axis, by);
                if taken {
                    self.turn_wheel_or_pass(axis, by);
                }
            }
            EvdevEvent::PenTablet(device, event) => self.take_pen(device, event)?,
            EvdevEvent::Other(event, taken) => {
                if taken {
                    self.output.pass(event);
                }
            }
            EvdevEvent::Report => {
                self.output.flush()?;
                self.key_filter.tell_way();
            }
            EvdevEvent::Gone(device) => {
                for key in self.key_filter.keys_down_on(device) {
                    let code = key.kernel().unwrap_or_default();
                    self.take_key(device, code, 0, true);
                }
                self.output.close_pen(device);
                self.output.flush()?;
            }
        }
        Ok(())
    }

    /// Replaces what is grabbed. Keys that programs see as down on a released device go up for
    /// them: the release of the key itself comes from another device.
    fn take(&mut self, taking: GrabRequest) -> Result<(), BackendError> {
        for device in self.devices.losing(taking) {
            for key in self.key_filter.lose_device(device) {
                self.output.key(key.kernel().unwrap_or_default(), 0);
            }
        }
        self.output.flush()?;
        self.devices.take(taking);
        self.follow_pens()
    }

    /// Forwards a grabbed pen through a copy of its tablet while it is grabbed.
    fn follow_pens(&mut self) -> Result<(), BackendError> {
        for (device, tablet, taken) in self.devices.pens() {
            if taken {
                self.output.open_pen(device, tablet)?;
            } else {
                self.output.close_pen(device);
            }
        }
        Ok(())
    }

    /// Handles an event of a pen: its parts may be keys of rules, everything else is forwarded.
    fn take_pen(&mut self, device: usize, event: evdev::InputEvent) -> Result<(), BackendError> {
        let (code, value) = (event.code(), event.value());
        match event.event_type() {
            evdev::EventType::SYNCHRONIZATION => {
                self.key_filter.tell_way();
                self.output.flush_pen(device)?;
                self.output.flush()?;
            }
            evdev::EventType::KEY if Key::from_kernel(code).is_some_and(|key| key.is_pointer()) => {
                let flow = self.flow_of(device, code, value, true);
                match flow {
                    ForwardedKey::Pass => self.output.pen(device, event),
                    other => self.send(&other, code, value),
                }
            }
            evdev::EventType::ABSOLUTE => {
                if let Some((axis, at)) = self.output.scaled(device, code, value, self.screen) {
                    self.key_filter.place_pointer(axis, at);
                }
                self.output.pen(device, event);
            }
            _ => self.output.pen(device, event),
        }
        Ok(())
    }

    /// A key of a device moved: 0 is up, 1 down, 2 a repeat.
    fn take_key(&mut self, device: usize, code: u16, value: i32, taken: bool) {
        let flow = self.flow_of(device, code, value, taken);
        if taken {
            self.send(&flow, code, value);
        }
    }

    /// What becomes of a key of a device.
    fn flow_of(&mut self, device: usize, code: u16, value: i32, taken: bool) -> ForwardedKey {
        let Some(key) = Key::from_kernel(code) else { return ForwardedKey::Pass };
        let name = self.devices.name(device);
        match value {
            0 => self.key_filter.release(device, key, taken),
            1 => self.key_filter.press(device, name, key, taken),
            _ => self.key_filter.repeat(key),
        }
    }

    fn send(&mut self, flow: &ForwardedKey, code: u16, value: i32) {
        match flow {
            ForwardedKey::Keep => {}
            ForwardedKey::Pass => self.output.key(code, value),
            ForwardedKey::Instead(keys) => {
                for (key, down) in keys {
                    self.output.write_key(*key, *down);
                }
            }
        }
    }

    /// A turn of the wheel may be a key of a rule; all other events of a mouse are forwarded.
    fn turn_wheel_or_pass(&mut self, axis: u16, by: i32) {
        match uinput_output::wheel_key(axis, by) {
            Some(key) if self.key_filter.wants_turn(key) => {
                for _ in 0..by.unsigned_abs() {
                    self.key_filter.turn(key);
                }
                self.output.swallow_fine_turn();
            }
            _ => self.output.motion(axis, by),
        }
    }

    /// What must be taken now.
    fn taking(&self) -> GrabRequest {
        if self.gave_back {
            GrabRequest::default()
        } else {
            GrabRequest::of(self.key_filter.grabs())
        }
    }
}

impl Backend for EvdevBackend {
    fn abilities(&self) -> Vec<Ability> {
        vec![
            Ability::by("keys", "the kernel's devices"),
            Ability::by("input", "a device of the kernel, characters of the layout"),
        ]
    }

    fn set_layout(&mut self, layout: &Layout) {
        self.key_filter.set_layout(layout.clone());
    }

    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError> {
        // After a panic only the panic combination is grabbed until rules are resumed.
        let only_panic = grabs.keys.iter().all(|key| Some((key.key, key.modifiers)) == grabs.panic);
        if !only_panic {
            self.gave_back = false;
        }
        self.key_filter.set_grabs(grabs);
        self.events.extend(self.key_filter.take_events());
        self.take(self.taking())
    }

    fn send_input(
        &mut self,
        _: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        let result = send_batch(&mut self.key_filter, &mut self.output, step)?;
        self.events.push_back(Event::Outcome { effect, result: result.map(|()| None) });
        Ok(())
    }

    fn replay_key(&mut self, _: Time, back: &ReplayKey) -> Result<(), BackendError> {
        let flow = self.key_filter.give_back(back);
        self.send(&flow, 0, 0);
        self.output.flush()
    }

    fn execute(
        &mut self,
        _: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError> {
        let Some(why) = without_session(&command.kind) else { return Ok(false) };
        self.events
            .push_back(Event::Outcome { effect, result: Err(CommandError::unsupported(why)) });
        Ok(true)
    }

    fn poll_event(&mut self, _: Time) -> Result<Option<Event>, BackendError> {
        if self.events.is_empty() {
            self.read()?;
        }
        Ok(self.events.pop_front())
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.devices.descriptor())
    }
}
