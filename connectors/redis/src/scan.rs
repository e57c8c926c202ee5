//! Reading the values of keys: of those that are asked for, or of all that the pattern has.

use std::any::Any;
use std::collections::{BTreeSet, HashSet, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions, StringViewArray};
use arrow::compute::cast;
use arrow::datatypes::{Field, Schema, SchemaRef};
use async_trait::async_trait;
use cobble_plan::offer::Request;
use cobble_plan::scan::{BATCH_BYTES, GateCounters, GateScan, PortionReader, Portions, ScanSpec, ScanTools};
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, Value};
use redis::aio::MultiplexedConnection;
use serde::{Deserialize, Serialize};

use super::Store;
use super::describe::{Keyed, Shape, step};
use super::offer::keys_of;

/// The form of [`Work`].
pub const FORM: u16 = 1;

/// What a store was given to do.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Work {
    pub table: Keyed,
    pub places: Vec<usize>,
    pub keys: Option<BTreeSet<String>>,
    pub limit: Option<u64>,
}

impl Work {
    /// Of the keys asked for those that are of this table.
    fn own(&self, keys: &BTreeSet<String>) -> Vec<String> {
        let pattern = glob::Pattern::new(&self.table.pattern).ok();
        // What the store's patterns and ours do not share: a backslash before a character.
        let fits = |key: &&String| match (&pattern, self.table.pattern.strip_suffix('*')) {
            (_, Some(prefix)) if !prefix.contains(['*', '?', '[', '\\']) => key.starts_with(prefix),
            (Some(pattern), _) => pattern.matches(key),
            (None, _) => true,
        };
        keys.iter().filter(fits).cloned().collect()
    }

    pub fn name(&self, place: usize) -> &str {
        place.checked_sub(1).map_or("key", |field| &self.table.fields[field].0)
    }

    fn sql_type(&self, place: usize) -> SqlType {
        place.checked_sub(1).map_or(SqlType::Text, |field| self.table.fields[field].1.clone())
    }

    pub fn request(&self) -> Request {
        let pattern = &self.table.pattern;
        let text = match &self.keys {
            Some(keys) => format!("values of {} keys of {pattern}", self.own(keys).len()),
            None => format!("values of all keys of {pattern}"),
        };
        Request { text, parameters: vec![] }
    }

    pub fn most_rows(&self) -> Option<f64> {
        let keys = self.keys.as_ref().map(|keys| self.own(keys).len() as f64);
        match (keys, self.limit) {
            (Some(keys), Some(limit)) => Some(keys.min(limit as f64)),
            (keys, limit) => keys.or(limit.map(|n| n as f64)),
        }
    }
}

#[derive(Debug)]
struct KeyedScan {
    store: Arc<Store>,
    work: Work,
}

/// The scan of work that was agreed for a store.
pub fn scan(store: &Arc<Store>, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    Ok(Arc::new(KeyedScan { store: store.clone(), work: spec.unpack(FORM)? }))
}

#[async_trait]
impl GateScan for KeyedScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let mut keys = self.work.keys.clone();
        for learned in &tools.keys {
            let of_key = self.work.places[learned.pass.place] == 0;
            let column = learned.pass.column.id;
            let known = learned.condition().filter(|_| of_key);
            let form = match known.and_then(|(condition, form)| Some((keys_of(&condition, &|id| id == column)?, form)))
            {
                Some((found, form)) => {
                    keys = Some(match keys {
                        Some(before) => before.intersection(&found).cloned().collect(),
                        None => found,
                    });
                    form
                }
                None => "not at all",
            };
            tools.counters.used(learned, form, 0);
        }
        let work = Work { keys, ..self.work.clone() };
        let field = |place: &usize| Field::new(place.to_string(), work.sql_type(*place).to_arrow(), true);
        let fields: Vec<Field> = work.places.iter().map(field).collect();
        let scan = KeyedScan { store: self.store.clone(), work };
        Ok(Arc::new(KeyedPortions {
            scan: Arc::new(scan),
            schema: Arc::new(Schema::new(fields)),
            tools: tools.clone(),
            claimed: AtomicBool::new(false),
        }))
    }
}

/// One reader goes through all keys: the store has one cursor.
struct KeyedPortions {
    scan: Arc<KeyedScan>,
    schema: SchemaRef,
    tools: ScanTools,
    claimed: AtomicBool,
}

#[async_trait]
impl Portions for KeyedPortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        if self.claimed.swap(true, Ordering::Relaxed) {
            return Ok(None);
        }
        let (waiting, cursor) = match &self.scan.work.keys {
            Some(keys) => (self.scan.work.own(keys).into(), None),
            None => (VecDeque::new(), Some(0)),
        };
        Ok(Some(Box::new(KeyedReader {
            client: self.scan.store.client().await?,
            scan: self.scan.clone(),
            schema: self.schema.clone(),
            tools: self.tools.clone(),
            waiting,
            cursor,
            seen: HashSet::new(),
            taken: Vec::new(),
            sizes: Sizes::default(),
            left: self.scan.work.limit.unwrap_or(u64::MAX),
        })))
    }
}

