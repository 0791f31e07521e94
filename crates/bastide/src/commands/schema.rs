//! `bastide schema`

use crate::failure::{DONE, Failure};
use crate::terminal::Terminal;
use bastide_answers::access::{Comparison, Holders, Known, Matrix, Person, Reached, Statements, Turns};
use clap::Args;
use serde_json::json;

/// Outputs that have a schema.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Name {
    /// `bastide about --format json`
    About,
    /// `bastide audit --format json`
    Audit,
    /// `bastide check --format json`
    Check,
    /// What stands beside a file of rows, in `FILE.about.json`
    Beside,
    /// `bastide compare --format json`
    Compare,
    /// `bastide diff --format json`
    Diff,
    /// `bastide filter --format json`
    Filter,
    /// `bastide import --format json`
    Import,
    /// `bastide matrix --format json`
    Matrix,
    /// One line of `bastide matrix --format jsonl`, without `--reasons` and with
    MatrixRow,
    /// `bastide reach --format json`
    Reach,
    /// `bastide rules --format json`
    Rules,
    /// `bastide matrix --summary --format json`
    Summary,
    /// `bastide test --format json`
    Test,
    /// `bastide try --format json`
    Try,
    /// `bastide verify --format json`
    Verify,
    /// `bastide what --until-changes DATE --format json`
    Turns,
    /// `bastide what --format json`
    What,
    /// `bastide who --format json`
    Who,
    /// `bastide why --format json`
    Why,
}

#[derive(Args, Debug)]
pub struct SchemaArgs {
    /// Of which output
    #[arg(value_enum)]
    name: Name,
}

pub fn run(args: SchemaArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let (name, schema) = match args.name {
        Name::About => ("about", schemars::schema_for!(Known)),
        Name::Rules => ("rules", schemars::schema_for!(Statements)),
        Name::Audit => ("audit", schemars::schema_for!(crate::answers::audit::Audited)),
        Name::Beside => ("beside", schemars::schema_for!(crate::about::Beside)),
        Name::Check => ("check", schemars::schema_for!(crate::answers::check::Checked)),
        Name::Compare => ("compare", schemars::schema_for!(Comparison)),
        Name::Diff => ("diff", schemars::schema_for!(crate::answers::diff::Differing)),
        Name::Filter => ("filter", schemars::schema_for!(crate::answers::filter::Filtered)),
        Name::Import => ("import", schemars::schema_for!(crate::answers::import::Imported)),
        Name::Verify => ("verify", schemars::schema_for!(crate::answers::verify::Verified)),
        Name::Matrix => ("matrix", schemars::schema_for!(Matrix)),
        Name::MatrixRow => ("matrix-row", schemars::schema_for!(bastide_rows::MatrixRow)),
        Name::Reach => ("reach", schemars::schema_for!(Reached)),
        Name::Summary => ("summary", schemars::schema_for!(crate::answers::matrix::Totals)),
        Name::Test => ("test", schemars::schema_for!(crate::answers::test::Tested)),
        Name::Try => ("try", schemars::schema_for!(crate::answers::trial::Trial)),
        Name::Turns => ("turns", schemars::schema_for!(Turns)),
        Name::What => ("what", schemars::schema_for!(Person)),
        Name::Who => ("who", schemars::schema_for!(Holders)),
        Name::Why => ("why", schemars::schema_for!(crate::answers::why::WhyAnswer)),
    };
    let mut value = serde_json::to_value(&schema).expect("schemas always serialise");
    if name == "matrix-row" {
        // One of many lines: what they say of themselves stands in no line.
        let text = serde_json::to_string_pretty(&value).expect("JSON always serialises");
        terminal.print(&format!("{text}\n"))?;
        return Ok(DONE);
    }
    value["properties"]["schema"] = json!({"const": format!("bastide.{name}/1")});
    let mut about = serde_json::to_value(schemars::schema_for!(crate::about::About)).expect("schemas always serialise");
    if let Some(object) = about.as_object_mut() {
        object.remove("$schema");
    }
    value["properties"]["about"] = about;
    if value.get("required").is_none() {
        value["required"] = json!([]);
    }
    if let Some(required) = value["required"].as_array_mut() {
        required.insert(0, json!("schema"));
        required.insert(1, json!("about"));
    }
    let text = serde_json::to_string_pretty(&value).expect("JSON always serialises");
    terminal.print(&format!("{text}\n"))?;
    Ok(DONE)
}
