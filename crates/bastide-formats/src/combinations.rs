//! Which combinations of values occur in some columns, and how often.
//!
//! Each value of a column is kept once, by a number; a combination is the combination of the columns before with one value
//! more, so that telling it apart costs one look into a table of numbers for each column, however long the texts are.

use bastide_model::inside::Literal;
use bastide_model::rows::RowPlace;
use bastide_model::strings::Pool;
use hashbrown::HashMap;
use rayon::prelude::*;

/// Combinations, numbered in the order in which they first came.
#[derive(Default)]
pub struct Combinations {
    columns: Vec<ValuesByAttribute>,
    /// By column, the combinations of all columns up to it.
    levels: Vec<Level>,
    /// By combination of all columns, how often it occurs, and where it first did.
    counted: Vec<(u64, RowPlace)>,
    /// Where a value with the character U+0000 first stood.
    zero: Option<RowPlace>,
}

/// The values of a column: number 0 is none.
struct ValuesByAttribute {
    literal: Literal,
    /// The texts as they are written.
    written: Pool,
    /// By written text the number of its value, where several texts are one value.
    value_of: Vec<u32>,
    /// The values in the form by which they are told apart, where that is another than the written one.
    keys: Pool,
    none: bool,
}

#[derive(Default)]
struct Level {
    numbers: HashMap<u64, u32>,
    /// By combination, that of the columns before, and the value.
    parts: Vec<(u32, u32)>,
}

impl ValuesByAttribute {
    fn number(&mut self, cell: Option<&str>, place: RowPlace, zero: &mut Option<RowPlace>) -> u32 {
        let Some(text) = cell else {
            self.none = true;
            return 0;
        };
        let (written, new) = self.written.number(text);
        if new && text.contains('\0') {
            *zero = zero.or(Some(place));
        }
        if self.literal != Literal::Number {
            return written + 1;
        }
        if new {
            self.value_of.push(self.keys.number(&self.literal.key(text)).0 + 1);
        }
        self.value_of[written as usize]
    }

    fn texts(&self) -> &bastide_model::strings::Strings {
        if self.literal == Literal::Number { self.keys.texts() } else { self.written.texts() }
    }

    /// By value its place among the sorted ones; none is the first.
    fn ranks(&self) -> Vec<u32> {
        let texts = self.texts();
        let mut order: Vec<u32> = (0..texts.len() as u32).collect();
        order.par_sort_unstable_by(|a, b| texts.get(*a as usize).cmp(texts.get(*b as usize)));
        let mut ranks = vec![0; texts.len() + 1];
        order.iter().enumerate().for_each(|(rank, value)| ranks[*value as usize + 1] = rank as u32 + 1);
        ranks
    }
}

impl Combinations {
    /// None yet, of columns whose values are such literals.
    pub fn new(columns: impl IntoIterator<Item = Literal>) -> Combinations {
        let values = |literal| ValuesByAttribute {
            literal,
            written: Pool::default(),
            value_of: Vec::new(),
            keys: Pool::default(),
            none: false,
        };
        let columns: Vec<ValuesByAttribute> = columns.into_iter().map(values).collect();
        let levels = columns.iter().map(|_| Level::default()).collect();
        Combinations { columns, levels, ..Combinations::default() }
    }

