//! The tree of a policy file. Every node knows its place; parentheses, the order of clauses and
//! quoting are kept, and comments stand in [`File::comments`], so that a formatter loses nothing.

use crate::source::{FileId, Span};

/// A whole file.
#[derive(Debug)]
pub struct File {
    /// The file.
    pub file: FileId,
    /// In the order of the text.
    pub declarations: Vec<Declaration>,
    /// Comments, `#` included.
    pub comments: Vec<Span>,
    /// Declarations that could not be read: the word they begin with, and how far they go.
    pub unread: Vec<Unread>,
}

/// A declaration that could not be read.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Unread {
    /// The word that it begins with.
    pub word: String,
    /// From there to where reading goes on.
    pub span: Span,
}

/// A name as written, unquoted.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Name {
    /// The name itself.
    pub text: String,
    /// Where it stands.
    pub span: Span,
    /// Whether it stands in quotes.
    pub quoted: bool,
}

/// A quoted text. `raw` keeps its backslashes, for patterns and paths.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Text {
    /// What it stands for.
    pub text: String,
    /// Between the quotes, as written.
    pub raw: String,
    /// Where it stands, quotes included.
    pub span: Span,
}

/// A date as written; whether the calendar has it is asked later.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct DateText {
    /// Year, month and day.
    pub text: String,
    /// Where it stands.
    pub span: Span,
}

/// One declaration.
#[derive(Debug)]
pub enum Declaration {
    /// `kind`
    Kind(Kind),
    /// `action`
    Action(Action),
    /// `type`
    Type(Type),
    /// `attribute`
    Attribute(Attribute),
    /// `role`
    Role(Role),
    /// `group`
    Group(Group),
    /// `rule`
    Rule(Rule),
    /// `apart`
    Apart(Apart),
    /// `alike`
    Alike(Alike),
    /// `expect`
    Expect(Expect),
    /// See [`Persona`].
    Persona(Persona),
    /// See [`Waive`].
    Waive(Waive),
    /// `guarantee`
    Guarantee(Guarantee),
}

impl Declaration {
    /// The whole of it.
    pub fn span(&self) -> Span {
        match self {
            Declaration::Kind(d) => d.span,
            Declaration::Action(d) => d.span,
            Declaration::Type(d) => d.span,
            Declaration::Attribute(d) => d.span,
            Declaration::Role(d) => d.span,
            Declaration::Group(d) => d.span,
            Declaration::Rule(d) => d.span,
            Declaration::Apart(d) => d.span,
            Declaration::Alike(d) => d.span,
            Declaration::Expect(d) => d.span,
            Declaration::Persona(d) => d.span,
            Declaration::Waive(d) => d.span,
            Declaration::Guarantee(d) => d.span,
        }
    }

    /// The sort of it and its name, where it has one.
    pub fn name(&self) -> Option<(&'static str, &str)> {
        Some(match self {
            Declaration::Kind(d) => ("kind", &d.name.text),
            Declaration::Action(d) => ("action", &d.name.text),
            Declaration::Type(d) => ("type", &d.name.text),
            Declaration::Attribute(d) => ("attribute", &d.name.text),
            Declaration::Role(d) => ("role", &d.name.text),
            Declaration::Group(d) => ("group", &d.name.text),
            Declaration::Rule(d) => ("rule", &d.name.text),
            Declaration::Expect(d) => ("expect", &d.name.text),
            Declaration::Persona(d) => ("persona", &d.name.text),
            Declaration::Guarantee(d) => ("guarantee", &d.name.text),
            Declaration::Apart(_) | Declaration::Alike(_) | Declaration::Waive(_) => return None,
        })
    }

    /// Whether both declare the same thing: one can take the place of the other.
    pub fn is_same(&self, other: &Declaration) -> bool {
        self.name().is_some() && self.name() == other.name()
    }
}

/// `kind K in A, B is C`
#[derive(Debug)]
pub struct Kind {
    /// Its name.
    pub name: Name,
    /// Kinds that may contain it.
    pub containers: Vec<Name>,
    /// The kind it is a sub-kind of.
    pub base: Option<Name>,
    /// The whole declaration.
    pub span: Span,
}

/// `action A on K needs B on parent`
#[derive(Debug)]
pub struct Action {
    /// Its name.
    pub name: Name,
    /// Kinds it is meaningful for; none given: all.
    pub on: Vec<Name>,
    /// What it needs.
    pub needs: Vec<Need>,
    /// The whole declaration.
    pub span: Span,
}

/// One need: an action on a target.
#[derive(Debug)]
pub struct Need {
    /// The action needed.
    pub action: Name,
    /// Where; none given: on the resource itself.
    pub target: Option<Target>,
}

