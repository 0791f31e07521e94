//! `bastide audit`: its answers on the demo, every format, levels and limits, and an earlier audit.

mod common;

use bastide_audit::ALL;
use common::{demo, run_in};
use serde_json::Value;
use std::fs;
use std::path::Path;

const ON: [&str; 2] = ["--on", "2026-11-24"];

fn audit(dir: &Path, args: &[&str]) -> common::Run {
    run_in(dir, &[&["audit"][..], args, &ON].concat())
}

#[test]
fn what_is_wrong_with_the_demo() {
    let demo = demo();
    let run = audit(demo.path(), &[]);
    assert_eq!(run.status, 1, "there are errors");
    insta::assert_snapshot!("audit_demo", run.out);
    let only = audit(demo.path(), &["--only", "group-cycle", "--only", "empty-group"]);
    assert_eq!(only.status, 0, "a warning is no error");
    insta::assert_snapshot!("audit_only", only.out);
    assert_eq!(audit(demo.path(), &["--only", "group-cycle", "--fail-on", "warning"]).status, 1);
    assert_eq!(audit(demo.path(), &["--fail-on", "never"]).status, 0);
    insta::assert_snapshot!("audit_by_house", audit(demo.path(), &["--only", "duty-clash", "--by", "house"]).out);
    let unknown = audit(demo.path(), &["--only", "group-circle"]);
    assert_eq!(unknown.status, 2);
    assert!(unknown.err.contains("did you mean `group-cycle`?"), "{}", unknown.err);
    let by = audit(demo.path(), &["--by", "huose"]);
    assert!(by.status == 2 && by.err.contains("did you mean `house`?"), "{}", by.err);
}

#[test]
fn every_finding_is_explained_and_documented() {
    let demo = demo();
    let page = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/findings.md")).unwrap();
    for d in ALL {
        let text = run_in(demo.path(), &["audit", "--explain", d.name]).ok();
        assert!(text.starts_with(d.name) && text.contains("do not mind"), "{text}");
        assert!(page.contains(&format!("| `{}` |", d.name)), "{} is not in docs/findings.md", d.name);
    }
    for (name, _) in bastide_audit::Limits::NAMES {
        assert!(page.contains(&format!("| `{name}` |")), "limit {name} is not in docs/findings.md");
    }
}

#[test]
fn levels_limits_and_harmless_actions_are_the_manifests() {
    let demo = demo();
    let manifest = demo.path().join("bastide.toml");
    let text = fs::read_to_string(&manifest).unwrap();
    let set = |more: &str| fs::write(&manifest, format!("{text}\n{more}\n")).unwrap();
    let names = || -> Vec<String> {
        let value: Value = serde_json::from_str(&audit(demo.path(), &["--format", "json"]).out).unwrap();
        let all = value["findings"].as_array().unwrap().iter();
        all.map(|f| format!("{} {}", f["level"].as_str().unwrap(), f["name"].as_str().unwrap())).collect()
    };
    let has = |name: &str| names().contains(&name.to_string());
    assert!(has("warning full-power") && has("warning label-exposure"));
    set("[audit.levels]\nlabel-exposure = \"none\"\ngroup-cycle = \"error\"\n[audit.limits]\nfull-power-users = 4");
    let now = names();
    assert!(!now.iter().any(|n| n.ends_with("label-exposure")));
    assert!(now.contains(&"error group-cycle".to_string()) && now.contains(&"error full-power".to_string()));
    for (more, message) in [
        ("[audit.levels]\ngroup-circle = \"none\"", "did you mean `group-cycle`?"),
        ("[audit.limits]\nfull-power = 3", "there is no `full-power`"),
    ] {
        set(more);
        let run = audit(demo.path(), &[]);
        assert_eq!((run.status, run.out.as_str()), (2, ""));
        assert!(run.err.contains(message), "{}", run.err);
    }
}

