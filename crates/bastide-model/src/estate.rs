//! Everything one run looks at, linked and typed. Only an estate without errors comes to be, so
//! whoever holds one may evaluate it.

use crate::catalog::Catalog;
use crate::condition::Term;
use crate::groups::Groups;
use crate::groups::{Computed, Member, places};
use crate::ids::*;
use crate::inside::Inside;
use crate::people::People;
use crate::proof::Proofs;
use crate::schema::Schema;
use crate::statement::{Sort, Statement};
use bastide_syntax::{FileId, Severity};
use std::sync::Arc;

/// How the `may` and `may not` that remain are weighed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Combining {
    /// Any `may not` wins.
    DenyOverrides,
    /// Any `may` wins.
    PermitOverrides,
    /// The deepest place wins; on a tie `may not`.
    NearestOverrides,
    /// The first in policy order wins.
    FirstApplicable,
}

impl Combining {
    /// The four, as the manifest names them.
    pub const NAMES: [(&'static str, Combining); 4] = [
        ("deny-overrides", Combining::DenyOverrides),
        ("permit-overrides", Combining::PermitOverrides),
        ("nearest-overrides", Combining::NearestOverrides),
        ("first-applicable", Combining::FirstApplicable),
    ];

    /// As the manifest names it.
    pub fn name(self) -> &'static str {
        Self::NAMES.iter().find(|(_, c)| *c == self).expect("all four are listed").0
    }
}

/// What an estate is put together from.
#[derive(Clone)]
pub struct EstateParts {
    /// Its name.
    pub name: String,
    /// Names of its files, by [`FileId`].
    pub files: Vec<String>,
    /// The combining algorithm.
    pub combining: Combining,
    /// Layers in order; empty where the estate has none.
    pub layers: Vec<String>,
    /// Declarations.
    pub schema: Arc<Schema>,
    /// Users.
    pub people: Arc<People>,
    /// Groups.
    pub groups: Arc<Groups>,
    /// Resources.
    pub catalog: Arc<Catalog>,
    /// Rules, then entries, in policy order.
    pub statements: Vec<Arc<Statement>>,
    /// What must always hold.
    pub proofs: Arc<Proofs>,
    /// What lies inside datasets.
    pub insides: Arc<Vec<Inside>>,
    /// The level of what a restriction has lost, where the manifest sets one.
    pub lost: Option<Severity>,
}

/// An estate without errors. Its parts are shared: a copy that differs in a few places costs little.
///
/// Whatever it is made from and however it is changed: each attribute that is declared has its column, and every user,
/// group, resource, action, kind and layer that something names is there.
#[derive(Clone)]
pub struct Estate(EstateParts);

impl Estate {
    /// Puts an estate together. Cost: statements, members of groups, attributes and owners, each looked at once.
    ///
    /// # Panics
    /// A part names what another one does not have, an attribute has no column, or a rule stands behind an entry.
    pub fn new(parts: EstateParts) -> Estate {
        let estate = Estate(parts);
        assert_eq!(estate.0.people.attributes().len(), estate.0.schema.user_attributes.len(), "a column an attribute");
        assert_eq!(
            estate.0.catalog.attributes.len(),
            estate.0.schema.resource_attributes.len(),
            "a column an attribute"
        );
        assert!(estate.0.catalog.owner_users.iter().flatten().all(|user| estate.has_user(*user)), "owners are users");
        estate.sees_groups();
        assert!(estate.0.statements.is_sorted_by_key(|s| s.sort == Sort::Entry), "rules stand before entries");
        estate.0.statements.iter().for_each(|statement| estate.sees(statement));
        estate
    }

    /// The same estate with other statements.
    ///
    /// # Panics
    /// As [`Estate::new`].
    pub fn with_statements(&self, statements: Vec<Arc<Statement>>) -> Estate {
        assert!(statements.is_sorted_by_key(|s| s.sort == Sort::Entry), "rules stand before entries");
        statements.iter().for_each(|statement| self.sees(statement));
        Estate(EstateParts { statements, ..self.0.clone() })
    }

