//! What the audit found.

use super::changes::{command, sentence};
use super::text::{bad, blocks, bold, count, cut, dim, doubt, good, grouped, hang, visible};
use crate::found::audit::Audited;
use bastide_audit::{Descriptor, Fewest, Finding, Level};
use bastide_engine::change::Described;
use bastide_formats::sheets::guarded;
use bastide_syntax::{FileId, Sources};

/// Findings of one name that are shown.
const MOST: usize = 4;
/// Statements that can go, of each sort, that are shown.
const MOST_REMOVABLE: usize = 8;

/// The findings as text: by level, then by name.
pub fn audited(a: &Audited, sources: &Sources, all: bool, columns: usize) -> String {
    let mut out = String::new();
    let mut rest = a.findings.as_slice();
    while let Some(first) = rest.first() {
        let same = rest.iter().take_while(|f| f.name == first.name && f.level == first.level).count();
        let (group, after) = rest.split_at(same);
        out.push_str(&head(first, same, columns));
        let shown = if all { same } else { same.min(MOST) };
        group[..shown].iter().for_each(|f| out.push_str(&finding(f, sources, columns)));
        if shown < same {
            out.push_str(&format!(
                "  {}\n",
                dim(&format!("left out: {} more (--all, --only {})", same - shown, first.name))
            ));
        }
        out.push('\n');
        rest = after;
    }
    if !a.by.is_empty() {
        out.push_str(&format!("{}\n{}\n", bold("where to start"), by(a, columns)));
    }
    if let Some(fewest) = &a.fewest {
        out.push_str(&smallest(fewest, all, columns));
    }
    for idle in &a.idle_waivers {
        out.push_str(&hang("", &doubt(&visible(idle)), columns));
    }
    out.push_str(&verdict(a));
    out
}

/// The smallest set of statements that was found.
fn smallest(f: &Fewest, all: bool, columns: usize) -> String {
    let mut out = format!("{}\n", bold("the same access by fewer statements"));
    if f.enough == f.statements {
        let number = f.statements - f.aside;
        let text =
            format!("all {number} that were looked at are needed: without any of them somebody's access changes");
        out.push_str(&hang("  ", &text, columns));
        out.push_str(&format!("{}\n", looked_at(f, columns)));
        return out;
    }
    let text = format!(
        "{} of {} rules and entries give everybody the same access today. These can go together, and nobody's access \
         changes:",
        f.enough, f.statements
    );
    out.push_str(&hang("  ", &text, columns));
    for (list, title) in [
        (&f.permissions, "permissions"),
        (&f.restrictions, "restrictions, which take nothing away today; they may be there for tomorrow"),
    ] {
        if !list.is_empty() {
            out.push_str(&format!("  {}\n", dim(title)));
            let most = if all { list.len() } else { list.len().min(MOST_REMOVABLE) };
            list[..most].iter().for_each(|d| out.push_str(&hang("    - ", &visible(&d.words), columns)));
            if most < list.len() {
                out.push_str(&format!("    {}\n", dim(&format!("left out: {} more (--all)", list.len() - most))));
            }
        }
    }
    out.push_str(&looked_at(f, columns));
    let together: Vec<Described> = f.permissions.iter().chain(&f.restrictions).cloned().collect();
    if all || together.len() <= MOST_REMOVABLE {
        out.push_str(&hang("  ", &dim(&command(&together)), columns));
    }
    out.push('\n');
    out
}

/// In which sessions that is so, and what was left aside.
fn looked_at(f: &Fewest, columns: usize) -> String {
    let mut text = match f.sessions {
        1 => "no condition asks for the session".to_string(),
        n => format!("so in all {n} sessions that were tried"),
    };
    if !f.open.is_empty() {
        text.push_str(&format!(
            "; not every value of `{}` could be tried: left aside, because of that, {}",
            visible(&f.open.join("`, `")),
            count(f.aside, "statement")
        ));
    }
    dim(&hang("  ", &text, columns))
}

fn paint(level: Level, text: &str) -> String {
    match level {
        Level::Error => bad(text),
        Level::Warning => doubt(text),
        _ => bold(text),
    }
}

fn head(f: &Finding, same: usize, columns: usize) -> String {
    let what = bastide_audit::ALL.iter().find(|d| d.name == f.name).map_or("", |d| d.what);
    let number = if same == 1 { String::new() } else { format!(" ({same})") };
    hang("", &format!("{}[{}]{number}  {}", paint(f.level, f.level.word()), bold(&f.name), dim(what)), columns)
}

/// The command that tries a suggestion, where it is more than a wording.
fn how(changes: &[Described]) -> String {
    if changes.is_empty() { String::new() } else { command(changes) }
}

fn finding(f: &Finding, sources: &Sources, columns: usize) -> String {
    let mut out = hang("  - ", &visible(&f.message), columns);
    if let Some(place) = &f.place {
        out.push_str(&format!("      {} {}\n", dim("-->"), dim(&visible(place))));
        if let Some(line) = line(place, sources) {
            let shown = cut(&visible(line.trim_end()), columns.saturating_sub(10));
            out.push_str(&format!("      {} {shown}\n", dim("|")));
        }
    }
    for evidence in &f.evidence {
        out.push_str(&hang("      ", &visible(evidence), columns));
    }
    if let Some(example) = &f.example {
        out.push_str(&hang("      for example  ", &visible(&example.sentence), columns));
    }
    if let Some(s) = &f.suggestion {
        let changes: Vec<String> = s.changes.iter().map(|c| visible(&c.words).into_owned()).collect();
        let words = visible(&s.words);
        let text = if changes.is_empty() { words.into_owned() } else { format!("{words}: {}", changes.join(", and ")) };
        out.push_str(&hang("      advice  ", &text, columns));
        if let Some(radius) = &s.radius {
            out.push_str(&hang(
                "              ",
                &format!("{}  {}", good(&sentence(radius)), dim(&how(&s.changes))),
                columns,
            ));
        }
    }
    out
}

