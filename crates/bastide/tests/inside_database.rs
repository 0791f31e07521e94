//! Rows and columns of tables: what `filter` says is what a real database then gives to each user, counted and by checksum.

mod common;
#[path = "common/servers.rs"]
#[allow(dead_code, reason = "each test program uses a part of it")]
mod servers;

use serde_json::Value;
use servers::{Authority, Database, SECRET, are_there};
use std::fmt::Write;
use std::fs;
use std::path::Path;

const NEEDED: [&str; 4] = ["initdb", "postgres", "psql", "setpriv"];
const ON: &str = "2026-11-24";

/// As the policy, the database and `filter` name them: id, table, what tells rows apart.
const DATASETS: [(&str, &str, &str); 4] = [
    ("d-climate", "lab.climate", "slices = [\"house\", \"sort\"]\ncolumns = true"),
    ("d-levels", "lab.levels", "slices = [\"level\", \"due\", \"ok\"]"),
    (
        "d-odd",
        "lab.\"Odd \"\"Table\"\"\"",
        "slices = [\"Col ;=#\"]\ncolumns = true\nattributes = { \"Col ;=#\" = \"mark\" }",
    ),
    ("d-plain", "plain", "columns = true"),
];

const USERS: [(&str, &str); 12] = [
    ("u0", "person,harbour,x"),
    ("u1", "person,estuary,y"),
    ("u2", "guest,harbour,x"),
    ("u3", "person,Estuary,"),
    ("u4", "person,,x"),
    ("u5", "service,'; drop table lab.climate; --,z"),
    ("u6", "person,\" island \",x"),
    ("u7", "guest,estuary,y"),
    ("u8", "person,nowhere,x"),
    ("u9", "person,harbour,y"),
    ("Ann Lee", "person,\"O'Brien \"\"x\"\"\",x"),
    ("o'hara\"\"q", "person,estuary,x"),
];

const POLICY: &str = r#"
kind stream
kind dataset in stream
kind slice in dataset
kind column in dataset
action read needs read on parent
attribute house of user, slice: text
attribute sort of slice: text
attribute level of slice: number
attribute due of slice: date
attribute ok of slice: flag
attribute mark of slice: text
attribute team of user: text
attribute rows of slice: number
attribute network of session: text

rule enter {
    who  anyone
    may  read
    what stream, dataset
}
rule own-house {
    who  anyone where user.house = resource.house
    may  read
    what slice under id "d-climate"
}
rule team-x-sees-humidity {
    who  members of team-x
    may  read
    what slice under id "d-climate" where resource.sort = "humidity"
    until 2026-12-31
}
rule over-now {
    who  members of team-y
    may  read
    what slice under id "d-climate"
    until 2026-10-31
}
rule guests-see-no-light {
    who       anyone where user.kind = guest
    may never read
    what      slice under id "d-climate" where resource.sort = "light"
}
rule columns-of-climate {
    who  anyone
    may  read
    what column under id "d-climate" where resource.name != "logger"
}
rule loggers-in-the-office {
    who   members of team-x
    may   read
    what  column under id "d-climate"
    while session.network = "office"
}
rule low-levels {
    who  anyone where user.kind = person
    may  read
    what slice under id "d-levels" where resource.level <= 1.5 and resource.due >= 2026-06-01
}
rule whats-ok {
    who  members of team-y
    may  read
    what slice under id "d-levels" where resource.ok
}
rule marks {
    who  anyone where user.house is set
    may  read
    what slice, column under id "d-odd" where resource.mark is missing or resource.mark like "*a*"
}
rule odd-columns {
    who  members of team-x
    may  read
    what column under id "d-odd"
}
rule plain {
    who  anyone where user.kind != guest
    may  read
    what column under id "d-plain" where resource.name != "secret"
}
"#;

fn script() -> String {
    let mut out = String::from(
        "create schema lab;\n\
         create table lab.climate (day date, house text, sort text, value numeric(6,2), logger text);\n\
         insert into lab.climate select date '2026-01-01' + i % 300,\n\
           (array['harbour','estuary','Estuary',' island ','O''Brien \"x\"','''; drop table lab.climate; --',null,'a;b=c#%','other'])[1 + i % 9],\n\
           (array['temperature','humidity','light',null])[1 + (i / 9) % 4], (i % 5000) / 100.0, 'L' || i % 40 from generate_series(1, 60000) i;\n\
         create table lab.levels (level numeric, due date, ok boolean, note text);\n\
         insert into lab.levels select (array[1, 1.0, 1.50, 1.5, 2.25, null])[1 + i % 6], (array[date '2026-05-01', '2026-06-01', '2027-01-01', null])[1 + (i / 6) % 4],\n\
           (array[true, false, null])[1 + (i / 24) % 3], 'n' || i from generate_series(1, 20000) i;\n\
         create table lab.\"Odd \"\"Table\"\"\" (\"Col ;=#\" text, v0 text, member text, \"e\u{301}\" text);\n\
         insert into lab.\"Odd \"\"Table\"\"\" select (array['a','A','','b a',null,'x'])[1 + i % 6], i::text, 'm' || i % 7, 'q' from generate_series(1, 10000) i;\n\
         create table plain (a int, b text, secret text);\n\
         insert into plain select i, 'b' || i, 's' || i from generate_series(1, 10000) i;\n\
         create role writer login; grant usage on schema lab to writer; grant select, insert, update on lab.climate to writer;\n\
         grant select on lab.climate to public; alter table lab.levels enable row level security; create policy everything on lab.levels using (true);\n",
    );
    for (user, _) in USERS {
        let _ = writeln!(out, "create role \"{user}\" login; grant usage on schema lab to \"{user}\";");
    }
    out.push_str("grant select on plain to u0 with grant option; grant select (secret) on plain to u2; grant select on lab.levels to u3;\n");
    out
}

