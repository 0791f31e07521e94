//! The audit: what is wrong with an estate that evaluates without a mistake.
//!
//! Each finding is a module of its own under `findings`: a descriptor (name, level, what it is, why
//! it matters, when not to mind), the check, and its tests. Checks ask the [`Survey`], which goes
//! through everybody's access once, and give [`Found`]s back. A check is fed by what it is about ([`Check`]): once, with each
//! statement, or with each resource, of which all checks of resources share one pass; the driver here owns levels, waivers
//! and order. No input or output, no clock.
//!
//! ```
//! # let loaded = bastide_testkit::demo();
//! # let estate = loaded.estate.as_ref().expect("the demo has no errors");
//! use bastide_audit::{Case, Limits, audit};
//! use bastide_model::Moment;
//!
//! let moment = Moment::on("2026-11-24".parse()?, estate.schema());
//! let case = Case {
//!     estate,
//!     moment: &moment,
//!     harmless: vec!["read".to_string()],
//!     limits: Limits::default(),
//!     levels: Vec::new(),
//!     diagnostics: &[],
//!     lines: Vec::new(),
//!     used: None,
//! };
//! // One finding; `|_| true` is all of them.
//! let wanted = |name: &str| name == "guest-power";
//! // This is told what is being looked for.
//! let progress = |_: &str| {};
//! let findings = audit(&case, &wanted, &progress).map_err(|circles| circles[0].message.clone())?;
//! assert!(findings.iter().all(|finding| finding.name == "guest-power"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
#![warn(clippy::print_stdout)]

mod by_value;
mod case;
mod earlier;
mod fewest;
mod findings;
mod level;
mod mend;
mod power;
mod survey;
mod sweep;

pub use by_value::{Share, by_value};
pub use case::{Case, Limits};
pub use earlier::{idle_waivers, leave_out};
pub use fewest::{Fewest, fewest};
pub use findings::{ALL, Check, Descriptor, Group, nearest};
pub use level::Level;
pub use power::{Powerful, powerful};
pub use survey::{Meeting, StatementSurvey, Survey};
pub use sweep::{AnyGather, Begin, Gather, Here};

use bastide_engine::Snapshot;
use bastide_engine::change::{Change, Described};
use bastide_engine::difference::Radius;
use bastide_engine::evaluate::Evaluator;
use bastide_engine::explain::in_a_sentence;
use bastide_model::show;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::collections::BTreeSet;
use sweep::sweep;

/// A user, an action, a resource.
pub type Triple = (UserId, ActionId, ResourceId);

/// What a check found, before levels and waivers.
#[derive(Clone, Debug)]
pub struct Found {
    /// Where it is in the files, where it is anywhere.
    pub origin: Option<Origin>,
    /// The statement or thing it is about, by a name that stays the same when lines move.
    pub about: String,
    /// One line.
    pub message: String,
    /// Numbers that show it.
    pub evidence: Vec<String>,
    /// By evidence, the places in the files that it rests on, where they are told apart.
    pub places: Vec<Vec<String>>,
    /// A triple that shows it.
    pub example: Option<Triple>,
    /// What would mend it.
    pub suggestion: Option<Suggested>,
    /// A level other than the descriptor's.
    pub level: Option<Level>,
    /// Names of what it speaks of, users apart.
    pub names: BTreeSet<String>,
    /// The users it speaks of.
    pub users: FixedBitSet,
}

/// A change that would mend a finding.
#[derive(Clone, Debug)]
pub struct Suggested {
    /// The goal, as in "to let nobody read drafts".
    pub words: String,
    /// The changes; empty where it takes a hand.
    pub changes: Vec<Change>,
    /// Whether it is claimed that nothing changes by it today; it is dropped where that is not so.
    pub harmless: bool,
    /// Statements as they would be worded instead; none where one goes. Empty for other changes.
    pub instead: Vec<(StatementId, Option<Statement>)>,
}

