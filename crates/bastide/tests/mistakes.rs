//! Every mistake in `tests/mistakes/*.txt` is told clearly at its place, and with any error nothing
//! is evaluated.

mod common;

use bastide_testkit::{Case, texts};

#[test]
fn every_mistake_is_told_and_nothing_is_evaluated() {
    let mut codes = std::collections::BTreeSet::new();
    for (name, _, text) in texts(&common::mistakes(), ".txt") {
        let dir = Case::parse(&text, &common::mistakes()).lay_out();
        let check = common::run_in(dir.path(), &["check", "--on", "2026-11-24"]);
        let about: String = text.lines().take_while(|l| !l.starts_with("===")).map(|l| format!("{l}\n")).collect();
        insta::with_settings!({ description => about.trim(), omit_expression => true }, {
            insta::assert_snapshot!(format!("mistake_{name}"), check.whole());
        });
        for line in check.out.lines() {
            let code = line.split_once('[').filter(|(head, _)| matches!(*head, "error" | "warning"));
            codes.extend(code.and_then(|(_, rest)| rest.split_once(']')).map(|(code, _)| code.to_string()));
        }
        assert!(!check.err.contains("fault of Bastide"), "{name}: {}", check.err);
        if check.out.contains("error[") {
            assert_eq!(check.status, 3, "{name}");
            let asked: [&[&str]; 4] = [
                &["matrix", "--on", "2026-11-24"],
                &["matrix", "--all", "--reasons", "--format", "csv", "--on", "2026-11-24"],
                &["what", "ann", "--on", "2026-11-24"],
                &["why", "ann", "read", "a-1", "--on", "2026-11-24"],
            ];
            for command in asked {
                let asked = common::run_in(dir.path(), command);
                assert_eq!((asked.status, asked.out.as_str()), (3, ""), "{name}: {command:?}\n{}", asked.err);
                assert!(asked.err.contains("error["), "{name}: {}", asked.err);
            }
        } else {
            assert_eq!(check.status, 0, "{name}");
        }
    }
    let missing = bastide_syntax::codes::ALL.iter().map(|c| c.name).filter(|c| !codes.contains(*c));
    // A line of 16 MiB is no text to keep; see `limits`.
    let missing: Vec<&str> = missing.filter(|c| *c != "line-too-long").collect();
    assert!(missing.is_empty(), "no case shows {missing:?}");
}

/// Input that is too much of something is refused at its place, and nothing overflows.
#[test]
fn limits() {
    let base = "=== use base.estate\n";
    let deep = |levels: usize| {
        let mut rows = String::from("id,parent,kind,name\nr-0,,room,R\n");
        (1..levels).for_each(|i| rows.push_str(&format!("r-{i},r-{},nest,N{i}\n", i - 1)));
        format!("{base}=== policy/case.bastide\nkind nest in room, nest\n=== data/catalog.csv\n{rows}")
    };
    let whole = common::case(&deep(1000));
    let read = common::run_in(whole.path(), &["why", "ann", "read", "r-999", "--exit-code"]);
    assert_eq!(read.status, 0, "{}", read.err);
    let summary = common::run_in(whole.path(), &["matrix", "--summary", "--format", "json"]).ok();
    assert!(summary.contains("\"read\": 2000"), "{summary}");
    let too_deep = common::run_in(common::case(&deep(1001)).path(), &["check"]);
    assert_eq!(too_deep.status, 3);
    assert!(
        too_deep.out.contains("error[too-deep]: resource `r-1000` lies deeper than 1000 levels"),
        "{}",
        too_deep.out
    );
    let long = format!("{base}=== data/groups.csv\ngroup,member\nstaff,{}\nstaff,ann\n", "x".repeat(17 << 20));
    let long = common::run_in(common::case(&long).path(), &["check"]);
    assert_eq!(long.status, 3);
    assert!(long.out.contains("error[line-too-long]") && long.out.contains("data/groups.csv:2:1"), "{}", long.out);
    assert!(long.out.len() < 2000, "a long line is not printed whole");
}
