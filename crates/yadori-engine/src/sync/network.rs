//! The network comes and goes: the kernel tells when an address or an interface does (rtnetlink(7)).

use crate::sync::DeviceSync;
use rustix::net::netlink::SocketAddrNetlink;
use rustix::net::{AddressFamily, RecvFlags, SocketFlags, SocketType, bind, recv, socket_with};
use std::os::fd::OwnedFd;
use std::time::Duration;
use tokio::io::Interest;
use tokio::io::unix::AsyncFd;

/// Groups of messages: of interfaces, and of their addresses of IPv4 and IPv6 (RTMGRP_LINK, RTMGRP_IPV4_IFADDR,
/// RTMGRP_IPV6_IFADDR).
const GROUPS: u32 = 0x1 | 0x10 | 0x100;

/// What belongs together is told in several messages.
const SETTLING: Duration = Duration::from_millis(300);

fn listener() -> std::io::Result<AsyncFd<OwnedFd>> {
    let flags = SocketFlags::NONBLOCK | SocketFlags::CLOEXEC;
    // Without a protocol it is NETLINK_ROUTE.
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, None)?;
    bind(&socket, &SocketAddrNetlink::new(0, GROUPS))?;
    // SAFETY: an `OwnedFd` gives the descriptor that it owns, always the same, until it is dropped.
    unsafe { AsyncFd::register_with_interest(socket, Interest::READABLE) }.map_err(std::io::Error::from)
}

/// Waits until something was told, and takes all that was.
async fn told(listener: &AsyncFd<OwnedFd>) -> std::io::Result<()> {
    let mut message = [0; 8192];
    let mut ready = listener.readable().await?;
    loop {
        match recv(listener.get_ref(), &mut message, RecvFlags::empty()) {
            Ok(_) => {}
            Err(rustix::io::Errno::AGAIN) => {
                ready.clear_ready();
                return Ok(());
            }
            // More was told than there was room for: then something has changed as well.
            Err(rustix::io::Errno::NOBUFS) => {}
            Err(error) => return Err(error.into()),
        }
    }
}

impl DeviceSync {
    /// Tries to reach the other devices whenever the network has changed, and tells them where this one can be
    /// reached now. Ends when the task is dropped, or when the system does not tell.
    pub(crate) async fn follow_network(&self) {
        let following = async {
            let listener = listener()?;
            loop {
                told(&listener).await?;
                tokio::time::sleep(SETTLING).await;
                tracing::debug!("the network has changed");
                if self.links.endpoint_if_any().is_some() {
                    // A connection over an address that is gone would not break by itself.
                    self.links.try_out_connections();
                    self.links.wake_up();
                }
            }
        };
        let ended: std::io::Result<std::convert::Infallible> = following.await;
        let Err(error) = ended;
        tracing::info!(%error, "changes of the network are not told; other devices are tried from time to time");
    }
}
