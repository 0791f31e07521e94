//! Everybody's access row by row, as it is written by the million: CSV, JSON lines and Parquet; totals by user or by
//! resource; rows of a file that lie in given slices; and what goes over each byte of an output.
//!
//! It is a crate of its own because all of its loops run once for each user and resource, or for each byte that is written: it is compiled for speed, and the program
//! that asks, quickly.
//!
//! ```
//! use bastide_engine::Snapshot;
//! use bastide_formats::load_from;
//! use bastide_formats::store::Memory;
//! use bastide_model::{ActionId, Moment};
//! use bastide_rows::{Form, List, RowsFormat};
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
//!     ("people.csv", "id,kind\nada,person\n"),
//!     ("catalog.csv", "id,parent,kind,name\nhall,,room,Hall\n"),
//! ]
//! .into_iter()
//! .collect();
//! let estate = load_from(&files, "2026-11-24".parse()?).estate.ok_or("a mistake is among the diagnostics")?;
//! let moment = Moment::on("2026-11-24".parse()?, estate.schema());
//! let snapshot = Snapshot::new(&estate, &moment).map_err(|_| "decisions depend on themselves")?;
//! let users: Vec<_> = estate.people().all().collect();
//! let actions: Vec<_> = ActionId::all(estate.schema().actions.len()).collect();
//! let resources: Vec<_> = estate.catalog().all().collect();
//! let form = Form { format: RowsFormat::Csv, reasons: false, all: false, for_spreadsheet: false };
//! let mut out = Vec::new();
//! let mut list = List::new(form, &estate, &users, &actions, &mut out, &Vec::new)?;
//! list.part(&snapshot, &resources, &|_| {})?;
//! list.finish()?;
//! drop(list);
//! assert_eq!(String::from_utf8(out)?, "user,resource,actions\nada,hall,read\n");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
#![warn(clippy::print_stdout)]

mod line;
mod list;
mod pairs;
pub mod quoting;
mod slices;
pub mod text;

pub use line::{MatrixDecision, MatrixPair, MatrixRow, MatrixTriple};
pub use list::{Form, List, RowsFormat, TotalsTable};
pub use slices::{Slice, SliceRows};
