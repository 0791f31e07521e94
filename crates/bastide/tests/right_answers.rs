//! Questions that were once answered wrongly, on small estates that hold nothing but the case.

mod common;

use common::{Run, case, run_in};
use serde_json::Value;
use tempfile::TempDir;

const ON: &str = "2026-11-24";

/// An estate of these policy texts and catalog rows; `people` and `groups` are the same in all.
fn estate(policy: &str, catalog: &str) -> TempDir {
    case(&format!(
        "=== bastide.toml
name = \"Small\"
policy = [\"policy.bastide\"]
[[people]]
file = \"people.csv\"
[[groups]]
file = \"groups.csv\"
[[catalog]]
file = \"catalog.csv\"
[[entries]]
file = \"entries.csv\"
=== people.csv
id,name,kind,active,rank
ann,Ann,person,yes,3
bob,Bob,person,yes,
gus,Gus,guest,yes,1
zoe,Zoe,person,no,9
=== groups.csv
group,member
staff,ann
staff,bob
=== entries.csv
subject,modality,actions,place,reach
=== catalog.csv
{catalog}=== policy.bastide
kind room
kind paper in room
action read
action update on paper needs read
attribute rank of user: number
{policy}"
    ))
}

const ROOMS: &str = "id,parent,kind,name,owner\nr,,room,Maps,ann\np,r,paper,Chart,bob\nq,r,paper,Atlas,\n";

fn ask(dir: &TempDir, args: &[&str]) -> Run {
    run_in(dir.path(), &[args, &["--on", ON]].concat())
}

fn json(dir: &TempDir, args: &[&str]) -> Value {
    let run = ask(dir, &[args, &["--format", "json"]].concat());
    serde_json::from_str(&run.out).unwrap_or_else(|e| panic!("{e}: {}", run.whole()))
}

/// A value nobody had yet took the number that the default had.
#[test]
fn a_new_value_of_an_attribute_that_travels_changes_access() {
    let dir = estate(
        "type label = scale open < internal < sealed
attribute label of resource: label default open highest
attribute wing  of resource: text default \"none\" inherit
rule all-read { who anyone may read what anything where resource.label = open and resource.wing = \"none\" }",
        "id,parent,kind,name,label,wing\nr,,room,Maps,,\np,r,paper,Chart,internal,west\nq,r,paper,Atlas,,\n",
    );
    for (change, lost) in
        [("resource:r.label=sealed", 6), ("resource:q.label=sealed", 3), ("resource:r.wing=east", 6)]
    {
        let tried = json(&dir, &["try", "--set", change]);
        assert_eq!(tried["radius"]["lost"], lost, "{change}: {tried:#}");
    }
}

/// Of two estates the one is the beginning of the other.
#[test]
fn what_is_gone_at_the_end_differs() {
    let policy = "rule all-read { who anyone may read what anything }\nrule up { who user ann may update what paper }";
    let new = estate(policy, ROOMS);
    // Without the action nothing speaks of it.
    let rule = "rule up { who user ann may update what paper }";
    for (file, cut) in [("people.csv", "gus,Gus,guest,yes,1\nzoe,Zoe,person,no,9\n"), ("catalog.csv", "p,r,paper,Chart,bob\n"), ("policy.bastide", "action update on paper needs read\n")] {
        let old = estate(policy, ROOMS);
        let path = new.path().join(file);
        let text = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, text.replace(cut, "").replace(if file == "policy.bastide" { rule } else { "\0" }, "")).unwrap();
        let run = ask(&old, &["diff", ".", new.path().to_str().unwrap()]);
        assert_eq!(run.status, 0, "{}", run.whole());
        assert!(run.out.contains("lost"), "{}", run.out);
        std::fs::write(&path, text).unwrap();
    }
}

#[test]
fn a_claim_about_what_is_gone_does_not_hold() {
    let dir = estate(
        "rule all-read { who anyone may read what anything }
role gone-role = update off
expect can-there   { user ann can read \"Maps\", \"Gone\" }
expect cannot      { user gus cannot update \"Maps/Chart\", id \"lost\" }
expect reaches     { user gus reaches exactly 2 paper under \"Maps\", \"Gone\" by read }
expect nobody      { user nobody can read \"Maps\" }
expect no-action   { user gus cannot gone-role \"Maps/Chart\" }
expect as-member    { user ann reaches exactly 0 paper where user member of ghosts by read }
persona ghost      { member of ghosts }
expect as-ghost    { user ghost cannot update \"Maps/Chart\" }
guarantee nowhere  { none of anyone can update what anything under \"Maps\", \"Gone\" }
guarantee ghosts   { none of members of ghosts can read what anything }
expect fine        { user ann can read \"Maps\" }
",
        ROOMS,
    );
    let tested = json(&dir, &["test"]);
    for proof in tested["proofs"].as_array().unwrap() {
        let name = proof["name"].as_str().unwrap();
        assert_eq!(proof["holds"], name == "fine", "{proof:#}");
        let (checked, broken) = (proof["checked"].as_u64().unwrap(), proof["broken"].as_u64().unwrap());
        assert!(broken <= checked, "{proof:#}");
    }
    assert_eq!(tested["failed"], 9);
    let claims = ask(&dir, &["test"]).out;
    for text in ["no resource fits the path `Gone`", "no resource has the id `lost`", "unknown user `nobody`", "`ghosts`"] {
        assert!(claims.contains(text), "{text}: {claims}");
    }
}

#[test]
fn days_of_a_session_and_of_a_guarantee_are_turning_days() {
    let dir = estate(
        "attribute expires of session: date
attribute due of resource: date
rule visit { who anyone may read what anything while today <= session.expires }
rule update { who user ann may update what paper }
rule all { who anyone may read what paper }
guarantee closed { none of anyone can update what paper where today > resource.due }",
        "id,parent,kind,name,due\nr,,room,Maps,\np,r,paper,Chart,2026-12-24\n",
    );
    let turns = json(&dir, &["what", "gus", "--until-changes", "2027-03-01", "--session", "expires=2026-12-01"]);
    let days: Vec<&Value> = turns["days"].as_array().unwrap().iter().map(|d| &d["date"]).collect();
    assert_eq!(days, ["2026-12-02"], "{turns:#}");
    let tested = json(&dir, &["test", "--through", "2027-01-31"]);
    assert_eq!(tested["later"][0]["name"], "closed", "{tested:#}");
    assert_eq!(tested["later"][0]["date"], "2026-12-25");
}

#[test]
fn undecided_is_what_cannot_be_said() {
    let policy = "attribute need of resource: number
rule both { who anyone may read what anything where user.rank >= resource.need }
rule deny { who anyone may not update what paper where user.rank < resource.need }
rule guarded { who anyone where user.rank is set and user.rank > 2 may update what paper }
rule or-missing { who anyone where user.rank > 2 or user.rank is missing may update what paper at \"Maps/Atlas\" }";
    let dir = estate(policy, "id,parent,kind,name,need\nr,,room,Maps,\np,r,paper,Chart,2\nq,r,paper,Atlas,\n");
    // All four users on the room and on the atlas, and bob on the chart.
    assert_eq!(json(&dir, &["reach", "both"])["undecided"], 9);
    assert_eq!(json(&dir, &["reach", "deny"])["undecided"], 5);
    assert_eq!(json(&dir, &["reach", "guarded"])["undecided"], 0);
    let nothing = estate(
        "attribute need of resource: number
rule both { who anyone may read what anything where user.rank >= resource.need }",
        "id,parent,kind,name,need\nr,,room,Maps,\n",
    );
    let text = ask(&nothing, &["reach", "both"]).ok();
    assert!(text.contains("in 4 triples a value is missing"), "{text}");
}

/// The audit asks the decisions, not the text.
#[test]
fn undecided_is_reported_where_a_decision_hangs_on_it() {
    let undecided = |policy: &str| {
        let dir = estate(policy, "id,parent,kind,name\nr,,room,Maps\np,r,paper,Chart\n");
        let audit = json(&dir, &["audit", "--only", "undecided"]);
        let findings = audit["findings"].as_array().unwrap();
        findings.iter().map(|f| f["message"].as_str().unwrap().to_string()).collect::<Vec<_>>()
    };
    for guarded in [
        "rule g { who anyone where user.rank is set and user.rank > 2 may read what anything }",
        "rule g { who anyone where user.rank > 2 or user.rank is missing may read what anything }",
        "rule g { who anyone where user.rank > 2 may read what anything }\nrule all { who anyone may read what anything }",
        "rule g { who anyone where user.rank > 2 may read what anything }\nrule not-bob { who user bob may never read what anything }",
    ] {
        assert_eq!(undecided(guarded), [""; 0], "{guarded}");
    }
    let plain = "rule g { who anyone where user.rank > 2 may read what anything }";
    assert_eq!(undecided(plain), ["decisions hang on `user.rank`, which is missing for 1 user"]);
    let restricted = "rule all { who anyone may read what anything }
rule g { who anyone where user.rank > 2 may not read what anything }";
    assert_eq!(undecided(restricted), ["decisions hang on `user.rank`, which is missing for 1 user"]);
    let grouped = "group high = anyone where user.rank > 2\nrule g { who members of high may read what anything }";
    assert_eq!(undecided(grouped), ["decisions hang on `user.rank`, which is missing for 1 user"]);
}

/// Whom no action concerns is not counted among whom it reaches.
#[test]
fn reach_counts_whom_an_action_has_a_meaning_for() {
    let dir = estate("rule up { who anyone where not user is owner may update what room under \"Maps\" }
rule both { who user bob may update what room\n }", ROOMS);
    let reached = json(&dir, &["reach", "up"]);
    assert_eq!((reached["users"].as_array().unwrap().len(), reached["triples"].as_u64()), (0, Some(0)), "{reached:#}");
}

/// The lines of the report's table, as triples that they say are allowed.
fn table_of_the_report(dir: &TempDir) -> Value {
    let page = ask(dir, &["report"]).ok();
    let from = page.find("id=\"folded\"").or_else(|| page.find("application/json")).expect("the page holds its data");
    let from = from + page[from..].find('>').unwrap() + 1;
    let text = &page[from..from + page[from..].find("</script>").unwrap()];
    serde_json::from_str(text).unwrap_or_else(|e| panic!("{e}: {}", &text[..text.len().min(300)]))
}
