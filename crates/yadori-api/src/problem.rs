//! What can go wrong: RFC 9457 problem documents, and the kinds of them.

use crate::Clip;
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Cow;
use std::collections::BTreeMap;
use utoipa::openapi::{ObjectBuilder, RefOr, Schema, schema::Type};
use utoipa::{PartialSchema, ToSchema};

/// What all types of problems begin with.
const URN: &str = "urn:yadori:problem:";

macro_rules! kinds {
    ($($(#[$comment:meta])* $kind:ident = $word:literal, $status:literal, $title:literal;)*) => {
        /// What went wrong. A client words for itself what can be done about it.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        pub enum ProblemKind {
            $($(#[$comment])* $kind,)*
        }

        impl ProblemKind {
            /// All kinds.
            pub const ALL: &[Self] = &[$(Self::$kind,)*];

            /// The word that its type ends with.
            pub fn word(self) -> &'static str {
                match self {
                    $(Self::$kind => $word,)*
                }
            }

            /// The status that it is answered with (RFC 9110, section 15).
            pub fn status(self) -> u16 {
                match self {
                    $(Self::$kind => $status,)*
                }
            }

            /// What it is, in a few words.
            pub fn title(self) -> &'static str {
                match self {
                    $(Self::$kind => $title,)*
                }
            }
        }
    };
}

kinds! {
    /// The request carries no valid token.
    Unauthorised = "unauthorised", 401, "Not let in";
    /// It asks for a host that is not this service.
    WrongHost = "wrong-host", 421, "Not this service";
    /// It comes from a page that is not the service's own.
    ForeignOrigin = "foreign-origin", 403, "Not from here";
    /// A browser on the network asks for what it may not: only for reading, searching and adding was it let in.
    NotThroughThisDoor = "not-through-this-door", 403, "Not through this door";
    /// The history is locked, or is being opened or locked.
    Locked = "locked", 423, "The history is locked";
    /// That is not the passphrase, nor the recovery key of the history.
    WrongPassphrase = "wrong-passphrase", 403, "Wrong passphrase";
    /// There were several wrong passphrases; the next one is taken later.
    TooManyTries = "too-many-tries", 429, "Too many wrong passphrases";
    /// The passphrase is too short, or too long.
    BadPassphrase = "bad-passphrase", 422, "Not a passphrase";
    /// A passphrase is set; it is needed to change what opens the history.
    PassphraseNeeded = "passphrase-needed", 403, "The passphrase is needed";
    /// Without a passphrase nobody could unlock the history.
    NoPassphrase = "no-passphrase", 409, "There is no passphrase";
    /// What is kept is not encrypted by this service.
    NotEncrypted = "not-encrypted", 409, "Not encrypted here";
    /// What opens the history is not there, or is the last one.
    NoProtector = "no-protector", 409, "What opens the history";
    /// No secret service keeps the key.
    NoSecretService = "no-secret-service", 503, "No secret service";
    /// Whether the service is started at log-in cannot be changed.
    NoLogIn = "no-log-in", 503, "Not changed for the log-in";
    /// The history cannot be opened.
    CannotOpen = "cannot-open", 500, "The history cannot be opened";
    /// There is no room on the disk.
    DiskFull = "disk-full", 507, "The disk is full";
    /// The database does not answer at the moment.
    DatabaseAway = "database-away", 503, "The database is away";
    /// The service failed; its log says how.
    Internal = "internal", 500, "The service failed";
    /// The request is not understood.
    BadRequest = "bad-request", 400, "The request is not understood";
    /// Fields are missing, not known, or of another type.
    BadFields = "bad-fields", 422, "Not what this takes";
    /// The body is of a type that this does not take.
    WrongType = "wrong-type", 415, "Not of this type";
    /// The body is encoded.
    Encoded = "encoded", 415, "Encoded";
    /// Path and query are too long.
    LongAddress = "long-address", 414, "The address is too long";
    /// There are too many headers, or they are too large.
    LargeHeaders = "large-headers", 431, "Too many headers";
    /// It is not as the client has seen it: `If-Match` names another one.
    NotAsSeen = "not-as-seen", 412, "Changed meanwhile";
    /// Another request had this `Idempotency-Key`.
    KeyUsed = "key-used", 422, "The key is used";
    /// What was sent is no archive that can be read.
    NotAnArchive = "not-an-archive", 422, "Not an archive";
    /// There is nothing at this path.
    NoSuchPath = "no-such-path", 404, "No such path";
    /// The clip has no such format.
    NoSuchFormat = "no-such-format", 404, "No such format";
    /// There is no small picture of the clip.
    NoThumbnail = "no-thumbnail", 404, "No small picture";
    /// It does not fit into a QR code.
    NoQr = "no-qr", 422, "No QR code";
    /// The range lies outside the content.
    BadRange = "bad-range", 416, "No such range";
    /// The clipboard is a real one.
    NotSimulated = "not-simulated", 404, "Not a simulated clipboard";
    /// No browser has this session.
    NoSuchSession = "no-such-session", 404, "No such session";
    /// Its content is on another device, which is not there.
    Elsewhere = "elsewhere", 502, "On another device";
    /// This names no clip.
    NotAName = "not-a-name", 400, "Not a clip's name";
    /// No clip was named, or far too many.
    NothingNamed = "nothing-named", 400, "No clip, or too many";
    /// There is no such clip.
    NoSuchClip = "no-such-clip", 404, "No such clip";
    /// There is no such clip in the bin.
    NotInBin = "not-in-bin", 404, "Not in the bin";
    /// The clip is in the bin.
    InBin = "in-bin", 404, "In the bin";
    /// No clip has this alias.
    NoSuchAlias = "no-such-alias", 404, "No such alias";
    /// Several clips are meant: see the candidates.
    AmbiguousName = "ambiguous-name", 409, "Several clips are meant";
    /// The query is not understood.
    BadQuery = "bad-query", 400, "The query is not understood";
    /// This can be asked of the path in other ways only: see `Allow`.
    WrongMethod = "wrong-method", 405, "Not this way";
    /// There is no such page.
    BadPage = "bad-page", 400, "No such page";
    /// It is larger than what is kept.
    TooLarge = "too-large", 413, "Too large";
    /// The rules, or its content, keep it from being kept.
    Refused = "refused", 422, "Not kept";
    /// There is no format in it that is kept.
    Unsupported = "unsupported", 415, "Nothing that is kept";
    /// A title, mark, alias or place that is not possible.
    BadAttribute = "bad-attribute", 400, "Not possible";
    /// It has no text.
    NoText = "no-text", 422, "Not text";
    /// It has no words that could be changed.
    NotEditable = "not-editable", 422, "Not a text";
    /// There is no clipboard.
    NoClipboard = "no-clipboard", 409, "No clipboard";
    /// It was not taken.
    NotTaken = "not-taken", 409, "The clipboard was not taken";
    /// These cannot be joined.
    Mixed = "mixed", 422, "Cannot be joined";
    /// Nothing asks for this answer.
    NotAsked = "not-asked", 400, "An answer too many";
    /// Placeholders ask for something: see what.
    Asks = "asks", 422, "Something must be answered first";
    /// It is on the clipboard, but was not pasted.
    NotPasted = "not-pasted", 409, "Not pasted";
    /// These are no keys, or no action.
    BadKeys = "bad-keys", 400, "Not keys";
    /// Another action has these keys.
    KeysTaken = "keys-taken", 409, "The keys are taken";
    /// This is no way to reshape.
    BadWay = "bad-way", 400, "Not a way to reshape";
    /// The way to reshape does not fit the text.
    DoesNotFit = "does-not-fit", 422, "It does not fit the text";
    /// It is not UTF-8.
    NotText = "not-text", 422, "Not text";
    /// Another clip has the alias.
    AliasTaken = "alias-taken", 409, "The alias is taken";
    /// The clip is not pinned.
    NotPinned = "not-pinned", 409, "Not pinned";
    /// There is no such drawer.
    NoSuchDrawer = "no-such-drawer", 404, "No such drawer";
    /// Nothing lies at this place of the drawer.
    NoSuchPlace = "no-such-place", 404, "No such place";
    /// Nothing lies at this place of the tray.
    NoPlaceInTray = "no-place-in-tray", 404, "No such place";
    /// Another drawer is called so.
    DrawerTaken = "drawer-taken", 409, "The name is taken";
    /// The drawer is private, and closed.
    DrawerClosed = "drawer-closed", 409, "The drawer is closed";
    /// The drawer has no passphrase.
    NotPrivate = "not-private", 409, "Not a private drawer";
    /// The clip lies in no drawer.
    InNoDrawer = "in-no-drawer", 409, "In no drawer";
    /// The drawer cannot be or hold that.
    BadDrawer = "bad-drawer", 400, "Not possible";
    /// The tray is empty.
    NothingThere = "nothing-there", 404, "Nothing there";
    /// The drawer is empty.
    EmptyDrawer = "empty-drawer", 404, "Nothing there";
    /// The tray is full.
    TrayFull = "tray-full", 409, "The tray is full";
    /// This is no rule.
    BadRule = "bad-rule", 400, "Not a rule";
    /// More than half of what is not kept would go.
    MuchWouldGo = "much-would-go", 409, "Much would go";
    /// The history has changed since the person was asked.
    Changed = "changed", 409, "Changed meanwhile";
    /// This is no slice of the history.
    BadSlice = "bad-slice", 400, "Not a slice";
    /// There is nothing to undo.
    NothingToUndo = "nothing-to-undo", 404, "Nothing to undo";
    /// There is no such step, or it was undone.
    NoSuchStep = "no-such-step", 404, "No such step";
    /// There is nothing to redo.
    NothingToRedo = "nothing-to-redo", 404, "Nothing to redo";
    /// The step was not undone.
    NotUndone = "not-undone", 404, "Not undone";
    /// A pause cannot last so long.
    BadLength = "bad-length", 400, "Not a length";
    /// An invitation cannot last so long.
    BadTime = "bad-time", 400, "Not a time";
    /// Other devices cannot be listened for.
    NotListening = "not-listening", 409, "Not reachable";
    /// The key of this device cannot be used.
    NoKey = "no-key", 409, "This device's key cannot be used";
    /// This is no code.
    BadCode = "bad-code", 400, "Not a code";
    /// The other device cannot be reached.
    Unreachable = "unreachable", 502, "Not reachable";
    /// The other device has not invited.
    NotInvited = "not-invited", 403, "No invitation";
    /// The code is wrong.
    WrongCode = "wrong-code", 403, "The code is wrong";
    /// The devices cannot be linked.
    Unlike = "unlike", 409, "They cannot be linked";
    /// This device was removed by the others.
    Removed = "removed", 409, "This device was removed";
    /// There is no room for another device.
    TooManyDevices = "too-many-devices", 409, "Too many devices";
    /// It is this very device.
    Itself = "itself", 400, "This very device";
    /// The connection broke.
    BrokenOff = "broken-off", 502, "Broken off";
    /// There is no such device.
    NoSuchDevice = "no-such-device", 404, "No such device";
    /// Several devices are meant.
    SeveralDevices = "several-devices", 409, "Several devices are meant";
    /// A device cannot be called so.
    BadName = "bad-name", 400, "Not a name";
    /// Another device is called so.
    NameTaken = "name-taken", 409, "The name is taken";
    /// This device is not linked yet.
    Unlinked = "unlinked", 409, "Not linked yet";
    /// What looks like a secret never leaves this device.
    Sensitive = "sensitive", 422, "Never leaves this device";
    /// There is no connection with the other device.
    Away = "away", 502, "Not there";
    /// There is no relay.
    NoRelay = "no-relay", 404, "No relay";
    /// There is a relay already.
    RelaySet = "relay-set", 409, "There is a relay";
    /// That is not the address of a relay and a token.
    BadRelay = "bad-relay", 400, "Not a relay";
    /// The relay does not do what is asked.
    RelayRefuses = "relay-refuses", 502, "The relay refuses";
    /// The policy, or the pause, is not possible.
    BadPolicy = "bad-policy", 400, "Not possible";
}

impl Serialize for ProblemKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(&format_args!("{URN}{}", self.word()))
    }
}

