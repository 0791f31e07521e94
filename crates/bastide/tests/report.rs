//! The page that is handed over, the pictures, and the graph: their contents, checked without a browser.

mod common;

use common::{bad_names_estate, case, demo, run_in};
use html5ever::driver::ParseOpts;
use html5ever::tendril::TendrilSink;
use serde_json::Value;
use std::path::Path;

const ON: [&str; 2] = ["--on", "2026-11-24"];

fn page(dir: &Path, more: &[&str]) -> String {
    run_in(dir, &[&["report"][..], &ON, more].concat()).ok()
}

/// What a browser would complain about.
fn mistakes(page: &str) -> Vec<String> {
    let parsed = html5ever::parse_document(markup5ever_rcdom::RcDom::default(), ParseOpts::default()).one(page);
    parsed.errors.borrow().iter().map(ToString::to_string).collect()
}

/// The block of JSON the script reads.
fn data(page: &str) -> Value {
    let start = page.find("id=\"data\">").expect("there is a block of data") + 10;
    let end = page[start..].find("</script>").unwrap() + start;
    serde_json::from_str(&page[start..end]).expect("it is JSON")
}

#[test]
fn the_page_is_valid_and_asks_nothing_of_any_network() {
    for dir in [demo(), bad_names_estate()] {
        let page = page(dir.path(), &[]);
        assert_eq!(mistakes(&page), Vec::<String>::new());
        assert!(!mistakes(&page.replacen("</h1>", "</h1></h2>", 1)).is_empty(), "a mistake is noticed");
        for word in ["src=\"http", "href=\"http", "@import", "url(", "fetch(", "XMLHttpRequest"] {
            assert!(!page.contains(word), "{word}");
        }
        assert!(page.contains("default-src 'none'"));
        let ids: Vec<&str> =
            page.match_indices(" id=\"").map(|(at, _)| page[at + 5..].split('"').next().unwrap()).collect();
        let mut once = ids.clone();
        once.sort();
        once.dedup();
        assert_eq!(once.len(), ids.len(), "every id is there once");
    }
}

#[test]
fn names_from_data_stay_text() {
    let dir = bad_names_estate();
    let page = page(dir.path(), &[]);
    let scripts = page.matches("<script").count();
    assert_eq!(scripts, 2, "the data and the page's own script");
    assert!(!page.contains("<img") && !page.contains("<b>Bad"));
    assert!(!page.contains('\u{202e}') && !page.contains('\u{1b}'));
    assert!(page.contains("&lt;script&gt;"));
    let data = data(&page);
    let people = data["folded"]["people"].as_array().unwrap();
    assert_eq!(people.len(), common::bad_names().len());
    assert!(people.iter().any(|p| p["name"] == "<script>window.hit=1</script>"));
    assert!(page.contains("u{202e}gnp.exe"), "what turns text is made visible");
}

/// The lines of the table, taken apart again, are the triples that are allowed.
#[test]
fn the_table_says_what_everybody_may() {
    let dir = demo();
    let data = data(&page(dir.path(), &["--depth", "20"]));
    let folded = &data["folded"];
    let summary = run_in(dir.path(), &[&["matrix", "--summary", "--format", "json"][..], &ON].concat()).ok();
    let summary: Value = serde_json::from_str(&summary).unwrap();
    let allowed: u64 = summary["allowed"].as_object().unwrap().values().map(|n| n.as_u64().unwrap()).sum();
    let told = |line: &Value| ["granted", "assured"].contains(&line["r"].as_str().unwrap());
    let lines: Vec<&Value> = folded["lines"].as_array().unwrap().iter().filter(|l| told(l)).collect();
    let counted: u64 = lines
        .iter()
        .filter(|line| line["o"].is_null())
        .map(|line| {
            let size = folded["sets"][line["s"].as_u64().unwrap() as usize][1].as_u64().unwrap();
            size * line["n"].as_u64().unwrap() * line["a"].as_array().unwrap().len() as u64
        })
        .sum();
    // Owners' own lines say what is otherwise for them; by those alone the two may differ.
    let owners: u64 = lines
        .iter()
        .filter(|line| !line["o"].is_null())
        .map(|line| line["n"].as_u64().unwrap() * line["a"].as_array().unwrap().len() as u64)
        .sum();
    assert!(owners > 0);
    assert!(counted <= allowed && allowed <= counted + owners, "{counted} {allowed} {owners}");
}

