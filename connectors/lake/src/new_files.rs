//! New files of a table: rows sorted into the table's partitions, in files of Parquet that no one sees before a snapshot names them.

use std::any::Any;
use std::collections::HashMap;
use std::io::{Read, Seek};
use std::sync::Arc;
use std::thread::JoinHandle;

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch, RecordBatchOptions, UInt32Array};
use arrow::compute::take;
use arrow::datatypes::{DataType, Float32Type, Float64Type, Schema as ArrowSchema, SchemaRef};
use cobble_format::FileWriter;
use cobble_format::parquet::measures::{Bound, ColumnMeasures, measures};
use cobble_lake::bounds;
use cobble_lake::create::new_uuid;
use cobble_lake::manifest::Content;
use cobble_lake::manifest_out::{NewColumn, NewFile};
use cobble_lake::metadata::Spec;
use cobble_lake::schema::{Field, Kind, Schema};
use cobble_lake::table::LakeTable;
use cobble_lake::transform::after;
use cobble_plan::scan::{ScanMemory, Unbounded};
use cobble_storage::Condition;
use cobble_types::{Code, Error, Result, Value};

use super::Lake;
use super::file_form::{file_field, to_file};
use super::partitions::partitioned;

/// Bytes after which a file ends, unless the table's property says otherwise.
const FILE_BYTES: usize = 128 << 20;
const FILE_BYTES_PROPERTY: &str = "write.target-file-size-bytes";
/// Bytes of rows that all files together hold before the largest of them writes them out.
const HELD: usize = 128 << 20;
/// Files that are open at the same time; of more partitions the one that was written longest ago is ended.
const MOST_OPEN: usize = 500;
/// Signs of a text, and bytes, that a bound has.
const BOUND: usize = 16;
/// Memory is taken in steps of so many bytes.
const STEP: usize = 4 << 20;

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

pub struct NewFiles {
    lake: Arc<Lake>,
    table: LakeTable,
    content: Content,
    pub schema: Schema,
    pub spec: Spec,
    form: SchemaRef,
    file_bytes: usize,
    open: HashMap<String, Open>,
    /// Bytes of rows that all of them hold.
    held: usize,
    /// Batches that were written.
    batches: u64,
    memory: Arc<dyn ScanMemory>,
    /// What was taken of it for what is held, and how much that is.
    room: Vec<Box<dyn Any + Send + Sync>>,
    taken: usize,
    /// A file on its way to the storage.
    sending: Option<JoinHandle<Result<()>>>,
    /// The order that rows come in.
    pub order: Option<i32>,
    /// The files that are there, or on their way.
    pub done: Vec<NewFile>,
}

impl NewFiles {
    /// For rows of a table as it is now.
    pub fn of_rows(lake: &Arc<Lake>, table: &LakeTable) -> Result<NewFiles> {
        let (schema, spec) = (table.schema()?.clone(), table.spec(table.metadata.spec_id)?.clone());
        Ok(NewFiles::new(lake, table, Content::Rows, schema, spec))
    }

    /// For what a file holds besides rows, in the form of these fields.
    pub fn of(lake: &Arc<Lake>, table: &LakeTable, content: Content, fields: Vec<Field>, spec: Spec) -> NewFiles {
        NewFiles::new(lake, table, content, Schema { id: 0, fields, identifiers: vec![] }, spec)
    }

    fn new(lake: &Arc<Lake>, table: &LakeTable, content: Content, schema: Schema, spec: Spec) -> NewFiles {
        let file_bytes = table.metadata.properties.get(FILE_BYTES_PROPERTY).and_then(|text| text.parse().ok());
        NewFiles {
            lake: lake.clone(),
            table: table.clone(),
            content,
            form: Arc::new(ArrowSchema::new(schema.fields.iter().map(file_field).collect::<Vec<_>>())),
            schema,
            spec,
            file_bytes: file_bytes.unwrap_or(FILE_BYTES).clamp(1 << 10, 4 * FILE_BYTES),
            open: HashMap::new(),
            held: 0,
            batches: 0,
            memory: Arc::new(Unbounded),
            room: vec![],
            taken: 0,
            sending: None,
            order: None,
            done: vec![],
        }
    }

