//! `bastide new`

use crate::failure::{DONE, Failure};
use crate::stage::Stage;
use clap::Args;
use include_dir::{Dir, include_dir};
use std::path::{Path, PathBuf};

static STARTER: Dir = include_dir!("$CARGO_MANIFEST_DIR/starter");

#[derive(Args, Debug)]
pub struct NewArgs {
    /// The folder to begin it in; it must be empty or not there yet
    dir: PathBuf,
}

pub fn run(args: NewArgs, stage: &mut Stage) -> Result<u8, Failure> {
    lay_out(&STARTER, &args.dir)?;
    let dir = args.dir.display();
    stage.print(&format!(
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
    std::fs::create_dir_all(to).map_err(named)?;
    write(from, to).map_err(named)
}

fn write(from: &Dir, to: &Path) -> std::io::Result<()> {
    for dir in from.dirs() {
        std::fs::create_dir_all(to.join(dir.path()))?;
        write(dir, to)?;
    }
    for file in from.files() {
        std::fs::write(to.join(file.path()), file.contents())?;
    }
    Ok(())
}
