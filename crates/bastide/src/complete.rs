//! What a shell offers while a command is typed: users, paths, actions, rules, groups and kinds of
//! the estate at hand. An estate that cannot be read offers nothing; a shell is no place for errors.

use bastide_formats::manifest;
use bastide_formats::write::Texts;
use bastide_model::{Catalog, Estate, ResourceId};
use clap_complete::CompletionCandidate;
use clap_complete::engine::{ArgValueCandidates, ArgValueCompleter};
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

/// Candidates offered at most.
const MOST: usize = 500;

/// The words of the line, once a shell has asked.
static TYPED: OnceLock<Vec<String>> = OnceLock::new();

/// Keeps the words of the line that is typed; they say which estate is meant.
pub fn typed(words: &[String]) {
    let _ = TYPED.set(words.to_vec());
}

/// Users, by id, their names beside.
pub fn users() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        with(|estate| estate.people().all().map(|u| told(estate.people().id(u), estate.people().name(u))).collect())
    })
}

/// Users, and groups as `group:GROUP`.
pub fn users_and_groups() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        with(|estate| {
            let users = estate.people().all().map(|u| told(estate.people().id(u), estate.people().name(u)));
            let groups =
                estate.groups().all().map(|g| CompletionCandidate::new(format!("group:{}", estate.groups().id(g))));
            users.chain(groups).collect()
        })
    })
}

/// Users, groups and personas, each with the word that says which.
pub fn stand_ins() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        with(|estate| {
            let users = estate.people().all().map(|u| told(estate.people().id(u), estate.people().name(u)));
            let groups =
                estate.groups().all().map(|g| CompletionCandidate::new(format!("group:{}", estate.groups().id(g))));
            let personas =
                estate.proofs().personas.iter().map(|p| CompletionCandidate::new(format!("persona:{}", p.name)));
            users.chain(groups).chain(personas).collect()
        })
    })
}

/// Users, groups, and places by path.
pub fn anything() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let Some(begun) = current.to_str().map(str::to_string) else { return Vec::new() };
        with(|estate| {
            let users = estate.people().all().map(|u| told(estate.people().id(u), estate.people().name(u)));
            let groups =
                estate.groups().all().map(|g| CompletionCandidate::new(format!("group:{}", estate.groups().id(g))));
            let begins = |c: &CompletionCandidate| c.get_value().to_string_lossy().starts_with(&begun);
            let mut all: Vec<CompletionCandidate> = users.chain(groups).filter(begins).collect();
            all.extend(paths(estate.catalog(), &begun));
            all
        })
    })
}

/// Memberships: a user (or `group:GROUP`), a colon and a group. Behind the colon groups are offered.
pub fn memberships() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let Some(begun) = current.to_str().map(str::to_string) else { return Vec::new() };
        with(|estate| {
            let members = estate.people().all().map(|u| estate.people().id(u).to_string());
            let members = members.chain(estate.groups().all().map(|g| format!("group:{}", estate.groups().id(g))));
            let mut found = Vec::new();
            for member in members {
                let head = format!("{member}:");
                if begun.starts_with(&head) {
                    let groups = estate.groups().all().map(|g| format!("{head}{}", estate.groups().id(g)));
                    found.extend(groups.filter(|text| text.starts_with(&begun)).map(CompletionCandidate::new));
                } else if head.starts_with(&begun) {
                    found.push(CompletionCandidate::new(head));
                }
            }
            found
        })
    })
}

/// Findings, what each is beside.
pub fn findings() -> ArgValueCandidates {
    ArgValueCandidates::new(|| bastide_audit::ALL.iter().map(|d| told(d.name, d.what)).collect())
}

/// Actions.
pub fn actions() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        with(|estate| estate.schema().actions.iter().map(|a| CompletionCandidate::new(a.name.clone())).collect())
    })
}

/// Kinds of resources.
pub fn kinds() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        with(|estate| estate.schema().kinds.iter().map(|k| CompletionCandidate::new(k.name.clone())).collect())
    })
}

/// Rules and entries, their reasons beside.
pub fn statements() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        with(|estate| {
            estate.statements().iter().map(|s| told(&s.name, s.because.as_deref().unwrap_or_default())).collect()
        })
    })
}

/// Resources by path, one level at a time.
pub fn resources() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let Some(begun) = current.to_str().map(str::to_string) else { return Vec::new() };
        with(|estate| paths(estate.catalog(), &begun))
    })
}

/// Paths that go on where the begun one stops.
fn paths(catalog: &Catalog, begun: &str) -> Vec<CompletionCandidate> {
    let level: Vec<ResourceId> = match begun.rsplit_once('/') {
        None => catalog.roots().collect(),
        Some((above, _)) => {
            let pattern = bastide_model::catalog::PathPattern::new(above);
            catalog.matching(&pattern).iter().flat_map(|r| catalog.children(*r)).collect()
        }
    };
    let fits = level.into_iter().map(|r| (r, catalog.path(r))).filter(|(_, path)| path.starts_with(begun));
    fits.map(|(r, path)| if catalog.is_leaf(r) { path } else { format!("{path}/") })
        .map(CompletionCandidate::new)
        .collect()
}

fn told(value: &str, about: &str) -> CompletionCandidate {
    let candidate = CompletionCandidate::new(value.to_string());
    if about.is_empty() { candidate } else { candidate.help(Some(about.to_string().into())) }
}

fn with(list: impl FnOnce(&Estate) -> Vec<CompletionCandidate>) -> Vec<CompletionCandidate> {
    let Some(root) = root() else { return Vec::new() };
    // A key that is pressed asks no other machine.
    let Ok(loaded) = bastide_formats::load_near(&root, &Texts::new(), jiff::ZonedDateTime::now().date()) else {
        return Vec::new();
    };
    let mut candidates = loaded.estate.as_ref().map_or(Vec::new(), list);
    candidates.truncate(MOST);
    candidates
}

/// The estate of the line being typed: the one that `-C` names, else the nearest upward.
fn root() -> Option<PathBuf> {
    let words = TYPED.get_or_init(|| std::env::args().collect());
    let named = words.iter().enumerate().find_map(|(i, word)| match word.as_str() {
        "-C" | "--estate" => words.get(i + 1).cloned(),
        word => {
            word.strip_prefix("--estate=").or(word.strip_prefix("-C").filter(|w| !w.is_empty())).map(str::to_string)
        }
    });
    if let Some(given) = named.or_else(|| std::env::var("BASTIDE_ESTATE").ok().filter(|v| !v.is_empty())) {
        let given = Path::new(&given);
        let dir = if given.is_file() { given.parent()? } else { given };
        return dir.join(manifest::NAME).is_file().then(|| dir.to_path_buf());
    }
    let here = std::env::current_dir().ok()?;
    here.ancestors().find(|dir| dir.join(manifest::NAME).is_file()).map(Path::to_path_buf)
}
