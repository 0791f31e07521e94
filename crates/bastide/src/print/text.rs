//! Words, widths, colours, and names from data made safe to show.

use anstyle::{AnsiColor, Style};
pub use bastide_model::show::{count, grouped};
use bastide_rows::quoting::{is_command, writer};
pub use bastide_syntax::visible;
use std::fmt::Write;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const GOOD: Style = AnsiColor::Green.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();
const DOUBT: Style = AnsiColor::Yellow.on_default();
const NAME: Style = AnsiColor::Cyan.on_default();

fn paint(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// A heading.
pub fn bold(text: &str) -> String {
    paint(BOLD, text)
}

/// Beside the point.
pub fn dim(text: &str) -> String {
    paint(DIM, text)
}

/// Allowed.
pub fn good(text: &str) -> String {
    paint(GOOD, text)
}

/// Refused.
pub fn bad(text: &str) -> String {
    paint(BAD, text)
}

/// Open, or worth a second look.
pub fn doubt(text: &str) -> String {
    paint(DOUBT, text)
}

/// The name of a statement.
pub fn name(text: &str) -> String {
    paint(NAME, text)
}

/// Columns a text takes, colours left aside.
pub fn width(text: &str) -> usize {
    if text.contains('\u{1b}') { bastide_rows::text::plain(text).width() } else { text.width() }
}

/// A plain text of at most so many columns, cut with `…`.
pub fn cut(text: &str, most: usize) -> String {
    if width(text) <= most {
        return text.to_string();
    }
    let mut out = String::new();
    let mut used = 0;
    for c in text.chars() {
        let next = c.width().unwrap_or(0);
        if used + next + 1 > most {
            break;
        }
        used += next;
        out.push(c);
    }
    out.push('…');
    out
}

/// As [`cut`], the beginning left out.
pub fn cut_before(text: &str, most: usize) -> String {
    if width(text) <= most {
        return text.to_string();
    }
    format!("…{}", end(text, most.saturating_sub(1)))
}

/// As [`cut`], the middle left out.
pub fn cut_inside(text: &str, most: usize) -> String {
    if width(text) <= most {
        return text.to_string();
    }
    let behind = most / 2;
    format!("{}{}", cut(text, most - behind), end(text, behind))
}

/// As much of the end of a text as fits so many columns.
fn end(text: &str, most: usize) -> String {
    let (mut used, mut from) = (0, text.len());
    for (at, c) in text.char_indices().rev() {
        used += c.width().unwrap_or(0);
        if used > most {
            break;
        }
        from = at;
    }
    text[from..].to_string()
}

/// A plain text filled with blanks to so many columns.
pub fn pad(text: &str, columns: usize) -> String {
    let mut out = text.to_string();
    out.extend(std::iter::repeat_n(' ', columns.saturating_sub(width(text))));
    out
}

/// Text broken at blanks into lines of at most so many columns.
pub fn wrap(text: &str, columns: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split(' ') {
        let last = lines.last_mut().expect("never empty");
        if last.is_empty() {
            last.push_str(word);
        } else if width(last) + 1 + width(word) <= columns {
            last.push(' ');
            last.push_str(word);
        } else {
            lines.push(word.to_string());
        }
    }
    lines
}

/// Text after a head, wrapped, its further lines indented under the first.
pub fn hang(head: &str, text: &str, columns: usize) -> String {
    let indent = width(head);
    let lines = wrap(text, columns.saturating_sub(indent).max(20));
    let mut out = String::new();
    for (i, line) in lines.iter().enumerate() {
        // Blanks at the end of a line are of no use to anybody.
        let line = line.trim_end();
        if i == 0 { writeln!(out, "{head}{line}") } else { writeln!(out, "{}{line}", " ".repeat(indent)) }
            .expect("a string takes everything");
    }
    out
}

/// Rows as CSV beneath their headers.
pub fn table(head: &[&str], rows: impl Iterator<Item = Vec<String>>) -> String {
    let rows: Vec<Vec<String>> = rows.collect();
    let odd = rows.iter().any(|row| row.first().is_some_and(|cell| is_command(cell)));
    let style = if odd { csv::QuoteStyle::Always } else { csv::QuoteStyle::Necessary };
    let mut out = writer(Vec::new(), style);
    out.write_record(head).expect("memory takes everything");
    rows.iter().for_each(|row| out.write_record(row).expect("memory takes everything"));
    String::from_utf8(out.into_inner().expect("memory takes everything")).expect("it was text")
}

/// One letter for each action: its first that is free, capitals when all are taken.
pub fn letters(actions: &[String]) -> Vec<char> {
    let mut taken: Vec<char> = Vec::new();
    for action in actions {
        let lower = action.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase);
        let upper = action.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_uppercase);
        let rest = ('a'..='z').chain('A'..='Z').chain('0'..='9');
        let free = lower.chain(upper).chain(rest).find(|c| !taken.contains(c) && c.width() == Some(1));
        taken.push(free.unwrap_or('?'));
    }
    taken
}

