//! The full-screen view: keys played without a terminal, and on a real one.

mod common;

use bastide_testkit::terminal::Terminal;
use common::{demo, on_terminal, run_in};
use std::fs;
use std::path::Path;
use std::process::Command;

/// The last screen after keys.
fn played(dir: &Path, keys: &str, size: &str) -> Vec<String> {
    let file = dir.join("keys.txt");
    fs::write(&file, keys).unwrap();
    let args = ["-q", "explore", "--on", "2026-11-24", "--replay", "keys.txt", "--size", size];
    let screen = run_in(dir, &args).ok();
    fs::remove_file(file).unwrap();
    screen.lines().map(str::to_string).collect()
}

const CALL: &str = "/\ntype TL-007 incoming\nEnter\n/\ntype bruno\nEnter\n";

/// "I cannot open this, everybody else can."
#[test]
fn a_call_is_solved() {
    let dir = demo();
    let screen = played(dir.path(), CALL, "140x42");
    let whole = screen.join("\n");
    assert!(whole.contains("refused (denied)") && whole.contains("may not  entry data/entries.csv:43"), "{whole}");
    insta::assert_snapshot!("a_call", whole);
    // Whatever the size, it says why.
    for size in ["80x24", "240x70"] {
        let screen = played(dir.path(), CALL, size);
        let (columns, rows) = size.split_once('x').unwrap();
        assert_eq!(screen.len(), rows.parse::<usize>().unwrap());
        assert!(screen.iter().all(|line| line.chars().count() <= columns.parse().unwrap()), "{screen:#?}");
        assert!(screen.join("\n").contains("refused (denied)"), "{screen:#?}");
    }
    // The entry is taken out: one column lights up, and nothing else.
    let screen = played(dir.path(), &format!("{CALL}x\n"), "140x42");
    let whole = screen.join("\n");
    assert!(whole.contains("allowed (granted)") && whole.contains("1 user on 45 resources: 135 gained"), "{whole}");
    let lit: Vec<usize> = screen[2..].iter().filter_map(|line| line.chars().position(|c| c == '+')).collect();
    assert!(lit.len() > 10 && lit.iter().all(|at| at == &lit[0]), "{whole}");
    assert!(!screen[2..24].iter().any(|line| line.contains(" -")), "{whole}");
    // Undone, nothing is changed; saved, it is in the files.
    let screen = played(dir.path(), &format!("{CALL}x\nu\n"), "140x42").join("\n");
    assert!(screen.contains("refused (denied)") && !screen.contains("not saved"), "{screen}");
    let screen = played(dir.path(), &format!("{CALL}x\nw\n"), "140x42").join("\n");
    assert!(screen.contains("allowed (granted)") && screen.ends_with("saved"), "{screen}");
    let place = "Exhibitions/Tidal Light/Condition/Incoming/TL-007 incoming";
    let why = run_in(dir.path(), &["-q", "why", "bruno.tavares", "read", place, "--on", "2026-11-24"]).ok();
    assert!(why.starts_with("allowed"), "{why}");
}

#[test]
fn what_would_turn_it_and_what_is_wrong_are_lists_to_choose_from() {
    let dir = demo();
    let screen = played(dir.path(), &format!("{CALL}r\nEnter\n"), "140x42").join("\n");
    assert!(screen.contains("1 change, not saved") && screen.contains("135 gained"), "{screen}");
    let screen = played(dir.path(), "f\ntype guest\n", "140x42").join("\n");
    assert!(screen.contains("what is wrong"), "{screen}");
    let screen = played(dir.path(), &format!("{CALL}g\ntype direct\nEnter\nc\n"), "140x42").join("\n");
    assert!(screen.contains("take one back") && screen.contains("`directors`"), "{screen}");
    let screen = played(dir.path(), "s\ntype volunteers\nEnter\n", "140x42").join("\n");
    assert!(screen.contains("1 change, not saved"), "{screen}");
    let screen = played(dir.path(), "/\ntype volunteers-only\nEnter\n", "140x42").join("\n");
    assert!(screen.contains("narrowed word by word"), "{screen}");
    // What is no file of keys is said.
    fs::write(dir.path().join("keys.txt"), "Sideways\n").unwrap();
    let run = run_in(dir.path(), &["explore", "--replay", "keys.txt"]);
    assert_eq!(run.status, 2);
    assert!(run.err.contains("line 1: `Sideways` is no key"), "{}", run.err);
    let run = run_in(dir.path(), &["explore"]);
    assert_eq!(run.status, 2, "without a terminal it says so: {}", run.err);
}

