//! Comparisons of users' values with a resource's: for whom they hold there.

use super::compile::{Leaf, Relation};
use super::index::Index;
use super::words::{both, either, others};
use super::{Evaluator, Work};
use crate::sets::store::SetId;
use bastide_model::condition::{Operand, ResourceField};
use bastide_model::elements::Elements;
use bastide_model::statement::Comparison;
use bastide_model::value::Datum;
use bastide_model::*;

/// For whom something holds on a resource.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum HoldsFor {
    /// For these.
    Set(SetId),
    /// For these, but for a few listed users, of whom each has the given truth instead.
    But {
        /// For whom it holds otherwise.
        set: SetId,
        /// Where the list begins, and where it ends.
        list: (u32, u32),
        /// What is so for them.
        truth: bool,
    },
    /// For many, who are not the same on many other resources: what the resource's value is in the index, where it is one value.
    /// That is its number; of a comparison of order, how many users come before those for whom it does not hold any more, or
    /// before the first for whom it does.
    Wide(u32),
}

/// What was found out of one resource's value.
enum Found {
    Set(SetId),
    /// All but those listed.
    But(SetId, bool),
    Wide(u32),
}

impl<'s> Evaluator<'s> {
    /// For whom a comparison holds on a resource.
    pub(super) fn leaf(&mut self, work: &mut Work<'s>, leaf: u32, resource: ResourceId) -> HoldsFor {
        let at = leaf as usize;
        if let Some((stamp, known)) = work.leaves.get(at)
            && *stamp == work.stamp
        {
            return *known;
        }
        let from = work.lists.len() as u32;
        let code = self.leaf_tables[at].is_some().then(|| {
            let (step, field) = self.plan.parts.leaves[at].field;
            let table = self.leaf_tables[at].as_ref().expect("asked before");
            (self.cells.field(step, field, resource) as usize).min(table.len() - 1)
        });
        let known = code.and_then(|code| self.leaf_tables[at].as_ref().expect("asked before")[code]);
        let holds = match known {
            Some(HoldsFor::But { set, list: (a, b), truth }) => {
                work.lists.extend_from_slice(&self.leaf_lists[a as usize..b as usize]);
                HoldsFor::But { set, list: (from, work.lists.len() as u32), truth }
            }
            Some(other) => other,
            None => {
                let holds = match self.find(at, resource, &mut work.lists) {
                    Found::Set(set) => HoldsFor::Set(set),
                    Found::But(set, truth) => HoldsFor::But { set, list: (from, work.lists.len() as u32), truth },
                    Found::Wide(value) => HoldsFor::Wide(value),
                };
                if let Some(code) = code {
                    let kept = match holds {
                        HoldsFor::But { set, list: (a, b), truth } => {
                            let from = self.leaf_lists.len() as u32;
                            self.leaf_lists.extend_from_slice(&work.lists[a as usize..b as usize]);
                            HoldsFor::But { set, list: (from, self.leaf_lists.len() as u32), truth }
                        }
                        other => other,
                    };
                    self.leaf_tables[at].as_mut().expect("asked before")[code] = Some(kept);
                }
                holds
            }
        };
        if work.leaves.len() <= at {
            work.leaves.resize(self.plan.parts.leaves.len(), (0, HoldsFor::Wide(0)));
        }
        work.leaves[at] = (work.stamp, holds);
        holds
    }

    /// The value, looked up anew. Who is listed comes behind what `list` holds already, in order.
    fn find(&mut self, at: usize, resource: ResourceId, list: &mut Vec<u32>) -> Found {
        let plan = self.plan;
        let leaf: &'s Leaf = &plan.parts.leaves[at];
        let unknown = Found::Set(if leaf.open { SetId::ALL } else { SetId::NONE });
        if leaf.relation == Relation::Owner {
            return match self.estate.catalog().owner(resource) {
                None => unknown,
                Some(None) => Found::Set(SetId::NONE),
                Some(Some(owner)) => {
                    list.extend(self.estate.people().copies(owner));
                    Found::But(SetId::NONE, true)
                }
            };
        }
        let mut numbers = std::mem::take(&mut self.numbers);
        let is_set = leaf.relation.is_of_sets();
        let all_known = is_set && self.elements(at, resource, &mut numbers);
        let found = self.find_among(at, resource, (&mut numbers, all_known), list);
        self.numbers = numbers;
        found
    }

