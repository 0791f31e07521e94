//! Many machines: what Ballista has to know of our tables, its scheduler and its executors.
//!
//! Nothing distributed is done here. Scheduling, shuffling and trying again are Ballista's; what is ours is how a table is
//! told to another process ([`Told`]): by the folder and the checksums of the estate, never by its rows.

use crate::asked::under_field;
use crate::functions;
use crate::ground::{Fault, Ground, Held};
use crate::scan::{EstateScan, EstateTable, What};
use crate::session;
use crate::small::Small;
use ballista::prelude::SessionContextExt;
use ballista_core::config::TaskSchedulingPolicy;
use ballista_core::extension::SessionConfigExt;
use ballista_core::serde::{BallistaLogicalExtensionCodec, BallistaPhysicalExtensionCodec};
use ballista_executor::executor_process::{ExecutorProcessConfig, start_executor_process};
use ballista_scheduler::cluster::BallistaCluster;
use ballista_scheduler::config::SchedulerConfig;
use ballista_scheduler::scheduler_process::start_server;
use bastide_formats::pieces::Tallies;
use datafusion::arrow::array::RecordBatch;
use datafusion::arrow::datatypes::{Schema, SchemaRef};
use datafusion::arrow::ipc::reader::StreamReader;
use datafusion::arrow::ipc::writer::StreamWriter;
use datafusion::catalog::TableProvider;
use datafusion::common::TableReference;
use datafusion::error::{DataFusionError, Result};
use datafusion::execution::TaskContext;
use datafusion::logical_expr::{Extension, LogicalPlan, ScalarUDF};
use datafusion::physical_plan::ExecutionPlan;
use datafusion::prelude::{SessionConfig, SessionContext};
use datafusion_proto::logical_plan::LogicalExtensionCodec;
use datafusion_proto::physical_plan::from_proto::parse_physical_expr;
use datafusion_proto::physical_plan::to_proto::serialize_physical_expr;
use datafusion_proto::physical_plan::{PhysicalExtensionCodec, PhysicalProtoConverterExtension};
use datafusion_proto::protobuf::PhysicalExprNode;
use prost::Message;
use serde::{Deserialize, Serialize};
use std::net::{SocketAddr, TcpStream, ToSocketAddrs};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// What our own begins with, among what Ballista tells.
const MARK: &[u8] = b"bastide-sql/1\n";

/// Which table, told.
#[derive(Clone, Copy, Serialize, Deserialize, Debug)]
enum Which {
    Small(Small),
    Resources,
    Access,
    Counted,
    Tallies(Tallies),
    Given,
}

/// A table, or the reading of one, told to another process.
#[derive(Serialize, Deserialize, Debug)]
struct Told {
    which: Which,
    ground: Ground,
    shares: usize,
    projection: Option<Vec<usize>>,
    /// The shares that are read.
    of: Vec<usize>,
    limit: Option<usize>,
    unders: Vec<String>,
    /// How long what stands behind this is: the columns and rows, then each condition.
    lengths: Vec<usize>,
}

fn wrong(error: impl std::fmt::Display) -> DataFusionError {
    Fault::outside(format!("what was told of a table cannot be read: {error}")).into()
}

fn tell(
    table: &EstateTable,
    scan: Option<(&EstateScan, Vec<usize>)>,
    conditions: Vec<Vec<u8>>,
    buf: &mut Vec<u8>,
) -> Result<()> {
    let (which, rows) = match &table.what {
        What::Small(small) => (Which::Small(*small), None),
        What::Resources => (Which::Resources, None),
        What::Access => (Which::Access, None),
        What::Counted => (Which::Counted, None),
        What::Tallies(of) => (Which::Tallies(*of), None),
        What::Given(rows) => (Which::Given, Some(rows)),
    };
    let mut bytes = Vec::new();
    let mut writer = StreamWriter::try_new(&mut bytes, &table.schema)?;
    rows.map_or(Ok(()), |rows| writer.write(rows))?;
    writer.finish()?;
    drop(writer);
    let told = Told {
        which,
        ground: table.ground.as_ref().clone(),
        shares: table.shares,
        projection: scan.as_ref().map(|(scan, _)| scan.projection.clone()),
        limit: scan.as_ref().and_then(|(scan, _)| scan.limit),
        unders: scan.as_ref().map_or(Vec::new(), |(scan, _)| scan.unders.clone()),
        of: scan.map_or(Vec::new(), |(_, shares)| shares),
        lengths: std::iter::once(bytes.len()).chain(conditions.iter().map(Vec::len)).collect(),
    };
    let head = serde_json::to_vec(&told).map_err(wrong)?;
    buf.extend_from_slice(MARK);
    buf.extend_from_slice(&(head.len() as u64).to_le_bytes());
    buf.extend_from_slice(&head);
    buf.extend_from_slice(&bytes);
    conditions.iter().for_each(|condition| buf.extend_from_slice(condition));
    Ok(())
}

/// What was told, the table, and the conditions as bytes.
type Heard<'b> = (Told, EstateTable, Vec<&'b [u8]>);

