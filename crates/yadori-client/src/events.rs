//! What changes, as it happens: server-sent events (WHATWG HTML, section 9.2), as far as the service sends them.

use crate::error::ClientError;
use std::io::{BufRead, BufReader, Read};

/// One event of the stream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// What it is about: `ready`, `clip`, `status` or `reload`.
    pub name: String,
    /// The number of the change, to go on from after an interruption.
    pub id: Option<u64>,
    /// What it tells, as JSON.
    pub data: String,
}

/// The events of a service, one after the other, until the stream ends.
pub struct Events {
    lines: std::io::Lines<BufReader<Box<dyn Read + Send>>>,
}

impl Events {
    /// The events that are read from a stream.
    pub fn of(stream: impl Read + Send + 'static) -> Self {
        let stream: Box<dyn Read + Send> = Box::new(stream);
        Self { lines: BufReader::new(stream).lines() }
    }
}

impl Iterator for Events {
    type Item = Result<Event, ClientError>;

    fn next(&mut self) -> Option<Self::Item> {
        let mut event = Event { name: String::new(), id: None, data: String::new() };
        loop {
            let line = match self.lines.next()? {
                Ok(line) => line,
                Err(error) => return Some(Err(error.into())),
            };
            match line.split_once(':') {
                // An empty line ends an event; one without data is none.
                None if line.is_empty() && !event.data.is_empty() => return Some(Ok(event)),
                Some(("event", name)) => name.trim().clone_into(&mut event.name),
                Some(("id", id)) => event.id = id.trim().parse().ok(),
                Some(("data", data)) => data.trim_start().clone_into(&mut event.data),
                _ => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_read_and_comments_passed_over() {
        let stream = "event: ready\nid: 7\ndata: {\"change\":7}\n\n: still there\n\nevent: status\ndata: {}\n\nevent: clip\nid: 8\n";
        let events: Vec<Event> = Events::of(stream.as_bytes()).map(Result::unwrap).collect();
        assert_eq!(events.len(), 2, "what breaks off is no event");
        assert_eq!(
            (events[0].name.as_str(), events[0].id, events[0].data.as_str()),
            ("ready", Some(7), "{\"change\":7}")
        );
        assert_eq!((events[1].name.as_str(), events[1].id), ("status", None));
    }
}
