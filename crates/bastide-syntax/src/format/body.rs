//! Blocks and what stands in them: clauses, who and what, expressions.

use super::{Around, Printer, flow, names};
use crate::quote;
use crate::source::Span;
use crate::tree::*;

const INDENT: usize = 4;

impl Printer<'_> {
    /// Fingerprints a rule, an expectation or a guarantee.
    pub(super) fn block(&mut self, declaration: &Declaration, after: &str) {
        let (head, span, mut clauses): (String, Span, Vec<(usize, Span, String)>) = match declaration {
            Declaration::Rule(r) => {
                let off = if r.off.is_some() { " off" } else { "" };
                let clauses = r.clauses.iter().map(|c| (rule_order(&c.body), c.span, rule_clause(&c.body)));
                (format!("rule {}{off}", quote::name(&r.name.text)), r.span, clauses.collect())
            }
            Declaration::Expect(e) => {
                let clauses = e.clauses.iter().map(|c| (expect_order(&c.body), c.span, expect_clause(&c.body)));
                (format!("expect {}", quote::name(&e.name.text)), e.span, clauses.collect())
            }
            Declaration::Waive(w) => {
                let clauses = w.clauses.iter().map(|c| (waive_order(&c.body), c.span, waive_clause(&c.body)));
                (format!("waive {}", quote::name(&w.name.text)), w.span, clauses.collect())
            }
            Declaration::Persona(p) => {
                let clauses = p.clauses.iter().map(|c| (persona_order(&c.body), c.span, persona_clause(&c.body)));
                (format!("persona {}", quote::name(&p.name.text)), p.span, clauses.collect())
            }
            Declaration::Guarantee(g) => {
                let clauses = g.clauses.iter().map(|c| (guarantee_order(&c.body), c.span, guarantee_clause(&c.body)));
                (format!("guarantee {}", quote::name(&g.name.text)), g.span, clauses.collect())
            }
            _ => return,
        };
        self.rewind(span);
        let mut printed: Vec<(usize, Around, String)> = Vec::new();
        clauses.sort_by_key(|(_, span, _)| span.start);
        for (order, span, text) in clauses {
            let around = self.around(span);
            printed.push((order, around, text));
        }
        printed.sort_by_key(|(order, ..)| *order);
        self.line(0, &format!("{head} {{"));
        for (_, around, text) in printed {
            around.before.iter().for_each(|line| self.line(INDENT, line));
            let after = around.after.map_or(String::new(), |c| format!("  {c}"));
            flow::print(&mut self.out, INDENT, &text, &after);
        }
        // Comments after the last clause, before the brace.
        while let Some(comment) = self.comments.get(self.next).copied().filter(|c| c.start < span.end) {
            let text = self.source(comment).to_string();
            self.line(INDENT, &text);
            self.next += 1;
        }
        self.line(0, &format!("}}{after}"));
    }

    /// Goes to the first comment inside a block.
    fn rewind(&mut self, span: Span) {
        self.next = self.comments.partition_point(|c| c.start < span.start);
    }
}

fn rule_order(body: &ClauseBody) -> usize {
    match body {
        ClauseBody::Because(_) => 0,
        ClauseBody::Layer(_) => 1,
        ClauseBody::Who(_) => 2,
        ClauseBody::May(..) => 3,
        ClauseBody::What(_) => 4,
        ClauseBody::While(_) => 5,
        ClauseBody::From(_) => 6,
        ClauseBody::Until(_) => 7,
    }
}

/// A keyword and what follows it, lined up with the other clauses.
fn clause(keyword: &str, rest: &str) -> String {
    format!("{keyword:<7} {rest}")
}

fn text(text: &Text) -> String {
    format!("\"{}\"", text.raw)
}

fn rule_clause(body: &ClauseBody) -> String {
    match body {
        ClauseBody::Because(reason) => clause("because", &text(reason)),
        ClauseBody::Layer(name) => clause("layer", &quote::name(&name.text)),
        ClauseBody::Who(of) => clause("who", &who(of)),
        ClauseBody::May(modality, of) => clause(modality.words(), &items(of)),
        ClauseBody::What(of) => clause("what", &what(of)),
        ClauseBody::While(of) => clause("while", &expr(of)),
        ClauseBody::From(date) => clause("from", &date.text),
        ClauseBody::Until(date) => clause("until", &date.text),
    }
}

