//! Sixty-four programs that ask at the same time, each as soon as it is answered: how long the last of a hundred waits.

use super::quantile;
use crate::report::Report;
use axum::Router;
use axum::http::header;
use axum::routing::get;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Runtime;
use yadori_e2e::service::Service;

/// Connections.
const CROWD: usize = 64;

/// Requests of each.
const TIMES: usize = 60;

/// Reads an answer to its end, and gives the size of its body.
async fn read(stream: &mut TcpStream, buffer: &mut Vec<u8>) -> usize {
    buffer.clear();
    let (mut ends, mut length) = (None, 0);
    loop {
        if let Some(end) = ends
            && buffer.len() >= end + length
        {
            return length;
        }
        assert!(stream.read_buf(buffer).await.expect("an answer") > 0, "the connection was closed");
        if ends.is_none()
            && let Some(end) = memchr::memmem::find(buffer, b"\r\n\r\n")
        {
            let head = String::from_utf8_lossy(&buffer[..end]).to_ascii_lowercase();
            assert!(head.starts_with("http/1.1 200"), "{head}");
            let told = head.lines().find_map(|line| line.strip_prefix("content-length: "));
            length = told.and_then(|length| length.trim().parse().ok()).expect("a length");
            ends = Some(end + 4);
        }
    }
}

/// How long each request took, and how large an answer is.
async fn ask(address: &str, request: &str) -> (Vec<Duration>, usize) {
    let asking = (0..CROWD).map(|_| {
        let (address, request) = (address.to_owned(), request.to_owned());
        tokio::spawn(async move {
            let mut stream = TcpStream::connect(address).await.expect("a connection");
            stream.set_nodelay(true).expect("no delay");
            let (mut buffer, mut times, mut length) = (Vec::with_capacity(1 << 16), Vec::with_capacity(TIMES), 0);
            for _ in 0..TIMES {
                let before = Instant::now();
                stream.write_all(request.as_bytes()).await.expect("a request");
                length = read(&mut stream, &mut buffer).await;
                times.push(before.elapsed());
            }
            (times, length)
        })
    });
    let (mut times, mut length) = (Vec::new(), 0);
    for one in asking.collect::<Vec<_>>() {
        let (own, answered) = one.await.expect("an asker");
        times.extend(own);
        length = answered;
    }
    (times, length)
}

/// A handler that gives this many bytes, and does nothing else.
async fn bare(length: usize) -> String {
    let body = "x".repeat(length);
    let answer = move || async move { ([(header::CONTENT_TYPE, "application/json")], body) };
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("its address").to_string();
    tokio::spawn(async move { axum::serve(listener, Router::new().route("/", get(answer))).await });
    address
}

/// How long answers of this many bytes take that a bare handler gives to one who asks again and again.
pub async fn one_by_one(length: usize, times: usize) -> Vec<Duration> {
    let address = bare(length).await;
    let request = format!("GET / HTTP/1.1\r\nhost: {address}\r\n\r\n");
    let mut stream = TcpStream::connect(&address).await.expect("a connection");
    stream.set_nodelay(true).expect("no delay");
    let (mut buffer, mut spent) = (Vec::with_capacity(1 << 16), Vec::with_capacity(times));
    for _ in 0..times {
        let before = Instant::now();
        stream.write_all(request.as_bytes()).await.expect("a request");
        read(&mut stream, &mut buffer).await;
        spent.push(before.elapsed());
    }
    spent
}

/// In a history of 100,000 clips.
pub fn crowd(report: &mut Report, runtime: &Runtime, service: &Service) {
    let newest = service.clips(&["list", "-n", "1"]).remove(0).id;
    for (what, path, budget) in [
        ("list", "/clips?limit=50".to_owned(), Some(20.0)),
        ("find", "/clips?q=lamp&limit=50".to_owned(), Some(20.0)),
        ("show", format!("/clips/{newest}"), Some(20.0)),
    ] {
        let request = |address: &str, path: &str| {
            format!("GET {path} HTTP/1.1\r\nhost: {address}\r\nauthorization: {}\r\n\r\n", service.bearer())
        };
        let address = service.address();
        let asked = request(&address, &format!("{}{path}", yadori_api::BASE));
        let (mut times, length) = runtime.block_on(ask(&address, &asked));
        let mut least = runtime.block_on(async {
            let address = bare(length).await;
            ask(&address, &request(&address, "/")).await.0
        });
        for share in [0.5, 0.99] {
            let limit = Some(("a bare handler that gives as much", quantile(&mut least, share)));
            let what = format!("{what} for {CROWD} at once, 100,000 clips, p{}", share * 100.0);
            report.add(what, quantile(&mut times, share), "ms", limit, budget.filter(|_| share > 0.9), false);
        }
    }
}
