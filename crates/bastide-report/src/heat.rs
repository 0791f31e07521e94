//! Access by group and place, as shares.

use crate::folded::Cut;
use bastide_audit::{Case, Survey};
use bastide_engine::sets::store::SetId;
use bastide_engine::sets::{RowId, SetEngine};
use bastide_model::*;
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
    let schema = &estate.schema;
    let mut engine = survey.engine.borrow_mut();
    // How often each row occurs in each place, and what is otherwise for an owner.
    let mut owned: HashMap<(u32, KindId, UserId, RowId, RowId), u64> = HashMap::new();
    let mut rows: HashMap<(u32, KindId, RowId), u64> = HashMap::new();
    let mut sizes = vec![0usize; cut.places.len()];
    for resource in estate.catalog.all() {
        let decided = engine.row(resource);
        let place = cut.of[resource.index()];
        sizes[place as usize] += 1;
        *rows.entry((place, estate.catalog.kind(resource), decided.others)).or_default() += 1;
        if let Some((owner, own)) = decided.owner.filter(|(owner, _)| estate.people.is_active(*owner)) {
            *owned.entry((place, estate.catalog.kind(resource), owner, decided.others, own)).or_default() += 1;
        }
    }
    let mut groups: Vec<(GroupId, SetId, u32)> = Vec::new();
    for group in estate.groups.all() {
        let members = engine.members_of(group);
        let members = engine.both(members, survey.active);
        let count = engine.sets().count(members);
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
    let blank = vec![vec![(0u64, 0u64); places.len()]; questions.len()];
    let mut counts: Vec<Vec<Vec<(u64, u64)>>> = groups.iter().map(|_| blank.clone()).collect();
    for ((place, kind, row), times) in rows {
        let Some(&at) = column.get(&place) else { continue };
        for (q, (_, actions)) in questions.iter().enumerate() {
            let fitting: Vec<ActionId> = actions.iter().copied().filter(|a| schema.fits(*a, kind)).collect();
            if fitting.is_empty() {
                continue;
            }
            let allowed = any(&mut engine, row, &fitting);
            for (g, (_, members, size)) in groups.iter().enumerate() {
                let count = &mut counts[g][q][at];
                count.0 += u64::from(engine.sets().count_both(allowed, *members)) * times;
                count.1 += u64::from(*size) * times;
            }
        }
    }
    for ((place, kind, owner, others, own), times) in owned {
        let Some(&at) = column.get(&place) else { continue };
        let member: Vec<usize> =
            (0..groups.len()).filter(|g| engine.sets().contains(groups[*g].1, owner.index())).collect();
        for (q, (_, actions)) in questions.iter().enumerate().filter(|_| !member.is_empty()) {
            let fitting: Vec<ActionId> = actions.iter().copied().filter(|a| schema.fits(*a, kind)).collect();
            let [as_other, as_owner] = [others, own].map(|row| {
                let allowed = any(&mut engine, row, &fitting);
                engine.sets().contains(allowed, owner.index())
            });
            for g in &member {
                let count = &mut counts[*g][q][at];
                match (as_other, as_owner) {
                    (false, true) => count.0 += times,
                    (true, false) => count.0 -= times,
                    _ => {}
                }
            }
        }
    }
    let share = |(yes, all): &(u64, u64)| (*all > 0).then(|| *yes as f32 * 100.0 / *all as f32);
    let mut list: Vec<HeatRow> = groups
        .iter()
        .zip(&counts)
        .map(|((group, _, size), counts)| HeatRow {
            group: estate.groups.id(*group).to_string(),
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

/// The users who may do any of these actions.
fn any(engine: &mut SetEngine, row: RowId, actions: &[ActionId]) -> SetId {
    let sets: Vec<SetId> = actions.iter().map(|a| engine.outcome(row, *a).allowed).collect();
    sets.into_iter().fold(SetId::NONE, |all, set| engine.either(all, set))
}

/// The places with their names, as far as those above them do not say them already.
fn named(estate: &Estate, cut: &Cut, places: &[u32], sizes: &[usize]) -> Vec<HeatPlace> {
    let catalog = &estate.catalog;
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
