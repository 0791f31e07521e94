//! The estate that is asked: whole in memory, or what its parts share with the parts read one by one.

use bastide_engine::Snapshot;
use bastide_engine::session;
use bastide_formats::checksum::hex;
use bastide_formats::parted::{Part, Parted, Unfit};
pub use bastide_formats::pieces::Ground;
use bastide_formats::write::Texts;
use bastide_formats::{Loaded, described, load_as_of, parted};
use bastide_model::{Estate, Moment};
use bastide_syntax::{Diagnostic, Sources, codes};
use datafusion::error::DataFusionError;
use fixedbitset::FixedBitSet;
use jiff::civil::Date;
use std::collections::HashMap;
use std::fmt;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// Wrong usage.
pub const USAGE: u8 = 2;
/// The estate has errors.
pub const ESTATE: u8 = 3;
/// Something outside failed: a file, a server.
pub const OUTSIDE: u8 = 4;

/// Why there is no answer, and the exit status that goes with it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Fault {
    /// The exit status.
    pub status: u8,
    /// What to tell.
    pub text: String,
}

impl Fault {
    /// A question that cannot be answered as it is asked.
    pub fn usage(text: impl Into<String>) -> Fault {
        Fault { status: USAGE, text: text.into() }
    }

    /// Something outside went wrong.
    pub fn outside(text: impl fmt::Display) -> Fault {
        Fault { status: OUTSIDE, text: text.to_string() }
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl std::error::Error for Fault {}

impl From<Fault> for DataFusionError {
    fn from(fault: Fault) -> DataFusionError {
        DataFusionError::External(Box::new(fault))
    }
}

/// An estate that is held in memory, or as much of it as all parts share.
pub struct Held {
    /// Which one.
    pub ground: Ground,
    /// What restrictions have lost, where that is no error: whoever asks is told.
    pub lost: Vec<String>,
    body: Body,
    moment: Moment,
}

impl fmt::Debug for Held {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.ground)
    }
}

enum Body {
    Whole(Snapshot),
    Parts { parted: Box<Parted>, shared: Snapshot },
}

/// A piece of the catalog that is gone through at once.
#[derive(Clone, Debug)]
pub enum Unit {
    /// Some of the resources of a whole catalog.
    Some(Range<u32>),
    /// What all parts share.
    Shared,
    /// A part.
    Part(usize),
}

/// A piece at hand.
pub struct View<'v> {
    /// The estate with the piece in it.
    pub snapshot: &'v Snapshot,
    /// The resources of the piece, where not all in the range are.
    pub own: Option<&'v FixedBitSet>,
    /// Where they are.
    pub range: Range<u32>,
}

/// What is wrong with an estate.
fn report(sources: &Sources, told: &[Diagnostic]) -> Fault {
    let mut text = String::new();
    for one in told.iter().filter(|one| one.is_error()) {
        text.push_str(&format!("error[{}]: {}\n", one.code.name, one.message));
        if let Some(place) = one.place {
            text.push_str(&format!("  --> {}\n", sources.place(place)));
        }
    }
    text.push_str("nothing is answered until the errors are mended: `bastide check` shows them\n");
    Fault { status: ESTATE, text }
}

/// What restrictions have lost, where that is no error.
fn lost(sources: &Sources, told: &[Diagnostic]) -> Vec<String> {
    let lost = told.iter().filter(|one| *one.code == codes::LOST_RESTRICTION && !one.is_error());
    let place = |one: &Diagnostic| one.place.map_or(String::new(), |place| format!("{}: ", sources.place(place)));
    lost.map(|one| format!("{}{}", place(one), one.message)).collect()
}

fn unfit(unfit: Unfit) -> Fault {
    match unfit {
        Unfit::Estate(sources, told) => report(&sources, &told),
        Unfit::Outside(message) => Fault::outside(message),
    }
}

fn moment(estate: &Estate, day: Date, given: &[(String, String)]) -> Result<Moment, Fault> {
    session::moment(estate.schema(), day, given).map_err(|error| Fault::usage(error.to_string()))
}

fn snapshot(estate: &Estate, moment: &Moment, sources: &Sources) -> Result<Snapshot, Fault> {
    Snapshot::new(estate, moment).map_err(|cycles| report(sources, &cycles))
}

impl Held {
    /// Reads the estate in a folder for a day. Of a catalog in parts every part is looked at, unless somebody else did it:
    /// then `known` says what they saw, and each part is compared with it when it is read.
    ///
    /// # Errors
    /// Something is wrong with the estate, or with the session.
    pub fn open(root: &Path, day: Date, session: &[(String, String)], known: Option<&Ground>) -> Result<Held, Fault> {
        let in_parts = described(root)
            .map_err(Fault::outside)?
            .manifest
            .is_some_and(|manifest| manifest.catalog.iter().any(|source| source.parts));
        let asked = (day.to_string(), session);
        let whole = |loaded: &Loaded| report(&loaded.sources, &loaded.diagnostics);
        let held = if in_parts {
            let (loaded, found) = parted(root, day).map_err(Fault::outside)?;
            let (Some(parted), Some(estate)) = (found, &loaded.estate) else { return Err(whole(&loaded)) };
            let moment = moment(estate, day, session)?;
            let shared = snapshot(estate, &moment, &loaded.sources)?;
            let mut lost = lost(&loaded.sources, &loaded.diagnostics);
            let (resources, parts) = match known {
                Some(known) => (known.resources, known.parts.clone()),
                None => {
                    let seen = parted.survey().map_err(unfit)?;
                    lost.extend(self::lost(&loaded.sources, &seen.lost));
                    let parts = seen.sums.iter().map(|(name, sum)| (name.clone(), hex(sum))).collect();
                    (seen.resources, parts)
                }
            };
            let ground = Ground::of(root, asked, estate, &loaded.sources, resources, parts);
            Held { ground, lost, moment, body: Body::Parts { parted: Box::new(parted), shared } }
        } else {
            let loaded = load_as_of(root, &Texts::new(), day).map_err(Fault::outside)?;
            let Some(estate) = &loaded.estate else { return Err(whole(&loaded)) };
            let moment = moment(estate, day, session)?;
            let snapshot = snapshot(estate, &moment, &loaded.sources)?;
            let ground = Ground::of(root, asked, estate, &loaded.sources, estate.catalog().len(), Vec::new());
            let lost = lost(&loaded.sources, &loaded.diagnostics);
            Held { ground, lost, moment, body: Body::Whole(snapshot) }
        };
        match known.filter(|known| known.checksum != held.ground.checksum) {
            None => Ok(held),
            Some(_) => Err(Fault::outside(format!(
                "the files in `{}` are others here than those that were asked about",
                root.display()
            ))),
        }
    }

