//! The service's side: one worker is kept warm, and another started when it dies.

use crate::decoding::{self, Known, PictureError, Small};
use crate::wire;
use rustix::process::Signal;
use std::io::{self, BufReader, Write};
use std::os::fd::AsRawFd;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::sync::{Mutex, oneshot};
use yadori_core::Format;
use yadori_core::capture::Picture;
use yadori_core::format;
use yadori_core::html::{self, Markup};

/// How long one picture may take.
pub(crate) const PATIENCE: Duration = Duration::from_secs(20);

/// How long one page may take.
const PAGE_PATIENCE: Duration = Duration::from_secs(5);

/// What is known of a picture once it is decoded. Its pixels never were in this process.
#[derive(Debug)]
pub struct Decoded {
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Its identity; none for an animation.
    pub picture: Option<Picture>,
    small: oneshot::Receiver<Result<Small, PictureError>>,
}

impl Decoded {
    /// The small picture.
    ///
    /// # Errors
    /// When none could be made.
    pub async fn small(self) -> Result<Small, PictureError> {
        self.small.await.unwrap_or(Err(PictureError::Died("it was given up")))
    }
}

/// Where pictures are decoded.
#[derive(Clone, Debug)]
pub struct Cage {
    /// The program that is a worker, and its arguments; none to decode in this process.
    program: Option<Arc<(PathBuf, Vec<String>)>>,
    patience: Duration,
    /// One picture is decoded at a time: a bomb that is within the limits still costs its memory once only.
    worker: Arc<Mutex<Option<Worker>>>,
}

impl Cage {
    /// None: pictures are decoded in this process. For tests of what is around it.
    pub fn none() -> Self {
        Self { program: None, patience: PATIENCE, worker: Arc::default() }
    }

    /// Workers are this program with these arguments, which calls [`crate::work`].
    pub fn of(program: &Path, arguments: &[&str]) -> Self {
        let arguments = arguments.iter().map(|argument| (*argument).to_owned()).collect();
        Self { program: Some(Arc::new((program.to_owned(), arguments))), ..Self::none() }
    }

    /// The program that is a worker; none if what it does is done in this process.
    pub(crate) fn program(&self) -> Option<&(PathBuf, Vec<String>)> {
        self.program.as_deref()
    }

    /// The same with another time that one picture may take.
    #[must_use]
    pub fn with_patience(self, patience: Duration) -> Self {
        Self { patience, ..self }
    }

    /// Decodes a picture. Gives what is known as soon as it is; the small picture is made afterwards, and only then is the
    /// next picture decoded.
    ///
    /// # Errors
    /// When it is not what it says it is, or too large, or the decoder died over it.
    pub async fn decode(&self, format: &Format) -> Result<Decoded, PictureError> {
        let only = self.worker.clone().lock_owned().await;
        let (cage, format) = (self.clone(), format.clone());
        let (tell_known, knowing) = oneshot::channel();
        let (tell_small, small) = oneshot::channel();
        tokio::task::spawn_blocking(move || {
            let mut only = only;
            match &cage.program {
                None => here(&format, tell_known, tell_small),
                Some(program) => {
                    let told = in_worker(&mut only, program, &format, cage.patience, tell_known, tell_small);
                    if told.is_err() {
                        *only = None;
                    }
                }
            }
        });
        let died = || PictureError::Died("the decoder died over it, or took too long");
        let Known { width, height, picture } = knowing.await.unwrap_or_else(|_| Err(died()))?;
        Ok(Decoded { width, height, picture, small })
    }

    /// Reads a page.
    ///
    /// # Errors
    /// When the worker died over it, or took too long.
    pub async fn read_markup(&self, page: &[u8]) -> Result<Markup, Died> {
        self.page(Format::new(format::HTML, page.to_vec()), Markup::read, wire::read_markup).await
    }

    /// Turns a page into Markdown.
    ///
    /// # Errors
    /// When the worker died over it, or took too long.
    pub async fn to_markdown(&self, page: &[u8]) -> Result<String, Died> {
        self.page(Format::new(wire::AS_MARKDOWN, page.to_vec()), html::to_markdown, wire::read_text).await
    }

