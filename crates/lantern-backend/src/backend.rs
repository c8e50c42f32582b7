//! The interface of back ends, and their errors.

use std::os::fd::BorrowedFd;

use lantern_model::{
    Command, CommandKind, EffectId, Event, GrabSet, Hint, InputBatch, Layout, ReplayKey, RuleSet,
    Time,
};

/// Sees and sends input on one kind of desktop.
///
/// The contract, which the contract tests check for every implementation:
/// - A grabbed combination reaches no program, neither its press nor its release.
/// - Input that the back end sends is never reported as the person's.
/// - A batch with suspended modifiers arrives as if the person held none. Afterwards exactly those of the
///   person's modifiers are down that are still held.
pub trait Backend {
    /// Replaces the set of grabs. [`Event::GrabsRefused`] may follow.
    ///
    /// # Errors
    /// When the desktop is gone.
    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError>;

    /// Sends a batch of input as one indivisible step. [`Event::Outcome`] follows.
    ///
    /// # Errors
    /// When the desktop is gone.
    fn send_input(
        &mut self,
        now: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError>;

    /// Gives a withheld press to the program in front, as itself or as what it is remapped to.
    ///
    /// # Errors
    /// When the desktop is gone.
    fn replay_key(&mut self, now: Time, back: &ReplayKey) -> Result<(), BackendError>;

    /// Executes a command on windows or the clipboard; [`Event::Outcome`] follows. False if the
    /// command is not one of a back end.
    ///
    /// # Errors
    /// When the desktop is gone.
    fn execute(
        &mut self,
        now: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError>;

    /// Shows a hint, if [`Backend::shows_hints`].
    ///
    /// # Errors
    /// When the desktop is gone.
    fn show_hint(
        &mut self,
        _now: Time,
        _effect: EffectId,
        _hint: &Hint,
    ) -> Result<(), BackendError> {
        Ok(())
    }

    /// Takes the rules that are in force from now on. Most back ends need only their grabs.
    fn set_rules(&mut self, _rules: &RuleSet) {}

    /// Takes the keyboard layout that the session has, where something other than the back end knows it.
    fn set_layout(&mut self, _layout: &Layout) {}

    /// Whether the back end reports the layout of the keyboard in use; otherwise it is a guess by the
    /// configuration.
    fn knows_layout(&self) -> bool {
        false
    }

    /// What the back end can do at the moment, and by which way.
    fn abilities(&self) -> Vec<Ability>;

    /// Whether hints are shown; otherwise the notification service shows them.
    fn shows_hints(&self) -> bool {
        false
    }

    /// The next event, if there is one.
    ///
    /// # Errors
    /// When the desktop is gone.
    fn poll_event(&mut self, now: Time) -> Result<Option<Event>, BackendError>;

    /// Handles deadlines up to `now`.
    ///
    /// # Errors
    /// When the desktop is gone.
    fn handle_deadline(&mut self, _now: Time) -> Result<(), BackendError> {
        Ok(())
    }

    /// When [`Backend::handle_deadline`] must be called, if ever.
    fn next_deadline(&self) -> Option<Time> {
        None
    }

    /// Descriptor that becomes readable when events are waiting. The simulated back end has none.
    fn descriptor(&self) -> Option<BorrowedFd<'_>>;
}

/// Something that a back end can do, or cannot do for a reason.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ability {
    /// What: keys, input, windows, clipboard, hints.
    pub name: &'static str,
    /// By which way, or why not.
    pub way: String,
}

impl Ability {
    /// An ability with a way that never changes.
    pub fn by(name: &'static str, way: &str) -> Ability {
        Ability { name, way: way.to_owned() }
    }
}

/// Why a back end that has only input does not do what is asked of windows and the clipboard; nothing if it is not
/// a back end's to do at all.
pub fn without_session(verb: &CommandKind) -> Option<&'static str> {
    match verb {
        CommandKind::Focus | CommandKind::FocusWindow(_) | CommandKind::Close => {
            Some("this back end cannot tell windows apart")
        }
        CommandKind::Paste | CommandKind::ReadClipboard => Some("this back end has no clipboard"),
        _ => None,
    }
}