/// A rule is written below the table, and the table shows what it would open.
#[test]
fn a_rule_is_written_and_seen() {
    let dir = demo();
    let lender = "/\ntype bastian\nEnter\n";
    let begun = format!("{lender}e\ntype who members of lend\n");
    let screen = played(dir.path(), &begun, "140x42").join("\n");
    assert!(screen.contains("Tab: lenders"), "{screen}");
    assert!(screen.contains("expected") || screen.contains("does not say"), "{screen}");
    let rule = "type  may read what report where resource.label <= internal\n";
    let screen = played(dir.path(), &format!("{begun}Tab\n{rule}"), "140x42").join("\n");
    assert!(screen.contains("> who members of lenders may read what report"), "{screen}");
    assert!(screen.contains("members of lenders: 32 users on 479 resources"), "{screen}");
    // It is kept, tried with another change, and saved with it.
    let screen = played(dir.path(), &format!("{begun}Tab\n{rule}Enter\n"), "140x42").join("\n");
    assert!(screen.contains("1 change, not saved") && screen.contains("gained"), "{screen}");
    let screen = played(dir.path(), &format!("{begun}Tab\n{rule}Esc\n"), "140x42").join("\n");
    assert!(!screen.contains("not saved") && !screen.contains("·+ "), "{screen}");
    let screen = played(dir.path(), &format!("{begun}Tab\n{rule}Enter\n{CALL}x\nW\n"), "140x42").join("\n");
    assert!(screen.ends_with("saved"), "{screen}");
    let rules = run_in(dir.path(), &["-q", "rules", "--on", "2026-11-24"]).ok();
    assert!(rules.contains("written-here"), "{rules}");
    // Each has a name of its own, and is undone in its turn.
    let other = "e\ntype who anyone may not read what essay\nEnter\n";
    let two = format!("{other}s\ntype volunteers-only\nEnter\n{other}");
    let screen = played(dir.path(), &format!("{two}c\n"), "140x42").join("\n");
    assert!(screen.contains("3 changes, not saved"), "{screen}");
    assert!(screen.contains("rule written-here-2 {") && screen.contains("rule written-here-3 {"), "{screen}");
    let screen = played(dir.path(), &format!("{two}u\nu\nc\n"), "140x42").join("\n");
    assert!(screen.contains("1 change, not saved") && screen.contains("written-here-2"), "{screen}");
}

/// What `try --write` refuses is not saved either, and the screen says why.
#[test]
fn guarantees_are_held() {
    let dir = demo();
    let rules = run_in(dir.path(), &["-q", "rules", "--on", "2026-11-24", "--format", "csv"]).ok();
    let names = rules.lines().skip(1).filter_map(|line| line.split(',').next()).filter(|name| !name.contains(':'));
    let refused = names.map(str::to_string).find_map(|name| {
        let copy = demo();
        let args = ["-q", "try", "--off", &name, "--write", "--on", "2026-11-24"];
        let run = run_in(copy.path(), &args);
        (run.status == 1 && run.err.contains("guarantee")).then_some((name, run.err))
    });
    let (name, why) = refused.expect("a rule on which a guarantee stands");
    let before = fs::read_dir(dir.path().join("policy")).unwrap().map(|f| fs::read(f.unwrap().path()).unwrap());
    let before: Vec<Vec<u8>> = before.collect();
    let screen = played(dir.path(), &format!("s\ntype {name}\nEnter\nw\n"), "200x42").join("\n");
    let first = why.lines().next().unwrap();
    assert!(screen.contains(&format!("not saved: {}", &first[..60])), "{screen}");
    let after = fs::read_dir(dir.path().join("policy")).unwrap().map(|f| fs::read(f.unwrap().path()).unwrap());
    assert_eq!(after.collect::<Vec<_>>(), before);
}