#[test]
fn each_line_names_a_decision_that_why_confirms() {
    let dir = demo();
    let data = data(&page(dir.path(), &[]));
    let folded = &data["folded"];
    let lines = folded["lines"].as_array().unwrap();
    for line in lines.iter().step_by(lines.len() / 25) {
        let person = &folded["people"][line["e"][0].as_u64().unwrap() as usize]["id"];
        let action = &folded["actions"][line["a"][0].as_u64().unwrap() as usize];
        let place = line["e"][1].as_str().unwrap();
        let (person, action) = (person.as_str().unwrap(), action.as_str().unwrap());
        let why = [&["why", person, action, place, "--format", "json", "--remedies", "0"][..], &ON].concat();
        let answer: Value = serde_json::from_str(&run_in(dir.path(), &why).ok()).unwrap();
        assert_eq!(answer["reason"], line["r"], "{person} {action} {place}");
    }
}

#[test]
fn it_tells_what_changed_and_who_has_power() {
    let dir = demo();
    let old = demo();
    let entries = old.path().join("data/entries.csv");
    let text = std::fs::read_to_string(&entries).unwrap();
    let without: Vec<&str> = text.lines().filter(|l| !l.starts_with("group:insurers,may,approve")).collect();
    assert!(without.len() < text.lines().count());
    std::fs::write(&entries, without.join("\n")).unwrap();
    let page = page(dir.path(), &["--since", old.path().to_str().unwrap()]);
    assert_eq!(mistakes(&page), Vec::<String>::new());
    assert!(page.contains("8 users on 28 resources: 224 gained"));
    assert!(page.contains("platform-helpers</bdi> <span class=\"dim\">›</span> <bdi>platform-admins"));
}

#[test]
fn an_estate_with_nothing_in_it_still_gives_a_page() {
    let dir = case(
        "=== bastide.toml\nname = \"Empty\"\npolicy = [\"policy.bastide\"]\n=== policy.bastide\nkind stream\naction read\n",
    );
    let page = page(dir.path(), &[]);
    assert_eq!(mistakes(&page), Vec::<String>::new());
    assert!(page.contains("The audit found nothing.") && page.contains("Nobody may do everything"));
}

#[test]
fn an_estate_with_errors_gives_no_page_and_leaves_the_old_one() {
    let dir = case(
        "=== bastide.toml\nname = \"Wrong\"\npolicy = [\"policy.bastide\"]\n=== policy.bastide\nkind stream\naction read\nrule r { who anyone may raed what stream }\n",
    );
    std::fs::write(dir.path().join("report.html"), "old").unwrap();
    let run = run_in(dir.path(), &["report", "-o", "report.html"]);
    assert_eq!(run.status, 3);
    assert_eq!(std::fs::read_to_string(dir.path().join("report.html")).unwrap(), "old");
}

#[test]
fn pictures_say_what_the_answers_say() {
    let dir = demo();
    let texts = |args: &[&str]| -> Vec<String> {
        let svg = run_in(dir.path(), &[args, &ON].concat()).ok();
        let document = roxmltree::Document::parse(&svg).expect("well-formed");
        let texts = document.descendants().filter(|n| n.has_tag_name("text"));
        texts.map(|n| n.text().unwrap_or_default().trim().to_string()).collect()
    };
    let heat = texts(&["matrix", "--format", "svg"]);
    assert!(heat.iter().any(|t| t == "harmless only (read, comment)"));
    assert!(heat.iter().any(|t| t.starts_with("5 users: dunja.peric")), "{heat:?}");
    let reach = texts(&["reach", "lenders-follow-their-loans", "--format", "svg"]);
    assert!(reach.iter().any(|t| t == "members of lenders") && reach.iter().any(|t| t == "144 pairs"), "{reach:?}");
    let graph =
        texts(&["why", "bjrn.thackeray", "read", "Exhibitions/Tidal Light/Valuations/TL-020", "--format", "svg"]);
    for name in ["Bjørn Thackeray", "longshore", "valuation-readers", "decides", "TL-020"] {
        assert!(graph.iter().any(|t| t == name), "{name}: {graph:?}");
    }
    let file = dir.path().join("heat.png");
    for args in [
        &["matrix", "--format", "png", "-o", "heat.png"][..],
        &["reach", "registrars-approve", "--format", "png", "-o", "heat.png"],
        &["why", "bruno.tavares", "read", "Press", "--format", "png", "-o", "heat.png"],
    ] {
        run_in(dir.path(), &[args, &ON].concat()).ok();
        let decoder = png::Decoder::new(std::io::BufReader::new(std::fs::File::open(&file).unwrap()));
        let mut reader = decoder.read_info().expect("a picture");
        let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
        let info = reader.next_frame(&mut pixels).expect("a whole picture");
        assert!(info.width >= 1280 && info.height >= 300, "{info:?}");
        let colors: std::collections::HashSet<&[u8]> = pixels.chunks(3).collect();
        assert!(colors.len() > 8, "something is drawn");
    }
}
