//! `bastide import` from a real database server: what comes of its grants equals what the server itself says of every role,
//! object and right.

mod common;
#[path = "common/servers.rs"]
#[allow(dead_code, reason = "each test program uses a part of it")]
mod servers;

use fastrand::Rng;
use serde_json::Value;
use servers::{Authority, Database, SECRET, are_there};
use std::fmt::Write;
use std::fs;
use std::path::Path;

const NEEDED: [&str; 4] = ["initdb", "postgres", "psql", "setpriv"];
const ROLES: usize = 60;
const TABLES: usize = 200;

/// Names that would break a name put together by hand.
fn role(i: usize) -> String {
    match i {
        7 => "\"Ann Lee\"".to_string(),
        8 => "\"a/b\"".to_string(),
        9 => "\"a%2Fb\"".to_string(),
        10 => "\"semi;colon, \"\"quoted\"\"\"".to_string(),
        11 => "\"Søren\"".to_string(),
        _ => format!("r{i}"),
    }
}

fn schema(i: usize) -> String {
    if i == 3 { "\"s/3\"".to_string() } else { format!("s{i}") }
}

/// Sixty roles, some of which do not inherit, in each other; two hundred tables and some views in twelve schemas, with owners,
/// grants on all of them, on columns, to everybody, and taken away again.
fn script() -> String {
    let mut rng = Rng::with_seed(11);
    let mut out =
        String::from("revoke connect on database tides from public;\nrevoke all on schema public from public;\n");
    for i in 0..ROLES {
        let inherits = if rng.u8(..5) == 0 { "noinherit" } else { "inherit" };
        let login = if rng.bool() { "login" } else { "nologin" };
        let superuser = if i == 20 { "superuser" } else { "" };
        writeln!(out, "create role {} {inherits} {login} {superuser};", role(i)).unwrap();
    }
    // No circles: the server does not take them.
    for i in 0..ROLES {
        for _ in 0..rng.usize(..4) {
            let member = rng.usize(..ROLES);
            if member > i {
                writeln!(out, "grant {} to {};", role(i), role(member)).unwrap();
            }
        }
    }
    out.push_str("grant pg_read_all_data to r31;\ngrant pg_write_all_data to r32;\ngrant r31 to r33;\ngrant pg_monitor to r34;\n");
    out.push_str(
        "alter database tides owner to r40;\ngrant r40 to r41;\ngrant connect, temporary on database tides to r1;\n",
    );
    for s in 0..12 {
        writeln!(out, "create schema {} authorization {};", schema(s), role(rng.usize(..ROLES))).unwrap();
        for _ in 0..4 {
            let right = ["usage", "create", "usage, create"][rng.usize(..3)];
            writeln!(out, "grant {right} on schema {} to {};", schema(s), role(rng.usize(..ROLES))).unwrap();
        }
        if s % 4 == 0 {
            writeln!(out, "grant usage on schema {} to public;", schema(s)).unwrap();
        }
    }
    writeln!(out, "alter default privileges in schema s1 grant select on tables to r5;").unwrap();
    let rights = ["select", "insert", "update", "delete", "truncate", "references", "trigger", "all"];
    for t in 0..TABLES {
        let table = if t == 50 {
            format!("{}.\"Tidal \"\"Light\"\" 50%\"", schema(3))
        } else {
            format!("{}.t{t}", schema(t % 12))
        };
        writeln!(out, "create table {table} (id int, \"Full Name\" text, note text);").unwrap();
        writeln!(out, "alter table {table} owner to {};", role(rng.usize(..ROLES))).unwrap();
        for _ in 0..rng.usize(..5) {
            let whom = if rng.u8(..8) == 0 { "public".to_string() } else { role(rng.usize(..ROLES)) };
            let option = if whom != "public" && rng.u8(..6) == 0 { "with grant option" } else { "" };
            writeln!(out, "grant {} on {table} to {whom} {option};", rights[rng.usize(..8)]).unwrap();
        }
        for _ in 0..rng.usize(..3) {
            let right = ["select", "insert", "update", "references"][rng.usize(..4)];
            let column = ["id", "\"Full Name\"", "note"][rng.usize(..3)];
            writeln!(out, "grant {right} ({column}) on {table} to {};", role(rng.usize(..ROLES))).unwrap();
        }
        if t % 20 == 0 {
            writeln!(out, "alter table {table} drop column note;").unwrap();
            writeln!(out, "create view {}.v{t} as select id from {table};", schema(t % 12)).unwrap();
            writeln!(out, "grant select on {}.v{t} to {};", schema(t % 12), role(rng.usize(..ROLES))).unwrap();
        }
        if t % 17 == 0 {
            // What the owner has taken from itself.
            writeln!(out, "do $$ begin execute format('revoke update on {} from %I', (select tableowner from pg_tables where tablename = '{}' limit 1)); end $$;",
                table.replace('\'', "''"), if t == 50 { "Tidal \"Light\" 50%".to_string() } else { format!("t{t}") }).unwrap();
        }
    }
    out.push_str(
        "create sequence s0.counter;\nalter table s0.t0 enable row level security;\ncreate role maker createrole;\n",
    );
    out
}

