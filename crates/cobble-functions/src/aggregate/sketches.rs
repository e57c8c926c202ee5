//! Approximate aggregates: distinct values by HyperLogLog (Flajolet et al., 2007), percentiles by a t-digest (Dunning and
//! Ertl, "Computing Extremely Accurate Quantiles Using t-Digests", 2019).

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_types::Result;

use super::accumulator::{Rule, slots, taken, whole};
use super::signature::{Aggregate, Keeps};
use crate::keys::KeyEncoder;
use crate::signature::{Overload, Returns, Takes};

pub(super) const APPROX_COUNT_DISTINCT: Aggregate = Aggregate::new(
    "approx_count_distinct",
    "any",
    "The number of distinct values, estimated.",
    ("SELECT approx_count_distinct(v) FROM (VALUES (1), (2), (2)) t (v)", "2"),
    &[Overload::of(&[Takes::Any], Returns::BigInt, |call| {
        Ok(slots(DistinctSketch::new(call.arguments[0].to_arrow())?))
    })],
)
.keeps(Keeps::Sketch)
.counting()
.ignoring_repetition();

pub(super) const APPROX_PERCENTILE: Aggregate = Aggregate::new(
    "approx_percentile",
    "number, share",
    "A percentile, estimated.",
    ("SELECT approx_percentile(v, 0.5) FROM (VALUES (1), (2), (3)) t (v)", "2"),
    &[Overload::of(&[Takes::Double, Takes::Double], Returns::Double, |_| Ok(slots(PercentileSketch)))],
)
.keeps(Keeps::Sketch);

/// 4096 registers: a standard error of 1.6 %.
const BITS: u32 = 12;
const REGISTERS: usize = 1 << BITS;

struct DistinctSketch {
    encoder: KeyEncoder,
}

impl DistinctSketch {
    fn new(data_type: DataType) -> Result<Self> {
        Ok(DistinctSketch { encoder: KeyEncoder::new(vec![data_type])? })
    }
}

fn raise(slot: &mut Option<Box<[u8]>>, register: usize, rank: u8) {
    let registers = slot.get_or_insert_with(|| vec![0; REGISTERS].into_boxed_slice());
    registers[register] = registers[register].max(rank);
}

fn estimate(registers: &[u8]) -> f64 {
    let m = REGISTERS as f64;
    let sum: f64 = registers.iter().map(|rank| 2f64.powi(-i32::from(*rank))).sum();
    let raw = 0.7213 / (1.0 + 1.079 / m) * m * m / sum;
    let empty = registers.iter().filter(|rank| **rank == 0).count();
    // Few values: counting the registers that none has reached is more exact.
    if raw <= 2.5 * m && empty > 0 { m * (m / empty as f64).ln() } else { raw }
}

impl Rule for DistinctSketch {
    type Slot = Option<Box<[u8]>>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let keys = self.encoder.encode(values, groups.len())?;
        let taken = taken(values);
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let hash = keys.hash(row);
            let rest = hash << BITS;
            let rank = if rest == 0 { 64 - BITS as u8 + 1 } else { rest.leading_zeros() as u8 + 1 };
            raise(&mut slots[*group as usize], (hash >> (64 - BITS)) as usize, rank);
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        Ok(vec![Arc::new(slots.iter().map(Option::as_deref).collect::<BinaryArray>())])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        let all = state[0].as_binary::<i32>();
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| all.is_valid(*row)) {
            for (register, rank) in all.value(row).iter().enumerate() {
                raise(&mut slots[*group as usize], register, *rank);
            }
        }
        Ok(())
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        Ok(whole(slots.iter().map(|slot| slot.as_ref().map_or(0, |registers| estimate(registers).round() as i64))))
    }

    fn heap(&self, slot: &Self::Slot) -> usize {
        slot.as_ref().map_or(0, |registers| registers.len())
    }

    fn has_heap(&self) -> bool {
        true
    }
}

struct PercentileSketch;

/// Means and weights, the first `sorted` of them merged and in order.
#[derive(Default, Clone)]
struct Digest {
    centroids: Vec<(f64, f64)>,
    sorted: usize,
    share: f64,
}

const COMPRESSION: f64 = 200.0;
const ROOM: usize = 2000;

impl Digest {
    fn add(&mut self, mean: f64, weight: f64) {
        self.centroids.push((mean, weight));
        if self.centroids.len() >= ROOM {
            self.compress();
        }
    }

