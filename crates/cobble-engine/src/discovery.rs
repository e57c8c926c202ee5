//! Tables that are found in a catalog's files, compared with those that it defines: what is new, what has changed, what is gone.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use cobble_connect::{DefinedColumn, Discovered, Forms, Looking, TableDefinition};
use cobble_exec::{fold_constant, start};
use cobble_optimize::{Goal, Settings, planner};
use cobble_plan::expr::Column;
use cobble_plan::logical::{LogicalPlan, Scan, TableColumn};
use cobble_plan::offer::{DescribedTable, Sources};
use cobble_types::{Code, ColumnId, Error, ObjectName, Result, SqlType, TextForm, array_value_text};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::catalogs::{CatalogDefinition, CatalogSet, Engine};
use crate::session::limits;

/// A difference between a catalog's definition and its files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Drift {
    /// `schema.table`.
    pub table: String,
    /// `new table`, `vanished table`, `new column`, `lost column`, `changed type`, `changed form`, `problem` or `failed`.
    pub change: String,
    pub detail: String,
}

/// A table that was found.
#[derive(Debug, Clone, PartialEq)]
pub struct FoundTable {
    /// `schema.table`: the name it is defined under, or that it would get.
    pub name: String,
    pub found: Discovered,
    /// What would be defined: as found, but for types of the present definition that hold what was found.
    pub definition: TableDefinition,
    /// `new`, `changed` or `same`.
    pub state: &'static str,
    /// When it was asked for.
    pub sample: Vec<SampleColumn>,
}

/// A column with values of the first rows.
#[derive(Debug, Clone, PartialEq)]
pub struct SampleColumn {
    pub name: String,
    pub sql_type: SqlType,
    pub values: Vec<Option<String>>,
}

/// Rows that a preview shows, of so many tables at most.
const SAMPLE_ROWS: u64 = 3;
const MOST_SAMPLES: usize = 100;

/// What a look into a catalog's files has found.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Look {
    pub tables: Vec<FoundTable>,
    pub drift: Vec<Drift>,
    /// Tables that are defined below the path and have no files any more.
    pub vanished: Vec<String>,
    /// Files that are no data that the engine reads.
    pub others: Vec<String>,
}

/// What of a look becomes the catalog's definition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Take {
    /// Tables that are new; what else there is to say is only said.
    New,
    /// Everything: tables that changed are changed, those that vanished go.
    All,
}

impl Engine {
    /// Looks through all files below a path. New tables get this schema, or one named for the folders that they are in.
    pub async fn discover(
        &self,
        catalog: &str,
        path: &str,
        schema: Option<&str>,
        form: &TextForm,
        looking: &Arc<Looking>,
    ) -> Result<Look> {
        let set = self.set();
        let connector = set.connector(catalog)?;
        let Some(definition) = set.catalogs.get(catalog) else {
            return Err(Error::internal(format!("the catalog {catalog} has no definition")));
        };
        let forms = Forms { said: form.clone(), known: definition.tables.values().cloned().collect() };
        let found = connector
            .discover(path, &forms, looking)
            .await
            .map_err(|e| Error { message: format!("catalog {catalog}: {}", e.message), ..e })?;
        Ok(compare(definition, path, schema, found.tables, found.others))
    }

