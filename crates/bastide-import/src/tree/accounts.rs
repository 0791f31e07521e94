//! Accounts and groups of a system, from the text files in which it keeps them.

use crate::ids::segment;
use crate::{Failed, LeftOut};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// An account.
pub struct Account {
    pub id: String,
    pub name: String,
    pub number: u32,
    pub group: u32,
}

/// Who there is, and in which groups.
#[derive(Default)]
pub struct Accounts {
    pub list: Vec<Account>,
    /// Names of groups by their numbers. Groups of one number are one group.
    groups: BTreeMap<u32, String>,
    /// By the name of an account, the groups that name it.
    named: BTreeMap<String, BTreeSet<u32>>,
}

impl Accounts {
    /// Of two files, as `passwd` and `group` are written.
    pub fn read(users: &Path, groups: &Path, left: &mut LeftOut) -> Result<Accounts, Failed> {
        let text = |path: &Path| {
            let bytes =
                std::fs::read(path).map_err(|e| Failed::new(format!("`{}` cannot be read: {e}", path.display())))?;
            Ok(String::from_utf8_lossy(&bytes).into_owned())
        };
        Accounts::parse(&text(users)?, &text(groups)?, left)
    }

    pub fn parse(users: &str, groups: &str, left: &mut LeftOut) -> Result<Accounts, Failed> {
        let mut found = Accounts::default();
        let wrong = |what: &str, line: &str| Failed::new(format!("`{line}` is no {what}"));
        let is_row = |line: &&str| !line.trim().is_empty() && !line.starts_with(['#', '+', '-']);
        for line in users.lines().filter(is_row) {
            let cells: Vec<&str> = line.split(':').collect();
            let [id, _, number, group, about, ..] = cells[..] else { return Err(wrong("account", line)) };
            let (Ok(number), Ok(group)) = (number.parse(), group.parse()) else { return Err(wrong("account", line)) };
            let name = about.split(',').next().unwrap_or_default();
            found.list.push(Account { id: id.to_string(), name: name.to_string(), number, group });
        }
        for line in groups.lines().filter(is_row) {
            let cells: Vec<&str> = line.split(':').collect();
            let [name, _, number, members, ..] = cells[..] else { return Err(wrong("group", line)) };
            let Ok(number) = number.parse() else { return Err(wrong("group", line)) };
            found.groups.entry(number).or_insert_with(|| name.to_string());
            for member in members.split(',').filter(|member| !member.is_empty()) {
                if !found.list.iter().any(|account| account.id == member) {
                    left.note("members of groups that have no account", format!("{member} in {name}"));
                }
                found.named.entry(member.to_string()).or_default().insert(number);
            }
        }
        Ok(found)
    }

    /// The numbers of the groups of an account, its own first.
    pub fn groups_of(&self, account: &Account) -> Vec<u32> {
        let others = self.named.get(&account.id).into_iter().flatten().filter(|group| **group != account.group);
        std::iter::once(account.group).chain(others.copied()).collect()
    }

    /// What a group is called, wherever it is named.
    pub fn group(&self, number: u32) -> String {
        self.groups.get(&number).map_or_else(|| format!("gid {number}"), |name| segment(name.as_bytes()))
    }

    /// All accounts of a number; where there is none, the number.
    pub fn users(&self, prefix: &str, number: u32) -> Vec<String> {
        let of = self.list.iter().filter(|account| account.number == number);
        let names: Vec<String> = of.map(|account| format!("{prefix}{}", segment(account.id.as_bytes()))).collect();
        if names.is_empty() { vec![format!("uid {number}")] } else { names }
    }

    /// The number of an account by its name, or by the number itself.
    pub fn number_of_user(&self, name: &str) -> Option<u32> {
        let known = self.list.iter().find(|account| account.id == name).map(|account| account.number);
        known.or_else(|| name.parse().ok())
    }

    /// The number of a group by its name, or by the number itself.
    pub fn number_of_group(&self, name: &str) -> Option<u32> {
        let known = self.groups.iter().find(|(_, known)| *known == name).map(|(number, _)| *number);
        known.or_else(|| name.parse().ok())
    }

    /// All groups by name.
    pub fn all_groups(&self) -> impl Iterator<Item = u32> + '_ {
        self.groups.keys().copied()
    }
}