    /// The same estate with other people, and groups of them.
    ///
    /// # Panics
    /// As [`Estate::new`]; or groups are not closed for these people ([`Groups::close`]).
    pub fn with_people(&self, people: People, groups: Groups) -> Estate {
        assert_eq!(people.attributes().len(), self.0.schema.user_attributes.len(), "a column an attribute");
        assert!(people.len() >= self.0.people.len(), "nobody goes whom something may name");
        let whole = Estate(EstateParts { people: Arc::new(people), groups: Arc::new(groups), ..self.0.clone() });
        whole.sees_groups();
        whole
    }

    /// The same estate with these users alone, in order, each with the place in the list as number. Statements and groups
    /// that name somebody else name nobody, and a resource that somebody else owns is owned by no user. What these users
    /// may do is the same in both: no decision looks at another user. So a user may be listed several times, and is there as
    /// often ([`People::copies`]), to be changed in several ways that touch nobody else.
    pub fn restricted_to(&self, users: &[UserId]) -> Estate {
        let numbers = |user: UserId| places(users, user);
        let id = |user: UserId| self.0.people.id(user).to_string();
        let mut few = self.clone();
        few.0.people = Arc::new(self.0.people.restricted_to(users));
        few.0.groups = Arc::new(self.0.groups.restricted_to(users, id));
        for owner in &mut Arc::make_mut(&mut few.0.catalog).owner_users {
            *owner = owner.and_then(|owner| numbers(owner).next().map(UserId));
        }
        for statement in &mut few.0.statements {
            if statement.who.terms.iter().any(|term| matches!(term, Term::User(_))) {
                Arc::make_mut(statement).who.renumber(numbers, id);
            }
        }
        few
    }

    /// What it was put together from, to be put together otherwise.
    pub fn into_parts(self) -> EstateParts {
        self.0
    }

    fn has_user(&self, user: UserId) -> bool {
        user.index() < self.0.people.len()
    }

    fn sees_groups(&self) {
        let groups = &self.0.groups;
        assert_eq!(groups.closed_for(), self.0.people.len(), "groups are closed for these people");
        let known = |member: Member| match member {
            Member::User(user) => self.has_user(user),
            Member::Group(group) => group.index() < groups.len(),
        };
        assert!(groups.all().all(|group| groups.members(group).iter().all(|m| known(m.member))), "members are there");
        let computed = |body: &Computed| match body {
            Computed::Who(who) => self.has_all(&who.terms),
            Computed::Holders(action, places) => {
                action.index() < self.0.schema.actions.len() && places.iter().all(|r| r.index() < self.0.catalog.len())
            }
        };
        assert!(groups.bodies().all(computed), "what makes a group is there");
    }

    fn has_all(&self, terms: &[Term]) -> bool {
        terms.iter().all(|term| match term {
            Term::User(user) => self.has_user(*user),
            Term::Members(group) => group.index() < self.0.groups.len(),
            Term::Anyone | Term::Owner | Term::Nobody(_) => true,
        })
    }

    /// Whether all that a statement names beside its conditions is there; these were typed with what there is.
    fn sees(&self, statement: &Statement) {
        let name = &statement.name;
        let actions = statement.actions.maximum().is_none_or(|last| last < self.0.schema.actions.len());
        assert!(actions, "`{name}` speaks of declared actions");
        assert!(
            // One past the last is that of all who name none.
            statement.layer.is_none_or(|layer| layer.index() <= self.0.layers.len()),
            "the layer of `{name}` is there"
        );
        assert!(self.has_all(&statement.who.terms), "`{name}` names users and groups that are there");
        let kinds = statement.what.kinds.iter().flatten().all(|kind| kind.index() < self.0.schema.kinds.len());
        let places = statement.what.places.iter().flatten().all(|p| p.resource.index() < self.0.catalog.len());
        assert!(kinds && places, "`{name}` names kinds and places that are there");
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.0.name
    }

    /// Names of its files, by [`FileId`].
    pub fn files(&self) -> &[String] {
        &self.0.files
    }

