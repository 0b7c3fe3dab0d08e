//! Drawers: made, named, filled, put in order, removed.

use crate::fetching::FetchError;
use crate::history::index::Part;
use crate::history::listing::{self, Listed};
use crate::history::names::FindNameError;
use crate::keeping::KeepError;
use crate::keeping::Keeping;
use thiserror::Error;
use yadori_core::name::is_path;
use yadori_core::preview::one_line;
use yadori_core::search::fold::fold;
use yadori_core::{ClipId, MillisSinceEpoch, Rank};
use yadori_store::{Attribute, ClipRecord, Drawer, Heading, Privacy, StoreError};

/// Longest name of a drawer, in characters.
const LONGEST_NAME: usize = 100;
/// Longest heading.
const LONGEST_HEADING: usize = 200;
/// Most drawers.
const MOST: usize = 1000;

/// Why a drawer was not changed so.
#[derive(Debug, Error)]
pub enum DrawerError {
    /// No such drawer.
    #[error("there is no drawer “{0}”")]
    NoSuchDrawer(String),
    /// Another has the name.
    #[error("there is a drawer “{0}” already")]
    Taken(String),
    /// Empty, or too long.
    #[error("the name of a drawer has 1 to {LONGEST_NAME} characters, and isn't . or ..")]
    Name,
    /// Too many drawers.
    #[error("there is room for {MOST} drawers")]
    Full,
    /// Empty, or too long.
    #[error("a heading has 1 to {LONGEST_HEADING} characters")]
    Heading,
    /// No such place.
    #[error("there is no place {0} in this drawer")]
    NoSuchPlace(u32),
    /// A clip where a heading was expected.
    #[error("there is a clip at place {0}, and no heading")]
    NotAHeading(u32),
    /// Nothing lies in it.
    #[error("the drawer “{0}” is empty")]
    Empty(String),
    /// It is private, and not open.
    #[error("the drawer “{0}” is private and closed; open it with its passphrase first")]
    Closed(String),
    /// What would lie in a private drawer has to be here.
    #[error(transparent)]
    Fetch(#[from] FetchError),
    /// It lies in none.
    #[error("the clip {0} lies in no drawer")]
    InNone(String),
    /// It would go into the drawer that is being removed.
    #[error("the clips cannot go into the drawer that is removed")]
    Itself,
    /// No randomness for its id.
    #[error("the system gives no random numbers: {0}")]
    Randomness(getrandom::Error),
    /// A clip's name leads nowhere, or an attribute makes no sense.
    #[error(transparent)]
    Keep(#[from] KeepError),
}

impl From<StoreError> for DrawerError {
    fn from(error: StoreError) -> Self {
        Self::Keep(error.into())
    }
}

impl From<FindNameError> for DrawerError {
    fn from(error: FindNameError) -> Self {
        Self::Keep(error.into())
    }
}

/// What lies at one place of a drawer.
enum Item {
    Clip(Box<ClipRecord>),
    Heading(Heading),
}

impl Item {
    fn place(&self) -> Option<&Rank> {
        match self {
            Self::Clip(record) => record.drawer.as_ref().map(|drawer| &drawer.place),
            Self::Heading(heading) => Some(&heading.place),
        }
    }
}

fn name(given: &str) -> Result<String, DrawerError> {
    let name = one_line(given, LONGEST_NAME + 1);
    if (1..=LONGEST_NAME).contains(&name.chars().count()) && !is_path(&name) {
        Ok(name)
    } else {
        Err(DrawerError::Name)
    }
}

/// The id of a drawer by the name that it is made with.
fn named_id(name: &str) -> [u8; 16] {
    let mut hasher = blake3::Hasher::new_derive_key("yadori 2026-11 drawer");
    hasher.update(yadori_core::search::fold::fold(name).as_bytes());
    let mut id = [0; 16];
    hasher.finalize_xof().fill(&mut id);
    id
}

pub(crate) fn random_id() -> Result<[u8; 16], DrawerError> {
    let mut id = [0; 16];
    getrandom::fill(&mut id).map_err(DrawerError::Randomness)?;
    Ok(id)
}

/// A drawer, and how many clips lie in it.
#[derive(Clone, Debug)]
pub struct Summary {
    /// Its name.
    pub name: String,
    /// How many.
    pub clips: u64,
    /// Whether it is private, and how it stands then.
    pub private: Option<Private>,
}

/// How a private drawer stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Private {
    /// Whether it is open.
    pub open: bool,
    /// When it closes by itself.
    pub closes_at: Option<MillisSinceEpoch>,
}

/// A drawer, and what lies in it.
#[derive(Clone, Debug)]
pub struct Contents {
    /// Its name.
    pub name: String,
    /// What lies in it, in its order.
    pub items: Vec<Shown>,
}

/// What lies at a place of a drawer.
#[derive(Clone, Debug)]
pub enum Shown {
    /// A clip.
    Clip(Box<Listed>),
    /// A heading.
    Heading(String),
}

/// A heading that is to be added, changed or removed.
#[derive(Clone, Debug, Default)]
pub struct NewHeading {
    /// What it says; nothing to remove one.
    pub words: String,
    /// Its place; the end if not given.
    pub at: Option<u32>,
    /// The place of the heading that it takes the place of.
    pub instead_of: Option<u32>,
}

/// By what the clips of a drawer are sorted.
#[derive(Clone, Copy, Debug)]
pub enum SortBy {
    /// The title, or what is shown.
    Name,
    /// The newest first.
    Age,
    /// The most used first.
    Use,
}

impl Keeping {
    /// All drawers, in their order.
    pub async fn drawers(&self) -> Result<Vec<Summary>, DrawerError> {
        let drawers = self.history.store.drawers().await?;
        Ok(drawers.into_iter().map(|drawer| self.summary(drawer)).collect())
    }