impl Found {
    /// Something found at a place.
    pub fn new(about: impl Into<String>, origin: Option<Origin>, message: impl Into<String>) -> Found {
        Found {
            origin,
            about: about.into(),
            message: message.into(),
            evidence: Vec::new(),
            places: Vec::new(),
            example: None,
            suggestion: None,
            level: None,
            names: BTreeSet::new(),
            users: FixedBitSet::new(),
        }
    }

    /// Something found about a statement.
    pub fn of(case: &Case, id: StatementId, message: impl Into<String>) -> Found {
        let (estate, statement) = (case.estate, case.estate.statement(id));
        let actions = statement.actions.ones().map(|action| estate.schema().actions[action].name.clone());
        let places = statement.what.places.iter().flatten();
        let places = places.map(|p| format!("{} {}", p.reach.word(), estate.catalog().id(p.resource)));
        let whom = format!("{} {}", show::who(estate, &statement.who), statement.modality.words());
        Found::new(case.stable_name(id), Some(statement.origin), message).naming(actions).naming(places).naming([whom])
    }

    /// Adds names of users, resources, actions and groups that it speaks of, whether or not its words list them all: with
    /// another one among them it is another finding.
    pub fn naming(mut self, names: impl IntoIterator<Item = String>) -> Found {
        self.names.extend(names);
        self
    }

    /// Adds users whom it speaks of.
    pub fn naming_users(mut self, estate: &Estate, users: impl IntoIterator<Item = usize>) -> Found {
        self.users.grow(estate.people().len());
        self.users.extend(users);
        self
    }

    /// Adds resources of which it speaks.
    pub fn naming_resources(self, estate: &Estate, resources: impl IntoIterator<Item = ResourceId>) -> Found {
        self.naming(resources.into_iter().map(|resource| format!("resource {}", estate.catalog().id(resource))))
    }

    /// Adds a number that shows it.
    pub fn evidence(mut self, text: impl Into<String>) -> Found {
        self.evidence.push(text.into());
        self
    }

    /// Adds what shows it, and the places in the files that this rests on. Then all that is added has places.
    pub fn evidence_at(mut self, text: impl Into<String>, places: Vec<String>) -> Found {
        self.places.push(places);
        self.evidence(text)
    }

    /// Adds a triple that shows it.
    pub fn example(mut self, triple: Option<Triple>) -> Found {
        self.example = triple;
        self
    }

    /// Adds what would mend it.
    pub fn suggest(mut self, words: impl Into<String>, changes: Vec<Change>) -> Found {
        self.suggestion = Some(Suggested { words: words.into(), changes, harmless: false, instead: Vec::new() });
        self
    }

    /// Adds how statements could be worded instead; what that would change is worked out.
    pub fn suggest_instead(
        mut self,
        words: impl Into<String>,
        instead: Vec<(StatementId, Option<Statement>)>,
    ) -> Found {
        self.suggestion = Some(Suggested { words: words.into(), changes: Vec::new(), harmless: false, instead });
        self
    }

    /// Says of what would mend it that it changes nobody's access today, which is proven before it is told.
    pub fn harmless(mut self) -> Found {
        if let Some(suggested) = &mut self.suggestion {
            suggested.harmless = true;
        }
        self
    }

    /// Adds what would mend it and changes nobody's access today, which is proven before it is told.
    pub fn suggest_harmless(mut self, words: impl Into<String>, changes: Vec<Change>) -> Found {
        self.suggestion = Some(Suggested { words: words.into(), changes, harmless: true, instead: Vec::new() });
        self
    }
}

/// A finding as it is reported.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Finding {
    /// The finding's name.
    pub name: String,
    /// Its level.
    pub level: Level,
    /// Its group.
    pub group: Group,
    /// File and line.
    pub place: Option<String>,
    /// The statement or thing it is about.
    pub about: String,
    /// One line.
    pub message: String,
    /// Numbers that show it.
    pub evidence: Vec<String>,
    /// By evidence, the places in the files that it rests on, where they are told apart.
    pub places: Vec<Vec<String>>,
    /// A decision that shows it.
    pub example: Option<Example>,
    /// What would mend it.
    pub suggestion: Option<Suggestion>,
    /// The reason for which it is waived today; none where it is not.
    pub waived: Option<String>,
    /// Stays the same when lines move: for following a finding over time.
    pub fingerprint: String,
}

