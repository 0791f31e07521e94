//! Access by group and place, as shares.

use crate::folded::Cut;
use bastide_audit::{Case, Survey};
use bastide_engine::evaluate::{Decided, OutcomeId, put};
use bastide_engine::sets::counter::Counter;
use bastide_engine::sets::store::SetId;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use serde::Serialize;

/// The groups that may do the most are shown.
const MOST_GROUPS: usize = 24;
/// Of more groups than this, only the ones with the most members are looked at.
const MOST_WEIGHED: usize = 500;
/// The places with the most resources are shown.
pub(crate) const MOST_PLACES: usize = 40;

/// Groups down, places across.
#[derive(Serialize)]
pub struct Heat {
    /// What can be asked for: every action that is more than harmless together, then each action by itself.
    pub questions: Vec<String>,
    /// The places, in the order of the tree.
    pub places: Vec<HeatPlace>,
    /// The groups, the mightiest first.
    pub rows: Vec<HeatRow>,
    /// Groups and places that are left out for want of room.
    pub left_out: (usize, usize),
}

/// A place.
#[derive(Serialize)]
pub struct HeatPlace {
    /// Its path.
    pub path: String,
    /// The part of the path that is not said by the places above it in the list.
    pub name: String,
    /// How many places in the list it lies in.
    pub indent: usize,
    /// How many resources.
    pub resources: usize,
}

/// A group.
#[derive(Serialize)]
pub struct HeatRow {
    /// Its id.
    pub group: String,
    /// How many active members.
    pub members: usize,
    /// By question and place: of a hundred pairs of a member and a resource, on how many it is allowed;
    /// none where the question has no meaning on anything there.
    pub shares: Vec<Vec<Option<f32>>>,
}

