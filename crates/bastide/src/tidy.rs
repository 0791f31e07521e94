//! Nothing is left lying about when the program is told to stop: temporary files go with it.

use crate::failure::FAULT;
use crate::terminal::{Color, Terminal};
use bastide_formats::stray;
use std::sync::mpsc::channel;
use std::time::Duration;

/// So long a fault waits for temporary files to go: what it fell over may hold them fast.
const PATIENCE: Duration = Duration::from_secs(1);

/// From here on a fault of the program is told, whatever thread it happens on, and ends it with a status of its own.
pub fn on_faults() {
    std::panic::set_hook(Box::new(|info| {
        crate::explore::leave();
        Terminal::real(Color::Never).complain(&format!(
            "error: a fault of Bastide itself: {info}\nplease report it with the command you gave\n"
        ));
        let (gone, waits) = channel();
        std::thread::spawn(move || {
            stray::remove_all();
            let _ = gone.send(());
        });
        let _ = waits.recv_timeout(PATIENCE);
        // Nothing unwinds: in a release there is nothing that could.
        std::process::exit(i32::from(FAULT));
    }));
}

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

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::PathBuf;
    use std::process::Command;

    const FOLDER: &str = "BASTIDE_TEST_OF_A_FAULT";

    #[test]
    #[ignore = "the next test runs it, in a process of its own"]
    fn a_fault() {
        let Some(folder) = std::env::var_os(FOLDER) else { return };
        on_faults();
        let path = PathBuf::from(folder).join("half");
        let _stray = stray::Stray::of(&path);
        std::fs::write(&path, "half").unwrap();
        // Another thread is at work, which nobody ends.
        std::thread::spawn(|| {
            loop {
                std::thread::park()
            }
        });
        std::thread::spawn(|| panic!("this is it")).join().unwrap();
    }

    #[test]
    fn a_fault_on_any_thread_is_told_and_leaves_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let mut command = Command::new(std::env::current_exe().unwrap());
        command.args(["--exact", "tidy::tests::a_fault", "--ignored", "--nocapture"]).env(FOLDER, folder.path());
        let output = command.output().unwrap();
        assert_eq!(output.status.code(), Some(i32::from(FAULT)));
        let told = String::from_utf8(output.stderr).unwrap();
        assert!(told.contains("error: a fault of Bastide itself: ") && told.contains("this is it"), "{told}");
        assert!(std::fs::read_dir(folder.path()).unwrap().next().is_none());
    }
}