    /// Has the worker read a page; or this process, if there is none.
    async fn page<T: Send + 'static>(
        &self,
        page: Format,
        read_here: fn(&[u8]) -> T,
        read_answer: fn(&mut BufReader<ChildStdout>) -> io::Result<T>,
    ) -> Result<T, Died> {
        let mut only = self.worker.clone().lock_owned().await;
        let cage = self.clone();
        let reading = tokio::task::spawn_blocking(move || {
            let Some(program) = &cage.program else { return Ok(read_here(&page.data)) };
            let read = with_worker(&mut only, program, &page, cage.patience.min(PAGE_PATIENCE), read_answer);
            if read.is_err() {
                *only = None;
            }
            read
        });
        reading.await.map_err(|_| Died)?.map_err(|_| Died)
    }
}

/// The worker died, or took too long.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("the decoder died over it, or took too long")]
pub struct Died;

type TellKnown = oneshot::Sender<Result<Known, PictureError>>;
type TellSmall = oneshot::Sender<Result<Small, PictureError>>;

fn here(format: &Format, tell_known: TellKnown, tell_small: TellSmall) {
    match decoding::decode(&format.mime, &format.data) {
        Ok((known, rgba)) => {
            if tell_known.send(Ok(known)).is_ok() {
                let _ = tell_small.send(decoding::small(rgba));
            }
        }
        Err(error) => drop(tell_known.send(Err(error))),
    }
}

/// Asks the worker, which is started if there is none.
fn with_worker<T>(
    warm: &mut Option<Worker>,
    (program, arguments): &(PathBuf, Vec<String>),
    format: &Format,
    patience: Duration,
    read: impl FnOnce(&mut BufReader<ChildStdout>) -> io::Result<T>,
) -> io::Result<T> {
    let worker = match warm {
        Some(worker) => worker,
        None => warm.insert(Worker::start(program, arguments)?),
    };
    // It is killed if it takes too long; what waits for it then sees its end.
    let _killer = Killer::new(worker.child.id(), patience);
    let answered = worker.ask(format).and_then(|()| read(&mut worker.output));
    answered.inspect_err(|error| {
        tracing::warn!(%error, mime = format.mime, bytes = format.data.len(), "the decoder died over something, which is not shown");
    })
}

fn in_worker(
    warm: &mut Option<Worker>,
    program: &(PathBuf, Vec<String>),
    format: &Format,
    patience: Duration,
    tell_known: TellKnown,
    tell_small: TellSmall,
) -> io::Result<()> {
    with_worker(warm, program, format, patience, |output| {
        let known = wire::read_known(output)?;
        let is_fine = known.is_ok();
        let _ = tell_known.send(known);
        if is_fine {
            let _ = tell_small.send(wire::read_small(output)?);
        }
        Ok(())
    })
}

/// A process that decodes.
#[derive(Debug)]
pub(crate) struct Worker {
    pub child: Child,
    pub input: ChildStdin,
    pub output: BufReader<ChildStdout>,
}

/// Bytes that a pipe to the worker holds, where the system allows it.
const PIPE: usize = 1 << 20;

impl Worker {
    pub fn start(program: &Path, arguments: &[String]) -> io::Result<Self> {
        let mut command = Command::new(program);
        command.args(arguments).env_clear().current_dir("/");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        // A group of its own: what is meant for the service does not end it. It ends when its input is closed.
        command.process_group(0);
        let mut child = command.spawn()?;
        let (Some(input), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
            return Err(io::ErrorKind::BrokenPipe.into());
        };
        let _ = rustix::pipe::fcntl_setpipe_size(&input, PIPE);
        Ok(Self { child, input, output: BufReader::new(output) })
    }

    fn ask(&mut self, format: &Format) -> io::Result<()> {
        self.input.write_all(&wire::request_head(&format.mime, &format.data))?;
        self.input.write_all(format.mime.as_bytes())?;
        lend(&self.input, &format.data)
    }
}

/// Gives bytes to a pipe without copying them: the reader takes them from where they are (vmsplice(2)). They must stay as they
/// are until it has; here they are never changed at all.
fn lend(pipe: &ChildStdin, mut bytes: &[u8]) -> io::Result<()> {
    while !bytes.is_empty() {
        let piece = libc::iovec { iov_base: bytes.as_ptr().cast_mut().cast(), iov_len: bytes.len() };
        // SAFETY: the bytes are there for as long as the call; nothing is written to them.
        let given = unsafe { libc::vmsplice(pipe.as_raw_fd(), &raw const piece, 1, 0) };
        match usize::try_from(given) {
            Ok(given) => bytes = &bytes[given.min(bytes.len())..],
            Err(_) if io::Error::last_os_error().kind() == io::ErrorKind::Interrupted => {}
            Err(_) => return Err(io::Error::last_os_error()),
        }
    }
    Ok(())
}

