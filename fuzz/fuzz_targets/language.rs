//! Whatever a policy file holds: it is read, resolved and laid out without a fault.
#![no_main]

use bastide_syntax::format::{FormatError, format};
use bastide_syntax::{FileId, parse};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let parsed = parse(FileId(0), text);
    for diagnostic in &parsed.diagnostics {
        let place = diagnostic.place.expect("every mistake has a place");
        assert!(text.get(place.range()).is_some());
    }
    let whole = parsed.diagnostics.is_empty();
    match format(FileId(0), text) {
        Ok(once) => assert_eq!(format(FileId(0), &once).expect("canonical text is readable"), once),
        Err(FormatError::Mistakes(_)) => assert!(!whole),
        Err(FormatError::Fault) => panic!("a word was lost"),
    }
    let _ = bastide_resolve::declarations(&[parsed.tree]);
});
