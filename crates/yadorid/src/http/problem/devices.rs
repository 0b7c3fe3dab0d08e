//! What goes wrong with the person's other devices.

use super::Problem;
use axum::http::StatusCode;
use yadori_engine::fetching::FetchError;
use yadori_engine::sync::devices::DeviceError;
use yadori_engine::sync::sharing::ShareError;
use yadori_engine::sync::{InviteError, JoinError, LinkError};

impl From<FetchError> for Problem {
    fn from(error: FetchError) -> Self {
        match error {
            FetchError::Name(error) => error.into(),
            FetchError::Store(error) => error.into(),
        }
    }
}

impl From<InviteError> for Problem {
    fn from(error: InviteError) -> Self {
        let detail = error.to_string();
        match error {
            InviteError::Length => Self::new(StatusCode::BAD_REQUEST, "bad-time", "Not a time", detail),
            InviteError::Randomness => Self::internal(),
            InviteError::Link(error) => error.into(),
        }
    }
}

impl From<LinkError> for Problem {
    fn from(error: LinkError) -> Self {
        let detail = error.to_string();
        match error {
            LinkError::Listen { .. } => Self::new(StatusCode::CONFLICT, "not-listening", "Not reachable", detail)
                .hint("choose another address in config.toml: [link] listen = \"0.0.0.0:0\""),
            LinkError::Key { .. } | LinkError::Identity(_) => {
                Self::new(StatusCode::CONFLICT, "no-key", "This device's key cannot be used", detail)
            }
            LinkError::Store(error) => error.into(),
        }
    }
}

impl From<JoinError> for Problem {
    fn from(error: JoinError) -> Self {
        let detail = error.to_string();
        match error {
            JoinError::Code(_) => Self::new(StatusCode::BAD_REQUEST, "bad-code", "Not a code", detail)
                .hint("the other device shows it with: yadori device invite"),
            JoinError::Unreachable { .. } => Self::new(StatusCode::BAD_GATEWAY, "unreachable", "Not reachable", detail)
                .hint("both devices must be on the same network; see the addresses with: yadori device list"),
            JoinError::NotInvited(_) => Self::new(StatusCode::FORBIDDEN, "not-invited", "No invitation", detail)
                .hint("invite on the other device, with: yadori device invite (it shows its addresses)"),
            JoinError::WrongCode => Self::new(StatusCode::FORBIDDEN, "wrong-code", "The code is wrong", detail)
                .hint("check it, or invite again: after three wrong codes from one device an invitation no longer listens to it"),
            JoinError::Unlike(_) => Self::new(StatusCode::CONFLICT, "unlike", "They cannot be linked", detail)
                .hint("then invite anew: the code was used up"),
            JoinError::Removed | JoinError::RemovedBy(_) => {
                Self::new(StatusCode::CONFLICT, "removed", "This device was removed", detail)
                    .hint("let go of the others first, with: yadori device leave")
            }
            JoinError::TooMany => Self::new(StatusCode::CONFLICT, "too-many-devices", "Too many devices", detail)
                .hint("see them with: yadori device list"),
            JoinError::Itself => Self::new(StatusCode::BAD_REQUEST, "itself", "The same device", detail),
            JoinError::Broken(_) => Self::new(StatusCode::BAD_GATEWAY, "broken-off", "Broken off", detail)
                .hint("if the code was wrong, look again; else invite anew"),
            JoinError::Link(error) => error.into(),
            JoinError::Store(error) => error.into(),
        }
    }
}

impl From<DeviceError> for Problem {
    fn from(error: DeviceError) -> Self {
        let detail = error.to_string();
        match error {
            DeviceError::None(_) => Self::new(StatusCode::NOT_FOUND, "no-such-device", "No such device", detail)
                .hint("see them with: yadori device list"),
            DeviceError::Several(_) => {
                Self::new(StatusCode::CONFLICT, "several-devices", "Several devices are meant", detail)
                    .hint("see the ids with: yadori device list --json")
            }
            DeviceError::Itself => Self::new(StatusCode::BAD_REQUEST, "itself", "This very device", detail),
            DeviceError::Name => Self::new(StatusCode::BAD_REQUEST, "bad-name", "Not a name", detail),
            DeviceError::Taken(_) => Self::new(StatusCode::CONFLICT, "name-taken", "The name is taken", detail),
            DeviceError::Unlinked => Self::new(StatusCode::CONFLICT, "unlinked", "Not linked yet", detail)
                .hint("set it there (device = \"…\") and start the service again"),
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
            ShareError::Sensitive(_) => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, "sensitive", "Never leaves this device", detail)
            }
            ShareError::Elsewhere(_) | ShareError::Away(..) => {
                Self::new(StatusCode::BAD_GATEWAY, "away", "Not there", detail)
                    .hint("see which devices are there with: yadori device list")
            }
            ShareError::NotTaken(..) => Self::new(StatusCode::CONFLICT, "not-taken", "Not taken", detail),
            ShareError::Policy(_) | ShareError::Length => {
                Self::new(StatusCode::BAD_REQUEST, "bad-policy", "Not possible", detail)
            }
            ShareError::Store(error) => error.into(),
        }
    }
}
