//! What a Wayland session has besides input: its windows and its clipboard, by the protocols that compositors
//! of the wlroots family share. Put around a back end that only knows keys.
//!
//! A compositor that lacks a protocol is said so by the step that needs it, and by [`session_offers`] ahead of
//! time.

mod clipboard;
mod clipboard_dispatch;
mod hint_dispatch;
mod hints;
mod session;

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use lantern_model::{
    Command, CommandError, CommandKind, CommandResult, EffectId, Event, GrabSet, Hint, InputAction,
    InputBatch, Layout, ReplayKey, RuleSet, Time, Value,
};
use rustix::event::epoll;

use lantern_backend::PasteKeys;
use lantern_backend::{Ability, Backend, BackendError};
use session::WaylandConnection;

pub use session::{CompositorOffers, session_offers};

/// Maximum time between the paste keys and the request of the program for the content.
const PASTE_TIMEOUT: std::time::Duration = std::time::Duration::from_millis(1500);

/// A back end in a Wayland session.
#[derive(Debug)]
pub struct WaylandBackend<D> {
    backend: D,
    session: WaylandConnection,
    both: OwnedFd,
    /// What the program in front is known by, and the layout in force.
    front: Vec<String>,
    layout: Layout,
    /// The paste under way, and until when it is waited for.
    pasting: Option<(EffectId, Time)>,
    done: Vec<Event>,
}

/// The number of the step that presses the paste keys: no effect of the engine's has it.
const PASTE_KEYS: EffectId = EffectId(u64::MAX);

impl<D: Backend> WaylandBackend<D> {
    /// Joins the session that WAYLAND_DISPLAY names.
    ///
    /// # Errors
    /// When its compositor does not answer.
    pub fn join(backend: D) -> Result<WaylandBackend<D>, BackendError> {
        let session = WaylandConnection::connect()?;
        let lost = |error: rustix::io::Errno| BackendError::Lost(Box::new(error));
        let both = epoll::create(epoll::CreateFlags::CLOEXEC).map_err(lost)?;
        let add = |fd: BorrowedFd<'_>| {
            epoll::add(&both, fd, epoll::EventData::new_u64(0), epoll::EventFlags::IN)
        };
        for fd in session.descriptors() {
            add(fd).map_err(lost)?;
        }
        if let Some(fd) = backend.descriptor() {
            add(fd).map_err(lost)?;
        }
        Ok(WaylandBackend {
            backend,
            session,
            both,
            front: Vec::new(),
            layout: Layout::us(),
            pasting: None,
            done: Vec::new(),
        })
    }

    fn finish(&mut self, effect: EffectId, result: CommandResult) {
        self.done.push(Event::Outcome { effect, result });
    }

    /// Gives the clipboard the text, and has the program in front take it.
    fn begin_paste(&mut self, now: Time, effect: EffectId, text: &str) -> Result<(), BackendError> {
        if self.pasting.is_some() {
            self.finish(effect, Err(CommandError::refused("another text is being pasted")));
            return Ok(());
        }
        let paste = PasteKeys::of_program(&self.front);
        if paste == PasteKeys::Primary {
            let name = self.front.first().map_or("the program in front", String::as_str);
            let why =
                format!("{name} pastes what is selected, not what is copied: use `type` there");
            self.finish(effect, Err(CommandError::unsupported(why)));
            return Ok(());
        }
        if let Err(why) = self.session.lend(text) {
            self.finish(effect, Err(why));
            return Ok(());
        }
        let acts = vec![InputAction::Tap(paste.keys(&self.layout))];
        let step = InputBatch { actions: acts, suspend_modifiers: true, ..InputBatch::default() };
        self.backend.send_input(now, PASTE_KEYS, &step)?;
        self.pasting = Some((effect, now + PASTE_TIMEOUT));
        Ok(())
    }

    /// Ends the paste if the program took the text, or its time is over.
    fn look_at_paste(&mut self, now: Time) {
        let Some((effect, until)) = self.pasting else { return };
        let taken = self.session.was_taken();
        if !taken && now < until {
            return;
        }
        self.pasting = None;
        self.session.give_back();
        let nobody = || CommandError::timed_out("the program in front did not ask for the text");
        self.finish(effect, if taken { Ok(None) } else { Err(nobody()) });
    }
}

