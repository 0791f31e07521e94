use super::{FormatError, format};
use crate::source::FileId;

#[track_caller]
fn becomes(text: &str, expected: &str) {
    let once = format(FileId(0), text).unwrap_or_else(|e| panic!("{text}\n{e:?}"));
    assert_eq!(once, expected);
    assert_eq!(format(FileId(0), &once).expect("canonical text is readable"), once, "not the same a second time");
}

#[test]
fn clauses_come_in_order_and_declarations_line_up() {
    becomes(
        "kind   stream kind workspace  in stream\nkind \"folder\" in workspace,\"5th kind\"\n\naction read needs read on parent,run on \"5th kind\"\n\
         role a=read,b off\nrole longer= everything locked\n\
         rule r off{ what item,folder under \"A\",id \"x\" where resource.a=1 and(resource.b or not resource.c) \
         who anyone,user a,user b,c where user.x>=today -   2   weeks may not read until 2027-01-01 because \"why\" }",
        r#"kind stream
kind workspace in stream
kind folder    in workspace, "5th kind"

action read needs read on parent, run on "5th kind"
role a      = read, b off
role longer = everything locked

rule r off {
    because "why"
    who     anyone, user a, user b, c where user.x >= today - 2 weeks
    may not read
    what    item, folder under "A", id "x"
            where resource.a = 1 and (resource.b or not resource.c)
    until   2027-01-01
}
"#
        .replace("id \"x\"\n            where", "id \"x\" where")
        .as_str(),
    );
}

#[test]
fn comments_are_kept_where_they_belong() {
    becomes(
        "# the file\n\n\n# about a\nkind a # after a\nkind b\n# before the rule\nrule r { # after the brace\n  may read # after may\n\
         # before who\n  who # inside who\n anyone\n  what anything\n  # last\n} # after the rule\n\n\n# the end\n# really",
        "# the file\n\n# about a\nkind a  # after a\nkind b\n\n# before the rule\nrule r {\n    # before who\n    # inside who\n    \
         who     anyone\n    # after the brace\n    may     read  # after may\n    what    anything\n    # last\n}  # after the rule\n\n\
         # the end\n# really\n",
    );
}

#[test]
fn long_lines_break_between_words_of_a_sentence() {
    let places: Vec<String> = (1..8).map(|i| format!("\"Exhibitions/Tidal Light/Number {i}\"")).collect();
    let text = format!(
        "rule r {{ who anyone may read what report under {} where resource.state = released }}",
        places.join(", ")
    );
    let out = format(FileId(0), &text).unwrap();
    assert!(out.lines().all(|l| l.chars().count() <= super::WIDTH), "{out}");
    assert!(out.contains("\n            \"Exhibitions"), "{out}");
    assert_eq!(format(FileId(0), &out).unwrap(), out);
}

#[test]
fn tests_of_the_policy_are_laid_out_too() {
    becomes(
        "expect e { can read \"A\" cannot read,update \"B\" reaches at least 3 report under \"A\" by read on 2026-12-01 user u \
         session network=\"g\",ticket=(\"a\",\"b\") }\nguarantee g { what anything none of anyone can everything }",
        "expect e {\n    user    u\n    on      2026-12-01\n    session network = \"g\", ticket = (\"a\", \"b\")\n    can     read \"A\"\n    \
         cannot  read, update \"B\"\n    reaches at least 3 report under \"A\" by read\n}\n\nguarantee g {\n    none of anyone\n    \
         can     everything\n    what    anything\n}\n",
    );
}

#[test]
fn a_text_with_mistakes_is_left_alone() {
    assert!(matches!(format(FileId(0), "rule r {"), Err(FormatError::Mistakes(found)) if found.len() == 1));
    let hidden = "rule r {\n    because \"a \u{1} b\"\n    who     anyone\n    may     read\n    what    anything\n}\n";
    assert!(matches!(format(FileId(0), hidden), Err(FormatError::Mistakes(found)) if found.len() == 1));
    let odd = "rule r {\n    because \"a # b \\\" #\"\n    who     anyone\n    may     read\n    what    anything\n}\n";
    assert_eq!(format(FileId(0), odd).unwrap(), odd, "a text may hold whatever it likes");
    assert_eq!(format(FileId(0), "").unwrap(), "");
    assert_eq!(format(FileId(0), "\u{feff}# only a comment\r\n").unwrap(), "# only a comment\n");
}
