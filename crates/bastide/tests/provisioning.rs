//! `bastide import` from a service that speaks SCIM: what the standard's own examples come to, and what a service may do that
//! must not be believed.

mod common;
#[path = "common/servers.rs"]
#[allow(dead_code, reason = "each test program uses a part of it")]
mod servers;
#[path = "common/web.rs"]
mod web;

use bastide_formats::load_as_of;
use bastide_formats::write::Texts;
use bastide_model::{Estate, UserId};
use serde_json::json;
use servers::Authority;
use std::fs;
use std::path::Path;
use web::{Answer, Question, Service};

const SECRET: &str = "quay-side-9";

fn estate(dir: &Path, from: &str, authority: &Authority, more: &str) {
    fs::write(dir.join("authority.pem"), &authority.certificate).unwrap();
    let more = format!("authority = \"authority.pem\"\n{more}");
    let shown = common::shown_on("import-provisioning.md", "https://people.fourtides.example/scim/v2", from, &more);
    let manifest = format!(
        "name = \"Four Tides Museums\"\npolicy = [\"policy.bastide\"]\n{shown}[[catalog]]\nfile = \"catalog.csv\"\n"
    );
    fs::write(dir.join("bastide.toml"), manifest).unwrap();
    fs::write(dir.join("policy.bastide"), "kind room\naction read\nattribute team of user: text\n").unwrap();
    fs::write(dir.join("catalog.csv"), "id,parent,kind,name\nquay,,room,Quay\n").unwrap();
    secret(dir, SECRET);
}

fn secret(dir: &Path, secret: &str) {
    fs::write(dir.join("secret"), secret).unwrap();
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(dir.join("secret"), fs::Permissions::from_mode(0o600)).unwrap();
    }
}

fn load(dir: &Path) -> Estate {
    let loaded = load_as_of(dir, &Texts::new(), "2026-11-28".parse().unwrap()).unwrap();
    loaded.estate.unwrap_or_else(|| panic!("{:?}", loaded.diagnostics))
}

fn example(name: &str) -> String {
    fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/scim/{name}.json"))).unwrap()
}

fn list(resources: &[String]) -> String {
    format!(
        "{{\"schemas\": [\"urn:ietf:params:scim:api:messages:2.0:ListResponse\"], \"totalResults\": {}, \"Resources\": [{}]}}",
        resources.len(),
        resources.join(",")
    )
}

/// A user by number.
fn user(i: u64) -> String {
    json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": format!("id{i}"), "userName": format!("u{i}"),
        "active": !i.is_multiple_of(7), "nickName": "nobody asks for it", "meta": {"lastModified": format!("{i}")},
    })
    .to_string()
}

/// The page that a question asks for, of so many users.
fn page(question: &Question, total: u64) -> String {
    let number = |name: &str| {
        let query = question.path.split_once('?').unwrap().1;
        query.split('&').find_map(|part| part.strip_prefix(name)?.strip_prefix('=')?.parse::<u64>().ok()).unwrap()
    };
    let (start, count) = (number("startIndex"), number("count"));
    // A service may give fewer than were asked for.
    let resources: Vec<String> = (start..(start + count.min(30)).min(total + 1)).map(user).collect();
    format!("{{\"totalResults\": {total}, \"startIndex\": {start}, \"Resources\": [{}]}}", resources.join(","))
}

fn is_users(question: &Question) -> bool {
    question.path.starts_with("/scim/v2/Users?")
}

