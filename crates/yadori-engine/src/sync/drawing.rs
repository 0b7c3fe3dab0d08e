//! Small pictures of the pictures that other devices send, and whether these are what their ids say.
//!
//! To decode a picture takes longer than anything else that is done with it. So it waits until the contents that were asked for have
//! come, though not for long, and goes on with one picture at a time.

use crate::sync::DeviceSync;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;
use yadori_core::{ClipId, Kind};
use yadori_store::StoreError;

/// How long a picture waits for the contents that come after it.
const PATIENCE: Duration = Duration::from_secs(5);

impl DeviceSync {
    /// Makes the small pictures of clips whose content has come. They are not told on.
    pub(super) fn draw(self: &Arc<Self>, pictures: Vec<u64>) {
        let until = Instant::now() + PATIENCE;
        for number in pictures {
            let service = self.clone();
            self.background.tasks.spawn(async move {
                let _turn = service.drawing.lock().await;
                service.wait_for_contents(until).await;
                if let Err(error) = service.draw_thumbnail(number).await {
                    tracing::debug!(%error, "no small picture could be made of what another device sent");
                }
            });
        }
    }

    /// Waits until no other device is asked for content any more.
    async fn wait_for_contents(&self, until: Instant) {
        let mut fetched = self.links.fetches();
        let none_is_asked = async {
            loop {
                fetched.mark_unchanged();
                if !self.links.fetching.lock().is_anybody_asked() || fetched.changed().await.is_err() {
                    return;
                }
            }
        };
        tokio::select! {
            () = none_is_asked => {}
            () = tokio::time::sleep_until(until) => {}
            () = self.background.ending.cancelled() => {}
        }
    }

    /// Makes the small picture of a clip whose content has come from elsewhere.
    async fn draw_thumbnail(&self, number: u64) -> Result<(), StoreError> {
        let Some((raster, decoded)) = self.history.decode_picture(number).await? else { return Ok(()) };
        // It came from another device: only now is it known whether it is the picture that its id says. What cannot be
        // decoded, or moves, is known by its bytes.
        let Some(record) = self.history.store.clips(&[number]).await?.pop() else { return Ok(()) };
        let canonical =
            decoded.as_ref().ok().and_then(|decoded| decoded.picture.as_ref()).map(|picture| picture.canonical);
        let is_it = |bytes: &[u8]| ClipId::of(Kind::Image, bytes) == record.id;
        if !canonical.is_some_and(|canonical| is_it(&canonical)) && !is_it(&raster.data) {
            tracing::warn!(clip = %record.id, "another device sent a picture that is not the one it told of");
            self.history.ledger.changed(self.history.store.drop_false_content(number).await?);
            return Ok(());
        }
        if let Ok(decoded) = decoded {
            self.history.keep_thumbnail(number, decoded).await?;
        }
        Ok(())
    }
}
