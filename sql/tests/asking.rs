//! Asking: forms of answers, limits, mistakes, and what each table holds on the demo.

mod common;

use common::{ask, demo, lay_out, main_program, run};
use std::fs;
use std::io::Write;
use std::process::Stdio;

fn refused(args: &[&str]) -> (i32, String) {
    let demo = demo();
    let output = run(demo.path(), args);
    (output.status.code().expect("it ended"), String::from_utf8_lossy(&output.stderr).into_owned())
}

#[test]
fn every_form_tells_the_same() {
    let demo = demo();
    let question = "select id, kind, active, consignments from users where kind <> 'person' order by id limit 3";
    let of = |format: &str| ask(demo.path(), &["--format", format, question]);
    let csv = of("csv");
    let mut rows = csv::Reader::from_reader(csv.as_bytes());
    let rows: Vec<Vec<String>> = rows.records().map(|r| r.unwrap().iter().map(str::to_string).collect()).collect();
    assert_eq!(rows[0][..3], ["amara.zamora", "guest", "yes"]);
    assert_eq!(rows[0][3], "TL-022;TL-027");
    let json: serde_json::Value = serde_json::from_str(&of("json")).expect("JSON");
    let lines: Vec<serde_json::Value> = of("jsonl").lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(json, serde_json::Value::from(lines));
    assert_eq!(json[0]["consignments"], serde_json::json!(["TL-022", "TL-027"]));
    assert_eq!(json.as_array().map(Vec::len), Some(rows.len()));
    assert!(of("table").starts_with("id "));
    for format in ["parquet", "arrow"] {
        let file = demo.path().join(format!("guests.{format}"));
        ask(demo.path(), &["--format", format, "-o", file.to_str().unwrap(), question]);
        let bytes = fs::read(&file).expect("it was written");
        assert!(bytes.starts_with(if format == "parquet" { b"PAR1" } else { b"ARRO" }));
    }
    // A question from a file, and from the standard input.
    fs::write(demo.path().join("q.sql"), question).unwrap();
    let file = demo.path().join("q.sql");
    assert_eq!(ask(demo.path(), &["--format", "csv", "--file", file.to_str().unwrap()]), csv);
    let mut command = std::process::Command::new(common::program());
    command.arg("--estate").arg(demo.path()).args(["--on", common::DAY, "--format", "csv", "--file", "-"]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(format!("{question};\n").as_bytes()).unwrap();
    assert_eq!(String::from_utf8(child.wait_with_output().unwrap().stdout).unwrap(), csv);
}

#[test]
fn what_cannot_be_answered_says_why() {
    let told = |question: &str, status: i32, text: &str| {
        let (code, error) = refused(&["--", question]);
        assert!(code == status && error.contains(text), "{question}: {code} {error}");
    };
    told("select user from acces", 2, "table 'acces' not found");
    told("select usr from access", 2, "usr");
    told("selct 1", 2, "");
    told("select user from access where under(resource, 'Nowhere')", 2, "there is no place `Nowhere`");
    told("select label_at_least(label, 'secret') from resources", 2, "no scale of the estate has the step `secret`");
    told("select * from differences('HEAD~1', 2)", 2, "");
    for writes in [
        "create table x as select * from users",
        "drop table users",
        "insert into users values (1)",
        "copy (select 1) to 'x.csv'",
        "create external table x stored as csv location '/etc/passwd'",
        "set datafusion.execution.batch_size = 1",
    ] {
        told(writes, 2, "");
    }
    told("select * from '/etc/passwd'", 2, "not found");
    let (code, error) = refused(&["--limit-rows", "10", "select * from access"]);
    assert!(code == 2 && error.contains("more than 10 rows"), "{error}");
    let demo = demo();
    let file = demo.path().join("out.csv");
    let output = run(demo.path(), &["--limit-rows", "10", "-o", file.to_str().unwrap(), "select * from access"]);
    assert!(output.status.code() == Some(2) && !file.exists(), "nothing is left of an answer that is none");
    // Fail closed: with a mistake in the estate there is no answer.
    fs::write(demo.path().join("policy/broken.bastide"), "rule r { who anyone may fly what anything }\n").unwrap();
    let output = run(demo.path(), &["select 1"]);
    let error = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.code() == Some(3) && output.stdout.is_empty(), "{error}");
    assert!(error.contains("policy/broken.bastide:1"), "{error}");
    let output = run(std::path::Path::new("/nowhere"), &["select 1"]);
    assert_eq!(output.status.code(), Some(2));
}

