//! Values of attributes and how they compare.

use crate::ids::{KindId, TypeId};
use bastide_syntax::tree::Comparison;
use jiff::civil::Date;
use rust_decimal::Decimal;
use std::borrow::Cow;
use std::cmp::Ordering;
use std::sync::Arc;

/// A value that is kept.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Value {
    /// Text, or a word (a state, a user's kind).
    Text(Arc<str>),
    /// A decimal number: 2.50 equals 2.5.
    Number(Decimal),
    /// A day.
    Date(Date),
    /// Yes or no.
    Flag(bool),
    /// A value of a choice or a scale, by its step.
    Step(TypeId, u16),
    /// A set, sorted, without doubles.
    Set(Arc<[Value]>),
}

/// A value that is looked at. Kinds occur only here.
#[derive(Clone, PartialEq, Debug)]
pub enum Datum<'a> {
    /// See [`Value::Text`].
    Text(Cow<'a, str>),
    /// See [`Value::Number`].
    Number(Decimal),
    /// See [`Value::Date`].
    Date(Date),
    /// See [`Value::Flag`].
    Flag(bool),
    /// See [`Value::Step`].
    Step(TypeId, u16),
    /// A kind of resource.
    Kind(KindId),
    /// See [`Value::Set`].
    Set(&'a [Value]),
}

impl Value {
    /// The set of these elements.
    pub fn set(elements: impl IntoIterator<Item = Value>) -> Value {
        let mut elements: Vec<Value> = elements.into_iter().collect();
        elements.sort();
        elements.dedup();
        Value::Set(elements.into())
    }

    /// The value as it is looked at.
    pub fn datum(&self) -> Datum<'_> {
        match self {
            Value::Text(text) => Datum::Text(Cow::Borrowed(text)),
            Value::Number(number) => Datum::Number(*number),
            Value::Date(date) => Datum::Date(*date),
            Value::Flag(flag) => Datum::Flag(*flag),
            Value::Step(of, step) => Datum::Step(*of, *step),
            Value::Set(elements) => Datum::Set(elements),
        }
    }

    /// Whether it is the empty set.
    pub fn is_empty_set(&self) -> bool {
        matches!(self, Value::Set(elements) if elements.is_empty())
    }
}

/// Unicode case folding, for `caseless` attributes.
pub fn fold(text: &str) -> String {
    if text.is_ascii() {
        return text.to_ascii_lowercase();
    }
    caseless::default_case_fold_str(text)
}

/// Compares two single values of one type. Values of different types do not occur after typing
/// and are unequal here.
pub fn compares(left: &Datum, comparison: Comparison, right: &Datum, caseless: bool) -> bool {
    let ordering = match (left, right) {
        (Datum::Text(a), Datum::Text(b)) if caseless => fold(a).cmp(&fold(b)),
        (Datum::Text(a), Datum::Text(b)) => a.cmp(b),
        (Datum::Number(a), Datum::Number(b)) => a.cmp(b),
        (Datum::Date(a), Datum::Date(b)) => a.cmp(b),
        (Datum::Flag(a), Datum::Flag(b)) => a.cmp(b),
        (Datum::Step(s, a), Datum::Step(t, b)) if s == t => a.cmp(b),
        (Datum::Kind(a), Datum::Kind(b)) => a.cmp(b),
        _ => return comparison == Comparison::NotEqual,
    };
    match comparison {
        Comparison::Equal => ordering == Ordering::Equal,
        Comparison::NotEqual => ordering != Ordering::Equal,
        Comparison::Less => ordering == Ordering::Less,
        Comparison::LessEqual => ordering != Ordering::Greater,
        Comparison::Greater => ordering == Ordering::Greater,
        Comparison::GreaterEqual => ordering != Ordering::Less,
    }
}

/// Whether a single value is an element of a set.
pub fn is_element(element: &Datum, set: &[Value], caseless: bool) -> bool {
    set.iter().any(|member| compares(element, Comparison::Equal, &member.datum(), caseless))
}

/// A pattern of `like`, or one segment of a path: literal characters, `*` for any run, and in
/// `like` also `?` for one character.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct Pattern {
    parts: Vec<Part>,
    /// The same in bytes, where all characters have one each: 0 is any run, 1 any character.
    bytes: Option<Box<[u8]>>,
}

/// A part of a pattern.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub(crate) enum Part {
    /// This character.
    Char(char),
    /// Any one.
    One,
    /// Any run of them.
    Run,
}

impl Pattern {
    /// From the inside of a quoted text, backslashes left in. `question` makes `?` wild too.
    pub fn new(raw: &str, question: bool) -> Pattern {
        let mut parts = Vec::new();
        let mut chars = raw.chars();
        while let Some(c) = chars.next() {
            parts.push(match c {
                '\\' => Part::Char(chars.next().unwrap_or('\\')),
                '*' => Part::Run,
                '?' if question => Part::One,
                c => Part::Char(c),
            });
        }
        Pattern::of(parts)
    }

    fn of(parts: Vec<Part>) -> Pattern {
        let byte = |part: &Part| match part {
            Part::Run => Some(0),
            Part::One => Some(1),
            Part::Char(c) if (' '..='~').contains(c) => Some(*c as u8),
            Part::Char(_) => None,
        };
        Pattern { bytes: parts.iter().map(byte).collect(), parts }
    }

    /// The text that alone fits, where nothing is wild.
    pub fn literal(&self) -> Option<String> {
        self.parts.iter().map(|part| if let Part::Char(c) = part { Some(*c) } else { None }).collect()
    }

