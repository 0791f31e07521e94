//! Answers for programs (`bastide.NAME/1`) of what commands put together ([`crate::found`]): what is published as JSON, and what
//! its schemas are made from. What one crate finds out by itself has its answer in `bastide-answers`.

pub mod audit;
pub mod check;
pub mod diff;
pub mod filter;
pub mod import;
pub mod matrix;
pub mod test;
pub mod trial;
pub mod verify;
pub mod why;
