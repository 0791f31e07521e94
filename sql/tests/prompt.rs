//! The prompt, on a terminal of its own: what is typed, completed, taken back, recalled.

mod common;

use bastide_testkit::terminal::Terminal;
use common::{DAY, demo, program};
use std::fs;
use std::path::Path;

fn prompt(dir: &Path) -> Terminal {
    let line = format!("bastide-sql --quiet --color never --on {DAY}");
    let mut terminal = Terminal::start(&program(), dir, &line, &[("TERM", "xterm"), ("XDG_STATE_HOME", "")]);
    terminal.shows("`help` says what can be asked.");
    terminal.shows("access> ");
    terminal
}

#[test]
fn questions_are_typed_completed_and_recalled() {
    let demo = demo();
    let mut terminal = prompt(demo.path());
    // The table is completed, and a question goes on until it ends with `;`.
    terminal.keys("select count(*) as rooms from resou\ts\r");
    terminal.keys("where kind = 'folder';\r");
    terminal.shows("rooms");
    terminal.shows("row");
    // What may follow is listed.
    terminal.shows("access> ");
    terminal.keys("select u\t\t");
    terminal.shows("under(");
    terminal.shows("union all");
    // The prompt is shown again, below the list.
    terminal.shows("access> ");
    // What was begun is given up.
    terminal.keys("\u{3}");
    terminal.shows("access> ");
    // A mistake ends nothing.
    terminal.keys("select nothing from users;\r");
    terminal.shows("nothing");
    terminal.shows("access> ");
    terminal.keys("tables\r");
    terminal.shows("memberships");
    terminal.shows("access> ");
    terminal.keys("columns statements\r");
    terminal.shows("modality");
    terminal.shows("access> ");
    terminal.keys("select count(*) as everybody from users;\r");
    terminal.shows("everybody");
    terminal.shows("access> ");
    terminal.keys("quit\r");
    let (shown, well) = terminal.ended();
    assert!(well, "{shown}");
    // What was asked is remembered, for its owner alone.
    let history = demo.path().join(".local/state/bastide/questions");
    let text = fs::read_to_string(&history).expect("questions are remembered");
    assert!(text.contains("everybody from users"), "{text}");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = fs::metadata(&history).expect("it is there").permissions().mode();
        assert_eq!(mode & 0o077, 0, "{mode:o}");
    }
    // And is a key away another day.
    let mut terminal = prompt(demo.path());
    terminal.keys("\u{1b}[A\u{1b}[A");
    terminal.shows("everybody");
    terminal.keys("\r");
    terminal.shows("everybody");
    terminal.shows("access> ");
    // The end of what is typed ends it.
    terminal.keys("\u{4}");
    let (shown, well) = terminal.ended();
    assert!(well, "{shown}");
}

#[test]
fn a_history_that_cannot_be_read_is_told() {
    let demo = demo();
    let history = demo.path().join(".local/state/bastide/questions");
    fs::create_dir_all(&history).expect("a folder where a file should be");
    let line = format!("bastide-sql --quiet --color never --on {DAY}");
    let mut terminal = Terminal::start(&program(), demo.path(), &line, &[("TERM", "xterm"), ("XDG_STATE_HOME", "")]);
    terminal.shows("earlier questions cannot be read");
    terminal.shows("access> ");
    terminal.keys("select count(*) as n from users;\r");
    terminal.shows("access> ");
    terminal.keys("quit\r");
    let (shown, well) = terminal.ended();
    assert!(well && shown.contains("questions cannot be remembered"), "{shown}");
}
