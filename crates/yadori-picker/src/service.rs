//! What is asked of the service, on threads of their own, so that the window never waits; and what comes back.
//!
//! * lists: only the latest one that is wanted is asked for
//! * acts: one after the other, in the order in which they were asked for
//! * pictures: small ones, for rows
//! * events: what changes, and whether the service is there

use serde::de::DeserializeOwned;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;
use yadori_api::{
    CaptureState, Clip, ClipDetail, ClipPage, Clips, ConsoleLink, ContentQuery, Delete, Deleted, Drawer,
    DrawerContents, KeyboardFocus, Kind, ListQuery, MOST_ON_A_PAGE, Named, Pin, Problem, Recall, Recalled, Status,
    Tray, Undo, Undone, Way,
};
use yadori_client::{Client, ClientError, in_path};

/// Clips that are asked for at a time.
pub const PAGE: u32 = 30;

/// Most clips that are asked for anew when the list changes.
pub const MOST: u32 = 2_000;

/// Largest picture that is shown whole, in bytes as it was copied.
const LARGEST_PICTURE: u64 = 32 * 1024 * 1024;

/// How long to wait before the service is looked for again.
const AGAIN: Duration = Duration::from_millis(500);

/// A list that is wanted.
#[derive(Clone, Debug, PartialEq)]
pub enum List {
    /// The history, or what a query finds in it; from a cursor on, and so many clips at most.
    History { query: String, cursor: Option<String>, limit: u32 },
    /// What is kept.
    Kept,
}

impl Default for List {
    fn default() -> Self {
        Self::History { query: String::new(), cursor: None, limit: PAGE }
    }
}

impl List {
    /// Whether it is the same list, however much of it.
    pub fn is_of(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::History { query, .. }, Self::History { query: other, .. }) => query == other,
            (Self::Kept, Self::Kept) => true,
            _ => false,
        }
    }
}

/// What is to be done.
#[derive(Debug)]
pub enum Job {
    /// Tell which window has the keyboard, since the picker is about to be shown.
    Open,
    /// Put clips on the clipboard, or paste them.
    Recall(Box<Recall>),
    /// Pin a clip, or unpin it.
    Pin(String, bool),
    /// Delete clips.
    Delete(Vec<String>),
    /// Undo a delete.
    Undo(u64),
    /// Add clips to the tray.
    Tray(Vec<String>),
    /// Show the whole of a clip.
    Unfold(Box<Clip>),
    /// List the ways to reshape.
    Ways,
    /// Tell the address of a link.
    Link(String),
    /// Let a browser in to the console.
    Console,
}

/// What the service tells.
#[derive(Debug)]
pub enum News {
    /// A list that was wanted, with the number under which it was.
    Listed(u64, Result<Page, String>),
    /// How the service stands.
    Status(Box<Status>),
    /// The window that has the keyboard.
    Focus(Option<String>),
    /// Clips were put on the clipboard, or pasted.
    Recalled(Box<Recall>, Recalled),
    /// They were not.
    NotRecalled(Box<Recall>, Box<Problem>),
    /// Something was done: in a sentence.
    Done(String),
    /// Clips were deleted: the step that undoes it, and the sentence.
    Deleted(Option<u64>, String),
    /// Something was not done: why, in a sentence.
    Failed(String),
    /// The whole of a clip.
    Whole(Box<ClipDetail>, Option<Vec<u8>>),
    /// The ways to reshape.
    Ways(Vec<Way>),
    /// An address to be opened.
    Open(String),
    /// The small picture of a clip.
    Picture(String, Vec<u8>),
    /// Something has changed.
    Changed,
    /// The service is gone; the command that starts it.
    Gone(String),
    /// It is back.
    Back,
}

/// Clips, and how to go on from there.
#[derive(Debug)]
pub struct Page {
    pub list: List,
    pub clips: Vec<Clip>,
    /// Sections of what is kept.
    pub sections: Vec<(String, Vec<Clip>)>,
    pub next: Option<String>,
    pub total: u64,
    pub tray: Option<Tray>,
}

