//! The lines of `matrix --format jsonl`.

use bastide_answers::explain::Reason;
use schemars::JsonSchema;
use serde::Serialize;

/// One line of the long form.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub enum MatrixRow<'r> {
    /// All that a user can do on a resource.
    Pair(MatrixPair<'r>),
    /// One action, and why.
    Triple(MatrixTriple<'r>),
}

/// What a user can do on a resource.
#[derive(Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MatrixPair<'r> {
    /// The user's id.
    pub user: &'r str,
    /// The resource's id.
    pub resource: &'r str,
    /// The allowed actions, in declared order.
    pub actions: &'r [&'r str],
}

/// Whether a user can do one thing on a resource, and why.
#[derive(Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MatrixTriple<'r> {
    /// The user's id.
    pub user: &'r str,
    /// The resource's id.
    pub resource: &'r str,
    /// The action.
    pub action: &'r str,
    /// Allowed or refused.
    pub decision: MatrixDecision,
    /// The reason.
    pub reason: Reason,
    /// The statement that decides; none where none does.
    #[schemars(extend("type" = ["string", "null"]), required)]
    pub statement: Option<&'r str>,
}

/// Whether something is allowed.
#[derive(Clone, Copy, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum MatrixDecision {
    /// It is.
    Allowed,
    /// It is not.
    Refused,
}