fn estate(dir: &Path, port: u16) {
    let mut manifest = String::from(
        "name = \"Lab\"\npolicy = [\"*.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[groups]]\nfile = \"groups.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n",
    );
    let mut catalog = String::from("id,parent,kind,name\ns,,stream,Lab\n");
    for (id, table, more) in DATASETS {
        let table = table.replace('\\', "\\\\").replace('"', "\\\"");
        let _ = write!(
            manifest,
            "[[inside]]\ndataset = \"{id}\"\nfrom = \"postgres://keeper@127.0.0.1:{port}/tides\"\nsecret = \"file:secret\"\ntable = \"{table}\"\nfile = \"{id}.jsonl\"\n{more}\n"
        );
        let _ = writeln!(catalog, "{id},s,dataset,{id}");
    }
    let people: String =
        USERS.iter().map(|(id, rest)| format!("{},{rest}\n", quoted(&id.replace("\"\"", "\"")))).collect();
    let members: String = USERS
        .iter()
        .filter_map(|(id, rest)| {
            let team = rest.rsplit(',').next().filter(|team| !team.is_empty())?;
            Some(format!("team-{team},{}\n", quoted(&id.replace("\"\"", "\""))))
        })
        .collect();
    for (name, text) in [
        ("bastide.toml", manifest),
        ("catalog.csv", catalog),
        ("policy.bastide", POLICY.to_string()),
        ("people.csv", format!("id,kind,house,team\n{people}")),
        ("groups.csv", format!("group,member\n{members}")),
        ("secret", SECRET.to_string()),
    ] {
        fs::write(dir.join(name), text).unwrap();
    }
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(dir.join("secret"), fs::Permissions::from_mode(0o600)).unwrap();
    }
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('"', "\"\""))
}

fn json(dir: &Path, args: &[&str]) -> Value {
    let run = common::run_in(dir, &[args, &["--format", "json", "--on", ON]].concat());
    assert_eq!(run.status, 0, "{}", run.whole());
    serde_json::from_str(&run.out).unwrap()
}

/// What somebody gets there: how many rows, a checksum of them, the columns.
fn got(server: &Database, table: &str, user: &str, columns: &[String]) -> (u64, String, Vec<String>) {
    let role = user.replace('"', "\"\"");
    let literal = |text: &str| format!("'{}'", text.replace('\'', "''"));
    let open = server.ask(
        "tides",
        &format!(
            "\\t on\n\\a\nselect attname from pg_attribute where attrelid = {}::regclass and attnum > 0 and not attisdropped and has_column_privilege({}, attrelid, attnum, 'select') order by attnum;\n",
            literal(table),
            literal(user)
        ),
    );
    let open: Vec<String> = open.lines().filter(|line| !line.is_empty()).map(str::to_string).collect();
    if open.is_empty() {
        return (0, String::new(), open);
    }
    let list: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
    let list = if list.is_empty() { open.iter().map(|name| quoted(name)).collect() } else { list };
    let out = server.ask(
        "tides",
        &format!(
            "\\t on\n\\a\nset session authorization \"{role}\";\nselect count(*) || ' ' || coalesce(md5(string_agg(x::text, ',' order by x::text collate \"C\")), '') from (select {} from {table}) x;\n",
            list.join(", ")
        ),
    );
    let line = out.lines().find(|line| line.contains(' ')).unwrap_or_default();
    let (count, sum) = line.split_once(' ').unwrap_or_else(|| panic!("{out}"));
    (count.parse().unwrap(), sum.to_string(), open)
}

/// Everything that says who may do what on a table.
fn rights(server: &Database, table: &str) -> String {
    let table = format!("'{}'::regclass", table.replace('\'', "''"));
    server.ask(
        "tides",
        &format!(
            "select c.relrowsecurity from pg_class c where c.oid = {table};\n\
             select a.grantee::regrole, a.privilege_type, a.is_grantable from pg_class c, aclexplode(coalesce(c.relacl, acldefault('r', c.relowner))) a where c.oid = {table} order by 1::text, 2;\n\
             select t.attname, a.grantee::regrole, a.privilege_type, a.is_grantable from pg_attribute t, aclexplode(t.attacl) a where t.attrelid = {table} order by 1, 2::text, 3;\n\
             select polname, polpermissive, polcmd from pg_policy where polrelid = {table} order by 1;\n\
             select nspname from pg_namespace where nspname = 'bastide';\n"
        ),
    )
}