/// A connection that is made again when the service was restarted.
struct Connection {
    home: Option<PathBuf>,
    client: Option<Client>,
}

impl Connection {
    fn ask<T>(&mut self, ask: impl Fn(&Client) -> Result<T, ClientError>) -> Result<T, ClientError> {
        for last in [false, true] {
            let client = match self.client.take() {
                Some(client) => client,
                None => Client::find(self.home.as_deref())?,
            };
            match ask(&client) {
                // A new service has another address and another token.
                Err(ClientError::Gone { .. }) if !last => {}
                Err(ClientError::Problem(problem)) if problem.status == 401 && !last => {}
                answer => {
                    self.client = Some(client);
                    return answer;
                }
            }
        }
        unreachable!("the last try returns")
    }

    fn get<T: DeserializeOwned>(&mut self, path: &str) -> Result<T, ClientError> {
        self.ask(|client| client.get(path))
    }
}

/// Asks the service.
pub struct Service {
    lists: Sender<(u64, List)>,
    jobs: Sender<Job>,
    pictures: Sender<String>,
}

impl Service {
    /// Asks the service of this home; what it tells comes out of the receiver.
    pub fn start(home: Option<PathBuf>) -> (Self, async_channel::Receiver<News>) {
        let (news, told) = async_channel::unbounded();
        let connection = || Connection { home: home.clone(), client: None };
        let (lists, wanted) = channel();
        let (jobs, asked) = channel();
        let (pictures, missing) = channel();
        let (mut lister, mut worker, mut painter, follower) = (connection(), connection(), connection(), connection());
        let [of_lists, of_jobs, of_pictures, of_events] = std::array::from_fn(|_| Teller(news.clone()));
        std::thread::spawn(move || tell_lists(&mut lister, &wanted, &of_lists));
        std::thread::spawn(move || do_jobs(&mut worker, &asked, &of_jobs));
        std::thread::spawn(move || fetch_pictures(&mut painter, &missing, &of_pictures));
        std::thread::spawn(move || follow(follower, &of_events));
        (Self { lists, jobs, pictures }, told)
    }

    /// Asks for a list; it comes with this number.
    pub fn list(&self, number: u64, list: List) {
        let _ = self.lists.send((number, list));
    }

    /// Asks for something to be done.
    pub fn act(&self, job: Job) {
        let _ = self.jobs.send(job);
    }

    /// Asks for the small picture of a clip.
    pub fn picture(&self, id: &str) {
        let _ = self.pictures.send(id.to_owned());
    }
}

/// Where news go.
struct Teller(async_channel::Sender<News>);

impl Teller {
    /// Tells the window; false when it is gone.
    fn tell(&self, news: News) -> bool {
        self.0.send_blocking(news).is_ok()
    }
}

fn tell_lists(connection: &mut Connection, wanted: &Receiver<(u64, List)>, teller: &Teller) {
    while let Ok(mut latest) = wanted.recv() {
        // What was typed meanwhile makes the lists before it pointless.
        while let Ok(later) = wanted.try_recv() {
            latest = later;
        }
        let (number, list) = latest;
        let page = page(connection, list).map_err(|error| sentence(&error));
        if !teller.tell(News::Listed(number, page)) {
            return;
        }
    }
}