impl<D: Backend> Backend for WaylandBackend<D> {
    fn set_rules(&mut self, rules: &RuleSet) {
        self.backend.set_rules(rules);
    }

    fn knows_layout(&self) -> bool {
        self.backend.knows_layout()
    }

    fn abilities(&self) -> Vec<Ability> {
        let offers = self.session.offers();
        let windows = if offers.windows {
            "the compositor's list of windows"
        } else {
            "none: the compositor tells nothing of them"
        };
        let clipboard = if offers.clipboard {
            "the compositor's data control"
        } else {
            "none: the compositor does not lend it"
        };
        let mut abilities = self.backend.abilities();
        abilities.push(Ability::by("windows", windows));
        abilities.push(Ability::by("clipboard", clipboard));
        let hints =
            if offers.hints { "a layer of the compositor" } else { "notices of the desktop" };
        abilities.push(Ability::by("hints", hints));
        abilities
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
        self.backend.send_input(now, effect, step)
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
        let word = command.arguments.first().map_or("", String::as_str);
        let result = match &command.kind {
            CommandKind::Focus => self.session.activate(word),
            CommandKind::FocusWindow(window) => self.session.raise(*window),
            CommandKind::Close => self.session.close(word),
            CommandKind::Paste => {
                self.begin_paste(now, effect, word)?;
                return Ok(true);
            }
            CommandKind::ReadClipboard => match self.session.read_clipboard() {
                Ok(text) => {
                    self.finish(effect, Ok(Some(Value::Text(text))));
                    return Ok(true);
                }
                Err(why) => Err(why),
            },
            _ => return self.backend.execute(now, effect, command),
        };
        self.finish(effect, result.map(|()| None));
        Ok(true)
    }

    fn show_hint(&mut self, now: Time, effect: EffectId, hint: &Hint) -> Result<(), BackendError> {
        if self.backend.shows_hints() {
            return self.backend.show_hint(now, effect, hint);
        }
        self.session.show_hint(now, hint);
        Ok(())
    }

    fn shows_hints(&self) -> bool {
        self.backend.shows_hints() || self.session.offers().hints
    }

    fn poll_event(&mut self, now: Time) -> Result<Option<Event>, BackendError> {
        loop {
            self.session.read()?;
            self.look_at_paste(now);
            let own = (!self.done.is_empty()).then(|| self.done.remove(0));
            let knows_layout = self.backend.knows_layout();
            let mut next_of_session = || loop {
                match self.session.next_event() {
                    Some(Event::Layout(_)) if knows_layout => {}
                    other => return other,
                }
            };
            let own = own.or_else(&mut next_of_session);
            let is_guess = own.is_none();
            let event = match own {
                Some(event) => Some(event),
                None => self.backend.poll_event(now)?,
            };
            match event {
                // The paste keys are down and up: that is all that their own outcome says.
                Some(Event::Outcome { effect: PASTE_KEYS, result }) => {
                    if let Err(why) = result
                        && let Some((effect, _)) = self.pasting.take()
                    {
                        self.session.give_back();
                        self.finish(effect, Err(why));
                    }
                }
                other => {
                    match &other {
                        Some(Event::Focus(app)) => self.front.clone_from(&app.names),
                        // The session's own layout, once it is known, is the right one.
                        Some(Event::Layout(_))
                            if is_guess && !knows_layout && self.session.knows_layout() =>
                        {
                            continue;
                        }
                        Some(Event::Layout(layout)) => {
                            self.layout = layout.clone();
                            self.backend.set_layout(layout);
                        }
                        _ => {}
                    }
                    return Ok(other);
                }
            }
        }
    }

    fn handle_deadline(&mut self, now: Time) -> Result<(), BackendError> {
        self.look_at_paste(now);
        self.session.handle_deadline(now);
        self.backend.handle_deadline(now)
    }

    fn next_deadline(&self) -> Option<Time> {
        let paste = self.pasting.filter(|_| self.done.is_empty()).map(|(_, until)| until);
        let hints = self.session.next_deadline();
        [paste, hints, self.backend.next_deadline()].into_iter().flatten().min()
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.both.as_fd())
    }
}
