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

    /// The numbers of the elements of a set, each once.
    pub fn of(&self, set: usize) -> &[u32] {
        let from = if set == 0 { 0 } else { self.ends[set - 1] };
        &self.numbers[from as usize..self.ends[set] as usize]
    }
}
