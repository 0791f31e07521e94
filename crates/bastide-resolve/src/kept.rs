//! An estate while its policy is being written: the data is kept linked, and rules are typed anew with every change.

use crate::declarations;
use crate::{Data, Parts, Typing, data, groups, put, settled};
use bastide_model::{Estate, Origin, Schema};
use bastide_syntax::codes::Code;
use bastide_syntax::parser::DECLARATIONS;
use bastide_syntax::tree::{self, Declaration};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Severity, Span};
use std::sync::Arc;

/// An estate as far as it could be typed.
pub struct Draft {
    /// Of what has a mistake, nothing is in it. It is there to be looked at while the text is written; nobody's access is
    /// decided by it unless it is whole.
    pub estate: Estate,
    /// Whether nothing was wrong.
    pub whole: bool,
    /// Whether whatever is wrong stands in rules, expectations and the like alone. Then what is in the estate means what it
    /// says: no data is missing, and no name has lost its meaning.
    pub sound: bool,
}

/// The data of an estate, linked, and what else does not change while rules are written.
pub struct Kept {
    data: Data,
    schema: Schema,
    /// The declarations that give names their meaning, as they were written, and where.
    declared: Vec<(Span, String)>,
    /// What there was to say of the data.
    said: Vec<Diagnostic>,
    hollow: Vec<&'static Code>,
    levels: Vec<(&'static Code, Severity)>,
}

/// Gives the text of a file.
pub type TextOf<'t> = dyn Fn(FileId) -> &'t str + 't;

/// Whether a declaration can change the meaning of names, or of data.
fn gives_meaning(declaration: &Declaration) -> bool {
    match declaration {
        Declaration::Kind(_) | Declaration::Action(_) | Declaration::Type(_) | Declaration::Attribute(_) => true,
        Declaration::Role(_) | Declaration::Group(_) => true,
        Declaration::Rule(_) | Declaration::Apart(_) | Declaration::Alike(_) | Declaration::Expect(_) => false,
        Declaration::Persona(_) | Declaration::Waive(_) | Declaration::Guarantee(_) => false,
    }
}

/// Whether a declaration that begins so, as far as it is written, can give names a meaning.
fn may_give_meaning(word: &str) -> bool {
    let known = DECLARATIONS.iter().filter(|known| known.starts_with(word));
    let light = ["rule", "apart", "alike", "expect", "persona", "waive", "guarantee"];
    let mut begun = known.peekable();
    begun.peek().is_none() || begun.any(|known| !light.contains(known))
}

/// The declaration that an error belongs to: the last one that begins before it. What is missing at the end of a declaration
/// is told behind it.
fn around<'t>(error: &Diagnostic, trees: &'t [tree::File]) -> Option<Result<&'t Declaration, &'t tree::Unread>> {
    let place = error.place?;
    let tree = trees.iter().find(|tree| tree.file == place.file)?;
    let read = tree.declarations.iter().map(|declaration| (declaration.span().start, Ok(declaration)));
    let unread = tree.unread.iter().map(|unread| (unread.span.start, Err(unread)));
    let before = read.chain(unread).filter(|(start, _)| *start <= place.start);
    before.max_by_key(|(start, _)| *start).map(|(_, found)| found)
}

/// Whether an error stands where it can take nothing but itself away.
fn is_light(error: &Diagnostic, trees: &[tree::File]) -> bool {
    match around(error, trees) {
        Some(Ok(declaration)) => !gives_meaning(declaration),
        Some(Err(unread)) => !may_give_meaning(&unread.word),
        None => false,
    }
}

fn declared(trees: &[tree::File], text: &TextOf) -> Vec<(Span, String)> {
    let all = trees.iter().flat_map(|tree| &tree.declarations).filter(|d| gives_meaning(d)).map(Declaration::span);
    all.map(|span| (span, text(span.file)[span.range()].to_string())).collect()
}

fn as_written(declared: &[(Span, String)]) -> impl Iterator<Item = (FileId, &str)> {
    declared.iter().map(|(span, text)| (span.file, text.as_str()))
}