fn estate(dir: &Path, from: &str, more: &str) {
    let shown =
        common::shown_on("import-database.md", "postgres://keeper@warehouse.fourtides.example/tides", from, more);
    let manifest = format!("name = \"Tides\"\npolicy = [\"data/tides/*.bastide\"]\n{shown}");
    fs::write(dir.join("bastide.toml"), manifest).unwrap();
    fs::write(dir.join("secret"), format!("{SECRET}\n")).unwrap();
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(dir.join("secret"), fs::Permissions::from_mode(0o600)).unwrap();
    }
}

/// Asked of the server by an independent client: every role, object and right, in the form that `verify` reads.
const ASKED: &str = "
create temporary view escaped as select rolname, oid, replace(replace(rolname, '%', '%25'), '/', '%2F') as id from pg_roles where rolname !~ '^pg_';
create temporary view relations as select c.oid, n.oid as schema, n.nspname, c.relname,
  'tides/' || replace(replace(n.nspname, '%', '%25'), '/', '%2F') as above,
  'tides/' || replace(replace(n.nspname, '%', '%25'), '/', '%2F') || '/' || replace(replace(c.relname, '%', '%25'), '/', '%2F') as id
  from pg_class c join pg_namespace n on n.oid = c.relnamespace
  where c.relkind in ('r', 'v') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema';
copy (
  select r.id as user, t.id as resource, p as action, has_table_privilege(r.rolname, t.oid, p) and has_schema_privilege(r.rolname, t.schema, 'usage') as decision
    from escaped r, relations t, unnest(array['select', 'insert', 'update', 'delete', 'truncate', 'references', 'trigger']) p
  union all
  select r.id, t.id || '/' || a.attname, p, has_column_privilege(r.rolname, t.oid, a.attnum, p) and has_schema_privilege(r.rolname, t.schema, 'usage')
    from escaped r, relations t join pg_attribute a on a.attrelid = t.oid and a.attnum > 0 and not a.attisdropped,
    unnest(array['select', 'insert', 'update', 'references']) p
  union all
  select r.id, 'tides/' || replace(replace(n.nspname, '%', '%25'), '/', '%2F'), p, has_schema_privilege(r.rolname, n.oid, p)
    from escaped r, pg_namespace n, unnest(array['usage', 'create']) p where n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
  union all
  select r.id, 'tides', p, has_database_privilege(r.rolname, 'tides', p) from escaped r, unnest(array['connect', 'temporary', 'create']) p
) to stdout with (format csv, header);
";

