//! Which resources statements can apply to anybody on.

use super::SetEngine;
use super::features::{self, Feature, View};
use super::store::SetId;
use super::ways::MOST_FOLDED;
use bastide_model::condition::{Condition, Term, Test};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashSet;
use rayon::prelude::*;

/// By values of a resource, whether a statement can apply to anybody there: only where each column says so.
type Gate<'e> = Vec<(&'e [u32], Box<[bool]>)>;

/// So many times as many resources as there are, values are looked at to tell where statements apply.
const LOOKS: usize = 4;

/// So many words of marks are made at a time.
const SOME: usize = 1 << 8;

impl<'e> SetEngine<'e> {
    /// Marks every resource that any of these statements reaches by place and kind, while it is in
    /// force. Cost: the resources, once.
    pub fn mark_reached(&self, statements: &[StatementId], marked: &mut FixedBitSet) {
        let catalog = &self.estate.catalog;
        let live: Vec<StatementId> =
            statements.iter().copied().filter(|id| self.compiled[id.index()].is_some()).collect();
        if live.is_empty() {
            return;
        }
        let (everywhere, placed): (Vec<StatementId>, Vec<StatementId>) =
            live.into_iter().partition(|id| self.estate.statement(*id).what.places.is_none());
        let mut kinds = vec![false; self.estate.schema.kinds.len()];
        for id in everywhere {
            let wanted = self.estate.statement(id).what.kinds.as_deref();
            let all = kinds.iter_mut().enumerate();
            all.for_each(|(kind, is)| *is |= self.estate.schema.is_any(KindId::new(kind), wanted));
        }
        if !kinds.contains(&false) {
            marked.insert_range(..catalog.len());
        } else if kinds.contains(&true) {
            let all = catalog.all().filter(|resource| kinds[catalog.kind(*resource).index()]);
            all.for_each(|resource| marked.insert(resource.index()));
        }
        let wanted: HashSet<StatementId> = placed.iter().copied().collect();
        let lists: Vec<bool> =
            self.places.lists.iter().map(|list| list.iter().any(|(id, _)| wanted.contains(id))).collect();
        let places = placed.iter().flat_map(|id| self.estate.statement(*id).what.places.iter().flatten());
        for beneath in places.map(|place| catalog.subtree(place.resource)) {
            for resource in beneath.map(ResourceId) {
                if lists[self.places.descent.class(resource, catalog.parent(resource)) as usize] {
                    marked.insert(resource.index());
                }
            }
        }
    }

    /// Marks every resource on which any of these statements may apply to anybody: as [`SetEngine::mark_reached`], without
    /// those whose values rule it out. Cost: that, and for a statement with conditions on values what it reaches.
    pub(crate) fn mark_applying(&mut self, statements: &[StatementId], marked: &mut FixedBitSet) {
        if !self.estate.layers.is_empty() {
            // A statement that applies to nobody may still say which layer controls a resource.
            return self.mark_reached(statements, marked);
        }
        let catalog = &self.estate.catalog;
        let (mut left, mut plain) = (LOOKS * catalog.len(), Vec::new());
        for &id in statements {
            if self.compiled[id.index()].is_none() {
                continue;
            }
            let reaches: usize = match &self.estate.statement(id).what.places {
                Some(places) => places.iter().map(|place| catalog.subtree(place.resource).len()).sum(),
                None => catalog.len(),
            };
            match self.gate(id) {
                None => {}
                Some(gate) if !gate.is_empty() && reaches <= left => {
                    left -= reaches;
                    self.mark_where(id, &gate, marked);
                }
                Some(_) => plain.push(id),
            }
        }
        self.mark_reached(&plain, marked);
    }

