//! A program that copies on a Wayland compositor, honestly or not.
//!
//! It offers through the data-control protocol, as `wl-copy` does, since it has no window.

use crate::program::Manner;
use std::io::Write;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::JoinHandle;
use wayland_client::protocol::wl_registry::{self, WlRegistry};
use wayland_client::protocol::wl_seat::{self, WlSeat};
use wayland_client::{Connection, Dispatch, EventQueue, QueueHandle, event_created_child};
use wayland_protocols_wlr::data_control::v1::client::{
    zwlr_data_control_device_v1::{self, ZwlrDataControlDeviceV1},
    zwlr_data_control_manager_v1::{self, ZwlrDataControlManagerV1},
    zwlr_data_control_offer_v1::{self, ZwlrDataControlOfferV1},
    zwlr_data_control_source_v1::{self, ZwlrDataControlSourceV1},
};

/// A program that owns the clipboard until it is dropped.
pub struct WaylandProgram {
    served: Arc<AtomicUsize>,
    wake: UnixStream,
    worker: Option<JoinHandle<()>>,
}

/// Which of the two.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Selection {
    /// What was copied.
    Clipboard,
    /// What was selected.
    Primary,
}

impl WaylandProgram {
    /// Copies: owns the clipboard, and offers these formats.
    ///
    /// # Panics
    /// If the compositor refuses.
    pub fn copy(socket: &Path, formats: &[(&str, &[u8])], manner: Manner) -> Self {
        Self::own(socket, Selection::Clipboard, formats, manner)
    }

    /// Copies or selects.
    ///
    /// # Panics
    /// If the compositor refuses.
    pub fn own(socket: &Path, selection: Selection, formats: &[(&str, &[u8])], manner: Manner) -> Self {
        let formats = formats.iter().map(|(name, data)| ((*name).to_owned(), data.to_vec())).collect();
        let (mut queue, mut state) = connect(socket, formats, manner);
        state.offer(&queue.handle(), selection);
        queue.roundtrip(&mut state).expect("the compositor");
        let (wake, woken) = UnixStream::pair().expect("a pipe");
        let served = state.served.clone();
        let worker = std::thread::spawn(move || serve(&mut queue, &mut state, &woken));
        Self { served, wake, worker: Some(worker) }
    }

    /// How many requests it has been sent.
    pub fn served(&self) -> usize {
        self.served.load(Ordering::SeqCst)
    }

    /// Exits; the compositor knows it on return.
    pub fn exit(mut self) {
        self.finish();
    }

    fn finish(&mut self) {
        let _ = self.wake.shutdown(std::net::Shutdown::Both);
        if let Some(worker) = self.worker.take() {
            let _ = worker.join();
        }
    }
}

impl Drop for WaylandProgram {
    fn drop(&mut self) {
        self.finish();
    }
}

/// A program that copies again and again, for the benchmarks.
pub struct WaylandCopier {
    content: std::sync::mpsc::Sender<Vec<u8>>,
    copied: std::sync::mpsc::Receiver<std::time::Instant>,
    wake: UnixStream,
}

impl WaylandCopier {
    /// Connects; everything will be copied under this MIME type.
    ///
    /// # Panics
    /// If the compositor refuses.
    pub fn connect(socket: &Path, mime: &str) -> Self {
        let (mut queue, mut state) = connect(socket, vec![(mime.to_owned(), Vec::new())], Manner::Honest);
        let (content, contents) = std::sync::mpsc::channel::<Vec<u8>>();
        let (told, copied) = std::sync::mpsc::channel();
        let (wake, woken) = UnixStream::pair().expect("a pipe");
        woken.set_nonblocking(true).expect("a pipe");
        std::thread::spawn(move || {
            while wait(&mut queue, &mut state, &woken) {
                let mut signs = [0; 16];
                if matches!(std::io::Read::read(&mut &woken, &mut signs), Ok(0)) {
                    return;
                }
                for content in contents.try_iter() {
                    state.formats[0].1 = content;
                    let now = std::time::Instant::now();
                    state.offer(&queue.handle(), Selection::Clipboard);
                    let _ = queue.flush();
                    let _ = told.send(now);
                }
            }
        });
        Self { content, copied, wake }
    }

    /// Copies this; gives the moment at which it was done.
    ///
    /// # Panics
    /// If the program has ended.
    pub fn copy(&mut self, content: Vec<u8>) -> std::time::Instant {
        self.content.send(content).expect("the program");
        self.wake.write_all(&[1]).expect("the program");
        self.copied.recv().expect("the program")
    }
}

