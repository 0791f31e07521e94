//! Every code a diagnostic can carry, in one table. `docs/diagnostics.md` describes each one; a
//! test holds the two together.

/// How bad it is. Any error means that nothing is evaluated.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Severity {
    /// Nothing is evaluated while it stands.
    Error,
    /// The estate can be evaluated; something in it has no effect or is not what it seems.
    Warning,
}

/// What sort of thing a diagnostic is.
#[derive(PartialEq, Eq, Debug)]
pub struct Code {
    /// Kebab-case, stable.
    pub name: &'static str,
    /// Its severity.
    pub severity: Severity,
    /// What it says, in one line.
    pub about: &'static str,
}

macro_rules! codes {
    ($($constant:ident $name:literal $severity:ident $about:literal;)*) => {
        $(#[doc = $about] pub static $constant: Code =
            Code { name: $name, severity: Severity::$severity, about: $about };)*
        /// The table, in byte order of the names.
        pub static ALL: &[&Code] = &[$(&$constant),*];
    };
}

codes! {
    AMBIGUOUS_PLACE "ambiguous-place" Error "a path that fits several siblings of the same name";
    BAD_DATE "bad-date" Error "a date that the calendar does not have";
    BAD_ROW "bad-row" Error "a row of a data file that cannot be read";
    BAD_TOKEN "bad-token" Error "characters that have no meaning in the language";
    BAD_VALUE "bad-value" Error "a value that is not of its attribute's type";
    CHAINED "chained-comparison" Error "two comparisons in a row, without `and`";
    CLAUSE_MISSING "clause-missing" Error "a rule, expectation or guarantee that lacks a clause";
    CLAUSE_TWICE "clause-twice" Error "a clause that stands twice";
    CONTRADICTORY "contradictory" Error "words of a declaration that do not go together";
    CUT_OFF "cut-off" Error "an export of which a part is missing";
    DECISION_CYCLE "decision-cycle" Error "a decision that would depend on itself";
    DECLARED_TWICE "declared-twice" Error "a name that is declared twice";
    DUPLICATE_ID "duplicate-id" Error "an id that stands twice in the data";
    GROUP_CYCLE "group-cycle" Error "a membership cycle that passes through a computed group";
    HIDDEN_CHARACTER "hidden-character" Error "a character that does not show, or shows something else than is there";
    ID_LIKE_A_PATH "id-like-a-path" Warning "an id that is also the path of something else";
    KIND_CYCLE "kind-cycle" Error "kinds that are sub-kinds of each other";
    LINE_TOO_LONG "line-too-long" Error "a line of more than 16 MiB";
    LOOK_ALIKE "look-alike" Warning "two ids that a reader takes for each other";
    LOST_RESTRICTION "lost-restriction" Error "a prohibition or ceiling that has lost whom, where or what it speaks of";
    MANIFEST "manifest" Error "something in `bastide.toml` that cannot be used";
    MISPLACED "misplaced" Error "a resource in a container that may not hold it";
    MISSING_COLUMN "missing-column" Error "a data file without a column it must have";
    MISSING_FILE "missing-file" Error "a file that is named and not there";
    MISSING_IN_RESTRICTION "missing-in-restriction" Warning "a restriction that also catches those whose value is missing";
    MISSING_VALUE "missing-value" Error "a required value that is missing";
    NEVER_APPLIES "never-applies" Warning "a statement whose condition contradicts itself";
    NO_EFFECT "no-effect" Warning "words that change nothing where they stand";
    NOT_UTF8 "not-utf8" Error "a file that is not valid UTF-8";
    OPEN_TEXT "open-text" Error "a text without its closing quote";
    OUT_OF_PART "out-of-part" Error "something that hangs on a part of the catalog in which it does not stand";
    OUT_OF_PLACE "out-of-place" Error "something that may not be said where it stands";
    PARENT_CYCLE "parent-cycle" Error "resources that contain each other";
    ROLE_CYCLE "role-cycle" Error "roles that are built from each other";
    SOURCE_CYCLE "source-cycle" Error "resources that are derived from each other";
    STALE_PLACE "stale-place" Warning "a place that fits no resource";
    TOO_DEEP "too-deep" Error "nesting beyond the limit";
    TYPE_MISMATCH "type-mismatch" Error "values of different types in one comparison";
    UNEXPECTED "unexpected" Error "text that does not fit the grammar";
    UNKNOWN_ACTION "unknown-action" Error "an action or role that no file declares";
    UNKNOWN_ATTRIBUTE "unknown-attribute" Error "an attribute that no file declares";
    UNKNOWN_COLUMN "unknown-column" Error "a column that is neither fixed nor a declared attribute";
    UNKNOWN_KIND "unknown-kind" Error "a kind that no file declares";
    UNKNOWN_LAYER "unknown-layer" Error "a layer that the manifest does not declare";
    UNKNOWN_PARENT "unknown-parent" Error "a parent that is not in the catalog";
    UNKNOWN_REFERENCE "unknown-reference" Warning "a member, owner, source or user of a sign-in that does not exist";
    UNKNOWN_SUBJECT "unknown-subject" Warning "a user or group that does not exist";
    UNKNOWN_TYPE "unknown-type" Error "a type that no file declares";
    UNKNOWN_VALUE "unknown-value" Error "a value that its type does not have";
    UNREADABLE "unreadable" Error "a file, folder or link that is there and cannot be read";
    UNSUPPORTED "unsupported" Error "a form of a file that is not read";
    UNTIDY_NAME "untidy-name" Error "an id or a name that is not in the one form that names have";
    UNUSED "unused" Warning "a declaration that nothing uses";
    WRONG_TARGET "wrong-target" Error "a target that cannot be used here";
}

impl Code {
    /// Whether the manifest may make a warning of it: decisions can be made all the same.
    pub fn can_be_lowered(&self) -> bool {
        std::ptr::eq(self, &LOST_RESTRICTION)
    }
}

/// The code of a name.
pub fn find(name: &str) -> Option<&'static Code> {
    ALL.iter().find(|code| code.name == name).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_sorted_and_unique() {
        assert!(ALL.windows(2).all(|pair| pair[0].name < pair[1].name));
    }
}
