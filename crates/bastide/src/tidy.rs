//! Nothing is left lying about when the program is told to stop: temporary files go with it.

use bastide_formats::stray;

/// From here on an interrupt or a request to end first takes away what is temporary, then does what it always does.
#[cfg(unix)]
pub fn on_signals() {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    use signal_hook::iterator::Signals;
    let ignored = ignored();
    let wanted = [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| ignored >> (signal - 1) & 1 == 0);
    let Ok(mut signals) = Signals::new(wanted) else { return };
    std::thread::spawn(move || {
        if let Some(signal) = signals.forever().next() {
            stray::remove_all();
            crate::explore::leave();
            let _ = signal_hook::low_level::emulate_default_handler(signal);
        }
    });
}

/// The signals that whoever started the program asked it to ignore (a run that outlives its terminal), a bit each. Where the
/// system does not say, none.
#[cfg(unix)]
fn ignored() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or(0)
}

/// Elsewhere the system keeps no such promise.
#[cfg(not(unix))]
pub fn on_signals() {
    let _ = stray::remove_all;
}
