//! Trees and rows to a typed estate. Two stages, because readers need the declared types between
//! them: [`declarations`] gives the [`Schema`], [`estate`] links everything else to it.
//!
//! What is not resolved cannot be evaluated: [`estate`] gives an [`Estate`] only where no error was
//! found by it or before it.

mod alike;
pub(crate) mod catalog;
mod contradiction;
pub(crate) mod cycles;
mod entries;
mod expression;
mod groups;
mod lost;
mod overlay;
pub(crate) mod people;
mod preorder;
mod proofs;
mod schema;
mod scope;
mod statements;
pub(crate) mod travel;
mod unused;

pub use cycles::stratification;
pub use overlay::{is_light, lay_over};
pub use schema::{Declarations, declarations};

use bastide_model::inside::Inside;
use bastide_model::rows::{CatalogRows, EntryRow, GroupRows, PeopleRows, SignInRows};
use bastide_model::{Combining, Estate, Schema, Statement};
use bastide_syntax::codes::Code;
use bastide_syntax::{Diagnostic, Diagnostics, Severity, Span, tree};
use hashbrown::HashMap;
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
    let estate = linked(parts, lines, said);
    said.retain(|one| !hollow.contains(&one.code));
    for one in said.iter_mut() {
        let level = levels.iter().find(|(code, _)| *code == one.code).map(|(_, level)| *level);
        one.level = level.or(one.level);
    }
    (!said.iter().any(Diagnostic::is_error)).then_some(estate)
}

fn linked(parts: Parts, lines: &(dyn Fn(Span) -> u32 + Sync), diagnostics: &mut Diagnostics) -> Estate {
    let Parts { mut schema, trees, .. } = parts;
    let mut people = people::build(parts.people, &schema, diagnostics);
    people::sign_ins(&mut schema, &mut people, &parts.sign_ins, diagnostics);
    let (mut of_catalog, mut of_groups) = (Diagnostics::new(), Diagnostics::new());
    let (catalog, mut groups) = rayon::join(
        || catalog::build(parts.catalog, &schema, &people, &mut of_catalog),
        || groups::build(&parts.groups, &trees, &people, lines, &mut of_groups),
    );
    diagnostics.extend(of_catalog.into_iter().chain(of_groups));
    unused::report(&trees, &schema, &parts.groups, &parts.entries, (&catalog, &parts.insides), diagnostics);
    let computed = {
        let scope = scope::Scope {
            schema: &schema,
            people: &people,
            groups: &groups,
            catalog: &catalog,
            layers: &parts.layers,
            lost: parts.lost,
            today: Some(parts.today),
            hurt: &[],
        };
        groups::computed(&scope, &trees, diagnostics)
    };
    let hurt: Vec<_> = computed.iter().filter(|(.., hurt)| *hurt).map(|(group, ..)| *group).collect();
    let computed: HashMap<_, _> = computed.into_iter().map(|(group, body, _)| (group, body)).collect();
    for (group, body) in computed {
        groups.computed[group.index()] = Some(body);
    }
    groups.close(people.len());
    if let Some((name, span)) = &parts.member_of {
        people::member_of(&mut schema, &mut people, &groups, (name, *span), diagnostics);
    }
    let scope = scope::Scope {
        schema: &schema,
        people: &people,
        groups: &groups,
        catalog: &catalog,
        layers: &parts.layers,
        lost: parts.lost,
        today: Some(parts.today),
        hurt: &hurt,
    };
    let mut statements: Vec<Arc<Statement>> =
        statements::rules(&scope, &trees, lines, diagnostics).into_iter().map(Arc::new).collect();
    statements.extend(entries::entries(&scope, &parts.entries, &parts.files, diagnostics));
    let proofs = proofs::proofs(&scope, &trees, &[], lines, diagnostics);
    cycles::groups(&groups, &trees, diagnostics);
    let estate = Estate {
        name: parts.name,
        files: parts.files,
        combining: parts.combining,
        layers: parts.layers,
        schema: Arc::new(schema),
        people: Arc::new(people),
        groups: Arc::new(groups),
        catalog: Arc::new(catalog),
        statements,
        proofs: Arc::new(proofs),
        insides: Arc::new(parts.insides),
        lost: parts.lost,
    };
    let scope = scope::Scope::of(&estate, Some(parts.today), &hurt);
    lost::values(&estate, &scope, diagnostics);
    scope::suggest(diagnostics, &scope);
    contradiction::report(&estate, diagnostics);
    // Of many that takes a while, and nobody has to wait for it.
    rayon::spawn(move || drop(parts.entries));
    estate
}
