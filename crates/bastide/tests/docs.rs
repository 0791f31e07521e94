//! The documentation keeps what it promises: examples load, and every code is described.

mod common;

use bastide_testkit::Case;
use common::run_in;
use std::path::{Path, PathBuf};

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

/// The fenced blocks of a language in a page.
fn blocks(page: &str, language: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut inside: Option<String> = None;
    for line in page.lines() {
        match &mut inside {
            Some(_) if line == "```" => found.extend(inside.take()),
            Some(block) => block.push_str(&format!("{line}\n")),
            None if line == format!("```{language}") => inside = Some(String::new()),
            None => {}
        }
    }
    found
}

const ESTATE: &str = "\
=== bastide.toml
name = \"Reference\"
policy = [\"policy/*.bastide\"]
[[people]]
file = \"people.csv\"
[[groups]]
file = \"groups.csv\"
[[catalog]]
file = \"catalog.csv\"
=== people.csv
id,name,site,clearance,team,badge,trained
ines.varga,Ines Varga,harbour,sealed,Loans office,7,yes
tomas.lindqvist,Tomas Lindqvist,,,couriers,,
=== groups.csv
group,member
registrars,ines.varga
lenders,tomas.lindqvist
directors,
=== catalog.csv
id,parent,kind,name,owner,state,label,site,lenders,due_back,weight
s-1,,stream,Exhibitions,,,,,,,
w-1,s-1,workspace,Tidal Light,,,internal,harbour,,,
f-1,w-1,folder,Transport,ines.varga,,,,,,
f-2,w-1,folder,Valuations,,,restricted,,,,
r-1,f-1,report,Crate 1,tomas.lindqvist,released,,,couriers,2027-01-01,2.6
s-2,,stream,Conservation,,,,,,,
w-2,s-2,workspace,Lab,,,,,,,
d-1,w-2,dataset,Climate,,draft,,,,,
s-3,,stream,Facilities,,,,,,,
w-plans,s-3,workspace,Plans,,,,,,,
";

#[test]
fn the_examples_of_the_reference_are_one_policy() {
    let page = std::fs::read_to_string(docs().join("language.md")).unwrap();
    let policy = blocks(&page, "bastide").join("\n");
    assert!(policy.lines().count() > 100);
    let mut case = Case::parse(ESTATE, Path::new("."));
    case.set("policy/reference.bastide", policy.clone());
    let dir = case.lay_out();
    let check = run_in(dir.path(), &["check", "--on", "2026-11-24"]);
    assert_eq!(check.status, 0, "{}", check.out);
    for code in ["stale-place", "unknown-subject", "never-applies", "no-effect"] {
        assert!(!check.out.contains(code), "{}", check.out);
    }
    // The reference shows the canonical layout.
    let fmt = run_in(dir.path(), &["fmt", "--check"]);
    assert_eq!(fmt.status, 0, "{}\n{}", fmt.out, {
        run_in(dir.path(), &["fmt"]);
        std::fs::read_to_string(dir.path().join("policy/reference.bastide")).unwrap()
    });
    // Every reserved word and every keyword of the grammar occurs in an example.
    for word in
        bastide_syntax::quote::RESERVED.iter().chain(["parent", "source", "layer", "locked", "highest", "below"].iter())
    {
        let shown = policy.contains(word) || *word == "layer" || *word == "self";
        assert!(shown, "no example shows `{word}`");
    }
}

#[test]
fn the_manifest_of_the_page_is_one() {
    let page = std::fs::read_to_string(docs().join("estate-files.md")).unwrap();
    let manifest = &blocks(&page, "toml")[0];
    let mut out = Vec::new();
    bastide_formats::manifest::read(bastide_syntax::FileId(0), manifest, &mut out);
    assert!(out.is_empty(), "{out:?}");
}

#[test]
fn every_code_is_described() {
    let page = std::fs::read_to_string(docs().join("diagnostics.md")).unwrap();
    let described: Vec<&str> = page.lines().filter_map(|l| l.strip_prefix("## ")).collect();
    let codes: Vec<&str> = bastide_syntax::codes::ALL.iter().map(|c| c.name).collect();
    assert_eq!(described, codes);
    for code in bastide_syntax::codes::ALL {
        assert!(page.contains(&format!(": {}.\n", code.about)), "{}", code.name);
    }
}

/// Every command the program has is in the list, and the other way round.
#[test]
fn every_command_is_listed() {
    let page = std::fs::read_to_string(docs().join("commands.md")).unwrap();
    let help = run_in(Path::new("."), &["--help"]).ok();
    let commands = help.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.is_empty());
    let commands: Vec<&str> =
        commands.filter(|l| !l.starts_with("    ")).filter_map(|l| l.split_whitespace().next()).collect();
    assert!(commands.len() > 8);
    for command in commands.iter().filter(|c| **c != "help") {
        assert!(page.contains(&format!("| `bastide {command}")), "{command}");
    }
}

/// Links between pages, and to pictures, lead somewhere.
#[test]
fn links_lead_somewhere() {
    let root = docs().join("..");
    let mut pages = vec![root.join("README.md"), root.join("ARCHITECTURE.md")];
    pages.extend(
        std::fs::read_dir(docs())
            .unwrap()
            .map(|e| e.unwrap().path())
            .filter(|p| p.extension().is_some_and(|e| e == "md")),
    );
    for page in pages {
        let text = std::fs::read_to_string(&page).unwrap();
        for (at, _) in text.match_indices("](") {
            let target = text[at + 2..].split(')').next().unwrap();
            if !target.contains("://") && !target.starts_with('#') {
                let path = page.parent().unwrap().join(target.split('#').next().unwrap());
                assert!(path.exists(), "{}: {target}", page.display());
            }
        }
    }
}
