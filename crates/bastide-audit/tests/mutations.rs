//! On a clean estate nothing at warning or above is reported; add one mistake of each sort, at random,
//! and the audit finds that one.

mod common;

use bastide_audit::{Finding, Level};
use bastide_testkit::Case;
use common::{append, clean, findings_of, replace, serious};
use fastrand::Rng;
use std::collections::BTreeSet;
use std::path::Path;

/// A mistake: the finding it makes, others that come with it, and how it is made.
type Mistake = (&'static str, &'static [&'static str], fn(&mut Case, &mut Rng));

const STAFF: [&str; 7] = ["ben", "cai", "dee", "eva", "fay", "gus", "hal"];
const WORKSPACES: [&str; 3] = ["n", "s", "v"];

fn one<'a>(rng: &mut Rng, of: &[&'a str]) -> &'a str {
    of[rng.usize(..of.len())]
}

fn entry(case: &mut Case, text: String) {
    append(case, "entries.csv", &text);
}

fn rule(case: &mut Case, body: &str) {
    append(case, "p.bastide", &format!("\nrule added {{ because \"Added.\" {body} }}"));
}

const MISTAKES: &[Mistake] = &[
    ("open-to-anyone", &["guest-power", "wide-reach", "no-place"], |c, rng| {
        entry(c, format!("anyone,may,read;update,{},under,,,Open", one(rng, &WORKSPACES)));
        entry(c, "anyone,may,read,r1,at,,,The way".into());
    }),
    ("open-to-anyone", &["label-exposure", "opener-inside", "pointless-narrowing", "guest-power"], |c, _| {
        entry(c, "anyone,may,read,c1,at,,,Open".into());
    }),
    (
        "no-place",
        &[
            "full-power",
            "wide-reach",
            "duty-clash",
            "label-exposure",
            "temporary-for-ever",
            "two-doors",
            "pointless-narrowing",
        ],
        |c, rng| {
            let user = one(rng, &STAFF);
            rule(c, &format!("who user {user}, ann may update, manage what anything"));
        },
    ),
    (
        "temporary-for-ever",
        &["no-place", "full-power", "duty-clash", "label-exposure", "two-doors", "pointless-narrowing"],
        |c, rng| {
            let user = one(rng, &STAFF);
            rule(c, &format!("who user {user} may everything what anything"));
        },
    ),
    (
        "full-power",
        &["no-place", "duty-clash", "temporary-for-ever", "label-exposure", "pointless-narrowing"],
        |c, rng| {
            append(c, "groups.csv", &format!("admins,{}", one(rng, &STAFF)));
            rule(c, "who members of admins may everything what anything");
        },
    ),
    ("guest-power", &[], |c, rng| {
        let guest = one(rng, &["ida", "jon"]);
        entry(c, format!("user:{guest},may,read,r1,at,,,The way"));
        entry(c, format!("user:{guest},may,read;update,{},under,,,A guest who writes", one(rng, &WORKSPACES)));
    }),
    ("label-exposure", &["opener-inside", "pointless-narrowing"], |c, rng| {
        let guest = one(rng, &["ida", "jon"]);
        for place in ["r1", "c", "c1"] {
            entry(c, format!("user:{guest},may,read,{place},at,,,A guest who reads"));
        }
    }),
    ("contradiction", &["shadowed", "pointless-narrowing"], |c, rng| {
        let (user, place) = (one(rng, &["fay", "gus", "hal"]), one(rng, &["n2", "s2", "v1"]));
        entry(c, format!("user:{user},may,update,{place},at,,,Yes"));
        entry(c, format!("user:{user},may not,update,{place},at,,,No"));
    }),
    ("shadowed", &["contradiction"], |c, rng| {
        let user = one(rng, &["fay", "gus", "hal"]);
        entry(c, format!("user:{user},may,update,{},under,,,Meant well", one(rng, &WORKSPACES)));
        rule(c, &format!("who user {user} may only read what anything"));
    }),
    ("pointless-narrowing", &[], |c, rng| {
        entry(
            c,
            format!(
                "user:{},may,read,{},under,,,So that only this one reads it",
                one(rng, &STAFF),
                one(rng, &["n", "s", "n1", "s1"])
            ),
        );
    }),
    ("hollow-grant", &[], |c, rng| {
        entry(c, format!("user:{},may,update,c1,at,,,May update what cannot be read", one(rng, &STAFF)));
    }),
    ("no-reach", &["value-nobody-has"], |c, rng| {
        let kind = one(rng, &["item", "data"]);
        rule(c, &format!("who members of staff may update what {kind} where resource.state = archived"));
        // The state is a value nobody has: said by another finding as well.
    }),
    ("value-nobody-has", &["no-reach"], |c, rng| {
        let house = one(rng, &["user.house", "resource.house"]);
        rule(c, &format!("who anyone where {house} = east may read what item"));
    }),
    ("unknown-name", &[], |c, rng| {
        let who = one(rng, &["user:zoe", "group:zoe"]);
        entry(c, format!("{who},may not,read,{},under,,,Somebody who left", one(rng, &WORKSPACES)));
    }),
    ("unknown-name", &[], |c, rng| {
        entry(c, format!("user:{},may,update,gone,under,,,A place that is gone", one(rng, &STAFF)));
    }),
    ("group-cycle", &[], |c, rng| {
        let (a, b) = if rng.bool() { ("payers", "approvers") } else { ("night", "day") };
        append(c, "groups.csv", &format!("x{a},group:x{b}\nx{b},group:x{a}\nx{a},fay"));
    }),
    ("undecided", &[], |c, rng| {
        let user = one(rng, &["ben,Ben,person,yes,north", "cai,Cai,person,yes,south"]);
        replace(c, "people.csv", user, user.trim_end_matches("north").trim_end_matches("south"));
    }),
    ("undecided", &[], |c, rng| {
        rule(c, "who members of editors may export what item under \"Papers/South\" where resource.due > 2026-12-01");
        let item = one(rng, &["s1,s,item,Plan,cai,released,,,south,,", "s2,s,item,Draft,cai,draft,,,south,,"]);
        replace(c, "catalog.csv", &format!("{item}2027-01-01"), item);
    }),
    ("source-leak", &["label-exposure"], |c, rng| {
        let place = one(rng, &["n", "s"]);
        append(c, "catalog.csv", &format!("copy,{place},item,Copy of the secret,ben,released,,c1,north,,2027-01-01"));
        // A rule lets everybody of the house in, whatever the label that followed.
        rule(c, "who members of staff may read what item where resource.name like \"Copy*\"");
    }),
    ("two-doors", &[], |c, rng| {
        let place = one(rng, &["s3", "s"]);
        entry(c, format!("user:cai,may not,export,{place},{},,,Not out", if place == "s" { "under" } else { "at" }));
    }),
    ("duty-clash", &["pointless-narrowing"], |c, rng| {
        let (user, action) = if rng.bool() { ("dee", "approve") } else { ("eva", "pay") };
        entry(c, format!("user:{user},may,{action},v1,at,,,Covers for a colleague"));
    }),
    ("wide-reach", &["pointless-narrowing"], |c, rng| {
        let action = one(rng, &["update", "export"]);
        rule(c, &format!("who members of staff may {action} what workspace, item where resource.label <= internal"));
    }),
];

