//! When devices say what: a state machine with no sockets and no records.
//!
//! Whoever drives it feeds it what happens ([`Input`]) and does what it asks for ([`Output`]). Each side reads its
//! own change feed from where the other has come to, and sends what it finds, a few batches ahead of the other's
//! acknowledgements and no more. The cursor is on record with the other, in the same transaction as what it
//! stands for, so that after any interruption the rest is sent and nothing but the rest. What is told twice
//! makes no difference: states are merged. What the other has told itself is not told back: it is known by the numbers
//! of the changes that came of it ([`ChangeRanges`]), and never read.
//!
//! Content that does not travel along is asked for by its hash, piece by piece, one piece of each at a time.

use crate::frame::{Bye, CHUNK, Frame, Hello, KNOWS_RELAYS, RelayPlace, VERSIONS};
use crate::ranges::ChangeRanges;
use bytes::Bytes;
use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, HashSet, VecDeque};
use yadori_core::MillisSinceEpoch;
use yadori_core::shared::{Clip, Hash, Item};

/// Batches that may be under way before the other has acknowledged one.
const AHEAD: usize = 4;

/// Bytes of the first batch, about, and of the first piece of content. They double with every one that has arrived, up
/// to the largest: so that a connection that never lasts for long brings something all the same.
const FIRST_BATCH: usize = 16 * 1024;

/// Bytes of the largest batch, about.
const LARGEST_BATCH: usize = 512 * 1024;

/// Contents asked for at the same time. Small ones that come while others are being put on record are put there together.
const AT_ONCE: usize = 12;

/// Something that happened.
#[derive(Clone, Debug)]
pub enum Input {
    /// The other device said this.
    Received(Frame),
    /// There are changes in this device's feed up to this number.
    Changed(u64),
    /// [`Output::Read`] gave these, which are all up to this number.
    Read {
        /// The number.
        upto: u64,
        /// What has changed.
        items: Vec<Item>,
    },
    /// [`Output::Apply`] was done; contents are wanted.
    Applied {
        /// The number it was about.
        upto: u64,
        /// What is wanted, and how much of it is here.
        wants: Vec<(Hash, u64)>,
        /// The numbers of changes after which a clip is here just as the other told it.
        echoes: Vec<u64>,
    },
    /// Content is wanted of which this much is here.
    Wanted(Hash, u64),
    /// [`Output::ReadContent`] gave this; nothing if it is not here.
    Content(Hash, u64, Option<Bytes>),
    /// [`Output::StoreContent`] was done.
    Stored {
        /// Of which content.
        hash: Hash,
        /// How much of it is here now.
        have: u64,
        /// Whether that is all, or all that is wanted.
        whole: bool,
        /// Of each clip that it made whole, the numbers of its change before, and of this one.
        moved: Vec<(u64, u64)>,
    },
    /// A clip is to be handed over.
    Hand {
        /// By which the answer refers to it.
        number: u32,
        /// The clip.
        clip: Box<Clip>,
        /// Whether it is to be put on the other's clipboard.
        recall: bool,
    },
    /// [`Output::TakeIn`] was done, or why not.
    TakenIn {
        /// The number of what was handed over.
        number: u32,
        /// Why not.
        refusal: Option<String>,
        /// As in [`Input::Applied`].
        echoes: Vec<u64>,
    },
    /// The other is to know of the group's place at a relay.
    Tell(RelayPlace),
    /// This side ends the connection.
    End(Bye),
}

