//! A back end that makes no input and says what it would have made: for `run --backend simulated`.

use std::os::fd::BorrowedFd;

use lantern_backend::{Ability, Backend, BackendError, OutputKind, SimulatedBackend};
use lantern_model::{Command, EffectId, Event, GrabSet, Hint, InputBatch, ReplayKey, Time};

use crate::output::say;
use crate::style;
use crate::text::{combo_name, quoted, reference_layout};

/// The simulated back end, with a voice.
#[derive(Debug)]
pub struct LoggingBackend {
    backend: SimulatedBackend,
}

impl LoggingBackend {
    /// One on which nothing happened yet.
    pub fn new() -> LoggingBackend {
        LoggingBackend { backend: SimulatedBackend::new(reference_layout().clone()) }
    }

    /// Says what came out.
    fn tell(&mut self) {
        for output in self.backend.take_outputs() {
            let words = match output.what {
                OutputKind::Typed(text) => format!("types {}", quoted(&text)),
                OutputKind::Pasted(text) => format!("pastes {}", quoted(&text)),
                OutputKind::Tapped(keys) => format!("taps {}", combo_name(&keys)),
                OutputKind::Pressed(key) => format!("presses {key}"),
                OutputKind::LetGo(key) => format!("lets go {key}"),
                OutputKind::PointerAt(x, y) => format!("moves to {x}, {y}"),
                OutputKind::Hint(text) => format!("hint {}", quoted(&text)),
            };
            say!("{}{words}{0:#}", style::WENT_OUT);
        }
        self.backend.forget();
    }
}

impl Backend for LoggingBackend {
    fn abilities(&self) -> Vec<Ability> {
        vec![
            Ability::by("keys", "none: input is simulated"),
            Ability::by("input", "written as lines"),
        ]
    }

    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError> {
        self.backend.set_grabs(grabs)
    }

    fn send_input(
        &mut self,
        now: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        self.backend.send_input(now, effect, step)?;
        self.tell();
        Ok(())
    }

    fn replay_key(&mut self, now: Time, back: &ReplayKey) -> Result<(), BackendError> {
        self.backend.replay_key(now, back)
    }

    fn execute(
        &mut self,
        now: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError> {
        let done = self.backend.execute(now, effect, command);
        self.tell();
        done
    }

    fn show_hint(&mut self, now: Time, effect: EffectId, hint: &Hint) -> Result<(), BackendError> {
        self.backend.show_hint(now, effect, hint)?;
        self.tell();
        Ok(())
    }

    fn shows_hints(&self) -> bool {
        true
    }

    fn poll_event(&mut self, now: Time) -> Result<Option<Event>, BackendError> {
        self.backend.poll_event(now)
    }

    fn handle_deadline(&mut self, now: Time) -> Result<(), BackendError> {
        self.backend.handle_deadline(now)
    }

    fn next_deadline(&self) -> Option<Time> {
        self.backend.next_deadline()
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        self.backend.descriptor()
    }
}
