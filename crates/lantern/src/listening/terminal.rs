//! A terminal that shows nothing of what is typed while it is looked at otherwise.

use std::io::{IsTerminal, stdin};

use rustix::termios::{
    LocalModes, OptionalActions, QueueSelector, Termios, tcflush, tcgetattr, tcsetattr,
};

/// Standard input without echo and line by line reading, until dropped; Ctrl+C stays a signal.
#[derive(Debug)]
pub struct QuietTerminal {
    before: Option<Termios>,
}

impl QuietTerminal {
    /// Where standard input is no terminal nothing is changed.
    pub fn new() -> QuietTerminal {
        let before = stdin().is_terminal().then(|| tcgetattr(stdin()).ok()).flatten();
        if let Some(before) = &before {
            let mut quiet = before.clone();
            quiet.local_modes -= LocalModes::ECHO | LocalModes::ICANON;
            // A terminal that does not listen only looks less tidy.
            let _ = tcsetattr(stdin(), OptionalActions::Now, &quiet);
        }
        QuietTerminal { before }
    }
}

impl Drop for QuietTerminal {
    fn drop(&mut self) {
        if let Some(before) = &self.before {
            // What was pressed meanwhile is not for the shell.
            let _ = tcflush(stdin(), QueueSelector::IFlush);
            let _ = tcsetattr(stdin(), OptionalActions::Now, before);
        }
    }
}
