//! Trees of files with POSIX permissions and access control lists: folders and files as a catalog, accounts and their groups as
//! people and groups, and the lists as attributes of the resources, which fixed rules read in the order in which the system
//! does.
//!
//! A link is not followed, and nothing is read of a file but its list. What is above the tree is taken to be open to everybody.

mod accounts;
#[cfg(target_os = "linux")]
mod kernel;
mod list;

use crate::database::Privilege;
use crate::ids::{id, name, segment};
use crate::table::{Table, set};
use crate::{Asking, Failed, Fetched, LeftOut, MOST_ROWS};
use accounts::Accounts;
use bastide_formats::manifest::Import;
use list::{Bits, List};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Deeper trees are an error: a catalog has a thousand levels at most.
const DEEPEST: usize = 990;
const WORDS: &str = include_str!("words.bastide");
const RULES: &str = include_str!("rules.bastide");

/// Something in the tree: its names from the root down, and its list.
struct Entry {
    names: Vec<Vec<u8>>,
    directory: bool,
    list: List,
}

pub fn fetch(import: &Import, asking: &Asking, decisions: bool) -> Result<Fetched, Failed> {
    let from = place(&import.from.text, asking.root)?;
    let mut left = LeftOut::default();
    let relative = |given: &Option<bastide_formats::text::Placed>, otherwise: &str| {
        given.as_ref().map_or_else(|| PathBuf::from(otherwise), |path| asking.root.join(&path.text))
    };
    let (users, groups) = (relative(&import.users, "/etc/passwd"), relative(&import.groups, "/etc/group"));
    let accounts = Accounts::read(&users, &groups, &mut left)?;
    let about =
        std::fs::metadata(&from).map_err(|e| Failed::new(format!("`{}` cannot be read: {e}", from.display())))?;
    let most = import.at_most.unwrap_or(MOST_ROWS);
    let entries = if about.is_dir() { walk(&from, most, &mut left)? } else { listed(&from, &accounts, most)? };
    let kernel = match (decisions, about.is_dir()) {
        (false, _) => Vec::new(),
        (true, true) => asked(&from, &entries, &accounts, &import.prefix, &mut left)?,
        (true, false) => {
            return Err(Failed::new("a text says what was given, and decides nothing that could be compared"));
        }
    };
    let into = &import.into.text;
    let mut files = tables(&entries, &accounts, import);
    files.insert("words.bastide", WORDS.to_string());
    files.insert("rules.bastide", RULES.to_string());
    let files = files.into_iter().map(|(file, text)| (format!("{into}/{file}"), text)).collect();
    Ok(Fetched { files, left: left.finish(), decisions: kernel })
}

/// The path of a `file:` address (RFC 8089); without a `/` it is relative to the manifest.
fn place(from: &str, root: &Path) -> Result<PathBuf, Failed> {
    if let Some(path) = from.strip_prefix("file:").filter(|path| !path.starts_with('/')) {
        return Ok(root.join(path));
    }
    let url = url::Url::parse(from).map_err(|e| Failed::new(format!("`{from}` is no address: {e}")))?;
    url.to_file_path()
        .map_err(|()| Failed::new(format!("`{from}` is no file of this machine: write `file:///srv/share`")))
}

#[cfg(target_os = "linux")]
fn asked(
    from: &Path,
    entries: &[Entry],
    accounts: &Accounts,
    prefix: &str,
    left: &mut LeftOut,
) -> Result<Vec<Privilege>, Failed> {
    kernel::ask(from, entries, accounts, prefix, left)
}

#[cfg(not(target_os = "linux"))]
fn asked(_: &Path, _: &[Entry], _: &Accounts, _: &str, _: &mut LeftOut) -> Result<Vec<Privilege>, Failed> {
    Err(Failed::new("this system cannot be asked as somebody else"))
}

#[cfg(not(target_os = "linux"))]
fn walk(_: &Path, _: u64, _: &mut LeftOut) -> Result<Vec<Entry>, Failed> {
    Err(Failed::new("the lists of files are read on Linux; elsewhere, import the text that `getfacl -R` gives"))
}

