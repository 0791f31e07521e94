//! What an estate is evaluated by: statements compiled, where they reach, and what belongs to few resources alone.
//! Never changed once it is made, and shared by all cores.

use super::compile::{self, Compiler, Expr, Parts};
use super::places::{Anchored, Places};
use crate::decide::ReferenceEvaluator;
use crate::sets::store::{SetId, SetStore};
use bastide_model::condition::{Condition, Term, Who};
use bastide_model::schema::Target;
use bastide_model::statement::Place;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::sync::Arc;

/// What tells narrow from broad. Whatever the numbers, the answers are the same; tests try several.
#[derive(Clone, Copy, Debug)]
pub struct Tuning {
    /// So many users are decided one by one; where there are more, all are at once.
    pub narrow: usize,
    /// Values of which there are so many at most have sets of their own, which are kept.
    pub classes: usize,
    /// Statements that stand at one place, times the resources it holds: up to so many, they belong to those alone.
    pub own: usize,
    /// Once so many words of sets are kept, an outcome is kept only where it is met again.
    pub once: usize,
    /// Once so many words of sets are kept by one core, no further outcome is kept: what is not known is worked out in words.
    pub most: usize,
    /// What takes a user by an outcome is put down for everybody once it was asked so many times.
    pub often: u32,
    /// So many words are kept of which patterns names or paths fit, for each list of patterns.
    pub texts: usize,
    /// So many words of users who gain or lose something are kept, of each sort; who comes then is worked out again where it
    /// is asked for.
    pub told: usize,
}

impl Tuning {
    /// What suits an estate.
    pub fn of(estate: &Estate) -> Tuning {
        let words = estate.people().len().div_ceil(64);
        Tuning {
            narrow: 4 + words / 8,
            classes: (estate.catalog().len() / 64).min(2048),
            own: 48,
            // Of few users words are soon worked out; to keep a set is not.
            once: (words << 12).min(1 << 19),
            most: 1 << 26,
            // To put it down costs about as much as so many questions.
            often: (estate.people().len() / 8) as u32,
            texts: 1 << 18,
            told: 1 << 24,
        }
    }
}

