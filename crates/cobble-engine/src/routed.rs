//! The writer of a table in tiers: each row goes to the side of the boundary that it belongs to.

use std::sync::Arc;

use arrow::array::{Array, ArrayRef, BooleanArray, RecordBatch, Scalar};
use arrow::compute::kernels::cmp::lt;
use arrow::compute::{filter_record_batch, not, prep_null_mask_filter};
use async_trait::async_trait;
use cobble_plan::scan::ScanTools;
use cobble_plan::sink::{Outcome, Prepared, Routes, TableWriter};
use cobble_sql::KnownView;
use cobble_types::{Code, Error, ObjectName, Result, Value};

pub struct Routed {
    routes: Routes,
    boundary: Option<Scalar<ArrayRef>>,
    moving_to: Option<Scalar<ArrayRef>>,
    recent: Side,
    older: Side,
    /// As long as somebody writes by this boundary, nothing is moved by another one.
    held: Vec<Arc<KnownView>>,
}

struct Side {
    table: ObjectName,
    writer: Box<dyn TableWriter>,
    rows: u64,
}

impl Side {
    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self.rows += batch.num_rows() as u64;
        if batch.num_rows() > 0 { self.writer.write(batch) } else { Ok(()) }
    }

    fn prepare(self) -> Result<(ObjectName, u64, Box<dyn Prepared>)> {
        Ok((self.table, self.rows, self.writer.prepare()?))
    }
}

impl Routed {
    pub fn new(
        routes: Routes,
        recent: Box<dyn TableWriter>,
        older: Box<dyn TableWriter>,
        held: Vec<Arc<KnownView>>,
    ) -> Routed {
        let scalar = |value: &Value| Scalar::new(value.to_array(&routes.sql_type));
        let side = |table: &ObjectName, writer| Side { table: table.clone(), writer, rows: 0 };
        Routed {
            boundary: routes.boundary.as_ref().map(scalar),
            moving_to: routes.moving_to.as_ref().map(scalar),
            recent: side(&routes.recent.table, recent),
            older: side(&routes.older.table, older),
            routes,
            held,
        }
    }

    /// The rows whose value is below a bound; a null is below none.
    fn below(column: &ArrayRef, bound: &Scalar<ArrayRef>) -> Result<BooleanArray> {
        let below = lt(column, bound)?;
        Ok(if below.null_count() > 0 { prep_null_mask_filter(&below) } else { below })
    }
}

impl TableWriter for Routed {
    fn begin(&mut self, tools: ScanTools) {
        self.recent.writer.begin(tools.clone());
        self.older.writer.begin(tools);
    }

    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        let Some(column) = self.routes.column.map(|place| batch.column(place)) else { return self.recent.write(batch) };
        let older = match &self.boundary {
            Some(boundary) => Routed::below(column, boundary)?,
            None => BooleanArray::from(vec![false; batch.num_rows()]),
        };
        if let Some(to) = &self.moving_to
            && Routed::below(column, to)?.true_count() > older.true_count()
        {
            let text = |value: &Option<Value>| value.as_ref().map_or_else(|| "the first".to_owned(), Value::to_string);
            let (from, to) = (text(&self.routes.boundary), text(&self.routes.moving_to));
            let what = format!("rows from {from} up to {to} are being moved to {}", self.older.table);
            return Err(
                Error::new(Code::Conflict, what).hint("nothing was written; insert these rows when the move has ended")
            );
        }
        self.older.write(&filter_record_batch(batch, &older)?)?;
        self.recent.write(&filter_record_batch(batch, &not(&older)?)?)
    }

    fn prepare(self: Box<Self>) -> Result<Box<dyn Prepared>> {
        let Routed { recent, older, held, .. } = *self;
        let mut prepared = Vec::new();
        // Where no row goes there is nothing to be done, unless no row has come at all.
        let to_older = older.rows > 0;
        let sides = [(recent.rows > 0 || !to_older).then_some(recent), to_older.then_some(older)];
        for side in sides.into_iter().flatten() {
            prepared.push(side.prepare()?);
        }
        Ok(Box::new(RoutedPrepared { prepared, _held: held }))
    }
}

/// The sides that rows have gone to, in the order in which they are committed.
struct RoutedPrepared {
    prepared: Vec<(ObjectName, u64, Box<dyn Prepared>)>,
    _held: Vec<Arc<KnownView>>,
}

#[async_trait]
impl Prepared for RoutedPrepared {
    fn outcome(&mut self) -> Outcome {
        let mut all = Outcome::default();
        for (_, rows, prepared) in &mut self.prepared {
            let one = prepared.outcome();
            all.rows += *rows;
            all.files += one.files;
            all.bytes += one.bytes;
        }
        all
    }

