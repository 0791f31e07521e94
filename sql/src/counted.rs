//! Counting rows of `access` without making them.
//!
//! A table of decisions that are alike in some columns, with their number, stands for the rows themselves wherever only their
//! number matters: inner joins, conditions and projections keep numbers right, and `count(*)` becomes a sum of them. Where it
//! does not even matter how many there are (`distinct`, `exists`, `min`, `count(distinct ...)`), one of each does. The table is
//! made of sets ([`bastide_engine::access::counts`]). Questions that read both user and resource are left as they are.

use crate::scan::{EstateTable, What};
use crate::small::{ROWS, access_schema};
use datafusion::catalog::default_table_source::{provider_as_source, source_as_provider};
use datafusion::common::tree_node::Transformed;
use datafusion::common::{Column, JoinType};
use datafusion::error::Result;
use datafusion::functions::core::expr_fn::coalesce;
use datafusion::functions_aggregate::expr_fn::sum;
use datafusion::logical_expr::expr::AggregateFunction;
use datafusion::logical_expr::{
    Aggregate, Expr, ExprSchemable, LogicalPlan, Projection, SubqueryAlias, TableScan, TableScanBuilder, lit,
};
use datafusion::optimizer::optimizer::{ApplyOrder, OptimizerConfig, OptimizerRule};
use std::sync::Arc;

/// The rule.
#[derive(Debug, Default)]
pub struct CountBySets;

impl OptimizerRule for CountBySets {
    fn name(&self) -> &str {
        "count_by_sets"
    }

    fn apply_order(&self) -> Option<ApplyOrder> {
        Some(ApplyOrder::TopDown)
    }

    fn rewrite(&self, plan: LogicalPlan, _: &dyn OptimizerConfig) -> Result<Transformed<LogicalPlan>> {
        let found = match &plan {
            LogicalPlan::Aggregate(aggregate) => counted(aggregate)?,
            LogicalPlan::Join(join) => {
                // Whether there is any matters, and not how many.
                let (left, right) = match join.join_type {
                    JoinType::LeftSemi | JoinType::LeftAnti | JoinType::LeftMark => (None, one_of_each(&join.right)?),
                    JoinType::RightSemi | JoinType::RightAnti | JoinType::RightMark => (one_of_each(&join.left)?, None),
                    _ => (None, None),
                };
                match (left, right) {
                    (None, None) => None,
                    (left, right) => {
                        let inputs = vec![
                            left.unwrap_or_else(|| join.left.as_ref().clone()),
                            right.unwrap_or_else(|| join.right.as_ref().clone()),
                        ];
                        Some(plan.with_new_exprs(plan.expressions(), inputs)?)
                    }
                }
            }
            _ => None,
        };
        Ok(match found {
            Some(found) => Transformed::yes(found),
            None => Transformed::no(plan),
        })
    }
}

/// How an aggregate is made of numbers of rows.
enum Way {
    /// It counts rows.
    Sum,
    /// How many there are does not matter to it.
    Any,
}

fn way(expr: &Expr, input: &LogicalPlan) -> Option<Way> {
    let inner = match expr {
        Expr::Alias(alias) => &alias.expr,
        other => other,
    };
    let Expr::AggregateFunction(AggregateFunction { func, params }) = inner else { return None };
    if params.filter.is_some() || !params.order_by.is_empty() || params.null_treatment.is_some() {
        return None;
    }
    match func.name() {
        "min" | "max" | "bool_and" | "bool_or" => Some(Way::Any),
        "count" if params.distinct => Some(Way::Any),
        "count" => {
            let never_null = |arg: &Expr| !arg.nullable(input.schema()).unwrap_or(true);
            params.args.iter().all(never_null).then_some(Way::Sum)
        }
        _ => None,
    }
}

/// An aggregate over numbers of rows in place of rows.
fn counted(aggregate: &Aggregate) -> Result<Option<LogicalPlan>> {
    let ways: Option<Vec<Way>> = aggregate.aggr_expr.iter().map(|expr| way(expr, &aggregate.input)).collect();
    let Some(ways) = ways.filter(|_| !aggregate.group_expr.iter().any(Expr::is_volatile)) else { return Ok(None) };
    let Some((input, rows)) = weighed(&aggregate.input)? else { return Ok(None) };
    let name = |at: usize| format!("{ROWS} {at}");
    let aggregates = aggregate.aggr_expr.iter().zip(&ways).enumerate().map(|(at, (expr, way))| match way {
        Way::Sum => sum(Expr::Column(rows.clone())).alias(name(at)),
        Way::Any => expr.clone(),
    });
    let aggregates: Vec<Expr> = aggregates.collect();
    let inner = Aggregate::try_new(Arc::new(input), aggregate.group_expr.clone(), aggregates)?;
    let groups = aggregate.schema.fields().len() - ways.len();
    let columns = aggregate.schema.iter().enumerate().map(|(at, (qualifier, field))| {
        match at.checked_sub(groups).map(|at| (at, &ways[at])) {
            Some((at, Way::Sum)) => {
                // Of no rows at all the sum is missing, and their number is nothing.
                let count = coalesce(vec![Expr::Column(Column::from_name(name(at))), lit(0i64)]);
                count.alias_qualified(qualifier.cloned(), field.name())
            }
            _ => Expr::Column(Column::new(qualifier.cloned(), field.name())),
        }
    });
    let columns: Vec<Expr> = columns.collect();
    Ok(Some(LogicalPlan::Projection(Projection::try_new(columns, Arc::new(LogicalPlan::Aggregate(inner)))?)))
}

