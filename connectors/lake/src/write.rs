//! Writing rows into a table: files of Parquet, sorted into the table's partitions, which no one sees before a snapshot names them.

use std::collections::{BTreeMap, HashMap};
use std::io::Read;
use std::io::Seek;
use std::sync::Arc;

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch, RecordBatchOptions, UInt32Array, new_null_array};
use arrow::compute::{cast, take};
use arrow::datatypes::{DataType, Float32Type, Float64Type, Schema as ArrowSchema, SchemaRef};
use async_trait::async_trait;
use cobble_connect::TableChange;
use cobble_format::FileWriter;
use cobble_format::parquet::measures::{Bound, ColumnMeasures, measures};
use cobble_lake::bounds;
use cobble_lake::commit::now;
use cobble_lake::create::{NewTableColumn, new_table, new_uuid};
use cobble_lake::manifest_out::{NewColumn, NewFile};
use cobble_lake::metadata::Spec;
use cobble_lake::schema::{Field, Kind, Schema};
use cobble_lake::table::LakeTable;
use cobble_lake::transform::after;
use cobble_plan::scan::{ScanMemory, Unbounded};
use cobble_plan::sink::{NewRows, Outcome, Prepared, TableWriter};
use cobble_storage::Condition;
use cobble_types::{Code, Error, Result, Value};

use super::file_form::{file_field, to_file};
use super::partitions::partitioned;
use super::{Lake, apart};

/// Bytes after which a file ends, unless the table's property says otherwise.
const FILE_BYTES: usize = 128 << 20;
const FILE_BYTES_PROPERTY: &str = "write.target-file-size-bytes";
/// Bytes of rows that all files of a statement hold before the largest of them writes them out.
const HELD: usize = 128 << 20;
/// Files of one statement that are open at the same time; of more partitions the one that was written longest ago is ended.
const MOST_OPEN: usize = 500;
/// Signs of a text, and bytes, that a bound has.
const BOUND: usize = 16;

struct Open {
    partition: Vec<Value>,
    writer: Box<dyn FileWriter>,
    /// Of each column of floating-point numbers how many are none.
    nans: HashMap<i32, u64>,
    /// Bytes of rows that it holds.
    held: usize,
    /// The number of the last batch that was written into it.
    last: u64,
}

pub struct LakeWriter {
    lake: Arc<Lake>,
    table: LakeTable,
    name: (String, String),
    schema: Schema,
    spec: Spec,
    /// Of each of the table's columns its place in the batches that come.
    places: Vec<Option<usize>>,
    form: SchemaRef,
    file_bytes: usize,
    open: HashMap<String, Open>,
    /// Bytes of rows that all of them hold.
    held: usize,
    /// Batches that were written.
    batches: u64,
    done: Vec<NewFile>,
    outcome: Outcome,
    is_shown: bool,
}

fn setting(lake: &Lake, what: String, hint: &str) -> Error {
    Error::new(Code::BadSetting, format!("connection {}: {what}", lake.connection)).hint(hint)
}

/// Whether a name can be that of a folder of a table.
fn is_plain(name: &str) -> bool {
    let part = |c: char| matches!(c, '/' | '\\') || c.is_control();
    (1..=200).contains(&name.len()) && !name.starts_with(['.', '_']) && !name.contains(part)
}

