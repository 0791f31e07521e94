//! `cut-off`: a permission of which a good part lies behind barriers, where those it is for get in by nothing else.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::change::{Change, ResourceCell, entry};
use bastide_engine::decide::place::{anchor, reaches};
use bastide_engine::evaluate::{Evaluator, Probe, Snapshot};
use bastide_model::condition::{Operand, ResourceField, Term, Who};
use bastide_model::schema::Travel;
use bastide_model::*;
use std::collections::BTreeSet;
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
    check,
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
    let catalog = &estate.catalog;
    let behind: Vec<ResourceId> = catalog.all().filter(|r| catalog.barrier_depths[r.index()] > 0).collect();
    if behind.is_empty() {
        return Vec::new();
    }
    let placed = |s: &Statement| s.modality == Modality::May && s.what.places.is_some();
    let live: Vec<(StatementId, &Statement)> = case.live().filter(|(_, s)| placed(s)).collect();
    let probes: Vec<Probe> = live.iter().map(|(_, s)| Probe::Statement(s, false)).collect();
    // It was proven free of circles.
    let Ok(snapshot) = Snapshot::probing(estate, case.moment, &probes) else { return Vec::new() };
    let mut engine = snapshot.evaluator();
    let mut found = Vec::new();
    for (at, (id, s)) in live.into_iter().enumerate() {
        let cut = cut(&mut engine, survey, (s, at), &behind);
        let all = survey.of(id).triples + cut.spoken;
        let meant = cut.barriers.iter().all(|barrier| is_meant(estate, s, *barrier));
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

/// Whether a label or a state of a barrier says that it is meant to keep out what a statement gives: a label of its own
/// above the lowest step, or a state that nothing has which inherits; and the statement does not ask for that.
fn is_meant(estate: &Estate, s: &Statement, barrier: ResourceId) -> bool {
    let catalog = &estate.catalog;
    let asks = |field: ResourceField| {
        let mut found = false;
        s.conditions().for_each(|condition| {
            condition.visit(&mut |inner| {
                found |= inner.test.operands().iter().any(|o| matches!(o, Operand::Resource(_, of) if *of == field));
            });
        });
        found
    };
    let labels = estate.schema.resource_attributes.iter().enumerate().filter(|(_, a)| a.travel == Travel::Highest);
    let labelled = labels.into_iter().any(|(at, _)| {
        let own = catalog.own[at].as_ref().unwrap_or(&catalog.attributes[at]).get(barrier.index());
        matches!(own, Some(Value::Step(_, step)) if *step > 0)
            && !asks(ResourceField::Attribute(ResourceAttributeId::new(at)))
    });
    let state = catalog.states.code(barrier.index());
    let shut = |r: ResourceId| catalog.states.code(r.index()) != state || catalog.barriers.contains(r.index());
    labelled || (state.is_some() && catalog.all().all(shut) && !asks(ResourceField::State))
}

fn cut(engine: &mut Evaluator, survey: &Survey, (s, probe): (&Statement, usize), behind: &[ResourceId]) -> Cut {
    let estate = engine.estate();
    let catalog = &estate.catalog;
    let mut cut = Cut::default();
    let Some(places) = &s.what.places else { return cut };
    // What lies behind barriers and in one of its places, each once.
    let within = places.iter().flat_map(|place| {
        let range = catalog.subtree(place.resource);
        let from = behind.partition_point(|resource| resource.0 < range.start);
        let to = behind.partition_point(|resource| resource.0 < range.end);
        behind[from..to].iter().copied()
    });
    let mut within: Vec<ResourceId> = within.collect();
    within.sort_unstable();
    within.dedup();
    let [mut users, mut allowed] = std::array::from_fn(|_| engine.nobody());
    for resource in within {
        if !estate.schema.is_any(catalog.kind(resource), s.what.kinds.as_deref()) {
            continue;
        }
        let Some(place) =
            places.iter().filter(|p| reaches(catalog, p, resource)).max_by_key(|p| catalog.depth(p.resource))
        else {
            continue;
        };
        if anchor(estate, s, resource).is_some() {
            continue;
        }
        let mut work = engine.look(resource);
        engine.probe(&mut work, probe, &mut users);
        users.intersect_with(&survey.active);
        let number = users.count_ones(..) as u64;
        let (mut kept, spoken) = (0, cut.spoken);
        for action in s.actions.ones().map(ActionId::new).filter(|a| estate.schema.fits(*a, catalog.kind(resource))) {
            cut.spoken += number;
            if number == 0 {
                continue;
            }
            engine.decide_on(&mut work, action);
            engine.allowed_users(&work, action, &mut allowed);
            kept += users.difference_count(&allowed) as u64;
            if cut.example.is_none() {
                let user = users.difference(&allowed).next();
                cut.example = user.map(|user| (UserId::new(user), action, resource));
            }
        }
        engine.done(work);
        cut.behind += u64::from(cut.spoken > spoken);
        if kept > 0 {
            cut.kept += kept;
            cut.resources += 1;
            let between = catalog.upward(resource).take_while(|r| *r != place.resource);
            cut.barriers.extend(between.filter(|r| catalog.barriers.contains(r.index())));
        }
    }
    cut
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
