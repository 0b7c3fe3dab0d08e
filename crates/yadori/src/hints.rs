//! What a person at the command line can do about a problem.

use yadori_api::ProblemKind as Kind;

/// The hint for a kind of problem, if there is one.
pub fn hint(kind: Kind) -> Option<&'static str> {
    Some(match kind {
        Kind::Unauthorised => {
            "send the token of run/api.json as “Authorization: Bearer …”; for a browser, run: yadori console"
        }
        Kind::WrongHost => "names other than the address and localhost are set in config.toml: [api] names",
        Kind::DiskFull => "make room and try again; nothing is lost",
        Kind::DatabaseAway => "try again in a moment; if that does not help, see: yadori doctor",
        Kind::NoSuchPath => "all paths are described by /api/v1/openapi.json",
        Kind::NoSuchSession => "see them with: yadori console sessions",
        Kind::Elsewhere => "it is fetched as soon as that device is there; see: yadori device list",
        Kind::NotAName => "see the positions and ids with: yadori list",
        Kind::NotInBin => "see what is in the bin with: yadori bin list",
        Kind::InBin => "bring it back with: yadori bin restore",
        Kind::NoSuchAlias => "see the aliases with: yadori alias list",
        Kind::NoSuchClip => "see what there is with: yadori list",
        Kind::AmbiguousName => "give more characters of the id",
        Kind::Unsupported => {
            "text, HTML, pictures (PNG, JPEG, WebP, BMP, TIFF, SVG) and lists of file URIs can be kept"
        }
        Kind::NoText => "recall a picture by itself, without --plain",
        Kind::NoClipboard => "start the service within a desktop session; see: yadori doctor",
        Kind::Mixed => "texts and links can be joined, and lists of files; leave the others out with --skip-others",
        Kind::NotAsked => "check the name, capital letters count; --fill fills in a clip that is not set to",
        Kind::Asks => "answer with --answer Name=VALUE; a recall leaves placeholders as they are with --no-fill",
        Kind::BadWay => "see them all with: yadori reshape --list",
        Kind::AliasTaken => "choose another one, or take it from that clip with --take",
        Kind::NotPinned => "see the pinned clips with: yadori list --pinned",
        Kind::NoSuchDrawer => "see the drawers with: yadori drawer list; make one with: yadori drawer new NAME",
        Kind::NoSuchPlace => "see what lies where with: yadori drawer list NAME",
        Kind::NothingThere => "gather clips in the tray with: yadori tray open, or yadori tray add CLIP…",
        Kind::NoPlaceInTray => "see what lies where with: yadori tray show",
        Kind::MuchWouldGo => "see which with: yadori rules preview …; if that is meant, repeat it with --yes",
        Kind::Changed => "look again, and repeat it",
        Kind::NoSuchStep => "see what can be undone with: yadori undo --list",
        Kind::NotUndone => "see what was undone with: yadori undo --list",
        Kind::NotListening => "choose another address in config.toml: [link] listen = \"0.0.0.0:0\"",
        Kind::BadCode => "the other device shows it with: yadori device invite",
        Kind::Unreachable => "both devices must be on the same network; see the addresses with: yadori device list",
        Kind::NotInvited => "invite on the other device, with: yadori device invite (it shows its addresses)",
        Kind::WrongCode => {
            "check it, or invite again: after three wrong codes from one device an invitation no longer listens to it"
        }
        Kind::Unlike => "then invite anew: the code was used up",
        Kind::Removed => "let go of the others first, with: yadori device leave",
        Kind::TooManyDevices => "see them with: yadori device list",
        Kind::BrokenOff => "if the code was wrong, look again; else invite anew",
        Kind::NoSuchDevice => "see them with: yadori device list",
        Kind::SeveralDevices => "see the ids with: yadori device list --json",
        Kind::Unlinked => "set it there (device = \"…\") and start the service again",
        Kind::Away => "see which devices are there with: yadori device list",
        _ => return None,
    })
}