    /// Where a statement can apply to anybody, as far as few values say so; none where it applies to nobody anywhere.
    fn gate(&mut self, id: StatementId) -> Option<Gate<'e>> {
        let statement: &'e Statement = self.estate.statement(id);
        let permits = statement.modality.permits();
        let applies = |pair: super::Pair| if permits { pair.yes } else { pair.open };
        let mut anybody = SetId::ALL;
        if !statement.who.terms.contains(&Term::Owner) {
            anybody = applies(self.any_term(&statement.who, None, View::Other));
        }
        let mut gated: Vec<(&'e Condition, Feature)> = Vec::new();
        for condition in [&statement.who.condition, &statement.what.condition, &statement.condition] {
            for part in condition.iter().flat_map(Condition::conjuncts) {
                let (mut mentioned, mut asks) = (Vec::new(), false);
                features::of_condition(part, &mut mentioned, &mut asks);
                part.visit(&mut |inner| asks |= matches!(inner.test, Test::Holds(..)));
                mentioned.dedup();
                match mentioned[..] {
                    _ if asks => {}
                    [] => {
                        let pair = self.pair(part, None, View::Other);
                        anybody = self.sets.intersect(anybody, applies(pair));
                    }
                    [feature] => gated.push((part, feature)),
                    _ => {}
                }
            }
        }
        if anybody == SetId::NONE {
            return None;
        }
        let mut gate = Gate::new();
        for (part, feature) in gated {
            let values = features::radix(self.estate, feature).filter(|values| *values <= MOST_FOLDED);
            let Some((own, values)) = self.cells.own(feature).zip(values) else { continue };
            let some = self.some_with(feature, own, values);
            let passes = some.iter().map(|resource| {
                // A value that was not met may do.
                resource.is_none_or(|resource| {
                    let pair = self.pair(part, Some(resource), View::Other);
                    self.sets.intersect(anybody, applies(pair)) != SetId::NONE
                })
            });
            let passes: Box<[bool]> = passes.collect();
            if passes.contains(&false) {
                gate.push((own, passes));
            }
        }
        Some(gate)
    }

    /// Marks what a statement reaches and its gate lets pass.
    fn mark_where(&self, id: StatementId, gate: &Gate, marked: &mut FixedBitSet) {
        const BITS: usize = usize::BITS as usize;
        let (catalog, schema) = (&self.estate.catalog, &self.estate.schema);
        let statement = self.estate.statement(id);
        let wanted = statement.what.kinds.as_deref();
        let kinds: Vec<bool> = KindId::all(schema.kinds.len()).map(|kind| schema.is_any(kind, wanted)).collect();
        let lists: Option<Vec<bool>> = statement.what.places.as_ref().map(|_| {
            let has = |list: &[super::places::Reached]| list.binary_search_by_key(&id, |(id, _)| *id).is_ok();
            self.places.lists.iter().map(|list| has(list)).collect()
        });
        let passes = |row: usize| {
            gate.iter().all(|(own, passes)| {
                let last = passes.len() - 1;
                passes[own.get(row).map_or(last, |value| (*value as usize).min(last))]
            })
        };
        let (descent, cells) = (&self.places.descent, &self.cells);
        let reached = |resource: ResourceId| {
            let list = |lists: &Vec<bool>| lists[descent.class(resource, cells.parent(resource)) as usize];
            kinds[cells.kind(resource).index()] && lists.as_ref().is_none_or(list)
        };
        let places = statement.what.places.iter().flatten().map(|place| catalog.subtree(place.resource));
        let everywhere = statement.what.places.is_none().then(|| 0..catalog.len() as u32);
        for range in places.chain(everywhere) {
            let (from, to) = (range.start as usize, range.end as usize);
            let words = &mut marked.as_mut_slice()[from / BITS..to.div_ceil(BITS)];
            words.par_chunks_mut(SOME).enumerate().for_each(|(chunk, words)| {
                for (at, word) in words.iter_mut().enumerate() {
                    let first = (from / BITS + chunk * SOME + at) * BITS;
                    for row in first.max(from)..(first + BITS).min(to) {
                        let is = passes(row) && reached(ResourceId::new(row));
                        *word |= usize::from(is) << (row - first);
                    }
                }
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};

    /// Wherever a statement applies to anybody it is marked, and nothing that it does not reach is.
    #[test]
    fn marked_is_where_it_applies() {
        let (mut all, mut fewer) = (0, 0);
        for seed in 0..400 {
            let dir = plan(seed, Shape::ALL).case().lay_out();
            let estate = bastide_formats::load(dir.path()).estate.expect("an estate");
            let moment = Moment::on("2026-11-24".parse().expect("a date"), &estate.schema);
            let mut engine = SetEngine::new(&estate, &moment).expect("no circles");
            for id in StatementId::all(estate.statements.len()) {
                let marks = || FixedBitSet::with_capacity(estate.catalog.len());
                let (mut applying, mut reached) = (marks(), marks());
                engine.mark_applying(&[id], &mut applying);
                engine.mark_reached(&[id], &mut reached);
                assert!(applying.is_subset(&reached), "estate {seed}");
                for resource in estate.catalog.all() {
                    let applies = engine.reaching(resource).iter().any(|reaching| reaching.id == id);
                    assert!(!applies || applying.contains(resource.index()), "estate {seed}: {id:?} on {resource:?}");
                }
                all += 1;
                fewer += usize::from(applying.count_ones(..) > 0 && applying != reached);
            }
        }
        assert!(fewer > all / 50, "of {all} statements, of {fewer} fewer places are marked than they reach");
    }
}
