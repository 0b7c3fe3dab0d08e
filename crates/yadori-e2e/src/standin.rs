//! A stand-in for a compositor that offers `ext-data-control-v1`, which none at hand does.
//!
//! It has one seat and one clipboard, and no windows; what programs would do on it, the test does itself.

use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex};
use tempfile::TempDir;
use wayland_protocols::ext::data_control::v1::server::{
    ext_data_control_device_v1::{self as device, ExtDataControlDeviceV1},
    ext_data_control_manager_v1::{self as manager, ExtDataControlManagerV1},
    ext_data_control_offer_v1::{self as offer, ExtDataControlOfferV1},
    ext_data_control_source_v1::{self as source, ExtDataControlSourceV1},
};
use wayland_server::protocol::wl_seat::{self, WlSeat};
use wayland_server::{
    Client, DataInit, Dispatch, Display, DisplayHandle, GlobalDispatch, ListeningSocket, New, Resource,
};

/// The stand-in, until it is dropped.
pub struct Standin {
    orders: Sender<Command>,
    wake: UnixStream,
    socket: PathBuf,
    worker: Option<std::thread::JoinHandle<()>>,
    _runtime: TempDir,
}

enum Command {
    /// A program copies this.
    Copy(Vec<(String, Vec<u8>)>),
    /// A program pastes: the pipe gets what is on the clipboard in this format.
    Paste(String, OwnedFd),
    /// The names of what is offered.
    Names(Sender<Vec<String>>),
    /// The program that copied exits.
    Exit,
}

enum Selection {
    Nothing,
    Program(Vec<(String, Vec<u8>)>),
    Service(ExtDataControlSourceV1),
}

struct State {
    devices: Vec<ExtDataControlDeviceV1>,
    selection: Selection,
    handle: DisplayHandle,
}

type Names = Arc<Mutex<Vec<String>>>;

impl Standin {
    /// Starts it.
    ///
    /// # Panics
    /// If no socket can be had.
    pub fn start() -> Self {
        let runtime = tempfile::Builder::new().prefix("yadori-way-").tempdir().expect("a temporary folder");
        let socket = runtime.path().join("wayland-ext");
        let listener = ListeningSocket::bind_absolute(socket.clone()).expect("a socket");
        let display = Display::<State>::new().expect("a display");
        let handle = display.handle();
        handle.create_global::<State, WlSeat, ()>(1, ());
        handle.create_global::<State, ExtDataControlManagerV1, ()>(1, ());
        let (orders, received) = channel();
        let (wake, woken) = UnixStream::pair().expect("a pipe");
        woken.set_nonblocking(true).expect("a pipe");
        let state = State { devices: Vec::new(), selection: Selection::Nothing, handle };
        let worker = std::thread::spawn(move || serve(display, &listener, state, &received, &woken));
        Self { orders, wake, socket, worker: Some(worker), _runtime: runtime }
    }

    /// Where it listens.
    pub fn socket(&self) -> &Path {
        &self.socket
    }

    fn order(&self, order: Command) {
        self.orders.send(order).expect("the stand-in");
        (&self.wake).write_all(&[1]).expect("the stand-in");
    }

    /// A program copies this.
    pub fn copy(&self, formats: &[(&str, &[u8])]) {
        self.order(Command::Copy(formats.iter().map(|(name, data)| ((*name).to_owned(), data.to_vec())).collect()));
    }

    /// The program that copied exits.
    pub fn owner_exits(&self) {
        self.order(Command::Exit);
    }

    /// What is offered on the clipboard.
    ///
    /// # Panics
    /// If the stand-in has ended.
    pub fn names(&self) -> Vec<String> {
        let (told, names) = channel();
        self.order(Command::Names(told));
        names.recv().expect("the stand-in")
    }

    /// What a program pastes.
    ///
    /// # Panics
    /// If the stand-in has ended.
    pub fn paste(&self, name: &str) -> Vec<u8> {
        let (mut reader, writer) = std::io::pipe().expect("a pipe");
        self.order(Command::Paste(name.to_owned(), writer.into()));
        let mut data = Vec::new();
        reader.read_to_end(&mut data).expect("the pipe");
        data
    }
}

impl Drop for Standin {
    fn drop(&mut self) {
        let _ = self.wake.shutdown(std::net::Shutdown::Both);
        if let Some(worker) = self.worker.take() {
            let _ = worker.join();
        }
    }
}

fn serve(
    mut display: Display<State>,
    listener: &ListeningSocket,
    mut state: State,
    orders: &Receiver<Command>,
    woken: &UnixStream,
) {
    loop {
        {
            let events = display.backend().poll_fd().try_clone_to_owned().expect("the display");
            let flags = rustix::event::PollFlags::IN;
            let mut polled = [
                rustix::event::PollFd::from_borrowed_fd(events.as_fd(), flags),
                rustix::event::PollFd::from_borrowed_fd(listener.as_fd(), flags),
                rustix::event::PollFd::new(woken, flags),
            ];
            let _ = rustix::event::poll(&mut polled, None);
        }
        let mut signs = [0; 16];
        if matches!((&*woken).read(&mut signs), Ok(0)) {
            return;
        }
        while let Ok(Some(stream)) = listener.accept() {
            let _ = display.handle().insert_client(stream, Arc::new(()));
        }
        let _ = display.dispatch_clients(&mut state);
        orders.try_iter().for_each(|order| state.carry_out(order));
        let _ = display.flush_clients();
    }
}

