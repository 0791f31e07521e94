//! A statement as explanations name it, and how it reaches a user.

use crate::access::computed_groups;
use crate::decide::ReferenceEvaluator;
use bastide_model::condition::Term;
use bastide_model::show;
use bastide_model::statement::Sort;
use bastide_model::*;

/// A rule or an entry.
#[derive(Clone, Debug)]
pub struct StatementRef {
    /// The rule's name, or the entry's file and line.
    pub name: String,
    /// `rule` or `entry`.
    pub sort: String,
    /// File and line.
    pub place: String,
    /// Its modality.
    pub modality: String,
    /// Its who-clause.
    pub who: String,
    /// Its reason.
    pub because: Option<String>,
}

impl StatementRef {
    /// The statement of an id.
    pub fn new(estate: &Estate, id: StatementId) -> StatementRef {
        let statement = estate.statement(id);
        StatementRef {
            name: statement.name.clone(),
            sort: match statement.sort {
                Sort::Rule => "rule".into(),
                Sort::Entry => "entry".into(),
            },
            place: estate.place(statement.origin),
            modality: statement.modality.words().into(),
            who: show::who(estate, &statement.who),
            because: statement.because.clone(),
        }
    }
}

/// One way in which a statement means a user.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// `anyone`, `owner`, `named`, or `member`.
    pub by: String,
    /// For a member: from the group that names the user (or is computed) to the statement's group.
    pub chain: Vec<String>,
    /// Where the memberships of the chain are written, as far as they are data.
    pub places: Vec<String>,
    /// False where a missing value leaves it open.
    pub certain: bool,
}

/// The ways in which a statement means a user: one a term of its who-clause. Without a resource,
/// `owner` is one of them only where it stands alone.
pub fn ways(
    reference: &ReferenceEvaluator,
    statement: &Statement,
    user: UserId,
    resource: Option<ResourceId>,
) -> Vec<Way> {
    let estate = reference.estate();
    let mut found = Vec::new();
    for term in &statement.who.terms {
        let truth = match (term, resource) {
            (Term::Owner, None) if statement.who.terms.len() == 1 => Truth::True,
            (Term::Owner, None) => Truth::False,
            _ => reference.term(term, user, resource),
        };
        if truth == Truth::False {
            continue;
        }
        let (by, chain) = match term {
            Term::Anyone => ("anyone", Vec::new()),
            Term::Owner => ("owner", Vec::new()),
            Term::User(_) | Term::Nobody(_) => ("named", Vec::new()),
            Term::Members(group) => {
                let start = computed_groups(reference, user);
                ("member", estate.groups().chain(user, &start, *group).unwrap_or_else(|| vec![*group]))
            }
        };
        found.push(Way {
            by: by.into(),
            places: places(estate, user, &chain),
            chain: told(estate.groups(), &chain),
            certain: truth == Truth::True,
        });
    }
    found
}

/// So many groups of a chain are told at each end; of more, the rest is counted.
const MOST_TOLD: usize = 8;

/// A chain of groups by their ids.
pub fn told(groups: &Groups, chain: &[GroupId]) -> Vec<String> {
    let names = |chain: &[GroupId]| chain.iter().map(|g| groups.id(*g).to_string()).collect::<Vec<String>>();
    if chain.len() <= 2 * MOST_TOLD + 1 {
        return names(chain);
    }
    let mut told = names(&chain[..MOST_TOLD]);
    told.push(format!("... {} groups ...", chain.len() - 2 * MOST_TOLD));
    told.extend(names(&chain[chain.len() - MOST_TOLD..]));
    told
}

/// Where each step of a chain is written.
fn places(estate: &Estate, user: UserId, chain: &[GroupId]) -> Vec<String> {
    let groups = estate.groups();
    let mut member = Member::User(user);
    let mut places = Vec::new();
    let is_told = |at: usize| chain.len() <= 2 * MOST_TOLD + 1 || at < MOST_TOLD || at + MOST_TOLD >= chain.len();
    for (at, &group) in chain.iter().enumerate() {
        if is_told(at) {
            let origin = groups.origin(group, member).or(groups.declared(group));
            places.extend(origin.map(|o| estate.place(o)));
        }
        member = Member::Group(group);
    }
    places
}
