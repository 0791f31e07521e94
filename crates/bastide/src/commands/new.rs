//! `bastide new`

use crate::failure::{DONE, Failure};
use crate::terminal::Terminal;
use crate::whole;
use bastide_formats::manifest;
use clap::Args;
use include_dir::{Dir, include_dir};
use std::path::{Path, PathBuf};

static STARTER: Dir = include_dir!("$CARGO_MANIFEST_DIR/starter");

#[derive(Args, Debug)]
pub struct NewArgs {
    /// The folder to begin it in; it must be empty or not there yet
    dir: PathBuf,
}

pub fn run(args: NewArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    lay_out(&STARTER, &args.dir)?;
    let dir = args.dir.display();
    terminal.print(&format!(
        "a small estate stands in `{dir}`: a manifest, one policy file, and people, groups, catalog and entries as CSV\n\n\
         next:  bastide -C {dir} check\n       bastide -C {dir} matrix\n       bastide -C {dir} why ada read Handbook\n"
    ))?;
    Ok(DONE)
}

/// Writes a folder of the program into a folder that is empty or not there.
pub fn lay_out(from: &Dir, to: &Path) -> Result<(), Failure> {
    let named = |error: std::io::Error| Failure::Outside(format!("`{}` cannot be written: {error}", to.display()));
    if to.is_file() {
        return Err(Failure::Outside(format!("`{}` is a file", to.display())));
    }
    if to.is_dir() && std::fs::read_dir(to).map_err(named)?.next().is_some() {
        let hint = "nothing is overwritten: name a folder that is empty or not there yet".to_string();
        return Err(Failure::Usage(format!("`{}` is not empty", to.display()), vec![hint]));
    }
    let mut files = Vec::new();
    gather(from, &mut files);
    // The manifest makes an estate of a folder: it comes last.
    files.sort_by_key(|(path, _)| path.as_path() == Path::new(manifest::NAME));
    whole::folder(to, &files).map_err(named)
}

fn gather(from: &Dir, files: &mut whole::Files) {
    from.dirs().for_each(|dir| gather(dir, files));
    files.extend(from.files().map(|file| (file.path().to_path_buf(), file.contents().to_vec())));
}
