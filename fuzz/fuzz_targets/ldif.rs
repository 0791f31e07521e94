//! Whatever an LDIF file holds: it is read without a fault.
#![no_main]

mod common;

use bastide_formats::ldif::{self, LdifLinks};
use bastide_formats::people::PeopleSink;
use bastide_model::rows::GroupRows;
use bastide_syntax::{Diagnostics, FileId};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let schema = common::schema();
    let (mut out, mut rows, mut links) = (Diagnostics::new(), GroupRows::default(), LdifLinks::default());
    let mut people = PeopleSink::new(&schema, &[], common::today());
    ldif::read(FileId(0), text, &common::source(), &mut people, &mut rows, &mut links, &mut out);
    links.join(&mut rows);
    common::placed(text, &out);
    let _ = people.finish();
});
