//! The report in a real browser. Ignored by default, because it needs Chromium: `tests/browser.sh` sees to
//! that and runs it.

#[path = "common/browser.rs"]
mod browser;
mod common;

use browser::Page;
use common::{bad_names_estate, demo, run_in};
use serde_json::json;
use std::path::Path;

fn report(dir: &Path) -> std::path::PathBuf {
    run_in(dir, &["report", "--on", "2026-11-24", "-o", "report.html"]).ok();
    dir.join("report.html")
}

const ROWS: &str = "document.querySelectorAll('#lines tbody tr').length";
const FIRST: &str = "document.querySelector('#lines tbody tr').innerText";

fn number(text: &str) -> u64 {
    text.chars()
        .skip_while(|c| !c.is_ascii_digit())
        .take_while(char::is_ascii_digit)
        .collect::<String>()
        .parse()
        .unwrap_or(0)
}

#[test]
#[ignore = "needs Chromium: tests/browser.sh"]
fn search_sort_and_open() {
    let dir = demo();
    let mut page = Page::open(&report(dir.path()), (1280, 800));
    assert_eq!(page.value(ROWS), json!(100));
    // A search by name finds lines whose set of people holds that person.
    page.value("document.getElementById('q').focus()");
    page.type_text("ulla.fairweather valuations");
    page.wait(&format!("{ROWS} < 100 && {ROWS} > 0"));
    let rows =
        page.value("[...document.querySelectorAll('#lines tbody tr')].every(r => r.innerText.includes('Valuations'))");
    assert_eq!(rows, json!(true));
    page.value("document.querySelector('#lines button.open').focus()");
    page.press("Enter");
    page.wait("document.querySelector('#lines tr.more') !== null");
    let opened = page.text("document.querySelector('#lines tr.more').innerText");
    assert!(opened.contains("values-for-those-who-need-them") && opened.contains("ulla.fairweather"), "{opened}");
    assert!(opened.contains("bastide why"), "{opened}");
    page.press("Enter");
    page.wait("document.querySelector('#lines tr.more') === null");
    // Sorting by who: the largest set first, then the smallest.
    page.value("document.getElementById('clear').click()");
    page.wait(&format!("{ROWS} === 100"));
    page.value("document.querySelector('[data-sort=who]').click()");
    let most = page.text(FIRST);
    assert!(most.contains("(108)"), "{most}");
    assert_eq!(page.text("document.querySelector('#lines th').getAttribute('aria-sort')"), "descending");
    page.value("document.querySelector('[data-sort=who]').click()");
    assert!(!page.text(FIRST).contains('('), "one person stands in no brackets");
    // Refusals come only when asked for.
    let told = page.text("document.getElementById('count').innerText");
    page.value("document.getElementById('refused').click()");
    let with = page.text("document.getElementById('count').innerText");
    assert!(number(with.split("of").nth(1).unwrap()) > number(told.split("of").nth(1).unwrap()), "{told} {with}");
    page.value("document.getElementById('more').click()");
    assert_eq!(page.value(ROWS), json!(200));
    // Another question on the map changes its numbers; a place in it leads to the table.
    let cell = "document.querySelector('#heat-table tbody td').innerText";
    let before = page.text("document.getElementById('heat-table').innerText");
    page.value(
        "{ const w = document.getElementById('heat-what'); w.value = '1'; w.dispatchEvent(new Event('change')); }",
    );
    assert_ne!(page.text("document.getElementById('heat-table').innerText"), before);
    assert!(!page.text(cell).is_empty());
    page.value("document.querySelectorAll('#heat-table button')[10].click()");
    assert!(page.text("document.getElementById('q').value").contains('/'));
    // A finding opens, also by a link to it.
    page.value("document.querySelector('details.finding summary').click()");
    assert_eq!(page.value("document.querySelector('details.finding').open"), json!(true));
    page.value("location.hash = '#finding-guest-power'");
    page.wait("document.getElementById('finding-guest-power').open");
    assert!(page.pdf() > 100_000);
    assert_eq!(page.complaints(), Vec::<String>::new());
}

