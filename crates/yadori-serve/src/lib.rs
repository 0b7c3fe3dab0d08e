//! Connections: how many, for how long, and who has to go when there are too many.
//!
//! Whoever can reach the port can open connections, and need not say anything on them. So a connection has to say what it
//! wants within a time, there are never more than a limit, and when that is reached the connection that has been idle for
//! longest is closed for the new one. A request that is being answered is never broken off for another's sake, unless all
//! connections are busy: then the oldest event stream goes, since its client comes back and goes on where it stopped.

use axum::Router;
use axum::body::{Body, Bytes, HttpBody};
use axum::extract::Request;
use axum::response::Response;
use hyper::body::Incoming;
use hyper_util::rt::{TokioIo, TokioTimer};
use parking_lot::{Mutex, MutexGuard};
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::Instant;
use tokio_io_timeout::TimeoutStream;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tower_service::Service;

/// How long a connection may take to say what it wants, and to go on with it, and how long it may be idle between two requests.
pub const SPEAKING: Duration = Duration::from_secs(30);

/// How long a client may take to read some more of its answer: one that reads nothing keeps no answer, and no place.
const READING: Duration = Duration::from_secs(60);

/// How long requests that are being answered have when the service ends.
const LAST_ANSWERS: Duration = Duration::from_secs(2);

/// How long to wait after a connection could not be taken: the system is short of something.
const SHORT: Duration = Duration::from_millis(200);

/// What is known of a connection.
struct Known {
    /// Ends it.
    end: CancellationToken,
    /// Answers that are under way.
    answers: u32,
    /// One of them goes on for as long as the client likes.
    streams: bool,
    /// When that number last changed.
    since: Instant,
}

/// All connections, by their number.
#[derive(Default)]
struct Connections(Mutex<(u64, BTreeMap<u64, Known>)>);

impl Connections {
    fn all(&self) -> MutexGuard<'_, (u64, BTreeMap<u64, Known>)> {
        self.0.lock()
    }

    /// Takes one more; another has to go if there are `most` already. Gives its number, and what ends it.
    fn admit(&self, most: usize) -> (u64, CancellationToken) {
        let mut all = self.all();
        if all.1.len() >= most {
            // Idle before streaming before answering; of equals the one that has been so for longest.
            let worth = |known: &Known| (known.answers > 0, known.answers > 0 && !known.streams, known.since);
            let least = all.1.iter().min_by_key(|(_, known)| worth(known)).map(|(number, _)| *number);
            if let Some(gone) = least.and_then(|number| all.1.remove(&number)) {
                gone.end.cancel();
            }
        }
        let end = CancellationToken::new();
        all.0 += 1;
        let number = all.0;
        all.1.insert(number, Known { end: end.clone(), answers: 0, streams: false, since: Instant::now() });
        (number, end)
    }

    fn change(&self, number: u64, change: impl FnOnce(&mut Known)) {
        if let Some(known) = self.all().1.get_mut(&number) {
            change(known);
            known.since = Instant::now();
        }
    }
}

/// An answer that is under way, from the request to the last byte.
struct Answering {
    connections: Arc<Connections>,
    number: u64,
}

impl Answering {
    fn new(connections: &Arc<Connections>, number: u64) -> Self {
        connections.change(number, |known| known.answers += 1);
        Self { connections: connections.clone(), number }
    }
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.connections.change(self.number, |known| {
            known.answers = known.answers.saturating_sub(1);
            known.streams &= known.answers > 0;
        });
    }
}

/// A body with which its answer ends.
struct Watched {
    body: Body,
    _answering: Answering,
}

impl HttpBody for Watched {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<http_body::Frame<Bytes>, axum::Error>>> {
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> http_body::SizeHint {
        self.body.size_hint()
    }
}

/// How much may come.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Connections at the same time.
    pub connections: usize,
    /// Headers of a request.
    pub headers: usize,
}

/// Has a router answer a request.
pub async fn routed(mut router: Router, request: Request) -> Response {
    let Ok(response) = router.call(request).await;
    response
}

/// Serves until `ending`: answers each request.
pub async fn serve<A: Future<Output = Response> + Send>(
    listener: TcpListener,
    answer: impl Fn(Request) -> A + Clone + Send + 'static,
    ending: CancellationToken,
    limits: Limits,
) {
    let plain = async |stream: TcpStream| Ok(stream);
    serve_by(listener, answer, ending, limits, plain).await;
}