    /// The estate, or what its parts share.
    pub fn estate(&self) -> &Estate {
        self.snapshot().estate()
    }

    /// The same at the moment that is asked about.
    pub fn snapshot(&self) -> &Snapshot {
        match &self.body {
            Body::Whole(snapshot) => snapshot,
            Body::Parts { shared, .. } => shared,
        }
    }

    /// Whether the catalog comes in parts.
    pub fn is_in_parts(&self) -> bool {
        matches!(self.body, Body::Parts { .. })
    }

    /// The pieces of one share of so many.
    pub fn units(&self, share: usize, of: usize) -> Vec<Unit> {
        match &self.body {
            Body::Whole(snapshot) => {
                let cut = |at: usize| (snapshot.estate().catalog().len() * at / of) as u32;
                vec![Unit::Some(cut(share)..cut(share + 1))]
            }
            Body::Parts { parted, .. } => {
                let all = std::iter::once(Unit::Shared).chain((0..parted.len()).map(Unit::Part));
                all.skip(share).step_by(of).collect()
            }
        }
    }

    /// Goes through a piece.
    ///
    /// # Errors
    /// A part cannot be read, is another than the one that was looked at, or whatever `each` gives back.
    pub fn visit<E: From<Fault>>(&self, unit: &Unit, each: impl FnOnce(&View) -> Result<(), E>) -> Result<(), E> {
        let all = |snapshot: &Snapshot| 0..snapshot.estate().catalog().len() as u32;
        match (&self.body, unit) {
            (_, Unit::Some(range)) => each(&View { snapshot: self.snapshot(), own: None, range: range.clone() }),
            (Body::Parts { parted, .. }, Unit::Part(part)) => {
                let found = self.part(parted, *part)?;
                let snapshot = snapshot(&found.estate, &self.moment, &Sources::new())?;
                each(&View { snapshot: &snapshot, own: Some(&found.own), range: all(&snapshot) })
            }
            _ => each(&View { snapshot: self.snapshot(), own: None, range: all(self.snapshot()) }),
        }
    }

    /// That no file that is read part by part is another by now.
    ///
    /// # Errors
    /// One is.
    pub fn unchanged(&self) -> Result<(), Fault> {
        match &self.body {
            Body::Whole(_) => Ok(()),
            Body::Parts { parted, .. } => parted.unchanged().map_err(unfit),
        }
    }

    fn part(&self, parted: &Parted, part: usize) -> Result<Part, Fault> {
        let found = parted.part(part).map_err(unfit)?;
        let known = self.ground.parts.iter().find(|(name, _)| name == parted.name(part));
        match known.is_some_and(|(_, sum)| *sum == hex(&found.sum)) {
            true => Ok(found),
            false => Err(Fault::outside(format!(
                "`{}` is another file than the one that was looked at: ask again",
                parted.name(part)
            ))),
        }
    }
}

/// Estates that this process holds.
static HELD: OnceLock<Mutex<HashMap<Ground, Arc<Held>>>> = OnceLock::new();
/// The folder in which this process finds every estate it is asked about, where it is not the one that was asked about.
static HERE: OnceLock<PathBuf> = OnceLock::new();

/// Says that the estate lies elsewhere on this machine.
pub fn lies_here(root: PathBuf) {
    let _ = HERE.set(root);
}

/// Keeps an estate for whoever asks for it.
pub fn keep(held: Held) -> Arc<Held> {
    let held = Arc::new(held);
    let known = HELD.get_or_init(Mutex::default);
    known.lock().unwrap_or_else(PoisonError::into_inner).insert(held.ground.clone(), Arc::clone(&held));
    held
}

/// The estate that is asked about, read once.
///
/// # Errors
/// It cannot be read here, or is another here.
pub fn held(ground: &Ground) -> Result<Arc<Held>, Fault> {
    let mut known = HELD.get_or_init(Mutex::default).lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(held) = known.get(ground) {
        return Ok(Arc::clone(held));
    }
    let root = HERE.get().unwrap_or(&ground.root);
    let day = ground.day.parse().map_err(|_| Fault::outside(format!("`{}` is no day", ground.day)))?;
    let held = Arc::new(Held::open(root, day, &ground.session, Some(ground))?);
    // Whoever asks about another state of it does not ask about this one any more.
    known.retain(|other, _| other.root != ground.root);
    known.insert(ground.clone(), Arc::clone(&held));
    Ok(held)
}
