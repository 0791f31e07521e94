//! Distinct values as they come, numbered. Each distinct text is read once; of sets, each distinct element.

use crate::elements::Elements;
use crate::schema::elements_of;
use crate::strings::Pool;
use crate::value::Value;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use rayon::prelude::*;
use std::hash::BuildHasher;
use std::sync::Arc;

/// The number of no value.
pub const NONE: u32 = u32::MAX;

/// Distinct values, by number; where they are sets, with their elements.
#[derive(Clone, Default, Debug)]
pub struct Distinct {
    /// The values.
    pub values: Arc<Vec<Value>>,
    /// The elements of each.
    pub elements: Option<Arc<Elements>>,
}

impl From<Vec<Value>> for Distinct {
    fn from(values: Vec<Value>) -> Distinct {
        Distinct { values: Arc::new(values), elements: None }
    }
}

/// The distinct values of a column, numbered as they come; each distinct text is read once.
#[derive(Default, Clone)]
pub struct Values {
    values: Vec<Value>,
    /// Texts that were read, and the number of the value of each.
    seen: Pool,
    read: Vec<u32>,
    hasher: DefaultHashBuilder,
    /// Numbers of values that are no texts of their own, found by the values; with what they hash to.
    known: HashTable<(u64, u32)>,
    /// The text that came last: the next one is often the same.
    last: Option<u32>,
    /// Where values are sets.
    sets: Option<Box<Sets>>,
}

impl Values {
    /// Distinct sets, each of which is told by its elements.
    pub fn of_sets() -> Values {
        Values { sets: Some(Box::default()), ..Values::default() }
    }

    /// The number of the value of `text`, which is not empty. `parse` runs once for each distinct text; where values are sets,
    /// of each element.
    ///
    /// # Errors
    /// What `parse` says, the first time such a text comes; [`NONE`] without an error after that.
    pub fn number(&mut self, text: &str, parse: impl Fn(&str) -> Result<Value, String>) -> Result<u32, String> {
        if let Some(sets) = &mut self.sets {
            return sets.number(text, &parse);
        }
        if let Some(last) = self.last
            && self.seen.texts().get(last as usize) == text
        {
            return Ok(self.read[last as usize]);
        }
        let (number, new) = self.seen.number(text);
        self.last = Some(number);
        if !new {
            return Ok(self.read[number as usize]);
        }
        let parsed = parse(text);
        let code = match &parsed {
            Ok(value) => self.number_read(text, value.clone()),
            Err(_) => NONE,
        };
        self.read.push(code);
        parsed.map(|_| code)
    }

    /// The numbers of the values of many texts, none of which is empty.
    ///
    /// # Errors
    /// What `parse` says of the first text that it cannot read. The list is of no use after that.
    pub fn numbers(
        &mut self,
        texts: &[&str],
        parse: impl Fn(&str) -> Result<Value, String>,
    ) -> Result<Vec<u32>, String> {
        if let Some(sets) = &mut self.sets {
            return texts.iter().map(|text| sets.number(text, &parse)).collect();
        }
        let mut numbers = self.seen.numbers(texts);
        for new in self.read.len()..self.seen.texts().len() {
            let value = parse(self.seen.texts().get(new))?;
            let code = match &value {
                Value::Text(own) if **own == *self.seen.texts().get(new) => self.add(value),
                _ => self.number_of(value),
            };
            self.read.push(code);
        }
        numbers.iter_mut().for_each(|number| *number = self.read[*number as usize]);
        Ok(numbers)
    }

    /// The number of the value of a text that is new.
    fn number_read(&mut self, text: &str, value: Value) -> u32 {
        match &value {
            // A text that stands for itself is as new as it is.
            Value::Text(own) if **own == *text => self.add(value),
            _ => self.number_of(value),
        }
    }

    fn add(&mut self, value: Value) -> u32 {
        self.values.push(value);
        self.values.len() as u32 - 1
    }

    /// The number of a value that is no text.
    fn number_of(&mut self, value: Value) -> u32 {
        debug_assert!(!matches!(value, Value::Text(_)), "a text is read as itself");
        let Values { values, hasher, known, .. } = self;
        let hash = hasher.hash_one(&value);
        if let Some((_, code)) = known.find(hash, |(of, code)| *of == hash && values[*code as usize] == value) {
            return *code;
        }
        let code = values.len() as u32;
        values.push(value);
        known.insert_unique(hash, (hash, code), |(hash, _)| *hash);
        code
    }

