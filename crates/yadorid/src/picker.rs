//! The picker: a window of its own, in a process of its own, that stays ready once it was wanted.

use std::io;
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::Arc;
use tokio::io::AsyncWriteExt;
use tokio::net::UnixStream;
use tokio::process::{Child, Command};
use yadori_engine::Engine;
use yadori_files::Places;

/// The name of the program.
const PROGRAM: &str = "yadori-picker";

/// The picker of one instance.
pub struct Picker {
    places: Places,
    /// The one that was started here, to be waited for when it has ended.
    child: Option<Child>,
}

impl Picker {
    /// The picker of the instance with these folders.
    pub fn new(places: Places) -> Self {
        Self { places, child: None }
    }

    /// Shows the picker whenever it is wanted. Ends when the task is dropped.
    pub async fn show_when_wanted(&mut self, engine: Arc<Engine>) {
        loop {
            engine.keys.picker_wanted().await;
            if let Err(error) = self.show().await {
                tracing::warn!(%error, "the picker could not be shown; is {PROGRAM} installed?");
            }
        }
    }

    async fn show(&mut self) -> io::Result<()> {
        if self.tell("show").await.is_ok() {
            return Ok(());
        }
        if let Some(mut ended) = self.child.take() {
            // One that is starting has heard what it is to do, and is not started twice.
            if ended.try_wait()?.is_none() {
                self.child = Some(ended);
                return Ok(());
            }
        }
        let mut command = Command::new(program());
        if let Some(home) = &self.places.home {
            command.arg("--home").arg(home);
        }
        // In a group of its own: a signal that is meant for the service does not end it.
        command.stdin(Stdio::null()).stdout(Stdio::null()).process_group(0).kill_on_drop(true);
        self.child = Some(command.spawn()?);
        Ok(())
    }

    async fn tell(&self, word: &str) -> io::Result<()> {
        let mut picker = UnixStream::connect(self.places.picker()).await?;
        picker.write_all(format!("{word}\n").as_bytes()).await?;
        picker.shutdown().await
    }

    /// Ends the picker: the service ends in good order. (One whose service has crashed stays, and says so.)
    pub async fn end(mut self) {
        let _ = self.tell("end").await;
        if let Some(child) = &mut self.child {
            let ended = tokio::time::timeout(std::time::Duration::from_secs(1), child.wait());
            if ended.await.is_err() {
                let _ = child.kill().await;
            }
        }
    }
}

/// Beside the service, else wherever programs are found.
fn program() -> PathBuf {
    let beside = std::env::current_exe().ok().and_then(|own| Some(own.parent()?.join(PROGRAM)));
    beside.filter(|path| path.exists()).unwrap_or_else(|| PROGRAM.into())
}
