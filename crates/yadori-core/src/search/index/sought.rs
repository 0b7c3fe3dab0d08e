//! Which clips meet one term of a query, tier by tier.

use super::super::bits::Bits;
use super::super::place::Tier;
use super::super::query::Term;
use super::super::words::{is_boundary, words};
use super::Index;
use memchr::memmem::Finder;

/// A term that is looked for, tier by tier.
pub(super) enum Sought<'a> {
    /// A word, and in which slots it was met at the latest tier; after that of beginnings, which other words contain it, if that is
    /// known.
    Word { word: &'a str, errors: Option<u32>, met: Option<(Tier, Bits)>, others: Option<Vec<u32>> },
    /// Where the tiers are found all at once.
    Compound([Bits; 3]),
}

impl Sought<'_> {
    /// Passes on the slots in which the term is met at this tier or better; slots of clips that are gone may be among them. To be
    /// asked for one tier after the other, from the best on.
    pub(super) fn meet(&mut self, index: &Index, tier: Tier, mut pass: impl FnMut(&Bits)) {
        let (word, errors, met, others) = match self {
            Self::Compound(met) => return pass(&met[(tier as usize).min(2)]),
            Self::Word { word, errors, met, others } => (*word, *errors, met, others),
        };
        let others_before = others.take();
        let mut found = match (met.take(), tier) {
            // What comes is added to what was met.
            (Some((Tier::Prefix, found)), Tier::Inside) if others_before.is_some() => found,
            (Some((Tier::Inside, found)), Tier::Fuzzy) => found,
            _ => Bits::none(index.clips.len()),
        };
        match (tier, others_before) {
            (Tier::Exact, _) => index.lexicon.exact(word, &mut found),
            (Tier::Prefix, _) => {
                *others = index.lexicon.prefix_and_others(word, &mut found);
                if others.is_none() {
                    index.lexicon.prefix(word, &mut found);
                }
            }
            (Tier::Inside, Some(others)) => index.lexicon.words(&others, &mut found),
            (Tier::Inside, None) => index.lexicon.inside(word, &mut found),
            (Tier::Fuzzy, _) => errors.into_iter().for_each(|errors| index.lexicon.near(word, errors, &mut found)),
        }
        pass(&found);
        *met = Some((tier, found));
    }
}

impl Index {
    /// Begins to look for a term.
    pub(super) fn sought<'a>(&self, term: &'a Term) -> Sought<'a> {
        let pieces: Vec<(usize, &str)> = words(&term.folded).collect();
        match pieces.as_slice() {
            [(_, word)] if *word == term.folded => {
                Sought::Word { word, errors: errors_forgiven(word).filter(|_| !term.phrase), met: None, others: None }
            }
            pieces => Sought::Compound(self.compound(&term.folded, pieces)),
        }
    }

    /// The slots of the clips in which a term of several words, or of none, is met as it stands: at each tier or better.
    fn compound(&self, folded: &str, pieces: &[(usize, &str)]) -> [Bits; 3] {
        let mut candidates: Option<Bits> = None;
        for (at, piece) in pieces {
            let mut with = Bits::none(self.clips.len());
            // What is beside it in the term ends the word there.
            match (*at > 0, at + piece.len() < folded.len()) {
                (true, true) => self.lexicon.exact(piece, &mut with),
                (true, false) => self.lexicon.prefix(piece, &mut with),
                (false, true) => self.lexicon.suffix(piece, &mut with),
                (false, false) => self.lexicon.inside(piece, &mut with),
            }
            if let Some(before) = &candidates {
                with.intersect(before);
            }
            candidates = Some(with);
        }
        let candidates = candidates.unwrap_or_else(|| self.all());
        let mut met = [(); 3].map(|()| Bits::none(self.clips.len()));
        let finder = Finder::new(folded);
        let texts = self.texts.as_bytes();
        let find = |from: usize, to: usize| Some(from + finder.find(texts.get(from..to)?)?);
        // Many texts are one long one, which is quicker to go through than each by itself.
        let together = candidates.count() > self.order.len() / 16;
        // The next match in all texts together, once it has been looked for.
        let mut next: Option<Option<usize>> = None;
        for slot in candidates.iter() {
            let Some(clip) = self.clip(slot) else { continue };
            let (start, end) = (clip.text_start, clip.text_start + clip.text_len as usize);
            let mut look = |from: usize| {
                if !together {
                    return find(from, end);
                }
                let known = next.filter(|next| next.is_none_or(|at| at >= from));
                let at = *next.insert(known.unwrap_or_else(|| find(from, texts.len())));
                at.filter(|at| at + folded.len() <= end)
            };
            let (mut from, mut best) = (start, None);
            while let Some(at) = look(from) {
                let text = self.text(clip);
                let (starts, ends) = (is_boundary(text, at - start), is_boundary(text, at - start + folded.len()));
                let tier = if starts && ends { 0 } else { 2 - usize::from(starts) };
                best = Some(best.map_or(tier, |best: usize| best.min(tier)));
                if tier == 0 {
                    break;
                }
                from = at + 1;
            }
            best.into_iter().flat_map(|best| best..3).for_each(|tier| met[tier].insert(slot));
        }
        met
    }
}

/// Typing errors that are forgiven in a word: none in short ones, which would meet almost anything,
/// and none in numbers, where another digit is another thing.
fn errors_forgiven(word: &str) -> Option<u32> {
    if word.contains(|c: char| c.is_ascii_digit()) {
        return None;
    }
    match word.chars().count() {
        0..=3 => None,
        4..=7 => Some(1),
        _ => Some(2),
    }
}