#[test]
#[ignore = "needs Chromium: tests/browser.sh"]
fn the_keyboard_is_enough() {
    let dir = demo();
    let mut page = Page::open(&report(dir.path()), (1280, 800));
    page.press("Tab");
    assert_eq!(page.text("document.activeElement.className"), "skip", "the first stop leads past the menu");
    let mut seen = Vec::new();
    for _ in 0..400 {
        page.press("Tab");
        let at = page.text("document.activeElement.id || document.activeElement.tagName");
        seen.push(at);
        if seen.iter().any(|s| s == "q") && seen.iter().any(|s| s == "clear") {
            break;
        }
    }
    for wanted in ["A", "SUMMARY", "heat-what", "q", "person", "action", "harmful", "refused", "clear"] {
        assert!(seen.iter().any(|s| s == wanted), "{wanted} is never reached: {seen:?}");
    }
}

#[test]
#[ignore = "needs Chromium: tests/browser.sh"]
fn bad_names_do_nothing_and_break_nothing() {
    let dir = bad_names_estate();
    let file = report(dir.path());
    for size in [(1280, 800), (400, 800)] {
        let mut page = Page::open(&file, size);
        assert_eq!(page.value("window.hit === undefined"), json!(true), "a script among the names ran");
        assert_eq!(page.value("document.querySelectorAll('img').length"), json!(0));
        page.value("document.querySelectorAll('#lines button.open').forEach(b => b.click())");
        page.value("document.querySelectorAll('details').forEach(d => { d.open = true; })");
        let wide = page.value("document.documentElement.scrollWidth - document.documentElement.clientWidth");
        assert_eq!(wide, json!(0), "the page is wider than its window at {size:?}");
        page.value(
            "document.getElementById('q').value = '<script>'; document.getElementById('filters').requestSubmit()",
        );
        assert!(page.value(ROWS).as_u64().unwrap() > 0);
        assert_eq!(page.complaints(), Vec::<String>::new());
    }
}

#[test]
#[ignore = "needs Chromium: tests/browser.sh"]
fn at_the_width_of_a_telephone_nothing_is_cut_off() {
    let dir = demo();
    let mut page = Page::open(&report(dir.path()), (400, 800));
    let wide = page.value("document.documentElement.scrollWidth - document.documentElement.clientWidth");
    assert_eq!(wide, json!(0));
    assert_eq!(page.complaints(), Vec::<String>::new());
}

/// The checker of accessibility finds nothing, in a light and in a dark page, with everything opened.
#[test]
#[ignore = "needs Chromium and the checker: tests/browser.sh"]
fn the_checker_of_accessibility_finds_nothing() {
    let file = std::env::var("ACCESSIBILITY_CHECKER").expect("tests/browser.sh names the checker's file");
    let checker = std::fs::read_to_string(file).expect("the checker can be read");
    let demo = demo();
    let old = common::demo();
    std::fs::write(
        demo.path().join("policy/draft.bastide"),
        "rule draft {\n    who     members of couriers\n    may     comment\n    what    sheet\n}\n",
    )
    .unwrap();
    let since = old.path().to_str().unwrap();
    run_in(demo.path(), &["report", "--on", "2026-11-24", "--since", since, "-o", "report.html"]).ok();
    let bad = bad_names_estate();
    for file in [demo.path().join("report.html"), report(bad.path())] {
        for scheme in ["light", "dark"] {
            let mut page = Page::open(&file, (1280, 800));
            page.prefers("prefers-color-scheme", scheme);
            page.value("document.querySelectorAll('details').forEach(d => d.open = true)");
            page.value("document.querySelectorAll('#lines button.open').forEach((b, i) => i < 3 && b.click())");
            page.value(&format!("{checker}; 1"));
            page.value(
                "axe.run().then(r => window.checked = r, e => window.checked = { violations: [{ id: String(e), nodes: [] }], passes: [] }); 1",
            );
            page.wait("window.checked !== undefined");
            assert!(
                page.value("checked.passes.length").as_u64().unwrap() > 20,
                "the checker looked at next to nothing"
            );
            let told = page.text(
                "checked.violations.map(v => `${v.id}: ${v.help}\\n` + v.nodes.slice(0, 4).map(n => `    ${n.html.slice(0, 200)}\\n    ${n.failureSummary}`).join('\\n')).join('\\n')",
            );
            assert_eq!(told, "", "{scheme}, {}", file.display());
        }
    }
}
