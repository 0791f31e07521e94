//! `bastide matrix --cluster`: pieces of the catalog are counted by a cluster, which `bastide-sql` asks; here they are put together.

use super::args::{MatrixArgs, TotalsBy};
use crate::failure::Failure;
use crate::open::{Opened, day};
use crate::progress::Progress;
use bastide_engine::access::Running;
use bastide_formats::checksum::hex;
use bastide_formats::distinct::Distinct;
use bastide_formats::pieces::{Ground, Holds, Message, Tallies};
use bastide_rows::TotalsTable;
use hashbrown::{HashMap, HashSet};
use serde::de::DeserializeOwned;
use std::fs::File;
use std::io::{BufReader, ErrorKind, Read, Seek, SeekFrom, Write};
use std::process::Stdio;

/// Allowed pairs by action, of ids.
type TotalsRows = Vec<(String, Vec<u64>)>;

/// What is asked of a cluster.
pub struct Asked<'a> {
    address: &'a str,
    ground: Ground,
    progress: Progress,
}

fn outside(what: impl std::fmt::Display) -> Failure {
    Failure::Outside(format!("the cluster's answer cannot be used: {what}"))
}

/// What is told where fingerprints of rows cannot be kept or compared.
pub fn incomparable(error: std::io::Error) -> Failure {
    Failure::Outside(format!("rows cannot be compared: {error}"))
}

fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Failure> {
    serde_json::from_slice(bytes).map_err(outside)
}

impl<'a> Asked<'a> {
    /// Asks the cluster at an address about an estate with so many resources, that was read.
    pub fn of(address: &'a str, args: &MatrixArgs, opened: &Opened, resources: usize) -> Result<Asked<'a>, Failure> {
        let root = std::fs::canonicalize(&opened.root).map_err(|error| Failure::Outside(error.to_string()))?;
        let given = args.moment.session.iter().filter_map(|text| text.split_once('='));
        let session: Vec<(String, String)> = given.map(|(name, value)| (name.into(), value.into())).collect();
        let asked = (args.moment.on.unwrap_or_else(day).to_string(), session.as_slice());
        let parts = opened.loaded.part_sums.iter().map(|(name, sum)| (name.clone(), hex(sum))).collect();
        let ground = Ground::of(&root, asked, opened.estate(), &opened.loaded.sources, resources, parts);
        Ok(Asked { address, ground, progress: Progress::new(resources) })
    }

    /// Totals of everything: what was counted goes into `running`; gives how many different rows the matrix has.
    pub fn summary(&self, running: &mut Running) -> Result<usize, Failure> {
        let (mut counted, mut rows) = (0, Distinct::default());
        self.ask(
            Tallies::Summary,
            |bytes| {
                let (prints, []) = bytes.as_chunks::<16>() else { return Err(outside("a fingerprint is cut")) };
                rows.add(prints.iter().copied().map(u128::from_le_bytes)).map_err(incomparable)
            },
            |_, bytes| {
                let resources = running.join(&read(bytes)?).ok_or_else(|| outside("it is about another estate"))?;
                counted += resources;
                Ok(resources)
            },
        )?;
        self.whole(counted)?;
        Ok(rows.finish().map_err(incomparable)?.0)
    }

    /// TotalsRows of the actions of the estate.
    fn rows(&self, bytes: &[u8]) -> Result<TotalsRows, Failure> {
        let rows: TotalsRows = read(bytes)?;
        match rows.iter().all(|(_, counts)| counts.len() == self.ground.actions) {
            true => Ok(rows),
            false => Err(outside("it is about other actions")),
        }
    }

    /// Allowed pairs by user or by resource. What was counted by resource waits in a temporary file until every piece has come.
    pub fn totals(&self, by: TotalsBy) -> Result<Counted, Failure> {
        match by {
            TotalsBy::Users => self.by_user().map(Counted::Users),
            TotalsBy::Resources => self.by_resource(),
        }
    }

    fn by_user(&self) -> Result<TotalsRows, Failure> {
        let mut sums: TotalsRows = Vec::new();
        self.ask(Tallies::Users, none, |_, bytes| {
            let rows = self.rows(bytes)?;
            if sums.is_empty() {
                sums = rows;
            } else {
                if sums.len() != rows.len() || sums.iter().zip(&rows).any(|((own, _), (other, _))| own != other) {
                    return Err(outside("it is about other users"));
                }
                let pairs = sums.iter_mut().zip(rows);
                pairs.for_each(|((_, sums), (_, more))| sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more));
            }
            Ok(0)
        })?;
        match sums.len() == self.ground.users {
            true => Ok(sums),
            false => Err(outside("it is about other users")),
        }
    }

