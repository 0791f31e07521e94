//! Questions about what stands under the cursor, answered in a text.

use crate::Voice;
use crate::desk::Desk;
use crate::documents::Documents;
use crate::subject::{self, Subject};
use bastide_engine::access::reach;
use bastide_engine::change::{Change, apply};
use bastide_engine::{Cancel, Snapshot, find};
use bastide_model::statement::Sort;
use bastide_model::{ActionId, Moment, ResourceId, StatementId, UserId};
use bastide_syntax::FileId;
use bastide_syntax::tree::{Declaration, ExpectClauseBody, Items, Place};
use jiff::civil::Date;

/// What can be asked.
pub const ALL: [(&str, &str); 4] = [
    ("bastide.reach", "Show whom and what it reaches"),
    ("bastide.why", "Show why"),
    ("bastide.try", "Show what changes without it"),
    ("bastide.diff", "Show what the unsaved texts change"),
];

/// So many blocks of gains and losses are told.
const MOST: usize = 20;

/// The statement at a byte of a file.
fn statement(desk: &Desk, file: FileId, byte: usize) -> Option<StatementId> {
    let estate = &desk.draft()?.estate;
    if let Some(tree) = desk.trees().iter().find(|tree| tree.file == file) {
        let rule = tree.declarations.iter().find_map(|declaration| match declaration {
            Declaration::Rule(rule) if rule.span.range().start <= byte && byte <= rule.span.range().end => Some(rule),
            _ => None,
        })?;
        return desk.rule(&rule.name.text);
    }
    let line = desk.sources()?.position(bastide_syntax::Span::new(file, byte, byte)).line;
    let here = |s: &std::sync::Arc<bastide_model::Statement>| {
        s.sort == Sort::Entry && s.origin.file == file && s.origin.line == line
    };
    estate.statements().iter().position(here).map(StatementId::new)
}

/// What an expectation at a byte, or an entry for one user, asks about.
fn triple(desk: &Desk, snapshot: &Snapshot, file: FileId, byte: usize) -> Option<(UserId, ActionId, ResourceId)> {
    let estate = snapshot.estate();
    let Some(tree) = desk.trees().iter().find(|tree| tree.file == file) else {
        let statement = estate.statement(statement(desk, file, byte)?);
        let user = statement.who.terms.iter().find_map(|term| match term {
            bastide_model::condition::Term::User(user) => Some(*user),
            _ => None,
        })?;
        let action = statement.actions.ones().next().map(ActionId::new)?;
        let place = statement.what.places.as_ref()?.first()?.resource;
        return Some((user, action, place));
    };
    let expect = tree.declarations.iter().find_map(|declaration| match declaration {
        Declaration::Expect(expect) if expect.span.range().contains(&byte) => Some(expect),
        _ => None,
    })?;
    let user = expect.clauses.iter().find_map(|clause| match &clause.body {
        ExpectClauseBody::User(user) => Some(estate.people().find(&user.text)),
        _ => None,
    })??;
    // The claim under the cursor, or else the first one.
    let claims = || {
        expect.clauses.iter().filter_map(|clause| match &clause.body {
            ExpectClauseBody::Can(_, Items::Names(names), places) => Some((clause.span.range(), names, places)),
            _ => None,
        })
    };
    let (_, names, places) = claims().find(|(range, ..)| range.contains(&byte)).or_else(|| claims().next())?;
    let action = names.iter().find_map(|name| {
        let role = || estate.schema().role(&name.text).map(|role| &estate.schema().roles[role.index()]);
        let first = || role().and_then(|role| role.actions.ones().next().map(ActionId::new));
        estate.schema().action(&name.text).or_else(first)
    })?;
    let place = places.iter().find_map(|place| match place {
        Place::Path(text) => find::exact_resource(estate, &text.raw),
        Place::Id(text) => estate.catalog().find(&text.text),
    })?;
    Some((user, action, place))
}

/// Whether a question has a meaning at a byte of a file.
pub fn has_meaning(desk: &Desk, name: &str, file: FileId, byte: usize, today: Date) -> bool {
    match name {
        "bastide.reach" | "bastide.try" => statement(desk, file, byte).is_some(),
        "bastide.why" => desk.snapshot(today).is_some_and(|snapshot| triple(desk, snapshot, file, byte).is_some()),
        "bastide.diff" => desk.is_whole(),
        _ => false,
    }
}

/// Answers a question.
///
/// # Errors
/// Why there is no answer.
pub fn answer(
    desk: &Desk,
    documents: &Documents,
    voice: &dyn Voice,
    name: &str,
    at: (FileId, usize),
    today: Date,
    cancel: &Cancel,
) -> Result<String, String> {
    let (file, byte) = at;
    if !desk.is_whole() {
        return Err("nothing is told while the estate has errors".to_string());
    }
    let circles = || "decisions would depend on themselves".to_string();
    let snapshot = desk.snapshot(today).ok_or_else(circles)?;
    let no_statement = || "no rule or entry stands here".to_string();
    let ask = |ask: &dyn Fn(&Snapshot) -> Result<String, String>| {
        let answer = cancel.ask(|question| ask(&snapshot.clone().cancellable(question)));
        answer.unwrap_or_else(|_| Err("the question was overtaken".to_string()))
    };
    match name {
        "bastide.reach" => {
            let id = statement(desk, file, byte).ok_or_else(no_statement)?;
            let harmless = desk.loaded().map(|loaded| loaded.audit.harmless.clone()).unwrap_or_default();
            ask(&|snapshot| {
                let reached = reach(snapshot, id, false, &harmless, MOST).map_err(|_| circles())?;
                Ok(voice.reach(&reached))
            })
        }
        "bastide.try" => {
            let id = statement(desk, file, byte).ok_or_else(no_statement)?;
            let changes = [Change::Off(id)];
            let gone = apply(snapshot.estate(), &changes).map_err(|(_, error)| error.to_string())?;
            ask(&|now| Ok(voice.change(now, &now.beside(&gone, now.moment()).map_err(|_| circles())?)))
        }
        "bastide.why" => {
            let about = match subject::at(desk, file, byte) {
                Some((Subject::Persona(name), _)) => {
                    return Err(format!("`{name}` is a persona: ask `bastide why persona:{name} ACTION PLACE`"));
                }
                _ => triple(desk, snapshot, file, byte),
            };
            let (user, action, place) = about.ok_or("no claim about one user and one place stands here")?;
            ask(&|snapshot| Ok(voice.why(snapshot, user, action, place)))
        }
        "bastide.diff" => {
            let changed = documents.of(&desk.root).filter_map(|document| {
                let saved = std::fs::read_to_string(&document.path).unwrap_or_default();
                (saved != document.text).then(|| document.name())?
            });
            let changed: Vec<String> = changed.collect();
            if changed.is_empty() {
                return Ok("every text is saved\n".to_string());
            }
            let saved = bastide_formats::load_near(&desk.root, &bastide_formats::write::Texts::new(), today);
            let saved = saved.map_err(|refused| refused.to_string())?;
            let estate =
                saved.estate.as_ref().ok_or("the saved files have errors: there is nothing to compare with")?;
            let before = Snapshot::new(estate, &Moment::on(today, estate.schema())).map_err(|_| circles())?;
            ask(&|snapshot| Ok(voice.change(&before, snapshot)))
        }
        other => Err(format!("there is no command `{other}`")),
    }
}
