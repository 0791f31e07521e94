//! Letting a cluster count what is asked on the standard input, and telling it as messages on the standard output.

use crate::cluster;
use crate::ground::{self, Fault, Ground, Held};
use crate::scan::{EstateTable, What};
use bastide_formats::pieces::{Holds, Message, Tallies};
use datafusion::arrow::array::{Array, BinaryArray, RecordBatch, UInt8Array, UInt32Array};
use datafusion::error::{DataFusionError, Result};
use futures::StreamExt;
use std::io::{BufWriter, Read, Write};
use std::sync::Arc;

/// Lets a cluster count what is asked about, which is told on the standard input, and writes its messages to the standard output.
///
/// # Errors
/// The estate is another by now, or there is no scheduler.
pub async fn tell(of: Tallies, cluster: &str) -> Result<(), Fault> {
    let mut told = String::new();
    std::io::stdin().read_to_string(&mut told).map_err(Fault::outside)?;
    let known: Ground = serde_json::from_str(&told).map_err(Fault::outside)?;
    let day = known.day.parse().map_err(|_| Fault::outside(format!("`{}` is no day", known.day)))?;
    let held = ground::keep(Held::open(&known.root, day, &known.session, Some(&known))?);
    let context = cluster::remote(cluster, &held, None).await.map_err(|error| crate::fault(&error))?;
    let table = EstateTable::new(What::Tallies(of), &held, &Arc::new(held.ground.clone()), cluster::shares(&held));
    let asked = async {
        let mut rows = context.read_table(Arc::new(table))?.execute_stream().await?;
        let mut out = BufWriter::new(std::io::stdout().lock());
        while let Some(batch) = rows.next().await.transpose()? {
            write(&batch, &mut out)?;
        }
        out.flush()?;
        Ok(())
    };
    asked.await.map_err(|error: DataFusionError| crate::fault(&error))
}

fn write(batch: &RecordBatch, out: &mut dyn Write) -> Result<()> {
    let wrong = || DataFusionError::from(Fault::outside("a piece has come in another form"));
    let column = |at: usize| batch.column(at).as_any();
    let pieces = column(0).downcast_ref::<UInt32Array>().ok_or_else(wrong)?;
    let holds = column(1).downcast_ref::<UInt8Array>().ok_or_else(wrong)?;
    let bytes = column(2).downcast_ref::<BinaryArray>().ok_or_else(wrong)?;
    for row in 0..batch.num_rows() {
        let holds = Holds::of(holds.value(row)).ok_or_else(wrong)?;
        Message::write(pieces.value(row), holds, bytes.value(row), out)?;
    }
    Ok(())
}
