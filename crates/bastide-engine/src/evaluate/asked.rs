//! What is decided elsewhere, where needs and conditions ask for it: on the parent, on sources, further up, on a place.
//!
//! What was asked of the resources above the one at hand is kept while what lies beneath them is gone through; of others, as
//! long as there is room.

use super::{Decided, Evaluator, MetNeed, Work};
use crate::decide::{RED_ZONE, SEGMENT, targets};
use crate::sets::store::SetId;
use bastide_model::schema::Target;
use bastide_model::*;
use hashbrown::HashSet;
use std::rc::Rc;

/// So many words of sets are kept of resources elsewhere, before they are let go.
const MOST_WORDS: usize = 1 << 24;

/// Who holds actions on a resource: those that are asked for from elsewhere, by action; none where one has no meaning.
pub type KeptHolders = Box<[Option<Rc<HeldBy>>]>;

/// Who holds an action.
pub enum HeldBy {
    /// These, but for those listed.
    Base(SetId, Box<[(u32, bool)]>),
    /// These, as words.
    Words(Box<[u64]>),
}

impl<'s> Evaluator<'s> {
    /// Who holds an action on what a target leads to from the resource at hand.
    pub(super) fn met(&mut self, work: &mut Work<'s>, target: Target, action: ActionId) -> MetNeed {
        if let Some(known) = work.mets.iter().find(|met| (met.target, met.action) == (target, action)) {
            return *known;
        }
        let resource = work.resource.expect("it is being decided on");
        let none = MetNeed { target, action, base: SetId::NONE, turns: (0, 0), wide: None };
        let all = MetNeed { base: SetId::ALL, ..none };
        let met = match target {
            Target::Own => {
                self.action(work, action);
                match work.decided[action.index()] {
                    Decided::Open => none,
                    Decided::Base(outcome) => {
                        let base = self.outcomes.get(outcome).allowed;
                        let from = work.turns.len() as u32;
                        let turned = self.turned(work, action, base);
                        work.turns.extend(turned);
                        MetNeed { base, turns: (from, work.turns.len() as u32), ..none }
                    }
                    Decided::Wide(wide) => MetNeed { wide: Some(work.wides[wide as usize].allowed), ..none },
                }
            }
            Target::Parent => match self.cells.parent(resource) {
                None => all,
                Some(parent) => {
                    let kept = self.kept(parent, action);
                    self.take(work, kept.as_deref(), none)
                }
            },
            Target::Source | Target::Kind(_) => {
                let targets = targets(self.estate, resource, target);
                match (targets.unmet, &targets.found[..]) {
                    (true, _) => none,
                    (false, []) => all,
                    (false, [one]) => {
                        let kept = self.kept(*one, action);
                        self.take(work, kept.as_deref(), none)
                    }
                    (false, several) => {
                        let mets: Vec<MetNeed> = several
                            .iter()
                            .map(|one| {
                                let kept = self.kept(*one, action);
                                self.take(work, kept.as_deref(), none)
                            })
                            .collect();
                        self.all_of(work, &mets, none)
                    }
                }
            }
        };
        work.mets.push(met);
        met
    }

    /// Whether one user holds an action on what a target leads to; it must have been asked for.
    pub(super) fn holds(&self, work: &Work, target: Target, action: ActionId, user: u32) -> bool {
        let met = work.mets.iter().find(|met| (met.target, met.action) == (target, action)).expect("it was asked for");
        self.is_met(work, met, user)
    }

    /// Whether one user is among those who hold an action.
    pub(super) fn is_met(&self, work: &Work, met: &MetNeed, user: u32) -> bool {
        if let Some(wide) = met.wide {
            return work.words.get(wide)[user as usize / 64] >> (user % 64) & 1 == 1;
        }
        let turns = &work.turns[met.turns.0 as usize..met.turns.1 as usize];
        match turns.binary_search_by_key(&user, |(user, _)| *user) {
            Ok(at) => turns[at].1,
            Err(_) => self.sets.contains(met.base, user as usize),
        }
    }

    fn take(&mut self, work: &mut Work<'s>, known: Option<&HeldBy>, none: MetNeed) -> MetNeed {
        match known {
            None => none,
            Some(HeldBy::Base(base, turns)) => {
                let from = work.turns.len() as u32;
                work.turns.extend_from_slice(turns);
                MetNeed { base: *base, turns: (from, work.turns.len() as u32), ..none }
            }
            Some(HeldBy::Words(words)) => MetNeed { wide: Some(work.words.copy(words)), ..none },
        }
    }

    /// Who is among all of several.
    fn all_of(&mut self, work: &mut Work<'s>, mets: &[MetNeed], none: MetNeed) -> MetNeed {
        if mets.iter().any(|met| met.wide.is_some()) {
            let mut words = self.sets.row(SetId::ALL).to_vec();
            mets.iter().for_each(|met| self.narrow(work, met, &mut words));
            return MetNeed { wide: Some(work.words.copy(&words)), ..none };
        }
        let base = mets.iter().fold(SetId::ALL, |all, met| self.sets.intersect(all, met.base));
        let turns =
            |met: &MetNeed| work.turns[met.turns.0 as usize..met.turns.1 as usize].iter().map(|(user, _)| *user);
        let mut users: Vec<u32> = mets.iter().flat_map(turns).collect();
        users.sort_unstable();
        users.dedup();
        let from = work.turns.len() as u32;
        for user in users {
            let is = mets.iter().all(|met| self.is_met(work, met, user));
            if is != self.sets.contains(base, user as usize) {
                work.turns.push((user, is));
            }
        }
        MetNeed { base, turns: (from, work.turns.len() as u32), ..none }
    }

