//! The tables for the SQL engine: what they hold is made where it is read, a piece of the catalog at a time.

use crate::asked::{Conditions, Wants, content, plain_under, takes, under_field};
use crate::columns::{some_texts, texts};
use crate::ground::{Fault, Ground, Held, View, held};
use crate::small::{ROWS, Small, access_schema, reasons};
use crate::tallies;
use async_trait::async_trait;
use bastide_engine::access::{self, Alike, Asked, DecisionRow, Keys};
use bastide_engine::find;
use bastide_formats::pieces::Tallies;
use bastide_model::{ResourceId, StatementId};
use datafusion::arrow::array::{ArrayRef, Int64Array, RecordBatch, RecordBatchOptions, UInt32Array};
use datafusion::arrow::compute::take;
use datafusion::arrow::datatypes::{Schema, SchemaRef};
use datafusion::catalog::{Session, TableProvider};
use datafusion::common::stats::Precision;
use datafusion::common::tree_node::TreeNodeRecursion;
use datafusion::common::{DFSchema, Statistics};
use datafusion::config::ConfigOptions;
use datafusion::datasource::listing::PartitionedFile;
use datafusion::datasource::physical_plan::{
    FileGroup, FileOpenFuture, FileOpener, FileScanConfig, FileScanConfigBuilder, FileSource,
};
use datafusion::datasource::source::DataSourceExec;
use datafusion::datasource::table_schema::TableSchema;
use datafusion::error::{DataFusionError, Result};
use datafusion::execution::object_store::ObjectStoreUrl;
use datafusion::logical_expr::{Expr, TableProviderFilterPushDown, TableType};
use datafusion::physical_expr::PhysicalExpr;
use datafusion::physical_plan::filter_pushdown::{FilterPushdownPropagation, PushedDown};
use datafusion::physical_plan::metrics::ExecutionPlanMetricsSet;
use datafusion::physical_plan::stream::RecordBatchReceiverStream;
use datafusion::physical_plan::{DisplayFormatType, ExecutionPlan, SendableRecordBatchStream};
use futures::{StreamExt, TryStreamExt};
use object_store::ObjectStore;
use std::any::Any;
use std::fmt;
use std::sync::Arc;
use tokio::sync::mpsc::Sender;

/// Rows of a batch.
const BATCH: usize = 8192;

/// Which table.
#[derive(Clone, Debug)]
pub enum What {
    /// A table that is held whole.
    Small(Small),
    /// The catalog.
    Resources,
    /// Every decision.
    Access,
    /// Decisions that are alike in the columns that are read, with their number.
    Counted,
    /// What pieces of the catalog come to, counted: for the main program.
    Tallies(Tallies),
    /// Rows that somebody else has worked out.
    Given(RecordBatch),
}

/// A table of the estate.
#[derive(Clone, Debug)]
pub struct EstateTable {
    /// Which.
    pub what: What,
    /// Of which estate.
    pub ground: Arc<Ground>,
    /// Its columns.
    pub schema: SchemaRef,
    /// In how many shares it is read.
    pub shares: usize,
}

impl EstateTable {
    /// A table of an estate that is held here.
    pub fn new(what: What, held: &Held, ground: &Arc<Ground>, shares: usize) -> EstateTable {
        let schema = match &what {
            What::Small(small) => small.schema(held.estate()),
            What::Resources => crate::content::schema(held.estate()),
            What::Access => access_schema(false),
            What::Counted => access_schema(true),
            What::Tallies(_) => tallies::schema(),
            What::Given(rows) => rows.schema(),
        };
        EstateTable { what, ground: Arc::clone(ground), schema, shares }
    }

    /// Whether the engine takes conditions on it.
    fn content(&self) -> Option<bool> {
        match self.what {
            What::Resources => Some(true),
            What::Access | What::Counted => Some(false),
            What::Small(_) | What::Tallies(_) | What::Given(_) => None,
        }
    }
}

#[async_trait]
impl TableProvider for EstateTable {
    fn schema(&self) -> SchemaRef {
        Arc::clone(&self.schema)
    }