/// Only what is new is reported; what moved to another line is not new.
#[test]
fn an_earlier_audit_is_a_baseline() {
    let demo = demo();
    let dir = demo.path();
    audit(dir, &["--format", "json", "-o", "before.json"]);
    let same = audit(dir, &["--baseline", "before.json"]);
    assert_eq!(same.status, 0, "{}", same.out);
    let known: Value = serde_json::from_str(&fs::read_to_string(dir.join("before.json")).unwrap()).unwrap();
    let count = known["findings"].as_array().unwrap().len();
    assert!(same.out.contains(&format!("nothing found; {count} known before, 0 gone")), "{}", same.out);
    let entries = dir.join("data/entries.csv");
    let text = fs::read_to_string(&entries).unwrap();
    let moved = text.replacen('\n', "\ngroup:lab,may,visitor,s-collections,under,,,A line above all others\n", 1)
        + "user:amara.zamora,may,update,f-condition,under,,,A guest who writes\n";
    fs::write(&entries, moved).unwrap();
    let run = audit(dir, &["--baseline", "before.json"]);
    assert_eq!(run.status, 1);
    insta::assert_snapshot!("audit_baseline", run.out);
    fs::write(dir.join("other.json"), "{}").unwrap();
    assert_eq!(audit(dir, &["--baseline", "other.json"]).status, 4);
}

#[test]
fn every_format_says_the_same() {
    let demo = demo();
    let json: Value = serde_json::from_str(&audit(demo.path(), &["--format", "json"]).out).unwrap();
    let findings = json["findings"].as_array().unwrap();
    let mut rows = csv::Reader::from_reader(std::io::Cursor::new(audit(demo.path(), &["--format", "csv"]).out));
    assert_eq!(rows.records().map(Result::unwrap).count(), findings.len());
    let markdown = audit(demo.path(), &["--format", "md"]).out;
    assert_eq!(markdown.lines().filter(|l| l.starts_with("- ")).count(), findings.len());
    let sarif: Value = serde_json::from_str(&audit(demo.path(), &["--format", "sarif"]).out).unwrap();
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/schemas/sarif-schema-2.1.0.json");
    let mut schema: Value = serde_json::from_str(&fs::read_to_string(path).unwrap()).unwrap();
    for owner in ["run", "toolComponent"] {
        schema["definitions"][owner]["properties"]["language"].as_object_mut().unwrap().remove("pattern");
    }
    let validator = jsonschema::validator_for(&schema).unwrap();
    let wrong: Vec<String> = validator.iter_errors(&sarif).map(|e| e.to_string()).collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
    let results = sarif["runs"][0]["results"].as_array().unwrap();
    assert_eq!(results.len(), findings.len());
    for (result, finding) in results.iter().zip(findings) {
        assert_eq!(result["ruleId"], finding["name"]);
        assert_eq!(result["partialFingerprints"]["bastideFinding/v1"], finding["fingerprint"]);
        let rule = &sarif["runs"][0]["tool"]["driver"]["rules"][result["ruleIndex"].as_u64().unwrap() as usize];
        assert_eq!(rule["id"], result["ruleId"]);
    }
}

/// A waiver holds until its last day, for what it names, and is told where it does nothing.
#[test]
fn a_finding_is_waived_for_a_while() {
    let demo = demo();
    let dir = demo.path();
    let waive = |text: &str| {
        fs::write(dir.join("policy/waivers.bastide"), text).unwrap();
        run_in(dir, &["fmt"]).ok();
    };
    let run = |day: &str| {
        run_in(dir, &["audit", "--only", "guest-power", "--only", "no-place", "--fail-on", "warning", "--on", day])
    };
    waive(
        "waive guest-power { because \"The insurers confirm values until the tour ends.\" of \"entry group:insurers,*\" until 2026-12-31 }\nwaive no-place { because \"The team keeps the platform.\" of platform-team-keeps-the-platform, support-looks-into-tickets until 2026-12-31 }",
    );
    let today = run("2026-11-24");
    assert_eq!(today.status, 0, "{}", today.out);
    assert!(today.out.contains("nothing found; 3 waived"), "{}", today.out);
    let later = run("2027-01-01");
    assert_eq!(later.status, 1);
    assert!(later.out.contains("the waiver of `guest-power` ended on 2026-12-31"), "{}", later.out);
    waive("waive no-place { because \"Nothing of that name.\" of nobody until 2026-12-31 }");
    let idle = run("2026-11-24");
    assert!(idle.status == 1 && idle.out.contains("nothing falls under the waiver of `no-place`"), "{}", idle.out);
    waive("waive no-plaice { because \"A slip.\" of nobody until 2026-12-31 }");
    let wrong = run("2026-11-24");
    assert!(wrong.status == 2 && wrong.err.contains("did you mean `no-place`?"), "{}", wrong.err);
    fs::write(dir.join("policy/waivers.bastide"), "waive no-place { of nobody }").unwrap();
    let unfinished = run("2026-11-24");
    assert_eq!(unfinished.status, 3);
    assert!(unfinished.err.contains("does not say `because`") && unfinished.err.contains("does not say `until`"));
}

