//! The conformance suite: every decision in `tests/decisions/*.txt` was worked out by hand from the
//! decision procedure. Each text holds an estate and a file `questions`, a question a line:
//!
//! ```text
//! USER ACTION RESOURCE-ID [on DATE] [with NAME=VALUE ...] = REASON [by STATEMENT] [# remark]
//! ```

use bastide_engine::{ReferenceEvaluator, session};
use bastide_model::Estate;
use bastide_testkit::{Case, texts};
use std::path::Path;

/// The day of questions that name none.
const TODAY: &str = "2026-11-24";

#[test]
fn every_decision_is_as_worked_out_by_hand() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/decisions");
    let mut wrong = Vec::new();
    let mut asked = 0;
    for (name, _, text) in texts(&folder, ".txt") {
        let mut case = Case::parse(&text, &folder);
        let Some(questions) = case.take("questions") else { continue };
        let loaded = case.load();
        let Some(estate) = &loaded.estate else {
            let messages: Vec<&str> = loaded.diagnostics.iter().map(|d| d.message.as_str()).collect();
            panic!("{name}: the estate has errors: {messages:#?}");
        };
        for question in questions.lines() {
            let question = question.split(" #").next().unwrap_or("").trim();
            if question.is_empty() || question.starts_with('#') {
                continue;
            }
            asked += 1;
            if let Err(found) = answer(estate, question) {
                wrong.push(format!("{name}: {question}\n    found {found}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {asked} decisions are otherwise:\n{}", wrong.len(), wrong.join("\n"));
    assert!(asked >= 250, "only {asked} decisions are asked");
}

fn answer(estate: &Estate, question: &str) -> Result<(), String> {
    let (asked, expected) = question.split_once(" = ").unwrap_or_else(|| panic!("no answer in `{question}`"));
    let (asked, given) = asked.split_once(" with ").unwrap_or((asked, ""));
    let (asked, date) = asked.split_once(" on ").unwrap_or((asked, TODAY));
    let words: Vec<&str> = asked.split_whitespace().collect();
    let [user, action, resource] = words[..] else { panic!("not three words in `{question}`") };
    let given: Vec<(String, String)> = given
        .split_whitespace()
        .map(|pair| pair.split_once('=').unwrap_or_else(|| panic!("no value in `{question}`")))
        .map(|(name, value)| (name.to_string(), value.to_string()))
        .collect();
    let date = date.trim().parse().unwrap_or_else(|e| panic!("{question}: {e}"));
    let moment = session::moment(estate.schema(), date, &given).unwrap_or_else(|e| panic!("{question}: {e}"));
    let reference = ReferenceEvaluator::new(estate, &moment).unwrap_or_else(|cycles| panic!("{question}: {cycles:#?}"));
    let user = estate.people().find(user).unwrap_or_else(|| panic!("no such user: {question}"));
    let action = estate.schema().action(action).unwrap_or_else(|| panic!("no such action: {question}"));
    let resource = estate.catalog().find(resource).unwrap_or_else(|| panic!("no such resource: {question}"));
    let decision = reference.decide(user, action, resource);
    let by = decision.by.map_or("nothing", |by| estate.statement(by).name.as_str());
    let (reason, deciding) = expected.split_once(" by ").unwrap_or((expected, by));
    if reason.trim() == decision.reason.word() && deciding.trim() == by {
        Ok(())
    } else {
        Err(format!("{} by {by}", decision.reason.word()))
    }
}
