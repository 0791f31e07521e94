//! The set engine: all users of a resource at once, without visiting every pair.
//!
//! A decision hangs on the sets of users to whom the statements apply that reach a resource. Statements are compiled to
//! expressions over sets (`compile`), and what of them hangs on the resource is told in three ways:
//!
//! - Where it names many users, and the same ones on many resources, its set is part of what the outcome is looked up by: the
//!   outcome of an action is worked out once for each different combination (`weigh`).
//! - Where it names few users, it is left out of that, and those users are decided one by one (`patch`): an owner, the
//!   readers a document lists, the users of a value that few have, entries of single users.
//! - Where it names many users, and others on nearly every resource, the outcome is worked out in words of a set, counted and
//!   forgotten (`wide`).
//!
//! Bound: time and memory in proportion to users, resources, statements, and users decided one by one, with words of a set
//! for each different outcome, kept only where it is met again. Never resources times users.

mod alone;
mod asked;
mod cells;
mod compile;
mod fold;
mod index;
mod leaf;
mod patch;
mod places;
mod plan;
mod questions;
mod site;
mod weigh;
mod wide;
mod words;

pub use alone::Alone;
pub(crate) use alone::alone;
pub use patch::Cell;
pub(crate) use plan::Plan;
pub use plan::{Probe, Tuning};
pub use questions::{Whom, put};
pub use weigh::{Outcome, OutcomeId, OutcomePart};

use crate::cancel::Cancel;
use crate::decide::{Reason, ReferenceEvaluator};
use crate::sets::store::{SetId, SetStore};
use asked::{HeldBy, KeptHolders};
use bastide_model::condition::ResourceField;
use bastide_model::schema::Target;
use bastide_model::*;
use cells::{Cells, radix};
use compile::Expr;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use leaf::HoldsFor;
use std::rc::Rc;
use words::Words;

/// What an evaluator stands on: the parts of a snapshot.
#[derive(Clone, Copy)]
pub(crate) struct Ground<'s> {
    pub estate: &'s Estate,
    pub moment: &'s Moment,
    pub plan: &'s Plan,
    pub cancel: Option<&'s Cancel>,
}

/// What one core evaluates with: sets and outcomes that were met, and room to work.
pub struct Evaluator<'s> {
    estate: &'s Estate,
    cancel: Option<&'s Cancel>,
    /// How many users there are.
    people: u32,
    plan: &'s Plan,
    cells: Cells<'s>,
    reference: ReferenceEvaluator<'s>,
    sets: SetStore,
    /// By rule, whom it applies to, where that is the same everywhere.
    fixed: Vec<Option<SetId>>,
    /// Who holds an action on any of some places.
    held: HashMap<(ActionId, Box<[ResourceId]>), SetId>,
    /// By atom and number of a value, whether it holds: not known yet, no, yes.
    bits: Vec<Vec<u8>>,
    /// By comparison and number of a value, for whom it holds; none where values are too many.
    leaf_tables: Vec<Option<Vec<Option<HoldsFor>>>>,
    /// Users that those list.
    leaf_lists: Vec<u32>,
    /// By comparison, whether users have few values, and whether resources have.
    leaf_classes: Vec<(bool, bool)>,
    /// By comparison with sets, what their elements are numbered among users' values, if any user has them.
    leaf_elements: Vec<Option<Vec<Option<u32>>>>,
    numbers: Vec<u32>,
    /// By user, how many elements of a set were met; nothing between questions.
    met_times: Vec<u32>,
    sites: site::Sites,
    outcomes: weigh::Outcomes,
    folds: fold::Folds,
    /// What was asked of those above the resource at hand.
    above: Vec<(ResourceId, KeptHolders)>,
    /// What was asked of others.
    elsewhere: HashMap<(ResourceId, ActionId), Option<Rc<HeldBy>>>,
    elsewhere_words: usize,
    pool: Vec<Work<'s>>,
    rooms: Vec<wide::Rooms>,
    spare: Vec<Vec<u64>>,
    cursor: usize,
}

/// To whom a rule applies on the resource at hand.
#[derive(Clone, Copy)]
struct State {
    stamp: u32,
    /// Whom it applies to, but for those listed.
    base: SetId,
    /// Whether these are many, and others on other resources: then [`State::base`] says nothing.
    wide: bool,
    /// Users for whom it is otherwise, as a range of [`Work::turns`].
    turns: (u32, u32),
    /// Where it is wide, the words, once they were asked for.
    words: u32,
}

