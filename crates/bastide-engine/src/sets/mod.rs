//! Sets of users: a word for 64 of them.

pub mod count;
pub mod counter;
pub mod gathered;
pub(crate) mod keyed;
mod print;
pub mod store;

pub(crate) use keyed::{Keyed, of_length};
pub(crate) use print::{Fingerprints, random};
pub(crate) use store::Bits;
