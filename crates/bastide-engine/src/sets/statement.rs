//! Statements made ready: what of a resource their set of users hangs on, and the sets met so far.

use super::decide::Step;
use super::features::{self, Feature, View};
use super::store::SetId;
use super::{SetEngine, Site, decide, places};
use crate::decide::place::covers;
use bastide_model::condition::{Condition, Term};
use bastide_model::schema::Target;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::sync::Arc;

/// A statement in force.
pub(super) struct Compiled {
    /// What of a resource its conditions mention, decisions on the resource itself left aside.
    pub features: Box<[Feature]>,
    /// Whether it asks for a decision on the resource itself.
    own: bool,
    /// Whether it matters to it who owns the resource.
    owned: bool,
    /// Whether it decides nothing: it names nobody who is there, or speaks of no action that is decided on. Where there
    /// are layers, it may still say which of them controls a resource.
    idle: bool,
    /// How many values each feature can have, where that is known and not many together: then the
    /// sets stand in a plain table.
    radices: Option<Box<[u32]>>,
    /// That table, for others and for owners; [`UNMADE`] where a set was not asked for yet.
    table: [Vec<SetId>; 2],
    /// The users it applies to, by the values of its features, where there is no table.
    known: [HashMap<Box<[u32]>, SetId>; 2],
    /// The same where it has no features.
    constant: Option<SetId>,
    /// What its what-clause mentions: in an estate with layers, fields of resources alone. What its
    /// other conditions ask for must not be asked for here: it may hang on what is being decided.
    what: Box<[Feature]>,
    /// Whether its what-clause is not false, by the values of those.
    covering: HashMap<Box<[u32]>, bool>,
}

/// Where a set of users was entered that a statement applies to.
pub(super) enum Learnt {
    /// Whatever the resource.
    Constant,
    /// In its table.
    Place(View, usize),
    /// By the values of a resource.
    Values(View, Box<[u32]>),
}

/// Stands for a set that was not asked for yet.
const UNMADE: SetId = SetId(u32::MAX);
/// A table has at most so many places.
const LARGEST_TABLE: u64 = 1 << 14;

impl Compiled {
    /// Whether it matters to it who owns the resource.
    pub fn is_owned(&self) -> bool {
        self.owned
    }

    /// Whether it decides nothing.
    pub fn is_idle(&self) -> bool {
        self.idle
    }

    /// Forgets what was learnt, where that is a set with this number or a higher one.
    pub fn forget(&mut self, learnt: &Learnt, mark: u32) {
        let is_new = |set: &SetId| set.0 >= mark;
        match learnt {
            Learnt::Constant => self.constant = self.constant.filter(|set| !is_new(set)),
            Learnt::Place(view, at) => {
                if let Some(set) = self.table[*view as usize].get_mut(*at).filter(|set| is_new(set)) {
                    *set = UNMADE;
                }
            }
            Learnt::Values(view, values) => {
                let known = &mut self.known[*view as usize];
                if known.get(values).is_some_and(is_new) {
                    known.remove(values);
                }
            }
        }
    }

    pub fn new(estate: &Estate, statement: &Statement, wanted: &FixedBitSet) -> Compiled {
        let (mut all, mut own) = (Vec::new(), false);
        if statement.who.terms.contains(&Term::Owner) {
            all.push(Feature::Owned);
        }
        let conditions = [&statement.who.condition, &statement.what.condition, &statement.condition];
        conditions.into_iter().flatten().for_each(|c| features::of_condition(c, &mut all, &mut own));
        let mut distinct: Vec<Feature> = Vec::new();
        for feature in all {
            if !distinct.contains(&feature) {
                distinct.push(feature);
            }
        }
        let mut what = Vec::new();
        statement.what.condition.iter().for_each(|c| features::of_condition(c, &mut what, &mut false));
        let radices: Option<Vec<u32>> = distinct.iter().map(|f| features::radix(estate, *f)).collect();
        let places = |r: &Vec<u32>| r.iter().try_fold(1u64, |all, r| all.checked_mul(u64::from(*r)));
        let radices = radices.filter(|r| !own && places(r).is_some_and(|n| n <= LARGEST_TABLE));
        Compiled {
            radices: radices.map(Vec::into_boxed_slice),
            table: [Vec::new(), Vec::new()],
            owned: distinct.contains(&Feature::Owned),
            idle: estate.layers.is_empty()
                && (statement.who.terms.iter().all(|term| is_nobody(estate, term))
                    || !wanted.ones().any(|action| speaks(statement, ActionId::new(action)))),
            features: distinct.into(),
            own,
            known: [HashMap::new(), HashMap::new()],
            constant: None,
            what: what.into(),
            covering: HashMap::new(),
        }
    }
}

