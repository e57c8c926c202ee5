//! The connector of the guide in `docs/how-to/extend.md`: one table that is computed. A real one stands in a crate of `connectors/`.

use std::collections::{BTreeSet, HashMap};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use arrow::array::{ArrayRef, BooleanArray, Int32Array, RecordBatch};
use arrow::datatypes::{DataType, Field, Schema};
use async_trait::async_trait;
use cobble_connect::{ConnectionDefinition, Connector, Kind, Registry, TableEntry, TestStep};
use cobble_network::test_steps::reporter;
use cobble_plan::draft::{Draft, answer};
use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::{Answer, Asked, Fragment, Piece};
use cobble_plan::logical::{LogicalPlan, Origin, Scan, Table, TableColumn, TableKind};
use cobble_plan::offer::{
    Agreed, DescribedTable, KeptReason, Request, Source, Sources, Verdict, pass_through, places_of,
};
use cobble_plan::scan::{
    BatchPredicate, GateCounters, GateScan, PortionReader, Portions, PredicateCompiler, ScanSpec, ScanTools, Unbounded,
};
use cobble_plan::serial::{from_bytes, to_bytes};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{ColumnId, Error, ObjectName, Result, SqlType};
use serde::{Deserialize, Serialize};

// 1. The kind: its settings, and what makes its connector. An engine lists it in its registry.
const KIND: Kind = Kind {
    kind: "tide_hours",
    about: "the hours of a day, each with its minutes since midnight",
    settings: &[],
    metadata_life: 0,
    connect: |definition| Ok(Arc::new(TideHours { connection: definition.name.clone() })),
};

const COLUMNS: [&str; 2] = ["hour", "minutes"];

#[derive(Debug)]
struct TideHours {
    connection: String,
}

// 2. The connector: names, tables, and scans of work that was agreed.
#[async_trait]
impl Connector for TideHours {
    async fn schemas(&self) -> Result<Vec<String>> {
        Ok(vec!["public".to_owned()])
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let hours = TableEntry { name: "hours".to_owned(), kind: TableKind::Table };
        Ok(if schema == "public" { vec![hours] } else { vec![] })
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        if (schema, table) != ("public", "hours") {
            return Ok(None);
        }
        let column = |name: &str| TableColumn {
            name: name.to_owned(),
            sql_type: SqlType::Integer,
            nullable: false,
            partition: false,
            comment: None,
        };
        let described = Table {
            name: ObjectName::new(catalog, schema, table),
            columns: COLUMNS.map(column).to_vec(),
            statistics: TableStatistics {
                rows: Some(24.0),
                columns: vec![ColumnStatistics::default(); COLUMNS.len()],
                ..TableStatistics::default()
            },
            primary_key: vec![0],
            kind: TableKind::Table,
            origin: Origin::new(&self.connection, KIND.kind, None),
        };
        Ok(Some(DescribedTable::new(described, HourSource { connection: self.connection.clone() })))
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        Ok(Arc::new(HourScan { work: spec.unpack(FORM)?, days: spec.unpack_portions()? }))
    }

    fn refresh(&self) {}

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        reporter(report)("list", std::time::Instant::now(), Ok("one table".to_owned()), "");
    }
}

// 3. The source: what it does of a fragment of a plan. Its draft takes one piece after the other; what it refuses is kept in the engine.
#[derive(Debug)]
struct HourSource {
    connection: String,
}

#[async_trait]
impl Source for HourSource {
    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<Answer> {
        let begin = |scan: &Scan| {
            let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
            Ok(HourDraft { connection: self.connection.clone(), name: scan.table.name.clone(), places })
        };
        answer(fragment, begin).await
    }
}

#[derive(Debug)]
struct HourDraft {
    connection: String,
    name: ObjectName,
    places: HashMap<ColumnId, usize>,
}

impl Draft for HourDraft {
    async fn take(&mut self, piece: Asked<'_>) -> Verdict {
        match piece {
            Asked::Project(columns) => pass_through(&mut self.places, columns),
            Asked::Filter(_) => Verdict::kept(KeptReason::NoSuchAbility, "hours are not searched"),
            other => other.kept(),
        }
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let work = Work { places: places_of(&self.places, columns)? };
        let names = work.places.iter().map(|place| COLUMNS[*place].to_owned()).collect();
        // Two halves of the day, which two tasks can read.
        let spec =
            ScanSpec::new((&self.connection, KIND.kind), &self.name, FORM, &work)?.with_portions([0..12, 12..24])?;
        Ok(Agreed::new(spec, Request { text: "compute hours".to_owned(), parameters: vec![] }, names))
    }
}

// 4. The work as data, and the scan that runs it.
const FORM: u16 = 1;

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Work {
    places: Vec<usize>,
}

