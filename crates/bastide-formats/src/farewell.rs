//! Words by which somebody is gone: what directories say of an account in a title or a remark, while it is
//! still active.

/// Words that such a text begins with, unless the manifest lists others (`[audit] gone`).
pub const WORDS: [&str; 16] = [
    "suspended",
    "disabled",
    "deactivated",
    "inactive",
    "locked",
    "revoked",
    "expelled",
    "terminated",
    "dismissed",
    "resigned",
    "departed",
    "deceased",
    "has left",
    "left the",
    "left in",
    "no longer",
];

/// A time in `pwdAccountLockedTime` that means until somebody unlocks it (draft-behera-ldap-password-policy, 5.3.3).
const LOCKED_FOR_GOOD: &str = "000001010000Z";

/// Tells such texts from others.
pub struct Farewells {
    words: Vec<String>,
}

impl Farewells {
    /// By the words they begin with.
    pub fn of(words: &[String]) -> Farewells {
        Farewells { words: words.iter().map(|w| w.to_lowercase()).filter(|w| !w.is_empty()).collect() }
    }

    /// Whether a text begins with one of the words, whatever stands before its first letter.
    pub fn says(&self, field: &str, text: &str) -> bool {
        if field.eq_ignore_ascii_case("pwdAccountLockedTime") {
            return text == LOCKED_FOR_GOOD;
        }
        let text = text.trim_start_matches(|c: char| !c.is_alphanumeric()).to_lowercase();
        let ends = |rest: &str| !rest.starts_with(|c: char| c.is_alphanumeric());
        self.words.iter().any(|word| text.strip_prefix(word.as_str()).is_some_and(ends))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_says_so_by_its_first_words() {
        let farewells = Farewells::of(&WORDS.map(str::to_string));
        for text in ["Suspended: left in spring", "SUSPENDED", "[disabled] Ann", "  - left the house", "has left"] {
            assert!(farewells.says("title", text), "{text}");
        }
        for text in ["", "Suspendedly", "Curator (suspended)", "left-handed", "Locksmith", "Lockedin Bay", "Leftwich"] {
            assert!(!farewells.says("title", text), "{text}");
        }
        assert!(farewells.says("pwdAccountLockedTime", "000001010000Z"));
        assert!(!farewells.says("pwdaccountlockedtime", "20260101000000Z"));
        let own = Farewells::of(&["Ausgeschieden".to_string(), String::new()]);
        assert!(own.says("title", "ausgeschieden zum 1. Mai") && !own.says("title", "suspended"));
    }
}
