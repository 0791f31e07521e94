//! Finding and loading the estate a command speaks of, and the moment it asks about.

use crate::failure::Failure;
use crate::print::diagnostics;
use crate::print::text::{count, visible};
use crate::progress::Telling;
use crate::revision::{Named, Place};
use crate::terminal::Terminal;
use bastide_engine::prove::with_personas;
use bastide_engine::{Snapshot, find, session};
use bastide_formats::parted::Unfit;
use bastide_formats::write::{Lock, Texts};
use bastide_formats::{Loaded, manifest};
use bastide_model::proof::Persona;
use bastide_model::schema::read_date;
use bastide_model::{Estate, Moment, Origin, ResourceId, UserId};
use bastide_syntax::{Diagnostic, Sources, codes};
use clap::Args;
use jiff::ZonedDateTime;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Instant;

/// So many restrictions that have lost something are named; of more, the rest is counted.
const MOST_LOST: usize = 10;

/// Which estate.
#[derive(Args, Clone, Debug)]
pub struct EstateArgs {
    /// The folder of the estate, or its `bastide.toml`; otherwise the nearest one upward that holds one
    #[arg(
        short = 'C',
        long = "estate",
        value_name = "DIR",
        global = true,
        display_order = 900,
        env = "BASTIDE_ESTATE",
        hide_env_values = true
    )]
    pub estate: Option<PathBuf>,
    /// The time zone in which it is today, as in `Europe/Lisbon`; otherwise that of the machine
    #[arg(long, value_name = "ZONE", global = true, display_order = 901, value_parser = zone)]
    pub zone: Option<TimeZone>,
    /// Say nothing beside the answer and what went wrong
    #[arg(short, long, global = true, display_order = 903)]
    pub quiet: bool,
}

/// The zone that `--zone` names, for the whole run.
static ZONE: OnceLock<TimeZone> = OnceLock::new();

fn zone(name: &str) -> Result<TimeZone, String> {
    let zone = TimeZone::get(name).map_err(|_| "there is no such time zone".to_string())?;
    // It is asked for wherever a day is wanted that is not given.
    let _ = ZONE.set(zone.clone());
    Ok(zone)
}

/// Now, where it matters which day it is.
pub fn now() -> ZonedDateTime {
    let zone = ZONE.get().cloned().unwrap_or_else(TimeZone::system);
    jiff::Timestamp::now().to_zoned_datetime(zone)
}

/// The name of the time zone.
pub fn zone_name() -> String {
    let now = now();
    now.time_zone().iana_name().map_or_else(|| now.offset().to_string(), str::to_string)
}

/// The day that `--on` names, for the whole run: accounts may end on a day, so it matters while files are read.
static ON: OnceLock<Date> = OnceLock::new();

pub fn on(text: &str) -> Result<Date, String> {
    let day = read_date(text).ok_or("expected a day such as 2027-06-30, up to the year 9999")?;
    let _ = ON.set(day);
    Ok(day)
}

/// The day asked about.
pub fn day() -> Date {
    ON.get().copied().unwrap_or_else(|| now().date())
}

/// Which moment.
#[derive(Args, Clone, Debug)]
pub struct MomentArgs {
    /// The day asked about; today otherwise
    #[arg(long, value_name = "DATE", value_parser = on)]
    pub on: Option<Date>,
    /// A session attribute; repeat it for several values
    #[arg(long = "session", value_name = "NAME=VALUE")]
    pub session: Vec<String>,
}

impl MomentArgs {
    /// The moment asked about.
    pub fn moment(&self, estate: &Estate) -> Result<Moment, Failure> {
        let mut given = Vec::new();
        for text in &self.session {
            let Some((name, value)) = text.split_once('=') else {
                let hint = "write it as `--session NAME=VALUE`".to_string();
                return Err(Failure::Usage(format!("`{text}` is no session value"), vec![hint]));
            };
            given.push((name.to_string(), value.to_string()));
        }
        let date = self.on.unwrap_or_else(day);
        Ok(session::moment(estate.schema(), date, &given)?)
    }
}

/// An estate that may be asked.
pub struct Opened {
    /// What was loaded. It is needed until the process ends, and nobody has to take it apart then.
    pub loaded: ManuallyDrop<Loaded>,
    /// Seconds it took.
    pub seconds: f64,
    /// The folder.
    pub root: PathBuf,
}

impl Opened {
    /// The estate.
    pub fn estate(&self) -> &Estate {
        self.loaded.estate.as_ref().expect("an estate with errors is not opened")
    }

    /// The estate at a moment, ready to be asked.
    ///
    /// # Errors
    /// Decisions that depend on themselves: the estate cannot be evaluated.
    pub fn snapshot(&self, moment: &Moment, terminal: &Terminal) -> Result<Snapshot, Failure> {
        Snapshot::new(self.estate(), moment).map_err(|cycles| cycle(self, &cycles, terminal))
    }