/// Names in wide characters and in none that show stay within their places.
#[test]
fn names_do_not_break_the_screen() {
    let dir = tempfile::tempdir().unwrap();
    let file = |name: &str, text: &str| fs::write(dir.path().join(name), text).unwrap();
    file(
        "bastide.toml",
        "name = \"美術館\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"p.csv\"\n[[catalog]]\nfile = \"c.csv\"\n",
    );
    file("p.bastide", "kind room\naction read\nrule all { who anyone may read what room }\n");
    file("p.csv", "id,name\n漢字漢字漢字漢字漢字,\"<b>名前</b>\"\nb,אוסף\n");
    file("c.csv", "id,parent,kind,name\nr,,room,展示室の非常に長い名前と部屋の番号そして階\ns,,room,\"a,b\"\n");
    let screen = played(dir.path(), "p\n", "60x16");
    let width = |line: &str| {
        let cells = line.chars().map(|c| if ('\u{2e80}'..='\u{ffef}').contains(&c) { 2 } else { 1 });
        cells.sum::<usize>()
    };
    assert!(screen.iter().all(|line| width(line) <= 60), "{screen:#?}");
    assert!(screen.join("\n").contains("展示室"), "{screen:#?}");
}

/// What stands on a screen of so many rows and columns. What came before it was cleared is of no matter.
fn on_screen(terminal: &Terminal, rows: u16, columns: u16) -> String {
    let all = terminal.shown();
    let from = ["\u{1b}[2J", "\u{1b}[?1049h"].iter().filter_map(|mark| all.rfind(mark)).max().unwrap_or(0);
    let mut parser = vt100::Parser::new(rows.try_into().unwrap(), columns.try_into().unwrap(), 0);
    parser.process(&all.as_bytes()[from..]);
    parser.screen().contents()
}