/// The text of a `file:line`.
fn line<'s>(place: &str, sources: &'s Sources) -> Option<&'s str> {
    let (name, number) = place.rsplit_once(':')?;
    let number: u32 = number.parse().ok()?;
    let file = (0..sources.len() as u32).map(FileId).find(|f| sources.name(*f) == name)?;
    Some(sources.line(file, number.max(1)).1).filter(|text| !text.is_empty())
}

fn by(a: &Audited, columns: usize) -> String {
    let heads = ["value", "all", "findings", "broad triples", "people with power"].map(String::from);
    let rows: Vec<Vec<String>> =
        a.by.iter()
            .map(|s| {
                let value = if s.value.is_empty() { "(none)".to_string() } else { visible(&s.value).into_owned() };
                vec![
                    value,
                    grouped(s.size as u64),
                    grouped(s.findings as u64),
                    grouped(s.broad),
                    grouped(s.powerful as u64),
                ]
            })
            .collect();
    blocks(&heads, &rows, columns)
}

fn verdict(a: &Audited) -> String {
    let of = |level: Level| a.findings.iter().filter(|f| f.level == level).count();
    let (errors, warnings, notes) = (of(Level::Error), of(Level::Warning), of(Level::Note));
    let mut out = if a.findings.is_empty() {
        good("nothing found")
    } else {
        let mut parts = Vec::new();
        if errors > 0 {
            parts.push(bad(&count(errors, "error")));
        }
        if warnings > 0 {
            parts.push(doubt(&count(warnings, "warning")));
        }
        if notes > 0 {
            parts.push(count(notes, "note"));
        }
        parts.join(", ")
    };
    if !a.waived.is_empty() {
        out.push_str(&format!("; {} waived", a.waived.len()));
    }
    if a.known + a.gone > 0 {
        out.push_str(&format!("; {} known before, {} gone", a.known, a.gone));
    }
    format!("{out}, for {}\n", a.date)
}

/// A finding explained.
pub fn explained(d: &Descriptor, columns: usize) -> String {
    let mut out = format!("{}  {}\n\n", bold(d.name), paint(d.level, d.level.word()));
    out.push_str(&hang("what          ", d.what, columns));
    out.push_str(&hang("why           ", d.why, columns));
    out.push_str(&hang("do not mind   ", d.mind, columns));
    out.push_str(&hang(
        "level         ",
        &format!("`[audit.levels]` in the manifest: `{} = \"none\"`, \"note\", \"warning\" or \"error\"", d.name),
        columns,
    ));
    out
}

/// One row a finding.
pub fn csv(a: &Audited) -> String {
    // It is read in spreadsheets by most, and what stands in it are words.
    let mut writer = bastide_rows::quoting::writer(Vec::new(), csv::QuoteStyle::Always);
    let mut rows = vec![
        ["level", "finding", "place", "about", "message", "evidence", "user", "action", "resource", "advice"]
            .map(String::from),
    ];
    for f in &a.findings {
        let example = |pick: fn(&bastide_audit::Example) -> &String| {
            f.example.as_ref().map_or(String::new(), |e| pick(e).clone())
        };
        let advice = f
            .suggestion
            .as_ref()
            .map_or(String::new(), |s| if s.changes.is_empty() { s.words.clone() } else { command(&s.changes) });
        rows.push([
            f.level.word().to_string(),
            f.name.clone(),
            f.place.clone().unwrap_or_default(),
            f.about.clone(),
            f.message.clone(),
            f.evidence.join("; "),
            example(|e| &e.user),
            example(|e| &e.action),
            example(|e| &e.resource),
            advice,
        ]);
    }
    for row in rows {
        let cells = row.iter().map(|cell| guarded(&visible(cell)));
        writer.write_record(cells).expect("memory takes everything");
    }
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

/// The findings as Markdown.
pub fn markdown(a: &Audited) -> String {
    let mut out = format!("### Audit for {}\n", a.date);
    let mut last = None;
    for f in &a.findings {
        if last != Some((&f.name, f.level)) {
            let what = bastide_audit::ALL.iter().find(|d| d.name == f.name).map_or("", |d| d.what);
            out.push_str(&format!("\n**{} `{}`**: {what}\n\n", f.level.word(), f.name));
            last = Some((&f.name, f.level));
        }
        let place = f.place.as_ref().map_or(String::new(), |p| format!(" ({})", code(p)));
        out.push_str(&format!("- {}{place}", escaped(&f.message)));
        if !f.evidence.is_empty() {
            out.push_str(&format!("; {}", escaped(&f.evidence.join("; "))));
        }
        out.push('\n');
    }
    out.push_str(&format!("\n{} findings.\n", a.findings.len()));
    out
}

fn code(text: &str) -> String {
    format!("`{}`", visible(text).replace('`', "'"))
}

/// Text in which only backquotes mean anything to Markdown: they are ours.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in visible(text).chars() {
        if matches!(c, '*' | '_' | '[' | ']' | '<' | '>' | '#' | '|' | '\\' | '&') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}
