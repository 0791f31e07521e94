//! What a change is described as reads back as the same change, whatever ids and names an estate has.

use bastide_engine::change::{self, Change, ResourceCell, UserCell, describe};
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::*;
use bastide_testkit::Case;
use fixedbitset::FixedBitSet;
use std::sync::Arc;

/// Ids with everything in them that parts a change, and ids that are each other's beginnings and parts.
const IDS: &[&str] = &[
    "ann",
    "ann:b",
    "b",
    "user",
    "group",
    "group:a",
    "a",
    "urn:dept:x",
    "x",
    "q,1",
    "a.b",
    "a.b.team",
    "a=b",
    "\"a\"",
    "a\"b",
    "a\\b",
    "a;b",
    "a b",
    "'a'",
    "ann.team=x",
    "b.c",
    "$(x)",
    "-a",
    "ünï",
    "a/b",
    "*",
    "a*",
];

fn estate() -> Estate {
    let cell = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
    let mut people = "id,name,kind,active,team,b.c,tags\n".to_string();
    let mut groups = "group,member\n".to_string();
    let mut catalog = "id,parent,kind,name,owner,state,inherits,label.x,marks\nroot,,room,Room,,,,,\n".to_string();
    let mut entries = "subject,modality,actions,place,reach\n".to_string();
    let mut policy =
        "kind room\nkind paper in room\naction read\naction \"x;y\"\naction \"a,b\"\naction \"c\\\\d\"\naction \"e=f\"
attribute team of user: text\nattribute b.c of user: text\nattribute tags of user: set of text
attribute label.x of resource: text\nattribute marks of resource: set of text\n"
            .to_string();
    for (at, id) in IDS.iter().enumerate() {
        people.push_str(&format!("{},U,person,yes,,,\n", cell(id)));
        groups.push_str(&format!("{},{}\n", cell(id), cell(IDS[(at + 1) % IDS.len()])));
        catalog.push_str(&format!("{},root,paper,Paper {at},,,,,\n", cell(id)));
        entries.push_str(&format!("{},may,\"x\\;y;a,b;c\\\\d;e=f\",{},under\n", cell(&format!("user:{id}")), cell(id)));
        let name = id.replace('\\', "\\\\").replace('"', "\\\"");
        policy.push_str(&format!("rule \"{name}\" {{ who anyone may read what anything }}\n"));
    }
    let mut case = Case::default();
    for (name, text) in [
        ("bastide.toml", "name = \"Odd\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[groups]]\nfile = \"groups.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n[[entries]]\nfile = \"entries.csv\"\n".to_string()),
        ("p.bastide", policy),
        ("people.csv", people),
        ("groups.csv", groups),
        ("catalog.csv", catalog),
        ("entries.csv", entries),
    ] {
        case.set(name, text);
    }
    case.estate()
}

fn read(estate: &Estate, [option, text]: &[String; 2]) -> Result<Change, String> {
    let read = match option.as_str() {
        "--off" | "--drop" => |e: &Estate, t: &str| Ok(Change::Off(change::statement(e, t)?)),
        "--on-rule" => |e: &Estate, t: &str| Ok(Change::On(change::statement(e, t)?)),
        "--window" => change::window,
        "--actions" => change::actions,
        "--join" => change::join,
        "--leave" => change::leave,
        "--set" => change::set,
        "--entry" => change::give,
        "--except" => change::except,
        other => panic!("{other}"),
    };
    read(estate, text).map_err(|error| error.to_string())
}

/// Everything a change says.
fn shown(change: &Change) -> String {
    let Change::Give(s) = change else { return format!("{change:?}") };
    let actions: Vec<usize> = s.actions.ones().collect();
    format!("{:?} {actions:?} {:?} {:?} {:?} {:?} {:?}", s.modality, s.who, s.what, s.from, s.until, s.because)
}

#[test]
fn a_described_change_reads_back() {
    let estate = estate();
    let users: Vec<UserId> = estate.people().all().collect();
    let groups: Vec<GroupId> = estate.groups().all().collect();
    let actions: Vec<ActionId> = ActionId::all(estate.schema().actions.len()).collect();
    let text = |text: &str| Some(Value::Text(text.into()));
    let values = [None, text("x"), text("a=b.c"), text("q\"r\"")];
    let sets = [None, Some(Value::set(["a;b", "c\\"].map(|t| Value::Text(t.into()))))];
    let mut changes: Vec<Change> = Vec::new();
    for id in StatementId::all(estate.statements().len()) {
        let day = "2027-01-31".parse().ok();
        changes.extend([Change::Off(id), Change::Window(id, None, day), Change::Window(id, day, None)]);
        changes.push(Change::Actions(id, actions[1..].to_vec()));
        changes.push(Change::Actions(id, vec![actions[2]]));
        if estate.statement(id).sort == statement::Sort::Rule {
            changes.push(Change::On(id));
            changes.extend(users.iter().map(|user| Change::Except(id, *user)));
        }
    }
    for group in &groups {
        for member in users.iter().copied().map(Member::User).chain(groups.iter().copied().map(Member::Group)) {
            changes.extend([Change::Join(member, *group), Change::Leave(member, *group)]);
        }
    }
    for user in &users {
        for attribute in 0..2 {
            let cell = UserCell::Attribute(UserAttributeId::new(attribute));
            changes.extend(values.iter().map(|value| Change::User(*user, cell, value.clone())));
        }
        let cell = UserCell::Attribute(UserAttributeId::new(2));
        changes.extend(sets.iter().map(|value| Change::User(*user, cell, value.clone())));
        changes.push(Change::User(*user, UserCell::Active, Some(Value::Flag(false))));
        changes.push(Change::User(*user, UserCell::Realm, text("away")));
    }
    for resource in estate.catalog().all() {
        let cell = ResourceCell::Attribute(ResourceAttributeId::new(0));
        changes.extend(values.iter().map(|value| Change::Resource(resource, cell, value.clone())));
        changes.push(Change::Resource(resource, ResourceCell::Owner, text("a.b=c")));
        changes.push(Change::Resource(resource, ResourceCell::Inherits, Some(Value::Flag(false))));
        for subject in users.iter().map(|u| Term::User(*u)).chain(groups.iter().map(|g| Term::Members(*g))) {
            let mut spoken = FixedBitSet::with_capacity(actions.len());
            actions[1..].iter().for_each(|action| spoken.insert(action.index()));
            let mut entry = change::entry(subject, Modality::MayNot, spoken, Some(resource), Reach::At);
            entry.until = "2027-01-31".parse().ok();
            entry.because = (resource.index() % 2 == 0).then(|| "a note, \"quoted\"".to_string());
            changes.push(Change::Give(Arc::new(entry)));
        }
    }
    assert!(changes.len() > 4000, "{}", changes.len());
    for change in &changes {
        let described = describe(&estate, change);
        let again = read(&estate, &described.option).unwrap_or_else(|e| panic!("{:?}: {e}", described.option));
        assert_eq!(shown(&again), shown(change), "{:?}", described.option);
    }
}