/// Something to be done.
#[derive(Clone, Debug)]
pub enum Output {
    /// Say this to the other.
    Send(Frame),
    /// The other has said its first word; all is well.
    Greeted(Hello),
    /// Read the feed, one batch; tell by [`Input::Read`].
    Read {
        /// After this number.
        after: u64,
        /// Up to this one at most.
        until: u64,
        /// About so many bytes.
        bytes: usize,
    },
    /// Put on record, in one transaction with the cursor; tell by [`Input::Applied`].
    Apply {
        /// The cursor, in the feed of this id.
        cursor: ([u8; 8], u64),
        /// What the other told.
        items: Vec<Item>,
    },
    /// The other has everything of this device's feed, which has this id, up to this number.
    Acknowledged([u8; 8], u64),
    /// Read content from this byte on, at most so many bytes; tell by [`Input::Content`].
    ReadContent(Hash, u64, usize),
    /// Put content on record from this byte on; tell by [`Input::Stored`].
    StoreContent(Hash, u64, Bytes),
    /// The other does not have this content.
    Absent(Hash),
    /// Take in a clip that was handed over; tell by [`Input::TakenIn`].
    TakeIn {
        /// By which the answer refers to it.
        number: u32,
        /// The clip.
        clip: Box<Clip>,
        /// Whether it is to be put on the clipboard.
        recall: bool,
    },
    /// What became of what was handed over.
    Handed(u32, Option<String>),
    /// The other knows of this place at a relay.
    Told(RelayPlace),
    /// The exchange is over. If it was this side that ended it, the other has been told.
    Over(Ending),
}

/// Why an exchange is over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ending {
    /// This side ended it.
    Here(Bye),
    /// The other side did.
    There(Bye),
}

/// One exchange, from connection to end.
#[derive(Debug)]
pub struct Exchange {
    now: MillisSinceEpoch,
    feed: [u8; 8],
    latest: u64,
    /// How far the other has acknowledged this feed, by the records here.
    acknowledged: u64,
    /// The other's feed, once it has said hello.
    other: Option<[u8; 8]>,
    /// Whether the other knows of relays.
    knows_relays: bool,
    /// How far this device's feed was read, sent, and acknowledged.
    read: u64,
    /// Batches under way: the number that the other acknowledges, and up to where nothing else was to be told.
    sent: VecDeque<(u64, u64)>,
    reading: bool,
    batch: usize,
    /// Batches of the other that are being put on record, in their order.
    applying: bool,
    waiting: VecDeque<(u64, Vec<Item>)>,
    /// Contents that are wanted: how much is here.
    wanted: VecDeque<(Hash, u64)>,
    asked: BTreeMap<Hash, u64>,
    /// Contents of which a piece is being put on record.
    storing: HashSet<Hash>,
    /// Changes after which a clip is here just as the other told it.
    echoes: ChangeRanges,
    /// Handed over by the other, and not answered yet.
    taking: HashSet<u32>,
    over: bool,
}

impl Exchange {
    /// Begins an exchange: `read` is how far the other's feed is on record here, `acknowledged` how far the other has
    /// acknowledged this one's. Gives the first word.
    pub fn begin(
        name: &str,
        now: MillisSinceEpoch,
        feed: [u8; 8],
        latest: u64,
        read: Option<([u8; 8], u64)>,
        acknowledged: u64,
    ) -> (Self, Output) {
        let hello = Hello { versions: VERSIONS, name: name.to_owned(), now, feed, latest, read };
        let exchange = Self {
            now,
            feed,
            latest,
            acknowledged,
            other: None,
            knows_relays: false,
            read: 0,
            sent: VecDeque::new(),
            reading: false,
            batch: FIRST_BATCH,
            applying: false,
            waiting: VecDeque::new(),
            wanted: VecDeque::new(),
            asked: BTreeMap::new(),
            storing: HashSet::new(),
            echoes: ChangeRanges::default(),
            taking: HashSet::new(),
            over: false,
        };
        (exchange, Output::Send(Frame::Hello(hello)))
    }