    /// The same pattern for folded text.
    pub fn folded(&self) -> Pattern {
        let fold_part = |part: &Part| match part {
            Part::Char(c) => fold(c.encode_utf8(&mut [0; 4])).chars().map(Part::Char).collect(),
            other => vec![*other],
        };
        Pattern::of(self.parts.iter().flat_map(fold_part).collect())
    }

    /// What it is made of.
    pub(crate) fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// Whether the whole text fits. Cost: at most pattern times text.
    pub fn fits(&self, text: &str) -> bool {
        if let Some(bytes) = &self.bytes
            && text.is_ascii()
        {
            return fits(bytes, text.as_bytes());
        }
        let (mut part, mut rest) = (0, text.chars());
        let mut back: Option<(usize, std::str::Chars)> = None;
        loop {
            let here = rest.clone();
            let Some(next) = rest.next() else { break };
            match self.parts.get(part) {
                Some(Part::Run) => {
                    part += 1;
                    back = Some((part, here.clone()));
                    rest = here;
                }
                Some(Part::One) => part += 1,
                Some(Part::Char(own)) if *own == next => part += 1,
                _ => match &mut back {
                    Some((after, from)) => {
                        from.next();
                        part = *after;
                        rest = from.clone();
                    }
                    None => return false,
                },
            }
        }
        self.parts[part..].iter().all(|part| *part == Part::Run)
    }
}

/// Whether a text in bytes fits a pattern in bytes.
fn fits(pattern: &[u8], text: &[u8]) -> bool {
    // How it ends is told first: that settles most.
    match (pattern.last(), text.last()) {
        (Some(0 | 1), _) => {}
        (last, own) if last == own => {}
        _ => return false,
    }
    let (mut part, mut at) = (0, 0);
    let mut back: Option<(usize, usize)> = None;
    while at < text.len() {
        match pattern.get(part) {
            Some(0) => {
                part += 1;
                back = Some((part, at));
            }
            Some(1) => {
                part += 1;
                at += 1;
            }
            Some(own) if *own == text[at] => {
                part += 1;
                at += 1;
            }
            _ => match &mut back {
                Some((after, from)) => {
                    *from += 1;
                    // What comes after a run begins with this.
                    if let Some(first) = pattern.get(*after).filter(|first| **first > 1) {
                        match text[*from..].iter().position(|own| own == first) {
                            Some(next) => *from += next,
                            None => return false,
                        }
                    }
                    (part, at) = (*after, *from);
                }
                None => return false,
            },
        }
    }
    pattern[part..].iter().all(|part| *part == 0)
}

/// As it is written between quotes.
impl std::fmt::Display for Pattern {
    fn fmt(&self, out: &mut std::fmt::Formatter) -> std::fmt::Result {
        for part in &self.parts {
            match part {
                Part::Char(c @ ('*' | '?' | '\\')) => write!(out, "\\{c}")?,
                Part::Char(c) => write!(out, "{c}")?,
                Part::One => write!(out, "?")?,
                Part::Run => write!(out, "*")?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_fit_whole_texts() {
        for (raw, text, fits) in [
            ("Tidal *", "Tidal Light", true),
            ("Tidal *", "Tidal", false),
            ("*", "", true),
            ("a?c", "abc", true),
            ("a?c", "ac", false),
            (r"a\*c", "a*c", true),
            (r"a\*c", "abc", false),
            ("*a*b*", "xxaxxbxx", true),
            ("*a*b", "xxaxxbx", false),
            ("é?", "éä", true),
        ] {
            assert_eq!(Pattern::new(raw, true).fits(text), fits, "{raw} on {text}");
        }
        assert!(!Pattern::new("a?", false).fits("ab"), "in a path `?` is an ordinary character");
        assert!(Pattern::new("STRASSE*", true).folded().fits(&fold("Straße 5")));
        for byte in 0..128u8 {
            let text = char::from(byte).to_string();
            assert_eq!(fold(&text), caseless::default_case_fold_str(&text));
        }
        assert_eq!(Pattern::new(r"a\*", false).literal().as_deref(), Some("a*"));
    }

    /// Texts of which every character has one byte are fitted by bytes: the same as by characters.
    #[test]
    fn bytes_fit_as_characters_do() {
        let mut seed = 7u64;
        let mut draw = |of: &[char]| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            of[(seed >> 33) as usize % of.len()]
        };
        let mut fitting = 0;
        for length in (0..9).cycle().take(20_000) {
            let raw: String = (0..length).map(|_| draw(&['a', 'b', 'c', '*', '?'])).collect();
            let text: String = (0..draw(&['0', '3', '7', '9']) as usize - 48).map(|_| draw(&['a', 'b', 'c'])).collect();
            let pattern = Pattern::new(&raw, true);
            let by_characters = Pattern { bytes: None, ..pattern.clone() };
            assert_eq!(pattern.fits(&text), by_characters.fits(&text), "{raw} on {text}");
            fitting += usize::from(pattern.fits(&text));
        }
        assert!(fitting > 1000, "{fitting}");
    }

    #[test]
    fn numbers_compare_by_value_and_text_exactly() {
        let number = |text: &str| Datum::Number(text.parse().unwrap());
        let text = |text: &'static str| Datum::Text(Cow::Borrowed(text));
        assert!(compares(&number("2.50"), Comparison::Equal, &number("2.5"), false));
        assert!(compares(&number("-1"), Comparison::Less, &number("0.1"), false));
        assert!(!compares(&text("Straße"), Comparison::Equal, &text("STRASSE"), false));
        assert!(compares(&text("Straße"), Comparison::Equal, &text("STRASSE"), true));
    }
}
