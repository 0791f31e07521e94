//! Allowed actions pair by pair as CSV, fast: each id is quoted once, and what may be done is joined
//! once for each combination of actions. A row is two pieces, the user and the rest, copied in steps of a fixed length,
//! which is quicker than to copy pieces of any length.

use bastide_engine::access::Row;
use bastide_model::{ActionId, Estate, UserId};
use csv::QuoteStyle;
use hashbrown::HashMap;
use std::borrow::Cow;
use std::io::{self, Write};

/// Stands for a user who is not asked for.
const NOBODY: u32 = u32::MAX;
/// The buffer is handed on when it is as long as this.
const FULL: usize = 1 << 16;
/// Pieces are copied so many bytes at a time.
const STRIDE: usize = 32;

/// Writes `user,resource,actions` rows.
pub struct Pairs<'a> {
    estate: &'a Estate,
    wanted: &'a [ActionId],
    /// Pairs without any access, too.
    all: bool,
    guard: fn(&str) -> String,
    quote: QuoteStyle,
    /// The position of each user among those asked for.
    position: Vec<u32>,
    /// By position: the cell of the id and the comma behind it.
    ids: Pieces,
    /// By position, some words each: the allowed actions, a bit each.
    masks: Vec<u64>,
    /// Room for the words of a set.
    words: Vec<u64>,
    /// By allowed actions.
    cells: HashMap<Box<[u64]>, Allowed>,
    /// The resource and the allowed actions, as far as they were met on this resource.
    rests: Pieces,
    buffer: Buffer,
}

/// A combination of allowed actions.
struct Allowed {
    /// The cell and the end of the line.
    cell: Box<[u8]>,
    /// The position in [`Pairs::rests`]; none where it was not met on this resource.
    rest: Option<usize>,
}

/// Pieces of rows, each with room behind it up to a full stride.
#[derive(Default)]
struct Pieces {
    bytes: Vec<u8>,
    /// Where each begins, and how long it is.
    places: Vec<(usize, usize)>,
}

impl Pieces {
    fn clear(&mut self) {
        self.bytes.clear();
        self.places.clear();
    }

    /// Adds one in two parts; its position.
    fn push(&mut self, first: &[u8], second: &[u8]) -> usize {
        let from = self.bytes.len();
        self.bytes.extend_from_slice(first);
        self.bytes.extend_from_slice(second);
        self.places.push((from, self.bytes.len() - from));
        self.bytes.resize(self.bytes.len().next_multiple_of(STRIDE), 0);
        self.places.len() - 1
    }
}

/// What is written next.
struct Buffer {
    bytes: Vec<u8>,
    len: usize,
}

impl Buffer {
    fn put(&mut self, pieces: &Pieces, at: usize) {
        let (from, len) = pieces.places[at];
        let padded = len.next_multiple_of(STRIDE);
        if self.bytes.len() < self.len + padded {
            self.bytes.resize(self.len + padded, 0);
        }
        let (to, _) = self.bytes[self.len..self.len + padded].as_chunks_mut::<STRIDE>();
        let (from, _) = pieces.bytes[from..from + padded].as_chunks::<STRIDE>();
        to.iter_mut().zip(from).for_each(|(to, from)| *to = *from);
        self.len += len;
    }

    fn hand_on(&mut self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(&self.bytes[..self.len])?;
        self.len = 0;
        Ok(())
    }
}