    /// Reads the first rows of what was found, as it would be defined.
    pub async fn add_samples(&self, catalog: &str, look: &mut Look, looking: &Looking) -> Result<()> {
        let set = self.set();
        let connector = set.connector(catalog)?;
        for table in look.tables.iter_mut().filter(|table| table.found.problem.is_none()).take(MOST_SAMPLES) {
            looking.check()?;
            let (schema, name) = table.name.split_once('.').unwrap_or(("public", &table.name));
            let read = async {
                let found = connector.defined(&ObjectName::new(catalog, schema, name), &table.definition).await?;
                self.first_rows(&set, found, &looking.cancel).await
            };
            match read.await {
                Ok(sample) => table.sample = sample,
                // What shows in the first rows already is worth knowing before it is defined.
                Err(error) if error.code != Code::Cancelled => table.found.problem = Some(error.message),
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Each column with its values in the first rows.
    async fn first_rows(
        &self,
        set: &CatalogSet,
        found: DescribedTable,
        cancel: &CancellationToken,
    ) -> Result<Vec<SampleColumn>> {
        let (mut sources, table) = (Sources::default(), found.table.clone());
        sources.add(&found);
        let place = |(place, own): (usize, &TableColumn)| {
            let (id, name) = (ColumnId(place as u32 + 1), own.name.clone());
            (Column { id, qualifier: None, name, sql_type: own.sql_type.clone() }, place)
        };
        let columns: Vec<(Column, usize)> = table.columns.iter().enumerate().map(place).collect();
        let mut sample: Vec<SampleColumn> = columns
            .iter()
            .map(|(c, _)| SampleColumn { name: c.name.clone(), sql_type: c.sql_type.clone(), values: vec![] })
            .collect();
        let scan = LogicalPlan::Scan(Scan { table, columns });
        let limited = LogicalPlan::Limit { input: scan.into(), limit: Some(SAMPLE_ROWS), offset: 0 };
        // In the order of the files, one after another.
        let mut settings = Settings::default();
        settings.set("run.tasks", "1")?;
        let plan = planner::plan(limited, &sources, &settings, Goal::Here, &fold_constant, cancel).await?;
        let mut running =
            start(&plan, set, vec![], &limits(&settings, Duration::ZERO), &self.pool, cancel.child_token())?;
        while let Some(batch) = running.next().await? {
            for row in 0..batch.num_rows() {
                for (column, array) in sample.iter_mut().zip(batch.columns()) {
                    column.values.push(array_value_text(array.as_ref(), row));
                }
            }
        }
        Ok(sample)
    }
}

impl Look {
    /// The catalog with what is taken of this.
    pub fn taken(&self, catalog: &CatalogDefinition, take: Take) -> CatalogDefinition {
        let mut next = catalog.clone();
        for table in self.tables.iter().filter(|table| table.found.problem.is_none()) {
            if take == Take::All || table.state == "new" {
                next.tables.insert(table.name.clone(), table.definition.clone());
            }
        }
        if take == Take::All {
            self.vanished.iter().for_each(|name| drop(next.tables.remove(name)));
        }
        next
    }
}

fn is_below(path: &str, folder: &str) -> bool {
    let folder = folder.trim_matches('/');
    folder.is_empty() || path == folder || path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

fn compare(
    catalog: &CatalogDefinition,
    path: &str,
    schema: Option<&str>,
    found: Vec<Discovered>,
    others: Vec<String>,
) -> Look {
    let mut look = Look { others, ..Look::default() };
    let mut left: BTreeMap<&String, &TableDefinition> = catalog
        .tables
        .iter()
        .filter(|(_, known)| known.path.as_ref().is_some_and(|known| is_below(known, path)))
        .collect();
    for mut found in found {
        if let Some(schema) = schema {
            found.schema = schema.to_owned();
        }
        let plain = format!("{}.{}", found.schema, found.table);
        let same_place = |known: &TableDefinition| {
            known.path == found.definition.path
                && (known.format.is_none() || known.format == found.definition.format)
                && (known.files == found.definition.files || known.files.is_none() != found.definition.files.is_none())
        };
        let by_place = left.iter().find(|(_, known)| same_place(known)).map(|(name, _)| (*name).clone());
        let name = by_place.unwrap_or_else(|| {
            // A name that something else has by now is not taken over.
            let free = |name: &String| left.contains_key(name) || !catalog.tables.contains_key(name);
            let numbered = (2..).map(|n| format!("{plain}_{n}"));
            std::iter::once(plain.clone()).chain(numbered).find(free).unwrap_or(plain)
        });
        let drift = |change: &str, detail: String| Drift { table: name.clone(), change: change.into(), detail };
        let before = look.drift.len();
        let (definition, is_new) = match left.remove(&name) {
            None => {
                look.drift.push(drift("new table", words(&found)));
                (found.definition.clone(), true)
            }
            Some(known) => (merged(known, &found, &mut |change, detail| look.drift.push(drift(change, detail))), false),
        };
        if let Some(problem) = &found.problem {
            look.drift.push(drift("problem", problem.clone()));
        }
        let state = match (is_new, look.drift.len() > before) {
            (true, _) => "new",
            (_, true) => "changed",
            _ => "same",
        };
        look.tables.push(FoundTable { name, found, definition, state, sample: vec![] });
    }
    for (name, known) in left {
        let place = [known.path.as_deref(), known.files.as_deref()].map(Option::unwrap_or_default);
        let place: Vec<&str> = place.into_iter().filter(|part| !part.is_empty()).collect();
        let detail = format!("there is no data file at {} any more", place.join("/"));
        look.drift.push(Drift { table: name.clone(), change: "vanished table".into(), detail });
        look.vanished.push(name.clone());
    }
    look
}

fn words(found: &Discovered) -> String {
    let format = found.definition.format.as_deref().unwrap_or_default();
    let columns = found.definition.columns.len() + found.partitions.len();
    let plural = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
    format!("{format}, {}, {}", plural(found.files, "file"), plural(columns, "column"))
}

/// The definition as it should be, and how that differs.
fn merged(known: &TableDefinition, found: &Discovered, say: &mut dyn FnMut(&str, String)) -> TableDefinition {
    let mut next = known.clone();
    // Without columns of its own it takes those of the files at each use.
    if !known.columns.is_empty() {
        let is_text = matches!(found.definition.format.as_deref(), Some("csv" | "json"));
        let of_folder = |name: &str| found.partitions.iter().any(|column| column.name == name);
        next.columns.retain(|column| {
            let there = of_folder(&column.name) || found.definition.columns.iter().any(|c| c.name == column.name);
            if !there {
                say("lost column", format!("{column} is in no file any more"));
            }
            there
        });
        for column in &found.definition.columns {
            match next.columns.iter_mut().find(|known| known.name == column.name) {
                None => {
                    say("new column", column.to_string());
                    next.columns.push(column.clone());
                }
                Some(known) if !holds(&known.sql_type, &column.sql_type, is_text) => {
                    say("changed type", format!("{known} holds {} by now", column.sql_type));
                    *known = DefinedColumn { name: known.name.clone(), sql_type: column.sql_type.clone() };
                }
                Some(_) => {}
            }
        }
    }
    if known.delimiter.is_some() && known.text_form() != found.definition.text_form() {
        say("changed form", format!("{} → {}", form_words(known), form_words(&found.definition)));
        next = next.with_text_form(found.definition.text_form());
    }
    next.files = if next.files.is_none() { None } else { found.definition.files.clone().or(next.files) };
    next
}

/// How the texts of a table are written.
fn form_words(d: &TableDefinition) -> String {
    let mut words = vec![format!("delimiter {}", d.delimiter.as_deref().unwrap_or(",").escape_debug())];
    let others = [
        ("quote", &d.quote),
        ("escape", &d.escape),
        ("comment", &d.comment),
        ("encoding", &d.encoding),
        ("decimal", &d.decimal),
        ("thousands", &d.thousands),
        ("dates", &d.dates),
        ("nulls", &d.nulls),
    ];
    words.extend(others.iter().filter_map(|(name, value)| Some(format!("{name} {}", value.as_ref()?.escape_debug()))));
    words.push(if d.header == Some(false) { "no header" } else { "a header" }.to_owned());
    words.join(", ")
}

/// Whether a column of the first type takes the values that were found to be of the second. What texts are guessed to be is no more than
/// a guess, and a narrower type that somebody has chosen stays.
fn holds(known: &SqlType, found: &SqlType, is_text: bool) -> bool {
    use SqlType::*;
    if known == found {
        return true;
    }
    if !is_text {
        return match (known, found) {
            (Timestamp, Date) | (Double, Real | SmallInt | Integer) | (Real, SmallInt) => true,
            _ => known
                .digits()
                .zip(found.digits())
                .is_some_and(|((p, s), (q, t))| s >= t && i16::from(p) - i16::from(s) >= i16::from(q) - i16::from(t)),
        };
    }
    match (known, found) {
        (Text | Json, _) => true,
        (known, BigInt) => known.is_number(),
        (Numeric { scale, .. }, Numeric { scale: other, .. }) => scale >= other,
        (known, Numeric { .. } | Double) => known.is_float(),
        (Timestamp | TimestampTz, Date | Timestamp) => true,
        // No guess finds these.
        (Time | Interval | Uuid | Bytea, Text) => true,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(table: &str, path: &str, columns: &[&str]) -> Discovered {
        Discovered {
            schema: "public".into(),
            table: table.into(),
            definition: TableDefinition {
                path: Some(path.into()),
                format: Some("csv".into()),
                delimiter: Some(",".into()),
                header: Some(true),
                columns: columns.iter().map(|column| column.parse().unwrap()).collect(),
                ..Default::default()
            },
            partitions: vec!["month text".parse().unwrap()],
            files: 2,
            bytes: 10,
            notes: vec![],
            problem: None,
        }
    }

    #[test]
    fn drift_is_what_the_definition_does_not_hold() {
        let mut catalog = CatalogDefinition::new("drop", "drop_files");
        let first = vec![
            found("fares", "drop/fares", &["id bigint", "paid numeric(18,2)", "note text"]),
            found("ports", "drop/ports", &["id bigint"]),
            found("gone", "drop/gone", &["id bigint"]),
        ];
        let look = compare(&catalog, "", None, first, vec![]);
        catalog = look.taken(&catalog, Take::All);
        assert_eq!(catalog.tables.len(), 3);
        // Somebody chooses other types, and another name.
        let fares = catalog.tables.remove("public.fares").unwrap();
        catalog.tables.insert("money.fares".into(), fares);
        catalog.tables.get_mut("money.fares").unwrap().columns[0] = "id integer".parse().unwrap();
        let mut other = found("fares", "drop/fares", &["id bigint", "paid text", "at date"]);
        other.definition.delimiter = Some(";".into());
        let second =
            vec![other, found("ports", "drop/ports", &["id bigint"]), found("new", "drop/new", &["id bigint"])];
        let look = compare(&catalog, "drop", None, second.clone(), vec![]);
        let drift: Vec<String> = look.drift.iter().map(|d| format!("{} {}: {}", d.table, d.change, d.detail)).collect();
        assert_eq!(
            drift,
            [
                "money.fares lost column: note text is in no file any more",
                "money.fares changed type: paid numeric(18,2) holds text by now",
                "money.fares new column: at date",
                "money.fares changed form: delimiter ,, a header → delimiter ;, a header",
                "public.new new table: csv, 2 files, 2 columns",
                "public.gone vanished table: there is no data file at drop/gone any more",
            ]
        );
        assert_eq!(look.taken(&catalog, Take::New).tables.len(), 4);
        catalog = look.taken(&catalog, Take::All);
        assert_eq!(catalog.tables["money.fares"].columns[0].to_string(), "id integer");
        assert_eq!(compare(&catalog, "drop", None, second, vec![]).drift, []);
        // What lies elsewhere is not missed.
        assert_eq!(compare(&catalog, "other", None, vec![], vec![]).drift, []);
    }
}
