//! Whatever a file holds, it is read without a panic, and every mistake has a place inside the text.

use bastide_syntax::format::format;
use bastide_syntax::{FileId, parse};
use proptest::prelude::*;

const WORDS: [&str; 62] = [
    "kind",
    "action",
    "type",
    "attribute",
    "role",
    "group",
    "rule",
    "apart",
    "alike",
    "expect",
    "guarantee",
    "in",
    "is",
    "on",
    "needs",
    "of",
    "set",
    "default",
    "inherit",
    "highest",
    "choice",
    "scale",
    "holders",
    "because",
    "layer",
    "who",
    "may",
    "not",
    "always",
    "never",
    "only",
    "what",
    "while",
    "from",
    "until",
    "where",
    "under",
    "at",
    "id",
    "anyone",
    "user",
    "members",
    "owner",
    "anything",
    "everything",
    "holds",
    "today",
    "user.a",
    "resource.parent.b",
    "\"text\"",
    "name",
    "5",
    "2027-01-01",
    "{",
    "}",
    "(",
    ")",
    ",",
    "=",
    "<",
    ":",
    "#",
];

fn reads(text: &str) -> Result<(), TestCaseError> {
    let parsed = parse(FileId(0), text);
    for diagnostic in &parsed.diagnostics {
        let place = diagnostic.place.expect("every mistake has a place");
        prop_assert!(text.get(place.range()).is_some(), "{:?} is no part of the text", place);
    }
    if parsed.diagnostics.is_empty() {
        let once = format(FileId(0), text).expect("a text without mistakes has a canonical form");
        let twice = format(FileId(0), &once).expect("so has the canonical form");
        prop_assert_eq!(once, twice);
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_characters(text in "\\PC{0,80}") {
        reads(&text)?;
    }

    #[test]
    fn any_words(words in prop::collection::vec(prop::sample::select(&WORDS[..]), 0..40), breaks: u64) {
        let mut text = String::new();
        for (i, word) in words.iter().enumerate() {
            text.push_str(word);
            text.push(if breaks >> (i % 64) & 1 == 1 { '\n' } else { ' ' });
        }
        reads(&text)?;
    }

    #[test]
    fn a_rule_with_a_word_changed(at in 0usize..40, word in prop::sample::select(&WORDS[..])) {
        let rule = "rule r off { because \"x\" layer l who anyone , user a where user.x = 1 and not ( user.y or today <= resource.d ) may not read , write what item under \"A\" , id \"b\" where resource.k in ( a , b ) while holds read on parent from 2027-01-01 until 2027-12-31 }";
        let mut words: Vec<&str> = rule.split(' ').collect();
        let at = at % words.len();
        words[at] = word;
        reads(&words.join(" "))?;
    }
}