/// Whether a statement speaks of an action: it lists it, or is a cap that leaves it out.
fn speaks(statement: &Statement, action: ActionId) -> bool {
    statement.actions.contains(action.index()) != (statement.modality == Modality::MayOnly)
}

/// The statements that speak of an action on a resource, and the depths from which they reach it. Many sites differ in
/// nothing that an action is decided by.
#[derive(Default)]
pub(super) struct Speaking {
    lists: places::Lists,
    /// Of a list and an action, the statements in the order in which they take their users.
    steps: HashMap<(u32, ActionId), Arc<[Step]>>,
    /// Kept for its room.
    new: Vec<places::Reached>,
}

impl Speaking {
    /// The number of those that speak of an action, among all that reach a resource.
    fn number(&mut self, estate: &Estate, action: ActionId, reached: &[places::Reached]) -> u32 {
        self.new.clear();
        self.new.extend(reached.iter().filter(|(id, _)| speaks(estate.statement(*id), action)));
        self.lists.keep(&self.new)
    }

    /// A list in the order in which its statements take their users.
    pub fn steps(&mut self, estate: &Estate, list: u32, action: ActionId) -> Arc<[Step]> {
        let Speaking { lists, steps, .. } = self;
        let new = || decide::steps(estate, action, &lists.lists[list as usize]);
        Arc::clone(steps.entry((list, action)).or_insert_with(new))
    }
}

/// Whether a term names nobody, whatever is decided.
fn is_nobody(estate: &Estate, term: &Term) -> bool {
    match term {
        Term::Nobody(_) => true,
        Term::Members(group) => estate.groups.users(*group).is_clear() && estate.groups.through(*group).is_empty(),
        Term::Anyone | Term::Owner | Term::User(_) => false,
    }
}

impl<'e> SetEngine<'e> {
    fn compiled(&mut self, id: StatementId) -> &mut Compiled {
        self.compiled[id.index()].as_mut().expect("only statements in force reach anything")
    }

    /// Whether an action is decided on, on resources of a kind.
    pub(super) fn has_meaning(&self, action: ActionId, kind: KindId) -> bool {
        self.wanted.contains(action.index()) && self.estate.schema.fits(action, kind)
    }