#[test]
fn tables_hold_what_the_estate_does() {
    let demo = demo();
    let ask = |question: &str| ask(demo.path(), &["--format", "csv", "--", question]);
    assert_eq!(ask("select count(*) from users"), "count(*)\n120\n");
    assert_eq!(ask("select count(*) from resources"), "count(*)\n479\n");
    assert_eq!(ask("select count(*) from access"), "count(*)\n632280\n");
    // Own and travelled values; days are days, and numbers numbers.
    let question = "select count(*) from resources where own_label is distinct from label";
    assert_ne!(ask(question), "count(*)\n0\n");
    assert_eq!(ask("select max(due_back) < date '2030-01-01' as soon from resources"), "soon\nyes\n");
    assert_eq!(ask("select sum(rows) > 0 as counted from resources where kind = 'slice'"), "counted\nyes\n");
    // An attribute that is called `rows` goes through whatever counts.
    let counted = "select x.rows, count(*) as n from (select r.rows from access a join resources r on a.resource = r.id \
                   where a.decision = 'allowed' and r.kind = 'slice') x group by x.rows order by 1 limit 1";
    assert_eq!(ask(counted), "rows,n\n69.0,46\n");
    // A place in conditions, as a column, and on the catalog.
    let under = ask("select count(distinct resource) from access where under(resource, 'Exhibitions/Tidal Light')");
    assert_eq!(
        ask("select count(*) from resources where under(id, 'Exhibitions/Tidal Light')").lines().nth(1),
        under.lines().nth(1)
    );
    let column = "select sum(case when under(id, 'Exhibitions/Tidal Light') then 1 else 0 end) from resources";
    assert_eq!(ask(column).lines().nth(1), under.lines().nth(1));
    // Scales in their order.
    assert_eq!(
        ask("select label, label_at_least(label, 'restricted') as high from resources group by label order by label"),
        "label,high\ninternal,no\nopen,no\nrestricted,yes\nsealed,yes\n"
    );
    // Everybody in a group through others has a chain that ends there.
    assert_eq!(ask("select count(*) from memberships where chain[-1] <> of_group"), "count(*)\n0\n");
    assert_eq!(
        ask("select count(*) from statements s join reaches r on s.name = r.statement"),
        ask("select count(*) from statements")
    );
    // A row for every statement that decides anything.
    let unknown =
        "select count(*) from access where statement is not null and statement not in (select name from statements)";
    assert_eq!(ask(unknown), "count(*)\n0\n");
}

/// Whoever asks is told what restrictions have lost.
#[test]
fn what_restrictions_have_lost_is_repeated() {
    let demo = demo();
    let manifest = fs::read_to_string(demo.path().join("bastide.toml")).unwrap();
    let levels = "\n[check.levels]\nlost-restriction = \"warning\"\n";
    assert!(!manifest.contains("[check"), "the demo sets no levels");
    fs::write(demo.path().join("bastide.toml"), manifest + levels).unwrap();
    let rule = "rule nobody-any-more { because \"x\" who members of gone may never read what anything }\n";
    fs::write(demo.path().join("policy/lost.bastide"), rule).unwrap();
    let output = run(demo.path(), &["--format", "csv", "select 1 as one"]);
    assert_eq!(String::from_utf8_lossy(&output.stdout), "one\n1\n");
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(told.contains("warning: policy/lost.bastide:1: `nobody-any-more` (may never) has lost whom"), "{told}");
    let output = run(demo.path(), &["--quiet", "--format", "csv", "select 1 as one"]);
    assert!(output.stderr.is_empty());
}