    /// Users that are named, personas (`persona:NAME`) and somebody who is in a group and has nothing else (`group:GROUP`)
    /// among them. Where one of those is named, they stand behind everybody from here on.
    pub fn somebody(&mut self, names: &[&str], terminal: &Terminal) -> Result<Vec<UserId>, Failure> {
        let is_persona = |name: &&&str| name.starts_with("persona:");
        let mut groups = Vec::new();
        for name in names {
            if let Some(group) = name.strip_prefix("group:") {
                groups.push((name.to_string(), find::group(self.estate(), group)?));
            }
        }
        if !groups.is_empty() || names.iter().any(|name| is_persona(&name)) {
            let mut estate = self.estate().clone();
            let personas = &mut estate.proofs_mut().personas;
            for (name, group) in groups {
                let origin = Origin { file: bastide_syntax::FileId(0), line: 0 };
                let (groups, values, lost) = (vec![group], Vec::new(), Vec::new());
                personas.push(Persona { name, origin, because: None, kind: 0, realm: None, groups, values, lost });
            }
            self.loaded.estate = Some(with_personas(&estate).into_owned());
        }
        let estate = self.estate();
        let stands_in = |u: &UserId| u.index() + estate.proofs().personas.len() >= estate.people().len();
        let one = |name: &&str| match name.strip_prefix("persona:") {
            Some(persona) => estate.people().find(persona).filter(stands_in).ok_or_else(|| {
                let known: Vec<&str> = estate.proofs().personas.iter().map(|p| p.name.as_str()).collect();
                let near =
                    bastide_syntax::nearest::nearest(persona, known).map(|n| format!("did you mean `persona:{n}`?"));
                Failure::Usage(format!("there is no persona `{persona}`"), near.into_iter().collect())
            }),
            None if name.starts_with("group:") => estate.people().find(name).filter(stands_in).ok_or_else(|| {
                // Somebody is called so; who is meant cannot be told.
                Failure::Usage(format!("`{name}` is the id of a user, too"), Vec::new())
            }),
            None => user(estate, name, terminal),
        };
        names.iter().map(one).collect()
    }
}

/// Whether a manifest stands in a folder, be it of any use or not: one that cannot be read is told, and not passed over for
/// another one further up.
fn is_there(dir: &Path) -> bool {
    dir.join(manifest::NAME).symlink_metadata().is_ok()
}

impl EstateArgs {
    /// The folder of the estate.
    pub fn root(&self) -> Result<PathBuf, Failure> {
        if let Some(dir) = &self.estate {
            if dir.file_name().is_some_and(|name| name == manifest::NAME) && dir.is_file() {
                let folder = dir.parent().filter(|folder| !folder.as_os_str().is_empty());
                return Ok(folder.unwrap_or(Path::new(".")).to_path_buf());
            }
            if is_there(dir) {
                return Ok(dir.clone());
            }
            return Err(Failure::Outside(format!("there is no `{}` in `{}`", manifest::NAME, dir.display())));
        }
        let here = std::env::current_dir()?;
        let found = here.ancestors().find(|dir| is_there(dir));
        found.map(Path::to_path_buf).ok_or_else(|| {
            let hints = vec![
                "to ask about another folder, write `-C DIR`".to_string(),
                "to begin one, `bastide new DIR`; to see an example, `bastide demo`".to_string(),
            ];
            Failure::Usage(format!("there is no `{}` here or above", manifest::NAME), hints)
        })
    }

    /// The right to write to the estate; nothing where this run has it already.
    pub fn lock(&self) -> Result<Option<Lock>, Failure> {
        let root = self.root()?;
        if Lock::is_held(&root) {
            return Ok(None);
        }
        Lock::take(&root)
            .map(Some)
            .map_err(|error| Failure::Outside(format!("the estate cannot be written to: {error}")))
    }

    /// Loads the estate; with any error in it there is none.
    pub fn open(&self, terminal: &mut Terminal) -> Result<Opened, Failure> {
        let started = Instant::now();
        let root = self.root()?;
        let reading = Telling::reading();
        let loaded = read(&root, &Texts::new())?;
        drop(reading);
        say_settled(&loaded, terminal);
        self.opened(loaded, root, started, terminal)
    }

    /// The estate of a name, as [`EstateArgs::open`] gives the one at hand.
    pub fn open_named(&self, named: &Named, terminal: &mut Terminal) -> Result<Opened, Failure> {
        match &named.place {
            Place::Folder(root) => EstateArgs { estate: Some(root.clone()), ..self.clone() }.open(terminal),
            Place::Store(store) => {
                let started = Instant::now();
                let loaded = bastide_formats::load_from(&**store, day());
                // What cannot be trusted is no estate with mistakes, but none.
                let refused = loaded.diagnostics.iter().find(|d| *d.code == codes::UNREADABLE);
                if let Some(refused) = refused {
                    return Err(Failure::Outside(format!("`{}` cannot be read: {}", named.name, refused.message)));
                }
                self.opened(loaded, PathBuf::new(), started, terminal)
            }
        }
    }