    fn table_type(&self) -> TableType {
        TableType::Base
    }

    fn supports_filters_pushdown(&self, filters: &[&Expr]) -> Result<Vec<TableProviderFilterPushDown>> {
        let taken = |filter: &&Expr| match self.content() {
            Some(content) if takes(filter, content) => TableProviderFilterPushDown::Exact,
            _ => TableProviderFilterPushDown::Unsupported,
        };
        Ok(filters.iter().map(taken).collect())
    }

    async fn scan(
        &self,
        state: &dyn Session,
        projection: Option<&Vec<usize>>,
        filters: &[Expr],
        limit: Option<usize>,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        let (mut unders, mut plain) = (Vec::new(), Vec::new());
        for filter in filters {
            let (filter, places) = plain_under(filter, self.content() == Some(true))?;
            unders.extend(places);
            plain.push(filter);
        }
        unders.sort_unstable();
        unders.dedup();
        let mut fields: Vec<_> = self.schema.fields().iter().map(|field| field.as_ref().clone()).collect();
        fields.extend(unders.iter().map(|place| under_field(place)));
        // Conditions name the table, or do not: it is the only one here.
        let wide = DFSchema::try_from(Schema::new(fields))?;
        let filters = plain
            .into_iter()
            .map(|filter| state.create_physical_expr(unqualified(filter)?, &wide))
            .collect::<Result<Vec<_>>>()?;
        let all: Vec<usize> = (0..self.schema.fields().len()).collect();
        let projection = projection.cloned().unwrap_or(all);
        let scan = EstateScan::new(self.clone(), projection, filters, unders, limit)?;
        let shares = scan.all();
        Ok(scan.plan(&shares))
    }
}

/// A condition whose columns name no table.
fn unqualified(expr: Expr) -> Result<Expr> {
    use datafusion::common::tree_node::{Transformed, TreeNode};
    let plain = expr.transform(|inner| match inner {
        Expr::Column(column) => Ok(Transformed::yes(Expr::Column(datafusion::common::Column::from_name(column.name)))),
        other => Ok(Transformed::no(other)),
    })?;
    Ok(plain.data)
}

/// Reads a table. To the SQL engine each share is a file, named by its number, so that whoever cuts a plan into tasks can give
/// out shares as it gives out files.
#[derive(Clone, Debug)]
pub struct EstateScan {
    /// Which.
    pub table: EstateTable,
    /// The columns that are read.
    pub projection: Vec<usize>,
    /// Conditions that the engine takes.
    pub filters: Vec<Arc<dyn PhysicalExpr>>,
    /// Places that they name.
    pub unders: Vec<String>,
    /// What joins above know of the columns once they run. They look at every row again, so it may be left aside.
    of_joins: Vec<Arc<dyn PhysicalExpr>>,
    /// No more rows than so many are wanted of any share.
    pub limit: Option<usize>,
    columns: TableSchema,
    metrics: ExecutionPlanMetricsSet,
}

impl EstateScan {
    /// Reads some columns of a table.
    ///
    /// # Errors
    /// There is no such column.
    pub fn new(
        table: EstateTable,
        projection: Vec<usize>,
        filters: Vec<Arc<dyn PhysicalExpr>>,
        unders: Vec<String>,
        limit: Option<usize>,
    ) -> Result<EstateScan> {
        let columns = TableSchema::from(Arc::new(table.schema.project(&projection)?));
        let metrics = ExecutionPlanMetricsSet::new();
        Ok(EstateScan { table, projection, filters, unders, of_joins: Vec::new(), limit, columns, metrics })
    }

    /// All shares.
    pub fn all(&self) -> Vec<usize> {
        let whole = matches!(self.table.what, What::Small(_) | What::Given(_));
        (0..if whole { 1 } else { self.table.shares }).collect()
    }