/// A target of a need or of `holds`.
#[derive(Debug)]
pub enum Target {
    /// `self`
    Own(Span),
    /// `parent`
    Parent(Span),
    /// `source`
    Source(Span),
    /// The nearest resource of a kind.
    Kind(Name),
    /// A place by its path (`holds` only).
    Path(Text),
}

/// `type T = ...`
#[derive(Debug)]
pub struct Type {
    /// Its name.
    pub name: Name,
    /// Whether it is a scale.
    pub scale: bool,
    /// Its values, lowest first in a scale.
    pub values: Vec<Name>,
    /// The whole declaration.
    pub span: Span,
}

/// `attribute A of user: text`
#[derive(Debug)]
pub struct Attribute {
    /// Its name.
    pub name: Name,
    /// `user`, `resource`, `session` or kinds.
    pub domains: Vec<Name>,
    /// Whether it holds a set.
    pub set: bool,
    /// The name of its (element) type.
    pub value_type: Name,
    /// The default.
    pub default: Option<Literal>,
    /// `inherit`
    pub inherit: Option<Span>,
    /// `highest`
    pub highest: Option<Span>,
    /// `required`
    pub required: Option<Span>,
    /// `caseless`
    pub caseless: Option<Span>,
    /// The whole declaration.
    pub span: Span,
}

/// `everything` or a list of actions and roles.
#[derive(Debug)]
pub enum Items {
    /// `everything`
    Everything(Span),
    /// Names.
    Names(Vec<Name>),
}

/// `role R = ...`
#[derive(Debug)]
pub struct Role {
    /// Its name.
    pub name: Name,
    /// What it lists.
    pub items: Items,
    /// `locked`
    pub locked: Option<Span>,
    /// `off`
    pub off: Option<Span>,
    /// The whole declaration.
    pub span: Span,
}

/// A computed group.
#[derive(Debug)]
pub struct Group {
    /// Its name.
    pub name: Name,
    /// What makes its members.
    pub body: GroupBody,
    /// The whole declaration.
    pub span: Span,
}

/// What makes the members of a computed group.
#[derive(Debug)]
pub enum GroupBody {
    /// A who-clause over all users.
    Who(Who),
    /// Everybody who holds an action on a place.
    Holders(Name, Place),
}

/// `rule R { ... }`
#[derive(Debug)]
pub struct Rule {
    /// Its name.
    pub name: Name,
    /// `off`
    pub off: Option<Span>,
    /// In the order of the text.
    pub clauses: Vec<Clause>,
    /// The whole declaration.
    pub span: Span,
}

/// A clause of a rule, with the span of its whole text.
#[derive(Debug)]
pub struct Clause {
    /// What it says.
    pub body: ClauseBody,
    /// The whole clause, keyword included.
    pub span: Span,
}

/// What a clause says.
#[derive(Debug)]
pub enum ClauseBody {
    /// `because`
    Because(Text),
    /// `layer`
    Layer(Name),
    /// `who`
    Who(Who),
    /// `may ...`
    May(Modality, Items),
    /// `what`
    What(What),
    /// `while`
    While(Expr),
    /// `from`
    From(DateText),
    /// `until`
    Until(DateText),
}

/// The five modalities.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Modality {
    /// Permits.
    May,
    /// Denies; weighed against `may` by the combining algorithm.
    MayNot,
    /// Permits, and no `may not` can take it away.
    MayAlways,
    /// Prohibits; nothing can give it back.
    MayNever,
    /// Prohibits every action it does not list.
    MayOnly,
}

impl Modality {
    /// As the language writes it.
    pub fn words(self) -> &'static str {
        match self {
            Modality::May => "may",
            Modality::MayNot => "may not",
            Modality::MayAlways => "may always",
            Modality::MayNever => "may never",
            Modality::MayOnly => "may only",
        }
    }

    /// The five, in the order of the language reference.
    pub const ALL: [Modality; 5] =
        [Modality::May, Modality::MayNot, Modality::MayAlways, Modality::MayNever, Modality::MayOnly];

    /// Whether it gives (`may`, `may always`) rather than takes.
    pub fn permits(self) -> bool {
        matches!(self, Modality::May | Modality::MayAlways)
    }
}

/// A who-clause.
#[derive(Debug)]
pub struct Who {
    /// Its terms.
    pub terms: Vec<Term>,
    /// For each term, whether its word (`user`, `members of`) is written; otherwise it goes on the
    /// list before it.
    pub worded: Vec<bool>,
    /// `where`
    pub condition: Option<Expr>,
    /// The whole of it.
    pub span: Span,
}

/// A term of a who-clause.
#[derive(Debug)]
pub enum Term {
    /// `anyone`
    Anyone(Span),
    /// `owner`
    Owner(Span),
    /// `user U`
    User(Name),
    /// `members of G`
    Members(Name),
}

