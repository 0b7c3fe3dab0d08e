//! The rules, and the figures, over HTTP.

use super::App;
use super::asked::JsonBody;
use super::conditional::{Tagged, as_seen};
use super::contract::{self, Contract};
use super::problem::{Problem, QueryParams, answer};
use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Response;
use yadori_api as api;
use yadori_core::rules::Rules;

/// Show the rules
///
/// What is captured, and how long it stays; as values, and as sentences.
#[utoipa::path(get, path = "/rules", tag = "rules", responses((status = 200, body = api::Rules)))]
pub async fn show_rules(State(app): State<App>, headers: HeaderMap) -> Response {
    Tagged(now(&app)).unless_known(&headers)
}

/// The rules that are in force.
fn now(app: &App) -> api::Rules {
    contract::rules::shown(app.engine.rule_book.rules().rules())
}

/// Change rules
///
/// Rules that are left out stay as they are. A change by which more than half of the history would go is refused, unless it
/// is `confirmed`. Takes `If-Match`.
#[utoipa::path(patch, path = "/rules", tag = "rules", request_body = api::RulesChange,
    responses((status = 200, body = api::Rules), (status = 400, body = api::Problem),
        (status = 409, body = api::Problem, description = "More than half of the history would go; send `confirmed`.")))]
pub async fn change_rules(
    State(app): State<App>,
    headers: HeaderMap,
    asked: JsonBody<api::RulesChange>,
) -> Result<Tagged<api::Rules>, Problem> {
    let asked = asked?.0;
    let _alone = as_seen(&app, &headers, async { Ok(now(&app)) }).await?;
    let change = |rules: &mut Rules| contract::rules::change(rules, &asked);
    answer(&app, app.engine.rule_book.change_rules(&change, asked.confirmed).await)
        .await
        .map(|Json(rules)| Tagged(rules))
}

/// Preview a change of the rules
///
/// What it would remove, without changing anything.
#[utoipa::path(post, path = "/rules/preview", tag = "rules", request_body = api::RulesChange,
    responses((status = 200, body = api::SweepPreview), (status = 400, body = api::Problem)))]
pub async fn preview_rules(
    State(app): State<App>,
    asked: JsonBody<api::RulesChange>,
) -> Result<Json<api::SweepPreview>, Problem> {
    let asked = asked?.0;
    let change = |rules: &mut Rules| contract::rules::change(rules, &asked);
    answer(&app, app.engine.rule_book.preview_rules(&change).await).await
}

/// Try a text against the rules
///
/// Whether a copy of it would be kept, as what, and why not.
#[utoipa::path(post, path = "/rules/test", tag = "rules", request_body = api::RulesTest,
    responses((status = 200, body = api::RulesVerdict)))]
pub async fn test_rules(
    State(app): State<App>,
    asked: JsonBody<api::RulesTest>,
) -> Result<Json<api::RulesVerdict>, Problem> {
    let api::RulesTest { text, application } = asked?.0;
    Ok(Json(app.engine.rule_book.test_rules(text, application).contract(&app.engine.rule_book.rules())))
}

/// Reset the rules
///
/// Puts all of them back to their defaults.
#[utoipa::path(post, path = "/rules/reset", tag = "rules", request_body = api::ResetRules,
    responses((status = 200, body = api::Rules), (status = 409, body = api::Problem)))]
pub async fn reset_rules(
    State(app): State<App>,
    asked: JsonBody<api::ResetRules>,
) -> Result<Json<api::Rules>, Problem> {
    answer(&app, app.engine.rule_book.reset_rules(asked?.0.confirmed).await).await
}

/// Sweep now
///
/// Removes what the rules say is too old or too much, also when that was held for a confirmation.
#[utoipa::path(post, path = "/sweep", tag = "rules", responses((status = 200, body = api::Swept)))]
pub async fn sweep_now(State(app): State<App>) -> Result<Json<api::Swept>, Problem> {
    Ok(Json(api::Swept { count: app.engine.retention.sweep_now().await? }))
}

/// Show figures
///
/// What is kept, how it grows, what is reused, and what that has spared.
#[utoipa::path(get, path = "/stats", tag = "service", params(api::StatsQuery),
    responses((status = 200, body = api::Stats), (status = 400, body = api::Problem)))]
pub async fn stats(State(app): State<App>, asked: QueryParams<api::StatsQuery>) -> Result<Json<api::Stats>, Problem> {
    answer(&app, app.engine.overview.stats(asked?.0.days).await).await
}
