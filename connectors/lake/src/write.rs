//! Adding rows to a table, and making, emptying and dropping tables.

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch, new_null_array};
use arrow::compute::cast;
use async_trait::async_trait;
use cobble_connect::TableChange;
use cobble_lake::alter::altered;
use cobble_lake::catalog::TableName;
use cobble_lake::commit::{MAIN, now};
use cobble_lake::create::{NewTableColumn, new_table};
use cobble_lake::schema::{Field, Schema};
use cobble_lake::table::LakeTable;
use cobble_plan::alter::Alteration;
use cobble_plan::scan::{ScanMemory, ScanTools, Unbounded};
use cobble_plan::sink::{NewRows, Outcome, Prepared, TableWriter};
use cobble_types::{Code, Error, Result};

use super::change::LakeChanger;
use super::new_files::{NewFiles, no_null};
use super::returned::Returned;
use super::{Lake, apart};

pub struct LakeWriter {
    lake: Arc<Lake>,
    table: LakeTable,
    name: (String, String),
    rows: WholeRows,
    files: NewFiles,
    returned: Option<Returned>,
    outcome: Outcome,
    is_shown: bool,
}

/// Brings rows into the form of a table's: all its columns, in their order.
pub struct WholeRows {
    /// Of each of the table's columns its place in the batches that come.
    places: Vec<Option<usize>>,
    schema: Schema,
}

impl WholeRows {
    /// `columns` are those that come.
    ///
    /// # Errors
    /// When one is missing that takes no nulls.
    pub fn new(schema: &Schema, columns: &[(String, cobble_types::SqlType)]) -> Result<WholeRows> {
        let place = |field: &Field| columns.iter().position(|(name, _)| *name == field.name.to_lowercase());
        let places: Vec<Option<usize>> = schema.fields.iter().map(place).collect();
        match schema.fields.iter().zip(&places).find(|(field, place)| field.required && place.is_none()) {
            Some((field, _)) => Err(no_null(&field.name)),
            None => Ok(WholeRows { places, schema: schema.clone() }),
        }
    }

    pub fn columns(&self, columns: &[ArrayRef], rows: usize) -> Result<Vec<ArrayRef>> {
        let one = |(field, place): (&Field, &Option<usize>)| {
            let own_type = field.kind.sql_type().to_arrow();
            match place {
                // A smallint, which the table format does not have, is an integer from here on.
                Some(place) => Ok(cast(&columns[*place], &own_type)?),
                None => Ok(new_null_array(&own_type, rows)),
            }
        };
        self.schema.fields.iter().zip(&self.places).map(one).collect()
    }
}

fn setting(lake: &Lake, what: String, hint: &str) -> Error {
    Error::new(Code::BadSetting, format!("connection {}: {what}", lake.connection)).hint(hint)
}

impl Lake {
    pub fn checked_to_write(&self) -> Result<()> {
        match self.writable {
            true => Ok(()),
            false => {
                Err(Error::new(Code::Unsupported, format!("connection {} does not allow writing", self.connection))
                    .hint("set writable = true for the connection of kind lake"))
            }
        }
    }

    /// The metadata of a table that is to be made.
    fn fresh(&self, wanted: &NewRows) -> Result<LakeTable> {
        if self.open(&wanted.schema, &wanted.table)?.is_some() {
            let what = format!("connection {}: there is a table {} already", self.connection, wanted.table);
            return Err(Error::new(Code::AlreadyExists, what).hint("INSERT INTO adds rows to it"));
        }
        if !wanted.primary_key.is_empty() {
            let what = "tables of a lake keep no PRIMARY KEY".to_owned();
            return Err(setting(self, what, "leave it out"));
        }
        let (mut partition_by, mut order_by, mut properties) = ("", "", BTreeMap::new());
        for (name, value) in &wanted.options {
            match name.as_str() {
                "partition_by" => partition_by = value,
                "order_by" => order_by = value,
                "format" if value.eq_ignore_ascii_case("parquet") => {}
                own if own.contains('.') => drop(properties.insert(own.to_owned(), value.clone())),
                other => {
                    let what = format!("WITH takes no {other}");
                    return Err(setting(
                        self,
                        what,
                        "it takes partition_by, order_by, and properties whose names have points in them",
                    ));
                }
            }
        }
        let column = |(name, sql_type): &(String, cobble_types::SqlType)| NewTableColumn {
            name: name.clone(),
            sql_type: sql_type.clone(),
            required: wanted.not_null.contains(name),
        };
        let columns: Vec<NewTableColumn> = wanted.columns.iter().map(column).collect();
        let make = |location: &str| {
            let document = new_table(&columns, (partition_by, order_by), &properties, location, now());
            document.map_err(|what| setting(self, what, "look at the columns and at PARTITION BY"))
        };
        let (catalog, name) = (self.catalog()?, TableName::new(&wanted.schema, &wanted.table));
        LakeTable::open(&self.shared()?, name.clone(), catalog.begin(&name, None, &make)?, true)
    }

