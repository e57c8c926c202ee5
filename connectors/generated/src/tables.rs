//! The generated tables: how many rows each has at a scale, and how any of them are made.

use std::ops::Range;
use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch};
use arrow::compute::{cast, concat_batches};
use arrow::datatypes::{Field, Schema};
use cobble_ferry::{Ferry, Month};
use cobble_types::{Result, SqlType};

/// A table whose rows can be made in any order.
pub struct Generated {
    pub name: &'static str,
    pub count: fn(&Ferry) -> u64,
    rows: fn(&Ferry, Range<u64>) -> RecordBatch,
    /// The first column counts the rows from one.
    pub numbered: bool,
}

impl std::fmt::Debug for Generated {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

const fn numbered(
    name: &'static str,
    count: fn(&Ferry) -> u64,
    rows: fn(&Ferry, Range<u64>) -> RecordBatch,
) -> Generated {
    Generated { name, count, rows, numbered: true }
}

fn part(whole: &RecordBatch, rows: Range<u64>) -> RecordBatch {
    whole.slice(rows.start as usize, (rows.end - rows.start) as usize)
}

pub const TABLES: &[Generated] = &[
    numbered("boardings", Ferry::boarding_count, |f, rows| by_month(f, rows, Ferry::boardings_in, Ferry::boardings)),
    Generated { name: "buoys", count: Ferry::reading_count, rows: Ferry::readings, numbered: false },
    numbered("crew", Ferry::crew_count, |f, rows| part(&f.crew(), rows)),
    numbered("incidents", Ferry::incident_count, |f, rows| part(&f.incidents(), rows)),
    numbered("kiosk_sales", Ferry::kiosk_sale_count, Ferry::kiosk_sales),
    numbered("parts", |f| f.parts().num_rows() as u64, |f, rows| part(&f.parts(), rows)),
    numbered("parts_used", Ferry::part_use_count, Ferry::parts_used),
    numbered("pass_holders", Ferry::pass_holder_count, Ferry::pass_holders),
    numbered("ports", |f| f.ports().num_rows() as u64, |f, rows| part(&f.ports(), rows)),
    numbered("routes", |f| f.routes().num_rows() as u64, |f, rows| part(&f.routes(), rows)),
    numbered("sailings", Ferry::sailing_count, |f, rows| by_month(f, rows, Ferry::sailings_in, Ferry::sailings)),
    Generated {
        name: "tariffs",
        count: |f| f.tariffs().num_rows() as u64,
        rows: |f, rows| part(&f.tariffs(), rows),
        numbered: false,
    },
    numbered("vessels", |f| f.vessels().num_rows() as u64, |f, rows| part(&f.vessels(), rows)),
    numbered("work_orders", Ferry::work_order_count, Ferry::work_orders),
];

/// The rows of a table that is made month by month.
fn by_month(
    ferry: &Ferry,
    rows: Range<u64>,
    count: fn(&Ferry, Month) -> u64,
    make: fn(&Ferry, Month, Range<u64>) -> RecordBatch,
) -> RecordBatch {
    let (mut first, mut found) = (0, Vec::new());
    for month in Month::all() {
        let end = first + count(ferry, month);
        let (from, to) = (rows.start.max(first), rows.end.min(end));
        if from < to {
            found.push(make(ferry, month, from - first..to - first));
        }
        first = end;
    }
    match found.as_slice() {
        [] => make(ferry, Month::all()[0], 0..0),
        [one] => one.clone(),
        all => {
            // Where a month has no nulls its columns say so.
            let fields =
                all[0].schema().fields().iter().map(|f| f.as_ref().clone().with_nullable(true)).collect::<Vec<_>>();
            let schema = Arc::new(Schema::new(fields));
            let alike = all.iter().map(|month| RecordBatch::try_new(schema.clone(), month.columns().to_vec()));
            let alike =
                alike.collect::<std::result::Result<Vec<_>, _>>().expect("months of one table have the same columns");
            concat_batches(&schema, &alike).expect("months of one table have the same columns")
        }
    }
}

impl Generated {
    pub fn columns(&self) -> Vec<(String, SqlType)> {
        let schema = (self.rows)(&Ferry::new(0.0), 0..0).schema();
        let own = |field: &Arc<Field>| {
            (field.name().clone(), SqlType::from_arrow(field.data_type()).unwrap_or(SqlType::Text))
        };
        schema.fields().iter().map(own).collect()
    }

    /// The columns at these places, of the type that the engine has for them.
    pub fn make(&self, ferry: &Ferry, rows: Range<u64>, schema: &Arc<Schema>, places: &[usize]) -> Result<RecordBatch> {
        let count = (rows.end - rows.start) as usize;
        let made = (self.rows)(ferry, rows);
        let arrays: Vec<ArrayRef> = places
            .iter()
            .zip(schema.fields())
            .map(|(place, field)| cast(made.column(*place), field.data_type()))
            .collect::<std::result::Result<_, _>>()?;
        let options = arrow::array::RecordBatchOptions::new().with_row_count(Some(count));
        Ok(RecordBatch::try_new_with_options(schema.clone(), arrays, &options)?)
    }
}
