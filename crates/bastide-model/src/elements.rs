//! Sets as lists of numbered elements: a set is told by the numbers of its elements, not by its text.

use crate::value::Value;

/// The elements of many sets.
#[derive(Default, Debug)]
pub struct Elements {
    /// Distinct elements, by number.
    pub values: Vec<Value>,
    pub(crate) ends: Vec<u32>,
    pub(crate) numbers: Vec<u32>,
}

impl Elements {
    /// How many sets.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// The sets as values, whose elements stand in order: elements are put in order once, for sets are many, and of few.
    pub(crate) fn ordered(&self) -> Ordered<'_> {
        let mut order: Vec<u32> = (0..self.values.len() as u32).collect();
        order.sort_unstable_by(|a, b| self.values[*a as usize].cmp(&self.values[*b as usize]));
        let mut ranks = vec![0; self.values.len()];
        order.iter().zip(0..).for_each(|(number, rank)| ranks[*number as usize] = rank);
        Ordered { elements: self, order, ranks }
    }

    /// The numbers of the elements of a set, each once.
    pub fn of(&self, set: usize) -> &[u32] {
        let from = if set == 0 { 0 } else { self.ends[set - 1] };
        &self.numbers[from as usize..self.ends[set] as usize]
    }
}

/// Sets, and the order of their elements.
pub(crate) struct Ordered<'e> {
    elements: &'e Elements,
    order: Vec<u32>,
    ranks: Vec<u32>,
}

impl Ordered<'_> {
    /// A set as a value.
    pub fn value(&self, set: usize) -> Value {
        let mut own: Vec<u32> = self.elements.of(set).iter().map(|number| self.ranks[*number as usize]).collect();
        own.sort_unstable();
        let element = |rank: u32| self.elements.values[self.order[rank as usize] as usize].clone();
        Value::Set(own.into_iter().map(element).collect())
    }

    /// All of them.
    pub fn all(&self) -> Vec<Value> {
        (0..self.elements.len()).map(|set| self.value(set)).collect()
    }
}
