//! What names can refer to, and how places and lists of actions are looked up.

use crate::schema::unknown_item;
use bastide_model::catalog::PathPattern;
use bastide_model::statement::Place;
use bastide_model::*;
use bastide_syntax::codes;
use bastide_syntax::nearest::nearest;
use bastide_syntax::tree::{self, Items, Name};
use bastide_syntax::{Diagnostic, Diagnostics, Edit, Help, Severity, Span};
use fixedbitset::FixedBitSet;

/// Everything a statement may name.
pub(crate) struct Scope<'a> {
    pub schema: &'a Schema,
    pub people: &'a People,
    pub groups: &'a Groups,
    pub catalog: &'a Catalog,
    pub layers: &'a [String],
    /// The level of what a restriction has lost, where the manifest sets one.
    pub lost: Option<Severity>,
    /// The day asked about, where it is known.
    pub today: Option<jiff::civil::Date>,
    /// Computed groups that name what does not exist.
    pub hurt: &'a [GroupId],
}

impl<'a> Scope<'a> {
    /// Of an estate that is linked already.
    pub fn of(estate: &'a Estate, today: Option<jiff::civil::Date>, hurt: &'a [GroupId]) -> Scope<'a> {
        Scope {
            schema: estate.schema(),
            people: estate.people(),
            groups: estate.groups(),
            catalog: estate.catalog(),
            layers: estate.layers(),
            lost: estate.lost(),
            today,
            hurt,
        }
    }
}

impl Scope<'_> {
    /// The actions of a list, roles taken apart.
    pub fn actions(&self, items: &Items, out: &mut Diagnostics) -> FixedBitSet {
        let mut actions = FixedBitSet::with_capacity(self.schema.actions.len());
        match items {
            Items::Everything(_) => actions.insert_range(..),
            Items::Names(names) => names.iter().for_each(|name| self.add_item(name, &mut actions, out)),
        }
        actions
    }

    pub fn add_item(&self, name: &Name, actions: &mut FixedBitSet, out: &mut Diagnostics) {
        if let Some(action) = self.schema.action(&name.text) {
            actions.insert(action.index());
        } else if let Some(role) = self.schema.role(&name.text) {
            actions.union_with(&self.schema.roles[role.index()].actions);
        } else {
            out.push(unknown_item(self.schema, name));
        }
    }

    pub fn action(&self, name: &Name, out: &mut Diagnostics) -> Option<ActionId> {
        let found = self.schema.action(&name.text);
        if found.is_none() {
            let near = nearest(&name.text, self.schema.actions.iter().map(|a| a.name.as_str()));
            let mut diagnostic =
                Diagnostic::at(&codes::UNKNOWN_ACTION, name.span, format!("unknown action `{}`", name.text))
                    .suggest(near);
            if self.schema.role(&name.text).is_some() {
                diagnostic = diagnostic.note(format!("`{}` is a role; an action is wanted here", name.text));
            }
            out.push(diagnostic);
        }
        found
    }

    pub fn kind(&self, name: &Name, out: &mut Diagnostics) -> Option<KindId> {
        let found = self.schema.kind(&name.text);
        if found.is_none() {
            let near = nearest(&name.text, self.schema.kinds.iter().map(|k| k.name.as_str()));
            out.push(
                Diagnostic::at(&codes::UNKNOWN_KIND, name.span, format!("unknown kind `{}`", name.text)).suggest(near),
            );
        }
        found
    }

    pub fn kinds(&self, names: &[Name], out: &mut Diagnostics) -> Vec<KindId> {
        names.iter().filter_map(|name| self.kind(name, out)).collect()
    }

    /// The user of an id; an unknown one is nobody, with a warning.
    pub fn user(&self, id: &str, span: Span, out: &mut Diagnostics) -> Option<UserId> {
        let found = self.people.find(id);
        if found.is_none() {
            out.push(unknown_subject("user", id, span));
        }
        found
    }

    /// The group of an id; an unknown one is nobody, with a warning.
    pub fn group(&self, id: &str, span: Span, out: &mut Diagnostics) -> Option<GroupId> {
        let found = self.groups.find(id);
        if found.is_none() {
            out.push(unknown_subject("group", id, span));
        }
        found
    }

    pub fn layer(&self, name: &Name, out: &mut Diagnostics) -> Option<LayerId> {
        if name.text == "rest" {
            return Some(LayerId::new(self.layers.len()));
        }
        let found = self.layers.iter().position(|layer| *layer == name.text).map(LayerId::new);
        if found.is_none() {
            let near = nearest(&name.text, self.layers.iter().map(String::as_str));
            let diagnostic = Diagnostic::at(&codes::UNKNOWN_LAYER, name.span, format!("unknown layer `{}`", name.text));
            out.push(if self.layers.is_empty() {
                diagnostic.help("to use layers, list them in `bastide.toml` under `[decide]` as `layers = [...]`")
            } else {
                diagnostic.suggest(near)
            });
        }
        found
    }

    /// The places of a list. One that fits nothing is left out, with a warning.
    pub fn places(&self, reach: Reach, places: &[tree::Place], out: &mut Diagnostics) -> Vec<Place> {
        let mut found = Vec::new();
        for place in places {
            let span = place.span();
            found.extend(self.place(place, out).into_iter().map(|resource| Place { resource, reach, span }));
        }
        found
    }

    /// The resources a place names: one, or with `*` any number.
    pub fn place(&self, place: &tree::Place, out: &mut Diagnostics) -> Vec<ResourceId> {
        match place {
            tree::Place::Id(id) => self.place_id(&id.text, id.span, out).into_iter().collect(),
            tree::Place::Path(path) => {
                let pattern = PathPattern::new(&path.raw);
                let found = self.catalog.matching(&pattern);
                if found.is_empty() {
                    out.push(self.stale_path(&path.text, &pattern, path.span));
                } else if found.len() > 1 && !pattern.is_wild() {
                    let ids: Vec<String> = found.iter().map(|r| format!("`{}`", self.catalog.id(*r))).collect();
                    let message = format!("path `{}` fits {} resources of the same name", path.text, found.len());
                    out.push(
                        Diagnostic::at(&codes::AMBIGUOUS_PLACE, path.span, message)
                            .note(format!("their ids are {}", ids.join(", ")))
                            .help(format!("to name one of them, write `id \"{}\"`", self.catalog.id(found[0]))),
                    );
                }
                found
            }
        }
    }

    /// The resource of an id.
    pub fn place_id(&self, id: &str, span: Span, out: &mut Diagnostics) -> Option<ResourceId> {
        let found = self.catalog.find(id);
        if found.is_none() {
            let message = format!("no resource has the id `{id}`: this place reaches nothing");
            out.push(Diagnostic::at(&codes::STALE_PLACE, span, message).seek("resource", id, false));
        }
        found
    }

    /// The one resource of a path in which nothing is a wild card. Of several of the same name none is meant.
    pub fn plain_path(&self, path: &str, span: Span, out: &mut Diagnostics) -> Option<ResourceId> {
        let pattern = PathPattern::new(&path.replace('*', "\\*"));
        let found = self.catalog.matching(&pattern);
        match found.as_slice() {
            [only] => Some(*only),
            [] => {
                out.push(self.stale_path(path, &pattern, span));
                None
            }
            [first, ..] => {
                let message = format!("path `{path}` fits {} resources of the same name", found.len());
                let help = format!("to name one of them, write its id: `{}`", self.catalog.id(*first));
                out.push(Diagnostic::at(&codes::AMBIGUOUS_PLACE, span, message).help(help));
                None
            }
        }
    }

    fn stale_path(&self, written: &str, pattern: &PathPattern, span: Span) -> Diagnostic {
        let message = format!("no resource fits the path `{written}`: this place reaches nothing");
        let diagnostic = Diagnostic::at(&codes::STALE_PLACE, span, message);
        // The longest beginning that fits something, then the nearest name beneath it.
        let fitting = (1..pattern.segments.len())
            .rev()
            .map(|n| PathPattern { segments: pattern.segments[..n].to_vec() })
            .map(|p| (p.segments.len(), self.catalog.matching(&p)))
            .find(|(_, found)| !found.is_empty());
        let (depth, beneath): (usize, Vec<ResourceId>) = match fitting {
            Some((depth, found)) => (depth, found.iter().flat_map(|r| self.catalog.children(*r)).collect()),
            None => (0, self.catalog.roots().collect()),
        };
        let Some(missing) = pattern.segments[depth].literal() else { return diagnostic };
        let near = nearest(&missing, beneath.iter().map(|r| self.catalog.name(*r)));
        match near.and_then(|near| beneath.iter().find(|r| self.catalog.name(**r) == near)) {
            Some(near) => diagnostic.help(format!("did you mean `{}`?", self.catalog.path(*near))),
            None if depth == 0 => diagnostic.note(format!("no root is named `{missing}`")),
            None => diagnostic.note(format!("nothing in `{}` is named `{missing}`", parent_path(written))),
        }
    }
}

