//! Shorter ways to the rows of resources: by what siblings have in common, and by the values that statements mention.

use super::book::ViewsId;
use super::features::{Cells, Digit, Feature, View};
use super::keyed::Keyed;
use super::{SetEngine, Site};
use bastide_model::schema::Target;
use bastide_model::*;
use hashbrown::HashMap;

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
    asked: u32,
    found: u32,
}

impl Short<'_> {
    /// After so many resources it must have helped with half of them.
    const TRIAL: u32 = 1 << 10;

    /// Whether it helps, as far as one can tell.
    pub fn is_worth_it(&self) -> bool {
        self.asked < Self::TRIAL || self.found >= self.asked / 2
    }

    /// What is decided on a resource; the number of its values where that is not known yet.
    pub fn find(&mut self, cells: &Cells, answer: u32, resource: ResourceId) -> Result<ViewsId, u64> {
        let values = self.values.iter().map(|digit| (digit.of(cells, resource), digit.radix));
        let key = u64::from(answer) << 32 | number(values);
        self.asked += 1;
        let known = self.known.get(&key).copied();
        self.found += u32::from(known.is_some());
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

/// Values and how many each can have, as one number. A missing value takes the last place.
pub(crate) fn number(values: impl Iterator<Item = (u32, u32)>) -> u64 {
    values.fold(0, |all, (value, radix)| all * u64::from(radix) + u64::from(value.min(radix - 1)))
}

/// What siblings of a kind have in common, where the same statements reach them.
#[derive(Clone, Copy)]
pub(super) struct Siblings {
    parent: Option<ResourceId>,
    class: u32,
    kind: KindId,
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

impl<'e> SetEngine<'e> {
    /// What a resource has in common with its siblings.
    pub(super) fn siblings(&mut self, resource: ResourceId) -> Siblings {
        let (parent, kind) = (self.cells.parent(resource), self.cells.kind(resource));
        let class = self.places.descent.class(resource, parent);
        if let Some(known) = self.siblings
            && (known.parent, known.class, known.kind) == (parent, class, kind)
        {
            return known;
        }
        let site = self.site(resource);
        let mut siblings = Siblings { parent, class, kind, site, answer: 0 };
        if self.sites[site].met < 2 {
            self.sites[site].met += 1;
            if self.sites[site].met < 2 {
                return siblings;
            }
            self.sites[site].short = self.short(&self.sites[site]);
        }
        // One that is none any more is still a way for whoever evaluates several estates.
        let short = self.sites[site].short.as_ref().filter(|way| way.by_parent || way.is_worth_it());
        let alike = short.is_none_or(|way| way.by_parent);
        if let Some(asks) = short.map(|way| way.asks.len()) {
            siblings.answer = self.answer(site, asks, resource);
        }
        self.siblings = alike.then_some(siblings);
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
    fn short(&self, site: &Site) -> Option<Short<'e>> {
        if !self.estate.layers.is_empty() {
            return None;
        }
        let mut features = site.fields.to_vec();
        let mut asks = site.asks.to_vec();
        if site.owned && !features.contains(&Feature::Owned) {
            features.push(Feature::Owned);
        }
        for at in &site.varying {
            let (id, _) = site.reached[*at as usize];
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
        let values = features.iter().map(|feature| Digit::new(&self.cells, self.estate, *feature));
        let values: Box<[Digit]> = values.collect::<Option<_>>()?;
        values.iter().try_fold(1u32, |all, digit| all.checked_mul(digit.radix))?;
        Some(Short {
            values,
            by_parent: asks.iter().all(|(target, _)| *target == Target::Parent),
            asks: asks.into(),
            answers: Keyed::default(),
            known: HashMap::new(),
            asked: 0,
            found: 0,
        })
    }

    /// The way to the rows of a resource and its siblings of its kind, as far as the same statements reach them; there may
    /// be none, and for a resource alone it is not worth making one.
    pub(crate) fn way(&mut self, resource: ResourceId, alone: bool) -> Option<Way> {
        // What is asked of it must be there.
        if let Some(parent) = self.cells.parent(resource) {
            self.views_id(parent);
        }
        let mut found = self.siblings(resource);
        if !alone && self.sites[found.site].short.is_none() {
            // It has a way from the second one on.
            found = self.siblings(resource);
        }
        let way = self.sites[found.site].short.as_ref().filter(|way| way.by_parent)?;
        debug_assert!(way.asks.iter().all(|(target, _)| *target == Target::Parent));
        Some(Way { site: found.site as u32, answer: found.answer })
    }

    /// The digits of a way.
    pub(crate) fn digits(&self, way: Way) -> Option<&[Digit<'e>]> {
        self.sites[way.site as usize].short.as_ref().map(|short| &short.values[..])
    }
}