#[test]
fn the_examples_of_the_standard_are_read() {
    let authority = Authority::new("Harbour");
    for (example_of, name, team) in [
        ("rfc7643-8.1-user-minimal", "", None),
        ("rfc7643-8.2-user-full", "Ms. Barbara J Jensen, III", None),
        ("rfc7643-8.3-enterprise_user", "Ms. Barbara J Jensen, III", Some("Tour Operations")),
    ] {
        let users = list(&[example(example_of)]);
        let groups = list(&[example("rfc7643-8.4-group")]);
        let service = Service::start(&authority, move |question| {
            Answer::text(if is_users(question) { users.clone() } else { groups.clone() })
        });
        let dir = tempfile::tempdir().unwrap();
        estate(dir.path(), &service.address, &authority, "");
        let run = common::run_in(dir.path(), &["import", "--write"]);
        assert_eq!(run.status, 0, "{example_of}: {}", run.whole());
        let found = load(dir.path());
        let (ids, people) = (found.people().len(), found.people());
        assert_eq!((ids, people.id(UserId(0))), (1, "bjensen@example.com"), "{example_of}");
        if !name.is_empty() {
            assert_eq!(people.name(UserId(0)), name);
        }
        let value = people.attributes()[0].get(0).map(|value| found.schema().show(value));
        assert_eq!(value.as_deref(), team);
        let group = found.groups().find("Tour Guides").unwrap();
        assert_eq!(found.groups().users(group).count_ones(..), 1);
        let text = fs::read_to_string(dir.path().join("data/staff.scim.jsonl")).unwrap();
        assert!(!text.contains("t1meMa$heen") && !text.contains("phoneNumbers") && !text.contains("meta"), "{text}");
    }
    // A list of parts of users says nothing of what they are; where they were asked for does.
    let parts = example("rfc7644-3.4.2-list_response-partial_attributes");
    let service = Service::start(&authority, move |question| match is_users(question) {
        true => Answer::text(parts.clone()),
        false => Answer::status(404, Vec::new()),
    });
    let dir = tempfile::tempdir().unwrap();
    estate(dir.path(), &service.address, &authority, "");
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    assert!(run.out.contains("not taken along: lists that the service does not have: 1 (Groups)"), "{}", run.out);
    assert_eq!(load(dir.path()).people().len(), 2);
    // What is neither a user nor a group is said to be neither.
    for other in
        ["rfc7643-8.5-service_provider_configuration", "rfc7643-8.6-resource_type-user", "rfc7643-8.7.1-schema-group"]
    {
        let text = list(&[example(other)]);
        let service = Service::start(&authority, move |_| Answer::text(text.clone()));
        let dir = tempfile::tempdir().unwrap();
        estate(dir.path(), &service.address, &authority, "");
        let run = common::run_in(dir.path(), &["import", "--write"]);
        assert!(run.status == 3 || run.status == 4, "{other}: {}", run.whole());
        assert!(
            run.err.contains("neither a SCIM user nor a SCIM group") || run.err.contains("without an `id`"),
            "{other}: {}",
            run.err
        );
        assert!(!dir.path().join("data").exists());
    }
}

#[test]
fn a_service_is_read_page_by_page_and_waited_for() {
    let authority = Authority::new("Harbour");
    let mut busy = vec![
        Answer::status(503, vec![("Retry-After", "0".to_string())]),
        Answer::status(429, vec![("Retry-After", "Sat, 28 Nov 2026 00:00:00 GMT".to_string())]),
        Answer::status(429, vec![("Retry-After", "1".to_string())]),
    ];
    let service = Service::start(&authority, move |question| match is_users(question) {
        _ if question.bearer != SECRET => Answer::status(401, Vec::new()),
        true => busy.pop().unwrap_or_else(|| Answer::text(page(question, 365))),
        false => Answer::text("{\"totalResults\": 0}"),
    });
    let dir = tempfile::tempdir().unwrap();
    estate(dir.path(), &service.address, &authority, "page = 50");
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    let found = load(dir.path());
    assert_eq!((found.people().len(), found.people().active().count_ones(..)), (365, 365 - 365 / 7));
    // Thirteen pages of thirty, three times busy, and one of groups.
    assert_eq!(service.asked.lock().unwrap().len(), 13 + 3 + 1);
    // Times of change are not kept, so that the same again is the same.
    assert_eq!(common::run_in(dir.path(), &["import", "--check"]).status, 0);
}

#[test]
fn a_secret_that_ends_half_way_is_read_anew() {
    let authority = Authority::new("Harbour");
    let dir = tempfile::tempdir().unwrap();
    let mut taken = 0;
    let place = dir.path().to_path_buf();
    let service = Service::start(&authority, move |question| {
        if taken == 3 && question.bearer == SECRET {
            // Whoever keeps it has renewed it.
            secret(&place, "new");
            return Answer::status(401, Vec::new());
        }
        taken += 1;
        Answer::text(if is_users(question) { page(question, 100) } else { "{\"totalResults\": 0}".to_string() })
    });
    estate(dir.path(), &service.address, &authority, "");
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    assert_eq!(load(dir.path()).people().len(), 100);
}

