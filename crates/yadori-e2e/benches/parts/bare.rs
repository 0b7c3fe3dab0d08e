//! The limits: what no program can be quicker, or smaller, than that does the same on this machine.

use super::{table_bytes, texts, time};
use sqlx::MySqlPool;
use std::io::{Read, Write};
use std::path::Path;
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;
use yadori_core::{ClipId, Kind, MillisSinceEpoch, Stamp};
use yadori_database::{PrivateServer, ServerState};
use yadori_e2e::home::Home;
use yadori_store::Store;

/// A private database for measuring the limits in.
pub struct Scratch {
    pub server: PrivateServer,
    pub pool: MySqlPool,
    home: Home,
}

impl Scratch {
    /// Ends it.
    pub async fn end(self) {
        self.pool.close().await;
        self.server.stop().await;
    }
}

/// A database with the tables of a history, and one of bare contents.
pub async fn scratch() -> Scratch {
    let home = Home::new();
    let server = home.start_database().await;
    let url = url(&server);
    let pool = MySqlPool::connect(&url).await.expect("a connection");
    Store::open(&url, ("workshop", [1; 16])).await.expect("the tables").close().await;
    sqlx::query("CREATE TABLE bare (no BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, content LONGBLOB NOT NULL) ENGINE = InnoDB").execute(&pool).await.expect("a table");
    Scratch { server, pool, home }
}

/// Where a database is reached.
pub fn url(server: &PrivateServer) -> String {
    match server.state().borrow().clone() {
        ServerState::Running { url, .. } => url,
        other => panic!("{other:?}"),
    }
}

/// Files a text under a number that was not used before: the row that the service makes of it, in one transaction and one message.
pub async fn file_bare(pool: &MySqlPool, number: u64, text: &[u8]) {
    let hex = |bytes: &[u8]| data_encoding::HEXLOWER.encode(bytes);
    let id = ClipId::of(Kind::Text, &[text, &number.to_le_bytes()].concat());
    let (id, length, text) = (hex(&id.0), text.len(), hex(text));
    let statements = format!(
        "BEGIN; INSERT INTO clips (id, seq, kind, secret, device, copied, copies, size, text_lines, text_chars, text, plain)
         VALUES (x'{id}', {number}, 0, 0, 1, {number} << 16, 1, {length}, 1, {length}, x'{text}', TRUE); COMMIT"
    );
    sqlx::raw_sql(sqlx::AssertSqlSafe(statements)).execute(pool).await.expect("the rows");
}

/// What a bare client takes that inserts the rows of so many clips, so many at a time, into tables where there are none.
pub fn bare_rows(runtime: &Runtime, clips: u64, at_a_time: u64) -> Duration {
    runtime.block_on(async {
        let scratch = scratch().await;
        let began = Instant::now();
        rows(&scratch.pool, clips, at_a_time).await;
        let taken = began.elapsed();
        scratch.end().await;
        taken
    })
}

/// Bytes on the disk of a table that holds so many texts, each with its id and the number of its latest change, by which it is
/// found, and nothing else.
pub async fn bare_table_bytes(clips: u64) -> u64 {
    let scratch = scratch().await;
    let before = table_bytes(scratch.home.path());
    let table =
        "CREATE TABLE texts (no BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, id BINARY(16) NOT NULL UNIQUE,
        seq BIGINT UNSIGNED NOT NULL UNIQUE, text MEDIUMTEXT NOT NULL) ENGINE = InnoDB";
    sqlx::query(table).execute(&scratch.pool).await.expect("a table");
    for start in (1..=clips).step_by(2_000) {
        let mut insert = sqlx::QueryBuilder::new("INSERT INTO texts (id, seq, text) ");
        insert.push_values(start..(start + 2_000).min(clips + 1), |mut row, n| {
            let text = texts::text(n);
            row.push_bind(ClipId::of(Kind::Text, text.as_bytes()).0.to_vec()).push_bind(n).push_bind(text);
        });
        insert.build().execute(&scratch.pool).await.expect("rows");
    }
    let taken = table_bytes(scratch.home.path()) - before;
    scratch.end().await;
    taken
}

/// What no program can be quicker than that takes in clips with pictures on this machine: bare programs that insert the rows and
/// decode the pictures, without waiting for each other, on as many cores as there are.
pub fn bare_taking_in(runtime: &Runtime, clips: u64, at_a_time: u64, pictures: &[Vec<u8>]) -> Duration {
    let rows = bare_rows(runtime, clips, at_a_time);
    let decoded = time(|| {
        let decoded = pictures.iter().map(|picture| image::load_from_memory(picture).expect("a picture"));
        assert_eq!(decoded.count(), pictures.len());
    });
    on_two_cores(rows, decoded)
}

