//! What commands put together of what several crates find out, and what printers put into words. Nothing is computed here; what of
//! it is told to programs stands in [`crate::answers`].

pub mod audit;
pub mod diff;
pub mod filter;
pub mod import;
pub mod test;
pub mod trial;
pub mod verify;
pub mod why;
