//! What is tried with bytes that anybody may have sent: the tests try it with bytes at random and with bytes that once
//! did harm, the fuzzer (`fuzz/`) with bytes that it makes up by what they reach.

use yadori_core::MillisSinceEpoch;
use yadori_link::code::Code;
use yadori_link::envelope::{Letter, Place, open_envelope};
use yadori_link::exchange::{Exchange, Input, Output};
use yadori_link::frame::{Frame, decode, encode};
use yadori_link::group::{Group, GroupSecret};
use yadori_link::identity::Identity;
use yadori_link::pairing::{Pairing, Side};
use yadori_link::relay::delivered;

const NOW: MillisSinceEpoch = MillisSinceEpoch(1_790_000_000_000);

/// A message is refused, or understood: then it can be said again, and means the same.
pub fn frames(bytes: &[u8]) {
    if let Ok(frame) = decode(bytes) {
        assert_eq!(decode(&encode(&frame)), Ok(frame));
    }
}

/// A letter is refused, or understood: then it can be written again, and means the same.
pub fn letters(bytes: &[u8]) {
    if let Ok(letter) = Letter::from_bytes(bytes) {
        assert_eq!(Letter::from_bytes(&letter.to_bytes()), Ok(letter));
    }
    if let Ok(group) = Group::from_bytes(bytes) {
        assert_eq!(Group::from_bytes(&group.to_bytes()), Ok(group));
    }
}

/// What a relay gives is refused, or it is envelopes, of which none is longer than all of it together.
pub fn deliveries(bytes: &[u8]) {
    if let Ok(all) = delivered(bytes) {
        let long: usize = all.iter().map(|one| one.envelope.len() + 36).sum();
        assert_eq!(long, bytes.len());
    }
    // A relay may give anything for an envelope or a handover, too: nobody who is linked has made it.
    let group = Group {
        address: String::new(),
        pin: None,
        mailbox: [7; 16],
        epoch: 1,
        secret: GroupSecret::random().expect("chance"),
        without: Default::default(),
    };
    let place = Place { outbox: [1; 16], number: 1 };
    assert!(open_envelope(&group, &[[3; 32]], place, bytes).is_err());
}

/// Cuts bytes into messages: two bytes of length, the least first, before each.
fn messages(mut bytes: &[u8]) -> Vec<&[u8]> {
    let mut messages = Vec::new();
    while let [least, greatest, rest @ ..] = bytes {
        let (message, after) = rest.split_at(rest.len().min(usize::from(u16::from_le_bytes([*least, *greatest]))));
        messages.push(message);
        bytes = after;
    }
    messages
}

/// Puts messages one after the other, as [`exchange`] reads them.
pub fn joined(frames: &[Frame]) -> Vec<u8> {
    let mut all = Vec::new();
    for frame in frames {
        let message = encode(frame);
        all.extend((message.len() as u16).to_le_bytes());
        all.extend(message);
    }
    all
}

/// Whatever another device says in whatever order, an exchange answers with a few messages, holds a few things, and
/// is silent after its end.
pub fn exchange(bytes: &[u8]) {
    let (mut exchange, _) = Exchange::begin("workshop", NOW, [1; 8], 40, None, 40);
    let (mut is_over, mut wanted) = (false, 0);
    for message in messages(bytes) {
        let Ok(frame) = decode(message) else { continue };
        let mut inputs = vec![Input::Received(frame)];
        let mut said = 0;
        while let Some(input) = inputs.pop() {
            let outputs = exchange.step(input);
            assert!(outputs.is_empty() || !is_over, "it goes on after its end: {outputs:?}");
            for output in outputs {
                match output {
                    Output::Told(_) => {}
                    Output::Send(frame) => {
                        said += 1;
                        wanted += u32::from(matches!(frame, Frame::Want(..)));
                        assert!(decode(&encode(&frame)).is_ok(), "{frame:?}");
                    }
                    Output::Read { bytes: most, .. } => {
                        assert!(most <= 512 * 1024);
                        inputs.push(Input::Read { upto: 40, items: Vec::new() });
                    }
                    Output::Apply { cursor, items } => {
                        let wants = items.iter().zip(0u8..).map(|(_, n)| ([n; 32], 0)).collect();
                        inputs.push(Input::Applied { upto: cursor.1, wants, echoes: vec![41] });
                    }
                    Output::ReadContent(hash, from, _) => inputs.push(Input::Content(hash, from, None)),
                    Output::StoreContent(hash, at, data) => {
                        inputs.push(Input::Stored {
                            hash,
                            have: at.saturating_add(data.len() as u64),
                            whole: data.len() > 9,
                            moved: vec![(1, 2)],
                        });
                    }
                    Output::TakeIn { number, .. } => {
                        inputs.push(Input::TakenIn { number, refusal: None, echoes: Vec::new() });
                    }
                    Output::Over(_) => is_over = true,
                    Output::Greeted(_) | Output::Acknowledged(..) | Output::Absent(_) | Output::Handed(..) => {}
                }
            }
        }
        assert!(said < 16, "{said} answers to one message");
    }
    assert!(wanted < 70_000);
}

/// Whatever comes instead of the messages of a pairing convinces nobody; whatever is typed as a code is one, or not.
pub fn pairing(bytes: &[u8]) {
    let code = Code::new([7; 5]);
    for side in [Side::Joins, Side::Invites] {
        let (pairing, _) = Pairing::begin(side, &code, &[1; 32], &[2; 32]);
        let (message, proof) = bytes.split_at(bytes.len().min(33));
        if let Ok(agreed) = pairing.agree(message) {
            assert!(agreed.check(proof).is_err());
        }
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        if let Ok(code) = text.parse::<Code>() {
            assert!(code.to_string().parse::<Code>() == Ok(code));
        }
        let _ = Identity::from_pem(text);
    }
}
