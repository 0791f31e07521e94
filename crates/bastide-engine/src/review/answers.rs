//! What the answers of a review come to.

use super::{Sheet, SheetRow};
use crate::change::Change;
use crate::find;
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::statement::Sort;
use bastide_model::*;
use jiff::civil::Date;

/// What an owner decided on a row.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum SheetDecision {
    /// It stays.
    Keep,
    /// It goes.
    Remove,
    /// It stays in part.
    Narrow {
        /// The actions that stay; all where it is empty.
        actions: Vec<String>,
        /// The people who are taken out of it.
        without: Vec<String>,
        /// Its last day.
        until: Option<Date>,
    },
}

/// An answered row.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Answer {
    /// The sheet's name.
    pub sheet: String,
    /// The row's key.
    pub key: String,
    /// The row's mark; empty where the sheet has none.
    pub mark: String,
    /// The decision.
    pub decision: SheetDecision,
    /// Why.
    pub reason: String,
    /// Where it stands: file and line of the sheet.
    pub at: String,
}

/// What cannot be done by itself.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ByHand {
    /// Where the answer stands.
    pub at: String,
    /// What it is about.
    pub key: String,
    /// Why, and what to do instead.
    pub why: String,
}

/// What the answers come to.
#[derive(Default, Debug)]
pub struct Proposal {
    /// Changes, each once, in the order of the answers.
    pub changes: Vec<Change>,
    /// What cannot be done by itself.
    pub by_hand: Vec<ByHand>,
    /// How many rows stay as they are.
    pub kept: usize,
}

/// What answers come to on the estate at hand, of which the sheets are. A rule is only switched off or
/// narrowed where it reaches nothing outside the sheet: what belongs to somebody else is not theirs to
/// change.
pub fn proposal(estate: &Estate, sheets: &[Sheet], answers: &[Answer]) -> Proposal {
    let mut proposal = Proposal::default();
    for answer in answers {
        let sheet = sheets.iter().find(|s| s.name == answer.sheet);
        let twice = answers.iter().any(|other| {
            (&other.sheet, &other.key, &other.mark) == (&answer.sheet, &answer.key, &answer.mark)
                && other.decision != answer.decision
        });
        let of_key: Vec<&SheetRow> = sheet.iter().flat_map(|s| &s.rows).filter(|r| r.key == answer.key).collect();
        // The same entry may stand in the files twice. A statement that gives one thing there is found by its name, even
        // where that is more or less by now.
        let marked: Vec<&SheetRow> = of_key.iter().copied().filter(|r| r.mark == answer.mark).collect();
        let alone = |row: &SheetRow| of_key.iter().filter(|r| r.statement == row.statement).count() == 1;
        let several = marked.is_empty() && !of_key.is_empty() && !of_key.iter().all(|row| alone(row));
        let rows = if marked.is_empty() { of_key.clone() } else { marked };
        let beside = SameKey { rows: &of_key, answers, sheet: &answer.sheet };
        let done = match &answer.decision {
            _ if twice => Err("it is answered twice, and not alike".to_string()),
            _ if sheet.is_none() => {
                Err(format!("there is no sheet `{}` now: were the sheets written with another `--by`?", answer.sheet))
            }
            _ if rows.is_empty() => Err("it gives nothing there any more: the estate has changed since".to_string()),
            _ if several => Err("what it gives there has changed since: write the sheet anew".to_string()),
            SheetDecision::Keep => {
                proposal.kept += 1;
                Ok(())
            }
            SheetDecision::Remove => rows.iter().try_for_each(|row| removed(estate, row, &beside, &mut proposal)),
            SheetDecision::Narrow { actions, without, until } => rows.iter().try_for_each(|row| {
                beside.alike(row, &answer.decision)?;
                narrowed(estate, row, actions, without, *until, &beside, &mut proposal)
            }),
        };
        if let Err(why) = done {
            proposal.by_hand.push(ByHand { at: answer.at.clone(), key: answer.key.clone(), why });
        }
    }
    proposal
}

fn alone(row: &SheetRow) -> Result<(), String> {
    if row.elsewhere == 0 {
        return Ok(());
    }
    Err(format!(
        "it also gives access to {} resources outside this sheet ({}): its keeper has to part it first",
        row.elsewhere, row.at
    ))
}

/// The rows that the same key has on a sheet, and how they are answered.
struct SameKey<'a> {
    rows: &'a [&'a SheetRow],
    answers: &'a [Answer],
    sheet: &'a str,
}

