//! Whom and what one statement reaches, step by step, and what is solely its doing.

use super::narrow::{Narrowed, ReachStep, narrowing, steps};
use super::summary::SMALLEST_SHARE;
use crate::change::{Change, apply};
use crate::difference::{Blocks, Fold, Radius, blocks, difference, fold, radius};
use crate::explain::StatementRef;
use crate::sessions::{mentioned_by, sessions, signed_in, told};
use crate::sets::count;
use crate::shares::shares;
use crate::snapshot::Snapshot;
use bastide_model::condition::Who;
use bastide_model::show;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use fixedbitset::FixedBitSet;
use rayon::prelude::*;
use std::ops::Range;

/// What one statement reaches.
#[derive(Debug)]
pub struct Reached {
    /// The statement.
    pub statement: StatementRef,
    /// Its actions.
    pub actions: Vec<String>,
    /// Whether it applies today: it is on and in date. Otherwise everything is said as if it did.
    pub live: bool,
    /// Why it does not apply today.
    pub asleep: Option<String>,
    /// How it narrows, one condition after the other.
    pub steps: Vec<Narrowing>,
    /// The users it applies to somewhere where one of its actions has a meaning.
    pub users: Vec<String>,
    /// The places it applies in.
    pub places: Vec<Fold>,
    /// How many resources.
    pub resources: usize,
    /// Triples to which it applies, of actions that have a meaning there.
    pub triples: u64,
    /// Triples in which it cannot be said whether it applies, since a value is missing. Of a restriction they are among
    /// the triples to which it applies, of a permission beside them.
    pub undecided: u64,
    /// The session that was looked at, as options give it: what is missing is left out.
    pub session: Vec<String>,
    /// The attributes of the session that were each user's own, as signed in.
    pub signed_in: Vec<String>,
    /// Where the statement asks for the session: what it reaches in the other sessions that it tells apart.
    pub elsewhere: Option<Elsewhere>,
    /// What changes if the statement goes (or comes, where it does not apply today).
    pub sole: Radius,
    /// Who gains and who loses what by that.
    pub blocks: Blocks,
}

/// What a statement reaches in other sessions.
#[derive(Debug)]
pub struct Elsewhere {
    /// How many other sessions were looked at.
    pub sessions: usize,
    /// In how many of them it reaches other triples than in the one asked about, by number.
    pub otherwise: usize,
    /// The one in which it reaches the most, as options give it.
    pub most: Vec<String>,
    /// How many triples there.
    pub triples: u64,
    /// Whether there are sessions that matter and were not looked at.
    pub open: bool,
}

/// What is left after one step.
#[derive(Debug)]
pub struct Narrowing {
    /// The words of the step.
    pub words: String,
    /// Users left somewhere.
    pub users: usize,
    /// Resources on which somebody is left.
    pub resources: usize,
    /// Pairs of user and resource left.
    pub pairs: u64,
}

/// Finds out what a statement reaches. `fresh`: it is not saved yet, so that what it does is a
/// gain rather than something to lose. `most`: blocks of gains and of losses that are told.
///
/// # Errors
/// Decisions that would depend on themselves with a statement that does not apply today.
pub fn reach(
    snapshot: &Snapshot,
    id: StatementId,
    fresh: bool,
    harmless: &[String],
    most: usize,
) -> Result<Reached, Vec<Diagnostic>> {
    let (estate, moment) = (snapshot.estate(), snapshot.moment());
    let statement = estate.statement(id);
    let asleep = asleep(statement, moment);
    let awake = match asleep {
        None => None,
        Some(_) => {
            let mut changes = vec![Change::Window(id, None, None)];
            if statement.off {
                changes.push(Change::On(id));
            }
            Some(apply(estate, &changes).expect("a rule can be switched on"))
        }
    };
    let gone = apply(estate, &[Change::Off(id)]).ok();
    // With the statement and without it.
    let (with, without) = match (&awake, &gone) {
        (Some(awake), _) => (awake, estate),
        (None, Some(gone)) => (estate, gone),
        (None, None) => (estate, estate),
    };
    let with_it = if awake.is_some() { snapshot.beside(with, moment)? } else { snapshot.clone() };
    let mut reached = narrow(&with_it, id);
    let other = with_it.beside(without, moment)?;
    let comes = awake.is_some() || fresh;
    let sole = if comes { difference(&other, &with_it, None) } else { difference(&with_it, &other, None) };
    reached.sole = radius(&sole);
    let (before, after) = if comes { (without, with) } else { (with, without) };
    reached.blocks = blocks(&sole, before, after, after.groups(), harmless, most);
    reached.session = told(estate.schema(), moment);
    reached.signed_in = signed_in(estate.schema(), moment);
    reached.elsewhere = elsewhere(&with_it, id, reached.triples)?;
    reached.live = asleep.is_none();
    reached.asleep = asleep;
    Ok(reached)
}