/// A program that pastes again and again, for the benchmarks.
pub struct WaylandPaster {
    queue: EventQueue<Program>,
    state: Program,
}

impl WaylandPaster {
    /// Connects.
    ///
    /// # Panics
    /// If the compositor refuses.
    pub fn connect(socket: &Path) -> Self {
        let (queue, state) = connect(socket, Vec::new(), Manner::Honest);
        Self { queue, state }
    }

    /// How often something was put on the clipboard, as far as it has looked.
    pub fn offers(&self) -> u64 {
        self.state.selections
    }

    /// Learns what is on the clipboard now.
    ///
    /// # Panics
    /// If the compositor refuses.
    pub fn look(&mut self) {
        self.queue.roundtrip(&mut self.state).expect("the compositor");
    }

    /// Waits until the compositor tells something.
    ///
    /// # Panics
    /// If it refuses.
    pub fn wait(&mut self) {
        self.queue.blocking_dispatch(&mut self.state).expect("the compositor");
    }

    /// Pastes what was on the clipboard when it was looked at.
    ///
    /// # Panics
    /// If the compositor refuses.
    pub fn paste(&mut self, mime: &str) -> Vec<u8> {
        let Some(offer) = &self.state.present else { return Vec::new() };
        let (reader, writer) = std::io::pipe().expect("a pipe");
        offer.receive(mime.to_owned(), writer.as_fd());
        self.queue.flush().expect("the compositor");
        drop(writer);
        let mut data = Vec::new();
        std::io::Read::read_to_end(&mut &reader, &mut data).expect("the pipe");
        data
    }
}

/// The program's side of the connection.
struct Program {
    seats: Vec<WlSeat>,
    manager: Option<ZwlrDataControlManagerV1>,
    device: Option<ZwlrDataControlDeviceV1>,
    formats: Vec<(String, Vec<u8>)>,
    manner: Manner,
    served: Arc<AtomicUsize>,
    /// Ends of pipes that are never closed.
    stalled: Vec<OwnedFd>,
    dead: bool,
    /// What is on the clipboard.
    present: Option<ZwlrDataControlOfferV1>,
    /// How often it was told what is on the clipboard.
    selections: u64,
}

fn connect(socket: &Path, formats: Vec<(String, Vec<u8>)>, manner: Manner) -> (EventQueue<Program>, Program) {
    let stream = UnixStream::connect(socket).expect("the compositor");
    let connection = Connection::from_socket(stream).expect("the compositor");
    let mut queue = connection.new_event_queue();
    connection.display().get_registry(&queue.handle(), ());
    let mut state = Program {
        seats: Vec::new(),
        manager: None,
        device: None,
        formats,
        manner,
        served: Arc::default(),
        stalled: Vec::new(),
        dead: false,
        present: None,
        selections: 0,
    };
    queue.roundtrip(&mut state).expect("the compositor");
    let manager = state.manager.clone().expect("access to the clipboard");
    state.device = Some(manager.get_data_device(&state.seats[0], &queue.handle(), ()));
    queue.roundtrip(&mut state).expect("the compositor");
    (queue, state)
}

/// Carries out events until the program is told to exit, or dies.
fn serve(queue: &mut EventQueue<Program>, state: &mut Program, woken: &UnixStream) {
    while wait(queue, state, woken) {
        let mut ended = [rustix::event::PollFd::new(woken, rustix::event::PollFlags::IN)];
        let now = rustix::event::Timespec { tv_sec: 0, tv_nsec: 0 };
        if state.dead || rustix::event::poll(&mut ended, Some(&now)).is_ok_and(|ready| ready > 0) {
            return;
        }
    }
}

/// Waits for the compositor, or for a sign; tells whether the connection is still there.
fn wait(queue: &mut EventQueue<Program>, state: &mut Program, woken: &UnixStream) -> bool {
    if queue.dispatch_pending(state).is_err() || queue.flush().is_err() {
        return false;
    }
    let Some(guard) = queue.prepare_read() else { return true };
    let ready = {
        let fd = guard.connection_fd();
        let flags = rustix::event::PollFlags::IN;
        let mut polled = [rustix::event::PollFd::new(&fd, flags), rustix::event::PollFd::new(woken, flags)];
        rustix::event::poll(&mut polled, None).is_ok() && !polled[0].revents().is_empty()
    };
    if ready {
        return guard.read().is_ok() && queue.dispatch_pending(state).is_ok();
    }
    true
}

