//! Which clips a command is about: names, ranges of positions, or the clips that match a query.

use super::clips;
use crate::failure::Failure;
use clap::Args;
use std::io::Read;
use yadori_client::Client;

/// Most clips that a range or a query may stand for.
const MOST: u32 = 10_000;

/// The clips that a command is about.
#[derive(Args)]
pub struct Selection {
    /// The clips: positions (3), ranges (3-7), p2, t1, :alias, or the first characters of ids
    #[arg(required_unless_present = "find")]
    clips: Vec<String>,

    /// The clips that match this query instead, best match first
    #[arg(long, value_name = "QUERY", conflicts_with = "clips")]
    find: Option<String>,
}

impl Selection {
    /// Whether the clips are those that match a query.
    pub fn is_query(&self) -> bool {
        self.find.is_some()
    }

    /// The clips' names.
    pub fn names(self, service: &Client) -> Result<Vec<String>, Failure> {
        match self.find {
            Some(query) => {
                let found = clips(service, Some(query.clone()), 0, MOST)?;
                if found.clips.is_empty() {
                    return Err(Failure::Here(format!("No match for “{query}” in {} clips.", found.total)));
                }
                Ok(found.clips.into_iter().map(|clip| clip.id).collect())
            }
            None if self.clips == ["-"] => read_names(),
            None => expanded(&self.clips),
        }
    }
}

/// Names from standard input: the first word of each line.
fn read_names() -> Result<Vec<String>, Failure> {
    let mut text = String::new();
    std::io::stdin().lock().read_to_string(&mut text)?;
    let names: Vec<String> =
        text.lines().filter_map(|line| line.split_whitespace().next()).map(str::to_owned).collect();
    // Whoever leaves a menu without choosing wants nothing done.
    if names.is_empty() { Err(Failure::Silent(1)) } else { Ok(names) }
}

/// Names, with ranges of positions written out.
pub fn expanded(names: &[String]) -> Result<Vec<String>, Failure> {
    let mut all = Vec::with_capacity(names.len());
    for name in names {
        match range(name) {
            None => all.push(name.clone()),
            Some((from, to)) if from >= 1 && from <= to && to - from < MOST => {
                all.extend((from..=to).map(|position| position.to_string()));
            }
            Some(_) => {
                let why = format!("“{name}” isn't a range of positions; try 3-7, with at most {MOST} clips");
                return Err(Failure::Usage(why));
            }
        }
    }
    Ok(all)
}

fn range(name: &str) -> Option<(u32, u32)> {
    let (from, to) = name.split_once('-')?;
    Some((from.parse().ok()?, to.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_written_out_and_other_names_left_alone() {
        let of = |names: &[&str]| expanded(&names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>());
        assert_eq!(of(&["3-5", ":sig", "k4wq"]).unwrap(), ["3", "4", "5", ":sig", "k4wq"]);
        assert_eq!(of(&["ab-cd"]).unwrap(), ["ab-cd"]);
        for wrong in ["7-3", "0-2", "1-99999"] {
            assert!(of(&[wrong]).is_err(), "{wrong}");
        }
    }
}
