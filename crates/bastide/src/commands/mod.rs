//! One file a command: its arguments, and its run.

pub mod about;
pub mod audit;
pub mod check;
pub mod compare;
pub mod diff;
pub mod editor;
pub mod filter;
pub mod fmt;
pub mod import;
pub mod matrix;
pub mod new;
mod picture;
pub mod reach;
pub mod report;
pub mod review;
pub mod rules;
pub mod schema;
pub mod setup;
pub mod sql;
pub mod test;
pub mod r#try;
pub mod verify;
pub mod what;
pub mod who;
pub mod why;
