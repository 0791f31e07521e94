//! Everything one run looks at, linked and typed. Only an estate without errors comes to be, so
//! whoever holds one may evaluate it.

use crate::catalog::Catalog;
use crate::groups::Groups;
use crate::ids::*;
use crate::inside::Inside;
use crate::people::People;
use crate::proof::Proofs;
use crate::schema::Schema;
use crate::statement::Statement;
use bastide_syntax::Severity;
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

/// An estate without errors. Its parts are shared: a copy that differs in a few places costs little.
#[derive(Clone)]
pub struct Estate {
    /// Its name.
    pub name: String,
    /// Names of its files, by [`bastide_syntax::FileId`].
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
    /// Rules and entries, in policy order.
    pub statements: Vec<Arc<Statement>>,
    /// What must always hold.
    pub proofs: Arc<Proofs>,
    /// What lies inside datasets.
    pub insides: Arc<Vec<Inside>>,
    /// The level of what a restriction has lost, where the manifest sets one.
    pub lost: Option<Severity>,
}

impl Estate {
    /// The dataset inside which a resource lies as a slice or a column of it.
    pub fn dataset_around(&self, resource: ResourceId) -> Option<ResourceId> {
        if self.insides.is_empty() {
            return None;
        }
        let (dataset, id) = (self.catalog.parent(resource)?, self.catalog.id(resource));
        let inside = self.insides.iter().find(|inside| inside.dataset == self.catalog.id(dataset))?;
        (inside.slice_values(id).is_some() || inside.column_name(id).is_some()).then_some(dataset)
    }

    /// `file:line` of a place.
    pub fn place(&self, origin: Origin) -> String {
        format!("{}:{}", self.files[origin.file.0 as usize], origin.line)
    }

    /// The statement of an id.
    pub fn statement(&self, id: StatementId) -> &Statement {
        &self.statements[id.index()]
    }
}
