//! Finding what a person names on the command line: exactly. What a unique beginning stands for is told apart, for those who
//! ask by hand.

use bastide_model::catalog::PathPattern;
use bastide_model::*;
use bastide_syntax::nearest::ranked;

/// How many candidates are told.
const MOST: usize = 8;

/// A name that does not lead to one thing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FindError {
    /// Nothing has the name; the nearest ones.
    #[error("there is no {what} `{name}`")]
    Unknown {
        /// User, resource, action, kind or group.
        what: &'static str,
        /// As given.
        name: String,
        /// Nearest first.
        candidates: Vec<String>,
    },
    /// Several things fit; some of them.
    #[error("`{name}` could be {count} {what}s")]
    Ambiguous {
        /// User or resource.
        what: &'static str,
        /// As given.
        name: String,
        /// How many fit.
        count: usize,
        /// The first ones.
        candidates: Vec<String>,
    },
}

/// The user of whose id a name is the only beginning.
pub fn user_begun(estate: &Estate, name: &str) -> Option<UserId> {
    let mut fits = begun(estate, name);
    fits.next().filter(|_| fits.next().is_none())
}

fn begun<'e>(estate: &'e Estate, name: &'e str) -> impl Iterator<Item = UserId> + 'e {
    let people = estate.people();
    people.all().filter(move |u| !name.is_empty() && people.id(*u).starts_with(name))
}

/// The user of an id.
///
/// # Errors
/// No user has it; those whose id begins so, or is like it, or who are named so.
pub fn user(estate: &Estate, name: &str) -> Result<UserId, FindError> {
    if let Some(user) = estate.people().find(name) {
        return Ok(user);
    }
    let people = estate.people();
    let fits: Vec<UserId> = begun(estate, name).collect();
    match fits.as_slice() {
        [only] => {
            let candidates = vec![people.id(*only).to_string()];
            Err(FindError::Unknown { what: "user", name: name.to_string(), candidates })
        }
        [] => {
            let mut near: Vec<String> = ranked(name, people.ids(), MOST).iter().map(|n| n.to_string()).collect();
            // A person is often known by name only.
            let lower = name.to_lowercase();
            let named = people.all().filter(|u| lower.len() > 2 && people.name(*u).to_lowercase().contains(&lower));
            near.extend(named.map(|u| people.id(u).to_string()).take(MOST));
            near.dedup();
            Err(FindError::Unknown { what: "user", name: name.to_string(), candidates: near })
        }
        several => Err(FindError::Ambiguous {
            what: "user",
            name: name.to_string(),
            count: several.len(),
            candidates: several.iter().take(MOST).map(|u| people.id(*u).to_string()).collect(),
        }),
    }
}

/// The group of an id.
///
/// # Errors
/// No group has it.
pub fn group(estate: &Estate, name: &str) -> Result<GroupId, FindError> {
    estate.groups().find(name).ok_or_else(|| unknown("group", name, estate.groups().ids()))
}

/// The action of a name.
///
/// # Errors
/// No action has it.
pub fn action(estate: &Estate, name: &str) -> Result<ActionId, FindError> {
    let known = estate.schema().actions.iter().map(|a| a.name.as_str());
    estate.schema().action(name).ok_or_else(|| unknown("action", name, known))
}

/// The kind of a name.
///
/// # Errors
/// No kind has it.
pub fn kind(estate: &Estate, name: &str) -> Result<KindId, FindError> {
    let known = estate.schema().kinds.iter().map(|k| k.name.as_str());
    estate.schema().kind(name).ok_or_else(|| unknown("kind", name, known))
}

fn unknown<'a>(what: &'static str, name: &str, known: impl Iterator<Item = &'a str>) -> FindError {
    let candidates = ranked(name, known, MOST).iter().map(|n| n.to_string()).collect();
    FindError::Unknown { what, name: name.to_string(), candidates }
}

