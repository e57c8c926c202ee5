//! The shipyard: work orders on vessels, the parts they can take, and the parts that they took.

use std::ops::Range;
use std::sync::Arc;

use arrow::array::{
    ArrayRef, BooleanArray, Date32Array, Int16Array, Int32Array, RecordBatch, StringArray, StringBuilder,
    TimestampMicrosecondArray,
};

use crate::rows::{DAY, FIRST_DAY, Ferry, batch, decimals, texts};

const PARTS: u64 = 400;
const KINDS: &[&str] = &["hull", "engine", "engine", "safety", "deck", "paint", "electrics"];
const THINGS: &[&str] =
    &["pump", "valve", "seal ring", "filter", "cable", "cleat", "life jacket", "anode", "belt", "lamp"];
const WORDS: &[&str] = &["renew", "inspect", "Inspect", "clean", "replace", "tighten"];

impl Ferry {
    pub fn work_order_count(&self) -> u64 {
        self.scaled(50_000)
    }

    /// Work on vessels, in order of the day it was opened. Old vessels come more often, and the newest orders are still open.
    pub fn work_orders(&self, rows: Range<u64>) -> RecordBatch {
        let total = self.work_order_count();
        let (mut vessel, mut opened, mut closed, mut due) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let (mut urgency, mut hours, mut cost) = (Vec::new(), Vec::new(), Vec::new());
        let (mut kind, mut note) = (StringBuilder::new(), StringBuilder::new());
        for i in rows.clone() {
            let mut d = self.dice(50, i);
            let day = i64::from(FIRST_DAY) + (i * 1090 / total) as i64;
            let at = day * DAY + (7 * 3600 + d.below(9 * 3600) as i64) * 1_000_000;
            let open_for = d.skewed(20 * 86_400, 4) as i64 + 1800;
            vessel.push(d.skewed(60, 2) as i32 + 1);
            opened.push(at);
            closed.push((total - i > total / 60).then_some(at + open_for * 1_000_000));
            due.push(day as i32 + 3 + d.below(20) as i32);
            urgency.push(d.skewed(5, 2) as i16 + 1);
            kind.append_value(d.pick(KINDS));
            let quarters = d.skewed(160, 2) as i128 + 1;
            hours.push(quarters * 25);
            cost.push(quarters * 1825 + d.below(40_000) as i128);
            match d.below(3) {
                0 => note.append_null(),
                _ => note.append_value(format!("{} the {}", d.pick(WORDS), d.pick(THINGS))),
            }
        }
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(rows.map(|i| i as i32 + 1)))),
            ("vessel_id", Arc::new(Int32Array::from(vessel))),
            ("kind", Arc::new(kind.finish())),
            ("urgency", Arc::new(Int16Array::from(urgency))),
            ("opened_at", Arc::new(TimestampMicrosecondArray::from(opened))),
            ("closed_at", Arc::new(TimestampMicrosecondArray::from(closed))),
            ("due_on", Arc::new(Date32Array::from(due))),
            ("hours", decimals(hours, 6, 2)),
            ("cost", decimals(cost, 10, 2)),
            ("note", Arc::new(note.finish())),
        ])
    }

    pub fn parts(&self) -> RecordBatch {
        let rows = 0..PARTS;
        let name = |i: u64| format!("{} {}", THINGS[(i % 10) as usize], 10 + i / 10 * 5);
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(rows.clone().map(|i| i as i32 + 1)))),
            ("name", texts(rows.clone().map(name).collect())),
            ("kind", texts(rows.clone().map(|i| self.dice(51, i).pick(KINDS).to_owned()).collect())),
            (
                "price",
                decimals(rows.clone().map(|i| 250 + i128::from(self.dice(52, i).skewed(90_000, 3))).collect(), 8, 2),
            ),
            ("in_stock", Arc::new(BooleanArray::from_iter(rows.map(|i| Some(self.dice(53, i).below(7) > 0))))),
        ])
    }

    pub fn part_use_count(&self) -> u64 {
        self.work_order_count() * 5 / 2
    }

    /// What went into work orders: a few parts go into most of them.
    pub fn parts_used(&self, rows: Range<u64>) -> RecordBatch {
        let each = |f: &dyn Fn(u64) -> i32| -> ArrayRef { Arc::new(Int32Array::from_iter_values(rows.clone().map(f))) };
        batch(vec![
            ("id", each(&|i| i as i32 + 1)),
            ("order_id", each(&|i| (i * 2 / 5) as i32 + 1)),
            ("part_id", each(&|i| self.dice(54, i).skewed(PARTS, 3) as i32 + 1)),
            ("quantity", each(&|i| self.dice(55, i).skewed(8, 3) as i32 + 1)),
            (
                "batch_no",
                Arc::new(
                    rows.clone()
                        .map(|i| {
                            let mut d = self.dice(56, i);
                            (d.below(6) > 0)
                                .then(|| format!("{}-{:04}", d.pick(&["A", "a", "B", "C"]), d.below(10_000)))
                        })
                        .collect::<StringArray>(),
                ),
            ),
        ])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::AsArray;
    use arrow::datatypes::Int32Type;

    #[test]
    fn parts_go_into_orders_that_exist() {
        let ferry = Ferry::new(0.01);
        let used = ferry.parts_used(0..ferry.part_use_count());
        let orders = used.column(1).as_primitive::<Int32Type>();
        assert_eq!(orders.value(orders.len() - 1), ferry.work_order_count() as i32);
    }
}