    /// Takes what it holds of this memory.
    pub fn use_memory(&mut self, memory: Arc<dyn ScanMemory>) {
        self.memory = memory;
    }

    pub fn file_bytes(&self) -> usize {
        self.file_bytes
    }

    /// Ends files after so many bytes.
    pub fn end_files_after(&mut self, bytes: usize) {
        self.file_bytes = bytes.clamp(1 << 10, 4 * FILE_BYTES);
    }

    fn failed(&self, error: &std::io::Error) -> Error {
        self.lake.file_error(&self.table.file, format!("rows cannot be written: {error}"))
    }

    /// Writes rows, whose columns are those of the schema, each into the file of its partition.
    pub fn write(&mut self, columns: Vec<ArrayRef>, rows: usize) -> Result<()> {
        let empty = self.schema.fields.iter().zip(&columns).find(|(f, c)| f.required && c.logical_null_count() > 0);
        if let Some((field, _)) = empty {
            return Err(no_null(&field.name));
        }
        if !self.spec.is_partitioned() {
            return self.put(vec![Value::Null; self.spec.fields.len()], columns, rows);
        }
        for (partition, rows) in partitioned(&self.spec, &self.schema, &columns, rows)? {
            let places = UInt32Array::from(rows);
            let own = columns.iter().map(|column| take(column.as_ref(), &places, None));
            let own = own.collect::<std::result::Result<_, _>>()?;
            self.put(partition, own, places.len())?;
        }
        Ok(())
    }

    /// Writes rows of one partition.
    pub fn put(&mut self, partition: Vec<Value>, columns: Vec<ArrayRef>, rows: usize) -> Result<()> {
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
        if self.held > HELD {
            self.flush_largest()?;
        }
        self.take_room()
    }

    /// The file that holds most writes its rows out.
    fn flush_largest(&mut self) -> Result<()> {
        let Some(largest) = self.open.values_mut().max_by_key(|open| open.held) else { return Ok(()) };
        let flushed = largest.writer.flush();
        let held = largest.writer.held();
        self.held = self.held - largest.held + held;
        largest.held = held;
        flushed.map_err(|e| self.failed(&e))
    }

    /// Takes memory for what is held; where there is not that much, less is held.
    fn take_room(&mut self) -> Result<()> {
        loop {
            let wanted = self.held.next_multiple_of(STEP);
            if wanted + STEP < self.taken {
                (self.room, self.taken) = (vec![], 0);
            }
            if wanted <= self.taken {
                return Ok(());
            }
            match self.memory.take((wanted - self.taken) as u64) {
                Ok(room) => {
                    self.room.push(room);
                    self.taken = wanted;
                }
                Err(error) => {
                    let before = self.held;
                    self.flush_largest()?;
                    if self.held >= before {
                        return Err(error);
                    }
                }
            }
        }
    }