    /// Takes what happened; gives what is to be done, in this order.
    pub fn step(&mut self, input: Input) -> Vec<Output> {
        let mut out = Vec::new();
        if self.over {
            return out;
        }
        match input {
            Input::Received(frame) => self.received(frame, &mut out),
            Input::Changed(latest) => self.latest = self.latest.max(latest),
            Input::Read { upto, items } => self.send(upto, items, &mut out),
            Input::Applied { upto, wants, echoes } => {
                self.applying = false;
                self.note_echoes(echoes);
                out.push(Output::Send(Frame::Ack(upto)));
                self.wanted.extend(wants);
            }
            Input::Wanted(hash, have) => self.wanted.push_back((hash, have)),
            Input::Content(hash, from, Some(data)) => out.push(Output::Send(Frame::Chunk(hash, from, data))),
            Input::Content(hash, _, None) => out.push(Output::Send(Frame::Absent(hash))),
            Input::Stored { hash, have, whole, moved } => {
                self.storing.remove(&hash);
                // The content came from the other. So did all else, if it knows the change before.
                let knows = |number: u64| number <= self.read || self.echoes.contains(number);
                let echoes = moved.iter().filter(|(before, _)| knows(*before)).map(|(_, number)| *number).collect();
                self.note_echoes(echoes);
                if whole {
                    self.asked.remove(&hash);
                } else if let Some(asked) = self.asked.get_mut(&hash) {
                    *asked = have;
                    out.push(Output::Send(Frame::Want(hash, have)));
                }
            }
            Input::Hand { number, clip, recall } => out.push(Output::Send(Frame::Hand { number, clip, recall })),
            Input::TakenIn { number, refusal, echoes } => {
                self.taking.remove(&number);
                self.note_echoes(echoes);
                out.push(Output::Send(Frame::Handed(number, refusal)));
            }
            Input::Tell(place) => {
                if self.knows_relays {
                    out.push(Output::Send(Frame::Relay(place)));
                }
            }
            Input::End(bye) => self.end(bye, &mut out),
        }
        self.go_on(&mut out);
        out
    }

    fn end(&mut self, bye: Bye, out: &mut Vec<Output>) {
        out.push(Output::Send(Frame::Bye(bye.clone())));
        out.push(Output::Over(Ending::Here(bye)));
        self.over = true;
    }

    fn go_on(&mut self, out: &mut Vec<Output>) {
        if self.over || self.other.is_none() {
            return;
        }
        if !self.reading && !self.is_taking_in() && self.sent.len() < self.ahead() {
            let passed = self.echoes.pass_over(self.read);
            if passed > self.read {
                self.read = passed;
                self.pass(out);
            }
            if self.read < self.latest {
                self.reading = true;
                let until = self.echoes.next_gap_ends(self.read);
                out.push(Output::Read { after: self.read, until, bytes: self.batch });
            }
        }
        if !self.applying
            && let Some((upto, items)) = self.waiting.pop_front()
        {
            self.applying = true;
            out.push(Output::Apply { cursor: (self.other.unwrap_or_default(), upto), items });
        }
        while self.asked.len() < AT_ONCE
            && let Some((hash, have)) = self.wanted.pop_front()
        {
            if let Entry::Vacant(free) = self.asked.entry(hash) {
                free.insert(have);
                out.push(Output::Send(Frame::Want(hash, have)));
            }
        }
    }

    /// Whether something of the other's is being put on record. Until it is known which changes come of it, nothing is read: it
    /// would be told back.
    fn is_taking_in(&self) -> bool {
        self.applying || !self.storing.is_empty() || !self.taking.is_empty()
    }

    /// Batches that may be under way at the moment: few at first.
    fn ahead(&self) -> usize {
        (self.batch / FIRST_BATCH).min(AHEAD)
    }