fn parent_path(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(parent, _)| parent)
}

fn unknown_subject(what: &'static str, id: &str, span: Span) -> Diagnostic {
    let message = format!("unknown {what} `{id}`: nobody is meant by it");
    Diagnostic::at(&codes::UNKNOWN_SUBJECT, span, message).seek(what, id, true)
}

/// The nearest name is looked for this often at most for each code: it takes a look at every name.
const MOST_SUGGESTIONS: usize = 20;

/// By code, for how many the nearest name was looked for.
pub(crate) type Suggested = Vec<(&'static str, usize)>;

/// Suggests the nearest known names for those that lead nowhere: for the first few of each code, so that the time does not grow
/// with the mistakes.
/// `counts`: for how many of each code that was done before.
pub(crate) fn suggest(out: &mut Diagnostics, scope: &Scope, counts: &mut Suggested) {
    for diagnostic in out.iter_mut() {
        let Some(seek) = diagnostic.seek.take() else { continue };
        let code = diagnostic.code.name;
        let at = counts.iter().position(|(name, _)| *name == code).unwrap_or_else(|| {
            counts.push((code, 0));
            counts.len() - 1
        });
        counts[at].1 += 1;
        if counts[at].1 > MOST_SUGGESTIONS {
            continue;
        }
        let near = match seek.among {
            "user" => nearest(&seek.name, scope.people.ids()),
            "group" => nearest(&seek.name, scope.groups.ids()),
            _ => nearest(&seek.name, scope.catalog.labels.ids()),
        };
        let Some(near) = near else { continue };
        let behind = std::mem::take(&mut diagnostic.helps);
        let span = diagnostic.place.filter(|_| seek.edit);
        let edit = span.map(|span| Edit { span, replacement: bastide_syntax::quote::name(near) });
        diagnostic.helps.push(Help { text: format!("did you mean `{near}`?"), edit });
        diagnostic.helps.extend(behind);
    }
}