impl Drop for Worker {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Kills a process when a time is over, unless it is dropped before.
pub(crate) struct Killer(Option<std::sync::mpsc::Sender<()>>, Option<std::thread::JoinHandle<()>>);

impl Killer {
    pub fn new(pid: u32, patience: Duration) -> Self {
        let (sender, dropped) = std::sync::mpsc::channel::<()>();
        let thread = std::thread::Builder::new().name("cage".into()).spawn(move || {
            if let Err(std::sync::mpsc::RecvTimeoutError::Timeout) = dropped.recv_timeout(patience)
                && let Some(pid) = rustix::process::Pid::from_raw(pid as i32)
            {
                let _ = rustix::process::kill_process(pid, Signal::KILL);
            }
        });
        Self(Some(sender), thread.ok())
    }
}

impl Drop for Killer {
    fn drop(&mut self) {
        self.0 = None;
        if let Some(thread) = self.1.take() {
            let _ = thread.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::{DynamicImage, ImageFormat};
    use std::io::Cursor;

    fn png(width: u32, height: u32) -> Format {
        let mut data = Vec::new();
        DynamicImage::new_rgb8(width, height).write_to(&mut Cursor::new(&mut data), ImageFormat::Png).unwrap();
        Format::new("image/png", data)
    }

    #[tokio::test]
    async fn a_picture_is_decoded_and_made_small() {
        let decoded = Cage::none().decode(&png(800, 400)).await.unwrap();
        let picture = decoded.picture.clone().unwrap();
        assert_eq!((picture.width, picture.height), (800, 400));
        let small = image::load_from_memory(&decoded.small().await.unwrap().content).unwrap();
        assert_eq!((small.width(), small.height()), (320, 160));
    }

    #[tokio::test]
    async fn broken_and_monstrous_pictures_are_told_apart() {
        assert!(matches!(
            Cage::none().decode(&Format::new("image/png", "not a picture")).await,
            Err(PictureError::Broken(_))
        ));
        let mut truncated = png(64, 64);
        truncated.data.truncate(60);
        assert!(matches!(Cage::none().decode(&truncated).await, Err(PictureError::Broken(_))));
        // 40,000 × 40,000 pixels, and 30,000 × 5,000, in the header of a file of a few bytes.
        for (width, height) in [(40_000u32, 40_000u32), (30_000, 5_000)] {
            let mut bomb = png(1, 1).data.to_vec();
            bomb[16..20].copy_from_slice(&width.to_be_bytes());
            bomb[20..24].copy_from_slice(&height.to_be_bytes());
            let crc = crc32(&bomb[12..29]);
            bomb[29..33].copy_from_slice(&crc.to_be_bytes());
            assert!(matches!(
                Cage::none().decode(&Format::new("image/png", bomb)).await,
                Err(PictureError::TooLarge(Some(_)))
            ));
        }
    }

    #[tokio::test]
    async fn animations_are_known_by_their_frames() {
        let gif = |frames: u8| {
            let mut data = Vec::new();
            let mut encoder = image::codecs::gif::GifEncoder::new(&mut data);
            for shade in 0..frames {
                let frame = image::RgbaImage::from_pixel(4, 4, image::Rgba([shade * 80, 0, 0, 255]));
                encoder.encode_frame(image::Frame::new(frame)).unwrap();
            }
            drop(encoder);
            Format::new("image/gif", data)
        };
        assert!(Cage::none().decode(&gif(1)).await.unwrap().picture.is_some());
        let moving = Cage::none().decode(&gif(3)).await.unwrap();
        assert!(moving.picture.is_none());
        assert_eq!((moving.width, moving.height), (4, 4));
    }

    fn crc32(data: &[u8]) -> u32 {
        !data.iter().fold(!0u32, |crc, byte| {
            (0..8).fold(crc ^ u32::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xedb8_8320 } else { crc >> 1 })
        })
    }
}
