//! Totals.

use super::text::{bold, dim, grouped, pad};
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

/// One line a kind, one column an action, in as many blocks as the width asks for.
fn by_kind(summary: &Summary, columns: usize) -> String {
    let mut out = String::new();
    let kinds = summary.resources_by_kind.keys().map(String::len).max().unwrap_or(0).max(4);
    let actions: Vec<&String> = summary.allowed.keys().collect();
    let totals: Vec<u64> = summary.allowed.values().map(|v| v.as_u64().unwrap_or(0)).collect();
    let widths: Vec<usize> = actions.iter().zip(&totals).map(|(a, t)| a.len().max(grouped(*t).len())).collect();
    let mut from = 0;
    while from < actions.len() {
        let mut used = kinds + 4 + 9;
        let fits = widths[from..].iter().take_while(|w| {
            used += **w + 2;
            used <= columns
        });
        let upto = from + fits.count().max(1);
        let line = |kind: &str, resources: &str, cells: &dyn Fn(usize) -> String| {
            let cells: String = (from..upto).map(|a| format!("  {:>1$}", cells(a), widths[a])).collect();
            format!("  {}  {resources:>9}{cells}\n", pad(kind, kinds))
        };
        out.push_str(&dim(&line("kind", "resources", &|a| actions[a].clone())));
        for (kind, resources) in &summary.resources_by_kind {
            let number = |a: usize| match summary.allowed_by_kind[kind].get(actions[a]) {
                None | Some(0) => "-".to_string(),
                Some(n) => grouped(*n),
            };
            out.push_str(&line(kind, &grouped(*resources as u64), &number));
        }
        out.push_str(&bold(&line("all", &grouped(summary.resources as u64), &|a| grouped(totals[a]))));
        from = upto;
        if from < actions.len() {
            out.push('\n');
        }
    }
    out
}