/// Everything beneath a folder, itself first.
#[cfg(target_os = "linux")]
fn walk(root: &Path, most: u64, left: &mut LeftOut) -> Result<Vec<Entry>, Failed> {
    use std::os::unix::ffi::OsStrExt;
    use std::os::unix::fs::MetadataExt;
    let real =
        std::fs::canonicalize(root).map_err(|e| Failed::new(format!("`{}` cannot be read: {e}", root.display())))?;
    let first = real.file_name().unwrap_or("root".as_ref()).as_bytes().to_vec();
    let device = std::fs::symlink_metadata(&real).map_err(|e| unread(&real, &e))?.dev();
    let mut found = Vec::new();
    let mut open: Vec<(PathBuf, Vec<Vec<u8>>)> = vec![(real, vec![first])];
    while let Some((path, names)) = open.pop() {
        let about = match std::fs::symlink_metadata(&path) {
            Ok(about) => about,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                left.note("files that went while they were read", path.display().to_string());
                continue;
            }
            Err(error) => return Err(unread(&path, &error)),
        };
        if about.is_symlink() {
            left.note("symbolic links", path.display().to_string());
            continue;
        }
        if about.dev() != device {
            left.note("places where another file system is mounted", path.display().to_string());
            continue;
        }
        if !about.is_file() && !about.is_dir() {
            left.note("pipes, sockets and devices", path.display().to_string());
            continue;
        }
        if names.len() > DEEPEST {
            return Err(Failed::new(format!("the tree is deeper than {DEEPEST} levels at `{}`", path.display())));
        }
        if found.len() as u64 >= most {
            return Err(Failed::new(format!("it holds more than {most} files; if so many are right, set `at_most`")));
        }
        if about.is_file() && about.mode() & 0o111 != 0 {
            left.note("rights to run a file", path.display().to_string());
        }
        if about.is_dir() {
            for entry in std::fs::read_dir(&path).map_err(|e| unread(&path, &e))? {
                let entry = entry.map_err(|e| unread(&path, &e))?;
                let mut inner = names.clone();
                inner.push(entry.file_name().as_bytes().to_vec());
                open.push((entry.path(), inner));
            }
        }
        found.push(Entry { names, directory: about.is_dir(), list: list_of(&path, &about)?.in_practice() });
    }
    Ok(found)
}

fn unread(path: &Path, error: &std::io::Error) -> Failed {
    Failed::new(format!("`{}` cannot be read: {error}; import as somebody who may read all of it", path.display()))
}

#[cfg(target_os = "linux")]
fn list_of(path: &Path, about: &std::fs::Metadata) -> Result<List, Failed> {
    use std::os::unix::fs::MetadataExt;
    const LIST: &str = "system.posix_acl_access";
    // A list has an entry for each account and group that is named; longer ones are refused by the file systems.
    let mut bytes = vec![0; 1 << 16];
    let (owner, group) = (about.uid(), about.gid());
    match rustix::fs::lgetxattr(path, LIST, bytes.as_mut_slice()) {
        Ok(length) => List::of_attribute(owner, group, &bytes[..length]).ok_or_else(|| {
            Failed::new(format!("the access control list of `{}` has a form that is not known", path.display()))
        }),
        // It has none, or its file system knows none.
        Err(rustix::io::Errno::NODATA | rustix::io::Errno::OPNOTSUPP) => Ok(List::of_mode(owner, group, about.mode())),
        Err(error) => Err(unread(path, &error.into())),
    }
}

/// The entries of a text that `getfacl -R` gave. What has entries beneath is a directory, and so is what passes a list on.
fn listed(path: &Path, accounts: &Accounts, most: u64) -> Result<Vec<Entry>, Failed> {
    let text = std::fs::read_to_string(path).map_err(|e| unread(path, &e))?;
    let found = list::parse(&text, accounts)?;
    if found.len() as u64 > most {
        return Err(Failed::new(format!("it holds more than {most} files; if so many are right, set `at_most`")));
    }
    let names = |path: &[u8]| -> Vec<Vec<u8>> {
        path.split(|b| *b == b'/').filter(|name| !name.is_empty() && *name != b".").map(<[u8]>::to_vec).collect()
    };
    // The first one is the root; what is above it is not part of the tree.
    let root = found.first().map(|first| names(&first.path)).unwrap_or_default();
    let called = root.last().cloned().unwrap_or_else(|| b"root".to_vec());
    let mut entries = Vec::new();
    for listed in found {
        let whole = names(&listed.path);
        let Some(rest) = whole.strip_prefix(root.as_slice()) else {
            let path = String::from_utf8_lossy(&listed.path).into_owned();
            return Err(Failed::new(format!("`{path}` is not beneath the first file of the text")));
        };
        if rest.len() >= DEEPEST {
            return Err(Failed::new(format!("the tree is deeper than {DEEPEST} levels")));
        }
        let names = std::iter::once(called.clone()).chain(rest.iter().cloned()).collect();
        entries.push(Entry { names, directory: listed.directory, list: listed.list.in_practice() });
    }
    let above: BTreeSet<Vec<Vec<u8>>> = entries.iter().filter_map(|e| Some(e.names.split_last()?.1.to_vec())).collect();
    entries.iter_mut().for_each(|entry| entry.directory |= above.contains(&entry.names));
    Ok(entries)
}

