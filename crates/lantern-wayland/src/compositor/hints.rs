//! Hints on layers of the compositor (`zwlr_layer_shell_v1`): they take no focus and let clicks through.
//!
//! Where the pointer is, a Wayland session does not tell: a hint at the pointer stands at the bottom, as the
//! volume does.

use std::fs::File;
use std::io::Write;
use std::os::fd::AsFd;

use lantern_backend::canvas::{Canvas, Fonts, level_sign, text_sign};
use lantern_model::{Corner, Hint, HintContent, HintPlace, RuleId, Time};
use rustix::fs::{MemfdFlags, memfd_create};
use wayland_client::globals::GlobalList;
use wayland_client::protocol::wl_buffer::WlBuffer;
use wayland_client::protocol::wl_compositor::WlCompositor;
use wayland_client::protocol::wl_region::WlRegion;
use wayland_client::protocol::wl_shm::{Format, WlShm};
use wayland_client::protocol::wl_shm_pool::WlShmPool;
use wayland_client::protocol::wl_surface::WlSurface;
use wayland_client::{Dispatch, Proxy, QueueHandle};
use wayland_protocols_wlr::layer_shell::v1::client::zwlr_layer_shell_v1::{
    Layer, ZwlrLayerShellV1,
};
use wayland_protocols_wlr::layer_shell::v1::client::zwlr_layer_surface_v1::{
    self, Anchor, KeyboardInteractivity, ZwlrLayerSurfaceV1,
};

/// Distance from the edges of the screen, in pixels.
const OFFSET: i32 = 16;
/// Distance between two hints.
const GAP: i32 = 6;
/// A hint is no longer than this.
const MOST_CHARACTERS: usize = 1000;
/// A hint is no wider than this.
const MOST_WIDTH: usize = 640;
/// Opaque pixels in the format of `wl_shm`.
const OPAQUE: u32 = 0xff00_0000;

/// A state that takes the events of the objects of hints.
pub(super) trait HintState:
    Dispatch<WlCompositor, ()>
    + Dispatch<WlShm, ()>
    + Dispatch<WlShmPool, ()>
    + Dispatch<WlBuffer, ()>
    + Dispatch<WlRegion, ()>
    + Dispatch<WlSurface, ()>
    + Dispatch<ZwlrLayerShellV1, ()>
    + Dispatch<ZwlrLayerSurfaceV1, ()>
    + 'static
{
}

/// The protocols that hints need.
#[derive(Debug)]
pub(super) struct LayerHints {
    compositor: WlCompositor,
    shm: WlShm,
    shell: ZwlrLayerShellV1,
    fonts: Fonts,
    shown: Vec<LayerHint>,
}

/// A hint on the screen.
#[derive(Debug)]
struct LayerHint {
    surface: WlSurface,
    layer: ZwlrLayerSurfaceV1,
    buffer: WlBuffer,
    rule: Option<RuleId>,
    place: HintPlace,
    anchor: Anchor,
    height: i32,
    until: Time,
}

impl LayerHint {
    fn remove(self) {
        self.layer.destroy();
        self.surface.destroy();
        self.buffer.destroy();
    }
}

impl LayerHints {
    /// The hints of a compositor that has layers.
    pub(super) fn open(
        globals: &GlobalList,
        handle: &QueueHandle<impl HintState>,
    ) -> Option<LayerHints> {
        Some(LayerHints {
            compositor: globals.bind(handle, 1..=4, ()).ok()?,
            shm: globals.bind(handle, 1..=1, ()).ok()?,
            shell: globals.bind(handle, 1..=4, ()).ok()?,
            fonts: Fonts::default(),
            shown: Vec::new(),
        })
    }

