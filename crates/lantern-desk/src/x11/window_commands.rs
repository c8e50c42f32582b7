//! What is asked of windows and the clipboard.

use std::time::Duration;

use lantern_model::{Command, CommandKind, EffectId, Event, Time};
use x11rb::protocol::xproto::Window;

use super::temporary_keymap::PingClient;
use super::{X11Backend, windows};
use crate::BackendError;

/// Maximum time for a window to come to the front.
const COMING: Duration = Duration::from_secs(1);

/// A window that was asked to come to the front.
#[derive(Debug)]
pub(super) struct PendingFocus {
    effect: EffectId,
    window: Window,
    /// The program that was asked for; where the person merely goes back it is no fault if it does
    /// not come.
    name: Option<String>,
    /// Whether the program in front before has read what was typed into it. Until then it stays
    /// there: a program reads keys late under load, and by then by another state of the keyboard.
    asked: bool,
    pub(super) until: Time,
}

impl X11Backend {
    /// Whether a text can go anywhere.
    pub(super) fn lacks_focus(&self) -> Result<Option<String>, BackendError> {
        if self.front.window != 0 {
            return Ok(None);
        }
        if !windows::is_managed(&self.link)? && windows::has_focus(&self.link)? {
            return Ok(None);
        }
        Ok(Some("no window is in front, so that nothing can take the text".to_owned()))
    }

    pub(super) fn attempt_deed(
        &mut self,
        now: Time,
        effect: EffectId,
        deed: &Command,
    ) -> Result<bool, BackendError> {
        let word = deed.arguments.first().map_or("", String::as_str);
        let result = match deed.kind {
            CommandKind::Focus => match self.window_named(word)? {
                Ok(window) => return self.bring(now, effect, window, Some(word)),
                Err(message) => Err(message),
            },
            CommandKind::FocusWindow(window) => {
                let window = Window::try_from(window).unwrap_or(x11rb::NONE);
                return self.bring(now, effect, window, None);
            }
            CommandKind::Close => match self.window_named(word)? {
                Ok(window) => windows::close(&self.link, window).map(|()| Ok(None))?,
                Err(message) => Err(message),
            },
            CommandKind::Paste => match self.lacks_focus()? {
                Some(message) => Err(message),
                None => {
                    self.paste(now, effect, word)?;
                    return Ok(true);
                }
            },
            CommandKind::ReadClipboard => {
                self.read_clipboard(now, effect)?;
                return Ok(true);
            }
            _ => return Ok(false),
        };
        self.outcomes.push_back(Event::Outcome { effect, result });
        self.flush()?;
        Ok(true)
    }

    /// The topmost window of that program, or what to say when it has none.
    fn window_named(&self, name: &str) -> Result<Result<Window, String>, BackendError> {
        let found = windows::of_program(&self.link, name)?;
        Ok(found.ok_or_else(|| format!("no window of `{name}` is open")))
    }

    /// Brings a window to the front; the outcome comes when it is there.
    fn bring(
        &mut self,
        now: Time,
        effect: EffectId,
        window: Window,
        name: Option<&str>,
    ) -> Result<bool, BackendError> {
        // Without a window manager it is there at once; one that was closed meanwhile never comes.
        let comes = self.front.window != u64::from(window)
            && windows::is_managed(&self.link)?
            && windows::all(&self.link)?.contains(&window);
        if comes {
            let unread = std::mem::take(&mut self.unread);
            let left = if unread { windows::focused_window(&self.link)? } else { None };
            match left {
                Some(left) => self.ping(left, PingClient::Leaving)?,
                None => windows::raise(&self.link, window)?,
            }
            let (name, until) = (name.map(str::to_owned), now + COMING);
            self.coming.push(PendingFocus { effect, window, name, asked: left.is_none(), until });
        } else {
            windows::raise(&self.link, window)?;
            self.outcomes.push_back(Event::Outcome { effect, result: Ok(None) });
        }
        self.flush()?;
        Ok(true)
    }

    /// The program in front has read all that was typed into it: others may come.
    pub(super) fn let_others_come(&mut self, now: Time) -> Result<(), BackendError> {
        for coming in self.coming.iter_mut().filter(|coming| !coming.asked) {
            coming.asked = true;
            coming.until = now + COMING;
            windows::raise(&self.link, coming.window)?;
        }
        self.flush()
    }

    /// Another window is in front and known: the effect that waited for it completes.
    pub(super) fn welcome(&mut self) {
        let front = self.front.window;
        let came = self.coming.extract_if(.., |coming| u64::from(coming.window) == front);
        let outcomes =
            came.map(|coming| Event::Outcome { effect: coming.effect, result: Ok(None) });
        self.outcomes.extend(outcomes);
    }

    pub(super) fn handle_coming_deadline(&mut self, now: Time) -> Result<(), BackendError> {
        if self.coming.iter().any(|coming| !coming.asked && coming.until <= now) {
            // It does not read; it must not keep the others waiting.
            return self.let_others_come(now);
        }
        let late = self.coming.extract_if(.., |coming| coming.until <= now);
        let outcomes = late.map(|coming| Event::Outcome {
            effect: coming.effect,
            result: match coming.name {
                Some(name) => Err(format!("`{name}` did not come to the front")),
                None => Ok(None),
            },
        });
        self.outcomes.extend(outcomes);
        Ok(())
    }

    /// Whether a sign of life is waited for here.
    pub(super) fn awaits_leaving(&self) -> bool {
        self.coming.iter().any(|coming| !coming.asked)
    }
}
