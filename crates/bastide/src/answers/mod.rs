//! Answers for programs (`bastide.NAME/1`) that are made of what several crates find out: what their schemas are made from, and what
//! printers put into words. Nothing is computed here.

pub mod audit;
pub mod diff;
pub mod filter;
pub mod import;
pub mod test;
pub mod trial;
pub mod verify;
pub mod why;