#[test]
fn a_clean_estate_is_left_in_peace() {
    let found = findings_of(&clean());
    let worse: Vec<&Finding> = found.iter().filter(|f| f.level <= Level::Warning).collect();
    assert!(worse.is_empty(), "{worse:#?}");
    // So is the estate that every new one begins with.
    let starter = Path::new(env!("CARGO_MANIFEST_DIR")).join("../bastide/starter");
    let mut case = Case::default();
    for file in [
        "bastide.toml",
        "policy/library.bastide",
        "data/people.csv",
        "data/groups.csv",
        "data/catalog.csv",
        "data/entries.csv",
    ] {
        if let Ok(text) = std::fs::read_to_string(starter.join(file)) {
            case.set(file, text);
        }
    }
    let found = findings_of(&case);
    assert_eq!(serious(&found), BTreeSet::new(), "{found:#?}");
}

#[test]
fn one_mistake_is_found_and_no_other() {
    let mut rng = Rng::with_seed(20261124);
    let mut seen: BTreeSet<&str> = BTreeSet::new();
    for round in 0..200 {
        let (name, with, make) = MISTAKES[round % MISTAKES.len()];
        let mut case = clean();
        make(&mut case, &mut rng);
        let found = findings_of(&case);
        let names = serious(&found);
        let told: Vec<String> =
            found.iter().filter(|f| f.level <= Level::Warning).map(|f| format!("{}: {}", f.name, f.message)).collect();
        assert!(names.contains(name), "round {round}, {name}: {told:#?}\n{:#?}", case.files());
        let others: Vec<&&str> = names.iter().filter(|n| **n != name && !with.contains(n)).collect();
        assert!(others.is_empty(), "round {round}, {name}: {others:?} {told:#?}");
        seen.insert(name);
    }
    assert!(seen.len() >= 18, "{seen:?}");
}
