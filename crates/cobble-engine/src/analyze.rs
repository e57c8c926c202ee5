//! `ANALYZE table`: reads the table once and keeps what the estimator wants to know of each column: rows, nulls, distinct
//! values by sketch, least and greatest, the most common values and a histogram of the rest from a random sample. What is
//! collected takes the place of what the source itself keeps.

use std::collections::BTreeMap;
use std::sync::{Arc, PoisonError};

use arrow::array::{Array, AsArray, RecordBatch};
use arrow::datatypes::Int64Type;
use chrono::{DateTime, Utc};
use cobble_plan::logical::{Table, TableColumn};
use cobble_plan::offer::DescribedTable;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics, distribution};
use cobble_types::{Error, ObjectName, Result, SqlType, Value, quote_identifier};
use serde::{Deserialize, Serialize};

use crate::catalogs::{Asker, CatalogSet, Engine};
use crate::memory_table::{MemoryTable, text_rows};

/// Values of each column that the histogram is made of, about.
const SAMPLE: f64 = 20_000.0;

/// What an ANALYZE has found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CollectedStatistics {
    pub table: ObjectName,
    /// The user with whose own credentials it was read, and who alone may know.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    pub collected_at: DateTime<Utc>,
    pub rows: f64,
    pub columns: BTreeMap<String, ColumnStatistics>,
}

impl CollectedStatistics {
    /// The table with these statistics. The source's own number of rows is kept, being of now.
    pub fn over(&self, table: &Table) -> Table {
        let known = |column: &TableColumn| self.columns.get(&column.name).cloned();
        let rows = table.statistics.rows.unwrap_or(self.rows);
        let columns = table.columns.iter().enumerate().map(|(place, column)| {
            let own = table.statistics.columns.get(place).cloned().unwrap_or_default();
            let Some(mut found) = known(column) else { return own };
            // Distinct values of a table that has grown since grow with it only if nearly all were distinct.
            if let Some(distinct) = found.distinct
                && distinct > 0.9 * self.rows
                && self.rows > 0.0
            {
                found.distinct = Some(distinct / self.rows * rows);
            }
            found.width = found.width.or(own.width);
            found
        });
        let statistics = TableStatistics {
            rows: Some(rows),
            bytes: table.statistics.bytes,
            columns: columns.collect(),
            origin: Some(format!("ANALYZE of {}", self.collected_at.format("%Y-%m-%d %H:%M UTC"))),
            sample: None,
        };
        Table { statistics, ..table.clone() }
    }

    /// One row for each column.
    pub fn rows(&self) -> Vec<Vec<Option<String>>> {
        let value = |v: &Option<Value>| v.as_ref().map(Value::to_string);
        self.columns
            .iter()
            .map(|(name, c)| {
                let common: Vec<String> =
                    c.most_common.iter().take(5).map(|(v, share)| format!("{} ({:.1} %)", v, share * 100.0)).collect();
                vec![
                    Some(name.clone()),
                    c.null_fraction.map(|share| format!("{:.1} %", share * 100.0)),
                    c.distinct.map(|d| format!("{d:.0}")),
                    value(&c.min),
                    value(&c.max),
                    (!common.is_empty()).then(|| common.join(", ")),
                    (!c.histogram.is_empty()).then(|| format!("{} steps", c.histogram.len() - 1)),
                ]
            })
            .collect()
    }
}

/// The columns of an ANALYZE's answer.
pub const ANSWER: [&str; 7] = ["column", "nulls", "distinct", "least", "greatest", "most common", "histogram"];

/// An ANALYZE under way.
pub struct Analysis {
    engine: Arc<Engine>,
    table: Arc<Table>,
    owner: Option<String>,
}

impl std::fmt::Debug for Analysis {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Analysis({})", self.table.name)
    }
}

/// Columns whose values can be compared, and so have a distribution.
fn is_analysed(column: &TableColumn) -> bool {
    column.sql_type.is_ordered()
        && !matches!(column.sql_type, SqlType::Array(_) | SqlType::Interval | SqlType::Uuid | SqlType::Bytea)
}

impl Analysis {
    /// Of a table that is everybody's, or its owner's.
    pub fn new(engine: Arc<Engine>, table: Arc<Table>, owner: Option<String>) -> Self {
        Analysis { engine, table, owner }
    }

