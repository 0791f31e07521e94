//! Workbooks through another program than ours: people and rights that it wrote, and sheets of a review that it filled in.

mod common;

use common::{demo, run_in};
use std::fs;
use std::path::Path;
use std::process::Command;

/// An interpreter with a library for workbooks; none where there is none, which is said.
#[allow(clippy::print_stderr, reason = "what is left out must not be left out in silence")]
fn interpreter() -> Option<String> {
    let python = std::env::var("BASTIDE_PYTHON").unwrap_or_else(|_| "python3".to_string());
    let there = Command::new(&python).args(["-c", "import openpyxl, odf"]).output();
    if there.is_ok_and(|output| output.status.success()) {
        return Some(python);
    }
    let told = "left out: no Python with openpyxl and odfpy (tests/systems.sh installs what the tests of systems need)";
    assert!(std::env::var_os("BASTIDE_SYSTEMS").is_none(), "{told}");
    eprintln!("{told}");
    None
}

#[track_caller]
fn script(python: &str, dir: &Path, text: &str) -> String {
    let output = Command::new(python).args(["-c", text]).current_dir(dir).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

const FILL: &str = r#"
import datetime, openpyxl
book = openpyxl.load_workbook("autumn/Press.xlsx")
page = book.active
heads = [cell.value for cell in page[1]]
answer, until, by = heads.index("answer"), heads.index("until"), heads.index("given_by")
rule = page.data_validations.dataValidation[0]
print(page.protection.sheet, rule.formula1, page.freeze_panes)
print([cell.protection.locked for cell in page[2]].index(False) == answer)
for row in page.iter_rows(min_row=2):
    if str(row[by].value).endswith("amos.quist") or "entries.csv" in str(row[by].value):
        row[answer].value = "remove"
    else:
        row[answer].value = "keep"
    row[answer].number_format = "@"
book.save("autumn/Press.xlsx")
"#;

/// The same answers in a table and in a workbook, written by another program, come to the same.
#[test]
fn a_review_goes_through_another_program_and_comes_back() {
    let Some(python) = interpreter() else { return };
    let dir = demo();
    run_in(dir.path(), &["review", "sheets", "autumn", "--by", "root", "--format", "xlsx", "--on", "2026-11-24"]).ok();
    run_in(dir.path(), &["review", "sheets", "plain", "--by", "root", "--on", "2026-11-24"]).ok();
    let first = fs::read(dir.path().join("autumn/Press.xlsx")).unwrap();
    let said = script(&python, dir.path(), FILL);
    assert_eq!(said, "True \"keep,narrow,remove\" A2\nTrue\n");
    // The same answers in the table.
    let text = fs::read_to_string(dir.path().join("plain/Press.csv")).unwrap();
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let heads = reader.headers().unwrap().clone();
    let at = |name: &str| heads.iter().position(|head| head == name).unwrap();
    let mut writer = csv::Writer::from_path(dir.path().join("plain/Press.csv")).unwrap();
    writer.write_record(&heads).unwrap();
    for row in reader.records() {
        let row = row.unwrap();
        let by = &row[at("given_by")];
        let answer = if by.ends_with("amos.quist") || by.contains("entries.csv") { "remove" } else { "keep" };
        let cells = row.iter().enumerate().map(|(i, cell)| if i == at("answer") { answer } else { cell });
        writer.write_record(cells.collect::<Vec<_>>()).unwrap();
    }
    drop(writer);
    let answers = |folder: &str, ending: &str| {
        let sheet = format!("{folder}/Press.{ending}");
        let run = run_in(dir.path(), &["review", "answers", &sheet, "--by", "root", "--on", "2026-11-24"]);
        assert!(run.status <= 1, "{}", run.whole());
        run.out.replace(&sheet, "SHEET")
    };
    let of_workbook = answers("autumn", "xlsx");
    assert_eq!(of_workbook, answers("plain", "csv"));
    assert!(of_workbook.contains("17 answers"), "{of_workbook}");
    // The same sheet is the same file.
    run_in(dir.path(), &["review", "sheets", "again", "--by", "root", "--format", "xlsx", "--on", "2026-11-24"]).ok();
    assert_eq!(fs::read(dir.path().join("again/Press.xlsx")).unwrap(), first);
    // An answer that is none is told with its row.
    script(
        &python,
        dir.path(),
        "import openpyxl\nbook = openpyxl.load_workbook('again/Press.xlsx')\nbook.active['L3'] = 'perhaps'\nbook.save('again/Press.xlsx')\n",
    );
    let run = run_in(dir.path(), &["review", "answers", "again", "--by", "root", "--on", "2026-11-24"]);
    assert_eq!(run.status, 2, "{}", run.whole());
    assert!(run.err.contains("again/Press.xlsx:3: `perhaps` is no answer"), "{}", run.err);
}

const MAKE: &str = r#"
import datetime, openpyxl
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table, TableRow, TableCell
from odf.text import P
people = [["id", "name", "since", "level", "active"],
          ["ann", "Ann Lee", datetime.date(2026, 3, 1), 3, True], ["bob", "B\u00f3b", datetime.date(2025, 12, 31), 1.5, False]]
book = openpyxl.Workbook()
page = book.create_sheet("Staff")
for row in people:
    page.append(row)
page["F2"] = "=1+1"
book.save("people.xlsx")
out = OpenDocumentSpreadsheet()
table = Table(name="Rights")
for row in [["who", "House"], ["ann", "reader"], ["bob", "reader"]]:
    line = TableRow()
    for text in row:
        cell = TableCell(valuetype="string")
        cell.addElement(P(text=text))
        line.addElement(cell)
    table.addElement(line)
out.spreadsheet.addElement(table)
out.save("rights.ods")
"#;

#[test]
fn workbooks_that_another_program_wrote_are_read() {
    let Some(python) = interpreter() else { return };
    let dir = tempfile::tempdir().unwrap();
    script(&python, dir.path(), MAKE);
    let write = |name: &str, text: &str| fs::write(dir.path().join(name), text).unwrap();
    write(
        "bastide.toml",
        "name = \"x\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.xlsx\"\nsheet = \"Staff\"\n[[catalog]]\nfile = \"c.csv\"\n\
         [[entries]]\nfile = \"rights.ods\"\nlayout = \"grid\"\nreach = \"at\"\n",
    );
    write("c.csv", "id,parent,kind,name\nh,,house,House\n");
    write(
        "p.bastide",
        "kind house\naction read\nrole reader = read\nattribute since of user: date\nattribute level of user: number\n",
    );
    let about = run_in(dir.path(), &["about", "ann", "--on", "2026-11-24"]).ok();
    assert!(about.contains("2026-03-01") && about.contains('3'), "{about}");
    let rows = run_in(dir.path(), &["matrix", "--format", "csv", "--inactive", "--on", "2026-11-24"]).ok();
    assert_eq!(rows.lines().skip(1).collect::<Vec<_>>(), ["ann,h,read"]);
}