/// Works it out from the rows of every resource.
pub(crate) fn heat(case: &Case, survey: &Survey, cut: &Cut) -> Heat {
    let estate = case.estate;
    let schema = estate.schema();
    let (mut engine, reference) = (survey.evaluator(), survey.reference());
    let mut sizes = vec![0usize; cut.places.len()];
    cut.of.iter().for_each(|place| sizes[*place as usize] += 1);
    let mut groups: Vec<(GroupId, FixedBitSet, u32)> = Vec::new();
    for group in estate.groups().all() {
        let mut members = estate.groups().users(group).clone();
        members.grow(estate.people().len());
        if !estate.groups().through(group).is_empty() {
            let is = |user: &UserId| reference.member(*user, group).is_true();
            members.extend(estate.people().all().filter(is).map(UserId::index));
        }
        members.intersect_with(&survey.active);
        let count = members.count_ones(..) as u32;
        if count > 0 {
            groups.push((group, members, count));
        }
    }
    let mut places: Vec<u32> = (0..cut.places.len() as u32).collect();
    places.sort_by_key(|p| (std::cmp::Reverse(sizes[*p as usize]), *p));
    let left_places = places.len().saturating_sub(MOST_PLACES);
    places.truncate(MOST_PLACES);
    places.sort_unstable();
    groups.sort_by_key(|(group, _, count)| (std::cmp::Reverse(*count), *group));
    let left_groups = groups.len().saturating_sub(MOST_GROUPS);
    groups.truncate(MOST_WEIGHED);
    let harmful: Vec<ActionId> = ActionId::all(schema.actions.len()).filter(|a| !case.is_harmless(*a)).collect();
    let mut questions: Vec<(String, Vec<ActionId>)> = vec![("more than harmless".to_string(), harmful)];
    for action in ActionId::all(schema.actions.len()) {
        questions.push((schema.actions[action.index()].name.clone(), vec![action]));
    }
    let column: HashMap<u32, usize> = places.iter().enumerate().map(|(at, p)| (*p, at)).collect();
    let fitting: Vec<Vec<Vec<ActionId>>> = KindId::all(schema.kinds.len())
        .map(|kind| {
            let fits = |actions: &Vec<ActionId>| actions.iter().copied().filter(|a| schema.fits(*a, kind)).collect();
            questions.iter().map(|(_, actions)| fits(actions)).collect()
        })
        .collect();
    // By place and kind, how often the same is decided for everybody; and by question and place, on how many resources more or
    // fewer each user may.
    let mut rows: HashMap<(usize, KindId, Box<[u32]>), u64> = HashMap::new();
    let mut own: HashMap<(usize, usize), Vec<i64>> = HashMap::new();
    // By question and place, on how many resources each user may, but for that.
    let mut met: HashMap<(usize, usize), Counter> = HashMap::new();
    let mut resources: HashMap<(usize, KindId), u64> = HashMap::new();
    let (mut allowed, mut any) = (engine.nobody(), engine.nobody());
    let mut key: Vec<u32> = Vec::new();
    for resource in estate.catalog().all() {
        let Some(&at) = column.get(&cut.of[resource.index()]) else { continue };
        let kind = estate.catalog().kind(resource);
        *resources.entry((at, kind)).or_default() += 1;
        let work = engine.decide(resource);
        key.clear();
        let (mut is_wide, mut users): (bool, Vec<u32>) = (false, Vec::new());
        for action in ActionId::all(schema.actions.len()) {
            key.push(match work.decided(action) {
                Decided::Base(outcome) => outcome.0,
                Decided::Open => u32::MAX,
                Decided::Wide(_) => {
                    is_wide = true;
                    u32::MAX
                }
            });
            users.extend(work.cells(action).iter().map(|cell| cell.user));
        }
        if is_wide {
            for (q, actions) in fitting[kind.index()].iter().enumerate() {
                any.clear();
                for action in actions {
                    engine.allowed_users(&work, *action, &mut allowed);
                    any.union_with(&allowed);
                }
                met.entry((q, at)).or_default().add_list(&any, 1);
            }
            engine.done(work);
            continue;
        }
        users.sort_unstable();
        users.dedup();
        for user in users {
            for (q, actions) in fitting[kind.index()].iter().enumerate() {
                let usual = |action: &ActionId| match work.decided(*action) {
                    Decided::Base(outcome) => engine.sets().contains(engine.outcome(outcome).allowed, user as usize),
                    Decided::Wide(_) | Decided::Open => false,
                };
                let is = actions.iter().any(|action| engine.allows_in(&work, *action, UserId(user)));
                let change = i64::from(is) - i64::from(actions.iter().any(usual));
                if change != 0 {
                    own.entry((q, at)).or_insert_with(|| vec![0; estate.people().len()])[user as usize] += change;
                }
            }
        }
        match rows.get_mut(&(at, kind, key.as_slice().into())) {
            Some(times) => *times += 1,
            None => drop(rows.insert((at, kind, key.as_slice().into()), 1)),
        }
        engine.done(work);
    }
    let blank = vec![vec![(0u64, 0u64); places.len()]; questions.len()];
    let mut counts: Vec<Vec<Vec<(u64, u64)>>> = groups.iter().map(|_| blank.clone()).collect();
    for ((at, kind), times) in resources {
        for (q, _) in fitting[kind.index()].iter().enumerate().filter(|(_, actions)| !actions.is_empty()) {
            groups.iter().zip(&mut counts).for_each(|((.., size), counts)| counts[q][at].1 += u64::from(*size) * times);
        }
    }
    // Rows that differ in what a question does not ask about are one for it.
    let mut asked: HashMap<(usize, usize, Box<[SetId]>), u64> = HashMap::new();
    for ((at, kind, outcomes), times) in rows {
        for (q, actions) in fitting[kind.index()].iter().enumerate().filter(|(_, actions)| !actions.is_empty()) {
            let set = |action: &ActionId| engine.outcome(OutcomeId(outcomes[action.index()])).allowed;
            let mut sets: Vec<SetId> = actions.iter().map(set).filter(|set| *set != SetId::NONE).collect();
            sets.sort_unstable();
            sets.dedup();
            *asked.entry((q, at, sets.into())).or_default() += times;
        }
    }
    for ((q, at, sets), times) in asked.into_iter().filter(|((.., sets), _)| !sets.is_empty()) {
        any.clear();
        for set in sets {
            put(engine.sets().row(set), &mut allowed);
            any.union_with(&allowed);
        }
        met.entry((q, at)).or_default().add_list(&any, times);
    }
    let mut of_users = vec![0i64; estate.people().len()];
    for key in met.keys().chain(own.keys().filter(|key| !met.contains_key(*key))) {
        of_users.fill(0);
        if let Some(counter) = met.get(key) {
            counter.counts().for_each(|(user, count)| of_users[user as usize] = count as i64);
        }
        if let Some(own) = own.get(key) {
            of_users.iter_mut().zip(own).for_each(|(sum, more)| *sum += more);
        }
        for ((_, members, _), counts) in groups.iter().zip(&mut counts) {
            counts[key.0][key.1].0 = members.ones().map(|user| of_users[user]).sum::<i64>() as u64;
        }
    }
    let share = |(yes, all): &(u64, u64)| (*all > 0).then(|| *yes as f32 * 100.0 / *all as f32);
    let mut list: Vec<HeatRow> = groups
        .iter()
        .zip(&counts)
        .map(|((group, _, size), counts)| HeatRow {
            group: estate.groups().id(*group).to_string(),
            members: *size as usize,
            shares: counts.iter().map(|places| places.iter().map(share).collect()).collect(),
        })
        .collect();
    let weight = |row: &HeatRow| row.shares[0].iter().flatten().map(|s| f64::from(*s)).sum::<f64>();
    list.sort_by(|a, b| weight(b).total_cmp(&weight(a)).then_with(|| a.group.cmp(&b.group)));
    list.truncate(MOST_GROUPS);
    Heat {
        questions: questions.into_iter().map(|(name, _)| name).collect(),
        places: named(estate, cut, &places, &sizes),
        rows: list,
        left_out: (left_groups, left_places),
    }
}

/// The places with their names, as far as those above them do not say them already.
fn named(estate: &Estate, cut: &Cut, places: &[u32], sizes: &[usize]) -> Vec<HeatPlace> {
    let catalog = estate.catalog();
    let mut above: Vec<ResourceId> = Vec::new();
    let one = |place: &u32| {
        let resource = cut.places[*place as usize];
        above.retain(|a| catalog.contains(*a, resource));
        let own = catalog.upward(resource).take_while(|r| above.last() != Some(r));
        let mut names: Vec<&str> = own.map(|r| catalog.name(r)).collect();
        names.reverse();
        let (name, indent) = (names.join("/"), above.len());
        above.push(resource);
        HeatPlace { path: catalog.path(resource), name, indent, resources: sizes[*place as usize] }
    };
    places.iter().map(one).collect()
}
