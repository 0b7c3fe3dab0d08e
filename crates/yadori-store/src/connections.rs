//! Connections to the database: kept open, and lent to one use at a time.
//!
//! A use that has come to its end leaves its connection as it was, and the next has it at once. One that failed, or was broken off
//! (whoever waited for it is gone), may leave a transaction open, whose locks would be kept; a statement half prepared; or answers
//! that would be taken for those to the next question. Such a connection is asked something first, and closed unless it answers.

use crate::feed::Turn;
use crate::store::{NO_LOCKS, OpenError, number_of};

use futures_util::future::BoxFuture;
use futures_util::stream::{self, BoxStream};
use futures_util::{FutureExt, StreamExt, TryFutureExt, TryStreamExt};
use parking_lot::{Mutex, RwLock};
use sqlx::mysql::{MySqlConnectOptions, MySqlQueryResult, MySqlRow, MySqlSslMode, MySqlStatement, MySqlTypeInfo};
use sqlx::{AssertSqlSafe, ConnectOptions, Connection, Either, Execute, Executor, MySql, MySqlConnection, Row, SqlStr};
use sqlx_core::describe::Describe;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::io::ErrorKind;
use std::net::IpAddr;
use std::ops::{Deref, DerefMut};
use std::panic::AssertUnwindSafe;
use std::str::FromStr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::{Instant, sleep, timeout, timeout_at};

/// Connections at most. The service files one copy at a time; the rest is reading.
const CONNECTIONS: u32 = 6;

/// How long a request waits for a connection before it reports that the database is away.
const PATIENCE: Duration = Duration::from_secs(2);

/// Before it is tried once more whether a server can be reached that is starting. It doubles each time.
const FIRST_PAUSE: Duration = Duration::from_millis(10);

/// How long a connection may take to answer a question that needs no work. One that was wrongly given up is made again.
const ANSWER: Duration = Duration::from_secs(1);

/// The server would close connections that were idle for eight hours, and the first requests of the morning would fail. A statement
/// that stands alone is durable when it is answered, whatever else a server is set to.
const SETTING: &str = "SET SESSION wait_timeout = 31536000, SESSION autocommit = 1";

/// Before it is asked once more whether the server is done with what a broken connection had asked for.
const PAUSE: Duration = Duration::from_millis(20);

/// How a server is not there that has ended.
const GONE: [ErrorKind; 2] = [ErrorKind::ConnectionRefused, ErrorKind::NotFound];

/// All connections to one database. Statements can be executed on it: each on the next that is free.
#[derive(Clone)]
pub(crate) struct Connections(Arc<Shared>);

struct Shared {
    /// Where they lead.
    options: RwLock<MySqlConnectOptions>,
    /// Those that are lent to nobody; the one used last is lent first.
    idle: Mutex<Vec<Session>>,
    /// One for each that may be lent.
    permits: Arc<Semaphore>,
}

/// A connection, and what the server knows it by.
struct Session {
    connection: MySqlConnection,
    /// The name of a lock that it holds for as long as the server does anything for it.
    name: String,
}

/// A connection that is lent to one use.
pub(crate) struct Lease {
    /// There until it is given back.
    session: Option<Session>,
    shared: Arc<Shared>,
    permit: Option<OwnedSemaphorePermit>,
    /// Nobody else writes until this use has come to its end, or the server is done with all that it was asked for.
    turn: Option<Turn>,
}

impl Connections {
    /// Those to the database at `url`, none of which is made yet.
    ///
    /// # Errors
    /// When the URL is not usable.
    pub fn to(url: &str) -> Result<Self, OpenError> {
        Ok(Self(Arc::new(Shared {
            options: RwLock::new(connect_options(url)?),
            idle: Mutex::default(),
            permits: Arc::new(Semaphore::new(CONNECTIONS as usize)),
        })))
    }

    /// Lends a connection.
    ///
    /// # Errors
    /// When none is free for a while, or the server cannot be reached.
    pub async fn lend(&self) -> Result<Lease, sqlx::Error> {
        let deadline = Instant::now() + PATIENCE;
        let permit = match timeout_at(deadline, self.0.permits.clone().acquire_owned()).await {
            Ok(Ok(permit)) => permit,
            Ok(Err(_)) => return Err(sqlx::Error::PoolClosed),
            Err(_) => return Err(sqlx::Error::PoolTimedOut),
        };
        let idle = self.0.idle.lock().pop();
        let session = match idle {
            Some(session) => session,
            None => self.0.connect(deadline).await?,
        };
        Ok(Lease { session: Some(session), shared: self.0.clone(), permit: Some(permit), turn: None })
    }