/// What it reaches in the other sessions that its own conditions tell apart.
fn elsewhere(snapshot: &Snapshot, id: StatementId, triples: u64) -> Result<Option<Elsewhere>, Vec<Diagnostic>> {
    let (estate, moment) = (snapshot.estate(), snapshot.moment());
    let asked = mentioned_by(estate, estate.statement(id));
    if asked.is_empty() {
        return Ok(None);
    }
    let sessions = sessions(estate, moment, Some(&asked));
    let mut found = Elsewhere {
        sessions: sessions.moments.len() - 1,
        otherwise: 0,
        most: Vec::new(),
        triples: 0,
        open: !sessions.open.is_empty(),
    };
    for other in &sessions.moments[1..] {
        let reached = narrow(&snapshot.beside(estate, other)?, id).triples;
        found.otherwise += usize::from(reached != triples);
        if reached > found.triples {
            (found.most, found.triples) = (told(estate.schema(), other), reached);
        }
    }
    Ok(Some(found))
}

/// Why a statement does not apply at a moment; none where it does.
pub fn asleep(statement: &Statement, moment: &Moment) -> Option<String> {
    if statement.off {
        return Some("it is switched off".to_string());
    }
    if statement.actions.is_clear() {
        return Some("every action it lists comes from a role that is off".to_string());
    }
    match (statement.from, statement.until) {
        (Some(from), _) if from > moment.date => Some(format!("it begins on {from}")),
        (_, Some(until)) if until < moment.date => Some(format!("it ended on {until}")),
        _ => None,
    }
}

/// How a statement narrows, each step with the condition that it is, where it is one. Cost: as [`reach`], without what is
/// solely its doing.
pub fn narrowed(snapshot: &Snapshot, id: StatementId) -> Vec<(Option<bastide_syntax::Span>, Narrowing)> {
    let spans = steps(snapshot.estate().statement(id)).into_iter().map(|step| match step {
        ReachStep::Condition(condition) => Some(condition.span),
        ReachStep::Terms(_) | ReachStep::Kinds | ReachStep::Places => None,
    });
    let spans: Vec<_> = std::iter::once(None).chain(spans).collect();
    spans.into_iter().zip(narrow(snapshot, id).steps).collect()
}

/// How a statement narrows, step by step; each core goes through a share of the resources. Cost: every resource once, and words of
/// a set for each step.
fn narrow(snapshot: &Snapshot, id: StatementId) -> Reached {
    let estate = snapshot.estate();
    let statement = estate.statement(id);
    let steps = steps(statement);
    let snapshot = snapshot.asking(&narrowing(&steps));
    let (users, catalog) = (estate.people().len(), estate.catalog());
    let shares = shares(catalog.len(), SMALLEST_SHARE).into_par_iter();
    let mut found = shares.map(|share| Left::on(&snapshot, statement, &steps, share)).collect::<Vec<_>>().into_iter();
    let mut all = found.next().expect("there is one share at least");
    found.for_each(|found| all.join(found));
    let Left { seen, counts, at, people, triples, undecided } = all;
    let people = people.ones().map(|user| estate.people().id(UserId::new(user)).to_string()).collect();
    let mut narrowed = vec![Narrowing {
        words: "everybody, everything".to_string(),
        users,
        resources: catalog.len(),
        pairs: users as u64 * catalog.len() as u64,
    }];
    narrowed.extend(steps.iter().enumerate().map(|(i, step)| Narrowing {
        words: words(estate, statement, step),
        users: count::listed(&seen[i]) as usize,
        resources: counts[i].0,
        pairs: counts[i].1,
    }));
    Reached {
        statement: StatementRef::new(estate, id),
        actions: statement.actions.ones().map(|a| estate.schema().actions[a].name.clone()).collect(),
        live: true,
        asleep: None,
        steps: narrowed,
        users: people,
        places: fold(catalog, &at, 6),
        resources: at.len(),
        triples,
        undecided,
        session: Vec::new(),
        signed_in: Vec::new(),
        elsewhere: None,
        sole: Radius::default(),
        blocks: Blocks::default(),
    }
}

