//! Access control lists, as the system keeps them beside a file and as text.

use super::accounts::Accounts;
use crate::Failed;

/// What is given: four, two and one, for reading, writing, and searching or running.
pub type Bits = u8;

/// Who may do what with a file, in the order in which it is asked.
#[derive(Clone, Default, PartialEq, Eq, Debug)]
pub struct List {
    pub owner: u32,
    pub group: u32,
    pub owner_may: Bits,
    pub accounts: Vec<(u32, Bits)>,
    /// The file's own group first.
    pub groups: Vec<(u32, Bits)>,
    pub mask: Option<Bits>,
    pub others_may: Bits,
}

impl List {
    /// Of a file without a list of its own.
    pub fn of_mode(owner: u32, group: u32, mode: u32) -> List {
        let bits = |shift: u32| (mode >> shift & 7) as Bits;
        List {
            owner,
            group,
            owner_may: bits(6),
            groups: vec![(group, bits(3))],
            others_may: bits(0),
            ..List::default()
        }
    }

    /// What is left of bits that pass the mask.
    pub fn masked(&self, bits: Bits) -> Bits {
        bits & self.mask.unwrap_or(7)
    }

    /// As Linux asks it: where the mask lets nothing pass, it does not look at the list at all, but at the plain modes, by which
    /// whoever is named is everybody else.
    #[must_use]
    pub fn in_practice(mut self) -> List {
        if self.mask == Some(0) {
            self.accounts.clear();
            self.groups = vec![(self.group, 0)];
        }
        self
    }

    /// Of the attribute in which Linux keeps it: a version, then entries of a tag, bits and a number.
    pub fn of_attribute(owner: u32, group: u32, bytes: &[u8]) -> Option<List> {
        let (version, entries) = bytes.split_at_checked(4)?;
        if version != 2u32.to_le_bytes() || entries.len() % 8 != 0 {
            return None;
        }
        let mut list = List { owner, group, ..List::default() };
        let mut own = None;
        for entry in entries.chunks_exact(8) {
            let short = |at: usize| u16::from_le_bytes([entry[at], entry[at + 1]]);
            let number = u32::from_le_bytes([entry[4], entry[5], entry[6], entry[7]]);
            let bits = (short(2) & 7) as Bits;
            match short(0) {
                0x01 => list.owner_may = bits,
                0x02 => list.accounts.push((number, bits)),
                0x04 => own = Some(bits),
                0x08 => list.groups.push((number, bits)),
                0x10 => list.mask = Some(bits),
                0x20 => list.others_may = bits,
                _ => return None,
            }
        }
        list.groups.insert(0, (group, own?));
        Some(list)
    }
}

/// A file of the text that `getfacl -R` gives: its path, whether it is surely a directory, and its list.
pub struct Listed {
    pub path: Vec<u8>,
    pub directory: bool,
    pub list: List,
}

/// Reads such a text.
pub fn parse(text: &str, accounts: &Accounts) -> Result<Vec<Listed>, Failed> {
    let mut found: Vec<Listed> = Vec::new();
    for (number, line) in (1..).zip(text.lines()) {
        let wrong = || Failed::new(format!("line {number} is none of a list: `{line}`"));
        // What the mask takes away is said behind the entry.
        let plain = line.split('#').next().unwrap_or_default().trim_end();
        if let Some(path) = line.strip_prefix("# file: ") {
            found.push(Listed { path: unquoted(path).ok_or_else(wrong)?, directory: false, list: List::default() });
            continue;
        }
        if line.trim().is_empty() {
            continue;
        }
        let last = found.last_mut().ok_or_else(wrong)?;
        let list = &mut last.list;
        if let Some(owner) = line.strip_prefix("# owner: ") {
            let name = unquoted(owner).and_then(|name| String::from_utf8(name).ok()).ok_or_else(wrong)?;
            list.owner = accounts.number_of_user(&name).ok_or_else(wrong)?;
        } else if let Some(group) = line.strip_prefix("# group: ") {
            let name = unquoted(group).and_then(|name| String::from_utf8(name).ok()).ok_or_else(wrong)?;
            list.group = accounts.number_of_group(&name).ok_or_else(wrong)?;
        } else if line.starts_with("# flags: ") {
        } else if plain.starts_with("default:") {
            last.directory = true;
        } else {
            let mut cells = plain.splitn(3, ':');
            let (Some(tag), Some(name), Some(bits)) = (cells.next(), cells.next(), cells.next()) else {
                return Err(wrong());
            };
            let bits = bits_of(bits).ok_or_else(wrong)?;
            let name = unquoted(name).and_then(|name| String::from_utf8(name).ok()).ok_or_else(wrong)?;
            match (tag, name.as_str()) {
                ("user", "") => list.owner_may = bits,
                ("user", name) => list.accounts.push((accounts.number_of_user(name).ok_or_else(wrong)?, bits)),
                ("group", "") => list.groups.insert(0, (list.group, bits)),
                ("group", name) => list.groups.push((accounts.number_of_group(name).ok_or_else(wrong)?, bits)),
                ("mask", "") => list.mask = Some(bits),
                ("other", "") => list.others_may = bits,
                _ => return Err(wrong()),
            }
        }
    }
    if let Some(incomplete) = found.iter().find(|listed| listed.list.groups.is_empty()) {
        let path = String::from_utf8_lossy(&incomplete.path);
        return Err(Failed::new(format!("the list of `{path}` ends before its end")));
    }
    Ok(found)
}