/// The resource of an id, or of a path that fits nothing else.
pub fn exact_resource(estate: &Estate, name: &str) -> Option<ResourceId> {
    let catalog = estate.catalog();
    catalog.find(name).or_else(|| match catalog.matching(&PathPattern::new(name.trim_end_matches('/'))).as_slice() {
        [only] => Some(*only),
        _ => None,
    })
}

/// The resource of whose path a name is the only beginning.
pub fn resource_begun(estate: &Estate, name: &str) -> Option<ResourceId> {
    match beginning(estate.catalog(), &PathPattern::new(name.trim_end_matches('/'))).as_slice() {
        [only] => Some(*only),
        _ => None,
    }
}

/// The resource of an id, or of a path that fits nothing else.
///
/// # Errors
/// No resource or several; those whose path begins so, or is like it.
pub fn resource(estate: &Estate, name: &str) -> Result<ResourceId, FindError> {
    let catalog = estate.catalog();
    if let Some(resource) = catalog.find(name) {
        return Ok(resource);
    }
    let pattern = PathPattern::new(name.trim_end_matches('/'));
    let exact = catalog.matching(&pattern);
    if let [only] = exact.as_slice() {
        return Ok(*only);
    }
    let found = if exact.is_empty() { beginning(catalog, &pattern) } else { exact };
    let shown = |r: &ResourceId| format!("{} (id {})", catalog.path(*r), catalog.id(*r));
    match found.as_slice() {
        [only] => {
            Err(FindError::Unknown { what: "resource", name: name.to_string(), candidates: vec![catalog.path(*only)] })
        }
        [] => Err(FindError::Unknown {
            what: "resource",
            name: name.to_string(),
            candidates: near(catalog, &pattern, name),
        }),
        several => Err(FindError::Ambiguous {
            what: "resource",
            name: name.to_string(),
            count: several.len(),
            candidates: several.iter().take(MOST).map(shown).collect(),
        }),
    }
}

/// Resources whose path begins segment by segment as given, the last one only begun.
fn beginning(catalog: &Catalog, pattern: &PathPattern) -> Vec<ResourceId> {
    let Some((last, above)) = pattern.segments.split_last() else { return Vec::new() };
    let Some(begun) = last.literal().filter(|text| !text.is_empty()) else { return Vec::new() };
    let within: Vec<ResourceId> = if above.is_empty() {
        catalog.roots().collect()
    } else {
        let above = PathPattern { segments: above.to_vec() };
        catalog.matching(&above).iter().flat_map(|r| catalog.children(*r)).collect()
    };
    within.into_iter().filter(|r| catalog.name(*r).starts_with(&begun)).collect()
}

/// Names like it: in the deepest place that fits, then among all names and ids.
fn near(catalog: &Catalog, pattern: &PathPattern, name: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for length in (0..pattern.segments.len()).rev() {
        let above = PathPattern { segments: pattern.segments[..length].to_vec() };
        let above = catalog.matching(&above);
        if above.is_empty() && length > 0 {
            continue;
        }
        let within: Vec<ResourceId> = if length == 0 {
            catalog.roots().collect()
        } else {
            above.iter().flat_map(|r| catalog.children(*r)).collect()
        };
        let Some(wanted) = pattern.segments[length].literal() else { break };
        let names = ranked(&wanted, within.iter().map(|r| catalog.name(*r)), MOST);
        let fits = |r: &&ResourceId| names.contains(&catalog.name(**r));
        found.extend(within.iter().filter(fits).take(MOST).map(|r| catalog.path(*r)));
        break;
    }
    let last = name.rsplit('/').next().unwrap_or(name);
    let same = catalog.all().filter(|r| catalog.name(*r) == last || catalog.id(*r).eq_ignore_ascii_case(last));
    found.extend(same.take(MOST).map(|r| catalog.path(r)));
    found.dedup();
    found.truncate(MOST);
    found
}