    fn received(&mut self, frame: Frame, out: &mut Vec<Output>) {
        match (frame, self.other.is_some()) {
            (Frame::Hello(hello), false) => self.greeted(hello, out),
            (Frame::Bye(bye), _) => {
                out.push(Output::Over(Ending::There(bye)));
                self.over = true;
            }
            (Frame::States { upto, items }, true) => {
                // It sends no more than was agreed; who does otherwise is not let fill the memory.
                if self.waiting.len() >= AHEAD {
                    return self.end(Bye::Garbled, out);
                }
                self.waiting.push_back((upto, items));
            }
            (Frame::Ack(upto), true) => {
                let mut through = upto.min(self.read);
                while let Some((_, passed)) = self.sent.pop_front_if(|(sent, _)| *sent <= upto) {
                    through = through.max(passed);
                    self.batch = (self.batch * 2).min(LARGEST_BATCH);
                }
                out.push(Output::Acknowledged(self.feed, through));
            }
            (Frame::Want(hash, from), true) => {
                out.push(Output::ReadContent(hash, from, self.batch.min(CHUNK)));
                // Whoever wants more has what came before.
                self.batch = (self.batch * 2).min(LARGEST_BATCH);
            }
            (Frame::Chunk(hash, at, data), true) => {
                // What was not asked for is not taken.
                let is_asked_for = self.asked.get(&hash) == Some(&at) && self.storing.insert(hash);
                if !is_asked_for || data.is_empty() || data.len() > CHUNK {
                    return self.end(Bye::Garbled, out);
                }
                out.push(Output::StoreContent(hash, at, data));
            }
            (Frame::Absent(hash), true) => {
                if self.asked.remove(&hash).is_some() {
                    out.push(Output::Absent(hash));
                }
            }
            (Frame::Hand { number, clip, recall }, true) => {
                if self.taking.len() >= AHEAD || !self.taking.insert(number) {
                    return self.end(Bye::Garbled, out);
                }
                out.push(Output::TakeIn { number, clip, recall });
            }
            (Frame::Relay(place), true) => out.push(Output::Told(place)),
            (Frame::Handed(number, trouble), true) => out.push(Output::Handed(number, trouble)),
            // A second hello, or anything before the first.
            _ => self.end(Bye::Garbled, out),
        }
    }

    fn greeted(&mut self, hello: Hello, out: &mut Vec<Output>) {
        if let Some(objection) = hello.objection(self.now) {
            return self.end(objection, out);
        }
        self.other = Some(hello.feed);
        self.knows_relays = hello.versions.0 >= KNOWS_RELAYS;
        // A cursor in another feed says nothing. One that is further than what this device knows to be acknowledged may
        // be of a time that this device has forgotten (its home was restored from a copy), so that other changes have
        // these numbers now: those are told, once more if need be.
        self.read = match hello.read {
            Some((feed, upto)) if feed == self.feed && upto <= self.latest => upto.min(self.acknowledged),
            _ => 0,
        };
        out.push(Output::Greeted(hello));
    }

    fn send(&mut self, upto: u64, items: Vec<Item>, out: &mut Vec<Output>) {
        self.reading = false;
        self.read = self.read.max(upto);
        if items.is_empty() {
            self.pass(out);
        } else {
            self.sent.push_back((upto, upto));
            out.push(Output::Send(Frame::States { upto, items }));
        }
    }

    /// What was read last need not be told: it is acknowledged with what was told before.
    fn pass(&mut self, out: &mut Vec<Output>) {
        match self.sent.back_mut() {
            Some((_, through)) => *through = self.read,
            None => out.push(Output::Acknowledged(self.feed, self.read)),
        }
    }

