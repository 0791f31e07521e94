use super::parse;
use crate::source::FileId;
use crate::tree::*;

fn parsed(text: &str) -> (Vec<Declaration>, Vec<String>) {
    let out = parse(FileId(0), text);
    let messages = out
        .diagnostics
        .iter()
        .map(|d| format!("{}: {} [{}]", d.code.name, d.message, &text[d.place.unwrap().range()]))
        .collect();
    (out.tree.declarations, messages)
}

#[track_caller]
fn accepts(text: &str) -> Vec<Declaration> {
    let (declarations, messages) = parsed(text);
    assert_eq!(messages, Vec::<String>::new(), "{text}");
    declarations
}

#[track_caller]
fn refuses(text: &str, expected: &[&str]) {
    assert_eq!(parsed(text).1, expected, "{text}");
}

#[test]
fn every_declaration_of_the_grammar() {
    let text = r#"
kind stream kind workspace in stream
kind "5th kind" in workspace, folder is item
action read needs read on parent
action query on dataset, "5th kind" needs read, run on workspace, see on source, read on self
type label = scale open < internal < "very secret"
type site = choice harbour, estuary
attribute label of resource: label default open highest
attribute lenders of item, user, session: set of text required caseless
role keeper = everything locked off
role author = reader, comment
group night-shift = anyone where user.site = harbour and user.kind = person
group lab = holders of read on "Conservation/Lab"
group one = holders of read on id "r-1"
apart approve, pay on invoice
alike read, query
rule off off { who user a.b, c, members of g, h, owner may only read what item, folder under "A/*", id "r-1" where resource.x = 1
  while not (today + 2 weeks <= resource.due or session.t overlaps ("a", "b")) layer state from 2027-01-01 until 2027-12-31 because "x" }
expect e { user u on 2026-12-01 session network = "guest", ticket = ("TL-014", "b")
  can read "A" cannot read, update id "r", "B" reaches at least 3 report under "A" by read }
guarantee g { because "x" only members of r, owner can read what anything where resource.label = sealed }
guarantee h { none of anyone where user.kind = guest can update what anything }
"#;
    let declarations = accepts(text);
    assert_eq!(declarations.len(), 20);
    let Declaration::Rule(rule) = &declarations[16] else { panic!("the rule") };
    assert_eq!((rule.name.text.as_str(), rule.off.is_some(), rule.clauses.len()), ("off", true, 8));
    let Clause { body: ClauseBody::Who(who), .. } = &rule.clauses[0] else { panic!("who") };
    let users = who.terms.iter().filter(|t| matches!(t, Term::User(_))).count();
    let members = who.terms.iter().filter(|t| matches!(t, Term::Members(_))).count();
    assert_eq!((users, members, who.terms.len()), (2, 2, 5));
}

#[test]
fn precedence_is_or_and_not_comparison() {
    fn show(e: &Expr) -> String {
        match &e.body {
            ExprBody::Or(p) => format!("({})", p.iter().map(show).collect::<Vec<_>>().join(" or ")),
            ExprBody::And(p) => format!("({})", p.iter().map(show).collect::<Vec<_>>().join(" and ")),
            ExprBody::Not(i) => format!("not {}", show(i)),
            ExprBody::Group(i) => show(i),
            ExprBody::Compare(..) => "=".into(),
            ExprBody::Flag(_) => "f".into(),
            other => format!("{other:?}"),
        }
    }
    for (text, expected) in [
        ("user.a = 1 or user.b = 2 and not user.c", "(= or (= and not f))"),
        ("(user.a = 1 or user.b) and user.c", "((= or f) and f)"),
        ("not not user.a and user.b", "(not not f and f)"),
    ] {
        let text = format!("rule r {{ who anyone may read what anything while {text} }}");
        let declarations = accepts(&text);
        let Declaration::Rule(rule) = &declarations[0] else { panic!() };
        let ClauseBody::While(e) = &rule.clauses[3].body else { panic!() };
        assert_eq!(show(e), expected);
    }
}