    /// The site of a resource.
    pub(super) fn site(&mut self, resource: ResourceId) -> usize {
        let kind = self.cells.kind(resource);
        let class = self.places.descent.class(resource, self.cells.parent(resource));
        let estate = self.estate;
        let at = class as usize * estate.schema.kinds.len() + kind.index();
        if self.site_of[at] != super::NO_SITE {
            return self.site_of[at] as usize;
        }
        let all = self.everywhere.iter().chain(self.places.lists[class as usize].iter());
        let all = all.filter(|(id, _)| !self.compiled[id.index()].as_ref().is_some_and(Compiled::is_idle));
        let mut reached: Vec<_> = all
            .copied()
            .filter(|(id, _)| estate.schema.is_any(kind, estate.statement(*id).what.kinds.as_deref()))
            .collect();
        // Two lists in order: that is told, and takes one pass.
        reached.sort_by_key(|(id, _)| *id);
        debug_assert!(
            reached.iter().all(|(id, depth)| covers(estate, estate.statement(*id), resource) == Some(*depth))
        );
        // Kinds and places that differ in nothing that is decided share what is known.
        let fitting = self.fitting[kind.index()];
        let hash = places::hash(&self.hasher, &reached);
        let same = |site: &u32| {
            let site = &self.sites[*site as usize];
            site.fitting == fitting && *site.reached == *reached
        };
        if let Some(site) = self.known_sites.find(hash, same) {
            self.site_of[at] = *site;
            return *site as usize;
        }
        let next = self.sites.len() as u32;
        self.site_of[at] = next;
        self.known_sites
            .insert_unique(hash, next, |site| places::hash(&self.hasher, &self.sites[*site as usize].reached));
        let (mut varying, mut fields): (Vec<u32>, Vec<Feature>) = (Vec::new(), Vec::new());
        let mut owned = false;
        let mut asks: Vec<(Target, ActionId)> = Vec::new();
        for (at, (id, _)) in reached.iter().enumerate() {
            let compiled = self.compiled[id.index()].as_ref().expect("in force");
            owned |= compiled.owned;
            if compiled.own {
                // Its set follows from a decision that is not made yet: its values stand in for it.
                for feature in &compiled.features {
                    match feature {
                        Feature::Field(..) if !fields.contains(feature) => fields.push(*feature),
                        Feature::Ask(target, action) if !asks.contains(&(*target, *action)) => {
                            asks.push((*target, *action))
                        }
                        Feature::Owned if !fields.contains(feature) => fields.push(*feature),
                        _ => {}
                    }
                }
            } else if !compiled.features.is_empty() {
                varying.push(at as u32);
            }
        }
        for action in ActionId::all(estate.schema.actions.len()).filter(|a| self.has_meaning(*a, kind)) {
            for need in &estate.schema.actions[action.index()].needs {
                let ask = (need.target, need.action);
                if need.target != Target::Own && !asks.contains(&ask) {
                    asks.push(ask);
                }
            }
        }
        let relevant = ActionId::all(estate.schema.actions.len()).map(|action| {
            let speaks = |id: StatementId| speaks(estate.statement(id), action);
            let own = |id: &StatementId| self.compiled[id.index()].as_ref().expect("in force").own;
            if reached.iter().any(|(id, _)| speaks(*id) && own(id)) {
                return None;
            }
            let varying = varying.iter().enumerate();
            Some(varying.filter(|(_, at)| speaks(reached[**at as usize].0)).map(|(i, _)| i as u32).collect())
        });
        let relevant: Vec<Option<Box<[u32]>>> = relevant.collect();
        let actions = ActionId::all(estate.schema.actions.len());
        let speaking: Vec<u32> = actions.map(|action| self.speaking.number(estate, action, &reached)).collect();
        let is_owned = |at: u32| self.compiled[reached[at as usize].0.index()].as_ref().is_some_and(Compiled::is_owned);
        let by_owner: Box<[u32]> = (0..varying.len() as u32).filter(|i| is_owned(varying[*i as usize])).collect();
        let site = Site {
            short: None,
            met: 0,
            turns: self.turns(kind, &by_owner, &relevant),
            speaking: speaking.into(),
            relevant: relevant.into(),
            reached: reached.into(),
            fitting,
            owned,
            varying: varying.into(),
            by_owner,
            fields: fields.into(),
            asks: asks.into(),
        };
        self.sites.push(site);
        next as usize
    }

    /// By action, whether it may be decided otherwise for an owner: where a statement that speaks of it looks at owners, or
    /// at decisions on the resource itself, and where it needs such an action on the same resource.
    fn turns(&self, kind: KindId, by_owner: &[u32], relevant: &[Option<Box<[u32]>>]) -> Box<[bool]> {
        let schema = &self.estate.schema;
        let looks = |of: &Option<Box<[u32]>>| of.as_ref().is_none_or(|all| all.iter().any(|i| by_owner.contains(i)));
        let fits = |action: &ActionId| self.has_meaning(*action, kind);
        let mut turns: Vec<bool> =
            ActionId::all(relevant.len()).map(|a| fits(&a) && looks(&relevant[a.index()])).collect();
        let needs = |turns: &[bool], action: ActionId| {
            let mut needs = schema.actions[action.index()].needs.iter();
            needs.any(|need| need.target == Target::Own && turns[need.action.index()])
        };
        let fitting = || ActionId::all(relevant.len()).filter(fits);
        while let Some(more) = fitting().find(|a| !turns[a.index()] && needs(&turns, *a)) {
            turns[more.index()] = true;
        }
        turns.into()
    }

    /// The values of a statement's features on a resource.
    fn values(&mut self, id: StatementId, resource: ResourceId) -> Vec<u32> {
        let count = self.compiled(id).features.len();
        let mut values = Vec::with_capacity(count);
        for i in 0..count {
            let value = match self.compiled(id).features[i] {
                Feature::Field(step, field) => self.cells.field(step, field, resource),
                Feature::Ask(target, action) => self.met(resource, target, action, View::Other).0,
                Feature::Owned => self.cells.owned(resource),
            };
            values.push(value);
        }
        values
    }

