//! What was forgotten for good is written over in the private server's files.
//!
//! Tables: the server zeroes what it purges (`innodb_immediate_scrub_data_uncompressed`), once it has purged it. The
//! buffer through which it writes pages twice: other pages are written through it. Its log: it is written anew, in
//! another size and back. What a file system's journal, a snapshot or a disk of flash memory keeps is beyond us.

use crate::store::{Store, StoreError};
use sqlx::Row;
use std::time::{Duration, Instant};

/// Sizes to one of which the server's log is changed, and back: it is written anew each time. It has one of them already if that was
/// broken off in between.
const SPARE_LOG_BYTES: [u64; 2] = [4 << 20, 8 << 20];

/// Pages that are written through the server's buffer for double writes, which holds 2 MiB.
const FILLING_MIB: usize = 4;

/// How long the server may take to purge, and to write.
const PURGING: Duration = Duration::from_secs(20);
const WRITING: Duration = Duration::from_secs(3);
/// Between two looks at how far it is.
const PAUSE: Duration = Duration::from_millis(50);

impl Store {
    /// Has the server write over what was forgotten. Only the private server lets us.
    ///
    /// # Errors
    /// When the server does not let us, or does not answer.
    pub async fn secure_erase(&self) -> Result<(), StoreError> {
        // Of its own, since its changes are not recorded: a copy of the database that is being made needs no filling.
        let mut connection = self.connections.lend().await?.keep();
        let run = async |connection: &mut sqlx::MySqlConnection, statement: String| {
            sqlx::raw_sql(sqlx::AssertSqlSafe(statement)).execute(connection).await
        };
        // What is not purged by then is purged before the server ends.
        run(&mut connection, "SET SESSION sql_log_bin = 0".into()).await?;
        run(&mut connection, "SET GLOBAL innodb_fast_shutdown = 0".into()).await?;
        self.wait_for_none("Innodb_history_list_length", PURGING).await?;
        run(&mut connection, "CREATE TABLE IF NOT EXISTS filling (content LONGBLOB) ENGINE = InnoDB".into()).await?;
        for _ in 0..FILLING_MIB {
            run(&mut connection, "INSERT INTO filling VALUES (REPEAT('yadori ', 149000))".into()).await?;
        }
        run(&mut connection, "SET GLOBAL innodb_max_dirty_pages_pct = 0".into()).await?;
        self.wait_for_none("Innodb_buffer_pool_pages_dirty", WRITING).await?;
        run(&mut connection, "SET GLOBAL innodb_max_dirty_pages_pct = 90".into()).await?;
        run(&mut connection, "DROP TABLE filling".into()).await?;
        let log: u64 = sqlx::query_scalar("SELECT @@GLOBAL.innodb_log_file_size").fetch_one(&mut connection).await?;
        let spare = SPARE_LOG_BYTES.into_iter().find(|spare| *spare != log);
        for bytes in spare.into_iter().chain([log]) {
            run(&mut connection, format!("SET GLOBAL innodb_log_file_size = {bytes}")).await?;
        }
        Ok(())
    }

    async fn wait_for_none(&self, what: &str, patience: Duration) -> Result<(), StoreError> {
        let began = Instant::now();
        while began.elapsed() < patience {
            let statement = format!("SHOW GLOBAL STATUS LIKE '{what}'");
            let row = sqlx::raw_sql(sqlx::AssertSqlSafe(statement)).fetch_one(&self.connections).await?;
            if row.try_get::<String, _>(1)? == "0" {
                break;
            }
            tokio::time::sleep(PAUSE).await;
        }
        Ok(())
    }
}
