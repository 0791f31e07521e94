//! Decisions that a platform made itself, beside ours: how many agree, and where they differ, by what decides here.

use super::sweep;
use crate::explain::{StatementRef, in_a_sentence};
use crate::snapshot::Snapshot;
use bastide_model::*;
use std::collections::BTreeMap;

/// A decision made elsewhere.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct Claim {
    /// On what.
    pub resource: ResourceId,
    /// For whom.
    pub user: UserId,
    /// Of what.
    pub action: ActionId,
    /// Whether it was allowed there.
    pub allowed: bool,
}

/// How far two systems agree.
#[derive(Clone, Debug)]
pub struct Agreement {
    /// Decisions that were compared.
    pub asked: usize,
    /// Those that are the same here.
    pub agree: usize,
    /// The same, by action and kind of resource.
    pub by: Vec<Agreeing>,
    /// Differences, by what decides here; the most first.
    pub differences: Vec<Differing>,
}

/// How far one action on one kind agrees.
#[derive(Clone, Debug)]
pub struct Agreeing {
    /// The action.
    pub action: String,
    /// The kind of the resources.
    pub kind: String,
    /// Decisions that were compared.
    pub asked: usize,
    /// Those that are the same here.
    pub agree: usize,
}

/// Differences that have one cause here.
#[derive(Clone, Debug)]
pub struct Differing {
    /// Whether it is allowed here, and refused there; otherwise the other way round.
    pub allowed_here: bool,
    /// The reason here.
    pub reason: crate::Reason,
    /// The statement that decides here, where one does.
    pub statement: Option<StatementRef>,
    /// How many decisions.
    pub count: usize,
    /// The first of them.
    pub some: Vec<Example>,
}

/// A decision that differs.
#[derive(Clone, Debug)]
pub struct Example {
    /// The user's id.
    pub user: String,
    /// The action.
    pub action: String,
    /// The resource's id.
    pub resource: String,
    /// Why it is so here, in a sentence.
    pub why: String,
}

/// Compares decisions with ours; of each cause at most so many examples are named. Claims that contradict each other are both
/// compared. Cost: every resource that is named once, and a lookup for every claim.
pub fn agreement(snapshot: &Snapshot, mut claims: Vec<Claim>, most: usize) -> Agreement {
    claims.sort_unstable();
    let estate = snapshot.estate();
    let mut users: Vec<UserId> = claims.iter().map(|claim| claim.user).collect();
    users.sort_unstable();
    users.dedup();
    let mut resources: Vec<ResourceId> = claims.iter().map(|claim| claim.resource).collect();
    resources.dedup();
    let mut by: BTreeMap<(ActionId, KindId), (usize, usize)> = BTreeMap::new();
    type ClaimCause = (bool, crate::Reason, Option<StatementId>);
    let mut causes: Vec<(ClaimCause, usize, Vec<Claim>)> = Vec::new();
    let mut at = 0;
    let Ok(()) = sweep::<std::convert::Infallible>(snapshot, &users, &resources, |row| {
        while let Some(claim) = claims.get(at).filter(|claim| claim.resource == row.resource) {
            at += 1;
            let user = users.binary_search(&claim.user).unwrap_or_default();
            let decision = row.decision(user, claim.action);
            let (asked, agree) = by.entry((claim.action, estate.catalog().kind(claim.resource))).or_default();
            *asked += 1;
            if decision.is_allowed() == claim.allowed {
                *agree += 1;
                continue;
            }
            let cause = (decision.is_allowed(), decision.reason, decision.by);
            let place = causes.iter().position(|(known, ..)| *known == cause).unwrap_or_else(|| {
                causes.push((cause, 0, Vec::new()));
                causes.len() - 1
            });
            causes[place].1 += 1;
            if causes[place].2.len() < most {
                causes[place].2.push(*claim);
            }
        }
        Ok(())
    });
    causes.sort_by(|(a, m, _), (b, n, _)| n.cmp(m).then(a.cmp(b)));
    let mut engine = snapshot.evaluator();
    let name = |action: ActionId| estate.schema().actions[action.index()].name.clone();
    let mut example = |claim: &Claim| Example {
        user: estate.people().id(claim.user).to_string(),
        action: name(claim.action),
        resource: estate.catalog().id(claim.resource).to_string(),
        why: in_a_sentence(&mut engine, claim.user, claim.action, claim.resource),
    };
    let differences = causes.iter().map(|((allowed, reason, statement), count, some)| Differing {
        allowed_here: *allowed,
        reason: *reason,
        statement: statement.map(|by| StatementRef::new(estate, by)),
        count: *count,
        some: some.iter().map(&mut example).collect(),
    });
    Agreement {
        asked: claims.len(),
        agree: by.values().map(|(_, agree)| agree).sum(),
        differences: differences.collect(),
        by: by
            .iter()
            .map(|((action, kind), (asked, agree))| Agreeing {
                action: name(*action),
                kind: estate.schema().kinds[kind.index()].name.clone(),
                asked: *asked,
                agree: *agree,
            })
            .collect(),
    }
}
