//! Two devices that cannot reach each other are linked by way of the relay.

use crate::sync::{DeviceSync, JoinError};
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::AsyncReadExt;
use yadori_core::shared::Device;
use yadori_link::code::Code;
use yadori_link::connection::{receive_place, say_place};
use yadori_link::pairing::Side;
use yadori_link::relay::RelayError;
use yadori_link::relay::meeting::{LINES, Meeting};
use yadori_link::tls::Connection;

/// How long the other may take to read the last words.
const LINGER: Duration = Duration::from_secs(10);

/// Where everybody comes from who comes by way of a relay, as far as tries of a code are counted.
const FROM_RELAY: SocketAddr = SocketAddr::new(std::net::IpAddr::V4(Ipv4Addr::UNSPECIFIED), 0);

impl DeviceSync {
    /// Waits at a meeting for whoever has this code, until the invitation is over.
    pub(in crate::sync) fn wait_at(self: &Arc<Self>, meeting: Meeting, code: Code) {
        let service = self.clone();
        self.background.tasks.spawn(async move {
            tokio::select! {
                () = service.background.ending.cancelled() => {}
                () = service.meet_whoever_comes(&meeting, &code) => {}
            }
        });
    }

    async fn meet_whoever_comes(self: &Arc<Self>, meeting: &Meeting, code: &Code) {
        for line in 0..LINES {
            // It may have been used or replaced by the time that somebody comes.
            if meeting.joined(line).await.is_err() || self.open_code(FROM_RELAY).as_ref() != Some(code) {
                break;
            }
            match self.meet_at(meeting, line).await {
                Ok(device) => {
                    tracing::info!(device = device.name.value, "a device was linked by way of the relay");
                    break;
                }
                Err(error) => tracing::warn!(%error, "somebody tried to be linked by way of the relay"),
            }
        }
        // Nobody else is to wait there for an answer. If the relay does not do it now, it does when its time is over.
        if let Some(group) = self.group() {
            let _ = meeting.close(&group).await;
        }
    }

    async fn meet_at(self: &Arc<Self>, meeting: &Meeting, line: u8) -> Result<Device, JoinError> {
        let endpoint = self.endpoint().await?;
        let stream = meeting.line(line, Side::Invites)?;
        let connection = endpoint.take(stream, || true).await.map_err(JoinError::Broken)?;
        let (device, mut connection) = self.meet_on(connection, FROM_RELAY).await?;
        self.links.wake_up();
        self.tell_places(&mut connection).await?;
        // The other ends it, when it has read all that was said.
        let _ = tokio::time::timeout(LINGER, connection.stream.read_u8()).await;
        Ok(device)
    }

    /// Joins the device that waits at a meeting.
    pub(in crate::sync) async fn join_by_relay(
        self: &Arc<Self>,
        meeting: &Meeting,
        code: &Code,
    ) -> Result<Device, JoinError> {
        if let Some(group) = self.group().filter(|group| group.address != meeting.address || group.pin != meeting.pin) {
            return Err(JoinError::OtherRelay(group.address));
        }
        let endpoint = self.endpoint().await?;
        let over = |error: RelayError| {
            if error.is("no-meeting") { JoinError::NotInvited(meeting.address.clone()) } else { error.into() }
        };
        let stream = meeting.line(meeting.free_line().await.map_err(over)?, Side::Joins)?;
        let not_invited = |_| JoinError::NotInvited(meeting.address.clone());
        let connection = endpoint.make(stream, None).await.map_err(not_invited)?;
        let (device, mut connection) = self.join_on(connection, code, &meeting.address, None).await?;
        self.tell_places(&mut connection).await?;
        self.links.wake_up();
        Ok(device)
    }

    /// Both tell which relay they know of, and the later choice counts: without it they would not meet again.
    async fn tell_places(&self, connection: &mut Connection) -> Result<(), JoinError> {
        say_place(connection, self.place()).await.map_err(JoinError::Broken)?;
        let heard = receive_place(connection).await.map_err(JoinError::Broken)?;
        self.hear_of_relay(heard).await?;
        Ok(())
    }
}
