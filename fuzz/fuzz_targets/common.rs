use bastide_formats::manifest::DataSource;
use bastide_formats::text::Placed;
use bastide_model::Schema;
use bastide_syntax::{Diagnostic, FileId, Span, parse};

/// The declarations that the seeds are written for.
pub fn schema() -> Schema {
    let text = "kind room kind box in room kind paper in box, room\n\
        action read action update role editor = read, update\n\
        type wing = choice east, west type secrecy = scale open < sealed\n\
        attribute wing of user, resource: wing attribute age of user: number attribute topics of user, paper: set of text\n\
        attribute due of resource: date attribute expert of user: flag attribute secrecy of resource: secrecy highest";
    bastide_resolve::declarations(&[parse(FileId(0), text).tree]).schema
}

pub fn source() -> DataSource {
    let span = Span::new(FileId(0), 0, 0);
    let placed = |text: &str| Placed { text: text.to_string(), span };
    DataSource {
        realm: Some("r".to_string()),
        attributes: vec![("departmentNumber".to_string(), placed("wing")), ("name.familyName".to_string(), placed("topics"))],
        ..DataSource::of(placed("x"))
    }
}

/// A file that is read as it is.
#[allow(dead_code, reason = "not every target reads tables")]
pub fn plain() -> DataSource {
    DataSource::of(Placed { text: "x".to_string(), span: Span::new(FileId(0), 0, 0) })
}

/// Every mistake has its place in the text. The mapping's own places lie in the manifest.
pub fn placed(text: &str, diagnostics: &[Diagnostic]) {
    for diagnostic in diagnostics {
        let place = diagnostic.place.expect("every mistake has a place");
        assert!(text.get(place.range()).is_some() || place.end == 0, "{diagnostic:?}");
    }
}

/// The day for which accounts end.
pub fn today() -> jiff::civil::Date {
    jiff::civil::Date::constant(2026, 11, 24)
}
