//! DISTINCT: collects the different pairs of group and values, and gives each to the plain aggregate once.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::filter;
use arrow::datatypes::*;
use cobble_plan::aggregate::AggregateCall;
use cobble_types::Result;

use super::collected::{listed, unlisted};
use super::{Accumulator, plain, taken};
use crate::groups::GroupIndex;
use crate::keys::KeyEncoder;

pub struct Distinct {
    call: AggregateCall,
    pairs: GroupIndex,
    scratch: Vec<u32>,
}

impl Distinct {
    pub fn new(call: AggregateCall, mut types: Vec<DataType>) -> Result<Self> {
        types.insert(0, DataType::Int32);
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
        let types: Vec<_> = self.call.arguments.iter().map(cobble_plan::Expr::sql_type).collect();
        let mut inner = plain(&self.call, types.first())?;
        inner.update(&groups, group_count, &values)?;
        inner.finish(group_count)
    }

    fn bytes(&self) -> usize {
        self.pairs.bytes()
    }
}