    /// How many distinct texts have come; of sets, how many of these.
    pub fn text_count(&self) -> usize {
        self.sets.as_ref().map_or(self.seen.texts().len(), |sets| sets.count())
    }

    /// Takes in some of the texts that have come to another list, in the order in which they came, none of which was an
    /// error here, and notes in `codes` what its values are numbered here.
    pub fn take_in(&mut self, other: &Values, texts: std::ops::Range<usize>, codes: &mut Vec<u32>) {
        if let (Some(sets), Some(others)) = (&mut self.sets, &other.sets) {
            return sets.take_in(others, texts, codes);
        }
        codes.resize(other.values.len(), NONE);
        for text in texts {
            let code = other.read[text] as usize;
            if let Some(value) = other.values.get(code) {
                let text = other.seen.texts().get(text);
                let (number, new) = self.seen.number(text);
                if new {
                    let own = self.number_read(text, value.clone());
                    self.read.push(own);
                }
                codes[code] = self.read[number as usize];
            }
        }
    }

    /// The values in order.
    pub fn finish(self) -> Distinct {
        match self.sets {
            Some(sets) => sets.finish(),
            None => self.values.into(),
        }
    }

    /// The number here of a value of another list.
    fn number_as(&mut self, other: &Values, code: u32) -> u32 {
        match &other.values[code as usize] {
            Value::Text(text) => {
                let (number, new) = self.seen.number(text);
                if new {
                    let own = self.add(other.values[code as usize].clone());
                    self.read.push(own);
                }
                self.read[number as usize]
            }
            value => self.number_of(value.clone()),
        }
    }

    /// The values so far.
    fn values(&self) -> &[Value] {
        &self.values
    }
}

/// Distinct sets, numbered as they come.
#[derive(Default, Clone)]
pub struct Sets {
    elements: Values,
    ends: Vec<u32>,
    numbers: Vec<u32>,
    hasher: DefaultHashBuilder,
    /// Numbers of sets, found by their elements; with what they hash to.
    known: HashTable<(u64, u32)>,
    /// Of other lists, what their elements are numbered here: by where they lie in memory.
    theirs: HashMap<usize, Vec<u32>>,
    list: Vec<u32>,
}

impl Sets {
    /// How many there are.
    pub fn count(&self) -> usize {
        self.ends.len()
    }

    /// The number of the set of a text; `read` reads an element.
    ///
    /// # Errors
    /// What `read` says of the first element that it cannot read.
    pub fn number(&mut self, text: &str, read: &dyn Fn(&str) -> Result<Value, String>) -> Result<u32, String> {
        self.list.clear();
        for element in elements_of(text) {
            let number = self.elements.number(&element, |text| read(text))?;
            if number == NONE {
                // It was told once; to say it again does no harm.
                return read(&element).map(|_| NONE);
            }
            self.list.push(number);
        }
        Ok(self.keep())
    }

    /// The number of the set in `list`.
    fn keep(&mut self) -> u32 {
        self.list.sort_unstable();
        self.list.dedup();
        let Sets { ends, numbers, hasher, known, list, .. } = self;
        let of = |ends: &[u32], set: u32| {
            let from = if set == 0 { 0 } else { ends[set as usize - 1] };
            from as usize..ends[set as usize] as usize
        };
        let hash = hasher.hash_one(&list[..]);
        let is = |(own, set): &(u64, u32)| *own == hash && numbers[of(ends, *set)] == list[..];
        if let Some((_, set)) = known.find(hash, is) {
            return *set;
        }
        let set = ends.len() as u32;
        numbers.extend_from_slice(list);
        ends.push(numbers.len() as u32);
        known.insert_unique(hash, (hash, set), |(hash, _)| *hash);
        set
    }