    /// The plan that reads some shares.
    pub fn plan(self, shares: &[usize]) -> Arc<dyn ExecutionPlan> {
        let mut statistics = Statistics::new_unknown(self.columns.table_schema());
        statistics.num_rows = self.rows();
        let file = |share: &usize| FileGroup::new(vec![PartitionedFile::new(format!("{SHARE}{share}"), 1)]);
        let (groups, limit) = (shares.iter().map(file).collect(), self.limit);
        let config = FileScanConfigBuilder::new(ObjectStoreUrl::local_filesystem(), Arc::new(self))
            .with_file_groups(groups)
            .with_limit(limit)
            .with_statistics(statistics);
        DataSourceExec::from_data_source(config.build())
    }

    /// The reading in a plan, and the shares it reads; none where it reads something else.
    pub fn of(plan: &dyn ExecutionPlan) -> Option<(&EstateScan, Vec<usize>)> {
        let source: &dyn Any = plan.downcast_ref::<DataSourceExec>()?.data_source().as_ref();
        let config = source.downcast_ref::<FileScanConfig>()?;
        let scan: &dyn Any = config.file_source().as_ref();
        let shares = config.file_groups.iter().flat_map(|group| group.files().iter().filter_map(share));
        Some((scan.downcast_ref::<EstateScan>()?, shares.collect()))
    }

    /// About how many rows there are.
    fn rows(&self) -> Precision<usize> {
        let Ground { users, resources, actions, .. } = *self.table.ground;
        match &self.table.what {
            What::Small(Small::Users) => Precision::Exact(users),
            What::Small(Small::Memberships) => Precision::Inexact(users * 4),
            What::Small(_) => Precision::Inexact(1000),
            What::Resources if self.filters.is_empty() => Precision::Exact(resources),
            What::Resources => Precision::Inexact(resources / 8 + 1),
            What::Access if self.filters.is_empty() => Precision::Exact(users * resources * actions),
            What::Access => Precision::Inexact(users * resources * actions / 8 + 1),
            What::Counted => Precision::Inexact((users + resources) * actions),
            What::Tallies(_) => Precision::Inexact(4 * self.table.shares),
            What::Given(rows) => Precision::Exact(rows.num_rows()),
        }
    }
}

/// What the name of a share begins with.
const SHARE: &str = "share/";

/// The number of a share.
fn share(file: &PartitionedFile) -> Option<usize> {
    file.object_meta.location.as_ref().strip_prefix(SHARE)?.parse().ok()
}

impl FileSource for EstateScan {
    fn create_file_opener(&self, _: Arc<dyn ObjectStore>, _: &FileScanConfig, _: usize) -> Result<Arc<dyn FileOpener>> {
        Ok(Arc::new(Opener(self.clone())))
    }

    fn table_schema(&self) -> &TableSchema {
        &self.columns
    }

    fn with_batch_size(&self, _: usize) -> Arc<dyn FileSource> {
        Arc::new(self.clone())
    }

    fn metrics(&self) -> &ExecutionPlanMetricsSet {
        &self.metrics
    }

    fn file_type(&self) -> &str {
        "estate"
    }

    fn fmt_extra(&self, _: DisplayFormatType, f: &mut fmt::Formatter) -> fmt::Result {
        let name = match &self.table.what {
            What::Small(small) => Small::ALL.iter().find(|(_, of)| of == small).map_or("", |(name, _)| name),
            What::Resources => "resources",
            What::Access => "access",
            What::Counted => "access, counted",
            What::Tallies(of) => of.word(),
            What::Given(_) => "given",
        };
        write!(f, ", table={name}")?;
        let told =
            |exprs: &[Arc<dyn PhysicalExpr>]| exprs.iter().map(ToString::to_string).collect::<Vec<_>>().join(" AND ");
        if !self.filters.is_empty() {
            write!(f, ", engine=[{}]", told(&self.filters))?;
        }
        if !self.of_joins.is_empty() {
            write!(f, ", joins=[{}]", told(&self.of_joins))?;
        }
        Ok(())
    }

    fn supports_repartitioning(&self) -> bool {
        false
    }