    fn by_resource(&self) -> Result<Counted, Failure> {
        let mut kept: File = tempfile::tempfile().map_err(kept_fault)?;
        let mut pieces: Vec<(u32, u64, usize)> = Vec::new();
        let (mut end, mut counted) = (0, 0);
        self.ask(Tallies::Resources, none, |piece, bytes| {
            kept.write_all(bytes).map_err(kept_fault)?;
            pieces.push((piece, end, bytes.len()));
            end += bytes.len() as u64;
            let rows = self.rows(bytes)?;
            counted += rows.len();
            Ok(rows.len())
        })?;
        self.whole(counted)?;
        pieces.sort_unstable();
        Ok(Counted::Resources { kept, pieces, in_parts: !self.ground.parts.is_empty() })
    }

    /// That every resource was counted.
    fn whole(&self, counted: usize) -> Result<(), Failure> {
        let all = self.ground.resources;
        (counted == all).then_some(()).ok_or_else(|| outside(format!("it counts {counted} of {all} resources")))
    }

    /// Lets the cluster count. `prints` is given fingerprints, `each` a piece that is whole; it gives how many resources that was.
    fn ask(
        &self,
        of: Tallies,
        mut prints: impl FnMut(&[u8]) -> Result<(), Failure>,
        mut each: impl FnMut(u32, &[u8]) -> Result<usize, Failure>,
    ) -> Result<(), Failure> {
        let program = crate::commands::sql::program()?;
        let fault = |error: std::io::Error| Failure::Outside(format!("`{}`: {error}", program.display()));
        let mut command = std::process::Command::new(&program);
        command.args(["tallies", of.word(), "--cluster", self.address]);
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().map_err(fault)?;
        let told = serde_json::to_vec(&self.ground).expect("plain values always serialise");
        if let Some(mut to) = child.stdin.take() {
            // Where it has ended before, its status says why.
            match to.write_all(&told) {
                Err(error) if error.kind() != ErrorKind::BrokenPipe => return Err(fault(error)),
                _ => {}
            }
        }
        let mut open: HashMap<u32, Vec<u8>> = HashMap::new();
        let mut done: HashSet<u32> = HashSet::new();
        let mut gather = || -> Result<(), Failure> {
            let Some(from) = child.stdout.take() else { return Ok(()) };
            let mut from = BufReader::new(from);
            while let Some(Message { piece, holds, bytes }) = Message::read(&mut from).map_err(outside)? {
                if done.contains(&piece) {
                    return Err(outside(format!("piece {piece} comes twice")));
                }
                let known = open.entry(piece).or_default();
                match holds {
                    Holds::Some => known.extend_from_slice(&bytes),
                    Holds::Prints => prints(&bytes)?,
                    Holds::End => {
                        let bytes = open.remove(&piece).unwrap_or_default();
                        self.progress.advance(each(piece, &bytes)? as u64);
                        done.insert(piece);
                    }
                }
            }
            Ok(())
        };
        let gathered = gather();
        if gathered.is_err() {
            // Nobody reads any more what it still has to say; it may have ended, too.
            let _ = child.kill();
        }
        let status = child.wait().map_err(fault)?;
        if let Some(code) = status.code().filter(|code| *code != 0) {
            return Err(Failure::Told(u8::try_from(code).unwrap_or(crate::failure::OUTSIDE)));
        }
        gathered?;
        if !status.success() {
            return Err(crate::commands::sql::ended(&program));
        }
        let parts = self.ground.parts.len();
        match open.is_empty() && (parts == 0 || done.len() == parts + 1) {
            true => Ok(()),
            false => Err(outside(format!("it has {} of {} pieces", done.len(), parts + 1))),
        }
    }
}

fn none(_: &[u8]) -> Result<(), Failure> {
    Err(outside("it has rows that nobody asked for"))
}

/// What a cluster has counted, all of it.
pub enum Counted {
    /// By user.
    Users(TotalsRows),
    /// By resource: what of which piece lies where in a file, in the order of the pieces.
    Resources { kept: File, pieces: Vec<(u32, u64, usize)>, in_parts: bool },
}

fn kept_fault(error: std::io::Error) -> Failure {
    Failure::Outside(format!("answers cannot be kept for a while: {error}"))
}

impl Counted {
    /// Writes it: by resource part by part; of a catalog that is no parts in the order of ids.
    pub fn write<E>(self, table: &mut TotalsTable) -> Result<(), E>
    where
        E: From<Failure> + From<std::io::Error>,
    {
        let mut all = TotalsRows::new();
        match self {
            Counted::Users(rows) => all = rows,
            Counted::Resources { mut kept, pieces, in_parts } => {
                for (_, from, length) in pieces {
                    let mut bytes = vec![0; length];
                    let taken = kept.seek(SeekFrom::Start(from)).and_then(|_| kept.read_exact(&mut bytes));
                    taken.map_err(kept_fault)?;
                    let rows: TotalsRows = read(&bytes)?;
                    match in_parts {
                        true => table.rows(&rows)?,
                        false => all.extend(rows),
                    }
                }
                all.sort_unstable();
            }
        }
        table.rows(&all)?;
        Ok(table.finish()?)
    }
}
