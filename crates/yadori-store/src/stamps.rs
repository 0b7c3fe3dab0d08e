//! Where the records hold stamps, said once: whoever looks for the latest of them, or for those that lie in the future, looks
//! at all. The tests compare this with the schema.

use crate::columns::STAMPS_OF_CLIPS;
use sqlx::mysql::MySqlConnection;
use sqlx::{AssertSqlSafe, query_scalar};

/// The tables and columns elsewhere that do.
pub const STAMPS_ELSEWHERE: [(&str, &str); 6] = [
    ("drawers", "changed"),
    ("headings", "changed"),
    ("devices", "name_stamp"),
    ("devices", "addresses_stamp"),
    ("devices", "linked_stamp"),
    ("steps", "stamp"),
];

fn joined(parts: impl IntoIterator<Item = String>, between: &str) -> String {
    parts.into_iter().collect::<Vec<_>>().join(between)
}

/// The latest stamp on record.
pub(crate) async fn latest(connection: &mut MySqlConnection) -> Result<u64, sqlx::Error> {
    let of_clips = STAMPS_OF_CLIPS.iter().map(|column| format!("COALESCE(MAX({column}), 0)"));
    let elsewhere =
        STAMPS_ELSEWHERE.iter().map(|(table, column)| format!("COALESCE((SELECT MAX({column}) FROM {table}), 0)"));
    let latest = joined(of_clips.chain(elsewhere), ", ");
    let statement = format!("SELECT CAST(GREATEST({latest}) AS UNSIGNED) FROM clips");
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
