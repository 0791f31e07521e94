//! Values of resources that come to the same in everything that an action is decided by count as one.
//!
//! Most rules hang on columns of few values: a label, a state, a house. For each column, the numbers of its values are folded
//! into classes: values of one class give the same truth to every comparison among the rules that speak of an action. The
//! outcome is then looked up by the classes, and no rule is looked at one by one.

use super::cells::radix;
use super::compile::{Expr, Relation};
use super::leaf::HoldsFor;
use super::plan::Plan;
use super::site::Step;
use super::{Evaluator, Work};
use bastide_model::condition::{ResourceField, Step as Way};
use bastide_model::*;
use hashbrown::HashMap;
use std::rc::Rc;

/// A column with more values is not folded.
const MOST_VALUES: u32 = 1024;

/// A column: a field of the resource, or of one above it.
type Column = (Way, ResourceField);

/// A column as the rules see it that speak of an action.
pub struct ValueFold {
    /// The column.
    pub column: Column,
    atoms: Box<[u32]>,
    leaves: Box<[u32]>,
    /// By number of a value: nothing yet, or its class and whether it is plain; the last one is for a missing value.
    table: Vec<Option<Class>>,
    classes: HashMap<Box<[u32]>, u32>,
}

/// What values come to the same.
#[derive(Clone, Copy)]
pub struct Class {
    /// Its number.
    pub number: u32,
    /// Whether it hangs on sets alone: it lists nobody, and needs no words.
    pub plain: bool,
}

/// All that were met, and where they are found.
#[derive(Default)]
pub struct Folds {
    pub all: Vec<ValueFold>,
    by_speaking: HashMap<u32, Parted>,
}

/// Columns that are folded, and the rules that hang on something else, too.
type Parted = (Rc<[u32]>, Rc<[Step]>);

/// Where a truth or a list of users is looked up by one column of few values.
#[derive(Clone, Copy)]
enum Part {
    Atom(u32),
    Leaf(u32),
}

/// Whether an expression hangs on columns of few values alone; what it asks of them is added to `parts`.
fn is_columnar(estate: &Estate, plan: &Plan, expr: &Expr, parts: &mut Vec<(Column, Part)>) -> bool {
    let few = |(_, field): Column| radix(estate, field).is_some_and(|values| values <= MOST_VALUES);
    let mut is = true;
    expr.visit(&mut |inner| {
        let (column, part) = match inner {
            Expr::Bit(atom) => (plan.parts.atoms[*atom as usize].column, Part::Atom(*atom)),
            Expr::Leaf(leaf) => {
                let of = &plan.parts.leaves[*leaf as usize];
                (Some(of.field).filter(|_| of.relation != Relation::Owner), Part::Leaf(*leaf))
            }
            Expr::Ask(..) => return is = false,
            Expr::Set(_) | Expr::Held(..) | Expr::Not(_) | Expr::And(_) | Expr::Or(_) => return,
        };
        match column.filter(|column| few(*column)) {
            Some(column) => parts.push((column, part)),
            None => is = false,
        }
    });
    is
}

impl Folds {
    /// The columns that rules which speak of an action hang on, and the rules that hang on something else, too.
    pub fn of(&mut self, estate: &Estate, plan: &Plan, speaking: u32, varying: &[Step]) -> Parted {
        if let Some(known) = self.by_speaking.get(&speaking) {
            return known.clone();
        }
        // The columns are few: they are gone through, in the order in which rules name them.
        let (mut columns, mut others) = (Vec::<(Column, Vec<u32>, Vec<u32>)>::new(), Vec::new());
        let mut parts = Vec::new();
        for step in varying {
            parts.clear();
            if !is_columnar(estate, plan, &plan.rules[step.rule as usize].expr, &mut parts) {
                others.push(*step);
                continue;
            }
            for (column, part) in &parts {
                let at = columns.iter().position(|(known, ..)| known == column).unwrap_or_else(|| {
                    columns.push((*column, Vec::new(), Vec::new()));
                    columns.len() - 1
                });
                match part {
                    Part::Atom(atom) => columns[at].1.push(*atom),
                    Part::Leaf(leaf) => columns[at].2.push(*leaf),
                }
            }
        }
        let from = self.all.len() as u32;
        for (column, mut atoms, mut leaves) in columns {
            for list in [&mut atoms, &mut leaves] {
                list.sort_unstable();
                list.dedup();
            }
            let values = radix(estate, column.1).expect("it has few values");
            let table = vec![None; values as usize];
            let classes = HashMap::new();
            self.all.push(ValueFold { column, atoms: atoms.into(), leaves: leaves.into(), table, classes });
        }
        let found: Parted = ((from..self.all.len() as u32).collect(), others.into());
        self.by_speaking.insert(speaking, found.clone());
        found
    }
}

impl<'s> Evaluator<'s> {
    /// The class of the value that the resource at hand has in a column.
    pub(super) fn class(&mut self, work: &mut Work<'s>, fold: u32, resource: ResourceId) -> Class {
        let of = &self.folds.all[fold as usize];
        let code = self.cells.field(of.column.0, of.column.1, resource) as usize;
        let code = code.min(of.table.len() - 1);
        match of.table[code] {
            Some(known) => known,
            None => self.new_class(work, fold as usize, resource, code),
        }
    }

    fn new_class(&mut self, work: &mut Work<'s>, fold: usize, resource: ResourceId, code: usize) -> Class {
        let mut told: Vec<u32> = Vec::new();
        for at in 0..self.folds.all[fold].atoms.len() {
            let atom = self.folds.all[fold].atoms[at];
            told.push(u32::from(self.bit(work, atom)));
        }
        let mut plain = true;
        for at in 0..self.folds.all[fold].leaves.len() {
            let leaf = self.folds.all[fold].leaves[at];
            match self.leaf(work, leaf, resource) {
                HoldsFor::Set(set) => told.push(set.0),
                HoldsFor::But { .. } | HoldsFor::Wide(_) => plain = false,
            }
        }
        let ValueFold { table, classes, .. } = &mut self.folds.all[fold];
        let next = classes.len() as u32;
        // What is not plain is never looked up.
        let number = if plain { *classes.entry(told.into()).or_insert(next) } else { u32::MAX };
        let class = Class { number, plain };
        table[code] = Some(class);
        class
    }
}
