//! `bastide try`

use crate::about::About;
use crate::changing::{ChangeArgs, changed, written};
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::found::trial::{Held, Seconds, Trial};
use crate::open::{EstateArgs, MomentArgs, Opened, cycle};
use crate::print::text::count;
use crate::print::{changes, json, trial};
use crate::terminal::Terminal;
use bastide_audit::{Case, Finding};
use bastide_engine::Snapshot;
use bastide_engine::access::sweep;
use bastide_engine::change::{describe, narrowed};
use bastide_engine::difference::{Difference, Radius, blocks, difference, radius};
use bastide_engine::inside::moved;
use bastide_engine::prove::{Sort, broken_by, prove};
use bastide_formats::store::Folder;
use bastide_formats::write::Replacement;
use bastide_formats::{Loaded, write};
use bastide_model::{Estate, Moment, ResourceId, UserId};
use clap::Args;
use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};
use std::time::Instant;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum TryFormat {
    /// In words
    Table,
    /// For programs
    Json,
}

#[derive(Args, Debug)]
pub struct TryArgs {
    #[command(flatten)]
    changes: ChangeArgs,
    #[command(flatten)]
    moment: MomentArgs,
    /// Every gain and loss of long lists
    #[arg(long)]
    all: bool,
    /// Findings of the audit that appear and disappear, too
    #[arg(long)]
    audit: bool,
    /// Write the changes into the policy and data files, after showing what they do
    #[arg(long)]
    write: bool,
    /// Write even where a guarantee would no longer hold
    #[arg(long, requires = "write")]
    anyway: bool,
    /// Write even what reaches far, without being asked
    #[arg(long, requires = "write")]
    far: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: TryFormat,
    /// Write the answer to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

impl TryArgs {
    /// The arguments for changes that come from elsewhere.
    pub fn of(changes: ChangeArgs, moment: MomentArgs, all: bool, write: bool, anyway: bool, far: bool) -> TryArgs {
        TryArgs { changes, moment, all, audit: false, write, anyway, far, format: TryFormat::Table, output: None }
    }
}

/// Of more users than this, only what differs is told.
const FEW_USERS: usize = 5;
/// What they are allowed is counted in a catalog of at most so many resources.
const MOST_COUNTED: usize = 200_000;

pub fn run(args: TryArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let root = estate.root()?;
    // From reading to writing nobody else writes.
    let _lock = if args.write { estate.lock()? } else { None };
    try_on(args, &mut estate.open(terminal)?, &root, terminal)
}

/// The same in an estate that is open; who writes has its lock.
pub fn try_on(args: TryArgs, opened: &mut Opened, root: &Path, terminal: &mut Terminal) -> Result<u8, Failure> {
    if args.changes.is_empty() {
        let hints = vec![
            "for example `--off RULE`, `--join USER:GROUP`, `--add FILE`; all are in `bastide try --help`".to_string(),
        ];
        return Err(Failure::Usage("nothing to try".to_string(), hints));
    }
    let started = Instant::now();
    let made = changed(opened, root, &args.changes, terminal)?;
    let moment = args.moment.moment(opened.estate())?;
    let small = made.base.is_none().then(|| narrowed(opened.estate(), &made.changes, &moment)).flatten();
    let made_in = started.elapsed().as_secs_f64();
    let after_moment = args.moment.moment(&made.estate)?;
    let harmless = opened.loaded.audit.harmless.clone();
    let from = made.base.as_ref().unwrap_or(opened.estate());
    let most = trial::most(args.all || args.format == TryFormat::Json);
    let mut answer = compare(opened, &moment, (&made.estate, &after_moment), small, (&harmless, most), terminal)?;
    answer.seconds = Seconds { load: opened.seconds, evaluate: answer.seconds.evaluate + made_in };
    answer.changes = made.changes.iter().map(|c| describe(from, c)).collect();
    answer.added = made.added.clone();
    answer.newcomers = made.newcomers.clone();
    answer.far = far(&super::audit::case(&opened.loaded, &moment)?, &answer.radius);
    if args.audit {
        // What reading has to say after the changes is known where they can be written: it is read from the new texts.
        let reread = written(opened, root, &args.changes, terminal).ok().map(|(_, loaded)| loaded);
        let reread = reread.as_ref().filter(|loaded| loaded.estate.is_some());
        let after = reread.and_then(|loaded| loaded.estate.as_ref()).unwrap_or(&made.estate);
        let after_moment = args.moment.moment(after)?;
        let before = (opened.estate(), &moment);
        (answer.appear, answer.disappear) = findings(opened, before, (after, &after_moment), reread, terminal)?;
    }
    let text = match args.format {
        TryFormat::Table => trial::trial(&answer, terminal.width()),
        TryFormat::Json => String::new(),
    };
    if args.format == TryFormat::Table {
        terminal.deliver(&text, args.output.as_deref())?;
    }
    let mut status = if answer.broken.is_empty() { DONE } else { BAD_NEWS };
    if args.write {
        let guarantee = answer.broken.iter().find(|p| p.sort == Sort::Guarantee);
        if let Some(guarantee) = guarantee.filter(|_| !args.anyway) {
            terminal.complain(&format!(
                "nothing is written: guarantee `{}` would no longer hold; to write nevertheless, add `--anyway`\n",
                crate::print::text::visible(&guarantee.name)
            ));
            status = BAD_NEWS;
        } else if let Some(far) = answer.far.as_ref().filter(|_| !args.far && !asked(terminal)) {
            terminal.complain(&format!("nothing is written: {far}; to write nevertheless, add `--far`\n"));
            status = BAD_NEWS;
        } else {
            let (estate, moment) = (made.estate.clone(), after_moment);
            answer.written = put(opened, root, &args.changes, &estate, &moment, terminal)?;
            if args.format == TryFormat::Table {
                terminal.print(&trial::written(&answer.written))?;
            }
        }
    }
    if args.format == TryFormat::Json {
        terminal.deliver(
            &json::document("try", &About::of(opened, &moment), &crate::answers::trial::Trial::from(&answer)),
            args.output.as_deref(),
        )?;
    }
    Ok(status)
}

/// That a change reaches far, in words: more than the set share of users or of resources.
fn far(case: &Case, radius: &Radius) -> Option<String> {
    let (users, resources) = (case.estate.people().len(), case.estate.catalog().len());
    let is = |number: u64, all: usize, share: f64| all > 0 && number as f64 > share * all as f64;
    let wide = is(radius.users as u64, users, case.limits.far_users);
    let long = is(radius.resources as u64, resources, case.limits.far_resources);
    (wide || long).then(|| {
        format!(
            "this reaches far: {} of {} and {} of {}",
            radius.users,
            count(users, "user"),
            radius.resources,
            count(resources, "resource")
        )
    })
}

/// Whether somebody at a terminal says yes.
fn asked(terminal: &Terminal) -> bool {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return false;
    }
    terminal.complain("write it? yes or no: ");
    let mut answer = String::new();
    io::stdin().read_line(&mut answer).is_ok() && answer.trim() == "yes"
}

