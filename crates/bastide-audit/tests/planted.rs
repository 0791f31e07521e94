//! The mistakes that were put into the demo on purpose are found, each at its place.

use bastide_audit::{Case, Finding, Level, Limits, audit};
use bastide_model::{Moment, Origin};

/// Number in the notes, finding, and what its place, its message or its evidence holds.
const PLANTED: &[(u8, &str, &str)] = &[
    (1, "temporary-for-ever", "support-looks-into-tickets"),
    (
        2,
        "full-power",
        "image-import (service), by rule `platform-team-keeps-the-platform` as image-desk > platform-helpers",
    ),
    (3, "label-exposure", "values-for-those-who-need-them"),
    (4, "overlap", "`data/entries.csv:43` lies wholly inside"),
    (5, "overlap", "`data/entries.csv:42` lies wholly inside"),
    (6, "open-to-anyone", "released-press-is-for-everybody"),
    (7, "pointless-narrowing", "data/entries.csv:60"),
    (8, "pointless-narrowing", "data/entries.csv:63"),
    (8, "person-by-person", "casper.vane, imani.okello, teodor.balan"),
    (9, "source-leak", "TL-004 at a glance"),
    (10, "duty-clash", "vesna.babic"),
    (11, "guest-power", "lets guests approve"),
    (12, "two-doors", "shuts export and leaves query open"),
    (13, "undecided", "resource.due_back"),
    (14, "undecided", "user.house"),
    (15, "cut-off", "`security-reads-alarm-plans` stops at `Facilities/Island House/Alarm`"),
    (16, "shadowed", "data/entries.csv:78"),
    (17, "deny-without-need", "lenders-lose-sight-after-return"),
    (18, "unknown-name", "ruth.calder"),
    (19, "unknown-name", "interns"),
    (20, "unknown-name", "f-old-labels"),
    (21, "group-cycle", "loan-desk, registrars-deputies"),
    (22, "empty-group", "summer-interns"),
    (23, "inactive-member", "aoife.tierney"),
    (23, "ownerless", "wilma.kessel"),
    (24, "ended", "data/entries.csv:71"),
    (25, "active-leaver", "`ulla.szabo` is active, and title says \"Suspended: left the partner in spring\""),
    (25, "active-leaver", "folake.mbeki-rowe"),
];

fn findings() -> Vec<Finding> {
    let loaded = bastide_testkit::demo();
    let estate = loaded.estate.as_ref().expect("the demo has no errors");
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let lines = loaded
        .diagnostics
        .iter()
        .map(|d| d.place.map(|p| Origin { file: p.file, line: loaded.sources.position(p).line }));
    let case = Case {
        estate,
        moment: &moment,
        harmless: loaded.audit.harmless.clone(),
        limits: Limits::default(),
        levels: vec![("no-reason".to_string(), Level::None)],
        diagnostics: &loaded.diagnostics,
        lines: lines.collect(),
        used: None,
    };
    audit(&case, &|_| true, &|_| {}).expect("no circles")
}

#[test]
fn every_planted_mistake_is_found() {
    let found = findings();
    for (number, name, holds) in PLANTED {
        let fits = |f: &&Finding| {
            let texts = [&f.message, &f.about].into_iter().chain(f.place.as_ref()).chain(&f.evidence);
            f.name == *name && texts.into_iter().any(|t| t.contains(holds))
        };
        assert!(found.iter().find(fits).is_some(), "number {number}: no `{name}` with {holds:?}");
    }
    // What claims to change nothing changes nothing, and what is switched to `none` is gone.
    for f in &found {
        if let Some(s) = f.suggestion.as_ref().filter(|s| s.words.contains("changes nothing today")) {
            assert_eq!(s.radius.map(|r| r.triples()), Some(0), "{}: {}", f.name, f.message);
        }
        assert_ne!(f.name, "no-reason");
    }
    let mut prints: Vec<&str> = found.iter().map(|f| f.fingerprint.as_str()).collect();
    let all = prints.len();
    prints.sort_unstable();
    prints.dedup();
    assert_eq!(prints.len(), all, "a fingerprint stands for one finding");
}