impl Kept {
    /// Links the data, and types the policy a first time. `said`: what reading the data had to say; what the policy has to say
    /// is added to `out`, that of the data too.
    pub fn new(
        parts: Parts,
        said: Diagnostics,
        text: &TextOf,
        lines: &(dyn Fn(Span) -> u32 + Sync),
        out: &mut Diagnostics,
    ) -> (Kept, Vec<tree::File>, Draft) {
        let (hollow, levels) = (parts.hollow.clone(), parts.levels.clone());
        let declared = declared(&parts.trees, text);
        let mut of_data = said;
        let (schema, trees, data) = data(parts, lines, &mut of_data);
        let kept = Kept { data, schema, declared, said: of_data.finish(), hollow, levels };
        let groups = Arc::clone(&kept.data.groups);
        let draft = kept.typed(kept.schema.clone(), &trees, groups, lines, out);
        (kept, trees, draft)
    }

    /// The estate with another policy. None where the policy declares other names than before, or what was said of the data
    /// points into a text that has changed: then the data has to be linked anew. Cost: the policy, and each group once where
    /// declarations of groups have moved.
    pub fn with(
        &mut self,
        trees: &[tree::File],
        changed: &[FileId],
        text: &TextOf,
        lines: &(dyn Fn(Span) -> u32 + Sync),
        out: &mut Diagnostics,
    ) -> Option<Draft> {
        let declared = declared(trees, text);
        let points = |d: &Diagnostic| {
            let edits = d.helps.iter().filter_map(|help| help.edit.as_ref()).map(|edit| edit.span);
            let places = d.place.into_iter().chain(d.others.iter().map(|label| label.span)).chain(edits);
            places.into_iter().any(|place| changed.contains(&place.file))
        };
        if as_written(&declared).ne(as_written(&self.declared)) || self.said.iter().any(points) {
            return None;
        }
        let moved = declared != self.declared;
        let declarations = declarations(trees);
        out.extend(declarations.diagnostics);
        let (member_of, sign_ins) = (self.schema.member_of, std::mem::take(&mut self.schema.sign_ins));
        self.schema = Schema { member_of, sign_ins, ..declarations.schema };
        self.declared = declared;
        if moved {
            self.move_groups(trees, lines);
        }
        Some(self.typed(self.schema.clone(), trees, Arc::clone(&self.data.groups), lines, out))
    }

    /// The same groups, declared elsewhere.
    fn move_groups(&mut self, trees: &[tree::File], lines: &dyn Fn(Span) -> u32) {
        let data = &mut self.data;
        let mut moved = (*data.groups).clone();
        let scope = data.scope(&self.schema, &data.people, &data.groups, &[]);
        // What there is to say of them was said of the data; it points to no file that has changed.
        let computed = groups::computed(&scope, trees, &mut Diagnostics::new());
        for group in groups::declared(trees) {
            let span = group.name.span;
            if let Some(id) = moved.find(&group.name.text) {
                moved.declare(id, Origin { file: span.file, line: lines(span) });
            }
        }
        data.hurt = put(computed, &mut moved);
        data.groups = Arc::new(moved);
    }

    fn typed(
        &self,
        schema: Schema,
        trees: &[tree::File],
        groups: Arc<bastide_model::Groups>,
        lines: &(dyn Fn(Span) -> u32 + Sync),
        out: &mut Diagnostics,
    ) -> Draft {
        out.extend(self.said.iter().cloned());
        let estate = self.data.policy(schema, trees, groups, &self.data.hurt, lines, out, Typing::Whole);
        settled(&self.hollow, &self.levels, out);
        let errors: Vec<&Diagnostic> = out.iter().filter(|d| d.is_error()).collect();
        let whole = errors.is_empty();
        let sound = errors.iter().all(|error| is_light(error, trees));
        let estate = if whole { estate } else { without_mistakes(&estate, trees, &errors) };
        Draft { estate, whole, sound }
    }
}

/// Leaves out every rule in which something is wrong.
fn without_mistakes(estate: &Estate, trees: &[tree::File], errors: &[&Diagnostic]) -> Estate {
    let rules = errors.iter().filter_map(|error| match around(error, trees)? {
        Ok(Declaration::Rule(rule)) => Some(rule.name.text.as_str()),
        _ => None,
    });
    let hurt: hashbrown::HashSet<&str> = rules.collect();
    let is_entry = |s: &bastide_model::Statement| s.sort == bastide_model::statement::Sort::Entry;
    let sound = estate.statements().iter().filter(|s| is_entry(s) || !hurt.contains(&*s.name));
    estate.with_statements(sound.cloned().collect())
}
