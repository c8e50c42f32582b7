//! Passes the events of the objects of hints from the event queue to [`super::hints`].

use wayland_client::protocol::wl_buffer::WlBuffer;
use wayland_client::protocol::wl_compositor::WlCompositor;
use wayland_client::protocol::wl_region::WlRegion;
use wayland_client::protocol::wl_shm::WlShm;
use wayland_client::protocol::wl_shm_pool::WlShmPool;
use wayland_client::protocol::wl_surface::WlSurface;
use wayland_client::{Connection, Dispatch, QueueHandle, delegate_noop};
use wayland_protocols_wlr::layer_shell::v1::client::zwlr_layer_shell_v1::ZwlrLayerShellV1;
use wayland_protocols_wlr::layer_shell::v1::client::zwlr_layer_surface_v1::{
    self, ZwlrLayerSurfaceV1,
};

use super::hints::HintState;
use super::session::SessionState;

impl HintState for SessionState {}

impl Dispatch<ZwlrLayerSurfaceV1, ()> for SessionState {
    fn event(
        state: &mut Self,
        layer: &ZwlrLayerSurfaceV1,
        event: zwlr_layer_surface_v1::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        if let Some(hints) = &mut state.hints {
            hints.handle(layer, &event);
        }
    }
}

delegate_noop!(SessionState: WlCompositor);
delegate_noop!(SessionState: ZwlrLayerShellV1);
delegate_noop!(SessionState: WlRegion);
delegate_noop!(SessionState: WlShmPool);
delegate_noop!(SessionState: ignore WlShm);
delegate_noop!(SessionState: ignore WlSurface);
delegate_noop!(SessionState: ignore WlBuffer);
