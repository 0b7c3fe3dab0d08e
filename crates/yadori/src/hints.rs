//! What a person at the command line can do about a problem.

use yadori_api::ProblemKind as Kind;

/// The hint for a kind of problem, if there is one.
pub fn hint(kind: Kind) -> Option<&'static str> {
    Some(match kind {
        Kind::Unauthorised => "the service was restarted meanwhile, or its token is wrong; try again",
        Kind::WrongHost => "add the name to config.toml: [api] names = [\"…\"]",
        Kind::Locked => "unlock it with: yadori unlock",
        Kind::NoPassphrase => "set one first: yadori lock passphrase",
        Kind::NoProtector => "see what opens the history: yadori lock status",
        Kind::NoSecretService => {
            "start the service in a desktop session that has one, or use a key file: yadori lock protector key-file"
        }
        Kind::DiskFull => "free some space and try again; nothing is lost",
        Kind::DatabaseAway => "try again in a moment; if that doesn't help, run: yadori doctor",
        Kind::NoSuchPath => "client and service may be of different versions; see: yadori status",
        Kind::NoSuchSession => "list them with: yadori console sessions",
        Kind::Elsewhere => "it is fetched as soon as that device is connected; see: yadori device list",
        Kind::NotAName => "list the clips with: yadori list",
        Kind::NotInBin => "list the bin with: yadori bin",
        Kind::InBin => "bring it back with: yadori bin restore",
        Kind::NoSuchAlias => "list the aliases with: yadori alias list",
        Kind::NoSuchClip => "list the clips with: yadori list",
        Kind::AmbiguousName => "give more characters of the id",
        Kind::Unsupported => "Yadori keeps text, HTML, pictures (PNG, JPEG, WebP, BMP, TIFF, SVG) and lists of files",
        Kind::NoText => "recall a picture by itself, without --plain",
        Kind::NoClipboard => "start the service in a desktop session; see: yadori doctor",
        Kind::Mixed => {
            "only texts and links, or only lists of files, can be joined; leave out the rest with --skip-others"
        }
        Kind::NotAsked => {
            "check the name (upper and lower case differ); add --fill if the clip isn't set to be filled in"
        }
        Kind::Asks => "answer with --answer Name=VALUE, or leave the placeholders as they are with --no-fill",
        Kind::BadWay => "list them with: yadori reshape --list",
        Kind::AliasTaken => "choose another alias, or take this one with --take",
        Kind::NotPinned => "list the pinned clips with: yadori list --pinned",
        Kind::NoSuchDrawer => "list the drawers with: yadori drawer list; make one with: yadori drawer new NAME",
        Kind::NoRelay => "use one with: yadori relay set",
        Kind::RelaySet => "leave it first with: yadori relay remove",
        Kind::DrawerClosed => "open it with: yadori drawer open NAME",
        Kind::NotPrivate => "give it a passphrase with: yadori drawer private NAME",
        Kind::NoSuchPlace => "list the drawer with: yadori drawer list NAME",
        Kind::NothingThere => "collect clips with: yadori tray open, or add some: yadori tray add CLIP…",
        Kind::NoPlaceInTray => "list the tray with: yadori tray show",
        Kind::MuchWouldGo => "see which: yadori rules preview …; to go ahead, repeat it with --yes",
        Kind::Changed => "check what it would remove now, and repeat it",
        Kind::NoSuchStep => "list what can be undone with: yadori undo --list",
        Kind::NotUndone => "list what was undone with: yadori undo --list",
        Kind::NotListening => "choose another address in config.toml: [link] listen = \"0.0.0.0:0\"",
        Kind::BadCode => "get a code on the other device with: yadori device invite",
        Kind::Unreachable => {
            "both devices must be on the same network; check the address on the other one: yadori device list"
        }
        Kind::NotInvited => "first run on the other device: yadori device invite",
        Kind::WrongCode => "check it, or invite again; after three wrong codes an invitation is closed to a device",
        Kind::Unlike => "after that, invite again; the code has been used",
        Kind::Removed => "first leave the other devices with: yadori device leave",
        Kind::TooManyDevices => "remove one first; list them with: yadori device list",
        Kind::BrokenOff => "check the code, or invite again",
        Kind::NoSuchDevice => "list the devices with: yadori device list",
        Kind::SeveralDevices => "use an id; list them with: yadori device list --json",
        Kind::Unlinked => "set it in config.toml (device = \"…\") and restart the service",
        Kind::Away => "see which devices are connected: yadori device list",
        _ => return None,
    })
}