    fn try_pushdown_filters(
        &self,
        filters: Vec<Arc<dyn PhysicalExpr>>,
        _: &ConfigOptions,
    ) -> Result<FilterPushdownPropagation<Arc<dyn FileSource>>> {
        let mut found = FilterPushdownPropagation::with_parent_pushdown_result(vec![PushedDown::No; filters.len()]);
        if self.table.content().is_some() && !filters.is_empty() {
            let mut scan = self.clone();
            scan.of_joins.extend(filters);
            found.updated_node = Some(Arc::new(scan) as Arc<dyn FileSource>);
        }
        Ok(found)
    }

    fn apply_expressions(
        &self,
        f: &mut dyn FnMut(&Arc<dyn PhysicalExpr>) -> Result<TreeNodeRecursion>,
    ) -> Result<TreeNodeRecursion> {
        for expr in self.filters.iter().chain(&self.of_joins) {
            if f(expr)? == TreeNodeRecursion::Stop {
                return Ok(TreeNodeRecursion::Stop);
            }
        }
        Ok(TreeNodeRecursion::Continue)
    }
}

/// Begins to read a share.
struct Opener(EstateScan);

impl FileOpener for Opener {
    fn open(&self, file: PartitionedFile) -> Result<FileOpenFuture> {
        let scan = self.0.clone();
        let share = share(&file).ok_or_else(|| Fault::outside("a share without a number"))?;
        // Nothing begins before it is asked for: until then joins do not know what they want.
        let begun = futures::stream::once(async move {
            let mut builder = RecordBatchReceiverStream::builder(Arc::clone(scan.columns.table_schema()), 4);
            let sender = builder.tx();
            builder.spawn_blocking(move || scan.run(share, &sender));
            Ok::<SendableRecordBatchStream, DataFusionError>(builder.build())
        });
        Ok(Box::pin(async move { Ok(begun.try_flatten().boxed()) }))
    }
}

/// Why a share ends before its end: whoever reads it wants no more, or something is wrong.
enum End {
    Enough,
    Wrong(DataFusionError),
}

impl From<DataFusionError> for End {
    fn from(error: DataFusionError) -> End {
        End::Wrong(error)
    }
}

impl From<Fault> for End {
    fn from(fault: Fault) -> End {
        End::Wrong(fault.into())
    }
}

impl EstateScan {
    /// Makes the rows of a share.
    fn run(&self, share: usize, out: &Sender<Result<RecordBatch>>) -> Result<()> {
        match self.make(share, out) {
            Ok(()) | Err(End::Enough) => Ok(()),
            Err(End::Wrong(error)) => Err(error),
        }
    }

    fn make(&self, share: usize, out: &Sender<Result<RecordBatch>>) -> std::result::Result<(), End> {
        let send = |batch: RecordBatch| out.blocking_send(Ok(batch)).map_err(|_| End::Enough);
        let project = |rows: &RecordBatch| rows.project(&self.projection).map_err(|e| End::Wrong(e.into()));
        let held = match &self.table.what {
            What::Given(rows) => return send(project(rows)?),
            _ => held(&self.table.ground)?,
        };
        let conditions = Conditions::of(&self.filters, &self.of_joins)?;
        match &self.table.what {
            What::Given(_) => Ok(()),
            What::Small(small) => send(project(&small.rows(&held)?)?),
            What::Tallies(of) => {
                for unit in held.units(share, self.table.shares) {
                    held.visit(&unit, |view| {
                        tallies::count(*of, &held, (&unit, share), view, &mut |rows| send(project(&rows)?))
                    })?;
                }
                Ok(())
            }
            What::Resources => {
                let mut left = self.limit.unwrap_or(usize::MAX);
                for unit in held.units(share, self.table.shares) {
                    held.visit(&unit, |view| {
                        let mut found = content(view, &conditions, &self.unders)?;
                        found.truncate(left);
                        left -= found.len();
                        for some in found.chunks(BATCH) {
                            send(crate::content::rows(view, &self.table.schema, &self.projection, some)?)?;
                        }
                        if left == 0 { Err(End::Enough) } else { Ok(()) }
                    })?;
                }
                Ok(())
            }
            What::Access | What::Counted => {
                let fixed = Fixed::new(&held);
                let wants = Wants::new(conditions, &self.unders, &fixed.users, &fixed.actions)?;
                let mut left = self.limit.unwrap_or(usize::MAX);
                if wants.nothing() || left == 0 {
                    return Ok(());
                }
                for unit in held.units(share, self.table.shares) {
                    held.visit(&unit, |view| {
                        let Some(asked) = wants.of(view)? else { return Ok(()) };
                        let mut rows = Rows::new(self, &fixed, view);
                        match self.table.what {
                            What::Counted => self.count(view, &asked, &mut rows, &send)?,
                            _ => self.list(view, &asked, &mut rows, &mut left, &send)?,
                        }
                        rows.flush(&send)
                    })?;
                }
                Ok(())
            }
        }
    }