/// What a target leads to, of an action.
#[derive(Clone, Copy)]
struct MetNeed {
    target: Target,
    action: ActionId,
    /// Who holds it there, but for those listed.
    base: SetId,
    /// Users for whom it is otherwise, as a range of [`Work::turns`].
    turns: (u32, u32),
    /// Where they are many, and others on other resources: the words.
    wide: Option<u32>,
}

/// What is decided on an action.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Decided {
    /// Nothing yet.
    Open,
    /// This, but for the cells of single users.
    Base(OutcomeId),
    /// Worked out in words: a position.
    Wide(u32),
}

/// A resource that is being decided on, and room to do it.
#[derive(Default)]
pub struct Work<'s> {
    /// Told apart from the resource before by this number.
    stamp: u32,
    resource: Option<ResourceId>,
    name: Option<&'s str>,
    site: usize,
    layer: Option<LayerId>,
    states: Vec<State>,
    leaves: Vec<(u32, HoldsFor)>,
    bits: Vec<(u32, bool)>,
    mets: Vec<MetNeed>,
    /// Users that comparisons list.
    lists: Vec<u32>,
    /// Ranges of those that the expression at hand has met.
    touched: Vec<(u32, u32)>,
    /// Users for whom something is otherwise than for all others, and what.
    turns: Vec<(u32, bool)>,
    /// Statements that belong to few resources alone, with the depth they stand at.
    own: Vec<(u32, u16)>,
    decided: Vec<Decided>,
    /// By action, users who are decided otherwise than their outcome says.
    cells: Vec<Vec<Cell>>,
    wides: Vec<wide::Wide>,
    words: Words,
    key: Vec<u32>,
    classes: Vec<u32>,
    gathered: Vec<patch::CellTurn>,
    users: Vec<u32>,
    /// By how texts are folded, what the last one came to.
    texts: Vec<fold::TextMet>,
    /// Where a need of the action at hand is met by many: whom it keeps from it, or whom it does not, whichever are fewer.
    few: Vec<u32>,
    spare_mets: Vec<Vec<MetNeed>>,
    items: Vec<wide::Item>,
}

/// What an expression gives: whom, whether some are listed for whom it is otherwise, and whether it must be put into words.
#[derive(Clone, Copy)]
struct Value {
    base: SetId,
    turns: bool,
    wide: bool,
}

impl Value {
    fn known(base: SetId) -> Value {
        Value { base, turns: false, wide: false }
    }

    fn is(self, set: SetId) -> bool {
        self.base == set && !self.turns && !self.wide
    }
}

impl Work<'_> {
    /// What is decided on an action: nothing where it has no meaning.
    pub fn decided(&self, action: ActionId) -> Decided {
        self.decided[action.index()]
    }

    /// Users who are decided on an action otherwise than its outcome says, in order.
    pub fn cells(&self, action: ActionId) -> &[Cell] {
        &self.cells[action.index()]
    }

    /// What was worked out in words.
    pub fn wide(&self, wide: u32) -> ([u32; Reason::ALL.len()], &[u64]) {
        let of = &self.wides[wide as usize];
        (of.counts, self.words.get(of.allowed))
    }
}