#[test]
#[allow(clippy::print_stdout, reason = "how much was compared")]
fn a_database_means_here_what_it_means_there() {
    if !are_there(&NEEDED) {
        return;
    }
    let authority = Authority::new("Harbour");
    let server = Database::start(&authority);
    server.ask("postgres", "create database tides;");
    server.ask("tides", &script());
    let dir = tempfile::tempdir().unwrap();
    let plain = format!("postgres://keeper@127.0.0.1:{}/tides", server.port);
    estate(dir.path(), &plain, "");
    let run = common::run_in(dir.path(), &["import", "--write", "--verify", "--format", "json"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    let answer: Value = serde_json::from_str(&run.out).unwrap();
    let own = &answer["verified"]["agreement"];
    assert_eq!(own["asked"], own["agree"]);
    let left: Vec<(String, u64)> = answer["imports"][0]["left"]
        .as_array()
        .unwrap()
        .iter()
        .map(|left| (left["what"].as_str().unwrap().to_string(), left["count"].as_u64().unwrap()))
        .collect();
    let counts = |what: &str| left.iter().find(|(name, _)| name.starts_with(what)).map(|(_, count)| *count);
    assert_eq!(counts("sequences"), Some(1), "{left:?}");
    assert_eq!(counts("tables with row policies"), Some(1), "{left:?}");
    assert_eq!(counts("rights that objects to come"), Some(1), "{left:?}");
    assert_eq!(counts("roles that may make other roles"), Some(1), "{left:?}");
    assert!(counts("memberships that are taken up only by `set role`").is_some_and(|count| count > 5), "{left:?}");

    let asked = server.ask("tides", ASKED);
    fs::write(dir.path().join("asked.csv"), &asked).unwrap();
    let run = common::run_in(dir.path(), &["verify", "asked.csv", "--format", "json"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    let answer: Value = serde_json::from_str(&run.out).unwrap();
    let rows = asked.lines().count() - 1;
    assert!(rows > 200_000, "{rows}");
    assert_eq!(answer["agreement"]["asked"].as_u64(), Some(rows as u64));
    assert_eq!(answer["agreement"]["agree"].as_u64(), Some(rows as u64));
    assert_eq!(answer["not_here"].as_array().map(Vec::len), Some(0));
    assert_eq!(own["asked"].as_u64(), Some(rows as u64), "both ways ask for the same");
    println!("{rows} decisions of the server compared, 0 differ");
    // The server did refuse, and did allow.
    let allowed = asked.lines().filter(|line| line.ends_with(",t")).count();
    assert!(allowed > 10_000 && allowed < rows / 2, "{allowed}");

    // A lie is found, and told with what decides here.
    let lie = asked.lines().position(|line| line.starts_with("r20,") && line.ends_with(",t")).unwrap();
    let lies: Vec<String> = asked
        .lines()
        .enumerate()
        .map(|(i, line)| if i == lie { format!("{}f", &line[..line.len() - 1]) } else { line.to_string() })
        .collect();
    fs::write(dir.path().join("lies.csv"), lies.join("\n")).unwrap();
    let run = common::run_in(dir.path(), &["verify", "lies.csv"]);
    assert_eq!(run.status, 1, "{}", run.whole());
    assert!(run.out.contains("1 differ") && run.out.contains("allowed here (granted"), "{}", run.out);

    // A grant more, and the import says who gains what.
    server.ask(
        "tides",
        "create role visitor login; grant usage on schema s1 to visitor; grant select on s1.t1 to visitor;",
    );
    let run = common::run_in(dir.path(), &["import", "--format", "json"]);
    let answer: Value = serde_json::from_str(&run.out).unwrap();
    let names = |of: &str| {
        let movement = answer["movements"].as_array().unwrap().iter().find(|m| m["of"] == of).unwrap();
        movement["come"]["some"].as_array().unwrap().iter().map(|n| n.as_str().unwrap().to_string()).collect::<Vec<_>>()
    };
    assert_eq!(names("users"), ["visitor"]);
    assert_eq!(names("entries"), ["user:visitor may select tides/s1/t1 under", "user:visitor may usage tides/s1 at"]);

    // In secret: whom to believe matters, and so does who is asked.
    fs::write(dir.path().join("authority.pem"), &authority.certificate).unwrap();
    estate(dir.path(), &plain, "authority = \"authority.pem\"");
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    fs::write(dir.path().join("authority.pem"), Authority::new("Elsewhere").certificate).unwrap();
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    assert!(run.err.contains("cannot be reached"), "{}", run.err);
    for (from, more, told) in [
        (plain.as_str(), "schemas = [\"s1\", \"nowhere\"]", "no schema `nowhere`"),
        (&plain, "at_most = 100", "more than 100 rows"),
        ("postgres://127.0.0.1/tides", "", "as whom to sign in"),
        (&plain.replace("/tides", "/none"), "", "does not exist"),
    ] {
        estate(dir.path(), from, more);
        let before = fs::read_to_string(dir.path().join("data/tides/entries.csv")).unwrap();
        let run = common::run_in(dir.path(), &["import", "--write"]);
        assert_eq!(run.status, 4, "{told}: {}", run.whole());
        assert!(run.err.contains(told) && !run.err.contains(SECRET), "{told}: {}", run.err);
        assert_eq!(fs::read_to_string(dir.path().join("data/tides/entries.csv")).unwrap(), before);
    }
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        estate(dir.path(), &plain, "");
        fs::set_permissions(dir.path().join("secret"), fs::Permissions::from_mode(0o644)).unwrap();
        let run = common::run_in(dir.path(), &["import"]);
        assert_eq!(run.status, 4, "{}", run.whole());
        assert!(run.err.contains("others than its owner may read it"), "{}", run.err);
    }
    // The policy that is written has the layout that `fmt` gives.
    assert_eq!(common::run_in(dir.path(), &["fmt", "--check"]).status, 0);
}
