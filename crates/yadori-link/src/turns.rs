//! What an exchange has asked of the records, until it is done.
//!
//! Most of it is done one after the other, in the order in which it was asked for; pieces of content that wait for their turn next to
//! each other are put on record together. Beside that, content is read; and it is put on record how far the other has come, once in
//! a while and when the exchange ends. The other is heard all the while, unless so much waits that it has to wait as well.

use crate::connection::{Applied, Ended, Records, Stored};
use crate::exchange::{Input, Output};
use std::collections::VecDeque;
use std::future::poll_fn;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::time::{Sleep, sleep};
use yadori_core::shared::{ContentPiece, Hash};

/// So much may wait before the other has to.
const MOST: usize = 8;

/// How long an acknowledgement waits for those that follow it. Should this device lose its power meanwhile, so much is told again.
const LATE: Duration = Duration::from_secs(1);

/// Pieces of content are put on record together up to about so many bytes: one of a large content, and many small ones.
const TOGETHER: usize = 1024 * 1024;

type Doing<'r> = Pin<Box<dyn Future<Output = Result<Vec<Input>, Ended>> + Send + 'r>>;

/// What is done one after the other: what is being done, what waits, and what came of what is done and was not given yet.
#[derive(Default)]
struct Turns<'r> {
    doing: Option<Doing<'r>>,
    waiting: VecDeque<Output>,
    came: VecDeque<Input>,
}

/// How far the other has come: what is being put on record, and the latest that is not yet.
#[derive(Default)]
struct Acknowledgements<'r> {
    doing: Option<Doing<'r>>,
    latest: Option<Output>,
    due: Option<Pin<Box<Sleep>>>,
}

/// All that is to be done with these records.
pub(crate) struct ToDo<'r, R> {
    records: &'r R,
    ordered: Turns<'r>,
    acknowledgements: Acknowledgements<'r>,
    contents: Turns<'r>,
}

impl<'r, R: Records> ToDo<'r, R> {
    /// Nothing yet.
    pub fn of(records: &'r R) -> Self {
        Self {
            records,
            ordered: Turns::default(),
            acknowledgements: Acknowledgements::default(),
            contents: Turns::default(),
        }
    }

    /// Adds something that the records are asked for.
    pub fn add(&mut self, output: Output) {
        let turns = match &output {
            Output::Acknowledged(..) => return self.acknowledgements.add(output),
            Output::ReadContent(..) => &mut self.contents,
            _ => &mut self.ordered,
        };
        turns.waiting.push_back(output);
        turns.begin_next(self.records);
    }

    /// Whether the other has to wait before it says more.
    pub fn is_full(&self) -> bool {
        self.ordered.waiting.len() >= MOST || self.contents.waiting.len() >= MOST
    }

    /// Waits until one thing more is done, and gives what came of it; for ever, if there is nothing to do. Nothing is lost when
    /// whoever waits gives up.
    pub async fn next(&mut self) -> Result<Option<Input>, Ended> {
        poll_fn(|context| {
            for turns in [&mut self.ordered, &mut self.contents] {
                if let Poll::Ready(done) = turns.poll(context) {
                    turns.begin_next(self.records);
                    return Poll::Ready(done);
                }
            }
            self.acknowledgements.poll(self.records, context)
        })
        .await
    }

    /// Does what is left, unless the records fail.
    pub async fn finish(mut self) {
        loop {
            self.acknowledgements.begin(self.records);
            let turns = [&self.ordered.doing, &self.contents.doing, &self.acknowledgements.doing];
            let is_done = turns.into_iter().all(Option::is_none);
            if is_done || self.next().await.is_err() {
                return;
            }
        }
    }
}

impl<'r> Turns<'r> {
    fn begin_next<R: Records>(&mut self, records: &'r R) {
        if self.doing.is_some() {
            return;
        }
        self.doing = match self.waiting.pop_front() {
            Some(Output::StoreContent(hash, at, data)) => {
                let mut length = data.len();
                let mut pieces = vec![ContentPiece { hash, at, data }];
                while length < TOGETHER
                    && let Some(Output::StoreContent(hash, at, data)) =
                        self.waiting.pop_front_if(|next| matches!(next, Output::StoreContent(..)))
                {
                    length += data.len();
                    pieces.push(ContentPiece { hash, at, data });
                }
                Some(Box::pin(store(pieces, records)))
            }
            next => next.map(|output| Box::pin(carry_out(output, records)) as Doing<'r>),
        };
    }

    fn poll(&mut self, context: &mut Context<'_>) -> Poll<Result<Option<Input>, Ended>> {
        if let Some(input) = self.came.pop_front() {
            return Poll::Ready(Ok(Some(input)));
        }
        let Some(doing) = &mut self.doing else { return Poll::Pending };
        let done = doing.as_mut().poll(context);
        if done.is_ready() {
            self.doing = None;
        }
        done.map_ok(|came| {
            self.came.extend(came);
            self.came.pop_front()
        })
    }
}

impl<'r> Acknowledgements<'r> {
    /// Adds one. Who has everything up to this number, has all that is before it.
    fn add(&mut self, output: Output) {
        self.latest = Some(output);
        self.due.get_or_insert_with(|| Box::pin(sleep(LATE)));
    }

