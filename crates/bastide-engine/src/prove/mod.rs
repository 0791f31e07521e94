//! Whether what must always hold does: expectations of one user, guarantees over everybody.
//!
//! Expectations go to the specification evaluator, one triple at a time; what they count goes
//! through every resource. Guarantees go to the set engine: for each resource those who may, without
//! those who are meant to. In doubt a guarantee is broken: whether somebody is exempt must be known,
//! whether somebody is meant need only be possible.

mod expectation;
mod guarantee;
mod personas;

pub use personas::with_personas;
mod record;

pub use record::record;

use crate::snapshot::Snapshot;
use bastide_model::*;
use bastide_syntax::Diagnostic;

/// How many breaches of one proof are told.
pub const MOST_BREACHES: usize = 5;

/// An expectation or a guarantee, and whether it holds.
#[derive(Clone, Debug)]
pub struct Proof {
    /// Its name.
    pub name: String,
    /// `expectation` or `guarantee`.
    pub sort: Sort,
    /// File and line.
    pub place: String,
    /// Its reason.
    pub because: Option<String>,
    /// The day it was asked for.
    pub date: String,
    /// Whether it holds.
    pub holds: bool,
    /// How many claims (of an expectation) or triples (of a guarantee) were looked at.
    pub checked: u64,
    /// How many do not hold.
    pub broken: u64,
    /// The first of them.
    pub breaches: Vec<Breach>,
}

/// What a proof is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Sort {
    /// Of one user.
    Expectation,
    /// Over everybody.
    Guarantee,
}

/// One thing that is not as it must be.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Breach {
    /// What is not as claimed, in words.
    pub claim: String,
    /// The decision in one sentence, where it is about one.
    pub why: Option<String>,
    /// The user's id, where it is about one.
    pub user: Option<String>,
    /// The action, where it is about one.
    pub action: Option<String>,
    /// The resource's id, where it is about one.
    pub resource: Option<String>,
    /// Whether the decision hangs on a missing value.
    pub undecided: bool,
}

/// Asks every expectation and guarantee whose name fits, at a moment; expectations that name their
/// own day or session are asked for those. `wanted` says which names.
///
/// # Errors
/// Decisions that depend on themselves on one of the days.
pub fn prove(estate: &Estate, moment: &Moment, wanted: &dyn Fn(&str) -> bool) -> Result<Vec<Proof>, Vec<Diagnostic>> {
    let mut proofs = Vec::new();
    let peopled = personas::with_personas(estate);
    for expectation in estate.proofs().expectations.iter().filter(|e| wanted(&e.name)) {
        proofs.push(expectation::ask(&peopled, moment, expectation)?);
    }
    proofs.extend(guarantees(estate, moment, wanted)?);
    Ok(proofs)
}

/// Asks the guarantees alone.
///
/// # Errors
/// Decisions that depend on themselves on that day.
pub fn guarantees(
    estate: &Estate,
    moment: &Moment,
    wanted: &dyn Fn(&str) -> bool,
) -> Result<Vec<Proof>, Vec<Diagnostic>> {
    let all: Vec<&proof::Guarantee> = estate.proofs().guarantees.iter().filter(|g| wanted(&g.name)).collect();
    if all.is_empty() {
        return Ok(Vec::new());
    }
    Ok(guarantee::ask(&Snapshot::new(estate, moment)?, &all))
}

/// The proofs that hold before and do not after a change; those that are new and do not hold among them.
pub fn broken_by(before: &[Proof], after: Vec<Proof>) -> Vec<Proof> {
    let held =
        |proof: &Proof| before.iter().find(|p| p.name == proof.name && p.sort == proof.sort).is_none_or(|p| p.holds);
    after.into_iter().filter(|proof| !proof.holds && held(proof)).collect()
}

/// The guarantees that do not hold on every day from the moment's to `through`: for each its first day.
/// Days on which nothing begins or ends answer as the day before.
///
/// # Errors
/// Decisions that depend on themselves on one of the days.
pub fn through(
    estate: &Estate,
    moment: &Moment,
    through: jiff::civil::Date,
    wanted: &dyn Fn(&str) -> bool,
) -> Result<Vec<Proof>, Vec<Diagnostic>> {
    let mut broken: Vec<Proof> = Vec::new();
    for day in crate::calendar::turning_days(estate, moment, through) {
        let then = moment.on_day(day);
        let fresh = |name: &str| wanted(name) && !broken.iter().any(|p| p.name == name);
        let found = guarantees(estate, &then, &fresh)?;
        broken.extend(found.into_iter().filter(|p| !p.holds));
    }
    Ok(broken)
}

/// The rules on which no expectation and no guarantee depends: with the rule switched off, all that
/// hold still do. Cost: all proofs once for each rule.
///
/// # Errors
/// Decisions that depend on themselves.
pub fn untested(estate: &Estate, moment: &Moment) -> Result<Vec<String>, Vec<Diagnostic>> {
    let before = prove(estate, moment, &|_| true)?;
    let mut found = Vec::new();
    for (at, statement) in estate.statements().iter().enumerate() {
        if statement.sort != statement::Sort::Rule || !statement.is_on() || !statement.in_date(moment.date) {
            continue;
        }
        let Ok(without) = crate::change::apply(estate, &[crate::change::Change::Off(StatementId::new(at))]) else {
            continue;
        };
        let after = prove(&without, moment, &|_| true)?;
        let same = before.iter().zip(&after).all(|(a, b)| a.holds == b.holds && a.broken == b.broken);
        if same {
            found.push(statement.name.clone());
        }
    }
    Ok(found)
}
