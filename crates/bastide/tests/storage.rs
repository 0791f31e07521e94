//! A catalog whose parts are objects of a storage: what is said of it is what is said of the same parts as files, and nothing
//! where the storage is not what it was, gives half, or does not let anybody read.

mod common;
#[path = "common/servers.rs"]
#[allow(dead_code, reason = "each test program uses a part of it")]
mod servers;

use bastide_testkit::storage::{BUCKET, ID, SECRET, Storage};
use common::{Run, run_with};
use servers::Authority;
use std::fs;
use std::path::Path;
use tempfile::TempDir;

const BASE: &str = "name = \"Small\"\npolicy = [\"rules.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \
                    \"catalog.csv\"\n";

/// An estate whose parts are files, and their folder.
fn small() -> TempDir {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let write = |name: &str, text: &str| {
        let path = dir.path().join(name);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(path, text).expect("a file");
    };
    write(
        "estate/rules.bastide",
        "kind room\nkind box in room\naction read\naction open on box needs read\nattribute team of user: text\n\
         attribute team of box: text\nrule teams { because \"Own.\" who anyone may read, open what box where \
         user.team = resource.team }\nrule rooms { because \"Open.\" who anyone may read what room }\n",
    );
    write("estate/people.csv", "id,team\nann,t0\nben,t1\ncleo,t2\n");
    write("estate/catalog.csv", "id,parent,kind,name,team\nr0,,room,Quay,\nr1,,room,Mole,\n");
    write("estate/bastide.toml", BASE);
    // Names that an address has to write otherwise, and objects that no pattern of ours names.
    for (of, name) in
        ["2026/part 1+ä.csv", "2026/part 2&c=%.csv", "2026/part-3.csv", "2026/part-4.csv", "open/part-5.csv"]
            .iter()
            .enumerate()
    {
        let row = |i: usize| format!("b{of}-{i},r{},box,Box {of}-{i},t{}\n", of % 2, i % 4);
        let rows: String = (0..20).map(row).collect();
        write(&format!("bucket/{name}"), &format!("id,parent,kind,name,team\n{rows}"));
    }
    write("bucket/2026/notes.txt", "no part");
    write("bucket/2026/older/part-9.csv", "no part either");
    dir
}

fn parts(dir: &TempDir, lines: &str) {
    fs::write(dir.path().join("estate/bastide.toml"), format!("{BASE}{lines}")).expect("a file");
}

fn catalog(pattern: &str) -> String {
    format!("[[catalog]]\nfile = \"s3://{BUCKET}/{pattern}\"\nparts = true\n")
}

/// With the key in the environment, and the storage of the manifest allowed.
fn asked(dir: &Path, args: &[&str]) -> Run {
    keyed(dir, args, SECRET)
}

fn keyed(dir: &Path, args: &[&str], secret: &str) -> Run {
    let manifest = fs::read_to_string(dir.join("bastide.toml")).expect("a manifest");
    let at = manifest.split("at = \"").nth(1).and_then(|rest| rest.split('"').next()).unwrap_or_default();
    let allowed = format!("https://another.example {at}/");
    let variables = [("TIDES_ID", ID), ("TIDES_SECRET", secret), ("BASTIDE_STORAGE", allowed.as_str())];
    run_with(dir, args, &[&[("COLUMNS", "100")], &variables[..]].concat())
}

const KEY: &str = "id = \"env:TIDES_ID\"\nsecret = \"env:TIDES_SECRET\"\n";
const ASKED: [&[&str]; 6] = [
    &["matrix", "--format", "csv", "--all", "--reasons"],
    &["matrix", "--totals", "users"],
    &["matrix", "--totals", "resources"],
    &["who", "open", "Mole/Box 1-1"],
    &["why", "ann", "open", "Quay/Box 0-0"],
    &["check"],
];

