//! `bastide setup`

use crate::cli::Cli;
use crate::failure::{DONE, Failure};
use crate::terminal::Terminal;
use clap::{Args, CommandFactory};
use std::path::{Path, PathBuf};

/// The variable by which the scripts ask the program what could come next.
const VARIABLE: &str = "COMPLETE";

/// Each shell's script, by the name under which the shell looks for it.
const SCRIPTS: [(&str, &str); 4] =
    [("bash", "bastide"), ("zsh", "_bastide"), ("fish", "bastide.fish"), ("powershell", "bastide.ps1")];

#[derive(Args, Debug)]
pub struct SetupArgs {
    /// The folder; `man` and `completions` are made in it
    dir: PathBuf,
}

pub fn run(args: SetupArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let outside =
        |path: &Path, e: std::io::Error| Failure::Outside(format!("`{}` cannot be written: {e}", path.display()));
    let man = args.dir.join("man");
    let mut files = Vec::new();
    // The pages are drawn in a folder that nobody sees.
    let drawn = tempfile::tempdir()?;
    clap_mangen::generate_to(Cli::command(), drawn.path()).map_err(|e| outside(&man, e))?;
    for page in std::fs::read_dir(drawn.path())? {
        let page = page?;
        files.push((man.join(page.file_name()), std::fs::read(page.path())?));
    }
    files.sort();
    let pages = files.len();
    let shells = crate::shells::all();
    for (shell, name) in SCRIPTS {
        let path = args.dir.join("completions").join(shell).join(name);
        let mut script = Vec::new();
        let completer = shells.completer(shell).expect("the shell is one of those built in");
        completer
            .write_registration(VARIABLE, "bastide", "bastide", "bastide", &mut script)
            .map_err(|e| outside(&path, e))?;
        files.push((path, script));
    }
    crate::whole::write(&files).map_err(|e| outside(&args.dir, e))?;
    terminal.print(&format!(
        "{pages} manual pages in `{}`; completions for bash, zsh, fish and PowerShell in `{}`\n",
        man.display(),
        args.dir.join("completions").display()
    ))?;
    Ok(DONE)
}