    pub(crate) fn summary(&self, drawer: Drawer) -> Summary {
        let private = drawer.privacy.map(|privacy| Private {
            open: privacy == Privacy::Open,
            closes_at: self.closing.lock().get(&drawer.number).copied(),
        });
        Summary { name: drawer.name, clips: drawer.clips, private }
    }

    pub(crate) async fn find_drawer(&self, given: &str) -> Result<Drawer, DrawerError> {
        let wanted = fold(given.trim());
        let found = self.history.store.drawers().await?.into_iter().find(|drawer| fold(&drawer.name) == wanted);
        found.ok_or_else(|| DrawerError::NoSuchDrawer(one_line(given, 60)))
    }

    /// The same, if what lies in it may be seen and changed.
    pub(crate) async fn find_open_drawer(&self, given: &str) -> Result<Drawer, DrawerError> {
        let drawer = self.find_drawer(given).await?;
        match drawer.privacy {
            None | Some(Privacy::Open) => Ok(drawer),
            Some(_) => Err(DrawerError::Closed(drawer.name)),
        }
    }

    /// Tells that a drawer or a heading has changed, by the change of this number.
    pub(crate) fn drawers_changed(&self, change: u64) {
        self.history.ledger.changed(change);
        self.history.ledger.part_changed(Part::Drawers);
    }

    /// Makes a drawer.
    pub async fn new_drawer(&self, given: &str) -> Result<Summary, DrawerError> {
        let _alone = self.changing.lock().await;
        self.make_drawer(given).await?;
        Ok(Summary { name: name(given)?, clips: 0, private: None })
    }

    pub(crate) async fn make_drawer(&self, given: &str) -> Result<u32, DrawerError> {
        let (name, place) = self.new_place(given).await?;
        // The same drawer made on two devices is one drawer.
        let mut id = named_id(&name);
        if self.history.store.has_drawer(id).await? {
            id = random_id()?;
        }
        self.add_drawer(id, &name, &place, None).await
    }

    /// Makes a private drawer, which is open. No other device has one with its id.
    pub(crate) async fn make_private_drawer(&self, given: &str, key: &str) -> Result<u32, DrawerError> {
        let (name, place) = self.new_place(given).await?;
        self.add_drawer(random_id()?, &name, &place, Some(key)).await
    }

