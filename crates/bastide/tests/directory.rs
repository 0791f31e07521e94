//! `bastide import` from a real directory server, beside what an independent client of the directory says.

mod common;
#[path = "common/servers.rs"]
#[allow(dead_code, reason = "each test program uses a part of it")]
mod servers;

use bastide_formats::load_as_of;
use bastide_formats::write::Texts;
use bastide_model::Estate;
use fastrand::Rng;
use serde_json::Value;
use servers::{Authority, Directory, READER, ROOT, SECRET, are_there};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

const NEEDED: [&str; 4] = ["slapd", "slapadd", "ldapsearch", "ldapmodify"];
const PEOPLE: usize = 2_000;
const GROUPS: usize = 300;

/// Two thousand people of several classes, some of them locked, and three hundred groups of three classes, nested five deep,
/// with a circle.
fn entries() -> String {
    let mut rng = Rng::with_seed(7);
    let mut out = format!(
        "dn: {ROOT}\nobjectClass: organization\nobjectClass: dcObject\no: Four Tides Museums\ndc: fourtides\n\n\
         dn: ou=people,{ROOT}\nobjectClass: organizationalUnit\nou: people\n\n\
         dn: ou=groups,{ROOT}\nobjectClass: organizationalUnit\nou: groups\n\n\
         dn: {READER}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: reader\nuserPassword: {SECRET}\n\n\
         dn: cn=printer,{ROOT}\nobjectClass: device\ncn: printer\n\n"
    );
    for i in 0..PEOPLE {
        let person = format!("dn: uid=p{i},ou=people,{ROOT}\nuid: p{i}\nuserPassword: secret-of-{i}\n");
        let more = match i % 10 {
            0 => format!(
                "objectClass: account\nobjectClass: posixAccount\ncn: Søren {i}\nuidNumber: {i}\ngidNumber: 1\nhomeDirectory: /\n"
            ),
            _ => format!("objectClass: inetOrgPerson\ncn: Person {i}\nsn: {i}\ndepartmentNumber: d{}\n", i % 17),
        };
        let left = if !i.is_multiple_of(10) && i.is_multiple_of(23) { "employeeType: left\n" } else { "" };
        let locked = if i.is_multiple_of(41) { "pwdAccountLockedTime: 20260101000000Z\n" } else { "" };
        out.push_str(&format!("{person}{more}{left}{locked}\n"));
    }
    for g in 0..GROUPS {
        let dn = |user: usize| format!("uid=p{user},ou=people,{ROOT}");
        let users: BTreeSet<usize> = (0..rng.usize(1..30)).map(|_| rng.usize(..PEOPLE)).collect();
        out.push_str(&format!("dn: cn=g{g},ou=groups,{ROOT}\ncn: g{g}\n"));
        // Five levels: each group of a level is in one of the level above; the last one holds the first one: a circle.
        let nested = if g < 240 {
            vec![g + 60]
        } else if g == 240 {
            vec![0]
        } else {
            vec![]
        };
        match g % 3 {
            0 => {
                out.push_str("objectClass: groupOfNames\n");
                users.iter().for_each(|user| out.push_str(&format!("member: {}\n", dn(*user))));
                nested.iter().for_each(|inner| out.push_str(&format!("member: CN=g{inner}, ou=groups,{ROOT}\n")));
            }
            1 => {
                out.push_str("objectClass: groupOfUniqueNames\n");
                users.iter().for_each(|user| out.push_str(&format!("uniqueMember: {}\n", dn(*user))));
                nested.iter().for_each(|inner| out.push_str(&format!("uniqueMember: cn=g{inner},ou=groups,{ROOT}\n")));
            }
            _ => {
                out.push_str(&format!("objectClass: posixGroup\ngidNumber: {g}\n"));
                users.iter().for_each(|user| out.push_str(&format!("memberUid: p{user}\n")));
            }
        }
        out.push('\n');
    }
    out
}

