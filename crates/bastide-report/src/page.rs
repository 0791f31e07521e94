//! The page: one file of HTML that holds its data, its style and its script.
//!
//! Names from data pass through three gates: what could act on a terminal or turn the direction of text is
//! made visible, the template engine writes markup as text, and what the script reads stands in a block of
//! JSON in which no `<`, `>` or `&` occurs, so that nothing in it can end the block. A policy in the page
//! itself forbids it to load anything, and allows no style and no script but its own two, by their checksums.

use crate::Report;
use base64::Engine;
use bastide_syntax::visible;
use minijinja::{Environment, HtmlEscape, context};
use serde::Serialize;
use serde_json::Value;
use serde_json::ser::{CharEscape, Formatter};
use sha2::{Digest, Sha256};
use std::io::{self, Write};

const TEMPLATE: &str = include_str!("../templates/report.html");
const STYLE: &str = include_str!("../templates/report.css");
const SCRIPT: &str = include_str!("../templates/report.js");

/// The page as text.
///
/// # Panics
/// Never for a report that [`Report::new`] made: the template is part of the program, and tested.
pub fn page(report: &Report) -> String {
    let mut value = serde_json::to_value(report).expect("plain values always serialise");
    clean(&mut value);
    let harmless: Vec<&str> = report
        .folded
        .actions
        .iter()
        .zip(&report.folded.harmless)
        .filter(|(_, harmless)| **harmless)
        .map(|(name, _)| name.as_str())
        .collect();
    value["harmless_names"] = serde_json::json!(harmless);
    let data = Data { folded: &report.folded, heat: &value["heat"] };
    let deepest = report.heat.places.iter().map(|place| place.indent).max().unwrap_or(0);
    let style = format!("{STYLE}{}", steps(deepest));
    let (style_sum, script_sum) = (sum(&style), sum(SCRIPT));
    let mut templates = Environment::new();
    templates.add_filter("ticks", ticks);
    templates.add_template("report.html", TEMPLATE).expect("the template is well-formed");
    let template = templates.get_template("report.html").expect("just added");
    template
        .render(context! { r => value, css => style, js => SCRIPT, style_sum, script_sum, data => inert(&data) })
        .expect("the template fits the report")
}

/// The rules by which shares and depths are drawn: an element carries the class of its share, for a style of its own would
/// have to be allowed to every element.
fn steps(deepest: usize) -> String {
    let shares = (0..=100).map(|share| format!(".w{share}{{width:{share}%}}.v{share}{{--v:{share}}}\n"));
    let depths =
        (0..=deepest).map(|depth| format!(".in{depth}{{padding-inline-start:{:.1}rem}}\n", 0.4 + depth as f64 * 0.9));
    shares.chain(depths).collect()
}

/// The checksum by which the page allows its own style or script and no other (Content Security Policy, level 2).
fn sum(text: &str) -> String {
    let digest = Sha256::digest(text.as_bytes());
    format!("sha256-{}", base64::engine::general_purpose::STANDARD.encode(digest))
}

/// What stands between backticks, as in the terminal, is set as code. Everything else is text.
fn ticks(text: &str) -> minijinja::Value {
    let mut out = String::new();
    let parts: Vec<&str> = text.split('`').collect();
    for (at, part) in parts.iter().enumerate() {
        let closed = at + 1 < parts.len();
        match (at % 2, closed) {
            (1, true) => out.push_str(&format!("<code>{}</code>", HtmlEscape(part))),
            (1, false) => out.push_str(&format!("`{}", HtmlEscape(part))),
            _ => out.push_str(&HtmlEscape(part).to_string()),
        }
    }
    minijinja::Value::from_safe_string(out)
}

/// Makes every text visible, wherever it stands.
fn clean(value: &mut Value) {
    match value {
        Value::String(text) => {
            if let std::borrow::Cow::Owned(new) = visible(text) {
                *text = new;
            }
        }
        Value::Array(list) => list.iter_mut().for_each(clean),
        Value::Object(map) => map.values_mut().for_each(clean),
        _ => {}
    }
}

/// What the script reads.
#[derive(Serialize)]
struct Data<'r> {
    folded: &'r crate::folded::Folded,
    heat: &'r Value,
}

/// JSON that can stand in a script element: nothing in it can end it, and every text in it is made visible. It is written in one
/// go, since the lines of a large estate are hundreds of megabytes.
fn inert(data: &Data) -> String {
    let mut text = Vec::new();
    let mut writer = serde_json::Serializer::with_formatter(&mut text, Inert);
    data.serialize(&mut writer).expect("plain values always serialise");
    String::from_utf8(text).expect("JSON is text")
}

/// Writes JSON so.
struct Inert;

impl Formatter for Inert {
    fn write_string_fragment<W: Write + ?Sized>(&mut self, writer: &mut W, fragment: &str) -> io::Result<()> {
        let shown = visible(fragment);
        // A backslash that stands in a fragment makes something visible: those of the text come by themselves.
        let special = |byte: &u8| matches!(byte, b'&' | b'<' | b'>' | b'\\');
        let mut rest = shown.as_bytes();
        while let Some(at) = rest.iter().position(special) {
            writer.write_all(&rest[..at])?;
            writer.write_all(match rest[at] {
                b'&' => b"\\u0026",
                b'<' => b"\\u003c",
                b'>' => b"\\u003e",
                _ => b"\\\\",
            })?;
            rest = &rest[at + 1..];
        }
        writer.write_all(rest)
    }

    fn write_char_escape<W: Write + ?Sized>(&mut self, writer: &mut W, escape: CharEscape) -> io::Result<()> {
        let byte = match escape {
            CharEscape::Quote => return writer.write_all(b"\\\""),
            CharEscape::ReverseSolidus => return writer.write_all(b"\\\\"),
            CharEscape::Solidus => b'/',
            CharEscape::Backspace => 8,
            CharEscape::FormFeed => 12,
            CharEscape::LineFeed => b'\n',
            CharEscape::CarriageReturn => b'\r',
            CharEscape::Tab => b'\t',
            CharEscape::AsciiControl(byte) => byte,
        };
        self.write_string_fragment(writer, char::from(byte).encode_utf8(&mut [0; 4]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// As it was written before: a tree of values, made visible, and what could end the element replaced in the text.
    fn by_values(text: &str) -> String {
        let mut value = serde_json::json!({ "a": [text] });
        clean(&mut value);
        value.to_string().replace('&', "\\u0026").replace('<', "\\u003c").replace('>', "\\u003e")
    }

    #[test]
    fn texts_are_written_as_their_values_would_be() {
        let all: String = (0..0x3000).chain([0xfeff, 0x1f600, 0xe0041]).filter_map(char::from_u32).collect();
        let some = ["</script>&amp;", "a\\n\"b\"", "\u{202e}gnp.exe\u{0}", "line\none\r\ttab", "C:\\temp\u{200b}\\"];
        for text in some.into_iter().map(str::to_string).chain([all]) {
            let mut out = Vec::new();
            let mut writer = serde_json::Serializer::with_formatter(&mut out, Inert);
            serde_json::json!({ "a": [text] }).serialize(&mut writer).expect("it is written");
            let out = String::from_utf8(out).expect("text");
            assert_eq!(out, by_values(&text));
            assert!(!out.contains(['<', '>', '&']), "{out}");
        }
    }
}