/// `findings` and `differences` are what the main program says. Without one there are none.
#[test]
fn the_main_program_is_asked_for_what_it_knows() {
    let demo = demo();
    let Some(main) = main_program() else {
        let output = run(demo.path(), &["select * from findings"]);
        assert_eq!(output.status.code(), Some(2), "it says that it has no such table");
        return;
    };
    let main = main.to_str().unwrap();
    let with = |question: &str| ask(demo.path(), &["--program", main, "--format", "csv", "--", question]);
    let found = with("select level, count(*) as n from findings group by level order by level");
    assert!(found.starts_with("level,n\nerror,"), "{found}");
    let git = |args: &[&str]| {
        let mut git = std::process::Command::new("git");
        git.args(["-c", "user.name=a", "-c", "user.email=a@b"]).args(args).current_dir(demo.path());
        assert!(git.output().unwrap().status.success());
    };
    git(&["init", "-q"]);
    git(&["add", "-A"]);
    git(&["commit", "-q", "-m", "before"]);
    let people = demo.path().join("data/entries.csv");
    let text = fs::read_to_string(&people).unwrap();
    let shorter: Vec<&str> = text.lines().enumerate().filter(|(at, _)| *at != 17).map(|(_, line)| line).collect();
    fs::write(&people, shorter.join("\n") + "\n").unwrap();
    let moved = with("select change, count(*) > 0 as some from differences('HEAD') group by change");
    assert!(moved.contains("lost,yes") || moved.contains("loss,yes"), "{moved}");
}

/// A catalog in parts gives what the whole gives, and says what it does not count.
#[test]
fn parts_give_what_the_whole_gives() {
    let people: String = (0..30).map(|i| format!("u{i},{}\n", ["red", "blue"][i % 2])).collect();
    let rules = "kind room\nkind box in room, box\naction read\naction open on box needs read\nattribute team of user: text\n\
                 attribute team of box: text\nrule teams { because \"Own.\" who anyone may read, open what box where \
                 user.team = resource.team }\nrule rooms { because \"Open.\" who anyone may read what room }\n";
    let manifest = |parts: &str| {
        format!(
            "name = \"Small\"\npolicy = [\"rules.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \
             \"catalog.csv\"\n[[catalog]]\nfile = \"part-*.csv\"\n{parts}\n[[entries]]\nfile = \"entries.csv\"\n"
        )
    };
    let part = |of: usize| -> String {
        let row = |i: usize| format!("b{of}-{i},r{},box,Box {i},{}\n", of % 2, ["red", "blue", ""][i % 3]);
        "id,parent,kind,name,team\n".to_string() + &(0..40).map(row).collect::<String>()
    };
    let files = |parts: &str| {
        let mut files = vec![
            ("bastide.toml", manifest(parts)),
            ("rules.bastide", rules.to_string()),
            ("people.csv", format!("id,team\n{people}")),
            ("catalog.csv", "id,parent,kind,name,team\nr0,,room,Quay,\nr1,,room,Mole,\n".to_string()),
            ("entries.csv", "subject,modality,actions,place,reach\nuser:u3,may not,read,b1-3,at\n".to_string()),
        ];
        files.extend([("part-0.csv", part(0)), ("part-1.csv", part(1)), ("part-2.csv", part(2))]);
        lay_out(&files)
    };
    let (whole, parts) = (files(""), files("parts = true"));
    for question in [
        "select user, resource, action, decision, reason, statement from access order by user, resource, action",
        "select kind, action, reason, count(*) from access group by kind, action, reason order by 1, 2, 3",
        "select count(*), count(distinct resource) from access where under(resource, 'Mole') and decision = 'allowed'",
        "select id, path, parent, team from resources order by id",
        "select name, modality, who, places from statements order by name",
        "select u.team, count(*) from access a join users u on a.user = u.id join resources r on r.id = a.resource where \
         r.team = 'red' group by u.team order by 1",
    ] {
        let of = |dir: &tempfile::TempDir| ask(dir.path(), &["--format", "csv", "--", question]);
        assert_eq!(of(&whole), of(&parts), "{question}");
    }
    let refused = run(parts.path(), &["select * from reaches"]);
    assert!(refused.status.code() == Some(2) && String::from_utf8_lossy(&refused.stderr).contains("comes in parts"));
    let refused = run(parts.path(), &["select user from access where under(resource, 'Quay/Box 3')"]);
    assert!(refused.status.code() == Some(2) && String::from_utf8_lossy(&refused.stderr).contains("all parts"));
}
