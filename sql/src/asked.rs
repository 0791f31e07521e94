//! What a question wants of the engine: conditions on single columns, evaluated over what these columns can hold.
//!
//! A condition on users is evaluated once over all users, one on resources once over those of a piece, and so on; what it
//! leaves are sets that the engine takes ([`Asked`]). So any function of SQL may stand in it, and joins hand down what they
//! know of a column in the same way.

use crate::ground::View;
use crate::small::reasons;
use bastide_engine::access::Asked;
use bastide_engine::find;
use bastide_model::{ResourceId, StatementId};
use datafusion::arrow::array::{Array, ArrayRef, BooleanArray, RecordBatch, RecordBatchOptions};
use datafusion::arrow::datatypes::{DataType, Field, Schema};
use datafusion::common::tree_node::{Transformed, TreeNode, TreeNodeRecursion};
use datafusion::error::Result;
use datafusion::logical_expr::{Expr, LogicalPlan};
use datafusion::physical_expr::PhysicalExpr;
use datafusion::physical_expr::expressions::Column;
use datafusion::physical_expr::utils::{reassign_expr_columns, split_conjunction};
use datafusion::physical_expr_common::physical_expr::{is_volatile, snapshot_physical_expr};
use fixedbitset::FixedBitSet;
use std::collections::HashSet;
use std::sync::Arc;

/// The name of the function that says whether a resource lies in a place, or is it.
pub const UNDER: &str = "under";

/// The name of a column that says whether a resource lies in a place.
pub fn under_column(place: &str) -> String {
    format!("{UNDER} {place}")
}

/// Columns of `access` that one thing decides on.
const GROUPS: [&[&str]; 5] = [&["user"], &["resource", "kind"], &["action"], &["decision", "reason"], &["statement"]];
/// Those of `resources`.
const CONTENT: [&[&str]; 1] = [&["id", "kind"]];

/// Whether the engine takes a condition, exactly.
pub fn takes(expr: &Expr, content: bool) -> bool {
    let expr = plain_under(expr, content).map(|(expr, _)| expr);
    let Ok(expr) = expr else { return false };
    let mut fits = !expr.is_volatile();
    let _ = expr.apply(|inner| {
        if matches!(
            inner,
            Expr::InSubquery(_) | Expr::Exists(_) | Expr::ScalarSubquery(_) | Expr::OuterReferenceColumn(..)
        ) {
            fits = false;
        }
        if let Expr::ScalarFunction(function) = inner {
            // What is left of it lies in no place that could be told beforehand.
            fits &= function.func.name() != UNDER;
        }
        Ok(TreeNodeRecursion::Continue)
    });
    let columns: HashSet<String> = expr.column_refs().iter().map(|column| column.name.clone()).collect();
    let groups: &[&[&str]] = if content { &CONTENT } else { &GROUPS };
    let is_place = |name: &str| name.strip_prefix(UNDER).is_some_and(|rest| rest.starts_with(' '));
    let within = |group: &&[&str]| {
        columns.iter().all(|name| group.contains(&name.as_str()) || (group.contains(&"kind") && is_place(name)))
    };
    fits && !columns.is_empty() && groups.iter().any(within)
}

/// A condition in which `under(COLUMN, 'PLACE')` is a column that is known of every resource, and the places.
///
/// # Errors
/// None that is known.
pub fn plain_under(expr: &Expr, content: bool) -> Result<(Expr, Vec<String>)> {
    let wanted = if content { "id" } else { "resource" };
    let mut places = Vec::new();
    let expr = expr.clone().transform(|inner| {
        if let Expr::ScalarFunction(function) = &inner
            && function.func.name() == UNDER
            && let [Expr::Column(column), Expr::Literal(place, _)] = function.args.as_slice()
            && column.name == wanted
            && let Some(Some(place)) = place.try_as_str()
        {
            places.push(place.to_string());
            let column = datafusion::common::Column { name: under_column(place), ..column.clone() };
            return Ok(Transformed::yes(Expr::Column(column)));
        }
        Ok(Transformed::no(inner))
    })?;
    Ok((expr.data, places))
}

