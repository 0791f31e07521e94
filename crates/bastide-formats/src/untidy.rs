//! Ids and names that are not in the one form that they have, whatever file they come from.

use bastide_model::tidy::{shown, untidy};
use bastide_syntax::{Diagnostic, FileId, Span, codes};

/// The diagnostic of an id or a name that is not in its form, without its place.
pub fn untidy_name(of: &str, id: &str, what: &str, text: &str) -> Option<Diagnostic> {
    let (why, better) = untidy(text)?;
    let message = match what {
        "id" => format!("the id `{}` of a {of} {why}", shown(text)),
        _ => format!("the {what} `{}` of {of} `{}` {why}", shown(text), shown(id)),
    };
    let nowhere = Span::new(FileId(0), 0, 0);
    Some(
        Diagnostic::at(&codes::UNTIDY_NAME, nowhere, message)
            .help(format!("write it as `{better}`, where it comes from")),
    )
}
