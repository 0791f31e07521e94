//! The questions of the guide, asked of the demo as they are written; what comes back is what the page shows.
//! `BASTIDE_WRITE_DOCS=1` writes the answers into the page instead, to be read there.

mod common;

use common::{ask, demo};
use std::fs;
use std::path::Path;

#[test]
fn the_questions_of_the_guide_have_the_answers_it_shows() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/sql.md");
    let page = fs::read_to_string(&path).expect("the page is there");
    let demo = demo();
    let (mut written, mut rest, mut asked) = (String::new(), page.as_str(), 0);
    while let Some(at) = rest.find("```sql\n") {
        let (before, from) = rest.split_at(at + "```sql\n".len());
        let (question, after) = from.split_once("```\n").expect("a block ends");
        // The answer that stands behind it.
        let shown = after.strip_prefix("\n```text\n").and_then(|text| text.split_once("```\n"));
        rest = shown.map_or(after, |(_, rest)| rest);
        let answer = ask(demo.path(), &["--", question]);
        assert!(answer.lines().count() > 1, "nothing comes back: {question}");
        written.push_str(&format!("{before}{question}```\n\n```text\n{answer}```\n"));
        asked += 1;
    }
    written.push_str(rest);
    assert_eq!(asked, 10);
    if std::env::var_os("BASTIDE_WRITE_DOCS").is_some() {
        fs::write(&path, &written).expect("the page can be written");
    } else {
        assert!(written == page, "the page shows other answers: BASTIDE_WRITE_DOCS=1 writes them anew");
    }
}