/// Who is left, and where, on some of the resources.
struct Left {
    /// After each step, the users who are left somewhere.
    seen: Vec<FixedBitSet>,
    /// After each step, on how many resources somebody is left, and how many pairs of user and resource.
    counts: Vec<(usize, u64)>,
    /// Where it applies to anybody and one of its actions has a meaning.
    at: Vec<ResourceId>,
    /// To whom.
    people: FixedBitSet,
    triples: u64,
    undecided: u64,
}

impl Left {
    /// On a range of resources, by a snapshot with what [`narrowing`] asks for.
    fn on(snapshot: &Snapshot, statement: &Statement, steps: &[ReachStep], resources: Range<u32>) -> Left {
        let (estate, mut engine) = (snapshot.estate(), snapshot.evaluator());
        let (mut seen, mut counts) = (vec![engine.nobody(); steps.len()], vec![(0, 0); steps.len()]);
        let (mut at, mut people) = (Vec::new(), engine.nobody());
        let (mut triples, mut undecided) = (0, 0);
        let mut left = Narrowed::new(estate);
        for resource in snapshot.until_stopped(resources.map(ResourceId)) {
            let kind = estate.catalog().kind(resource);
            let speaks = |action: &ActionId| statement.speaks_of(*action) && estate.schema().fits(*action, kind);
            let actions = ActionId::all(estate.schema().actions.len()).filter(speaks).count() as u64;
            left.narrow(&mut engine, statement, steps, resource, |step, left| {
                let number = count::listed(left);
                if number > 0 {
                    counts[step].0 += 1;
                    counts[step].1 += u64::from(number);
                    seen[step].union_with(left);
                }
            });
            let last = left.left(statement);
            let number = u64::from(count::listed(last));
            if number > 0 && actions > 0 {
                at.push(resource);
                triples += number * actions;
                people.union_with(last);
            }
            // An unknown restriction applies, an unknown permission does not.
            undecided += left.undecided() * actions;
        }
        Left { seen, counts, at, people, triples, undecided }
    }

    /// Adds what was found on the resources that follow.
    fn join(&mut self, next: Left) {
        self.seen.iter_mut().zip(&next.seen).for_each(|(seen, next)| seen.union_with(next));
        for ((resources, pairs), (more, further)) in self.counts.iter_mut().zip(next.counts) {
            (*resources, *pairs) = (*resources + more, *pairs + further);
        }
        self.at.extend(next.at);
        self.people.union_with(&next.people);
        self.triples += next.triples;
        self.undecided += next.undecided;
    }
}

fn words(estate: &Estate, statement: &Statement, step: &ReachStep) -> String {
    let in_while = |c: &bastide_model::condition::Condition| {
        statement.condition.as_ref().is_some_and(|w| w.span.start <= c.span.start && c.span.end <= w.span.end)
    };
    match step {
        ReachStep::Terms(who) => show::who(estate, &Who { terms: who.terms.clone(), condition: None }),
        ReachStep::Kinds => {
            let kinds = statement.what.kinds.iter().flatten();
            kinds.map(|k| estate.schema().kinds[k.index()].name.clone()).collect::<Vec<_>>().join(", ")
        }
        ReachStep::Places => {
            let places = statement.what.places.iter().flatten();
            let shown: Vec<String> =
                places.map(|p| format!("{} \"{}\"", p.reach.word(), estate.catalog().path(p.resource))).collect();
            match shown.len() {
                0 => "at places that do not exist".to_string(),
                1..=3 => shown.join(", "),
                n => format!("{} and {} more places", shown[..2].join(", "), n - 2),
            }
        }
        ReachStep::Condition(condition) => {
            let word = if in_while(condition) { "while" } else { "where" };
            format!("{word} {}", show::condition(estate, condition))
        }
    }
}