#[test]
fn one_run_reports_every_mistake() {
    refuses(
        "kind 5x\nrule a {\n who nobody\n may raed,\n what item\n}\nrole = x\nrlue b {}\nrule c { who anyone }",
        &[
            "bad-token: `5x` is no name: a bare name starts with a letter [5x]",
            "unexpected: expected `anyone`, `owner`, `user ...` or `members of ...`, found `nobody` [nobody]",
            "unexpected: expected a clause (`because`, `layer`, `who`, `may`, `what`, `while`, `from`, `until`) or `}`, found `item` [item]",
            "unexpected: expected the name of the role, found `=` [=]",
            "clause-missing: rule `c` does not say `may` [c]",
            "clause-missing: rule `c` does not say `what` [c]",
        ],
    );
}

#[test]
fn mistakes_in_bodies_and_expressions() {
    let rule = |clauses: &str| format!("rule r {{ who anyone may read what anything {clauses} }}");
    refuses(&rule("may read"), &["clause-twice: a second `may` in rule `r` [may read]"]);
    refuses(&rule("while 1 < user.a < 3"), &["chained-comparison: comparisons do not chain [<]"]);
    refuses(&rule("while user.a.b = 1"), &["unexpected: `user.a.b` has too many parts [user.a.b]"]);
    refuses(&rule("while user.a < today-2"), &["unexpected: expected a value, found `today-2` [today-2]"]);
    refuses(&rule("while user.a = (1)"), &["unexpected: expected an attribute or a value, found `(` [(]"]);
    refuses("rule owner { }", &["unexpected: expected the name of the rule, found the reserved word `owner` [owner]"]);
    refuses("rule r { who anyone", &["unexpected: expected `}`, found the end of the file []"]);
    refuses("type t = scale a, b", &["unexpected: expected `<` between the values of a scale, found `,` [,]"]);
    refuses(
        "attribute a of user: number inherit highest",
        &["contradictory: an attribute travels by `inherit` or by `highest`, not by both [inherit highest]"],
    );
    refuses(
        "rule r { who anyone, smith may read what anything }",
        &["unexpected: expected `anyone`, `owner`, `user ...` or `members of ...`, found `smith` [smith]"],
    );
}

#[test]
fn nesting_has_a_limit_and_never_overflows() {
    for (open, close) in [("(", ")"), ("not ", "")] {
        let nested = |n: usize| {
            let (open, close) = (open.repeat(n), close.repeat(n));
            format!("rule r {{ who anyone may read what anything while {open}user.a{close} }}")
        };
        accepts(&nested(200));
        let (_, messages) = parsed(&nested(100_000));
        assert!(messages[0].starts_with("too-deep: an expression nested deeper than 200 levels"), "{messages:?}");
    }
}

#[test]
fn what_may_follow_is_what_the_grammar_allows() {
    let wanted = |text: &str| {
        let mut all: Vec<String> = super::wanted(text)
            .into_iter()
            .map(|one| match one {
                super::Wanted::Word(text) | super::Wanted::Sign(text) => text.to_string(),
                super::Wanted::Name(text) => format!("<{text}>"),
                super::Wanted::Value => "<value>".to_string(),
            })
            .collect();
        all.sort();
        all.join(" ")
    };
    let rule = "rule a {\n  because \"x\"\n";
    let cases = [
        ("kind ", "<the name of the kind>"),
        ("rule a", "off {"),
        ("rule a { who ", "anyone members owner user"),
        ("rule a { who members ", "of"),
        ("rule a { who members of ", "<a group id>"),
        ("rule a { who members of b, ", "<a group id> anyone members owner user"),
        ("type t = ", "choice scale"),
        ("rule a { may read, ", "<an action or a role, or `everything`>"),
        ("rule a { what item under ", "<a path in quotes> id"),
        ("rule a { what item where resource.a is ", "empty missing set"),
        ("rule a { what item where resource.a in ", "( <value> today"),
        ("expect e { reaches at ", "least most"),
        // A mistake before the end leaves nothing to offer, and the next clause is offered again.
        ("rule a { who who ", ""),
    ];
    for (text, expected) in cases {
        assert_eq!(wanted(text), expected, "{text}");
    }
    assert!(wanted(rule).contains("who") && !wanted(rule).contains("guarantee"));
    assert!(wanted("").contains("guarantee"));
    let after = wanted("rule a { who user u where user.a ");
    for word in ["=", "in", "is", "and", "or", "may", "}"] {
        assert!(after.split(' ').any(|w| w == word), "{word}: {after}");
    }
}