    pub(crate) async fn add_drawer(
        &self,
        id: [u8; 16],
        name: &str,
        place: &Rank,
        key: Option<&str>,
    ) -> Result<u32, DrawerError> {
        let marks = (self.history.stamps.next(), key);
        let (number, change) = self.history.store.add_drawer(id, name, place, marks).await?;
        self.drawers_changed(change);
        Ok(number)
    }

    /// The name that a new drawer gets, and its place after all others.
    async fn new_place(&self, given: &str) -> Result<(String, Rank), DrawerError> {
        let name = name(given)?;
        let drawers = self.history.store.drawers().await?;
        if drawers.iter().any(|drawer| fold(&drawer.name) == fold(&name)) {
            return Err(DrawerError::Taken(name));
        }
        if drawers.len() >= MOST {
            return Err(DrawerError::Full);
        }
        let places: Vec<Rank> = drawers.into_iter().map(|drawer| drawer.place).collect();
        Ok((name, Rank::at(&places, places.len())))
    }

    /// Gives a drawer another name, or another place among the drawers.
    pub async fn change_drawer(
        &self,
        given: &str,
        new_name: Option<&str>,
        at: Option<u32>,
    ) -> Result<Summary, DrawerError> {
        let _alone = self.changing.lock().await;
        let drawer = self.find_drawer(given).await?;
        let drawers = self.history.store.drawers().await?;
        let mut known = drawer.name.clone();
        if let Some(wanted) = new_name {
            let wanted = name(wanted)?;
            let others = || drawers.iter().filter(|other| other.number != drawer.number);
            if others().any(|other| fold(&other.name) == fold(&wanted)) {
                return Err(DrawerError::Taken(wanted));
            }
            self.drawers_changed(
                self.history.store.rename_drawer(drawer.number, &wanted, self.history.stamps.next()).await?,
            );
            known = wanted;
        }
        if let Some(at) = at {
            let others = drawers.into_iter().filter(|other| other.number != drawer.number);
            let places: Vec<Rank> = others.map(|other| other.place).collect();
            let place = Rank::at(&places, (at as usize).saturating_sub(1));
            self.drawers_changed(
                self.history.store.move_drawer(drawer.number, &place, self.history.stamps.next()).await?,
            );
        }
        Ok(self.summary(Drawer { name: known, ..drawer }))
    }

    /// Removes a drawer. Its clips go into another one, or are only in the history again; never away.
    pub async fn remove_drawer(&self, given: &str, into: Option<&str>) -> Result<Summary, DrawerError> {
        let _alone = self.changing.lock().await;
        let drawer = self.find_open_drawer(given).await?;
        let clips = self.history.store.in_drawer(drawer.number).await?;
        let given: Vec<(u64, Attribute)> = match into {
            None => clips.iter().map(|record| (record.number, Attribute::Drawer(None))).collect(),
            Some(into) => {
                let target = self.find_open_drawer(into).await?;
                if target.number == drawer.number {
                    return Err(DrawerError::Itself);
                }
                let mut places = self.places(target.number).await?;
                let mut given = Vec::with_capacity(clips.len());
                for record in &clips {
                    let place = Rank::at(&places, places.len());
                    places.push(place.clone());
                    given.push((record.number, Attribute::Drawer(Some((target.number, place)))));
                }
                given
            }
        };
        let change = self.history.store.remove_drawer(drawer.number, &given, self.history.stamps.next()).await?;
        self.drawers_changed(change);
        self.history.forgetting.notify_one();
        self.closing.lock().remove(&drawer.number);
        Ok(Summary { name: drawer.name, clips: clips.len() as u64, private: None })
    }

    async fn items(&self, drawer: u32) -> Result<Vec<Item>, StoreError> {
        let clips = self.history.store.in_drawer(drawer).await?.into_iter().map(|record| Item::Clip(Box::new(record)));
        let headings = self.history.store.headings(drawer).await?.into_iter().map(Item::Heading);
        let mut items: Vec<Item> = headings.chain(clips).collect();
        items.sort_by(|a, b| a.place().cmp(&b.place()));
        Ok(items)
    }

