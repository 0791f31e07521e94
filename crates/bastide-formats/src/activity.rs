//! Whether an account is active, by what a directory says of it: `[people.active]` in the manifest.
//!
//! Directories say it in many ways: a bit of a number, a time after which the account is closed, a shell that lets nobody
//! in. Each rule names an attribute and what of it means that the account is not active. What cannot be read is not
//! active: in doubt, no access.

use crate::text::Placed;
use bastide_model::value::Pattern;
use jiff::civil::Date;

/// One rule of `[people.active]`.
#[derive(Clone, Debug)]
pub struct ActiveRule {
    /// The attribute, as the source names it.
    pub attribute: Placed,
    /// When it says that the account is not active.
    pub off: Off,
    /// What it means that the attribute is not there.
    pub missing_is_active: bool,
}

/// What of a value means that an account is not active.
#[derive(Clone, Debug)]
pub enum Off {
    /// This bit of a number is set.
    Bit(u64),
    /// The value fits the pattern.
    Fits(Pattern),
    /// The value does not fit the pattern.
    FitsNot(Pattern),
    /// The day has come: an RFC 3339 day or time, a generalized time (RFC 4517), or whole days since 1970-01-01.
    Since,
}

impl ActiveRule {
    /// Whether the account is active by this rule on a day, given the values of the attribute.
    pub fn is_active<'v>(&self, mut values: impl Iterator<Item = &'v str>, today: Date) -> bool {
        let Some(first) = values.next() else { return self.missing_is_active };
        std::iter::once(first).chain(values).all(|value| self.admits(value.trim(), today))
    }

    fn admits(&self, value: &str, today: Date) -> bool {
        match &self.off {
            // A number below zero is one of 32 bits in two's complement.
            Off::Bit(bit) => match value.parse::<i64>() {
                Ok(number) => (number as u64) & bit == 0,
                Err(_) => false,
            },
            Off::Fits(pattern) => !pattern.fits(value),
            Off::FitsNot(pattern) => pattern.fits(value),
            Off::Since => day(value).is_some_and(|day| today < day),
        }
    }
}

/// The day of a time in one of the forms that directories use.
fn day(text: &str) -> Option<Date> {
    let digits = |text: &str| text.chars().all(|c| c.is_ascii_digit());
    if let Some(head) = text.get(..8).filter(|head| text.len() >= 14 && digits(head) && digits(&text[8..14])) {
        // A generalized time: the day of it in its own zone.
        return format!("{}-{}-{}", &head[..4], &head[4..6], &head[6..]).parse().ok();
    }
    if !text.is_empty() && digits(text) {
        let days: i64 = text.parse().ok()?;
        return Date::constant(1970, 1, 1).checked_add(jiff::Span::new().try_days(days).ok()?).ok();
    }
    text.get(..10)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_syntax::{FileId, Span};

    #[test]
    fn each_form_says_who_is_active() {
        let rule = |off: Off, missing_is_active: bool| ActiveRule {
            attribute: Placed { text: "a".into(), span: Span::new(FileId(0), 0, 0) },
            off,
            missing_is_active,
        };
        let today: Date = "2026-11-24".parse().unwrap();
        let shell = || Off::Fits(Pattern::new("*/nologin", true));
        for (off, missing, value, active) in [
            (Off::Bit(2), false, "512", true),
            (Off::Bit(2), false, "514", false),
            (Off::Bit(1 << 31), false, "-2147483648", false),
            (Off::Bit(2), false, "x", false),
            (shell(), true, "/bin/sh", true),
            (shell(), true, "/usr/sbin/nologin", false),
            (Off::FitsNot(Pattern::new("TRUE", true)), false, "TRUE", true),
            (Off::FitsNot(Pattern::new("TRUE", true)), false, "true ", false),
            (Off::Since, true, "2026-11-24", false),
            (Off::Since, true, "2026-11-25T00:00:00Z", true),
            (Off::Since, true, "20261125000000Z", true),
            (Off::Since, true, "000001010000Z", false),
            (Off::Since, true, "20781", false),
            (Off::Since, true, "20782", true),
            (Off::Since, true, "soon", false),
        ] {
            assert_eq!(rule(off.clone(), missing).is_active([value].into_iter(), today), active, "{off:?} {value}");
        }
        assert!(!rule(Off::Bit(2), false).is_active([].into_iter(), today));
        assert!(rule(shell(), true).is_active([].into_iter(), today));
        assert!(!rule(shell(), true).is_active(["/bin/sh", "/bin/nologin"].into_iter(), today), "any of them");
    }
}
