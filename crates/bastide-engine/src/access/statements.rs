//! Every rule and entry with what it reaches, in one pass.

use super::summary::SMALLEST_SHARE;
use super::tally::STEP;
use crate::evaluate::{Evaluator, Whom};
use crate::explain::StatementRef;
use crate::sets::count;
use crate::sets::gathered::Gathered;
use crate::sets::store::SetId;
use crate::shares::{Shares, shares};
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

/// Rules and entries.
#[derive(Debug)]
pub struct Statements {
    /// In policy order.
    pub statements: Vec<Listed>,
}

/// A rule or an entry, and what it reaches.
#[derive(Debug)]
pub struct Listed {
    /// The rule's name, or the entry's file and line.
    pub name: String,
    /// The statement.
    pub statement: StatementRef,
    /// Its actions, in declared order.
    pub actions: Vec<String>,
    /// Why it does not apply on the day; none where it does.
    pub asleep: Option<String>,
    /// Users it applies to somewhere where one of its actions has a meaning.
    pub users: usize,
    /// On how many resources.
    pub resources: usize,
    /// Triples to which it applies.
    pub triples: u64,
    /// Triples for which a missing value, or one of the session that was not given, leaves open whether it applies.
    pub undecided: u64,
}

/// What a statement reaches, in numbers.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Reaches {
    /// Users it applies to somewhere where one of its actions has a meaning.
    pub users: usize,
    /// How many of them are guests.
    pub guests: usize,
    /// On how many resources.
    pub resources: usize,
    /// Triples to which it applies.
    pub triples: u64,
    /// Triples for which a missing value, or one of the session that was not given, leaves open whether it applies.
    pub undecided: u64,
}

/// All of them, with what they reach; what does not apply at the moment reaches nothing. Cost: every resource twice, and
/// for each the statements that reach it.
pub fn statements(snapshot: &Snapshot) -> Statements {
    let (estate, moment) = (snapshot.estate(), snapshot.moment());
    let listed = StatementId::all(estate.statements().len()).zip(reaches(snapshot)).map(|(id, reaches)| {
        let s = estate.statement(id);
        Listed {
            name: s.name.clone(),
            statement: StatementRef::new(estate, id),
            actions: s.actions.ones().map(|a| estate.schema().actions[a].name.clone()).collect(),
            asleep: super::reach::asleep(s, moment),
            users: reaches.users,
            resources: reaches.resources,
            triples: reaches.triples,
            undecided: reaches.undecided,
        }
    });
    Statements { statements: listed.collect() }
}

/// The same in numbers alone, by statement.
pub fn reaches(snapshot: &Snapshot) -> Vec<Reaches> {
    let mut now = reached(snapshot);
    // With every missing value taken the other way; what differs hangs on one.
    let other = reached(&snapshot.in_favour());
    now.iter_mut().zip(other).for_each(|(now, other)| now.undecided = now.triples.abs_diff(other.triples));
    now
}

fn reached(snapshot: &Snapshot) -> Vec<Reaches> {
    let estate = snapshot.estate();
    let work = Shares::new(shares(estate.catalog().len(), SMALLEST_SHARE), STEP);
    let counted: Vec<Vec<ReachedInShare>> =
        (0..work.len()).into_par_iter().with_max_len(1).map(|share| reached_in(snapshot, &work, share)).collect();
    let mut guests = FixedBitSet::with_capacity(estate.people().len());
    guests.extend(estate.people().all().filter(|user| estate.people().kind(*user) == "guest").map(UserId::index));
    let mut found: Vec<ReachedInShare> = vec![ReachedInShare::default(); estate.statements().len()];
    for (sum, more) in counted.into_iter().flat_map(|share| share.into_iter().enumerate()) {
        let sum = &mut found[sum];
        sum.resources += more.resources;
        sum.triples += more.triples;
        sum.users.join(more.users);
    }
    let sum = |of: ReachedInShare| Reaches {
        users: of.users.count(),
        guests: of.users.count_among(&guests),
        resources: of.resources,
        triples: of.triples,
        undecided: 0,
    };
    found.into_iter().map(sum).collect()
}

/// What a statement reaches in a share of the resources.
#[derive(Clone, Default)]
struct ReachedInShare {
    resources: usize,
    triples: u64,
    users: Gathered,
    /// Sets that are kept, and that were taken in whole.
    seen: HashSet<SetId>,
}

fn reached_in(snapshot: &Snapshot, work: &Shares, share: usize) -> Vec<ReachedInShare> {
    let estate = snapshot.estate();
    let mut engine = snapshot.evaluator();
    let mut found: Vec<ReachedInShare> = vec![ReachedInShare::default(); estate.statements().len()];
    let mut whom = engine.nobody();
    // By kind and statement, of how many of its actions one speaks that have a meaning there.
    let mut meanings: HashMap<(KindId, StatementId), u64> = HashMap::new();
    for resource in snapshot.until_stopped(work.all(share).map(ResourceId)) {
        let kind = estate.catalog().kind(resource);
        let mut work = engine.look(resource);
        for rule in engine.rules(&work) {
            let id = engine.statement_of(rule);
            let actions = *meanings.entry((kind, id)).or_insert_with(|| {
                let fits = |a: &ActionId| estate.statement(id).speaks_of(*a) && estate.schema().fits(*a, kind);
                ActionId::all(estate.schema().actions.len()).filter(fits).count() as u64
            });
            if actions == 0 {
                continue;
            }
            let of = &mut found[id.index()];
            let number = match engine.whom_of(&mut work, rule) {
                Whom::User(user) => {
                    of.users.add_few(&[user.0]);
                    1
                }
                Whom::Set(set) => of.take(&engine, set),
                Whom::Besides(set, positions) => {
                    let users: Vec<u32> = work.besides(positions).collect();
                    of.users.add_few(&users);
                    of.take(&engine, set) + users.len()
                }
                Whom::Listed => {
                    engine.applies_to(&mut work, rule, &mut whom);
                    let number = count::listed(&whom) as usize;
                    if number > 0 {
                        of.users.add(&whom, None);
                    }
                    number
                }
            };
            if number > 0 {
                of.resources += 1;
                of.triples += number as u64 * actions;
            }
        }
        engine.done(work);
    }
    found
}

impl ReachedInShare {
    /// Takes a set in that is kept, and gives how many users it has.
    fn take(&mut self, engine: &Evaluator, set: SetId) -> usize {
        let count = engine.sets().count(set) as usize;
        if count > 0 && self.seen.insert(set) {
            let row = engine.sets().row(set);
            self.users.add_words(row);
        }
        count
    }
}