#[derive(Debug)]
struct HourScan {
    work: Work,
    days: Vec<std::ops::Range<i32>>,
}

#[async_trait]
impl GateScan for HourScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let (work, days) = (self.work.clone(), self.days.clone());
        Ok(Arc::new(HourPortions { work, days, next: AtomicUsize::new(0), counters: tools.counters.clone() }))
    }
}

struct HourPortions {
    work: Work,
    days: Vec<std::ops::Range<i32>>,
    next: AtomicUsize,
    counters: Arc<GateCounters>,
}

#[async_trait]
impl Portions for HourPortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let Some(hours) = self.days.get(self.next.fetch_add(1, Ordering::Relaxed)).cloned() else { return Ok(None) };
        GateCounters::add(&self.counters.requests, 1);
        let value = |place: usize| -> ArrayRef {
            Arc::new(hours.clone().map(|hour| if place == 0 { hour } else { hour * 60 }).collect::<Int32Array>())
        };
        let field = |place: &usize| Field::new(place.to_string(), DataType::Int32, true);
        let schema = Schema::new(self.work.places.iter().map(field).collect::<Vec<_>>());
        let arrays = self.work.places.iter().map(|place| value(*place)).collect();
        Ok(Some(Box::new(OneBatch(Some(RecordBatch::try_new(Arc::new(schema), arrays)?)))))
    }
}

struct OneBatch(Option<RecordBatch>);

#[async_trait]
impl PortionReader for OneBatch {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.0.take())
    }
}

// 5. Its test: what an offer comes to is run from its serial form.
struct NoCompiler;

impl PredicateCompiler for NoCompiler {
    fn compile(&self, _: &Expr, _: &[Column]) -> Result<Arc<dyn BatchPredicate>> {
        struct All;
        impl BatchPredicate for All {
            fn evaluate(&self, batch: &RecordBatch) -> Result<BooleanArray> {
                Ok(BooleanArray::from(vec![true; batch.num_rows()]))
            }
        }
        Ok(Arc::new(All))
    }
}

#[tokio::test]
async fn a_connector_of_ones_own_reads_what_was_agreed() {
    static KINDS: Registry = Registry::new(&[&KIND]);
    let connector = KINDS.connect(&ConnectionDefinition::new("pier", "tide_hours", "")).unwrap();
    assert_eq!(connector.tables("public").await.unwrap()[0].name, "hours");
    let DescribedTable { table, source } = connector.table("pier", "public", "hours").await.unwrap().unwrap();
    let column = |place: usize| Column {
        id: ColumnId(place as u32 + 1),
        qualifier: None,
        name: COLUMNS[place].to_owned(),
        sql_type: SqlType::Integer,
    };
    let scan = Scan { table, columns: vec![(column(0), 0), (column(1), 1)] };
    let table = Arc::new(LogicalPlan::Scan(scan));
    let filter = LogicalPlan::Filter { input: table.clone(), conjuncts: vec![Expr::boolean(true)] };
    let piece = |plan: Arc<LogicalPlan>, inputs: Vec<usize>| Piece {
        plan,
        condition: 0,
        inputs,
        columns: vec![column(0), column(1)],
        needed: BTreeSet::from([column(1).id]),
        withheld: None,
    };
    let fragment = Fragment { pieces: vec![piece(table, vec![]), piece(filter.into(), vec![0])] };
    let answer = source.answer(&fragment, &Sources::default()).await.unwrap();
    answer.check(&fragment).unwrap();
    assert!(!answer.is_pushed(1));
    let agreed = &answer.part(1).unwrap().agreed;
    assert_eq!(agreed.columns_read, ["minutes"]);

    let spec: ScanSpec = from_bytes(&to_bytes(&agreed.spec).unwrap()).unwrap();
    assert_eq!(spec, agreed.spec);
    let tools = ScanTools {
        cancel: Default::default(),
        counters: Arc::default(),
        compiler: Arc::new(NoCompiler),
        batch_rows: 8192,
        keys: vec![],
        memory: Arc::new(Unbounded),
    };
    let portions = connector.scan(&spec).unwrap().open(&tools).await.unwrap();
    let rows = Mutex::new(0);
    while let Some(mut reader) = portions.claim().await.unwrap() {
        while let Some(batch) = reader.next().await.unwrap() {
            *rows.lock().unwrap() += batch.num_rows();
            assert_eq!(batch.num_columns(), 1);
        }
    }
    assert_eq!((*rows.lock().unwrap(), tools.counters.requests.load(Ordering::Relaxed)), (24, 2));
    // Work in a form of another version is refused.
    let error = connector.scan(&ScanSpec { form: 9, ..spec }).err().map(|e: Error| e.to_string());
    assert!(error.unwrap().contains("form 9"));
}
