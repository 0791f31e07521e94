//! `bastide setup`

use crate::cli::Cli;
use crate::failure::{DONE, Failure};
use crate::stage::Stage;
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

pub fn run(args: SetupArgs, stage: &mut Stage) -> Result<u8, Failure> {
    let outside = |path: &Path, e: std::io::Error| Failure::Outside(format!("`{}`: {e}", path.display()));
    let man = args.dir.join("man");
    std::fs::create_dir_all(&man).map_err(|e| outside(&man, e))?;
    clap_mangen::generate_to(Cli::command(), &man).map_err(|e| outside(&man, e))?;
    let shells = crate::shells::all();
    for (shell, name) in SCRIPTS {
        let dir = args.dir.join("completions").join(shell);
        std::fs::create_dir_all(&dir).map_err(|e| outside(&dir, e))?;
        let mut script = Vec::new();
        let completer = shells.completer(shell).expect("the shell is one of those built in");
        completer
            .write_registration(VARIABLE, "bastide", "bastide", "bastide", &mut script)
            .map_err(|e| outside(&dir, e))?;
        stage.stream(Some(&dir.join(name)), |out| out.write_all(&script))?;
    }
    let pages = std::fs::read_dir(&man).map_err(|e| outside(&man, e))?.count();
    stage.print(&format!(
        "{pages} manual pages in `{}`; completions for bash, zsh, fish and PowerShell in `{}`\n",
        man.display(),
        args.dir.join("completions").display()
    ))?;
    Ok(DONE)
}
