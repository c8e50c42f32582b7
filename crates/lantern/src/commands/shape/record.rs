//! `lantern shape record`: drawings by one's own hand, or from another file, as examples of a shape.

use std::time::{Duration, Instant};

use lantern_backend::{Backend, HeldKeyWriter};
use lantern_gesture::is_drawing;
use lantern_model::{Event, GrabSet, Key, KeyGrab, ModifierSet, StrokePath, Time};
use lantern_x11::X11Backend;
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::arguments::{BackendName, ShapeRecordArguments};
use crate::drawings::{self, Drawings};
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::runtime::RuntimeFiles;
use crate::style;

/// Drawings of one shape at the most: more say nothing new.
const MOST: usize = 9;
/// So soon the next stroke of a drawing must be begun.
const NEXT_STROKE: Duration = Duration::from_millis(800);

pub fn run(arguments: &ShapeRecordArguments) -> Result<Status, Failure> {
    let file = &arguments.file;
    let mut kept = Drawings::new();
    if file.exists() && !arguments.anew {
        let unread = |source| Failure::NoDrawing { path: file.clone(), source };
        kept = drawings::read(file).map_err(unread)?;
    }
    let before = kept.len();
    if let Some(from) = &arguments.from {
        let unread = |source| Failure::NoDrawing { path: from.clone(), source };
        kept.extend(drawings::read(from).map_err(unread)?);
    } else {
        draw(arguments, &mut kept)?;
    }
    if kept.len() > MOST {
        return Err(Failure::TooManyDrawings { path: file.clone(), count: kept.len(), most: MOST });
    }
    if kept.len() == before {
        complain!("nothing was drawn; {} is as it was", file.display());
        return Ok(Status::Found);
    }
    drawings::write(file, &kept)?;
    let (all, new) = (kept.len(), kept.len() - before);
    complain!("{}kept{0:#} {}: {new} new of {all} drawings", style::WENT_OUT, file.display());
    complain!("  use it as `shape NAME = drawn \"{}\"`", file.display());
    Ok(Status::Done)
}

/// Takes drawings from the person's hand, as many as were asked for.
fn draw(arguments: &ShapeRecordArguments, kept: &mut Drawings) -> Result<(), Failure> {
    let name = &arguments.holding;
    let key = Key::named(name).ok_or_else(|| Failure::NoSuchKey { name: name.clone() })?;
    // A list of its own: `lantern run` may be at work with the other.
    let list = RuntimeFiles::of_session(BackendName::X11)?.held_keys().with_extension("record");
    let mut backend = X11Backend::open(HeldKeyWriter::open(&list)?)?;
    let grabs = KeyGrab {
        key,
        modifiers: ModifierSet::NONE,
        any_extra_modifiers: false,
        side_specific: false,
        report_release: true,
        synchronous: true,
    };
    let rest = GrabSet { keys: vec![grabs], ..GrabSet::default() };
    backend.set_grabs(rest.clone())?;
    let times = arguments.times;
    complain!("hold {key} and draw, {times} times; Ctrl+C ends it");
    let start = Instant::now();
    let now = || Time::START + start.elapsed();
    let mut strokes: Vec<StrokePath> = Vec::new();
    let mut way: Option<StrokePath> = None;
    let mut ended = None;
    let mut drawn = 0;
    while drawn < times {
        match backend.poll_event(now())? {
            Some(Event::Pressed { key: pressed, .. }) if pressed == key => {
                way = Some(StrokePath::new());
                backend.set_grabs(GrabSet { pointer_path: Some(true), ..rest.clone() })?;
            }
            Some(Event::PointerPath(points)) => way.iter_mut().for_each(|way| way.extend(&points)),
            Some(Event::Released { key: up }) if up == key => {
                strokes.extend(way.take());
                ended = Some(now());
                backend.set_grabs(rest.clone())?;
            }
            Some(Event::GrabsRefused(_)) => return Err(Failure::KeyTaken { key: key.to_string() }),
            Some(_) => {}
            None => {
                let over = ended.is_some_and(|ended| now().since(ended) >= NEXT_STROKE);
                if over && way.is_none() {
                    ended = None;
                    let drawing = std::mem::take(&mut strokes);
                    if is_drawing(&drawing) {
                        drawn += 1;
                        complain!("  {drawn} of {times}: {} strokes", drawing.len());
                        kept.push(drawing);
                    } else {
                        complain!("  that was too small to be a drawing");
                    }
                    continue;
                }
                wait(&backend, now(), ended.map(|ended| ended + NEXT_STROKE))?;
            }
        }
    }
    Ok(())
}

/// Sleeps until the back end has something to tell or is due.
fn wait(backend: &X11Backend, now: Time, due: Option<Time>) -> Result<(), Failure> {
    let due = backend.next_deadline().into_iter().chain(due).min();
    let timeout = due.map(|due| {
        let span = due.since(now);
        Timespec { tv_sec: span.as_secs() as i64, tv_nsec: span.subsec_nanos().into() }
    });
    let descriptor = backend.descriptor();
    let mut fds: Vec<PollFd<'_>> =
        descriptor.as_ref().map(|fd| PollFd::new(fd, PollFlags::IN)).into_iter().collect();
    match poll(&mut fds, timeout.as_ref()) {
        Ok(_) | Err(rustix::io::Errno::INTR) => Ok(()),
        Err(error) => {
            Err(Failure::System { what: "cannot wait for the display", source: error.into() })
        }
    }
}
