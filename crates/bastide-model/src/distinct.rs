//! Distinct values as they come, numbered. Each distinct text is read once; of sets, each distinct element.

use crate::elements::Elements;
use crate::schema::elements_of;
use crate::strings::Pool;
use crate::value::Value;
use hashbrown::hash_table::Entry;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use std::hash::BuildHasher;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

/// The number of no value.
pub const NONE: u32 = u32::MAX;

/// Distinct values, by number. Sets stand there as their elements, and are made into values, some at a time, where one is asked
/// for: most questions look at the elements alone. A copy costs little until it is written into.
#[derive(Clone, Default, Debug)]
pub struct Distinct(Arc<Listed>);

/// The sets come first.
#[derive(Clone, Default, Debug)]
struct Listed {
    sets: Option<Arc<MadeSets>>,
    others: Vec<Value>,
}

impl From<Vec<Value>> for Distinct {
    fn from(others: Vec<Value>) -> Distinct {
        Distinct(Arc::new(Listed { sets: None, others }))
    }
}

impl Distinct {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.set_count() + self.0.others.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn set_count(&self) -> usize {
        self.elements().map_or(0, Elements::len)
    }

    /// The value of a number.
    pub fn value(&self, number: u32) -> &Value {
        match &self.0.sets {
            Some(sets) if (number as usize) < sets.elements.len() => sets.value(number as usize),
            _ => &self.0.others[number as usize - self.set_count()],
        }
    }

    /// All of them, in order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &Value> {
        (0..self.len()).map(|number| self.value(number as u32))
    }

    /// The elements of the first of them, where they are sets. Values that came later have none there.
    pub fn elements(&self) -> Option<&Elements> {
        self.0.sets.as_ref().map(|sets| &sets.elements)
    }

    /// Whether a value is a set without elements.
    pub fn is_empty_set(&self, number: u32) -> bool {
        match self.elements().filter(|elements| (number as usize) < elements.len()) {
            Some(elements) => elements.of(number as usize).is_empty(),
            None => self.value(number).is_empty_set(),
        }
    }

    /// Whether two lists are the same as far as the shorter of them goes.
    pub(crate) fn begin_alike(&self, other: &Distinct) -> bool {
        Arc::ptr_eq(&self.0, &other.0) || self.iter().zip(other.iter()).all(|(own, other)| own == other)
    }

    /// The number of a value, which is added where it is new. Cost: linear in the values.
    pub(crate) fn intern(&mut self, value: Value) -> u32 {
        let of_sets = self.elements().and_then(|elements| elements.find(&value));
        let of_others = || self.0.others.iter().position(|own| *own == value).map(|at| self.set_count() + at);
        if let Some(known) = of_sets.or_else(of_others) {
            return known as u32;
        }
        Arc::make_mut(&mut self.0).others.push(value);
        self.len() as u32 - 1
    }
}

/// So many sets are made into values together.
const TOGETHER: usize = 256;

/// Sets, and the values of those that were asked for.
#[derive(Debug)]
struct MadeSets {
    elements: Elements,
    made: Box<[OnceLock<Box<[Value]>>]>,
}

impl MadeSets {
    fn of(elements: Elements) -> MadeSets {
        let made = (0..elements.len().div_ceil(TOGETHER)).map(|_| OnceLock::new()).collect();
        MadeSets { elements, made }
    }

    fn value(&self, set: usize) -> &Value {
        let from = set / TOGETHER * TOGETHER;
        let make = || (from..self.elements.len().min(from + TOGETHER)).map(|set| self.elements.value(set)).collect();
        &self.made[set / TOGETHER].get_or_init(make)[set - from]
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
        // What could not be read before cannot be read now: it is told again, and not passed over.
        let failed = texts.iter().zip(&numbers).find(|(_, number)| **number == NONE);
        failed.map_or(Ok(()), |(text, _)| parse(text).map(drop))?;
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
        let values = self.elements.finish().iter().cloned().collect();
        let elements = Elements { values, ends: self.ends, numbers: self.numbers };
        Distinct(Arc::new(Listed { sets: Some(Arc::new(MadeSets::of(elements))), others: Vec::new() }))
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
        let elements = distinct.elements().expect("there are sets");
        assert_eq!(*distinct.value(4), Value::set(["a", "b", "c"].map(|t| Value::Text(t.into()))));
        assert_eq!((elements.len(), elements.of(2).len(), elements.of(3).len()), (5, 0, 1));
        for (set, value) in distinct.iter().enumerate() {
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
            assert!(one.finish().iter().eq(many.finish().iter()));
        }
        let mut sets = Values::of_sets();
        assert_eq!(sets.number("c;bad", text), Err("a bad one".into()));
        for _ in 0..2 {
            assert_eq!(sets.numbers(&["a", "b;bad"], text), Err("a bad one".into()), "each time");
        }
        assert_eq!(Values::of_sets().numbers(&["a", "b;bad"], text), Err("a bad one".into()));
    }

    #[test]
    fn what_is_added_to_sets_stands_behind_them() {
        let mut sets = Values::of_sets();
        sets.numbers(&["b;a", "", "c"], text).unwrap();
        let first = sets.finish();
        let made =
            |of: &Distinct| of.0.sets.iter().flat_map(|sets| &sets.made).filter(|some| some.get().is_some()).count();
        assert_eq!((first.len(), first.is_empty_set(0), first.is_empty_set(1)), (3, false, true));
        let set = |elements: &[&str]| Value::set(elements.iter().map(|t| Value::Text((*t).into())));
        let mut more = first.clone();
        assert_eq!(["c", "d", "d"].map(|t| more.intern(set(&[t]))), [2, 3, 3]);
        assert_eq!((more.intern(set(&[])), more.intern(set(&["b", "a"])), more.intern(set(&["c", "a"]))), (1, 0, 4));
        assert_eq!((more.len(), first.len(), more.is_empty_set(3)), (5, 3, false));
        assert_eq!(made(&more), 0, "nobody asked for the value of a set yet");
        assert!(more.begin_alike(&first) && first.begin_alike(&first));
        assert_eq!((made(&more), made(&first)), (1, 1));
        assert_eq!((more.value(0), more.value(3)), (&set(&["a", "b"]), &set(&["d"])));
    }

    #[test]
    fn sets_are_made_some_at_a_time() {
        let mut sets = Values::of_sets();
        let texts: Vec<String> = (0..TOGETHER * 2 + 5).map(|set| format!("{};x", set + 10)).collect();
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        sets.numbers(&texts, text).unwrap();
        let distinct = sets.finish();
        for at in [TOGETHER * 2 + 4, 0, TOGETHER, TOGETHER - 1] {
            let own = [texts[at].trim_end_matches(";x"), "x"].map(|t| Value::Text(t.into()));
            assert_eq!(*distinct.value(at as u32), Value::set(own));
        }
        assert_eq!(distinct.iter().len(), texts.len());
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
        assert!(all.finish().iter().eq(whole.finish().iter()));
    }
}
