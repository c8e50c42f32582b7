//! Records the path of the pointer while a shape may be drawn: every report of the mouse, pen or touchpad,
//! and the trail it leaves on the screen.
//!
//! Reports are taken from the devices, not from the pointer, which stops at a screen's edge. While a path
//! is recorded, events are read every few milliseconds only: a fast mouse would wake the program a
//! thousand times a second.

use std::time::Duration;

use lantern_model::{Point, Rect, Time};
use x11rb::connection::Connection;
use x11rb::protocol::shape::{self, ConnectionExt as _};
use x11rb::protocol::xinput::RawMotionEvent;
use x11rb::protocol::xproto::{
    ClipOrdering, ConnectionExt as _, CreateWindowAux, Rectangle, Window, WindowClass,
};

use super::connection::{DeviceIds, XConnection};
use super::pointer;
use lantern_backend::BackendError;

/// Time for which reports are gathered.
const GATHERS: Duration = Duration::from_millis(6);
/// How wide the trail is, in pixels, and how close its dots are.
const TRAIL_WIDTH: i32 = 3;
const TRAIL_STEP: f32 = 2.0;
/// The trail shows from this far on: a click leaves none.
const TRAIL_FROM: f32 = 12.0;
/// Seen on light and on dark.
const TRAIL_INK: u32 = 0x3f8fc9;

/// The path of the pointer while it is recorded.
#[derive(Debug)]
struct Recording {
    at: (f64, f64),
    /// All screens together, which devices with absolute axes span.
    whole: Rect,
    gathered: Vec<Point>,
    /// Whether a program moved the pointer, for example a remote session: its raw values may be
    /// positions or steps, so the pointer's position is queried.
    must_query: bool,
    /// When reports are taken again.
    rests_until: Time,
    is_resting: bool,
    trail: Option<PointerTrail>,
}

/// The trail on the screen.
#[derive(Debug)]
struct PointerTrail {
    first: Point,
    last: Point,
    window: Option<Window>,
}

/// Records the path of the pointer while a shape may be drawn.
#[derive(Debug, Default)]
pub(super) struct PointerRecorder {
    recording: Option<Recording>,
}

impl PointerRecorder {
    /// Begins, continues or ends the recording. `wanted` says whether the path leaves a trail; `from` is
    /// where the pointer was at the press, if that is known.
    pub(super) fn set_wanted(
        &mut self,
        link: &XConnection,
        wanted: Option<bool>,
        from: Option<(f64, f64)>,
    ) -> Result<(), BackendError> {
        match (wanted, &self.recording) {
            (Some(leaves_trail), None) => self.begin(link, leaves_trail, from),
            (None, Some(_)) => self.end(link),
            _ => Ok(()),
        }
    }

    fn begin(
        &mut self,
        link: &XConnection,
        leaves_trail: bool,
        from: Option<(f64, f64)>,
    ) -> Result<(), BackendError> {
        let at = match from {
            Some(at) => at,
            None => {
                let (x, y) = pointer::place(link)?;
                (x.into(), y.into())
            }
        };
        let first = (at.0 as f32, at.1 as f32);
        self.recording = Some(Recording {
            at,
            whole: link.whole_screen()?,
            gathered: vec![first],
            must_query: false,
            rests_until: Time::START,
            is_resting: false,
            trail: leaves_trail.then_some(PointerTrail { first, last: first, window: None }),
        });
        Ok(())
    }

    fn end(&mut self, link: &XConnection) -> Result<(), BackendError> {
        let trail = self.recording.take().and_then(|recording| recording.trail);
        if let Some(window) = trail.and_then(|trail| trail.window) {
            link.conn.destroy_window(window)?;
        }
        Ok(())
    }

    /// Takes a motion that a device reports.
    pub(super) fn take_motion(&mut self, devices: &DeviceIds, raw: &RawMotionEvent) {
        let Some(recording) = &mut self.recording else { return };
        if devices.injected.contains(&raw.sourceid) {
            recording.must_query = true;
            return;
        }
        let mask = raw.valuator_mask.first().copied().unwrap_or_default();
        let mut values = raw.axisvalues.iter();
        let mut axis = |number: u32| {
            let is_reported = mask & (1 << number) != 0;
            let value = if is_reported { values.next() } else { None };
            value.map(|value| f64::from(value.integral) + f64::from(value.frac) / 2.0_f64.powi(32))
        };
        let (x, y) = (axis(0), axis(1));
        let (at, whole) = (&mut recording.at, recording.whole);
        match devices.ranges.get(&raw.sourceid) {
            // A device with absolute axes.
            Some([across, down]) => {
                at.0 = x.map_or(at.0, |x| across.place(x, whole.width));
                at.1 = y.map_or(at.1, |y| down.place(y, whole.height));
            }
            None => *at = (at.0 + x.unwrap_or(0.0), at.1 + y.unwrap_or(0.0)),
        }
        recording.gathered.push((at.0 as f32, at.1 as f32));
    }

