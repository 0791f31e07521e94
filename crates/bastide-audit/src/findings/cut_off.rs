//! `cut-off`: a permission of which a good part lies behind barriers, where those it is for get in by nothing else.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::survey::shares;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::change::{Change, ResourceCell, entry};
use bastide_engine::decide::place::anchor;
use bastide_engine::evaluate::Probe;
use bastide_engine::sets::count;
use bastide_model::condition::{Operand, ResourceField, Term, Who};
use bastide_model::schema::Travel;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "cut-off",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a permission of which more than a set share lies behind resources that do not inherit, where its users get in by nothing else",
    why: "What does not inherit keeps out everything that is given above, what was meant for it as well.",
    mind: "It was closed against these very users. Where a label or a state of what is shut says that it is meant to be, and \
           the permission does not ask for that, nothing is reported.",
    check: Check::Policy(check),
};

/// How many places are named, and opened by what is suggested.
const NAMED: usize = 4;

/// What barriers keep from the users of one permission.
#[derive(Default)]
struct Cut {
    /// Resources they would reach there, whether they get in by something else or not.
    behind: u64,
    /// Of them, those on which something is kept from them.
    resources: u64,
    /// Decisions it would speak of, allowed by something else or not.
    spoken: u64,
    /// Of them, those that nothing else allows.
    kept: u64,
    barriers: BTreeSet<ResourceId>,
    example: Option<Triple>,
}

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let catalog = estate.catalog();
    let placed = |s: &Statement| s.modality == Modality::May && s.what.places.is_some();
    let live: Vec<(StatementId, &Statement)> = case.live().filter(|(_, s)| placed(s)).collect();
    if live.is_empty() || catalog.barriers.is_clear() {
        return Vec::new();
    }
    let closed_states = closed_states(catalog);
    let mut found = Vec::new();
    for ((id, s), cut) in live.iter().copied().zip(cuts(case, survey, &live)) {
        let all = survey.of(id).triples + cut.spoken;
        let meant = cut.barriers.iter().all(|barrier| is_meant(estate, s, *barrier, &closed_states));
        if cut.kept == 0 || meant || (cut.kept as f64) < case.limits.cut_off * all as f64 {
            continue;
        }
        let names: Vec<String> = cut.barriers.iter().take(NAMED).map(|b| format!("`{}`", catalog.path(*b))).collect();
        let more = match cut.barriers.len() - names.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let inherit = if cut.barriers.len() == 1 { "which does not inherit" } else { "which do not inherit" };
        let message = format!("{} stops at {}{more}, {inherit}", case.named(id), names.join(", "));
        let whole = survey.of(id).resources as u64 + cut.behind;
        let one = Found::of(case, id, message)
            .naming_resources(estate, cut.barriers.iter().copied())
            .evidence(format!("{} of the {} it speaks of are closed by that", cut.resources, many(whole, "resource")))
            .evidence(format!(
                "of the {} it speaks of, {} lie there, and nothing else allows them",
                many(all, "decision"),
                cut.kept
            ))
            .example(cut.example);
        found.push(match mended(s, &cut.barriers) {
            Some((words, changes)) => one.suggest(words, changes),
            None => one.suggest("to let its users in, an entry on each of these places", Vec::new()),
        });
    }
    found
}

/// By number, whether all resources with a state keep out what is given above.
fn closed_states(catalog: &Catalog) -> Vec<bool> {
    let mut closed = vec![true; catalog.states.distinct().len()];
    let inheriting = catalog.all().filter(|resource| !catalog.barriers.contains(resource.index()));
    inheriting.filter_map(|resource| catalog.states.code(resource.index())).for_each(|state| {
        closed[state as usize] = false;
    });
    closed
}

/// Whether a label or a state of a barrier says that it is meant to keep out what a statement gives: a label of its own
/// above the lowest step, or a state that nothing has which inherits; and the statement does not ask for that.
fn is_meant(estate: &Estate, s: &Statement, barrier: ResourceId, closed_states: &[bool]) -> bool {
    let catalog = estate.catalog();
    let asks = |field: ResourceField| {
        let mut found = false;
        s.conditions().for_each(|condition| {
            condition.visit(&mut |inner| {
                found |= inner.test.operands().iter().any(|o| matches!(o, Operand::Resource(_, of) if *of == field));
            });
        });
        found
    };
    let labels = estate.schema().resource_attributes.iter().enumerate().filter(|(_, a)| a.travel == Travel::Highest);
    let labelled = labels.into_iter().any(|(at, _)| {
        let own = catalog.own[at].as_ref().unwrap_or(&catalog.attributes[at]).get(barrier.index());
        matches!(own, Some(Value::Step(_, step)) if *step > 0)
            && !asks(ResourceField::Attribute(ResourceAttributeId::new(at)))
    });
    let state = catalog.states.code(barrier.index());
    labelled || (state.is_some_and(|state| closed_states[state as usize]) && !asks(ResourceField::State))
}

/// A statement that a barrier may cut off, and the deepest of its places above that.
type Above = (u32, ResourceId);

