//! What `bastide matrix` is asked for: whom, what, where, and in which form.

use crate::complete;
use crate::failure::Failure;
use crate::open::{MomentArgs, Opened};
use crate::terminal::Terminal;
use bastide_engine::find;
use bastide_model::{ActionId, Estate, ResourceId, UserId};
use bastide_rows::{Form, RowsFormat};
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum MatrixFormat {
    /// Resources down, profiles across
    Table,
    /// One row a user and resource
    Csv,
    /// One object a user and resource
    Jsonl,
    /// The table, for programs
    Json,
    /// Apache Parquet: the rows of csv, in columns
    Parquet,
    /// A picture: profiles by places, coloured by how far access goes
    Svg,
    /// The same picture in points
    Png,
}

/// What totals are by.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum TotalsBy {
    /// One row a user
    Users,
    /// One row a resource
    Resources,
}

/// What stands in the rows of the table.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Down {
    /// Places down, profiles of users across
    Places,
    /// Users down, places across
    Users,
}

#[derive(Args, Debug)]
pub struct MatrixArgs {
    #[command(flatten)]
    pub(super) moment: MomentArgs,
    /// How many levels of the tree, from the top or from --under: 2 in a table or picture, all of them in a list
    #[arg(long, value_name = "N")]
    pub(super) depth: Option<u16>,
    /// Only this place and what lies beneath it; repeat it for several
    #[arg(long, value_name = "PLACE", add = complete::resources())]
    pub(super) under: Vec<String>,
    /// This place, too, wherever it lies; repeat it for several
    #[arg(long, value_name = "PLACE", add = complete::resources())]
    pub(super) also: Vec<String>,
    /// What stands in the rows of the table
    #[arg(long, value_enum, default_value = "places")]
    pub(super) rows: Down,
    /// Only resources of this kind, at every depth unless --depth says otherwise
    #[arg(long, value_name = "KIND", add = complete::kinds())]
    pub(super) kind: Option<String>,
    /// Only these users: ids, `group:GROUP` for its members, `persona:NAME`
    #[arg(long, value_name = "USER", value_delimiter = ',', add = complete::stand_ins())]
    pub(super) users: Vec<String>,
    /// Only this action; repeat it for several
    #[arg(long, value_name = "ACTION", add = complete::actions())]
    pub(super) action: Vec<String>,
    /// Inactive users, too
    #[arg(long)]
    pub(super) inactive: bool,
    /// Everybody on everything: inactive users, every depth, and pairs without any access
    #[arg(long)]
    pub(super) all: bool,
    /// One row a triple, with its reason and the statement that decides (csv, jsonl, parquet)
    #[arg(long)]
    pub(super) reasons: bool,
    /// Totals of everybody on everything instead
    #[arg(long, conflicts_with_all = ["depth", "under", "also", "rows", "kind", "users", "action", "reasons", "totals"])]
    pub(super) summary: bool,
    /// The number of allowed pairs by user or by resource instead, as CSV
    #[arg(long, value_enum, value_name = "BY", conflicts_with_all = ["depth", "under", "also", "rows", "kind", "users", "action", "reasons"])]
    pub(super) totals: Option<TotalsBy>,
    /// Let a cluster count: the host and port of its scheduler
    #[arg(long, value_name = "HOST:PORT")]
    pub(super) cluster: Option<String>,
    /// Write CSV cells that a spreadsheet would run as a formula so that it does not
    #[arg(long)]
    pub(super) for_spreadsheet: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    pub(super) format: MatrixFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    pub(super) output: Option<PathBuf>,
}

impl MatrixArgs {
    /// Whether rows are wanted, one after the other.
    pub(super) fn is_list(&self) -> bool {
        matches!(self.format, MatrixFormat::Csv | MatrixFormat::Jsonl | MatrixFormat::Parquet)
    }

    /// Which rows, where rows are wanted.
    pub(super) fn form(&self) -> Form {
        let format = match self.format {
            MatrixFormat::Csv => RowsFormat::Csv,
            MatrixFormat::Parquet => RowsFormat::Parquet,
            // The last four have no rows.
            MatrixFormat::Jsonl | MatrixFormat::Table | MatrixFormat::Json | MatrixFormat::Svg | MatrixFormat::Png => {
                RowsFormat::Jsonl
            }
        };
        Form { format, reasons: self.reasons, all: self.all, for_spreadsheet: self.for_spreadsheet }
    }
}

pub(super) fn selected(args: &MatrixArgs, opened: &mut Opened, terminal: &Terminal) -> Result<Vec<UserId>, Failure> {
    if args.users.is_empty() {
        let people = opened.estate().people();
        return Ok(people.all().filter(|u| args.inactive || args.all || people.is_active(*u)).collect());
    }
    let (groups, names): (Vec<&str>, Vec<&str>) =
        args.users.iter().map(String::as_str).partition(|name| name.starts_with("group:"));
    let mut users = opened.somebody(&names, terminal)?;
    let estate = opened.estate();
    for name in groups {
        let group = find::group(estate, name.trim_start_matches("group:"))?;
        let members = estate.groups().users(group).ones().map(UserId::new);
        users.extend(members.filter(|u| args.inactive || args.all || estate.people().is_active(*u)));
    }
    users.sort();
    users.dedup();
    Ok(users)
}

pub(super) fn actions(args: &MatrixArgs, estate: &Estate) -> Result<Vec<ActionId>, Failure> {
    if args.action.is_empty() {
        return Ok(ActionId::all(estate.schema().actions.len()).collect());
    }
    let mut actions = Vec::new();
    for name in &args.action {
        actions.push(find::action(estate, name)?);
    }
    actions.sort();
    actions.dedup();
    Ok(actions)
}

/// How deep the tree is shown: two levels, unless asked otherwise. A list goes through all of it.
pub(super) fn depth(args: &MatrixArgs) -> Option<u16> {
    args.depth.or(if args.all || args.kind.is_some() || args.is_list() { None } else { Some(2) })
}

/// The resources that are asked for, where the places are known: without any, all.
pub(super) fn within(
    args: &MatrixArgs,
    estate: &Estate,
    under: &[ResourceId],
    also: &[ResourceId],
) -> Result<Vec<ResourceId>, Failure> {
    let catalog = estate.catalog();
    // Each place with what lies beneath it, and the depth at which it begins.
    let mut within: Vec<(ResourceId, u16)> = Vec::new();
    if args.under.is_empty() {
        within.extend(catalog.all().map(|resource| (resource, 1)));
    }
    for &place in under {
        let top = catalog.depth(place);
        within.extend(catalog.subtree(place).map(|resource| (ResourceId(resource), top)));
    }
    let kind = args.kind.as_ref().map(|name| find::kind(estate, name)).transpose()?;
    let depth = depth(args);
    let shallow = |(r, top): &(ResourceId, u16)| depth.is_none_or(|d| catalog.depth(*r) < top + d);
    let of_kind = |r: &ResourceId| kind.is_none_or(|k| estate.schema().is_kind(catalog.kind(*r), k));
    let mut found: Vec<ResourceId> = within.into_iter().filter(shallow).map(|(r, _)| r).filter(of_kind).collect();
    found.extend_from_slice(also);
    // In the order of the tree, each once.
    found.sort_unstable();
    found.dedup();
    Ok(found)
}
