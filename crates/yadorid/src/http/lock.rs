//! The lock, while it is open.

use super::App;
use super::asked::{InPath, JsonBody};
use super::problem::Problem;
use axum::Json;
use axum::extract::State;
use yadori_api as api;

/// What answers with how it stands.
type Standing = Result<Json<api::Lock>, Problem>;

fn standing(app: &App) -> Json<api::Lock> {
    Json(app.vault.standing())
}

/// Show how the history is protected
///
/// Whether it is encrypted and locked, what opens it, and when it locks itself. It answers while the history is locked, too.
#[utoipa::path(get, path = "/lock", tag = "lock", responses((status = 200, body = api::Lock)))]
pub async fn show_lock(State(app): State<App>) -> Json<api::Lock> {
    standing(&app)
}

/// Lock the history
///
/// The keys and everything that was read leave the memory, the database ends, and links with devices rest. Answers when it is
/// locked. Without a passphrase it cannot be locked, since nobody could unlock it.
#[utoipa::path(post, path = "/lock", tag = "lock", responses((status = 200, body = api::Lock), (status = 409, body = api::Problem)))]
pub async fn lock(State(app): State<App>) -> Standing {
    // The gate answers when it is done: what answers here is held by nobody then.
    app.vault.lock()?;
    Ok(standing(&app))
}

/// Change when the history locks itself
///
/// What is left out stays as it is.
#[utoipa::path(patch, path = "/lock", tag = "lock", request_body = api::LockChange,
    responses((status = 200, body = api::Lock), (status = 409, body = api::Problem)))]
pub async fn change_lock(State(app): State<App>, asked: JsonBody<api::LockChange>) -> Standing {
    app.vault.change_rules(&asked?.0)?;
    Ok(standing(&app))
}

/// Unlock the history
///
/// By the passphrase or the recovery key. Answers when the history can be used. After some wrong ones, each further one has to
/// wait.
#[utoipa::path(post, path = "/lock/open", tag = "lock", request_body = api::Unlock,
    responses((status = 200, body = api::Lock), (status = 403, body = api::Problem), (status = 429, body = api::Problem)))]
pub async fn unlock(State(app): State<App>, asked: JsonBody<api::Unlock>) -> Standing {
    // It is open already: whether the passphrase is right is not told.
    asked?;
    Ok(standing(&app))
}

/// Set a passphrase
///
/// Takes the place of one that was set, which must be given then. A key file is removed: it would open the history without
/// the passphrase.
#[utoipa::path(put, path = "/lock/passphrase", tag = "lock", request_body = api::NewPassphrase,
    responses((status = 200, body = api::Lock), (status = 403, body = api::Problem), (status = 409, body = api::Problem), (status = 422, body = api::Problem), (status = 429, body = api::Problem)))]
pub async fn set_passphrase(State(app): State<App>, asked: JsonBody<api::NewPassphrase>) -> Standing {
    let api::NewPassphrase { passphrase, current } = asked?.0;
    app.vault.set_passphrase(&passphrase, current.as_deref()).await?;
    Ok(standing(&app))
}

/// Make a recovery key
///
/// It opens the history if the passphrase is forgotten. It is told once; one that was made before is of no use any more.
#[utoipa::path(post, path = "/lock/recovery", tag = "lock", request_body = api::CurrentPassphrase,
    responses((status = 200, body = api::RecoveryKey), (status = 403, body = api::Problem), (status = 409, body = api::Problem), (status = 429, body = api::Problem)))]
pub async fn new_recovery_key(
    State(app): State<App>,
    asked: JsonBody<api::CurrentPassphrase>,
) -> Result<Json<api::RecoveryKey>, Problem> {
    let key = app.vault.new_recovery_key(asked?.0.current.as_deref()).await?;
    Ok(Json(api::RecoveryKey { key: key.to_string() }))
}

/// Let something open the history by itself
///
/// `secret-service` or `key-file`: then the history is open whenever the service starts.
#[utoipa::path(post, path = "/lock/protectors/{kind}", tag = "lock", params(("kind" = api::Protector, Path, description = "What is to open it.")),
    request_body = api::CurrentPassphrase,
    responses((status = 200, body = api::Lock), (status = 403, body = api::Problem), (status = 409, body = api::Problem), (status = 429, body = api::Problem), (status = 503, body = api::Problem)))]
pub async fn add_protector(
    State(app): State<App>,
    InPath(kind): InPath<api::Protector>,
    asked: JsonBody<api::CurrentPassphrase>,
) -> Standing {
    app.vault.add(kind, asked?.0.current.as_deref()).await?;
    Ok(standing(&app))
}

/// Remove what opens the history
///
/// The last one stays, and a recovery key alone is not enough. Have everything encrypted with a new key afterwards, if
/// somebody may have a copy of what was removed.
#[utoipa::path(post, path = "/lock/protectors/{kind}/remove", tag = "lock", params(("kind" = api::Protector, Path, description = "What opens it.")),
    request_body = api::CurrentPassphrase,
    responses((status = 200, body = api::Lock), (status = 403, body = api::Problem), (status = 409, body = api::Problem), (status = 429, body = api::Problem)))]
pub async fn remove_protector(
    State(app): State<App>,
    InPath(kind): InPath<api::Protector>,
    asked: JsonBody<api::CurrentPassphrase>,
) -> Standing {
    app.vault.remove(kind, asked?.0.current.as_deref()).await?;
    Ok(standing(&app))
}

/// Encrypt everything with a new key
///
/// The history can be used meanwhile, but for a moment at the beginning and at the end; `encrypting` of `GET /lock` tells how far
/// it is, and each step is announced as a change of the status. If the service ends or is locked before that is done, it is
/// carried on when the history is open again.
#[utoipa::path(post, path = "/lock/rekey", tag = "lock",
    responses((status = 202, body = api::Lock), (status = 409, body = api::Problem), (status = 507, body = api::Problem)))]
pub async fn rekey(State(app): State<App>) -> Result<(axum::http::StatusCode, Json<api::Lock>), Problem> {
    app.vault.rekey()?;
    Ok((axum::http::StatusCode::ACCEPTED, standing(&app)))
}
