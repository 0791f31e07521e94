//! Functions of our own: `under`, `label_at_least`, and the table function `differences`.

use crate::asked::UNDER;
use crate::ground::{Fault, Ground, Held, held};
use crate::scan::{EstateTable, What};
use bastide_engine::find;
use datafusion::arrow::array::{Array, ArrayRef, BooleanArray, RecordBatch, StringArray};
use datafusion::arrow::compute::cast;
use datafusion::arrow::datatypes::{DataType, Field, Schema};
use datafusion::catalog::{TableFunctionImpl, TableProvider};
use datafusion::error::Result;
use datafusion::logical_expr::{
    ColumnarValue, Expr, ScalarFunctionArgs, ScalarUDF, ScalarUDFImpl, Signature, Volatility,
};
use serde::{Deserialize, Serialize};
use std::any::Any;
use std::path::PathBuf;
use std::process::Command;
use std::sync::Arc;

/// The functions of an estate.
pub fn of(held: &Arc<Held>) -> Vec<Arc<ScalarUDF>> {
    let scales = held.estate().schema().types.iter().filter(|of| of.scale);
    let scales = Scales(scales.map(|of| of.values.clone()).collect());
    vec![Arc::new(ScalarUDF::from(Under::new(held.ground.clone()))), Arc::new(ScalarUDF::from(AtLeast::new(scales)))]
}

/// Tells a function of ours to another process; false where it is none.
///
/// # Errors
/// It cannot be told.
pub fn tell(function: &ScalarUDF, buf: &mut Vec<u8>) -> Result<bool> {
    let of: &dyn ScalarUDFImpl = function.inner().as_ref();
    let told = if let Some(under) = (of as &dyn Any).downcast_ref::<Under>() {
        serde_json::to_vec(&under.ground)
    } else if let Some(at_least) = (of as &dyn Any).downcast_ref::<AtLeast>() {
        serde_json::to_vec(&at_least.scales)
    } else {
        return Ok(false);
    };
    buf.extend(told.map_err(Fault::outside)?);
    Ok(true)
}

/// A function of ours that was told; none where it is of another name.
///
/// # Errors
/// What was told of it cannot be read.
pub fn hear(name: &str, buf: &[u8]) -> Result<Option<Arc<ScalarUDF>>> {
    let wrong = |error: serde_json::Error| Fault::outside(format!("what was told of `{name}` cannot be read: {error}"));
    Ok(match name {
        UNDER => Some(Arc::new(ScalarUDF::from(Under::new(serde_json::from_slice(buf).map_err(wrong)?)))),
        AT_LEAST => Some(Arc::new(ScalarUDF::from(AtLeast::new(serde_json::from_slice(buf).map_err(wrong)?)))),
        _ => None,
    })
}

/// The name of the function that compares steps of scales.
const AT_LEAST: &str = "label_at_least";

/// Texts of an argument, row by row.
fn column(value: &ColumnarValue, rows: usize) -> Result<ArrayRef> {
    Ok(cast(&value.clone().into_array(rows)?, &DataType::Utf8)?)
}

fn text(array: &ArrayRef, row: usize) -> Option<&str> {
    let texts = array.as_any().downcast_ref::<StringArray>()?;
    texts.is_valid(row).then(|| texts.value(row))
}

/// `under(RESOURCE, 'PLACE')`: whether a resource is a place or lies in it.
#[derive(PartialEq, Eq, Hash, Debug)]
struct Under {
    signature: Signature,
    ground: Ground,
}

impl Under {
    fn new(ground: Ground) -> Under {
        Under { signature: Signature::string(2, Volatility::Stable), ground }
    }
}

impl ScalarUDFImpl for Under {
    fn name(&self) -> &str {
        UNDER
    }

    fn signature(&self) -> &Signature {
        &self.signature
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(DataType::Boolean)
    }

    fn invoke_with_args(&self, args: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let told = "`under` is asked of `resource` in `access` or of `id` in `resources`, in a condition, with a place that is \
                    written out: this catalog comes in parts";
        if !self.ground.parts.is_empty() {
            return Err(Fault::usage(told).into());
        }
        let held = held(&self.ground)?;
        let catalog = held.estate().catalog();
        let (resources, places) = (column(&args.args[0], args.number_rows)?, column(&args.args[1], args.number_rows)?);
        let mut last: Option<(&str, std::ops::Range<u32>)> = None;
        let mut found = Vec::with_capacity(args.number_rows);
        for row in 0..args.number_rows {
            let (Some(resource), Some(place)) = (text(&resources, row), text(&places, row)) else {
                found.push(None);
                continue;
            };
            if last.as_ref().is_none_or(|(known, _)| *known != place) {
                let Some(beneath) = find::exact_resource(held.estate(), place) else {
                    return Err(Fault::usage(format!(
                        "there is no place `{place}`: a place is a path from a root, or an id"
                    ))
                    .into());
                };
                last = Some((place, catalog.subtree(beneath)));
            }
            let beneath = last.as_ref().map(|(_, range)| range.clone()).unwrap_or_default();
            found.push(catalog.find(resource).map(|resource| beneath.contains(&resource.0)));
        }
        Ok(ColumnarValue::Array(Arc::new(BooleanArray::from(found))))
    }
}