    /// Who holds an action on a resource; none where it has no meaning there.
    fn kept(&mut self, resource: ResourceId, action: ActionId) -> Option<Rc<HeldBy>> {
        if let Some(known) = self.known(resource, action) {
            return known;
        }
        self.make_room();
        // What it hangs on through needs comes first, each by itself: however deep the tree, and however long a chain of links,
        // only one resource is being decided at a time.
        let mut open = vec![((resource, action), false)];
        let mut seen: HashSet<(ResourceId, ActionId)> = HashSet::new();
        let mut last = None;
        while let Some((asked, ready)) = open.pop() {
            if ready {
                last = self.ask(asked.0, asked.1);
            } else if seen.insert(asked) && self.known(asked.0, asked.1).is_none() {
                open.push((asked, true));
                self.hangs_on(asked, &mut open);
            }
        }
        last
    }

    /// Adds what an action on a resource asks of others by its needs.
    fn hangs_on(&self, (resource, action): (ResourceId, ActionId), open: &mut Vec<((ResourceId, ActionId), bool)>) {
        let schema = self.estate.schema();
        let kind = self.estate.catalog().kind(resource);
        let mut own = vec![action];
        let mut at = 0;
        while let Some(&action) = own.get(at) {
            at += 1;
            if !schema.fits(action, kind) {
                continue;
            }
            for need in &schema.actions[action.index()].needs {
                match need.target {
                    Target::Own if own.contains(&need.action) => {}
                    Target::Own => own.push(need.action),
                    Target::Parent | Target::Source | Target::Kind(_) => {
                        let found = targets(self.estate, resource, need.target).found;
                        open.extend(found.into_iter().map(|target| ((target, need.action), false)));
                    }
                }
            }
        }
    }

    /// Lets go what is kept of others, where it is too much.
    pub(super) fn make_room(&mut self) {
        if self.elsewhere_words > MOST_WORDS {
            self.elsewhere.clear();
            self.elsewhere_words = 0;
        }
    }

    /// The same, where it is known.
    fn known(&self, resource: ResourceId, action: ActionId) -> Option<Option<Rc<HeldBy>>> {
        // They stand in the order of the tree.
        match self.above.binary_search_by_key(&resource, |(above, _)| *above) {
            Ok(at) => Some(self.above[at].1[action.index()].clone()),
            Err(_) => self.elsewhere.get(&(resource, action)).cloned(),
        }
    }

    /// Decides an action on a resource that is asked for from elsewhere, and no other: others may hang on what is at hand.
    fn ask(&mut self, resource: ResourceId, action: ActionId) -> Option<Rc<HeldBy>> {
        // Needs lead from one resource to the next, up a deep tree or along many links: the stack grows with them.
        stacker::maybe_grow(RED_ZONE, SEGMENT, || {
            let mut work = self.begin(resource);
            self.action(&mut work, action);
            let known = self.keep(&work, action);
            self.done(work);
            self.put_elsewhere(resource, action, known.clone());
            known
        })
    }

    pub(super) fn put_elsewhere(&mut self, resource: ResourceId, action: ActionId, known: Option<Rc<HeldBy>>) {
        self.elsewhere_words += 16
            + known.as_ref().map_or(0, |known| match &**known {
                HeldBy::Base(_, turns) => turns.len(),
                HeldBy::Words(words) => words.len(),
            });
        self.elsewhere.insert((resource, action), known);
    }

    /// Users who were decided one by one and are allowed an action, or are not, otherwise than a set says.
    pub(super) fn turned(&self, work: &Work, action: ActionId, set: SetId) -> Vec<(u32, bool)> {
        let cells = work.cells[action.index()].iter().map(|cell| (cell.user, cell.reason.is_allowed()));
        cells.filter(|(user, is)| *is != self.sets.contains(set, *user as usize)).collect()
    }

    /// Who holds an action on a resource that was decided on.
    pub(super) fn keep(&self, work: &Work, action: ActionId) -> Option<Rc<HeldBy>> {
        let known = match work.decided[action.index()] {
            Decided::Open => return None,
            Decided::Base(outcome) => {
                let base = self.outcomes.get(outcome).allowed;
                HeldBy::Base(base, self.turned(work, action, base).into())
            }
            Decided::Wide(wide) => HeldBy::Words(work.words.get(work.wides[wide as usize].allowed).into()),
        };
        Some(Rc::new(known))
    }

    /// Who holds an action on any of some places.
    pub(super) fn held(&mut self, action: ActionId, places: &[ResourceId]) -> SetId {
        if let Some(known) = self.held.get(&(action, places.into())) {
            return *known;
        }
        let mut all = SetId::NONE;
        for place in places {
            let mut work = self.begin(*place);
            self.action(&mut work, action);
            let holders = self.allowed_in(&mut work, action);
            self.done(work);
            all = self.sets.union(all, holders);
        }
        self.held.insert((action, places.into()), all);
        all
    }
}
