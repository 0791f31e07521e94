//! Decisions of a platform beside ours.

use super::text::{bad, blocks, bold, count, dim, good, grouped, hang, visible};
use crate::found::verify::Verified;
use bastide_engine::access::Differing;

/// What was compared, as text.
pub fn verified(v: &Verified, columns: usize) -> String {
    let a = &v.agreement;
    let differ = a.asked - a.agree;
    let head = match differ {
        0 => good(&format!("{} compared: all are the same here", count(a.asked, "decision"))),
        _ => bad(&format!("{} compared: {} differ", count(a.asked, "decision"), grouped(differ as u64))),
    };
    let mut out = format!("{}\n", bold(&head));
    if !a.by.is_empty() {
        let heads = ["action", "kind", "compared", "differ"].map(str::to_string);
        let rows: Vec<Vec<String>> =
            a.by.iter()
                .map(|by| {
                    let differ = by.asked - by.agree;
                    let differ = if differ == 0 { String::new() } else { grouped(differ as u64) };
                    let compared = grouped(by.asked as u64);
                    vec![visible(&by.action).into_owned(), visible(&by.kind).into_owned(), compared, differ]
                })
                .collect();
        out.push_str(&format!("\n{}", blocks(&heads, &rows, columns)));
    }
    a.differences.iter().for_each(|d| out.push_str(&differing(d, columns)));
    for missing in &v.not_here {
        let head = format!(
            "\n{} could not be compared: {} not in the estate\n",
            count(missing.decisions, "decision"),
            if missing.count == 1 {
                format!("a {} is", missing.what)
            } else {
                format!("{} are", count(missing.count, &missing.what))
            }
        );
        out.push_str(&bad(&head));
        let names: Vec<String> = missing.some.iter().map(|name| visible(name).into_owned()).collect();
        out.push_str(&hang("  ", &names.join(", "), columns));
        if missing.count > missing.some.len() {
            out.push_str(&format!(
                "  {}\n",
                dim(&format!("left out: {} more (--all)", grouped((missing.count - missing.some.len()) as u64)))
            ));
        }
    }
    out
}

fn differing(d: &Differing, columns: usize) -> String {
    let (here, there) = if d.allowed_here { ("allowed", "refused") } else { ("refused", "allowed") };
    let by = match &d.statement {
        Some(by) => format!(" by {} `{}`", by.sort, visible(&by.name)),
        None => String::new(),
    };
    let head = format!("{}: {here} here ({}{by}), {there} there", count(d.count, "decision"), d.reason.word());
    let mut out = format!("\n{}", hang("", &bold(&head), columns));
    for example in &d.some {
        out.push_str(&hang("  ", &visible(&example.why), columns));
    }
    if d.count > d.some.len() {
        out.push_str(&format!(
            "  {}\n",
            dim(&format!("left out: {} more (--all)", grouped((d.count - d.some.len()) as u64)))
        ));
    }
    out
}
