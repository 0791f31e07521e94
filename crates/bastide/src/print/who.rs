//! Who can do one thing in one place.

use super::text::{bad, bold, count, dim, good, hang, table, visible};
use super::why::{modality, way};
use bastide_engine::access::{Holders, HoldersBy};

/// Users listed for each statement, unless all are asked for.
const MOST_USERS: usize = 12;

/// What to show besides who may.
#[derive(Clone, Copy)]
pub struct Detail {
    /// Those who may not, too.
    pub not: bool,
    /// The chain of every user.
    pub via: bool,
    /// Every user of long lists.
    pub all: bool,
}

/// The holders as text.
pub fn holders(holders: &Holders, detail: Detail, columns: usize) -> String {
    let all = holders.allowed + holders.refused;
    let head = format!("{} of {} can {} ", bold(&holders.allowed.to_string()), count(all, "user"), holders.action);
    let mut out = hang(&head, &format!("`{}`", visible(&holders.path)), columns);
    for profile in &holders.profiles {
        let text = format!("can {} here", visible(&profile.actions.join(", ")));
        out.push_str(&hang(&format!("  {:>4}  ", profile.users.len()), &text, columns));
    }
    if holders.action.contains(", ") {
        let text =
            "who can: by what lets them do the first of these; who cannot: by what refuses the first that is refused";
        out.push_str(&hang("  ", &dim(text), columns));
    }
    let mut cut = false;
    for by in &holders.by {
        out.push_str(&block(by, detail, columns, &mut cut));
    }
    if detail.not {
        out.push_str(&format!("\n{}\n", bad(&format!("{} cannot", holders.refused))));
        for by in &holders.not {
            out.push_str(&block(by, detail, columns, &mut cut));
        }
    }
    let mut left_out = Vec::new();
    if !detail.not && holders.refused > 0 {
        left_out.push(format!("{} who cannot (--not)", holders.refused));
    }
    if cut {
        left_out.push("the rest of long lists (--all)".to_string());
    }
    if !detail.via {
        left_out.push("the chain of each user (--via)".to_string());
    }
    out.push_str(&format!("\n{}\n", dim(&format!("left out: {}", left_out.join("; ")))));
    out
}

fn block(by: &HoldersBy, detail: Detail, columns: usize, cut: &mut bool) -> String {
    let reason = by.reason.word();
    let reason = if by.reason.is_allowed() { good(reason) } else { bad(reason) };
    let mut out = match &by.statement {
        Some(s) => {
            let shown =
                if s.sort == "rule" { format!("rule {} ({})", s.name, s.place) } else { format!("entry {}", s.name) };
            let users = count(by.users.len(), "user");
            let text = format!("{}: {}", visible(&shown), visible(&s.who));
            let mut head =
                format!("\n{}", hang(&format!("{reason}  {users}  {} ", modality(&s.modality)), &text, columns));
            if let Some(because) = &s.because {
                head.push_str(&hang("  ", &format!("\"{}\"", visible(because)), columns));
            }
            head
        }
        None => format!("\n{reason}  {}: nothing permits it\n", count(by.users.len(), "user")),
    };
    let shown = if detail.all { by.users.len() } else { by.users.len().min(MOST_USERS) };
    *cut |= shown < by.users.len();
    if detail.via {
        for user in &by.users[..shown] {
            let ways: Vec<String> = user.ways.iter().map(way).collect();
            let ways = if ways.is_empty() { String::new() } else { format!(": {}", ways.join("; ")) };
            out.push_str(&hang("    ", &format!("{} ({}){ways}", visible(&user.name), visible(&user.user)), columns));
        }
    } else {
        let users: Vec<String> = by.users[..shown]
            .iter()
            .map(|u| {
                let kind = if u.kind == "person" { String::new() } else { format!(" ({})", u.kind) };
                format!("{}{kind}", visible(&u.user))
            })
            .collect();
        let more = if shown < by.users.len() { format!(" and {} more", by.users.len() - shown) } else { String::new() };
        out.push_str(&hang("    ", &format!("{}{more}", users.join(", ")), columns));
    }
    out
}

/// One row a user; `not`: those who cannot, too.
pub fn csv(holders: &Holders, not: bool) -> String {
    let groups = holders.by.iter().chain(holders.not.iter().filter(|_| not));
    let rows = groups.flat_map(|by| {
        by.users.iter().map(|user| {
            let decision = if by.reason.is_allowed() { "allowed" } else { "refused" };
            let statement = by.statement.as_ref().map_or(String::new(), |s| s.name.clone());
            let ways: Vec<String> =
                user.ways.iter().map(|w| if w.chain.is_empty() { w.by.clone() } else { w.chain.join(" > ") }).collect();
            [&user.user, &user.name, decision, by.reason.word(), &statement, &ways.join("; ")]
                .map(str::to_string)
                .to_vec()
        })
    });
    table(&["user", "name", "decision", "reason", "statement", "through"], rows)
}