/// The columns that a condition names.
fn named(expr: &Arc<dyn PhysicalExpr>) -> HashSet<String> {
    let mut names = HashSet::new();
    let _ = expr.apply(|inner| {
        if let Some(column) = inner.downcast_ref::<Column>() {
            names.insert(column.name().to_string());
        }
        Ok(TreeNodeRecursion::Continue)
    });
    names
}

/// Conditions, each on columns of one group.
#[derive(Clone, Default)]
pub struct Conditions {
    parts: Vec<(HashSet<String>, Arc<dyn PhysicalExpr>)>,
}

impl Conditions {
    /// Of conditions that hold together: those that name some columns that are given here are used, all others are somebody
    /// else's.
    ///
    /// # Errors
    /// What a join knows cannot be told.
    pub fn of(exact: &[Arc<dyn PhysicalExpr>], of_joins: &[Arc<dyn PhysicalExpr>]) -> Result<Conditions> {
        let mut parts = Vec::new();
        for expr in exact {
            parts.push((named(expr), Arc::clone(expr)));
        }
        for expr in of_joins {
            let now = snapshot_physical_expr(Arc::clone(expr))?;
            for part in split_conjunction(&now) {
                // What is another each time is asked once, where it stands.
                if is_volatile(part) {
                    continue;
                }
                parts.push((named(part), Arc::clone(part)));
            }
        }
        Ok(Conditions { parts })
    }

    /// Whether anything is said of these columns.
    fn speaks_of(&self, names: &[&str]) -> bool {
        self.parts.iter().any(|(of, _)| of.iter().all(|name| names.contains(&name.as_str())))
    }

    /// Of values side by side, those that fit; none where nothing is said of them.
    fn mask(&self, columns: &[(&str, ArrayRef)]) -> Result<Option<FixedBitSet>> {
        let names: Vec<&str> = columns.iter().map(|(name, _)| *name).collect();
        let length = columns[0].1.len();
        let mut found: Option<FixedBitSet> = None;
        let field = |(name, array): &(&str, ArrayRef)| Field::new(*name, array.data_type().clone(), true);
        let schema = Arc::new(Schema::new(columns.iter().map(field).collect::<Vec<_>>()));
        let arrays: Vec<ArrayRef> = columns.iter().map(|(_, array)| Arc::clone(array)).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(length));
        let batch = RecordBatch::try_new_with_options(Arc::clone(&schema), arrays, &options)?;
        for (of, expr) in &self.parts {
            if !of.iter().all(|name| names.contains(&name.as_str())) {
                continue;
            }
            let expr = reassign_expr_columns(Arc::clone(expr), &schema)?;
            let value = expr.evaluate(&batch)?.into_array(length)?;
            let mut fits = FixedBitSet::with_capacity(length);
            if let Some(flags) = value.as_any().downcast_ref::<BooleanArray>() {
                (0..length).filter(|at| flags.is_valid(*at) && flags.value(*at)).for_each(|at| fits.insert(at));
            }
            match &mut found {
                Some(found) => found.intersect_with(&fits),
                None => found = Some(fits),
            }
        }
        Ok(found)
    }
}

/// What is wanted of an estate, whatever piece of it is at hand.
pub struct Wants {
    conditions: Conditions,
    unders: Vec<String>,
    users: Option<FixedBitSet>,
    actions: Option<FixedBitSet>,
    reasons: Option<FixedBitSet>,
    /// Whether nobody can fit.
    nothing: bool,
}

impl Wants {
    /// Of conditions on `access`.
    ///
    /// # Errors
    /// A condition cannot be evaluated.
    pub fn new(conditions: Conditions, unders: &[String], users: &ArrayRef, actions: &ArrayRef) -> Result<Wants> {
        let said = |columns: &[(&str, ArrayRef)]| conditions.mask(columns);
        let users = said(&[("user", Arc::clone(users))])?;
        let actions = said(&[("action", Arc::clone(actions))])?;
        let (decision, reason) = reasons();
        let reasons = said(&[("decision", decision), ("reason", reason)])?;
        let none = |set: &Option<FixedBitSet>| set.as_ref().is_some_and(FixedBitSet::is_clear);
        let nothing = none(&users) || none(&actions) || none(&reasons);
        Ok(Wants { conditions, unders: unders.to_vec(), users, actions, reasons, nothing })
    }

