//! What stands on the screen: the windows right below the root.

use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::shape::{self, ConnectionExt as _};
use x11rb::protocol::xinput::{ConnectionExt as _, EventMask, XIEventMask};
use x11rb::protocol::xproto::{ConnectionExt as _, GrabMode, GrabStatus, MapState};
use x11rb::rust_connection::RustConnection;

use crate::Display;

/// A window on the screen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScreenWindow {
    /// Its name.
    pub name: String,
    /// Its left edge.
    pub x: i32,
    /// Its upper edge.
    pub y: i32,
    /// Its width.
    pub width: i32,
    /// Its height.
    pub height: i32,
    /// Whether any of it is there for the pointer.
    pub takes_clicks: bool,
    /// Whether it has the keyboard.
    pub focused: bool,
}

impl Display {
    /// The windows right below the root, as on a display with no window manager.
    ///
    /// # Panics
    /// When the server does not answer.
    pub fn unmanaged(&self) -> Vec<ScreenWindow> {
        let conn = self.connect();
        let root = conn.setup().roots[0].root;
        let name = conn.intern_atom(false, b"_NET_WM_NAME").expect("it listens");
        let name = name.reply().expect("it answers").atom;
        let focus = conn.get_input_focus().expect("it listens").reply().expect("it answers").focus;
        let tree = conn.query_tree(root).expect("it listens").reply().expect("it answers");
        let look = |window: u32| {
            // One that went meanwhile is not there.
            let about = conn.get_window_attributes(window).ok()?.reply().ok()?;
            let place = conn.get_geometry(window).ok()?.reply().ok()?;
            let title = conn.get_property(false, window, name, 0u32, 0, 256).ok()?.reply().ok()?;
            let parts = conn.shape_get_rectangles(window, shape::SK::INPUT).ok()?.reply().ok()?;
            let shown = about.map_state == MapState::VIEWABLE && place.width > 1;
            shown.then(|| ScreenWindow {
                name: String::from_utf8_lossy(&title.value).into_owned(),
                x: place.x.into(),
                y: place.y.into(),
                width: place.width.into(),
                height: place.height.into(),
                takes_clicks: !parts.rectangles.is_empty(),
                focused: focus == window,
            })
        };
        tree.children.into_iter().filter_map(look).collect()
    }

    /// The window that the window manager says is in front, with its title; 0 for none.
    ///
    /// # Panics
    /// When the server does not answer.
    pub fn front(&self) -> (u32, String) {
        let conn = self.connect();
        let root = conn.setup().roots[0].root;
        let atom = |name: &[u8]| {
            let cookie = conn.intern_atom(false, name).expect("it listens");
            cookie.reply().expect("it answers").atom
        };
        let (active, name) = (atom(b"_NET_ACTIVE_WINDOW"), atom(b"_NET_WM_NAME"));
        let cookie = conn.get_property(false, root, active, 0u32, 0, 1).expect("it listens");
        let front = cookie.reply().expect("it answers");
        let front = front.value32().and_then(|mut windows| windows.next()).unwrap_or(0);
        let cookie = conn.get_property(false, front, name, 0u32, 0, 64).expect("it listens");
        // A window may have gone meanwhile.
        let title = cookie.reply().map(|title| String::from_utf8_lossy(&title.value).into_owned());
        (front, title.unwrap_or_default())
    }

    /// Where the window in front is, and its width and height.
    ///
    /// # Panics
    /// When no window is, or the server does not answer.
    pub fn frame_of_front(&self) -> [i32; 4] {
        let conn = self.connect();
        let (root, (front, _)) = (conn.setup().roots[0].root, self.front());
        let size = conn.get_geometry(front).expect("it listens").reply().expect("it is there");
        let place = conn.translate_coordinates(front, root, 0, 0).expect("it listens");
        let place = place.reply().expect("it is there");
        [place.dst_x.into(), place.dst_y.into(), size.width.into(), size.height.into()]
    }

    /// Waits until a window is in front whose title contains that.
    ///
    /// # Panics
    /// When none comes, or the server does not answer.
    pub fn wait_until_in_front(&self, title: &str) {
        self.wait_until("a window in front", |display| {
            let (front, name) = display.front();
            front != 0 && name.contains(title)
        });
    }

    /// Whether a program has the keyboard to itself.
    ///
    /// # Panics
    /// When the server does not answer.
    pub fn keyboard_is_taken(&self) -> bool {
        let conn = self.connect();
        let root = conn.setup().roots[0].root;
        let (mode, time) = (GrabMode::ASYNC, x11rb::CURRENT_TIME);
        let cookie = conn.grab_keyboard(false, root, time, mode, mode).expect("it listens");
        cookie.reply().expect("it answers").status != GrabStatus::SUCCESS
    }

    /// Listens to the pointer from now on.
    ///
    /// # Panics
    /// When the server does not answer.
    pub fn movements(&self) -> Moments {
        let conn = self.connect();
        let root = conn.setup().roots[0].root;
        conn.xinput_xi_query_version(2, 2).expect("it listens").reply().expect("it answers");
        let mask = EventMask { deviceid: 1, mask: vec![XIEventMask::RAW_MOTION] };
        conn.xinput_xi_select_events(root, &[mask]).expect("it listens").check().expect("it may");
        Moments { conn }
    }
}

/// Something that is listened for, as it comes.
#[derive(Debug)]
pub struct Moments {
    pub(crate) conn: RustConnection,
}

impl Moments {
    /// When each came, until none has come for a while.
    ///
    /// # Panics
    /// When the server is gone.
    pub fn collect(&self, quiet: Duration) -> Vec<Instant> {
        let mut moments = Vec::new();
        loop {
            while let Some(event) = self.conn.poll_for_event().expect("the server is there") {
                if matches!(event, Event::XinputRawMotion(_) | Event::XfixesSelectionNotify(_)) {
                    moments.push(Instant::now());
                }
            }
            let limit =
                Timespec { tv_sec: quiet.as_secs() as i64, tv_nsec: quiet.subsec_nanos().into() };
            let mut fds = [PollFd::new(self.conn.stream(), PollFlags::IN)];
            if poll(&mut fds, Some(&limit)).expect("waiting works") == 0 {
                return moments;
            }
        }
    }
}
