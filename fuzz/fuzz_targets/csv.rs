//! Whatever a CSV file holds: people, memberships, a catalog and entries are read without a fault.
#![no_main]

mod common;

use bastide_formats::catalog::CatalogSink;
use bastide_formats::people::PeopleSink;
use bastide_formats::{entries, grid, groups, usage};
use bastide_model::rows::GroupRows;
use bastide_syntax::{Diagnostics, FileId};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let schema = common::schema();
    let mut out = Diagnostics::new();
    let mut people = PeopleSink::new(&schema, &[], common::today());
    people.csv(FileId(0), text, &common::source(), &mut out);
    let mut catalog = CatalogSink::new(&schema);
    let mut paths = bastide_formats::shape::Paths::new();
    catalog.paths(FileId(0), text, &common::plain(), &mut paths);
    catalog.csv(FileId(0), text, &common::plain(), &paths, &mut out);
    groups::csv(FileId(0), text, &common::plain(), &mut GroupRows::default(), &mut out);
    entries::csv(FileId(0), text, &common::plain(), &mut Vec::new(), &mut out);
    grid::csv(FileId(0), text, &common::plain(), bastide_model::Reach::Under, &mut Vec::new(), &mut out);
    usage::csv(FileId(0), text, &schema, &mut Vec::new(), &mut out);
    bastide_formats::json::catalog(FileId(0), text, &common::plain(), &mut catalog, &mut out);
    common::placed(text, &out);
    let _ = (people.finish(), catalog.finish());
});
