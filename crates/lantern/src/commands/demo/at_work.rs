//! Rules of the demo at work: this program once more, with devices and no back end.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};

use crate::failure::Failure;
use crate::guardian::OWN_PROGRAM;

/// The longest that anything is waited for.
pub(super) const PATIENCE: Duration = Duration::from_secs(10);

/// The program, and what it prints.
pub(super) struct AtWork {
    program: Child,
    lines: Receiver<String>,
}

impl AtWork {
    /// Puts rules to work in a folder of their own.
    pub(super) fn start(folder: &Path, name: &str, rules: &str) -> Result<AtWork, Failure> {
        let failed =
            |source| Failure::System { what: "cannot put the demo's rules to work", source };
        std::fs::write(folder.join(name), rules).map_err(failed)?;
        let mut program = Command::new(OWN_PROGRAM)
            .args(["run", "--backend", "simulated", name])
            .current_dir(folder)
            .env("XDG_RUNTIME_DIR", folder)
            .env_remove("DISPLAY")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .map_err(failed)?;
        let said = BufReader::new(program.stdout.take().expect("it is piped"));
        let (sender, lines) = channel();
        thread::spawn(move || {
            for line in said.lines().map_while(Result::ok) {
                let _ = sender.send(line);
            }
        });
        Ok(AtWork { program, lines })
    }

    /// The next line that it prints.
    pub(super) fn next(&self) -> String {
        next(&self.lines)
    }
}

impl Drop for AtWork {
    fn drop(&mut self) {
        // Its end is all that is waited for.
        let _ = kill_process(Pid::from_child(&self.program), Signal::TERM);
        let _ = self.program.wait();
    }
}

/// What comes next, in words if nothing does.
pub(super) fn next(from: &Receiver<String>) -> String {
    from.recv_timeout(PATIENCE).unwrap_or_else(|_| "nothing came".to_owned())
}