impl<'de> Deserialize<'de> for ProblemKind {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let word = text.strip_prefix(URN).unwrap_or_default();
        let known = Self::ALL.iter().copied().find(|kind| kind.word() == word);
        known.ok_or_else(|| D::Error::custom(format!("{text} is no type of problem")))
    }
}

impl PartialSchema for ProblemKind {
    fn schema() -> RefOr<Schema> {
        let types = Self::ALL.iter().map(|kind| format!("{URN}{}", kind.word()));
        let kinds = ObjectBuilder::new().schema_type(Type::String).enum_values(Some(types));
        kinds.description(Some("What went wrong.")).into()
    }
}

impl ToSchema for ProblemKind {
    fn name() -> Cow<'static, str> {
        "ProblemKind".into()
    }
}

/// Why something was not done (RFC 9457).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What went wrong: `urn:yadori:problem:` and a word.
    #[serde(rename = "type")]
    pub kind: ProblemKind,
    /// The same in a few words.
    pub title: String,
    /// The HTTP status.
    #[schema(minimum = 400, maximum = 599)]
    pub status: u16,
    /// What happened this time.
    pub detail: String,
    /// What it is about, by name: numbers, names, limits.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub parameters: BTreeMap<String, String>,
    /// Clips that may have been meant.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub candidates: Vec<Clip>,
    /// What placeholders ask for, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub asks: Vec<String>,
    /// The usual answers to what they ask for.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub usual: BTreeMap<String, String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_told_apart_by_their_words() {
        for kind in ProblemKind::ALL {
            assert_eq!(ProblemKind::ALL.iter().filter(|other| other.word() == kind.word()).count(), 1, "{kind:?}");
            assert!((400..600).contains(&kind.status()) && !kind.title().is_empty(), "{kind:?}");
        }
    }
}