    pub fn writer(self: &Arc<Self>, wanted: NewRows) -> Result<Box<dyn TableWriter>> {
        self.checked_to_write()?;
        let table = match wanted.create {
            true => self.fresh(&wanted)?,
            false => self
                .open(&wanted.schema, &wanted.table)?
                .ok_or_else(|| Error::new(Code::UnknownTable, format!("there is no table {}", wanted.table)))?,
        };
        table.is_ours()?;
        if let Some(replacing) = &wanted.replacing {
            return Ok(Box::new(LakeChanger::new(self, table, &wanted, replacing)?));
        }
        let (mut files, returned) = (NewFiles::of_rows(self, &table)?, Returned::of(&self.connection, &wanted));
        // The plan has put the rows in order.
        files.order = (!table.metadata.order.is_empty()).then_some(table.metadata.order_id);
        Ok(Box::new(LakeWriter {
            lake: self.clone(),
            rows: WholeRows::new(&files.schema, &wanted.columns)?,
            name: (wanted.schema, wanted.table),
            table,
            files,
            returned,
            outcome: Outcome::default(),
            is_shown: false,
        }))
    }

    /// The table as it is now, for a change that others may have come before.
    pub fn opened_again(&self, schema: &str, table: &str) -> Result<LakeTable> {
        self.open(schema, table)?.ok_or_else(|| {
            Error::new(Code::UnknownTable, format!("the table {table} was dropped while it was being changed"))
        })
    }

    pub fn alter_table(&self, schema: &str, table: &str, changes: &[Alteration]) -> Result<()> {
        self.checked_to_write()?;
        let make = |open: &LakeTable, json: serde_json::Value| {
            open.is_ours()?;
            altered(json, &open.metadata, changes).map_err(|what| {
                Error::new(Code::Unsupported, format!("connection {}: {schema}.{table}: {what}", self.connection))
            })
        };
        LakeTable::change_metadata(&make, &|| self.opened_again(schema, table))
    }

    pub fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        self.checked_to_write()?;
        let open = self.open(schema, table)?;
        let open = open.ok_or_else(|| Error::new(Code::UnknownTable, format!("there is no table {schema}.{table}")))?;
        open.is_ours()?;
        if change == TableChange::Truncate {
            return open.empty(&|| self.opened_again(schema, table)).map(drop);
        }
        if open.branch != MAIN {
            let what = format!("{table} is a branch or tag of a table");
            return Err(Error::new(Code::Unsupported, what).hint("CALL lake_drop_ref() drops it"));
        }
        open.catalog.drop_table(&open)
    }
}

impl LakeWriter {
    fn publish(mut self) -> Result<()> {
        if self.files.done.is_empty() {
            self.is_shown = true;
            return if self.table.is_fresh { self.table.make() } else { Ok(()) };
        }
        let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
        let (lake, (schema, table)) = (self.lake.clone(), self.name.clone());
        let fresh = self.table.is_fresh.then(|| self.table.clone());
        let again = || match &fresh {
            Some(fresh) => Ok(fresh.clone()),
            None => lake.opened_again(&schema, &table),
        };
        let done = self.table.append(self.files.spec.id, &self.files.done, &memory, &again);
        self.is_shown = done.is_ok() || done.as_ref().is_err_and(|error| error.code == Code::InDoubt);
        done.map(drop)
    }
}

impl Drop for LakeWriter {
    fn drop(&mut self) {
        if !self.is_shown {
            self.files.remove();
        }
    }
}

impl TableWriter for LakeWriter {
    fn begin(&mut self, tools: ScanTools) {
        self.files.use_memory(tools.memory);
    }

    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self.outcome.rows += batch.num_rows() as u64;
        if let Some(returned) = &mut self.returned {
            returned.push(batch.columns(), batch.num_rows())?;
        }
        let columns = self.rows.columns(batch.columns(), batch.num_rows())?;
        self.files.write(columns, batch.num_rows())
    }

    fn prepare(mut self: Box<Self>) -> Result<Box<dyn Prepared>> {
        self.files.finish()?;
        if let Some(returned) = self.returned.take() {
            returned.put_into(&mut self.outcome);
        }
        self.outcome.files = self.files.done.len() as u64;
        self.outcome.bytes = self.files.bytes();
        Ok(self)
    }
}

#[async_trait]
impl Prepared for LakeWriter {
    fn outcome(&mut self) -> Outcome {
        std::mem::take(&mut self.outcome)
    }

    async fn commit(self: Box<Self>) -> Result<()> {
        apart(move || self.publish()).await
    }
}
