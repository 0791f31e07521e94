//! Who can do what: a person, a place, a table, a statement, totals, two people side by side.

use crate::difference::{Blocks, Fold, Radius, RowsSeen};
use crate::explain::{Met, Reason, StatementRef, Way};
use crate::{Tell, answer};
use bastide_engine::access;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// The table.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Matrix {
    /// The actions, in declared order; cells hold positions in this list.
    pub actions: Vec<String>,
    /// Users with identical access on all rows, largest first.
    pub profiles: Vec<MatrixProfile>,
    /// The resources, in the order of the tree.
    pub rows: Vec<MatrixRow>,
}

/// One resource.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct MatrixRow {
    /// Its id.
    pub resource: String,
    /// Its name.
    pub name: String,
    /// Its path.
    pub path: String,
    /// Its kind.
    pub kind: String,
    /// Its depth; a root has 1.
    pub depth: u16,
    /// The position of the row that it lies beneath: the nearest one; none where no row is above it.
    pub above: Option<usize>,
    /// Its name, and before it those of what lies between it and that row; its path where there is none.
    pub label: String,
    /// How many resources lie beneath it that are not shown.
    pub hidden: usize,
    /// For each profile the allowed actions, by position.
    pub cells: Vec<Vec<usize>>,
}

impl From<&access::Matrix> for Matrix {
    fn from(of: &access::Matrix) -> Matrix {
        let access::Matrix { actions, profiles, rows, lists } = of;
        let row = |row: &access::MatrixRow| {
            let access::MatrixRow { resource, name, path, kind, depth, above, label, hidden, cells } = row.clone();
            let cells = cells.into_iter().map(|list| lists[list as usize].clone()).collect();
            MatrixRow { resource, name, path, kind, depth, above, label, hidden, cells }
        };
        Matrix { actions: actions.tell(), profiles: profiles.tell(), rows: rows.iter().map(row).collect() }
    }
}

