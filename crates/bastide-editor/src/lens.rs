//! The line above each rule: whom and what it reaches.

use crate::desk::Desk;
use bastide_engine::access::{Reaches, asleep};
use bastide_model::show::count;
use bastide_model::{Moment, Statement};
use bastide_syntax::FileId;
use bastide_syntax::tree::Declaration;
use jiff::civil::Date;
use std::ops::Range;

/// A rule and what is said of it.
pub struct Above {
    /// Where its name stands.
    pub name: Range<usize>,
    /// What is said; none where it is not known yet.
    pub text: Option<String>,
}

/// The rules of a file, each with what it reaches.
pub fn lines(desk: &Desk, file: FileId, today: Date) -> Vec<Above> {
    let Some(tree) = desk.trees().iter().find(|tree| tree.file == file) else { return Vec::new() };
    let rules = tree.declarations.iter().filter_map(|declaration| match declaration {
        Declaration::Rule(rule) => Some(rule),
        _ => None,
    });
    let line = |rule: &bastide_syntax::tree::Rule| Above {
        name: rule.name.span.range(),
        text: said(desk, &rule.name.text, today),
    };
    rules.map(line).collect()
}

fn said(desk: &Desk, name: &str, today: Date) -> Option<String> {
    let Some(draft) = desk.draft().filter(|draft| draft.sound) else {
        return Some("what it reaches cannot be told: the estate has errors".to_string());
    };
    let Some(id) = desk.rule(name) else { return Some("not told yet: the rule has errors".to_string()) };
    let statement = draft.estate.statement(id);
    if !draft.whole && asks_elsewhere(statement) {
        return Some("not told while other rules have errors: it looks at their decisions".to_string());
    }
    if let Some(asleep) = asleep(statement, &Moment::on(today, draft.estate.schema())) {
        return Some(format!("reaches nobody today: {asleep}"));
    }
    let reaches = desk.later.reaches.as_ref()?;
    let Some(reaches) = reaches.get(id.index()) else {
        return Some("what it reaches cannot be told: decisions depend on themselves".to_string());
    };
    let solely = desk.later.solely.as_ref().and_then(|all| *all.get(id.index())?);
    Some(words(reaches, solely))
}

/// Whether what a statement reaches hangs on what others decide.
fn asks_elsewhere(statement: &Statement) -> bool {
    let mut asks = false;
    for condition in statement.conditions() {
        condition.visit(&mut |inner| asks |= inner.test.elsewhere().is_some());
    }
    asks
}

/// Numbers in words.
fn words(reaches: &Reaches, solely: Option<u64>) -> String {
    if reaches.triples == 0 {
        return match reaches.undecided {
            0 => "reaches nobody".to_string(),
            open => format!("reaches nobody for certain: {} hang on missing values", count(open as usize, "triple")),
        };
    }
    let (users, resources) = (count(reaches.users, "user"), count(reaches.resources, "resource"));
    let mut parts = vec![format!("{users} on {resources}")];
    parts.extend(solely.map(|triples| match triples {
        0 => "solely nothing".to_string(),
        triples => format!("solely {}", count(triples as usize, "triple")),
    }));
    if reaches.guests > 0 {
        parts.push(count(reaches.guests, "guest"));
    }
    if reaches.undecided > 0 {
        parts.push(format!("{} hang on missing values", count(reaches.undecided as usize, "triple")));
    }
    parts.join("; ")
}