    /// Takes in some sets of another list, and notes in `codes` what they are numbered here.
    pub fn take_in(&mut self, other: &Sets, sets: std::ops::Range<usize>, codes: &mut Vec<u32>) {
        codes.resize(other.count(), NONE);
        let mut theirs = self.theirs.remove(&(std::ptr::from_ref(other) as usize)).unwrap_or_default();
        theirs.resize(other.elements.values().len(), NONE);
        for set in sets {
            let from = if set == 0 { 0 } else { other.ends[set - 1] };
            self.list.clear();
            for element in &other.numbers[from as usize..other.ends[set] as usize] {
                let own = &mut theirs[*element as usize];
                if *own == NONE {
                    *own = self.elements.number_as(&other.elements, *element);
                }
                self.list.push(*own);
            }
            codes[set] = self.keep();
        }
        self.theirs.insert(std::ptr::from_ref(other) as usize, theirs);
    }

    /// The sets in order.
    pub fn finish(self) -> Distinct {
        let values = self.elements.finish().values;
        let elements = Elements { values: values.to_vec(), ends: self.ends, numbers: self.numbers };
        // Sets are sorted by where their elements are in order: there are many sets, of few elements.
        let mut order: Vec<u32> = (0..values.len() as u32).collect();
        order.sort_unstable_by(|a, b| values[*a as usize].cmp(&values[*b as usize]));
        let mut ranks = vec![0; values.len()];
        order.iter().zip(0..).for_each(|(number, rank)| ranks[*number as usize] = rank);
        let set = |at: usize| {
            let mut own: Vec<u32> = elements.of(at).iter().map(|number| ranks[*number as usize]).collect();
            own.sort_unstable();
            Value::Set(own.into_iter().map(|rank| values[order[rank as usize] as usize].clone()).collect())
        };
        let sets = (0..elements.len()).into_par_iter().with_min_len(4096).map(set).collect();
        Distinct { values: Arc::new(sets), elements: Some(Arc::new(elements)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(text: &str) -> Result<Value, String> {
        if text == "bad" { Err("a bad one".into()) } else { Ok(Value::Text(text.into())) }
    }

    #[test]
    fn sets_are_told_by_their_elements() {
        let mut sets = Sets::default();
        let numbers: Vec<u32> =
            ["a;b", "b; a ;a", "c", "", r"a\;b", "a;b;c"].map(|t| sets.number(t, &text).unwrap()).into();
        assert_eq!(numbers, [0, 0, 1, 2, 3, 4]);
        assert_eq!(sets.number("a;bad", &text), Err("a bad one".into()));
        assert_eq!(sets.number("a;bad", &text), Err("a bad one".into()), "each time");
        let Distinct { values, elements } = sets.finish();
        let elements = elements.expect("there are sets");
        assert_eq!(values[4], Value::set(["a", "b", "c"].map(|t| Value::Text(t.into()))));
        assert_eq!((elements.len(), elements.of(2).len(), elements.of(3).len()), (5, 0, 1));
        for (set, value) in values.iter().enumerate() {
            let own = elements.of(set).iter().map(|number| elements.values[*number as usize].clone());
            assert_eq!(*value, Value::set(own));
        }
    }

    /// Whoever read them: the same numbers as if one had read all.
    #[test]
    fn sets_of_several_readers_become_one_list() {
        let texts = ["a;b", "c", "b;a", "d;a", "c;d", "", "d;c", "a;b;c;d", "c"];
        let mut whole = Sets::default();
        let wanted: Vec<u32> = texts.iter().map(|t| whole.number(t, &text).unwrap()).collect();
        let mut readers = [Sets::default(), Sets::default()];
        let mut own: Vec<(usize, u32)> = Vec::new();
        let mut new: Vec<(usize, std::ops::Range<usize>)> = Vec::new();
        for (piece, texts) in texts.chunks(2).enumerate() {
            let reader = &mut readers[piece % 2];
            let before = reader.count();
            own.extend(texts.iter().map(|t| (piece % 2, reader.number(t, &text).unwrap())));
            new.push((piece % 2, before..reader.count()));
        }
        let (mut all, mut codes) = (Sets::default(), [Vec::new(), Vec::new()]);
        for (reader, sets) in new {
            all.take_in(&readers[reader], sets, &mut codes[reader]);
        }
        let found: Vec<u32> = own.iter().map(|(reader, code)| codes[*reader][*code as usize]).collect();
        assert_eq!(found, wanted);
        assert_eq!(all.finish().values, whole.finish().values);
    }
}
