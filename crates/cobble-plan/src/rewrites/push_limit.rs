//! `push-limit`: a limit moves below what neither adds nor drops rows, is copied into each input of a union, and makes a
//! sort keep only the rows wanted. At a scan it is offered to the source.

use std::sync::Arc;

use super::Context;
use crate::logical::LogicalPlan;

pub(super) fn apply(plan: &LogicalPlan, _: &Context) -> Option<LogicalPlan> {
    Some(push(plan))
}

fn push(plan: &LogicalPlan) -> LogicalPlan {
    match plan {
        LogicalPlan::Limit { input, limit, offset } => push_below(input, *limit, *offset),
        other => other.map_inputs(&mut push),
    }
}

fn push_below(input: &LogicalPlan, limit: Option<u64>, offset: u64) -> LogicalPlan {
    let wanted = limit.map(|n| n.saturating_add(offset));
    let limited = |input: LogicalPlan| LogicalPlan::Limit { input: Arc::new(input), limit, offset };
    match (input, wanted) {
        (LogicalPlan::Project { input, columns }, _) => {
            LogicalPlan::Project { input: Arc::new(push_below(input, limit, offset)), columns: columns.clone() }
        }
        (LogicalPlan::Sort { input, keys, fetch }, Some(wanted)) => {
            let fetch = Some(fetch.map_or(wanted, |n| n.min(wanted)));
            let sort = LogicalPlan::Sort { input: Arc::new(push(input)), keys: keys.clone(), fetch };
            // The sort already keeps just the rows wanted; the limit is left only to skip the first ones.
            if offset == 0 { sort } else { limited(sort) }
        }
        (LogicalPlan::Union { inputs, columns }, Some(wanted)) => {
            let inputs = inputs.iter().map(|input| Arc::new(push_below(input, Some(wanted), 0))).collect();
            limited(LogicalPlan::Union { inputs, columns: columns.clone() })
        }
        // The first of the first: rows after `offset` among those that the inner limit lets through.
        (LogicalPlan::Limit { input, limit: inner, offset: inner_offset }, _) => {
            let left = inner.map(|n| n.saturating_sub(offset));
            let limit = match (limit, left) {
                (Some(a), Some(b)) => Some(a.min(b)),
                (a, b) => a.or(b),
            };
            push_below(input, limit, inner_offset.saturating_add(offset))
        }
        (other, _) => limited(push(other)),
    }
}
