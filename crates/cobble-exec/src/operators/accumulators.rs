//! The accumulators of aggregate calls. DISTINCT is one of its own: it collects the different pairs of group and values, and gives
//! each to the plain accumulator once.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::{SortOptions, filter};
use arrow::datatypes::*;
use cobble_functions::aggregate::accumulator::taken;
use cobble_functions::aggregate::collected::{listed, unlisted};
use cobble_functions::aggregate::{Accumulator, Aggregated, Keeps};
use cobble_functions::keys::KeyEncoder;
use cobble_plan::aggregate::AggregateCall;
use cobble_types::{Error, Result, SqlType};

use crate::groups::GroupIndex;

/// A fresh state for the call. Its values are the arguments, then the sort keys.
pub fn accumulator(call: &AggregateCall) -> Result<Box<dyn Accumulator>> {
    let entry = call.function.entry();
    if call.distinct && entry.keeps != Keeps::Values && !entry.ignores_repetition {
        return Ok(Box::new(Distinct::new(call.clone())?));
    }
    plain(call)
}

fn types(call: &AggregateCall) -> Vec<SqlType> {
    call.arguments.iter().map(cobble_plan::Expr::sql_type).collect()
}

/// The state as the function itself keeps it.
fn plain(call: &AggregateCall) -> Result<Box<dyn Accumulator>> {
    let arguments = types(call);
    let order: Vec<(SqlType, SortOptions)> = call
        .order
        .iter()
        .map(|key| {
            let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
            (key.expr.sql_type(), options)
        })
        .collect();
    let overload = call.function.overload(arguments.clone()).ok_or_else(|| {
        let given: Vec<String> = arguments.iter().map(SqlType::to_string).collect();
        Error::internal(format!("{} of {}", call.function.name(), given.join(", ")))
    })?;
    (overload.overload.kernel)(&Aggregated {
        arguments: &arguments,
        result: &call.sql_type,
        order: &order,
        distinct: call.distinct,
    })
}

struct Distinct {
    call: AggregateCall,
    pairs: GroupIndex,
    scratch: Vec<u32>,
}

impl Distinct {
    fn new(call: AggregateCall) -> Result<Self> {
        let values = types(&call).iter().map(SqlType::to_arrow).collect::<Vec<_>>();
        let types = [vec![DataType::Int32], values].concat();
        Ok(Distinct { call, pairs: GroupIndex::new(Arc::new(KeyEncoder::new(types)?)), scratch: Vec::new() })
    }

    fn insert(&mut self, groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let groups: Int32Array = groups.iter().map(|g| Some(*g as i32)).collect();
        let rows = groups.len();
        let columns: Vec<ArrayRef> =
            std::iter::once(Arc::new(groups) as ArrayRef).chain(values.iter().cloned()).collect();
        self.pairs.assign(&columns, rows, &mut self.scratch)
    }

    fn content(&self) -> Result<(Vec<u32>, Vec<ArrayRef>)> {
        let mut keys = self.pairs.keys()?;
        let groups = keys.remove(0).as_primitive::<Int32Type>().values().iter().map(|g| *g as u32).collect();
        Ok((groups, keys))
    }
}

impl Accumulator for Distinct {
    fn update(&mut self, groups: &[u32], _: usize, values: &[ArrayRef]) -> Result<()> {
        if values.iter().all(|v| v.null_count() == 0) {
            return self.insert(groups, values);
        }
        let taken = taken(values);
        let kept: BooleanArray = (0..groups.len()).map(|row| Some(taken(row))).collect();
        let groups: Vec<u32> = groups.iter().enumerate().filter(|(row, _)| taken(*row)).map(|(_, g)| *g).collect();
        let values = values.iter().map(|v| Ok(filter(v.as_ref(), &kept)?)).collect::<Result<Vec<_>>>()?;
        self.insert(&groups, &values)
    }

    fn state(&self, group_count: usize) -> Result<Vec<ArrayRef>> {
        let (groups, values) = self.content()?;
        Ok(vec![listed(&groups, &values, group_count)?])
    }

    fn merge(&mut self, groups: &[u32], _: usize, state: &[ArrayRef]) -> Result<()> {
        let (groups, values) = unlisted(groups, &state[0]);
        self.insert(&groups, &values)
    }

    fn finish(&self, group_count: usize) -> Result<ArrayRef> {
        let (groups, values) = self.content()?;
        let mut inner = plain(&self.call)?;
        inner.update(&groups, group_count, &values)?;
        inner.finish(group_count)
    }

    fn bytes(&self) -> usize {
        self.pairs.bytes()
    }
}