    async fn commit(self: Box<Self>) -> Result<()> {
        let mut done: Option<(ObjectName, u64)> = None;
        for (table, rows, prepared) in self.prepared {
            if let Err(error) = prepared.commit().await {
                let Some((first, written)) = done else { return Err(error) };
                let what = format!("the {written} rows for {first} are written, the {rows} rows for {table} are not");
                return Err(Error { message: format!("{what}: {}", error.message), ..error }
                    .hint("insert those rows again; their source commits for itself"));
            }
            done = Some((table, rows));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::sync::Mutex;

    use arrow::array::{AsArray, Int64Array};
    use arrow::datatypes::{DataType, Field, Int64Type, Schema};
    use cobble_plan::sink::{NewRows, SinkSpec};
    use cobble_types::SqlType;

    use super::*;

    type Seen = Arc<Mutex<Vec<Option<i64>>>>;

    /// Keeps what comes, or does not commit.
    struct Kept(Seen, bool);

    impl TableWriter for Kept {
        fn write(&mut self, batch: &RecordBatch) -> Result<()> {
            self.0.lock().unwrap().extend(batch.column(0).as_primitive::<Int64Type>());
            Ok(())
        }

        fn prepare(self: Box<Self>) -> Result<Box<dyn Prepared>> {
            Ok(self)
        }
    }

    #[async_trait]
    impl Prepared for Kept {
        fn outcome(&mut self) -> Outcome {
            Outcome { files: 1, ..Outcome::default() }
        }

        async fn commit(self: Box<Self>) -> Result<()> {
            if self.1 { Ok(()) } else { Err(Error::new(Code::Storage, "the disk is full")) }
        }
    }

    fn routed(boundary: Option<i64>, moving_to: Option<i64>, commits: bool) -> (Box<Routed>, [Seen; 2]) {
        let to = |table: &str| SinkSpec {
            table: ObjectName::new("c", "s", table),
            rows: NewRows {
                schema: "s".into(),
                table: table.into(),
                create: false,
                columns: vec![("n".into(), SqlType::BigInt)],
                not_null: vec![],
                primary_key: vec![],
                options: BTreeMap::new(),
                returned: None,
                replacing: None,
            },
            routes: None,
        };
        let routes = Routes {
            column: Some(0),
            sql_type: SqlType::BigInt,
            boundary: boundary.map(Value::BigInt),
            moving_to: moving_to.map(Value::BigInt),
            recent: to("recent"),
            older: to("older"),
        };
        let seen: [Seen; 2] = Default::default();
        let [recent, older] = [Kept(seen[0].clone(), true), Kept(seen[1].clone(), commits)].map(Box::new);
        (Box::new(Routed::new(routes, recent, older, vec![])), seen)
    }

    fn batch(values: Vec<Option<i64>>) -> RecordBatch {
        let schema = Schema::new(vec![Field::new("n", DataType::Int64, true)]);
        RecordBatch::try_new(Arc::new(schema), vec![Arc::new(Int64Array::from(values))]).unwrap()
    }

    #[tokio::test]
    async fn rows_are_divided_and_both_sides_commit() {
        let (mut writer, [recent, older]) = routed(Some(10), None, true);
        writer.write(&batch(vec![Some(9), None, Some(10), Some(i64::MIN)])).unwrap();
        writer.write(&batch(vec![Some(11)])).unwrap();
        let mut prepared = writer.prepare().unwrap();
        let outcome = prepared.outcome();
        assert_eq!((outcome.rows, outcome.files), (5, 2));
        prepared.commit().await.unwrap();
        assert_eq!(*recent.lock().unwrap(), [None, Some(10), Some(11)]);
        assert_eq!(*older.lock().unwrap(), [Some(9), Some(i64::MIN)]);
        // Without a boundary all are recent, and the other side is not touched.
        let (mut writer, [recent, _]) = routed(None, None, false);
        writer.write(&batch(vec![Some(1), None])).unwrap();
        writer.prepare().unwrap().commit().await.unwrap();
        assert_eq!(recent.lock().unwrap().len(), 2);
        // No row at all: one side says so.
        let mut prepared = routed(Some(10), None, false).0.prepare().unwrap();
        assert_eq!(prepared.outcome().rows, 0);
        prepared.commit().await.unwrap();
    }

    #[tokio::test]
    async fn what_has_no_place_or_fails_is_told() {
        let (mut writer, _) = routed(Some(10), Some(20), true);
        writer.write(&batch(vec![Some(9), Some(20), None])).unwrap();
        let error = writer.write(&batch(vec![Some(9), Some(19)])).unwrap_err();
        assert_eq!(error.code, Code::Conflict);
        assert_eq!(error.message, "rows from 10 up to 20 are being moved to c.s.older");
        let (mut writer, _) = routed(Some(10), None, false);
        writer.write(&batch(vec![Some(9), Some(19), Some(29)])).unwrap();
        let error = writer.prepare().unwrap().commit().await.unwrap_err();
        let wanted = "the 2 rows for c.s.recent are written, the 1 rows for c.s.older are not: the disk is full";
        assert_eq!(error.message, wanted);
        let (mut writer, _) = routed(Some(10), None, false);
        writer.write(&batch(vec![Some(9)])).unwrap();
        assert_eq!(writer.prepare().unwrap().commit().await.unwrap_err().message, "the disk is full");
    }
}
