//! An upgrade of the tables that is interrupted.

use yadori_database::testing::TestDatabase;
use yadori_store::Store;

/// Tables of every version, interrupted after every statement: before it was noted as done, and after.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_upgrade_goes_on_wherever_it_was_interrupted() {
    let database = TestDatabase::new();
    let (url, name) = (database.url(), database.name());
    let pool = sqlx::mysql::MySqlPoolOptions::new().max_connections(1).connect(url).await.unwrap();
    let run = async |statement: &str| {
        sqlx::raw_sql(sqlx::AssertSqlSafe(statement.to_owned())).execute(&pool).await.unwrap_or_else(|error| {
            panic!("{statement}: {error}");
        })
    };
    let migrations = yadori_store::schema::migrations();
    let whole = Store::open(url, ("workshop", [1; 16])).await.unwrap();
    let columns = async || -> Vec<String> {
        let columns = "SELECT CONCAT_WS(' ', TABLE_NAME, COLUMN_NAME, COLUMN_TYPE, IS_NULLABLE, COLUMN_DEFAULT) FROM \
            information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME NOT LIKE '%migration%' ORDER BY 1";
        sqlx::query_scalar(columns).bind(name).fetch_all(&pool).await.unwrap()
    };
    let wanted = columns().await;
    drop(whole);
    let mut tried = 0;
    for (place, (version, statements)) in migrations.iter().enumerate() {
        // A few of the statements of each, the first and the last among them, or all where `--long` has time for it.
        let step = if std::env::var_os("YADORI_LONG").is_some() { 1 } else { 1 + statements.len() / 3 };
        for done in (0..=statements.len()).step_by(step) {
            for noted in [Some(done), done.checked_sub(1), None] {
                run(&format!("DROP DATABASE {name}")).await;
                run(&format!("CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")).await;
                run(&format!("USE {name}")).await;
                run("CREATE TABLE _sqlx_migrations (version BIGINT PRIMARY KEY, description TEXT NOT NULL, installed_on \
                     TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP, success BOOLEAN NOT NULL, checksum BLOB NOT NULL, \
                     execution_time BIGINT NOT NULL)")
                .await;
                for (version, statements) in &migrations[..place] {
                    for statement in statements {
                        run(statement).await;
                    }
                    run(&format!("INSERT INTO _sqlx_migrations VALUES ({version}, '', NOW(), TRUE, '', 0)")).await;
                }
                if place > 0 {
                    run("INSERT INTO devices (id, name, own) VALUES ('0123456789abcdef', 'workshop', TRUE)").await;
                }
                // Interrupted here.
                run(&format!("INSERT INTO _sqlx_migrations VALUES ({version}, '', NOW(), FALSE, '', 0)")).await;
                for statement in &statements[..done] {
                    run(statement).await;
                }
                if let Some(noted) = noted {
                    run("CREATE TABLE migration_steps (version BIGINT PRIMARY KEY, done INT UNSIGNED NOT NULL)").await;
                    run(&format!("INSERT INTO migration_steps VALUES ({version}, {noted})")).await;
                }
                let what = format!("version {version}, {done} done, {noted:?} noted");
                Store::open(url, ("workshop", [1; 16])).await.unwrap_or_else(|error| panic!("{what}: {error:?}"));
                assert_eq!(columns().await, wanted, "{what}");
                tried += 1;
            }
        }
    }
    assert!(tried > 40, "{tried}");
}
