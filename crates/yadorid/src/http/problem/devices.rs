//! What goes wrong with the person's other devices.

use super::Problem;
use yadori_api::ProblemKind;
use yadori_engine::fetching::FetchError;
use yadori_engine::links::LinkError;
use yadori_engine::sync::devices::DeviceError;
use yadori_engine::sync::relay::{RelayError, RelaySetError};
use yadori_engine::sync::sharing::ShareError;
use yadori_engine::sync::{InviteError, JoinError};

impl From<FetchError> for Problem {
    fn from(error: FetchError) -> Self {
        match error {
            FetchError::Name(error) => error.into(),
            FetchError::Elsewhere => Self::new(ProblemKind::Elsewhere, error.to_string()),
            FetchError::Store(error) => error.into(),
        }
    }
}

impl From<InviteError> for Problem {
    fn from(error: InviteError) -> Self {
        let detail = error.to_string();
        match error {
            InviteError::Length => Self::new(ProblemKind::BadTime, detail),
            InviteError::Randomness => Self::internal(),
            InviteError::NoRelay => Self::new(ProblemKind::NoRelay, detail),
            InviteError::Relay(error) => error.into(),
            InviteError::Link(error) => error.into(),
        }
    }
}

impl From<LinkError> for Problem {
    fn from(error: LinkError) -> Self {
        let detail = error.to_string();
        match error {
            LinkError::Listen { .. } => Self::new(ProblemKind::NotListening, detail),
            LinkError::Key { .. } | LinkError::Identity(_) => Self::new(ProblemKind::NoKey, detail),
            LinkError::Store(error) => error.into(),
        }
    }
}

impl From<JoinError> for Problem {
    fn from(error: JoinError) -> Self {
        let detail = error.to_string();
        match error {
            JoinError::Code(_) => Self::new(ProblemKind::BadCode, detail),
            JoinError::Unreachable { .. } => Self::new(ProblemKind::Unreachable, detail),
            JoinError::NotInvited(_) => Self::new(ProblemKind::NotInvited, detail),
            JoinError::WrongCode => Self::new(ProblemKind::WrongCode, detail),
            JoinError::Unlike(_) => Self::new(ProblemKind::Unlike, detail),
            JoinError::Removed | JoinError::RemovedBy(_) => Self::new(ProblemKind::Removed, detail),
            JoinError::TooMany => Self::new(ProblemKind::TooManyDevices, detail),
            JoinError::Itself => Self::new(ProblemKind::Itself, detail),
            JoinError::Relay(error) => error.into(),
            JoinError::OtherRelay(_) => Self::new(ProblemKind::RelaySet, detail),
            JoinError::Broken(_) => Self::new(ProblemKind::BrokenOff, detail),
            JoinError::Link(error) => error.into(),
            JoinError::Store(error) => error.into(),
        }
    }
}

impl From<DeviceError> for Problem {
    fn from(error: DeviceError) -> Self {
        let detail = error.to_string();
        match error {
            DeviceError::None(_) => Self::new(ProblemKind::NoSuchDevice, detail),
            DeviceError::Several(_) => Self::new(ProblemKind::SeveralDevices, detail),
            DeviceError::Itself => Self::new(ProblemKind::Itself, detail),
            DeviceError::Name => Self::new(ProblemKind::BadName, detail),
            DeviceError::Taken(_) => Self::new(ProblemKind::NameTaken, detail),
            DeviceError::Unlinked => Self::new(ProblemKind::Unlinked, detail),
            DeviceError::Store(error) => error.into(),
        }
    }
}

impl From<ShareError> for Problem {
    fn from(error: ShareError) -> Self {
        let detail = error.to_string();
        match error {
            ShareError::Name(error) => error.into(),
            ShareError::Device(error) => error.into(),
            ShareError::Sensitive(_) => Self::new(ProblemKind::Sensitive, detail),
            ShareError::Elsewhere(_) | ShareError::Away(..) => Self::new(ProblemKind::Away, detail),
            ShareError::NotTaken(..) => Self::new(ProblemKind::NotTaken, detail),
            ShareError::Policy(_) | ShareError::Length => Self::new(ProblemKind::BadPolicy, detail),
            ShareError::Store(error) => error.into(),
        }
    }
}

impl From<RelayError> for Problem {
    fn from(error: RelayError) -> Self {
        let kind = match error {
            RelayError::Address(_) => ProblemKind::BadRelay,
            RelayError::Unreachable(_) => ProblemKind::Unreachable,
            RelayError::Refused { .. } | RelayError::Garbled(_) => ProblemKind::RelayRefuses,
        };
        Self::new(kind, error.to_string())
    }
}

impl From<RelaySetError> for Problem {
    fn from(error: RelaySetError) -> Self {
        let detail = error.to_string();
        match error {
            RelaySetError::Set(_) => Self::new(ProblemKind::RelaySet, detail),
            RelaySetError::None => Self::new(ProblemKind::NoRelay, detail),
            RelaySetError::Relay(error) => error.into(),
            RelaySetError::Link(error) => error.into(),
            RelaySetError::Randomness(_) => Self::internal(),
            RelaySetError::Store(error) => error.into(),
        }
    }
}