    /// Takes in a row, or several that are alike: a cell for each column.
    pub fn add<'c>(&mut self, cells: impl IntoIterator<Item = Option<&'c str>>, rows: u64, place: RowPlace) {
        let mut combination = 0;
        for ((column, level), cell) in self.columns.iter_mut().zip(&mut self.levels).zip(cells) {
            let value = column.number(cell, place, &mut self.zero);
            let next = level.parts.len() as u32;
            let key = u64::from(combination) << 32 | u64::from(value);
            let known = *level.numbers.entry(key).or_insert(next);
            if known == next {
                level.parts.push((combination, value));
            }
            combination = known;
        }
        match self.counted.get_mut(combination as usize) {
            Some((count, _)) => *count += rows,
            None => self.counted.push((rows, place)),
        }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.counted.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.counted.is_empty()
    }

    /// Where a value with the character U+0000 first stood.
    pub fn zero(&self) -> Option<RowPlace> {
        self.zero
    }

    /// How often a combination occurs, and where it first did.
    pub fn counted(&self, combination: u32) -> (u64, RowPlace) {
        self.counted[combination as usize]
    }

    /// How many values a column has; none counts as one where it occurs.
    pub fn distinct(&self, column: usize) -> usize {
        self.columns[column].texts().len() + usize::from(self.columns[column].none)
    }

    /// The values of a column, by number; 0 is none.
    pub fn values(&self, column: usize) -> impl Iterator<Item = Option<&str>> {
        std::iter::once(None).chain(self.columns[column].texts().iter().map(Some))
    }

    /// The numbers of the values of a combination, by column.
    pub fn parts(&self, mut combination: u32, parts: &mut Vec<u32>) {
        parts.clear();
        for level in self.levels.iter().rev() {
            let (before, value) = level.parts[combination as usize];
            parts.push(value);
            combination = before;
        }
        parts.reverse();
    }

    /// All of them in order: by the first column, then by the next, whatever the order in which they came. Sorts once for
    /// each column.
    pub fn in_order(&self) -> Vec<u32> {
        let mut before = vec![0];
        let mut order: Vec<(u64, u32)> = vec![(0, 0)];
        for (column, level) in self.columns.iter().zip(&self.levels) {
            let ranks = column.ranks();
            let key = |(at, (combination, value)): (usize, &(u32, u32))| {
                let key = u64::from(before[*combination as usize]) << 32 | u64::from(ranks[*value as usize]);
                (key, at as u32)
            };
            order = level.parts.iter().enumerate().map(key).collect();
            order.par_sort_unstable();
            before = vec![0; order.len()];
            order.iter().enumerate().for_each(|(rank, (_, at))| before[*at as usize] = rank as u32);
        }
        order.into_iter().map(|(_, at)| at).filter(|at| (*at as usize) < self.len()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_syntax::FileId;
    use std::collections::BTreeMap;

    #[test]
    fn combinations_are_those_of_a_sorted_map() {
        let place = RowPlace { file: FileId(0), line: 1, start: 0, end: 0 };
        let texts =
            [None, Some(""), Some("b"), Some("1"), Some("1.0"), Some("-2"), Some("a long text of many letters")];
        for literals in [&[][..], &[Literal::Text], &[Literal::Number, Literal::Text], &[Literal::Text; 3]] {
            let mut rng = fastrand::Rng::with_seed(literals.len() as u64);
            let mut found = Combinations::new(literals.iter().copied());
            let mut expected: BTreeMap<Vec<Option<String>>, u64> = BTreeMap::new();
            for _ in 0..2_000 {
                let cells: Vec<Option<&str>> = literals.iter().map(|_| texts[rng.usize(..texts.len())]).collect();
                found.add(cells.iter().copied(), 1, place);
                let key = |(literal, cell): (&Literal, &Option<&str>)| cell.map(|text| literal.key(text).into_owned());
                *expected.entry(literals.iter().zip(&cells).map(key).collect()).or_default() += 1;
            }
            let values: Vec<Vec<Option<&str>>> = (0..literals.len()).map(|at| found.values(at).collect()).collect();
            let mut parts = Vec::new();
            let mut given = |combination: u32| {
                found.parts(combination, &mut parts);
                let texts = parts.iter().zip(&values).map(|(part, of)| of[*part as usize].map(str::to_string));
                (texts.collect::<Vec<_>>(), found.counted(combination).0)
            };
            let order: Vec<_> = found.in_order().into_iter().map(&mut given).collect();
            assert_eq!(order, expected.into_iter().collect::<Vec<_>>());
            (0..literals.len())
                .for_each(|at| assert_eq!(found.distinct(at), if at == 0 && literals.len() == 2 { 6 } else { 7 }));
        }
    }
}
