//! One mistake of each sort.

use super::{append, inside, replace};
use bastide_testkit::Case;
use fastrand::Rng;

/// A mistake: the finding it makes, others that come with it, and how it is made.
pub type Mistake = (&'static str, &'static [&'static str], fn(&mut Case, &mut Rng));

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

pub const MISTAKES: &[Mistake] = &[
    ("rows-open-to-everybody", &["open-to-anyone", "wide-reach", "pointless-narrowing"], |c, _| {
        inside(c, "s3", "");
        for place in ["r1", "s", "s3"] {
            entry(c, format!("anyone,may,read,{place},at,,,The way"));
        }
        entry(c, "anyone,may,read,s3,below,,,Every row".into());
    }),
    ("column-in-the-open", &["label-exposure", "pointless-narrowing", "wide-reach", "opener-inside"], |c, _| {
        inside(c, "s3", "[inside.marked.pay]\nlabel = \"sealed\"");
        entry(c, "group:staff,may,read,s3.pay,at,,,Whoever reads the table".into());
    }),
    ("rows-by-another-door", &[], |c, _| {
        inside(c, "s3", "");
        append(c, "catalog.csv", "n5,n,data,Report,ben,released,,s3,south,,2027-01-01");
        inside(c, "n5", "");
        rule(c, "who user fay may not read what slice under id \"s3\" where resource.house = north");
    }),
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
    ("active-leaver", &[], |c, rng| {
        let (id, name) = [("ben", "Ben"), ("cai", "Cai"), ("fay", "Fay")][rng.usize(..3)];
        let word = one(rng, &["Suspended:", "DISABLED", "(left in May)", "No longer here:"]);
        replace(c, "people.csv", &format!("{id},{name},"), &format!("{id},{word} {name},"));
    }),
    ("open-in-disguise", &["guest-power", "wide-reach", "pointless-narrowing"], |c, rng| {
        let (place, all) = (one(rng, &["North", "South"]), one(rng, &["user.id is set", "user.clearance >= open"]));
        rule(c, &format!("who anyone where {all} may update what item under \"Papers/{place}\""));
        entry(c, "anyone,may,read,r1,at,,,The way".into());
    }),
    ("wide-wildcard", &["wide-reach", "pointless-narrowing"], |c, rng| {
        let who = one(rng, &["members of editors", "user gus"]);
        rule(c, &format!("who {who} may export what item under \"Papers/*\""));
    }),
    ("role-without-effect", &[], |c, rng| {
        append(c, "p.bastide", "role idle = export off");
        if rng.bool() {
            entry(c, format!("user:{},may,idle,n1,at,,,Its role is off", one(rng, &STAFF)));
        } else {
            rule(c, "who members of editors may not idle what item");
        }
    }),
    ("guest-among-staff", &[], |c, rng| {
        append(c, "groups.csv", &format!("staff,{}", one(rng, &["ida", "jon"])));
    }),
    ("wide-reach", &["pointless-narrowing"], |c, rng| {
        let action = one(rng, &["update", "export"]);
        rule(c, &format!("who members of staff may {action} what workspace, item where resource.label <= internal"));
    }),
];

/// What is worth a note: the finding, and how it comes about.
pub type Note = (&'static str, fn(&mut Case));

/// One of each.
pub const NOTES: &[Note] = &[
    ("copies", |c| {
        for house in ["north", "south", "east"] {
            append(
                c,
                "p.bastide",
                &format!(
                    "\nrule added-{house} {{ because \"Added.\" who members of editors where user.house = {house} may export \
                     what item where resource.house = {house} }}"
                ),
            );
        }
    }),
    ("listed-by-name", |c| {
        rule(
            c,
            "who members of editors may export what item at \"Papers/North/Plan\", \"Papers/North/Draft\", \"Papers/North/Extra\"",
        )
    }),
    ("cut-off", |c| {
        append(c, "catalog.csv", "v2,v,item,Shut,dee,released,no,,north,,2027-01-01");
        entry(c, "user:fay,may,update,v,under,,,For everything in the vault".into());
    }),
    ("deny-without-need", |c| entry(c, "user:ida,may not,pay,v1,at,,,Nobody ever could".into())),
    ("empty-group", |c| append(c, "groups.csv", "nobody,")),
    ("ended", |c| entry(c, "user:fay,may,export,n1,at,,2026-11-23,It was yesterday".into())),
    ("ending", |c| entry(c, "user:fay,may,export,n1,at,,2026-11-30,Next week".into())),
    ("far-end", |c| entry(c, "user:fay,may,export,n1,at,,2096-12-31,For a while".into())),
    ("copy-without-a-source", |c| {
        append(c, "catalog.csv", "n9,n,item,Copy of Secret,ben,released,,,north,internal,2027-01-01");
    }),
    ("names-for-an-attribute", |c| {
        append(c, "groups.csv", "trio,fay\ntrio,gus\ntrio,hal\ntrio,kim");
        rule(c, "who user fay, gus, hal may export what item at \"Papers/North/Plan\"");
    }),
    ("half-open", |c| {
        append(c, "p.bastide", "action lend on item needs read, export");
        entry(c, "user:fay,may,lend,n1,at,,,One gate of two".into());
    }),
    ("inactive-member", |c| append(c, "groups.csv", "keepers,kim")),
    ("label-drop", |c| {
        append(c, "p.bastide", "attribute grade of resource: label default open");
        replace(
            c,
            "p.bastide",
            "attribute label of resource: label default internal highest",
            "attribute label of resource: label default internal",
        );
        append(c, "catalog.csv", "copy,c,item,Copy of the secret,ann,released,,c1,north,open,2027-01-01");
    }),
    ("filter-leaves-nothing", |c| {
        inside(c, "s3", "");
        rule(c, "who user fay may not read what slice under id \"s3\"");
    }),
    ("no-reason", |c| append(c, "p.bastide", "\nrule added { who members of editors may export what data }")),
    ("opener-inside", |c| {
        entry(c, "user:ida,may,read,c1,at,,,Inside a closed place".into());
        replace(c, "p.bastide", "action read needs read on parent", "action read");
    }),
    ("overlap", |c| {
        entry(c, "user:fay,may,update,n,under,,,Yes".into());
        entry(c, "user:fay,may not,update,n2,at,,,But not this".into());
    }),
    ("ownerless", |c| append(c, "catalog.csv", "n9,n,item,Orphan,kim,released,,,north,,2027-01-01")),
    ("person-by-person", |c| {
        for user in ["fay", "gus", "hal"] {
            entry(c, format!("user:{user},may,export,n1,at,,,One by one"));
        }
    }),
    ("redundant", |c| {
        entry(c, "user:fay,may,export,n1,at,,,Once".into());
        entry(c, "user:fay,may,export,n1,at,,,Twice".into());
    }),
    ("switched-off", |c| {
        append(c, "p.bastide", "\nrule added off { because \"A trial.\" who members of editors may export what data }")
    }),
    ("unused-access", |c| entry(c, "user:fay,may,update,n,under,,,Never used".into())),
    ("too-wide-a-place", |c| entry(c, "user:gus,may,update,n,under,,,Used in one place".into())),
];