/// The legend of the letters, broken between its pairs.
pub fn legend(actions: &[String], letters: &[char], columns: usize) -> String {
    let pairs = actions.iter().zip(letters).map(|(a, l)| format!("{l} {a}"));
    let mut lines: Vec<String> = vec![String::new()];
    for pair in pairs.chain(["- nothing".to_string()]) {
        let last = lines.last_mut().expect("never empty");
        if last.is_empty() {
            last.push_str(&pair);
        } else if width(last) + 3 + width(&pair) <= columns {
            last.push_str(&format!("   {pair}"));
        } else {
            lines.push(pair);
        }
    }
    lines.iter().map(|line| format!("{}\n", dim(line))).collect()
}

/// A table of numbers: its first column is a label, the second stays with it, and where the others
/// are too many for the width they go on in a further block.
pub fn blocks(heads: &[String], rows: &[Vec<String>], columns: usize) -> String {
    let widest =
        |column: usize| rows.iter().map(|row| width(&row[column])).chain([width(&heads[column])]).max().unwrap_or(0);
    let widths: Vec<usize> = (0..heads.len()).map(widest).collect();
    let mut out = String::new();
    let mut from = 2;
    loop {
        let mut used = 2 + widths[0] + 2 + widths[1];
        let fits = widths[from..].iter().take_while(|w| {
            used += **w + 2;
            used <= columns
        });
        let upto = (from + fits.count().max(1)).min(heads.len());
        let line = |cells: &[String]| {
            let numbers = [1].into_iter().chain(from..upto).map(|c| format!("  {:>1$}", cells[c], widths[c]));
            format!("  {}{}\n", pad(&cells[0], widths[0]), numbers.collect::<String>())
        };
        out.push_str(&dim(&line(heads)));
        rows.iter().for_each(|row| out.push_str(&line(row)));
        from = upto;
        if from >= heads.len() {
            return out;
        }
        out.push('\n');
    }
}

/// A word with its article.
pub fn article(word: &str) -> String {
    let article = if word.starts_with(['a', 'e', 'i', 'o', 'u', 'A', 'E', 'I', 'O', 'U']) { "an" } else { "a" };
    format!("{article} {word}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_from_data_acts_on_a_terminal() {
        assert_eq!(visible("plain Søren"), "plain Søren");
        assert_eq!(visible("a\u{1b}[2Jb\u{202e}c\n"), "a\\u{1b}[2Jb\\u{202e}c\\n");
    }

    #[test]
    fn words_and_widths() {
        assert_eq!(cut("abcdef", 4), "abc…");
        assert_eq!(
            (count(1, "user"), count(2, "entry"), count(1234, "rule")),
            ("1 user".into(), "2 entries".into(), "1,234 rules".into())
        );
        let names = ["read", "run", "r", "rr"].map(String::from);
        assert_eq!(letters(&names), ['r', 'u', 'R', 'a']);
        assert_eq!(wrap("one two three", 7), ["one two", "three"]);
    }
}