/// Inserts the rows of clips, so many at a time.
pub async fn rows(pool: &MySqlPool, clips: u64, at_a_time: u64) {
    let now = u64::try_from(jiff::Timestamp::now().as_millisecond()).expect("a time");
    for start in (1..=clips).step_by(at_a_time as usize) {
        let rows = start..(start + at_a_time).min(clips + 1);
        let mut insert = sqlx::QueryBuilder::new(
            "INSERT INTO clips (no, id, seq, kind, secret, device, copied, copies, size, text_lines, text_chars, text,
             plain) ",
        );
        insert.push_values(rows, |mut row, n| {
            let text = texts::text(n);
            let id = ClipId::of(Kind::Text, text.as_bytes());
            let copied = Stamp::at_start_of(MillisSinceEpoch(now - (clips - n) * 1_000)).to_bits();
            row.push_bind(n)
                .push_bind(id.0.to_vec())
                .push_bind(n)
                .push_bind(0u8)
                .push_bind(0u8)
                .push_bind(1u32)
                .push_bind(copied)
                .push_bind(1u32);
            row.push_bind(text.len() as u64).push_bind(1u64).push_bind(text.chars().count() as u64).push_bind(text);
            row.push_bind(true);
        });
        insert.build().execute(pool).await.expect("rows");
    }
}

/// What no program can be quicker than that puts this archive out of the database of that home: bare programs that read all rows
/// and pack what is in the archive, without waiting for each other.
pub fn bare_putting_out(runtime: &Runtime, home: &Home, archive: &Path) -> Duration {
    let folder = home.path().join("data/database");
    let read = runtime.block_on(async {
        let server = PrivateServer::start(&folder, Some(&yadori_e2e::home::test_key())).await.expect("a database");
        let pool = MySqlPool::connect(&url(&server)).await.expect("a connection");
        let began = Instant::now();
        for table in ["clips", "formats", "blobs", "blob_chunks"] {
            let rows = sqlx::query(sqlx::AssertSqlSafe(format!("SELECT * FROM {table}"))).fetch_all(&pool).await;
            assert!(!rows.expect("the rows").is_empty(), "there are {table}");
        }
        let read = began.elapsed();
        pool.close().await;
        server.stop().await;
        read
    });
    let mut archive = zip::ZipArchive::new(std::fs::File::open(archive).expect("the archive")).expect("an archive");
    let mut files = Vec::new();
    for place in 0..archive.len() {
        let mut file = archive.by_index(place).expect("a file");
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).expect("its content");
        files.push((file.name().expect("a name").into_owned(), file.compression(), bytes));
    }
    let packed = time(|| {
        let mut zip = zip::ZipWriter::new(std::fs::File::create(home.path().join("same.zip")).expect("a file"));
        for (name, method, bytes) in &files {
            let fast = (*method == zip::CompressionMethod::Deflated).then_some(1);
            let options = zip::write::SimpleFileOptions::default().compression_method(*method).compression_level(fast);
            zip.start_file(name.as_str(), options).expect("a file");
            zip.write_all(bytes).expect("its content");
        }
        zip.finish().and_then(|file| file.sync_all().map_err(Into::into)).expect("an archive");
    });
    on_two_cores(read, packed)
}

/// How long two programs take at the least that need so long each, on two cores at most.
fn on_two_cores(one: Duration, other: Duration) -> Duration {
    let cores = std::thread::available_parallelism().map_or(1, usize::from).min(2) as u32;
    one.max(other).max((one + other) / cores)
}

/// What so many copies take at five devices at the least: each files the rows of one after the other, and waits for nobody.
pub async fn five_bare_databases(copies: u64) -> Duration {
    let mut scratches = Vec::new();
    for _ in 0..5 {
        scratches.push(scratch().await);
    }
    let began = Instant::now();
    let mut programs = tokio::task::JoinSet::new();
    for pool in scratches.iter().map(|scratch| scratch.pool.clone()) {
        programs.spawn(async move {
            for number in 1..=copies {
                file_bare(&pool, number, b"Fresnel, gel, dimmer, circuit B").await;
            }
        });
    }
    programs.join_all().await;
    let taken = began.elapsed();
    for scratch in scratches {
        scratch.end().await;
    }
    taken
}