    /// Shows a hint; an older one of the same rule at the same place goes.
    ///
    /// # Errors
    /// When the system is out of memory or descriptors.
    pub(super) fn show(
        &mut self,
        handle: &QueueHandle<impl HintState>,
        now: Time,
        hint: &Hint,
    ) -> std::io::Result<()> {
        let same = |shown: &mut LayerHint| shown.rule == hint.rule && shown.place == hint.place;
        self.shown.extract_if(.., same).for_each(LayerHint::remove);
        let canvas = match &hint.content {
            HintContent::Text(text) | HintContent::Drawing(text) => {
                let text: String = text.chars().take(MOST_CHARACTERS).collect();
                text_sign(&mut self.fonts, &text, 1.0, MOST_WIDTH)
            }
            HintContent::Level { share, muted } => level_sign(&mut self.fonts, *share, *muted, 1.0),
        };
        let buffer = self.buffer(handle, &canvas)?;
        let (anchor, mut margins) = place(hint.place);
        // Hints at one place stand one above the other.
        let others = self.shown.iter().filter(|shown| shown.anchor == anchor);
        let taken: i32 = others.map(|shown| shown.height + GAP).sum();
        if anchor.contains(Anchor::Bottom) {
            margins.bottom += taken
        } else {
            margins.top += taken
        }
        let surface = self.compositor.create_surface(handle, ());
        // No part of it takes clicks.
        let region = self.compositor.create_region(handle, ());
        surface.set_input_region(Some(&region));
        region.destroy();
        let name = "hint".to_owned();
        let layer = self.shell.get_layer_surface(&surface, None, Layer::Overlay, name, handle, ());
        layer.set_size(canvas.width as u32, canvas.height as u32);
        layer.set_anchor(anchor);
        layer.set_margin(margins.top, margins.right, margins.bottom, margins.left);
        layer.set_exclusive_zone(-1);
        layer.set_keyboard_interactivity(KeyboardInteractivity::None);
        surface.commit();
        let height = canvas.height as i32;
        self.shown.push(LayerHint {
            surface,
            layer,
            buffer,
            rule: hint.rule,
            place: hint.place,
            anchor,
            height,
            until: now + hint.duration,
        });
        Ok(())
    }

    /// Takes an event of the layer of a hint.
    pub(super) fn handle(
        &mut self,
        layer: &ZwlrLayerSurfaceV1,
        event: &zwlr_layer_surface_v1::Event,
    ) {
        let Some(at) = self.shown.iter().position(|shown| shown.layer.id() == layer.id()) else {
            return;
        };
        match event {
            zwlr_layer_surface_v1::Event::Configure { serial, .. } => {
                let shown = &self.shown[at];
                shown.layer.ack_configure(*serial);
                shown.surface.attach(Some(&shown.buffer), 0, 0);
                shown.surface.damage(0, 0, i32::MAX, i32::MAX);
                shown.surface.commit();
            }
            zwlr_layer_surface_v1::Event::Closed => self.shown.remove(at).remove(),
            _ => {}
        }
    }

    /// Takes those off the screen whose time is over.
    pub(super) fn handle_deadline(&mut self, now: Time) {
        self.shown.extract_if(.., |shown| shown.until <= now).for_each(LayerHint::remove);
    }

    pub(super) fn next_deadline(&self) -> Option<Time> {
        self.shown.iter().map(|shown| shown.until).min()
    }

    /// The pixels in memory that the compositor reads.
    fn buffer(
        &self,
        handle: &QueueHandle<impl HintState>,
        canvas: &Canvas,
    ) -> std::io::Result<WlBuffer> {
        let bytes: Vec<u8> =
            canvas.pixels.iter().flat_map(|pixel| (pixel | OPAQUE).to_ne_bytes()).collect();
        let mut memory = File::from(memfd_create("hint", MemfdFlags::CLOEXEC)?);
        memory.write_all(&bytes)?;
        let (width, height) = (canvas.width as i32, canvas.height as i32);
        let pool = self.shm.create_pool(memory.as_fd(), bytes.len() as i32, handle, ());
        let buffer = pool.create_buffer(0, width, height, 4 * width, Format::Argb8888, handle, ());
        pool.destroy();
        Ok(buffer)
    }
}

/// Distances from the edges.
#[derive(Debug, Clone, Copy)]
struct Margins {
    top: i32,
    right: i32,
    bottom: i32,
    left: i32,
}

/// The edges that a hint keeps to, and its distances from them.
fn place(place: HintPlace) -> (Anchor, Margins) {
    let all = Margins { top: OFFSET, right: OFFSET, bottom: OFFSET, left: OFFSET };
    match place {
        HintPlace::Corner(Corner::TopLeft) => (Anchor::Top | Anchor::Left, all),
        HintPlace::Corner(Corner::TopRight) => (Anchor::Top | Anchor::Right, all),
        HintPlace::Corner(Corner::BottomLeft) => (Anchor::Bottom | Anchor::Left, all),
        HintPlace::Corner(Corner::BottomRight) => (Anchor::Bottom | Anchor::Right, all),
        HintPlace::At(x, y) => {
            (Anchor::Top | Anchor::Left, Margins { top: y.max(0), left: x.max(0), ..all })
        }
        HintPlace::Pointer | HintPlace::BottomCenter => {
            (Anchor::Bottom, Margins { bottom: 4 * OFFSET, ..all })
        }
    }
}