/// The same rows, one of each at least.
fn one_of_each(plan: &LogicalPlan) -> Result<Option<LogicalPlan>> {
    let Some((weighed, _)) = weighed(plan)? else { return Ok(None) };
    let columns =
        plan.schema().iter().map(|(qualifier, field)| Expr::Column(Column::new(qualifier.cloned(), field.name())));
    Ok(Some(LogicalPlan::Projection(Projection::try_new(columns.collect(), Arc::new(weighed))?)))
}

/// A plan that gives rows which are alike once, with a column that says how many they are; none where there is no way.
fn weighed(plan: &LogicalPlan) -> Result<Option<(LogicalPlan, Column)>> {
    // What is another for each row cannot be asked once for many, and of two columns of one name none is meant.
    if plan.expressions().iter().any(Expr::is_volatile)
        || plan.schema().fields().iter().any(|field| field.name() == ROWS)
    {
        return Ok(None);
    }
    match plan {
        LogicalPlan::TableScan(scan) => table(scan),
        LogicalPlan::Filter(_) => {
            let Some((input, rows)) = plan.inputs().first().map_or(Ok(None), |input| weighed(input))? else {
                return Ok(None);
            };
            Ok(Some((plan.with_new_exprs(plan.expressions(), vec![input])?, rows)))
        }
        LogicalPlan::SubqueryAlias(alias) => {
            let Some((input, _)) = weighed(&alias.input)? else { return Ok(None) };
            let rows = Column::new(Some(alias.alias.clone()), ROWS);
            let found = SubqueryAlias::try_new(Arc::new(input), alias.alias.clone())?;
            Ok(Some((LogicalPlan::SubqueryAlias(found), rows)))
        }
        LogicalPlan::Projection(projection) => {
            let Some((input, rows)) = weighed(&projection.input)? else { return Ok(None) };
            let mut columns = projection.expr.clone();
            columns.push(Expr::Column(rows.clone()));
            Ok(Some((LogicalPlan::Projection(Projection::try_new(columns, Arc::new(input))?), rows)))
        }
        LogicalPlan::Join(join) => {
            let (of_left, of_right) = match join.join_type {
                JoinType::Inner => (true, true),
                JoinType::Left | JoinType::LeftSemi | JoinType::LeftAnti => (true, false),
                JoinType::Right | JoinType::RightSemi | JoinType::RightAnti => (false, true),
                _ => (false, false),
            };
            let mut inputs = [join.left.as_ref().clone(), join.right.as_ref().clone()];
            for (at, may) in [of_left, of_right].into_iter().enumerate() {
                if let Some((input, rows)) = if may { weighed(&inputs[at])? } else { None } {
                    inputs[at] = input;
                    return Ok(Some((plan.with_new_exprs(plan.expressions(), inputs.into())?, rows)));
                }
            }
            Ok(None)
        }
        _ => Ok(None),
    }
}

fn table(scan: &TableScan) -> Result<Option<(LogicalPlan, Column)>> {
    let Ok(provider) = source_as_provider(&scan.source) else { return Ok(None) };
    let Some(table) = provider.downcast_ref::<EstateTable>().filter(|table| matches!(table.what, What::Access)) else {
        return Ok(None);
    };
    let Some(projection) = &scan.projection else { return Ok(None) };
    let reads = |name: &str| projection.iter().any(|at| table.schema.field(*at).name() == name);
    if scan.fetch.is_some() || (reads("user") && reads("resource")) {
        return Ok(None);
    }
    let schema = access_schema(true);
    let mut projection = projection.clone();
    projection.push(schema.fields().len() - 1);
    let counted = EstateTable { what: What::Counted, schema, ..table.clone() };
    let source = provider_as_source(Arc::new(counted));
    let found = TableScanBuilder::new(scan.table_name.clone(), source)
        .with_projection(Some(projection))
        .with_filters(scan.filters.clone())
        .build()?;
    let rows = Column::new(Some(scan.table_name.clone()), ROWS);
    Ok(Some((LogicalPlan::TableScan(found), rows)))
}
