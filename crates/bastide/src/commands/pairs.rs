//! Allowed actions pair by pair as CSV, fast: each id is quoted once, and what may be done is joined
//! once for each combination of actions.

use bastide_engine::access::Row;
use bastide_model::{ActionId, Estate, UserId};
use hashbrown::HashMap;
use std::io::{self, Write};

/// Stands for a user who is not asked for.
const NOBODY: u32 = u32::MAX;
/// The buffer is handed on when it is as long as this.
const FULL: usize = 1 << 16;

/// Writes `user,resource,actions` rows.
pub struct Pairs<'a> {
    estate: &'a Estate,
    wanted: &'a [ActionId],
    /// Pairs without any access, too.
    all: bool,
    guard: fn(&str) -> String,
    /// The position of each user among those asked for.
    position: Vec<u32>,
    /// By position: the cell of the id and the comma behind it.
    ids: Vec<Box<[u8]>>,
    /// By position, some words each: the allowed actions, a bit each.
    masks: Vec<u64>,
    /// By allowed actions: the cell and the end of the line.
    cells: HashMap<Box<[u64]>, Box<[u8]>>,
    buffer: Vec<u8>,
}

impl<'a> Pairs<'a> {
    /// Begins with the header. `guard` makes a cell harmless before it is quoted.
    pub fn new(
        estate: &'a Estate,
        users: &'a [UserId],
        wanted: &'a [ActionId],
        all: bool,
        guard: fn(&str) -> String,
    ) -> Pairs<'a> {
        let mut position = vec![NOBODY; estate.people.len()];
        users.iter().enumerate().for_each(|(at, user)| position[user.index()] = at as u32);
        Pairs {
            estate,
            wanted,
            all,
            guard,
            position,
            ids: users.iter().map(|user| cell(&guard(estate.people.id(*user)), b',')).collect(),
            masks: vec![0; users.len() * wanted.len().div_ceil(64)],
            cells: HashMap::new(),
            buffer: b"user,resource,actions\n".to_vec(),
        }
    }

    /// Writes the rows of a resource.
    ///
    /// # Errors
    /// What the output says.
    pub fn row(&mut self, row: &Row, out: &mut dyn Write) -> io::Result<()> {
        self.gather(row);
        let words = self.wanted.len().div_ceil(64);
        let resource = cell(&(self.guard)(self.estate.catalog.id(row.resource)), b',');
        let mut last: (Option<&[u64]>, &[u8]) = (None, &[]);
        // Every combination has its cell before the first row is written.
        for mask in self.masks.chunks_exact(words.max(1)) {
            if last.0 != Some(mask) {
                last.0 = Some(mask);
                if !self.cells.contains_key(mask) {
                    let joined = self.joined(mask);
                    self.cells.insert(mask.into(), joined);
                }
            }
        }
        last.0 = None;
        for (id, mask) in self.ids.iter().zip(self.masks.chunks_exact(words.max(1))) {
            if !self.all && mask.iter().all(|word| *word == 0) {
                continue;
            }
            // Neighbours are often alike.
            if last.0 != Some(mask) {
                last = (Some(mask), &self.cells[mask]);
            }
            self.buffer.extend_from_slice(id);
            self.buffer.extend_from_slice(&resource);
            self.buffer.extend_from_slice(last.1);
            if self.buffer.len() >= FULL {
                out.write_all(&self.buffer)?;
                self.buffer.clear();
            }
        }
        Ok(())
    }

    /// The allowed actions of everybody on a resource.
    fn gather(&mut self, row: &Row) {
        self.masks.fill(0);
        let words = self.wanted.len().div_ceil(64);
        let (engine, decided) = (row.engine(), row.decided());
        for (at, action) in self.wanted.iter().enumerate() {
            let (word, bit) = (at / 64, 1u64 << (at % 64));
            for user in engine.sets().users(engine.outcome(decided.others, *action).allowed) {
                let position = self.position[user];
                if position != NOBODY {
                    self.masks[position as usize * words + word] |= bit;
                }
            }
            if let Some((owner, _)) = decided.owner
                && self.position[owner.index()] != NOBODY
            {
                let mask = &mut self.masks[self.position[owner.index()] as usize * words + word];
                *mask = if engine.allows(decided, owner, *action) { *mask | bit } else { *mask & !bit };
            }
        }
    }

    fn joined(&self, mask: &[u64]) -> Box<[u8]> {
        let allowed = self.wanted.iter().enumerate().filter(|(at, _)| mask[at / 64] >> (at % 64) & 1 == 1);
        let names: Vec<&str> = allowed.map(|(_, a)| self.estate.schema.actions[a.index()].name.as_str()).collect();
        cell(&(self.guard)(&names.join(";")), b'\n')
    }

    /// Hands on what is left.
    ///
    /// # Errors
    /// What the output says.
    pub fn finish(&mut self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(&self.buffer)?;
        self.buffer.clear();
        out.flush()
    }
}

/// A cell as CSV, quoted where it must be, and what stands behind it.
fn cell(text: &str, behind: u8) -> Box<[u8]> {
    let mut out = Vec::with_capacity(text.len() + 1);
    if !text.is_empty() {
        let mut writer = csv::WriterBuilder::new().from_writer(&mut out);
        writer.write_record([text]).expect("memory takes everything");
        drop(writer);
        out.pop();
    }
    out.push(behind);
    out.into()
}