    /// Whether nobody can fit, whatever the piece.
    pub fn nothing(&self) -> bool {
        self.nothing
    }

    /// What is asked of a piece; none where nothing of it can fit.
    ///
    /// # Errors
    /// A condition cannot be evaluated, or names a place that is none.
    pub fn of(&self, view: &View) -> Result<Option<Asked>> {
        let estate = view.snapshot.estate();
        let resources = resources(view, &self.conditions, &self.unders, "resource")?;
        let statements = match self.conditions.speaks_of(&["statement"]) {
            false => None,
            true => {
                let names =
                    StatementId::all(estate.statements().len()).map(|id| Some(estate.statement(id).name.as_str()));
                self.conditions.mask(&[("statement", crate::columns::some_texts(names.chain([None])))])?
            }
        };
        let none = |set: &Option<FixedBitSet>| set.as_ref().is_some_and(FixedBitSet::is_clear);
        if self.nothing || none(&resources) || none(&statements) {
            return Ok(None);
        }
        let (users, actions, reasons) = (self.users.clone(), self.actions.clone(), self.reasons.clone());
        Ok(Some(Asked { users, resources, actions, reasons, statements }))
    }
}

/// The resources of a piece that fit conditions on the catalog.
///
/// # Errors
/// A condition cannot be evaluated, or names a place that is none.
pub fn content(view: &View, conditions: &Conditions, unders: &[String]) -> Result<Vec<ResourceId>> {
    let found = resources(view, conditions, unders, "id")?;
    let fits = |at: &u32| found.as_ref().is_none_or(|found| found.contains(*at as usize));
    Ok(view.range.clone().filter(fits).map(ResourceId).collect())
}

fn resources(view: &View, conditions: &Conditions, unders: &[String], id: &str) -> Result<Option<FixedBitSet>> {
    let estate = view.snapshot.estate();
    let catalog = estate.catalog();
    let mut under: Vec<(String, ArrayRef)> = Vec::new();
    for place in unders {
        // A place in another part holds nothing here.
        let beneath = find::exact_resource(estate, place).map(|place| catalog.subtree(place)).unwrap_or_default();
        let flags: BooleanArray = view.range.clone().map(|at| Some(beneath.contains(&at))).collect();
        under.push((under_column(place), Arc::new(flags)));
    }
    let mut all = vec![id, "kind"];
    all.extend(under.iter().map(|(name, _)| name.as_str()));
    let own = view.own.map(|own| {
        let mut own = own.clone();
        own.grow(catalog.len());
        own
    });
    if !conditions.speaks_of(&all) {
        return Ok(own);
    }
    let here = || view.range.clone().map(ResourceId);
    let mut columns: Vec<(&str, ArrayRef)> = vec![
        (id, crate::columns::texts(here().map(|resource| catalog.id(resource)))),
        ("kind", crate::columns::texts(here().map(|r| estate.schema().kinds[catalog.kind(r).index()].name.as_str()))),
    ];
    columns.extend(under.iter().map(|(name, flags)| (name.as_str(), Arc::clone(flags))));
    let Some(fits) = conditions.mask(&columns)? else { return Ok(own) };
    let mut found = FixedBitSet::with_capacity(catalog.len());
    fits.ones().for_each(|at| found.insert(view.range.start as usize + at));
    if let Some(own) = own {
        found.intersect_with(&own);
    }
    Ok(Some(found))
}

/// The type of a column that says whether a resource lies in a place.
pub fn under_field(place: &str) -> Field {
    Field::new(under_column(place), DataType::Boolean, true)
}

/// The places that conditions of a question name.
///
/// # Errors
/// None that is known.
pub fn places(plan: &LogicalPlan) -> Result<Vec<String>> {
    let mut places = Vec::new();
    plan.apply_with_subqueries(|node| {
        node.apply_expressions(|expr| {
            expr.apply(|inner| {
                if let Expr::ScalarFunction(function) = inner
                    && function.func.name() == UNDER
                    && let Some(Expr::Literal(place, _)) = function.args.get(1)
                    && let Some(Some(place)) = place.try_as_str()
                {
                    places.push(place.to_string());
                }
                Ok(TreeNodeRecursion::Continue)
            })
        })
    })?;
    Ok(places)
}