    fn find_among(
        &mut self,
        at: usize,
        resource: ResourceId,
        (numbers, all_known): (&mut Vec<u32>, bool),
        list: &mut Vec<u32>,
    ) -> Found {
        let plan = self.plan;
        let leaf: &'s Leaf = &plan.parts.leaves[at];
        let unknown = Found::Set(if leaf.open { SetId::ALL } else { SetId::NONE });
        let narrow = plan.tuning.narrow;
        let index: &'s Index = &plan.parts.indexes[leaf.index as usize];
        let few_values = self.leaf_classes[at].1;
        let few_users = self.leaf_classes[at].0;
        let operand = Operand::Resource(leaf.field.0, leaf.field.1);
        let value = if leaf.relation.is_of_sets() {
            None
        } else {
            self.reference.operand(&operand, None, Some(resource)).flatten()
        };
        let sets = &mut self.sets;
        let one = |set: SetId, is: bool, number: Option<u32>, list: &mut Vec<u32>, sets: &mut super::SetStore| {
            let Some(number) = number else { return Found::Set(set) };
            let users = index.list(number);
            if users.len() <= narrow {
                list.extend_from_slice(users);
                return Found::But(set, is);
            }
            if !few_values && !few_users {
                return Found::Wide(number);
            }
            let own = index.set(number).unwrap_or_else(|| sets.of(users.iter().map(|user| *user as usize)));
            Found::Set(if is { sets.union(set, own) } else { sets.subtract(set, own) })
        };
        match leaf.relation {
            Relation::Owner => unreachable!("told above"),
            Relation::Equal(is) => {
                let Some(value) = value else { return unknown };
                let set = match (is, leaf.open) {
                    (true, true) => index.missing,
                    (true, false) => SetId::NONE,
                    (false, true) => SetId::ALL,
                    (false, false) => index.valued,
                };
                one(set, is, index.find(&value), list, sets)
            }
            Relation::ResourceIn => {
                let Some(value) = value else { return unknown };
                one(SetId::NONE, true, index.find(&value), list, sets)
            }
            Relation::Order(comparison) => {
                let Some(value) = value else { return unknown };
                let (from, to) = ordered(index, comparison, &value);
                let total = index.order().len();
                let from_list = list.len();
                if to - from <= narrow {
                    list.extend_from_slice(&index.order()[from..to]);
                    list[from_list..].sort_unstable();
                    return Found::But(if leaf.open { index.missing } else { SetId::NONE }, true);
                }
                if total - (to - from) <= narrow {
                    list.extend_from_slice(&index.order()[..from]);
                    list.extend_from_slice(&index.order()[to..]);
                    list[from_list..].sort_unstable();
                    return Found::But(if leaf.open { SetId::ALL } else { index.valued }, false);
                }
                if !few_values && !few_users {
                    return Found::Wide(if is_upper(comparison) { from } else { to } as u32);
                }
                let own = sets.of(index.order()[from..to].iter().map(|user| *user as usize));
                Found::Set(if leaf.open { sets.union(own, index.missing) } else { own })
            }
            Relation::UserIn | Relation::Overlaps => {
                let set = if leaf.relation == Relation::UserIn && leaf.open { index.missing } else { SetId::NONE };
                let count: usize = numbers.iter().map(|number| index.list(*number).len()).sum();
                if count <= narrow {
                    let from = list.len();
                    numbers.iter().for_each(|number| list.extend_from_slice(index.list(*number)));
                    in_order(list, from);
                    return if list.len() == from { Found::Set(set) } else { Found::But(set, true) };
                }
                if !few_values {
                    return Found::Wide(0);
                }
                let own = sets.of(numbers.iter().flat_map(|number| index.list(*number)).map(|user| *user as usize));
                Found::Set(sets.union(own, set))
            }
            Relation::UserCovers => {
                if !all_known {
                    return Found::Set(SetId::NONE);
                }
                numbers.sort_unstable_by_key(|number| index.list(*number).len());
                let Some((first, others)) = numbers.split_first() else { return Found::Set(SetId::ALL) };
                let has = |number: &u32, user: u32| match index.set(*number) {
                    Some(set) => sets.contains(set, user as usize),
                    None => index.list(*number).binary_search(&user).is_ok(),
                };
                let from = list.len();
                let all = index.list(*first).iter().filter(|user| others.iter().all(|number| has(number, **user)));
                list.extend(all);
                if list.len() - from > narrow {
                    if few_values {
                        let own = sets.of(list.drain(from..).map(|user| user as usize));
                        return Found::Set(own);
                    }
                    list.truncate(from);
                    return Found::Wide(0);
                }
                if list.len() == from { Found::Set(SetId::NONE) } else { Found::But(SetId::NONE, true) }
            }
            Relation::ResourceCovers => {
                let count: usize = numbers.iter().map(|number| index.list(*number).len()).sum();
                if count > narrow && !few_values {
                    return Found::Wide(0);
                }
                let from = list.len();
                numbers.iter().for_each(|number| list.extend_from_slice(index.list(*number)));
                list[from..].sort_unstable();
                // Whoever is met as often as there are elements has no others.
                let (mut kept, mut at) = (from, from);
                while at < list.len() {
                    let user = list[at];
                    let times = list[at..].iter().take_while(|other| **other == user).count();
                    if times as u32 == index.sizes[user as usize] {
                        list[kept] = user;
                        kept += 1;
                    }
                    at += times;
                }
                list.truncate(kept);
                if kept == from {
                    return Found::Set(index.missing);
                }
                if kept - from <= narrow {
                    return Found::But(index.missing, true);
                }
                let own = sets.of(list.drain(from..).map(|user| user as usize));
                Found::Set(sets.union(own, index.missing))
            }
        }
    }

