//! Every rule and entry with what it reaches, in one pass.

use crate::explain::StatementRef;
use crate::sets::gathered::Gathered;
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;

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
    let mut engine = snapshot.evaluator();
    let count = estate.statements().len();
    let mut found = vec![Reaches::default(); count];
    let mut users: Vec<Gathered> = vec![Gathered::default(); count];
    let mut whom = engine.nobody();
    // By kind and statement, of how many of its actions one speaks that have a meaning there.
    let mut meanings: HashMap<(KindId, StatementId), u64> = HashMap::new();
    for resource in snapshot.until_stopped(estate.catalog().all()) {
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
            let set = engine.applies_to(&mut work, rule, &mut whom);
            let number = whom.count_ones(..);
            if number == 0 {
                continue;
            }
            found[id.index()].resources += 1;
            found[id.index()].triples += number as u64 * actions;
            users[id.index()].add(&whom, set);
        }
        engine.done(work);
    }
    let mut guests = FixedBitSet::with_capacity(estate.people().len());
    guests.extend(estate.people().all().filter(|user| estate.people().kind(*user) == "guest").map(UserId::index));
    for (reaches, gathered) in found.iter_mut().zip(users) {
        (reaches.users, reaches.guests) = (gathered.count(), gathered.count_among(&guests));
    }
    found
}
