//! Findings and power by the values of an attribute.

use crate::{Case, Finding, Survey};
use bastide_engine::sets::count;
use bastide_model::*;
use bastide_syntax::nearest::nearest;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;

/// What falls to one value of an attribute.
pub struct Share {
    /// The value; empty: none.
    pub value: String,
    /// Findings about users or resources that have it.
    pub findings: usize,
    /// Users, or resources, that have it.
    pub size: usize,
    /// Triples of more than harmless actions.
    pub broad: u64,
    /// Users with such triples.
    pub powerful: usize,
}

/// Findings, broad triples and people with power by the values of an attribute: of resources where
/// they have it, else of users.
///
/// # Errors
/// Neither users nor resources have the attribute; the nearest name.
pub fn by_value(case: &Case, survey: &Survey, findings: &[Finding], name: &str) -> Result<Vec<Share>, Option<String>> {
    let estate = case.estate;
    let (schema, catalog) = (estate.schema(), estate.catalog());
    let resource_value = |r: ResourceId| match schema.resource_attribute(name) {
        Some(id) => catalog.attributes[id.index()].get(r.index()).map_or(String::new(), |v| schema.show(v)),
        None => catalog.path(catalog.upward(r).last().unwrap_or(r)),
    };
    let by_resource = schema.resource_attribute(name).is_some() || name == "root";
    let by_user = schema.user_attribute(name).filter(|_| !by_resource);
    if !by_resource && by_user.is_none() {
        let known = schema.resource_attributes.iter().chain(&schema.user_attributes).map(|a| a.name.as_str());
        return Err(nearest(name, known.chain(["root"])).map(str::to_string));
    }
    let user_value = |u: UserId| {
        by_user.map_or(String::new(), |id| {
            estate.people().attribute(id).get(u.index()).map_or(String::new(), |v| schema.show(v))
        })
    };
    let mut engine = survey.evaluator();
    let mut allowed = engine.nobody();
    let values: Vec<String> = estate.people().all().map(user_value).collect();
    let mut shares: BTreeMap<String, (Share, FixedBitSet)> = BTreeMap::new();
    let empty = |value: &str| {
        let share = Share { value: value.to_string(), findings: 0, size: 0, broad: 0, powerful: 0 };
        (share, FixedBitSet::with_capacity(estate.people().len()))
    };
    let mut broad = vec![0u64; values.len()];
    for value in values.iter().filter(|_| by_user.is_some()) {
        shares.entry(value.clone()).or_insert_with(|| empty(value)).0.size += 1;
    }
    for resource in catalog.all() {
        let value = if by_resource { resource_value(resource) } else { String::new() };
        if by_resource {
            shares.entry(value.clone()).or_insert_with(|| empty(&value)).0.size += 1;
        }
        let work = engine.decide(resource);
        for action in ActionId::all(schema.actions.len()).filter(|a| !case.is_harmless(*a)) {
            engine.allowed_users(&work, action, &mut allowed);
            if by_resource {
                let share = shares.entry(value.clone()).or_insert_with(|| empty(&value));
                share.0.broad += u64::from(count::listed(&allowed));
                share.1.union_with(&allowed);
            } else {
                for user in allowed.ones() {
                    broad[user] += 1;
                }
            }
        }
        engine.done(work);
    }
    for (user, broad) in broad.into_iter().enumerate().filter(|(_, broad)| *broad > 0) {
        let share = shares.entry(values[user].clone()).or_insert_with(|| empty(&values[user]));
        share.0.broad += broad;
        share.1.insert(user);
    }
    for finding in findings {
        let Some(example) = &finding.example else { continue };
        let value = match (by_resource, catalog.find(&example.resource), estate.people().find(&example.user)) {
            (true, Some(resource), _) => resource_value(resource),
            (false, _, Some(user)) => user_value(user),
            _ => continue,
        };
        shares.entry(value.clone()).or_insert_with(|| empty(&value)).0.findings += 1;
    }
    let mut list: Vec<Share> =
        shares.into_values().map(|(share, users)| Share { powerful: users.count_ones(..), ..share }).collect();
    list.sort_by(|a, b| (b.findings, b.broad, &a.value).cmp(&(a.findings, a.broad, &b.value)));
    Ok(list)
}