const ACTIONS: [(&str, Bits); 3] = [("read", 4), ("search", 1), ("write", 2)];

fn tables(entries: &[Entry], accounts: &Accounts, import: &Import) -> BTreeMap<&'static str, String> {
    let prefix = &import.prefix;
    let mut people = Table::new(&["id", "name", "kind", "realm", "superuser", "unix_groups"]);
    let mut groups = Table::new(&["group", "member"]);
    let mut catalog = Table::new(&[
        "id",
        "parent",
        "kind",
        "name",
        "owner",
        "accounts",
        "owned_by",
        "owner_may",
        "accounts_named",
        "accounts_read",
        "accounts_write",
        "accounts_search",
        "groups_named",
        "groups_read",
        "groups_write",
        "groups_search",
        "others_may",
    ]);
    let realm = &import.name.text;
    let group = |number: u32| format!("{prefix}{}", accounts.group(number));
    for number in accounts.all_groups() {
        groups.row([group(number), String::new()]);
    }
    for account in &accounts.list {
        let user = format!("{prefix}{}", segment(account.id.as_bytes()));
        let of: Vec<String> = accounts.groups_of(account).into_iter().map(group).collect();
        for group in &of {
            groups.row([group.clone(), user.clone()]);
        }
        let called = if account.name.is_empty() { &account.id } else { &account.name };
        let superuser = if account.number == 0 { "yes" } else { "no" };
        let kind = if account.number == 0 { "service" } else { "person" };
        let cells = [user, name(called.as_bytes()), kind.to_string(), realm.clone(), superuser.to_string()];
        let [a, b, c, d, e] = cells;
        people.row([a, b, c, d, e, set(of.iter().map(String::as_str))]);
    }
    for entry in entries {
        let (last, above) = entry.names.split_last().expect("an entry has a name");
        let of = |names: &[Vec<u8>]| id(prefix, names.iter().map(Vec::as_slice));
        let list = &entry.list;
        let owners = accounts.users(prefix, list.owner);
        let known = accounts.list.iter().any(|account| account.number == list.owner);
        let may = |bits: Bits| set(ACTIONS.iter().filter(|(_, bit)| bits & bit != 0).map(|(action, _)| *action));
        let users = |bit: Bits| {
            let given = list.accounts.iter().filter(|(_, bits)| bit == 0 || list.masked(*bits) & bit != 0);
            let names: Vec<String> = given.flat_map(|(number, _)| accounts.users(prefix, *number)).collect();
            set(names.iter().map(String::as_str))
        };
        let in_groups = |bit: Bits| {
            let given = list.groups.iter().filter(|(_, bits)| bit == 0 || list.masked(*bits) & bit != 0);
            let names: Vec<String> = given.map(|(number, _)| group(*number)).collect();
            set(names.iter().map(String::as_str))
        };
        catalog.row([
            of(&entry.names),
            if above.is_empty() { String::new() } else { of(above) },
            match (above.is_empty(), entry.directory) {
                (true, _) => "tree",
                (false, true) => "directory",
                (false, false) => "file",
            }
            .to_string(),
            name(last),
            if known { owners[0].clone() } else { String::new() },
            realm.clone(),
            set(owners.iter().map(String::as_str)),
            may(list.owner_may),
            users(0),
            users(4),
            users(2),
            users(1),
            in_groups(0),
            in_groups(4),
            in_groups(2),
            in_groups(1),
            may(list.others_may),
        ]);
    }
    [("people.csv", people.text()), ("groups.csv", groups.text()), ("catalog.csv", catalog.text())].into()
}
