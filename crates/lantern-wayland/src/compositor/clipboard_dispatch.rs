//! Passes the events of the clipboard's objects from the event queue to [`super::clipboard`].

use wayland_client::{Connection, Dispatch, QueueHandle, event_created_child};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_device_v1::{
    self as device, ZwlrDataControlDeviceV1,
};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_manager_v1::{
    self as manager, ZwlrDataControlManagerV1,
};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_offer_v1::{
    self as offer, ZwlrDataControlOfferV1,
};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_source_v1::{
    self as source, ZwlrDataControlSourceV1,
};

use super::clipboard::ClipboardState;
use super::session::SessionState;

impl ClipboardState for SessionState {}

impl Dispatch<ZwlrDataControlManagerV1, ()> for SessionState {
    fn event(
        _: &mut Self,
        _: &ZwlrDataControlManagerV1,
        _: manager::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

impl Dispatch<ZwlrDataControlDeviceV1, ()> for SessionState {
    fn event(
        state: &mut Self,
        _: &ZwlrDataControlDeviceV1,
        event: device::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        if let Some(clipboard) = &mut state.clipboard {
            clipboard.on_device_event(event);
        }
    }

    event_created_child!(SessionState, ZwlrDataControlDeviceV1, [
        device::EVT_DATA_OFFER_OPCODE => (ZwlrDataControlOfferV1, ()),
    ]);
}

impl Dispatch<ZwlrDataControlOfferV1, ()> for SessionState {
    fn event(
        state: &mut Self,
        offer: &ZwlrDataControlOfferV1,
        event: offer::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        if let Some(clipboard) = &mut state.clipboard {
            clipboard.on_offer_event(offer, event);
        }
    }
}

impl Dispatch<ZwlrDataControlSourceV1, ()> for SessionState {
    fn event(
        state: &mut Self,
        source: &ZwlrDataControlSourceV1,
        event: source::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        if let Some(clipboard) = &mut state.clipboard {
            clipboard.on_source_event(source, event);
        }
    }
}
