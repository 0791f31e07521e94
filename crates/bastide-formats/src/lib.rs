//! The files of an estate: what is read (manifest, policy; tables as CSV, JSON Lines, LDIF, SCIM, workbooks,
//! Parquet) becomes the rows and trees that the engine links. Every mistake is a diagnostic at its place; no reader panics.
//!
//! An estate is read from a folder ([`load()`]), or from whatever else holds its files ([`store::Store`]):
//!
//! ```
//! use bastide_formats::load_from;
//! use bastide_formats::store::Memory;
//!
//! let manifest = r#"
//!     name = "Small"
//!     policy = ["rules.bastide"]
//!     people = [{ file = "people.csv" }]
//!     catalog = [{ file = "catalog.csv" }]
//! "#;
//! let rules = r#"
//!     kind room
//!     action read
//!     rule all { because "Open." who anyone may read what anything }
//! "#;
//! let files: Memory = [
//!     ("bastide.toml", manifest),
//!     ("rules.bastide", rules),
//!     ("people.csv", "id,name\nann,Ann\n"),
//!     ("catalog.csv", "id,parent,kind,name\nr1,,room,Quay\n"),
//! ]
//! .into_iter()
//! .collect();
//! let loaded = load_from(&files, "2026-11-24".parse()?);
//! let estate = loaded.estate.ok_or("a mistake is among the diagnostics")?;
//! assert_eq!((estate.people().len(), estate.catalog().len()), (1, 1));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
#![warn(clippy::print_stdout)]

pub mod activity;
pub mod catalog;
pub mod cells;
pub mod checksum;
pub mod columnar;
pub mod combinations;
pub mod csv_table;
pub mod data;
pub mod decisions;
pub mod distinct;
pub mod entries;
pub mod farewell;
pub mod grid;
pub mod groups;
pub mod inside;
pub mod json;
pub mod junit;
pub mod ldif;
pub mod load;
pub mod loaded;
pub mod manifest;
pub mod parquet;
pub mod parted;
pub mod people;
pub mod pieces;
mod reading;
pub mod resident;
pub mod sarif;
pub mod scim;
pub mod shape;
pub mod sheets;
pub mod sign_ins;
pub mod sql;
pub mod store;
pub mod stray;
pub mod strict;
pub mod text;
pub mod untidy;
pub mod usage;
pub mod workbook;
pub mod write;

/// The program of the guide's page on the library, which is run as it stands there.
#[cfg(doctest)]
#[doc = include_str!("../../../docs/library.md")]
struct Library;

pub use load::{
    Described, PolicyFiles, described, load, load_as_of, load_from, load_near, parted, policy_files, resident,
};
pub use loaded::Loaded;
