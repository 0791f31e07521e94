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
    for (change, lost) in [("resource:r.label=sealed", 6), ("resource:q.label=sealed", 3), ("resource:r.wing=east", 6)]
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
    for (file, cut) in [
        ("people.csv", "gus,Gus,guest,yes,1\nzoe,Zoe,person,no,9\n"),
        ("catalog.csv", "p,r,paper,Chart,bob\n"),
        ("policy.bastide", "action update on paper needs read\n"),
    ] {
        let old = estate(policy, ROOMS);
        let path = new.path().join(file);
        let text = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, text.replace(cut, "").replace(if file == "policy.bastide" { rule } else { "\0" }, ""))
            .unwrap();
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
    for text in
        ["no resource fits the path `Gone`", "no resource has the id `lost`", "unknown user `nobody`", "`ghosts`"]
    {
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
    let dir = estate(
        "rule up { who anyone where not user is owner may update what room under \"Maps\" }
rule both { who user bob may update what room\n }",
        ROOMS,
    );
    let reached = json(&dir, &["reach", "up"]);
    assert_eq!((reached["users"].as_array().unwrap().len(), reached["triples"].as_u64()), (0, Some(0)), "{reached:#}");
}

fn write(dir: &TempDir, file: &str, text: &str) {
    std::fs::write(dir.path().join(file), text).unwrap();
}

fn findings(dir: &TempDir, name: &str) -> Vec<String> {
    let audit = json(dir, &["audit", "--only", name]);
    audit["findings"].as_array().unwrap().iter().map(|f| f["message"].as_str().unwrap().to_string()).collect()
}

/// What somebody holds as an owner counts; and what an owner may not do is not said of everybody.
#[test]
fn the_report_counts_owners() {
    let dir = estate(
        "action approve on paper needs read
action shut on room
rule all-read { who anyone may read what anything }
rule approve { who anyone where not user is owner may approve what paper }
rule own { who owner may update what paper }",
        "id,parent,kind,name,owner\nr,,room,Maps,ann\np,r,paper,Chart,bob\nq,r,paper,Atlas,bob\n",
    );
    let manifest = std::fs::read_to_string(dir.path().join("bastide.toml")).unwrap();
    write(&dir, "bastide.toml", &format!("{manifest}[audit]\nharmless = [\"read\", \"approve\"]\n"));
    let page = ask(&dir, &["report"]).ok();
    let from = page.find("id=\"data\">").expect("the page holds its data") + "id=\"data\">".len();
    let text = &page[from..from + page[from..].find("</script>").unwrap()];
    let data: Value = serde_json::from_str(text).unwrap();
    let folded = if data["lines"].is_array() { &data } else { &data["folded"] };
    let name = |list: &str, at: &Value| folded[list][at.as_u64().unwrap() as usize].clone();
    let lines = folded["lines"].as_array().unwrap();
    let of = |action: &str| -> Vec<&Value> {
        let has = |line: &&Value| line["a"].as_array().unwrap().iter().any(|a| name("actions", a) == action);
        lines.iter().filter(has).collect()
    };
    let approve = of("approve");
    assert_eq!(approve.len(), 1, "{approve:?}");
    assert_eq!((&approve[0]["x"], &approve[0]["n"]), (&Value::from(true), &Value::from(2)));
    assert_ne!(name("people", &approve[0]["e"][0])["id"], "bob", "its example is no owner");
    let update = of("update");
    assert_eq!((update.len(), &update[0]["o"]), (1, &Value::from(true)), "{update:?}");
    // Two papers of three resources by ownership, whatever others may do.
    assert!(page.contains("Bob (67\u{a0}%)"), "the widest power counts what bob owns");
}

