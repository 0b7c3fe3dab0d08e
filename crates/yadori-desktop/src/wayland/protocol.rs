//! The two protocols by which a compositor gives access to its clipboard, as one.
//!
//! `ext-data-control-v1` is the successor of `wlr-data-control-unstable-v1` and has the same requests and
//! events.

use super::State;
use std::os::fd::{BorrowedFd, OwnedFd};
use wayland_client::backend::ObjectId;
use wayland_client::protocol::wl_registry::WlRegistry;
use wayland_client::protocol::wl_seat::WlSeat;
use wayland_client::{Connection, Dispatch, Proxy, QueueHandle, event_created_child};
use wayland_protocols::ext::data_control::v1::client::{
    ext_data_control_device_v1::{self as ext_device, ExtDataControlDeviceV1},
    ext_data_control_manager_v1::ExtDataControlManagerV1,
    ext_data_control_offer_v1::{self as ext_offer, ExtDataControlOfferV1},
    ext_data_control_source_v1::{self as ext_source, ExtDataControlSourceV1},
};
use wayland_protocols_wlr::data_control::v1::client::{
    zwlr_data_control_device_v1::{self as wlr_device, ZwlrDataControlDeviceV1},
    zwlr_data_control_manager_v1::ZwlrDataControlManagerV1,
    zwlr_data_control_offer_v1::{self as wlr_offer, ZwlrDataControlOfferV1},
    zwlr_data_control_source_v1::{self as wlr_source, ZwlrDataControlSourceV1},
};

/// The global that gives access to clipboards.
#[derive(Clone)]
pub(super) enum Manager {
    Ext(ExtDataControlManagerV1),
    Wlr(ZwlrDataControlManagerV1),
}

/// The clipboard of one seat.
#[derive(Clone)]
pub(super) enum Device {
    Ext(ExtDataControlDeviceV1),
    Wlr(ZwlrDataControlDeviceV1),
}

/// Something that we offer. One for each time and seat.
#[derive(Clone)]
pub(super) enum Source {
    Ext(ExtDataControlSourceV1),
    Wlr(ZwlrDataControlSourceV1),
}

/// Something that a program offers.
#[derive(Clone)]
pub(super) enum Offer {
    Ext(ExtDataControlOfferV1),
    Wlr(ZwlrDataControlOfferV1),
}

/// What is told of a seat's clipboard.
pub(super) enum DeviceEvent {
    /// An offer, whose formats are told next.
    Offered(Offer),
    /// What is on the clipboard now.
    Selection(Option<Offer>),
    /// What is selected now.
    Primary(Option<Offer>),
    /// The seat is gone.
    Finished,
}

/// What is told of something that we offer.
pub(super) enum SourceEvent {
    /// A program pastes this format; its data goes here.
    Send(String, OwnedFd),
    /// Something else is on the clipboard now.
    Cancelled,
}

/// Names of the globals, the preferred first.
pub(super) const MANAGERS: [&str; 2] = ["ext_data_control_manager_v1", "zwlr_data_control_manager_v1"];

macro_rules! each {
    ($of:ident, $object:expr, $proxy:ident => $do:expr) => {
        match $object {
            $of::Ext($proxy) => $do,
            $of::Wlr($proxy) => $do,
        }
    };
}

impl Manager {
    /// Takes the global of this number and interface.
    pub fn bind(
        registry: &WlRegistry,
        number: u32,
        interface: &str,
        version: u32,
        handle: &QueueHandle<State>,
    ) -> Self {
        if interface == MANAGERS[0] {
            Self::Ext(registry.bind(number, 1, handle, ()))
        } else {
            Self::Wlr(registry.bind(number, version.min(2), handle, ()))
        }
    }

    /// The clipboard of a seat, which is told of under the seat's number.
    pub fn device(&self, seat: &WlSeat, number: u32, handle: &QueueHandle<State>) -> Device {
        match self {
            Self::Ext(manager) => Device::Ext(manager.get_data_device(seat, handle, number)),
            Self::Wlr(manager) => Device::Wlr(manager.get_data_device(seat, handle, number)),
        }
    }

