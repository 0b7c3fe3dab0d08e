//! Export and import over HTTP.

use super::App;
use super::contract::Contract;
use super::problem::{Problem, QueryParams};
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use futures_util::StreamExt;
use std::io::Write;
use tokio_stream::wrappers::ReceiverStream;
use yadori_api as api;
use yadori_engine::moving::export::{Form, Selection};
use yadori_engine::moving::import::Progress;

/// Export clips
///
/// All of them, or a selection: `clips`, `drawer` or `q`. A zip holds everything and can be imported again; text, HTML and
/// CSV are for reading. What looks like a secret is left out.
#[utoipa::path(get, path = "/export", tag = "moving", params(api::ExportQuery),
    responses((status = 200, description = "The export, as it is made.", content_type = "*/*"), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn export(State(app): State<App>, asked: QueryParams<api::ExportQuery>) -> Result<Response, Problem> {
    let asked = asked?.0;
    let selection = match (asked.clips, asked.drawer, asked.q) {
        (Some(names), _, _) => Selection::Named(names.split(',').map(str::to_owned).collect()),
        (None, Some(drawer), _) => Selection::Drawer(drawer),
        (None, None, Some(query)) => Selection::Found(query),
        (None, None, None) => Selection::All,
    };
    let form = match asked.form {
        api::ExportForm::Zip => Form::Zip,
        api::ExportForm::Text => Form::Text,
        api::ExportForm::Html => Form::Html,
        api::ExportForm::Csv => Form::Csv,
    };
    let export = match app.engine.moving.export(&selection, form).await {
        Ok(export) => export,
        Err(error) => return Err(Problem::from(error).with_candidates(&app).await),
    };
    let (mime, name) = match form {
        Form::Zip => ("application/zip", "yadori.zip"),
        Form::Text => ("text/plain; charset=utf-8", "yadori.txt"),
        Form::Html => ("text/html; charset=utf-8", "yadori.html"),
        Form::Csv => ("text/csv; charset=utf-8", "yadori.csv"),
    };
    let mut response = Body::from_stream(ReceiverStream::new(export.pieces)).into_response();
    let set = response.headers_mut();
    set.insert(header::CONTENT_TYPE, HeaderValue::from_static(mime));
    if let Ok(value) = HeaderValue::from_str(&format!("attachment; filename=\"{name}\"")) {
        set.insert(header::CONTENT_DISPOSITION, value);
    }
    set.insert("x-yadori-clips", export.clips.into());
    set.insert("x-yadori-left-out", export.left_out.into());
    Ok(response)
}

/// Import an archive
///
/// A zip that was exported here or elsewhere. What is here already stays as it is, so nothing is imported twice. The answer
/// is lines of JSON: how far it is, and in the last line what was done. What is no archive at all is refused with 422.
#[utoipa::path(post, path = "/import", tag = "moving", request_body(content = Vec<u8>, description = "The archive.", content_type = "application/zip"),
    responses((status = 200, body = api::ImportProgress, description = "One such object on each line.", content_type = "application/x-ndjson"), (status = 422, body = api::Problem), (status = 507, body = api::Problem)))]
pub async fn import(State(app): State<App>, body: Body) -> Result<Response, Problem> {
    // A zip is read from its end, so it must be here as a whole; the file has no name, and goes when it is closed.
    let mut file = app.engine.moving.incoming_file().map_err(|error| Problem::no_room(&error))?;
    let mut body = body.into_data_stream();
    while let Some(piece) = body.next().await {
        let piece = piece.map_err(|_| Problem::broken_body())?;
        file.write_all(&piece).map_err(|error| Problem::no_room(&error))?;
    }
    let mut progress = app.engine.moving.import(file);
    // The status says whether it is an archive at all; what is wrong later stands in the last line.
    let first = match progress.recv().await {
        Some(Progress { read: 0, error: Some(error), .. }) => return Err(error.into()),
        first => tokio_stream::iter(first),
    };
    let rules = app.engine.rule_book.rules();
    let lines = first.chain(ReceiverStream::new(progress)).map(move |progress| {
        let mut line = serde_json::to_vec(&progress.contract(&rules)).map_err(std::io::Error::other)?;
        line.push(b'\n');
        Ok::<_, std::io::Error>(line)
    });
    let mut response = Body::from_stream(lines).into_response();
    response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/x-ndjson"));
    Ok(response)
}
