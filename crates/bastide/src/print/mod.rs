//! Printers: plain values in, text out. They compute nothing.

pub mod audit;
pub mod changes;
pub mod compare;
pub mod diagnostics;
pub mod diff;
pub mod filter;
pub mod import;
pub mod json;
pub mod known;
pub mod matrix;
pub mod reach;
pub mod review;
pub mod rules;
pub mod summary;
pub mod test;
pub mod text;
pub mod trial;
pub mod verify;
pub mod what;
pub mod who;
pub mod why;