/// Reads what was told; none where it is not ours.
fn hear(buf: &[u8]) -> Result<Option<Heard<'_>>> {
    let Some(rest) = buf.strip_prefix(MARK) else { return Ok(None) };
    let (length, rest) = rest.split_at_checked(8).ok_or_else(|| wrong("it ends too soon"))?;
    let length = u64::from_le_bytes(length.try_into().map_err(wrong)?) as usize;
    let (head, mut rest) = rest.split_at_checked(length).ok_or_else(|| wrong("it ends too soon"))?;
    let told: Told = serde_json::from_slice(head).map_err(wrong)?;
    let mut pieces = Vec::new();
    for length in &told.lengths {
        let (piece, left) = rest.split_at_checked(*length).ok_or_else(|| wrong("it ends too soon"))?;
        pieces.push(piece);
        rest = left;
    }
    let (columns, conditions) = pieces.split_first().ok_or_else(|| wrong("it has no columns"))?;
    let mut reader = StreamReader::try_new(*columns, None)?;
    let schema = reader.schema();
    let what = match told.which {
        Which::Small(small) => What::Small(small),
        Which::Resources => What::Resources,
        Which::Access => What::Access,
        Which::Counted => What::Counted,
        Which::Tallies(of) => What::Tallies(of),
        Which::Given => {
            What::Given(reader.next().transpose()?.unwrap_or_else(|| RecordBatch::new_empty(schema.clone())))
        }
    };
    let ground = Arc::new(told.ground.clone());
    let table = EstateTable { what, ground, schema, shares: told.shares };
    Ok(Some((told, table, conditions.to_vec())))
}

/// Tells our tables; everything else is told as Ballista does.
#[derive(Debug, Default)]
pub struct Telling {
    logical: BallistaLogicalExtensionCodec,
    physical: BallistaPhysicalExtensionCodec,
}

impl LogicalExtensionCodec for Telling {
    fn try_decode(&self, buf: &[u8], inputs: &[LogicalPlan], ctx: &TaskContext) -> Result<Extension> {
        self.logical.try_decode(buf, inputs, ctx)
    }

    fn try_encode(&self, node: &Extension, buf: &mut Vec<u8>) -> Result<()> {
        self.logical.try_encode(node, buf)
    }

    fn try_decode_table_provider(
        &self,
        buf: &[u8],
        table_ref: &TableReference,
        schema: SchemaRef,
        ctx: &TaskContext,
    ) -> Result<Arc<dyn TableProvider>> {
        match hear(buf)? {
            Some((_, table, _)) => Ok(Arc::new(table)),
            None => self.logical.try_decode_table_provider(buf, table_ref, schema, ctx),
        }
    }

    fn try_encode_table_provider(
        &self,
        table_ref: &TableReference,
        node: Arc<dyn TableProvider>,
        buf: &mut Vec<u8>,
    ) -> Result<()> {
        match node.downcast_ref::<EstateTable>() {
            Some(table) => tell(table, None, Vec::new(), buf),
            None => self.logical.try_encode_table_provider(table_ref, node, buf),
        }
    }

    fn try_decode_udf(&self, name: &str, buf: &[u8]) -> Result<Arc<ScalarUDF>> {
        functions::hear(name, buf)?.map_or_else(|| self.logical.try_decode_udf(name, buf), Ok)
    }

    fn try_encode_udf(&self, node: &ScalarUDF, buf: &mut Vec<u8>) -> Result<()> {
        if functions::tell(node, buf)? { Ok(()) } else { self.logical.try_encode_udf(node, buf) }
    }
}

impl PhysicalExtensionCodec for Telling {
    fn try_decode(
        &self,
        buf: &[u8],
        inputs: &[Arc<dyn ExecutionPlan>],
        ctx: &TaskContext,
        converter: &dyn PhysicalProtoConverterExtension,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        let Some((told, table, conditions)) = hear(buf)? else {
            return self.physical.try_decode(buf, inputs, ctx, converter);
        };
        let mut fields: Vec<_> = table.schema.fields().iter().map(|field| field.as_ref().clone()).collect();
        fields.extend(told.unders.iter().map(|place| under_field(place)));
        let wide = Schema::new(fields);
        let mut filters = Vec::new();
        for condition in conditions {
            let node = PhysicalExprNode::decode(condition).map_err(wrong)?;
            filters.push(parse_physical_expr(&node, ctx, &wide, self)?);
        }
        let projection = told.projection.unwrap_or_else(|| (0..table.schema.fields().len()).collect());
        Ok(EstateScan::new(table, projection, filters, told.unders, told.limit)?.plan(&told.of))
    }

    fn try_encode(
        &self,
        node: Arc<dyn ExecutionPlan>,
        buf: &mut Vec<u8>,
        converter: &dyn PhysicalProtoConverterExtension,
    ) -> Result<()> {
        let Some((scan, shares)) = EstateScan::of(node.as_ref()) else {
            return self.physical.try_encode(node, buf, converter);
        };
        // What a join knows stays with the join: it looks at every row again.
        let condition = |expr| serialize_physical_expr(expr, self).map(|node| node.encode_to_vec());
        let conditions = scan.filters.iter().map(condition).collect::<Result<Vec<_>>>()?;
        tell(&scan.table, Some((scan, shares)), conditions, buf)
    }

