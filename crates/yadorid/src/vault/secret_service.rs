//! The secret that the desktop session keeps: the Secret Service of freedesktop.org, over D-Bus.
//!
//! Nothing is asked of the person here: a collection that is locked counts as not there. Desktops unlock it at log-in.

use oo7::dbus::{Collection, Service};
use std::time::Duration;
use yadori_vault::Secret;

/// How long the secret service may take.
const PATIENCE: Duration = Duration::from_secs(3);

/// What the secret is called for a person who looks at what is kept there.
const LABEL: &str = "Yadori: the key of the clipboard history";

fn attributes(home: &str) -> [(&'static str, String); 2] {
    [("application", "yadori".into()), ("home", home.into())]
}

async fn in_time<T>(asked: impl Future<Output = Result<T, String>>) -> Result<T, String> {
    tokio::time::timeout(PATIENCE, asked).await.unwrap_or_else(|_| Err("it does not answer".into()))
}

fn said(error: impl std::fmt::Display) -> String {
    error.to_string()
}

/// The collection that things are kept in by default, if it is unlocked.
async fn collection(service: &Service) -> Result<Collection, String> {
    let collection = service.with_alias("default").await.map_err(said)?.ok_or("it has no default collection")?;
    if collection.is_locked().await.map_err(said)? {
        return Err("it is locked".into());
    }
    Ok(collection)
}

/// Without a session there is none, and nobody is to be started for asking.
fn has_session() -> Result<(), String> {
    let named = std::env::var_os("DBUS_SESSION_BUS_ADDRESS").is_some_and(|address| !address.is_empty());
    let usual =
        std::env::var_os("XDG_RUNTIME_DIR").is_some_and(|folder| std::path::Path::new(&folder).join("bus").exists());
    if named || usual { Ok(()) } else { Err("there is no desktop session".into()) }
}

/// The secret that is kept for this home.
pub(super) async fn get(home: &str) -> Result<Secret, String> {
    has_session()?;
    in_time(async {
        let service = Service::new().await.map_err(said)?;
        let items = collection(&service).await?.search_items(&attributes(home)).await.map_err(said)?;
        let item = items.first().ok_or("it keeps no key for this history")?;
        let secret = item.secret().await.map_err(said)?;
        let mut bytes: [u8; 32] = secret.as_bytes().try_into().map_err(|_| "what it keeps is no key")?;
        Ok(Secret::take(&mut bytes))
    })
    .await
}

/// Whether one runs. Asking one that does not would start it.
async fn runs() -> Result<(), String> {
    let asked = async {
        let session = zbus::Connection::session().await.map_err(said)?;
        let bus = zbus::fdo::DBusProxy::new(&session).await.map_err(said)?;
        let name = "org.freedesktop.secrets".try_into().map_err(said)?;
        bus.name_has_owner(name).await.map_err(said)
    };
    if in_time(asked).await? { Ok(()) } else { Err("none runs in this desktop session".into()) }
}

/// The same as [`set`] if a secret service runs already.
pub(super) async fn set_if_it_runs(home: &str) -> Result<Secret, String> {
    has_session()?;
    runs().await?;
    set(home).await
}

/// Has a new secret kept for this home, and reads it back.
pub(super) async fn set(home: &str) -> Result<Secret, String> {
    has_session()?;
    let secret = Secret::random().map_err(said)?;
    in_time(async {
        let service = Service::new().await.map_err(said)?;
        let collection = collection(&service).await?;
        let blob = oo7::Secret::blob(secret.bytes());
        collection.create_item(LABEL, &attributes(home), blob, true, None).await.map_err(said)?;
        Ok(())
    })
    .await?;
    let kept = get(home).await?;
    if kept.bytes() == secret.bytes() { Ok(secret) } else { Err("it keeps something else".into()) }
}

/// Has the secret for this home removed.
pub(super) async fn remove(home: &str) {
    let removed = in_time(async {
        let service = Service::new().await.map_err(said)?;
        for item in collection(&service).await?.search_items(&attributes(home)).await.map_err(said)? {
            item.delete(None).await.map_err(said)?;
        }
        Ok(())
    });
    if let Err(reason) = removed.await {
        tracing::warn!(%reason, "the secret service still keeps a key");
    }
}