    fn note_echoes(&mut self, echoes: Vec<u64>) {
        for number in echoes.into_iter().filter(|number| *number > self.read) {
            self.echoes.insert(number);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_core::clock::CLOCKS_APART_MILLIS;

    const NOW: MillisSinceEpoch = MillisSinceEpoch(1_790_000_000_000);

    fn hello(versions: (u16, u16), now: MillisSinceEpoch, read: Option<([u8; 8], u64)>) -> Input {
        Input::Received(Frame::Hello(Hello { versions, name: "van".into(), now, feed: [2; 8], latest: 0, read }))
    }

    fn begun() -> Exchange {
        Exchange::begin("workshop", NOW, [1; 8], 40, None, 40).0
    }

    #[test]
    fn it_goes_on_where_the_other_has_come_to() {
        let next = |read| {
            let out = begun().step(hello(VERSIONS, NOW, read));
            out.into_iter().find_map(|output| match output {
                Output::Read { after, .. } => Some(after),
                _ => None,
            })
        };
        assert_eq!(next(Some(([1; 8], 30))), Some(30));
        assert_eq!(next(Some(([1; 8], 40))), None);
        // Another feed, and a cursor from before the records were put back, say nothing.
        assert_eq!(next(Some(([9; 8], 30))), Some(0));
        assert_eq!(next(Some(([1; 8], 41))), Some(0));
        assert_eq!(next(None), Some(0));
    }

    #[test]
    fn a_device_restored_from_a_copy_tells_what_it_does_not_know_to_be_acknowledged() {
        // Its copy was made when the other had read up to 20; the other has read up to 35 since, and since the copy was
        // restored, other changes have the numbers from 21 to 40.
        let (mut restored, _) = Exchange::begin("workshop", NOW, [1; 8], 40, None, 20);
        let out = restored.step(hello(VERSIONS, NOW, Some(([1; 8], 35))));
        assert!(out.iter().any(|output| matches!(output, Output::Read { after: 20, .. })), "{out:?}");
    }

    #[test]
    fn what_need_not_be_told_is_acknowledged_with_what_was_told_before() {
        let mut exchange = begun();
        exchange.step(hello(VERSIONS, NOW, None));
        let item = Item::Device(yadori_core::shared::Device::default());
        exchange.step(Input::Read { upto: 20, items: vec![item] });
        exchange.step(Input::Received(Frame::Ack(0)));
        // The rest is what the other has told itself.
        exchange.step(Input::Read { upto: 40, items: Vec::new() });
        let out = exchange.step(Input::Received(Frame::Ack(20)));
        assert!(out.iter().any(|output| matches!(output, Output::Acknowledged(_, 40))), "{out:?}");
    }

    #[test]
    fn what_the_other_has_told_is_not_read() {
        let (mut exchange, _) = Exchange::begin("workshop", NOW, [1; 8], 10, Some(([2; 8], 0)), 10);
        exchange.step(hello(VERSIONS, NOW, Some(([1; 8], 10))));
        // It has told what is now 11 to 14, and 16; 15 was done here.
        let out = exchange.step(Input::Applied { upto: 7, wants: Vec::new(), echoes: vec![11, 12, 13, 14, 16] });
        assert!(out.iter().any(|output| matches!(output, Output::Acknowledged(_, 14))), "{out:?}");
        let out = exchange.step(Input::Changed(16));
        let reads = |out: &[Output]| {
            let read = out.iter().find_map(|output| match output {
                Output::Read { after, until, .. } => Some((*after, *until)),
                _ => None,
            });
            let acknowledged = out.iter().find_map(|output| match output {
                Output::Acknowledged(_, upto) => Some(*upto),
                _ => None,
            });
            (read, acknowledged)
        };
        assert_eq!(reads(&out), (Some((14, 15)), None), "{out:?}");
        let out = exchange.step(Input::Read { upto: 15, items: Vec::new() });
        assert_eq!(reads(&out), (None, Some(15)), "{out:?}");
        // Its content makes 16 another change, which it knows; a change that it does not know stays to be told.
        let moved = vec![(16, 17), (99, 18)];
        let out = exchange.step(Input::Stored { hash: [5; 32], have: 9, whole: true, moved });
        assert!(!out.iter().any(|output| matches!(output, Output::Read { .. })), "{out:?}");
        let out = exchange.step(Input::Changed(18));
        assert_eq!(reads(&out).0, Some((17, u64::MAX)), "{out:?}");
    }

    #[test]
    fn nothing_is_read_while_something_is_taken_in() {
        let reads = |out: &[Output]| out.iter().any(|output| matches!(output, Output::Read { .. }));
        let mut exchange = begun();
        exchange.step(hello(VERSIONS, NOW, Some(([1; 8], 40))));
        let out = exchange.step(Input::Received(Frame::States { upto: 7, items: Vec::new() }));
        assert!(out.iter().any(|output| matches!(output, Output::Apply { .. })), "{out:?}");
        // Its changes are told of before it is known that they are.
        assert!(!reads(&exchange.step(Input::Changed(42))));
        let applied = Input::Applied { upto: 7, wants: vec![([5; 32], 10)], echoes: vec![41, 42] };
        assert!(!reads(&exchange.step(applied)), "it has told both itself");
        // The same with its content.
        exchange.step(Input::Received(Frame::Chunk([5; 32], 10, Bytes::from_static(b"more"))));
        assert!(!reads(&exchange.step(Input::Changed(43))));
        let moved = vec![(42, 43)];
        assert!(!reads(&exchange.step(Input::Stored { hash: [5; 32], have: 14, whole: true, moved })));
        assert!(reads(&exchange.step(Input::Changed(44))));
    }

    #[test]
    fn who_is_too_old_or_has_a_clock_that_is_off_is_told() {
        let ending = |input| {
            let out = begun().step(input);
            out.into_iter().find_map(|output| match output {
                Output::Over(Ending::Here(bye)) => Some(bye),
                _ => None,
            })
        };
        assert_eq!(ending(hello((9, 9), NOW, None)), Some(Bye::Version(false)));
        assert_eq!(ending(hello((0, 0), NOW, None)), Some(Bye::Version(true)));
        assert_eq!(ending(hello((9, 1), NOW, None)), None);
        assert_eq!(ending(hello(VERSIONS, NOW.plus(CLOCKS_APART_MILLIS + 1), None)), Some(Bye::Clock));
        assert_eq!(ending(hello(VERSIONS, NOW.minus(CLOCKS_APART_MILLIS), None)), None);
        assert_eq!(ending(Input::Received(Frame::Ack(1))), Some(Bye::Garbled));
    }

    #[test]
    fn only_who_knows_of_relays_is_told_of_one() {
        let told = |versions| {
            let mut exchange = begun();
            exchange.step(hello(versions, NOW, None));
            !exchange.step(Input::Tell(RelayPlace::default())).is_empty()
        };
        assert!(told(VERSIONS) && !told((1, 1)));
        let mut exchange = begun();
        exchange.step(hello(VERSIONS, NOW, None));
        let out = exchange.step(Input::Received(Frame::Relay(RelayPlace::default())));
        assert!(matches!(out[..], [Output::Told(_)]));
    }

    #[test]
    fn content_that_nobody_asked_for_ends_it() {
        let mut exchange = begun();
        exchange.step(hello(VERSIONS, NOW, None));
        let asked = exchange.step(Input::Wanted([5; 32], 10));
        assert!(matches!(asked[..], [Output::Send(Frame::Want(_, 10))]));
        let stored = exchange.step(Input::Received(Frame::Chunk([5; 32], 10, Bytes::from_static(b"more"))));
        assert!(matches!(&stored[..], [Output::StoreContent(_, 10, data)] if data.len() == 4));
        let next = exchange.step(Input::Stored { hash: [5; 32], have: 14, whole: false, moved: Vec::new() });
        assert!(matches!(next[..], [Output::Send(Frame::Want(_, 14))]));
        let wrong = exchange.step(Input::Received(Frame::Chunk([5; 32], 10, Bytes::from_static(b"again"))));
        assert!(matches!(wrong[..], [_, Output::Over(Ending::Here(Bye::Garbled))]));
        // After the end, nothing more is done.
        assert!(exchange.step(Input::Changed(99)).is_empty());
    }

    #[test]
    fn whoever_sends_without_waiting_is_stopped() {
        let mut exchange = begun();
        exchange.step(hello(VERSIONS, NOW, None));
        let flood = |upto| Input::Received(Frame::States { upto, items: Vec::new() });
        let ended =
            (1..20).find(|upto| exchange.step(flood(*upto)).iter().any(|output| matches!(output, Output::Over(_))));
        assert_eq!(ended, Some(AHEAD as u64 + 2));
    }
}