fn bits_of(text: &str) -> Option<Bits> {
    let [r, w, x] = text.as_bytes() else { return None };
    let bit = |given: u8, sign: u8, bit: Bits| match given {
        b'-' => Some(0),
        given if given == sign => Some(bit),
        _ => None,
    };
    Some(bit(*r, b'r', 4)? | bit(*w, b'w', 2)? | bit(*x, b'x', 1)?)
}

/// A name with its odd bytes written as `\` and three digits.
fn unquoted(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let mut bytes = text.bytes();
    while let Some(byte) = bytes.next() {
        if byte != b'\\' {
            out.push(byte);
            continue;
        }
        let digits: Vec<u8> = (&mut bytes).take(3).collect();
        if digits.first() == Some(&b'\\') {
            return None;
        }
        out.push(u8::from_str_radix(std::str::from_utf8(&digits).ok().filter(|d| d.len() == 3)?, 8).ok()?);
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::LeftOut;

    #[test]
    fn both_forms_are_read() {
        let accounts = Accounts::parse(
            "root:x:0:0:root:/:\nann:x:1000:100:Ann Lee,,,:/:\nbob:x:1001:100::/:\n",
            "root:x:0:\nstaff:x:100:\nlab:x:200:ann,zoe\n",
            &mut LeftOut::default(),
        )
        .unwrap();
        let text = "# file: share/a\\040b\n# owner: ann\n# group: staff\n# flags: -s-\nuser::rwx\nuser:bob:r-x\t#effective:r--\n\
                    user:1234:---\ngroup::r-x\ngroup:lab:-w-\nmask::rw-\nother::---\ndefault:user::rwx\n\n";
        let found = parse(text, &accounts).unwrap();
        assert_eq!((found[0].path.as_slice(), found[0].directory), (b"share/a b".as_slice(), true));
        let attribute: Vec<u8> = [
            vec![2, 0, 0, 0],
            vec![1, 0, 7, 0, 255, 255, 255, 255],
            vec![2, 0, 5, 0, 0xe9, 3, 0, 0],
            vec![2, 0, 0, 0, 0xd2, 4, 0, 0],
            vec![4, 0, 5, 0, 255, 255, 255, 255],
            vec![8, 0, 2, 0, 200, 0, 0, 0],
            vec![16, 0, 6, 0, 255, 255, 255, 255],
            vec![32, 0, 0, 0, 255, 255, 255, 255],
        ]
        .concat();
        assert_eq!(List::of_attribute(1000, 100, &attribute).unwrap(), found[0].list);
        assert_eq!(found[0].list.masked(5), 4);
        for cut in 1..attribute.len() {
            let _ = List::of_attribute(1000, 100, &attribute[..cut]);
        }
        for wrong in [
            "user::rwx\n",
            "# file: a\nuser::rw\n",
            "# file: a\n# owner: nobody\n",
            "# file: a\\9\n",
            "# file: a\nuser::rwx\n",
        ] {
            assert!(parse(wrong, &accounts).is_err(), "{wrong}");
        }
    }
}
