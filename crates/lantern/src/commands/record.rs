//! `lantern record`: what the person does becomes a scene to rehearse with.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::Duration;

use lantern_model::{App, Value};
use lantern_script::scene::SceneAct;
use lantern_x11::ObservedKey;

use crate::arguments::RecordArguments;
use crate::capture_input::keystroke_groups::{KeystrokeGroups, Move};
use crate::capture_input::terminal::QuietTerminal;
use crate::capture_input::{SceneListener, SceneObservation};
use crate::commands::orders::read_span;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::style;

pub fn run(arguments: &RecordArguments) -> Result<Status, Failure> {
    let span = arguments.span.as_deref().map(read_span).transpose()?;
    let mut listener = SceneListener::open(span)?;
    let mut scene = SceneFile::create(arguments)?;
    let _quiet = QuietTerminal::new();
    let ends = if span.is_some() { "" } else { "; Ctrl+C in this terminal ends it" };
    let name = arguments.file.display();
    complain!("{}{name}: what you do is recorded{ends}{0:#}", style::FAINT);
    scene.see_front(listener.front())?;
    while let Some(noticed) = listener.next()? {
        match noticed {
            SceneObservation::Input(seen) => scene.take(&seen, listener.is_secret())?,
            SceneObservation::Moved(x, y) => scene.bursts.trace((x as f32, y as f32)),
            SceneObservation::Front(app) => scene.see_front(&app)?,
            SceneObservation::Away(away) => scene.interrupt(SceneAct::Locks(away))?,
        }
    }
    let count = scene.finish()?;
    let lines = match count {
        1 => "1 line".to_owned(),
        lines => format!("{lines} lines"),
    };
    complain!("{name}: {lines}; `lantern rehearse FILE {name}` plays them against rules");
    Ok(if count == 0 { Status::Found } else { Status::Done })
}

/// The scene, written line by line, so that nothing is lost whatever ends us.
struct SceneFile<'p> {
    path: &'p Path,
    file: File,
    bursts: KeystrokeGroups,
    /// Whether characters are written as they were typed.
    shows_characters: bool,
    /// Whether what programs put in counts as well.
    injected: bool,
    /// The moment of the first line.
    began: Option<Duration>,
    /// The last that was seen.
    now: Duration,
    opened: BTreeSet<String>,
    lines: usize,
}

impl SceneFile<'_> {
    fn create(arguments: &RecordArguments) -> Result<SceneFile<'_>, Failure> {
        let RecordArguments { file: path, letters, injected, .. } = arguments;
        let failed = |source| Failure::Write { path: path.clone(), source };
        let mut options = File::options();
        // What a person does and types is theirs to show.
        options.write(true).create_new(true).mode(0o600);
        let mut file = options.open(path).map_err(failed)?;
        let masked = if *letters { "" } else { "; typed characters are masked" };
        writeln!(file, "# recorded from the desktop{masked}").map_err(failed)?;
        Ok(SceneFile {
            path,
            file,
            bursts: KeystrokeGroups::default(),
            shows_characters: *letters,
            injected: *injected,
            began: None,
            now: Duration::ZERO,
            opened: BTreeSet::new(),
            lines: 0,
        })
    }

    fn take(&mut self, seen: &ObservedKey, secret: bool) -> Result<(), Failure> {
        let Some(key) = seen.key.filter(|_| self.injected || !seen.injected) else {
            return Ok(());
        };
        self.now = seen.time;
        let types = seen.types.map(|c| if self.shows_characters && !secret { c } else { mask(c) });
        let made = Move { time: seen.time, key, down: seen.down, types, pointer: seen.pointer };
        let acts = self.bursts.take(made);
        self.write_all(acts)
    }

    /// Another program came to the front: a new window, if the scene has not had it yet.
    fn see_front(&mut self, app: &App) -> Result<(), Failure> {
        let Some(name) = app.names.first().cloned() else { return Ok(()) };
        let act = if self.opened.insert(name.clone()) {
            let title =
                Some(app.title.clone()).filter(|title| self.shows_characters && !title.is_empty());
            SceneAct::WindowOpens(name, title)
        } else {
            SceneAct::WindowFocused(name)
        };
        self.interrupt(act)
    }

    /// Something that is not of the hands.
    fn interrupt(&mut self, act: SceneAct) -> Result<(), Failure> {
        let acts = self.bursts.take_other(self.now, act);
        self.write_all(acts)
    }

    fn finish(mut self) -> Result<usize, Failure> {
        let acts = std::mem::take(&mut self.bursts).finish();
        self.write_all(acts)?;
        Ok(self.lines)
    }

    fn write_all(&mut self, acts: Vec<(Duration, SceneAct)>) -> Result<(), Failure> {
        for (moment, act) in acts {
            // What was in front before the first key has no time of the server's.
            let since = match self.began {
                _ if moment.is_zero() => Duration::ZERO,
                Some(began) => moment.saturating_sub(began),
                None => {
                    self.began = Some(moment);
                    Duration::ZERO
                }
            };
            let at = format!("at {}", Value::Duration(since));
            writeln!(self.file, "{at:<12}{act}")
                .map_err(|source| Failure::Write { path: self.path.to_owned(), source })?;
            self.lines += 1;
        }
        Ok(())
    }
}

/// A character of the same sort that tells nothing.
fn mask(character: char) -> char {
    match character {
        ' ' => ' ',
        c if c.is_numeric() => '0',
        c if c.is_alphabetic() => 'x',
        _ => '.',
    }
}
