//! What leaves a device, and what arrives: its own choice.

use crate::Kind;
use serde::{Deserialize, Serialize};

/// What leaves a device by itself, or arrives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Extent {
    /// Every clip.
    #[default]
    Everything,
    /// Clips that are pinned or in a drawer.
    KeptOnly,
    /// Only what is sent by hand.
    ByHand,
}

/// Content above this size is fetched when it is first wanted: 1 MiB.
pub const DEFAULT_FETCH_ABOVE: u64 = 1024 * 1024;

/// The choices of a device. Sensitive clips never leave, whatever it says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct Policy {
    /// What leaves this device.
    pub leaves: Extent,
    /// Kinds that do not leave.
    pub kinds_left_out: Vec<Kind>,
    /// Applications whose copies do not leave, by their names without regard to case.
    pub applications_left_out: Vec<String>,
    /// Clips above this size in bytes do not leave.
    pub size_limit: Option<u64>,
    /// What arrives: everything, or what is kept.
    pub arrives: Extent,
    /// Content above this size in bytes is fetched when it is first wanted.
    pub fetch_above: u64,
    /// The newest copy of the other devices is put on this device's clipboard.
    pub follow: bool,
    /// Other devices may put a clip on this device's clipboard.
    pub may_be_put_on_clipboard: bool,
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            leaves: Extent::Everything,
            kinds_left_out: Vec::new(),
            applications_left_out: Vec::new(),
            size_limit: None,
            arrives: Extent::Everything,
            fetch_above: DEFAULT_FETCH_ABOVE,
            follow: false,
            may_be_put_on_clipboard: false,
        }
    }
}

/// What the choice about a clip depends on.
#[derive(Clone, Copy, Debug)]
pub struct Candidate<'a> {
    /// What it is.
    pub kind: Kind,
    /// Bytes of all formats together.
    pub size: u64,
    /// The application from which it was copied.
    pub application: Option<&'a str>,
    /// Whether it is pinned or in a drawer.
    pub kept: bool,
    /// Whether it looks like a secret.
    pub sensitive: bool,
    /// Whether the other devices know it already.
    pub shared: bool,
}

impl Policy {
    /// Whether a clip leaves this device by itself. One that the others know already goes on telling them what
    /// becomes of it.
    pub fn lets_out(&self, clip: &Candidate<'_>) -> bool {
        if clip.sensitive {
            return false;
        }
        if clip.shared {
            return true;
        }
        let wanted = match self.leaves {
            Extent::Everything => true,
            Extent::KeptOnly => clip.kept,
            Extent::ByHand => false,
        };
        let left_out = |name: &str| {
            self.applications_left_out.iter().any(|left_out| left_out.to_lowercase() == name.to_lowercase())
        };
        wanted
            && !self.kinds_left_out.contains(&clip.kind)
            && self.size_limit.is_none_or(|limit| clip.size <= limit)
            && !clip.application.is_some_and(left_out)
    }

    /// Whether a clip that is not here yet is taken in.
    pub fn lets_in(&self, kept: bool) -> bool {
        match self.arrives {
            Extent::Everything => true,
            Extent::KeptOnly => kept,
            Extent::ByHand => false,
        }
    }

    /// As a person reads it, a sentence each.
    pub fn sentences(&self) -> Vec<String> {
        let list = |words: &[String]| words.join(", ");
        let mut said = vec![match self.leaves {
            Extent::Everything => "Every clip leaves this device, but for sensitive ones.".to_owned(),
            Extent::KeptOnly => "Only pinned clips and those in drawers leave this device.".to_owned(),
            Extent::ByHand => "Nothing leaves this device but what is sent by hand.".to_owned(),
        }];
        if !self.kinds_left_out.is_empty() {
            said.push(format!(
                "These kinds stay here: {}.",
                list(&self.kinds_left_out.iter().map(|kind| kind.word().to_owned()).collect::<Vec<_>>())
            ));
        }
        if !self.applications_left_out.is_empty() {
            said.push(format!(
                "What was copied in these applications stays here: {}.",
                list(&self.applications_left_out)
            ));
        }
        if let Some(limit) = self.size_limit {
            said.push(format!("Clips above {} stay here.", crate::amounts::bytes_in_words(limit)));
        }
        said.push(match self.arrives {
            Extent::Everything => "Everything that the other devices share arrives.".to_owned(),
            Extent::KeptOnly => "Of the other devices' clips, only kept ones arrive.".to_owned(),
            Extent::ByHand => "Of the other devices' clips, only those arrive that are sent here by hand.".to_owned(),
        });
        said.push(format!(
            "Content above {} is fetched when it is first wanted.",
            crate::amounts::bytes_in_words(self.fetch_above)
        ));
        if self.follow {
            said.push("The newest copy of the other devices is put on this clipboard.".to_owned());
        }
        if self.may_be_put_on_clipboard {
            said.push("Other devices may put a clip on this clipboard.".to_owned());
        }
        said
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const CLIP: Candidate<'static> = Candidate {
        kind: Kind::Text,
        size: 100,
        application: Some("Notes"),
        kept: false,
        sensitive: false,
        shared: false,
    };

    #[test]
    fn what_leaves_is_chosen() {
        let all = Policy::default();
        assert!(all.lets_out(&CLIP));
        assert!(!all.lets_out(&Candidate { sensitive: true, shared: true, kept: true, ..CLIP }));
        let kept = Policy { leaves: Extent::KeptOnly, ..Policy::default() };
        assert!(!kept.lets_out(&CLIP) && kept.lets_out(&Candidate { kept: true, ..CLIP }));
        let by_hand = Policy { leaves: Extent::ByHand, ..Policy::default() };
        assert!(!by_hand.lets_out(&Candidate { kept: true, ..CLIP }));
        // What the others have already goes on telling them what becomes of it.
        assert!(by_hand.lets_out(&Candidate { shared: true, ..CLIP }));
        let some = Policy {
            kinds_left_out: vec![Kind::Image],
            applications_left_out: vec!["notes".into()],
            size_limit: Some(50),
            ..Policy::default()
        };
        assert!(!some.lets_out(&CLIP) && !some.lets_out(&Candidate { application: None, ..CLIP }));
        assert!(some.lets_out(&Candidate { application: None, size: 50, ..CLIP }));
        assert!(!some.lets_out(&Candidate { application: None, size: 50, kind: Kind::Image, ..CLIP }));
        assert_eq!(some.sentences().len(), 6);
    }

    #[test]
    fn what_arrives_is_chosen() {
        assert!(Policy::default().lets_in(false));
        let kept = Policy { arrives: Extent::KeptOnly, ..Policy::default() };
        assert!(!kept.lets_in(false) && kept.lets_in(true));
    }
}