    /// Takes what has been gathered, draws it, and rests for a while.
    pub(super) fn take_path(
        &mut self,
        link: &XConnection,
        now: Time,
    ) -> Result<Option<Vec<Point>>, BackendError> {
        let Some(recording) = &mut self.recording else { return Ok(None) };
        if std::mem::take(&mut recording.must_query) {
            let (x, y) = pointer::place(link)?;
            recording.at = (x.into(), y.into());
            recording.gathered.push((x as f32, y as f32));
        }
        if recording.gathered.is_empty() {
            return Ok(None);
        }
        recording.rests_until = now + GATHERS;
        let path = std::mem::take(&mut recording.gathered);
        if let Some(trail) = &mut recording.trail {
            trail.draw(link, recording.whole, &path)?;
        }
        Ok(Some(path))
    }

    /// Takes what has been gathered before another event.
    pub(super) fn take_gathered(&mut self) -> Option<Vec<Point>> {
        let recording = self.recording.as_mut()?;
        Some(std::mem::take(&mut recording.gathered)).filter(|path| !path.is_empty())
    }

    /// Whether reports are left to gather now.
    pub(super) fn is_resting(&mut self, now: Time) -> bool {
        self.recording.as_mut().is_some_and(|recording| {
            recording.is_resting = now < recording.rests_until;
            recording.is_resting
        })
    }

    /// When reports are taken again, if they are left to gather now.
    pub(super) fn rests_until(&self) -> Option<Time> {
        let resting = self.recording.as_ref().filter(|recording| recording.is_resting);
        resting.map(|recording| recording.rests_until)
    }
}

impl PointerTrail {
    /// Draws on to these places.
    fn draw(
        &mut self,
        link: &XConnection,
        whole: Rect,
        points: &[Point],
    ) -> Result<(), BackendError> {
        let far = |point: &Point| {
            (point.0 - self.first.0).abs().max((point.1 - self.first.1).abs()) >= TRAIL_FROM
        };
        if self.window.is_none() && !points.iter().any(far) {
            return Ok(());
        }
        let mut dots = Vec::new();
        for point in points {
            let (x, y) = (point.0 - self.last.0, point.1 - self.last.1);
            let count = (x.hypot(y) / TRAIL_STEP).ceil().max(1.0);
            for dot in 1..=count as usize {
                let share = dot as f32 / count;
                dots.push(square(self.last.0 + x * share, self.last.1 + y * share));
            }
            self.last = *point;
        }
        let bounding = shape::SK::BOUNDING;
        let order = ClipOrdering::UNSORTED;
        if let Some(window) = self.window {
            let union = shape::SO::UNION;
            link.conn.shape_rectangles(union, bounding, order, window, 0, 0, &dots)?;
        } else {
            let window = *self.window.insert(open(link, whole)?);
            let set = shape::SO::SET;
            link.conn.shape_rectangles(set, bounding, order, window, 0, 0, &dots)?;
            link.conn.map_window(window)?;
        }
        Ok(())
    }
}

fn square(x: f32, y: f32) -> Rectangle {
    let (x, y) = (x.round() as i32 - TRAIL_WIDTH / 2, y.round() as i32 - TRAIL_WIDTH / 2);
    let width = TRAIL_WIDTH as u16;
    Rectangle {
        x: x.clamp(i16::MIN.into(), i16::MAX.into()) as i16,
        y: y.clamp(i16::MIN.into(), i16::MAX.into()) as i16,
        width,
        height: width,
    }
}

/// A window over all screens of which only what is drawn is there, and nothing for the pointer.
fn open(link: &XConnection, whole: Rect) -> Result<Window, BackendError> {
    let conn = &link.conn;
    let window = conn.generate_id()?;
    let look = CreateWindowAux::new().override_redirect(1).background_pixel(TRAIL_INK);
    let size = |pixels: i32| u16::try_from(pixels).unwrap_or(u16::MAX);
    let class = WindowClass::INPUT_OUTPUT;
    let (width, height) = (size(whole.width), size(whole.height));
    conn.create_window(0, window, link.root, 0, 0, width, height, 0, class, 0, &look)?;
    let input = shape::SK::INPUT;
    conn.shape_rectangles(shape::SO::SET, input, ClipOrdering::UNSORTED, window, 0, 0, &[])?;
    Ok(window)
}