    async fn places(&self, drawer: u32) -> Result<Vec<Rank>, StoreError> {
        Ok(self.items(drawer).await?.iter().filter_map(|item| item.place().cloned()).collect())
    }

    /// The place after the last one in a drawer.
    pub(crate) async fn last_place(&self, drawer: u32) -> Result<Rank, StoreError> {
        let places = self.places(drawer).await?;
        Ok(Rank::at(&places, places.len()))
    }

    /// A drawer and what lies in it.
    pub async fn drawer(&self, given: &str) -> Result<Contents, DrawerError> {
        let drawer = self.find_open_drawer(given).await?;
        let items = self.items(drawer.number).await?;
        let mut shown = Vec::with_capacity(items.len());
        for item in items {
            shown.push(match item {
                Item::Heading(heading) => Shown::Heading(heading.words),
                Item::Clip(record) => {
                    let position = self.history.ledger.read().await.position(record.id);
                    Shown::Clip(Box::new(Listed { record: (*record).into(), position }))
                }
            });
        }
        Ok(Contents { name: drawer.name, items: shown })
    }

    /// Puts clips into a drawer, out of whatever other one they lie in.
    pub async fn put_into_drawer(
        &self,
        given: &str,
        names: &[String],
        at: Option<u32>,
    ) -> Result<Vec<Listed>, DrawerError> {
        let _alone = self.changing.lock().await;
        let drawer = self.find_open_drawer(given).await?;
        let clips: Vec<ClipRecord> =
            self.history.find_clips(names).await?.into_iter().map(|(record, _)| record).collect();
        if drawer.privacy.is_some() {
            for record in &clips {
                self.fetching.fetch_whole(record).await?;
            }
        }
        self.put_records(drawer.number, &clips, at).await?;
        let ids: Vec<ClipId> = clips.iter().map(|record| record.id).collect();
        Ok(self.history.listed_now(&ids).await?)
    }

    pub(crate) async fn put_records(
        &self,
        drawer: u32,
        clips: &[ClipRecord],
        at: Option<u32>,
    ) -> Result<(), DrawerError> {
        let moved = |item: &Item| matches!(item, Item::Clip(record) if clips.iter().any(|clip| clip.id == record.id));
        let items = self.items(drawer).await?;
        let mut places: Vec<Rank> =
            items.iter().filter(|item| !moved(item)).filter_map(|item| item.place().cloned()).collect();
        let first = at.map_or(places.len(), |at| (at.max(1) as usize - 1).min(places.len()));
        let mut given = Vec::with_capacity(clips.len());
        for (place, record) in (first..).zip(clips) {
            let order = Rank::at(&places, place);
            places.insert(place, order.clone());
            given.push((record.number, Attribute::Drawer(Some((drawer, order)))));
        }
        Ok(self.set_attributes(&given).await?)
    }

    /// Takes clips out of their drawers; they stay in the history.
    pub async fn take_from_drawers(&self, names: &[String]) -> Result<Vec<Listed>, DrawerError> {
        let _alone = self.changing.lock().await;
        let clips = self.history.find_clips(names).await?;
        if let Some((_, position)) = clips.iter().find(|(record, _)| record.drawer.is_none()) {
            return Err(DrawerError::InNone(position.to_string()));
        }
        let given: Vec<(u64, Attribute)> =
            clips.iter().map(|(record, _)| (record.number, Attribute::Drawer(None))).collect();
        self.set_attributes(&given).await?;
        let ids: Vec<ClipId> = clips.iter().map(|(record, _)| record.id).collect();
        Ok(self.history.listed_now(&ids).await?)
    }

