//! From an estate to decisions, explanations and comparisons.
//! No input or output, no clock, no environment: date and session come in as values.
//!
//! What is asked is a [`Snapshot`]: an estate at a moment, proven free of decisions that depend on themselves. An estate comes
//! from `bastide_formats::load`, which reads its files.
//!
//! ```
//! # let estate = bastide_testkit::demo().estate.expect("the demo has no errors");
//! use bastide_engine::{Snapshot, change, difference, find};
//! use bastide_model::Moment;
//!
//! let moment = Moment::on("2026-11-24".parse()?, estate.schema());
//! let today = Snapshot::new(&estate, &moment).map_err(|circles| circles[0].message.clone())?;
//!
//! let user = find::user(&estate, "bruno.tavares")?;
//! let read = find::action(&estate, "read")?;
//! let path = "Exhibitions/Tidal Light/Condition/Incoming/TL-007 incoming";
//! let place = find::resource(&estate, path)?;
//! assert!(!today.decide(user, read, place).is_allowed());
//!
//! // A change is tried on a copy; nothing is written.
//! let row = "user:bruno.tavares,may always,read,Exhibitions/Tidal Light,under";
//! let entry = change::give(&estate, row)?;
//! let then = today.after(&[entry])?;
//! assert!(then.decide(user, read, place).is_allowed());
//! assert_eq!(difference::radius(&today.difference(&then)).users, 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! | module | answers |
//! |---|---|
//! | [`decide`] | one triple: the specification evaluator |
//! | [`evaluate`] | all users of a resource at once: the set engine |
//! | [`explain`], [`remedy`] | why, and what would turn it |
//! | [`access`] | tables, totals and lists |
//! | [`change`], [`difference`] | what a change does, and to whom |
//! | [`prove`], [`review`] | expectations and guarantees; what owners confirm |
#![warn(clippy::print_stdout)]

pub mod access;
pub mod advice;
pub mod calendar;
mod cancel;
pub mod change;
pub mod decide;
pub mod difference;
pub mod evaluate;
pub mod explain;
pub mod find;
pub mod inside;
pub mod prove;
pub mod remedy;
pub mod review;
pub mod session;
pub mod sessions;
pub mod sets;
mod shares;
mod snapshot;

pub use cancel::{Cancel, Cancelled, Question};
pub use decide::{Decision, Reason, ReferenceEvaluator};
pub use snapshot::Snapshot;
