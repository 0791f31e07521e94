//! Driving the built program on files in a temporary folder.
#![allow(dead_code, reason = "each test program uses a part of it")]

use assert_cmd::Command;
use bastide_testkit::Case;
use bastide_testkit::terminal::Terminal;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// A command line on a terminal of its own, in a folder, with the built program on its path.
pub fn on_terminal(dir: &Path, line: &str, variables: &[(&str, &str)]) -> Terminal {
    Terminal::start(&assert_cmd::cargo::cargo_bin("bastide"), dir, line, variables)
}

/// What the program gave back.
pub struct Run {
    pub status: i32,
    pub out: String,
    pub err: String,
}

impl Run {
    /// Output, error output and status in one text.
    pub fn whole(&self) -> String {
        let err = if self.err.is_empty() { String::new() } else { format!("--- error output\n{}", self.err) };
        format!("{}{err}--- exit status {}\n", self.out, self.status)
    }

    #[track_caller]
    pub fn ok(self) -> String {
        assert_eq!(self.status, 0, "{}", self.err);
        self.out
    }
}

/// Runs the program in a folder, at a width of 100 columns, without colour.
pub fn run_in(dir: &Path, args: &[&str]) -> Run {
    run_with(dir, args, &[("COLUMNS", "100")])
}

pub fn run_with(dir: &Path, args: &[&str], variables: &[(&str, &str)]) -> Run {
    let mut command = Command::cargo_bin("bastide").expect("the program is built");
    command.current_dir(dir).env_remove("NO_COLOR").args(args);
    for (name, value) in variables {
        command.env(name, value);
    }
    let output = command.output().expect("the program starts");
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).expect("output is UTF-8");
    Run { status: output.status.code().unwrap_or(-1), out: text(&output.stdout), err: text(&output.stderr) }
}

/// The part of a manifest that a page of the guide shows, with another address, and more of the import's keys.
pub fn shown_on(page: &str, address: &str, from: &str, more: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(page);
    let text = std::fs::read_to_string(path).expect("there is such a page");
    let block = text.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).expect("it shows a manifest");
    let begins = block.lines().find(|line| line.starts_with("into")).expect("it says where to");
    assert!(block.contains(address), "{page}");
    block.replace(address, from).replacen(begins, &format!("{begins}\n{more}"), 1)
}

/// A folder with the demo estate.
pub fn demo() -> TempDir {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let laid_out = run_in(dir.path(), &["demo", "--no-tour", "."]);
    assert_eq!(laid_out.status, 0, "{}", laid_out.err);
    dir
}

/// A folder with the files of a case text; texts it uses stand in `tests/mistakes`.
pub fn case(text: &str) -> TempDir {
    Case::parse(text, &mistakes()).lay_out()
}

pub fn mistakes() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/mistakes")
}

/// Names that could break a page, a table, a terminal or a file of values.
pub fn bad_names() -> Vec<String> {
    vec![
        "<script>window.hit=1</script>".to_string(),
        "</script><img src=x onerror=\"window.hit=2\">".to_string(),
        "\"double\" & 'single' `ticks` {{ 7 * 7 }} {% raw %}".to_string(),
        "אוסף הציורים".to_string(),
        "مجموعة اللوحات".to_string(),
        "=HYPERLINK(\"x\")".to_string(),
        "::error::two, commas; and a semicolon".to_string(),
        "##[group]x".to_string(),
        "n".repeat(300),
    ]
}

/// Texts that no id, name or attribute may be, and that a note may.
pub fn hidden_texts() -> Vec<String> {
    vec![
        "bell\u{7}escape\u{1b}[31mred\u{1b}[0m".to_string(),
        "\u{202e}gnp.exe\u{2066}".to_string(),
        "two\nlines,\tand a tab\n::error::x".to_string(),
        "zero\u{200b}width\u{61c} \u{e0041}\u{85}\u{7f}".to_string(),
    ]
}

/// An estate in which users, resources, groups and reasons have such names.
pub fn bad_names_estate() -> TempDir {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let cell = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
    let write = |name: &str, text: String| std::fs::write(dir.path().join(name), text).expect("the folder takes it");
    write(
        "bastide.toml",
        "name = \"<b>Bad</b> & names\"\npolicy = [\"policy.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[groups]]\nfile = \
         \"groups.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n[[entries]]\nfile = \"entries.csv\"\n[audit]\nharmless = [\"read\"]\n"
            .to_string(),
    );
    write(
        "policy.bastide",
        "kind stream\nkind item in stream\ntype secrecy = scale open < sealed\nattribute label of resource: secrecy default open highest\n\
         action read\naction update\nrule everybody-reads { because \"<script>window.hit=3</script> \\\"quoted\\\"\" who anyone may read what anything }\n"
            .to_string(),
    );
    let (mut people, mut groups) = ("id,name\n".to_string(), "group,member\n".to_string());
    let mut catalog = "id,parent,kind,name,label\n".to_string();
    let mut entries = "subject,modality,actions,place,reach,note\n".to_string();
    let texts = hidden_texts();
    for (i, name) in bad_names().iter().enumerate() {
        let text = cell(&texts[i % texts.len()]);
        people.push_str(&format!("u{i},{}\n", cell(name)));
        groups.push_str(&format!("{},u{i}\n{},u0\n", cell(name), cell(name)));
        catalog.push_str(&format!("s{i},,stream,{},sealed\ni{i},s{i},item,{},\n", cell(name), cell(name)));
        entries.push_str(&format!("{},may,read;update,s{i},under,{text}\n", cell(&format!("group:{name}"))));
    }
    for (name, text) in
        [("people.csv", people), ("groups.csv", groups), ("catalog.csv", catalog), ("entries.csv", entries)]
    {
        write(name, text);
    }
    dir
}