    /// Tells where the database is from now on, after its server was started anew.
    ///
    /// # Errors
    /// When the URL is not usable.
    pub fn moved_to(&self, url: &str) -> Result<(), OpenError> {
        *self.0.options.write() = connect_options(url)?;
        // Connections to the server that is gone would each fail once more.
        self.0.idle.lock().clear();
        Ok(())
    }

    /// Closes all of them, once what is under way is done.
    pub async fn close(&self) {
        // Nobody is lent one any more while this waits for the others.
        let all = self.0.permits.acquire_many(CONNECTIONS).await;
        self.0.permits.close();
        drop(all);
        let idle = std::mem::take(&mut *self.0.idle.lock());
        for session in idle {
            // The server hears that it was meant. If it does not, it is gone.
            let _ = timeout(ANSWER, session.connection.close()).await;
        }
    }

    /// Has a statement executed, and gives all that is answered.
    async fn answers<'q>(
        self,
        query: impl Execute<'q, MySql> + 'q,
    ) -> Result<Vec<Either<MySqlQueryResult, MySqlRow>>, sqlx::Error> {
        let mut lease = self.lend().await?;
        let answers = lease.fetch_many(query).try_collect().await?;
        lease.end();
        Ok(answers)
    }
}

impl Shared {
    /// A new connection. A server that is starting, or has too many, is asked again until the deadline.
    async fn connect(&self, deadline: Instant) -> Result<Session, sqlx::Error> {
        let mut pause = FIRST_PAUSE;
        loop {
            let options = self.options.read().clone();
            let connecting = async {
                let connection = options.connect().await?;
                Session::begin(connection).await
            };
            match timeout_at(deadline, connecting).await {
                Ok(Err(sqlx::Error::Io(error))) if error.kind() == ErrorKind::ConnectionRefused => {}
                Ok(Err(sqlx::Error::Database(error))) if error.is_transient_in_connect_phase() => {}
                Ok(done) => return done,
                Err(_) => return Err(sqlx::Error::PoolTimedOut),
            }
            sleep(pause.min(deadline.saturating_duration_since(Instant::now()))).await;
            pause *= 2;
        }
    }

    /// Waits until the server is done with all that a connection had asked for, which is closed on this side.
    async fn wait_until_over(&self, name: &str) {
        loop {
            let options = self.options.read().clone();
            let asking = async {
                let mut connection = options.connect().await?;
                let free = sqlx::query_scalar::<_, Option<i64>>("SELECT IS_FREE_LOCK(?)").bind(name);
                free.fetch_one(&mut connection).await
            };
            match timeout(PATIENCE, asking).await {
                Ok(Ok(Some(0))) => {}
                Ok(Ok(_)) => return,
                // Without a server there is nobody who does anything.
                Ok(Err(sqlx::Error::Io(error))) if GONE.contains(&error.kind()) => return,
                Ok(Err(error)) if number_of(&error).is_some_and(|number| NO_LOCKS.contains(&number)) => return,
                // It may be busy, or have too many connections.
                Ok(Err(_)) | Err(_) => {}
            }
            sleep(PAUSE).await;
        }
    }
}

impl Session {
    async fn begin(mut connection: MySqlConnection) -> Result<Self, sqlx::Error> {
        let name = format!("yadori session {:016x}", RandomState::new().build_hasher().finish());
        let locking = format!("{SETTING}; DO GET_LOCK('{name}', 0)");
        match sqlx::raw_sql(AssertSqlSafe(locking)).execute(&mut connection).await {
            Ok(_) => Ok(Self { connection, name }),
            // A cluster has no such locks.
            Err(error) if number_of(&error).is_some_and(|number| NO_LOCKS.contains(&number)) => {
                Ok(Self { connection, name })
            }
            Err(error) => Err(error),
        }
    }
}

impl std::fmt::Debug for Connections {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let idle = self.0.idle.lock().len();
        formatter.debug_struct("Connections").field("idle", &idle).finish_non_exhaustive()
    }
}

