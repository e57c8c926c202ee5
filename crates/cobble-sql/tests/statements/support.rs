//! A catalog of the ferry company's tables without any storage below them. `fleet` takes all work over, as a database
//! would; `drop` takes conditions and columns only, as files do. Nothing is ever read.

use std::collections::BTreeMap;
use std::sync::Arc;

use async_trait::async_trait;
use cobble_optimize::{Goal, Settings, planner};
use cobble_plan::draft::{Draft, answer};
use cobble_plan::fragment::{Answer, Asked, Fragment};
use cobble_plan::logical::{Join, Origin, Scan, Table, TableColumn, TableKind};
use cobble_plan::offer::{Agreed, DescribedTable, KeptReason, Request, Source, Sources, Verdict};
use cobble_plan::scan::ScanSpec;
use cobble_plan::{Column, ColumnStatistics, Expr, PlanDocument, TableStatistics};
use cobble_sql::{
    BindContext, BoundQuery, CatalogReader, KnownFunctions, Parameters, SessionNames, Statement, TableReference,
    bind_query, parse_statements,
};
use cobble_types::{Error, ObjectName, Result, SqlType, Value};
use futures::executor::block_on;
use tokio_util::sync::CancellationToken;

/// 2026-07-01 12:00 UTC.
pub const NOW: i64 = 1_782_907_200_000_000;

pub struct Ferry {
    tables: BTreeMap<String, Arc<Table>>,
    sources: Sources,
}

impl CatalogReader for Ferry {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>> {
        let name = name.to_string();
        let short = name.rsplit('.').next().unwrap_or_default().to_owned();
        self.tables
            .get(&short)
            .cloned()
            .ok_or_else(|| Error::unknown("table", &name, self.tables.keys().map(String::as_str)))
    }
}

fn numeric(precision: u8, scale: i8) -> SqlType {
    SqlType::Numeric { precision, scale }
}

pub fn ferry() -> Ferry {
    use SqlType::*;
    let (mut tables, mut sources) = (BTreeMap::new(), Sources::default());
    let mut add = |catalog: &str, name: &str, rows: f64, columns: &[(&str, SqlType, Option<f64>)]| {
        let table = Table {
            name: ObjectName::new(catalog, "public", name),
            columns: columns
                .iter()
                .map(|(name, sql_type, _)| TableColumn {
                    name: (*name).into(),
                    sql_type: sql_type.clone(),
                    nullable: true,
                    partition: false,
                    comment: None,
                })
                .collect(),
            statistics: TableStatistics {
                rows: Some(rows),
                columns: columns
                    .iter()
                    .map(|(_, sql_type, distinct)| ColumnStatistics {
                        distinct: *distinct,
                        min: distinct.filter(|_| *sql_type == Integer).map(|_| Value::Integer(1)),
                        max: distinct.filter(|_| *sql_type == Integer).map(|n| Value::Integer(n as i32)),
                        ..ColumnStatistics::default()
                    })
                    .collect(),
                ..TableStatistics::default()
            },
            primary_key: vec![0],
            kind: TableKind::Table,
            origin: Origin::new(
                &format!("{catalog}_store"),
                if catalog == "fleet" { "database" } else { "files" },
                None,
            ),
        };
        let found = DescribedTable::new(table, PaperSource { takes_all: catalog == "fleet" });
        sources.add(&found);
        tables.insert(name.to_owned(), found.table);
    };
    add(
        "fleet",
        "ports",
        40.0,
        &[("id", Integer, Some(40.0)), ("name", Text, Some(40.0)), ("island", Text, Some(12.0))],
    );
    add(
        "fleet",
        "routes",
        120.0,
        &[
            ("id", Integer, Some(120.0)),
            ("from_port", Integer, Some(40.0)),
            ("to_port", Integer, Some(40.0)),
            ("name", Text, Some(120.0)),
            ("nautical_miles", numeric(6, 2), Some(100.0)),
            ("opened", Date, Some(90.0)),
            ("active", Boolean, Some(2.0)),
        ],
    );
    add(
        "fleet",
        "vessels",
        60.0,
        &[
            ("id", Integer, Some(60.0)),
            ("name", Text, Some(60.0)),
            ("seats", SmallInt, Some(20.0)),
            ("draught", Double, None),
        ],
    );
    add(
        "fleet",
        "crew",
        900.0,
        &[("id", Integer, Some(900.0)), ("vessel_id", Integer, Some(60.0)), ("name", Text, None)],
    );
    add(
        "drop",
        "boardings",
        6_000_000.0,
        &[
            ("id", BigInt, Some(6_000_000.0)),
            ("route_id", Integer, Some(120.0)),
            ("sailing_id", Integer, Some(400_000.0)),
            ("holder_id", Integer, Some(200_000.0)),
            ("fare", numeric(8, 2), Some(900.0)),
            ("scanned_at", Timestamp, None),
            ("channel", Text, Some(4.0)),
        ],
    );
    add(
        "drop",
        "sailings",
        400_000.0,
        &[
            ("id", Integer, Some(400_000.0)),
            ("route_id", Integer, Some(120.0)),
            ("vessel_id", Integer, Some(60.0)),
            ("departed_at", TimestampTz, None),
        ],
    );
    add(
        "drop",
        "tariffs",
        720.0,
        &[("route_id", Integer, Some(120.0)), ("seat_class", Text, Some(3.0)), ("fare", numeric(8, 2), None)],
    );
    Ferry { tables, sources }
}