    fn reads(&self, name: &str) -> bool {
        self.projection.iter().any(|at| self.table.schema.field(*at).name() == name)
    }

    fn list(
        &self,
        view: &View,
        asked: &Asked,
        rows: &mut Rows,
        left: &mut usize,
        send: &dyn Fn(RecordBatch) -> std::result::Result<(), End>,
    ) -> std::result::Result<(), End> {
        let causes = self.reads("reason") || self.reads("statement");
        access::rows(view.snapshot, asked, view.range.clone(), causes, |row| {
            rows.push(row, send)?;
            *left -= 1;
            if *left == 0 {
                rows.flush(send)?;
                return Err(End::Enough);
            }
            Ok(())
        })
    }

    fn count(
        &self,
        view: &View,
        asked: &Asked,
        rows: &mut Rows,
        send: &dyn Fn(RecordBatch) -> std::result::Result<(), End>,
    ) -> std::result::Result<(), End> {
        let keys = Keys {
            user: self.reads("user"),
            resource: self.reads("resource"),
            kind: self.reads("kind"),
            action: self.reads("action"),
            decision: self.reads("decision"),
            reason: self.reads("reason"),
            statement: self.reads("statement"),
        };
        access::counts(view.snapshot, asked, keys, view.range.clone(), |alike, count| rows.add(alike, count, send))
    }
}

/// What columns hold, whatever piece is at hand.
struct Fixed {
    users: ArrayRef,
    actions: ArrayRef,
    kinds: ArrayRef,
    decisions: ArrayRef,
    reasons: ArrayRef,
}

impl Fixed {
    fn new(held: &Held) -> Fixed {
        let estate = held.estate();
        let (decisions, reasons) = reasons();
        Fixed {
            users: texts(estate.people().all().map(|user| estate.people().id(user))),
            actions: texts(estate.schema().actions.iter().map(|action| action.name.as_str())),
            kinds: texts(estate.schema().kinds.iter().map(|kind| kind.name.as_str())),
            decisions,
            reasons,
        }
    }
}

/// Rows on their way: of each column that is read, which of its values.
struct Rows<'r> {
    schema: SchemaRef,
    /// By column: what it can hold; none for numbers of rows.
    values: Vec<(Of, Option<ArrayRef>)>,
    columns: Vec<Vec<u32>>,
    counts: Vec<i64>,
    length: usize,
    view: &'r View<'r>,
    statements: u32,
}

/// Which column.
#[derive(Clone, Copy)]
enum Of {
    User,
    Resource,
    Kind,
    Action,
    Decision,
    Reason,
    Statement,
    Rows,
}