impl<'s> Evaluator<'s> {
    pub(crate) fn of_all(ground: Ground<'s>) -> Evaluator<'s> {
        let mut all = FixedBitSet::with_capacity(ground.estate.schema().actions.len());
        all.insert_range(..);
        Self::new(ground, all)
    }

    /// For some of the actions. What these hang on must be among them; the others have no meaning to it.
    pub(crate) fn new(ground: Ground<'s>, wanted: FixedBitSet) -> Evaluator<'s> {
        let Ground { estate, moment, plan, cancel } = ground;
        let few = |count: usize| count <= plan.tuning.classes;
        let values = |field: &compile::Leaf| radix(estate, field.field.1);
        let classes = plan.parts.leaves.iter().map(|leaf| {
            let users = plan.parts.indexes.get(leaf.index as usize).is_some_and(|index| few(index.len()));
            (users, values(leaf).is_some_and(|values| few(values as usize)))
        });
        let tables = plan.parts.leaves.iter().map(|leaf| {
            let often = |values: &u32| *values as usize * 4 <= estate.catalog().len();
            let values = values(leaf).filter(often).filter(|_| leaf.relation != compile::Relation::Owner);
            values.map(|values| vec![None; values as usize])
        });
        let elements = plan.parts.leaves.iter().map(|leaf| {
            let compile::Leaf { field: (_, ResourceField::Attribute(id)), relation, .. } = leaf else { return None };
            let column = estate.catalog().attributes[id.index()].elements().filter(|_| relation.is_of_sets())?;
            let index = &plan.parts.indexes[leaf.index as usize];
            Some(column.values.iter().map(|element| index.find(&element.datum())).collect())
        });
        Evaluator {
            estate,
            cancel,
            people: estate.people().len() as u32,
            plan,
            cells: Cells::of(estate),
            reference: ReferenceEvaluator::asking(estate, moment),
            sets: SetStore::on(&plan.sets),
            fixed: plan
                .rules
                .iter()
                .map(|rule| if let Expr::Set(set) = rule.expr { Some(set) } else { None })
                .collect(),
            held: HashMap::new(),
            bits: vec![Vec::new(); plan.parts.atoms.len()],
            leaf_tables: tables.collect(),
            leaf_lists: Vec::new(),
            leaf_classes: classes.collect(),
            leaf_elements: elements.collect(),
            numbers: Vec::new(),
            met_times: Vec::new(),
            sites: site::Sites::new(estate, plan, wanted),
            outcomes: weigh::Outcomes::default(),
            folds: fold::Folds::default(),
            above: Vec::new(),
            elsewhere: HashMap::new(),
            elsewhere_words: 0,
            pool: Vec::new(),
            rooms: Vec::new(),
            spare: Vec::new(),
            cursor: 0,
        }
    }

    /// The estate.
    pub fn estate(&self) -> &'s Estate {
        self.estate
    }

    /// An outcome.
    pub fn outcome(&self, outcome: OutcomeId) -> &Outcome {
        self.outcomes.get(outcome)
    }

    /// All outcomes that were met, by number.
    pub fn outcomes(&self) -> &[Outcome] {
        self.outcomes.all()
    }

    /// The sets that outcomes speak of.
    pub fn sets(&self) -> &SetStore {
        &self.sets
    }

    /// Decides every action on a resource. What is given back is to be given back ([`Evaluator::done`]).
    pub fn decide(&mut self, resource: ResourceId) -> Work<'s> {
        let catalog = self.estate.catalog();
        while self.above.last().is_some_and(|(above, _)| !catalog.contains(*above, resource)) {
            self.above.pop();
        }
        let mut work = self.begin(resource);
        for at in 0..self.sites.get(work.site).order.len() {
            let action = self.sites.get(work.site).order[at];
            self.action(&mut work, action);
        }
        let is_source = self.plan.sources.contains(resource.index());
        let is_above = self.plan.asks_up && !catalog.is_leaf(resource);
        if is_source || is_above {
            self.make_room();
            let asked = |action: ActionId| self.plan.asked.contains(action.index()).then(|| self.keep(&work, action));
            let kept: KeptHolders = ActionId::all(work.decided.len()).map(|action| asked(action).flatten()).collect();
            if is_source {
                for action in self.plan.asked.ones().map(ActionId::new) {
                    self.put_elsewhere(resource, action, kept[action.index()].clone());
                }
            }
            if is_above {
                self.above.push((resource, kept));
            }
        }
        work
    }

    /// Takes back the room to work.
    pub fn done(&mut self, work: Work<'s>) {
        self.pool.push(work);
    }

    /// Whether the question is stopped, so that what is told from now on is not the answer.
    pub(crate) fn is_stopped(&self) -> bool {
        self.cancel.is_some_and(Cancel::is_met)
    }

