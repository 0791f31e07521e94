//! Statements: rules and access entries in one typed form.

use crate::condition::{Condition, Who};
use crate::ids::*;
use bastide_syntax::Span;
pub use bastide_syntax::tree::{Comparison, Modality, Reach, SetRelation};
use fixedbitset::FixedBitSet;
use jiff::civil::Date;

/// Where a statement comes from.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Sort {
    /// A rule of a policy file.
    Rule,
    /// A row of an entries file.
    Entry,
}

/// One rule or one access entry.
#[derive(Clone, Debug)]
pub struct Statement {
    /// The rule's name, or the entry's file and line.
    pub name: String,
    /// Rule or entry.
    pub sort: Sort,
    /// Where it begins.
    pub origin: Origin,
    /// Its reason: `because`, or the entry's note.
    pub because: Option<String>,
    /// Its layer; none: `rest`.
    pub layer: Option<LayerId>,
    /// Its modality.
    pub modality: Modality,
    /// Its actions, roles taken apart.
    pub actions: FixedBitSet,
    /// Whether it lists `everything`.
    pub everything: bool,
    /// To whom it applies.
    pub who: Who,
    /// To what it applies.
    pub what: What,
    /// When it applies.
    pub condition: Option<Condition>,
    /// First day.
    pub from: Option<Date>,
    /// Last day.
    pub until: Option<Date>,
    /// Whether it is switched off.
    pub off: bool,
}

/// A what-clause.
#[derive(Clone, Default, Debug)]
pub struct What {
    /// Its kinds; none: `anything`.
    pub kinds: Option<Vec<KindId>>,
    /// Its places; none: everywhere. Empty where every place it names is stale.
    pub places: Option<Vec<Place>>,
    /// Its condition.
    pub condition: Option<Condition>,
}

/// A place of a statement.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Place {
    /// The resource.
    pub resource: ResourceId,
    /// How far it reaches.
    pub reach: Reach,
    /// Where it is written.
    pub span: Span,
}

impl Statement {
    /// Whether it is on: not `off`, and at least one action left once roles that are off dropped out.
    pub fn is_on(&self) -> bool {
        !self.off && !self.actions.is_clear()
    }

    /// Its conditions: of who, of what, and while.
    pub fn conditions(&self) -> impl Iterator<Item = &Condition> {
        [&self.who.condition, &self.what.condition, &self.condition].into_iter().flatten()
    }

    /// The groups that it names anywhere.
    pub fn groups(&self) -> Vec<GroupId> {
        let mut found = self.who.groups();
        found.extend([&self.what.condition, &self.condition].into_iter().flatten().flat_map(Condition::groups));
        found
    }

    /// Whether it speaks of an action: it lists it, or is a ceiling that leaves it out.
    pub fn speaks_of(&self, action: ActionId) -> bool {
        self.actions.contains(action.index()) != (self.modality == Modality::MayOnly)
    }

    /// Whether a day lies in its `from` and `until`, both included.
    pub fn in_date(&self, date: Date) -> bool {
        self.from.is_none_or(|from| from <= date) && self.until.is_none_or(|until| date <= until)
    }
}