/// Waits until something stands on the screen.
#[track_caller]
fn waits(terminal: &Terminal, (rows, columns): (u16, u16), text: &str) {
    let begun = std::time::Instant::now();
    while !on_screen(terminal, rows, columns).contains(text) {
        let screen = on_screen(terminal, rows, columns);
        let all = terminal.shown();
        let tail: String = all.chars().rev().take(400).collect::<Vec<_>>().into_iter().rev().collect();
        assert!(begun.elapsed() < std::time::Duration::from_secs(30), "no `{text}` on the screen:\n{screen}\n{tail:?}");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}

/// The size of the screen, at first.
const SIZE: (u16, u16) = (30, 120);

/// A terminal with the view in it: what tells its process, and its terminal.
fn started(dir: &Path) -> (Terminal, u32, String) {
    let line = "tty; stty rows 30 cols 120; sh -c 'echo PID $$; exec bastide -q explore --on 2026-11-24'; echo LEFT $?; stty -a";
    let mut terminal = on_terminal(dir, line, &[("TERM", "xterm")]);
    waits(&terminal, SIZE, "Collections");
    let all = terminal.shown();
    let after =
        |mark: &str, from: &str| from.split(mark).nth(1).unwrap().split_whitespace().next().unwrap().to_string();
    let id = after("PID ", &all).parse().unwrap();
    let tty = all.split_whitespace().next().unwrap().to_string();
    terminal.shows("\u{1b}[?1049h");
    (terminal, id, tty)
}

fn signal(id: u32, name: &str) {
    assert!(Command::new("kill").args(["-s", name, &id.to_string()]).status().unwrap().success());
}

/// The terminal is as it was: it shows what is typed, line by line, and the full screen is left.
fn is_as_it_was(mut terminal: Terminal, status: &str) {
    terminal.shows("\u{1b}[?1049l");
    terminal.shows(&format!("LEFT {status}"));
    terminal.shows(" icanon");
    terminal.shows(" echo ");
    drop(terminal);
}

#[test]
fn the_terminal_is_as_it_was_however_it_ends() {
    let dir = demo();
    // In order; with Ctrl-c; by a request to end; by a hang-up; by a fault inside.
    type End = fn(&mut Terminal, u32);
    let ways: [(&str, End, &str); 5] = [
        ("q", |terminal, _| terminal.keys("q"), "0"),
        ("Ctrl-c", |terminal, _| terminal.keys("\u{3}"), "0"),
        ("TERM", |_, id| signal(id, "TERM"), "143"),
        ("HUP", |_, id| signal(id, "HUP"), "129"),
        ("a fault", |terminal, _| terminal.keys("\u{1b}[24~"), "70"),
    ];
    for (_, end, status) in ways {
        let (mut terminal, id, _) = started(dir.path());
        end(&mut terminal, id);
        is_as_it_was(terminal, status);
    }
}

#[test]
fn windows_change_their_size_and_are_put_aside() {
    let dir = demo();
    let (mut terminal, id, tty) = started(dir.path());
    let resize = |(rows, columns): (u16, u16)| {
        let size = [rows.to_string(), columns.to_string()];
        let stty = Command::new("stty").args(["-F", &tty, "rows", &size[0], "cols", &size[1]]).status().unwrap();
        assert!(stty.success());
    };
    // On every screen: the table, a list, the keys.
    for (keys, shown) in [
        ("", "Collections"),
        ("?", "explain the next action"),
        (" ", "Governance"),
        ("s", "switch a rule"),
        ("\u{1b}", "Collections"),
        ("e", "a rule, as in"),
        ("\u{1b}", "Collections"),
    ] {
        terminal.keys(keys);
        waits(&terminal, SIZE, shown);
        for (size, shown) in
            [((9, 30), "the window is too small"), ((24, 80), shown), ((50, 200), shown), (SIZE, shown)]
        {
            resize(size);
            waits(&terminal, size, shown);
        }
    }
    // Put aside, the terminal is the shell's; taken up again, the screen is there.
    terminal.keys("\u{1a}");
    terminal.shows("\u{1b}[?1049l");
    let state = || {
        let status = fs::read_to_string(format!("/proc/{id}/status")).unwrap();
        status.lines().find(|line| line.starts_with("State:")).unwrap().to_string()
    };
    let begun = std::time::Instant::now();
    while !state().contains("stopped") {
        assert!(begun.elapsed() < std::time::Duration::from_secs(30), "{}", state());
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    signal(id, "CONT");
    terminal.shows("\u{1b}[?1049h");
    waits(&terminal, SIZE, "Collections");
    terminal.keys("q");
    is_as_it_was(terminal, "0");
}

/// The mouse goes to a cell, opens a place, and the wheel goes down.
#[test]
fn the_mouse_is_welcome() {
    let dir = demo();
    let (mut terminal, ..) = started(dir.path());
    // A column that is not known yet is nowhere to go.
    waits(&terminal, SIZE, "alban.co");
    // Rows and columns of the screen count from 1; the first place stands in the third row.
    terminal.keys("\u{1b}[<0;62;5M\u{1b}[<0;62;5m");
    waits(&terminal, SIZE, "read  Exhibitions ");
    terminal.keys("\u{1b}[<0;3;5M\u{1b}[<0;3;5m");
    waits(&terminal, SIZE, "Harbour Lights 2024");
    terminal.keys("\u{1b}[<65;10;10M");
    waits(&terminal, SIZE, "read  Exhibitions/Tour planning ");
    terminal.keys("q");
    is_as_it_was(terminal, "0");
}

/// Two windows on the same files: what the one saved is still there when the other has saved.
#[test]
fn two_windows_lose_nothing() {
    let dir = demo();
    let (mut terminal, ..) = started(dir.path());
    terminal.keys("/bruno\r");
    waits(&terminal, SIZE, "Bruno Tavares (bruno.tavares)");
    terminal.keys("gdirectors\r");
    waits(&terminal, SIZE, "1 change, not saved");
    // Meanwhile somebody else saves another change of the same file.
    run_in(dir.path(), &["-q", "try", "--join", "carys.penhale:directors", "--write", "--far", "--on", "2026-11-24"])
        .ok();
    terminal.keys("W");
    waits(&terminal, SIZE, "\nsaved");
    terminal.keys("q");
    is_as_it_was(terminal, "0");
    let groups = fs::read_to_string(dir.path().join("data/groups.csv")).unwrap();
    for member in ["bruno.tavares", "carys.penhale"] {
        assert!(groups.contains(&format!("directors,{member}")), "{groups}");
    }
}
