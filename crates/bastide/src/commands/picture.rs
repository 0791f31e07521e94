//! Where pictures go.

use crate::failure::Failure;
use crate::terminal::Terminal;
use bastide_report::picture::Medium;
use std::io::{self, IsTerminal};
use std::path::Path;

/// Writes a picture to a file or the output.
///
/// # Errors
/// A picture of points is to go to a terminal; the file cannot be written.
pub fn deliver(
    picture: Result<Vec<u8>, String>,
    medium: Medium,
    file: Option<&Path>,
    terminal: &mut Terminal,
) -> Result<(), Failure> {
    if medium == Medium::Png && file.is_none() && io::stdout().is_terminal() {
        let hint = "name a file: `-o picture.png`".to_string();
        return Err(Failure::Usage("a PNG is not for a terminal".to_string(), vec![hint]));
    }
    let bytes = picture.map_err(|why| Failure::Outside(format!("the picture cannot be made: {why}")))?;
    terminal.stream(file, |out| out.write_all(&bytes))
}