    /// What the elements of a resource's set are numbered in an index, each once; whether users have them all.
    fn elements(&self, at: usize, resource: ResourceId, numbers: &mut Vec<u32>) -> bool {
        let leaf = &self.plan.parts.leaves[at];
        let index = &self.plan.parts.indexes[leaf.index as usize];
        numbers.clear();
        let mut all = true;
        let mut put = |number: Option<u32>| match number {
            Some(number) => numbers.push(number),
            None => all = false,
        };
        let code = self.cells.field(leaf.field.0, leaf.field.1, resource) as usize;
        match (&self.leaf_elements[at], self.set_column(leaf)) {
            (Some(table), Some(elements)) if code < elements.len() => {
                elements.of(code).iter().for_each(|element| put(table[*element as usize]));
            }
            _ => {
                let operand = Operand::Resource(leaf.field.0, leaf.field.1);
                if let Some(Some(Datum::Set(elements))) = self.reference.operand(&operand, None, Some(resource)) {
                    elements.iter().for_each(|element| put(index.find(&element.datum())));
                }
            }
        }
        // Two may be the same where case is left aside.
        numbers.sort_unstable();
        numbers.dedup();
        all
    }

    /// The sets that a comparison looks up, by number.
    pub(super) fn set_column(&self, leaf: &Leaf) -> Option<&'s Elements> {
        match leaf.field.1 {
            ResourceField::Attribute(id) => self.estate.catalog().attributes[id.index()].elements(),
            _ => None,
        }
    }

    /// For whom a comparison holds on a resource, put into words, which are overwritten. Cost: words for each element of a set
    /// of the resource.
    pub(super) fn wide_leaf(&mut self, leaf: u32, resource: ResourceId, value: u32, words: &mut [u64]) {
        let plan = self.plan;
        let at = leaf as usize;
        let leaf: &'s Leaf = &plan.parts.leaves[at];
        let mut numbers = std::mem::take(&mut self.numbers);
        if leaf.relation.is_of_sets() {
            self.elements(at, resource, &mut numbers);
        }
        let index: &'s Index = &plan.parts.indexes[leaf.index as usize];
        let sets = &self.sets;
        let put = |words: &mut [u64], number: u32| match index.set(number) {
            Some(set) => either(words, sets.row(set)),
            None => index.list(number).iter().for_each(|user| words[*user as usize / 64] |= 1 << (user % 64)),
        };
        let also = |words: &mut [u64], set: SetId| either(words, sets.row(set));
        words.fill(0);
        match leaf.relation {
            Relation::Owner => unreachable!("one user is never many"),
            Relation::Equal(is) => {
                put(words, value);
                if !is {
                    others(words, sets.row(if leaf.open { SetId::ALL } else { index.valued }));
                } else if leaf.open {
                    also(words, index.missing);
                }
            }
            Relation::ResourceIn => put(words, value),
            Relation::Order(comparison) => {
                index.first(value as usize, sets, words);
                if is_upper(comparison) {
                    // From the first of them on: all that have a value and are not before it.
                    others(words, sets.row(index.valued));
                }
                if leaf.open {
                    also(words, index.missing);
                }
            }
            Relation::UserIn | Relation::Overlaps => {
                numbers.iter().for_each(|number| put(words, *number));
                if leaf.relation == Relation::UserIn && leaf.open {
                    also(words, index.missing);
                }
            }
            Relation::UserCovers => {
                let mut other = vec![0; words.len()];
                words.copy_from_slice(sets.row(SetId::ALL));
                for number in numbers.iter().copied() {
                    match index.set(number) {
                        Some(set) => both(words, sets.row(set)),
                        None => {
                            other.fill(0);
                            put(&mut other, number);
                            both(words, &other);
                        }
                    }
                }
            }
            Relation::ResourceCovers => {
                self.met_times.resize(index.sizes.len(), 0);
                for user in numbers.iter().flat_map(|number| index.list(*number)) {
                    let times = &mut self.met_times[*user as usize];
                    *times += 1;
                    if *times == index.sizes[*user as usize] {
                        words[*user as usize / 64] |= 1 << (user % 64);
                    }
                }
                for user in numbers.iter().flat_map(|number| index.list(*number)) {
                    self.met_times[*user as usize] = 0;
                }
                also(words, index.missing);
            }
        }
        self.numbers = numbers;
    }
}

/// Whether the users for whom a comparison of order holds are the last ones in order, and not the first.
fn is_upper(comparison: Comparison) -> bool {
    matches!(comparison, Comparison::Greater | Comparison::GreaterEqual)
}

/// The users who stand in a relation to a value, as a range of all in order.
fn ordered(index: &Index, comparison: Comparison, value: &Datum) -> (usize, usize) {
    let (less, not_greater) = index.rank(value);
    let total = index.order().len();
    match comparison {
        Comparison::Less => (0, less),
        Comparison::LessEqual => (0, not_greater),
        Comparison::Greater => (not_greater, total),
        Comparison::GreaterEqual => (less, total),
        Comparison::Equal | Comparison::NotEqual => unreachable!("these are looked up"),
    }
}

/// Puts what comes from a position on in order, each once.
fn in_order(list: &mut Vec<u32>, from: usize) {
    list[from..].sort_unstable();
    let mut kept = from;
    for at in from..list.len() {
        if kept == from || list[kept - 1] != list[at] {
            list[kept] = list[at];
            kept += 1;
        }
    }
    list.truncate(kept);
}
