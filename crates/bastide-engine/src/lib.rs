//! From trees and tables to a typed estate, and from an estate to decisions and explanations.
//! No input or output, no clock, no environment: date and session come in as values.
#![warn(clippy::print_stdout)]

pub mod access;
pub mod advice;
pub mod calendar;
pub mod change;
pub mod decide;
pub mod difference;
pub mod evaluate;
pub mod explain;
pub mod find;
pub mod prove;
pub mod remedy;
pub mod resolve;
pub mod review;
pub mod session;
pub mod sessions;
pub mod sets;
pub mod show;

pub use decide::{Decision, Judge, Reason};
