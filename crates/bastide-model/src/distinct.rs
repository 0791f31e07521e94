//! Distinct values as they come, numbered. Each distinct text is read once; of sets, each distinct element.

use crate::elements::Elements;
use crate::schema::elements_of;
use crate::strings::Pool;
use crate::value::Value;
use hashbrown::hash_table::Entry;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use rayon::prelude::*;
use std::hash::BuildHasher;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

/// The number of no value.
pub const NONE: u32 = u32::MAX;

/// Distinct values, by number. Sets stand there as their elements, and are made into values where one is asked for: most
/// questions look at the elements alone. A copy costs little until it is written into.
#[derive(Clone, Default, Debug)]
pub struct Distinct(Arc<Listed>);

#[derive(Clone, Default, Debug)]
struct Listed {
    made: OnceLock<Vec<Value>>,
    /// The elements of the first of them, where they are sets.
    elements: Option<Arc<Elements>>,
}

impl From<Vec<Value>> for Distinct {
    fn from(values: Vec<Value>) -> Distinct {
        Distinct(Arc::new(Listed { made: values.into(), elements: None }))
    }
}

impl Distinct {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.made.get().map_or_else(|| self.elements().map_or(0, Elements::len), Vec::len)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The values. Cost: where they are sets, all are made, the first time.
    pub fn values(&self) -> &[Value] {
        self.0.made.get_or_init(|| self.elements().map(Elements::ordered).map_or(Vec::new(), |sets| sets.all()))
    }

    /// Makes the values, on all cores: for whoever is about to ask for them from several.
    pub fn make_values(&self) {
        if let (None, Some(elements)) = (self.0.made.get(), self.elements()) {
            let sets = elements.ordered();
            let all = (0..elements.len()).into_par_iter().with_min_len(4096).map(|set| sets.value(set)).collect();
            // Somebody else may have been sooner: they made the same.
            let _ = self.0.made.set(all);
        }
    }

    /// The elements of the first of them, where they are sets. Values that came later have none there.
    pub fn elements(&self) -> Option<&Elements> {
        self.0.elements.as_deref()
    }

    /// Whether a value is a set without elements.
    pub fn is_empty_set(&self, number: u32) -> bool {
        match self.elements().filter(|elements| (number as usize) < elements.len()) {
            Some(elements) => elements.of(number as usize).is_empty(),
            None => self.values()[number as usize].is_empty_set(),
        }
    }

    /// Whether two lists are the same as far as the shorter of them goes.
    pub(crate) fn begin_alike(&self, other: &Distinct) -> bool {
        let common = self.len().min(other.len());
        Arc::ptr_eq(&self.0, &other.0) || self.values()[..common] == other.values()[..common]
    }

