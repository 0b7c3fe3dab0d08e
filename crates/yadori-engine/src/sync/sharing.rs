//! What this device shares: its policy, handing clips over, fetching what is elsewhere, pausing.

use crate::clock::now;
use crate::history::listing::Listed;
use crate::history::names::FindNameError;
use crate::links::SyncPause;
use crate::sync::DeviceSync;
use crate::sync::devices::{DeviceError, DeviceState, SyncStatus};
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use yadori_core::sharing::Policy;
use yadori_link::connection::ConnectionCommand;
use yadori_store::StoreError;

/// How long the other device may take to answer that it has what it was handed.
const ANSWER: Duration = Duration::from_secs(15);

/// How long to wait for a connection that is being made again.
const COMING: Duration = Duration::from_secs(5);

/// Longest pause with an end: a year.
const LONGEST_SECONDS: u64 = 365 * 86_400;

/// Why something was not shared.
#[derive(Debug, Error)]
pub enum ShareError {
    /// One of the names leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// No such device.
    #[error(transparent)]
    Device(#[from] DeviceError),
    /// Nothing leaves this device that looks like a secret.
    #[error("clip {0} looks like a secret, and those never leave this device")]
    Sensitive(String),
    /// It is not all here.
    #[error("the content of clip {0} is on another device")]
    Elsewhere(String),
    /// There is no connection with it.
    #[error("there is no connection with {0} at the moment{1}")]
    Away(String, String),
    /// It did not take it.
    #[error("{0}: {1}")]
    NotTaken(String, String),
    /// A policy that makes no sense.
    #[error("{0}")]
    Policy(String),
    /// A pause that is none.
    #[error("a pause lasts from a second to a year; leave the time out to pause until you resume")]
    Length,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Most applications that are left out, and the longest name of one in bytes.
const MOST_APPLICATIONS: (usize, usize) = (100, 255);

/// A change of what this device shares, made to a copy of the present policy.
pub type Change<'a> = &'a (dyn Fn(&mut Policy) + Sync);

/// What was handed over.
#[derive(Clone, Debug)]
pub struct Sent {
    /// The clips.
    pub clips: Vec<Listed>,
    /// The name of the device that has them now.
    pub to: String,
}

impl DeviceSync {
    /// What this device shares.
    pub fn policy(&self) -> Policy {
        self.links.policy()
    }

    /// Changes what this device shares. What is shared by now stays shared.
    pub async fn change_policy(&self, change: Change<'_>) -> Result<Policy, ShareError> {
        let _alone = self.choosing.lock().await;
        let mut policy = self.links.policy();
        change(&mut policy);
        let named = policy.applications_left_out.iter().map(|name| name.trim().to_owned());
        policy.applications_left_out = named.filter(|name| !name.is_empty()).collect();
        let (most, longest) = MOST_APPLICATIONS;
        if policy.applications_left_out.len() > most
            || policy.applications_left_out.iter().any(|name| name.len() > longest)
        {
            let why = format!("at most {most} applications can be left out, by names of up to {longest} bytes");
            return Err(ShareError::Policy(why));
        }
        self.put_policy(&policy).await?;
        Ok(policy)
    }

    /// Hands clips over to a device, whatever is shared otherwise.
    pub async fn send(self: &Arc<Self>, names: &[String], to: &str, recall: bool) -> Result<Sent, ShareError> {
        let device = self.find_device(to).await?;
        if device.own {
            return Err(DeviceError::Itself.into());
        }
        let clips = self.history.find_clips(names).await?;
        let mut told = Vec::with_capacity(clips.len());
        for (record, position) in &clips {
            if record.sensitive.is_some() {
                return Err(ShareError::Sensitive(position.to_string()));
            }
            self.fetching.fetch_whole(record).await.map_err(|_| ShareError::Elsewhere(position.to_string()))?;
            let clip = self.history.store.outgoing_clip(record.number).await?;
            told.push(clip.ok_or_else(|| FindNameError::NoSuchClip(position.to_string()))?);
        }
        let id = device.device.as_ref().map(yadori_core::shared::Device::id).unwrap_or_default();
        let count = told.len();
        for (place, clip) in told.into_iter().enumerate() {
            let recall = recall && place + 1 == count;
            self.hand_over(id, &device.name, clip, recall).await?;
        }
        let clips = clips.iter().map(|(record, position)| self.history.listed(record, Some(*position))).collect();
        Ok(Sent { clips, to: device.name })
    }

    async fn hand_over(
        &self,
        id: yadori_core::DeviceId,
        name: &str,
        clip: yadori_core::shared::Clip,
        recall: bool,
    ) -> Result<(), ShareError> {
        let away = || {
            let why = self.links.status_of(id).last_error.map(|why| format!(" ({why})")).unwrap_or_default();
            ShareError::Away(name.to_owned(), why)
        };
        let deadline = tokio::time::Instant::now() + COMING;
        let mut connections = self.links.connections_changed.subscribe();
        loop {
            connections.mark_unchanged();
            if let Some(commands) = self.links.commands(id) {
                self.links.note_handed(id, &clip);
                let (reply, answer) = tokio::sync::oneshot::channel();
                let hand = ConnectionCommand::Hand { clip: Box::new(clip.clone()), recall, reply };
                if commands.send(hand).await.is_ok() {
                    match tokio::time::timeout(ANSWER, answer).await {
                        Ok(Ok(None)) => return Ok(()),
                        Ok(Ok(Some(last_error))) => return Err(ShareError::NotTaken(name.to_owned(), last_error)),
                        // The connection has ended meanwhile. Handing over twice is the same as once.
                        Ok(Err(_)) => {}
                        Err(_) => return Err(away()),
                    }
                }
            }
            // A connection that has just ended, as when the policy changes, is made again at once.
            let status_of = self.links.status_of(id);
            let was_there = status_of.ended.is_some_and(|ended| ended.elapsed() < COMING);
            if !(was_there || status_of.last_error.is_none())
                || tokio::time::timeout_at(deadline, connections.changed()).await.is_err()
            {
                return Err(away());
            }
        }
    }

    /// Tries at once to reach all devices that are away.
    pub async fn sync_now(&self) -> Result<SyncStatus, StoreError> {
        self.links.wake_up();
        // Those that are there are given a moment.
        let told = async {
            let latest = self.history.store.latest_change();
            let mut news = self.links.news.subscribe();
            loop {
                let away = self.devices().await.unwrap_or_default();
                let pending = away.iter().any(|device| device.state == DeviceState::Away && device.notes.is_empty());
                if !pending {
                    return self.told_all(latest).await;
                }
                if news.changed().await.is_err() {
                    return;
                }
            }
        };
        let _ = tokio::time::timeout(Duration::from_secs(5), told).await;
        self.sync_status().await
    }

    /// Shares nothing for so many seconds, or until resumed.
    pub async fn pause_sync(&self, seconds: Option<u64>) -> Result<SyncStatus, ShareError> {
        if seconds.is_some_and(|seconds| !(1..=LONGEST_SECONDS).contains(&seconds)) {
            return Err(ShareError::Length);
        }
        let pause = SyncPause { until: seconds.map(|seconds| now().plus(seconds * 1000)) };
        self.put_sync_pause(Some(pause)).await?;
        Ok(self.sync_status().await?)
    }

    /// Shares again.
    pub async fn resume_sync(&self) -> Result<SyncStatus, ShareError> {
        self.put_sync_pause(None).await?;
        Ok(self.sync_status().await?)
    }
}
