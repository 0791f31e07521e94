//! What one statement reaches.

use super::changes::{places, sentence, shell};
use super::text::{bold, count, cut, dim, doubt, grouped, hang, name, pad, visible, width};
use super::trial::sides;
use super::why::modality;
use bastide_engine::access::Reached;
use bastide_engine::difference::Radius;

/// Users that are listed.
const MOST_USERS: usize = 24;

/// The reach as text. `draft`: the rule is not saved yet.
pub fn reached(r: &Reached, draft: bool, all: bool, columns: usize) -> String {
    let s = &r.statement;
    let place = if draft { "not saved yet".to_string() } else { visible(&s.place).into_owned() };
    let actions = visible(&r.actions.join(", ")).into_owned();
    let mut out = hang(
        "",
        &format!("{} {}  {} {actions}  {}", s.sort, name(&visible(&s.name)), modality(&s.modality), dim(&place)),
        columns,
    );
    if let Some(because) = &s.because {
        out.push_str(&hang("  ", &format!("\"{}\"", visible(because)), columns));
    }
    if let Some(asleep) = &r.asleep {
        out.push_str(&hang("  ", &doubt(&format!("{asleep}: what follows is what it would do")), columns));
    }
    out.push_str(&format!("\n{}\n", bold("narrowed word by word")));
    out.push_str(&steps(r, columns));
    if r.triples == 0 {
        let step = r.steps.iter().skip(1).find(|s| s.pairs == 0);
        let text = match step {
            Some(step) => format!("it reaches nobody: nothing is left after `{}`", visible(&step.words)),
            None => "none of its actions has a meaning where it applies".to_string(),
        };
        out.push_str(&format!("\n{}", hang("", &doubt(&text), columns)));
        out.push_str(&open(r, columns));
        out.push_str(&elsewhere(r, columns));
        return out;
    }
    let whom = count(r.users.len(), "user");
    let text = format!("{whom} on {}, {}", count(r.resources, "resource"), count(r.triples as usize, "triple"));
    out.push_str(&format!("\n{}  {text}\n", bold("reaches")));
    let shown = if all { r.users.len() } else { r.users.len().min(MOST_USERS) };
    let users: Vec<String> = r.users[..shown].iter().map(|u| visible(u).into_owned()).collect();
    let more =
        if shown < r.users.len() { format!(" and {} more (--all)", r.users.len() - shown) } else { String::new() };
    out.push_str(&hang("  whom   ", &format!("{}{more}", users.join(", ")), columns));
    out.push_str(&hang("  what   ", &places(&r.places), columns));
    out.push_str(&open(r, columns));
    out.push_str(&elsewhere(r, columns));
    out.push_str(&format!("\n{}\n", bold(&sole(&r.sole, r.live && !draft))));
    out.push_str(&sides(&r.blocks, columns));
    out
}

/// Where it cannot be said whether it applies.
fn open(r: &Reached, columns: usize) -> String {
    if r.undecided == 0 {
        return String::new();
    }
    let text = format!(
        "in {} a value is missing, so that it cannot be said whether it applies",
        count(r.undecided as usize, "triple")
    );
    hang("  open   ", &doubt(&text), columns)
}

/// The session that was looked at, and what others come to, where it matters.
fn elsewhere(r: &Reached, columns: usize) -> String {
    let Some(e) = &r.elsewhere else { return String::new() };
    let own = Some(format!("{} as each user signs in", r.signed_in.join(" and ")));
    let own = own.filter(|_| !r.signed_in.is_empty());
    let known: Vec<String> = r.session.iter().cloned().chain(own).collect();
    let asked = if known.is_empty() { "nothing known of it".to_string() } else { known.join(", ") };
    let mut text = format!("asked for with {asked}");
    if e.otherwise == 0 {
        text.push_str(&format!("; the same in {} that it tells apart", count(e.sessions, "other session")));
    } else {
        text.push_str(&format!(
            "; in {} of {} it reaches something else",
            e.otherwise,
            count(e.sessions, "other session")
        ));
        if e.triples > r.triples {
            let options: Vec<String> = e.most.iter().map(|o| format!("--session {}", shell(o))).collect();
            let how = if options.is_empty() { "nothing known".to_string() } else { options.join(" ") };
            text.push_str(&format!(", the most with {how}: {}", count(e.triples as usize, "triple")));
        }
    }
    if e.open {
        text.push_str("; not every value that matters could be tried");
    }
    hang("  session ", &visible(&text), columns)
}

fn sole(radius: &Radius, there: bool) -> String {
    match (radius.triples(), there) {
        (0, true) => "solely its doing: nothing; without it everybody could do the same".to_string(),
        (0, false) => "it would change nothing".to_string(),
        (_, true) => format!("solely its doing; without it {}", sentence(radius)),
        (_, false) => format!("solely its doing, if it applied: {}", sentence(radius)),
    }
}

/// The steps, numbers lined up; a step after which nothing is left stands out.
fn steps(r: &Reached, columns: usize) -> String {
    let numbers: Vec<[String; 3]> =
        r.steps.iter().map(|s| [s.users as u64, s.resources as u64, s.pairs].map(grouped)).collect();
    let heads = ["users", "resources", "pairs"];
    let widths: Vec<usize> =
        (0..3).map(|i| numbers.iter().map(|n| width(&n[i])).chain([heads[i].len()]).max().unwrap_or(0)).collect();
    let room = columns.saturating_sub(widths.iter().sum::<usize>() + 8).max(20);
    let widest = r.steps.iter().map(|s| width(&visible(&s.words))).max().unwrap_or(0).min(room);
    let line = |cells: [&str; 3]| (0..3).map(|i| format!("  {:>1$}", cells[i], widths[i])).collect::<String>();
    let mut out = format!("  {}{}\n", pad("", widest), dim(&line(heads)));
    let mut ended = false;
    for (step, cells) in r.steps.iter().zip(&numbers) {
        let words = pad(&cut(&visible(&step.words), widest), widest);
        let row = format!("  {words}{}", line([&cells[0], &cells[1], &cells[2]]));
        let here = step.pairs == 0 && !ended;
        ended |= step.pairs == 0;
        out.push_str(&format!("{}\n", if here { doubt(&row) } else { row }));
    }
    out
}
