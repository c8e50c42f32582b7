//! The pointer's way while a shape may be drawn: every report of the mouse, pen or touchpad, and the
//! trail it leaves on the screen.
//!
//! Reports are taken from the devices, not from the pointer: it stops at a screen's edge, a hand does
//! not. While a way is followed the server is listened to every few milliseconds only, or a fast
//! mouse would wake us a thousand times a second.

use std::time::Duration;

use lantern_model::{Event, Point, Rect, Time};
use x11rb::connection::Connection;
use x11rb::protocol::shape::{self, ConnectionExt as _};
use x11rb::protocol::xinput::RawMotionEvent;
use x11rb::protocol::xproto::{
    ClipOrdering, ConnectionExt as _, CreateWindowAux, Rectangle, Window, WindowClass,
};

use super::X11Backend;
use super::connection::XConnection;
use crate::BackendError;

/// Time for which reports are gathered.
const GATHERS: Duration = Duration::from_millis(6);
/// How wide the trail is, in pixels, and how close its dots are.
const TRAIL_WIDTH: i32 = 3;
const TRAIL_STEP: f32 = 2.0;
/// The trail shows from this far on: a click leaves none.
const TRAIL_FROM: f32 = 12.0;
/// Seen on light and on dark.
const TRAIL_INK: u32 = 0x3f8fc9;

/// A way that is followed.
#[derive(Debug)]
pub(super) struct PointerRecorder {
    at: (f64, f64),
    /// All screens together, which devices with places of their own go over.
    whole: Rect,
    gathered: Vec<Point>,
    /// Whether a program moved the pointer, for example a remote session: its raw values may be
    /// positions or steps, so the pointer's position is queried.
    asks: bool,
    /// When we listen again, and whether that is yet to come.
    rests_until: Time,
    rests: bool,
    trail: Option<PointerTrail>,
}

/// What shows the way.
#[derive(Debug)]
struct PointerTrail {
    first: Point,
    last: Point,
    window: Option<Window>,
}

impl X11Backend {
    /// Follows the pointer's way as long as that is asked for.
    pub(super) fn follow_way(&mut self) -> Result<(), BackendError> {
        match (self.wanted_grabs.pointer_path, &self.trace) {
            (Some(shown), None) => {
                let at = match self.presses.pressed_at {
                    Some(at) => at,
                    None => {
                        let (x, y) = super::pointer::place(&self.link)?;
                        (x.into(), y.into())
                    }
                };
                let first = (at.0 as f32, at.1 as f32);
                let trail = shown.then_some(PointerTrail { first, last: first, window: None });
                let whole = self.link.whole_screen()?;
                let (gathered, rests_until) = (vec![first], Time::START);
                self.trace = Some(PointerRecorder {
                    at,
                    whole,
                    gathered,
                    asks: false,
                    rests_until,
                    rests: false,
                    trail,
                });
            }
            (None, Some(_)) => self.end_way()?,
            _ => {}
        }
        Ok(())
    }

    fn end_way(&mut self) -> Result<(), BackendError> {
        let trail = self.trace.take().and_then(|trace| trace.trail);
        if let Some(window) = trail.and_then(|trail| trail.window) {
            self.link.conn.destroy_window(window)?;
        }
        Ok(())
    }

    /// A device told where it went.
    pub(super) fn take_motion(&mut self, raw: &RawMotionEvent) {
        let Some(trace) = &mut self.trace else { return };
        if self.link.devices.injected.contains(&raw.sourceid) {
            trace.asks = true;
            return;
        }
        let mask = raw.valuator_mask.first().copied().unwrap_or_default();
        let mut values = raw.axisvalues.iter();
        let mut axis = |number: u32| {
            let told = mask & (1 << number) != 0;
            let value = if told { values.next() } else { None };
            value.map(|value| f64::from(value.integral) + f64::from(value.frac) / 2.0_f64.powi(32))
        };
        let (x, y) = (axis(0), axis(1));
        match self.link.devices.ranges.get(&raw.sourceid) {
            // A device with places of its own.
            Some(ranges) => {
                let [across, down] = *ranges;
                if let Some(x) = x {
                    trace.at.0 = across.place(x, trace.whole.width);
                }
                if let Some(y) = y {
                    trace.at.1 = down.place(y, trace.whole.height);
                }
            }
            None => trace.at = (trace.at.0 + x.unwrap_or(0.0), trace.at.1 + y.unwrap_or(0.0)),
        }
        trace.gathered.push((trace.at.0 as f32, trace.at.1 as f32));
    }

    /// Hands over what has gathered.
    pub(super) fn tell_way(&mut self, now: Time) -> Result<Option<Event>, BackendError> {
        let Some(trace) = &mut self.trace else { return Ok(None) };
        if std::mem::take(&mut trace.asks) {
            let (x, y) = super::pointer::place(&self.link)?;
            trace.at = (x.into(), y.into());
            trace.gathered.push((x as f32, y as f32));
        }
        if trace.gathered.is_empty() {
            return Ok(None);
        }
        trace.rests_until = now + GATHERS;
        let spots = std::mem::take(&mut trace.gathered);
        if let Some(trail) = &mut trace.trail {
            trail.draw(&self.link, trace.whole, &spots)?;
        }
        Ok(Some(Event::PointerPath(spots)))
    }

    /// Queues what has been gathered before the next event.
    pub(super) fn queue_way(&mut self) {
        let gathered = self.trace.as_mut().map(|trace| std::mem::take(&mut trace.gathered));
        if let Some(spots) = gathered.filter(|spots| !spots.is_empty()) {
            self.events.push_back(Event::PointerPath(spots));
        }
    }

    /// Whether reports are left to gather now.
    pub(super) fn lets_gather(&mut self, now: Time) -> bool {
        self.trace.as_mut().is_some_and(|trace| {
            trace.rests = now < trace.rests_until;
            trace.rests
        })
    }

    /// Until when they are, if so.
    pub(super) fn gathers_until(&self) -> Option<Time> {
        self.trace.as_ref().filter(|trace| trace.rests).map(|trace| trace.rests_until)
    }

    /// Moves the pointer along a way, from its second place on.
    pub(super) fn move_along(&self, way: &[(i32, i32)]) -> Result<(), BackendError> {
        way.iter().skip(1).try_for_each(|place| self.warp(*place))
    }
}

impl PointerTrail {
    /// Draws on to these places.
    fn draw(
        &mut self,
        link: &XConnection,
        whole: Rect,
        spots: &[Point],
    ) -> Result<(), BackendError> {
        let far = |spot: &Point| {
            (spot.0 - self.first.0).abs().max((spot.1 - self.first.1).abs()) >= TRAIL_FROM
        };
        if self.window.is_none() && !spots.iter().any(far) {
            return Ok(());
        }
        let mut dots = Vec::new();
        for spot in spots {
            let (x, y) = (spot.0 - self.last.0, spot.1 - self.last.1);
            let count = (x.hypot(y) / TRAIL_STEP).ceil().max(1.0);
            for dot in 1..=count as usize {
                let share = dot as f32 / count;
                dots.push(square(self.last.0 + x * share, self.last.1 + y * share));
            }
            self.last = *spot;
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
