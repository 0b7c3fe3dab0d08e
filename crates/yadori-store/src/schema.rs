//! Brings the tables up to date, one statement at a time, so that a start goes on where a killed one stopped.
//!
//! MariaDB changes a table as a whole or not at all (atomic DDL, from 10.6 on), but each such statement commits by
//! itself. So after every statement it is noted how many of its migration are done. Of the one after those it is not
//! known whether it was done before the kill: it is made again, and an answer that says that it was done already is
//! taken for that. Statements that change rows are noted in their own transaction, and are made once.
//!
//! Versions are noted in the table `_sqlx_migrations`, as they always were.

use crate::store::{OpenError, StoreError};
use sqlx::migrate::Migrator;
use sqlx::{AssertSqlSafe, Connection, MySqlConnection};

static MIGRATIONS: Migrator = sqlx::migrate!();

/// What MariaDB answers when a statement that is made again was done already: the table, column, key, constraint or row
/// is there, or the one to be dropped or renamed is not.
const DONE_ALREADY: [u16; 9] = [1050, 1051, 1054, 1060, 1061, 1062, 1091, 1146, 1826];

const TABLES: [&str; 2] = [
    "CREATE TABLE IF NOT EXISTS _sqlx_migrations (version BIGINT PRIMARY KEY, description TEXT NOT NULL,
        installed_on TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP, success BOOLEAN NOT NULL, checksum BLOB NOT NULL,
        execution_time BIGINT NOT NULL)",
    "CREATE TABLE IF NOT EXISTS migration_steps (version BIGINT PRIMARY KEY, done INT UNSIGNED NOT NULL) ENGINE = InnoDB",
];

/// The migrations, in their order: the version of each, and its statements.
pub fn migrations() -> Vec<(i64, Vec<String>)> {
    let mut migrations: Vec<_> =
        MIGRATIONS.iter().map(|migration| (migration.version, statements(migration.sql.as_str()))).collect();
    migrations.sort_by_key(|(version, _)| *version);
    migrations
}

/// The statements of a script. Comments begin with `--`; no string in our scripts has that, or a semicolon, in it.
fn statements(script: &str) -> Vec<String> {
    let lines = script.lines().map(|line| line.split("--").next().unwrap_or_default());
    let script = lines.collect::<Vec<_>>().join("\n");
    script.split(';').map(str::trim).filter(|statement| !statement.is_empty()).map(str::to_owned).collect()
}

/// Brings the tables up to date.
///
/// # Errors
/// When a later version has written them, or a statement fails. The next start goes on from there.
pub(crate) async fn bring_up_to_date(connection: &mut MySqlConnection) -> Result<(), OpenError> {
    let failed = |error: sqlx::Error| OpenError::Store(StoreError::from(error));
    for table in TABLES {
        run(connection, table).await.map_err(failed)?;
    }
    let rows: Vec<(i64, bool)> = sqlx::query_as("SELECT version, success FROM _sqlx_migrations")
        .fetch_all(&mut *connection)
        .await
        .map_err(failed)?;
    let migrations = migrations();
    let newer =
        rows.iter().map(|(version, _)| *version).filter(|is| migrations.iter().all(|(known, _)| known != is)).max();
    if let Some(newer) = newer {
        return Err(OpenError::Newer(newer));
    }
    for (version, statements) in &migrations {
        let begun = rows.iter().find(|(known, _)| known == version);
        if begun.is_some_and(|(_, success)| *success) {
            continue;
        }
        if begun.is_none() {
            note_begun(connection, *version).await.map_err(failed)?;
        } else {
            tracing::info!(version, "an interrupted change of the tables goes on");
        }
        migrate(connection, *version, statements, begun.is_some())
            .await
            .map_err(|source| OpenError::Migration { version: *version, source })?;
    }
    Ok(())
}

async fn migrate(
    connection: &mut MySqlConnection,
    version: i64,
    statements: &[String],
    begun_before: bool,
) -> Result<(), sqlx::Error> {
    let noted: Option<u32> = sqlx::query_scalar("SELECT done FROM migration_steps WHERE version = ?")
        .bind(version)
        .fetch_optional(&mut *connection)
        .await?;
    // An earlier program noted only that it had begun.
    let (done, all_unsure) = (noted.unwrap_or(0) as usize, begun_before && noted.is_none());
    for (place, statement) in statements.iter().enumerate().skip(done) {
        let is_unsure = all_unsure || (begun_before && place == done);
        let changes_rows = ["INSERT", "UPDATE", "DELETE"].iter().any(|verb| statement.starts_with(verb));
        let mut tx = connection.begin().await?;
        match run(&mut tx, statement).await {
            Err(error) if is_unsure && is_done_already(&error) => {}
            Err(error) => return Err(error),
            Ok(()) => {}
        }
        if !changes_rows {
            // It has committed by itself.
            tx.commit().await?;
            tx = connection.begin().await?;
        }
        sqlx::query("REPLACE INTO migration_steps (version, done) VALUES (?, ?)")
            .bind(version)
            .bind(place as u32 + 1)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
    }
    sqlx::query("UPDATE _sqlx_migrations SET success = TRUE WHERE version = ?")
        .bind(version)
        .execute(&mut *connection)
        .await?;
    Ok(())
}

async fn note_begun(connection: &mut MySqlConnection, version: i64) -> Result<(), sqlx::Error> {
    let migration = MIGRATIONS.iter().find(|migration| migration.version == version);
    let (description, checksum) =
        migration.map_or((String::new(), Vec::new()), |known| (known.description.to_string(), known.checksum.to_vec()));
    sqlx::query(
        "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (?, ?, FALSE, ?, 0)",
    )
    .bind(version)
    .bind(description)
    .bind(checksum)
    .execute(&mut *connection)
    .await?;
    Ok(())
}

async fn run(connection: &mut MySqlConnection, statement: &str) -> Result<(), sqlx::Error> {
    sqlx::raw_sql(AssertSqlSafe(statement.to_owned())).execute(connection).await.map(|_| ())
}

fn is_done_already(error: &sqlx::Error) -> bool {
    crate::store::number_of(error).is_some_and(|number| DONE_ALREADY.contains(&number))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scripts_come_apart_into_their_statements() {
        assert_eq!(
            statements("-- one; two\nCREATE TABLE a (b INT); -- c\n\nDROP TABLE a;\n"),
            ["CREATE TABLE a (b INT)", "DROP TABLE a"]
        );
        assert!(migrations().iter().all(|(_, statements)| !statements.is_empty()));
    }
}
