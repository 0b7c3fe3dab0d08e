//! What the database says of the store's queries is as it was kept for building without a database; see script/queries.
//!
//! A query of which nothing is kept is an error when the store is compiled.

use sqlx::{Connection, Executor, MySqlConnection, SqlSafeStr};
use std::path::Path;
use yadori_database::testing::TestDatabase;
use yadori_store::Store;

/// What `query!` and its like have kept of a query.
#[derive(serde::Deserialize)]
struct Kept {
    query: String,
    describe: serde_json::Value,
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_database_answers_as_it_was_kept() {
    let database = TestDatabase::new();
    Store::open(database.url(), ("workshop", [1; 16])).await.unwrap().close().await;
    let mut connection = MySqlConnection::connect(database.url()).await.unwrap();
    let kept = std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join(".sqlx")).unwrap();
    let mut compared = 0;
    for file in kept {
        let Kept { query, describe } = serde_json::from_slice(&std::fs::read(file.unwrap().path()).unwrap()).unwrap();
        let told = (&mut connection).describe(sqlx::AssertSqlSafe(query.clone()).into_sql_str()).await;
        let told = told.unwrap_or_else(|error| panic!("{query}: {error}; run script/queries"));
        // Tables are named with the database that they are in.
        let told = serde_json::to_string(&told).unwrap().replace(&format!("{}.", database.name()), "yadori.");
        let told: serde_json::Value = serde_json::from_str(&told).unwrap();
        assert_eq!(told, describe, "{query}: what was kept is not current; run script/queries");
        compared += 1;
    }
    assert!(compared > 100, "{compared} queries");
}
