//! A road between two devices, which can be slow, and can be cut.

use std::io::{Read, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// Carries bytes both ways between whoever connects and a target, and counts them.
pub struct FaultyProxy {
    address: SocketAddr,
    shared: Arc<Shared>,
    taking: Option<JoinHandle<()>>,
}

#[derive(Default)]
struct Shared {
    over: AtomicBool,
    /// Bytes a second each way; no limit if zero.
    rate: AtomicU64,
    /// Every connection is cut after it has carried so many bytes; never if zero.
    lasts: AtomicU64,
    carried: AtomicU64,
    cuts: AtomicU64,
    streams: Mutex<Vec<TcpStream>>,
}

impl FaultyProxy {
    /// A road to this address.
    ///
    /// # Panics
    /// If there is no port for it.
    pub fn to(target: &str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = listener.local_addr().expect("an address");
        let (shared, target) = (Arc::new(Shared::default()), target.to_owned());
        let of_road = shared.clone();
        let taking = std::thread::spawn(move || {
            for stream in listener.incoming() {
                if of_road.over.load(Ordering::Relaxed) {
                    return;
                }
                let (Ok(from), Ok(to)) = (stream, TcpStream::connect(&target)) else { continue };
                of_road.carry(&from, &to);
            }
        });
        Self { address, shared, taking: Some(taking) }
    }

    /// Where it begins.
    pub fn address(&self) -> String {
        self.address.to_string()
    }

    /// From now on it carries so many bytes a second each way; without limit if zero.
    pub fn set_rate(&self, bytes: u64) {
        self.shared.rate.store(bytes, Ordering::Relaxed);
    }

    /// From now on every connection is cut after it has carried about so many bytes; never if zero.
    pub fn lasts_for(&self, bytes: u64) {
        self.shared.lasts.store(bytes, Ordering::Relaxed);
    }

    /// Cuts what there is; it can be connected again at once.
    pub fn cut(&self) {
        self.shared.cut();
    }

    /// Bytes carried so far, both ways.
    pub fn carried(&self) -> u64 {
        self.shared.carried.load(Ordering::Relaxed)
    }

    /// How often connections were cut because they had carried enough.
    pub fn cuts(&self) -> u64 {
        self.shared.cuts.load(Ordering::Relaxed)
    }
}

impl Drop for FaultyProxy {
    fn drop(&mut self) {
        self.shared.over.store(true, Ordering::Relaxed);
        self.shared.cut();
        // Whoever waits for a connection gets one.
        let _ = TcpStream::connect(self.address);
        if let Some(taking) = self.taking.take() {
            let _ = taking.join();
        }
    }
}

impl Shared {
    fn cut(&self) {
        for stream in self.streams.lock().expect("the connections").drain(..) {
            let _ = stream.shutdown(Shutdown::Both);
        }
    }

    fn carry(self: &Arc<Self>, from: &TcpStream, to: &TcpStream) {
        let ends = [from.try_clone().expect("a stream"), to.try_clone().expect("a stream")];
        self.streams.lock().expect("the connections").extend(ends);
        let of_connection = Arc::new(AtomicU64::new(0));
        for (from, to) in [(from, to), (to, from)] {
            let (from, to) = (from.try_clone().expect("a stream"), to.try_clone().expect("a stream"));
            let (shared, of_connection) = (self.clone(), of_connection.clone());
            std::thread::spawn(move || shared.carry_one_way(from, to, &of_connection));
        }
    }

    fn carry_one_way(&self, mut from: TcpStream, mut to: TcpStream, of_connection: &AtomicU64) {
        let mut piece = [0; 8192];
        let mut free_at = Instant::now();
        while let Ok(count @ 1..) = from.read(&mut piece) {
            let rate = self.rate.load(Ordering::Relaxed);
            if rate > 0 {
                std::thread::sleep(free_at.saturating_duration_since(Instant::now()));
                free_at = free_at.max(Instant::now()) + Duration::from_secs_f64(count as f64 / rate as f64);
            }
            if to.write_all(&piece[..count]).is_err() {
                break;
            }
            self.carried.fetch_add(count as u64, Ordering::Relaxed);
            let carried = of_connection.fetch_add(count as u64, Ordering::Relaxed) + count as u64;
            let lasts = self.lasts.load(Ordering::Relaxed);
            if lasts > 0 && carried >= lasts {
                self.cuts.fetch_add(1, Ordering::Relaxed);
                break;
            }
        }
        let _ = from.shutdown(Shutdown::Both);
        let _ = to.shutdown(Shutdown::Both);
    }
}
