//! The programs' side of the simulated clipboard. It is there only when the service was started with it.

use super::App;
use super::asked::JsonBody;
use super::problem::Problem;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use yadori_api as api;
use yadori_core::{Format, Source, format};
use yadori_desktop::simulated::{ProgramCopy, Simulated};

fn programs(app: &App) -> Option<&Simulated> {
    app.simulated.as_ref()
}

/// Copy something, as a program would
///
/// On the simulated clipboard, which is there for tests only: `yadorid --clipboard simulated`.
#[utoipa::path(post, path = "/simulated/copy", tag = "simulated", request_body = api::SimulatedCopy,
    responses((status = 204, description = "It is on the clipboard."), (status = 404, body = api::Problem, description = "The clipboard is a real one.")))]
pub async fn copy(State(app): State<App>, asked: JsonBody<api::SimulatedCopy>) -> Result<StatusCode, Problem> {
    let api::SimulatedCopy { formats, source, secret, silent } = asked?.0;
    let formats =
        formats.into_iter().map(|given| Format::new(format::canonical_mime(&given.mime), given.text)).collect();
    let source =
        Source { application: source.application, window: source.window, page: source.page, selected: source.selected };
    programs(&app).ok_or_else(Problem::not_simulated)?.copy(ProgramCopy { formats, source, secret, silent }).await;
    Ok(StatusCode::NO_CONTENT)
}

/// End the program that owns the clipboard
///
/// On the simulated clipboard, for tests only.
#[utoipa::path(post, path = "/simulated/exit", tag = "simulated",
    responses((status = 204, description = "It has exited."), (status = 404, body = api::Problem, description = "The clipboard is a real one.")))]
pub async fn exit(State(app): State<App>) -> Result<StatusCode, Problem> {
    programs(&app).ok_or_else(Problem::not_simulated)?.owner_exits();
    Ok(StatusCode::NO_CONTENT)
}

/// Paste, as a program would
///
/// From the simulated clipboard, for tests only.
#[utoipa::path(get, path = "/simulated/paste", tag = "simulated", params(api::ContentQuery),
    responses((status = 200, description = "The bytes.", content_type = "*/*"), (status = 404, body = api::Problem, description = "No such format, or the clipboard is a real one.")))]
pub async fn paste(
    State(app): State<App>,
    asked: Result<Query<api::ContentQuery>, QueryRejection>,
) -> Result<Response, Problem> {
    let mime = asked?.0.format.map_or(format::PLAIN.into(), |mime| format::canonical_mime(&mime));
    let data = programs(&app)
        .ok_or_else(Problem::not_simulated)?
        .paste(&mime)
        .ok_or_else(|| Problem::no_such_format(&mime))?;
    Ok(([(header::CONTENT_TYPE, mime)], data).into_response())
}