    /// Begins to put the latest on record, unless that is going on with one before.
    fn begin<R: Records>(&mut self, records: &'r R) {
        if self.doing.is_none()
            && let Some(output) = self.latest.take()
        {
            self.due = None;
            self.doing = Some(Box::pin(carry_out(output, records)));
        }
    }

    fn poll<R: Records>(&mut self, records: &'r R, context: &mut Context<'_>) -> Poll<Result<Option<Input>, Ended>> {
        if self.due.as_mut().is_some_and(|due| due.as_mut().poll(context).is_ready()) {
            self.begin(records);
        }
        let Some(doing) = &mut self.doing else { return Poll::Pending };
        let done = doing.as_mut().poll(context);
        if done.is_ready() {
            self.doing = None;
        }
        // Nothing comes of it.
        done.map_ok(|_| None)
    }
}

/// Puts pieces of contents on record together; gives what came of each.
async fn store<R: Records>(pieces: Vec<ContentPiece>, records: &R) -> Result<Vec<Input>, Ended> {
    let hashes: Vec<Hash> = pieces.iter().map(|piece| piece.hash).collect();
    let stored = records.store(pieces).await.map_err(|error| Ended::Records(error.to_string()))?;
    let inputs = hashes.into_iter().zip(stored);
    Ok(inputs.map(|(hash, Stored { have, whole, moved })| Input::Stored { hash, have, whole, moved }).collect())
}

/// Does what the exchange asks of the records; gives what came of it.
async fn carry_out<R: Records>(output: Output, records: &R) -> Result<Vec<Input>, Ended> {
    let failed = |error: R::Error| Ended::Records(error.to_string());
    let input = match output {
        Output::Greeted(hello) => {
            records.greeted(&hello).await.map_err(failed)?;
            None
        }
        Output::Read { after, until, bytes } => {
            let (upto, items) = records.read(after, until, bytes).await.map_err(failed)?;
            Some(Input::Read { upto, items })
        }
        Output::Apply { cursor, items } => {
            let Applied { wants, echoes } = records.apply(cursor, items).await.map_err(failed)?;
            Some(Input::Applied { upto: cursor.1, wants, echoes })
        }
        Output::Acknowledged(feed, upto) => {
            records.acknowledged(feed, upto).await.map_err(failed)?;
            None
        }
        Output::ReadContent(hash, from, most) => {
            let content = records.content(hash, from, most).await.map_err(failed)?;
            Some(Input::Content(hash, from, content))
        }
        Output::StoreContent(hash, at, data) => return store(vec![ContentPiece { hash, at, data }], records).await,
        Output::Told(place) => {
            records.told(place).await.map_err(failed)?;
            None
        }
        Output::TakeIn { number, clip, recall } => {
            let (refusal, Applied { echoes, .. }) = records.take_in(*clip, recall).await.map_err(failed)?;
            Some(Input::TakenIn { number, refusal, echoes })
        }
        // Nothing of the records.
        Output::Send(_) | Output::Absent(_) | Output::Handed(..) | Output::Over(_) => None,
    };
    Ok(input.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::{Hello, RelayPlace};
    use bytes::Bytes;
    use parking_lot::Mutex;
    use tokio::sync::Semaphore;
    use yadori_core::shared::{Clip, Item};

    /// Records that note what they did, each time once they are let go on.
    struct Slow {
        done: Mutex<Vec<String>>,
        may_go_on: Semaphore,
    }

    impl Slow {
        async fn does(&self, what: impl Into<String>) {
            self.may_go_on.acquire().await.unwrap().forget();
            self.done.lock().push(what.into());
        }
    }

    impl Records for Slow {
        type Error = std::convert::Infallible;

        async fn greeted(&self, _: &Hello) -> Result<(), Self::Error> {
            Ok(())
        }
        async fn read(&self, after: u64, _: u64, _: usize) -> Result<(u64, Vec<Item>), Self::Error> {
            self.does(format!("read {after}")).await;
            Ok((after, Vec::new()))
        }
        async fn apply(&self, cursor: ([u8; 8], u64), _: Vec<Item>) -> Result<Applied, Self::Error> {
            self.does(format!("apply {}", cursor.1)).await;
            Ok(Applied::default())
        }
        fn note_acknowledged(&self, _: u64) {}
        async fn acknowledged(&self, _: [u8; 8], upto: u64) -> Result<(), Self::Error> {
            self.does(format!("acknowledged {upto}")).await;
            Ok(())
        }
        async fn content(&self, _: Hash, _: u64, _: usize) -> Result<Option<Bytes>, Self::Error> {
            Ok(None)
        }
        async fn store(&self, pieces: Vec<ContentPiece>) -> Result<Vec<Stored>, Self::Error> {
            let first: Vec<u8> = pieces.iter().map(|piece| piece.hash[0]).collect();
            self.does(format!("store {first:?}")).await;
            Ok(pieces.iter().map(|piece| Stored { have: piece.data.len() as u64, ..Stored::default() }).collect())
        }
        fn absent(&self, _: Hash) {}
        async fn told(&self, _: RelayPlace) -> Result<(), Self::Error> {
            Ok(())
        }
        async fn take_in(&self, _: Clip, _: bool) -> Result<(Option<String>, Applied), Self::Error> {
            Ok(Default::default())
        }
    }

    #[tokio::test]
    async fn everything_has_its_turn_and_of_acknowledgements_the_last() {
        let records = Slow { done: Mutex::default(), may_go_on: Semaphore::new(0) };
        let mut to_do = ToDo::of(&records);
        for upto in 1..=4 {
            to_do.add(Output::Acknowledged([1; 8], upto));
        }
        for number in 1..=4 {
            to_do.add(Output::Apply { cursor: ([0; 8], number), items: Vec::new() });
            to_do.add(Output::Read { after: number, until: number, bytes: 1 });
        }
        assert!(!to_do.is_full(), "seven wait for their turn");
        to_do.add(Output::Read { after: 5, until: 5, bytes: 1 });
        assert!(to_do.is_full());
        records.may_go_on.add_permits(100);
        to_do.finish().await;
        let done = records.done.into_inner();
        let (noted, in_turn): (Vec<_>, Vec<_>) = done.into_iter().partition(|what| what.starts_with("acknowledged"));
        assert_eq!(noted, ["acknowledged 4"]);
        let wanted = ["apply 1", "read 1", "apply 2", "read 2", "apply 3", "read 3", "apply 4", "read 4", "read 5"];
        assert_eq!(in_turn, wanted);
    }

    #[tokio::test]
    async fn contents_that_wait_are_put_on_record_together() {
        let records = Slow { done: Mutex::default(), may_go_on: Semaphore::new(100) };
        let mut to_do = ToDo::of(&records);
        let content = |number: u8, length| Output::StoreContent([number; 32], 0, Bytes::from(vec![number; length]));
        for number in 1..=4 {
            to_do.add(content(number, number.into()));
        }
        to_do.add(content(5, TOGETHER));
        to_do.add(content(6, 6));
        to_do.add(Output::Apply { cursor: ([0; 8], 1), items: Vec::new() });
        to_do.add(content(7, 7));
        let mut came = Vec::new();
        while came.len() < 8 {
            match to_do.next().await {
                Ok(Some(Input::Stored { hash, have, .. })) => came.push((hash[0], have)),
                Ok(Some(Input::Applied { upto, .. })) => came.push((0, upto)),
                other => panic!("{other:?}"),
            }
        }
        let whole = (5, TOGETHER as u64);
        assert_eq!(came, [(1, 1), (2, 2), (3, 3), (4, 4), whole, (6, 6), (0, 1), (7, 7)]);
        assert_eq!(*records.done.lock(), ["store [1]", "store [2, 3, 4, 5]", "store [6]", "apply 1", "store [7]"]);
    }

    #[tokio::test]
    async fn acknowledgements_are_on_record_once_in_a_while() {
        let records = Slow { done: Mutex::default(), may_go_on: Semaphore::new(100) };
        let mut to_do = ToDo::of(&records);
        let began = tokio::time::Instant::now();
        to_do.add(Output::Acknowledged([1; 8], 1));
        to_do.add(Output::Acknowledged([1; 8], 2));
        assert!(matches!(to_do.next().await, Ok(None)));
        assert!(began.elapsed() >= LATE);
        assert_eq!(*records.done.lock(), ["acknowledged 2"]);
        // Those that come later wait as long, unless it ends.
        to_do.add(Output::Acknowledged([1; 8], 3));
        assert!(futures_util::poll!(Box::pin(to_do.next())).is_pending());
        to_do.finish().await;
        assert_eq!(*records.done.lock(), ["acknowledged 2", "acknowledged 3"]);
    }
}
