//! Proofs as a JUnit report, which every build server reads.

use bastide_engine::prove::{Proof, Sort};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

/// A report with a suite of expectations and one of guarantees.
pub fn report(estate: &str, proofs: &[Proof]) -> String {
    let mut report = Report::new(plain(estate));
    for (sort, name) in [(Sort::Expectation, "expectations"), (Sort::Guarantee, "guarantees")] {
        let mut suite = TestSuite::new(name);
        for proof in proofs.iter().filter(|p| p.sort == sort) {
            let mut case = TestCase::new(plain(&proof.name), TestCaseStatus::success());
            case.set_classname(plain(&proof.place));
            if !proof.holds {
                let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                status.set_type("broken");
                status.set_message(format!("{} of {} do not hold", proof.broken, proof.checked));
                let lines = proof.breaches.iter().map(|b| match &b.why {
                    Some(why) => format!("{}: {why}", b.claim),
                    None => b.claim.clone(),
                });
                status.set_description(plain(&lines.collect::<Vec<_>>().join("\n")));
                case.status = status;
            }
            suite.add_test_case(case);
        }
        report.add_test_suite(suite);
    }
    let mut text = report.to_string().unwrap_or_default();
    if !text.ends_with('\n') {
        text.push('\n');
    }
    text
}

/// Text without what XML cannot hold.
fn plain(text: &str) -> String {
    text.chars().map(|c| if c.is_control() && c != '\n' && c != '\t' { '\u{fffd}' } else { c }).collect()
}
