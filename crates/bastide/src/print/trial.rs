//! What a change would do.

use super::changes::{block, sentence};
use super::text::{bad, bold, count, dim, grouped, hang, visible};
use crate::found::trial::Trial;
use bastide_engine::difference::{Block, Blocks, Side};
use bastide_engine::prove::Proof;

/// Blocks of gains, and of losses, that are shown.
const MOST: usize = 8;

/// The trial as text.
pub fn trial(trial: &Trial, columns: usize) -> String {
    let mut out = String::new();
    if let Some(far) = &trial.far {
        out.push_str(&hang("", &bad(far), columns));
    }
    for newcomer in &trial.newcomers {
        out.push_str(&format!("to  add {}\n", visible(newcomer)));
    }
    for change in &trial.changes {
        let place = change.place.as_ref().map_or(String::new(), |p| format!("  {}", dim(&visible(p))));
        out.push_str(&hang("to  ", &format!("{}{place}", visible(&change.words)), columns));
    }
    for added in &trial.added {
        out.push_str(&format!("to  lay `{}` over the policy\n", visible(added)));
    }
    out.push_str(&format!("\n{}\n", bold(&sentence(&trial.radius))));
    out.push_str(&sides(&trial.blocks, columns));
    if !trial.rows.is_empty() {
        out.push_str(&format!("\n{}\n{}", bold("rows"), super::filter::moved(&trial.rows, false, columns)));
    }
    if !trial.users.is_empty() {
        out.push_str(&format!("\n{}\n", bold("in all")));
        for held in &trial.users {
            let noun = if held.after == 1 { "pair" } else { "pairs" };
            let text = format!(
                "{} has {} {noun} of action and resource, before {}",
                visible(&held.user),
                grouped(held.after),
                grouped(held.before)
            );
            out.push_str(&hang("  ", &text, columns));
        }
    }
    for (head, list) in [("findings that appear", &trial.appear), ("findings that disappear", &trial.disappear)] {
        if list.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", bold(head)));
        for f in list {
            let text = format!("{} {}  {}", f.level.word(), bold(&f.name), visible(&f.message));
            out.push_str(&hang("  ", &text, columns));
        }
    }
    if !trial.broken.is_empty() {
        out.push_str(&format!("\n{}\n", bad(&format!("{} would no longer hold", count(trial.broken.len(), "test")))));
        trial.broken.iter().for_each(|p| out.push_str(&broken(p, columns)));
    }
    out
}

/// How many blocks of gains, and of losses, to ask for.
pub fn most(all: bool) -> usize {
    if all { usize::MAX } else { MOST }
}

/// Gains, then losses.
pub fn sides(blocks: &Blocks, columns: usize) -> String {
    let mut out = String::new();
    for (side, head, more) in [(Side::Gained, "gained", blocks.more_gained), (Side::Lost, "lost", blocks.more_lost)] {
        let list: Vec<&Block> = blocks.list.iter().filter(|b| b.side == side).collect();
        if list.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", bold(head)));
        list.iter().for_each(|b| out.push_str(&block(b, 2, columns)));
        if more > 0 {
            out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--all)", grouped(more as u64)))));
        }
    }
    out
}

/// A test that no longer holds.
pub fn broken(proof: &Proof, columns: usize) -> String {
    let mut out = format!("  {} {}  {}\n", sort(proof), bold(&visible(&proof.name)), dim(&visible(&proof.place)));
    if let Some(breach) = proof.breaches.first() {
        out.push_str(&hang("      ", &visible(breach.why.as_ref().unwrap_or(&breach.claim)), columns));
    }
    out
}

/// Which of the two a proof is.
pub fn sort(proof: &Proof) -> &'static str {
    match proof.sort {
        bastide_engine::prove::Sort::Expectation => "expectation",
        bastide_engine::prove::Sort::Guarantee => "guarantee",
    }
}

/// The files that were written.
pub fn written(files: &[String]) -> String {
    let names: Vec<String> = files.iter().map(|f| format!("`{}`", visible(f))).collect();
    format!("\nwritten: {}\n", names.join(", "))
}
