//! What is handed over: one page for people who do not use terminals, and pictures.
//!
//! [`Report`] gathers everything the page says, in plain values; [`page`] puts it into one file that needs no
//! network, no other file and no program but a browser. No input or output, no clock.
//!
//! ```
//! # let estate = bastide_testkit::demo().estate.expect("the demo has no errors");
//! use bastide_audit::{Case, Limits, Survey, audit_by};
//! use bastide_model::Moment;
//! use bastide_report::{Access, Report, Sources, page};
//!
//! let moment = Moment::on("2026-11-24".parse()?, estate.schema());
//! let case = Case {
//!     estate: &estate,
//!     moment: &moment,
//!     harmless: vec!["read".to_string()],
//!     limits: Limits::default(),
//!     levels: Vec::new(),
//!     diagnostics: &[],
//!     lines: Vec::new(),
//!     used: None,
//! };
//! let survey = Survey::new(&case).map_err(|circles| circles[0].message.clone())?;
//! let findings = audit_by(&case, &survey, &|_| true, &|_| {});
//! let report = Report::new(Sources {
//!     case: &case,
//!     access: Access::new(&case, &survey, None),
//!     findings,
//!     proofs: Vec::new(),
//!     changes: None,
//!     version: "1".to_string(),
//!     about: Vec::new(),
//! });
//! assert!(page(&report).starts_with("<!doctype html>"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
#![warn(clippy::print_stdout)]

mod exposure;
mod findings;
mod folded;
mod heat;
mod overview;
mod page;
pub mod picture;
mod power;
mod report;
mod rows;

pub use exposure::{Exposed, Exposure};
pub use findings::{FindingGroup, MOST_FINDINGS};
pub use folded::{Folded, Line, PersonRef, Place};
pub use heat::{Heat, HeatPlace, HeatRow};
pub use overview::{First, Overview, Tile};
pub use page::page;
pub use power::{FullPower, Weight};
pub use report::{Access, Changes, Report, Sources};
pub use rows::{DatasetRows, SameRows};
