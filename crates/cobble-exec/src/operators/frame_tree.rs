//! Aggregates over frames that slide: states of blocks of rows, of blocks of blocks, and so on, so that a frame of any width is put
//! together from a few of them (Leis, Kundhikanjana, Kemper, Neumann: Efficient Processing of Window Functions in Analytical SQL
//! Queries, VLDB 2015).

use arrow::array::{Array, ArrayRef, UInt32Array};
use arrow::compute::{concat, take};
use cobble_plan::aggregate::AggregateCall;
use cobble_types::Result;

use super::accumulators::accumulator;

/// Blocks of one level that make one of the next.
const FAN: usize = 16;

/// The average rows per frame from which the tree is worth its cost.
pub const WORTH_IT: usize = 2 * FAN;

pub struct FrameTree {
    /// The states of all levels' blocks, one level after another; the first level's blocks are of `FAN` rows.
    states: Vec<ArrayRef>,
    /// Where each level begins in `states`.
    levels: Vec<usize>,
}

impl FrameTree {
    /// Over the rows that count, which are given with their values.
    pub fn new(call: &AggregateCall, counted: &[u32], values: &[ArrayRef], rows: usize) -> Result<FrameTree> {
        let mut blocks = rows.div_ceil(FAN);
        let mut state = accumulator(call)?;
        let groups: Vec<u32> = counted.iter().map(|row| row / FAN as u32).collect();
        state.update(&groups, blocks, values)?;
        let (mut all, mut levels) = (vec![state.state(blocks)?], vec![0]);
        while blocks > FAN {
            let above = blocks.div_ceil(FAN);
            let groups: Vec<u32> = (0..blocks as u32).map(|block| block / FAN as u32).collect();
            let mut state = accumulator(call)?;
            state.merge(&groups, above, &all[all.len() - 1])?;
            levels.push(levels[levels.len() - 1] + blocks);
            all.push(state.state(above)?);
            blocks = above;
        }
        let columns = all.first().map_or(0, Vec::len);
        let together = |column: usize| {
            let parts: Vec<&dyn Array> = all.iter().map(|level| level[column].as_ref()).collect();
            Ok(concat(&parts)?)
        };
        Ok(FrameTree { states: (0..columns).map(together).collect::<Result<_>>()?, levels })
    }

    /// Splits a range of rows: single rows at its ends go to `row`, whole blocks to `block` by their index among the states.
    pub fn cover(&self, start: usize, end: usize, mut row: impl FnMut(usize), mut block: impl FnMut(u32)) {
        let (mut from, mut to, mut level) = (start, end, None::<usize>);
        loop {
            let mut give = |place: usize| match level {
                None => row(place),
                Some(level) => block((self.levels[level] + place) as u32),
            };
            let next = level.map_or(0, |level| level + 1);
            if next >= self.levels.len() || to.saturating_sub(from) < 2 * FAN {
                (from..to).for_each(give);
                return;
            }
            let (inner_from, inner_to) = (from.next_multiple_of(FAN), to / FAN * FAN);
            (from..inner_from).for_each(&mut give);
            (inner_to..to).for_each(give);
            (from, to, level) = (inner_from / FAN, inner_to / FAN, Some(next));
        }
    }

    /// The states of these blocks.
    pub fn states_of(&self, blocks: Vec<u32>) -> Result<Vec<ArrayRef>> {
        let places = UInt32Array::from(blocks);
        self.states.iter().map(|column| Ok(take(column.as_ref(), &places, None)?)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_row_of_a_stretch_is_covered_once() {
        let rows = 5000usize;
        let sizes: Vec<usize> =
            std::iter::successors(Some(rows.div_ceil(FAN)), |blocks| (*blocks > FAN).then(|| blocks.div_ceil(FAN)))
                .collect();
        let levels = sizes.iter().scan(0, |at, size| Some(std::mem::replace(at, *at + size))).collect::<Vec<_>>();
        let tree = FrameTree { states: vec![], levels: levels.clone() };
        for (start, end) in [(0, 5000), (1, 4999), (17, 18), (16, 32), (15, 300), (255, 4352), (4990, 5000), (7, 7)] {
            let (mut seen, mut pieces) = (vec![0; rows], 0);
            let (mut single, mut blocks) = (Vec::new(), Vec::new());
            tree.cover(start, end, |row| single.push(row), |block| blocks.push(block as usize));
            single.iter().for_each(|row| seen[*row] += 1);
            for block in &blocks {
                let level = levels.iter().rposition(|from| from <= block).unwrap();
                let width = FAN.pow(level as u32 + 1);
                let from = (block - levels[level]) * width;
                (from..(from + width).min(rows)).for_each(|row| seen[row] += 1);
            }
            pieces += single.len() + blocks.len();
            assert!((0..rows).all(|row| seen[row] == i32::from((start..end).contains(&row))), "{start}..{end}");
            assert!(pieces <= 2 * FAN * (levels.len() + 1), "{pieces} pieces for {start}..{end}");
        }
    }
}