    fn try_decode_udf(&self, name: &str, buf: &[u8]) -> Result<Arc<ScalarUDF>> {
        functions::hear(name, buf)?.map_or_else(|| self.physical.try_decode_udf(name, buf), Ok)
    }

    fn try_encode_udf(&self, node: &ScalarUDF, buf: &mut Vec<u8>) -> Result<()> {
        if functions::tell(node, buf)? { Ok(()) } else { self.physical.try_encode_udf(node, buf) }
    }
}

/// In how many shares a table is read by a cluster.
pub fn shares(held: &Held) -> usize {
    match held.is_in_parts() {
        true => held.ground.parts.len() + 1,
        false => (held.ground.resources / 50_000 + 1).min(16),
    }
}

fn config(shares: usize) -> SessionConfig {
    session::config(shares)
        .with_ballista_logical_extension_codec(Arc::new(Telling::default()))
        .with_ballista_physical_extension_codec(Arc::new(Telling::default()))
}

/// How long somebody may take to say that they are there.
const PATIENCE: Duration = Duration::from_secs(10);

/// That somebody answers at a host and port.
///
/// # Errors
/// Nobody does.
pub fn answers(address: &str) -> std::result::Result<(), Fault> {
    let told = |why: String| Fault::outside(format!("no scheduler answers at `{address}`: {why}"));
    let mut why = "there is no such host".to_string();
    for found in address.to_socket_addrs().map_err(|error| told(error.to_string()))? {
        match TcpStream::connect_timeout(&found, PATIENCE) {
            Ok(_) => return Ok(()),
            Err(error) => why = error.to_string(),
        }
    }
    Err(told(why))
}

/// A session whose questions a cluster answers.
///
/// # Errors
/// There is no scheduler.
pub async fn remote(address: &str, held: &Arc<Held>, program: Option<PathBuf>) -> Result<SessionContext> {
    answers(address)?;
    let shares = shares(held);
    let state = session::state(config(shares.min(8))).build();
    let context = SessionContext::remote_with_state(&format!("df://{address}"), state).await?;
    session::furnish(&context, held, program, shares)?;
    Ok(context)
}

/// Where a server listens, and what it is to do.
#[derive(Clone, Debug)]
pub struct Executor {
    /// The scheduler's host and port.
    pub scheduler: (String, u16),
    /// The address others reach it by.
    pub host: String,
    /// The ports: of the results, and of the tasks.
    pub ports: (u16, u16),
    /// How many tasks it does at the same time.
    pub tasks: usize,
    /// Where results lie on their way; a temporary folder otherwise.
    pub work: Option<String>,
}

/// Runs a scheduler until it is ended.
///
/// # Errors
/// It cannot listen.
pub async fn scheduler(address: SocketAddr) -> std::result::Result<(), Fault> {
    let telling = Arc::new(Telling::default());
    let config = SchedulerConfig {
        bind_host: address.ip().to_string(),
        bind_port: address.port(),
        external_host: address.ip().to_string(),
        override_logical_codec: Some(telling.clone()),
        override_physical_codec: Some(telling),
        override_config_producer: Some(Arc::new(|| config(8))),
        override_session_builder: Some(Arc::new(session::anybody)),
        // Executors ask for tasks. Were they given out, those of one that has ended would wait for somebody to give them out again.
        scheduling_policy: TaskSchedulingPolicy::PullStaged,
        // Whoever is gone for so long has ended: what it was doing is done by others.
        executor_timeout_seconds: 10,
        expire_dead_executor_interval_seconds: 2,
        ..SchedulerConfig::default()
    };
    let cluster = BallistaCluster::new_from_config(&config).await.map_err(Fault::outside)?;
    start_server(cluster, address, Arc::new(config)).await.map_err(Fault::outside)
}

/// Runs an executor until it is ended.
///
/// # Errors
/// It cannot listen, or finds no scheduler.
pub async fn executor(of: Executor) -> std::result::Result<(), Fault> {
    let telling = Arc::new(Telling::default());
    let config = ExecutorProcessConfig {
        bind_host: of.host.clone(),
        external_host: Some(of.host),
        port: of.ports.0,
        grpc_port: of.ports.1,
        scheduler_host: of.scheduler.0,
        scheduler_port: of.scheduler.1,
        scheduler_connect_timeout_seconds: 30,
        vcores: of.tasks,
        work_dir: of.work,
        task_scheduling_policy: TaskSchedulingPolicy::PullStaged,
        executor_heartbeat_interval_seconds: 3,
        override_logical_codec: Some(telling.clone()),
        override_physical_codec: Some(telling),
        override_config_producer: Some(Arc::new(|| config(8))),
        ..ExecutorProcessConfig::default()
    };
    start_executor_process(Arc::new(config)).await.map_err(Fault::outside)
}
