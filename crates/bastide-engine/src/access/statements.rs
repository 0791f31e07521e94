//! Every rule and entry with what it reaches, in one pass.

use crate::explain::StatementRef;
use crate::sets::SetEngine;
use crate::sets::claims::Reaching;
use crate::sets::store::SetId;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use schemars::JsonSchema;
use serde::Serialize;

/// Rules and entries.
#[derive(Serialize, JsonSchema, Debug)]
pub struct Statements {
    /// In policy order.
    pub statements: Vec<Listed>,
}

/// A rule or an entry, and what it reaches.
#[derive(Serialize, JsonSchema, Debug)]
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

/// What each statement reaches, by its number.
struct Reached {
    users: Vec<usize>,
    resources: Vec<usize>,
    triples: Vec<u64>,
}

/// All of them, with what they reach at a moment; what does not apply then reaches nothing. Cost: every resource twice, and
/// for each the statements that reach it.
///
/// # Errors
/// Decisions that depend on themselves.
pub fn statements(estate: &Estate, moment: &Moment) -> Result<Statements, Vec<Diagnostic>> {
    let now = reached(&mut SetEngine::new(estate, moment)?);
    // With every missing value taken the other way; what differs hangs on one.
    let other = reached(&mut SetEngine::favourable(estate, moment)?);
    let listed = StatementId::all(estate.statements.len()).map(|id| {
        let (s, at) = (estate.statement(id), id.index());
        Listed {
            name: s.name.clone(),
            statement: StatementRef::new(estate, id),
            actions: s.actions.ones().map(|a| estate.schema.actions[a].name.clone()).collect(),
            asleep: super::reach::asleep(s, moment),
            users: now.users[at],
            resources: now.resources[at],
            triples: now.triples[at],
            undecided: now.triples[at].abs_diff(other.triples[at]),
        }
    });
    Ok(Statements { statements: listed.collect() })
}

fn reached(engine: &mut SetEngine) -> Reached {
    let estate = engine.estate();
    let count = estate.statements.len();
    let (mut resources, mut triples) = (vec![0usize; count], vec![0u64; count]);
    let mut users = vec![SetId::NONE; count];
    for resource in estate.catalog.all() {
        let kind = estate.catalog.kind(resource);
        let owner = estate.catalog.owner(resource).flatten();
        for Reaching { id, others, owners } in engine.reaching(resource) {
            let s = estate.statement(id);
            let fits = |a: &ActionId| s.speaks_of(*a) && estate.schema.fits(*a, kind);
            let actions = ActionId::all(estate.schema.actions.len()).filter(fits).count() as u64;
            let mut whom = others;
            if let Some(owner) = owner {
                let single = engine.single(owner);
                let is = engine.sets().contains(owners, owner.index());
                whom = if is { engine.either(others, single) } else { engine.but(others, single) };
            }
            if actions == 0 || whom == SetId::NONE {
                continue;
            }
            resources[id.index()] += 1;
            triples[id.index()] += u64::from(engine.sets().count(whom)) * actions;
            users[id.index()] = engine.either(users[id.index()], whom);
        }
    }
    let users = users.into_iter().map(|set| engine.sets().count(set) as usize).collect();
    Reached { users, resources, triples }
}
