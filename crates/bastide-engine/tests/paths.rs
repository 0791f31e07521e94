//! Paths of resources with odd names: written out, read back, matched with `*`, and asked for on the command line.

use bastide_engine::find;
use bastide_model::catalog::PathPattern;
use bastide_model::{Estate, ResourceId};
use bastide_testkit::Case;
use std::path::Path;

const ROWS: &str = r#"id,parent,kind,name
a,,shelf,Plans
b,a,shelf,North/South
c,b,paper,Floor 1
d,b,paper,Floor 2
e,b,paper,Floor * (old)
f,a,shelf,C:\maps
g,f,paper,Plans
h,,shelf,Übersicht
i,h,paper,"Say ""so"""
j,h,paper,日本
k,h,paper,floor 1
"#;

fn estate() -> Estate {
    let mut case = Case::parse("An estate.\n", Path::new("."));
    case.set(
        "bastide.toml",
        "name = \"Names\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n".into(),
    );
    case.set("p.bastide", "kind shelf\nkind inner is shelf\nkind paper in shelf\naction read\n".into());
    case.set("people.csv", "id,name\nann,Ann\n".into());
    case.set("catalog.csv", ROWS.replace(",a,shelf,", ",a,inner,"));
    // A shelf may lie in a shelf.
    case.set("p.bastide", "kind shelf\nkind inner in shelf\nkind paper in shelf, inner\naction read\n".into());
    case.estate()
}

fn ids(estate: &Estate, found: &[ResourceId]) -> String {
    found.iter().map(|r| estate.catalog().id(*r)).collect::<Vec<_>>().join(" ")
}

#[test]
fn names_with_slashes_and_backslashes_come_back() {
    let estate = estate();
    let catalog = estate.catalog();
    let path = |id: &str| catalog.path(catalog.find(id).unwrap());
    assert_eq!(path("c"), r"Plans/North\/South/Floor 1");
    assert_eq!(path("g"), r"Plans/C:\\maps/Plans");
    assert_eq!(path("i"), r#"Übersicht/Say "so""#);
    // Each path, taken as a pattern, fits its own resource alone; a star in a name is written `\*`.
    for resource in catalog.all() {
        let text = catalog.path(resource).replace('*', r"\*");
        assert_eq!(catalog.matching(&PathPattern::new(&text)), [resource], "{text}");
    }
}

#[test]
fn stars_stay_within_their_segment() {
    let estate = estate();
    let matching = |text: &str| ids(&estate, &estate.catalog().matching(&PathPattern::new(text)));
    assert_eq!(matching("Plans/*"), "f b");
    assert_eq!(matching("Plans/*/*"), "g e c d");
    assert_eq!(matching(r"Plans/North\/*/Floor *"), "e c d");
    assert_eq!(matching("*/floor 1"), "k");
    assert_eq!(matching("Plans/*South"), "b");
    assert_eq!(matching("*/*/*/*"), "");
    assert_eq!(matching(r"Plans/*/Floor \* (old)"), "e");
    assert!(PathPattern::new("Plans/*").is_wild() && !PathPattern::new(r"Plans/\*").is_wild());
}

#[test]
fn a_resource_is_found_by_id_or_path() {
    let estate = estate();
    let found = |text: &str| find::resource(&estate, text).map(|r| estate.catalog().id(r).to_string());
    assert_eq!(found("e").as_deref().ok(), Some("e"));
    assert_eq!(found(r"Plans/North\/South/Floor 2").as_deref().ok(), Some("d"));
    assert_eq!(found("Übersicht/日本").as_deref().ok(), Some("j"));
    // As a shell completes it.
    assert_eq!(found("Plans/").as_deref().ok(), Some("a"));
    for text in ["", "z", "Plans/North/South", "übersicht"] {
        assert!(found(text).is_err(), "{text:?}");
    }
}

#[test]
fn the_tree_is_walked_in_order() {
    let estate = estate();
    let catalog = estate.catalog();
    let all: Vec<ResourceId> = catalog.all().collect();
    assert_eq!(ids(&estate, &all), "a f g b e c d h i k j");
    assert_eq!(ids(&estate, &catalog.roots().collect::<Vec<_>>()), "a h");
    let of = |id: &str| catalog.find(id).unwrap();
    assert_eq!(ids(&estate, &catalog.children(of("a")).collect::<Vec<_>>()), "f b");
    assert_eq!(ids(&estate, &catalog.children(of("h")).collect::<Vec<_>>()), "i k j");
    assert_eq!(ids(&estate, &catalog.upward(of("d")).collect::<Vec<_>>()), "d b a");
    let beneath: Vec<ResourceId> = catalog.subtree(of("b")).map(ResourceId).collect();
    assert_eq!(ids(&estate, &beneath), "b e c d");
    assert!(catalog.contains(of("a"), of("g")) && !catalog.contains(of("f"), of("b")));
    assert!(catalog.is_leaf(of("j")) && !catalog.is_leaf(of("f")));
}
