//! Names that hold markup, quotes, control characters, right-to-left text or three hundred characters break
//! no output.

mod common;

use common::{bad_names, bad_names_estate, run_in, run_with};

/// Whether a terminal would be moved, coloured or turned by a text from data.
fn acts(text: &str) -> Option<char> {
    text.chars().find(|c| {
        (c.is_control() && *c != '\n')
            || matches!(c, '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}')
            || matches!(c, '\u{feff}' | '\u{e0000}'..='\u{e007f}')
    })
}

#[test]
fn every_terminal_output_shows_them_and_is_not_moved_by_them() {
    let dir = bad_names_estate();
    let check = run_in(dir.path(), &["check"]);
    assert_eq!(check.status, 0, "{}{}", check.out, check.err);
    let commands: Vec<Vec<&str>> = vec![
        vec!["check"],
        vec!["matrix", "--all"],
        vec!["matrix", "--summary"],
        vec!["what", "u1"],
        vec!["who", "update", "i3", "--via"],
        vec!["why", "u3", "update", "i3"],
        vec!["why", "u3", "update", "i4"],
        vec!["compare", "u0", "u3"],
        vec!["reach", "entries.csv:4"],
        vec!["try", "--drop", "entries.csv:4"],
        vec!["audit", "--all"],
    ];
    for command in &commands {
        for width in ["60", "100", "200"] {
            let run = run_with(dir.path(), command, &[("COLUMNS", width)]);
            assert!(run.status <= 1, "{command:?}: {}", run.err);
            assert_eq!(acts(&run.out), None, "{command:?}:\n{}", run.out);
            assert_eq!(acts(&run.err), None, "{command:?}:\n{}", run.err);
            // What runs the program takes no line of it for a command to itself.
            let commands = |line: &&str| line.trim_start().starts_with("::") || line.trim_start().starts_with("##[");
            assert_eq!(run.out.lines().find(commands), None, "{command:?}");
        }
    }
}

/// In JSON, too, nothing acts on whoever looks at it, and every value is what it was.
#[test]
fn json_is_harmless_and_says_the_same() {
    let dir = bad_names_estate();
    for command in [&["about", "user:u1"][..], &["why", "u3", "update", "i3"], &["who", "update", "i2"], &["audit"]] {
        let json = run_in(dir.path(), &[command, &["--format", "json"]].concat()).out;
        assert_eq!(acts(&json), None, "{command:?}");
        let _: serde_json::Value = serde_json::from_str(&json).unwrap_or_else(|e| panic!("{command:?}: {e}"));
    }
    let reach = run_in(dir.path(), &["reach", "entries.csv:3", "--format", "json"]).ok();
    let reach: serde_json::Value = serde_json::from_str(&reach).unwrap();
    assert!(reach.to_string().contains("\u{202e}gnp.exe"), "{reach}");
    let csv = run_in(dir.path(), &["audit", "--format", "csv"]).out;
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().collect::<Result<_, _>>().expect("every row has its cells");
    assert!(!rows.is_empty() && acts(&csv).is_none(), "{csv}");
    assert!(rows.iter().flatten().all(|cell| !cell.starts_with(['=', '+', '-', '@'])));
    assert!(csv.lines().all(|line| line.starts_with('"')), "every cell is quoted: {csv}");
}

#[test]
fn tables_of_values_hold_them_unchanged() {
    let dir = bad_names_estate();
    let json = run_in(dir.path(), &["matrix", "--all", "--format", "json"]).ok();
    let value: serde_json::Value = serde_json::from_str(&json).expect("JSON");
    let rows = value["rows"].as_array().unwrap();
    for name in bad_names() {
        assert!(rows.iter().any(|r| r["name"] == name.as_str()), "{name:?}");
    }
    let csv = run_in(dir.path(), &["matrix", "--all", "--reasons", "--format", "csv"]).ok();
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().collect::<Result<_, _>>().expect("every row has its cells");
    let names = bad_names().len();
    assert_eq!(rows.len(), names * names * 2 * 2);
    assert!(rows.iter().all(|r| r.len() == 6));
    assert!(rows.iter().any(|r| &r[5] == "everybody-reads"));
    // The sheets of a review, whose people and places have such names, come back as they were.
    let sheets = dir.path().join("sheets");
    run_in(dir.path(), &["review", "sheets", "sheets", "--by", "root"]).ok();
    let files: Vec<_> = std::fs::read_dir(&sheets).unwrap().map(|e| e.unwrap().path()).collect();
    assert_eq!(files.len(), names);
    for file in files {
        let mut reader = csv::Reader::from_path(&file).unwrap();
        for row in reader.records() {
            let row = row.expect("every row has its cells");
            assert!(row.iter().all(|cell| !cell.starts_with(['=', '+', '-', '@'])), "{row:?}");
        }
    }
}

#[test]
fn pictures_and_graphs_stay_whole() {
    let dir = bad_names_estate();
    for command in [
        vec!["matrix", "--all", "--format", "svg"],
        vec!["reach", "entries.csv:4", "--format", "svg"],
        vec!["why", "u1", "update", "i1", "--format", "svg"],
        vec!["why", "u8", "update", "i8", "--format", "svg"],
    ] {
        let svg = run_in(dir.path(), &command).ok();
        let document = roxmltree::Document::parse(&svg).unwrap_or_else(|e| panic!("{command:?}: {e}"));
        let allowed = ["svg", "rect", "text", "polyline", "polygon", "line", "path"];
        for node in document.descendants().filter(|n| n.is_element()) {
            assert!(allowed.contains(&node.tag_name().name()), "{command:?}: {:?}", node.tag_name());
        }
        assert_eq!(acts(&svg), None);
    }
    let dot = run_in(dir.path(), &["why", "u2", "update", "i2", "--format", "dot"]).ok();
    // Outside of quotes nothing but the language's own signs is left.
    let mut outside = String::new();
    let (mut quoted, mut escaped) = (false, false);
    for c in dot.chars() {
        match c {
            '\\' if quoted && !escaped => escaped = true,
            '"' if !escaped => quoted = !quoted,
            _ => {
                if !quoted {
                    outside.push(c);
                }
                escaped = false;
            }
        }
    }
    assert!(!quoted && !outside.contains(['<', '\'', '`', '&']), "{outside}");
}

/// What is typed may come from elsewhere: it acts on nobody either.
#[test]
fn arguments_are_harmless() {
    let dir = bad_names_estate();
    for text in common::hidden_texts().iter().map(String::as_str).chain(["::error::x", "##[group]x"]) {
        let option = format!("--{text}");
        for args in [
            &["what", text][..],
            &["why", "u1", "update", text],
            &["who", text, "i1"],
            &["diff", text],
            &["try", "--join", text],
            &["try", "--add", text],
            &["-C", text, "check"],
            &["matrix", "--session", text],
            &["matrix", "--on", text],
            &["matrix", &option],
            &["review", "answers", text],
            &["about", text],
            &["reach", text],
            &[text],
        ] {
            let run = run_in(dir.path(), args);
            assert!((0..=4).contains(&run.status), "{args:?}: {}{}", run.out, run.err);
            assert_eq!(acts(&run.out), None, "{args:?}");
            assert_eq!(acts(&run.err), None, "{args:?}: {}", run.err);
            let commands = |line: &&str| line.trim_start().starts_with("::") || line.trim_start().starts_with("##[");
            assert_eq!(run.err.lines().find(commands), None, "{args:?}");
        }
    }
}
