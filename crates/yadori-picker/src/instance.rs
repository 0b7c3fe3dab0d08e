//! One picker for each instance of the service: the first one listens at a socket, the others tell it what is wanted.

use std::fs;
use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::PathBuf;
use std::time::Duration;
use yadori_files::Places;

/// Longest that somebody who asks may take to say what.
const PATIENCE: Duration = Duration::from_secs(1);

/// What a picker is asked to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// Show the window.
    Show,
    /// End.
    End,
}

impl Order {
    const fn word(self) -> &'static str {
        match self {
            Self::Show => "show",
            Self::End => "end",
        }
    }

    fn of_word(word: &str) -> Option<Self> {
        [Self::Show, Self::End].into_iter().find(|order| order.word() == word)
    }
}

/// That this is the one picker; when it is dropped, another one can be.
pub struct Instance {
    socket: PathBuf,
}

impl Instance {
    /// Becomes the picker of this instance; orders are then put into `orders`. If there is one, it is told to
    /// show itself, and nothing is given.
    ///
    /// # Errors
    /// When the socket cannot be made.
    pub fn claim(places: &Places, orders: async_channel::Sender<Order>) -> io::Result<Option<Self>> {
        let socket = places.picker();
        if let Ok(mut other) = UnixStream::connect(&socket) {
            writeln!(other, "{}", Order::Show.word())?;
            return Ok(None);
        }
        // It is made beside its place, so that whoever finds it can also reach it; one that nobody listens at is replaced.
        let made = socket.with_extension(format!("{}.new", std::process::id()));
        let _ = fs::remove_file(&made);
        let listener = UnixListener::bind(&made)?;
        fs::set_permissions(&made, fs::Permissions::from_mode(0o600))?;
        fs::rename(&made, &socket)?;
        std::thread::spawn(move || {
            for asked in listener.incoming() {
                let Some(order) = asked.ok().and_then(read) else { continue };
                if orders.send_blocking(order).is_err() {
                    return;
                }
            }
        });
        Ok(Some(Self { socket }))
    }
}

fn read(asked: UnixStream) -> Option<Order> {
    asked.set_read_timeout(Some(PATIENCE)).ok()?;
    let mut line = String::new();
    BufReader::new(io::Read::take(asked, 16)).read_line(&mut line).ok()?;
    Order::of_word(line.trim())
}

impl Drop for Instance {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.socket);
    }
}
