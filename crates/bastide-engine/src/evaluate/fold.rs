//! Values of resources that come to the same in everything that an action is decided by count as one.
//!
//! Most rules hang on columns of few values: a label, a state, a house. For each column, the numbers of its values are folded
//! into classes: values of one class give the same truth to every comparison among the rules that speak of an action. The
//! outcome is then looked up by the classes, and no rule is looked at one by one.
//!
//! Names and paths are folded, too: nearly every resource has another one, but rules ask of it only which of some patterns it
//! fits.

use super::cells::radix;
use super::compile::{Expr, Relation};
use super::leaf::HoldsFor;
use super::plan::Plan;
use super::site::Step;
use super::{Evaluator, Work};
use bastide_model::condition::{Operand, ResourceField, Step as Way};
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

/// Names or paths as the rules see them that speak of an action.
pub struct TextFold {
    column: Column,
    operand: Operand,
    atoms: Box<[u32]>,
    patterns: Patterns,
    /// Which patterns count as fitted where there is no text: those that are asked to be not false.
    missing: Box<[u64]>,
    classes: HashMap<Box<[u64]>, u32>,
}

/// What a text comes to.
#[derive(Default)]
pub struct TextMet {
    /// Of which resource it is, and its class; a missing one is of none.
    known: Option<(Option<ResourceId>, Class)>,
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
    /// Those of texts, and which ask for the same atoms.
    texts: Vec<TextFold>,
    by_atoms: HashMap<Box<[u32]>, u32>,
}

/// What the rules hang on that speak of an action.
#[derive(Clone)]
pub struct Parted {
    /// Columns that are folded.
    pub folds: Rc<[u32]>,
    /// Texts that are folded.
    pub texts: Rc<[u32]>,
    /// The rules that hang on something else, too.
    pub others: Rc<[Step]>,
}

/// Where a truth or a list of users is looked up: by one column of few values, or by a text.
#[derive(Clone, Copy)]
enum Part {
    Atom(Column, u32),
    Leaf(Column, u32),
    Text(Column, u32),
}

/// Whether an expression hangs on columns of few values and on texts alone; what it asks of them is added to `parts`.
fn is_columnar(estate: &Estate, plan: &Plan, expr: &Expr, parts: &mut Vec<Part>) -> bool {
    let few = |(_, field): Column| radix(estate, field).is_some_and(|values| values <= MOST_VALUES);
    let mut is = true;
    expr.visit(&mut |inner| {
        let part = match inner {
            Expr::Bit(atom) => {
                let of = &plan.parts.atoms[*atom as usize];
                let column = of.column.filter(|column| few(*column)).map(|column| Part::Atom(column, *atom));
                column.or_else(|| of.like.as_ref().map(|(column, _)| Part::Text(*column, *atom)))
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
        let (mut parts, mut texts) = (Vec::new(), Vec::<(Column, Vec<u32>)>::new());
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
                    Part::Text(column, atom) => {
                        match texts.iter_mut().find(|(known, _)| known == column) {
                            Some((_, atoms)) => atoms.push(*atom),
                            None => texts.push((*column, vec![*atom])),
                        }
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
        let texts = texts.into_iter().map(|(column, atoms)| self.texts_of(plan, column, atoms)).collect();
        let found = Parted { folds: (from..self.all.len() as u32).collect(), texts, others: others.into() };
        self.by_speaking.insert(speaking, found.clone());
        found
    }

    /// Texts, folded by some atoms.
    fn texts_of(&mut self, plan: &Plan, column: Column, mut atoms: Vec<u32>) -> u32 {
        atoms.sort_unstable();
        atoms.dedup();
        let next = self.texts.len() as u32;
        let at = *self.by_atoms.entry(atoms.clone().into()).or_insert(next);
        if at == next {
            let of = |atom: &u32| &plan.parts.atoms[*atom as usize];
            let pattern = |atom: &u32| of(atom).like.as_ref().expect("it asks for a text").1.clone();
            let patterns = Patterns::new(atoms.iter().map(pattern));
            let missing = patterns.mask(atoms.iter().map(|atom| of(atom).open));
            let operand = Operand::Resource(column.0, column.1);
            self.texts.push(TextFold {
                column,
                operand,
                atoms: atoms.into(),
                patterns,
                missing,
                classes: HashMap::new(),
            });
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

    /// The class of a text that the resource at hand has, or one above it. Cost: as [`Patterns::fits`], once for a resource and
    /// the same patterns.
    pub(super) fn text_class(&mut self, work: &mut Work<'s>, fold: u32, resource: ResourceId) -> Class {
        let TextFold { column: (way, field), operand, patterns, missing, classes, .. } =
            &mut self.folds.texts[fold as usize];
        if work.texts.len() <= fold as usize {
            work.texts.resize_with(fold as usize + 1, TextMet::default);
        }
        let met = &mut work.texts[fold as usize];
        let of = self.cells.step(*way, resource);
        if let Some((_, class)) = met.known.filter(|(known, _)| *known == of) {
            return class;
        }
        if (*way, *field) == (Way::Own, ResourceField::Name) {
            let name = work.name.get_or_insert_with(|| self.estate.catalog().name(resource));
            patterns.fits(name, &mut met.mask);
        } else {
            match self.reference.operand(operand, None, Some(resource)) {
                Some(Some(Datum::Text(text))) => patterns.fits(&text, &mut met.mask),
                _ => missing.as_ref().clone_into(&mut met.mask),
            }
        }
        let known = classes.get(&met.mask[..]).copied().or_else(|| {
            let next = classes.len() as u32;
            let is_room = classes.len() * patterns.width() < self.plan.tuning.texts;
            is_room.then(|| *classes.entry(met.mask.clone().into()).or_insert(next))
        });
        // What is not plain is never looked up.
        let class = Class { number: known.unwrap_or(u32::MAX), plain: known.is_some() };
        met.known = Some((of, class));
        class
    }

    /// Puts down which patterns the texts of the resource at hand fit, for the rules to be looked at one by one.
    pub(super) fn put_down_texts(&self, work: &mut Work<'s>, folds: &[u32]) {
        for fold in folds {
            let (mask, of) = (&work.texts[*fold as usize].mask, &self.folds.texts[*fold as usize]);
            for (at, atom) in of.atoms.iter().enumerate() {
                work.bits[*atom as usize] = (work.stamp, of.patterns.has(mask, at));
            }
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
