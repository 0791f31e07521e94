//! SARIF 2.1.0 (OASIS, Static Analysis Results Interchange Format), written: what code reviews show
//! beside the lines in question. Columns count Unicode code points, as the run says.

use bastide_audit::Finding;
use bastide_syntax::codes::{ALL, Code};
use bastide_syntax::{Diagnostic, Edit, Sources, Span};
use serde_json::{Value, json};

/// Where the standard's schema is published.
const SCHEMA: &str = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// What a run says of itself, and what its places are relative to.
pub struct Run {
    /// The version of the program.
    pub version: String,
    /// What stands before the paths of files: the folder of the estate within the base, with a slash behind, or nothing.
    pub prefix: String,
    /// What the base is, in words.
    pub base: String,
    /// Keys and values: from which estate, as of when, asked how.
    pub about: Vec<(String, String)>,
}

/// The name of what paths are relative to.
const BASE: &str = "SRCROOT";

/// One run of one tool.
fn document(run: &Run, rules: Vec<Value>, mut results: Vec<Value>) -> Value {
    results.iter_mut().for_each(|result| rebase(result, run));
    let about: serde_json::Map<String, Value> =
        run.about.iter().map(|(key, value)| (key.clone(), json!(value))).collect();
    json!({
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [{
            "tool": {"driver": {"name": "bastide", "version": run.version, "rules": rules}},
            "originalUriBaseIds": {BASE: {"description": {"text": run.base}}},
            "columnKind": "unicodeCodePoints",
            "properties": about,
            "results": results,
        }],
    })
}

/// Puts every place beneath the base.
fn rebase(value: &mut Value, run: &Run) {
    match value {
        Value::Object(object) => {
            if let Some(Value::Object(place)) = object.get_mut("artifactLocation") {
                let whole = place.get("uri").and_then(Value::as_str).map(|own| format!("{}{own}", uri(&run.prefix)));
                place.extend(whole.map(|whole| ("uri".to_string(), json!(whole))));
                place.insert("uriBaseId".to_string(), json!(BASE));
            }
            object.values_mut().for_each(|inner| rebase(inner, run));
        }
        Value::Array(list) => list.iter_mut().for_each(|inner| rebase(inner, run)),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}

/// Diagnostics as one run of one tool.
pub fn log(sources: &Sources, diagnostics: &[Diagnostic], run: &Run) -> Value {
    let rules: Vec<Value> = ALL.iter().map(|code| rule(code)).collect();
    let results: Vec<Value> = diagnostics.iter().map(|d| result(sources, d)).collect();
    document(run, rules, results)
}

/// Findings of the audit as one run of one tool. The fingerprint of each stays the same when lines
/// move, so that a finding can be followed over time.
pub fn findings(findings: &[Finding], run: &Run) -> Value {
    let rules: Vec<Value> = bastide_audit::ALL
        .iter()
        .map(|d| {
            json!({
                "id": d.name,
                "shortDescription": {"text": d.what},
                "fullDescription": {"text": d.why},
                "help": {"text": format!("{} {} More: bastide audit --explain {}", d.why, d.mind, d.name)},
                "defaultConfiguration": {"level": d.level.word()},
            })
        })
        .collect();
    let results: Vec<Value> = findings.iter().map(finding).collect();
    document(run, rules, results)
}

fn finding(f: &Finding) -> Value {
    let index = bastide_audit::ALL.iter().position(|d| d.name == f.name).unwrap_or_default();
    let example = f.example.iter().map(|e| format!("for example: {}", e.sentence));
    let suggestion = f.suggestion.iter().map(|s| {
        let changes: Vec<&str> = s.changes.iter().map(|c| c.words.as_str()).collect();
        if changes.is_empty() { s.words.clone() } else { format!("{}: {}", s.words, changes.join(", and ")) }
    });
    let text: Vec<String> =
        std::iter::once(f.message.clone()).chain(f.evidence.iter().cloned()).chain(example).chain(suggestion).collect();
    let mut result = json!({
        "ruleId": f.name,
        "ruleIndex": index,
        "level": f.level.word(),
        "message": {"text": text.join("\n")},
        "partialFingerprints": {"bastideFinding/v1": f.fingerprint},
    });
    if let Some((file, line)) = f.place.as_deref().and_then(|p| p.rsplit_once(':')) {
        let line: u32 = line.parse().unwrap_or(1);
        result["locations"] = json!([{"physicalLocation": {
            "artifactLocation": {"uri": uri(file)},
            "region": {"startLine": line.max(1)},
        }}]);
    }
    result
}

fn level(severity: bastide_syntax::Severity) -> &'static str {
    match severity {
        bastide_syntax::Severity::Error => "error",
        bastide_syntax::Severity::Warning => "warning",
    }
}

fn rule(code: &Code) -> Value {
    json!({
        "id": code.name,
        "shortDescription": {"text": code.about},
        "defaultConfiguration": {"level": level(code.severity)},
    })
}

fn result(sources: &Sources, d: &Diagnostic) -> Value {
    let index = ALL.iter().position(|code| code.name == d.code.name).unwrap_or_default();
    let advice = d.notes.iter().cloned().chain(d.helps.iter().map(|h| h.text.clone()));
    let text: Vec<String> = std::iter::once(d.message.clone()).chain(advice).collect();
    let mut result = json!({
        "ruleId": d.code.name,
        "ruleIndex": index,
        "level": level(d.severity()),
        "message": {"text": text.join("\n")},
    });
    if let Some(place) = d.place {
        result["locations"] = json!([location(sources, place, None)]);
    } else if let Some(file) = &d.file {
        result["locations"] = json!([{"physicalLocation": {"artifactLocation": {"uri": uri(file)}}}]);
    }
    if !d.others.is_empty() {
        let related: Vec<Value> = d.others.iter().map(|o| location(sources, o.span, Some(&o.text))).collect();
        result["relatedLocations"] = json!(related);
    }
    let fixes: Vec<Value> =
        d.helps.iter().filter_map(|h| h.edit.as_ref().map(|edit| fix(sources, &h.text, edit))).collect();
    if !fixes.is_empty() {
        result["fixes"] = json!(fixes);
    }
    result
}

fn location(sources: &Sources, span: Span, text: Option<&str>) -> Value {
    let mut location = json!({"physicalLocation": {
        "artifactLocation": {"uri": uri(sources.name(span.file))},
        "region": region(sources, span),
    }});
    if let Some(text) = text {
        location["message"] = json!({"text": text});
    }
    location
}

fn region(sources: &Sources, span: Span) -> Value {
    let (from, upto) = (sources.position(span), sources.position(Span { start: span.end, ..span }));
    json!({
        "startLine": from.line, "startColumn": from.column,
        "endLine": upto.line, "endColumn": upto.column,
    })
}

fn fix(sources: &Sources, text: &str, edit: &Edit) -> Value {
    json!({
        "description": {"text": text},
        "artifactChanges": [{
            "artifactLocation": {"uri": uri(sources.name(edit.span.file))},
            "replacements": [{
                "deletedRegion": region(sources, edit.span),
                "insertedContent": {"text": edit.replacement},
            }],
        }],
    })
}

/// A relative path as a URI reference (RFC 3986).
fn uri(path: &str) -> String {
    let mut out = String::new();
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => out.push(byte as char),
            byte => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}