/// Its tables with their sources.
pub fn described() -> Vec<DescribedTable> {
    let Ferry { tables, sources } = ferry();
    let found = |table: Arc<Table>| DescribedTable { source: sources.of(&table).unwrap().clone(), table };
    tables.into_values().map(found).collect()
}

/// Binds the one query of the text.
pub fn bind(sql: &str) -> Result<BoundQuery> {
    let statements = parse_statements(sql)?;
    match statements.as_slice() {
        [only] => match &only.statement {
            Statement::Query(query) => bind_query(
                query,
                &BindContext {
                    catalog: &ferry(),
                    now: NOW,
                    parameters: Parameters::NONE,
                    functions: &KnownFunctions::new(),
                    zone: "UTC",
                    target: None,
                    session: SessionNames::NONE,
                    fold: &|_| None,
                },
            ),
            other => panic!("{other:?} is no query"),
        },
        other => panic!("{} statements", other.len()),
    }
}

/// The query planned, with these rewrites and offers off. Constants are not folded: that needs the engine.
pub fn plan_without(off: &str, sql: &str) -> PlanDocument {
    let mut settings = Settings::default();
    settings.set("planner.off", off).unwrap();
    let bound = bind(sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
    let (ferry, cancel) = (ferry(), CancellationToken::new());
    let planned = planner::plan(bound.plan, &ferry.sources, &settings, Goal::Here, &|_| None, &cancel);
    block_on(planned).unwrap_or_else(|e| panic!("{sql}: {e}")).document
}

pub fn plan(sql: &str) -> PlanDocument {
    plan_without("", sql)
}

#[derive(Debug)]
struct PaperSource {
    takes_all: bool,
}

#[derive(Debug, Clone)]
struct PaperDraft {
    table: ObjectName,
    takes_all: bool,
    /// Conditions that were taken, in order.
    taken: Vec<String>,
}

#[async_trait]
impl Source for PaperSource {
    fn reads_together(&self) -> bool {
        self.takes_all
    }

    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<Answer> {
        let begin =
            |scan: &Scan| Ok(PaperDraft { table: scan.table.name.clone(), takes_all: self.takes_all, taken: vec![] });
        answer(fragment, begin).await
    }
}

impl Draft for PaperDraft {
    async fn take(&mut self, piece: Asked<'_>) -> Verdict {
        let what = match piece {
            Asked::Filter(conjunct) if conjunct.is_volatile() => {
                return Verdict::kept(KeptReason::Volatile, "its value changes from row to row");
            }
            Asked::Filter(conjunct) => {
                self.taken.push(conjunct.to_string());
                return Verdict::pushed();
            }
            Asked::Project(columns) if columns.iter().all(|(_, e)| matches!(e, Expr::Column(_))) => {
                return Verdict::pushed();
            }
            Asked::Project(_) => "columns",
            Asked::Aggregate { .. } => "groups",
            Asked::Sort { .. } => "order",
            Asked::Limit { .. } => "limit",
            Asked::Window { .. } => return piece.kept(),
        };
        if !self.takes_all {
            return Verdict::kept(KeptReason::NoSuchAbility, "files do no such thing");
        }
        self.taken.push(what.to_owned());
        Verdict::pushed()
    }

    fn join(&mut self, right: &Self, join: &Join) -> Verdict {
        self.taken.extend(right.taken.iter().cloned());
        self.taken.push(join.kind.words().to_owned());
        Verdict::pushed()
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let spec = ScanSpec::new(("paper", "paper"), &self.table, 1, &self.taken)?;
        let request = Request { text: self.taken.join("; "), parameters: vec![] };
        Ok(Agreed::new(spec, request, columns.iter().map(|c| c.name.clone()).collect()))
    }
}