    /// The combining algorithm.
    pub fn combining(&self) -> Combining {
        self.0.combining
    }

    /// Layers in order; empty where the estate has none.
    pub fn layers(&self) -> &[String] {
        &self.0.layers
    }

    /// Declarations.
    pub fn schema(&self) -> &Arc<Schema> {
        &self.0.schema
    }

    /// Users.
    pub fn people(&self) -> &Arc<People> {
        &self.0.people
    }

    /// Groups.
    pub fn groups(&self) -> &Arc<Groups> {
        &self.0.groups
    }

    /// Resources.
    pub fn catalog(&self) -> &Arc<Catalog> {
        &self.0.catalog
    }

    /// Rules, then entries, in policy order.
    pub fn statements(&self) -> &[Arc<Statement>] {
        &self.0.statements
    }

    /// What must always hold.
    pub fn proofs(&self) -> &Arc<Proofs> {
        &self.0.proofs
    }

    /// What lies inside datasets.
    pub fn insides(&self) -> &Arc<Vec<Inside>> {
        &self.0.insides
    }

    /// The level of what a restriction has lost, where the manifest sets one.
    pub fn lost(&self) -> Option<Severity> {
        self.0.lost
    }

    /// The statement of an id.
    pub fn statement(&self, id: StatementId) -> &Statement {
        &self.0.statements[id.index()]
    }

    /// `file:line` of a place.
    pub fn place(&self, origin: Origin) -> String {
        format!("{}:{}", self.0.files[origin.file.0 as usize], origin.line)
    }

    /// The dataset inside which a resource lies as a slice or a column of it.
    pub fn dataset_around(&self, resource: ResourceId) -> Option<ResourceId> {
        if self.0.insides.is_empty() {
            return None;
        }
        let (dataset, id) = (self.0.catalog.parent(resource)?, self.0.catalog.id(resource));
        let inside = self.0.insides.iter().find(|inside| inside.dataset == self.0.catalog.id(dataset))?;
        (inside.slice_values(id).is_some() || inside.column_name(id).is_some()).then_some(dataset)
    }

    /// The number of a file, which is added where it is not there.
    pub fn file(&mut self, name: &str) -> FileId {
        let at = self.0.files.iter().position(|file| file == name).unwrap_or_else(|| {
            self.0.files.push(name.to_string());
            self.0.files.len() - 1
        });
        FileId(at as u32)
    }

    /// Names its files, of which those that there were come first.
    ///
    /// # Panics
    /// There are fewer than before.
    pub fn set_files(&mut self, files: Vec<String>) {
        assert!(files.len() >= self.0.files.len(), "no file goes that something may stand in");
        self.0.files = files;
    }

    /// Adds an entry behind all others.
    ///
    /// # Panics
    /// It is a rule, or names what is not there.
    pub fn add_entry(&mut self, entry: Statement) {
        assert_eq!(entry.sort, Sort::Entry, "`{}` is an entry", entry.name);
        self.sees(&entry);
        self.0.statements.push(Arc::new(entry));
    }

    /// A statement, to be changed: what it names then must be there.
    pub fn statement_mut(&mut self, id: StatementId) -> &mut Statement {
        Arc::make_mut(&mut self.0.statements[id.index()])
    }

    /// People, whose values change; nobody comes or goes.
    pub fn people_mut(&mut self) -> &mut People {
        Arc::make_mut(&mut self.0.people)
    }

    /// Groups, whose members change. [`Groups::close`] is to follow, for as many users as there are.
    pub fn groups_mut(&mut self) -> &mut Groups {
        Arc::make_mut(&mut self.0.groups)
    }

    /// The catalog, whose values change; no resource comes or goes, and owners are users.
    pub fn catalog_mut(&mut self) -> &mut Catalog {
        Arc::make_mut(&mut self.0.catalog)
    }

    /// What must always hold, to be changed.
    pub fn proofs_mut(&mut self) -> &mut Proofs {
        Arc::make_mut(&mut self.0.proofs)
    }
}
