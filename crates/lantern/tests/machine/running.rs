//! `lantern run` on the kernel desk.

use std::ops::{Deref, DerefMut};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

use lantern_stage::Talking;

/// The program at work, in a folder of its own.
pub struct Running {
    talking: Talking,
    folder: tempfile::TempDir,
}

/// The user that runs it.
#[derive(Default)]
pub struct Who {
    pub user: Option<u32>,
    pub group: Option<u32>,
}

impl Running {
    /// Rules at work with all boards whose name has `board` in it.
    pub fn start(rules: &str, board: &str) -> Running {
        let mut running = Running::begin(rules, &["--device", board], &Who::default());
        running.expect("active on");
        running
    }

    /// The same with other words, not yet at work.
    pub fn begin(rules: &str, words: &[&str], who: &Who) -> Running {
        let folder = tempfile::tempdir().expect("it can be made");
        let home = folder.path();
        std::fs::write(home.join("rules.lantern"), rules).expect("it can be written");
        let mut command = Command::new(crate::LANTERN);
        command
            .args(["run", "--backend", "evdev", "--screen", "1280x800", "--log-level", "info"])
            .args(words)
            .arg("rules.lantern")
            .current_dir(home)
            .env("HOME", home)
            .env("XDG_RUNTIME_DIR", home);
        if let Some(user) = who.user {
            std::os::unix::fs::chown(home, Some(user), None).expect("we are root");
            command.uid(user);
        }
        if let Some(group) = who.group {
            command.gid(group);
        }
        Running { talking: Talking::start(&mut command), folder }
    }

    /// Its folder.
    pub fn home(&self) -> &Path {
        self.folder.path()
    }
}

impl Deref for Running {
    type Target = Talking;

    fn deref(&self) -> &Talking {
        &self.talking
    }
}

impl DerefMut for Running {
    fn deref_mut(&mut self) -> &mut Talking {
        &mut self.talking
    }
}
