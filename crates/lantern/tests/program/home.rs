//! A temporary home in which the program is called.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tempfile::TempDir;

/// The home.
pub struct Home {
    folder: TempDir,
}

/// What a call gave back.
pub struct Called {
    pub stdout: String,
    pub stderr: String,
    pub status: i32,
}

impl Home {
    /// An empty home.
    pub fn new() -> Home {
        Home { folder: tempfile::tempdir().expect("a folder can be made") }
    }

    /// A home with the shipped example in it.
    pub fn with_example() -> Home {
        let home = Home::new();
        let called = home.call(&["new", "."]);
        assert_eq!(called.status, 0, "{}", called.stderr);
        home
    }

    /// Writes a file.
    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) -> PathBuf {
        let path = self.folder.path().join(name);
        std::fs::create_dir_all(path.parent().expect("it has one")).expect("it can be made");
        std::fs::write(&path, text).expect("the file can be written");
        path
    }

    /// Its folder.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// The program, not yet called. It has no display.
    pub fn command(&self) -> Command {
        self.command_of(Path::new(env!("CARGO_BIN_EXE_lantern")))
    }

    /// The same for a copy of the program.
    pub fn command_of(&self, program: &Path) -> Command {
        let mut command = Command::new(program);
        command
            .current_dir(self.folder.path())
            .env_clear()
            .env("HOME", self.folder.path())
            .env("XDG_RUNTIME_DIR", self.folder.path())
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .stdin(Stdio::null());
        command
    }

    /// Calls the program with these words.
    pub fn call(&self, words: &[&str]) -> Called {
        let output = self.command().args(words).output().expect("the program starts");
        Called {
            stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
            stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
            status: output.status.code().expect("it was not ended by a signal"),
        }
    }

    /// Calls the program and gives all that came of it, for a snapshot.
    pub fn shown(&self, words: &[&str]) -> String {
        let called = self.call(words);
        let mut shown = format!("$ lantern {}\n", words.join(" "));
        shown.push_str(&called.stdout);
        if !called.stderr.is_empty() {
            shown.push_str("--- standard error\n");
            shown.push_str(&called.stderr);
        }
        shown.push_str(&format!("--- exit status {}\n", called.status));
        shown
    }
}
