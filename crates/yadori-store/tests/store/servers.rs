//! The private server under the store: one that dies, and one whose folder is held.

use crate::support::PATIENCE;
use rustix::process::{Pid, Signal, kill_process};
use tempfile::TempDir;
use yadori_database::{PrivateServer, ServerError, ServerState};
use yadori_store::Store;

/// A server of its own: what is done to it concerns nobody else.
async fn own() -> (PrivateServer, TempDir) {
    let folder = tempfile::Builder::new().prefix("yadori-store-").tempdir().unwrap();
    (PrivateServer::start(&folder.path().join("database"), None).await.unwrap(), folder)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_that_dies_is_started_again_and_the_store_goes_on() {
    let (server, _folder) = own().await;
    let mut state = server.state();
    let ServerState::Running { pid, url, .. } = state.borrow_and_update().clone() else { panic!("it does not run") };
    let store = Store::open(&url, ("workshop", [1; 16])).await.unwrap();
    kill_process(Pid::from_raw(pid as i32).unwrap(), Signal::KILL).unwrap();
    let is_back = state.wait_for(|state| matches!(state, ServerState::Running { restarts: 1, .. }));
    let back = tokio::time::timeout(PATIENCE, is_back).await.unwrap().unwrap().clone();
    let ServerState::Running { url, .. } = back else { unreachable!() };
    store.moved_to(&url).unwrap();
    store.ping().await.unwrap();
    store.close().await;
    server.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_that_still_holds_the_folder_is_named() {
    let (server, folder) = own().await;
    // The other is no orphan: this very process keeps it.
    let path = folder.path().join("database");
    let again = tokio::time::timeout(PATIENCE, PrivateServer::start(&path, None)).await.unwrap();
    let Err(error) = again else { panic!("two servers on one folder") };
    assert!(matches!(error, ServerError::StillHeld { .. }), "{error}");
    assert!(error.to_string().contains("kill "), "{error}");
    server.stop().await;
}
