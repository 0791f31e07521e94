//! Nothing is left lying about when the program is told to stop: temporary files go with it.

use bastide_formats::stray;

/// From here on an interrupt or a request to end first takes away what is temporary, then does what it always does.
#[cfg(unix)]
pub fn on_signals() {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    use signal_hook::iterator::Signals;
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    std::thread::spawn(move || {
        if let Some(signal) = signals.forever().next() {
            stray::remove_all();
            let _ = signal_hook::low_level::emulate_default_handler(signal);
        }
    });
}

/// Elsewhere the system keeps no such promise.
#[cfg(not(unix))]
pub fn on_signals() {
    let _ = stray::remove_all;
}
