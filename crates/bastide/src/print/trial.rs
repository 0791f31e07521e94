//! What a change would do.

use super::changes::{block, sentence};
use super::text::{bad, bold, count, dim, hang, visible};
use crate::commands::r#try::Trial;
use bastide_engine::difference::{Block, Side};
use bastide_engine::prove::Proof;

/// Blocks of gains, and of losses, that are shown.
const MOST: usize = 8;

/// The trial as text.
pub fn trial(trial: &Trial, all: bool, columns: usize) -> String {
    let mut out = String::new();
    for change in &trial.changes {
        let place = change.place.as_ref().map_or(String::new(), |p| format!("  {}", dim(&visible(p))));
        out.push_str(&hang("to  ", &format!("{}{place}", visible(&change.words)), columns));
    }
    for added in &trial.added {
        out.push_str(&format!("to  lay `{}` over the policy\n", visible(added)));
    }
    out.push_str(&format!("\n{}\n", bold(&sentence(&trial.radius))));
    out.push_str(&sides(&trial.blocks, all, columns));
    if !trial.broken.is_empty() {
        out.push_str(&format!("\n{}\n", bad(&format!("{} would no longer hold", count(trial.broken.len(), "test")))));
        trial.broken.iter().for_each(|p| out.push_str(&broken(p, columns)));
    }
    out
}

/// Gains, then losses.
pub fn sides(blocks: &[Block], all: bool, columns: usize) -> String {
    let mut out = String::new();
    for (side, head) in [(Side::Gained, "gained"), (Side::Lost, "lost")] {
        let list: Vec<&Block> = blocks.iter().filter(|b| b.side == side).collect();
        if list.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", bold(head)));
        let shown = if all { list.len() } else { list.len().min(MOST) };
        list[..shown].iter().for_each(|b| out.push_str(&block(b, 2, columns)));
        if shown < list.len() {
            out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--all)", list.len() - shown))));
        }
    }
    out
}

fn broken(proof: &Proof, columns: usize) -> String {
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