    /// Ends a file and puts it where the table's files are.
    fn end(&mut self, key: &str) -> Result<()> {
        let Some(Open { partition, writer, nans, held, .. }) = self.open.remove(key) else { return Ok(()) };
        self.held -= held;
        let mut file = writer.finish().map_err(|e| self.failed(&e))?;
        let known = measures(&file).map_err(|e| self.failed(&e))?;
        let bytes = file.seek(std::io::SeekFrom::End(0)).map_err(|e| self.failed(&e))?;
        self.sent()?;
        let room = self.memory.take(bytes)?;
        let ending = if self.content == Content::Rows { "" } else { "-deletes" };
        let name = format!("{}{ending}.parquet", new_uuid());
        let names: Vec<String> = self.table.home.iter().cloned().chain(["data".to_owned(), name.clone()]).collect();
        let columns = known.columns.iter().map(|(id, column)| self.column(*id, column, nans.get(id).copied()));
        let new = NewFile {
            content: self.content,
            path: format!("{}/data/{name}", self.table.metadata.location),
            format: "parquet".to_owned(),
            partition,
            rows: known.rows,
            bytes,
            columns: columns.collect(),
            splits: known.splits,
            order: self.order,
        };
        self.done.push(new);
        let (lake, table) = (self.lake.clone(), self.table.clone());
        let send = move || {
            let _room = room;
            let mut content = Vec::new();
            let read = file.rewind().and_then(|()| file.read_to_end(&mut content));
            read.map_err(|e| lake.file_error(&table.file, format!("rows cannot be read again: {e}")))?;
            table.storage.put(&names, content.into(), &Condition::Absent).map(drop)
        };
        // Where no further thread is to be had, the error of it is the file's.
        let thread = std::thread::Builder::new().name("lake file".to_owned()).spawn(send);
        self.sending = Some(thread.map_err(|e| self.failed(&e))?);
        Ok(())
    }

    /// Waits for the file that is on its way to the storage. Only one is: each is held as a whole.
    fn sent(&mut self) -> Result<()> {
        let stopped = |_| Err(Error::internal("a thread that puts a file has stopped"));
        self.sending.take().map_or(Ok(()), |thread| thread.join().unwrap_or_else(stopped))
    }

    /// What a manifest says of a column.
    fn column(&self, id: i32, known: &ColumnMeasures, nans: Option<u64>) -> NewColumn {
        let kind = self.schema.field(id).map(|field| &field.kind);
        let own = kind.filter(|kind| !matches!(kind, Kind::Struct(_) | Kind::List(_) | Kind::Map { .. }));
        let values = own.and_then(|kind| least_and_greatest(kind, known));
        let bound = |kind: &Kind, value: Option<Value>| bounds::bytes(kind, &value?);
        let (lower, upper) = match (own, values) {
            // Paths are told whole: where least and greatest are the same, the file speaks of one file alone.
            (Some(kind), Some((min, max))) if self.content != Content::Rows => {
                (bound(kind, Some(min)), bound(kind, Some(max)))
            }
            (Some(kind), Some((min, max))) => (bound(kind, shorter(min)), bound(kind, longer(max))),
            _ => (None, None),
        };
        NewColumn { id, bytes: known.bytes, values: Some(known.values), nulls: known.nulls, nans, lower, upper }
    }

    /// Ends all files.
    pub fn finish(&mut self) -> Result<()> {
        let open: Vec<String> = self.open.keys().cloned().collect();
        open.iter().try_for_each(|key| self.end(key))?;
        self.sent()?;
        (self.room, self.taken) = (vec![], 0);
        Ok(())
    }

    pub fn bytes(&self) -> u64 {
        self.done.iter().map(|file| file.bytes).sum()
    }

    /// Takes back what was put.
    pub fn remove(&mut self) {
        let _ = self.sent();
        for file in &self.done {
            if let Ok(file) = self.table.stored(&file.path, file.bytes) {
                let _ = self.table.storage.delete(&file);
            }
        }
    }
}

pub fn no_null(column: &str) -> Error {
    Error::new(Code::NullNotAllowed, format!("column {column} takes no null"))
        .hint("leave such rows out, or give another value")
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
pub fn shorter(value: Value) -> Option<Value> {
    Some(match value {
        Value::Text(text) if !is_uuid(&text) => Value::Text(text.chars().take(BOUND).collect()),
        Value::Bytea(bytes) => Value::Bytea(bytes.into_iter().take(BOUND).collect()),
        other => other,
    })
}

/// A value that is not less and not long; none where there is none.
pub fn longer(value: Value) -> Option<Value> {
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