/// What is read in this way is in memory as a whole before the first of it is given.
impl<'c> Executor<'c> for &'_ Connections {
    type Database = MySql;

    fn fetch_many<'e, 'q: 'e, E>(
        self,
        query: E,
    ) -> BoxStream<'e, Result<Either<MySqlQueryResult, MySqlRow>, sqlx::Error>>
    where
        'c: 'e,
        E: 'q + Execute<'q, MySql>,
    {
        let answers = self.clone().answers(query);
        answers.map_ok(|answers| stream::iter(answers).map(Ok)).try_flatten_stream().boxed()
    }

    fn fetch_optional<'e, 'q: 'e, E>(self, query: E) -> BoxFuture<'e, Result<Option<MySqlRow>, sqlx::Error>>
    where
        'c: 'e,
        E: 'q + Execute<'q, MySql>,
    {
        let answers = self.clone().answers(query);
        answers.map_ok(|answers| answers.into_iter().find_map(Either::right)).boxed()
    }

    fn prepare_with<'e>(
        self,
        sql: SqlStr,
        parameters: &'e [MySqlTypeInfo],
    ) -> BoxFuture<'e, Result<MySqlStatement, sqlx::Error>>
    where
        'c: 'e,
    {
        let connections = self.clone();
        async move { connections.lend().await?.prepare_with(sql, parameters).await }.boxed()
    }

    fn describe<'e>(self, sql: SqlStr) -> BoxFuture<'e, Result<Describe<MySql>, sqlx::Error>>
    where
        'c: 'e,
    {
        let connections = self.clone();
        async move { connections.lend().await?.describe(sql).await }.boxed()
    }
}

impl Lease {
    /// Gives it back: its use has come to its end, and all answers were read.
    pub fn end(mut self) {
        if let Some(session) = self.session.take() {
            self.shared.idle.lock().push(session);
        }
    }

    /// Keeps it for good; another may be made in its place.
    pub fn keep(mut self) -> MySqlConnection {
        self.session.take().expect("it is there until it is given back").connection
    }

    /// It is this use's turn to write, until the end.
    pub fn takes(&mut self, turn: Turn) {
        self.turn = Some(turn);
    }

    /// The turn, if it has been taken.
    pub fn turn(&mut self) -> Option<&mut Turn> {
        self.turn.as_mut()
    }
}

impl Deref for Lease {
    type Target = MySqlConnection;

    fn deref(&self) -> &MySqlConnection {
        &self.session.as_ref().expect("it is there until it is given back").connection
    }
}

impl DerefMut for Lease {
    fn deref_mut(&mut self) -> &mut MySqlConnection {
        &mut self.session.as_mut().expect("it is there until it is given back").connection
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        let Some(mut session) = self.session.take() else { return };
        // Outside of the runtime there is nobody to ask it.
        let Ok(runtime) = tokio::runtime::Handle::try_current() else { return };
        let (shared, permit, turn) = (self.shared.clone(), self.permit.take(), self.turn.take());
        runtime.spawn(async move {
            if is_sound(&mut session.connection).await {
                shared.idle.lock().push(session);
            } else {
                // The server may have gone, and the others would fail one after the other.
                shared.idle.lock().clear();
                let Session { connection, name } = session;
                drop(connection);
                if turn.is_some() {
                    shared.wait_until_over(&name).await;
                }
            }
            drop((turn, permit));
        });
    }
}

/// Whether a connection whose use did not come to its end can be used again: it has no transaction open, and answers what it was
/// asked.
async fn is_sound(connection: &mut MySqlConnection) -> bool {
    static QUESTIONS: AtomicU32 = AtomicU32::new(1);
    let question = i64::from(QUESTIONS.fetch_add(1, Ordering::Relaxed));
    let asked = sqlx::raw_sql(AssertSqlSafe(format!("ROLLBACK; SELECT {question}"))).fetch_all(connection);
    // Where a use was broken off while its statement was prepared, the client takes the rest of that for the answer to this, and
    // may panic.
    let asked = AssertUnwindSafe(asked).catch_unwind();
    match timeout(ANSWER, asked).await {
        Ok(Ok(Ok(rows))) => {
            matches!(&rows[..], [row] if row.try_get::<i64, _>(0).is_ok_and(|answer| answer == question))
        }
        Ok(Ok(Err(_)) | Err(_)) | Err(_) => false,
    }
}