impl Lake {
    fn checked_to_write(&self) -> Result<()> {
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
        if let Some(name) = [&wanted.schema, &wanted.table].into_iter().find(|name| !is_plain(name)) {
            let what = format!("\"{}\" cannot be the name of a folder", name.escape_debug());
            return Err(setting(self, what, "choose a plain name"));
        }
        if self.open(&wanted.schema, &wanted.table)?.is_some() {
            let what = format!("connection {}: there is a table {} already", self.connection, wanted.table);
            return Err(Error::new(Code::AlreadyExists, what).hint("INSERT INTO adds rows to it"));
        }
        if !wanted.primary_key.is_empty() {
            let what = "tables of a lake keep no PRIMARY KEY".to_owned();
            return Err(setting(self, what, "leave it out"));
        }
        let (mut partition_by, mut properties) = ("", BTreeMap::new());
        for (name, value) in &wanted.options {
            match name.as_str() {
                "partition_by" => partition_by = value,
                "format" if value.eq_ignore_ascii_case("parquet") => {}
                own if own.contains('.') => drop(properties.insert(own.to_owned(), value.clone())),
                other => {
                    let what = format!("WITH takes no {other}");
                    return Err(setting(
                        self,
                        what,
                        "it takes partition_by, and properties whose names have points in them",
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
        let (storage, home) = (self.storage()?, self.home(&wanted.schema, &wanted.table));
        let location = storage.location_of(&home)?;
        let document = new_table(&columns, partition_by, &properties, &location, now());
        let document = document.map_err(|what| setting(self, what, "look at the columns and at PARTITION BY"))?;
        LakeTable::fresh(&self.connection, storage, home, document)
    }

    pub fn writer(self: &Arc<Self>, wanted: NewRows) -> Result<LakeWriter> {
        self.checked_to_write()?;
        let table = match wanted.create {
            true => self.fresh(&wanted)?,
            false => self
                .open(&wanted.schema, &wanted.table)?
                .ok_or_else(|| Error::new(Code::UnknownTable, format!("there is no table {}", wanted.table)))?,
        };
        table.is_ours()?;
        if wanted.returned.is_some() {
            return Err(Error::new(
                Code::Unsupported,
                format!("connection {} does not return added rows", self.connection),
            ));
        }
        let wrong = |what: String| self.file_error(&table.file, what);
        let schema = table.metadata.schema(table.metadata.schema_id).map_err(wrong)?.clone();
        let spec = table.metadata.spec(table.metadata.spec_id).map_err(wrong)?.clone();
        let place = |field: &Field| wanted.columns.iter().position(|(name, _)| *name == field.name.to_lowercase());
        let places: Vec<Option<usize>> = schema.fields.iter().map(place).collect();
        let missing = schema.fields.iter().zip(&places).find(|(field, place)| field.required && place.is_none());
        if let Some((field, _)) = missing {
            return Err(no_null(&field.name));
        }
        let form: SchemaRef = Arc::new(ArrowSchema::new(schema.fields.iter().map(file_field).collect::<Vec<_>>()));
        let file_bytes = table.metadata.properties.get(FILE_BYTES_PROPERTY).and_then(|text| text.parse().ok());
        Ok(LakeWriter {
            lake: self.clone(),
            name: (wanted.schema, wanted.table),
            table,
            schema,
            spec,
            places,
            form,
            file_bytes: file_bytes.unwrap_or(FILE_BYTES).clamp(1 << 10, 4 * FILE_BYTES),
            open: HashMap::new(),
            held: 0,
            batches: 0,
            done: vec![],
            outcome: Outcome::default(),
            is_shown: false,
        })
    }

    /// The table as it is now, for a change that others may have come before.
    fn opened_again(&self, schema: &str, table: &str) -> Result<LakeTable> {
        self.open(schema, table)?.ok_or_else(|| {
            Error::new(Code::UnknownTable, format!("the table {table} was dropped while it was being changed"))
        })
    }

    pub fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        self.checked_to_write()?;
        let open = self.open(schema, table)?;
        let open = open.ok_or_else(|| Error::new(Code::UnknownTable, format!("there is no table {schema}.{table}")))?;
        open.is_ours()?;
        if change == TableChange::Truncate {
            let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
            return open.empty(&memory, &|| self.opened_again(schema, table)).map(drop);
        }
        let (mut files, mut folders) = (Vec::new(), vec![open.home.clone()]);
        while let Some(folder) = folders.pop() {
            let found = self.storage()?.look(&folder)?;
            folders.extend(found.folders.into_iter().map(|name| [folder.clone(), vec![name]].concat()));
            files.extend(found.files);
        }
        open.drop_all(files)
    }
}

fn no_null(column: &str) -> Error {
    Error::new(Code::NullNotAllowed, format!("column {column} takes no null"))
        .hint("leave such rows out, or give another value")
}

impl LakeWriter {
    fn failed(&self, error: &std::io::Error) -> Error {
        self.lake.file_error(&self.table.file, format!("rows cannot be written: {error}"))
    }

    /// The columns of the table, in the form of its files.
    fn columns(&self, batch: &RecordBatch) -> Result<Vec<ArrayRef>> {
        let one = |(field, place): (&Field, &Option<usize>)| {
            let column = match place {
                Some(place) => batch.column(*place).clone(),
                None => new_null_array(&field.kind.sql_type().to_arrow(), batch.num_rows()),
            };
            if field.required && column.logical_null_count() > 0 {
                return Err(no_null(&field.name));
            }
            // A smallint, which the table format does not have, is an integer from here on.
            Ok(cast(&column, &field.kind.sql_type().to_arrow())?)
        };
        self.schema.fields.iter().zip(&self.places).map(one).collect()
    }

    fn put(&mut self, partition: Vec<Value>, columns: Vec<ArrayRef>, rows: usize) -> Result<()> {
        let made = self.schema.fields.iter().zip(&columns).map(|(field, column)| to_file(column, &field.kind));
        let made = made.collect::<std::result::Result<Vec<_>, _>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch = RecordBatch::try_new_with_options(self.form.clone(), made, &options)?;
        let key = format!("{partition:?}");
        if !self.open.contains_key(&key) {
            if self.open.len() >= MOST_OPEN
                && let Some(oldest) = self.open.iter().min_by_key(|(_, open)| open.last).map(|(key, _)| key.clone())
            {
                self.end(&oldest)?;
            }
            let format = cobble_format::named("parquet")?;
            let file = tempfile::tempfile().map_err(|e| self.failed(&e))?;
            let writer = format.writer(file, self.form.clone()).map_err(|e| self.failed(&e))?;
            self.open.insert(key.clone(), Open { partition, writer, nans: HashMap::new(), held: 0, last: 0 });
        }
        let Some(open) = self.open.get_mut(&key) else { return Err(Error::internal("a file that was opened is gone")) };
        count_nans(&batch, &self.schema, &mut open.nans);
        self.batches += 1;
        open.last = self.batches;
        let written = open.writer.write(&batch);
        let (size, held) = (open.writer.size(), open.writer.held());
        self.held = self.held - open.held + held;
        open.held = held;
        written.map_err(|e| self.failed(&e))?;
        if size >= self.file_bytes {
            return self.end(&key);
        }
        // The largest writes its rows out when all together hold much.
        if self.held > HELD
            && let Some(largest) = self.open.values_mut().max_by_key(|open| open.held)
        {
            let flushed = largest.writer.flush();
            let held = largest.writer.held();
            self.held = self.held - largest.held + held;
            largest.held = held;
            flushed.map_err(|e| self.failed(&e))?;
        }
        Ok(())
    }

    /// Ends a file and puts it where the table's files are.
    fn end(&mut self, key: &str) -> Result<()> {
        let Some(Open { partition, writer, nans, held, .. }) = self.open.remove(key) else { return Ok(()) };
        self.held -= held;
        let mut file = writer.finish().map_err(|e| self.failed(&e))?;
        let known = measures(&file).map_err(|e| self.failed(&e))?;
        let mut content = Vec::new();
        let read = file.rewind().and_then(|()| file.read_to_end(&mut content));
        read.map_err(|e| self.failed(&e))?;
        let name = format!("{}.parquet", new_uuid());
        let names: Vec<String> = self.table.home.iter().cloned().chain(["data".to_owned(), name.clone()]).collect();
        let bytes = content.len() as u64;
        self.lake.storage()?.put(&names, content.into(), &Condition::Absent)?;
        let columns = known.columns.iter().map(|(id, column)| self.column(*id, column, nans.get(id).copied()));
        let new = NewFile {
            path: format!("{}/data/{name}", self.table.metadata.location),
            format: "parquet".to_owned(),
            partition,
            rows: known.rows,
            bytes,
            columns: columns.collect(),
            splits: known.splits,
        };
        self.outcome.bytes += bytes;
        self.done.push(new);
        Ok(())
    }

    /// What a manifest says of a column.
    fn column(&self, id: i32, known: &ColumnMeasures, nans: Option<u64>) -> NewColumn {
        let kind = self.schema.field(id).map(|field| &field.kind);
        let own = kind.filter(|kind| !matches!(kind, Kind::Struct(_) | Kind::List(_) | Kind::Map { .. }));
        let values = own.and_then(|kind| least_and_greatest(kind, known));
        let bound = |kind: &Kind, value: Option<Value>| bounds::bytes(kind, &value?);
        let (lower, upper) = match (own, values) {
            (Some(kind), Some((min, max))) => (bound(kind, shorter(min)), bound(kind, longer(max))),
            _ => (None, None),
        };
        NewColumn { id, bytes: known.bytes, values: Some(known.values), nulls: known.nulls, nans, lower, upper }
    }

    /// Takes back what was put for this statement.
    fn remove(&self) {
        let Ok(storage) = self.lake.storage() else { return };
        for file in &self.done {
            if let Ok(file) = self.table.stored(&file.path, file.bytes) {
                let _ = storage.delete(&file);
            }
        }
    }

    fn publish(mut self) -> Result<()> {
        if self.done.is_empty() {
            self.is_shown = true;
            return if self.table.fresh.is_some() { self.table.make() } else { Ok(()) };
        }
        let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
        let (lake, (schema, table)) = (self.lake.clone(), self.name.clone());
        let fresh = self.table.fresh.is_some().then(|| self.table.clone());
        let again = || match &fresh {
            Some(fresh) => Ok(fresh.clone()),
            None => lake.opened_again(&schema, &table),
        };
        let done = self.table.append(self.spec.id, &self.done, &memory, &again);
        self.is_shown = done.is_ok() || done.as_ref().is_err_and(|error| error.code == Code::InDoubt);
        done.map(drop)
    }
}

impl Drop for LakeWriter {
    fn drop(&mut self) {
        if !self.is_shown {
            self.remove();
        }
    }
}

fn count_nans(batch: &RecordBatch, schema: &Schema, nans: &mut HashMap<i32, u64>) {
    for (field, column) in schema.fields.iter().zip(batch.columns()) {
        let count = match column.data_type() {
            DataType::Float32 => column.as_primitive::<Float32Type>().iter().flatten().filter(|n| n.is_nan()).count(),
            DataType::Float64 => column.as_primitive::<Float64Type>().iter().flatten().filter(|n| n.is_nan()).count(),
            _ => continue,
        };
        *nans.entry(field.id).or_default() += count as u64;
    }
}

/// The least and the greatest value over all parts of a file; none where a part tells none and has values.
fn least_and_greatest(kind: &Kind, known: &ColumnMeasures) -> Option<(Value, Value)> {
    let mut found: Option<(Value, Value)> = None;
    for (bounds, all_null) in known.bounds.iter().zip(&known.all_null) {
        let Some((min, max)) = bounds else {
            match all_null {
                true => continue,
                false => return None,
            }
        };
        let (min, max) = (value_of(kind, min)?, value_of(kind, max)?);
        found = Some(match found {
            None => (min, max),
            Some((least, greatest)) => (
                if min.compare(&least)? == std::cmp::Ordering::Less { min } else { least },
                if max.compare(&greatest)? == std::cmp::Ordering::Greater { max } else { greatest },
            ),
        });
    }
    found
}

fn value_of(kind: &Kind, bound: &Bound) -> Option<Value> {
    Some(match (kind, bound) {
        (Kind::Boolean, Bound::Boolean(own)) => Value::Boolean(*own),
        (Kind::Int, Bound::Int(n)) => Value::Integer(*n),
        (Kind::Date, Bound::Int(n)) => Value::Date(*n),
        (Kind::Long, Bound::Long(n)) => Value::BigInt(*n),
        (Kind::Time, Bound::Long(n)) => Value::Time(*n),
        (Kind::Timestamp, Bound::Long(n)) => Value::Timestamp(*n),
        (Kind::TimestampTz, Bound::Long(n)) => Value::TimestampTz(*n),
        (Kind::Float, Bound::Float(n)) => Value::Real(*n),
        (Kind::Double, Bound::Double(n)) => Value::Double(*n),
        (Kind::Decimal { precision, scale }, bound) => {
            let unscaled = match bound {
                Bound::Int(n) => i128::from(*n),
                Bound::Long(n) => i128::from(*n),
                Bound::Bytes(bytes) => bounds::unscaled(bytes)?,
                _ => return None,
            };
            Value::Numeric { unscaled, precision: *precision, scale: *scale }
        }
        (Kind::String, Bound::Bytes(bytes)) => Value::Text(String::from_utf8(bytes.clone()).ok()?),
        (Kind::Uuid, Bound::Bytes(bytes)) => Value::Text(bounds::uuid(bytes)?),
        (Kind::Fixed(_) | Kind::Binary, Bound::Bytes(bytes)) => Value::Bytea(bytes.clone()),
        _ => return None,
    })
}

/// A value that is not greater and not long.
fn shorter(value: Value) -> Option<Value> {
    Some(match value {
        Value::Text(text) if !is_uuid(&text) => Value::Text(text.chars().take(BOUND).collect()),
        Value::Bytea(bytes) => Value::Bytea(bytes.into_iter().take(BOUND).collect()),
        other => other,
    })
}

/// A value that is not less and not long; none where there is none.
fn longer(value: Value) -> Option<Value> {
    Some(match value {
        Value::Text(text) if !is_uuid(&text) && text.chars().count() > BOUND => {
            Value::Text(after(&text.chars().take(BOUND).collect::<String>())?)
        }
        Value::Bytea(mut bytes) if bytes.len() > BOUND => {
            bytes.truncate(BOUND);
            while bytes.last() == Some(&0xff) {
                bytes.pop();
            }
            *bytes.last_mut()? += 1;
            Value::Bytea(bytes)
        }
        other => other,
    })
}

/// A uuid stands as a text, and its bound is all of it.
fn is_uuid(text: &str) -> bool {
    text.len() == 36 && bounds::uuid_bytes(text).is_some()
}

impl TableWriter for LakeWriter {
    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self.outcome.rows += batch.num_rows() as u64;
        let columns = self.columns(batch)?;
        if !self.spec.is_partitioned() {
            let none = vec![Value::Null; self.spec.fields.len()];
            return self.put(none, columns, batch.num_rows());
        }
        for (partition, rows) in partitioned(&self.spec, &self.schema, &columns, batch.num_rows())? {
            let places = UInt32Array::from(rows);
            let own = columns.iter().map(|column| take(column.as_ref(), &places, None));
            let own = own.collect::<std::result::Result<_, _>>()?;
            self.put(partition, own, places.len())?;
        }
        Ok(())
    }

    fn prepare(mut self: Box<Self>) -> Result<Box<dyn Prepared>> {
        let open: Vec<String> = self.open.keys().cloned().collect();
        open.iter().try_for_each(|key| self.end(key))?;
        self.outcome.files = self.done.len() as u64;
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
