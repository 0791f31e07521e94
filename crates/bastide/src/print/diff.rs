//! What differs between two estates.

use super::changes::{places, sentence, users};
use super::text::{bad, bold, count, dim, good, grouped, hang, name, visible};
use super::trial::{broken, sides, sort};
use crate::found::diff::Differing;
use bastide_engine::difference::{Cause, CauseHow, Effect, Side};

/// Causes that are listed.
const MOST_CAUSES: usize = 12;

/// The difference as text.
pub fn differing(d: &Differing, columns: usize) -> String {
    let head = format!("from {} to {}, for {}", visible(&d.old), visible(&d.new), d.date);
    let mut out = format!("{}\n{}\n", dim(&head), bold(&sentence(&d.radius)));
    for c in d.counts.iter().filter(|c| c.come + c.gone > 0) {
        out.push_str(&format!("  {}: {} come, {} gone\n", c.of, grouped(c.come as u64), grouped(c.gone as u64)));
    }
    if !d.causes.is_empty() {
        out.push_str(&format!("\n{}\n", bold("because of")));
        for effect in d.causes.iter().take(MOST_CAUSES) {
            let text = format!("{}  {}", cause(&effect.cause), numbers(effect));
            out.push_str(&hang("  ", &text, columns));
        }
        if d.causes.len() > MOST_CAUSES {
            let more = count(d.causes.len() - MOST_CAUSES, "more cause");
            out.push_str(&format!("  {}\n", dim(&format!("left out: {more} (--format json)"))));
        }
    }
    out.push_str(&sides(&d.blocks, columns));
    if !d.rows.is_empty() {
        out.push_str(&format!("\n{}\n{}", bold("rows"), super::filter::moved(&d.rows, false, columns)));
    }
    if !d.broken.is_empty() {
        out.push_str(&format!(
            "\n{}\n",
            bad(&format!(
                "{} no longer {}",
                count(d.broken.len(), "test"),
                if d.broken.len() == 1 { "holds" } else { "hold" }
            ))
        ));
        d.broken.iter().for_each(|p| out.push_str(&broken(p, columns)));
    }
    out.push_str(&format!("\n{}  {}\n", dim("in one line:"), one_line(d)));
    out
}

fn numbers(effect: &Effect) -> String {
    let mut parts = Vec::new();
    if effect.gained > 0 {
        parts.push(good(&format!("{} gained", grouped(effect.gained))));
    }
    if effect.lost > 0 {
        parts.push(bad(&format!("{} lost", grouped(effect.lost))));
    }
    parts.join(", ")
}

fn cause(cause: &Cause) -> String {
    let how = match cause.how {
        CauseHow::New => "new",
        CauseHow::Gone => "gone",
        CauseHow::Changed => "changed",
        CauseHow::Data => return "memberships, attributes, the tree or other decisions".to_string(),
    };
    format!("{} {} {how}  {}", cause.sort, name(&visible(&cause.statement)), dim(&visible(&cause.place)))
}

/// For a commit message.
fn one_line(d: &Differing) -> String {
    let statements: Vec<String> = d
        .causes
        .iter()
        .filter(|e| e.cause.how != CauseHow::Data && e.cause.sort == "rule")
        .take(3)
        .map(|e| visible(&e.cause.statement).into_owned())
        .collect();
    let by = if statements.is_empty() { String::new() } else { format!(" ({})", statements.join(", ")) };
    format!("Access: {}{by}", sentence(&d.radius))
}

/// The difference as Markdown, for a comment.
pub fn markdown(d: &Differing) -> String {
    let mut out = format!(
        "### Access: {}\n\nFrom `{}` to `{}`, for {}.\n",
        sentence(&d.radius),
        code(&d.old),
        code(&d.new),
        d.date
    );
    if !d.causes.is_empty() {
        out.push_str("\n| because of | gained | lost |\n|---|---:|---:|\n");
        for effect in d.causes.iter().take(MOST_CAUSES) {
            let what = match effect.cause.how {
                CauseHow::Data => "memberships, attributes, the tree or other decisions".to_string(),
                CauseHow::New => format!("new {} `{}`", effect.cause.sort, code(&effect.cause.statement)),
                CauseHow::Gone => format!("{} `{}` gone", effect.cause.sort, code(&effect.cause.statement)),
                CauseHow::Changed => format!("{} `{}` changed", effect.cause.sort, code(&effect.cause.statement)),
            };
            out.push_str(&format!("| {what} | {} | {} |\n", grouped(effect.gained), grouped(effect.lost)));
        }
    }
    for (side, head, more) in [(Side::Gained, "Gained", d.blocks.more_gained), (Side::Lost, "Lost", d.blocks.more_lost)]
    {
        let list: Vec<_> = d.blocks.list.iter().filter(|b| b.side == side).collect();
        if list.is_empty() {
            continue;
        }
        out.push_str(&format!("\n**{head}**\n\n"));
        for b in list {
            let guests = if b.guests > 0 { format!(" ({})", count(b.guests, "guest")) } else { String::new() };
            let labelled = if b.labelled > 0 { format!(", {} labelled", b.labelled) } else { String::new() };
            out.push_str(&format!(
                "- {}{guests}: **{}** on {}{labelled}\n",
                escaped(&users(b)),
                escaped(&b.actions.join(", ")),
                places(&b.places)
            ));
        }
        if more > 0 {
            out.push_str(&format!("- and {} more\n", grouped(more as u64)));
        }
    }
    if !d.broken.is_empty() {
        out.push_str("\n**Tests that no longer hold**\n\n");
        for proof in &d.broken {
            out.push_str(&format!("- {} `{}`\n", sort(proof), code(&proof.name)));
        }
    }
    out
}

/// Text inside a code span, in which nothing can end it.
fn code(text: &str) -> String {
    visible(text).replace('`', "'").replace('|', "\\|")
}

/// Text in which no character means anything to Markdown.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in visible(text).chars() {
        if matches!(c, '*' | '_' | '[' | ']' | '<' | '>' | '#' | '|' | '`' | '\\' | '&') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}
