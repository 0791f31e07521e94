//! Trees and rows to a typed estate. Two stages, because readers need the declared types between
//! them: [`declarations`] gives the [`Schema`], [`estate`] links everything else to it.
//!
//! What is not resolved cannot be evaluated: [`estate`] gives an [`Estate`] only where no error was
//! found by it or before it.
//!
//! ```
//! use bastide_resolve::declarations;
//! use bastide_syntax::{FileId, parse};
//!
//! let policy = parse(FileId(0), "kind room\naction read\naction open needs read\n");
//! let declared = declarations(&[policy.tree]);
//! assert!(declared.diagnostics.is_empty());
//! let open = &declared.schema.actions[1];
//! assert_eq!((open.name.as_str(), open.needs.len()), ("open", 1));
//!
//! // What is declared twice, or names what is not there, is told at its place.
//! let policy = parse(FileId(0), "kind room\naction open needs read\n");
//! assert_eq!(declarations(&[policy.tree]).diagnostics.len(), 1);
//! ```
//!
//! | what | gives |
//! |---|---|
//! | [`declarations`] | the [`Schema`] of policy files |
//! | [`estate`] | an [`Estate`] of [`Parts`] |
//! | [`Kept`], [`Draft`] | an estate whose rules are written while its data stays |
//! | [`Frame`] | an estate whose catalog comes in parts |
//! | [`lay_over`] | an estate with another policy text in addition |

mod alike;
mod apart;
mod catalog;
mod contradiction;
mod cycles;
mod entries;
mod expression;
mod frame;
mod groups;
mod kept;
mod literal;
mod lost;
mod overlay;
mod people;
mod preorder;
mod proofs;
mod schema;
mod scope;
mod statements;
mod travel;
mod unused;

/// What follows from data, to be worked out anew where a change touches it.
pub mod derived {
    pub use crate::catalog::barrier_depths;
    pub use crate::cycles::{computed_cycles, cycle_text};
    pub use crate::people::fill;
    pub use crate::travel::travelled;
}

pub use frame::{Frame, Met};
pub use kept::{Draft, Kept};
pub use overlay::{is_light, lay_over};
pub use schema::{Declarations, declarations};

use bastide_model::inside::Inside;
use bastide_model::rows::{CatalogRows, EntryRow, GroupRows, PeopleRows, SignInRows};
use bastide_model::{Catalog, Combining, Estate, EstateParts, GroupId, Groups, People, Schema, Statement};
use bastide_syntax::codes::Code;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Severity, Span, tree};
use jiff::civil::Date;
use std::sync::Arc;

/// Everything that was read, before it is linked.
pub struct Parts {
    /// The estate's name.
    pub name: String,
    /// Names of all files, by file id.
    pub files: Vec<String>,
    /// The combining algorithm.
    pub combining: Combining,
    /// Layers in order.
    pub layers: Vec<String>,
    /// Declarations.
    pub schema: Schema,
    /// Policy files, in byte order of their relative paths.
    pub trees: Vec<tree::File>,
    /// People.
    pub people: PeopleRows,
    /// How users sign in.
    pub sign_ins: SignInRows,
    /// Groups.
    pub groups: GroupRows,
    /// The catalog.
    pub catalog: CatalogRows,
    /// Files of it that are parts which stand on their own.
    pub apart: Vec<FileId>,
    /// What lies inside datasets.
    pub insides: Vec<Inside>,
    /// Entries, in policy order.
    pub entries: Vec<EntryRow>,
    /// The attribute of users that is to hold the groups they are in, and where that is said.
    pub member_of: Option<(String, Span)>,
    /// The level of what a restriction has lost, where the manifest sets one.
    pub lost: Option<Severity>,
    /// The day asked about.
    pub today: Date,
    /// Codes of diagnostics that are not reported: they may only be due to something that could not be read.
    pub hollow: Vec<&'static Code>,
    /// Codes of diagnostics and the levels they are reported at.
    pub levels: Vec<(&'static Code, Severity)>,
}

/// Links and types an estate. `said` is what reading it had to say, and takes up every mistake that is found; `lines` gives
/// the line (from 1) at which a span begins.
///
/// There is an estate only where no error stands in `said` in the end.
pub fn estate(parts: Parts, lines: &(dyn Fn(Span) -> u32 + Sync), said: &mut Diagnostics) -> Option<Estate> {
    let (hollow, levels) = (parts.hollow.clone(), parts.levels.clone());
    let (schema, trees, data) = data(parts, lines, said);
    let estate = data.policy(schema, &trees, Arc::clone(&data.groups), &data.hurt, lines, said, Typing::Whole);
    settled(&hollow, &levels, said);
    (!said.iter().any(Diagnostic::is_error)).then_some(estate)
}

/// Leaves out what may be due to something that could not be read, and gives the rest its level.
fn settled(hollow: &[&'static Code], levels: &[(&'static Code, Severity)], said: &mut Diagnostics) {
    said.retain(|one| !hollow.contains(&one.code));
    for one in said.iter_mut() {
        let level = levels.iter().find(|(code, _)| **code == *one.code).map(|(_, level)| *level);
        one.level = level.or(one.level);
    }
}

/// People, groups, content and entries, linked: what stays as it is while rules are written.
struct Data {
    name: String,
    files: Vec<String>,
    combining: Combining,
    layers: Vec<String>,
    people: Arc<People>,
    groups: Arc<Groups>,
    catalog: Arc<Catalog>,
    /// Files of the catalog that stand on their own.
    apart: Vec<FileId>,
    insides: Arc<Vec<Inside>>,
    entries: Vec<Arc<Statement>>,
    /// What the data uses of the declarations.
    used: unused::Used,
    /// Computed groups that name what does not exist.
    hurt: Vec<GroupId>,
    /// For how many of each code the nearest name was looked for.
    suggested: scope::Suggested,
    lost: Option<Severity>,
    today: Date,
}