/// The same folder as files, and as objects over a secret connection, with a key in a file.
#[test]
fn parts_in_a_storage_are_those_of_a_folder() {
    let dir = small();
    let estate = dir.path().join("estate");
    let authority = Authority::new("Tides");
    authority.lay_out(dir.path());
    let (certificate, key) = (dir.path().join("server.pem"), dir.path().join("server.key"));
    let Some(storage) = Storage::start(&dir.path().join("bucket"), Some((&certificate, &key))) else { return };
    fs::write(estate.join("authority.pem"), &authority.certificate).expect("a file");
    fs::write(estate.join("secret"), format!("{SECRET}\n")).expect("a file");
    // As files.
    std::os::unix::fs::symlink(dir.path().join("bucket"), estate.join("bucket")).expect("a link");
    parts(&dir, "[[catalog]]\nfile = \"bucket/2026/part*.csv\"\nparts = true\n[allow]\noutside = true\n");
    let wanted = ASKED.map(|args| asked(&estate, args).ok().replace("bucket/2026/", ""));
    let address = format!("https://127.0.0.1:{}", storage.port());
    let section = format!(
        "[storage]\nat = \"{address}\"\nregion = \"north-quay\"\nid = \"env:TIDES_ID\"\nsecret = \"file:secret\"\n\
         authority = \"authority.pem\"\n"
    );
    parts(&dir, &format!("{}{section}", catalog("2026/part*.csv")));
    // Others than its owner may read the secret.
    let refused = asked(&estate, ASKED[0]);
    assert_eq!(refused.status, 3, "{}", refused.whole());
    assert!(refused.err.contains("chmod 600"), "{}", refused.err);
    assert_eq!(storage.asked().len(), 0);
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(estate.join("secret"), fs::Permissions::from_mode(0o600)).expect("it is ours");
    for (args, wanted) in ASKED.iter().zip(&wanted) {
        let found = asked(&estate, args).ok().replace(&format!("s3://{BUCKET}/2026/"), "");
        assert_eq!(&found, wanted, "{args:?}");
        assert!(found.lines().count() > 2, "{args:?}: {found}");
    }
    let said = storage.asked();
    assert!(said.iter().all(|line| line.starts_with("signed ")), "{said:?}");
    let read = |name: &str| said.iter().filter(|line| line.contains(name)).count();
    assert!(read("part%201%2B%C3%A4.csv") > 5, "{said:?}");
    assert_eq!(read("notes") + read("older") + read("open"), 0, "{said:?}");
    let with_condition = said.iter().filter(|line| line.contains(".csv")).all(|line| line.contains('"'));
    assert!(with_condition, "{said:?}");
    // What lies in a storage is not ours to write.
    let written = asked(&estate, &["try", "--set", "resource:b0-1.team=t2", "--write", "--far"]);
    assert_eq!(written.status, 4, "{}", written.whole());
    assert!(written.err.contains("an object in storage: make the change where it comes from"), "{}", written.err);
    let newcomer = ["try", "--add-resource", "id=b9,parent=r0,kind=box,name=New,team=t2", "--write", "--far"];
    asked(&estate, &newcomer).ok();
    assert!(fs::read_to_string(estate.join("catalog.csv")).expect("a table").contains("b9,r0"), "a file takes it");
    // Whoever is not the one that the authority vouches for is not asked.
    fs::write(estate.join("authority.pem"), &Authority::new("Others").certificate).expect("a file");
    let refused = asked(&estate, ASKED[0]);
    assert_eq!(refused.status, 3, "{}", refused.whole());
    assert!(refused.err.contains("cannot be reached"), "{}", refused.err);
}