    /// Moves what lies at one place of a drawer to another.
    pub async fn move_in_drawer(&self, given: &str, place: u32, at: u32) -> Result<Contents, DrawerError> {
        {
            let _alone = self.changing.lock().await;
            let drawer = self.find_open_drawer(given).await?;
            let mut items = self.items(drawer.number).await?;
            let index = |place: u32| {
                let index = (place as usize).checked_sub(1).filter(|index| *index < items.len());
                index.ok_or(DrawerError::NoSuchPlace(place))
            };
            let (from, to) = (index(place)?, index(at)?);
            let moved = items.remove(from);
            let places: Vec<Rank> = items.iter().filter_map(|item| item.place().cloned()).collect();
            let place = Rank::at(&places, to);
            match moved {
                Item::Clip(record) => {
                    self.set_attributes(&[(record.number, Attribute::Drawer(Some((drawer.number, place))))]).await?;
                }
                Item::Heading(heading) => {
                    let (words, stamp) = (Some(heading.words.as_str()), self.history.stamps.next());
                    let change = self.history.store.change_heading(heading.number, words, Some(&place), stamp).await?;
                    self.drawers_changed(change);
                }
            }
        }
        self.drawer(given).await
    }

    /// Adds a heading to a drawer, or changes or removes one.
    pub async fn head_drawer(&self, given: &str, asked: &NewHeading) -> Result<Contents, DrawerError> {
        {
            let _alone = self.changing.lock().await;
            let drawer = self.find_open_drawer(given).await?;
            let words = one_line(&asked.words, LONGEST_HEADING + 1);
            if words.chars().count() > LONGEST_HEADING || (words.is_empty() && asked.instead_of.is_none()) {
                return Err(DrawerError::Heading);
            }
            let items = self.items(drawer.number).await?;
            match asked.instead_of {
                Some(place) => match (place as usize).checked_sub(1).and_then(|index| items.get(index)) {
                    Some(Item::Heading(heading)) => {
                        let words = (!words.is_empty()).then_some(words.as_str());
                        let change = self
                            .history
                            .store
                            .change_heading(heading.number, words, None, self.history.stamps.next())
                            .await?;
                        self.drawers_changed(change);
                    }
                    Some(Item::Clip(_)) => return Err(DrawerError::NotAHeading(place)),
                    None => return Err(DrawerError::NoSuchPlace(place)),
                },
                None => {
                    let places: Vec<Rank> = items.iter().filter_map(|item| item.place().cloned()).collect();
                    let index = asked.at.map_or(places.len(), |at| (at.max(1) as usize - 1).min(places.len()));
                    let place = Rank::at(&places, index);
                    let id = random_id()?;
                    let stamp = self.history.stamps.next();
                    self.drawers_changed(
                        self.history.store.add_heading(id, drawer.number, &words, &place, stamp).await?,
                    );
                }
            }
        }
        self.drawer(given).await
    }

    /// Sorts the clips of a drawer; each stays under its heading.
    pub async fn sort_drawer(&self, given: &str, by: SortBy) -> Result<Contents, DrawerError> {
        {
            let _alone = self.changing.lock().await;
            let drawer = self.find_open_drawer(given).await?;
            let items = self.items(drawer.number).await?;
            let places: Vec<Rank> = items.iter().filter_map(|item| item.place().cloned()).collect();
            let mut given = Vec::new();
            let mut start = 0;
            while start < items.len() {
                let clips: Vec<&ClipRecord> = items[start..]
                    .iter()
                    .map_while(|item| match item {
                        Item::Clip(record) => Some(&**record),
                        Item::Heading(_) => None,
                    })
                    .collect();
                let mut sorted: Vec<(String, &ClipRecord)> = clips
                    .iter()
                    .map(|record| {
                        let shown = record.title.clone().unwrap_or_else(|| listing::preview(record, None).0);
                        (fold(&shown), *record)
                    })
                    .collect();
                match by {
                    SortBy::Name => sorted.sort_by(|(a, _), (b, _)| a.cmp(b)),
                    SortBy::Age => sorted.sort_by_key(|(_, record)| std::cmp::Reverse(record.life.copied)),
                    SortBy::Use => {
                        sorted
                            .sort_by_key(|(_, record)| std::cmp::Reverse(record.recalls.saturating_add(record.copies)));
                    }
                }
                for (place, (_, record)) in places[start..].iter().zip(&sorted) {
                    given.push((record.number, Attribute::Drawer(Some((drawer.number, place.clone())))));
                }
                start += clips.len() + 1;
            }
            self.set_attributes(&given).await?;
        }
        self.drawer(given).await
    }
}