/// Something that is asked by itself, for whom it holds on a resource: for certain, or with `true` behind it as far as a
/// missing value leaves that open.
pub enum Probe<'p> {
    /// A who-clause.
    Who(&'p Who, bool),
    /// The terms of one, without its condition.
    Terms(&'p Who, bool),
    /// A condition.
    Condition(&'p Condition, bool),
    /// A statement, without its places and kinds.
    Statement(&'p Statement, bool),
}

impl Probe<'_> {
    fn compiled(&self, compiler: &mut Compiler) -> Expr {
        match self {
            Probe::Who(who, open) => compiler.who(who, *open),
            Probe::Terms(who, open) => compiler.terms(who, *open),
            Probe::Condition(condition, open) => compiler.condition(condition, *open),
            Probe::Statement(statement, open) => compiler.statement(statement, *open),
        }
    }
}

impl Tuning {
    /// The same, with as many users as possible in sets: for what is told set by set, where an estate is small enough.
    pub fn folding(self, estate: &Estate) -> Tuning {
        if estate.people().len() * estate.catalog().len() > MOST_FOLDED {
            return self;
        }
        Tuning { narrow: 0, classes: usize::MAX, own: 0, once: usize::MAX, most: usize::MAX, ..self }
    }
}

/// So many pairs of users and resources are told set by set.
const MOST_FOLDED: usize = 20_000_000;

/// A statement that is in force.
pub struct Rule {
    /// Which.
    pub id: StatementId,
    /// Its modality.
    pub modality: Modality,
    /// The layer it is weighed in; the last one is `rest`.
    pub layer: LayerId,
    /// By action, whether it speaks of it: it lists it, or is a ceiling that leaves it out.
    pub speaks: FixedBitSet,
    /// To whom it applies.
    pub expr: Expr,
    /// Whether that is the same whatever the resource.
    pub constant: bool,
    /// The one user it names, where it names one and asks nothing else: then there is no expression.
    pub one: Option<UserId>,
    /// In an estate with layers, where its what-clause is not false, if not everywhere it reaches.
    pub covering: Option<Expr>,
}

/// A statement that belongs to few resources alone.
#[derive(Clone, Copy, Debug)]
pub struct Own {
    /// The position among the rules.
    pub rule: u32,
    /// How far it reaches.
    pub reach: Reach,
}

/// Statements that belong to few resources alone, by the resource they stand at.
#[derive(Default)]
pub struct Owned {
    /// The resources, in order.
    pub at: Vec<ResourceId>,
    /// Where the statements of each begin, and where the last ones end.
    pub starts: Vec<u32>,
    /// The statements.
    pub all: Vec<Own>,
    /// Of each resource, the nearest one above that has any: a position, [`NOWHERE`] where there is none.
    pub above: Vec<u32>,
}

/// No position.
pub const NOWHERE: u32 = u32::MAX;

/// What an estate is evaluated by at a moment.
pub struct Plan {
    /// Sets that statements mention.
    pub sets: Arc<SetStore>,
    /// Statements in force that decide something, in policy order.
    pub rules: Vec<Rule>,
    /// What expressions mention.
    pub parts: Parts,
    /// By statement, the position of its rule; [`NOWHERE`] where it has none.
    pub rule_of: Vec<u32>,
    /// Rules without a place.
    pub everywhere: Vec<Anchored>,
    /// Which rules with places reach each resource.
    pub places: Places,
    /// Rules that belong to few resources alone.
    pub own: Owned,
    /// Who is active.
    pub active: SetId,
    /// Who is not.
    pub inactive: SetId,
    /// Rules with places that belong to more than few resources.
    placed: Vec<StatementId>,
    /// Clauses and conditions that are asked by themselves.
    pub probes: Vec<Expr>,
    /// The actions that are asked for on other resources.
    pub asked: FixedBitSet,
    /// Whether anything asks what is decided on a parent or further up.
    pub asks_up: bool,
    /// Resources of which others are links or copies, where anything asks what is decided on sources.
    pub sources: FixedBitSet,
    /// What tells narrow from broad.
    pub tuning: Tuning,
}

impl Plan {
    /// The rule of a statement, where it is in force and can apply to anybody.
    pub fn rule(&self, id: StatementId) -> Option<u32> {
        Some(self.rule_of[id.index()]).filter(|rule| *rule != NOWHERE)
    }

    /// For an estate at a moment, which is proven free of circles. With `favourable`, a missing value is taken in the users'
    /// favour. `beside`: an estate of which this one came about by changes, and its plan.
    pub fn new(
        reference: &ReferenceEvaluator,
        favourable: bool,
        tuning: Tuning,
        beside: Option<(&Estate, &Plan)>,
        probes: &[Probe],
    ) -> Plan {
        let estate = reference.estate();
        let catalog = estate.catalog();
        let mut sets = SetStore::new(estate.people().len());
        let mut parts = Parts::default();
        let ordered = compile::ordered_fields(estate);
        let mut compiler = Compiler::new(reference, &mut sets, &mut parts, &ordered);
        let (mut rules, mut rule_of) = (Vec::new(), vec![NOWHERE; estate.statements().len()]);
        let (mut own, mut everywhere, mut placed) = (Vec::new(), Vec::new(), Vec::new());
        let rest = LayerId::new(estate.layers().len());
        let layered = !estate.layers().is_empty();
        // How many of them stand at each place.
        let mut stand: HashMap<ResourceId, usize> = HashMap::new();
        // There may be as many as resources: what each says by itself is read by all cores.
        let live = reference.live.par_iter().with_min_len(1024).map(|id| {
            let statement = estate.statement(*id);
            let actions = ActionId::all(estate.schema().actions.len());
            let speaks: FixedBitSet = actions.filter(|a| statement.speaks_of(*a)).map(|a| a.index()).collect();
            (*id, statement, speaks, own_place(statement))
        });
        let live: Vec<(StatementId, &Statement, FixedBitSet, Option<Place>)> = live.collect();
        let places = live.iter().filter_map(|(.., place)| place.as_ref());
        places.for_each(|place| *stand.entry(place.resource).or_default() += 1);
        for (id, statement, speaks, own_place) in live {
            if speaks.is_clear() && !layered {
                continue;
            }
            let open = statement.modality.permits() == favourable;
            let few = |place: &Place| catalog.subtree(place.resource).len() * stand[&place.resource] <= tuning.own;
            let mut alone = own_place.filter(few);
            let one = match &statement.who.terms[..] {
                [Term::User(user)] if alone.is_some() => Some(*user),
                _ => None,
            };
            let expr = if one.is_some() { compile::constant(false) } else { compiler.statement(statement, open) };
            // What asks who holds something somewhere is no plain set.
            alone = alone.filter(|_| matches!(expr, Expr::Set(_)));
            if matches!(expr, Expr::Set(SetId::NONE)) && one.is_none() && !layered {
                continue;
            }
            let covering = statement.what.condition.as_ref().filter(|_| layered);
            let covering = covering.map(|condition| compile::covering(&mut compiler, condition, true));
            rule_of[id.index()] = rules.len() as u32;
            match (alone, &statement.what.places) {
                (Some(place), _) => own.push((place.resource, Own { rule: rules.len() as u32, reach: place.reach })),
                (None, None) => everywhere.push((id, 0)),
                (None, Some(_)) => placed.push(id),
            }
            let layer = statement.layer.unwrap_or(rest);
            let constant = expr.is_constant();
            rules.push(Rule { id, modality: statement.modality, layer, speaks, expr, constant, one, covering });
        }
        let probes = probes.iter().map(|probe| probe.compiled(&mut compiler)).collect();
        let active = sets.of(estate.people().active().ones());
        let inactive = sets.complement(active);
        let (mut asked, mut asks_up, mut asks_sources) =
            (FixedBitSet::with_capacity(estate.schema().actions.len()), false, false);
        let mut ask = |target: Target, action: ActionId| {
            if target != Target::Own {
                asked.grow_and_insert(action.index());
                asks_up |= matches!(target, Target::Parent | Target::Kind(_));
                asks_sources |= target == Target::Source;
            }
        };
        for action in &estate.schema().actions {
            action.needs.iter().for_each(|need| ask(need.target, need.action));
        }
        for expr in rules.iter().map(|rule: &Rule| &rule.expr).chain(&probes) {
            expr.visit(&mut |inner| {
                if let Expr::Ask(target, action) = inner {
                    ask(*target, *action);
                }
            });
        }
        let mut sources = FixedBitSet::with_capacity(catalog.len());
        if asks_sources {
            for source in catalog.sources.all() {
                if let Source::Resource(source) = source {
                    sources.insert(source.index());
                }
            }
        }
        let same_tree = |old: &Catalog| {
            std::ptr::eq(old, &**catalog) || (old.parents == catalog.parents && old.barriers == catalog.barriers)
        };
        let places = match beside.filter(|(old, _)| same_tree(old.catalog())) {
            Some((old, plan)) => plan.places.beside(old, estate, &plan.placed, &placed),
            None => Places::new(estate, &placed),
        };
        Plan {
            sets: Arc::new(sets),
            rules,
            parts,
            rule_of,
            everywhere,
            places,
            placed,
            probes,
            own: Owned::of(catalog, own),
            active,
            inactive,
            asked,
            asks_up,
            sources,
            tuning,
        }
    }
}

/// The one place of a statement that asks nothing but who it is.
fn own_place(statement: &Statement) -> Option<Place> {
    let plain = statement.conditions().next().is_none() && !statement.who.terms.contains(&Term::Owner);
    match statement.what.places.as_deref() {
        Some([place]) if plain => Some(*place),
        _ => None,
    }
}

impl Owned {
    fn of(catalog: &Catalog, mut own: Vec<(ResourceId, Own)>) -> Owned {
        own.sort_by_key(|(resource, own)| (*resource, own.rule));
        let mut owned = Owned::default();
        let mut around: Vec<u32> = Vec::new();
        for (resource, one) in own {
            if owned.at.last() != Some(&resource) {
                while around.last().is_some_and(|at| !catalog.contains(owned.at[*at as usize], resource)) {
                    around.pop();
                }
                owned.above.push(around.last().copied().unwrap_or(NOWHERE));
                around.push(owned.at.len() as u32);
                owned.at.push(resource);
                owned.starts.push(owned.all.len() as u32);
            }
            owned.all.push(one);
        }
        owned.starts.push(owned.all.len() as u32);
        owned
    }

    /// The nearest of a resource and those above it that has any, and where to begin to look next time.
    pub fn nearest(&self, catalog: &Catalog, resource: ResourceId, cursor: &mut usize) -> u32 {
        let is = |cursor: usize| {
            (cursor == 0 || self.at[cursor - 1] <= resource) && self.at.get(cursor).is_none_or(|next| *next > resource)
        };
        // The one after it is asked for most often.
        if *cursor > self.at.len() || !is(*cursor) {
            *cursor += 1;
            if *cursor > self.at.len() || !is(*cursor) {
                *cursor = self.at.partition_point(|at| *at <= resource);
            }
        }
        let mut at = if *cursor == 0 { NOWHERE } else { *cursor as u32 - 1 };
        while at != NOWHERE && !catalog.contains(self.at[at as usize], resource) {
            at = self.above[at as usize];
        }
        at
    }

    /// The statements that stand at a resource, by its position.
    pub fn list(&self, at: u32) -> &[Own] {
        &self.all[self.starts[at as usize] as usize..self.starts[at as usize + 1] as usize]
    }
}
