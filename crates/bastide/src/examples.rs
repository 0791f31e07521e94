//! The examples that `--help` shows: each is a command that runs on the demo estate as it is.

macro_rules! examples {
    ($($name:ident: $($line:literal),+;)*) => {
        $(pub const $name: &str = concat!("Examples:", $("\n  ", $line),+);)*
    };
}

examples! {
    ALL:
        "bastide demo                      a made-up estate, and a tour through everything",
        "bastide new my-estate             the files to begin with",
        "bastide check                     is everything well-formed?",
        "bastide why USER ACTION RESOURCE  why is it so, and what would turn it?";
    DEMO: "bastide demo", "bastide demo four-tides --no-tour";
    NEW: "bastide new my-estate";
    CHECK: "bastide check", "bastide check --format sarif -o check.sarif";
    IMPORT: "bastide import", "bastide import staff --write", "bastide import --check --format json";
    VERIFY: "bastide verify decisions.csv", "bastide verify decisions.csv --all --format json";
    FMT: "bastide fmt", "bastide fmt --check";
    RULES: "bastide rules", "bastide rules --only 'staff*' --by reach", "bastide rules --format csv -o rules.csv";
    ABOUT: "bastide about bruno.tavares", "bastide about group:conservators", "bastide about \"Exhibitions/Tidal Light\"";
    REACH:
        "bastide reach lenders-follow-their-loans",
        "bastide reach data/entries.csv:14",
        "bastide reach --text 'who members of lenders may read what report'",
        "bastide reach registrars-approve --format svg -o reach.svg";
    MATRIX:
        "bastide matrix --under \"Exhibitions/Tidal Light\"",
        "bastide matrix --users group:directors --rows users --also Press",
        "bastide matrix --summary",
        "bastide matrix --all --format parquet -o access.parquet",
        "bastide matrix --format png -o access.png";
    WHAT: "bastide what bruno.tavares", "bastide what group:conservators", "bastide what persona:stand-in-registrar", "bastide what bruno.tavares --under Exhibitions --until-changes 2027-06-30";
    WHO: "bastide who read \"Exhibitions/Tidal Light/Valuations/TL-020\" --via", "bastide who update Press --not", "bastide who read,update Press --format csv";
    WHY:
        "bastide why bruno.tavares read \"Exhibitions/Tidal Light/Condition/Incoming/TL-007 incoming\"",
        "bastide why pia.sorrel manage Press --want refused --remedies 5",
        "bastide why bruno.tavares read Press --format svg -o why.svg";
    SQL:
        "bastide sql \"select action, count(*) from access where decision = 'allowed' group by action\"",
        "bastide sql --format csv -o guests.csv \"select id, name from users where kind = 'guest'\"",
        "bastide sql";
    DIFF: "bastide diff HEAD~1", "bastide diff main.. --format md", "bastide diff last-year.zip --exit-code";
    AUDIT:
        "bastide audit",
        "bastide audit --only full-power --only source-leak --all",
        "bastide audit --explain two-doors",
        "bastide audit --by house --fewest",
        "bastide audit --format sarif -o audit.sarif";
    TEST: "bastide test", "bastide test --only 'courier*'", "bastide test --format junit -o tests.xml", "bastide test --record bruno.tavares";
    COMPARE: "bastide compare bruno.tavares carys.penhale", "bastide compare bruno.tavares group:conservators";
    FILTER:
        "bastide filter idris.merrick read d-climate",
        "bastide filter idris.merrick read d-climate --format sql",
        "bastide filter idris.merrick read d-climate --format csv -o rows.csv",
        "bastide filter --everybody read d-climate";
    TRY:
        "bastide try --off staff-comment-on-reviews",
        "bastide try --drop data/entries.csv:43 --join ulla.fairweather:lenders",
        "bastide try --set \"resource:Press/Releases.label=restricted\" --audit",
        "bastide try --window lenders-follow-their-loans=..2026-12-31 --write";
    REPORT: "bastide report -o report.html", "bastide report --since HEAD~20 -o report.html";
    EDITOR: "bastide editor";
    EXPLORE: "bastide explore";
    REVIEW:
        "bastide review sheets autumn --by workspace",
        "bastide review answers autumn --by workspace";
    SCHEMA: "bastide schema why";
    SETUP: "bastide setup files";
}