/// Why a back end cannot be had, or is gone.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BackendError {
    /// No display is named.
    #[error("no display is named: DISPLAY is not set")]
    NoDisplay,
    /// The display cannot be reached.
    #[error("cannot reach the display {display}")]
    Unreachable {
        /// Its name.
        display: String,
        /// Why.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The display lacks something we need.
    #[error("the display {display} has no {extension} extension")]
    MissingExtension {
        /// Its name.
        display: String,
        /// What it lacks.
        extension: &'static str,
    },
    /// Another program has the keyboard to itself.
    #[error("another program has the keyboard to itself")]
    KeyboardTaken,
    /// The connection broke.
    #[error("the display went away")]
    Lost(#[source] Box<dyn std::error::Error + Send + Sync>),
    /// The compositor of a Wayland session does not answer.
    #[error("cannot reach the Wayland session {name}")]
    NoSession {
        /// Its name.
        name: String,
        /// Why.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The desktop's portal does not give us what we need.
    #[error("the desktop's portal: {why}")]
    Portal {
        /// Why.
        why: String,
    },
    /// An input device cannot be read, or none be made.
    #[error("cannot use {path}: {source}")]
    Input {
        /// Where.
        path: std::path::PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// The list of held keys cannot be kept.
    #[error("cannot keep the list of held keys in {path}")]
    HeldKeyWriter {
        /// Where.
        path: std::path::PathBuf,
        /// Why.
        #[source]
        source: std::io::Error,
    },
}

impl BackendError {
    /// What the person can do about it.
    pub fn hint(&self) -> &'static str {
        match self {
            BackendError::NoDisplay => {
                "start it in a graphical session, or set DISPLAY; `lantern rehearse` and `lantern demo` need no display"
            }
            BackendError::Unreachable { .. } => {
                "check that the display in DISPLAY runs and that you may use it (xauth)"
            }
            BackendError::MissingExtension { .. } => {
                "the display's server must be started with its XTEST, XInput 2 and XKEYBOARD extensions"
            }
            BackendError::KeyboardTaken => "close its menu, or unlock the screen, and try again",
            BackendError::Lost(_) => "start lantern again when the display is back",
            BackendError::NoSession { .. } => {
                "check WAYLAND_DISPLAY, or start it from within the session"
            }
            BackendError::Portal { .. } => {
                "use the kernel's input instead: `lantern run --backend evdev`, for which `lantern doctor` says what is missing"
            }
            BackendError::Input { source, .. }
                if source.kind() == std::io::ErrorKind::PermissionDenied =>
            {
                "`sudo usermod -aG input \"$USER\"`, then log in again; `lantern doctor` prints the udev rule for /dev/uinput"
            }
            BackendError::Input { .. } => {
                "`sudo modprobe uinput`; `lantern doctor` says what is there"
            }
            BackendError::HeldKeyWriter { .. } => {
                "XDG_RUNTIME_DIR must name a folder that you may write to"
            }
        }
    }
}

#[cfg(feature = "x11rb")]
impl From<x11rb::errors::ConnectionError> for BackendError {
    fn from(error: x11rb::errors::ConnectionError) -> Self {
        BackendError::Lost(Box::new(error))
    }
}

#[cfg(feature = "x11rb")]
impl From<x11rb::errors::ReplyError> for BackendError {
    fn from(error: x11rb::errors::ReplyError) -> Self {
        BackendError::Lost(Box::new(error))
    }
}

#[cfg(feature = "x11rb")]
impl From<x11rb::errors::ReplyOrIdError> for BackendError {
    fn from(error: x11rb::errors::ReplyOrIdError) -> Self {
        BackendError::Lost(Box::new(error))
    }
}