/// How many pairs of action and resource some users are allowed.
fn held(snapshot: &Snapshot, users: &[UserId]) -> Vec<u64> {
    let mut counts = vec![0; users.len()];
    let resources: Vec<ResourceId> = snapshot.estate().catalog().all().collect();
    let Ok(()) = sweep::<std::convert::Infallible>(snapshot, users, &resources, |row| {
        counts.iter_mut().enumerate().for_each(|(at, count)| *count += row.allowed(at).count() as u64);
        Ok(())
    });
    counts
}

/// What each of the users concerned is allowed before and after, where they are few and the catalog is not too large.
fn totals(found: &Difference, old: &Snapshot, new: &Snapshot) -> Vec<Held> {
    let concerned: Vec<u32> = found.concerned().take(FEW_USERS + 1).collect();
    let (most, people) = (old.estate().catalog().len().max(new.estate().catalog().len()), new.estate().people());
    if concerned.len() > FEW_USERS || most > MOST_COUNTED {
        return Vec::new();
    }
    let axis = &found.joint.users;
    let both: Vec<(UserId, UserId)> =
        concerned.iter().filter_map(|user| Some((UserId(axis.before(*user)?), UserId(axis.after(*user)?)))).collect();
    let (was, is): (Vec<UserId>, Vec<UserId>) = both.iter().copied().unzip();
    let (before, after) = (held(old, &was), held(new, &is));
    let told =
        |((user, before), after): ((&UserId, u64), u64)| Held { user: people.id(*user).to_string(), before, after };
    is.iter().zip(before).zip(after).map(told).collect()
}

