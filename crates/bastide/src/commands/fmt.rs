//! `bastide fmt`

use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::open::EstateArgs;
use crate::print::diagnostics;
use crate::print::text::{count, visible};
use crate::terminal::Terminal;
use bastide_formats::write::{self, Replacement};
use bastide_syntax::format::{FormatError, format};
use bastide_syntax::{Diagnostic, FileId, Sources};
use clap::Args;
use std::io::Read;

#[derive(Args, Debug)]
pub struct FmtArgs {
    /// Change nothing; name the files that are laid out otherwise and end with status 1 if there are any
    #[arg(long)]
    check: bool,
    /// Read one policy text from standard input and print its canonical form
    #[arg(long, conflicts_with = "check")]
    stdin: bool,
}

pub fn run(args: FmtArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    if args.stdin {
        return from_input(terminal);
    }
    let root = estate.root()?;
    let _lock = if args.check { None } else { estate.lock()? };
    let policy = bastide_formats::policy_files(&root).map_err(|refused| Failure::Outside(refused.to_string()))?;
    let mut mistakes: Vec<Diagnostic> = policy.diagnostics;
    let mut changed = Vec::new();
    for (path, file) in &policy.files {
        let text = policy.sources.text(*file);
        match format(*file, text) {
            Ok(canonical) if canonical != text => changed.push((path, file, canonical)),
            Ok(_) => {}
            Err(FormatError::Mistakes(found)) => mistakes.extend(found),
            Err(FormatError::Fault) => panic!("the canonical form of `{path}` would not say the same"),
        }
    }
    // One file with mistakes, and none is touched: half a folder laid out anew helps nobody.
    refuse(&policy.sources, &mistakes, terminal)?;
    if !args.check && !changed.is_empty() {
        let replacements: Vec<Replacement> = changed
            .iter()
            .map(|(path, file, text)| Replacement {
                file: path,
                old: policy.sources.text(**file).as_bytes(),
                new: text.as_bytes(),
            })
            .collect();
        write::commit(&root, &replacements, &|| policy.folder.changed(), &mut |_| Ok(()))
            .map_err(|e| Failure::Outside(e.to_string()))?;
    }
    for (path, ..) in &changed {
        let what = if args.check { "is not in its canonical layout" } else { "laid out anew" };
        terminal.print(&format!("{} {what}\n", visible(path)))?;
    }
    let same = policy.files.len() - changed.len();
    terminal.print(&format!(
        "{} in canonical layout\n",
        count(if args.check { same } else { policy.files.len() }, "file")
    ))?;
    Ok(if args.check && !changed.is_empty() { BAD_NEWS } else { DONE })
}

fn from_input(terminal: &mut Terminal) -> Result<u8, Failure> {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).map_err(|e| Failure::Outside(format!("standard input: {e}")))?;
    let mut sources = Sources::new();
    let file: FileId = sources.add("standard input", text);
    match format(file, sources.text(file)) {
        Ok(canonical) => terminal.print(&canonical)?,
        Err(FormatError::Mistakes(mistakes)) => refuse(&sources, &mistakes, terminal)?,
        Err(FormatError::Fault) => panic!("the canonical form would not say the same"),
    }
    Ok(DONE)
}

fn refuse(sources: &Sources, mistakes: &[Diagnostic], terminal: &Terminal) -> Result<(), Failure> {
    if mistakes.is_empty() {
        return Ok(());
    }
    let mistakes: Vec<&Diagnostic> = mistakes.iter().collect();
    Err(Failure::Estate(diagnostics::report(sources, &mistakes, terminal)))
}