    /// Something to offer at a seat.
    pub fn source(&self, seat: u32, handle: &QueueHandle<State>) -> Source {
        match self {
            Self::Ext(manager) => Source::Ext(manager.create_data_source(handle, seat)),
            Self::Wlr(manager) => Source::Wlr(manager.create_data_source(handle, seat)),
        }
    }
}

impl Device {
    /// Puts something on the clipboard.
    pub fn set_selection(&self, source: &Source) {
        match (self, source) {
            (Self::Ext(device), Source::Ext(source)) => device.set_selection(Some(source)),
            (Self::Wlr(device), Source::Wlr(source)) => device.set_selection(Some(source)),
            // Both come from the one manager that was chosen.
            _ => {}
        }
    }

    pub fn destroy(&self) {
        each!(Self, self, device => device.destroy());
    }
}

impl Source {
    pub fn id(&self) -> ObjectId {
        each!(Self, self, source => source.id())
    }

    /// Adds a format; only before it is put on the clipboard.
    pub fn offer(&self, mime: &str) {
        each!(Self, self, source => source.offer(mime.to_owned()));
    }

    pub fn destroy(&self) {
        each!(Self, self, source => source.destroy());
    }
}

impl Offer {
    pub fn id(&self) -> ObjectId {
        each!(Self, self, offer => offer.id())
    }

    /// Asks the owner to write a format's data.
    pub fn receive(&self, mime: &str, into: BorrowedFd<'_>) {
        each!(Self, self, offer => offer.receive(mime.to_owned(), into));
    }

    pub fn destroy(&self) {
        each!(Self, self, offer => offer.destroy());
    }
}

macro_rules! dispatch {
    ($variant:ident: $manager:ty, $device:ty, $device_events:ident, $source:ty, $source_events:ident, $offer:ty, $offer_events:ident) => {
        impl Dispatch<$manager, ()> for State {
            fn event(
                _: &mut Self,
                _: &$manager,
                _: <$manager as Proxy>::Event,
                (): &(),
                _: &Connection,
                _: &QueueHandle<Self>,
            ) {
            }
        }

        impl Dispatch<$device, u32> for State {
            fn event(
                state: &mut Self,
                _: &$device,
                event: $device_events::Event,
                seat: &u32,
                _: &Connection,
                _: &QueueHandle<Self>,
            ) {
                let event = match event {
                    $device_events::Event::DataOffer { id } => DeviceEvent::Offered(Offer::$variant(id)),
                    $device_events::Event::Selection { id } => DeviceEvent::Selection(id.map(Offer::$variant)),
                    $device_events::Event::PrimarySelection { id } => DeviceEvent::Primary(id.map(Offer::$variant)),
                    $device_events::Event::Finished => DeviceEvent::Finished,
                    _ => return,
                };
                state.device_event(*seat, event);
            }

            event_created_child!(State, $device, [$device_events::EVT_DATA_OFFER_OPCODE => ($offer, ())]);
        }

        impl Dispatch<$source, u32> for State {
            fn event(
                state: &mut Self,
                source: &$source,
                event: $source_events::Event,
                seat: &u32,
                _: &Connection,
                _: &QueueHandle<Self>,
            ) {
                let event = match event {
                    $source_events::Event::Send { mime_type, fd } => SourceEvent::Send(mime_type, fd),
                    $source_events::Event::Cancelled => SourceEvent::Cancelled,
                    _ => return,
                };
                state.source_event(*seat, &source.id(), event);
            }
        }

        impl Dispatch<$offer, ()> for State {
            fn event(
                state: &mut Self,
                offer: &$offer,
                event: $offer_events::Event,
                (): &(),
                _: &Connection,
                _: &QueueHandle<Self>,
            ) {
                if let $offer_events::Event::Offer { mime_type } = event {
                    state.offer_event(&offer.id(), mime_type);
                }
            }
        }
    };
}

dispatch!(Ext: ExtDataControlManagerV1, ExtDataControlDeviceV1, ext_device, ExtDataControlSourceV1, ext_source, ExtDataControlOfferV1, ext_offer);
dispatch!(Wlr: ZwlrDataControlManagerV1, ZwlrDataControlDeviceV1, wlr_device, ZwlrDataControlSourceV1, wlr_source, ZwlrDataControlOfferV1, wlr_offer);
