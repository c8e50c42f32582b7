//! The contract between the engine's orders and a desk.

use std::os::fd::BorrowedFd;

use lantern_model::{
    Command, CommandKind, EffectId, Event, GrabSet, Hint, InputBatch, ReplayKey, Time,
};

/// A place where input is seen and made.
///
/// What every desk keeps to, and the contract tests hold it to:
/// - an armed combination does not reach the program, neither press nor release;
/// - what the desk itself puts in is never reported as the person's;
/// - a lifted step comes out as if the person held nothing, and afterwards exactly those of the
///   person's modifiers are down that still are under the fingers.
pub trait Backend {
    /// Withholds exactly these combinations from now on.
    ///
    /// # Errors
    /// When the desk is gone.
    fn set_grabs(&mut self, armed: GrabSet) -> Result<(), BackendError>;

    /// Does one step of input; its outcome comes as an event.
    ///
    /// # Errors
    /// When the desk is gone.
    fn input(&mut self, now: Time, effect: EffectId, step: &InputBatch)
    -> Result<(), BackendError>;

    /// Hands a withheld key to the program, as itself or as what it is remapped to.
    ///
    /// # Errors
    /// When the desk is gone.
    fn replay_key(&mut self, now: Time, back: &ReplayKey) -> Result<(), BackendError>;

    /// Does what is asked of windows or the clipboard, if it is the desk's to do; its outcome comes
    /// as an event. Whether it is.
    ///
    /// # Errors
    /// When the desk is gone.
    fn execute(
        &mut self,
        now: Time,
        effect: EffectId,
        deed: &Command,
    ) -> Result<bool, BackendError>;

    /// Shows something small for a time, where [`Backend::shows_hints`].
    ///
    /// # Errors
    /// When the desk is gone.
    fn hint(&mut self, _now: Time, _effect: EffectId, _hint: &Hint) -> Result<(), BackendError> {
        Ok(())
    }

    /// Whether [`Backend::hint`] shows anything; if not, whoever shows notices is asked instead.
    fn shows_hints(&self) -> bool {
        false
    }

    /// The next thing that was seen, if any.
    ///
    /// # Errors
    /// When the desk is gone.
    fn poll_event(&mut self, now: Time) -> Result<Option<Event>, BackendError>;

    /// Does what is due by `now`.
    ///
    /// # Errors
    /// When the desk is gone.
    fn handle_deadline(&mut self, _now: Time) -> Result<(), BackendError> {
        Ok(())
    }

    /// When [`Backend::handle_deadline`] must be called, if ever.
    fn next_deadline(&self) -> Option<Time> {
        None
    }

    /// What becomes readable when there is something to poll for; a simulated desk has nothing.
    fn descriptor(&self) -> Option<BorrowedFd<'_>>;
}

/// Why a desk that has only input does not do what is asked of windows and the clipboard; nothing if it is not
/// a desk's to do at all.
pub(crate) fn without_session(verb: &CommandKind) -> Option<&'static str> {
    match verb {
        CommandKind::Focus | CommandKind::FocusWindow(_) | CommandKind::Close => {
            Some("this back end cannot tell windows apart")
        }
        CommandKind::Paste | CommandKind::ReadClipboard => Some("this back end has no clipboard"),
        _ => None,
    }
}

/// Why a desk cannot be had, or is gone.
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
        source: x11rb::errors::ConnectError,
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

impl From<x11rb::errors::ConnectionError> for BackendError {
    fn from(error: x11rb::errors::ConnectionError) -> Self {
        BackendError::Lost(Box::new(error))
    }
}

impl From<x11rb::errors::ReplyError> for BackendError {
    fn from(error: x11rb::errors::ReplyError) -> Self {
        BackendError::Lost(Box::new(error))
    }
}

impl From<x11rb::errors::ReplyOrIdError> for BackendError {
    fn from(error: x11rb::errors::ReplyOrIdError) -> Self {
        BackendError::Lost(Box::new(error))
    }
}
