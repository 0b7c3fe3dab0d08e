//! One contract for every clipboard: what a copy gives, what a recall offers, who owns it when, and what
//! happens when something is wrong. The programs on the other side are real on X11, simulated otherwise.

use std::sync::Arc;
use std::time::Duration;
use tokio::time::timeout;
use yadori_core::capture::Refusal;
use yadori_core::{Format, format};
use yadori_desktop::simulated::{self, ProgramCopy, Simulated};
use yadori_desktop::{Desktop, Event, Reading, x11};
use yadori_trials::PATIENCE;
use yadori_trials::display::Display;
use yadori_trials::program::{self, Manner, Program};

/// The programs' side of a clipboard.
trait Programs: Sized {
    async fn connect(reading: Arc<Reading>) -> (Desktop, Self);
    async fn copy(&mut self, formats: &[(&'static str, Vec<u8>)]);
    async fn copy_secret(&mut self, text: &str);
    async fn copy_silently(&mut self);
    async fn owner_exits(&mut self);
    async fn paste(&mut self, mime: &'static str) -> Option<Vec<u8>>;
}

struct OnX11 {
    display: Arc<Display>,
    owner: Option<Program>,
}

/// The names under which programs on X11 offer what we call by MIME types.
fn target(mime: &'static str) -> &'static str {
    if mime == format::PLAIN { "UTF8_STRING" } else { mime }
}

impl OnX11 {
    async fn own(&mut self, targets: Vec<(&'static str, Vec<u8>)>, manner: Manner) {
        let display = self.display.clone();
        let program = tokio::task::spawn_blocking(move || {
            let targets: Vec<(&str, &[u8])> = targets.iter().map(|(name, data)| (*name, data.as_slice())).collect();
            Program::copy(display.name(), &targets, manner)
        });
        self.owner = Some(program.await.unwrap());
    }
}

impl Programs for OnX11 {
    async fn connect(reading: Arc<Reading>) -> (Desktop, Self) {
        let display = Arc::new(tokio::task::spawn_blocking(Display::start).await.unwrap());
        (x11::connect(Some(display.name()), reading).unwrap(), Self { display, owner: None })
    }

    async fn copy(&mut self, formats: &[(&'static str, Vec<u8>)]) {
        self.own(formats.iter().map(|(mime, data)| (target(mime), data.clone())).collect(), Manner::Honest).await;
    }

    async fn copy_secret(&mut self, text: &str) {
        self.own(vec![("UTF8_STRING", text.into()), ("x-kde-passwordManagerHint", b"secret".to_vec())], Manner::Honest)
            .await;
    }

    async fn copy_silently(&mut self) {
        self.own(vec![("UTF8_STRING", b"never given".to_vec())], Manner::Silent).await;
    }

    async fn owner_exits(&mut self) {
        let owner = self.owner.take().unwrap();
        let display = self.display.clone();
        tokio::task::spawn_blocking(move || {
            owner.exit();
            // The hand-over is done when somebody owns the clipboard again.
            let deadline = std::time::Instant::now() + PATIENCE;
            while !program::is_owned(display.name()) && std::time::Instant::now() < deadline {
                std::thread::yield_now();
            }
        })
        .await
        .unwrap();
    }

    async fn paste(&mut self, mime: &'static str) -> Option<Vec<u8>> {
        let display = self.display.clone();
        tokio::task::spawn_blocking(move || program::paste(display.name(), target(mime))).await.unwrap()
    }
}

struct InMemory(Simulated);

impl Programs for InMemory {
    async fn connect(reading: Arc<Reading>) -> (Desktop, Self) {
        let (desktop, programs) = simulated::connect(reading);
        (desktop, Self(programs))
    }

    async fn copy(&mut self, formats: &[(&'static str, Vec<u8>)]) {
        let formats = formats.iter().map(|(mime, data)| Format::new(*mime, data.clone())).collect();
        self.0.copy(ProgramCopy { formats, ..ProgramCopy::default() }).await;
    }

    async fn copy_secret(&mut self, text: &str) {
        self.0.copy(ProgramCopy { formats: vec![Format::plain(text)], secret: true, ..ProgramCopy::default() }).await;
    }

    async fn copy_silently(&mut self) {
        self.0
            .copy(ProgramCopy { formats: vec![Format::plain("never given")], silent: true, ..ProgramCopy::default() })
            .await;
    }

    async fn owner_exits(&mut self) {
        self.0.owner_exits();
    }

    async fn paste(&mut self, mime: &'static str) -> Option<Vec<u8>> {
        self.0.paste(mime).map(|data| data.to_vec())
    }
}

fn reading() -> Arc<Reading> {
    Reading::new(1024 * 1024, Duration::from_millis(400))
}

async fn next(desktop: &mut Desktop) -> Event {
    timeout(PATIENCE, desktop.events.recv()).await.expect("an event in time").expect("an event")
}

async fn copied(desktop: &mut Desktop) -> Vec<Format> {
    match next(desktop).await {
        Event::Copied(copied) => copied.copy.formats,
        other => panic!("not a copy: {other:?}"),
    }
}

async fn missed(desktop: &mut Desktop) -> Refusal {
    match next(desktop).await {
        Event::Missed { refusal, .. } => refusal,
        other => panic!("not a miss: {other:?}"),
    }
}

const HTML: &str = "text/html";

async fn a_copy_gives_its_useful_formats<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs
        .copy(&[(format::PLAIN, "Grüße 🎭".into()), (HTML, b"<b>x</b>".to_vec()), ("application/x-own", b"?".to_vec())])
        .await;
    let formats = copied(&mut desktop).await;
    assert_eq!(formats, [Format::plain("Grüße 🎭"), Format::new(HTML, "<b>x</b>")]);
}

async fn a_recall_offers_all_formats_exactly<P: Programs>() {
    let (desktop, mut programs) = P::connect(reading()).await;
    let image: Vec<u8> = (0..=255).collect();
    desktop
        .clipboard
        .offer(vec![Format::plain("a\nb"), Format::new(HTML, "<i>a</i>"), Format::new("image/png", image.clone())])
        .await
        .unwrap()
        .unwrap();
    assert_eq!(programs.paste(format::PLAIN).await.as_deref(), Some(&b"a\nb"[..]));
    assert_eq!(programs.paste(HTML).await.as_deref(), Some(&b"<i>a</i>"[..]));
    assert_eq!(programs.paste("image/png").await, Some(image));
    assert_eq!(programs.paste("image/jpeg").await, None);
}

async fn what_we_offer_is_not_told_as_a_copy<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    desktop.clipboard.offer(vec![Format::plain("ours")]).await.unwrap().unwrap();
    programs.copy(&[(format::PLAIN, b"theirs".to_vec())]).await;
    assert_eq!(copied(&mut desktop).await, [Format::plain("theirs")]);
    assert_eq!(programs.paste(format::PLAIN).await.as_deref(), Some(&b"theirs"[..]));
}

async fn the_last_copy_outlives_its_owner<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy(&[(format::PLAIN, b"lasting".to_vec()), (HTML, b"<p>lasting".to_vec())]).await;
    copied(&mut desktop).await;
    programs.owner_exits().await;
    assert_eq!(programs.paste(format::PLAIN).await.as_deref(), Some(&b"lasting"[..]));
    assert_eq!(programs.paste(HTML).await.as_deref(), Some(&b"<p>lasting"[..]));
}

async fn a_secret_is_not_read<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy_secret("owl").await;
    assert_eq!(missed(&mut desktop).await, Refusal::Secret);
}

async fn nothing_is_read_while_nobody_listens<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    desktop.reading.listen(false);
    programs.copy(&[(format::PLAIN, b"private".to_vec())]).await;
    assert_eq!(missed(&mut desktop).await, Refusal::Paused);
    desktop.reading.listen(true);
    programs.copy(&[(format::PLAIN, b"again".to_vec())]).await;
    assert_eq!(copied(&mut desktop).await, [Format::plain("again")]);
}

async fn a_silent_owner_costs_one_timeout<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy_silently().await;
    assert!(matches!(missed(&mut desktop).await, Refusal::Undelivered(_)));
    programs.copy(&[(format::PLAIN, b"next".to_vec())]).await;
    assert_eq!(copied(&mut desktop).await, [Format::plain("next")]);
}

async fn a_copy_over_the_limit_is_refused<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy(&[(format::PLAIN, vec![b'x'; 1024 * 1024 + 1])]).await;
    assert_eq!(missed(&mut desktop).await, Refusal::TooLarge { limit: 1024 * 1024 });
    programs.copy(&[(format::PLAIN, vec![b'x'; 1024 * 1024])]).await;
    assert_eq!(copied(&mut desktop).await[0].data.len(), 1024 * 1024);
}

async fn a_copy_of_nothing_useful_is_told_as_missed<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy(&[("application/x-own", b"?".to_vec())]).await;
    assert_eq!(missed(&mut desktop).await, Refusal::NoUsefulFormat);
}

macro_rules! contract {
    ($($name:ident),* $(,)?) => {
        mod on_x11 {
            $(#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
            async fn $name() {
                super::$name::<super::OnX11>().await;
            })*
        }
        mod simulated_one {
            $(#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
            async fn $name() {
                super::$name::<super::InMemory>().await;
            })*
        }
    };
}

contract!(
    a_copy_gives_its_useful_formats,
    a_recall_offers_all_formats_exactly,
    what_we_offer_is_not_told_as_a_copy,
    the_last_copy_outlives_its_owner,
    a_secret_is_not_read,
    nothing_is_read_while_nobody_listens,
    a_silent_owner_costs_one_timeout,
    a_copy_over_the_limit_is_refused,
    a_copy_of_nothing_useful_is_told_as_missed,
);
