//! The person's devices, and what they share.

use crate::Notice;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// How it stands with a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DeviceState {
    /// It is this one.
    ThisOne,
    /// There is a connection.
    Connected,
    /// There is none at the moment.
    Away,
}

/// A device.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// Its id: 26 characters of lower-case base32; none before this device was first linked.
    #[schema(pattern = "^[a-z2-7]{26}$")]
    pub id: Option<String>,
    /// What it is called.
    pub name: String,
    /// A few characters of its id, for comparing by eye.
    pub fingerprint: Option<String>,
    /// How it stands with it.
    pub state: DeviceState,
    /// When it was last heard of.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub seen_at: Option<Timestamp>,
    /// Changes made here that it does not have yet.
    pub behind: u64,
    /// Changes made there that are not here yet, as far as is known.
    pub ahead: u64,
    /// Where it can be reached.
    pub addresses: Vec<String>,
    /// The device that introduced it; none if it was paired with this one.
    pub introduced_by: Option<String>,
    /// The devices that it introduced, and that were not paired with this one.
    pub introduced: Vec<String>,
    /// What a person should know: a clock that is off, a version that is too old, why it cannot be reached.
    pub notes: Vec<Notice>,
}

/// An invitation of another device.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Invite {
    /// How long it is open, in seconds; ten minutes if not given.
    #[schema(minimum = 1)]
    pub seconds: Option<u64>,
    /// How the two meet; directly if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub via: Option<Via>,
}

/// How two devices meet for the first time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Via {
    /// By way of the relay: they need not be able to reach each other.
    Relay,
}

/// An open invitation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Where this device can be reached: addresses with ports, or a URL by which the two meet at the relay.
    pub addresses: Vec<String>,
    /// The code to be entered on the other device.
    pub code: String,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub expires_at: Timestamp,
}

/// Joining a device that has invited.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Join {
    /// Its address: host and port; or the URL that it shows, by which the two meet at a relay.
    pub address: String,
    /// The code that it shows.
    pub code: String,
}

/// Another name for a device.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RenameDevice {
    /// The name.
    #[schema(min_length = 1)]
    pub name: String,
}

/// Removing a device.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RemoveDeviceQuery {
    /// Remove those that it introduced, too.
    #[serde(default)]
    pub introduced: bool,
}

/// Handing clips over to a device.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Send {
    /// The clips: positions, aliases, pins, places in the tray, or beginnings of ids.
    #[schema(min_items = 1, max_items = 1_000)]
    pub clips: Vec<String>,
    /// The device: its name, or the beginning of its id.
    pub to: String,
    /// Put the last of them on that device's clipboard.
    #[serde(default)]
    pub recall: bool,
}

/// What was handed over.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sent {
    /// The clips.
    pub clips: Vec<crate::Clip>,
    /// The name of the device.
    pub to: String,
    /// Whether the last is on that device's clipboard.
    pub recalled: bool,
}

/// What leaves this device by itself, or arrives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Extent {
    /// Every clip.
    #[default]
    Everything,
    /// Clips that are pinned or in a drawer.
    KeptOnly,
    /// Only what is sent by hand.
    ByHand,
}

/// What this device shares.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Policy {
    /// What leaves it. Sensitive clips never do.
    pub leaves: Extent,
    /// Kinds that do not leave.
    pub kinds_left_out: Vec<crate::Kind>,
    /// Applications whose copies do not leave.
    pub applications_left_out: Vec<String>,
    /// Clips above this size in bytes do not leave.
    pub size_limit: Option<u64>,
    /// What arrives.
    pub arrives: Extent,
    /// Content above this size in bytes is fetched when it is first wanted.
    pub fetch_above: u64,
    /// The newest copy of the other devices is put on this device's clipboard.
    pub follow: bool,
    /// Other devices may put a clip on this device's clipboard.
    pub may_be_put_on_clipboard: bool,
    /// The same as a person reads it.
    pub sentences: Vec<String>,
}

/// A change of what this device shares; what is left out stays as it is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PolicyChange {
    /// What leaves it.
    pub leaves: Option<Extent>,
    /// Kinds that do not leave, instead of those before.
    pub kinds_left_out: Option<Vec<crate::Kind>>,
    /// Applications whose copies do not leave, instead of those before.
    pub applications_left_out: Option<Vec<String>>,
    /// Clips above this size in bytes do not leave; 0 for no limit.
    pub size_limit: Option<u64>,
    /// What arrives.
    pub arrives: Option<Extent>,
    /// Content above this size in bytes is fetched when it is first wanted.
    pub fetch_above: Option<u64>,
    /// Whether the newest copy of the other devices is put on this device's clipboard.
    pub follow: Option<bool>,
    /// Whether other devices may put a clip on this device's clipboard.
    pub may_be_put_on_clipboard: Option<bool>,
}

/// How it stands with sharing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sync {
    /// Where links are listened for, if they are.
    pub listening: Option<String>,
    /// Whether sharing is paused.
    pub paused: bool,
    /// Until when, if it has an end.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub paused_until: Option<Timestamp>,
    /// The devices, this one first.
    pub devices: Vec<Device>,
    /// Clips of which some content is on another device only.
    pub elsewhere: u64,
    /// How it stands with the relay, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub relay: Option<Relay>,
}

/// How it stands with the relay, where devices that do not meet leave what they tell each other, sealed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Relay {
    /// Its address.
    pub address: String,
    /// Whether it answers.
    pub answers: bool,
    /// Why it does not, or does not do what is asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<Notice>,
    /// What was wrong with what it gave, the last time that something was; it was not taken in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warning: Option<String>,
    /// How often something was wrong since the service started.
    pub warnings: u32,
    /// Changes of this device that are still to be left there.
    pub behind: u64,
    /// Envelopes of this device that wait there for the others.
    pub waiting: u64,
    /// When this device last left something there.
    #[schema(value_type = Option<String>, format = DateTime)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub posted_at: Option<Timestamp>,
    /// When it last found something there.
    #[schema(value_type = Option<String>, format = DateTime)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fetched_at: Option<Timestamp>,
    /// What the mailbox of the devices holds, if the relay was asked and answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mailbox: Option<Mailbox>,
}

/// What a mailbox at a relay holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Mailbox {
    /// Bytes that are used.
    pub bytes: u64,
    /// Bytes that there is room for.
    pub quota_bytes: u64,
    /// For how many days what lies there is kept.
    pub days: u32,
}

/// A relay to use.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetRelay {
    /// What the relay's owner gave you: its address, `#`, and a token.
    #[schema(max_length = 500)]
    pub invitation: String,
}

/// What became of the mailbox of a relay that was left.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RelayLeft {
    /// Whether it was erased. If the relay did not answer, what lies there goes when it is too old.
    pub erased: bool,
}

/// From where on to tell how a fetch goes.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct FetchQuery {
    /// Answer when more bytes than these are here, or a second has passed; without it, at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<u64>,
}

/// How far content that was on another device has come.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Fetched {
    /// The clip's id.
    pub id: String,
    /// Bytes of it that are here.
    pub here: u64,
    /// All its bytes.
    pub size: u64,
}