/// A what-clause.
#[derive(Debug)]
pub struct What {
    /// Its kinds; none: `anything`.
    pub kinds: Option<Vec<Name>>,
    /// Its places, if any.
    pub places: Option<(Reach, Vec<Place>)>,
    /// `where`
    pub condition: Option<Expr>,
    /// The whole of it.
    pub span: Span,
}

/// How a place reaches.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Reach {
    /// The place and everything beneath it.
    Under,
    /// Everything beneath it.
    Below,
    /// The place alone.
    At,
}

impl Reach {
    /// As the language writes it.
    pub fn word(self) -> &'static str {
        match self {
            Reach::Under => "under",
            Reach::Below => "below",
            Reach::At => "at",
        }
    }
}

/// A place.
#[derive(Debug)]
pub enum Place {
    /// By path; segments may hold `*`.
    Path(Text),
    /// By id.
    Id(Text),
}

impl Place {
    /// Where it stands.
    pub fn span(&self) -> Span {
        match self {
            Place::Path(text) | Place::Id(text) => text.span,
        }
    }
}

/// `apart A, B on K`
#[derive(Debug)]
pub struct Apart {
    /// The duties.
    pub actions: Vec<Name>,
    /// On which kinds; none given: all.
    pub on: Vec<Name>,
    /// The whole declaration.
    pub span: Span,
}

/// `alike A, B`
#[derive(Debug)]
pub struct Alike {
    /// The actions that lead to the same data.
    pub actions: Vec<Name>,
    /// The whole declaration.
    pub span: Span,
}

/// `expect E { ... }`
#[derive(Debug)]
pub struct Expect {
    /// Its name.
    pub name: Name,
    /// In the order of the text.
    pub clauses: Vec<ExpectClause>,
    /// The whole declaration.
    pub span: Span,
}

/// A clause of an expectation, with the span of its whole text.
#[derive(Debug)]
pub struct ExpectClause {
    /// What it says.
    pub body: ExpectClauseBody,
    /// The whole clause, keyword included.
    pub span: Span,
}

/// What a clause of an expectation says.
#[derive(Debug)]
pub enum ExpectClauseBody {
    /// `because`
    Because(Text),
    /// `user`
    User(Name),
    /// `on`
    On(DateText),
    /// `session`
    Session(Vec<(Name, Values)>),
    /// `can` (true) or `cannot` (false).
    Can(bool, Items, Vec<Place>),
    /// `reaches`
    Reaches {
        /// How the count compares.
        bound: Bound,
        /// The number, as written.
        count: String,
        /// Where the number stands.
        at: Span,
        /// Of what.
        what: What,
        /// By which actions.
        by: Items,
    },
}

/// How a count is bounded.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Bound {
    /// `exactly`
    Exactly,
    /// `at least`
    AtLeast,
    /// `at most`
    AtMost,
}

/// `persona P { ... }`: a stand-in user for expectations.
#[derive(Debug)]
pub struct Persona {
    /// Its name, by which expectations speak of it.
    pub name: Name,
    /// In the order of the text.
    pub clauses: Vec<PersonaClause>,
    /// The whole declaration.
    pub span: Span,
}

/// A clause of a persona, with the span of its whole text.
#[derive(Debug)]
pub struct PersonaClause {
    /// What it says.
    pub body: PersonaClauseBody,
    /// The whole clause, keyword included.
    pub span: Span,
}

/// What a clause of a persona says.
#[derive(Debug)]
pub enum PersonaClauseBody {
    /// `because`
    Because(Text),
    /// `member of`
    Member(Vec<Name>),
    /// `has`
    Has(Vec<(Name, Values)>),
}

/// `waive F { ... }`: a finding of the audit that is accepted for a while.
#[derive(Debug)]
pub struct Waive {
    /// The finding's name.
    pub name: Name,
    /// In the order of the text.
    pub clauses: Vec<WaiveClause>,
    /// The whole declaration.
    pub span: Span,
}

/// A clause of a waiver, with the span of its whole text.
#[derive(Debug)]
pub struct WaiveClause {
    /// What it says.
    pub body: WaiveClauseBody,
    /// The whole clause, keyword included.
    pub span: Span,
}

/// What a clause of a waiver says.
#[derive(Debug)]
pub enum WaiveClauseBody {
    /// `because`
    Because(Text),
    /// `of`: what the finding is about; `*` stands for anything.
    Of(Vec<Name>),
    /// `until`
    Until(DateText),
}

/// `guarantee G { ... }`
#[derive(Debug)]
pub struct Guarantee {
    /// Its name.
    pub name: Name,
    /// In the order of the text.
    pub clauses: Vec<GuaranteeClause>,
    /// The whole declaration.
    pub span: Span,
}

/// A clause of a guarantee, with the span of its whole text.
#[derive(Debug)]
pub struct GuaranteeClause {
    /// What it says.
    pub body: GuaranteeClauseBody,
    /// The whole clause, keyword included.
    pub span: Span,
}