fn expect_order(body: &ExpectClauseBody) -> usize {
    match body {
        ExpectClauseBody::Because(_) => 0,
        ExpectClauseBody::User(_) => 1,
        ExpectClauseBody::On(_) => 2,
        ExpectClauseBody::Session(_) => 3,
        ExpectClauseBody::Can(..) | ExpectClauseBody::Reaches { .. } => 4,
    }
}

fn expect_clause(body: &ExpectClauseBody) -> String {
    match body {
        ExpectClauseBody::Because(reason) => clause("because", &text(reason)),
        ExpectClauseBody::User(name) => clause("user", &quote::name(&name.text)),
        ExpectClauseBody::On(date) => clause("on", &date.text),
        ExpectClauseBody::Session(list) => clause("session", &pairs(list)),
        ExpectClauseBody::Can(allowed, of, places) => {
            let places: Vec<String> = places.iter().map(place).collect();
            clause(if *allowed { "can" } else { "cannot" }, &format!("{}\u{1}{}", items(of), places.join(",\u{1}")))
        }
        ExpectClauseBody::Reaches { bound, count, what: of, by, .. } => {
            let bound = match bound {
                Bound::Exactly => "exactly",
                Bound::AtLeast => "at least",
                Bound::AtMost => "at most",
            };
            clause("reaches", &format!("{bound} {count} {}\u{1}by {}", what(of), items(by)))
        }
    }
}

fn waive_order(body: &WaiveClauseBody) -> usize {
    match body {
        WaiveClauseBody::Because(_) => 0,
        WaiveClauseBody::Of(_) => 1,
        WaiveClauseBody::Until(_) => 2,
    }
}

fn waive_clause(body: &WaiveClauseBody) -> String {
    match body {
        WaiveClauseBody::Because(reason) => clause("because", &text(reason)),
        WaiveClauseBody::Of(about) => clause("of", &names(about).replace(", ", ",\u{1}")),
        WaiveClauseBody::Until(date) => clause("until", &date.text),
    }
}

fn persona_order(body: &PersonaClauseBody) -> usize {
    match body {
        PersonaClauseBody::Because(_) => 0,
        PersonaClauseBody::Member(_) => 1,
        PersonaClauseBody::Has(_) => 2,
    }
}

fn persona_clause(body: &PersonaClauseBody) -> String {
    match body {
        PersonaClauseBody::Because(reason) => clause("because", &text(reason)),
        PersonaClauseBody::Member(groups) => clause("member of", &names(groups).replace(", ", ",\u{1}")),
        PersonaClauseBody::Has(list) => clause("has", &pairs(list)),
    }
}

/// `name = value, ...`
fn pairs(list: &[(Name, Values)]) -> String {
    let pairs: Vec<String> = list.iter().map(|(n, v)| format!("{} = {}", quote::name(&n.text), values(v))).collect();
    pairs.join(",\u{1}")
}

fn guarantee_order(body: &GuaranteeClauseBody) -> usize {
    match body {
        GuaranteeClauseBody::Because(_) => 0,
        GuaranteeClauseBody::Only(_) | GuaranteeClauseBody::NoneOf(_) => 1,
        GuaranteeClauseBody::Can(_) => 2,
        GuaranteeClauseBody::What(_) => 3,
    }
}

fn guarantee_clause(body: &GuaranteeClauseBody) -> String {
    match body {
        GuaranteeClauseBody::Because(reason) => clause("because", &text(reason)),
        GuaranteeClauseBody::Only(of) => clause("only", &who(of)),
        GuaranteeClauseBody::NoneOf(of) => clause("none of", &who(of)),
        GuaranteeClauseBody::Can(of) => clause("can", &items(of)),
        GuaranteeClauseBody::What(of) => clause("what", &what(of)),
    }
}

/// A list of actions and roles.
pub fn items(of: &Items) -> String {
    match of {
        Items::Everything(_) => "everything".to_string(),
        Items::Names(list) => names(list).replace(", ", ",\u{1}"),
    }
}

