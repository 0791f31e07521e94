//! The same estate told in every format is the same estate.

use bastide_formats::load;
use bastide_model::{ActionId, Estate, Moment, Truth, Value};
use bastide_testkit::Case;
use std::io::Write;
use std::path::Path;

const POLICY: &str = "\
=== policy/deep/er/rules.bastide
kind room
kind paper in room
action read
attribute wing of user, resource: text
attribute team of user: text caseless
attribute topics of user: set of text
attribute topics of resource: set of text
attribute due of paper: date
attribute weight of paper: number
attribute expert of user: flag
attribute badge of user: text
rule staff { who members of staff may read what anything }
rule topics { who anyone where user.topics overlaps resource.topics may read what paper }
rule wing { who anyone where user.wing = resource.wing and user.expert may read what room }
rule team { who anyone where user.team = \"LOANS\" and not user.badge is missing may read what paper }
";

const CSV: &str = "\
=== bastide.toml
name = \"Plain\"
policy = [\"policy/**/*.bastide\"]
[[people]]
file = \"people.csv\"
[[groups]]
file = \"groups.csv\"
[[catalog]]
file = \"catalog.csv\"
=== people.csv
id,name,kind,active,realm,wing,team,topics,expert,badge
ann,Ann Ågren,person,yes,house,east,loans,maps;ink\\; blue,yes,7
bob,Bob,guest,no,house,west,,,no,
cyd,Cyd,person,yes,house,east,Loans,ink\\; blue,,
dee,Dee,service,yes,house,,,,,
=== groups.csv
group,member
staff,group:inner
inner,dee
inner,bob
empty,
=== catalog.csv
id,parent,kind,name,owner,state,inherits,sources,wing,topics,due,weight
r,,room,Room / one,ann,,,,east,,,
p,r,paper,P,,draft,no,q;gone,,ink\\; blue,2027-01-01,2.50
q,r,paper,Q,bob,,,,,,,
";

fn case(text: &str) -> Case {
    Case::parse(&format!("{POLICY}{text}"), Path::new("."))
}

fn estate(case: &Case) -> Estate {
    let dir = case.lay_out();
    let loaded = load(dir.path());
    let errors: Vec<&str> = loaded.diagnostics.iter().filter(|d| d.is_error()).map(|d| d.message.as_str()).collect();
    loaded.estate.unwrap_or_else(|| panic!("{errors:#?}"))
}

/// Everything that an estate says, in words.
fn told(estate: &Estate) -> Vec<String> {
    let mut out = Vec::new();
    let show = |value: Option<&Value>| value.map_or("-".to_string(), |v| estate.schema().show(v));
    let people = estate.people();
    for user in people.all() {
        let attributes: Vec<String> = people.attributes().iter().map(|column| show(column.get(user.index()))).collect();
        out.push(format!(
            "{} {} {} {} {} {attributes:?}",
            people.id(user),
            people.name(user),
            people.kind(user),
            people.is_active(user),
            show(people.realms().get(user.index()))
        ));
    }
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let reference = bastide_engine::ReferenceEvaluator::new(estate, &moment).unwrap();
    for group in estate.groups().all() {
        let members: Vec<&str> =
            people.all().filter(|u| reference.member(*u, group) == Truth::True).map(|u| people.id(u)).collect();
        out.push(format!("{} {members:?}", estate.groups().id(group)));
    }
    let catalog = estate.catalog();
    for resource in catalog.all() {
        let row = resource.index();
        let attributes: Vec<String> = catalog.attributes.iter().map(|column| show(column.get(row))).collect();
        out.push(format!(
            "{} {} {:?} {} {} {} {:?} {attributes:?}",
            catalog.id(resource),
            catalog.path(resource),
            catalog.parent(resource),
            show(catalog.owners.get(row)),
            show(catalog.states.get(row)),
            catalog.barriers.contains(row),
            catalog.sources(resource),
        ));
        for user in people.all() {
            out.push(format!("{} reads: {:?}", people.id(user), reference.decide(user, ActionId(0), resource).reason));
        }
    }
    out
}

#[test]
fn csv_is_read_cell_by_cell() {
    let told = told(&estate(&case(CSV)));
    for line in [
        // Sets are sorted; a semicolon in an element is one of the element.
        "ann Ann Ågren person true house [\"east\", \"loans\", \"ink; blue;maps\", \"yes\", \"7\"]",
        "p Room \\/ one/P Some(ResourceId(0)) - draft true [Resource(ResourceId(2)), Missing(\"gone\")] [\"-\", \"ink; blue\", \"2027-01-01\", \"2.5\"]",
        "empty []",
        "staff [\"bob\", \"dee\"]",
    ] {
        let near: Vec<&String> = told.iter().filter(|l| l.split(' ').next() == line.split(' ').next()).collect();
        assert!(told.iter().any(|l| l == line), "{line}\n{near:#?}");
    }
}

#[test]
fn order_of_columns_byte_order_mark_line_ends_and_globs_mean_nothing() {
    let plain = case(CSV);
    let mut other = plain.clone();
    let people = plain.files().iter().find(|(n, _)| n == "people.csv").unwrap().1.clone();
    // Columns turned round, quoted throughout, a mark at the front, other line ends, in two files.
    let turned: Vec<String> = people
        .lines()
        .map(|line| line.split(',').rev().map(|cell| format!("\"{cell}\"")).collect::<Vec<_>>().join(","))
        .collect();
    other.take("people.csv");
    other.set("in/people-1.csv", format!("\u{feff}{}\r\n{}\r\n\r\n", turned[0], turned[1]));
    other.set("in/people-2.csv", format!("{}\r\n{}", turned[0], turned[2..].join("\r\n")));
    let manifest = plain.files().iter().find(|(n, _)| n == "bastide.toml").unwrap().1.clone();
    other.set("bastide.toml", manifest.replace("\"people.csv\"", "\"in/people-?.csv\""));
    assert_eq!(told(&estate(&plain)), told(&estate(&other)));
}

#[test]
fn a_catalog_in_json_lines_and_packed() {
    let plain = case(CSV);
    let lines = "\
{\"id\": \"q\", \"parent\": \"r\", \"kind\": \"paper\", \"name\": \"Q\", \"owner\": \"bob\"}

{\"id\": \"r\", \"parent\": null, \"kind\": \"room\", \"name\": \"Room / one\", \"owner\": \"ann\", \"wing\": \"east\"}
{\"id\": \"p\", \"parent\": \"r\", \"kind\": \"paper\", \"name\": \"P\", \"state\": \"draft\", \"inherits\": false, \"sources\": [\"q\", \"gone\"], \"topics\": [\"ink; blue\"], \"due\": \"2027-01-01\", \"weight\": 2.5}
";
    let mut other = plain.clone();
    other.take("catalog.csv");
    other.set("catalog.jsonl", lines.to_string());
    let manifest = plain.files().iter().find(|(n, _)| n == "bastide.toml").unwrap().1.clone();
    other.set("bastide.toml", manifest.replace("catalog.csv", "catalog.jsonl"));
    assert_eq!(told(&estate(&plain)), told(&estate(&other)));
    // The same, packed.
    let dir = other.lay_out();
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    packed.write_all(lines.as_bytes()).unwrap();
    std::fs::write(dir.path().join("catalog.jsonl.gz"), packed.finish().unwrap()).unwrap();
    std::fs::write(dir.path().join("bastide.toml"), manifest.replace("catalog.csv", "catalog.jsonl.gz")).unwrap();
    assert_eq!(told(&estate(&plain)), told(&load(dir.path()).estate.expect("a packed catalog")));
    std::fs::write(dir.path().join("catalog.jsonl.gz"), "not packed at all").unwrap();
    let broken = load(dir.path());
    assert!(broken.estate.is_none());
    assert!(
        broken.diagnostics.iter().any(|d| d.message.contains("the file cannot be read")),
        "{:?}",
        broken.diagnostics
    );
}

const SCIM: &str = r#"=== people.scim.json
{"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "totalResults": 6, "Resources": [
  {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],
   "id": "id-1", "userName": "ann", "name": {"formatted": "Ann Ågren", "familyName": "Ågren"}, "active": true,
   "userType": "person", "roles": [{"value": "maps", "primary": true}, {"value": "ink; blue"}],
   "expert": true, "badge": "7",
   "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"department": "loans", "division": "east"}},
  {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "id-2", "userName": "bob", "displayName": "Bob",
   "active": false, "userType": "guest", "expert": false, "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"division": "west"}},
  {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "id-3", "userName": "cyd", "displayName": "Cyd",
   "userType": "person", "roles": [{"value": "ink; blue"}],
   "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"department": "Loans", "division": "east"}},
  {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "id-4", "userName": "dee", "displayName": "Dee", "userType": "service"},
  {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "id": "g-1", "displayName": "staff",
   "members": [{"value": "g-2", "type": "Group"}]},
  {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "id": "g-2", "displayName": "inner",
   "members": [{"value": "id-4"}, {"value": "id-2", "display": "Bob"}]},
  {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "id": "g-3", "displayName": "empty"}
]}
"#;

const SCIM_MANIFEST: &str = r#"=== bastide.toml
name = "Plain"
policy = ["policy/**/*.bastide"]
[[people]]
file = "people.scim.json"
realm = "house"
[people.attributes]
userType = "kind"
roles = "topics"
"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User.department" = "team"
"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User.division" = "wing"
[[catalog]]
file = "catalog.csv"
"#;

fn only_catalog() -> String {
    let at = CSV.find("=== catalog.csv").unwrap();
    CSV[at..].to_string()
}

#[test]
fn people_and_groups_from_scim() {
    let plain = case(CSV);
    let scim = case(&format!("{SCIM_MANIFEST}{}{SCIM}", only_catalog()));
    assert_eq!(told(&estate(&plain)), told(&estate(&scim)));
    // One resource a line.
    let value: serde_json::Value = serde_json::from_str(SCIM.split_once('\n').unwrap().1).unwrap();
    let lines: Vec<String> = value["Resources"].as_array().unwrap().iter().map(|r| r.to_string()).collect();
    let lined = case(&format!("{SCIM_MANIFEST}{}=== people.scim.json\n{}\n", only_catalog(), lines.join("\n")));
    assert_eq!(told(&estate(&plain)), told(&estate(&lined)));
}

#[test]
fn people_and_groups_from_ldif() {
    let plain = case(CSV);
    let ldif = r#"=== bastide.toml
name = "Plain"
policy = ["policy/**/*.bastide"]
[[people]]
file = "people.ldif"
realm = "house"
[people.attributes]
employeeType = "kind"
businessCategory = "topics"
ou = "team"
l = "wing"
enabled = "active"
[[catalog]]
file = "catalog.csv"
=== people.ldif
version: 1

# The house.
dn: o=house
objectClass: organization
o: house

dn: uid=ann,ou=People,o=house
objectClass: inetOrgPerson
uid: ann
cn:: QW5uIMOFZ3Jlbg==
l: east
ou: lo
 ans
businessCategory: maps
businessCategory: ink; blue
expert: yes
badge: 7
jpegPhoto:: /9j/4AAQ

dn: uid=bob,ou=People,o=house
objectClass: inetOrgPerson
uid: bob
cn: Bob
l: west
employeeType: guest
enabled: no
expert: no

dn: UID=cyd, OU=people, O=house
objectClass: inetOrgPerson
uid: cyd
cn;lang-en: Cyd
l: east
ou: Loans
businessCategory: ink; blue

dn: cn=Dee,ou=services,o=house
objectClass: applicationProcess
objectClass: uidObject
uid: dee
cn: Dee

dn: cn=inner,ou=groups,o=house
objectClass: groupOfUniqueNames
cn: inner
uniqueMember: cn=dee,ou=Services,o=House
uniqueMember: uid=bob,ou=people,o=house#'0101'B

dn: cn=staff,ou=groups,o=house
objectClass: groupOfNames
cn: staff
member: CN=inner, ou=groups, o=house

dn: cn=empty,ou=groups,o=house
objectClass: posixGroup
cn: empty
"#;
    let other = case(&format!("{ldif}{}", only_catalog()));
    assert_eq!(told(&estate(&plain)), told(&estate(&other)));
}

/// The demo's directory export: 48 people, two services, nested groups, one member that is nowhere.
#[test]
fn a_genuine_export() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../bastide/demo");
    let loaded = load(&demo);
    let estate = loaded.estate.expect("the demo has no errors");
    let partners = estate
        .people()
        .all()
        .filter(|u| estate.people().realms().get(u.index()) == Some(&Value::Text("partners".into())));
    assert_eq!(partners.count(), 50);
    let soren = estate.people().find("sren.rasmussen").unwrap();
    assert_eq!(estate.people().name(soren), "Søren Rasmussen");
    let of = |group: &str| estate.groups().users(estate.groups().find(group).unwrap()).count_ones(..);
    assert_eq!((of("lenders"), of("partners"), of("tour-desk"), of("valuation-readers")), (32, 49, 10, 19));
    let nowhere = loaded.diagnostics.iter().filter(|d| d.message.contains("nobody.left"));
    assert_eq!(nowhere.count(), 1);
}

/// A large catalog is read in parts; what is wrong with it is told as if it were read in one.
#[test]
fn parts_of_a_catalog_make_the_whole() {
    let mut rows = String::from(
        "=== catalog.csv\nid,parent,kind,name,owner,state,inherits,sources,wing,topics,due,weight\nr,,room,R,,,,,,,,\n",
    );
    for i in 0..40_000 {
        let state = ["draft", "released", "", "archived"][i % 4];
        let inherits = if i % 1000 == 7 { "no" } else { "" };
        let sources = if i % 500 == 3 { "r" } else { "" };
        rows.push_str(&format!(
            "p{i},r,paper,Paper {i},u{},{state},{inherits},{sources},w{},t{},,{i}.5\n",
            i % 77,
            i % 5,
            i % 13
        ));
    }
    let manifest_and_people = CSV.split("=== catalog.csv").next().unwrap();
    let whole = case(&format!("{manifest_and_people}{rows}"));
    let one = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap().install(|| estate(&whole));
    let three = rayon::ThreadPoolBuilder::new().num_threads(3).build().unwrap().install(|| estate(&whole));
    assert_eq!(one.catalog().len(), 40_001);
    let same = |a: &Estate, b: &Estate| {
        a.catalog().all().all(|r| {
            let row = r.index();
            a.catalog().id(r) == b.catalog().id(r)
                && a.catalog().origins[row] == b.catalog().origins[row]
                && a.catalog().states.get(row) == b.catalog().states.get(row)
                && a.catalog().owners.code(row) == b.catalog().owners.code(row)
                && a.catalog().barriers.contains(row) == b.catalog().barriers.contains(row)
                && a.catalog().sources(r) == b.catalog().sources(r)
                && a.catalog().attributes.iter().zip(&b.catalog().attributes).all(|(x, y)| x.code(row) == y.code(row))
        })
    };
    assert!(same(&one, &three));
    let broken = case(&format!("{manifest_and_people}{}", rows.replace("p31000,r,paper", "p31000,r,papr")));
    let dir = broken.lay_out();
    let messages = |threads: usize| -> Vec<String> {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| load(dir.path()).diagnostics.iter().map(|d| format!("{} {:?}", d.message, d.place)).collect())
    };
    assert_eq!(messages(1), messages(3));
    assert!(messages(3).iter().any(|m| m.starts_with("unknown kind `papr`")));
}