/// Entries as statements.
type Entries = Vec<Arc<Statement>>;

/// How far a policy is typed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Typing {
    /// With everything it says.
    Whole,
    /// For one part of a catalog: what is expected of the whole, and what the whole leaves unused, is left aside.
    Part,
}

/// Links the data, and gives back what the policy declares.
fn data(
    parts: Parts,
    lines: &(dyn Fn(Span) -> u32 + Sync),
    diagnostics: &mut Diagnostics,
) -> (Schema, Vec<tree::File>, Data) {
    let Parts { mut schema, trees, .. } = parts;
    let mut people = people::build(parts.people, &schema, diagnostics);
    people::sign_ins(&mut schema, &mut people, &parts.sign_ins, diagnostics);
    let (mut of_catalog, mut of_groups) = (Diagnostics::new(), Diagnostics::new());
    let (catalog, mut groups) = rayon::join(
        || catalog::build(parts.catalog, &schema, &people, &parts.apart, &mut of_catalog),
        || groups::build(&parts.groups, &trees, &people, lines, &mut of_groups),
    );
    diagnostics.extend(of_catalog.into_iter().chain(of_groups));
    let used = unused::Used::of_data(&schema, &parts.groups, &parts.entries, &catalog, &parts.insides);
    let mut data = Data {
        name: parts.name,
        files: parts.files,
        combining: parts.combining,
        layers: parts.layers,
        people: Arc::default(),
        groups: Arc::default(),
        catalog: Arc::new(catalog),
        apart: parts.apart,
        insides: Arc::new(parts.insides),
        entries: Vec::new(),
        used,
        hurt: Vec::new(),
        suggested: scope::Suggested::new(),
        lost: parts.lost,
        today: parts.today,
    };
    let computed = groups::computed(&data.scope(&schema, &people, &groups, &[]), &trees, diagnostics);
    data.hurt = put(computed, &mut groups);
    groups.close(people.len());
    if let Some((name, span)) = &parts.member_of {
        people::member_of(&mut schema, &mut people, &groups, (name, *span), diagnostics);
    }
    let scope = data.scope(&schema, &people, &groups, &data.hurt);
    let rows: Vec<&EntryRow> = parts.entries.iter().collect();
    let entries = entries::entries(&scope, &rows, &data.files, diagnostics);
    let mut suggested = scope::Suggested::new();
    scope::suggest(diagnostics, &scope, &mut suggested);
    (data.entries, data.suggested) = (entries, suggested);
    (data.people, data.groups) = (Arc::new(people), Arc::new(groups));
    // Of many that takes a while, and nobody has to wait for it.
    rayon::spawn(move || drop(parts.entries));
    (schema, trees, data)
}

/// Takes the bodies of computed groups in, and gives those that name what does not exist.
fn put(computed: Vec<(GroupId, groups::Body, bool)>, groups: &mut Groups) -> Vec<GroupId> {
    let hurt = computed.iter().filter(|(.., hurt)| *hurt).map(|(group, ..)| *group).collect();
    for (group, body, _) in computed {
        groups.compute(group, body);
    }
    hurt
}

impl Data {
    fn scope<'a>(
        &'a self,
        schema: &'a Schema,
        people: &'a People,
        groups: &'a Groups,
        hurt: &'a [GroupId],
    ) -> scope::Scope<'a> {
        let (catalog, layers, lost) = (&*self.catalog, &*self.layers, self.lost);
        scope::Scope { schema, people, groups, catalog, layers, lost, today: Some(self.today), hurt }
    }

    /// Types what else the policy says, and puts everything together.
    #[expect(clippy::too_many_arguments, reason = "what is typed, with what, and how far")]
    fn policy(
        &self,
        schema: Schema,
        trees: &[tree::File],
        groups: Arc<Groups>,
        hurt: &[GroupId],
        lines: &(dyn Fn(Span) -> u32 + Sync),
        diagnostics: &mut Diagnostics,
        typing: Typing,
    ) -> Estate {
        if typing == Typing::Whole {
            unused::report(trees, &self.used, diagnostics);
        }
        let scope = self.scope(&schema, &self.people, &groups, hurt);
        let mut statements: Vec<Arc<Statement>> =
            statements::rules(&scope, trees, lines, diagnostics).into_iter().map(Arc::new).collect();
        statements.extend(self.entries.iter().cloned());
        let proofs = match typing {
            Typing::Whole => proofs::proofs(&scope, trees, &[], lines, diagnostics),
            Typing::Part => Default::default(),
        };
        cycles::groups(&groups, trees, diagnostics);
        let estate = Estate::new(EstateParts {
            name: self.name.clone(),
            files: self.files.clone(),
            combining: self.combining,
            layers: self.layers.clone(),
            schema: Arc::new(schema),
            people: Arc::clone(&self.people),
            groups,
            catalog: Arc::clone(&self.catalog),
            statements,
            proofs: Arc::new(proofs),
            insides: Arc::clone(&self.insides),
            lost: self.lost,
        });
        let scope = scope::Scope::of(&estate, Some(self.today), hurt);
        if typing == Typing::Whole {
            lost::values(&estate, &scope, diagnostics);
        }
        apart::rules(&estate, trees, &self.apart, diagnostics);
        scope::suggest(diagnostics, &scope, &mut self.suggested.clone());
        if typing == Typing::Whole {
            contradiction::report(&estate, diagnostics);
        }
        estate
    }
}