/// A decision that shows a finding; `why` says the same of it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Example {
    /// The user's id.
    pub user: String,
    /// The action.
    pub action: String,
    /// The resource's id.
    pub resource: String,
    /// The decision in one sentence.
    pub sentence: String,
}

/// What would mend a finding, evaluated.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Suggestion {
    /// The goal.
    pub words: String,
    /// The changes, as `try` takes them; empty where it takes a hand.
    pub changes: Vec<Described>,
    /// What changes by them.
    pub radius: Option<Radius>,
}

/// Looks for findings. `wanted` says which, by name; `tell` is told which one is being looked for.
///
/// # Errors
/// Decisions that depend on themselves.
pub fn audit(
    case: &Case,
    wanted: &dyn Fn(&str) -> bool,
    tell: &(dyn Fn(&str) + Sync),
) -> Result<Vec<Finding>, Vec<Diagnostic>> {
    tell("everybody's access");
    Ok(audit_by(case, &Survey::new(case)?, wanted, tell))
}

/// As [`audit`], with a survey that is there already.
pub fn audit_by(
    case: &Case,
    survey: &Survey,
    wanted: &dyn Fn(&str) -> bool,
    tell: &(dyn Fn(&str) + Sync),
) -> Vec<Finding> {
    let mut all = looked_for(case, survey, wanted, tell);
    tell("other sessions");
    // What is said to change nothing must change nothing in any session: otherwise it is no finding, either.
    let sessions = bastide_engine::sessions::sessions(case.estate, case.moment, None);
    let claims: Vec<Option<&Suggested>> = all.iter().map(|(_, found)| found.suggestion.as_ref()).collect();
    let mut changes = mend::change_elsewhere(case, &sessions.moments[1..], &claims).into_iter();
    all.retain(|_| !changes.next().unwrap_or_default());
    tell("what would mend it");
    let mut suggested: Vec<Option<Suggested>> = Vec::new();
    let mut told: Vec<(&'static Descriptor, Found, Level)> = Vec::new();
    for (descriptor, mut found) in all {
        let level = case.level(descriptor.name).or(found.level).unwrap_or(descriptor.level);
        if level != Level::None {
            suggested.push(found.suggestion.take());
            told.push((descriptor, found, level));
        }
    }
    let snapshot = &survey.snapshot;
    let finish =
        |engine: &mut Evaluator, (descriptor, found, level)| finish(snapshot, engine, descriptor, found, level);
    let (mut findings, suggestions) = rayon::join(
        || {
            let finished = told.into_par_iter().with_min_len(EACH).map_init(|| snapshot.evaluator(), finish);
            finished.collect::<Vec<Finding>>()
        },
        || mend::evaluated(case, survey, suggested),
    );
    for (finding, suggestion) in findings.iter_mut().zip(suggestions) {
        finding.suggestion = suggestion;
    }
    let positions: HashMap<&str, usize> = ALL.iter().map(|d| d.name).zip(0..).collect();
    findings.par_sort_by(|a, b| {
        let rank = |f: &Finding| (f.level, positions.get(&*f.name));
        rank(a).cmp(&rank(b)).then_with(|| (&a.place, &a.about, &a.message).cmp(&(&b.place, &b.about, &b.message)))
    });
    findings
}

/// What the checks find, in the order of their names. Cost: one pass over all resources for all checks of resources together,
/// one over the statements for each check of statements.
fn looked_for(
    case: &Case,
    survey: &Survey,
    wanted: &dyn Fn(&str) -> bool,
    tell: &(dyn Fn(&str) + Sync),
) -> Vec<(&'static Descriptor, Found)> {
    let checks: Vec<&'static Descriptor> = ALL.iter().copied().filter(|d| wanted(d.name)).collect();
    let begin = |d: &&'static Descriptor| if let Check::Resource(begin) = d.check { Some(begin) } else { None };
    let of_resources: Vec<Begin> = checks.iter().filter_map(begin).collect();
    if !of_resources.is_empty() {
        tell("every resource");
    }
    let mut of_resources = sweep(case, survey, &of_resources).into_iter();
    // What was found in the pass, and what is still to be looked for.
    let found = checks.into_iter().map(|d| (d, begin(&d).and_then(|_| of_resources.next())));
    let found: Vec<(&'static Descriptor, Option<Vec<Found>>)> = found.collect();
    let live: Vec<StatementId> = case.live().map(|(id, _)| id).collect();
    let found = found.into_par_iter().with_max_len(1).map(|(descriptor, found)| {
        let found = match descriptor.check {
            Check::Resource(_) => found.unwrap_or_default(),
            Check::Policy(check) => {
                tell(descriptor.name);
                check(case, survey)
            }
            Check::Statement(check) => {
                tell(descriptor.name);
                let ids = live.par_iter().with_min_len(FEWEST);
                let of = |engine: &mut Evaluator, id: &StatementId| check(case, survey, engine, *id);
                let found: Vec<Vec<Found>> = ids.map_init(|| survey.evaluator(), of).collect();
                found.into_iter().flatten().collect()
            }
        };
        found.into_iter().map(|found| (descriptor, found)).collect::<Vec<(&'static Descriptor, Found)>>()
    });
    found.flatten_iter().collect()
}

/// What a finding says, as a text that stays the same when lines move: its name, what it is about, and a number made of
/// all the users, resources, actions and groups it speaks of (FNV-1a). So what is new in a finding makes it a new one.
fn fingerprint(estate: &Estate, name: &str, found: &Found) -> String {
    let mut hash: u64 = 0xcbf2_9ce4_8422_2325;
    let next = |hash: u64, byte: u8| (hash ^ u64::from(byte)).wrapping_mul(0x100_0000_01b3);
    let mut add = |parts: [&str; 2]| {
        // What no text has in it stands behind each name.
        hash = next(parts.iter().fold(hash, |hash, part| part.bytes().fold(hash, next)), 0xff);
    };
    // All names in byte order; users are numbered so.
    let mut names = found.names.iter().peekable();
    const USER: &str = "user ";
    for user in found.users.ones() {
        let id = estate.people().id(UserId::new(user));
        let is_before = |other: &&String| other.strip_prefix(USER).map_or(other.as_str() < USER, |other| other < id);
        while let Some(other) = names.next_if(is_before) {
            add([other, ""]);
        }
        names.next_if(|other| other.strip_prefix(USER) == Some(id));
        add([USER, id]);
    }
    names.for_each(|other| add([other, ""]));
    format!("{name}/{}/{hash:016x}", found.about)
}

/// So many statements at least are looked at by a core that has to get ready for it.
const FEWEST: usize = 256;

/// So many findings at least are told by a core that has to get ready for it.
const EACH: usize = 2048;

fn finish(snapshot: &Snapshot, engine: &mut Evaluator, descriptor: &Descriptor, found: Found, level: Level) -> Finding {
    let estate = snapshot.estate();
    let example = found.example.map(|(user, action, resource)| Example {
        user: estate.people().id(user).to_string(),
        action: estate.schema().actions[action.index()].name.clone(),
        resource: estate.catalog().id(resource).to_string(),
        sentence: in_a_sentence(engine, user, action, resource),
    });
    let waiver = estate.proofs().waivers.iter().find(|w| {
        w.finding == descriptor.name
            && w.until.is_some_and(|until| snapshot.moment().date <= until)
            && w.about.iter().any(|pattern| pattern.fits(&found.about))
    });
    Finding {
        waived: waiver.map(|w| w.because.clone()),
        name: descriptor.name.to_string(),
        level,
        group: descriptor.group,
        place: found.origin.map(|o| estate.place(o)),
        fingerprint: fingerprint(estate, descriptor.name, &found),
        about: found.about,
        message: found.message,
        evidence: found.evidence,
        places: found.places,
        example,
        suggestion: None,
    }
}