/// What barriers keep from the users of each of some statements. Each resource is decided on once.
fn cuts(case: &Case, survey: &Survey, live: &[(StatementId, &Statement)]) -> Vec<Cut> {
    let catalog = case.estate.catalog();
    let probes: Vec<Probe> = live.iter().map(|(_, s)| Probe::Statement(s, false)).collect();
    let snapshot = survey.snapshot.asking(&probes);
    let mut at_place: HashMap<ResourceId, Vec<u32>> = HashMap::new();
    for (at, (_, s)) in live.iter().enumerate() {
        for place in s.what.places.iter().flatten().filter(|place| place.reach != Reach::At) {
            at_place.entry(place.resource).or_default().push(at as u32);
        }
    }
    // By barrier, the one above it and what is placed above it.
    let mut barriers: HashMap<ResourceId, (Option<ResourceId>, Vec<Above>)> = HashMap::new();
    for barrier in catalog.barriers.ones().map(ResourceId::new) {
        let mut deepest: HashMap<u32, ResourceId> = HashMap::new();
        let mut next = None;
        for above in catalog.upward(barrier).skip(1) {
            if next.is_none() && catalog.barriers.contains(above.index()) {
                next = Some(above);
            }
            for at in at_place.get(&above).into_iter().flatten() {
                deepest.entry(*at).or_insert(above);
            }
        }
        let mut above: Vec<Above> = deepest.into_iter().collect();
        above.sort_unstable();
        barriers.insert(barrier, (next, above));
    }
    let mut nearest: Vec<Option<ResourceId>> = Vec::with_capacity(catalog.len());
    for resource in catalog.all() {
        let is_barrier = catalog.barriers.contains(resource.index());
        let above = || catalog.parent(resource).and_then(|parent| nearest[parent.index()]);
        nearest.push(if is_barrier { Some(resource) } else { above() });
    }
    let active = &survey.active;
    let share = |share: Range<u32>| {
        let mut cuts: Vec<Cut> = (0..live.len()).map(|_| Cut::default()).collect();
        let mut seen: HashSet<(u32, ResourceId, ResourceId)> = HashSet::new();
        let mut engine = snapshot.evaluator();
        let mut users = engine.nobody();
        let mut lists: Vec<FixedBitSet> = Vec::new();
        for resource in share.map(ResourceId) {
            let Some(barrier) = nearest[resource.index()] else { continue };
            let (_, above) = &barriers[&barrier];
            if above.is_empty() {
                continue;
            }
            let kind = catalog.kind(resource);
            let mut work = engine.look(resource);
            lists.iter_mut().for_each(FixedBitSet::clear);
            // The actions that were decided on, and where the list of who is allowed it is.
            let mut decided: Vec<ActionId> = Vec::new();
            for &(at, place) in above {
                let (_, s) = live[at as usize];
                let several = s.what.places.as_ref().is_some_and(|places| places.len() > 1);
                if !case.estate.schema().is_any(kind, s.what.kinds.as_deref())
                    || several && anchor(case.estate, s, resource).is_some()
                {
                    continue;
                }
                engine.probe(&mut work, at as usize, &mut users);
                users.intersect_with(active);
                let number = u64::from(count::listed(&users));
                if number == 0 {
                    continue;
                }
                let cut = &mut cuts[at as usize];
                let (mut kept, mut spoken) = (0, 0);
                for action in s.actions.ones().map(ActionId::new).filter(|a| case.estate.schema().fits(*a, kind)) {
                    spoken += number;
                    let list = decided.iter().position(|known| *known == action).unwrap_or_else(|| {
                        engine.decide_on(&mut work, action);
                        if lists.len() == decided.len() {
                            lists.push(engine.nobody());
                        }
                        engine.allowed_users(&work, action, &mut lists[decided.len()]);
                        decided.push(action);
                        decided.len() - 1
                    });
                    kept += u64::from(count::without(&users, &lists[list]));
                    if cut.example.is_none() {
                        let user = users.difference(&lists[list]).next();
                        cut.example = user.map(|user| (UserId::new(user), action, resource));
                    }
                }
                cut.spoken += spoken;
                cut.behind += u64::from(spoken > 0);
                if kept > 0 {
                    cut.kept += kept;
                    cut.resources += 1;
                    // All barriers between it and the place.
                    let mut next = Some(barrier);
                    while let Some(barrier) = next
                        && catalog.depth(barrier) > catalog.depth(place)
                        && seen.insert((at, place, barrier))
                    {
                        cut.barriers.insert(barrier);
                        next = barriers[&barrier].0;
                    }
                }
            }
            engine.done(work);
        }
        cuts
    };
    let shares: Vec<Vec<Cut>> = shares(catalog.len()).into_par_iter().with_max_len(1).map(share).collect();
    let mut whole: Vec<Cut> = (0..live.len()).map(|_| Cut::default()).collect();
    for share in shares {
        whole.iter_mut().zip(share).for_each(|(cut, more)| cut.add(more));
    }
    whole
}

impl Cut {
    /// Adds what was found on resources that come later.
    fn add(&mut self, more: Cut) {
        self.behind += more.behind;
        self.resources += more.resources;
        self.spoken += more.spoken;
        self.kept += more.kept;
        self.barriers.extend(more.barriers);
        self.example = self.example.or(more.example);
    }
}

/// An entry on each of the places for those whom the statement means, where that can be said in an entry, and would not
/// last longer than the statement does; otherwise that they inherit.
fn mended(s: &Statement, barriers: &BTreeSet<ResourceId>) -> Option<(&'static str, Vec<Change>)> {
    if barriers.len() > NAMED {
        return None;
    }
    let Who { terms, condition } = &s.who;
    let always = s.condition.is_none() && s.from.is_none() && s.until.is_none();
    Some(match (terms.as_slice(), condition) {
        ([term @ (Term::Members(_) | Term::User(_))], None) if always => {
            let give = |b: &ResourceId| {
                let (term, actions) = (term.clone(), s.actions.clone());
                Change::Give(Arc::new(entry(term, Modality::May, actions, Some(*b), statement::Reach::Under)))
            };
            ("to let its users in", barriers.iter().map(give).collect())
        }
        _ => {
            let open = |b: &ResourceId| Change::Resource(*b, ResourceCell::Inherits, Some(Value::Flag(true)));
            ("to let in whatever is given above", barriers.iter().map(open).collect())
        }
    })
}
