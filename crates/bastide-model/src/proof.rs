//! What must always hold: expectations of one user, guarantees over everybody, duties that must be
//! kept apart, and actions that lead to the same data.

use crate::condition::Who;
use crate::ids::*;
use crate::statement::What;
use crate::value::Value;
use bastide_syntax::Span;
pub use bastide_syntax::tree::Bound;
use fixedbitset::FixedBitSet;
use jiff::civil::Date;

/// `expect`: what one user can and cannot do.
#[derive(Clone, Debug)]
pub struct Expectation {
    /// Its name.
    pub name: String,
    /// Where it begins.
    pub origin: Origin,
    /// Its reason.
    pub because: Option<String>,
    /// The user; none where there is no such user, so that it cannot hold. Personas are numbered on
    /// from the users, in their order.
    pub user: Option<UserId>,
    /// The day; the day of the run where none is given.
    pub on: Option<Date>,
    /// Session values.
    pub session: Vec<(SessionAttributeId, Value)>,
    /// What is claimed.
    pub claims: Vec<Claim>,
    /// What is named here and does not exist (any more), each in a few words: with any of these it cannot hold.
    pub lost: Vec<String>,
}

/// `persona`: a stand-in user for expectations, who is in no directory.
#[derive(Clone, Debug)]
pub struct Persona {
    /// Its name.
    pub name: String,
    /// Where it begins.
    pub origin: Origin,
    /// Its reason.
    pub because: Option<String>,
    /// Position in [`crate::schema::USER_KINDS`].
    pub kind: u8,
    /// The directory it is taken to come from.
    pub realm: Option<Value>,
    /// Data groups it is a direct member of.
    pub groups: Vec<GroupId>,
    /// What it has.
    pub values: Vec<(UserAttributeId, Value)>,
    /// What is named here and does not exist (any more), each in a few words: no expectation about it can hold.
    pub lost: Vec<String>,
}

/// `waive`: a finding of the audit that is accepted until a day.
#[derive(Clone, Debug)]
pub struct Waiver {
    /// The finding's name.
    pub finding: String,
    /// What the finding is about; `*` stands for anything.
    pub about: Vec<crate::value::Pattern>,
    /// Why it is accepted.
    pub because: String,
    /// The last day.
    pub until: Option<Date>,
    /// Where it is written.
    pub origin: Origin,
}

/// One claim of an expectation.
#[derive(Clone, Debug)]
pub struct Claim {
    /// What is claimed.
    pub body: ClaimBody,
    /// Where it is written.
    pub span: Span,
}

/// What is claimed.
#[derive(Clone, Debug)]
pub enum ClaimBody {
    /// `can` or `cannot`: each action at each place.
    Can {
        /// Whether it is allowed.
        allowed: bool,
        /// Which actions.
        actions: FixedBitSet,
        /// Where.
        places: Vec<ResourceId>,
    },
    /// `reaches`: on how many resources any of the actions is allowed.
    Reaches {
        /// How the count compares.
        bound: Bound,
        /// The count.
        count: u64,
        /// Of what.
        what: What,
        /// By any of these.
        actions: FixedBitSet,
    },
}

/// `guarantee`: what nobody but some, or none of some, can do.
#[derive(Clone, Debug)]
pub struct Guarantee {
    /// Its name.
    pub name: String,
    /// Where it begins.
    pub origin: Origin,
    /// Its reason.
    pub because: Option<String>,
    /// True for `only`: broken by anybody else. False for `none of`: broken by any of them.
    pub only: bool,
    /// Whom it names.
    pub who: Who,
    /// Which actions.
    pub actions: FixedBitSet,
    /// On what.
    pub what: What,
    /// What is named here and does not exist (any more), each in a few words: with any of these it cannot hold.
    pub lost: Vec<String>,
}

/// `apart`: duties that nobody may combine on the same resource.
#[derive(Clone, Debug)]
pub struct Apart {
    /// The duties.
    pub actions: FixedBitSet,
    /// On which kinds; none: all.
    pub kinds: Option<Vec<KindId>>,
    /// Where it is written.
    pub origin: Origin,
}

/// `alike`: actions that lead to the same data by different doors.
#[derive(Clone, Debug)]
pub struct Alike {
    /// The actions.
    pub actions: FixedBitSet,
    /// Where it is written.
    pub origin: Origin,
}

/// Everything that must hold.
#[derive(Clone, Default, Debug)]
pub struct Proofs {
    /// Findings that are accepted for a while, in the order of the files.
    pub waivers: Vec<Waiver>,
    /// Stand-in users, in the order of the files.
    pub personas: Vec<Persona>,
    /// Expectations, in the order of the files.
    pub expectations: Vec<Expectation>,
    /// Guarantees, in the order of the files.
    pub guarantees: Vec<Guarantee>,
    /// Duties to keep apart.
    pub apart: Vec<Apart>,
    /// Doors to the same data.
    pub alike: Vec<Alike>,
}
