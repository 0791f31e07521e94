//! Memberships from CSV: one a row.

use crate::csv_table::{Cells, CsvTable};
use crate::manifest::DataSource;
use crate::shape::{Shape, look};
use crate::untidy::untidy_name;
use bastide_model::rows::{GroupRows, MemberRow};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};

/// Reads a CSV file of `group,member` and, if given, `name`.
pub fn csv(file: FileId, text: &str, source: &DataSource, rows: &mut GroupRows, out: &mut Diagnostics) {
    let columns = ["group", "member", "name"];
    let Some(mut table) = CsvTable::open(file, text, out) else { return };
    let known: Vec<String> = columns.iter().map(|c| c.to_string()).collect();
    look(source, &known, out);
    let field = |name: &str| {
        let ours = source.ours(name);
        columns.iter().position(|c| *c == ours).filter(|_| !source.ignores(name))
    };
    let fields = table.fields_but(field, &known, &["group", "member"], &|name| source.ignores(name), out);
    let names: Vec<Option<String>> = fields.iter().map(|f| f.map(|at| columns[at].to_string())).collect();
    let shape = Shape::new(source, &names, &|_| false);
    let mut raw = table.row();
    while table.next(&mut raw, out) {
        let row = shape.row(&raw);
        let column = |wanted: usize| fields.iter().position(|f| *f == Some(wanted));
        let text = |wanted: usize| column(wanted).map_or("", |c| row.text(c));
        let (group, member, name) = (text(0), text(1), text(2));
        if group.is_empty() {
            out.push(Diagnostic::at(&codes::MISSING_VALUE, row.place().span(), "a row without a group"));
            continue;
        }
        for (what, text, wanted) in [("id", group, 0), ("member", member, 1), ("name", name, 2)] {
            if let Some(told) = untidy_name("group", group, what, text) {
                out.push(Diagnostic { place: column(wanted).map(|c| row.span(c)), ..told });
            }
        }
        rows.groups.push((group.to_string(), (!name.is_empty()).then(|| name.to_string())));
        if !member.is_empty() {
            let member = match member.strip_prefix("group:") {
                Some(inner) => MemberRow::Group(inner.to_string()),
                None => MemberRow::User(member.to_string()),
            };
            rows.members.push((group.to_string(), member, row.place()));
        }
    }
}
