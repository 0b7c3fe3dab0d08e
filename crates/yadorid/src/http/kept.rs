//! Pins, attributes, aliases and drawers over HTTP.

use super::App;
use super::asked::{InPath, JsonBody};
use super::clips::detail;
use super::conditional::{Tagged, as_seen};
use super::contract::mark_of;
use super::problem::{Problem, QueryParams, answer};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use yadori_api as api;
use yadori_engine::history::listing::Listed;
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::drawers::{NewHeading, SortBy};

/// Clips, or the problem with them.
pub(super) async fn clips<E>(app: &App, outcome: Result<Vec<Listed>, E>) -> Result<Json<api::Clips>, Problem>
where
    Problem: From<E>,
{
    answer(app, outcome).await.map(|clips| Json(api::Clips { clips: clips.0 }))
}

/// List the pinned clips
///
/// In their order: the first is `p1`.
#[utoipa::path(get, path = "/pins", tag = "kept", responses((status = 200, body = api::Clips)))]
pub async fn pins(State(app): State<App>) -> Result<Json<api::Clips>, Problem> {
    clips(&app, app.engine.keeping.pins().await).await
}

/// Pin clips
///
/// At the end, or at a place (`at`). Clips that are pinned already are moved there.
#[utoipa::path(post, path = "/pins", tag = "kept", request_body = api::Pin,
    responses((status = 200, body = api::Clips), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn pin(State(app): State<App>, asked: JsonBody<api::Pin>) -> Result<Json<api::Clips>, Problem> {
    let api::Pin { clips: names, at } = asked?.0;
    clips(&app, app.engine.keeping.pin(&names, at).await).await
}

/// Unpin clips
///
/// They stay in the history.
#[utoipa::path(post, path = "/pins/remove", tag = "kept", request_body = api::Named,
    responses((status = 200, body = api::Clips), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn unpin(State(app): State<App>, asked: JsonBody<api::Named>) -> Result<Json<api::Clips>, Problem> {
    clips(&app, app.engine.keeping.unpin(&asked?.0.clips).await).await
}

/// Change a clip's attributes
///
/// Its title, mark, alias, and whether its placeholders are filled in. Attributes that are left out stay as they are;
/// an empty title or alias removes it. Takes `If-Match`.
#[utoipa::path(patch, path = "/clips/{name}", tag = "clips", params(("name" = String, Path, description = "A clip's name.")),
    request_body = api::Attributes,
    responses((status = 200, body = api::Clip), (status = 400, body = api::Problem), (status = 404, body = api::Problem),
        (status = 409, body = api::Problem, description = "Several clips are meant, or another clip has the alias.")))]
pub async fn change_clip(
    State(app): State<App>,
    InPath(name): InPath<String>,
    headers: HeaderMap,
    asked: JsonBody<api::Attributes>,
) -> Result<Tagged<api::Clip>, Problem> {
    let api::Attributes { title, mark, alias, take_alias, fills, secret } = asked?.0;
    let mark = mark.map(|mark| mark.colour().map(mark_of));
    let change = ClipChange { title, mark, alias, take_alias, fills, secret };
    let _alone = as_seen(&app, &headers, detail(&app, &name)).await?;
    answer(&app, app.engine.keeping.change_attributes(&name, &change).await).await.map(|Json(clip)| Tagged(clip))
}

/// List the clips that have an alias
///
/// In the order of their aliases. An alias names a clip wherever a name is wanted: `:sig`.
#[utoipa::path(get, path = "/aliases", tag = "kept", responses((status = 200, body = api::Clips)))]
pub async fn aliases(State(app): State<App>) -> Result<Json<api::Clips>, Problem> {
    clips(&app, app.engine.keeping.aliases().await).await
}

/// List the drawers
///
/// In their order, with how many clips lie in each.
#[utoipa::path(get, path = "/drawers", tag = "kept", responses((status = 200, body = Vec<api::Drawer>)))]
pub async fn drawers(State(app): State<App>) -> Result<Json<Vec<api::Drawer>>, Problem> {
    answer(&app, app.engine.keeping.drawers().await).await
}

/// Make a drawer
///
/// It comes after the others. With a passphrase it is private, and open. Takes an `Idempotency-Key`.
#[utoipa::path(post, path = "/drawers", tag = "kept", request_body = api::NewDrawer,
    responses((status = 201, body = api::Drawer), (status = 400, body = api::Problem), (status = 422, body = api::Problem), (status = 409, body = api::Problem, description = "There is one with this name.")))]
pub async fn new_drawer(State(app): State<App>, asked: JsonBody<api::NewDrawer>) -> Result<Response, Problem> {
    let api::NewDrawer { name, passphrase } = asked?.0;
    let drawer = match passphrase {
        Some(passphrase) => answer(&app, app.engine.private_drawers.new_drawer(&name, &passphrase).await).await?,
        None => answer(&app, app.engine.keeping.new_drawer(&name).await).await?,
    };
    let place = format!("{}/drawers/{}", api::BASE, utf8_percent_encode(&drawer.name, NON_ALPHANUMERIC));
    Ok((StatusCode::CREATED, [(header::LOCATION, place)], drawer).into_response())
}

/// Show a drawer
///
/// What lies in it: clips and headings, in their order.
#[utoipa::path(get, path = "/drawers/{drawer}", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    responses((status = 200, body = api::DrawerContents), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn show_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    Ok(Tagged(contents(&app, &name).await?).unless_known(&headers))
}