impl State {
    fn carry_out(&mut self, order: Command) {
        match order {
            Command::Copy(formats) => self.select(Selection::Program(formats)),
            Command::Exit => self.select(Selection::Nothing),
            Command::Paste(name, into) => self.send(&name, into),
            Command::Names(told) => drop(told.send(self.names())),
        }
    }

    fn names(&self) -> Vec<String> {
        match &self.selection {
            Selection::Nothing => Vec::new(),
            Selection::Program(formats) => formats.iter().map(|(name, _)| name.clone()).collect(),
            Selection::Service(source) => {
                source.data::<Names>().map(|names| names.lock().expect("the names").clone()).unwrap_or_default()
            }
        }
    }

    fn send(&self, name: &str, into: OwnedFd) {
        match &self.selection {
            Selection::Nothing => {}
            Selection::Program(formats) => {
                let data = formats.iter().find(|(offered, _)| offered == name).map(|(_, data)| data.clone());
                std::thread::spawn(move || std::fs::File::from(into).write_all(&data.unwrap_or_default()));
            }
            Selection::Service(source) => source.send(name.to_owned(), into.as_fd()),
        }
    }

    fn select(&mut self, selection: Selection) {
        if let Selection::Service(source) = std::mem::replace(&mut self.selection, selection) {
            source.cancelled();
        }
        self.devices.retain(Resource::is_alive);
        self.devices.iter().for_each(|device| self.tell(device));
    }

    fn tell(&self, device: &ExtDataControlDeviceV1) {
        if matches!(self.selection, Selection::Nothing) {
            return device.selection(None);
        }
        let Some(client) = device.client() else { return };
        let Ok(offer) = client.create_resource::<ExtDataControlOfferV1, (), Self>(&self.handle, 1, ()) else { return };
        device.data_offer(&offer);
        self.names().into_iter().for_each(|name| offer.offer(name));
        device.selection(Some(&offer));
    }
}

impl GlobalDispatch<WlSeat, ()> for State {
    fn bind(_: &mut Self, _: &DisplayHandle, _: &Client, seat: New<WlSeat>, (): &(), init: &mut DataInit<'_, Self>) {
        init.init(seat, ());
    }
}

impl Dispatch<WlSeat, ()> for State {
    fn request(
        _: &mut Self,
        _: &Client,
        _: &WlSeat,
        _: wl_seat::Request,
        (): &(),
        _: &DisplayHandle,
        _: &mut DataInit<'_, Self>,
    ) {
    }
}

impl GlobalDispatch<ExtDataControlManagerV1, ()> for State {
    fn bind(
        _: &mut Self,
        _: &DisplayHandle,
        _: &Client,
        manager: New<ExtDataControlManagerV1>,
        (): &(),
        init: &mut DataInit<'_, Self>,
    ) {
        init.init(manager, ());
    }
}

impl Dispatch<ExtDataControlManagerV1, ()> for State {
    fn request(
        state: &mut Self,
        _: &Client,
        _: &ExtDataControlManagerV1,
        request: manager::Request,
        (): &(),
        _: &DisplayHandle,
        init: &mut DataInit<'_, Self>,
    ) {
        match request {
            manager::Request::CreateDataSource { id } => drop(init.init(id, Names::default())),
            manager::Request::GetDataDevice { id, .. } => {
                let device = init.init(id, ());
                state.tell(&device);
                state.devices.push(device);
            }
            _ => {}
        }
    }
}

impl Dispatch<ExtDataControlDeviceV1, ()> for State {
    fn request(
        state: &mut Self,
        _: &Client,
        _: &ExtDataControlDeviceV1,
        request: device::Request,
        (): &(),
        _: &DisplayHandle,
        _: &mut DataInit<'_, Self>,
    ) {
        if let device::Request::SetSelection { source } = request {
            state.select(source.map_or(Selection::Nothing, Selection::Service));
        }
    }
}

impl Dispatch<ExtDataControlSourceV1, Names> for State {
    fn request(
        _: &mut Self,
        _: &Client,
        _: &ExtDataControlSourceV1,
        request: source::Request,
        names: &Names,
        _: &DisplayHandle,
        _: &mut DataInit<'_, Self>,
    ) {
        if let source::Request::Offer { mime_type } = request {
            names.lock().expect("the names").push(mime_type);
        }
    }
}

impl Dispatch<ExtDataControlOfferV1, ()> for State {
    fn request(
        state: &mut Self,
        _: &Client,
        _: &ExtDataControlOfferV1,
        request: offer::Request,
        (): &(),
        _: &DisplayHandle,
        _: &mut DataInit<'_, Self>,
    ) {
        if let offer::Request::Receive { mime_type, fd } = request {
            state.send(&mime_type, fd);
        }
    }
}
