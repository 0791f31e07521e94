//! A session of questions about one estate: its tables and functions, known to the SQL engine.

use crate::counted::CountBySets;
use crate::functions::{self, Differences, given, main_program};
use crate::ground::{Fault, Held};
use crate::scan::{EstateTable, What};
use crate::small::Small;
use async_trait::async_trait;
use datafusion::arrow::datatypes::{DataType, Field, Schema};
use datafusion::catalog::{CatalogProvider, MemoryCatalogProvider, SchemaProvider, TableProvider};
use datafusion::error::Result;
use datafusion::execution::SessionStateBuilder;
use datafusion::execution::context::SQLOptions;
use datafusion::execution::session_state::SessionState;
use datafusion::prelude::{DataFrame, SessionConfig, SessionContext};
use std::path::PathBuf;
use std::sync::Arc;

/// The name under which the tables stand.
const CATALOG: &str = "bastide";
/// The name of their schema.
const SCHEMA: &str = "estate";

/// What is known of an estate by name.
#[derive(Debug)]
struct Tables {
    held: Arc<Held>,
    program: Option<PathBuf>,
    shares: usize,
}

/// The tables that the main program works out.
const FINDINGS: &str = "findings";
/// The columns of what the audit finds.
pub const FINDING_COLUMNS: [&str; 10] =
    ["level", "finding", "place", "about", "message", "evidence", "user", "action", "resource", "advice"];

#[async_trait]
impl SchemaProvider for Tables {
    fn table_names(&self) -> Vec<String> {
        let small = Small::ALL.iter().map(|(name, _)| name.to_string());
        let mut names: Vec<String> = small.chain(["resources", "access"].map(str::to_string)).collect();
        names.extend(self.program.is_some().then(|| FINDINGS.to_string()));
        names
    }

    async fn table(&self, name: &str) -> Result<Option<Arc<dyn TableProvider>>> {
        let what = match name {
            "resources" => What::Resources,
            "access" => What::Access,
            FINDINGS => return self.findings().map(Some),
            name => match Small::ALL.iter().find(|(known, _)| *known == name) {
                Some((_, small)) => What::Small(*small),
                None => return Ok(None),
            },
        };
        let ground = Arc::new(self.held.ground.clone());
        Ok(Some(Arc::new(EstateTable::new(what, &self.held, &ground, self.shares))))
    }

    fn table_exist(&self, name: &str) -> bool {
        self.table_names().iter().any(|known| known == name)
    }
}

impl Tables {
    /// What the audit finds, as `bastide audit` gives it.
    fn findings(&self) -> Result<Arc<dyn TableProvider>> {
        let program = self
            .program
            .as_ref()
            .ok_or_else(|| Fault::usage("`findings` comes from the main program: ask by `bastide sql`"))?;
        let rows = main_program(program, &self.held, &["audit", "--format", "csv", "--fail-on", "never"])?;
        let always = ["level", "finding", "message"];
        let field = |name: &str| Field::new(name, DataType::Utf8, !always.contains(&name));
        let schema = Arc::new(Schema::new(FINDING_COLUMNS.map(field).to_vec()));
        Ok(given(&self.held, crate::given::csv(&rows, schema)?))
    }
}

/// What every session goes by.
pub fn config(shares: usize) -> SessionConfig {
    let mut config = SessionConfig::new()
        .with_target_partitions(shares)
        .with_information_schema(true)
        .with_default_catalog_and_schema(CATALOG, SCHEMA)
        .with_create_default_catalog_and_schema(false);
    // In others `user` is a function without brackets; here it is a column.
    config.options_mut().sql_parser.dialect = datafusion::config::Dialect::Ansi;
    config
}

/// The state of a session, without any table.
pub fn state(config: SessionConfig) -> SessionStateBuilder {
    SessionStateBuilder::new().with_default_features().with_config(config).with_optimizer_rule(Arc::new(CountBySets))
}

/// Makes the tables and functions of an estate known.
pub fn furnish(context: &SessionContext, held: &Arc<Held>, program: Option<PathBuf>, shares: usize) -> Result<()> {
    let catalog = MemoryCatalogProvider::new();
    let tables = Tables { held: Arc::clone(held), program: program.clone(), shares };
    catalog.register_schema(SCHEMA, Arc::new(tables))?;
    context.register_catalog(CATALOG, Arc::new(catalog));
    functions::of(held).into_iter().for_each(|function| context.register_udf(function.as_ref().clone()));
    if let Some(program) = program {
        context.register_udtf("differences", Arc::new(Differences { held: Arc::clone(held), program }));
    }
    Ok(())
}

/// A session on this machine.
///
/// # Errors
/// The tables cannot be made known.
pub fn local(held: &Arc<Held>, program: Option<PathBuf>, shares: usize) -> Result<SessionContext> {
    let context = SessionContext::new_with_state(state(config(shares)).build());
    furnish(&context, held, program, shares)?;
    Ok(context)
}

/// Plans a question. Nothing can be written or declared by one.
///
/// # Errors
/// It is no question that the tables can answer.
pub async fn ask(context: &SessionContext, question: &str) -> Result<DataFrame> {
    let reads = SQLOptions::new().with_allow_ddl(false).with_allow_dml(false).with_allow_statements(false);
    context.sql_with_options(question, reads).await
}

/// The state of a session that somebody else asks in.
///
/// # Errors
/// None that is known.
pub fn anybody(config: SessionConfig) -> Result<SessionState> {
    Ok(state(config).build())
}