fn connect_options(url: &str) -> Result<MySqlConnectOptions, OpenError> {
    let options = MySqlConnectOptions::from_str(url).map_err(OpenError::BadUrl)?;
    let options = if leaves_this_computer(url) {
        if asks_for_less(url) {
            return Err(OpenError::Unverified);
        }
        options.ssl_mode(MySqlSslMode::VerifyIdentity)
    } else {
        options
    };
    // Statements are prepared once for each connection and used again. They are not logged, however slow: some hold what was copied.
    Ok(options.charset("utf8mb4").collation("utf8mb4_bin").statement_cache_capacity(100).disable_statement_logging())
}

/// Whether the server of this URL is reached over a network.
fn leaves_this_computer(url: &str) -> bool {
    let Ok(url) = url::Url::parse(url) else { return true };
    let is_local = |name: &str| {
        let name = name.trim_matches(['[', ']']);
        name.eq_ignore_ascii_case("localhost") || name.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
    };
    !url.query_pairs().any(|(name, _)| name == "socket") && !url.host_str().is_some_and(is_local)
}

/// Whether this URL asks for a connection whose certificate is not verified.
fn asks_for_less(url: &str) -> bool {
    let Ok(url) = url::Url::parse(url) else { return true };
    let mut asked = url.query_pairs().filter(|(name, _)| name == "ssl-mode" || name == "sslmode");
    asked.any(|(_, mode)| !mode.eq_ignore_ascii_case("VERIFY_IDENTITY"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::feed::Feed;
    use yadori_database::testing::TestDatabase;

    async fn asked(lease: &mut Lease, question: &'static str) -> u64 {
        sqlx::raw_sql(question).fetch_one(&mut **lease).await.unwrap().get(0)
    }

    #[tokio::test]
    async fn a_use_that_has_ended_leaves_its_connection_to_the_next() {
        let database = TestDatabase::new();
        let connections = Connections::to(database.url()).unwrap();
        let mut lease = connections.lend().await.unwrap();
        let first = asked(&mut lease, "SELECT CONNECTION_ID()").await;
        lease.end();
        // Nothing is asked in between, not even whether it is sound.
        let mut lease = connections.lend().await.unwrap();
        assert_eq!(asked(&mut lease, "SELECT CONNECTION_ID()").await, first);
        let asked_by_now = |row: &MySqlRow| row.get::<String, _>(1).parse::<u64>().unwrap();
        let status = || sqlx::raw_sql("SHOW SESSION STATUS LIKE 'Questions'");
        let before = asked_by_now(&status().fetch_one(&mut *lease).await.unwrap());
        lease.end();
        for _ in 0..3 {
            sqlx::raw_sql("SELECT 1").execute(&connections).await.unwrap();
        }
        let after = asked_by_now(&status().fetch_one(&connections).await.unwrap());
        assert_eq!(after - before, 4);
        connections.close().await;
    }

    #[tokio::test]
    async fn what_a_use_that_was_broken_off_has_begun_is_undone() {
        let database = TestDatabase::new();
        let connections = Connections::to(database.url()).unwrap();
        sqlx::raw_sql("CREATE TABLE t (n INT PRIMARY KEY) ENGINE = InnoDB").execute(&connections).await.unwrap();
        let mut lease = connections.lend().await.unwrap();
        sqlx::raw_sql("BEGIN; INSERT INTO t VALUES (1)").execute(&mut *lease).await.unwrap();
        drop(lease);
        // Whoever inserts the same waits until that is undone.
        sqlx::raw_sql("INSERT INTO t VALUES (1)").execute(&connections).await.unwrap();
        // A statement that is refused leaves its connection usable.
        for _ in 0..3 * CONNECTIONS {
            assert!(sqlx::raw_sql("INSERT INTO t VALUES (1)").execute(&connections).await.is_err());
        }
        let mut lease = connections.lend().await.unwrap();
        assert_eq!(asked(&mut lease, "SELECT CAST(COUNT(*) AS UNSIGNED) FROM t").await, 1);
        lease.end();
        connections.close().await;
    }

    #[tokio::test]
    async fn whatever_is_broken_off_the_next_use_gets_its_own_answer() {
        let database = TestDatabase::new();
        let connections = Connections::to(database.url()).unwrap();
        let shapes = (0..6u64).flat_map(|values| (1..12u64).map(move |columns| (values, columns)));
        for (number, (values, columns)) in (1000..).zip(shapes) {
            // Prepared by nobody yet, so that what is left of it are the columns of its values and of its answer.
            let answer: Vec<String> = (0..columns).map(|column| format!("{number} AS c{column}")).collect();
            let text = format!("SELECT {} WHERE 0 NOT IN (1{})", answer.join(", "), ", ?".repeat(values as usize));
            let mut lease = connections.lend().await.unwrap();
            assert_eq!(asked(&mut lease, "SELECT CAST(7 AS UNSIGNED)").await, 7);
            let query = (1..=values).fold(sqlx::query(AssertSqlSafe(text)), sqlx::query::Query::bind);
            let mut using = query.fetch_all(&mut *lease).boxed();
            // It has been sent, and perhaps it has been answered by now.
            for _ in 0..=number % 3 {
                if futures_util::poll!(&mut using).is_ready() {
                    break;
                }
                tokio::task::yield_now().await;
            }
        }
        connections.close().await;
    }

    #[tokio::test]
    async fn whose_turn_is_next_waits_until_the_server_is_done_with_the_one_before() {
        let database = TestDatabase::new();
        let connections = Connections::to(database.url()).unwrap();
        sqlx::raw_sql("CREATE TABLE t (n INT PRIMARY KEY) ENGINE = InnoDB").execute(&connections).await.unwrap();
        let feed = Arc::new(Feed::default());
        let mut lease = connections.lend().await.unwrap();
        lease.takes(feed.turn().await);
        // Nobody waits for it any more, and it takes longer than a question may.
        let mut slow = sqlx::raw_sql("BEGIN; INSERT INTO t VALUES (SLEEP(1.5)); COMMIT").execute(&mut *lease).boxed();
        assert!(futures_util::poll!(&mut slow).is_pending());
        drop(slow);
        lease.turn().unwrap().leaves(1);
        drop(lease);
        let _turn = feed.turn().await;
        let count = sqlx::query_scalar("SELECT COUNT(*) FROM t").fetch_one(&connections);
        assert_eq!((count.await.unwrap(), feed.last()), (1i64, 1));
        connections.close().await;
    }

    #[tokio::test]
    async fn no_more_are_lent_than_there_are_and_the_end_waits_for_them() {
        let database = TestDatabase::new();
        let connections = Connections::to(database.url()).unwrap();
        let mut leases = Vec::new();
        for _ in 0..CONNECTIONS {
            leases.push(connections.lend().await.unwrap());
        }
        let mut another = Box::pin(connections.lend());
        assert!(futures_util::poll!(&mut another).is_pending());
        leases.pop().unwrap().end();
        leases.push(another.await.unwrap());
        let mut closing = Box::pin(connections.close());
        assert!(futures_util::poll!(&mut closing).is_pending());
        let mut late = Box::pin(connections.lend());
        assert!(futures_util::poll!(&mut late).is_pending());
        leases.into_iter().for_each(Lease::end);
        closing.await;
        assert!(matches!(late.await, Err(sqlx::Error::PoolClosed)));
        assert!(connections.0.idle.lock().is_empty());
    }

    #[test]
    fn a_server_on_another_computer_must_show_its_certificate() {
        let refused = |url: &str| matches!(connect_options(url), Err(OpenError::Unverified));
        for local in ["127.0.0.1:3306", "localhost", "[::1]:3306"] {
            assert!(!leaves_this_computer(&format!("mysql://a:b@{local}/c")), "{local}");
            assert!(!refused(&format!("mysql://a:b@{local}/c?ssl-mode=disabled")));
        }
        for far in ["db.example.org", "192.0.2.7:3306", "localhost.example.org"] {
            assert!(leaves_this_computer(&format!("mysql://a:b@{far}/c")), "{far}");
            assert!(refused(&format!("mysql://a:b@{far}/c?ssl-mode=disabled")));
            assert!(refused(&format!("mysql://a:b@{far}/c?ssl-mode=PREFERRED")));
            assert!(!refused(&format!("mysql://a:b@{far}/c")));
        }
    }
}
