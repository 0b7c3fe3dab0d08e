//! Finding clips: a query language, and an index in memory that answers as one types.
//!
//! * [`fold`]: text without regard to case, accents and width
//! * `words`: what folded text is cut into
//! * [`query`]: `lamp "cue 7" -draft kind:link after:2026-10-01`
//! * [`index`]: all clips, ready to be searched and to be counted from the newest
//! * `place`: where a page of what was found ends
//! * `lexicon`, `postings`, `bits`: the parts of the index; `by_place`: filling its tables; `in_two`: using two processors
//! * [`snapshot`]: the index as bytes
//! * [`mod@marks`]: where in a text a query was met

mod bits;
mod by_place;
pub mod fold;
mod in_two;
pub mod index;
mod lexicon;
pub mod marks;
mod place;
mod postings;
pub mod query;
pub mod snapshot;
mod words;

pub use index::{Entry, Filling, Hit, Index};
pub use marks::marks;
pub use place::{NoPlace, Place, Tier};
pub use query::{Query, QueryError, When};