/// The findings that are there after the changes and not before, and the other way round.
fn findings(
    opened: &Opened,
    (before, moment): (&Estate, &Moment),
    (after, after_moment): (&Estate, &Moment),
    reread: Option<&Loaded>,
    terminal: &Terminal,
) -> Result<(Vec<Finding>, Vec<Finding>), Failure> {
    let failed = |cycles: Vec<bastide_syntax::Diagnostic>| cycle(opened, &cycles, terminal);
    let case = super::audit::case(&opened.loaded, moment)?;
    let old = bastide_audit::audit(&case, &|_| true, &|_| {}).map_err(failed)?;
    let mut changed = Case { estate: after, moment: after_moment, ..super::audit::case(&opened.loaded, moment)? };
    if let Some(loaded) = reread {
        changed.diagnostics = &loaded.diagnostics;
        changed.lines = super::audit::lines(loaded);
    }
    let new = bastide_audit::audit(&changed, &|_| true, &|_| {}).map_err(failed)?;
    debug_assert!(std::ptr::eq(case.estate, before));
    let only = |of: &[Finding], not_in: &[Finding]| -> Vec<Finding> {
        of.iter().filter(|f| !not_in.iter().any(|g| g.fingerprint == f.fingerprint)).cloned().collect()
    };
    Ok((only(&new, &old), only(&old, &new)))
}

fn compare(
    opened: &Opened,
    moment: &Moment,
    (after, after_moment): (&Estate, &Moment),
    small: Option<(Estate, Estate)>,
    (harmless, most): (&[String], usize),
    terminal: &Terminal,
) -> Result<Trial, Failure> {
    let before = opened.estate();
    let failed = |cycles: Vec<bastide_syntax::Diagnostic>| cycle(opened, &cycles, terminal);
    let started = Instant::now();
    let (old, new) = small.as_ref().map_or((before, after), |(old, new)| (old, new));
    let was = Snapshot::new(old, moment).map_err(failed)?;
    let is = was.beside(new, after_moment).map_err(failed)?;
    let difference = difference(&was, &is, None);
    let (radius, blocks) = (radius(&difference), blocks(&difference, old, new, after.groups(), harmless, most));
    let rows = if difference.is_empty() { Vec::new() } else { moved(&was, &is) };
    let evaluate = started.elapsed().as_secs_f64();
    let users = totals(&difference, &was, &is);
    let held = prove(before, moment, &|_| true).map_err(failed)?;
    let broken = broken_by(&held, prove(after, after_moment, &|_| true).map_err(failed)?);
    Ok(Trial {
        changes: Vec::new(),
        added: Vec::new(),
        newcomers: Vec::new(),
        far: None,
        radius,
        users,
        blocks,
        rows,
        broken,
        appear: Vec::new(),
        disappear: Vec::new(),
        written: Vec::new(),
        seconds: Seconds { load: 0.0, evaluate },
    })
}

/// Writes the changes into the files, once it is seen that the new files give what was tried.
fn put(
    opened: &mut Opened,
    root: &Path,
    args: &ChangeArgs,
    tried: &Estate,
    moment: &Moment,
    terminal: &Terminal,
) -> Result<Vec<String>, Failure> {
    let made = written(opened, root, args, terminal);
    // Where somebody edits meanwhile, what was tried is not what stands there, and that is what there is to say.
    if let Some(file) = opened.loaded.folder.as_ref().and_then(Folder::changed) {
        return Err(Failure::Outside(format!("`{file}` has changed meanwhile; nothing is written")));
    }
    let (texts, loaded) = made?;
    let new = loaded.estate.as_ref().ok_or_else(|| Failure::Outside("the new files cannot be read".to_string()))?;
    let failed = |cycles: Vec<bastide_syntax::Diagnostic>| cycle(opened, &cycles, terminal);
    let (a, b) = (Snapshot::new(tried, moment).map_err(failed)?, Snapshot::new(new, moment).map_err(failed)?);
    let apart = radius(&difference(&a, &b, None));
    if apart.triples() > 0 {
        let what = changes::sentence(&apart);
        return Err(Failure::Outside(format!(
            "the new files would not give what was tried ({what}); nothing is written"
        )));
    }
    let sources = &opened.loaded.sources;
    let known = |file: &str| {
        let mut files = (0..sources.len() as u32).map(bastide_syntax::FileId);
        files.find(|f| sources.name(*f) == file).map_or("", |f| sources.text(f))
    };
    let replacements: Vec<Replacement> = texts
        .iter()
        .map(|(file, text)| Replacement { file, old: known(file).as_bytes(), new: text.as_bytes() })
        .collect();
    let still = || opened.loaded.folder.as_ref().and_then(Folder::changed);
    write::commit(root, &replacements, &still, &mut |_| Ok(())).map_err(|e| Failure::Outside(e.to_string()))?;
    Ok(texts.keys().cloned().collect())
}
