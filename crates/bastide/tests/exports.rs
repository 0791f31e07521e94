//! Exports of directories: what is missing is said, what is not taken along is counted, and nobody is taken for another.

mod common;

use common::{Run, case, run_in};
use tempfile::TempDir;

/// An estate whose people come from one export, and which gives a group everything.
fn estate(source: &str, file: &str, text: &str) -> TempDir {
    case(&format!(
        "=== bastide.toml
name = \"Exports\"
policy = [\"policy.bastide\"]
[[people]]
file = \"{file}\"
{source}
[[catalog]]
file = \"catalog.csv\"
=== catalog.csv
id,parent,kind,name
r,,room,Maps
=== policy.bastide
kind room
action read
attribute mail of user: text
attribute mails of user: set of text
rule all {{ because \"All of them.\" who anyone may read what room }}
=== {file}
{text}"
    ))
}

fn check(source: &str, file: &str, text: &str) -> Run {
    run_in(estate(source, file, text).path(), &["check"])
}

#[track_caller]
fn refused(source: &str, file: &str, text: &str, wanted: &[&str]) {
    let run = check(source, file, text);
    assert_eq!(run.status, 3, "{}", run.whole());
    for words in wanted {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
}

/// The ids of everybody active, and of whom a group holds.
fn who(dir: &TempDir) -> Vec<String> {
    let csv = run_in(dir.path(), &["matrix", "--format", "csv"]).ok();
    csv.lines().skip(1).map(|line| line.split(',').next().unwrap().to_string()).collect()
}

fn entry(dn: &str, lines: &str) -> String {
    format!("dn: {dn}\n{lines}\n\n")
}

fn person(uid: &str, lines: &str) -> String {
    entry(
        &format!("uid={uid},ou=people,o=x"),
        format!("objectClass: inetOrgPerson\nuid: {uid}\ncn: {uid}\n{lines}").trim_end(),
    )
}

const USER: &str = "urn:ietf:params:scim:schemas:core:2.0:User";
const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";

fn scim(total: usize, more: &str, resources: &[String]) -> String {
    format!("{{\"totalResults\": {total}{more}, \"Resources\": [{}]}}", resources.join(",\n"))
}

fn user(id: &str, more: &str) -> String {
    format!("{{\"schemas\": [\"{USER}\"], \"id\": \"{id}\", \"userName\": \"{id}\"{more}}}")
}

fn group(id: &str, name: &str, member: &str) -> String {
    format!(
        "{{\"schemas\": [\"{GROUP}\"], \"id\": \"{id}\", \"displayName\": \"{name}\", \"members\": [{{\"value\": \"{member}\"}}]}}"
    )
}

#[test]
fn two_groups_of_one_name_are_not_one() {
    let two = |branch: &str, member: &str| {
        entry(
            &format!("cn=admins,ou={branch},o=x"),
            &format!(
                "objectClass: groupOfNames\ncn: admins\nentryUUID: uuid-{branch}\nmember: uid={member},ou=people,o=x"
            ),
        )
    };
    let ldif = person("ann", "") + &person("bob", "") + &two("a", "ann") + &two("b", "bob");
    refused(
        "",
        "x.ldif",
        &ldif,
        &[
            "two groups of this export are named `admins`",
            "`cn=admins,ou=a,o=x` and `cn=admins,ou=b,o=x`",
            "group_id = \"dn\"",
        ],
    );
    for (by, id) in [("dn", "cn=admins,ou=b,o=x"), ("entryUUID", "uuid-b")] {
        let dir = estate(&format!("group_id = \"{by}\""), "x.ldif", &ldif);
        let what = run_in(dir.path(), &["what", "bob", "--format", "json"]).ok();
        assert!(what.contains(&format!("\"group\": \"{id}\"")), "{what}");
        assert!(!what.contains("ou=a") && !what.contains("uuid-a"), "{what}");
    }
    let json = scim(4, "", &[user("u1", ""), user("u2", ""), group("g1", "Admins", "u1"), group("g2", "Admins", "u2")]);
    refused(
        "",
        "x.scim.json",
        &json,
        &["two groups of this export are named `Admins`", "`g1` and `g2`", "group_id = \"id\""],
    );
    let dir = estate("group_id = \"id\"", "x.scim.json", &json);
    assert!(run_in(dir.path(), &["what", "u2", "--format", "json"]).ok().contains("\"group\": \"g2\""));
}

#[test]
fn half_an_export_is_none() {
    let users = [user("u1", ""), user("u2", "")];
    refused("", "x.scim.json", &scim(5, "", &users), &["the list has 5 users, and 2 came"]);
    refused("", "x.scim.json", "{\"totalResults\": 5}", &["the list has 5 resources, and 0 came"]);
    assert_eq!(check("", "x.scim.json", &scim(2, "", &users)).status, 0);
    // Pages of one list, in files of their own: whole, and with one in the middle missing.
    let pages = estate("", "p*.scim.json", "");
    let page = |name: &str, start: usize, ids: &[&str]| {
        let users: Vec<String> = ids.iter().map(|id| user(id, "")).collect();
        let text = scim(5, &format!(", \"startIndex\": {start}"), &users);
        std::fs::write(pages.path().join(name), text).unwrap();
    };
    std::fs::remove_file(pages.path().join("p*.scim.json")).unwrap();
    page("p1.scim.json", 1, &["a", "b"]);
    page("p2.scim.json", 5, &["e"]);
    assert!(run_in(pages.path(), &["check"]).out.contains("the list has 5 users, and 2 came"));
    page("p3.scim.json", 3, &["c", "d"]);
    assert_eq!(run_in(pages.path(), &["check"]).status, 0);
    // A part of a list of members; a limit that was reached; fewer than there must be.
    let members = |range: &str| {
        person("ann", "")
            + &entry(
                "cn=g,o=x",
                &format!("objectClass: groupOfNames\ncn: g\nmember;range={range}: uid=ann,ou=people,o=x"),
            )
    };
    refused("", "x.ldif", &members("0-999"), &["the values of `member` end with number 999, and there are more"]);
    assert_eq!(check("", "x.ldif", &members("0-*")).status, 0);
    for comment in ["# Size limit exceeded (4)", "# result: 4 Size limit exceeded", "# search: Time limit exceeded"] {
        refused("", "x.ldif", &format!("{}{comment}\n", person("ann", "")), &["the export was cut off"]);
    }
    refused(
        "at_least = 3",
        "x.ldif",
        &(person("ann", "") + &person("bob", "")),
        &["holds 2 rows, and 3 are wanted at least"],
    );
    assert_eq!(check("at_least = 2", "x.ldif", &(person("ann", "") + &person("bob", ""))).status, 0);
    refused("at_least = 2", "x.csv", "id,name\nann,Ann\n", &["holds 1 rows"]);
    for sort in ["groups", "catalog", "entries"] {
        let dir = estate("", "x.csv", "id,name\nann,Ann\n");
        let path = dir.path().join("bastide.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        std::fs::write(dir.path().join("more.csv"), "").unwrap();
        let header = match sort {
            "groups" => "group,member\n",
            "catalog" => "id,parent,kind,name\n",
            _ => "subject,modality,actions,place,reach\n",
        };
        std::fs::write(dir.path().join("more.csv"), header).unwrap();
        std::fs::write(&path, format!("{text}[[{sort}]]\nfile = \"more.csv\"\nat_least = 1\n")).unwrap();
        assert!(run_in(dir.path(), &["check"]).out.contains("holds 0 rows, and 1 are wanted at least"), "{sort}");
    }
}

#[test]
fn what_is_not_taken_along_is_counted() {
    let ldif = person("ann", "")
        + &entry("ou=people,o=x", "objectClass: top\nobjectClass: organizationalUnit\nou: people")
        + &entry("ou=more,o=x", "objectClass: organizationalUnit\nou: more")
        + &entry(
            "cn=pc-1,o=x",
            "objectClass: person\nobjectClass: organizationalPerson\nobjectClass: user\nobjectClass: computer\nuid: pc-1\ncn: pc-1",
        )
        + &entry("cn=odd,o=x", "objectClass: someTeam\ncn: odd\nmember: uid=ann,ou=people,o=x");
    let dir = estate("", "x.ldif", &ldif);
    let out = run_in(dir.path(), &["check"]).ok();
    assert!(out.contains("3 entries of exports passed over: organizationalUnit 2, computer 1"), "{out}");
    assert_eq!(who(&dir), ["ann"], "a machine is no person");
    // Whatever its class is called, what has members is a group.
    assert!(run_in(dir.path(), &["what", "ann", "--format", "json"]).ok().contains("\"group\": \"odd\""));
}

#[test]
fn a_mapping_decides_who_is_active() {
    let ldif = person("ann", "flags: 512\nloginShell: /bin/sh")
        + &person("bob", "flags: 514\nloginShell: /bin/sh\nlocked: 20200101000000Z")
        + &person("cyn", "loginShell: /usr/sbin/nologin")
        + &person("dan", "flags: many\nends: 2020-01-01");
    for (rules, active) in [
        ("", &["ann", "bob", "cyn", "dan"][..]),
        ("[people.active]\nattribute = \"flags\"\noff_bit = 2\n", &["ann"]),
        ("[people.active]\nattribute = \"flags\"\noff_bit = 2\nmissing = \"active\"\n", &["ann", "cyn"]),
        ("[people.active]\nattribute = \"loginShell\"\noff_when = \"*/nologin\"\n", &["ann", "bob", "dan"]),
        ("[people.active]\nattribute = \"loginShell\"\non_when = \"/bin/*\"\n", &["ann", "bob"]),
        ("[people.active]\nattribute = \"locked\"\noff_since = true\n", &["ann", "cyn", "dan"]),
        (
            "[[people.active]]\nattribute = \"locked\"\noff_when = \"*\"\n[[people.active]]\nattribute = \"ends\"\noff_since = true\n",
            &["ann", "cyn"],
        ),
    ] {
        assert_eq!(who(&estate(rules, "x.ldif", &ldif)), active, "{rules}");
    }
    let csv = "id,name,left\nann,Ann,\nbob,Bob,2020-01-01\n";
    assert_eq!(who(&estate("[people.active]\nattribute = \"left\"\noff_since = true\n", "x.csv", csv)), ["ann"]);
    // An end is asked of the day that is asked about, wherever that stands, and in the files that a change would leave.
    let later =
        estate("[people.active]\nattribute = \"left\"\noff_since = true\n", "x.csv", &csv.replace("2020", "2027"));
    for (day, active) in [("2026-12-31", 2), ("2027-01-01", 1)] {
        for args in [["--on", day, "matrix", "--summary"], ["matrix", "--summary", "--on", day]] {
            let out = run_in(later.path(), &args).ok();
            assert!(
                out.contains(&format!("2 users ({active} active)")) || active == 2 && out.contains("2 users"),
                "{out}"
            );
            assert_eq!(out.contains("(1 active)"), active == 1, "{out}");
        }
        let tried = ["try", "--add-user", "id=cyn,name=Cyn", "--on", day, "--format", "json"];
        assert!(run_in(later.path(), &tried).ok().contains("\"user cyn\""));
    }
    let json = scim(2, "", &[user("u1", ", \"x\": {\"state\": \"open\"}"), user("u2", "")]);
    assert_eq!(
        who(&estate("[people.active]\nattribute = \"x.state\"\non_when = \"open\"\n", "x.scim.json", &json)),
        ["u1"]
    );
    for (rules, says) in [
        ("[people.active]\nattribute = \"flags\"\n", "wants one of `off_bit`"),
        ("[people.active]\noff_bit = 2\n", "does not say which `attribute`"),
        ("[people.active]\nattribute = \"flags\"\noff_bit = 3\n", "the value of one bit"),
        ("[people.active]\nattribute = \"flags\"\noff_bit = 2\noff_when = \"x\"\n", "wants one of"),
    ] {
        refused(rules, "x.ldif", &ldif, &[says]);
    }
    refused("[people.active]\nattribute = \"gone\"\noff_since = true\n", "x.csv", csv, &["`gone`"]);
}

#[test]
fn names_are_compared_as_the_standards_say() {
    // Several values at one place of a name are a set, in any order.
    let ldif = entry("uid=ann+ou=people,o=x", "objectClass: inetOrgPerson\nuid: ann\ncn: Ann")
        + &entry("cn=g,o=x", "objectClass: groupOfNames\ncn: g\nmember: OU=People+UID=ann,o=x");
    let dir = estate("", "x.ldif", &ldif);
    assert!(run_in(dir.path(), &["what", "ann", "--format", "json"]).ok().contains("\"group\": \"g\""));
    let twice = person("ann", "") + &person("ann", "");
    refused("", "x.ldif", &twice, &["stands twice in the export"]);
    refused("", "x.scim.json", &scim(2, "", &[user("u1", ""), user("u1", "")]), &["the resource `u1` stands twice"]);
    // Keys without case; the primary value; a path with a filter.
    let mails = ", \"ACTIVE\": false, \"emails\": [{\"value\": \"a@x\", \"type\": \"home\"}, {\"value\": \"b@x\", \"type\": \"work\", \"primary\": true}]";
    let json = scim(2, "", &[user("u1", mails), user("u2", "")]);
    assert_eq!(who(&estate("", "x.scim.json", &json)), ["u2"]);
    for (path, ours, value) in [
        ("emails", "mail", "b@x"),
        ("emails.value", "mail", "b@x"),
        ("emails[type eq \\\"home\\\"].value", "mail", "a@x"),
        ("Emails[primary eq true].value", "mail", "b@x"),
        ("emails", "mails", "a@x;b@x"),
    ] {
        let dir = estate(&format!("[people.attributes]\n\"{path}\" = \"{ours}\""), "x.scim.json", &json);
        let policy = std::fs::read_to_string(dir.path().join("policy.bastide")).unwrap();
        let first = value.split(';').next().unwrap();
        let test =
            if ours == "mail" { format!("user.mail = \"{first}\"") } else { format!("\"{first}\" in user.mails") };
        std::fs::write(
            dir.path().join("policy.bastide"),
            policy.replace("who anyone", &format!("who anyone where {test}")),
        )
        .unwrap();
        let reached = run_in(dir.path(), &["reach", "all", "--format", "json"]).ok();
        assert!(reached.contains("\"u1\""), "{path}: {reached}");
    }
}