answer! {
    /// How far two systems agree.
    pub struct Agreement of bastide_engine::access::Agreement {
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
    pub struct Agreeing of bastide_engine::access::Agreeing {
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
    pub struct Differing of bastide_engine::access::Differing {
        /// Whether it is allowed here, and refused there; otherwise the other way round.
        pub allowed_here: bool,
        /// The reason here.
        pub reason: Reason,
        /// The statement that decides here, where one does.
        pub statement: Option<StatementRef>,
        /// How many decisions.
        pub count: usize,
        /// The first of them.
        pub some: Vec<ComparedDecision>,
    }

    /// A decision that differs.
    #[schemars(rename = "Example")]
    pub struct ComparedDecision of bastide_engine::access::Example {
        /// The user's id.
        pub user: String,
        /// The action.
        pub action: String,
        /// The resource's id.
        pub resource: String,
        /// Why it is so here, in a sentence.
        pub why: String,
    }

    /// One side.
    pub struct Party of bastide_engine::access::Party {
        /// A user's id, or a group's.
        pub id: String,
        /// The name.
        pub name: String,
        /// `user` or `group`.
        pub sort: String,
        /// How many users it speaks of.
        pub users: usize,
        /// By kind how many resources there are, and how many of them by action; of a group what every
        /// member can do.
        pub counts: Vec<KindCount>,
        /// By kind, in the same order, on how many anything is allowed.
        pub touched: Vec<usize>,
        /// What a user gets of datasets of which is told what lies inside; nothing of a group.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        #[schemars(default)]
        pub rows: Vec<RowsSeen>,
    }

    /// Two sides compared.
    pub struct Comparison of bastide_engine::access::Comparison {
        /// The user.
        pub left: Party,
        /// The other user, or the group.
        pub right: Party,
        /// Pairs of action and resource that both can do.
        pub same: u64,
        /// What only the left one can: of a group, what no member can.
        pub only_left: Vec<Apart>,
        /// What only the right one can: of a group, what every member can.
        pub only_right: Vec<Apart>,
    }

    /// What one side can and the other cannot, for one cause.
    pub struct Apart of bastide_engine::access::Apart {
        /// The actions.
        pub actions: Vec<String>,
        /// The places.
        pub places: Vec<Fold>,
        /// How many resources.
        pub resources: usize,
        /// Pairs of action and resource.
        pub pairs: u64,
        /// What permits it.
        pub by: Option<StatementRef>,
        /// How that reaches the one who can.
        pub ways: Vec<Way>,
        /// Why the other cannot.
        pub reason: Reason,
        /// What decides against the other, where something does.
        pub against: Option<StatementRef>,
        /// How that reaches the other.
        pub against_ways: Vec<Way>,
        /// The need that is not met, for one of the resources, where that is the reason.
        pub need: Option<String>,
    }

    /// Everybody, by what decides.
    pub struct Holders of bastide_engine::access::Holders {
        /// The action; of several their names, parted by commas.
        pub action: String,
        /// The resource's id.
        pub resource: String,
        /// The resource's path.
        pub path: String,
        /// How many users may.
        pub allowed: usize,
        /// How many may not.
        pub refused: usize,
        /// Users who may, by all that they can do here, most users first.
        pub profiles: Vec<HolderProfile>,
        /// Users who may, by the statement that lets them in, most users first.
        pub by: Vec<HoldersBy>,
        /// Users who may not, by reason and by the statement that keeps them out.
        pub not: Vec<HoldersBy>,
    }

    /// Users who can do the same on the resource.
    pub struct HolderProfile of bastide_engine::access::HolderProfile {
        /// What they can do, in declared order.
        pub actions: Vec<String>,
        /// Their ids, in byte order.
        pub users: Vec<String>,
    }

    /// Users on whom one statement decides.
    pub struct HoldersBy of bastide_engine::access::HoldersBy {
        /// The reason.
        pub reason: Reason,
        /// The statement; none where nothing permits.
        pub statement: Option<StatementRef>,
        /// The users, in byte order of ids.
        pub users: Vec<Holder>,
    }

    /// One user and how the statement reaches that user.
    pub struct Holder of bastide_engine::access::Holder {
        /// The user's id.
        pub user: String,
        /// The user's name.
        pub name: String,
        /// `person`, `guest` or `service`.
        pub kind: String,
        /// How the deciding statement reaches the user.
        pub ways: Vec<Way>,
    }

    /// What is known.
    pub struct Known of bastide_engine::access::Known {
        /// `user`, `group` or `resource`.
        pub sort: String,
        /// Its id.
        pub id: String,
        /// Its name; of a resource its path.
        pub name: String,
        /// File and line.
        pub place: Option<String>,
        /// Facts: what it is called and what it is.
        pub facts: Vec<(String, String)>,
        /// Its attributes, and where each value comes from.
        pub attributes: Vec<Met>,
        /// Of a user and a group the groups it is directly in; each with file and line.
        pub groups: Vec<(String, String)>,
        /// Of a group its direct members; each with file and line.
        pub members: Vec<(String, String)>,
        /// Rules and entries that name it, or reach it by place.
        pub statements: Vec<StatementRef>,
        /// Of a resource how many users may do what.
        pub allowed: Vec<(String, usize)>,
    }

    /// Users with identical access on all rows of the table.
    pub struct MatrixProfile of bastide_engine::access::MatrixProfile {
        /// Their ids, in byte order.
        pub users: Vec<String>,
    }

    /// What one user can do.
    pub struct Person of bastide_engine::access::Person {
        /// The user's id.
        pub user: String,
        /// The user's name.
        pub name: String,
        /// `person`, `guest` or `service`.
        pub kind: String,
        /// Whether the user is active.
        pub active: bool,
        /// The user's attributes, and where each value comes from.
        pub attributes: Vec<Met>,
        /// The groups the user is in, each with the chain that leads there.
        pub groups: Vec<InGroup>,
        /// Resources and allowed actions by kind.
        pub counts: Vec<KindCount>,
        /// Resources on which anything is allowed.
        pub touched: usize,
        /// All resources looked at.
        pub resources: usize,
        /// What the user gets of datasets of which is told what lies inside.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        #[schemars(default)]
        pub rows: Vec<RowsSeen>,
        /// The statements that decide what is allowed, most triples first.
        pub through: Vec<Through>,
        /// The tree, branches without any access left out.
        pub tree: Vec<Branch>,
    }

    /// A group the user is in.
    pub struct InGroup of bastide_engine::access::InGroup {
        /// The group.
        pub group: String,
        /// From the group that names the user, or is computed, to this one.
        pub chain: Vec<String>,
        /// False where a missing value leaves it open.
        pub certain: bool,
    }

    /// What is allowed on the resources of one kind.
    pub struct KindCount of bastide_engine::access::KindCount {
        /// The kind.
        pub kind: String,
        /// How many resources there are.
        pub resources: usize,
        /// Allowed ones by action, in declared order.
        pub allowed: Vec<(String, usize)>,
    }

    /// A statement that gives the user something.
    pub struct Through of bastide_engine::access::Through {
        /// The statement.
        pub statement: StatementRef,
        /// How it reaches the user.
        pub ways: Vec<Way>,
        /// How many allowed (resource, action) pairs it decides.
        pub pairs: usize,
    }

    /// A resource in the tree.
    pub struct Branch of bastide_engine::access::Branch {
        /// Its id.
        pub resource: String,
        /// Its name.
        pub name: String,
        /// Its kind.
        pub kind: String,
        /// Its depth; a root has 1.
        pub depth: u16,
        /// Allowed actions, in declared order.
        pub actions: Vec<String>,
        /// How many resources lie beneath it.
        pub beneath: usize,
        /// Where everything beneath is alike, kind by kind: the allowed actions by kind. Such a branch
        /// has no children here.
        pub alike: Option<BTreeMap<String, Vec<String>>>,
        /// Branches with access.
        pub children: Vec<Branch>,
        /// Direct children on and beneath which nothing is allowed.
        pub closed: usize,
    }

    /// What one statement reaches.
    pub struct Reached of bastide_engine::access::Reached {
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
        #[serde(skip_serializing_if = "Vec::is_empty")]
        #[schemars(default)]
        pub signed_in: Vec<String>,
        /// Where the statement asks for the session: what it reaches in the other sessions that it tells apart.
        pub elsewhere: Option<Elsewhere>,
        /// What changes if the statement goes (or comes, where it does not apply today).
        pub sole: Radius,
        /// Who gains and who loses what by that.
        pub blocks: Blocks,
    }

    /// What a statement reaches in other sessions.
    pub struct Elsewhere of bastide_engine::access::Elsewhere {
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
    pub struct Narrowing of bastide_engine::access::Narrowing {
        /// The words of the step.
        pub words: String,
        /// Users left somewhere.
        pub users: usize,
        /// Resources on which somebody is left.
        pub resources: usize,
        /// Pairs of user and resource left.
        pub pairs: u64,
    }

    /// Rules and entries.
    pub struct Statements of bastide_engine::access::Statements {
        /// In policy order.
        pub statements: Vec<Listed>,
    }

    /// A rule or an entry, and what it reaches.
    pub struct Listed of bastide_engine::access::Listed {
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

    /// When a user's access changes.
    pub struct Turns of bastide_engine::access::Turns {
        /// The user's id.
        pub user: String,
        /// The day asked from.
        pub from: String,
        /// The last day looked at.
        pub through: String,
        /// The days on which anything changes, in order.
        pub days: Vec<TurnDay>,
        /// How many days were looked at: those on which something begins or ends for somebody.
        pub looked_at: usize,
    }

    /// One day on which the user's access changes.
    pub struct TurnDay of bastide_engine::access::TurnDay {
        /// The day from which on it is otherwise.
        pub date: String,
        /// How far it reaches, for this user.
        pub radius: Radius,
        /// What is gained and what is lost.
        pub blocks: Blocks,
    }

    /// Totals of an estate. Every triple of a user, a resource and an action is counted once.
    pub struct Summary of bastide_engine::access::Summary {
        /// Users, active or not.
        pub users: usize,
        /// Of them, active.
        pub active_users: usize,
        /// Resources.
        pub resources: usize,
        /// Actions.
        pub actions: usize,
        /// Statements that are on and in date.
        pub statements: usize,
        /// Triples: users times resources times actions.
        pub triples: u64,
        /// Allowed triples by action, in declared order.
        pub allowed: Map<String, Value>,
        /// Allowed triples by reason.
        pub allowed_by_reason: BTreeMap<String, u64>,
        /// Refused triples by reason.
        pub refused: BTreeMap<String, u64>,
        /// Allowed triples by kind, then by action.
        pub allowed_by_kind: BTreeMap<String, BTreeMap<String, u64>>,
        /// Resources by kind.
        pub resources_by_kind: BTreeMap<String, usize>,
        /// Groups of users with identical access on every resource.
        pub profiles: usize,
        /// Different rows: resources on which everybody's access is the same count once.
        pub distinct_outcomes: usize,
    }
}
