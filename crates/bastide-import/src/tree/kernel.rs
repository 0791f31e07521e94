//! What the system itself says: everybody's access, asked as that account. Only the superuser can become somebody else.

use super::{ACTIONS, Entry};
use crate::database::Privilege;
use crate::ids::{id, segment};
use crate::tree::accounts::Accounts;
use crate::{Failed, LeftOut};
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::{Command, Stdio};

/// Answers every line, a path, with three letters: whether it may be read, written, and searched.
const SCRIPT: &str = "while IFS= read -r f; do r=n; w=n; x=n; \
    [ -r \"$f\" ] && r=y; [ -w \"$f\" ] && w=y; [ -x \"$f\" ] && x=y; echo \"$r$w$x\"; done";

pub fn ask(
    from: &Path,
    entries: &[Entry],
    accounts: &Accounts,
    prefix: &str,
    left: &mut LeftOut,
) -> Result<Vec<Privilege>, Failed> {
    if !rustix::process::geteuid().is_root() {
        return Err(Failed::new(
            "only the superuser can ask the system as somebody else: run it as `root`, or leave out `--verify`",
        ));
    }
    let real =
        std::fs::canonicalize(from).map_err(|e| Failed::new(format!("`{}` cannot be read: {e}", from.display())))?;
    let mut asked: Vec<&Entry> = Vec::new();
    let mut paths = Vec::new();
    for entry in entries {
        let mut path = real.as_os_str().as_bytes().to_vec();
        for name in &entry.names[1..] {
            path.push(b'/');
            path.extend_from_slice(name);
        }
        if path.contains(&b'\n') {
            left.note(
                "files that the system cannot be asked about, because of a line end in their name",
                id("", entry.names.iter().map(Vec::as_slice)),
            );
            continue;
        }
        path.push(b'\n');
        paths.extend_from_slice(&path);
        asked.push(entry);
    }
    let mut decisions = Vec::new();
    for account in &accounts.list {
        let groups: Vec<String> = accounts.groups_of(account).iter().map(u32::to_string).collect();
        let answers = as_account(account.number, account.group, &groups.join(","), &paths)
            .map_err(|e| Failed::new(format!("the system cannot be asked as `{}`: {e}", account.id)))?;
        let lines: Vec<&[u8]> = answers.split(|b| *b == b'\n').filter(|line| !line.is_empty()).collect();
        if lines.len() != asked.len() || lines.iter().any(|line| line.len() != 3) {
            return Err(Failed::new(format!("the system did not answer every question as `{}`", account.id)));
        }
        for (entry, answer) in asked.iter().zip(lines) {
            for (action, bit) in ACTIONS {
                if action == "search" && !entry.directory {
                    continue;
                }
                let at = match bit {
                    4 => 0,
                    2 => 1,
                    _ => 2,
                };
                decisions.push(Privilege {
                    user: format!("{prefix}{}", segment(account.id.as_bytes())),
                    resource: id(prefix, entry.names.iter().map(Vec::as_slice)),
                    action: action.to_string(),
                    allowed: answer[at] == b'y',
                });
            }
        }
    }
    Ok(decisions)
}

fn as_account(user: u32, group: u32, groups: &str, paths: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut child = Command::new("setpriv")
        .args([
            "--reuid",
            &user.to_string(),
            "--regid",
            &group.to_string(),
            "--groups",
            groups,
            "--",
            "/bin/sh",
            "-c",
            SCRIPT,
        ])
        .current_dir("/")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()?;
    let mut input = child.stdin.take().ok_or_else(|| std::io::Error::other("it takes no questions"))?;
    let paths = paths.to_vec();
    // Written beside reading, so that neither waits for the other.
    let writer = std::thread::spawn(move || input.write_all(&paths));
    let output = child.wait_with_output()?;
    let written = writer.join().unwrap_or_else(|_| Err(std::io::Error::other("a fault")));
    if !output.status.success() {
        return Err(std::io::Error::other("`setpriv` refused"));
    }
    written?;
    Ok(output.stdout)
}
