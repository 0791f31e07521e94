//! What almost is a finding and is none; and that one in a large estate is found as well.

mod common;

use bastide_testkit::Case;
use common::{append, clean, findings_of, replace};

fn entry(case: &mut Case, row: &str) {
    append(case, "entries.csv", row);
}

fn rule(case: &mut Case, body: &str) {
    append(case, "p.bastide", &format!("\nrule added {{ because \"Added.\" {body} }}"));
}

/// The finding that must not be reported of what is added, and what is added.
type NearMiss = (&'static str, fn(&mut Case));

const NEAR_MISSES: &[NearMiss] = &[
    // For anyone, but only for colleagues of the house: a condition on the user narrows it.
    ("open-to-anyone", |c| {
        rule(
            c,
            "who anyone where user.house = resource.house and user.kind = person may update what item where resource.state = draft",
        )
    }),
    // Harmless, and nothing labelled in reach.
    ("open-to-anyone", |c| entry(c, "anyone,may,read,n1,at,,,Open")),
    ("no-place", |c| rule(c, "who members of keepers may update what item")),
    ("no-place", |c| rule(c, "who owner may update what anything")),
    // Every action but one, on the root.
    ("full-power", |c| rule(c, "who members of keepers may read, update what anything")),
    ("guest-power", |c| {
        entry(c, "user:ida,may,read,r1,at,,,The way");
        entry(c, "user:ida,may,read,n,under,,,Guests may read");
    }),
    // A guest who is not active can do nothing.
    ("guest-power", |c| {
        append(c, "people.csv", "lou,Lou,guest,no,north,internal");
        entry(c, "user:lou,may,read;update,n,under,,,Left");
    }),
    ("label-exposure", |c| entry(c, "user:ben,may,read,n1,at,,,Not labelled")),
    // A restriction inside a permission is an exception, not a contradiction.
    ("contradiction", |c| {
        entry(c, "user:fay,may,update,n,under,,,Yes");
        entry(c, "user:fay,may not,update,n2,at,,,But not this");
    }),
    ("shadowed", |c| {
        entry(c, "user:fay,may,update,n,under,,,Yes");
        entry(c, "user:fay,may not,update,n2,at,,,But not this");
    }),
    // What is given in addition is no narrowing.
    ("pointless-narrowing", |c| entry(c, "user:fay,may,read;update,n1,at,,,Reads and writes")),
    ("hollow-grant", |c| entry(c, "user:fay,may,update,n1,at,,,What can be read can be written")),
    // It waits for a session, and is no stale rule.
    ("no-reach", |c| {
        append(c, "p.bastide", "attribute net of session: text");
        rule(c, "who members of staff may update what item while session.net = \"inside\"");
    }),
    ("unknown-name", |c| entry(c, "user:kim,may,read,n1,at,,,Inactive is not unknown")),
    ("group-cycle", |c| {
        append(c, "groups.csv", "upper,group:middle\nmiddle,group:lower\nlower,fay\nupper,group:lower")
    }),
    // Asked for on purpose: whether it is missing.
    ("undecided", |c| {
        replace(
            c,
            "catalog.csv",
            "n4,n,item,More,gus,released,,,north,,2027-01-01",
            "n4,n,item,More,gus,released,,,north,,",
        );
        rule(c, "who members of editors may export what item where resource.due is missing");
    }),
    ("value-nobody-has", |c| rule(c, "who members of editors where user.house = north may export what item")),
    // Two actions of seven are not nearly everything; and what ends is not for ever.
    ("temporary-for-ever", |c| rule(c, "who user ben may read, update what anything")),
    ("temporary-for-ever", |c| rule(c, "who user ben may everything what anything until 2026-12-31")),
    // Whoever reads the copy reads the source.
    ("source-leak", |c| append(c, "catalog.csv", "copy,n,item,Copy of the plan,ben,released,,n1,north,,2027-01-01")),
    // The label follows by itself.
    ("label-drop", |c| append(c, "catalog.csv", "copy,n,item,Copy of the secret,ben,released,,c1,north,,2027-01-01")),
    ("two-doors", |c| entry(c, "user:cai,may not,export;query,s3,at,,,Both doors")),
    // The two duties on different resources.
    ("duty-clash", |c| entry(c, "user:dee,may,approve,n1,at,,,Approves another one")),
    ("person-by-person", |c| {
        entry(c, "user:fay,may,export,n1,at,,,One");
        entry(c, "user:gus,may,export,n1,at,,,Two");
    }),
    ("listed-by-name", |c| {
        rule(c, "who members of editors may export what item at \"Papers/North/Plan\", \"Papers/North/Draft\"")
    }),
    ("ended", |c| entry(c, "user:fay,may,export,n1,at,,2026-11-24,The last day counts")),
    ("ending", |c| entry(c, "user:fay,may,export,n1,at,,2027-06-30,Not soon")),
    ("empty-group", |c| append(c, "groups.csv", "outer,group:staff")),
    ("deny-without-need", |c| entry(c, "group:staff,may not,read,n1,at,,,Somebody could")),
];

#[test]
fn what_almost_is_a_finding_is_none() {
    let before = findings_of(&clean());
    for (at, (name, add)) in NEAR_MISSES.iter().enumerate() {
        let mut case = clean();
        add(&mut case);
        let found = findings_of(&case);
        let new: Vec<&String> = found
            .iter()
            .filter(|f| f.name == *name && !before.iter().any(|b| b.fingerprint == f.fingerprint))
            .map(|f| &f.message)
            .collect();
        assert!(new.is_empty(), "{at}, {name}: {new:?}");
    }
}

/// Three hundred people and three thousand papers more, and the one mistake among them is told with
/// its numbers.
#[test]
fn one_mistake_among_many_papers() {
    let mut case = clean();
    for i in 0..300 {
        append(&mut case, "people.csv", &format!("p{i},Person {i},person,yes,{},internal", ["north", "south"][i % 2]));
        append(&mut case, "groups.csv", &format!("staff,p{i}"));
    }
    for i in 0..3000 {
        append(
            &mut case,
            "catalog.csv",
            &format!("x{i},{},item,Paper {i},p{},released,,,,,2027-01-01", ["n", "s"][i % 2], i % 300),
        );
    }
    entry(&mut case, "user:ida,may,read,r1,at,,,The way");
    entry(&mut case, "user:ida,may,read;update,n,under,,,A guest who writes");
    let found = findings_of(&case);
    let power: Vec<_> = found.iter().filter(|f| f.name == "guest-power").collect();
    // The workspace, its four papers, and fifteen hundred more.
    assert_eq!(power.len(), 1, "{power:#?}");
    assert_eq!(power[0].evidence, ["1 guest, 1505 triples"]);
    let radius = power[0].suggestion.as_ref().and_then(|s| s.radius).unwrap();
    assert_eq!((radius.users, radius.resources, radius.gained), (1, 1505, 0));
    let serious: Vec<&str> =
        found.iter().filter(|f| f.level <= bastide_audit::Level::Warning).map(|f| f.name.as_str()).collect();
    assert_eq!(serious, ["guest-power"]);
}
