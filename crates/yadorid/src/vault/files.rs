//! The key file and the keyring on the disk.

use std::fs;
use std::io::ErrorKind;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use thiserror::Error;
use yadori_files::Places;
use yadori_vault::{Keyring, KeyringError, OpenKeyringError, Secret};

/// Why the files of the keys cannot be used.
#[derive(Debug, Error)]
pub enum VaultError {
    /// A file cannot be read or written.
    #[error("{path} cannot be used: {source}")]
    File {
        /// The file.
        path: String,
        /// Why.
        source: std::io::Error,
    },
    /// The keyring is not one.
    #[error("{path}: {source}")]
    Broken {
        /// The file.
        path: String,
        /// Why.
        source: KeyringError,
    },
    /// The keyring does not open.
    #[error("{path} does not open: {source}")]
    Keyring {
        /// The file.
        path: String,
        /// Why.
        source: OpenKeyringError,
    },
    /// What is kept is encrypted, and the keyring is gone.
    #[error(
        "the history in {folder} is encrypted, but {path} with its keys is gone; bring it back from a copy (without it nobody can read the history)"
    )]
    Lost {
        /// The folder.
        folder: String,
        /// The file.
        path: String,
    },
    /// Others could have read it.
    #[error("{path} can be read by others (its mode is {mode:o}); make it yours alone with: chmod 600 {path}")]
    Open {
        /// The file.
        path: String,
        /// Its mode.
        mode: u32,
    },
    /// No randomness.
    #[error("the system gives no random numbers: {0}")]
    Randomness(#[from] getrandom::Error),
    /// The keyring refuses.
    #[error(transparent)]
    Refused(#[from] OpenKeyringError),
}

fn refused(path: &Path) -> impl Fn(std::io::Error) -> VaultError {
    let path = path.display().to_string();
    move |source| VaultError::File { path: path.clone(), source }
}

/// The keyring, if there is one.
pub(super) fn read(places: &Places) -> Result<Option<Keyring>, VaultError> {
    let path = places.keyring();
    let text = match fs::read(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(refused(&path)(error)),
    };
    let broken = |source| VaultError::Broken { path: path.display().to_string(), source };
    Keyring::from_json(&text).map(Some).map_err(broken)
}

/// Writes the keyring, whole or not at all.
pub(super) fn write(places: &Places, keyring: &mut Keyring, current: &Secret) -> Result<(), VaultError> {
    let path = places.keyring();
    yadori_files::write_private(&path, &keyring.to_json(current)).map_err(refused(&path))
}

/// A new keyring would be of no use for what is encrypted with the keys of another.
pub(super) fn check_that_nothing_is_encrypted(places: &Places) -> Result<(), VaultError> {
    let folder = places.data.join("database");
    match yadori_database::key_id(&folder).map_err(refused(&folder))? {
        Some(_) if yadori_database::exists(&folder) => {
            Err(VaultError::Lost { folder: folder.display().to_string(), path: places.keyring().display().to_string() })
        }
        _ => Ok(()),
    }
}

/// Makes a key file. Gives its secret.
pub(super) fn new_key_file(places: &Places) -> Result<Secret, VaultError> {
    let (path, secret) = (places.key_file(), Secret::random()?);
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(refused(folder))?;
    }
    let text = zeroize::Zeroizing::new(format!("{}\n", data_encoding::HEXLOWER.encode(secret.bytes())));
    yadori_files::write_private(&path, text.as_bytes()).map_err(refused(&path))?;
    Ok(secret)
}

/// The secret of the key file.
pub(super) fn read_key_file(places: &Places) -> Result<Secret, VaultError> {
    let path = places.key_file();
    let text = zeroize::Zeroizing::new(fs::read_to_string(&path).map_err(refused(&path))?);
    let mode = fs::metadata(&path).map_err(refused(&path))?.permissions().mode() & 0o777;
    if mode & 0o077 != 0 {
        return Err(VaultError::Open { path: path.display().to_string(), mode });
    }
    let bytes = data_encoding::HEXLOWER_PERMISSIVE.decode(text.trim().as_bytes()).ok();
    let mut bytes: [u8; 32] = bytes
        .and_then(|bytes| bytes.try_into().ok())
        .ok_or_else(|| refused(&path)(std::io::Error::new(ErrorKind::InvalidData, "it is damaged")))?;
    Ok(Secret::take(&mut bytes))
}

/// The key file goes: it is written over first.
pub(super) fn remove_key_file(places: &Places) {
    let path = places.key_file();
    if let Err(error) = yadori_files::wipe(&path)
        && error.kind() != ErrorKind::NotFound
    {
        tracing::warn!(%error, path = %path.display(), "the key file could not be removed");
    }
}
