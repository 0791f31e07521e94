//! Many patterns, and which of them a text fits.
//!
//! A pattern is an automaton of few states: so many of its characters were met. Those of all patterns stand side by side in
//! words, a bit for each, and one pass over the text moves them all (bit-parallel simulation of automata: R. Baeza-Yates and
//! G. Gonnet, "A new approach to text searching", 1992; S. Wu and U. Manber, "Fast text searching: allowing errors", 1992).

use crate::value::{Part, Pattern};

/// Patterns that a text is held against at once. Memory: 16 bytes for each state.
#[derive(Debug)]
pub struct Patterns {
    all: Box<[Pattern]>,
    /// By pattern, the word and the bit that say whether the text fits.
    ends: Box<[(u32, u32)]>,
    /// Of each word, the bits that say so.
    accepting: Box<[u64]>,
    /// The states before the first character, and those that stay whatever comes.
    start: Box<[u64]>,
    stays: Box<[u64]>,
    /// By byte, the states that it leads out of.
    leads: Box<[u64]>,
    /// Patterns that are no automaton here, being too long for a word, or of characters that are no plain bytes.
    rest: Box<[u32]>,
}

impl Patterns {
    /// Of some patterns, in this order.
    pub fn new(all: impl IntoIterator<Item = Pattern>) -> Patterns {
        let all: Box<[Pattern]> = all.into_iter().collect();
        // An automaton does not stand in two words, so nothing moves from one to the next.
        let (mut ends, mut rest, mut word, mut used) = (Vec::new(), Vec::new(), 0, 0);
        let mut automata: Vec<(usize, u32, u32)> = Vec::new();
        for (at, pattern) in all.iter().enumerate() {
            let steps = pattern.parts().iter().filter(|part| **part != Part::Run).count() as u32;
            let plain =
                |part: &Part| matches!(part, Part::Run | Part::One) || matches!(part, Part::Char(c) if c.is_ascii());
            let is_automaton = steps < 64 && pattern.parts().iter().all(plain);
            let steps = if is_automaton { steps } else { 0 };
            if used + steps + 1 > 64 {
                (word, used) = (word + 1, 0);
            }
            match is_automaton {
                true => automata.push((at, word, used)),
                false => rest.push(at as u32),
            }
            ends.push((word, used + steps));
            used += steps + 1;
        }
        let width = if all.is_empty() { 0 } else { word as usize + 1 };
        let mut patterns = Patterns {
            ends: ends.into(),
            accepting: vec![0; width].into(),
            start: vec![0; width].into(),
            stays: vec![0; width].into(),
            leads: vec![0; 128 * width].into(),
            rest: rest.into(),
            all,
        };
        for (word, bit) in &patterns.ends {
            patterns.accepting[*word as usize] |= 1 << bit;
        }
        for (at, word, state) in automata {
            patterns.add(at, word as usize, state);
        }
        patterns
    }

    /// Puts down how one pattern moves, from its first state on.
    fn add(&mut self, at: usize, word: usize, mut state: u32) {
        self.start[word] |= 1 << state;
        let width = self.start.len();
        for part in self.all[at].parts() {
            match part {
                Part::Run => {
                    self.stays[word] |= 1 << state;
                    continue;
                }
                Part::One => (0..128).for_each(|byte| self.leads[byte * width + word] |= 1 << state),
                Part::Char(c) => self.leads[*c as usize * width + word] |= 1 << state,
            }
            state += 1;
        }
    }

    /// How many words a mask takes.
    pub fn width(&self) -> usize {
        self.start.len()
    }

    /// Which of them the whole text fits: a mask, to be asked by [`Patterns::has`]. Equal masks, the same patterns. Cost: the
    /// text times the words, and patterns that are very long or of other than plain bytes one by one; where the text is of
    /// other characters, all of them are.
    pub fn fits(&self, text: &str, mask: &mut Vec<u64>) {
        mask.clear();
        mask.extend_from_slice(&self.start);
        let one_by_one = |at: usize, mask: &mut [u64]| {
            let (word, bit) = self.ends[at];
            mask[word as usize] |= u64::from(self.all[at].fits(text)) << bit;
        };
        if !text.is_ascii() {
            mask.fill(0);
            (0..self.all.len()).for_each(|at| one_by_one(at, mask));
            return;
        }
        for byte in text.bytes() {
            let leads = &self.leads[usize::from(byte) * mask.len()..][..mask.len()];
            for ((states, leads), stays) in mask.iter_mut().zip(leads).zip(&self.stays) {
                *states = (*states & leads) << 1 | *states & stays;
            }
        }
        mask.iter_mut().zip(&self.accepting).for_each(|(states, accepting)| *states &= accepting);
        self.rest.iter().for_each(|at| one_by_one(*at as usize, mask));
    }

    /// A mask of those for which it is said, in their order.
    pub fn mask(&self, which: impl IntoIterator<Item = bool>) -> Box<[u64]> {
        let mut mask = vec![0; self.width()];
        for ((word, bit), is) in self.ends.iter().zip(which) {
            mask[*word as usize] |= u64::from(is) << bit;
        }
        mask.into()
    }

    /// Whether one of them is in a mask.
    pub fn has(&self, mask: &[u64], at: usize) -> bool {
        let (word, bit) = self.ends[at];
        mask[word as usize] >> bit & 1 == 1
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_as_by_itself() {
        let mut rng = fastrand::Rng::with_seed(20261201);
        let (mut fitted, mut wide, mut rest) = (0, 0, 0);
        for _ in 0..600 {
            let plain = rng.bool();
            let mut text = |wild: bool| -> String {
                let letters: &[char] =
                    if wild { &['a', 'b', '*', '?', '\\', 'é'] } else { &['a', 'b', '*', '\u{1}', 'é'] };
                let of = letters.len() - usize::from(plain || rng.bool());
                let long = if wild && rng.u32(..50) == 0 { 70 } else { 0 };
                (0..long + rng.usize(..6)).map(|_| letters[rng.usize(..of)]).collect()
            };
            let count = text(false).len() * 17;
            let patterns: Vec<Pattern> = (0..count).map(|_| Pattern::new(&text(true), true)).collect();
            let together = Patterns::new(patterns.iter().cloned());
            (wide, rest) = (wide + usize::from(together.width() > 1), rest + together.rest.len());
            let mut mask = vec![7; 9];
            for _ in 0..20 {
                let text = text(false);
                together.fits(&text, &mut mask);
                assert_eq!(mask.len(), together.width());
                let said = together.mask(patterns.iter().map(|pattern| pattern.fits(&text)));
                for (at, pattern) in patterns.iter().enumerate() {
                    let fits = pattern.fits(&text);
                    assert_eq!(together.has(&mask, at), fits, "`{text}` {pattern}");
                    fitted += usize::from(fits);
                }
                // Nothing else is told apart by it.
                assert_eq!(mask[..], said[..], "`{text}`");
            }
        }
        assert!(fitted > 10_000 && wide > 100 && rest > 100, "{fitted} {wide} {rest}");
    }
}