#[test]
fn duties_of_three_are_told_pair_by_pair() {
    let dir = estate(
        "action order on paper\naction approve on paper\naction pay on paper
apart order, approve, pay
rule ab { who user ann may order, approve what paper at \"Maps/Chart\" }
rule bc { who user ann may approve, pay what paper at \"Maps/Atlas\" }",
        ROOMS,
    );
    let mut found = findings(&dir, "duty-clash");
    found.sort();
    assert_eq!(
        found,
        ["ann may approve and pay on the same resource", "ann may order and approve on the same resource"]
    );
}

#[test]
fn a_statement_without_a_meaning_reaches_nothing() {
    let dir =
        estate("rule rooms { who anyone may update what room }\nrule fine { who anyone may read what room }", ROOMS);
    assert_eq!(findings(&dir, "no-reach"), ["rule `rooms` says update where that has no meaning, and nothing else"]);
}

/// Taken out, it would change something: then it is not said that it does not.
#[test]
fn a_hollow_grant_is_not_always_idle() {
    let policy = "rule rank { who user bob may update what paper }";
    let idle = estate(policy, ROOMS);
    let words = |dir: &TempDir| {
        let audit = json(dir, &["audit", "--only", "hollow-grant"]);
        audit["findings"][0]["suggestion"]["words"].as_str().unwrap().to_string()
    };
    assert!(words(&idle).contains("changes nothing today"), "{}", words(&idle));
    // It controls the papers, in which nobody may read for that.
    let layered = estate(
        "rule hollow { layer first who members of staff may update what paper }
rule staff { who members of staff may read what anything }",
        ROOMS,
    );
    let manifest = std::fs::read_to_string(layered.path().join("bastide.toml")).unwrap();
    write(&layered, "bastide.toml", &format!("{manifest}[decide]\nlayers = [\"first\"]\n"));
    assert!(!words(&layered).contains("changes nothing today"), "{}", words(&layered));
}

/// A link is closed with its source, a sealed case is meant to be shut, and an inactive member spoils no group.
#[test]
fn what_is_meant_is_no_finding() {
    let catalog = "id,parent,kind,name,owner,state,inherits,sources,label\nr,,room,Maps,ann,open,,,\nc,r,room,Case,,sealed,no,,\n\
                   p,c,paper,Chart,,,,,\nq,r,paper,Atlas,,,,q2,\nq2,r,paper,Secret,,,,,\n";
    let policy = |where_: &str| {
        format!(
            "type label = scale open < sealed\nattribute label of resource: label default open highest
action view on paper needs read, view on source
rule all {{ who members of staff may read, view what anything under \"Maps\" {where_} }}
rule not-secret {{ who user ann may not view what paper at \"Maps/Secret\" }}"
        )
    };
    let text = policy("").replace("kind room", "");
    let dir = estate(&text, catalog);
    let base = std::fs::read_to_string(dir.path().join("policy.bastide")).unwrap();
    write(&dir, "policy.bastide", &base.replace("kind room\n", "kind room in room\n"));
    write(&dir, "catalog.csv", &catalog.replace("r,,room", "r,,top").replace("kind room", ""));
    write(
        &dir,
        "policy.bastide",
        &base
            .replace("kind room\n", "kind top\nkind room in top, room\n")
            .replace("kind paper in room", "kind paper in room, top"),
    );
    assert_eq!(findings(&dir, "half-open"), [""; 0]);
    assert_eq!(findings(&dir, "cut-off"), [""; 0], "its state says so");
    let asks = std::fs::read_to_string(dir.path().join("policy.bastide")).unwrap();
    write(
        &dir,
        "policy.bastide",
        &asks.replace(
            "under \"Maps\" ",
            "under \"Maps\" where resource.state is missing or resource.state = sealed or resource.state = open ",
        ),
    );
    assert_eq!(findings(&dir, "cut-off").len(), 1, "it asks for what is sealed");
    write(
        &dir,
        "people.csv",
        "id,name,kind,active,rank\nann,Ann,person,yes,3\nbob,Bob,person,yes,\ncyn,Cyn,person,yes,\ngus,Gus,guest,no,1\n",
    );
    write(&dir, "groups.csv", "group,member\nstaff,ann\nstaff,bob\nstaff,cyn\nstaff,gus\n");
    write(
        &dir,
        "entries.csv",
        "subject,modality,actions,place,reach\nuser:ann,may,update,p,at\nuser:bob,may,update,p,at\nuser:cyn,may,update,p,at\n",
    );
    let audit = json(&dir, &["audit", "--only", "person-by-person"]);
    assert!(audit.to_string().contains("group `staff` has exactly these members"), "{audit:#}");
}

/// Only where the broader one gives everything that the narrow one gives.
#[test]
fn a_narrowing_is_pointless_where_all_of_it_is_given() {
    let people: String = (0..12).map(|i| format!("u{i},U,person,yes,\n")).collect();
    let dir = estate(
        "rule broad-chart { who anyone may read what anything at \"Maps\", \"Maps/Chart\" }
rule broad-atlas { who anyone where user.id != \"u1\" may read what paper at \"Maps/Atlas\" }
rule narrow { who user u2 may read what paper at \"Maps/Chart\", \"Maps/Atlas\" }",
        ROOMS,
    );
    write(&dir, "people.csv", &format!("id,name,kind,active,rank\nann,A,person,yes,\nbob,B,person,yes,\n{people}"));
    assert_eq!(findings(&dir, "pointless-narrowing"), [""; 0]);
    let policy = std::fs::read_to_string(dir.path().join("policy.bastide")).unwrap();
    write(&dir, "policy.bastide", &policy.replace("at \"Maps/Chart\", \"Maps/Atlas\"", "at \"Maps/Chart\""));
    assert_eq!(findings(&dir, "pointless-narrowing").len(), 1);
}

/// Layers: what another layer decides lets nobody in; and a row holds for each person in it.
#[test]
fn a_sheet_says_only_what_is_so() {
    let dir = estate(
        "rule state-read { layer state who anyone may read what paper where resource.state = shown }
rule rest-read { who members of staff may read, update what anything }
rule bob-reads { who user bob may only read what anything }",
        "id,parent,kind,name,owner,state\nr,,room,Maps,ann,\np,r,paper,Chart,ann,shown\nq,r,paper,Atlas,ann,hidden\n",
    );
    let manifest = std::fs::read_to_string(dir.path().join("bastide.toml")).unwrap();
    write(&dir, "bastide.toml", &format!("{manifest}[decide]\nlayers = [\"state\"]\n"));
    ask(&dir, &["review", "sheets", "out", "--by", "root"]).ok();
    let mut reader = csv::Reader::from_path(dir.path().join("out/Maps.csv")).unwrap();
    let headers = reader.headers().unwrap().clone();
    let column = |name: &str| headers.iter().position(|h| h == name).unwrap();
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    let cells =
        |row: &csv::StringRecord| ["given_by", "people", "may", "resources"].map(|c| row[column(c)].to_string());
    let mut told: Vec<[String; 4]> = rows.iter().map(cells).collect();
    told.sort();
    let own = |cells: [&str; 4]| cells.map(str::to_string);
    assert_eq!(
        told,
        [
            own(["rule rest-read", "ann; bob", "read", "1"]),
            own(["rule rest-read", "ann", "read; update", "1"]),
            own(["rule rest-read", "bob", "read", "1"]),
            own(["rule state-read", "ann; bob; gus", "read", "1"]),
        ]
        .into_iter()
        .collect::<std::collections::BTreeSet<_>>()
        .into_iter()
        .collect::<Vec<_>>()
    );
}

#[test]
fn lists_go_through_the_whole_tree() {
    let dir = estate(
        "action \"x;y\"\nrule all { who anyone may read, \"x;y\" what anything }",
        "id,parent,kind,name\nr,,room,A\np,r,paper,P\n",
    );
    let policy = std::fs::read_to_string(dir.path().join("policy.bastide")).unwrap();
    write(&dir, "policy.bastide", &policy.replace("kind room\n", "kind room in room, top\nkind top\n"));
    write(&dir, "catalog.csv", "id,parent,kind,name\nt,,top,T\nr,t,room,A\ns,r,room,B\np,s,paper,P\n");
    let csv = ask(&dir, &["matrix", "--format", "csv"]).ok();
    assert_eq!(csv.lines().count(), 1 + 3 * 4, "{csv}");
    assert!(csv.contains("ann,p,read;x\\;y\n"), "{csv}");
    assert_eq!(ask(&dir, &["matrix", "--format", "csv", "--depth", "2"]).ok().lines().count(), 1 + 3 * 2);
    let lines = ask(&dir, &["matrix", "--format", "jsonl"]).ok();
    let first: Value = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
    assert_eq!((lines.lines().count(), &first["actions"]), (12, &serde_json::json!(["read", "x;y"])));
    // The table of one kind: each row beneath the one it lies in, and no two rows alike.
    let wide: String =
        (0..12).map(|i| format!("p{i},s,paper,The very same long beginning of a name {i} and its end,\n")).collect();
    write(
        &dir,
        "catalog.csv",
        &format!(
            "id,parent,kind,name\nt,,top,T\nr,t,room,A\ns,r,room,B\nr2,t,room,C\np,r2,paper,P\n{}",
            wide.replace(",\n", "\n")
        ),
    );
    let table = ask(&dir, &["matrix", "--kind", "paper"]).ok();
    let labels: Vec<&str> = table.lines().skip(2).take(13).map(|l| l.split("  ").next().unwrap()).collect();
    assert_eq!(labels.iter().collect::<std::collections::BTreeSet<_>>().len(), 13, "{table}");
    assert!(table.contains("T/C/P"), "{table}");
}

#[test]
fn nothing_is_left_out_of_everything() {
    let people: String = (0..40).map(|i| format!("u{i},U,person,yes,{i}\n")).collect();
    let catalog: String = (0..40).map(|i| format!("p{i},r,paper,P{i},{i}\n")).collect();
    let dir = estate(
        "attribute need of resource: number\nrule g { who anyone where user.rank >= resource.need may read what anything }",
        &format!("id,parent,kind,name,need\nr,,room,Maps,\n{catalog}"),
    );
    write(&dir, "people.csv", &format!("id,name,kind,active,rank\n{people}"));
    write(&dir, "groups.csv", "group,member\n");
    let table = ask(&dir, &["matrix", "--all"]).ok();
    assert!(!table.contains("left out"), "{table}");
    assert!(table.lines().filter(|l| l.starts_with("profile")).count() > 1);
    assert!(ask(&dir, &["matrix", "--depth", "2"]).ok().contains("more profiles"));
}

/// A rule for another session is not one that can go, and it is said which sessions were looked at.
#[test]
fn other_sessions_count() {
    let dir = estate(
        "attribute network of session: text
rule guests { who anyone where user.kind = guest may read what anything while session.network = \"gallery\" }
rule staff { who members of staff may read what anything }
rule ann { who user ann may read what anything }
rule all-day { who members of staff may read what anything while session.network != \"away\" }
rule safe { who anyone may not read what paper at \"Maps/Chart\" while session.network = \"away\" }",
        ROOMS,
    );
    let audit = json(&dir, &["audit", "--only", "no-reach", "--fewest"]);
    let can_go: Vec<&str> = ["permissions", "restrictions"]
        .iter()
        .flat_map(|list| audit["fewest"][list].as_array().unwrap())
        .map(|d| d["option"][1].as_str().unwrap())
        .collect();
    assert!(!can_go.contains(&"guests") && !can_go.contains(&"safe"), "{can_go:?}");
    assert!(can_go.contains(&"ann") && can_go.contains(&"all-day"), "{can_go:?}");
    // Missing, gallery, away, and any other.
    assert_eq!(audit["fewest"]["sessions"], 4);
    let reached = json(&dir, &["reach", "guests"]);
    assert_eq!(
        (&reached["triples"], &reached["elsewhere"]["triples"]),
        (&Value::from(0), &Value::from(3)),
        "{reached:#}"
    );
    assert_eq!(reached["elsewhere"]["most"], serde_json::json!(["network=gallery"]));
    let text = ask(&dir, &["reach", "guests"]).ok();
    assert!(text.contains("--session network=gallery"), "{text}");
    // Needed in another session only: neither idle nor redundant.
    assert_eq!(findings(&dir, "deny-without-need"), [""; 0]);
}

#[test]
fn changes_are_written_as_they_were_tried() {
    let dir =
        estate("role keeper = read, update locked\nrule staff { who members of staff may read what anything }", ROOMS);
    let try_with = |input: &str, args: &[&str]| {
        let mut command = assert_cmd::Command::cargo_bin("bastide").unwrap();
        command.current_dir(dir.path()).args(["try"]).args(args).args(["--on", ON]).write_stdin(input.to_string());
        let output = command.output().unwrap();
        (
            output.status.code(),
            String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr),
        )
    };
    let rule = "rule more { who user gus may read what paper }\n";
    let (status, text) = try_with(rule, &["--add", "-", "--write", "--far"]);
    assert_eq!(status, Some(0), "{text}");
    assert!(std::fs::read_to_string(dir.path().join("policy.bastide")).unwrap().contains("rule more"));
    let (status, text) = try_with("role keeper = read\n", &["--add", "-", "--write"]);
    assert_eq!(status, Some(2), "{text}");
    assert!(text.contains("role `keeper` is locked"), "{text}");
    // The last member leaves, and the group stays.
    let (status, text) = try_with("", &["--leave", "ann:staff", "--leave", "bob:staff", "--write", "--far"]);
    assert_eq!(status, Some(0), "{text}");
    assert_eq!(std::fs::read_to_string(dir.path().join("groups.csv")).unwrap(), "group,member\nstaff,\n");
    // An entry that leads nowhere goes, and the finding about it.
    write(&dir, "entries.csv", "subject,modality,actions,place,reach\nuser:gone,may,read,r,under\n");
    let tried = json(&dir, &["try", "--drop", "entries.csv:2", "--audit"]);
    let names: Vec<&Value> = tried["disappear"].as_array().unwrap().iter().map(|f| &f["name"]).collect();
    assert!(names.contains(&&Value::from("unknown-name")), "{names:?}");
    // An entry with its days and its note.
    let (status, text) =
        try_with("", &["--entry", "user:gus,may,update,p,at,,2026-12-24,\"until, the feast\"", "--write", "--far"]);
    assert_eq!(status, Some(0), "{text}");
    let entries = std::fs::read_to_string(dir.path().join("entries.csv")).unwrap();
    assert!(entries.contains("user:gus,may,update,p,at,\"until, the feast\",2026-12-24\n"), "{entries}");
}
