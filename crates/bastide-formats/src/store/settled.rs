//! Whether the time of a file can tell a later change from the one before.

use std::fs::Metadata;
use std::time::{Duration, SystemTime};

/// Systems count the times of files in steps of at most this.
const STEP: Duration = Duration::from_millis(20);
/// Those that keep whole seconds count in steps of at most this.
const COARSE: Duration = Duration::from_secs(2);

/// Waits until whatever is written to a file from now on has another time than what is in it. False where there was nothing
/// to wait for: the file is older than a step.
pub fn wait(about: &Metadata) -> bool {
    let Some(last) = last(about) else { return false };
    let whole = last.duration_since(SystemTime::UNIX_EPOCH).is_ok_and(|since| since.subsec_nanos() == 0);
    let step = if whole { COARSE } else { STEP };
    // A time in the future is another clock's: it says nothing.
    let Ok(age) = SystemTime::now().duration_since(last) else { return false };
    if age >= step {
        return false;
    }
    std::thread::sleep(step - age);
    true
}

/// When something of a file was last changed, by the clock of its disk.
fn last(about: &Metadata) -> Option<SystemTime> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let (seconds, nanos) = (u64::try_from(about.ctime()).ok()?, u32::try_from(about.ctime_nsec()).ok()?);
        Some(SystemTime::UNIX_EPOCH + Duration::new(seconds, nanos))
    }
    #[cfg(not(unix))]
    about.modified().ok()
}