/// Whatever a service does that it should not, nothing comes of it, and what is saved stays.
#[test]
fn a_service_is_not_believed() {
    let authority = Authority::new("Harbour");
    type Saying = Box<dyn FnMut(&Question) -> Answer + Send>;
    let elsewhere = Service::start(&authority, |_| Answer::text("{}"));
    let other = elsewhere.address.clone();
    let mut pages = 0;
    let mut totals = 100;
    let cases: Vec<(&str, Saying)> = vec![
        (
            "says there are 50, and gave 10",
            Box::new(|q: &Question| {
                let start: u64 = if q.path.contains("startIndex=1&") { 1 } else { 11 };
                let some: Vec<String> = if start == 1 { (1..11).map(user).collect() } else { Vec::new() };
                Answer::text(format!("{{\"totalResults\": 50, \"Resources\": [{}]}}", some.join(",")))
            }),
        ),
        (
            "says there are 5, and gave 10",
            Box::new(|_| {
                Answer::text(format!(
                    "{{\"totalResults\": 5, \"Resources\": [{}]}}",
                    (1..11).map(user).collect::<Vec<_>>().join(",")
                ))
            }),
        ),
        (
            "it changes while it is read",
            Box::new(move |q| {
                totals += 1;
                Answer::text(page(q, totals))
            }),
        ),
        (
            "came twice in `Users`",
            Box::new(|_| {
                Answer::text(format!(
                    "{{\"totalResults\": 500, \"Resources\": [{}]}}",
                    (1..11).map(user).collect::<Vec<_>>().join(",")
                ))
            }),
        ),
        ("gives more than 64 MiB at a time", Box::new(|_| Answer { times: 200, ..Answer::text(" ".repeat(1 << 20)) })),
        ("which was not asked", Box::new(move |_| Answer::status(302, vec![("Location", format!("{other}/Users"))]))),
        (
            "does not take the secret, or does not take it any more",
            Box::new(move |q| {
                pages += 1;
                if pages > 2 { Answer::status(401, Vec::new()) } else { Answer::text(page(q, 100)) }
            }),
        ),
        ("is busy (status 503)", Box::new(|_| Answer::status(503, vec![("Retry-After", "86400".to_string())]))),
        ("gives no SCIM", Box::new(|_| Answer::text("<html>Sign in</html>"))),
        ("gives no SCIM", Box::new(|_| Answer::text("[".repeat(1 << 20)))),
        ("it gives nobody", Box::new(|_| Answer::text("{\"totalResults\": 0, \"Resources\": []}"))),
        ("more than 20 resources", Box::new(|q| Answer::text(page(q, 60)))),
        ("status 500", Box::new(|_| Answer::status(500, Vec::new()))),
    ];
    for (told, saying) in cases {
        let service = Service::start(&authority, saying);
        let dir = tempfile::tempdir().unwrap();
        estate(
            dir.path(),
            &service.address,
            &authority,
            if told.starts_with("more than") { "at_most = 20" } else { "" },
        );
        fs::create_dir(dir.path().join("data")).unwrap();
        let old = user(1) + "\n";
        fs::write(dir.path().join("data/staff.scim.jsonl"), &old).unwrap();
        let run = common::run_in(dir.path(), &["import", "--write"]);
        assert_eq!(run.status, 4, "{told}: {}", run.whole());
        assert!(run.err.contains(told) && !run.err.contains(SECRET), "{told}: {}", run.err);
        assert_eq!(fs::read_to_string(dir.path().join("data/staff.scim.jsonl")).unwrap(), old, "{told}");
    }
    assert!(elsewhere.asked.lock().unwrap().is_empty(), "nobody is sent elsewhere");
    // Somebody else's certificate.
    let service = Service::start(&Authority::new("Elsewhere"), |_| Answer::text("{}"));
    let dir = tempfile::tempdir().unwrap();
    estate(dir.path(), &service.address, &authority, "");
    let run = common::run_in(dir.path(), &["import"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    assert!(run.err.to_lowercase().contains("certificate"), "{}", run.err);
    assert!(service.asked.lock().unwrap().is_empty(), "it learns nothing");
}
