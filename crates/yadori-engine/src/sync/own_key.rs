//! Where the key of this device is kept: among the records where they are encrypted, in a file of its own elsewhere.

use crate::links::LinkError;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use yadori_link::identity::Identity;
use yadori_store::{Store, StoreError};

/// The setting that holds it.
const SETTING: &str = "device-key";

/// Keeps the key of this device.
pub(super) struct OwnKey {
    path: PathBuf,
    /// Whether it is kept among the records.
    in_records: bool,
}

impl OwnKey {
    /// With `in_records` it is kept among the records; a file of an earlier version is taken over. Else it is in `folder`.
    pub fn new(folder: &Path, in_records: bool) -> Self {
        Self { path: folder.join("device.pem"), in_records }
    }

    fn refused(&self, source: std::io::Error) -> LinkError {
        LinkError::Key { path: self.path.display().to_string(), source }
    }

    fn in_file(&self) -> Result<Option<Identity>, LinkError> {
        match std::fs::read_to_string(&self.path) {
            Ok(pem) => Ok(Some(Identity::from_pem(&pem)?)),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.refused(error)),
        }
    }

    /// The key, if there is one.
    pub async fn stored(&self, store: &Store) -> Result<Option<Identity>, LinkError> {
        if !self.in_records {
            return self.in_file();
        }
        if let Some(identity) = self.in_file()? {
            store.set_setting(SETTING, Some(&identity.to_pem())).await?;
            yadori_files::wipe(&self.path).map_err(|error| self.refused(error))?;
        }
        Ok(store.setting(SETTING).await?.map(|pem| Identity::from_pem(&pem)).transpose()?)
    }

    /// Makes one.
    pub async fn make(&self, store: &Store) -> Result<Identity, LinkError> {
        let identity = Identity::new()?;
        if self.in_records {
            store.set_setting(SETTING, Some(&identity.to_pem())).await?;
        } else {
            yadori_files::write_private(&self.path, identity.to_pem().as_bytes())
                .map_err(|error| self.refused(error))?;
        }
        Ok(identity)
    }

    /// It is of no use any more.
    pub async fn give_up(&self, store: &Store) -> Result<(), StoreError> {
        if self.in_records {
            return store.set_setting(SETTING, None).await;
        }
        if let Err(error) = yadori_files::wipe(&self.path)
            && error.kind() != ErrorKind::NotFound
        {
            tracing::warn!(%error, "the key that was given up could not be removed");
        }
        Ok(())
    }
}