/// Busy for a while, cut once, lists in pages: the same answer. Cut for good, sent elsewhere, changed in between: none.
#[test]
fn what_a_storage_does_not_give_whole_is_not_answered() {
    let dir = small();
    let estate = dir.path().join("estate");
    let Some(storage) = Storage::start(&dir.path().join("bucket"), None) else { return };
    parts(&dir, &format!("{}{}{KEY}", catalog("2026/part*.csv"), storage.section()));
    let wanted = asked(&estate, ASKED[0]).ok();
    storage.order("busy\ncut\nbusy\nbusy\ncut\n");
    assert_eq!(asked(&estate, ASKED[0]).ok(), wanted);
    let refused = |orders: &str, args: &[&str], words: &str| {
        storage.order(orders);
        let run = asked(&estate, args);
        storage.order("");
        assert_ne!(run.status, 0, "{orders}");
        assert_eq!(run.out, "", "{orders}");
        assert!(run.err.contains(words), "{orders}: {}", run.err);
        assert!(!run.err.contains("Signature=") && !run.err.contains(SECRET), "{}", run.err);
    };
    refused(&"busy\n".repeat(40), ASKED[0], "status 503, `SlowDown`");
    refused(&"cut\n".repeat(40), ASKED[0], "it broke off");
    for args in [ASKED[0], ASKED[3]] {
        refused(&"elsewhere\n".repeat(40), args, "`https://elsewhere.example/`, which was not asked");
    }
    let change = "change 2026/part-4.csv\n".repeat(60);
    refused(&change, ASKED[0], "another one by now");
    // Read together, the same is read again, until it stays as it is.
    storage.order("change 2026/part-4.csv\n");
    asked(&estate, ASKED[3]).ok();
    // An object that is there no more takes its restrictions along: it must not go unseen.
    fs::remove_dir_all(dir.path().join("bucket/2026")).expect("it was there");
    let gone = asked(&estate, ASKED[0]);
    assert_eq!(gone.status, 3, "{}", gone.whole());
    assert!(gone.err.contains("no object fits"), "{}", gone.err);
}

#[test]
fn a_storage_is_asked_with_the_right_key_or_says_why_not() {
    let dir = small();
    let estate = dir.path().join("estate");
    let Some(storage) = Storage::start(&dir.path().join("bucket"), None) else { return };
    let section = storage.section();
    let refused = |lines: String, secret: &str, words: &str| {
        parts(&dir, &lines);
        let run = keyed(&estate, ASKED[0], secret);
        assert_eq!(run.status, 3, "{}", run.whole());
        assert_eq!(run.out, "");
        assert!(run.err.contains(words), "{words}: {}", run.err);
        assert!(!run.err.contains("Signature=") && !run.err.contains(secret), "{}", run.err);
    };
    let all = catalog("2026/part*.csv");
    refused(
        format!("{all}{section}{KEY}"),
        "another",
        "does not let this key read (status 403, `SignatureDoesNotMatch`)",
    );
    refused(format!("{all}{section}"), SECRET, "does not let everybody read (status 403, `AccessDenied`)");
    refused(format!("{all}{section}{}", KEY.replace("TIDES_ID", "TIDES_NOBODY")), SECRET, "`TIDES_NOBODY`");
    refused(
        format!("{}{section}{KEY}", all.replace(BUCKET, "ebbs")),
        SECRET,
        "it is not there (status 404, `NoSuchBucket`)",
    );
    refused(format!("{}{section}{KEY}", catalog("2027/*.csv")), SECRET, "no object fits `s3://tides/2027/*.csv`");
    refused(format!("{all}{}{KEY}", section.replace("127.0.0.1", "storage.example")), SECRET, "in clear");
    let nobody = section.replace(&storage.port().to_string(), "9");
    refused(format!("{all}{nobody}{KEY}"), SECRET, "it cannot be reached");
    // What everybody may read needs no key.
    parts(&dir, &format!("{}{section}", catalog("open/*.csv")));
    let open = asked(&estate, ASKED[0]).ok();
    assert!(open.lines().count() > 40, "{open}");
    assert!(storage.asked().iter().any(|line| line.starts_with("unsigned /tides/open/part-5.csv")));
}