/// Every example is what `why` says.
#[test]
fn why_confirms_the_examples() {
    let demo = demo();
    let json: Value = serde_json::from_str(&audit(demo.path(), &["--format", "json"]).out).unwrap();
    let examples: Vec<&Value> =
        json["findings"].as_array().unwrap().iter().map(|f| &f["example"]).filter(|e| !e.is_null()).collect();
    assert!(examples.len() > 30, "{}", examples.len());
    for example in examples.iter().step_by(7) {
        let word = |name: &str| example[name].as_str().unwrap();
        let args = ["why", word("user"), word("action"), word("resource"), "--remedies", "0", "--format", "json"];
        let why: Value = serde_json::from_str(&run_in(demo.path(), &[&args[..], &ON].concat()).ok()).unwrap();
        assert_eq!(why["sentence"], example["sentence"]);
    }
}

const USED: &str = r#"
=== bastide.toml
policy = ["p.bastide"]
[[people]]
file = "people.csv"
[[catalog]]
file = "catalog.csv"
[[entries]]
file = "entries.csv"
[[usage]]
file = "usage.csv"
=== people.csv
id
ann
ben
=== catalog.csv
id,parent,kind,name
s,,shelf,Shelf
b,s,box,Box
c,s,box,Crate
d,s,box,Drum
1,b,item,One
2,b,item,Two
3,c,item,Three
4,c,item,Four
5,d,item,Five
6,d,item,Six
=== entries.csv
subject,modality,actions,place,reach,from,until,note
user:ann,may,write,s,under,,,Ann keeps the shelf
user:ben,may,write,d,under,,,Ben keeps the drum
user:ben,may,sign,d,under,2026-11-01,,Ben signs since this month
=== usage.csv
when,user,action,resource
2026-11-02T09:00:00Z,ann,write,1
2026-11-03T09:00:00Z,ann,write,2
2026-11-04T09:00:00Z,ann,read,5
2026-01-04T09:00:00Z,ben,write,5
2026-11-04T09:00:00Z,gone,write,5
=== p.bastide
kind shelf
kind box in shelf
kind item in box
action write
action sign
action read
"#;

/// A grant nobody used, one that was used in one place, and one too young to say.
#[test]
fn usage_says_what_would_have_sufficed() {
    let dir = common::case(USED);
    let both = ["--only", "unused-access", "--only", "too-wide-a-place"];
    insta::assert_snapshot!("audit_usage", audit(dir.path(), &both).out);
    // A longer window takes the old use in.
    let manifest = dir.path().join("bastide.toml");
    let text = fs::read_to_string(&manifest).unwrap();
    fs::write(&manifest, format!("{text}[audit.limits]\nusage-days = 400\n")).unwrap();
    let longer = audit(dir.path(), &both);
    assert!(!longer.out.contains("unused-access"), "{}", longer.out);
    // Without usage data nothing is said of use.
    fs::write(&manifest, text.replace("[[usage]]\nfile = \"usage.csv\"\n", "")).unwrap();
    assert!(audit(dir.path(), &both).out.starts_with("nothing found"));
}

/// People from three sorts of files: those who are gone by a title, a locked account, a name, an attribute.
const LEAVERS: &str = r#"People whose records say in words that they are gone.
=== bastide.toml
name = "Leavers"
policy = ["p.bastide"]
[[people]]
file = "staff.csv"
[[people]]
file = "partners.ldif"
[[people]]
file = "lent.scim.json"
[[catalog]]
file = "catalog.csv"
=== p.bastide
kind stream
action read
attribute remark of user: text
attribute roles of user: set of text
rule everybody-reads { because "It is open." who anyone may read what anything }
=== staff.csv
id,name,active,remark,roles
ada,Ada,yes,Resigned 2026-03-01,
bea,Bea,yes,"Curator, has left-handed scissors",
cyd,[Disabled] Cyd,yes,,
dan,Dan,no,Suspended,
eli,Eli,yes,,suspended;keeper
=== partners.ldif
dn: uid=fox,o=x
objectClass: inetOrgPerson
uid: fox
cn: Fox
title: Lender
pwdAccountLockedTime: 000001010000Z

