//! One contract for every clipboard: what a copy gives, what a recall offers, who owns it when, and what
//! happens when something is wrong. The programs on the other side are real ones, and one of our own that
//! offers several formats, lies, stalls and dies; for the simulated clipboard they are simulated too.

use std::sync::Arc;
use std::time::Duration;
use tokio::time::timeout;
use yadori_core::capture::{Copy, Refusal};
use yadori_core::{Format, Source, format};
use yadori_desktop::simulated::{self, ProgramCopy, Simulated};
use yadori_desktop::{ClipboardKind, Desktop, Event, OfferError, Reading, wayland, x11};
use yadori_e2e::PATIENCE;
use yadori_e2e::compositor::Compositor;
use yadori_e2e::display::Display;
use yadori_e2e::program::{self, Manner, Program};
use yadori_e2e::waiting::until;
use yadori_e2e::wayland_program::{Selection, WaylandProgram};

/// The programs' side of a clipboard.
trait Programs: Sized {
    async fn connect(reading: Arc<Reading>) -> (Desktop, Self);
    /// Our own program copies.
    async fn copy_as(&mut self, formats: &[(&'static str, Vec<u8>)], manner: Manner);
    async fn copy_secret(&mut self, text: &str);
    /// The usual tool of the system copies text.
    async fn tool_copies(&mut self, text: &str);
    /// What the usual tool of the system pastes.
    async fn tool_pastes(&mut self) -> String;
    /// A program selects text.
    async fn select(&mut self, text: &str);
    /// The program that owns the clipboard exits; returns when somebody else owns it, or nobody does and
    /// nobody is expected to.
    async fn owner_exits(&mut self, taken_over: bool);
    async fn paste(&mut self, mime: &'static str) -> Option<Vec<u8>>;

    async fn copy(&mut self, formats: &[(&'static str, Vec<u8>)]) {
        self.copy_as(formats, Manner::Honest).await;
    }
}

/// A clipboard of a desktop that can go away and come back.
trait Real: Programs {
    /// The desktop crashes; when `seen` is done, it is started again.
    async fn crashes(&mut self, seen: impl Future<Output = ()>);
}

struct OnX11 {
    display: Option<Arc<Display>>,
    owner: Option<Program>,
}

async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    tokio::task::spawn_blocking(work).await.unwrap()
}

/// The names under which programs on X11 offer what we call by MIME types.
fn target(mime: &'static str) -> &'static str {
    if mime == format::PLAIN { "UTF8_STRING" } else { mime }
}

impl OnX11 {
    fn display(&self) -> Arc<Display> {
        self.display.clone().unwrap()
    }

    async fn own(&mut self, targets: Vec<(&'static str, Vec<u8>)>, manner: Manner) {
        let display = self.display();
        let program = blocking(move || {
            let targets: Vec<(&str, &[u8])> = targets.iter().map(|(name, data)| (*name, data.as_slice())).collect();
            Program::copy(display.name(), &targets, manner)
        });
        self.owner = Some(program.await);
    }
}

impl Programs for OnX11 {
    async fn connect(reading: Arc<Reading>) -> (Desktop, Self) {
        let display = blocking(Display::start_apart).await;
        let desktop = x11::connect(Some(display.name()), reading).unwrap();
        (connected(desktop, ClipboardKind::X11).await, Self { display: Some(Arc::new(display)), owner: None })
    }

    async fn copy_as(&mut self, formats: &[(&'static str, Vec<u8>)], manner: Manner) {
        self.own(formats.iter().map(|(mime, data)| (target(mime), data.clone())).collect(), manner).await;
    }

    async fn copy_secret(&mut self, text: &str) {
        self.own(vec![("UTF8_STRING", text.into()), ("x-kde-passwordManagerHint", b"secret".to_vec())], Manner::Honest)
            .await;
    }

    async fn tool_copies(&mut self, text: &str) {
        let (display, text) = (self.display(), text.to_owned());
        blocking(move || display.xsel("--clipboard", &text)).await;
    }

    async fn tool_pastes(&mut self) -> String {
        let display = self.display();
        blocking(move || {
            let text = String::from_utf8(display.xclip_paste("UTF8_STRING").unwrap()).unwrap();
            assert_eq!(display.xsel_paste("--clipboard"), text, "xclip and xsel agree");
            text
        })
        .await
    }

    async fn select(&mut self, text: &str) {
        let (display, text) = (self.display(), text.to_owned());
        blocking(move || display.xsel("--primary", &text)).await;
    }

    async fn owner_exits(&mut self, taken_over: bool) {
        let (owner, display) = (self.owner.take().unwrap(), self.display());
        blocking(move || {
            owner.exit();
            until("the clipboard is handed over", || program::is_owned(display.name()) == taken_over);
        })
        .await;
    }

    async fn paste(&mut self, mime: &'static str) -> Option<Vec<u8>> {
        let display = self.display();
        blocking(move || program::paste(display.name(), target(mime))).await
    }
}

impl Real for OnX11 {
    async fn crashes(&mut self, seen: impl Future<Output = ()>) {
        let display = Arc::into_inner(self.display.take().unwrap()).unwrap();
        let start_again = display.crash();
        seen.await;
        self.display = Some(Arc::new(blocking(start_again).await));
    }
}

struct OnWayland {
    compositor: Option<Arc<Compositor>>,
    owner: Option<WaylandProgram>,
}

impl OnWayland {
    fn compositor(&self) -> Arc<Compositor> {
        self.compositor.clone().unwrap()
    }

    async fn own(&mut self, selection: Selection, formats: Vec<(&'static str, Vec<u8>)>, manner: Manner) {
        let compositor = self.compositor();
        let program = blocking(move || {
            let formats: Vec<(&str, &[u8])> = formats.iter().map(|(name, data)| (*name, data.as_slice())).collect();
            WaylandProgram::own(compositor.socket(), selection, &formats, manner)
        });
        self.owner = Some(program.await);
    }
}

impl Programs for OnWayland {
    async fn connect(reading: Arc<Reading>) -> (Desktop, Self) {
        let compositor = blocking(Compositor::start).await;
        let desktop = wayland::connect(Some(compositor.socket()), reading).unwrap();
        (connected(desktop, ClipboardKind::Wayland).await, Self { compositor: Some(Arc::new(compositor)), owner: None })
    }

    async fn copy_as(&mut self, formats: &[(&'static str, Vec<u8>)], manner: Manner) {
        self.own(Selection::Clipboard, formats.to_vec(), manner).await;
    }

    async fn copy_secret(&mut self, text: &str) {
        let formats = vec![("text/plain", text.into()), ("x-kde-passwordManagerHint", b"secret".to_vec())];
        self.own(Selection::Clipboard, formats, Manner::Honest).await;
    }

    async fn tool_copies(&mut self, text: &str) {
        let (compositor, text) = (self.compositor(), text.to_owned());
        blocking(move || compositor.wl_copy_with(&[], text.as_bytes())).await;
    }

    async fn tool_pastes(&mut self) -> String {
        let compositor = self.compositor();
        blocking(move || String::from_utf8(compositor.wl_paste(&[]).unwrap()).unwrap()).await
    }

    async fn select(&mut self, text: &str) {
        let (compositor, text) = (self.compositor(), text.to_owned());
        blocking(move || compositor.wl_copy_with(&["--primary"], text.as_bytes())).await;
    }

    async fn owner_exits(&mut self, taken_over: bool) {
        let (owner, compositor) = (self.owner.take().unwrap(), self.compositor());
        blocking(move || {
            owner.exit();
            until("the clipboard is handed over", || compositor.wl_paste(&["--list-types"]).is_some() == taken_over);
        })
        .await;
    }

    async fn paste(&mut self, mime: &'static str) -> Option<Vec<u8>> {
        let compositor = self.compositor();
        blocking(move || {
            let types = String::from_utf8(compositor.wl_paste(&["--list-types"])?).unwrap();
            types.lines().any(|offered| offered == mime).then(|| compositor.wl_paste(&["--type", mime]).unwrap())
        })
        .await
    }
}

impl Real for OnWayland {
    async fn crashes(&mut self, seen: impl Future<Output = ()>) {
        let compositor = Arc::into_inner(self.compositor.take().unwrap()).unwrap();
        let start_again = compositor.crash();
        seen.await;
        self.compositor = Some(Arc::new(blocking(start_again).await));
    }
}

struct InMemory(Simulated);

impl InMemory {
    async fn own(&mut self, copy: ProgramCopy) {
        self.0.copy(copy).await;
    }
}

impl Programs for InMemory {
    async fn connect(reading: Arc<Reading>) -> (Desktop, Self) {
        let (desktop, programs) = simulated::connect(reading);
        (connected(desktop, ClipboardKind::Simulated).await, Self(programs))
    }

    async fn copy_as(&mut self, formats: &[(&'static str, Vec<u8>)], manner: Manner) {
        let formats: Vec<Format> = formats.iter().map(|(mime, data)| Format::new(*mime, data.clone())).collect();
        let copy = ProgramCopy { formats, ..ProgramCopy::default() };
        self.own(match manner {
            Manner::Honest | Manner::HalfSilent | Manner::Pieces(_) => copy,
            Manner::Silent | Manner::Stalls | Manner::Dies => ProgramCopy { silent: true, ..copy },
            Manner::Liar => ProgramCopy::default(),
            Manner::Floods => {
                ProgramCopy { formats: vec![Format::new(format::PLAIN, vec![b'x'; 2 << 20])], ..ProgramCopy::default() }
            }
        })
        .await;
    }

    async fn copy_secret(&mut self, text: &str) {
        self.own(ProgramCopy { formats: vec![Format::plain(text)], secret: true, ..ProgramCopy::default() }).await;
    }

    async fn tool_copies(&mut self, text: &str) {
        self.own(ProgramCopy { formats: vec![Format::plain(text)], ..ProgramCopy::default() }).await;
    }

    async fn tool_pastes(&mut self) -> String {
        String::from_utf8(self.0.paste(format::PLAIN).unwrap().to_vec()).unwrap()
    }

    async fn select(&mut self, text: &str) {
        self.0.select(text, Source::default()).await;
    }

    async fn owner_exits(&mut self, taken_over: bool) {
        self.0.owner_exits();
        assert_eq!(!self.0.offered().is_empty(), taken_over);
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

/// The first thing that a desktop tells is what it is.
async fn connected(mut desktop: Desktop, kind: ClipboardKind) -> Desktop {
    match next(&mut desktop).await {
        Event::Connected { clipboard, .. } if clipboard == kind => desktop,
        other => panic!("not connected: {other:?}"),
    }
}

async fn copy(desktop: &mut Desktop) -> Copy {
    loop {
        match next(desktop).await {
            Event::Copied(copied) => return copied.copy,
            // Whether another program is there for exiting ones may be told at any time.
            Event::Connected { .. } | Event::Pasted => {}
            other => panic!("not a copy: {other:?}"),
        }
    }
}

async fn copied(desktop: &mut Desktop) -> Vec<Format> {
    copy(desktop).await.formats
}

async fn missed(desktop: &mut Desktop) -> Refusal {
    match next(desktop).await {
        Event::Missed { refusal, .. } => refusal,
        other => panic!("not a miss: {other:?}"),
    }
}

async fn offer(desktop: &Desktop, formats: &[Format]) {
    desktop.clipboard.offer(formats.to_vec()).await.unwrap().unwrap();
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
    offer(&desktop, &[Format::plain("a\nb"), Format::new(HTML, "<i>a</i>"), Format::new("image/png", image.clone())])
        .await;
    assert_eq!(programs.paste(format::PLAIN).await.as_deref(), Some(&b"a\nb"[..]));
    assert_eq!(programs.paste(HTML).await.as_deref(), Some(&b"<i>a</i>"[..]));
    assert_eq!(programs.paste("image/png").await, Some(image));
    assert_eq!(programs.paste("image/jpeg").await, None);
}

async fn the_usual_tools_copy_and_paste<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.tool_copies("by a tool: 舞台 🎭").await;
    assert_eq!(copied(&mut desktop).await, [Format::plain("by a tool: 舞台 🎭")]);
    offer(&desktop, &[Format::plain("for a tool: 舞台 🎭")]).await;
    assert_eq!(programs.tool_pastes().await, "for a tool: 舞台 🎭");
}

async fn what_we_offer_is_not_told_as_a_copy<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    offer(&desktop, &[Format::plain("ours")]).await;
    programs.copy(&[(format::PLAIN, b"theirs".to_vec())]).await;
    assert_eq!(copied(&mut desktop).await, [Format::plain("theirs")]);
    assert_eq!(programs.paste(format::PLAIN).await.as_deref(), Some(&b"theirs"[..]));
}

async fn the_last_copy_outlives_its_owner<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy(&[(format::PLAIN, b"lasting".to_vec()), (HTML, b"<p>lasting".to_vec())]).await;
    copied(&mut desktop).await;
    programs.owner_exits(true).await;
    assert_eq!(programs.paste(format::PLAIN).await.as_deref(), Some(&b"lasting"[..]));
    assert_eq!(programs.paste(HTML).await.as_deref(), Some(&b"<p>lasting"[..]));
}

async fn what_we_let_go_of_goes_with_its_owner<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy(&[(format::PLAIN, b"password: owl".to_vec())]).await;
    copied(&mut desktop).await;
    desktop.clipboard.let_go();
    programs.owner_exits(false).await;
    assert_eq!(programs.paste(format::PLAIN).await, None);
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

async fn an_owner_that_does_not_deliver_costs_one_timeout<P: Programs>() {
    for manner in [Manner::Silent, Manner::Stalls] {
        let (mut desktop, mut programs) = P::connect(reading()).await;
        programs.copy_as(&[(format::PLAIN, vec![b'x'; 200_000])], manner).await;
        assert!(matches!(missed(&mut desktop).await, Refusal::Undelivered(_)), "{manner:?}");
        programs.copy(&[(format::PLAIN, b"next".to_vec())]).await;
        assert_eq!(copied(&mut desktop).await, [Format::plain("next")], "{manner:?}");
    }
}

async fn an_owner_that_gives_nothing_is_told_as_missed<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy_as(&[(format::PLAIN, b"never given".to_vec())], Manner::Liar).await;
    assert_eq!(missed(&mut desktop).await, Refusal::NoUsefulFormat);
    programs.copy(&[("application/x-own", b"?".to_vec())]).await;
    assert_eq!(missed(&mut desktop).await, Refusal::NoUsefulFormat);
}

async fn a_copy_over_the_limit_is_refused<P: Programs>() {
    let limit = 1024 * 1024;
    // However busy the machine is, no pause between two pieces is as long.
    let (mut desktop, mut programs) = P::connect(Reading::new(limit as u64, PATIENCE)).await;
    programs.copy(&[(format::PLAIN, vec![b'x'; limit + 1])]).await;
    assert_eq!(missed(&mut desktop).await, Refusal::TooLarge { limit: limit as u64 });
    programs.copy_as(&[(format::PLAIN, vec![b'x'; 10])], Manner::Floods).await;
    assert_eq!(missed(&mut desktop).await, Refusal::TooLarge { limit: limit as u64 });
    programs.copy_as(&[(format::PLAIN, vec![b'x'; limit])], Manner::Pieces(50_000)).await;
    assert_eq!(copied(&mut desktop).await[0].data.len(), limit);
}

async fn a_selection_is_taken_only_when_it_is_wanted<P: Programs>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    programs.copy(&[(format::PLAIN, b"copied".to_vec())]).await;
    copied(&mut desktop).await;
    programs.select("not wanted").await;
    desktop.reading.take_primary(true);
    programs.select("gel 201").await;
    let copy = copy(&mut desktop).await;
    assert_eq!((copy.formats, copy.source.selected), (vec![Format::plain("gel 201")], true));
    assert_eq!(programs.paste(format::PLAIN).await.as_deref(), Some(&b"copied"[..]), "the clipboard is left alone");
}

async fn the_desktop_goes_away_and_comes_back<P: Real>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    offer(&desktop, &[Format::plain("held"), Format::new(HTML, "<i>held")]).await;
    let clipboard = desktop.clipboard.clone();
    let events = &mut desktop.events;
    programs
        .crashes(async {
            assert!(matches!(timeout(PATIENCE, events.recv()).await, Ok(Some(Event::Lost(_)))));
            let refused = clipboard.offer(vec![Format::plain("nowhere")]).await.unwrap();
            assert_eq!(refused, Err(OfferError::Lost));
        })
        .await;
    let mut desktop = desktop;
    while !matches!(next(&mut desktop).await, Event::Connected { .. }) {}
    // What was on the clipboard is there again.
    let deadline = tokio::time::Instant::now() + PATIENCE;
    while programs.paste(HTML).await.is_none() {
        assert!(tokio::time::Instant::now() < deadline, "nothing is on the clipboard");
    }
    assert_eq!(programs.paste(HTML).await.as_deref(), Some(&b"<i>held"[..]));
    programs.copy(&[(format::PLAIN, b"captured as ever".to_vec())]).await;
    assert_eq!(copied(&mut desktop).await, [Format::plain("captured as ever")]);
}

async fn a_program_that_takes_it_back_each_time_is_yielded_to<P: Real>() {
    let (mut desktop, mut programs) = P::connect(reading()).await;
    let ours = Format::plain("lamp 7");
    for turn in 1..=3 {
        offer(&desktop, std::slice::from_ref(&ours)).await;
        // The other program copies what it has found.
        programs.copy(&[(format::PLAIN, b"lamp 7".to_vec())]).await;
        assert_eq!(missed(&mut desktop).await, Refusal::Echo);
        if turn == 3 {
            assert!(matches!(next(&mut desktop).await, Event::Contested(_)));
        }
    }
    // Not even what it leaves is taken any more, or the two would go on for ever.
    programs.owner_exits(false).await;
    programs.copy(&[(format::PLAIN, b"something else".to_vec())]).await;
    assert!(matches!(next(&mut desktop).await, Event::Uncontested));
    assert_eq!(copied(&mut desktop).await, [Format::plain("something else")]);
    programs.owner_exits(true).await;
}

macro_rules! contract {
    (all: $($name:ident),*; real: $($real:ident),* $(,)?) => {
        mod on_x11 {
            contract!(@tests OnX11: $($name),*, $($real),*);
        }
        mod on_wayland {
            contract!(@tests OnWayland: $($name),*, $($real),*);
        }
        mod simulated_one {
            contract!(@tests InMemory: $($name),*);
        }
    };
    (@tests $programs:ident: $($name:ident),*) => {
        $(#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
        async fn $name() {
            super::$name::<super::$programs>().await;
        })*
    };
}

contract!(
    all:
    a_copy_gives_its_useful_formats,
    a_recall_offers_all_formats_exactly,
    the_usual_tools_copy_and_paste,
    what_we_offer_is_not_told_as_a_copy,
    the_last_copy_outlives_its_owner,
    what_we_let_go_of_goes_with_its_owner,
    a_secret_is_not_read,
    nothing_is_read_while_nobody_listens,
    an_owner_that_does_not_deliver_costs_one_timeout,
    an_owner_that_gives_nothing_is_told_as_missed,
    a_copy_over_the_limit_is_refused,
    a_selection_is_taken_only_when_it_is_wanted;
    real:
    the_desktop_goes_away_and_comes_back,
    a_program_that_takes_it_back_each_time_is_yielded_to,
);