fn page(connection: &mut Connection, list: List) -> Result<Page, ClientError> {
    match &list {
        List::History { query, cursor, limit } => {
            let first = cursor.is_none();
            let mut query = ListQuery {
                q: Some(query.clone()).filter(|query| !query.trim().is_empty()),
                cursor: cursor.clone(),
                limit: None,
                zone: jiff::tz::TimeZone::system().iana_name().map(str::to_owned),
            };
            let searches = query.q.is_some();
            let mut page: ClipPage = ClipPage { clips: Vec::new(), next: None, total: 0 };
            // A list that has become long comes in several pages.
            loop {
                let left = limit.saturating_sub(u32::try_from(page.clips.len()).unwrap_or(u32::MAX));
                query.limit = Some(left.min(MOST_ON_A_PAGE));
                let more: ClipPage = connection.ask(|client| client.get_with("/clips", &query))?;
                page.clips.extend(more.clips);
                (page.next, page.total) = (more.next.clone(), more.total);
                if more.next.is_none() || left <= MOST_ON_A_PAGE {
                    break;
                }
                query.cursor = more.next;
            }
            let tray: Option<Tray> = if first && !searches { Some(connection.get("/tray")?) } else { None };
            let tray = tray.filter(|tray| tray.open || tray.items.iter().any(|item| !item.dealt));
            Ok(Page { list, clips: page.clips, sections: Vec::new(), next: page.next, total: page.total, tray })
        }
        List::Kept => {
            let mut sections = vec![("Pinned".to_owned(), connection.get::<Clips>("/pins")?.clips)];
            for drawer in connection.get::<Vec<Drawer>>("/drawers")? {
                let contents: DrawerContents = connection.get(&format!("/drawers/{}", in_path(&drawer.name)))?;
                let clips: Vec<Clip> = contents.items.into_iter().filter_map(|item| item.clip).collect();
                sections.push((drawer.name, clips));
            }
            let known: Vec<String> = sections.iter().flat_map(|(_, clips)| clips).map(|clip| clip.id.clone()).collect();
            let aliases: Clips = connection.get("/aliases")?;
            let others = aliases.clips.into_iter().filter(|clip| !known.contains(&clip.id)).collect();
            sections.push(("Aliases".to_owned(), others));
            let total = sections.iter().map(|(_, clips)| clips.len() as u64).sum();
            Ok(Page { list, clips: Vec::new(), sections, next: None, total, tray: None })
        }
    }
}

fn do_jobs(connection: &mut Connection, asked: &Receiver<Job>, teller: &Teller) {
    while let Ok(job) = asked.recv() {
        let opening = matches!(job, Job::Open);
        match act(connection, job, teller) {
            Ok(()) => {}
            Err(_) if opening => drop(teller.tell(News::Focus(None))),
            Err(error) => drop(teller.tell(News::Failed(sentence(&error)))),
        }
    }
}

fn act(connection: &mut Connection, job: Job, teller: &Teller) -> Result<(), ClientError> {
    let news = match job {
        Job::Open => {
            let focus: KeyboardFocus = connection.get("/keyboard")?;
            teller.tell(News::Focus(focus.window));
            News::Status(Box::new(connection.get("/status")?))
        }
        Job::Recall(recall) => match connection.ask(|client| client.post::<Recalled>("/recall", &*recall)) {
            Ok(recalled) => News::Recalled(recall, recalled),
            Err(ClientError::Problem(problem)) => News::NotRecalled(recall, problem),
            Err(error) => return Err(error),
        },
        Job::Pin(id, pinned) => {
            if pinned {
                let pin = Pin { clips: vec![id], at: None };
                connection.ask(|client| client.post::<Clips>("/pins", &pin))?;
                News::Done("Pinned; it stays until you unpin it".into())
            } else {
                let named = Named { clips: vec![id] };
                connection.ask(|client| client.post::<Clips>("/pins/remove", &named))?;
                News::Done("Unpinned".into())
            }
        }
        Job::Delete(clips) => {
            let delete = Delete { clips, for_good: false };
            let deleted = connection.ask(|client| client.post::<Deleted>("/delete", &delete))?;
            let count = deleted.clips.len();
            News::Deleted(deleted.step, if count == 1 { "Deleted".into() } else { format!("Deleted {count} clips") })
        }
        Job::Undo(step) => {
            let undo = Undo { step: Some(step) };
            let undone = connection.ask(|client| client.post::<Undone>("/undo", &undo))?;
            News::Done(if undone.count == 1 { "It is back".into() } else { format!("{} clips are back", undone.count) })
        }
        Job::Tray(clips) => {
            let named = Named { clips };
            let tray = connection.ask(|client| client.post::<Tray>("/tray/add", &named))?;
            News::Done(format!("Added; the tray holds {}", tray.items.len()))
        }
        Job::Unfold(clip) => {
            let path = format!("/clips/{}", in_path(&clip.id));
            let detail: ClipDetail = connection.get(&path)?;
            let shown = detail.clip.kind == Kind::Image && detail.clip.sensitive.is_none();
            let picture = if shown && detail.clip.size <= LARGEST_PICTURE {
                bytes(connection, &format!("{path}/content"))
            } else {
                None
            };
            News::Whole(Box::new(detail), picture)
        }
        Job::Ways => News::Ways(connection.get("/ways")?),
        Job::Link(id) => {
            let detail: ClipDetail = connection.get(&format!("/clips/{}", in_path(&id)))?;
            match detail.text {
                Some(address) => News::Open(address),
                None => News::Failed("This clip has no link to open".into()),
            }
        }
        Job::Console => {
            let link = connection.ask(|client| client.post::<ConsoleLink>("/console-links", &serde_json::json!({})))?;
            // Not by itself: other users can read the arguments of a program.
            let file = yadori_files::way_in(&yadori_client::places(connection.home.as_deref())?.run, &link.url)?;
            News::Open(file.display().to_string())
        }
    };
    teller.tell(news);
    Ok(())
}

