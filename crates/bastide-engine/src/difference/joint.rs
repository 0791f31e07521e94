//! Two estates numbered together.

use bastide_model::Estate;
use hashbrown::HashMap;
use std::sync::Arc;

/// The common numbers of one sort of thing: those of the second estate, then what only the first has.
#[derive(Clone, Debug)]
pub enum Axis {
    /// Both number alike.
    Same(u32),
    /// By joint number the number on each side, and back.
    Matched {
        /// Joint to before and after.
        pairs: Vec<(Option<u32>, Option<u32>)>,
        /// Before to joint; after is joint itself.
        back: Vec<u32>,
    },
}

impl Axis {
    /// How many there are.
    pub fn len(&self) -> usize {
        match self {
            Axis::Same(count) => *count as usize,
            Axis::Matched { pairs, .. } => pairs.len(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The number before, where it was there.
    pub fn before(&self, joint: u32) -> Option<u32> {
        match self {
            Axis::Same(_) => Some(joint),
            Axis::Matched { pairs, .. } => pairs[joint as usize].0,
        }
    }

    /// The number after, where it is there.
    pub fn after(&self, joint: u32) -> Option<u32> {
        match self {
            Axis::Same(_) => Some(joint),
            Axis::Matched { pairs, .. } => pairs[joint as usize].1,
        }
    }

    /// The joint number of one before.
    pub fn from_before(&self, before: u32) -> u32 {
        match self {
            Axis::Same(_) => before,
            Axis::Matched { back, .. } => back[before as usize],
        }
    }

    /// The joint number of one after.
    pub fn from_after(&self, after: u32) -> u32 {
        after
    }

    fn of<'a>(before: impl ExactSizeIterator<Item = &'a str>, after: impl ExactSizeIterator<Item = &'a str>) -> Axis {
        let known: HashMap<&str, u32> = after.enumerate().map(|(i, id)| (id, i as u32)).collect();
        let mut pairs: Vec<(Option<u32>, Option<u32>)> = (0..known.len() as u32).map(|i| (None, Some(i))).collect();
        let (count, mut same) = (before.len(), before.len() == pairs.len());
        let mut back = Vec::with_capacity(count);
        for (i, id) in before.enumerate() {
            match known.get(id) {
                Some(joint) => {
                    same &= *joint == i as u32;
                    pairs[*joint as usize].0 = Some(i as u32);
                    back.push(*joint);
                }
                None => {
                    back.push(pairs.len() as u32);
                    pairs.push((Some(i as u32), None));
                }
            }
        }
        if same { Axis::Same(count as u32) } else { Axis::Matched { pairs, back } }
    }
}

/// Whether the second estate came about by changes of the first.
pub fn are_related(before: &Estate, after: &Estate) -> bool {
    Arc::ptr_eq(before.schema(), after.schema())
        && Arc::ptr_eq(&before.catalog().labels, &after.catalog().labels)
        && before.people().len() == after.people().len()
        && before.groups().len() == after.groups().len()
}

/// Users, resources and actions of two estates.
#[derive(Clone, Debug)]
pub struct Joint {
    /// Users, by id.
    pub users: Axis,
    /// Resources, by id.
    pub resources: Axis,
    /// Actions, by name.
    pub actions: Axis,
    related: bool,
}

impl Joint {
    /// Numbers two estates together.
    pub fn of(before: &Estate, after: &Estate) -> Joint {
        let related = are_related(before, after);
        if related {
            return Joint {
                users: Axis::Same(before.people().len() as u32),
                resources: Axis::Same(before.catalog().len() as u32),
                actions: Axis::Same(before.schema().actions.len() as u32),
                related,
            };
        }
        fn names(e: &Estate) -> impl ExactSizeIterator<Item = &str> {
            e.schema().actions.iter().map(|a| a.name.as_str())
        }
        Joint {
            users: Axis::of(before.people().ids(), after.people().ids()),
            resources: Axis::of(before.catalog().labels.ids(), after.catalog().labels.ids()),
            actions: Axis::of(names(before), names(after)),
            related,
        }
    }

    /// Whether the second estate came about by changes of the first, so that both number alike.
    pub fn is_same(&self) -> bool {
        self.related
    }
}