struct KeyedReader {
    client: MultiplexedConnection,
    scan: Arc<KeyedScan>,
    schema: SchemaRef,
    tools: ScanTools,
    /// Keys whose values have not been read.
    waiting: VecDeque<String>,
    /// Where the store goes on listing keys; nothing at the end.
    cursor: Option<u64>,
    /// The store may list a key twice.
    seen: HashSet<Box<str>>,
    /// Memory for the keys that are known.
    taken: Vec<Box<dyn Any + Send + Sync>>,
    sizes: Sizes,
    left: u64,
}

/// Values asked for in one request at most, and in the first one, when nobody knows how large they are.
const REQUEST: usize = 1000;
const FIRST_REQUEST: usize = 64;

/// How large the values are, by those that have come.
#[derive(Default)]
pub struct Sizes {
    values: u64,
    bytes: u64,
}

impl Sizes {
    pub fn add(&mut self, values: usize, bytes: u64) {
        self.values += values as u64;
        self.bytes += bytes;
    }

    /// Values to ask for in the next request: as many as are likely to fit a batch.
    pub fn at_once(&self) -> usize {
        match self.values {
            0 => FIRST_REQUEST,
            values => {
                let each = (self.bytes / values).max(1);
                usize::try_from(BATCH_BYTES / each).unwrap_or(REQUEST).clamp(1, REQUEST)
            }
        }
    }

    /// Whether enough has come to know the columns by.
    pub fn suffice(&self) -> bool {
        self.bytes >= BATCH_BYTES
    }
}

#[async_trait]
impl PortionReader for KeyedReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        loop {
            if self.left == 0 {
                return Ok(None);
            }
            while self.waiting.len() < REQUEST
                && let Some(cursor) = self.cursor
            {
                let scan = self.scan.clone();
                let pattern = &scan.work.table.pattern;
                let (next, keys) = step(&scan.store, &mut self.client, cursor, pattern).await?;
                GateCounters::add(&self.tools.counters.requests, 1);
                self.cursor = (next != 0).then_some(next);
                // Each is kept twice at most.
                let bytes: usize = keys.iter().map(|key| 2 * key.len() + 80).sum();
                if bytes > 0 {
                    self.taken.push(self.tools.memory.take(bytes as u64)?);
                }
                for key in keys {
                    if self.seen.insert(key.as_str().into()) {
                        self.waiting.push_back(key);
                    }
                }
                // A long way through keys of other patterns can be left at any step.
                if self.tools.cancel.is_cancelled() {
                    return Err(Error::new(Code::Cancelled, "the run was cancelled"));
                }
            }
            let count =
                self.waiting.len().min(self.sizes.at_once()).min(usize::try_from(self.left).unwrap_or(usize::MAX));
            if count == 0 {
                return Ok(None);
            }
            let keys: Vec<String> = self.waiting.drain(..count).collect();
            GateCounters::add(&self.tools.counters.requests, 1);
            let batch = self.values(&keys).await?;
            self.left -= batch.num_rows() as u64;
            // All of them may have gone meanwhile.
            if batch.num_rows() > 0 {
                return Ok(Some(batch));
            }
        }
    }
}

