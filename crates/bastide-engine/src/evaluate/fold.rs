//! Values of resources that come to the same in everything that an action is decided by count as one.
//!
//! Most rules hang on columns of few values: a label, a state, a house. For each column, the numbers of its values are folded
//! into classes: values of one class give the same truth to every comparison among the rules that speak of an action. The
//! outcome is then looked up by the classes, and no rule is looked at one by one.
//!
//! Names are folded, too: nearly every resource has another one, but rules ask of it only which of some patterns it fits.

use super::cells::radix;
use super::compile::{Expr, Relation};
use super::leaf::HoldsFor;
use super::plan::Plan;
use super::site::Step;
use super::{Evaluator, Work};
use bastide_model::condition::{ResourceField, Step as Way};
use bastide_model::patterns::Patterns;
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

/// Names as the rules see them that speak of an action.
pub struct NameFold {
    atoms: Box<[u32]>,
    patterns: Patterns,
    classes: HashMap<Box<[u64]>, u32>,
}

/// What the name of the resource at hand comes to.
#[derive(Default)]
pub struct NameMet {
    stamp: u32,
    class: Option<Class>,
    /// Which patterns it fits.
    mask: Vec<u64>,
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
    /// Those of names, and which ask for the same atoms.
    names: Vec<NameFold>,
    by_atoms: HashMap<Box<[u32]>, u32>,
}

/// What the rules hang on that speak of an action.
#[derive(Clone)]
pub struct Parted {
    /// Columns that are folded.
    pub folds: Rc<[u32]>,
    /// How names are folded, where they are.
    pub names: Option<u32>,
    /// The rules that hang on something else, too.
    pub others: Rc<[Step]>,
}

/// Where a truth or a list of users is looked up: by one column of few values, or by the name.
#[derive(Clone, Copy)]
enum Part {
    Atom(Column, u32),
    Leaf(Column, u32),
    Name(u32),
}

/// Whether an expression hangs on columns of few values and on the name alone; what it asks of them is added to `parts`.
fn is_columnar(estate: &Estate, plan: &Plan, expr: &Expr, parts: &mut Vec<Part>) -> bool {
    let few = |(_, field): Column| radix(estate, field).is_some_and(|values| values <= MOST_VALUES);
    let mut is = true;
    expr.visit(&mut |inner| {
        let part = match inner {
            Expr::Bit(atom) => {
                let of = &plan.parts.atoms[*atom as usize];
                let column = of.column.filter(|column| few(*column)).map(|column| Part::Atom(column, *atom));
                column.or_else(|| of.name.is_some().then_some(Part::Name(*atom)))
            }
            Expr::Leaf(leaf) => {
                let of = &plan.parts.leaves[*leaf as usize];
                let column = Some(of.field).filter(|_| of.relation != Relation::Owner);
                column.filter(|column| few(*column)).map(|column| Part::Leaf(column, *leaf))
            }
            Expr::Ask(..) => None,
            Expr::Set(_) | Expr::Held(..) | Expr::Not(_) | Expr::And(_) | Expr::Or(_) => return,
        };
        is &= part.is_some();
        parts.extend(part);
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
        let (mut parts, mut names) = (Vec::new(), Vec::new());
        for step in varying {
            parts.clear();
            if !is_columnar(estate, plan, &plan.rules[step.rule as usize].expr, &mut parts) {
                others.push(*step);
                continue;
            }
            for part in &parts {
                let (column, atom, leaf) = match part {
                    Part::Atom(column, atom) => (column, Some(*atom), None),
                    Part::Leaf(column, leaf) => (column, None, Some(*leaf)),
                    Part::Name(atom) => {
                        names.push(*atom);
                        continue;
                    }
                };
                let at = columns.iter().position(|(known, ..)| known == column).unwrap_or_else(|| {
                    columns.push((*column, Vec::new(), Vec::new()));
                    columns.len() - 1
                });
                columns[at].1.extend(atom);
                columns[at].2.extend(leaf);
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
        let names = (!names.is_empty()).then(|| self.names_of(plan, names));
        let found = Parted { folds: (from..self.all.len() as u32).collect(), names, others: others.into() };
        self.by_speaking.insert(speaking, found.clone());
        found
    }

    /// Names, folded by some atoms.
    fn names_of(&mut self, plan: &Plan, mut atoms: Vec<u32>) -> u32 {
        atoms.sort_unstable();
        atoms.dedup();
        let next = self.names.len() as u32;
        let at = *self.by_atoms.entry(atoms.clone().into()).or_insert(next);
        if at == next {
            let pattern = |atom: &u32| plan.parts.atoms[*atom as usize].name.clone().expect("it asks for a name");
            let patterns = Patterns::new(atoms.iter().map(pattern));
            self.names.push(NameFold { atoms: atoms.into(), patterns, classes: HashMap::new() });
        }
        at
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

    /// The class of the name that the resource at hand has. Cost: as [`Patterns::fits`], once for a resource and the same
    /// patterns.
    pub(super) fn name_class(&mut self, work: &mut Work<'s>, fold: u32, resource: ResourceId) -> Class {
        let NameFold { patterns, classes, .. } = &mut self.folds.names[fold as usize];
        if work.named.len() <= fold as usize {
            work.named.resize_with(fold as usize + 1, NameMet::default);
        }
        let met = &mut work.named[fold as usize];
        if let Some(known) = met.class.filter(|_| met.stamp == work.stamp) {
            return known;
        }
        // A resource always has a name.
        let name = work.name.get_or_insert_with(|| self.estate.catalog().name(resource));
        patterns.fits(name, &mut met.mask);
        let known = classes.get(&met.mask[..]).copied().or_else(|| {
            let next = classes.len() as u32;
            let is_room = classes.len() * patterns.width() < self.plan.tuning.names;
            is_room.then(|| *classes.entry(met.mask.clone().into()).or_insert(next))
        });
        // What is not plain is never looked up.
        let class = Class { number: known.unwrap_or(u32::MAX), plain: known.is_some() };
        (met.stamp, met.class) = (work.stamp, Some(class));
        class
    }

    /// Puts down which patterns the name of the resource at hand fits, for the rules to be looked at one by one.
    pub(super) fn put_down_names(&self, work: &mut Work<'s>, fold: u32) {
        let (mask, of) = (&work.named[fold as usize].mask, &self.folds.names[fold as usize]);
        for (at, atom) in of.atoms.iter().enumerate() {
            work.bits[*atom as usize] = (work.stamp, of.patterns.has(mask, at));
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