    /// The users a statement that reaches a resource applies to: a permission where its whole
    /// condition is true, a restriction where it is not false.
    pub(super) fn applies(&mut self, id: StatementId, resource: ResourceId, view: View) -> SetId {
        let compiled = self.compiled(id);
        if let Some(known) = compiled.constant {
            return known;
        }
        let (own, constant) = (compiled.own, compiled.features.is_empty());
        // To most statements it is all one who owns the resource.
        let view = if compiled.owned || own { view } else { View::Other };
        let statement: &'e Statement = self.estate.statement(id);
        if constant && !own {
            let set = self.users_of(statement, resource, view);
            self.compiled(id).constant = Some(set);
            self.learn(id, || Learnt::Constant);
            return set;
        }
        if own {
            return self.users_of(statement, resource, view);
        }
        if self.compiled(id).radices.is_some() {
            let at = self.place(id, resource);
            let found = self.compiled(id).table[view as usize].get(at).copied().unwrap_or(UNMADE);
            if found != UNMADE {
                return found;
            }
            let set = self.users_of(statement, resource, view);
            let table = &mut self.compiled(id).table[view as usize];
            if table.len() <= at {
                table.resize(at + 1, UNMADE);
            }
            table[at] = set;
            self.learn(id, || Learnt::Place(view, at));
            return set;
        }
        let values = self.values(id, resource);
        if let Some(known) = self.compiled(id).known[view as usize].get(&values[..]) {
            return *known;
        }
        let set = self.users_of(statement, resource, view);
        self.learn(id, || Learnt::Values(view, values.clone().into()));
        self.compiled(id).known[view as usize].insert(values.into(), set);
        set
    }

    /// Takes note of what was entered while it works with the sets of another engine.
    fn learn(&mut self, id: StatementId, what: impl FnOnce() -> Learnt) {
        if let Some(borrowed) = &mut self.borrowed {
            borrowed.push((id, what()));
        }
    }

    /// The place of a resource's values in a statement's table.
    fn place(&self, id: StatementId, resource: ResourceId) -> usize {
        let compiled = self.compiled[id.index()].as_ref().expect("only statements in force reach anything");
        let radices = compiled.radices.as_ref().expect("asked before");
        let mut at = 0;
        for (feature, radix) in compiled.features.iter().zip(radices) {
            let code = match feature {
                Feature::Field(step, field) => self.cells.field(*step, *field, resource),
                Feature::Owned => self.cells.owned(resource),
                Feature::Ask(..) => unreachable!("a statement that asks has no table"),
            };
            // A missing value takes the last place.
            at = at * radix + code.min(radix - 1);
        }
        at as usize
    }

    fn users_of(&mut self, statement: &'e Statement, resource: ResourceId, view: View) -> SetId {
        let mut pair = self.who(&statement.who, Some(resource), view);
        for condition in [&statement.what.condition, &statement.condition].into_iter().flatten() {
            if pair.open == SetId::NONE {
                break;
            }
            let next = self.pair(condition, Some(resource), view);
            pair = pair.and(next, &mut self.sets);
        }
        if statement.modality.permits() != self.favourable { pair.yes } else { pair.open }
    }

    /// The layer that controls a resource: the first with a `may` or `may not` whose what covers it.
    pub(super) fn layer(&mut self, site: usize, resource: ResourceId) -> Option<LayerId> {
        let rest = LayerId::new(self.estate.layers.len());
        let mut first: Option<LayerId> = None;
        for i in 0..self.sites[site].reached.len() {
            let (id, _) = self.sites[site].reached[i];
            let statement: &'e Statement = self.estate.statement(id);
            let own = statement.layer.unwrap_or(rest);
            let weighed = matches!(statement.modality, Modality::May | Modality::MayNot);
            if weighed && first.is_none_or(|f| own < f) && self.covering(id, statement, resource) {
                first = Some(own);
            }
        }
        first
    }

    fn covering(&mut self, id: StatementId, statement: &'e Statement, resource: ResourceId) -> bool {
        let Some(condition) = &statement.what.condition else { return true };
        let condition: &'e Condition = condition;
        let cells = &self.cells;
        let value = |feature: &Feature| match feature {
            Feature::Field(step, field) => cells.field(*step, *field, resource),
            Feature::Owned => cells.owned(resource),
            Feature::Ask(..) => unreachable!("in an estate with layers a what-clause looks at no decisions"),
        };
        let compiled = self.compiled[id.index()].as_ref().expect("only statements in force reach anything");
        let values: Vec<u32> = compiled.what.iter().map(value).collect();
        if let Some(known) = compiled.covering.get(&values[..]) {
            return *known;
        }
        let covers = self.judge.condition(condition, None, Some(resource)).not_false();
        self.compiled(id).covering.insert(values.into(), covers);
        covers
    }
}