impl<'r> Rows<'r> {
    fn new(scan: &EstateScan, fixed: &Fixed, view: &'r View<'r>) -> Rows<'r> {
        let estate = view.snapshot.estate();
        let column = |at: &usize| match scan.table.schema.field(*at).name().as_str() {
            "user" => (Of::User, Some(Arc::clone(&fixed.users))),
            "resource" => {
                let ids = view.range.clone().map(|resource| estate.catalog().id(ResourceId(resource)));
                (Of::Resource, Some(texts(ids)))
            }
            "kind" => (Of::Kind, Some(Arc::clone(&fixed.kinds))),
            "action" => (Of::Action, Some(Arc::clone(&fixed.actions))),
            "decision" => (Of::Decision, Some(Arc::clone(&fixed.decisions))),
            "reason" => (Of::Reason, Some(Arc::clone(&fixed.reasons))),
            "statement" => {
                let all = StatementId::all(estate.statements().len());
                let names = all.map(|id| Some(estate.statement(id).name.as_str())).chain([None]);
                (Of::Statement, Some(some_texts(names)))
            }
            ROWS => (Of::Rows, None),
            name => unreachable!("`access` has no column `{name}`"),
        };
        let values: Vec<(Of, Option<ArrayRef>)> = scan.projection.iter().map(column).collect();
        let columns = values.iter().map(|_| Vec::with_capacity(BATCH)).collect();
        let statements = estate.statements().len() as u32;
        let schema = Arc::clone(scan.columns.table_schema());
        Rows { schema, values, columns, counts: Vec::new(), length: 0, view, statements }
    }

    fn push(
        &mut self,
        row: DecisionRow,
        send: &dyn Fn(RecordBatch) -> std::result::Result<(), End>,
    ) -> std::result::Result<(), End> {
        let catalog = self.view.snapshot.estate().catalog();
        let alike = Alike {
            user: Some(row.user),
            resource: Some(row.resource),
            kind: Some(catalog.kind(row.resource)),
            action: Some(row.action),
            decision: Some(row.allowed),
            reason: row.cause.map(|(reason, _)| reason),
            statement: row.cause.map(|(_, by)| by),
        };
        self.add(alike, 1, send)
    }

    fn add(
        &mut self,
        alike: Alike,
        count: u64,
        send: &dyn Fn(RecordBatch) -> std::result::Result<(), End>,
    ) -> std::result::Result<(), End> {
        for ((of, _), column) in self.values.iter().zip(&mut self.columns) {
            // What is read was asked for.
            let value = match of {
                Of::User => alike.user.map(|user| user.0),
                Of::Resource => alike.resource.map(|resource| resource.0 - self.view.range.start),
                Of::Kind => alike.kind.map(|kind| kind.0),
                Of::Action => alike.action.map(|action| action.index() as u32),
                Of::Decision => alike.decision.map(allowed_at),
                Of::Reason => alike.reason.map(|reason| reason as u32),
                Of::Statement => alike.statement.map(|by| by.map_or(self.statements, |by| by.0)),
                Of::Rows => continue,
            };
            column.push(value.unwrap_or_default());
        }
        self.counts.push(count as i64);
        self.length += 1;
        if self.length == BATCH { self.flush(send) } else { Ok(()) }
    }

    fn flush(&mut self, send: &dyn Fn(RecordBatch) -> std::result::Result<(), End>) -> std::result::Result<(), End> {
        if self.length == 0 {
            return Ok(());
        }
        let mut columns: Vec<ArrayRef> = Vec::new();
        for ((_, values), column) in self.values.iter().zip(&mut self.columns) {
            columns.push(match values {
                None => Arc::new(Int64Array::from(self.counts.clone())),
                Some(values) => {
                    let at = UInt32Array::from(std::mem::take(column));
                    take(values, &at, None).map_err(|error| End::Wrong(error.into()))?
                }
            });
        }
        let options = RecordBatchOptions::new().with_row_count(Some(self.length));
        let batch = RecordBatch::try_new_with_options(Arc::clone(&self.schema), columns, &options);
        self.counts.clear();
        self.length = 0;
        send(batch.map_err(|error| End::Wrong(error.into()))?)
    }
}

/// A reason that is of a decision, by its position.
fn allowed_at(allowed: bool) -> u32 {
    let of = bastide_engine::Reason::ALL.into_iter().find(|reason| reason.is_allowed() == allowed);
    of.map_or(0, |reason| reason as u32)
}

/// That places are there, which conditions name.
///
/// # Errors
/// One is not: whoever asks has mistaken its name.
pub fn are_places(held: &Held, places: &[String]) -> Result<()> {
    for place in places {
        if find::exact_resource(held.estate(), place).is_none() {
            let which = if held.is_in_parts() { " that all parts of the catalog share" } else { "" };
            let text = format!("there is no place `{place}`{which}: a place is a path from a root, or an id");
            return Err(Fault::usage(text).into());
        }
    }
    Ok(())
}