/// An estate that imports from an address.
fn estate(dir: &Path, from: &str, more: &str) {
    let more = format!("page = 100\n{more}");
    let shown = common::shown_on("import-directory.md", "ldaps://directory.fourtides.example", from, &more);
    let manifest = format!(
        "name = \"Four Tides Museums\"\npolicy = [\"policy.bastide\"]\n{shown}[[catalog]]\nfile = \"catalog.csv\"\n"
    );
    fs::write(dir.join("bastide.toml"), manifest).unwrap();
    fs::write(
        dir.join("policy.bastide"),
        "kind room\naction read\nattribute team of user: text\n\
         rule team { because \"The quay is the fourth team's.\" who anyone where user.team = \"d4\" may read what anything }\n\
         guarantee few { because \"Nobody of the fifth team.\" none of anyone where user.team = \"d5\" can read what anything }\n",
    )
    .unwrap();
    fs::write(dir.join("catalog.csv"), "id,parent,kind,name\nquay,,room,Quay\n").unwrap();
}

fn import(dir: &Path, args: &[&str]) -> common::Run {
    common::run_with(dir, &[&["import"], args].concat(), &[("COLUMNS", "100"), ("TIDES_READER", SECRET)])
}

#[track_caller]
fn json(dir: &Path, args: &[&str]) -> Value {
    let run = import(dir, &[args, &["--format", "json"]].concat());
    assert!(run.status <= 1, "{}", run.whole());
    serde_json::from_str(&run.out).unwrap()
}

fn load(dir: &Path) -> Estate {
    let loaded = load_as_of(dir, &Texts::new(), "2026-11-28".parse().unwrap()).unwrap();
    loaded.estate.unwrap_or_else(|| panic!("{:?}", loaded.diagnostics))
}

/// Who is in which group, nested ones too, by what the directory's own searches say.
fn memberships(server: &Directory) -> BTreeMap<String, BTreeSet<String>> {
    let filter = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))";
    let found = server.ask(
        "ldapsearch",
        &["-LLL", "-o", "ldif-wrap=no", "-b", ROOT, filter, "cn", "member", "uniqueMember", "memberUid"],
        "",
    );
    let mut direct: BTreeMap<String, (BTreeSet<String>, BTreeSet<String>)> = BTreeMap::new();
    let mut at = String::new();
    for line in found.lines() {
        let Some((name, value)) = line.split_once(": ") else { continue };
        let first = |dn: &str| dn.split(',').next().unwrap().split_once('=').unwrap().1.to_string();
        match name {
            "dn" => at = first(value),
            "memberUid" => {
                direct.entry(at.clone()).or_default().0.insert(value.to_string());
            }
            "member" | "uniqueMember" if value.to_lowercase().starts_with("cn=") => {
                direct.entry(at.clone()).or_default().1.insert(first(value));
            }
            "member" | "uniqueMember" => {
                direct.entry(at.clone()).or_default().0.insert(first(value));
            }
            _ => {}
        }
    }
    let people = server.ask("ldapsearch", &["-LLL", "-b", ROOT, "(uid=*)", "uid"], "");
    let people: BTreeSet<&str> = people.lines().filter_map(|line| line.strip_prefix("uid: ")).collect();
    let all = direct.keys().map(|group| {
        let (mut seen, mut open, mut users) = (BTreeSet::new(), vec![group.clone()], BTreeSet::new());
        while let Some(next) = open.pop() {
            if seen.insert(next.clone()) {
                let (named, groups) = &direct[&next];
                // A directory keeps the name of somebody who has gone.
                users.extend(named.iter().filter(|user| people.contains(user.as_str())).cloned());
                open.extend(groups.iter().cloned());
            }
        }
        (group.clone(), users)
    });
    all.collect()
}

#[track_caller]
fn agrees(dir: &Path, server: &Directory) {
    let estate = load(dir);
    let wanted = memberships(server);
    assert_eq!(estate.groups().len(), wanted.len());
    let mut deepest = 0;
    for group in estate.groups().all() {
        let users = estate
            .groups()
            .users(group)
            .ones()
            .map(|u| estate.people().id(bastide_model::UserId(u as u32)).to_string());
        let users: BTreeSet<String> = users.collect();
        assert_eq!(users, wanted[estate.groups().id(group)], "{}", estate.groups().id(group));
        deepest = deepest.max(users.len());
    }
    // Five groups of some fifteen are nested in each other.
    assert!(deepest > 60, "{deepest}");
}

