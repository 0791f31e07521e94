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

    /// A set as a value.
    pub(crate) fn value(&self, set: usize) -> Value {
        Value::set(self.of(set).iter().map(|element| self.values[*element as usize].clone()))
    }

    /// Where a value stands, if it is one of the sets. Cost: linear in the elements and in the sets.
    pub(crate) fn find(&self, value: &Value) -> Option<usize> {
        let Value::Set(wanted) = value else { return None };
        let number = |element: &Value| self.values.iter().position(|own| own == element).map(|at| at as u32);
        let mut numbers: Vec<u32> = wanted.iter().map(number).collect::<Option<_>>()?;
        numbers.sort_unstable();
        (0..self.len()).find(|set| self.of(*set) == numbers)
    }

    /// The numbers of the elements of a set, each once.
    pub fn of(&self, set: usize) -> &[u32] {
        let from = if set == 0 { 0 } else { self.ends[set - 1] };
        &self.numbers[from as usize..self.ends[set] as usize]
    }
}
