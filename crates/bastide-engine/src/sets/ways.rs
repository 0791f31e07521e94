//! Shorter ways to the rows of resources: by what siblings have in common, and by the values that statements mention.

use super::book::ViewsId;
use super::features::{self, Cells, Digit, Feature, View};
use super::keyed::Keyed;
use super::pairs::Pair;
use super::{SetEngine, Site};
use bastide_model::condition::{Condition, Test};
use bastide_model::schema::Target;
use bastide_model::*;
use hashbrown::HashMap;
use std::sync::Arc;

/// The rows of a site by the values that its statements mention. A signature follows from these, and all of them are one
/// number, which is quicker to look up; but where nearly every resource has values of its own it is no way at all.
pub(super) struct Short<'e> {
    values: Box<[Digit<'e>]>,
    asks: Box<[(Target, ActionId)]>,
    /// Whether siblings get the same answers to what they ask.
    by_parent: bool,
    /// Numbers for the answers.
    answers: Keyed<u32, u32>,
    /// By the number of the answers, and the values as one number.
    known: HashMap<u64, ViewsId>,
    trial: Trial,
}

/// Whether looking up helps: after so many questions half of them must have been known.
#[derive(Default)]
pub(crate) struct Trial {
    asked: usize,
    found: usize,
}

impl Trial {
    const LONG: usize = 1 << 10;

    /// Takes note of questions, and of how many of them were known.
    pub fn note(&mut self, asked: usize, found: usize) {
        self.asked += asked;
        self.found += found;
    }

    /// Whether it helps, as far as one can tell.
    pub fn is_worth_it(&self) -> bool {
        self.asked < Self::LONG || self.found >= self.asked / 2
    }
}

impl Short<'_> {
    /// Whether it helps, as far as one can tell.
    pub fn is_worth_it(&self) -> bool {
        self.trial.is_worth_it()
    }

    /// What is decided on a resource; the number of its values where that is not known yet.
    pub fn find(&mut self, cells: &Cells, answer: u32, resource: ResourceId) -> Result<ViewsId, u64> {
        let values = self.values.iter().fold(0, |values, digit| digit.behind(values, cells, resource));
        let key = u64::from(answer) << 32 | values;
        let known = self.known.get(&key).copied();
        self.trial.note(1, usize::from(known.is_some()));
        known.ok_or(key)
    }

    /// Takes note of what was not known.
    pub fn learn(&mut self, key: u64, views: ViewsId) {
        if self.is_worth_it() {
            self.known.insert(key, views);
        } else {
            self.known = HashMap::new();
        }
    }
}

/// What siblings of like kinds have in common, where the same statements reach them.
#[derive(Clone, Copy)]
pub(super) struct Siblings {
    parent: Option<ResourceId>,
    class: u32,
    /// The site.
    pub site: usize,
    /// The number of what its actions need elsewhere, where it has a shorter way.
    pub answer: u32,
}

/// The way to the rows of siblings, where one leads to all of them: rows follow from it and from the values of its digits.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct Way {
    site: u32,
    answer: u32,
}

/// A site that was met so many times gets a shorter way.
const OFTEN: u8 = 8;

/// Of a field with more values it is not found out which come to the same.
pub(super) const MOST_FOLDED: u32 = 1 << 10;

/// For a resource with each value, it is looked for in about so many places. A value that is in none of them stands for
/// itself.
const LOOKED_AT: usize = 1 << 8;
/// In each place, at so many resources.
const NEIGHBOURS: usize = 16;

/// By feature, a resource with each value.
pub(super) type Examples = HashMap<Feature, Arc<[Option<ResourceId>]>>;

/// By feature and comparisons, which values come to the same.
pub(super) type Folds = HashMap<(Feature, Box<[usize]>), Arc<[u32]>>;

