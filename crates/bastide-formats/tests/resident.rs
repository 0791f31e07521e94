//! An estate that is kept while its policy is written says what it would say if it was read anew.

use bastide_formats::write::Texts;
use bastide_formats::{load_as_of, resident};
use bastide_model::groups::{Computed, Groups};
use bastide_model::ids::Origin;
use bastide_syntax::tree::Declaration;
use bastide_syntax::{Diagnostic, FileId, parse};
use bastide_testkit::random::{Shape, plan};
use std::collections::BTreeMap;

fn told(diagnostics: &[Diagnostic], name: impl Fn(FileId) -> String) -> Vec<String> {
    let one = |d: &Diagnostic| {
        let place = d.place.map(|place| format!("{}:{}..{}", name(place.file), place.start, place.end));
        let helps: Vec<&str> = d.helps.iter().map(|help| help.text.as_str()).collect();
        format!("{place:?} {} {:?} {} {helps:?} {}", d.code.name, d.severity(), d.message, d.more)
    };
    let mut all: Vec<String> = diagnostics.iter().map(one).collect();
    all.sort();
    all
}

/// All of a value, but for where in memory its parts are.
fn shown(value: &(impl std::fmt::Debug + ?Sized)) -> String {
    let text = format!("{value:?}");
    let mut parts = text.split("data: 0x");
    let first = parts.next().unwrap_or_default().to_string();
    parts.fold(first, |all, part| all + part.trim_start_matches(|c: char| c.is_ascii_hexdigit()))
}

#[test]
fn edits_of_rules_give_what_reading_anew_gives() {
    let day = "2026-11-24".parse().unwrap();
    let (mut light, mut heavy, mut whole) = (0, 0, 0);
    for seed in 0..60 {
        let mut rng = fastrand::Rng::with_seed(seed);
        let dir = plan(seed, Shape::ALL).case().lay_out();
        let Ok(mut kept) = resident(dir.path(), &Texts::new(), day) else { panic!("it can be read") };
        let files: Vec<FileId> = kept.loaded.tables.policy.clone();
        let mut texts = Texts::new();
        for _ in 0..12 {
            let file = files[rng.usize(..files.len())];
            let path = kept.loaded.sources.name(file).to_string();
            let mut text = kept.loaded.sources.text(file).to_string();
            let tree = parse(file, &text).tree;
            let all: Vec<&Declaration> = tree.declarations.iter().collect();
            let Some(one) = all.get(rng.usize(..all.len().max(1))) else { continue };
            let range = one.span().range();
            match rng.u8(..8) {
                // A declaration goes, is said twice, is broken, or moves down a line.
                0 => text.replace_range(range, ""),
                1 => {
                    let copy = text[range.clone()].to_string();
                    text.insert_str(range.end, &format!("\n{copy}\n"));
                }
                2 | 3 => {
                    let mut cut = range.start + rng.usize(..range.len());
                    while !text.is_char_boundary(cut) {
                        cut -= 1;
                    }
                    text.replace_range(cut..range.end, "");
                }
                4 => text.insert_str(range.start, "# moved\n"),
                5 => text.push_str("\nrule added-by-the-test { who anyone may read what anything }\n"),
                6 => text = text.replace(" and ", " or "),
                _ => text = text.replacen("may not", "may", 1),
            }
            texts.insert(path.clone(), text.clone());
            if kept.write(&[(path, text)]) {
                light += 1;
            } else {
                heavy += 1;
                let Ok(anew) = resident(dir.path(), &texts, day) else { panic!("it can be read") };
                kept = anew;
            }
            let anew = load_as_of(dir.path(), &texts, day).unwrap();
            let names: BTreeMap<u32, String> =
                (0..anew.sources.len() as u32).map(|at| (at, anew.sources.name(FileId(at)).to_string())).collect();
            let expected = told(&anew.diagnostics, |file| names[&file.0].clone());
            let found = told(&kept.loaded.diagnostics, |file| kept.loaded.sources.name(file).to_string());
            assert_eq!(found, expected, "seed {seed}");
            assert_eq!(kept.loaded.estate.is_some(), anew.estate.is_some(), "seed {seed}");
            let Some((kept, anew)) = kept.loaded.estate.as_ref().zip(anew.estate.as_ref()) else { continue };
            whole += 1;
            assert_eq!(shown(kept.statements()), shown(anew.statements()), "seed {seed}");
            assert_eq!(shown(kept.schema()), shown(anew.schema()), "seed {seed}");
            assert_eq!(shown(&bodies(kept.groups())), shown(&bodies(anew.groups())), "seed {seed}");
            assert_eq!(declared(kept.groups()), declared(anew.groups()), "seed {seed}");
        }
    }
    assert!(light > 150 && heavy > 30 && whole > 60, "{light} light edits, {heavy} heavy ones, {whole} whole estates");
}

fn bodies(groups: &Groups) -> Vec<Option<&Computed>> {
    groups.all().map(|group| groups.computed(group)).collect()
}

fn declared(groups: &Groups) -> Vec<Option<Origin>> {
    groups.all().map(|group| groups.declared(group)).collect()
}