    fn begin(&mut self, resource: ResourceId) -> Work<'s> {
        let mut work = self.pool.pop().unwrap_or_else(|| {
            let state = State { stamp: 0, base: SetId::NONE, wide: false, turns: (0, 0), words: 0 };
            Work {
                states: vec![state; self.plan.rules.len()],
                bits: vec![(0, false); self.plan.parts.atoms.len()],
                cells: vec![Vec::new(); self.estate.schema().actions.len()],
                words: Words::new(self.sets.width()),
                ..Work::default()
            }
        });
        work.stamp += 1;
        work.resource = Some(resource);
        work.name = None;
        work.mets.clear();
        work.lists.clear();
        work.touched.clear();
        work.turns.clear();
        work.own.clear();
        work.wides.clear();
        work.words.clear();
        work.decided.clear();
        work.decided.resize(self.estate.schema().actions.len(), Decided::Open);
        work.cells.iter_mut().for_each(Vec::clear);
        if self.is_stopped() {
            work.site = self.bare_site(resource);
            work.layer = None;
            return work;
        }
        work.site = self.site(resource);
        self.find_own(&mut work, resource);
        if !self.estate.layers().is_empty() {
            work.layer = self.layer(&mut work);
        }
        work
    }

    /// The statements that belong to few resources alone and reach this one.
    fn find_own(&mut self, work: &mut Work<'s>, resource: ResourceId) {
        let (own, catalog) = (&self.plan.own, self.estate.catalog());
        if own.at.is_empty() {
            return;
        }
        let mut at = own.nearest(catalog, resource, &mut self.cursor);
        while at != plan::NOWHERE {
            let stands = own.at[at as usize];
            let depth = catalog.depth(stands);
            for one in own.list(at) {
                let rule = &self.plan.rules[one.rule as usize];
                let statement = self.estate.statement(rule.id);
                let reaches = match one.reach {
                    Reach::Under => true,
                    Reach::Below => stands != resource,
                    Reach::At => stands == resource,
                };
                let kinds = statement.what.kinds.as_deref();
                let cut = || crate::decide::place::cut_depth(catalog, statement, resource);
                if reaches
                    && depth >= cut()
                    && (kinds.is_none() || self.estate.schema().is_any(catalog.kind(resource), kinds))
                {
                    work.own.push((one.rule, depth));
                }
            }
            at = own.above[at as usize];
        }
    }

    /// Whether something that hangs on the resource alone holds.
    fn bit(&mut self, work: &mut Work<'s>, atom: u32) -> bool {
        let at = atom as usize;
        if work.bits[at].0 == work.stamp {
            return work.bits[at].1;
        }
        let resource = work.resource.expect("it is being decided on");
        let plan = self.plan;
        let of = &plan.parts.atoms[at];
        let ask = |reference: &ReferenceEvaluator| {
            let truth = reference.condition(&of.condition, None, Some(resource));
            if of.open { truth.not_false() } else { truth.is_true() }
        };
        let is = match of.column {
            Some((step, field)) => {
                let code = self.cells.field(step, field, resource) as usize;
                if self.bits[at].is_empty() {
                    let values = radix(self.estate, field).expect("values have numbers");
                    self.bits[at] = vec![0; values as usize];
                }
                let code = code.min(self.bits[at].len() - 1);
                if self.bits[at][code] == 0 {
                    self.bits[at][code] = 1 + u8::from(ask(&self.reference));
                }
                self.bits[at][code] == 2
            }
            None => match &of.like {
                // A resource always has a name.
                Some(((condition::Step::Own, ResourceField::Name), pattern)) => {
                    pattern.fits(work.name.get_or_insert_with(|| self.estate.catalog().name(resource)))
                }
                _ => ask(&self.reference),
            },
        };
        work.bits[at] = (work.stamp, is);
        is
    }

    /// To whom a rule applies on the resource at hand.
    fn state(&mut self, work: &mut Work<'s>, rule: u32) -> State {
        let at = rule as usize;
        if work.states[at].stamp == work.stamp {
            return work.states[at];
        }
        let plan = self.plan;
        let expr = &plan.rules[at].expr;
        if let Expr::And(parts) = expr
            && let [Expr::Bit(atom), Expr::Set(set)] = &parts[..]
        {
            let base = if self.bit(work, *atom) { *set } else { SetId::NONE };
            let state = State { stamp: work.stamp, base, wide: false, turns: (0, 0), words: u32::MAX };
            work.states[at] = state;
            return state;
        }
        work.touched.clear();
        let value = self.value(work, expr);
        let from = work.turns.len() as u32;
        if value.turns && !value.wide {
            work.users.clear();
            for at in 0..work.touched.len() {
                let (from, to) = work.touched[at];
                work.users.extend_from_slice(&work.lists[from as usize..to as usize]);
            }
            if work.touched.len() > 1 {
                work.users.sort_unstable();
                work.users.dedup();
            }
            let users = std::mem::take(&mut work.users);
            for &user in &users {
                let applies = self.applies(work, expr, user);
                if applies != self.sets.contains(value.base, user as usize) {
                    work.turns.push((user, applies));
                }
            }
            work.users = users;
        }
        let turns = (from, work.turns.len() as u32);
        let state = State { stamp: work.stamp, base: value.base, wide: value.wide, turns, words: u32::MAX };
        work.states[at] = state;
        state
    }

    /// For whom an expression holds, as far as that is not for few or in words; whom it lists is in [`Work::touched`].
    fn value(&mut self, work: &mut Work<'s>, expr: &'s Expr) -> Value {
        match expr {
            Expr::Set(set) => Value::known(*set),
            Expr::Held(action, places) => Value::known(self.held(*action, places)),
            Expr::Bit(atom) => Value::known(if self.bit(work, *atom) { SetId::ALL } else { SetId::NONE }),
            Expr::Leaf(leaf) => {
                let resource = work.resource.expect("it is being decided on");
                match self.leaf(work, *leaf, resource) {
                    HoldsFor::Set(set) => Value::known(set),
                    HoldsFor::But { set, list, .. } => {
                        work.touched.push(list);
                        Value { base: set, turns: true, wide: false }
                    }
                    HoldsFor::Wide(_) => Value { base: SetId::NONE, turns: false, wide: true },
                }
            }
            Expr::Ask(target, action) => {
                // What is asked meanwhile has expressions of its own.
                let touched = std::mem::take(&mut work.touched);
                let met = self.met(work, *target, *action);
                work.touched = touched;
                if met.turns.0 < met.turns.1 {
                    let from = work.lists.len() as u32;
                    let listed = work.turns[met.turns.0 as usize..met.turns.1 as usize].iter().map(|(user, _)| *user);
                    work.lists.extend(listed);
                    work.touched.push((from, work.lists.len() as u32));
                }
                Value { base: met.base, turns: met.turns.0 < met.turns.1, wide: met.wide.is_some() }
            }
            Expr::Not(inner) => {
                let inner = self.value(work, inner);
                Value { base: self.sets.complement(inner.base), ..inner }
            }
            Expr::And(parts) => self.several(work, parts, SetId::NONE, SetId::ALL, SetStore::intersect),
            Expr::Or(parts) => self.several(work, parts, SetId::ALL, SetId::NONE, SetStore::union),
        }
    }

    /// Several expressions in one; `settles` is what no other can change.
    fn several(
        &mut self,
        work: &mut Work<'s>,
        parts: &'s [Expr],
        settles: SetId,
        empty: SetId,
        join: fn(&mut SetStore, SetId, SetId) -> SetId,
    ) -> Value {
        let mark = work.touched.len();
        let mut all = Value::known(empty);
        for part in parts {
            let value = self.value(work, part);
            if value.is(settles) {
                work.touched.truncate(mark);
                return value;
            }
            all = Value {
                base: join(&mut self.sets, all.base, value.base),
                turns: all.turns | value.turns,
                wide: all.wide | value.wide,
            };
            if all.is(settles) {
                work.touched.truncate(mark);
                return all;
            }
        }
        all
    }

    /// Whether an expression holds for one user. Comparisons and decisions elsewhere must have been asked for.
    fn applies(&self, work: &Work, expr: &Expr, user: u32) -> bool {
        match expr {
            Expr::Set(set) => self.sets.contains(*set, user as usize),
            Expr::Held(action, places) => self.sets.contains(self.held[&(*action, places.clone())], user as usize),
            Expr::Bit(atom) => work.bits[*atom as usize].1,
            Expr::Leaf(leaf) => match work.leaves[*leaf as usize].1 {
                HoldsFor::Set(set) => self.sets.contains(set, user as usize),
                HoldsFor::But { set, list: (from, to), truth } => {
                    let listed = work.lists[from as usize..to as usize].binary_search(&user).is_ok();
                    if listed { truth } else { self.sets.contains(set, user as usize) }
                }
                // Where this counted, the rule would be put into words: another part settles it, whatever is said here.
                HoldsFor::Wide(_) => false,
            },
            Expr::Ask(target, action) => self.holds(work, *target, *action, user),
            Expr::Not(inner) => !self.applies(work, inner, user),
            Expr::And(parts) => parts.iter().all(|part| self.applies(work, part, user)),
            Expr::Or(parts) => parts.iter().any(|part| self.applies(work, part, user)),
        }
    }

    /// Whom a rule applies to that is the same everywhere, or on the resource at hand but for those listed.
    fn base(&mut self, work: &mut Work<'s>, rule: u32) -> SetId {
        if let Some(fixed) = self.fixed[rule as usize] {
            return fixed;
        }
        let plan = self.plan;
        let expr = &plan.rules[rule as usize].expr;
        if plan.rules[rule as usize].constant {
            let value = self.value(work, expr);
            self.fixed[rule as usize] = Some(value.base);
            return value.base;
        }
        self.state(work, rule).base
    }
}
