//! The tray: copies line up in it, and are dealt out one paste at a time, or poured out joined.

use crate::capture::Capture;
use crate::history::History;
use crate::history::index::Part;
use crate::history::listing::Listed;
use crate::history::names::{FindNameError, check_number};
use crate::keeping::Keeping;
use crate::keeping::drawers::DrawerError;
use crate::recalling::{QUIET, Recall, RecallError, Recalled, Recalling};
use std::sync::Arc;
use thiserror::Error;
use yadori_core::ClipId;
use yadori_core::tray::{Tray, TrayError};
use yadori_store::{ClipRecord, StoreError, TRAY};

/// Why the tray did not do that.
#[derive(Debug, Error)]
pub enum TrayActError {
    /// The tray cannot.
    #[error(transparent)]
    Tray(#[from] TrayError),
    /// A name leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// A clip could not be put on the clipboard.
    #[error(transparent)]
    Recall(#[from] RecallError),
    /// The drawer cannot be used.
    #[error(transparent)]
    Drawer(#[from] DrawerError),
}

impl From<StoreError> for TrayActError {
    fn from(error: StoreError) -> Self {
        Self::Name(error.into())
    }
}

/// The tray, and what lies in it.
#[derive(Clone, Debug)]
pub struct TrayView {
    /// Whether copies join it.
    pub open: bool,
    /// Whether the next clip is dealt when the one before was pasted.
    pub auto: bool,
    /// The place of the clip that is dealt next.
    pub next: u32,
    /// What lies in it, in its order.
    pub items: Vec<TrayItem>,
}

/// A clip in the tray.
#[derive(Clone, Debug)]
pub struct TrayItem {
    /// Its place, from 1.
    pub place: u32,
    /// Whether it has been dealt.
    pub dealt: bool,
    /// The clip.
    pub clip: Listed,
}

/// What was dealt.
#[derive(Clone, Debug)]
pub struct Dealt {
    /// What is on the clipboard now; nothing when all are dealt.
    pub recalled: Option<Recalled>,
    /// The tray after that.
    pub tray: TrayView,
}

/// Lines clips up in the tray and deals them out.
pub struct Dealer {
    history: Arc<History>,
    capture: Arc<Capture>,
    keeping: Arc<Keeping>,
    recalling: Arc<Recalling>,
}

impl Dealer {
    /// Deals from this history.
    pub fn new(history: Arc<History>, capture: Arc<Capture>, keeping: Arc<Keeping>, recalling: Arc<Recalling>) -> Self {
        Self { history, capture, keeping, recalling }
    }
}

impl Dealer {
    /// Goes on with the tray as it was when the service ended.
    pub async fn restore_tray(&self) -> Result<(), StoreError> {
        if let Some(tray) = self.history.store.setting(TRAY).await?.and_then(|value| serde_json::from_str(&value).ok())
        {
            *self.history.tray.lock().await = tray;
        }
        Ok(())
    }

    /// Changes the tray; durable on return.
    async fn change_tray<T>(&self, change: impl FnOnce(&mut Tray) -> Result<T, TrayError>) -> Result<T, TrayActError> {
        let mut tray = self.history.tray.lock().await;
        let mut changed = tray.clone();
        self.prune(&mut changed).await;
        let done = change(&mut changed)?;
        self.history.store.set_setting(TRAY, Some(&crate::history::tray::written(&changed))).await?;
        *tray = changed;
        drop(tray);
        self.history.ledger.part_changed(Part::Tray);
        self.history.ledger.status_changed();
        Ok(done)
    }

    /// Takes out what has left the history.
    async fn prune(&self, tray: &mut Tray) {
        let index = self.history.ledger.read().await;
        tray.prune(|id| index.position(id).is_none());
    }

    /// The tray and what lies in it.
    pub async fn show_tray(&self) -> Result<TrayView, StoreError> {
        let tray = self.history.tray.lock().await.clone();
        let mut items = Vec::with_capacity(tray.items().len());
        let mut next = None;
        for (index, id) in tray.items().iter().enumerate() {
            let position = self.history.ledger.read().await.position(*id);
            let Some(record) = self.history.store.clip(*id).await?.filter(ClipRecord::is_live) else { continue };
            let (place, dealt) = (items.len() as u32 + 1, index < tray.dealt());
            if !dealt && next.is_none() {
                next = Some(place);
            }
            items.push(TrayItem { place, dealt, clip: self.history.listed(&record, position) });
        }
        let next = next.unwrap_or(items.len() as u32 + 1);
        Ok(TrayView { open: tray.open, auto: tray.auto, next, items })
    }

    /// Opens the tray: from now on, copies join it.
    pub async fn open_tray(&self, empty: bool) -> Result<TrayView, TrayActError> {
        self.change_tray(|tray| {
            if empty {
                tray.empty();
            }
            tray.open = true;
            tray.auto = false;
            Ok(())
        })
        .await?;
        Ok(self.show_tray().await?)
    }

    /// Closes the tray: copies do not join it any more. What lies in it stays in the history, and in the tray
    /// unless it is emptied.
    pub async fn close_tray(&self, keep_as: Option<&str>, empty: bool) -> Result<TrayView, TrayActError> {
        if let Some(name) = keep_as {
            let _alone = self.keeping.changing.lock().await;
            let drawer = match self.keeping.find_open_drawer(name).await {
                Ok(known) => known.number,
                Err(DrawerError::NoSuchDrawer(_)) => self.keeping.make_drawer(name).await?,
                Err(error) => return Err(error.into()),
            };
            let mut records: Vec<ClipRecord> = Vec::new();
            for id in self.history.tray.lock().await.items().to_vec() {
                if records.iter().all(|record| record.id != id)
                    && let Some(record) = self.history.store.clip(id).await?.filter(ClipRecord::is_live)
                {
                    records.push(record);
                }
            }
            self.keeping.put_records(drawer, &records, None).await?;
        }
        let empty = empty || keep_as.is_some();
        self.change_tray(|tray| {
            tray.open = false;
            tray.auto = false;
            if empty {
                tray.empty();
            }
            Ok(())
        })
        .await?;
        Ok(self.show_tray().await?)
    }

    /// Adds clips to the tray, at its end, in the order given; the same one as often as it is named.
    pub async fn add_to_tray(&self, names: &[String]) -> Result<TrayView, TrayActError> {
        check_number(names)?;
        let mut ids = Vec::with_capacity(names.len());
        for name in names {
            ids.push(self.history.find_clip(name).await?.0.id);
        }
        self.change_tray(|tray| tray.add(&ids)).await?;
        Ok(self.show_tray().await?)
    }

    /// Moves a clip within the tray, or drops it from there.
    pub async fn arrange_tray(&self, place: u32, at: Option<u32>) -> Result<TrayView, TrayActError> {
        let place = place as usize;
        self.change_tray(|tray| match at {
            Some(at) => tray.move_to(place, at as usize),
            None => tray.drop_at(place).map(drop),
        })
        .await?;
        Ok(self.show_tray().await?)
    }

    /// Takes out what was added last.
    pub async fn undo_in_tray(&self) -> Result<TrayView, TrayActError> {
        self.change_tray(|tray| tray.undo_last().map(drop)).await?;
        Ok(self.show_tray().await?)
    }

    /// Lets all clips of the tray wait again.
    pub async fn restart_tray(&self) -> Result<TrayView, TrayActError> {
        self.change_tray(|tray| {
            tray.restart();
            Ok(())
        })
        .await?;
        Ok(self.show_tray().await?)
    }

    /// Puts the first waiting clip on the clipboard, and moves on; with `auto`, the others follow as they are
    /// pasted.
    pub async fn deal_next(&self, auto: bool) -> Result<Dealt, TrayActError> {
        self.deal(&Recall::default(), |tray| {
            let dealt = tray.deal();
            tray.auto = auto && dealt.is_some();
            dealt
        })
        .await
    }

    /// Pastes the first waiting clip, and moves on.
    pub async fn deal_and_paste(&self) -> Result<Dealt, TrayActError> {
        let pasted = Recall { paste: true, ..Recall::default() };
        let dealt = self.deal(&pasted, |tray| {
            tray.auto = false;
            tray.deal()
        });
        dealt.await
    }

    /// Puts the clip before the last dealt one on the clipboard again.
    pub async fn deal_back(&self) -> Result<Dealt, TrayActError> {
        self.deal(&Recall::default(), Tray::back).await
    }

    /// Passes over the first waiting clip.
    pub async fn skip_in_tray(&self) -> Result<Dealt, TrayActError> {
        self.change_tray(|tray| {
            if tray.items().is_empty() {
                Err(TrayError::Empty)
            } else {
                {
                    let _ = tray.skip();
                    Ok(())
                }
            }
        })
        .await?;
        Ok(Dealt { recalled: None, tray: self.show_tray().await? })
    }

    /// What is chosen is on the clipboard before the tray says that it was dealt; what could not be put there was not.
    async fn deal(
        &self,
        how: &Recall,
        choose: impl FnOnce(&mut Tray) -> Option<ClipId>,
    ) -> Result<Dealt, TrayActError> {
        // The tray is not held meanwhile: a copy that joins it must not wait for the clipboard.
        let mut changed = self.history.tray.lock().await.clone();
        self.prune(&mut changed).await;
        if changed.items().is_empty() {
            return Err(TrayError::Empty.into());
        }
        let recalled = match choose(&mut changed) {
            Some(chosen) => match self.recalling.recall_clips(&[chosen], how).await {
                // It is on the clipboard, and a person pastes it by hand.
                Err(error @ RecallError::Paste(_)) => Err(error),
                dealt => Ok(Some(dealt?)),
            },
            None => Ok(None),
        };
        self.change_tray(|tray| {
            tray.stand_as(&changed);
            Ok(())
        })
        .await?;
        Ok(Dealt { recalled: recalled?, tray: self.show_tray().await? })
    }

    /// Puts all that lies in the tray, or in the drawer that is named, on the clipboard, joined.
    pub async fn pour(&self, drawer: Option<&str>, asked: &Recall) -> Result<Recalled, TrayActError> {
        let clips: Vec<ClipId> = match drawer {
            Some(name) => {
                let drawer = self.keeping.find_open_drawer(name).await?;
                let clips = self.history.store.in_drawer(drawer.number).await?;
                if clips.is_empty() {
                    return Err(DrawerError::Empty(drawer.name).into());
                }
                clips.iter().map(|record| record.id).collect()
            }
            None => self.show_tray().await?.items.into_iter().map(|item| item.clip.record.id).collect(),
        };
        if clips.is_empty() {
            return Err(TrayError::Empty.into());
        }
        let joined = Recall { join: Some(asked.join.clone().unwrap_or_else(|| "\n".into())), ..asked.clone() };
        Ok(self.recalling.recall_clips(&clips, &joined).await?)
    }

    /// Deals the next clip whenever the one before was pasted, as long as that is wanted. Ends when the task is
    /// dropped.
    pub async fn deal_when_pasted(&self) {
        loop {
            self.capture.pasted.notified().await;
            // Only when nobody has asked for a while was it the whole paste.
            while tokio::time::timeout(QUIET, self.capture.pasted.notified()).await.is_ok() {}
            if !self.history.tray.lock().await.auto {
                continue;
            }
            if let Err(error) = self.deal_next(true).await {
                tracing::warn!(%error, "the next clip of the tray could not be dealt");
            }
        }
    }
}