/// The scales of an estate, each from its least step to its greatest.
#[derive(PartialEq, Eq, Hash, Serialize, Deserialize, Debug)]
struct Scales(Vec<Vec<String>>);

/// `label_at_least(VALUE, 'STEP')`: whether a step of a scale is another one or a higher one.
#[derive(PartialEq, Eq, Hash, Debug)]
struct AtLeast {
    signature: Signature,
    scales: Scales,
}

impl AtLeast {
    fn new(scales: Scales) -> AtLeast {
        AtLeast { signature: Signature::string(2, Volatility::Immutable), scales }
    }
}

impl ScalarUDFImpl for AtLeast {
    fn name(&self) -> &str {
        AT_LEAST
    }

    fn signature(&self) -> &Signature {
        &self.signature
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(DataType::Boolean)
    }

    fn invoke_with_args(&self, args: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let scales = &self.scales.0;
        let (values, steps) = (column(&args.args[0], args.number_rows)?, column(&args.args[1], args.number_rows)?);
        let mut found = Vec::with_capacity(args.number_rows);
        for row in 0..args.number_rows {
            let (Some(value), Some(step)) = (text(&values, row), text(&steps, row)) else {
                found.push(None);
                continue;
            };
            let at = |scale: &[String], word: &str| scale.iter().position(|known| known == word);
            if !scales.iter().any(|scale| at(scale, step).is_some()) {
                return Err(Fault::usage(format!("no scale of the estate has the step `{step}`")).into());
            }
            let both = scales.iter().find_map(|scale| Some((at(scale, value)?, at(scale, step)?)));
            found.push(both.map(|(value, step)| value >= step));
        }
        Ok(ColumnarValue::Array(Arc::new(BooleanArray::from(found))))
    }
}

/// `differences('OLD')`: who can do more and who less than in an earlier estate, as `bastide diff` gives it.
#[derive(Debug)]
pub struct Differences {
    /// The estate.
    pub held: Arc<Held>,
    /// The main program, which knows about revisions.
    pub program: PathBuf,
}

/// Asks the main program about the estate, and gives what it says.
///
/// # Errors
/// It cannot be started, or says that it has no answer.
pub fn main_program(program: &std::path::Path, held: &Held, args: &[&str]) -> std::result::Result<Vec<u8>, Fault> {
    let ground = &held.ground;
    let mut command = Command::new(program);
    command.args(args).arg("--quiet").arg("--estate").arg(&ground.root).args(["--on", &ground.day]);
    for (name, value) in &ground.session {
        command.arg("--session").arg(format!("{name}={value}"));
    }
    let output = command.output().map_err(|error| Fault::outside(format!("`{}`: {error}", program.display())))?;
    // 1 is bad news, and an answer.
    match output.status.code() {
        Some(0 | 1) => Ok(output.stdout),
        status => Err(Fault {
            status: status.and_then(|status| u8::try_from(status).ok()).unwrap_or(crate::ground::OUTSIDE),
            text: String::from_utf8_lossy(&output.stderr).trim_end().to_string(),
        }),
    }
}

impl TableFunctionImpl for Differences {
    fn call_with_args(&self, args: datafusion::catalog::TableFunctionArgs) -> Result<Arc<dyn TableProvider>> {
        let told = "`differences` is asked with one earlier estate: a git revision, a folder or an archive, as in \
                    `differences('HEAD~1')`";
        let [Expr::Literal(old, _)] = args.exprs() else { return Err(Fault::usage(told).into()) };
        let Some(Some(old)) = old.try_as_str() else { return Err(Fault::usage(told).into()) };
        let rows = main_program(&self.program, &self.held, &["diff", old, "--format", "csv", "--all"])?;
        let columns = ["user", "resource", "action", "change"];
        let schema = Schema::new(columns.map(|name| Field::new(name, DataType::Utf8, false)).to_vec());
        let rows = crate::given::csv(&rows, Arc::new(schema))?;
        Ok(given(&self.held, rows))
    }
}

/// A table of rows that were worked out elsewhere.
pub fn given(held: &Held, rows: RecordBatch) -> Arc<dyn TableProvider> {
    let ground = Arc::new(held.ground.clone());
    Arc::new(EstateTable::new(What::Given(rows), held, &ground, 1))
}