impl Program {
    fn offer(&self, handle: &QueueHandle<Self>, selection: Selection) {
        let (Some(manager), Some(device)) = (&self.manager, &self.device) else { return };
        let source = manager.create_data_source(handle, ());
        self.formats.iter().for_each(|(name, _)| source.offer(name.clone()));
        match selection {
            Selection::Clipboard => device.set_selection(Some(&source)),
            Selection::Primary => device.set_primary_selection(Some(&source)),
        }
    }

    fn send(&mut self, name: &str, into: OwnedFd) {
        self.served.fetch_add(1, Ordering::SeqCst);
        let Some((_, data)) = self.formats.iter().find(|(offered, _)| offered == name) else { return };
        let data = data.clone();
        let mut pipe = std::fs::File::from(into);
        match self.manner {
            Manner::Honest => {
                std::thread::spawn(move || drop(pipe.write_all(&data)));
            }
            Manner::Pieces(size) => {
                std::thread::spawn(move || data.chunks(size).all(|piece| pipe.write_all(piece).is_ok()));
            }
            Manner::HalfSilent if !data.is_empty() => drop(pipe.write_all(&data)),
            Manner::Silent | Manner::HalfSilent => self.stalled.push(pipe.into()),
            Manner::Liar => {}
            Manner::Stalls => {
                let _ = pipe.write_all(&data[..data.len().min(1000)]);
                self.stalled.push(pipe.into());
            }
            Manner::Dies => {
                // The program's end closes the pipe as well, so it looks whole; a dead owner cannot be told
                // from one that had no more to say.
                let _ = pipe.write_all(&data[..data.len().min(1000)]);
                self.dead = true;
            }
            Manner::Floods => {
                std::thread::spawn(move || while pipe.write_all(&[b'x'; 64 * 1024]).is_ok() {});
            }
        }
    }
}

impl Dispatch<WlRegistry, ()> for Program {
    fn event(
        state: &mut Self,
        registry: &WlRegistry,
        event: wl_registry::Event,
        (): &(),
        _: &Connection,
        handle: &QueueHandle<Self>,
    ) {
        if let wl_registry::Event::Global { name, interface, version } = event {
            match interface.as_str() {
                "wl_seat" => state.seats.push(registry.bind(name, 1, handle, ())),
                "zwlr_data_control_manager_v1" => state.manager = Some(registry.bind(name, version.min(2), handle, ())),
                _ => {}
            }
        }
    }
}

impl Dispatch<WlSeat, ()> for Program {
    fn event(_: &mut Self, _: &WlSeat, _: wl_seat::Event, (): &(), _: &Connection, _: &QueueHandle<Self>) {}
}

impl Dispatch<ZwlrDataControlManagerV1, ()> for Program {
    fn event(
        _: &mut Self,
        _: &ZwlrDataControlManagerV1,
        _: zwlr_data_control_manager_v1::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

impl Dispatch<ZwlrDataControlDeviceV1, ()> for Program {
    fn event(
        state: &mut Self,
        _: &ZwlrDataControlDeviceV1,
        event: zwlr_data_control_device_v1::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        if let zwlr_data_control_device_v1::Event::Selection { id } = event {
            state.selections += 1;
            if let Some(before) = std::mem::replace(&mut state.present, id) {
                before.destroy();
            }
        }
    }

    event_created_child!(Program, ZwlrDataControlDeviceV1, [
        zwlr_data_control_device_v1::EVT_DATA_OFFER_OPCODE => (ZwlrDataControlOfferV1, ())
    ]);
}

impl Dispatch<ZwlrDataControlOfferV1, ()> for Program {
    fn event(
        _: &mut Self,
        _: &ZwlrDataControlOfferV1,
        _: zwlr_data_control_offer_v1::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

impl Dispatch<ZwlrDataControlSourceV1, ()> for Program {
    fn event(
        state: &mut Self,
        source: &ZwlrDataControlSourceV1,
        event: zwlr_data_control_source_v1::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        match event {
            zwlr_data_control_source_v1::Event::Send { mime_type, fd } => state.send(&mime_type, fd),
            zwlr_data_control_source_v1::Event::Cancelled => source.destroy(),
            _ => {}
        }
    }
}