/// The comparisons that statements make, each with what of a resource it mentions.
fn comparisons<'e>(statements: impl Iterator<Item = &'e Statement>) -> Vec<(&'e Condition, Vec<Feature>)> {
    let mut open: Vec<&Condition> = Vec::new();
    for Statement { who, what, condition, .. } in statements {
        open.extend([&who.condition, &what.condition, condition].into_iter().flatten());
    }
    let mut found = Vec::new();
    while let Some(condition) = open.pop() {
        match &condition.test {
            Test::And(parts) | Test::Or(parts) => open.extend(parts),
            Test::Not(inner) => open.push(inner),
            _ => {
                let mut mentioned = Vec::new();
                features::of_condition(condition, &mut mentioned, &mut false);
                mentioned.retain(|feature| matches!(feature, Feature::Field(..)));
                if !mentioned.is_empty() {
                    found.push((condition, mentioned));
                }
            }
        }
    }
    found
}

impl<'e> SetEngine<'e> {
    /// What a resource has in common with its siblings; and whether more of them will be asked about at once.
    pub(super) fn siblings(&mut self, resource: ResourceId, several: bool) -> Siblings {
        let (parent, kin) = (self.cells.parent(resource), self.kin[self.cells.kind(resource).index()] as usize);
        let class = self.places.descent.class(resource, parent);
        if let Some(known) = self.siblings[kin]
            && (known.parent, known.class) == (parent, class)
        {
            return known;
        }
        let site = self.site(resource);
        let mut siblings = Siblings { parent, class, site, answer: 0 };
        let met = &mut self.sites[site].met;
        if *met < OFTEN {
            *met = if several { OFTEN } else { *met + 1 };
            if *met < OFTEN {
                return siblings;
            }
            self.sites[site].short = self.short(site);
        }
        // One that is none any more is still a way for whoever evaluates several estates.
        let short = self.sites[site].short.as_ref().filter(|way| way.by_parent || way.is_worth_it());
        let alike = short.is_none_or(|way| way.by_parent);
        if let Some(asks) = short.map(|way| way.asks.len()) {
            siblings.answer = self.answer(site, asks, resource);
        }
        self.siblings[kin] = alike.then_some(siblings);
        siblings
    }

    /// The number of what the actions of a site need elsewhere.
    fn answer(&mut self, site: usize, asks: usize, resource: ResourceId) -> u32 {
        let mut key = std::mem::take(&mut self.key);
        key.clear();
        for i in 0..asks {
            let (target, action) = self.sites[site].short.as_ref().expect("asked before").asks[i];
            key.push(self.met(resource, target, action, View::Other).0);
        }
        let answers = &mut self.sites[site].short.as_mut().expect("asked before").answers;
        let answer = answers.get(&key).unwrap_or_else(|| {
            let next = answers.len() as u32;
            answers.insert(&key, next);
            next
        });
        self.key = key;
        answer
    }

