//! The person's devices, and what they share.

use super::{Contract, kind, kind_of, notices};
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_core::sharing::{Extent, Policy};
use yadori_engine::clock::timestamp;
use yadori_engine::sync::devices::{Device, DeviceState, Invitation, SyncStatus};
use yadori_engine::sync::relay::{MailboxUsage, RelayStatus};

impl Contract for Device {
    type As = api::Device;

    fn contract(self, _: &Checked) -> api::Device {
        api::Device {
            id: self.id.map(|id| id.to_string()),
            name: self.name,
            fingerprint: self.id.map(|id| id.fingerprint()),
            state: match self.state {
                DeviceState::ThisOne => api::DeviceState::ThisOne,
                DeviceState::Connected => api::DeviceState::Connected,
                DeviceState::Away => api::DeviceState::Away,
            },
            seen_at: self.seen_at.map(timestamp),
            behind: self.behind,
            ahead: self.ahead,
            addresses: self.addresses,
            introduced_by: self.introduced_by,
            introduced: self.introduced,
            notes: self.notes.iter().map(notices::of_device).collect(),
        }
    }
}

impl Contract for Invitation {
    type As = api::Invitation;

    fn contract(self, _: &Checked) -> api::Invitation {
        api::Invitation { addresses: self.addresses, code: self.code, expires_at: timestamp(self.until) }
    }
}

impl Contract for SyncStatus {
    type As = api::Sync;

    fn contract(self, rules: &Checked) -> api::Sync {
        api::Sync {
            listening: self.listening.map(|address| address.to_string()),
            paused: self.paused,
            paused_until: self.paused_until.map(timestamp),
            devices: self.devices.contract(rules),
            elsewhere: self.elsewhere,
            relay: self.relay.contract(rules),
        }
    }
}

impl Contract for RelayStatus {
    type As = api::Relay;

    fn contract(self, _: &Checked) -> api::Relay {
        let mailbox =
            |usage: MailboxUsage| api::Mailbox { bytes: usage.bytes, quota_bytes: usage.quota_bytes, days: usage.days };
        api::Relay {
            address: self.address,
            answers: self.answers,
            error: self.last_error.as_ref().map(notices::of_relay),
            warning: self.last_lie,
            warnings: self.lies,
            behind: self.behind,
            waiting: self.waiting,
            posted_at: self.posted_at.map(timestamp),
            fetched_at: self.fetched_at.map(timestamp),
            mailbox: self.usage.map(mailbox),
        }
    }
}

impl Contract for Policy {
    type As = api::Policy;

    fn contract(self, _: &Checked) -> api::Policy {
        let extent = |extent| match extent {
            Extent::Everything => api::Extent::Everything,
            Extent::KeptOnly => api::Extent::KeptOnly,
            Extent::ByHand => api::Extent::ByHand,
        };
        let sentences = self.sentences();
        api::Policy {
            leaves: extent(self.leaves),
            kinds_left_out: self.kinds_left_out.into_iter().map(kind).collect(),
            applications_left_out: self.applications_left_out,
            size_limit: self.size_limit,
            arrives: extent(self.arrives),
            fetch_above: self.fetch_above,
            follow: self.follow,
            may_be_put_on_clipboard: self.may_be_put_on_clipboard,
            sentences,
        }
    }
}

/// Makes a change of the policy that a client wants.
pub fn policy_change(policy: &mut Policy, change: &api::PolicyChange) {
    let extent = |extent| match extent {
        api::Extent::Everything => Extent::Everything,
        api::Extent::KeptOnly => Extent::KeptOnly,
        api::Extent::ByHand => Extent::ByHand,
    };
    policy.leaves = change.leaves.map_or(policy.leaves, extent);
    policy.arrives = change.arrives.map_or(policy.arrives, extent);
    if let Some(kinds) = &change.kinds_left_out {
        policy.kinds_left_out = kinds.iter().map(|kind| kind_of(*kind)).collect();
        policy.kinds_left_out.sort_unstable();
        policy.kinds_left_out.dedup();
    }
    if let Some(applications) = &change.applications_left_out {
        policy.applications_left_out.clone_from(applications);
    }
    if let Some(limit) = change.size_limit {
        policy.size_limit = (limit > 0).then_some(limit);
    }
    policy.fetch_above = change.fetch_above.unwrap_or(policy.fetch_above);
    policy.follow = change.follow.unwrap_or(policy.follow);
    policy.may_be_put_on_clipboard = change.may_be_put_on_clipboard.unwrap_or(policy.may_be_put_on_clipboard);
}