    /// The number of a value, which is added where it is new. Cost: linear in the values.
    pub(crate) fn intern(&mut self, value: Value) -> u32 {
        self.make_values();
        let values = self.values();
        let known = values.iter().position(|own| *own == value);
        let number = known.unwrap_or(values.len());
        if known.is_none() {
            Arc::make_mut(&mut self.0).made.get_mut().expect("they were asked for").push(value);
        }
        number as u32
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
            return sets.numbers(texts, parse);
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
    pub fn take_in(&mut self, other: &Values, texts: Range<usize>, codes: &mut Vec<u32>) {
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

/// So many sets of another list are taken in together.
const TOGETHER: usize = 256;

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

    /// The numbers of the sets of many texts. All elements are looked up first, then all sets: so that to wait for memory is
    /// done for several at a time.
    ///
    /// # Errors
    /// What `read` says of the first element that it cannot read.
    fn numbers(&mut self, texts: &[&str], read: impl Fn(&str) -> Result<Value, String>) -> Result<Vec<u32>, String> {
        let (mut elements, mut ends) = (Vec::with_capacity(texts.len() * 4), Vec::with_capacity(texts.len()));
        for text in texts {
            elements.extend(elements_of(text));
            ends.push(elements.len());
        }
        let elements: Vec<&str> = elements.iter().map(|element| &**element).collect();
        let mut numbers = self.elements.numbers(&elements, read)?;
        Ok(self.keep_all(&mut numbers, ends))
    }

    /// The numbers of sets whose elements follow each other; where each ends.
    fn keep_all(&mut self, elements: &mut [u32], ends: Vec<usize>) -> Vec<u32> {
        let mut from = 0;
        let hashed = ends.into_iter().map(|end| {
            let count = in_order(&mut elements[from..end]);
            let own = from..from + count;
            from = end;
            (self.hasher.hash_one(&elements[own.clone()]), own)
        });
        let hashed: Vec<(u64, Range<usize>)> = hashed.collect();
        hashed.into_iter().map(|(hash, own)| self.keep_hashed(hash, &elements[own])).collect()
    }

    /// The number of the set in `list`.
    fn keep(&mut self) -> u32 {
        let mut list = std::mem::take(&mut self.list);
        let count = in_order(&mut list);
        let number = self.keep_hashed(self.hasher.hash_one(&list[..count]), &list[..count]);
        self.list = list;
        number
    }

    /// The number of a set whose elements are in order, each once.
    fn keep_hashed(&mut self, hash: u64, list: &[u32]) -> u32 {
        let Sets { ends, numbers, known, .. } = self;
        let of = |set: u32| {
            let from = if set == 0 { 0 } else { ends[set as usize - 1] };
            &numbers[from as usize..ends[set as usize] as usize]
        };
        match known.entry(hash, |(own, set)| *own == hash && *of(*set) == *list, |(hash, _)| *hash) {
            Entry::Occupied(found) => found.get().1,
            Entry::Vacant(place) => {
                let set = ends.len() as u32;
                place.insert((hash, set));
                numbers.extend_from_slice(list);
                ends.push(numbers.len() as u32);
                set
            }
        }
    }

    /// Takes in some sets of another list, and notes in `codes` what they are numbered here.
    pub fn take_in(&mut self, other: &Sets, sets: Range<usize>, codes: &mut Vec<u32>) {
        codes.resize(other.count(), NONE);
        let mut theirs = self.theirs.remove(&(std::ptr::from_ref(other) as usize)).unwrap_or_default();
        theirs.resize(other.elements.values().len(), NONE);
        let mut sets = sets.peekable();
        while let Some(first) = sets.peek().copied() {
            let (mut elements, mut ends) = (Vec::new(), Vec::with_capacity(TOGETHER));
            for set in sets.by_ref().take(TOGETHER) {
                let from = if set == 0 { 0 } else { other.ends[set - 1] };
                for element in &other.numbers[from as usize..other.ends[set] as usize] {
                    let own = &mut theirs[*element as usize];
                    if *own == NONE {
                        *own = self.elements.number_as(&other.elements, *element);
                    }
                    elements.push(*own);
                }
                ends.push(elements.len());
            }
            let kept = self.keep_all(&mut elements, ends);
            codes[first..first + kept.len()].copy_from_slice(&kept);
        }
        self.theirs.insert(std::ptr::from_ref(other) as usize, theirs);
    }

    /// The sets in order.
    pub fn finish(self) -> Distinct {
        let values = self.elements.finish().values().to_vec();
        let elements = Elements { values, ends: self.ends, numbers: self.numbers };
        Distinct(Arc::new(Listed { made: OnceLock::new(), elements: Some(Arc::new(elements)) }))
    }
}

/// Puts numbers in order, each once; how many there are.
fn in_order(numbers: &mut [u32]) -> usize {
    numbers.sort_unstable();
    let mut count = 0;
    for at in 0..numbers.len() {
        if count == 0 || numbers[count - 1] != numbers[at] {
            numbers[count] = numbers[at];
            count += 1;
        }
    }
    count
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
        let distinct = sets.finish();
        let (values, elements) = (distinct.values(), distinct.elements().expect("there are sets"));
        assert_eq!(values[4], Value::set(["a", "b", "c"].map(|t| Value::Text(t.into()))));
        assert_eq!((elements.len(), elements.of(2).len(), elements.of(3).len()), (5, 0, 1));
        for (set, value) in values.iter().enumerate() {
            let own = elements.of(set).iter().map(|number| elements.values[*number as usize].clone());
            assert_eq!(*value, Value::set(own));
        }
    }

    #[test]
    fn sets_of_many_texts_are_numbered_as_one_by_one() {
        let mut random = fastrand::Rng::with_seed(8);
        for _ in 0..50 {
            let mut text_of = || {
                let elements = (0..random.usize(..4)).map(|_| random.usize(..6).to_string());
                elements.collect::<Vec<_>>().join([";", " ;", ";;"][random.usize(..3)])
            };
            let texts: Vec<String> = (0..40).map(|_| text_of()).collect();
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            let (mut one, mut many) = (Values::of_sets(), Values::of_sets());
            let mut numbers = Vec::new();
            for texts in texts.chunks(7) {
                numbers.extend(many.numbers(texts, text).unwrap());
            }
            let wanted: Vec<u32> = texts.iter().map(|t| one.number(t, text).unwrap()).collect();
            assert_eq!(numbers, wanted);
            assert_eq!(one.finish().values(), many.finish().values());
        }
        assert_eq!(Values::of_sets().numbers(&["a", "b;bad"], text), Err("a bad one".into()));
    }

    #[test]
    fn what_is_added_to_sets_stands_behind_them() {
        let mut sets = Values::of_sets();
        sets.numbers(&["b;a", "", "c"], text).unwrap();
        let first = sets.finish();
        assert!(first.0.made.get().is_none(), "nobody asked for a value yet");
        assert_eq!((first.len(), first.is_empty_set(0), first.is_empty_set(1)), (3, false, true));
        let set = |elements: &[&str]| Value::set(elements.iter().map(|t| Value::Text((*t).into())));
        let mut more = first.clone();
        assert_eq!(["c", "d", "d"].map(|t| more.intern(set(&[t]))), [2, 3, 3]);
        assert_eq!((more.len(), first.len(), more.is_empty_set(3)), (4, 3, false));
        assert_eq!(more.values()[..3], *first.values());
        assert_eq!((&more.values()[0], &more.values()[3]), (&set(&["a", "b"]), &set(&["d"])));
        let later = first.clone();
        later.make_values();
        assert!(later.begin_alike(&more) && first.begin_alike(&later));
    }

    /// Whoever read them: the same numbers as if one had read all.
    #[test]
    fn sets_of_several_readers_become_one_list() {
        let texts = ["a;b", "c", "b;a", "d;a", "c;d", "", "d;c", "a;b;c;d", "c"];
        let mut whole = Sets::default();
        let wanted: Vec<u32> = texts.iter().map(|t| whole.number(t, &text).unwrap()).collect();
        let mut readers = [Sets::default(), Sets::default()];
        let mut own: Vec<(usize, u32)> = Vec::new();
        let mut new: Vec<(usize, Range<usize>)> = Vec::new();
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
        assert_eq!(all.finish().values(), whole.finish().values());
    }
}