dn: uid=gil,o=x
objectClass: inetOrgPerson
uid: gil
cn: Gil
pwdAccountLockedTime: 20260301000000Z
description:: TGVmdCB0aGUgcGFydG5lcg==

dn: o=x
objectClass: organization
o: x
description: Suspended: nobody, since this is no person

dn: uid=ivo,o=x
objectClass: inetOrgPerson
uid: ivo
cn: Ivo
title: Locksmith
=== lent.scim.json
{"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "totalResults": 2, "Resources": [
{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "1", "userName": "joe", "active": true, "title": "Deceased"},
{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "2", "userName": "kay", "active": false, "title": "Deceased"}]}
=== catalog.csv
id,parent,kind,name
s,,stream,Everything
"#;

#[test]
fn whoever_is_gone_by_a_remark_is_told_of() {
    let dir = common::case(LEAVERS);
    let told = || -> Vec<String> {
        let run = audit(dir.path(), &["--only", "active-leaver", "--format", "json"]);
        let value: Value = serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{}", run.err));
        let found = value["findings"].as_array().unwrap().iter();
        found.map(|f| format!("{} {}", f["place"].as_str().unwrap(), f["message"].as_str().unwrap())).collect()
    };
    assert_eq!(
        told(),
        [
            "lent.scim.json:2 `joe` is active, and title says \"Deceased\"",
            "partners.ldif:1 `fox` is active, and pwdaccountlockedtime says \"000001010000Z\"",
            "partners.ldif:8 `gil` is active, and description says \"Left the partner\"",
            "staff.csv:2 `ada` is active, and remark says \"Resigned 2026-03-01\"",
            "staff.csv:4 `cyd` is active, and name says \"[Disabled] Cyd\"",
            "staff.csv:6 `eli` is active, and roles says \"suspended;keeper\"",
        ]
    );
    // Words of the house's own.
    let manifest = dir.path().join("bastide.toml");
    let text = fs::read_to_string(&manifest).unwrap();
    fs::write(&manifest, format!("{text}[audit]\ngone = [\"curator\"]\n")).unwrap();
    let of_others: Vec<String> = told().into_iter().filter(|t| !t.contains("pwdaccountlockedtime")).collect();
    assert_eq!(of_others, ["staff.csv:3 `bea` is active, and remark says \"Curator, has left-handed scissors\""]);
    // Once the account is closed, nothing is said of it.
    fs::write(&manifest, &text).unwrap();
    let people = dir.path().join("staff.csv");
    let closed = fs::read_to_string(&people).unwrap().replace("ada,Ada,yes", "ada,Ada,no");
    fs::write(&people, closed).unwrap();
    assert!(told().iter().all(|t| !t.contains("`ada`")));
}

/// What a barrier keeps from those it was meant for; the advice mends it, and `try` says the same of it.
#[test]
fn a_barrier_keeps_out_whom_it_was_meant_for() {
    let demo = demo();
    let run = audit(demo.path(), &["--only", "cut-off", "--format", "json"]);
    let value: Value = serde_json::from_str(&run.out).unwrap();
    let of_rule = |f: &&Value| f["about"] == "security-reads-alarm-plans";
    let finding = value["findings"].as_array().unwrap().iter().find(of_rule).expect("the alarm plans");
    assert_eq!(finding["evidence"][0], "3 of the 12 resources it speaks of are closed by that");
    let change = finding["suggestion"]["changes"][0].clone();
    let options: Vec<&str> = change["option"].as_array().unwrap().iter().map(|o| o.as_str().unwrap()).collect();
    assert_eq!(options, ["--entry", "group:security,may,read,r-0434,under"]);
    let gained = finding["suggestion"]["radius"]["gained"].as_u64().unwrap();
    let tried = run_in(demo.path(), &["try", options[0], options[1], "--format", "json", "--on", "2026-11-24"]);
    let tried: Value = serde_json::from_str(&tried.out).unwrap();
    assert_eq!(tried["radius"]["gained"].as_u64(), Some(gained));
    // With it, the rule is cut off no longer.
    let entries = demo.path().join("data/entries.csv");
    let text = fs::read_to_string(&entries).unwrap();
    let columns = text.lines().next().unwrap().split(',').count();
    let row = format!("{}{}", options[1], ",".repeat(columns - 5));
    fs::write(&entries, format!("{text}{row}\n")).unwrap();
    let after = audit(demo.path(), &["--only", "cut-off"]).out;
    assert!(!after.contains("security-reads-alarm-plans"), "{after}");
}