impl KeyedReader {
    async fn values(&mut self, keys: &[String]) -> Result<RecordBatch> {
        let scan = self.scan.clone();
        let (work, table) = (&scan.work, &scan.work.table);
        let failed = |e: redis::RedisError| scan.store.error(&e);
        let fields: Vec<usize> = work.places.iter().filter_map(|place| place.checked_sub(1)).collect();
        let mut bytes = 0;
        // For each key that is there its fields' texts.
        let mut rows: Vec<(&String, Vec<Option<String>>)> = Vec::new();
        match table.shape {
            Shape::Hashes => {
                let mut request = redis::pipe();
                for key in keys {
                    request.cmd("EXISTS").arg(key);
                    if !fields.is_empty() {
                        let names: Vec<&str> = fields.iter().map(|f| table.fields[*f].0.as_str()).collect();
                        request.cmd("HMGET").arg(key).arg(names);
                    }
                }
                let answers: Vec<redis::Value> = request.query_async(&mut self.client).await.map_err(failed)?;
                let width = if fields.is_empty() { 1 } else { 2 };
                for (key, answer) in keys.iter().zip(answers.chunks(width)) {
                    let there: bool = redis::from_redis_value(answer[0].clone()).unwrap_or(false);
                    let values = match answer.get(1) {
                        Some(values) => redis::from_redis_value(values.clone())
                            .map_err(|_| self.bad(key, "it is no hash of texts in UTF-8".into()))?,
                        None => vec![],
                    };
                    if there {
                        rows.push((key, values));
                    }
                }
            }
            Shape::Objects | Shape::Texts => {
                let texts: Vec<Option<String>> =
                    redis::cmd("MGET").arg(keys).query_async(&mut self.client).await.map_err(failed)?;
                for (key, text) in keys.iter().zip(texts) {
                    let Some(text) = text else { continue };
                    bytes += (key.len() + text.len()) as u64;
                    if table.shape == Shape::Texts {
                        rows.push((key, fields.iter().map(|_| Some(text.clone())).collect()));
                        continue;
                    }
                    let parsed: serde_json::Value = serde_json::from_str(&text)
                        .ok()
                        .filter(serde_json::Value::is_object)
                        .ok_or_else(|| self.bad(key, "it is no JSON object as others are".into()))?;
                    let member = |field: &usize| match &parsed[table.fields[*field].0.as_str()] {
                        serde_json::Value::Null => None,
                        serde_json::Value::String(text) => Some(text.clone()),
                        other => Some(other.to_string()),
                    };
                    rows.push((key, fields.iter().map(member).collect()));
                }
            }
        }
        if table.shape == Shape::Hashes {
            let sizes =
                rows.iter().flat_map(|(key, values)| values.iter().flatten().map(String::len).chain([key.len()]));
            bytes += sizes.map(|n| n as u64).sum::<u64>();
        }
        GateCounters::add(&self.tools.counters.bytes, bytes);
        self.sizes.add(keys.len(), bytes);
        let mut arrays: Vec<ArrayRef> = Vec::new();
        let mut field = 0;
        for place in &work.places {
            if *place == 0 {
                arrays.push(Arc::new(rows.iter().map(|(key, _)| Some(key.as_str())).collect::<StringViewArray>()));
                continue;
            }
            arrays.push(self.column(*place, rows.iter().map(|(key, values)| (*key, values[field].as_deref())))?);
            field += 1;
        }
        let options = RecordBatchOptions::new().with_row_count(Some(rows.len()));
        Ok(RecordBatch::try_new_with_options(self.schema.clone(), arrays, &options)?)
    }

    fn column<'a>(&self, place: usize, texts: impl Iterator<Item = (&'a String, Option<&'a str>)>) -> Result<ArrayRef> {
        let sql_type = self.scan.work.sql_type(place);
        if sql_type == SqlType::Text {
            return Ok(Arc::new(texts.map(|(_, text)| text).collect::<StringViewArray>()));
        }
        // Nested members are read by the JSON reader, plain ones like the fields of a text file.
        if matches!(sql_type, SqlType::Array(_) | SqlType::Row(_)) {
            return self.nested(place, &sql_type, texts);
        }
        let mut parts: Vec<ArrayRef> = Vec::new();
        for (key, text) in texts {
            let value = match text.filter(|text| !text.is_empty()) {
                None => Value::Null,
                Some(text) => parse_value(text, &sql_type).map_err(|_| {
                    let shown: String = text.chars().take(40).collect();
                    self.bad(
                        key,
                        format!(
                            "\"{shown}\" in {} is not {sql_type}, as in the first keys",
                            self.scan.work.name(place)
                        ),
                    )
                })?,
            };
            parts.push(value.to_array(&sql_type));
        }
        let parts: Vec<&dyn arrow::array::Array> = parts.iter().map(AsRef::as_ref).collect();
        match parts.is_empty() {
            true => Ok(arrow::array::new_empty_array(&sql_type.to_arrow())),
            false => Ok(arrow::compute::concat(&parts)?),
        }
    }

    fn nested<'a>(
        &self,
        place: usize,
        sql_type: &SqlType,
        texts: impl Iterator<Item = (&'a String, Option<&'a str>)>,
    ) -> Result<ArrayRef> {
        let schema = Arc::new(Schema::new(vec![Field::new("v", sql_type.to_arrow(), true)]));
        let lines: String = texts.map(|(_, text)| format!("{{\"v\": {}}}\n", text.unwrap_or("null"))).collect();
        let failed = |e: arrow::error::ArrowError| {
            let what = format!("connection {}: {}: {e}", self.scan.store.connection, self.scan.work.name(place));
            Error::new(Code::SourceData, what).hint("each value must have the types of those of the first keys")
        };
        let mut reader = arrow::json::ReaderBuilder::new(schema)
            .with_coerce_primitive(true)
            .with_batch_size(REQUEST)
            .build(lines.as_bytes())
            .map_err(failed)?;
        match reader.next() {
            Some(batch) => Ok(cast(batch.map_err(failed)?.column(0), &sql_type.to_arrow())?),
            None => Ok(arrow::array::new_empty_array(&sql_type.to_arrow())),
        }
    }

    fn bad(&self, key: &str, what: String) -> Error {
        let connection = &self.scan.store.connection;
        Error::new(Code::SourceData, format!("connection {connection}: key {key}: {what}"))
            .hint("correct the value, or give its keys a pattern of their own")
    }
}
