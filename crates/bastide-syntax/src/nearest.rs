//! The nearest known name to a misspelt one.

/// The known name that is nearest to `written`, if any is near enough to be meant: by edit
/// distance with transpositions, at most a third of its letters, capitals aside. Ties go to one
/// that begins alike, then to the first in byte order, so that the answer does not depend on the order of the candidates.
pub fn nearest<'a>(written: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    ranked(written, known, 1).into_iter().next()
}

/// Up to `count` near names, nearest first.
pub fn ranked<'a>(written: &str, known: impl IntoIterator<Item = &'a str>, count: usize) -> Vec<&'a str> {
    let lower = written.to_lowercase();
    let length = lower.chars().count();
    let limit = (length / 3).max(1);
    let first = lower.chars().next();
    let letters = counts(&lower);
    let begins = |name: &str| name.to_lowercase().chars().next() == first;
    let mut near: Vec<(usize, bool, &str)> = known
        .into_iter()
        .filter(|name| name.chars().count().abs_diff(length) <= limit && apart(&letters, &counts(name)) <= limit as u32)
        .map(|name| (strsim::damerau_levenshtein(&lower, &name.to_lowercase()), !begins(name), name))
        .filter(|(distance, ..)| *distance <= limit)
        .collect();
    near.sort();
    near.dedup();
    near.into_iter().take(count).map(|(.., name)| name).collect()
}

/// How often each letter occurs, capitals aside; what is not ASCII is one sort of letter.
fn counts(text: &str) -> [u16; 128] {
    let mut counts = [0; 128];
    for byte in text.bytes() {
        // The first byte of a character stands for it.
        if byte & 0xc0 != 0x80 {
            let at = if byte.is_ascii() { byte.to_ascii_lowercase() as usize } else { 0 };
            counts[at] = u16::saturating_add(counts[at], 1);
        }
    }
    counts
}

/// Two texts are at least so many edits apart: each edit mends one letter that the one has more often, and one that the other
/// has. It is far quicker to tell than how many they are.
fn apart(a: &[u16; 128], b: &[u16; 128]) -> u32 {
    let over =
        |a: &[u16; 128], b: &[u16; 128]| a.iter().zip(b).map(|(a, b)| u32::from(a.saturating_sub(*b))).sum::<u32>();
    over(a, b).max(over(b, a))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_names_are_found_and_far_ones_are_not() {
        let known = ["read", "update", "publish"];
        assert_eq!(nearest("raed", known), Some("read"));
        assert_eq!(nearest("Updat", known), Some("update"));
        assert_eq!(nearest("delete", known), None);
        assert_eq!(ranked("b", ["c", "a"], 2), ["a", "c"]);
    }
}