/// A drawer and what lies in it now.
async fn contents(app: &App, name: &str) -> Result<api::DrawerContents, Problem> {
    answer(app, app.engine.keeping.drawer(name).await).await.map(|Json(contents)| contents)
}

/// Rename or move a drawer
///
/// Gives it another name, or another place among the drawers. Takes `If-Match`.
#[utoipa::path(patch, path = "/drawers/{drawer}", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    request_body = api::DrawerChange,
    responses((status = 200, body = api::Drawer), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn change_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    headers: HeaderMap,
    asked: JsonBody<api::DrawerChange>,
) -> Result<Json<api::Drawer>, Problem> {
    let api::DrawerChange { name: new_name, at } = asked?.0;
    let _alone = as_seen(&app, &headers, contents(&app, &name)).await?;
    answer(&app, app.engine.keeping.change_drawer(&name, new_name.as_deref(), at).await).await
}

/// Remove a drawer
///
/// Its clips go into another one (`into`), or are only in the history again. A private one must be open for that, or goes with its
/// clips (`for_good`). Takes `If-Match`.
#[utoipa::path(delete, path = "/drawers/{drawer}", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name."), api::RemoveDrawer),
    responses((status = 200, body = api::Drawer), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn remove_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: QueryParams<api::RemoveDrawer>,
    headers: HeaderMap,
) -> Result<Json<api::Drawer>, Problem> {
    let api::RemoveDrawer { into, for_good } = asked?.0;
    if for_good {
        if into.is_some() {
            return Err(Problem::erased_into());
        }
        return answer(&app, app.engine.private_drawers.erase(&name).await).await;
    }
    let _alone = as_seen(&app, &headers, contents(&app, &name)).await?;
    answer(&app, app.engine.keeping.remove_drawer(&name, into.as_deref()).await).await
}

/// Put clips into a drawer
///
/// At its end, or at a place. A clip lies in one drawer at most: it leaves the one that it was in.
#[utoipa::path(post, path = "/drawers/{drawer}/put", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    request_body = api::Put, responses((status = 200, body = api::Clips), (status = 404, body = api::Problem), (status = 409, body = api::Problem),
        (status = 502, body = api::Problem, description = "It is private, and some of the content is on another device.")))]
pub async fn put_into_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: JsonBody<api::Put>,
) -> Result<Json<api::Clips>, Problem> {
    let api::Put { clips: names, at } = asked?.0;
    clips(&app, app.engine.keeping.put_into_drawer(&name, &names, at).await).await
}

/// Take clips out of their drawers
///
/// Whatever drawers they lie in. They stay in the history.
#[utoipa::path(post, path = "/drawers-take", tag = "kept", request_body = api::Named,
    responses((status = 200, body = api::Clips), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn take_from_drawers(
    State(app): State<App>,
    asked: JsonBody<api::Named>,
) -> Result<Json<api::Clips>, Problem> {
    clips(&app, app.engine.keeping.take_from_drawers(&asked?.0.clips).await).await
}

/// Move a clip or a heading within a drawer
///
/// From one place to another; those between move up. Takes `If-Match`.
#[utoipa::path(post, path = "/drawers/{drawer}/move", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    request_body = api::MoveItem, responses((status = 200, body = api::DrawerContents), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn move_in_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    headers: HeaderMap,
    asked: JsonBody<api::MoveItem>,
) -> Result<Tagged<api::DrawerContents>, Problem> {
    let api::MoveItem { place, at } = asked?.0;
    let _alone = as_seen(&app, &headers, contents(&app, &name)).await?;
    answer(&app, app.engine.keeping.move_in_drawer(&name, place, at).await).await.map(|Json(contents)| Tagged(contents))
}

/// Add, change or remove a heading
///
/// A heading stands before a place of the drawer. `instead_of` names the one that is changed; with empty words it is removed.
/// Takes an `Idempotency-Key` and `If-Match`.
#[utoipa::path(post, path = "/drawers/{drawer}/headings", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    request_body = api::NewHeading, responses((status = 200, body = api::DrawerContents), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn head_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    headers: HeaderMap,
    asked: JsonBody<api::NewHeading>,
) -> Result<Tagged<api::DrawerContents>, Problem> {
    let api::NewHeading { words, at, instead_of } = asked?.0;
    let _alone = as_seen(&app, &headers, contents(&app, &name)).await?;
    answer(&app, app.engine.keeping.head_drawer(&name, &NewHeading { words, at, instead_of }).await)
        .await
        .map(|Json(contents)| Tagged(contents))
}

/// Sort a drawer
///
/// By name, age or use. Each clip stays under its heading. Takes `If-Match`.
#[utoipa::path(post, path = "/drawers/{drawer}/sort", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    request_body = api::Sort, responses((status = 200, body = api::DrawerContents), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn sort_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    headers: HeaderMap,
    asked: JsonBody<api::Sort>,
) -> Result<Tagged<api::DrawerContents>, Problem> {
    let by = match asked?.0.by {
        api::SortBy::Name => SortBy::Name,
        api::SortBy::Age => SortBy::Age,
        api::SortBy::Use => SortBy::Use,
    };
    let _alone = as_seen(&app, &headers, contents(&app, &name)).await?;
    answer(&app, app.engine.keeping.sort_drawer(&name, by).await).await.map(|Json(contents)| Tagged(contents))
}
