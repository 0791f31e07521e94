//! Tables as people keep them: other columns, other words, other separators, sheets of workbooks, grids, paths in the place of
//! parents.

mod common;

use common::{Run, run_in};
use rust_xlsxwriter::Workbook;
use serde_json::Value;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use tempfile::TempDir;

const POLICY: &str = "kind stream\nkind folder in stream, folder\naction read\naction update needs read\naction manage\n\
    role reader = read\nrole editor = read, update\nattribute team of user: text\nattribute skills of user: set of text\n\
    attribute wing of folder: text\n";

fn write(dir: &Path, name: &str, text: &str) {
    let path = dir.join(name);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, text).unwrap();
}

/// Everything kept by hand, each in a shape of its own.
fn estate() -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    write(dir.path(), "policy.bastide", POLICY);
    write(
        dir.path(),
        "bastide.toml",
        "name = \"By hand\"\npolicy = [\"*.bastide\"]\n\
         [[people]]\nfile = \"staff.csv\"\nignore = [\"Birthday\"]\nrealm = \"staff\"\nkind = \"guest\"\n\
         [people.attributes]\nLogin = \"id\"\nName = \"name\"\nStatus = \"active\"\nArt = \"kind\"\nCan = \"skills\"\n\
         [people.values.active]\nAktiv = \"yes\"\n\"Ausgeschieden\" = \"no\"\n[people.values.kind]\nmitarbeiter = \"person\"\n\
         [people.values.skills]\nLackieren = \"varnish\"\n\
         [[groups]]\nfile = \"groups.csv\"\nignore = [\"Since\"]\n[groups.attributes]\nTeam = \"group\"\nWho = \"member\"\n\
         [[catalog]]\nfile = \"places.csv\"\nparents = \"paths\"\nkind = \"folder\"\n[catalog.attributes]\nOrdner = \"name\"\nIn = \"parent\"\nSort = \"kind\"\n\
         [catalog.values.kind]\nBereich = \"stream\"\n\
         [[entries]]\nfile = \"rights.csv\"\n[entries.attributes]\nWer = \"subject\"\nDarf = \"modality\"\nWas = \"actions\"\nWo = \"place\"\nWie = \"reach\"\n\
         [entries.values.modality]\ndarf = \"may\"\n\
         [[entries]]\nfile = \"grid.csv\"\nlayout = \"grid\"\nignore = [\"Full name\"]\n[entries.values.actions]\nL = \"reader\"\nS = \"editor\"\nV = \"manage\"\n",
    );
    write(
        dir.path(),
        "staff.csv",
        "Login;Name;Status;Art;Birthday;team;Can\nann;Ann Lee;Aktiv;mitarbeiter;1.1.1990;\"a;b\";\"Lackieren;wood\"\nbob;Bob;Ausgeschieden;mitarbeiter;;;\ncy;Cy;Aktiv;;;;\n",
    );
    write(dir.path(), "groups.csv", "Team\tWho\tSince\nlab\tann\t2020\nlab\tcy\t\n");
    write(
        dir.path(),
        "places.csv",
        "In|Ordner|Sort|wing\n|House|Bereich|\nHouse|Lab|| east\nHouse/Lab/|Logs||\n/ House / Lab|A/B||\n",
    );
    write(dir.path(), "rights.csv", "Wer,Darf,Was,Wo,Wie\ngroup:lab,darf,reader,House/Lab,under\n");
    write(dir.path(), "grid.csv", "Login,Full name,House/Lab/Logs,House\nann,Ann Lee,L S,\ngroup:lab,,-,V\ncy,,LV,\n");
    dir
}

fn access(dir: &Path) -> BTreeSet<String> {
    let rows = run_in(dir, &["matrix", "--format", "csv", "--on", "2026-11-28"]).ok();
    rows.lines().skip(1).map(str::to_string).collect()
}

fn wanted() -> BTreeSet<String> {
    [
        "ann,House,manage",
        "ann,House/Lab,read;manage",
        "ann,House/Lab/Logs,read;update;manage",
        "ann,House/Lab/A\\/B,read;manage",
        "cy,House,manage",
        "cy,House/Lab,read;manage",
        "cy,House/Lab/Logs,read;manage",
        "cy,House/Lab/A\\/B,read;manage",
    ]
    .map(str::to_string)
    .into()
}

#[test]
fn tables_are_read_as_people_keep_them() {
    let dir = estate();
    let check = run_in(dir.path(), &["check"]);
    assert_eq!(check.status, 0, "{}", check.whole());
    assert!(check.out.contains("3 users: 2 persons, 1 guest; 1 inactive"), "{}", check.out);
    assert_eq!(access(dir.path()), wanted());
    let about = run_in(dir.path(), &["about", "ann"]).ok();
    assert!(about.contains("a;b") && about.contains("varnish") && about.contains("staff"), "{about}");
}

