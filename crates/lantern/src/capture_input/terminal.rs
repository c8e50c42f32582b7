//! A terminal that does not echo what is typed.

use std::io::{IsTerminal, stdin};

use rustix::process::getpgrp;
use rustix::termios::{
    LocalModes, OptionalActions, QueueSelector, Termios, tcflush, tcgetattr, tcgetpgrp, tcsetattr,
};

/// Standard input without echo and line by line reading, until dropped; Ctrl+C stays a signal.
#[derive(Debug)]
pub struct QuietTerminal {
    before: Option<Termios>,
}

impl QuietTerminal {
    /// Where standard input is no terminal, or we are in its background, nothing is changed.
    pub fn new() -> QuietTerminal {
        let before = is_ours().then(|| tcgetattr(stdin()).ok()).flatten();
        if let Some(before) = &before {
            let mut quiet = before.clone();
            quiet.local_modes -= LocalModes::ECHO | LocalModes::ICANON;
            // A terminal that does not listen only looks less tidy.
            let _ = tcsetattr(stdin(), OptionalActions::Now, &quiet);
        }
        QuietTerminal { before }
    }

    /// Whether there is a terminal to press keys in.
    pub fn is_there(&self) -> bool {
        self.before.is_some()
    }
}

/// Whether standard input is a terminal in whose foreground we are.
fn is_ours() -> bool {
    stdin().is_terminal() && tcgetpgrp(stdin()).is_ok_and(|group| group == getpgrp())
}

impl Drop for QuietTerminal {
    fn drop(&mut self) {
        if let Some(before) = self.before.as_ref().filter(|_| is_ours()) {
            // What was pressed meanwhile is not for the shell.
            let _ = tcflush(stdin(), QueueSelector::IFlush);
            let _ = tcsetattr(stdin(), OptionalActions::Now, before);
        }
    }
}
