//! What the tests came to.

use super::text::{bad, bold, count, dim, doubt, good, grouped, hang, visible};
use super::trial::sort;
use crate::found::test::Tested;
use bastide_engine::prove::Proof;

/// The tests as text: one line each, a failed one with its why.
pub fn tested(tested: &Tested, columns: usize) -> String {
    let mut out = String::new();
    for proof in &tested.proofs {
        out.push_str(&line(proof, None, columns));
    }
    for proof in &tested.later {
        out.push_str(&line(proof, Some(&proof.date), columns));
    }
    let all = tested.proofs.len() + tested.later.len();
    let verdict = if tested.failed == 0 {
        good(&format!("{} hold", grouped(all as u64)))
    } else {
        format!("{}, {}", good(&format!("{} hold", all - tested.failed)), bad(&format!("{} fail", tested.failed)))
    };
    let through = tested.through.as_ref().map_or(String::new(), |day| format!(", guarantees up to {day}"));
    out.push_str(&format!("\n{verdict}{through}\n"));
    if let Some(untested) = &tested.untested {
        let share = tested.rules - untested.len().min(tested.rules);
        out.push_str(&format!(
            "\n{} of {} are tested; no test depends on\n",
            grouped(share as u64),
            count(tested.rules, "rule")
        ));
        let names: Vec<String> = untested.iter().map(|n| visible(n).into_owned()).collect();
        out.push_str(&hang("  ", &if names.is_empty() { "none".to_string() } else { names.join(", ") }, columns));
    }
    out
}

fn line(proof: &Proof, later: Option<&str>, columns: usize) -> String {
    let mark = if proof.holds { good("holds") } else { bad("FAILS") };
    let day = later.map_or(String::new(), |day| format!(" {}", doubt(&format!("from {day} on"))));
    let mut out =
        format!("{mark}  {} {}{day}  {}\n", sort(proof), bold(&visible(&proof.name)), dim(&visible(&proof.place)));
    if proof.holds {
        return out;
    }
    if let Some(because) = &proof.because {
        out.push_str(&hang("       ", &format!("\"{}\"", visible(because)), columns));
    }
    let number = match proof.sort {
        bastide_engine::prove::Sort::Expectation => format!("{} of {} claims do not hold", proof.broken, proof.checked),
        bastide_engine::prove::Sort::Guarantee => {
            let are = if proof.broken == 1 { "triple breaks it" } else { "triples break it" };
            format!("{} {are}", grouped(proof.broken))
        }
    };
    out.push_str(&format!("       {number}\n"));
    for breach in &proof.breaches {
        let why = breach.why.as_ref().unwrap_or(&breach.claim);
        let open = if breach.undecided { format!(" {}", doubt("(undecided)")) } else { String::new() };
        out.push_str(&hang("       - ", &format!("{}{open}", visible(why)), columns));
    }
    let more = proof.broken.saturating_sub(proof.breaches.len() as u64);
    if more > 0 {
        out.push_str(&format!(
            "       {}\n",
            dim(&format!("and {} more (--format json, or `bastide matrix`)", grouped(more)))
        ));
    }
    out
}