/// A who-clause. A list of users or groups goes on without its word.
pub fn who(of: &Who) -> String {
    let mut out = String::new();
    let mut before = "";
    for (i, term) in of.terms.iter().enumerate() {
        let (word, name) = match term {
            Term::Anyone(_) => ("anyone", None),
            Term::Owner(_) => ("owner", None),
            Term::User(name) => ("user", Some(name)),
            Term::Members(name) => ("members of", Some(name)),
        };
        if i > 0 {
            out.push_str(",\u{1}");
        }
        match name {
            Some(name) if before == word && i > 0 && !repeats(of, i) => out.push_str(&quote::name(&name.text)),
            Some(name) => out.push_str(&format!("{word} {}", quote::name(&name.text))),
            None => out.push_str(word),
        }
        before = word;
    }
    if let Some(condition) = &of.condition {
        out.push_str(&format!("\u{1}where {}", expr(condition)));
    }
    out
}

/// Whether the text repeats the word before this term: then it is kept, so that no word is lost.
fn repeats(of: &Who, at: usize) -> bool {
    of.worded.get(at).copied().unwrap_or(true)
}

/// A what-clause.
pub fn what(of: &What) -> String {
    let mut out = match &of.kinds {
        None => "anything".to_string(),
        Some(kinds) => names(kinds).replace(", ", ",\u{1}"),
    };
    if let Some((reach, places)) = &of.places {
        let places: Vec<String> = places.iter().map(place).collect();
        out.push_str(&format!("\u{1}{} {}", reach.word(), places.join(",\u{1}")));
    }
    if let Some(condition) = &of.condition {
        out.push_str(&format!("\u{1}where {}", expr(condition)));
    }
    out
}

/// A place.
pub fn place(of: &Place) -> String {
    match of {
        Place::Path(path) => text(path),
        Place::Id(id) => format!("id {}", text(id)),
    }
}

/// A target of a need or of `holds`.
pub fn target(of: &Target) -> String {
    match of {
        Target::Own(_) => "self".into(),
        Target::Parent(_) => "parent".into(),
        Target::Source(_) => "source".into(),
        Target::Kind(name) => quote::name(&name.text),
        Target::Path(path) => text(path),
    }
}

/// A literal as written.
pub fn literal(of: &Literal) -> String {
    match &of.body {
        LiteralBody::Text(value) => text(value),
        LiteralBody::Number(number) => number.clone(),
        LiteralBody::Date(date) => date.clone(),
        LiteralBody::Word(word) => word.clone(),
    }
}

fn values(of: &Values) -> String {
    let list: Vec<String> = of.literals.iter().map(literal).collect();
    if of.list { format!("({})", list.join(", ")) } else { list.join(", ") }
}

/// An expression; parentheses stay as written.
pub fn expr(of: &Expr) -> String {
    match &of.body {
        ExprBody::Or(parts) => parts.iter().map(expr).collect::<Vec<_>>().join("\u{1}or "),
        ExprBody::And(parts) => parts.iter().map(expr).collect::<Vec<_>>().join("\u{1}and "),
        ExprBody::Not(inner) => format!("not {}", expr(inner)),
        ExprBody::Group(inner) => format!("({})", flow::inner(&expr(inner))),
        ExprBody::Holds(holds) => format!("holds {} on {}", quote::name(&holds.0.text), target(&holds.1)),
        ExprBody::MemberOf(group) => format!("user member of {}", quote::name(&group.text)),
        ExprBody::IsOwner => "user is owner".to_string(),
        ExprBody::Flag(of) => operand(of),
        ExprBody::Is(of, test) => {
            let test = match test {
                Test::Set => "set",
                Test::Missing => "missing",
                Test::Empty => "empty",
            };
            format!("{} is {test}", operand(of))
        }
        ExprBody::Like(of, pattern) => format!("{} like {}", operand(of), text(pattern)),
        ExprBody::Compare(a, comparison, b) => format!("{} {} {}", operand(a), comparison.sign(), operand(b)),
        ExprBody::Sets(a, relation, b) => {
            let right = match &**b {
                SetOperand::Operand(of) => operand(of),
                SetOperand::Values(of) => values(of),
            };
            format!("{} {} {right}", operand(a), relation.word())
        }
    }
}

fn operand(of: &Operand) -> String {
    match &of.body {
        OperandBody::Member(member) => member.raw.clone(),
        OperandBody::Today(offset) => offset.raw.clone(),
        OperandBody::Literal(of) => literal(of),
    }
}