    /// What was loaded, where it is an estate; what its mistakes are otherwise. That there are warnings is said once.
    pub fn opened(
        &self,
        loaded: Loaded,
        root: PathBuf,
        started: Instant,
        terminal: &mut Terminal,
    ) -> Result<Opened, Failure> {
        if loaded.estate.is_none() {
            let errors: Vec<&Diagnostic> = loaded.diagnostics.iter().filter(|d| d.is_error()).collect();
            return Err(Failure::Estate(diagnostics::report(&loaded.sources, &errors, terminal)));
        }
        let warnings: usize = loaded.diagnostics.iter().map(|d| 1 + d.more).sum();
        if warnings > 0 && !self.quiet && !std::mem::replace(&mut terminal.warned, true) {
            let them = if warnings == 1 { "1 warning".to_string() } else { format!("{warnings} warnings") };
            terminal.complain(&format!("note: the estate has {them}: `bastide check` shows them\n"));
            let lost: Vec<&Diagnostic> =
                loaded.diagnostics.iter().filter(|d| *d.code == codes::LOST_RESTRICTION).collect();
            tell_lost(&loaded.sources, &lost, terminal);
        }
        Ok(Opened { loaded: ManuallyDrop::new(loaded), seconds: started.elapsed().as_secs_f64(), root })
    }
}

/// The user of an id; on a terminal, of its only beginning, too, which is said.
pub fn user(estate: &Estate, name: &str, terminal: &Terminal) -> Result<UserId, Failure> {
    let found = find::user(estate, name);
    match find::user_begun(estate, name).filter(|_| found.is_err() && terminal.by_hand()) {
        Some(user) => {
            taken(name, estate.people().id(user), terminal);
            Ok(user)
        }
        None => Ok(found?),
    }
}

/// The resource of an id or a path; on a terminal, of the only beginning of a path, too, which is said.
pub fn resource(estate: &Estate, name: &str, terminal: &Terminal) -> Result<ResourceId, Failure> {
    let found = find::resource(estate, name);
    match find::resource_begun(estate, name).filter(|_| found.is_err() && terminal.by_hand()) {
        Some(resource) => {
            taken(name, &estate.catalog().path(resource), terminal);
            Ok(resource)
        }
        None => Ok(found?),
    }
}

fn taken(name: &str, whole: &str, terminal: &Terminal) {
    terminal.complain(&format!("note: `{}` is taken for `{}`\n", visible(name), visible(whole)));
}

/// Reads the estate in a folder, with other texts in some of its files.
pub fn read(root: &Path, texts: &Texts) -> Result<Loaded, Failure> {
    bastide_formats::load_as_of(root, texts, day()).map_err(|refused| Failure::Outside(refused.to_string()))
}

/// Says what became of a change that was cut off. It is never settled in silence.
pub fn say_settled(loaded: &Loaded, terminal: &Terminal) {
    let names = |files: Vec<&String>| files.iter().map(|file| format!("`{file}`")).collect::<Vec<_>>().join(", ");
    if !loaded.settled.finished.is_empty() {
        let files = names(loaded.settled.finished.iter().collect());
        terminal.complain(&format!("note: a change that was cut off while it was written is finished now: {files}\n"));
    }
    if !loaded.settled.instead.is_empty() {
        let files = names(loaded.settled.instead.keys().collect());
        terminal.complain(&format!(
            "note: a change was cut off while it was written, and cannot be finished from here; it is read as it was meant: \
             {files}\n"
        ));
    }
}

/// Repeats what restrictions have lost.
pub fn tell_lost(sources: &Sources, lost: &[&Diagnostic], terminal: &Terminal) {
    for one in lost.iter().take(MOST_LOST) {
        let place = one.place.map_or(String::new(), |place| format!("{}: ", sources.place(place)));
        terminal.complain(&format!("warning: {}{}\n", visible(&place), visible(&one.message)));
    }
    if lost.len() > MOST_LOST {
        let more = count(lost.len() - MOST_LOST, "restriction");
        terminal.complain(&format!("warning: and {more} more have lost something\n"));
    }
}

/// The failure of an estate in parts.
pub fn unfit(unfit: Unfit, terminal: &Terminal) -> Failure {
    match unfit {
        Unfit::Estate(sources, told) => {
            Failure::Estate(diagnostics::report(&sources, &told.iter().collect::<Vec<_>>(), terminal))
        }
        Unfit::Outside(message) => Failure::Outside(message),
    }
}

/// The failure of decisions that depend on themselves.
pub fn cycle(opened: &Opened, cycles: &[Diagnostic], terminal: &Terminal) -> Failure {
    let cycles: Vec<&Diagnostic> = cycles.iter().collect();
    Failure::Estate(diagnostics::report(&opened.loaded.sources, &cycles, terminal))
}
