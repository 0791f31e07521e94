//! Totals of everything, and what counting them took.

use super::args::{MatrixArgs, MatrixFormat};
use crate::about::About;
use crate::answers::matrix::{CountingSeconds, Totals};
use crate::failure::{DONE, Failure};
use crate::open::Opened;
use crate::print::summary::Cost;
use crate::print::{json, summary};
use crate::terminal::Terminal;
use bastide_engine::access::Summary;
use bastide_model::Moment;

pub(super) fn deliver_summary(
    args: &MatrixArgs,
    opened: &Opened,
    moment: &Moment,
    totals: &Summary,
    cost: &Cost,
    terminal: &mut Terminal,
) -> Result<u8, Failure> {
    let text = match args.format {
        MatrixFormat::Table => summary::summary(totals, cost, terminal.width()),
        MatrixFormat::Json => {
            let seconds = CountingSeconds { load: cost.load, evaluate: cost.evaluate };
            let value = Totals { totals: totals.into(), seconds, peak_bytes: cost.peak };
            json::document("summary", &About::of(opened, moment), &value)
        }
        _ => {
            let hint = "write `--format json`, or `--totals users` for CSV".to_string();
            return Err(Failure::Usage("a summary has no rows".to_string(), vec![hint]));
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(DONE)
}

/// Peak resident memory by the system's own account, where it gives one.
pub(super) fn peak_bytes() -> Option<u64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:"))?;
    line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok().map(|kib| kib * 1024)
}
