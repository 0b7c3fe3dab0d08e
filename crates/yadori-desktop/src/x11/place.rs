//! Where transfers take place: the connection, our window, and the names of things.

use super::atoms::Atoms;
use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use x11rb::errors::ReplyOrIdError;
use x11rb::protocol::xproto::{Atom, ConnectionExt, Window};
use x11rb::rust_connection::RustConnection;

/// Most names of atoms that are kept: a program may make up as many as it likes.
const MOST_NAMED: usize = 1_000;

/// Longest of them, in bytes.
const LONGEST_NAMED: usize = 256;

/// What all transfers need.
pub(super) struct TransferContext<'a> {
    pub connection: &'a RustConnection,
    pub atoms: &'a Atoms,
    pub window: Window,
    /// Counts the questions that were asked.
    pub questions: &'a Cell<usize>,
    /// The names that were looked up.
    pub named: &'a RefCell<HashMap<Atom, String>>,
    /// The properties in which answers are still awaited.
    pub awaited: Vec<Atom>,
}

impl TransferContext<'_> {
    /// The property for the next answer. They take turns, so that a late answer is not taken for another; one in which
    /// an earlier answer is still awaited is passed over.
    pub fn next_answer(&self) -> Atom {
        let atoms = self.atoms;
        let answers = [
            atoms.ANSWER_0,
            atoms.ANSWER_1,
            atoms.ANSWER_2,
            atoms.ANSWER_3,
            atoms.ANSWER_4,
            atoms.ANSWER_5,
            atoms.ANSWER_6,
            atoms.ANSWER_7,
        ];
        let first = self.questions.get();
        let turns = first..first + answers.len();
        let turn = turns.into_iter().find(|turn| !self.awaited.contains(&answers[turn % answers.len()]));
        let turn = turn.unwrap_or(first);
        self.questions.set((turn + 1) % answers.len());
        answers[turn % answers.len()]
    }

    /// The common names, which need no look-up.
    fn well_known(&self) -> [(Atom, &'static str); 11] {
        let atoms = self.atoms;
        [
            (atoms.TARGETS, "TARGETS"),
            (atoms.MULTIPLE, "MULTIPLE"),
            (atoms.TIMESTAMP, "TIMESTAMP"),
            (atoms.UTF8_STRING, "UTF8_STRING"),
            (atoms.STRING, "STRING"),
            (atoms.TEXT, "TEXT"),
            (atoms.COMPOUND_TEXT, "COMPOUND_TEXT"),
            (atoms.TEXT_PLAIN, "text/plain"),
            (atoms.TEXT_PLAIN_UTF8, "text/plain;charset=utf-8"),
            (atoms.SECRET_HINT, crate::wanted::SECRET_HINT),
            (atoms.SAVE_TARGETS, "SAVE_TARGETS"),
        ]
    }

    /// The names of atoms, in their order. One that is no atom at all is its owner's lie and is left out.
    pub fn names(&self, atoms: &[Atom]) -> Result<Vec<(Atom, String)>, ReplyOrIdError> {
        let well_known = self.well_known();
        let mut named = self.named.borrow_mut();
        if named.len() > MOST_NAMED {
            named.clear();
        }
        // An atom is the same for as long as the server runs: its name is asked for once, and all at once.
        let mut asked = Vec::new();
        for atom in atoms {
            if !named.contains_key(atom) && !well_known.iter().any(|(known, _)| known == atom) {
                asked.push((*atom, self.connection.get_atom_name(*atom)?));
            }
        }
        for (atom, cookie) in asked {
            if let Ok(reply) = cookie.reply() {
                named.insert(atom, String::from_utf8_lossy(&reply.name).into_owned());
            }
        }
        let name = |atom: &Atom| match well_known.iter().find(|(known, _)| known == atom) {
            Some((_, name)) => Some((*name).to_owned()),
            None => named.get(atom).cloned(),
        };
        let all = atoms.iter().filter_map(|atom| Some((*atom, name(atom)?))).collect();
        named.retain(|_, name| name.len() <= LONGEST_NAMED);
        Ok(all)
    }

    /// The atom of a name.
    pub fn atom(&self, name: &str) -> Result<Atom, ReplyOrIdError> {
        match self.well_known().into_iter().find(|(_, known)| *known == name) {
            Some((atom, _)) => Ok(atom),
            None => Ok(self.connection.intern_atom(false, name.as_bytes())?.reply()?.atom),
        }
    }
}
