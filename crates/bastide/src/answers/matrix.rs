//! What `matrix --summary` answers.

use bastide_answers::access::Summary;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

/// Totals of everything, and what counting them took.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "Summary", transform = with_memory)]
pub struct Totals {
    /// The totals.
    #[serde(flatten)]
    pub totals: Summary,
    /// Reading and counting.
    pub seconds: CountingSeconds,
    /// The most memory there was at a time, in bytes, by the system's own account; none where it gives none.
    pub peak_bytes: Option<u64>,
}

/// Seconds by the clock.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "Seconds")]
pub struct CountingSeconds {
    /// Reading the estate.
    pub load: f64,
    /// Deciding and counting.
    pub evaluate: f64,
}

/// The memory is always there, if only to say that nothing is known of it.
fn with_memory(schema: &mut schemars::Schema) {
    if let Some(required) = schema.ensure_object().get_mut("required").and_then(Value::as_array_mut) {
        required.push("peak_bytes".into());
    }
}
