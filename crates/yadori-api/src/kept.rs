//! What a person keeps: pins, drawers, and the attributes they give a clip.

use crate::{Clip, ColourChange};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Clips to pin.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pin {
    /// Their names.
    #[schema(min_items = 1, max_items = 1_000)]
    pub clips: Vec<String>,
    /// The place among the pinned ones that the first of them comes to, from 1; the end if not given, or for one
    /// that is pinned already, where it is.
    #[schema(minimum = 1)]
    #[serde(default)]
    pub at: Option<u32>,
}

/// Some clips, by their names.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Named {
    /// Positions, places (`p2`, `t1`), aliases, ids or beginnings of ids.
    #[schema(min_items = 1, max_items = 1_000)]
    pub clips: Vec<String>,
}

/// Clips, as they are after what was done.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Clips {
    /// The clips.
    pub clips: Vec<Clip>,
}

/// Attributes to change; those that are not given stay as they are.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Attributes {
    /// The title, at most 1,000 characters; an empty one removes it.
    #[schema(max_length = 1_000)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The colour mark; `none` removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<ColourChange>,
    /// The alias, with or without its colon; an empty one removes it. A clip that gets an alias and is not kept
    /// is pinned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alias: Option<String>,
    /// Whether to take the alias from the clip that has it.
    #[serde(default)]
    pub take_alias: bool,
    /// Whether its placeholders are filled in when it is recalled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fills: Option<bool>,
    /// `false`: it is no secret, whatever it looks like, now and whenever it is copied again. `true`: it is treated as what it
    /// looks like again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<bool>,
}

/// A drawer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Drawer {
    /// Its name.
    pub name: String,
    /// How many clips lie in it.
    pub count: u64,
    /// How it stands, if it is private.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub private: Option<PrivateDrawer>,
}

/// How a private drawer stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PrivateDrawer {
    /// Whether it is open. Closed, it can be opened, renamed, moved and erased, and nothing of it is told but its name and how many
    /// clips lie in it.
    pub open: bool,
    /// When it closes by itself.
    #[schema(value_type = Option<String>, format = DateTime)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closes_at: Option<Timestamp>,
}

/// A drawer to make.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDrawer {
    /// The name, at most 100 characters. Two drawers cannot have the same one; letter case does not matter.
    #[schema(min_length = 1, max_length = 100)]
    pub name: String,
    /// A passphrase of at least eight characters, for a private drawer. It is open for five minutes.
    #[schema(min_length = 8, max_length = 1024, format = Password)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<String>,
}

/// The passphrase that a drawer gets.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DrawerPassphrase {
    /// At least eight characters. If it is lost, so is what lies in the drawer.
    #[schema(min_length = 8, max_length = 1024, format = Password)]
    pub passphrase: String,
}

/// A private drawer to open.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OpenDrawer {
    /// Its passphrase.
    #[schema(max_length = 1024, format = Password)]
    pub passphrase: String,
    /// For how many minutes, at most 720; five if not given.
    #[schema(minimum = 1, maximum = 720)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<u32>,
}

/// A private drawer that was opened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OpenedDrawer {
    /// How it stands now.
    pub drawer: Drawer,
    /// Clips that could not be taken out: they are damaged, or larger than the limit by now. They stay sealed in it.
    pub left: u32,
}

/// A name for a drawer.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DrawerChange {
    /// The name, at most 100 characters. Two drawers cannot have the same one; letter case does not matter.
    #[schema(min_length = 1, max_length = 100)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Its place among the drawers, from 1.
    #[schema(minimum = 1)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<u32>,
}

/// One line of a drawer: a clip, or a heading.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DrawerItem {
    /// Its place in the drawer, from 1; headings count.
    #[schema(minimum = 1)]
    pub place: u32,
    /// The clip.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clip: Option<Clip>,
    /// What the heading says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heading: Option<String>,
}

/// A drawer and what lies in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DrawerContents {
    /// Its name.
    pub name: String,
    /// What lies in it, in its order.
    pub items: Vec<DrawerItem>,
}

/// Clips to put into a drawer.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Put {
    /// Their names.
    #[schema(min_items = 1, max_items = 1_000)]
    pub clips: Vec<String>,
    /// The place that the first of them comes to, from 1; the end if not given.
    #[schema(minimum = 1)]
    #[serde(default)]
    pub at: Option<u32>,
}

/// A line of a drawer to move, or a heading to change.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MoveItem {
    /// Its place in the drawer, from 1.
    #[schema(minimum = 1)]
    pub place: u32,
    /// The place that it comes to.
    #[schema(minimum = 1)]
    pub at: u32,
}

/// A heading.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewHeading {
    /// What it says, at most 200 characters.
    #[schema(max_length = 200)]
    pub words: String,
    /// Its place, from 1; the end if not given.
    #[schema(minimum = 1)]
    #[serde(default)]
    pub at: Option<u32>,
    /// The place of the heading that is to say this, instead of a new one; with empty words it is removed.
    #[schema(minimum = 1)]
    #[serde(default)]
    pub instead_of: Option<u32>,
}

/// By what to sort.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SortBy {
    /// By title, or what it shows.
    Name,
    /// Newest first.
    Age,
    /// Most used first.
    Use,
}

/// How to sort a drawer. Clips stay under their headings.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Sort {
    /// By what.
    pub by: SortBy,
}

/// What becomes of the clips of a drawer that is removed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RemoveDrawer {
    /// Put them into this drawer; without it they are only in the history again.
    #[param(min_length = 1, max_length = 100)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub into: Option<String>,
    /// A private drawer, open or closed, with all that lies in it, for good. Its passphrase is not needed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub for_good: bool,
}
