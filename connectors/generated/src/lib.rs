//! Connector for tables that are made up while they are read: the ferry company's, at three sizes, with nothing stored.

mod numbers;
mod offer;
mod tables;

use std::sync::Arc;
use std::time::Instant;

use async_trait::async_trait;
use cobble_ferry::Ferry;
use cobble_plan::draft::answer;
use cobble_plan::expr::Column;
use cobble_plan::fragment::{Answer, Fragment};
use cobble_plan::logical::{Origin, Table, TableColumn, TableKind};
use cobble_plan::offer::{DescribedTable, Source, Sources, Verdict};
use cobble_plan::scan::{GateScan, ScanSpec};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{Code, Error, ObjectName, Result, SqlType, Value};

use self::tables::{Generated, TABLES};
use cobble_connect::{ConnectionDefinition, Kind, SettingDescription};
use cobble_connect::{Connector, TableEntry, TestStep};
use cobble_network::test_steps::reporter;

pub const KIND: Kind = Kind {
    kind: "generated",
    about: "made-up tables of a ferry company, small to large, with nothing stored",
    metadata_life: 0,
    connect: |definition| Ok(GeneratedConnector::new(definition)?),
    settings: &[
        SettingDescription {
            name: "seed",
            label: "Seed",
            help: "a whole number; the same one always gives the same rows",
            required: false,
            secret: false,
            default: Some("2025"),
        },
        SettingDescription {
            name: "region",
            label: "Region",
            help: "where the rows are made, for the cost of moving data",
            required: false,
            secret: false,
            default: None,
        },
    ],
};

/// Schemas in order of their names, with the scale of their tables.
const SCHEMAS: &[(&str, f64)] = &[("bay", 1.0), ("creek", 0.01), ("sea", 10.0)];

#[derive(Debug)]
pub struct GeneratedConnector {
    connection: String,
    region: Option<String>,
    seed: u64,
}

/// One table at one scale.
#[derive(Debug)]
pub struct Made {
    connection: String,
    region: Option<String>,
    schema: &'static str,
    table: &'static Generated,
    ferry: Ferry,
    rows: u64,
    columns: Vec<(String, SqlType)>,
}

impl GeneratedConnector {
    pub fn new(definition: &ConnectionDefinition) -> Result<Arc<Self>> {
        let seed = match definition.option("seed") {
            None => Ferry::new(1.0).seed,
            Some(text) => text.trim().parse().map_err(|_| {
                Error::new(Code::BadSetting, format!("connection {}: seed cannot be \"{text}\"", definition.name))
                    .hint("give a whole number that is not negative, such as 2025")
            })?,
        };
        Ok(Arc::new(GeneratedConnector {
            connection: definition.name.clone(),
            region: definition.region.clone(),
            seed,
        }))
    }

    fn made(&self, schema: &str, table: &str) -> Option<Made> {
        let (schema, scale) = SCHEMAS.iter().find(|(name, _)| *name == schema)?;
        let table = TABLES.iter().find(|t| t.name == table)?;
        let ferry = Ferry { seed: self.seed, scale: *scale };
        Some(Made {
            connection: self.connection.clone(),
            region: self.region.clone(),
            schema,
            table,
            ferry,
            rows: (table.count)(&ferry),
            columns: table.columns(),
        })
    }
}

#[async_trait]
impl Connector for GeneratedConnector {
    async fn schemas(&self) -> Result<Vec<String>> {
        Ok(SCHEMAS.iter().map(|(name, _)| (*name).to_owned()).collect())
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let known = SCHEMAS.iter().any(|(name, _)| *name == schema);
        let all = TABLES.iter().filter(|_| known);
        Ok(all.map(|t| TableEntry { name: t.name.to_owned(), kind: TableKind::Table }).collect())
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        Ok(self.made(schema, table).map(|made| described(ObjectName::new(catalog, schema, table), made)))
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        offer::scan(self, spec)
    }

    fn refresh(&self) {}

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        let mut step = reporter(report);
        let started = Instant::now();
        step("list", started, Ok(format!("{} tables in {} schemas", TABLES.len(), SCHEMAS.len())), "seed");
        let rows: u64 = TABLES.iter().map(|table| (table.count)(&Ferry { seed: self.seed, scale: 1.0 })).sum();
        step("read", started, Ok(format!("{rows} rows would be made for all tables of bay")), "seed");
    }
}

fn described(name: ObjectName, made: Made) -> DescribedTable {
    let numbered = made.table.numbered;
    let number = |rows: u64| match made.columns[0].1 {
        SqlType::BigInt => Value::BigInt(rows as i64),
        _ => Value::Integer(rows as i32),
    };
    let statistics = TableStatistics {
        rows: Some(made.rows as f64),
        bytes: None,
        columns: (0..made.columns.len())
            .map(|place| match place {
                0 if numbered => ColumnStatistics {
                    distinct: Some(made.rows as f64),
                    min: Some(number(1)),
                    max: Some(number(made.rows)),
                    null_fraction: Some(0.0),
                    ..ColumnStatistics::default()
                },
                _ => ColumnStatistics::default(),
            })
            .collect(),
        origin: Some("the generator".to_owned()),
        sample: None,
    };
    let columns = made
        .columns
        .iter()
        .enumerate()
        .map(|(place, (name, sql_type))| TableColumn {
            name: name.clone(),
            sql_type: sql_type.clone(),
            nullable: !(numbered && place == 0),
            partition: false,
            comment: None,
        })
        .collect();
    let primary_key = if numbered { vec![0] } else { vec![] };
    let origin = Origin::new(&made.connection, KIND.kind, made.region.as_deref());
    let table = Table { name, columns, statistics, primary_key, kind: TableKind::Table, origin };
    DescribedTable::new(table, GeneratedSource(Arc::new(made)))
}

#[derive(Debug)]
struct GeneratedSource(Arc<Made>);

#[async_trait]
impl Source for GeneratedSource {
    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<Answer> {
        answer(fragment, |scan| Ok(offer::GeneratedDraft::new(self.0.clone(), scan))).await
    }

    async fn takes_keys(&self, spec: &ScanSpec, place: usize, _: &Column, _: f64) -> Result<Verdict> {
        offer::takes_keys(&self.0, spec, place)
    }
}