/// The bytes at a path, if they can be had.
fn bytes(connection: &mut Connection, path: &str) -> Option<Vec<u8>> {
    let query = ContentQuery { format: None, at_once: true };
    let read = |client: &Client| {
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(&mut client.get_bytes(path, &query)?, &mut bytes)?;
        Ok(bytes)
    };
    connection.ask(read).ok()
}

fn fetch_pictures(connection: &mut Connection, missing: &Receiver<String>, teller: &Teller) {
    while let Ok(id) = missing.recv() {
        if let Some(bytes) = bytes(connection, &format!("/clips/{}/thumbnail", in_path(&id)))
            && !teller.tell(News::Picture(id, bytes))
        {
            return;
        }
    }
}

/// Tells what changes, for as long as the window is there.
fn follow(mut connection: Connection, teller: &Teller) {
    let mut gone = false;
    loop {
        let events = match connection.ask(|client| client.events(None)) {
            Ok(events) => events,
            Err(error) => {
                if !std::mem::replace(&mut gone, true)
                    && !teller.tell(News::Gone(error.start().unwrap_or_else(|| "yadorid".into())))
                {
                    return;
                }
                std::thread::sleep(AGAIN);
                continue;
            }
        };
        if std::mem::take(&mut gone) && !teller.tell(News::Back) {
            return;
        }
        for event in events {
            let Ok(event) = event else { break };
            if event.name == "status"
                && let Ok(status) = connection.get::<Status>("/status")
                && !teller.tell(News::Status(Box::new(status)))
            {
                return;
            }
            if !teller.tell(News::Changed) {
                return;
            }
        }
        connection.client = None;
    }
}

/// That the service is gone, and the command that starts it.
pub fn gone_in_words(command: &str) -> String {
    format!("The service isn't running, so nothing is kept. Start it with: {command}")
}

/// An error as a sentence, with what can be done.
fn sentence(error: &ClientError) -> String {
    match error.start() {
        Some(command) => gone_in_words(&command),
        None => {
            let text = yadori_core::with_causes(error);
            let mut chars = text.chars();
            chars.next().map(|first| first.to_uppercase().chain(chars).collect()).unwrap_or_default()
        }
    }
}

/// How the service stands, if it is not as usual.
pub fn standing(status: &Status) -> Option<String> {
    match status.capture.state {
        CaptureState::On if status.capture.waiting > 0 => Some(format!(
            "The database takes no copies at the moment; {} wait, and nothing is lost yet",
            status.capture.waiting
        )),
        CaptureState::On => None,
        CaptureState::Paused => Some(match status.capture.until {
            Some(until) => {
                let until = until.to_zoned(jiff::tz::TimeZone::system());
                format!("Paused until {}; copies are not kept", until.strftime("%H:%M"))
            }
            None => "Paused; copies are not kept".into(),
        }),
        CaptureState::Off => {
            let reason = status.capture.reason.as_ref().map_or("there is no clipboard", |reason| &reason.message);
            Some(format!("Copies are not kept: {reason}"))
        }
    }
}
