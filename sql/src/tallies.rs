//! What everybody may do, counted where the pieces of a catalog lie: what `bastide matrix --summary` and `--totals` ask of a
//! cluster. Whoever asks puts the pieces together; they come as messages (`bastide_formats::pieces`).

use crate::ground::{Fault, Held, Unit, View};
use bastide_engine::access::{Portion, Running, totals};
use bastide_formats::pieces::{Holds, Tallies};
use datafusion::arrow::array::{BinaryArray, RecordBatch, UInt8Array, UInt32Array};
use datafusion::arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use datafusion::error::{DataFusionError, Result};
use fixedbitset::FixedBitSet;
use std::sync::Arc;

/// Bytes of a message: well below what one process takes from another at once.
const BYTES: usize = 1 << 20;

/// A message a row.
pub fn schema() -> SchemaRef {
    let field = |name: &str, of: DataType| Field::new(name, of, false);
    let fields = [("piece", DataType::UInt32), ("holds", DataType::UInt8), ("bytes", DataType::Binary)];
    Arc::new(Schema::new(fields.map(|(name, of)| field(name, of)).to_vec()))
}

/// The number of a piece: 0 is what all parts share.
fn number(unit: &Unit, share: usize) -> u32 {
    match unit {
        Unit::Shared => 0,
        Unit::Part(part) => *part as u32 + 1,
        Unit::Some(_) => share as u32 + 1,
    }
}

/// Counts a piece, and gives its messages.
pub fn count<E: From<DataFusionError>>(
    of: Tallies,
    held: &Held,
    (unit, share): (&Unit, usize),
    view: &View,
    send: &mut dyn FnMut(RecordBatch) -> std::result::Result<(), E>,
) -> std::result::Result<(), E> {
    let piece = number(unit, share);
    let some = || {
        let mut some = FixedBitSet::with_capacity(view.snapshot.estate().catalog().len());
        some.insert_range(view.range.start as usize..view.range.end as usize);
        some
    };
    let range = matches!(unit, Unit::Some(_)).then(some);
    let portion = Portion { number: piece, own: view.own.or(range.as_ref()) };
    let mut send = |holds: Holds, bytes: &[u8]| send(message(piece, holds, bytes)?);
    let bytes = match of {
        Tallies::Summary => {
            let mut running = Running::new(held.estate());
            let prints = running.add(view.snapshot, &portion, &|_| {});
            running.add_entries(held.estate(), view.snapshot);
            let prints: Vec<u128> = prints.into_iter().flatten().collect();
            for some in prints.chunks(BYTES / 16) {
                let bytes: Vec<u8> = some.iter().flat_map(|print| print.to_le_bytes()).collect();
                send(Holds::Prints, &bytes)?;
            }
            serde_json::to_vec(&running)
        }
        Tallies::Users | Tallies::Resources => {
            serde_json::to_vec(&totals(view.snapshot, &portion, of == Tallies::Users, &|_| {}).rows)
        }
    };
    for some in bytes.map_err(|error| DataFusionError::from(Fault::outside(error)))?.chunks(BYTES) {
        send(Holds::Some, some)?;
    }
    send(Holds::End, &[])
}

fn message(piece: u32, holds: Holds, bytes: &[u8]) -> Result<RecordBatch> {
    let (pieces, holds) = (UInt32Array::from(vec![piece]), UInt8Array::from(vec![holds.number()]));
    let bytes = BinaryArray::from(vec![bytes]);
    Ok(RecordBatch::try_new(schema(), vec![Arc::new(pieces), Arc::new(holds), Arc::new(bytes)])?)
}