    fn compress(&mut self) {
        self.centroids.sort_by(|a, b| a.0.total_cmp(&b.0));
        let total: f64 = self.centroids.iter().map(|c| c.1).sum();
        let mut merged: Vec<(f64, f64)> = Vec::with_capacity(ROOM / 4);
        let mut before = 0.0;
        for (mean, weight) in self.centroids.drain(..) {
            if let Some(last) = merged.last_mut() {
                let together = last.1 + weight;
                let middle = (before + together / 2.0) / total;
                // A centroid in the middle may be heavy, one at the ends may not.
                if together <= 4.0 * total * middle * (1.0 - middle) / COMPRESSION {
                    last.0 += (mean - last.0) * weight / together;
                    last.1 = together;
                    continue;
                }
                before += last.1;
            }
            merged.push((mean, weight));
        }
        self.sorted = merged.len();
        self.centroids = merged;
    }

    fn quantile(&self) -> Option<f64> {
        let mut own = self.clone();
        own.compress();
        let total: f64 = own.centroids.iter().map(|c| c.1).sum();
        let target = self.share.clamp(0.0, 1.0) * total;
        let mut before = 0.0;
        let mut last: Option<(f64, f64)> = None;
        for (mean, weight) in own.centroids {
            let middle = before + weight / 2.0;
            if target <= middle {
                return Some(match last {
                    Some((mean_before, at)) => mean_before + (mean - mean_before) * (target - at) / (middle - at),
                    None => mean,
                });
            }
            last = Some((mean, middle));
            before += weight;
        }
        last.map(|(mean, _)| mean)
    }
}

impl Rule for PercentileSketch {
    type Slot = Digest;

    fn update(&self, slots: &mut [Digest], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let (all, shares) = (values[0].as_primitive::<Float64Type>(), values[1].as_primitive::<Float64Type>());
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let slot = &mut slots[*group as usize];
            slot.share = shares.value(row);
            slot.add(all.value(row), 1.0);
        }
        Ok(())
    }

    fn state(&self, slots: &[Digest]) -> Result<Vec<ArrayRef>> {
        let mut lists = ListBuilder::new(Float64Builder::new());
        for slot in slots {
            lists.values().append_value(slot.share);
            for (mean, weight) in &slot.centroids {
                lists.values().append_value(*mean);
                lists.values().append_value(*weight);
            }
            lists.append(true);
        }
        Ok(vec![Arc::new(lists.finish())])
    }

    fn merge(&self, slots: &mut [Digest], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        let lists = state[0].as_list::<i32>();
        for (row, group) in groups.iter().enumerate() {
            let list = lists.value(row);
            let numbers = list.as_primitive::<Float64Type>().values();
            let slot = &mut slots[*group as usize];
            for pair in numbers[1..].chunks_exact(2) {
                slot.share = numbers[0];
                slot.add(pair[0], pair[1]);
            }
        }
        Ok(())
    }

    fn finish(&self, slots: &[Digest]) -> Result<ArrayRef> {
        Ok(Arc::new(slots.iter().map(Digest::quantile).collect::<Float64Array>()))
    }

    fn heap(&self, slot: &Digest) -> usize {
        slot.centroids.capacity() * 16
    }

    fn has_heap(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_is_near_the_true_percentile() {
        let mut digest = Digest { share: 0.9, ..Digest::default() };
        (0..100_000).for_each(|i| digest.add(f64::from((i * 7919) % 100_000), 1.0));
        let found = digest.quantile().unwrap();
        assert!((found - 90_000.0).abs() < 500.0, "{found}");
        assert!(digest.centroids.len() < ROOM);
    }

    #[test]
    fn a_sketch_counts_within_a_few_percent() {
        let rule = DistinctSketch::new(DataType::Int32).unwrap();
        for many in [0, 1, 10, 1000, 100_000] {
            let mut slots = vec![None];
            let values: ArrayRef = Arc::new((0..many * 3).map(|i| Some(i % many.max(1))).collect::<Int32Array>());
            rule.update(&mut slots, &vec![0; values.len()], &[values]).unwrap();
            let found = rule.finish(&slots).unwrap().as_primitive::<Int64Type>().value(0) as f64;
            assert!((found - f64::from(many)).abs() <= f64::from(many) * 0.05, "{found} of {many}");
        }
    }
}