    /// The shorter way to the rows of a site: none where layers would have to be known, or where resources can have more
    /// values than one number tells.
    fn short(&mut self, site: usize) -> Option<Short<'e>> {
        if !self.estate.layers.is_empty() {
            return None;
        }
        let Site { fields, asks, owned, varying, reached, .. } = &self.sites[site];
        let (mut features, mut asks) = (fields.to_vec(), asks.to_vec());
        if *owned && !features.contains(&Feature::Owned) {
            features.push(Feature::Owned);
        }
        for at in varying {
            let (id, _) = reached[*at as usize];
            for feature in &self.compiled[id.index()].as_ref()?.features {
                match feature {
                    Feature::Ask(target, action) if !asks.contains(&(*target, *action)) => {
                        asks.push((*target, *action))
                    }
                    Feature::Field(..) | Feature::Owned if !features.contains(feature) => features.push(*feature),
                    _ => {}
                }
            }
        }
        let estate = self.estate;
        let statements = reached.iter().map(|(id, _)| estate.statement(*id));
        let comparisons = comparisons(statements);
        let mut values: Vec<Digit> = Vec::with_capacity(features.len());
        for feature in features {
            let digit = Digit::new(&self.cells, estate, feature)?;
            values.push(match self.folded(feature, &comparisons) {
                Some(folded) => digit.folded(folded),
                None => digit,
            });
        }
        values.iter().try_fold(1u32, |all, digit| all.checked_mul(digit.radix))?;
        Some(Short {
            values: values.into(),
            by_parent: asks.iter().all(|(target, _)| *target == Target::Parent),
            asks: asks.into(),
            answers: Keyed::default(),
            known: HashMap::new(),
            trial: Trial::default(),
        })
    }

    /// By value of a feature, a number for all values that come to the same in each of these comparisons; the last is for
    /// a missing one. None where a comparison is with something else of a resource.
    fn folded(&mut self, feature: Feature, comparisons: &[(&'e Condition, Vec<Feature>)]) -> Option<Arc<[u32]>> {
        let own = self.cells.own(feature)?;
        let mut asking = Vec::new();
        for (comparison, mentioned) in comparisons.iter().filter(|(_, mentioned)| mentioned.contains(&feature)) {
            if mentioned.iter().any(|other| *other != feature) {
                return None;
            }
            asking.push(*comparison);
        }
        let values = features::radix(self.estate, feature).filter(|values| *values <= MOST_FOLDED)?;
        let key = (feature, asking.iter().map(|comparison| std::ptr::from_ref(*comparison) as usize).collect());
        if let Some(known) = self.folds.get(&key) {
            return Some(Arc::clone(known));
        }
        let some = self.some_with(feature, own, values);
        let mut known: HashMap<Vec<Pair>, u32> = HashMap::new();
        let mut next = 0;
        let mut number = |resource: &Option<ResourceId>| {
            let new = next;
            next += 1;
            let Some(resource) = *resource else { return new };
            let pairs = asking.iter().map(|comparison| self.leaf(comparison, Some(resource))).collect();
            let number = *known.entry(pairs).or_insert(new);
            next -= u32::from(number != new);
            number
        };
        let folded: Arc<[u32]> = some.iter().map(&mut number).collect();
        self.folds.insert(key, Arc::clone(&folded));
        Some(folded)
    }

    /// By value of a feature, a resource that has it, where one was found among so many as can be looked at quickly; the
    /// last is one without a value.
    pub(super) fn some_with(&mut self, feature: Feature, own: &[u32], values: u32) -> Arc<[Option<ResourceId>]> {
        if let Some(known) = self.examples.get(&feature) {
            return Arc::clone(known);
        }
        let mut some: Vec<Option<ResourceId>> = vec![None; values as usize];
        let rows = self.estate.catalog.len();
        // Neighbours lie next to each other in memory, and are often alike: some here, and some there.
        for from in (0..rows).step_by((rows / LOOKED_AT).max(NEIGHBOURS)) {
            for row in from..(from + NEIGHBOURS).min(rows) {
                let value = own.get(row).map_or(values - 1, |value| (*value).min(values - 1));
                some[value as usize] = Some(ResourceId::new(row));
            }
        }
        let some: Arc<[Option<ResourceId>]> = some.into();
        self.examples.insert(feature, Arc::clone(&some));
        some
    }

    /// The way to the rows of a resource and its siblings of like kinds, as far as the same statements reach them; there may
    /// be none.
    pub(crate) fn way(&mut self, resource: ResourceId) -> Option<Way> {
        // What is asked of it must be there.
        if let Some(parent) = self.cells.parent(resource) {
            self.views_id(parent);
        }
        let found = self.siblings(resource, true);
        let way = self.sites[found.site].short.as_ref().filter(|way| way.by_parent)?;
        debug_assert!(way.asks.iter().all(|(target, _)| *target == Target::Parent));
        Some(Way { site: found.site as u32, answer: found.answer })
    }

    /// The digits of a way.
    pub(crate) fn digits(&self, way: Way) -> Option<&[Digit<'e>]> {
        self.sites[way.site as usize].short.as_ref().map(|short| &short.values[..])
    }
}
