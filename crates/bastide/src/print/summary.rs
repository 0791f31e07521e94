//! Totals.

use super::text::{blocks, bold, dim, grouped};
use bastide_engine::access::Summary;

/// Time and memory of a run.
pub struct Cost {
    /// Seconds of loading.
    pub load: f64,
    /// Seconds of evaluating.
    pub evaluate: f64,
    /// Peak resident memory in bytes, where the system tells.
    pub peak: Option<u64>,
}

/// The totals as text.
pub fn summary(summary: &Summary, cost: &Cost, columns: usize) -> String {
    let mut out = format!(
        "{} users ({} active), {} resources, {} actions: {} triples under {} statements\n",
        grouped(summary.users as u64),
        grouped(summary.active_users as u64),
        grouped(summary.resources as u64),
        summary.actions,
        grouped(summary.triples),
        grouped(summary.statements as u64),
    );
    let share = |n: u64| if summary.triples == 0 { 0.0 } else { n as f64 * 100.0 / summary.triples as f64 };
    out.push_str(&format!("\n{}\n", bold("allowed, by action and kind")));
    out.push_str(&by_kind(summary, columns));
    out.push_str(&format!("\n{}\n", bold("by reason")));
    for (list, word) in [(&summary.allowed_by_reason, "allowed"), (&summary.refused, "refused")] {
        for (reason, count) in list {
            let percent = format!("{:.1} %", share(*count));
            out.push_str(&format!("  {word}  {reason:<9}  {:>14}  {percent:>7}\n", grouped(*count)));
        }
    }
    out.push_str(&format!(
        "\n{} profiles: groups of users with identical access; {} distinct outcomes among {} resources\n",
        grouped(summary.profiles as u64),
        grouped(summary.distinct_outcomes as u64),
        grouped(summary.resources as u64),
    ));
    let peak =
        cost.peak.map_or(String::new(), |p| format!(", at most {:.0} MiB of memory", p as f64 / (1 << 20) as f64));
    out.push_str(&dim(&format!("loaded in {:.2} s, evaluated in {:.2} s{peak}", cost.load, cost.evaluate)));
    out.push('\n');
    out
}

/// One line a kind, one column an action.
fn by_kind(summary: &Summary, columns: usize) -> String {
    let actions: Vec<&String> = summary.allowed.iter().map(|(action, _)| action).collect();
    let number = |n: u64| if n == 0 { "-".to_string() } else { grouped(n) };
    let mut rows: Vec<Vec<String>> = summary
        .resources_by_kind
        .iter()
        .map(|(kind, resources)| {
            let cells = actions.iter().map(|a| number(summary.allowed_by_kind[kind].get(*a).copied().unwrap_or(0)));
            [kind.clone(), grouped(*resources as u64)].into_iter().chain(cells).collect()
        })
        .collect();
    let totals = summary.allowed.iter().map(|(_, count)| number(*count));
    rows.push(["all".to_string(), grouped(summary.resources as u64)].into_iter().chain(totals).collect());
    let heads: Vec<String> =
        ["kind", "resources"].map(String::from).into_iter().chain(actions.into_iter().cloned()).collect();
    blocks(&heads, &rows, columns)
}