/// What is written back goes into the columns of theirs, with their separator, and is read as what was tried.
#[test]
fn changes_go_back_into_such_tables() {
    let dir = estate();
    for (change, file, line) in [
        (["--leave", "cy:lab"], "groups.csv", "lab\tann\t2020\n"),
        (["--join", "bob:lab"], "groups.csv", "lab\tbob\t\n"),
        (["--set", "user:cy.team=x;y"], "staff.csv", "cy;Cy;Aktiv;;;\"x;y\";\n"),
        (["--set", "resource:House/Lab/Logs.wing=west"], "places.csv", "House/Lab/|Logs||west\n"),
        (["--entry", "user:ann,may,manage,House,at"], "rights.csv", "user:ann,may,manage,House,at\n"),
        (["--actions", "rights.csv:2=read;update"], "rights.csv", "group:lab,darf,read;update,House/Lab,under\n"),
        (["--add-resource", "parent=House/Lab,kind=folder,name=New,id=ignored"], "places.csv", ""),
    ] {
        let run = run_in(dir.path(), &[&["try"][..], &change, &["--write", "--far", "--on", "2026-11-28"]].concat());
        if change[0] == "--add-resource" {
            // Its id is its path: one of its own has no column.
            assert!(run.status > 0, "{}", run.whole());
            continue;
        }
        assert!(run.status <= 1, "{change:?}: {}", run.whole());
        let text = fs::read_to_string(dir.path().join(file)).unwrap();
        assert!(text.contains(line), "{change:?}: {text}");
    }
    // A grid is kept by hand: a cell of it is not taken out.
    let run = run_in(dir.path(), &["try", "--drop", "grid.csv:3", "--write", "--far"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    assert!(fs::read_to_string(dir.path().join("grid.csv")).unwrap().contains("group:lab,,-,V"));
}

/// The same tables as sheets of a workbook say the same.
#[test]
fn sheets_of_a_workbook_say_the_same() {
    let dir = estate();
    let mut book = Workbook::new();
    let mut manifest = fs::read_to_string(dir.path().join("bastide.toml")).unwrap();
    for name in ["staff", "groups", "places", "rights", "grid"] {
        let text = fs::read_to_string(dir.path().join(format!("{name}.csv"))).unwrap();
        let sheet = book.add_worksheet().set_name(name).unwrap();
        let separator = text.bytes().find(|b| b",;\t|".contains(b)).unwrap();
        let mut reader = csv::ReaderBuilder::new().has_headers(false).delimiter(separator).from_reader(text.as_bytes());
        for (row, record) in reader.records().enumerate() {
            for (column, cell) in record.unwrap().iter().enumerate() {
                sheet.write(row as u32 + 2, column as u16 + 1, cell).unwrap();
            }
        }
        manifest =
            manifest.replace(&format!("file = \"{name}.csv\""), &format!("file = \"kept.xlsx\"\nsheet = \"{name}\""));
        fs::remove_file(dir.path().join(format!("{name}.csv"))).unwrap();
    }
    book.save(dir.path().join("kept.xlsx")).unwrap();
    fs::write(dir.path().join("bastide.toml"), &manifest).unwrap();
    assert_eq!(access(dir.path()), wanted());
    // A mistake is told by the row in which it stands.
    let bad = manifest.replace("mitarbeiter = \"person\"\n", "");
    fs::write(dir.path().join("bastide.toml"), bad).unwrap();
    let check = run_in(dir.path(), &["check"]);
    assert_eq!(check.status, 3, "{}", check.whole());
    assert!(
        check.out.contains("kept.xlsx:4:") && check.out.contains("`mitarbeiter` is no kind of user"),
        "{}",
        check.out
    );
    // What would change the workbook is refused.
    fs::write(dir.path().join("bastide.toml"), &manifest).unwrap();
    let run = run_in(dir.path(), &["try", "--leave", "cy:lab", "--write", "--far"]);
    assert_eq!(run.status, 4, "{}", run.whole());
    for (from, to, told) in [
        ("sheet = \"staff\"", "sheet = \"stuff\"", "it has no sheet `stuff`: did you mean `staff`?"),
        ("layout = \"grid\"", "layout = \"net\"", "expected `\"grid\"`"),
        ("kind = \"guest\"", "kind = \"gast\"", "`gast` is no kind of user"),
        ("[people.values.kind]", "[people.values.art]", "unknown column `art`"),
        ("parents = \"paths\"", "parents = \"names\"", "expected `\"paths\"`"),
        ("Wer = \"subject\"", "Wer = \"subjekt\"", "did you mean `subject`?"),
    ] {
        assert!(manifest.contains(from), "{from}");
        fs::write(dir.path().join("bastide.toml"), manifest.replacen(from, to, 1)).unwrap();
        let Run { status, out, .. } = run_in(dir.path(), &["check"]);
        assert!(status == 3 && out.contains(told), "{told}: {out}");
    }
}

/// A path that two rows have is nobody's, and one that leads nowhere is said.
#[test]
fn paths_that_lead_nowhere_are_said() {
    for (rows, told) in
        [("|House|Bereich|\n|House|Bereich|\nHouse|Lab||\n", "House"), ("|House|Bereich|\nHause|Lab||\n", "`Hause`")]
    {
        let dir = estate();
        write(dir.path(), "places.csv", &format!("In|Ordner|Sort|wing\n{rows}"));
        let check = run_in(dir.path(), &["check", "--format", "json"]);
        assert_eq!(check.status, 3, "{}", check.whole());
        let answer: Value = serde_json::from_str(&check.out).unwrap();
        let messages: Vec<&str> =
            answer["diagnostics"].as_array().unwrap().iter().map(|d| d["message"].as_str().unwrap()).collect();
        assert!(messages.iter().any(|message| message.contains(told)), "{messages:?}");
    }
}
