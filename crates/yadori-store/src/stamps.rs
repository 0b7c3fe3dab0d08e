//! Where the records hold stamps, said once: whoever looks for the latest of them, or for those that lie in the future, looks
//! at all. The tests compare this with the schema.
//!
//! Looking at all clips takes seconds when there are a million. So it is noted from time to time which is the latest up to a
//! change; a clip whose stamps change afterwards has a later one in the change feed.

use crate::columns::STAMPS_OF_CLIPS;
use crate::settings;
use sqlx::mysql::MySqlConnection;
use sqlx::{AssertSqlSafe, query, query_scalar};

/// The tables and columns elsewhere that do.
pub const STAMPS_ELSEWHERE: [(&str, &str); 6] = [
    ("drawers", "changed"),
    ("headings", "changed"),
    ("devices", "name_stamp"),
    ("devices", "addresses_stamp"),
    ("devices", "linked_stamp"),
    ("steps", "stamp"),
];

/// The setting with what is known: a change, and the latest stamp of the clips that have not changed since.
const KNOWN: &str = "latest_stamp";

/// What is known before anything is.
const NOTHING: &str = "0 0";

fn joined(parts: impl IntoIterator<Item = String>, between: &str) -> String {
    parts.into_iter().collect::<Vec<_>>().join(between)
}

async fn known(connection: &mut MySqlConnection) -> Result<Option<String>, sqlx::Error> {
    query_scalar("SELECT value FROM settings WHERE name = ?").bind(KNOWN).fetch_optional(connection).await
}

/// The latest stamp on record.
pub(crate) async fn latest(connection: &mut MySqlConnection) -> Result<u64, sqlx::Error> {
    let known = known(&mut *connection).await?;
    latest_from(connection, known.as_deref()).await
}

/// Notes the latest stamp on record, so that it is found sooner from now on. What changes after `upto`, the latest change, is looked
/// at again.
pub(crate) async fn note_latest(connection: &mut MySqlConnection, upto: u64) -> Result<(), sqlx::Error> {
    let known = known(&mut *connection).await?;
    let latest = latest_from(&mut *connection, known.as_deref()).await?;
    let note = format!("{upto} {latest}");
    // Unless somebody has noted something else meanwhile.
    let noting = match &known {
        Some(known) => {
            query("UPDATE settings SET value = ? WHERE name = ? AND value = ?").bind(note).bind(KNOWN).bind(known)
        }
        None => query("INSERT IGNORE INTO settings (value, name) VALUES (?, ?)").bind(note).bind(KNOWN),
    };
    noting.execute(connection).await.map(drop)
}

/// Stamps were brought back: all clips are looked at again.
pub(crate) async fn forget_latest(connection: &mut MySqlConnection) -> Result<(), sqlx::Error> {
    settings::set(connection, KNOWN, Some(NOTHING)).await
}

async fn latest_from(connection: &mut MySqlConnection, known: Option<&str>) -> Result<u64, sqlx::Error> {
    let numbers = known.unwrap_or(NOTHING).split_once(' ');
    let numbers = numbers.and_then(|(upto, latest)| Some((upto.parse::<u64>().ok()?, latest.parse::<u64>().ok()?)));
    let (upto, known) = numbers.unwrap_or_default();
    let of_clips = STAMPS_OF_CLIPS.iter().map(|column| format!("COALESCE(MAX({column}), 0)"));
    let elsewhere =
        STAMPS_ELSEWHERE.iter().map(|(table, column)| format!("COALESCE((SELECT MAX({column}) FROM {table}), 0)"));
    let latest = joined(of_clips.chain(elsewhere), ", ");
    let statement = format!("SELECT CAST(GREATEST({known}, {latest}) AS UNSIGNED) FROM clips WHERE seq > {upto}");
    query_scalar(AssertSqlSafe(statement)).fetch_one(connection).await
}

/// The latest stamp on record that is not later than `limit`.
pub(crate) async fn latest_up_to(connection: &mut MySqlConnection, limit: u64) -> Result<u64, sqlx::Error> {
    let of_clip = STAMPS_OF_CLIPS.iter().map(|column| format!("IF({column} > {limit}, 0, COALESCE({column}, 0))"));
    let of_clip = joined(of_clip, ", ");
    let elsewhere = STAMPS_ELSEWHERE.iter().map(|(table, column)| format!("SELECT {column} FROM {table}"));
    let elsewhere = joined(elsewhere, " UNION ALL ");
    let statement = format!(
        "SELECT CAST(COALESCE(MAX(all_of_them.stamp), 0) AS UNSIGNED) FROM (
            SELECT GREATEST({of_clip}) AS stamp FROM clips UNION ALL {elsewhere}) all_of_them
         WHERE all_of_them.stamp <= {limit}"
    );
    query_scalar(AssertSqlSafe(statement)).fetch_one(connection).await
}

/// The stamps later than `limit` that do not belong to clips.
pub(crate) async fn later_elsewhere(connection: &mut MySqlConnection, limit: u64) -> Result<Vec<u64>, sqlx::Error> {
    let each = STAMPS_ELSEWHERE
        .iter()
        .map(|(table, column)| format!("SELECT {column} AS stamp FROM {table} WHERE {column} > {limit}"));
    query_scalar(AssertSqlSafe(joined(each, " UNION "))).fetch_all(connection).await
}
