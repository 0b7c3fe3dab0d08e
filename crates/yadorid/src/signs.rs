//! The signs by which a person sees, without asking, how the service stands.

use crate::service::Service;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::mpsc;
use yadori_core::feedback::Feedback;
use yadori_desktop::signs::{Sign, Signs, Sound, Standing, Topic, Wish};
use yadori_engine::clock::timestamp;
use yadori_engine::history::find::PageRequest;
use yadori_engine::history::listing::{Listed, preview};
use yadori_engine::overview::status::{Off, Status};
use yadori_engine::recalling::Recall;

/// Clips in the icon's menu.
const CLIPS: u32 = 8;

/// Longest preview of a clip in the menu, in characters.
const LONGEST: usize = 50;

/// How long to wait for more changes before the icon is changed.
const SETTLING: Duration = Duration::from_millis(100);

/// How long trouble lasts before it is told of: most of it is over sooner.
const PATIENCE: Duration = Duration::from_secs(3);

/// Shows the signs (what is needed while the service runs lies in `run`), and does what a person wants of them, until the task is dropped.
pub async fn show(service: Arc<Service>, run: PathBuf) {
    let (tells, mut wishes) = mpsc::unbounded_channel();
    let mut announcements = service.engine.history.ledger.listen();
    let mut shown = sign(&service).await;
    let mut kept = service.engine.capture.kept_copies();
    let mut sound = Sound::new(run.join("kept.wav"));
    let mut signs = match Signs::show(shown.clone(), tells.clone()).await {
        Ok(signs) => Some(signs),
        Err(error) => {
            tracing::debug!(%error, "there are neither icon nor notifications");
            None
        }
    };
    let mut told_of_trouble = false;
    loop {
        tokio::select! {
            wish = wishes.recv() => match wish {
                Some(wish) => grant(&service, &run, wish).await,
                None => return,
            },
            Ok(()) = kept.changed() => give_feedback(&service, signs.as_mut(), &mut sound).await,
            change = announcements.recv(), if signs.is_some() => {
                if matches!(change, Err(RecvError::Closed)) {
                    return;
                }
                tokio::time::sleep(SETTLING).await;
                announcements = announcements.resubscribe();
                let now = sign(&service).await;
                if now != shown {
                    shown = now;
                    if let Some(signs) = &signs {
                        signs.update(shown.clone()).await;
                    }
                }
            }
            () = tokio::time::sleep(PATIENCE), if (shown.standing == Standing::Trouble) != told_of_trouble => {
                told_of_trouble = !told_of_trouble;
                let summary = if told_of_trouble { "Copies are not kept" } else { "Copies are kept again" };
                if let Some(signs) = &mut signs {
                    signs.notify(Topic::Trouble, summary, &shown.text).await;
                }
            }
        }
    }
}

/// Tells of the copy that was kept last, as the rules want it.
async fn give_feedback(service: &Service, mut signs: Option<&mut Signs>, sound: &mut Sound) {
    let rules = service.engine.rule_book.rules();
    for feedback in &rules.rules().feedback {
        match (feedback, &mut signs) {
            (Feedback::Sound, _) => {
                if let Err(error) = sound.play() {
                    tracing::warn!(%error, "the sound for a copy was not played");
                }
            }
            (Feedback::Flash, Some(signs)) => signs.flash(),
            (Feedback::Notification, Some(signs)) => {
                if let Some(text) = latest(service, 1).await.pop() {
                    signs.notify(Topic::Copy, "Kept", &text.1).await;
                }
            }
            (Feedback::Flash | Feedback::Notification, None) => {}
        }
    }
}

/// The latest clips: ids and what they are, in a few words; of secrets, only that they are some.
async fn latest(service: &Service, count: u32) -> Vec<(String, String)> {
    let request = PageRequest { limit: Some(count), ..PageRequest::default() };
    let clips = match service.engine.history.find(&request).await {
        Ok(page) => page.clips,
        Err(_) => Vec::new(),
    };
    let short = |text: String| match text.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    };
    let words = |clip: Listed| {
        let words = clip.record.title.clone().unwrap_or_else(|| preview(&clip.record, None).0);
        (clip.record.id.to_string(), short(words))
    };
    clips.into_iter().map(words).collect()
}

/// How the service stands, as a sign.
async fn sign(service: &Arc<Service>) -> Sign {
    let status = service.engine.overview.status().await;
    let (standing, text) = standing(&status);
    let clips = latest(service, CLIPS).await;
    Sign { standing, tray_open: status.tray.open, text, clips }
}

/// How the service stands, at a glance and as a sentence.
fn standing(status: &Status) -> (Standing, String) {
    let database = &status.database;
    match &status.off {
        _ if !database.answers => match &database.failure {
            Some(failure) => (Standing::Trouble, format!("The database is away: {failure}")),
            None => (Standing::Trouble, "The database is away; it is being started again".into()),
        },
        Some(Off::NoClipboard(reason)) => (Standing::Trouble, format!("There is no access to the clipboard: {reason}")),
        _ if status.journal.waiting > 0 => {
            (Standing::Trouble, format!("The database takes no copies; {} wait", status.journal.waiting))
        }
        Some(Off::ByRule) => (Standing::Paused, "The history is off, by your rules".into()),
        None => match status.journal.pause {
            Some(pause) => match pause.until {
                Some(until) => {
                    let until = timestamp(until).to_zoned(jiff::tz::TimeZone::system());
                    (Standing::Paused, format!("Paused until {}", until.strftime("%H:%M")))
                }
                None => (Standing::Paused, "Paused until you resume".into()),
            },
            None => (Standing::Keeping, format!("Copies are kept; {}", amount(status.clips))),
        },
    }
}

fn amount(clips: u64) -> String {
    if clips == 1 { "1 clip".into() } else { format!("{clips} clips") }
}

async fn grant(service: &Arc<Service>, run: &Path, wish: Wish) {
    let engine = &service.engine;
    let done = match wish {
        Wish::Picker => engine.keys.act_on("picker").await.map_err(|error| error.to_string()),
        Wish::Tray => engine.keys.act_on("tray").await.map_err(|error| error.to_string()),
        Wish::Lock => engine.keys.act_on("lock").await.map_err(|error| error.to_string()),
        Wish::Pause(seconds) => engine.capture.pause(Some(seconds)).await.map_err(|error| error.to_string()),
        Wish::Resume => engine.capture.resume().await.map_err(|error| error.to_string()),
        Wish::Recall(id) => {
            engine.recalling.recall(&[id], &Recall::default()).await.map(drop).map_err(|error| error.to_string())
        }
        Wish::Console => open_console(service, run),
    };
    if let Err(error) = done {
        tracing::warn!(error, "what was wanted of the icon was not done");
    }
}

fn open_console(service: &Arc<Service>, run: &Path) -> Result<(), String> {
    let (url, _) = service.authenticator.new_link().map_err(|error| error.to_string())?;
    let file = yadori_files::way_in(run, &url).map_err(|error| error.to_string())?;
    let mut browser = tokio::process::Command::from(yadori_files::opener(file));
    let mut browser = browser.spawn().map_err(|error| format!("xdg-open cannot be run: {error}"))?;
    tokio::spawn(async move { browser.wait().await });
    Ok(())
}