/// What a clause of a guarantee says.
#[derive(Debug)]
pub enum GuaranteeClauseBody {
    /// `because`
    Because(Text),
    /// `only`
    Only(Who),
    /// `none of`
    NoneOf(Who),
    /// `can`
    Can(Items),
    /// `what`
    What(What),
}

/// An expression and its place.
#[derive(Debug)]
pub struct Expr {
    /// What it says.
    pub body: ExprBody,
    /// The whole of it.
    pub span: Span,
}

/// What an expression says.
#[derive(Debug)]
pub enum ExprBody {
    /// `a or b or c`
    Or(Vec<Expr>),
    /// `a and b and c`
    And(Vec<Expr>),
    /// `not a`
    Not(Box<Expr>),
    /// `(a)`
    Group(Box<Expr>),
    /// `holds A on TARGET`
    Holds(Box<(Name, Target)>),
    /// `user member of G`
    MemberOf(Name),
    /// `user is owner`
    IsOwner,
    /// A flag by itself.
    Flag(Operand),
    /// `a is set` and its like.
    Is(Operand, Test),
    /// `a like "..."`
    Like(Operand, Box<Text>),
    /// `a = b` and its like.
    Compare(Operand, Comparison, Operand),
    /// `a in s` and its like.
    Sets(Operand, SetRelation, Box<SetOperand>),
}

/// Tests of presence.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Test {
    /// `is set`
    Set,
    /// `is missing`
    Missing,
    /// `is empty`
    Empty,
}

/// Comparisons of single values.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Comparison {
    /// `=`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterEqual,
}

impl Comparison {
    /// As the language writes it.
    pub fn sign(self) -> &'static str {
        match self {
            Comparison::Equal => "=",
            Comparison::NotEqual => "!=",
            Comparison::Less => "<",
            Comparison::LessEqual => "<=",
            Comparison::Greater => ">",
            Comparison::GreaterEqual => ">=",
        }
    }

    /// The same with its sides exchanged.
    pub fn turned(self) -> Comparison {
        match self {
            Comparison::Less => Comparison::Greater,
            Comparison::LessEqual => Comparison::GreaterEqual,
            Comparison::Greater => Comparison::Less,
            Comparison::GreaterEqual => Comparison::LessEqual,
            Comparison::Equal | Comparison::NotEqual => self,
        }
    }
}

/// Relations with a set on the right.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum SetRelation {
    /// `in`
    In,
    /// `overlaps`
    Overlaps,
    /// `covers`
    Covers,
}

impl SetRelation {
    /// As the language writes it.
    pub fn word(self) -> &'static str {
        match self {
            SetRelation::In => "in",
            SetRelation::Overlaps => "overlaps",
            SetRelation::Covers => "covers",
        }
    }
}

/// The right side of a set relation.
#[derive(Debug)]
pub enum SetOperand {
    /// An attribute.
    Operand(Operand),
    /// `(a, b)`
    Values(Values),
}

/// One literal or a list in parentheses.
#[derive(Debug)]
pub struct Values {
    /// The literals.
    pub literals: Vec<Literal>,
    /// Whether they stand in parentheses.
    pub list: bool,
    /// The whole of it.
    pub span: Span,
}

/// One side of a comparison.
#[derive(Debug)]
pub struct Operand {
    /// What it is.
    pub body: OperandBody,
    /// Where it stands.
    pub span: Span,
}

/// What an operand is.
#[derive(Debug)]
pub enum OperandBody {
    /// `user.site`
    Member(Box<Member>),
    /// `today + 30 days`
    Today(Today),
    /// A literal.
    Literal(Box<Literal>),
}

/// `today`, some days later or earlier.
#[derive(Debug)]
pub struct Today {
    /// The offset in days.
    pub days: i64,
    /// As it is written, blanks evened out.
    pub raw: String,
}

/// `resource.parent.state` cut into its parts.
#[derive(Debug)]
pub struct Member {
    /// As it is written.
    pub raw: String,
    /// `user`, `resource` or `session`.
    pub domain: Domain,
    /// `parent` or a kind, between domain and attribute.
    pub step: Option<Name>,
    /// The attribute.
    pub attribute: Name,
}

/// Whose attribute.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Domain {
    /// The user's.
    User,
    /// The resource's.
    Resource,
    /// The session's.
    Session,
}

/// A literal; what it means is decided by the type of the other side.
#[derive(Debug)]
pub struct Literal {
    /// What it is.
    pub body: LiteralBody,
    /// Where it stands.
    pub span: Span,
}

/// What a literal is.
#[derive(Debug)]
pub enum LiteralBody {
    /// Quoted.
    Text(Text),
    /// A number, sign included, as written.
    Number(String),
    /// A date, as written.
    Date(String),
    /// A bare word.
    Word(String),
}
