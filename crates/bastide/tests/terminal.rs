//! What only happens on a terminal: colours, and questions.

mod common;

use common::{demo, on_terminal};

const ASKED: &str = "bastide -q why ines.varga read Press";

#[test]
fn colour_where_the_terminal_can_show_it() {
    let demo = demo();
    for (variables, coloured) in [
        (&[("TERM", "xterm-256color")][..], true),
        (&[("TERM", "dumb")], false),
        (&[("TERM", "xterm-256color"), ("NO_COLOR", "1")], false),
        (&[("TERM", "xterm-256color"), ("CLICOLOR", "0")], false),
        (&[("TERM", "dumb"), ("CLICOLOR_FORCE", "1")], true),
    ] {
        let (shown, _) = on_terminal(demo.path(), ASKED, variables).ended();
        assert!(shown.contains("can read `Press`"), "{shown}");
        assert_eq!(shown.contains('\u{1b}'), coloured, "{variables:?}: {shown}");
    }
}

/// A unique beginning is taken on a terminal, which says what it was taken for; never where a script asks.
#[test]
fn a_beginning_is_taken_from_a_hand_alone() {
    let demo = demo();
    let (shown, well) = on_terminal(demo.path(), "bastide -q why ines.v read Governance/Pol", &[]).ended();
    assert!(well && shown.contains("Ines Varga (ines.varga) can read `Governance/Policies`"), "{shown}");
    assert!(shown.contains("`ines.v` is taken for `ines.varga`"), "{shown}");
    assert!(shown.contains("`Governance/Pol` is taken for `Governance/Policies`"), "{shown}");
    for line in [
        "bastide -q why ines.v read Press --exit-code",
        "bastide -q what ines.v --format json",
        "bastide -q who read Governance/Pol --format csv",
        "bastide -q try --leave ines.v:board",
        "bastide -q try --set user:ines.v.kind=guest",
        "bastide -q what bj",
    ] {
        let (shown, well) = on_terminal(demo.path(), line, &[]).ended();
        assert!(!well && shown.contains("error: "), "{line}: {shown}");
    }
}

/// What reaches far is written once somebody says yes, and not otherwise.
#[test]
fn what_reaches_far_is_asked_about() {
    let demo = demo();
    let file = demo.path().join("policy/staff.bastide");
    let before = std::fs::read_to_string(&file).unwrap();
    let line = "bastide -q try --off staff-read-what-is-internal --write --anyway";
    for (answer, written) in [("no", false), ("", false), ("y", false), ("yes", true)] {
        let mut terminal = on_terminal(demo.path(), line, &[]);
        terminal.shows("this reaches far");
        terminal.shows("write it? yes or no");
        terminal.keys(&format!("{answer}\r"));
        let (shown, _) = terminal.ended();
        assert_eq!(std::fs::read_to_string(&file).unwrap() != before, written, "{answer}: {shown}");
        assert_eq!(shown.contains("nothing is written"), !written, "{answer}: {shown}");
    }
}
