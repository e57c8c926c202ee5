//! The steps of a write and their order: rows, preparation, RETURNING, commit; and that nothing is committed after a failure.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use arrow::array::{Array, Int32Array, RecordBatch};
use arrow::datatypes::{DataType, Field, Schema};
use async_trait::async_trait;
use cobble_optimize::Settings;
use cobble_plan::Column;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::sink::{NewRows, Outcome, Prepared, Returning, SinkSpec, TableWriter};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};
use tokio_util::sync::CancellationToken;

use super::support::{column, integer, plan, started, table};

/// What happened, in its order.
type Log = Arc<Mutex<Vec<&'static str>>>;

fn note(log: &Log, what: &'static str) {
    let mut log = log.lock().unwrap();
    if log.last() != Some(&what) {
        log.push(what);
    }
}

/// Notes what is done with it, and what is given up.
struct Noted {
    log: Log,
    rows: u64,
    /// The step at which it fails.
    fails: &'static str,
    done: bool,
}

impl Noted {
    fn step(&self, what: &'static str) -> Result<()> {
        note(&self.log, what);
        if self.fails == what { Err(Error::new(Code::SourceData, format!("the {what} fails"))) } else { Ok(()) }
    }
}

impl TableWriter for Noted {
    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self.rows += batch.num_rows() as u64;
        self.step("rows")
    }

    fn prepare(self: Box<Self>) -> Result<Box<dyn Prepared>> {
        self.step("preparation")?;
        Ok(self)
    }
}

#[async_trait]
impl Prepared for Noted {
    fn outcome(&mut self) -> Outcome {
        let schema = Schema::new(vec![Field::new("0", DataType::Int32, true)]);
        let back = Arc::new(Int32Array::from(vec![Some(4), None, Some(2)])) as Arc<dyn Array>;
        let returned = vec![RecordBatch::try_new(Arc::new(schema), vec![back]).unwrap()];
        Outcome { rows: self.rows, files: 1, bytes: 10, returned, received: 0 }
    }

    async fn commit(mut self: Box<Self>) -> Result<()> {
        self.step("commit")?;
        self.done = true;
        Ok(())
    }
}

impl Drop for Noted {
    fn drop(&mut self) {
        if !self.done {
            note(&self.log, "undone");
        }
    }
}

/// A write of three rows, and the rows of its answer.
async fn write(fails: &'static str, returning: Option<Returning>, cancel: CancellationToken) -> (Log, Result<String>) {
    let target = ObjectName::new("harbour", "public", "berths");
    let columns = [column(1, "berth")];
    let rows = table(1, &columns, &[vec![Some(4)], vec![None], vec![Some(2)]]);
    let rows_to_keep = NewRows {
        schema: "public".into(),
        table: "berths".into(),
        create: false,
        columns: vec![("berth".into(), SqlType::Integer)],
        not_null: vec![],
        primary_key: vec![],
        options: Default::default(),
        returned: None,
        replacing: None,
    };
    let plan = plan(rows).written_to(SinkSpec { table: target.clone(), rows: rows_to_keep, routes: None }, returning);
    let plan = cobble_plan::physical::PhysicalPlan::from_bytes(&plan.to_bytes().unwrap()).unwrap();
    let log = Log::default();
    let writer = Noted { log: log.clone(), rows: 0, fails, done: false };
    let answer = async {
        let mut running = started(&plan, vec![(target, Box::new(writer))], &Settings::default(), cancel)?;
        let mut all = Vec::new();
        while let Some(batch) = running.next().await? {
            for row in 0..batch.num_rows() {
                let cells = batch.columns().iter().map(|c| cobble_types::array_value_text(c.as_ref(), row));
                all.push(cells.map(|cell| cell.unwrap_or("null".into())).collect::<Vec<_>>().join("|"));
            }
        }
        Ok(all.join(" "))
    };
    let answer = answer.await;
    (log, answer)
}

/// What has happened, once nothing of the write is left.
async fn ended(log: &Log) -> Vec<&'static str> {
    for _ in 0..500 {
        if Arc::strong_count(log) == 1 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    log.lock().unwrap().clone()
}

/// Twelve divided by what comes back.
fn divided() -> Option<Returning> {
    let berth = column(7, "berth");
    let made = Expr::Binary {
        op: BinaryOp::Divide,
        left: Box::new(integer(12)),
        right: Box::new(Expr::Column(berth.clone())),
        sql_type: SqlType::Integer,
    };
    Some(Returning { columns: vec![berth], made: vec![(column(8, "twelfth"), made)] })
}

#[tokio::test]
async fn rows_come_then_the_preparation_then_the_commit() {
    let (log, answer) = write("", None, CancellationToken::new()).await;
    assert_eq!(answer.unwrap(), "harbour.public.berths|3|1|10");
    assert_eq!(ended(&log).await, ["rows", "preparation", "commit"]);
    let (log, answer) = write("", divided(), CancellationToken::new()).await;
    assert_eq!(answer.unwrap(), "3 null 6");
    assert_eq!(ended(&log).await, ["rows", "preparation", "commit"]);
}

#[tokio::test]
async fn a_failure_at_any_step_undoes_the_write() {
    for (fails, happened) in [
        ("rows", vec!["rows", "undone"]),
        ("preparation", vec!["rows", "preparation", "undone"]),
        ("commit", vec!["rows", "preparation", "commit", "undone"]),
    ] {
        let (log, answer) = write(fails, None, CancellationToken::new()).await;
        assert_eq!(answer.unwrap_err().message, format!("the {fails} fails"));
        assert_eq!(ended(&log).await, happened);
    }
}

#[tokio::test]
async fn what_returning_cannot_compute_is_not_committed() {
    let zero = |column: &Column| Expr::Binary {
        op: BinaryOp::Modulo,
        left: Box::new(integer(1)),
        right: Box::new(Expr::Binary {
            op: BinaryOp::Minus,
            left: Box::new(Expr::Column(column.clone())),
            right: Box::new(integer(2)),
            sql_type: SqlType::Integer,
        }),
        sql_type: SqlType::Integer,
    };
    let berth = column(7, "berth");
    let made = vec![(column(8, "rest"), zero(&berth))];
    let (log, answer) = write("", Some(Returning { columns: vec![berth], made }), CancellationToken::new()).await;
    assert_eq!(answer.unwrap_err().code, Code::DivisionByZero);
    assert_eq!(ended(&log).await, ["rows", "preparation", "undone"]);
}

#[tokio::test]
async fn a_cancelled_write_leaves_nothing() {
    let cancel = CancellationToken::new();
    cancel.cancel();
    let (log, answer) = write("", None, cancel).await;
    assert_eq!(answer.unwrap_err().code, Code::Cancelled);
    assert!(ended(&log).await.ends_with(&["undone"]));
}