/// The same, with connections of which each begins with a handshake.
pub async fn serve_by<S, F, A>(
    listener: TcpListener,
    answer: impl Fn(Request) -> A + Clone + Send + 'static,
    ending: CancellationToken,
    limits: Limits,
    handshake: impl Fn(TcpStream) -> F + Clone + Send + Sync + 'static,
) where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    F: Future<Output = std::io::Result<S>> + Send,
    A: Future<Output = Response> + Send,
{
    let connections = Arc::<Connections>::default();
    let tasks = TaskTracker::new();
    let accepting = async {
        loop {
            match listener.accept().await {
                Ok((stream, _)) => {
                    let (number, end) = connections.admit(limits.connections);
                    let (connections, answer, ending) = (connections.clone(), answer.clone(), ending.clone());
                    let handshake = handshake.clone();
                    tasks.spawn(async move {
                        let _ = stream.set_nodelay(true);
                        let talking = async {
                            match handshake(stream).await {
                                Ok(stream) => {
                                    talk(stream, answer, (&connections, number), limits.headers, ending).await;
                                }
                                Err(error) => tracing::debug!(%error, "a handshake was not completed"),
                            }
                        };
                        tokio::select! {
                            () = end.cancelled() => {}
                            () = talking => {}
                        }
                        connections.all().1.remove(&number);
                    });
                }
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be taken");
                    tokio::time::sleep(SHORT).await;
                }
            }
        }
    };
    tokio::select! {
        () = ending.cancelled() => {}
        () = accepting => {}
    }
    tasks.close();
    // A client that reads slowly does not keep the service from ending.
    let _ = tokio::time::timeout(LAST_ANSWERS, tasks.wait()).await;
    for known in connections.all().1.values() {
        known.end.cancel();
    }
}

/// One connection, from its first request to its end.
async fn talk<S, A>(
    stream: S,
    answer: impl Fn(Request) -> A + Send,
    (connections, number): (&Arc<Connections>, u64),
    most_headers: usize,
    ending: CancellationToken,
) where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    A: Future<Output = Response> + Send,
{
    let answer = hyper::service::service_fn(move |request: hyper::Request<Incoming>| {
        let answering = Answering::new(connections, number);
        let answer = answer(request.map(Body::new));
        async move {
            let response = answer.await;
            let streams = response.headers().get("content-type").is_some_and(|kind| kind == "text/event-stream");
            answering.connections.change(number, |known| known.streams |= streams);
            Ok::<_, Infallible>(response.map(|body| Body::new(Watched { body, _answering: answering })))
        }
    });
    let mut builder = hyper::server::conn::http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(SPEAKING).max_headers(most_headers);
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(READING));
    let connection = builder.serve_connection(TokioIo::new(Box::pin(stream)), answer);
    tokio::pin!(connection);
    let ended = tokio::select! {
        ended = connection.as_mut() => ended,
        () = ending.cancelled() => {
            connection.as_mut().graceful_shutdown();
            connection.await
        }
    };
    if let Err(error) = ended {
        tracing::debug!(%error, "a connection has ended");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    /// Of a pipe that holds 1 KiB, an answer of 64 KiB.
    async fn answering() -> (tokio::io::DuplexStream, tokio::task::JoinHandle<()>) {
        let connections = Arc::<Connections>::default();
        let (mut client, stream) = tokio::io::duplex(1024);
        let router = Router::new().route("/", axum::routing::get(async || vec![b'x'; 65536]));
        let talking = tokio::spawn(async move {
            let (number, _end) = connections.admit(1);
            talk(
                stream,
                |request| routed(router.clone(), request),
                (&connections, number),
                16,
                CancellationToken::new(),
            )
            .await;
        });
        client.write_all(b"GET / HTTP/1.1\r\nhost: here\r\n\r\n").await.unwrap();
        (client, talking)
    }

    #[tokio::test(start_paused = true)]
    async fn a_client_that_reads_nothing_is_let_go_of_and_a_slow_one_is_not() {
        let (client, talking) = answering().await;
        let began = Instant::now();
        talking.await.unwrap();
        assert!((READING..READING * 2).contains(&began.elapsed()), "{:?}", began.elapsed());
        drop(client);

        let (mut client, talking) = answering().await;
        let (began, mut read, mut some) = (Instant::now(), 0, [0; 1024]);
        while read < 65536 {
            tokio::time::sleep(READING / 4).await;
            read += client.read(&mut some).await.unwrap();
        }
        assert!(began.elapsed() > READING * 10);
        drop(client);
        talking.await.unwrap();
    }

    #[test]
    fn the_one_that_has_been_idle_for_longest_makes_room() {
        let connections = Arc::<Connections>::default();
        let (busy, busy_end) = connections.admit(3);
        let (stream, stream_end) = connections.admit(3);
        let (_, idle_end) = connections.admit(3);
        let answering = Answering::new(&connections, busy);
        let _streaming = Answering::new(&connections, stream);
        connections.change(stream, |known| known.streams = true);
        let (_, fourth_end) = connections.admit(3);
        assert!(idle_end.is_cancelled() && !busy_end.is_cancelled() && !stream_end.is_cancelled());
        let (fifth, fifth_end) = connections.admit(3);
        assert!(fourth_end.is_cancelled() && !fifth_end.is_cancelled());
        let _fifth = Answering::new(&connections, fifth);
        connections.admit(3);
        assert!(stream_end.is_cancelled() && !busy_end.is_cancelled());
        drop(answering);
        connections.admit(2);
        assert!(busy_end.is_cancelled() || connections.all().1.len() <= 3);
    }
}