impl<'a> Pairs<'a> {
    /// Begins with the header, where one is wanted. `guard` makes a cell harmless before it is quoted as `quote` says.
    pub fn new(
        estate: &'a Estate,
        users: &'a [UserId],
        wanted: &'a [ActionId],
        (all, header): (bool, bool),
        (guard, quote): (fn(&str) -> String, QuoteStyle),
    ) -> Pairs<'a> {
        let mut position = vec![NOBODY; estate.people().len()];
        users.iter().enumerate().for_each(|(at, user)| position[user.index()] = at as u32);
        let mut ids = Pieces::default();
        for user in users {
            ids.push(&cell(&guard(estate.people().id(*user)), b',', quote), &[]);
        }
        let header: &[u8] = if header { b"user,resource,actions\n" } else { b"" };
        Pairs {
            estate,
            wanted,
            all,
            guard,
            quote,
            position,
            ids,
            masks: vec![0; users.len() * wanted.len().div_ceil(64)],
            words: Vec::new(),
            cells: HashMap::new(),
            rests: Pieces::default(),
            buffer: Buffer { bytes: header.to_vec(), len: header.len() },
        }
    }

    /// Writes the rows of a resource.
    ///
    /// # Errors
    /// What the output says.
    pub fn row(&mut self, row: &Row, out: &mut dyn Write) -> io::Result<()> {
        self.gather(row);
        let words = self.wanted.len().div_ceil(64);
        let resource = cell(&(self.guard)(self.estate.catalog().id(row.resource)), b',', self.quote);
        self.rests.clear();
        self.cells.values_mut().for_each(|allowed| allowed.rest = None);
        let mut last: (Option<&[u64]>, usize) = (None, 0);
        let masks = std::mem::take(&mut self.masks);
        for (position, mask) in masks.chunks_exact(words.max(1)).enumerate() {
            if !self.all && mask.iter().all(|word| *word == 0) {
                continue;
            }
            // Neighbours are often alike.
            if last.0 != Some(mask) {
                last = (Some(mask), self.rest(&resource, mask));
            }
            self.buffer.put(&self.ids, position);
            self.buffer.put(&self.rests, last.1);
            if self.buffer.len >= FULL {
                self.buffer.hand_on(out)?;
            }
        }
        self.masks = masks;
        Ok(())
    }

    /// The position of the rest of a row: the resource and what may be done.
    fn rest(&mut self, resource: &[u8], mask: &[u64]) -> usize {
        if !self.cells.contains_key(mask) {
            let cell = self.joined(mask);
            self.cells.insert(mask.into(), Allowed { cell, rest: None });
        }
        let allowed = self.cells.get_mut(mask).expect("it was put there");
        *allowed.rest.get_or_insert_with(|| self.rests.push(resource, &allowed.cell))
    }

    /// The allowed actions of everybody on a resource.
    fn gather(&mut self, row: &Row) {
        self.masks.fill(0);
        let words = self.wanted.len().div_ceil(64);
        for (at, action) in self.wanted.iter().enumerate() {
            let (word, bit) = (at / 64, 1u64 << (at % 64));
            let (position, masks) = (&self.position, &mut self.masks);
            row.everybody(*action, &mut self.words, |user| {
                let position = position[user];
                if position != NOBODY {
                    masks[position as usize * words + word] |= bit;
                }
            });
        }
    }

    fn joined(&self, mask: &[u64]) -> Box<[u8]> {
        let allowed = self.wanted.iter().enumerate().filter(|(at, _)| mask[at / 64] >> (at % 64) & 1 == 1);
        let names: Vec<&str> = allowed.map(|(_, a)| self.estate.schema().actions[a.index()].name.as_str()).collect();
        cell(&(self.guard)(&joined(names.into_iter())), b'\n', self.quote)
    }

    /// Hands on what is left.
    ///
    /// # Errors
    /// What the output says.
    pub fn finish(&mut self, out: &mut dyn Write) -> io::Result<()> {
        self.buffer.hand_on(out)?;
        out.flush()
    }
}

/// Names in one cell, parted by `;`, as sets are everywhere: `\\;` for one inside.
pub fn joined<'n>(names: impl Iterator<Item = &'n str>) -> String {
    let escaped = names.map(|name| {
        if name.contains(['\\', ';']) {
            name.replace('\\', "\\\\").replace(';', "\\;").into()
        } else {
            Cow::Borrowed(name)
        }
    });
    escaped.collect::<Vec<Cow<str>>>().join(";")
}

/// A cell as CSV, quoted where it must be, and what stands behind it.
fn cell(text: &str, behind: u8, quote: QuoteStyle) -> Box<[u8]> {
    let mut out = Vec::with_capacity(text.len() + 1);
    if !text.is_empty() || matches!(quote, QuoteStyle::Always) {
        let mut writer = crate::quoting::writer(&mut out, quote);
        writer.write_record([text]).expect("memory takes everything");
        drop(writer);
        out.pop();
    }
    out.push(behind);
    out.into()
}