#[test]
#[allow(clippy::print_stdout, reason = "how much was compared")]
fn everybody_gets_the_rows_and_columns_that_filter_says() {
    if !are_there(&NEEDED) {
        return;
    }
    let server = Database::start(&Authority::new("Harbour"));
    server.ask("postgres", "create database tides;");
    server.ask("tides", &script());
    let dir = tempfile::tempdir().unwrap();
    estate(dir.path(), server.port);
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    let before: Vec<String> = DATASETS.iter().map(|(_, table, _)| rights(&server, table)).collect();
    let (mut compared, mut rows, mut some, mut none) = (0, 0, 0, 0);
    for session in [&[][..], &["--session", "network=office"]] {
        for (id, table, _) in DATASETS {
            let args = [&["filter", "--everybody", "read", id, "--format", "postgres", "--on", ON], session].concat();
            let run = common::run_in(dir.path(), &args);
            assert_eq!(run.status, 0, "{}", run.whole());
            // It can be run again.
            server.ask("tides", &run.out);
            server.ask("tides", &run.out);
            for (user, _) in USERS {
                let user = user.replace("\"\"", "\"");
                let said = json(dir.path(), &[&["filter", &user, "read", id], session].concat());
                let columns: Vec<String> =
                    said["columns"].as_array().unwrap().iter().map(|c| c.as_str().unwrap().to_string()).collect();
                let (count, sum, open) = got(&server, table, &user, &columns);
                assert_eq!(open, columns, "{user}, {id}");
                assert_eq!(Some(count), said["seen"]["rows"].as_u64(), "{user}, {id}");
                // The same rows as the condition gives to somebody whom nothing binds.
                if !columns.is_empty() {
                    let free = server.ask(
                        "tides",
                        &format!(
                            "\\t on\n\\a\nselect coalesce(md5(string_agg(x::text, ',' order by x::text collate \"C\")), '') from ({}) x;\n",
                            said["sql"].as_str().unwrap()
                        ),
                    );
                    let free = free.lines().find(|line| line.len() == 32).unwrap_or_default().to_string();
                    assert_eq!(sum, free, "{user}, {id}");
                }
                compared += 1;
                rows += count;
                some += usize::from(count > 0);
                none += usize::from(count == 0);
            }
        }
    }
    println!("{compared} shares of 4 tables compared, {rows} rows given, 0 differ");
    assert!(rows > 200_000 && some > 40 && none >= 8, "{rows}, {some}, {none}");

    // A value that nobody knew of, and one that is made to break out: nobody sees the first, the second stays a value.
    let counts = || -> Vec<u64> {
        let of = |(user, _): &(&str, &str)| got(&server, "lab.climate", &user.replace("\"\"", "\""), &[]).0;
        USERS.iter().map(of).collect()
    };
    let was = counts();
    assert!(was[5] > 0, "the value that looks like a command is a house like any other");
    server.ask("tides", "set session authorization writer; insert into lab.climate (house, sort) values ('never seen', 'humidity'), ('harbour', 'noise');");
    assert_eq!(counts(), was, "whoever wrote goes on to write, and nobody sees what was never seen");
    let run = common::run_in(dir.path(), &["import", "d-climate", "--check"]);
    assert_eq!(run.status, 1, "{}", run.whole());
    assert!(run.out.contains("house=never seen"), "{}", run.whole());

    // What a role would get through another one, and a schema that somebody else made, stop the script before anything happens.
    let args = ["filter", "--everybody", "read", "d-plain", "--format", "postgres", "--on", ON];
    let script = common::run_in(dir.path(), &args).ok();
    let there = rights(&server, "plain");
    server.ask("tides", "grant u0 to u2;");
    assert!(server.refuses("tides", &script).contains("u2 would read column a through another role"));
    server.ask("tides", "revoke u0 from u2; alter schema bastide owner to writer;");
    assert!(server.refuses("tides", &script).contains("belongs to another role"));
    assert_eq!(rights(&server, "plain"), there);
    server.ask("tides", "alter schema bastide owner to keeper;");

    for ((id, table, _), before) in DATASETS.iter().zip(before) {
        let args = ["filter", "--everybody", "read", id, "--format", "postgres", "--take-back"];
        let script = common::run_in(dir.path(), &args).ok();
        server.ask("tides", &script);
        let now = rights(&server, table);
        let tidy = |text: &str| text.replace(" bastide\n(1 row)", "(0 rows)");
        assert_eq!(tidy(&now), tidy(&before), "{id}");
    }
    let schemas = server.ask("tides", "\\t on\nselect count(*) from pg_namespace where nspname = 'bastide';");
    assert_eq!(schemas.lines().last().map(str::trim).filter(|l| !l.is_empty()).or(Some("0")), Some("0"), "{schemas}");
}