impl<'a> SameKey<'a> {
    /// The other rows of the same statement, each with its answer.
    fn others(&self, row: &'a SheetRow) -> impl Iterator<Item = (&'a SheetRow, Option<&'a SheetDecision>)> + '_ {
        let decision = |other: &SheetRow| {
            let fits = |a: &&Answer| a.sheet == self.sheet && a.key == other.key && a.mark == other.mark;
            self.answers.iter().find(fits).map(|answer| &answer.decision)
        };
        let others = self.rows.iter().copied().filter(|o| o.statement == row.statement && o.mark != row.mark);
        others.map(move |other| (other, decision(other)))
    }

    /// What changes the whole statement must be meant for all that it gives there.
    fn alike(&self, row: &'a SheetRow, decision: &SheetDecision) -> Result<(), String> {
        let narrows = |d: &SheetDecision| matches!(d, SheetDecision::Narrow { actions, until, .. } if !actions.is_empty() || until.is_some());
        if narrows(decision) && self.others(row).any(|(_, other)| other != Some(decision)) {
            return Err(apart(row));
        }
        Ok(())
    }
}

fn apart(row: &SheetRow) -> String {
    format!(
        "the same statement gives other things on this sheet, which are not answered alike ({}): its keeper has to part it first",
        row.at
    )
}

/// A row goes with its statement, where all that it gives there goes; otherwise by its actions, where nothing else that
/// stays has these.
fn removed<'a>(
    estate: &Estate,
    row: &'a SheetRow,
    beside: &SameKey<'a>,
    proposal: &mut Proposal,
) -> Result<(), String> {
    alone(row)?;
    let stay: Vec<&SheetRow> =
        beside.others(row).filter(|(_, d)| *d != Some(&SheetDecision::Remove)).map(|(other, _)| other).collect();
    if stay.is_empty() {
        add(proposal, Change::Off(row.statement));
        return Ok(());
    }
    if stay.iter().any(|other| other.actions.iter().any(|action| row.actions.contains(action))) {
        return Err(apart(row));
    }
    let statement = estate.statement(row.statement);
    let name = |action: &ActionId| &estate.schema().actions[action.index()].name;
    let gone = |action: &ActionId| {
        let going = beside.others(row).filter(|(_, d)| *d == Some(&SheetDecision::Remove)).map(|(other, _)| other);
        going.chain([row]).any(|r| r.actions.contains(name(action)))
    };
    let kept: Vec<ActionId> = statement.actions.ones().map(ActionId::new).filter(|a| !gone(a)).collect();
    add(proposal, Change::Actions(row.statement, kept));
    Ok(())
}

fn narrowed<'a>(
    estate: &Estate,
    row: &'a SheetRow,
    actions: &[String],
    without: &[String],
    until: Option<Date>,
    beside: &SameKey<'a>,
    proposal: &mut Proposal,
) -> Result<(), String> {
    let statement = estate.statement(row.statement);
    let mut changes = Vec::new();
    for user in without {
        let id = find::user(estate, user).map(|user| estate.people().id(user).to_string()).unwrap_or_default();
        let stays = |decision: Option<&SheetDecision>| match decision {
            Some(SheetDecision::Remove) => false,
            Some(SheetDecision::Narrow { without, .. }) => !without.contains(user),
            Some(SheetDecision::Keep) | None => true,
        };
        if beside.others(row).any(|(other, decision)| other.people.contains(&id) && stays(decision)) {
            return Err(apart(row));
        }
        changes.extend(taken_out(estate, row, user)?);
    }
    let mut kept: Vec<ActionId> = Vec::new();
    for name in actions {
        let action = find::action(estate, name).map_err(|e| e.to_string())?;
        if !statement.actions.contains(action.index()) {
            return Err(format!("`{name}` is not among its actions ({})", row.actions.join(", ")));
        }
        kept.push(action);
    }
    kept.sort();
    kept.dedup();
    if !kept.is_empty() && kept.len() < statement.actions.count_ones(..) {
        alone(row)?;
        changes.push(Change::Actions(row.statement, kept));
    }
    if let Some(until) = until {
        alone(row)?;
        // A review takes away; it never gives.
        if let Some(last) = statement.until.filter(|last| *last <= until) {
            return Err(format!("it ends on {last} anyway: {until} would not narrow it"));
        }
        changes.push(Change::Window(row.statement, statement.from, Some(until)));
    }
    if changes.is_empty() {
        return Err("that narrows nothing: all its actions stay, for everybody, as long as now".to_string());
    }
    changes.into_iter().for_each(|change| add(proposal, change));
    Ok(())
}

/// How one person is taken out of a statement: of a group, by ending every membership that leads to it.
fn taken_out(estate: &Estate, row: &SheetRow, user: &str) -> Result<Vec<Change>, String> {
    let statement = estate.statement(row.statement);
    let user = find::user(estate, user).map_err(|e| e.to_string())?;
    let id = estate.people().id(user);
    if !row.people.iter().any(|p| p == id) {
        return Err(format!("`{id}` has no access by it there"));
    }
    let named = statement.who.terms.contains(&Term::User(user));
    match statement.sort {
        Sort::Rule => {
            if row.elsewhere > 0 {
                return Err(format!(
                    "`{id}` would also lose access to {} resources outside this sheet ({})",
                    row.elsewhere, row.at
                ));
            }
            Ok(vec![Change::Except(row.statement, user)])
        }
        Sort::Entry if named => {
            alone(row)?;
            Ok(vec![Change::Off(row.statement)])
        }
        Sort::Entry => {
            let mut leading: Vec<GroupId> = Vec::new();
            for term in &statement.who.terms {
                if let Term::Members(group) = term {
                    leading.extend(estate.groups().beneath(*group));
                }
            }
            if let Some(computed) = leading.iter().find(|g| estate.groups().computed(**g).is_some()) {
                return Err(format!("who is in `{}` is computed ({})", estate.groups().id(*computed), row.at));
            }
            let direct = estate.groups().direct(user).iter().filter(|g| leading.contains(g));
            let changes: Vec<Change> = direct.map(|g| Change::Leave(Member::User(user), *g)).collect();
            if changes.is_empty() {
                return Err(format!("`{id}` is meant by no group that can be left ({})", row.at));
            }
            Ok(changes)
        }
    }
}

fn add(proposal: &mut Proposal, change: Change) {
    let same = |other: &Change| match (other, &change) {
        (Change::Off(a), Change::Off(b)) => a == b,
        (Change::Except(a, u), Change::Except(b, v)) => a == b && u == v,
        (Change::Leave(m, g), Change::Leave(n, h)) => m == n && g == h,
        (Change::Actions(a, x), Change::Actions(b, y)) => a == b && x == y,
        (Change::Window(a, f, u), Change::Window(b, g, v)) => a == b && f == g && u == v,
        _ => false,
    };
    if !proposal.changes.iter().any(same) {
        proposal.changes.push(change);
    }
}