/// A revision is what it was, and a storage keeps no state of the past; a key that is pressed asks no other machine.
#[test]
fn what_asks_no_other_machine_says_so() {
    let dir = small();
    let estate = dir.path().join("estate");
    let Some(storage) = Storage::start(&dir.path().join("bucket"), None) else { return };
    parts(&dir, &format!("{}{}{KEY}", catalog("2026/part*.csv"), storage.section()));
    let git = |args: &[&str]| {
        let mut command = std::process::Command::new("git");
        command.args(["-c", "user.name=A", "-c", "user.email=a@example.org"]).args(args).current_dir(&estate);
        assert!(command.output().expect("it starts").status.success(), "{args:?}");
    };
    git(&["init", "-q"]);
    git(&["add", "."]);
    git(&["commit", "-q", "-m", "One"]);
    let diff = asked(&estate, &["diff", "HEAD"]);
    assert_eq!(diff.status, 4, "{}", diff.whole());
    assert!(diff.err.contains("keeps no state of the past"), "{}", diff.err);
    let before = storage.asked().len();
    // Nor is anybody asked who was not named by whoever asks: the id of the key would go there.
    let address = format!("http://127.0.0.1:{}", storage.port());
    for allowed in
        ["", "https://another.example", &address.replace("http://", "https://"), &address[..address.len() - 1]]
    {
        let run =
            run_with(&estate, ASKED[0], &[("BASTIDE_STORAGE", allowed), ("TIDES_ID", ID), ("TIDES_SECRET", SECRET)]);
        assert_eq!((run.status, run.out.as_str()), (3, ""), "{allowed}");
        assert!(run.err.contains(&format!("set `BASTIDE_STORAGE={address}`")), "{}", run.err);
    }
    let variables = [
        ("COMPLETE", "bash"),
        ("_CLAP_COMPLETE_INDEX", "2"),
        ("_CLAP_IFS", "\n"),
        ("BASTIDE_STORAGE", address.as_str()),
    ];
    let typed = run_with(&estate, &["--", "bastide", "who", "open", ""], &variables);
    assert_eq!(storage.asked().len(), before, "{}", typed.whole());
}

/// What cannot be meant is said at its place, before anybody is asked.
#[test]
fn a_manifest_names_objects_where_they_are_read() {
    let dir = small();
    let estate = dir.path().join("estate");
    let storage = "[storage]\nat = \"http://127.0.0.1:9\"\nregion = \"r\"\n";
    for (lines, words) in [
        (format!("[[catalog]]\nfile = \"s3://tides/a.csv\"\n{storage}"), "write `parts = true`"),
        (catalog("part*.csv"), "no `[storage]` says where the bucket is"),
        (format!("{}{storage}", catalog("../x.csv")), "leads upward"),
        (format!("{}{storage}", catalog("")), "its key is empty"),
        (format!("[[catalog]]\nfile = \"s3://tides\"\nparts = true\n{storage}"), "it says no key"),
        (format!("[[groups]]\nfile = \"s3://tides/a.csv\"\n{storage}"), "only a catalog in parts"),
        (format!("{}[storage]\nregion = \"r\"\n", catalog("a.csv")), "does not say `at`"),
        (format!("{}{storage}id = \"env:A\"\n", catalog("a.csv")), "belong together"),
        (format!("{}{storage}secret = \"ask\"\nid = \"env:A\"\n", catalog("a.csv")), "nobody can be asked"),
        (format!("{}{storage}secret = \"{SECRET}\"\n", catalog("a.csv")), "never the secret itself"),
        (format!("{}{}", catalog("a.csv"), storage.replace("http://", "http://me:pier@")), "a secret in it"),
        (format!("{}{storage}buckets = \"both\"\n", catalog("a.csv")), "expected `\"path\"` or `\"host\"`"),
        (format!("{}{storage}zone = 3\n", catalog("a.csv")), "unknown key `zone`"),
    ] {
        parts(&dir, &lines);
        let run = asked(&estate, &["check"]);
        assert_ne!(run.status, 0, "{lines}");
        assert!(run.err.contains(words) || run.out.contains(words), "{words}: {}", run.whole());
        assert!(!run.err.contains("cannot be reached"), "{}", run.whole());
        // The line of the mistake is shown, as every line with a mistake is; no message says more.
        assert!(!run.err.replace(lines.as_str(), "").contains("me:pier@127.0.0.1:9/tides"), "{}", run.whole());
    }
}
