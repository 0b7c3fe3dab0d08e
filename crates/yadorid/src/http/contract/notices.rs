//! What a person should know, as the contract says it.

use yadori_api::{Notice, NoticeKind};
use yadori_desktop::Shortcoming;
use yadori_engine::links::{LinkFailure, PeerFailure};
use yadori_engine::sync::devices::DeviceNote;
use yadori_engine::sync::relay::{RelayFailure, RelayFailureKind};

/// What there is not of a clipboard.
pub fn of_clipboard(of: &Shortcoming) -> Notice {
    let kind = match of {
        Shortcoming::NotFoundYet => NoticeKind::ClipboardNotFoundYet,
        Shortcoming::NotWanted => NoticeKind::ClipboardNotWanted,
        Shortcoming::NoDesktop(_) => NoticeKind::NoDesktop,
        Shortcoming::NoAccess => NoticeKind::NoAccess,
        Shortcoming::AnotherManager => NoticeKind::AnotherManager,
        Shortcoming::Contested(program) => return Notice::new(NoticeKind::Contested, of).about(program),
    };
    Notice::new(kind, of)
}

/// What is to be known of a device.
pub fn of_device(note: &DeviceNote) -> Notice {
    match note {
        DeviceNote::Introduced(by) => Notice::new(NoticeKind::Introduced, note).about(by),
        DeviceNote::Clock(ahead) => {
            let kind = if *ahead > 0 { NoticeKind::ClockAhead } else { NoticeKind::ClockBehind };
            Notice { seconds: Some(ahead.unsigned_abs() / 1000), ..Notice::new(kind, note) }
        }
        DeviceNote::Failure(failure) => of_connection(failure),
        DeviceNote::LongAway => Notice::new(NoticeKind::LongAway, note),
    }
}

fn of_connection(peer: &PeerFailure) -> Notice {
    let kind = match &peer.failure {
        LinkFailure::NotAccepted => NoticeKind::NotAccepted,
        LinkFailure::Removed => NoticeKind::RemovedThere,
        LinkFailure::Broke => NoticeKind::ConnectionBroke,
        LinkFailure::NothingAnswers => NoticeKind::NothingAnswers,
        LinkFailure::NoAnswer => NoticeKind::NoAnswer,
        LinkFailure::NoWay => NoticeKind::NoWay,
        LinkFailure::NoAddress => NoticeKind::NoAddress,
        LinkFailure::TooOldThere => NoticeKind::TooOldThere,
        LinkFailure::TooOldHere => NoticeKind::TooOldHere,
        LinkFailure::ClocksApart => NoticeKind::ClocksApart,
        LinkFailure::NotUnderstood(_) => NoticeKind::NotUnderstood,
        LinkFailure::Other(_) => NoticeKind::Other,
    };
    Notice { name: peer.address.clone(), ..Notice::new(kind, peer) }
}

/// Why the relay cannot be used.
pub fn of_relay(failure: &RelayFailure) -> Notice {
    let kind = match failure.kind {
        RelayFailureKind::Unreachable => NoticeKind::RelayUnreachable,
        RelayFailureKind::Full => NoticeKind::RelayFull,
        RelayFailureKind::NoMailbox => NoticeKind::RelayNoMailbox,
        RelayFailureKind::Refused => NoticeKind::RelayRefuses,
        RelayFailureKind::WentBack => NoticeKind::RelayWentBack,
        RelayFailureKind::Other => NoticeKind::Other,
    };
    Notice::new(kind, failure)
}
