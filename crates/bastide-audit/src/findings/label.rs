//! Labels: values of a scale that travels to the highest.

use crate::case::many;
use crate::sweep::Here;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::change::Change;
use bastide_engine::difference::is_labelled;
use bastide_model::schema::{Scalar, Travel};
use bastide_model::*;
use fixedbitset::FixedBitSet;

/// The step of a resource's label, and how many steps its scale has; of several the one nearest the top.
fn step(estate: &Estate, resource: ResourceId) -> Option<(u16, u16)> {
    let labels = estate.schema().resource_attributes.iter().zip(&estate.catalog().attributes);
    let labels = labels.filter(|(a, _)| a.travel == Travel::Highest);
    let steps = labels.filter_map(|(a, column)| match (a.scalar, column.get(resource.index())) {
        (Scalar::Named(of), Some(Value::Step(_, step))) => {
            Some((*step, estate.schema().types[of.index()].values.len() as u16))
        }
        _ => None,
    });
    steps.max_by_key(|(step, all)| u32::from(*step) * 1000 / u32::from((*all).max(1)))
}

/// Whether somebody gave a resource a label above the lowest: one of its own, or by travel one above
/// the default. What nobody labelled has the default, which says nothing of it.
pub fn above_lowest(estate: &Estate, resource: ResourceId) -> bool {
    let own = estate.schema().resource_attributes.iter().zip(&estate.catalog().own);
    let own = own.filter(|(a, _)| a.travel == Travel::Highest).filter_map(|(_, column)| column.as_ref());
    let mut steps = own.filter_map(|column| column.get(resource.index()));
    steps.any(|value| matches!(value, Value::Step(_, step) if *step > 0)) || is_labelled(estate, resource)
}

/// How many steps below the top a resource's label is.
pub fn from_top(estate: &Estate, resource: ResourceId) -> Option<u16> {
    step(estate, resource).map(|(step, all)| all - 1 - step)
}

/// A statement, on how many resources with a label it applies, and a triple of one.
#[derive(Clone)]
pub struct On {
    /// Which one.
    pub id: StatementId,
    /// On how many.
    pub labelled: usize,
    /// A triple of the first where somebody is allowed what it says.
    pub first: Option<Triple>,
}

impl On {
    /// That a permission is open to people whom nobody chose: nothing where what it gives is harmless, and nothing of it labelled.
    /// `message` is told what it gives; `shows` is what shows it first.
    pub fn open(
        self,
        case: &Case,
        survey: &Survey,
        message: impl FnOnce(&str) -> String,
        shows: Option<String>,
    ) -> Option<Found> {
        let On { id, labelled, first } = self;
        let s = case.estate.statement(id);
        let reach = survey.of(id);
        let harmful = case.is_harmful(s);
        if !harmful && labelled == 0 {
            return None;
        }
        let what = if harmful { case.actions(s) } else { format!("{} what is labelled", case.actions(s)) };
        let mut found = Found::of(case, id, message(&what)).example(first.or(reach.example));
        let reaches = format!("{} on {}", many(reach.users as u64, "user"), many(reach.resources as u64, "resource"));
        let labels = format!("of the resources, {labelled} with a label above the lowest");
        for text in shows.into_iter().chain([reaches]).chain((labelled > 0).then_some(labels)) {
            found = found.evidence(text);
        }
        Some(found.suggest("to close it until somebody says whom it is for", vec![Change::Off(id)]))
    }
}

/// What statements have to do with resources that somebody gave a label above the lowest.
#[derive(Clone)]
pub struct Labelled {
    /// By statement, in policy order.
    pub statements: Vec<On>,
    users: FixedBitSet,
    allowed: FixedBitSet,
}

impl Labelled {
    /// For some statements; nothing where there are none.
    pub fn of(case: &Case, ids: impl Iterator<Item = StatementId>) -> Option<Labelled> {
        let statements: Vec<On> = ids.map(|id| On { id, labelled: 0, first: None }).collect();
        let nobody = || FixedBitSet::with_capacity(case.estate.people().len());
        (!statements.is_empty()).then(|| Labelled { statements, users: nobody(), allowed: nobody() })
    }

    /// Takes a resource in.
    pub fn look(&mut self, case: &Case, here: &mut Here) {
        if !above_lowest(case.estate, here.resource) {
            return;
        }
        let Labelled { statements, users, allowed } = self;
        for of in statements {
            let Some(rule) = here.engine.rule_on(&here.work, of.id) else { continue };
            if !here.engine.touches(&mut here.work, rule) {
                continue;
            }
            of.labelled += 1;
            if of.first.is_none() {
                here.engine.applies_to(&mut here.work, rule, users);
                let mut actions = case.estate.statement(of.id).actions.ones().map(ActionId::new);
                of.first = actions.find_map(|action| {
                    here.allowed(action, allowed);
                    let user = users.intersection(allowed).next()?;
                    Some((UserId::new(user), action, here.resource))
                });
            }
        }
    }

    /// Adds what follows.
    pub fn join(&mut self, later: Labelled) {
        for (own, later) in self.statements.iter_mut().zip(later.statements) {
            own.labelled += later.labelled;
            own.first = own.first.or(later.first);
        }
    }
}
