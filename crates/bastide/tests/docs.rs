//! The documentation keeps what it promises: examples load, and every code is described.

mod common;

use bastide_testkit::Case;
use common::run_in;
use std::path::{Path, PathBuf};

/// The day the demo is made for.
const DAY: &str = "2026-11-24";

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

/// The scripts of the page on version control, run as they are written, in a checkout of the demo.
#[test]
fn the_scripts_for_version_control_do_what_they_say() {
    let page = std::fs::read_to_string(docs().join("version-control.md")).unwrap();
    let scripts = blocks(&page, "sh");
    let [hook, job] = scripts.as_slice() else { panic!("{} scripts", scripts.len()) };
    let demo = common::demo();
    let dir = demo.path();
    // What the demo says of its tests holds on its own day: whatever decides is asked about that one.
    let first = tempfile::tempdir().unwrap();
    let asked = first.path().join("bastide");
    let program = assert_cmd::cargo::cargo_bin("bastide");
    let program = program.display();
    let dated = format!(
        "#!/bin/sh\ncase \"$1\" in\n    check | fmt) exec '{program}' \"$@\" ;;\nesac\n\
         command=$1\nshift\nexec '{program}' \"$command\" --on {DAY} \"$@\"\n"
    );
    std::fs::write(&asked, dated).unwrap();
    #[cfg(unix)]
    std::fs::set_permissions(&asked, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let path = format!("{}:{}", first.path().display(), std::env::var("PATH").unwrap_or_default());
    let git = |args: &[&str]| {
        let mut command = std::process::Command::new("git");
        command.current_dir(dir).args(["-c", "user.name=Nadia Quayle", "-c", "user.email=nadia@fourtides.example"]);
        command.env("PATH", &path);
        let output = command.args(args).output().expect("git is there: the checkout it tests came by it");
        let text = [output.stdout, output.stderr].map(|b| String::from_utf8_lossy(&b).into_owned()).concat();
        (output.status.success(), text)
    };
    let run = |script: &Path| {
        let output = std::process::Command::new("sh").arg(script).current_dir(dir).env("PATH", &path).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    assert!(git(&["init", "-q"]).0);
    // The demo has two tests that fail on purpose; they are taken out, so that a commit can come to be.
    let proofs = dir.join("policy/proofs.bastide");
    let text = std::fs::read_to_string(&proofs).unwrap();
    let without = |text: &str, head: &str| {
        let at = text.find(head).unwrap();
        let end = text[at..].find("\n}\n").unwrap() + at + 4;
        format!("{}{}", &text[..at], text[end..].trim_start())
    };
    let text = without(&without(&text, "guarantee couriers-never"), "expect bruno-writes");
    std::fs::write(&proofs, text).unwrap();
    let hooks = dir.join(".git/hooks");
    std::fs::create_dir_all(&hooks).unwrap();
    let file = hooks.join("pre-commit");
    std::fs::write(&file, hook).unwrap();
    #[cfg(unix)]
    std::fs::set_permissions(&file, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    git(&["add", "-A"]);
    let (done, told) = git(&["commit", "-qm", "The estate as it is"]);
    assert!(done, "{told}");
    // A rule with a mistake is not committed, one that is right is.
    let draft = dir.join("policy/draft.bastide");
    std::fs::write(&draft, "rule draft {\n    who     members of couriers\n    may     raed\n    what    sheet\n}\n")
        .unwrap();
    git(&["add", "-A"]);
    let (done, told) = git(&["commit", "-qm", "A mistake"]);
    assert!(!done && told.contains("did you mean `read`?"), "{told}");
    std::fs::write(
        &draft,
        "rule draft {\n    who     members of couriers\n    may     comment\n    what    sheet\n}\n",
    )
    .unwrap();
    git(&["add", "-A"]);
    let (done, told) = git(&["commit", "-qm", "Couriers remark on sheets"]);
    assert!(done, "{told}");
    let job_file = dir.join("job.sh");
    std::fs::write(&job_file, job).unwrap();
    let (status, out) = run(&job_file);
    assert_eq!(status, Some(0), "{out}");
    assert!(out.contains("| new rule `draft` | 224 | 0 |"), "{out}");
    for file in ["check.sarif", "tests.xml", "access.md"] {
        assert!(dir.join(file).is_file(), "{file}");
    }
    std::fs::write(&draft, "guarantee nobody-comments { none of anyone can comment what sheet }\n").unwrap();
    run_in(dir, &["fmt"]).ok();
    let (status, _) = run(&job_file);
    assert_eq!(status, Some(1), "a test that fails stops the job");
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
    let mut out = bastide_syntax::Diagnostics::new();
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
