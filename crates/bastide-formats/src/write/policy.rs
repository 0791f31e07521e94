//! Edits of policy files. A file that was in its canonical layout is in it afterwards.

use bastide_syntax::format::format;
use bastide_syntax::tree::{ClauseBody, Declaration, ExprBody, File, Rule};
use bastide_syntax::{FileId, parse, quote};
use jiff::civil::Date;

const FILE: FileId = FileId(0);

fn tree(text: &str) -> Option<File> {
    let parsed = parse(FILE, text);
    parsed.diagnostics.is_empty().then_some(parsed.tree)
}

/// The text after an edit, laid out anew where it was in its canonical layout.
fn laid_out(before: &str, after: String) -> String {
    match format(FILE, before) {
        Ok(canonical) if canonical == before => format(FILE, &after).unwrap_or(after),
        _ => after,
    }
}

fn with_rule(text: &str, name: &str, edit: impl FnOnce(&Rule, &mut String)) -> Option<String> {
    let tree = tree(text)?;
    let rule = tree.declarations.iter().find_map(|d| match d {
        Declaration::Rule(rule) if rule.name.text == name => Some(rule),
        _ => None,
    })?;
    let mut after = text.to_string();
    edit(rule, &mut after);
    self::tree(&after)?;
    Some(laid_out(text, after))
}

/// Switches a rule off or on.
pub fn switch(text: &str, name: &str, off: bool) -> Option<String> {
    with_rule(text, name, |rule, after| match (rule.off, off) {
        (None, true) => after.insert_str(rule.name.span.range().end, " off"),
        (Some(span), false) => {
            let from = after[..span.range().start].trim_end_matches(' ').len();
            after.replace_range(from..span.range().end, "");
        }
        _ => {}
    })
}

/// Sets the days on which a rule applies.
pub fn window(text: &str, name: &str, from: Option<Date>, until: Option<Date>) -> Option<String> {
    with_rule(text, name, |rule, after| {
        let mut edits: Vec<(std::ops::Range<usize>, String)> = Vec::new();
        for (word, day) in [("from", from), ("until", until)] {
            let clause = rule.clauses.iter().find(|c| match &c.body {
                ClauseBody::From(_) => word == "from",
                ClauseBody::Until(_) => word == "until",
                _ => false,
            });
            let new = day.map_or(String::new(), |day| format!("{word} {day}"));
            match clause {
                Some(clause) => edits.push((clause.span.range(), new)),
                None if day.is_some() => {
                    let end = rule.span.range().end - 1;
                    edits.push((end..end, format!("    {new}\n")));
                }
                None => {}
            }
        }
        edits.sort_by_key(|(range, _)| std::cmp::Reverse(range.start));
        edits.into_iter().for_each(|(range, new)| after.replace_range(range, &new));
    })
}

/// Sets the actions of a rule.
pub fn actions(text: &str, name: &str, names: &[String]) -> Option<String> {
    with_rule(text, name, |rule, after| {
        let clause = rule.clauses.iter().find_map(|c| match &c.body {
            ClauseBody::May(modality, _) => Some((c.span, modality)),
            _ => None,
        });
        let Some((span, modality)) = clause else { return };
        let names: Vec<String> = names.iter().map(|n| quote::name(n)).collect();
        after.replace_range(span.range(), &format!("{} {}", modality.words(), names.join(", ")));
    })
}

/// Makes an exception of a user in a rule.
pub fn except(text: &str, name: &str, user: &str) -> Option<String> {
    let test = format!("user.id != {}", quote::text(user));
    with_rule(text, name, |rule, after| {
        let who = rule.clauses.iter().find_map(|c| if let ClauseBody::Who(who) = &c.body { Some(who) } else { None });
        let Some(who) = who else { return };
        match &who.condition {
            None => after.insert_str(who.span.range().end, &format!(" where {test}")),
            Some(condition) => {
                let range = condition.span.range();
                let joined = match condition.body {
                    ExprBody::Or(..) => format!("({}) and {test}", &text[range.clone()]),
                    _ => format!("{} and {test}", &text[range.clone()]),
                };
                after.replace_range(range, &joined);
            }
        }
    })
}

/// Whether a file declares something of the same sort and name.
pub fn holds(text: &str, declaration: &Declaration) -> bool {
    tree(text).is_some_and(|tree| tree.declarations.iter().any(|d| d.is_same(declaration)))
}

/// The text with a declaration of the same sort and name replaced.
pub fn replace(text: &str, declaration: &Declaration, by: &str) -> Option<String> {
    let tree = tree(text)?;
    let old = tree.declarations.iter().find(|d| d.is_same(declaration))?;
    let mut after = text.to_string();
    after.replace_range(old.span().range(), by);
    Some(laid_out(text, after))
}

/// The text with a declaration at its end.
pub fn append(text: &str, declaration: &str) -> String {
    let before = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
    laid_out(text, format!("{text}{before}\n{declaration}\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "# About reading.\nrule r {\n    because \"So.\"  # why\n    who     anyone where user.kind = guest or user.active\n    may     read\n    what    anything\n}\n";

    #[test]
    fn comments_and_layout_stay() {
        let off = switch(TEXT, "r", true).unwrap();
        assert_eq!(off, TEXT.replace("rule r {", "rule r off {"));
        assert_eq!(switch(&off, "r", false).unwrap(), TEXT);
        assert_eq!(
            except(TEXT, "r", "ann").unwrap(),
            TEXT.replace(
                "user.kind = guest or user.active",
                "(user.kind = guest or user.active) and user.id != \"ann\""
            )
        );
        let day = |text: &str| Some(text.parse().unwrap());
        let later = window(TEXT, "r", None, day("2027-01-31")).unwrap();
        assert_eq!(later, TEXT.replace("anything\n}", "anything\n    until   2027-01-31\n}"));
        assert_eq!(window(&later, "r", None, None).unwrap(), TEXT);
        assert_eq!(switch(TEXT, "other", true), None);
    }

    #[test]
    fn declarations_are_replaced_where_they_stand() {
        let new = "rule r { who owner may read what anything }";
        let other = parse(FILE, new).tree;
        assert!(holds(TEXT, &other.declarations[0]));
        let after = replace(TEXT, &other.declarations[0], new).unwrap();
        assert!(after.starts_with("# About reading.\nrule r {\n    who ") && after.contains("owner"), "{after}");
        assert!(
            append(TEXT, "rule s { who owner may read what anything }")
                .ends_with("rule s {\n    who     owner\n    may     read\n    what    anything\n}\n")
        );
    }
}