    /// The one query that finds everything.
    pub fn query(&self) -> String {
        let share = self.table.statistics.rows.map_or(1.0, |rows| SAMPLE / rows.max(1.0));
        let some = if share < 1.0 { format!(" AND random() < {share:.9}") } else { String::new() };
        let mut items = vec!["count(*)".to_owned()];
        for column in &self.table.columns {
            let name = quote_identifier(&column.name);
            items.push(format!("count({name})"));
            if is_analysed(column) {
                items.push(format!("approx_count_distinct({name})"));
                let ends = if column.sql_type == SqlType::Boolean { ["bool_and", "bool_or"] } else { ["min", "max"] };
                items.extend(ends.map(|end| format!("{end}({name})")));
                items.push(format!("array_agg({name}) FILTER (WHERE {name} IS NOT NULL{some})"));
            }
        }
        let ObjectName { catalog, schema, table } = &self.table.name;
        let from = [catalog, schema, table].map(|part| quote_identifier(part)).join(".");
        format!("SELECT {} FROM {from}", items.join(", "))
    }

    /// Keeps what the query has found, and says it.
    pub async fn finish(&self, batches: &[RecordBatch]) -> Result<MemoryTable> {
        let batch = batches.iter().find(|b| b.num_rows() == 1);
        let batch = batch.ok_or_else(|| Error::internal("ANALYZE found no row of totals"))?;
        let mut cells = batch.columns().iter();
        let mut next = || cells.next().ok_or_else(|| Error::internal("ANALYZE found too few totals"));
        let number = |array: &dyn Array| array.as_primitive::<Int64Type>().value(0) as f64;
        let rows = number(next()?);
        let mut columns = BTreeMap::new();
        for column in &self.table.columns {
            let present = number(next()?);
            let null_fraction = Some(if rows > 0.0 { 1.0 - present / rows } else { 0.0 });
            let mut found = ColumnStatistics { null_fraction, ..ColumnStatistics::default() };
            if is_analysed(column) {
                found.distinct = Some(number(next()?).min(present));
                found.min = Value::from_array(next()?.as_ref(), 0).filter(|v| !v.is_null());
                found.max = Value::from_array(next()?.as_ref(), 0).filter(|v| !v.is_null());
                let sample = next()?;
                if sample.is_valid(0) {
                    let values = sample.as_list::<i32>().value(0);
                    let values = (0..values.len()).filter_map(|row| Value::from_array(values.as_ref(), row)).collect();
                    let share = if rows > 0.0 { present / rows } else { 0.0 };
                    (found.most_common, found.histogram) = distribution(values, found.distinct, share);
                }
            }
            columns.insert(column.name.clone(), found);
        }
        let (table, owner) = (self.table.name.clone(), self.owner.clone());
        let collected = Arc::new(CollectedStatistics { table, owner, collected_at: Utc::now(), rows, columns });
        if let Some(state) = self.engine.state() {
            state.keep_statistics(collected.clone()).await?;
        }
        self.engine.take_statistics(collected.clone());
        Ok(text_rows(&ANSWER, &collected.rows()))
    }
}

impl Engine {
    /// Takes in what an ANALYZE has found, now or before a restart.
    pub fn take_statistics(&self, collected: Arc<CollectedStatistics>) {
        let mut all = self.statistics.write().unwrap_or_else(PoisonError::into_inner);
        all.insert((collected.owner.clone(), collected.table.clone()), collected);
    }

    /// What has been collected that somebody may know, by table: that of all, and their own.
    pub fn collected_statistics(&self, asker: &Asker) -> Vec<Arc<CollectedStatistics>> {
        let all = self.statistics.read().unwrap_or_else(PoisonError::into_inner);
        let known = all.values().filter(|one| one.owner.is_none() || one.owner == asker.name);
        known.cloned().collect()
    }

    /// A table as its source describes it, with what has been collected of it.
    pub(crate) fn with_statistics(&self, set: &CatalogSet, found: DescribedTable) -> DescribedTable {
        let key = (set.owner(&found.table.name.catalog).map(str::to_owned), found.table.name.clone());
        let known = self.statistics.read().unwrap_or_else(PoisonError::into_inner).get(&key).cloned();
        match known {
            Some(collected) => DescribedTable { table: Arc::new(collected.over(&found.table)), ..found },
            None => found,
        }
    }

    pub(crate) fn forget_statistics(&self, catalog: &str) {
        let mut all = self.statistics.write().unwrap_or_else(PoisonError::into_inner);
        all.retain(|(_, table), _| table.catalog != catalog);
    }
}