/// Movements as `sort: come gone changed`, and the names.
fn moved(answer: &Value) -> BTreeMap<String, [Vec<String>; 3]> {
    let names =
        |value: &Value| value["some"].as_array().unwrap().iter().map(|n| n.as_str().unwrap().to_string()).collect();
    let one = |m: &Value| {
        (m["of"].as_str().unwrap().to_string(), [names(&m["come"]), names(&m["gone"]), names(&m["changed"])])
    };
    answer["movements"].as_array().unwrap().iter().map(one).collect()
}

/// Everything comes, changes come, and whatever goes wrong leaves everything as it was.
#[test]
fn people_come_from_a_directory() {
    if !are_there(&NEEDED) {
        return;
    }
    let authority = Authority::new("Harbour");
    let mut server = Directory::start(&entries(), &authority);
    let dir = tempfile::tempdir().unwrap();
    let secret = format!("ldaps://127.0.0.1:{}", server.secret_port);
    estate(dir.path(), &secret, "authority = \"authority.pem\"");
    let file = dir.path().join("data/staff.ldif");

    // Another authority is believed: the server is refused, and nothing is left behind.
    fs::write(dir.path().join("authority.pem"), Authority::new("Elsewhere").certificate).unwrap();
    let run = import(dir.path(), &["--write"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    assert!(run.err.contains("cannot be reached") && run.err.to_lowercase().contains("certificate"), "{}", run.err);
    assert!(!dir.path().join("data").exists());

    fs::write(dir.path().join("authority.pem"), &authority.certificate).unwrap();
    // Nothing is saved without being asked for.
    let run = import(dir.path(), &["--check"]);
    assert_eq!(run.status, 1, "{}", run.whole());
    assert!(run.out.contains("nothing is written"), "{}", run.whole());
    assert!(!dir.path().join("data").exists());
    let run = import(dir.path(), &["--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    let first = fs::read_to_string(&file).unwrap();
    assert!(!first.to_lowercase().contains("password") && !first.contains("secret-of"), "no secret is asked for");
    let people = load(dir.path());
    assert_eq!(people.people().len(), PEOPLE);
    let gone = |i: usize| (!i.is_multiple_of(10) && i.is_multiple_of(23)) || i.is_multiple_of(41);
    for i in 0..PEOPLE {
        let user = people.people().find(&format!("p{i}")).unwrap();
        assert_eq!(people.people().is_active(user), !gone(i), "p{i}");
    }
    assert_eq!(people.people().name(people.people().find("p10").unwrap()), "Søren 10");
    agrees(dir.path(), &server);
    // The same again is the same.
    let run = import(dir.path(), &["--check", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    assert!(run.out.contains("nothing has changed"), "{}", run.out);

    // What is changed in the directory is what differs, and nothing else.
    let g0 = format!("cn=g0,ou=groups,{ROOT}");
    server.ask(
        "ldapmodify",
        &[],
        &format!(
            "dn: uid=p7,ou=people,{ROOT}\nchangetype: modify\nreplace: departmentNumber\ndepartmentNumber: d5\n\n\
             dn: {g0}\nchangetype: modify\nadd: member\nmember: uid=p1999,ou=people,{ROOT}\n\n\
             dn: uid=new,ou=people,{ROOT}\nchangetype: add\nobjectClass: inetOrgPerson\nuid: new\ncn: New\nsn: New\ndepartmentNumber: d4\n\n\
             dn: uid=p12,ou=people,{ROOT}\nchangetype: delete\n\n\
             dn: cn=g299,ou=groups,{ROOT}\nchangetype: modify\nreplace: memberUid\nmemberUid: p3\n"
        ),
    );
    let before = load(dir.path());
    let answer = json(dir.path(), &[]);
    assert_eq!(fs::read_to_string(&file).unwrap(), first, "nothing is written unless asked");
    let moved = moved(&answer);
    assert_eq!(moved["users"], [vec!["new".to_string()], vec!["p12".to_string()], vec!["p7".to_string()]]);
    assert_eq!(moved["groups"], [vec![], vec![], vec![]] as [Vec<String>; 3]);
    assert_eq!(moved["memberships"][0], ["p1999 in g0", "p3 in g299"]);
    let users_of_299 = before.groups().users(before.groups().find("g299").unwrap()).count_ones(..);
    let of_12: Vec<String> = before
        .groups()
        .direct(before.people().find("p12").unwrap())
        .iter()
        .map(|group| format!("p12 in {}", before.groups().id(*group)))
        .collect();
    let gone = &moved["memberships"][1];
    assert!(of_12.iter().all(|one| gone.contains(one)), "{of_12:?} {gone:?}");
    assert_eq!(gone.len(), users_of_299 + of_12.len() - usize::from(of_12.contains(&"p12 in g299".to_string())));
    // Who gains: the new one. Who loses: nobody (the one who has gone was of another team).
    let block = &answer["blocks"]["list"][0];
    assert_eq!((block["side"].as_str(), answer["radius"]["gained"].as_u64()), (Some("gained"), Some(1)), "{answer}");
    assert_eq!(import(dir.path(), &["--write"]).status, 0);
    agrees(dir.path(), &server);
    let second = fs::read_to_string(&file).unwrap();
    let of = |text: &str| text.lines().map(str::to_string).collect::<BTreeSet<String>>();
    assert!(of(&first).symmetric_difference(&of(&second)).count() < 40 + users_of_299, "the difference is small");

    // Other ways to the same directory give the same file.
    for (from, more, secret) in [
        (format!("ldap://127.0.0.1:{}", server.port), "authority = \"authority.pem\"\nstarttls = true", SECRET),
        (format!("ldap://127.0.0.1:{}", server.port), "", SECRET),
    ] {
        estate(dir.path(), &from, more);
        let run = common::run_with(dir.path(), &["import", "--check"], &[("TIDES_READER", secret)]);
        assert_eq!(run.status, 0, "{from}: {}", run.whole());
    }

    // By the socket one is who one is; for whom the directory has a limit, a part is no answer.
    estate(dir.path(), &server.socket(), "");
    let manifest = fs::read_to_string(dir.path().join("bastide.toml")).unwrap();
    let without: Vec<&str> = manifest.lines().filter(|l| !l.starts_with("bind") && !l.starts_with("secret")).collect();
    fs::write(dir.path().join("bastide.toml"), without.join("\n")).unwrap();
    let run = import(dir.path(), &["--write"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    assert!(run.err.contains("gave a part only"), "{}", run.err);

    // Whatever goes wrong is said, and the file stays.
    let plain = format!("ldap://127.0.0.1:{}", server.port);
    for (from, more, secret, told) in [
        (plain.as_str(), "", "wrong", "does not know this name with this secret"),
        (&plain, "", "", "the secret is empty"),
        (&plain, "filter = \"(uid=\"", SECRET, "is no filter"),
        (&plain, "at_most = 100", SECRET, "gives more than 100 entries"),
        ("ldap://192.0.2.1", "", SECRET, "in clear"),
        ("ldaps://127.0.0.1:1", "", SECRET, "cannot be reached"),
    ] {
        estate(dir.path(), from, more);
        let run = common::run_with(dir.path(), &["import", "--write"], &[("TIDES_READER", secret)]);
        assert_eq!(run.status, 4, "{told}: {}", run.whole());
        assert!(run.err.contains(told), "{told}: {}", run.err);
        assert!(!run.err.contains(SECRET), "{}", run.err);
    }
    estate(dir.path(), &plain, "");
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    assert!(run.err.contains("`TIDES_READER`, which holds the secret, is not set"), "{}", run.err);
    // A secret of somebody is not read, whatever the manifest says.
    let manifest = fs::read_to_string(dir.path().join("bastide.toml")).unwrap();
    fs::write(dir.path().join("bastide.toml"), manifest.replace("departmentNumber", "userPassword")).unwrap();
    let run = import(dir.path(), &["--write"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    assert!(run.err.contains("`userPassword` is a secret of somebody"), "{}", run.err);
    server.stop();
    estate(dir.path(), &plain, "");
    assert_eq!(import(dir.path(), &["--write"]).status, 4);
    assert_eq!(fs::read_to_string(&file).unwrap(), second);
}
