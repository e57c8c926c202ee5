//! Putting small files together: the rows of several files of a partition, without those that are gone, go into files of the right size. The
//! table has the same rows before and after, in every state of its own (table specification, "Snapshots", operation `replace`).

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch};
use arrow::compute::{SortColumn, SortOptions, concat_batches, lexsort_to_indices, take};
use arrow::datatypes::{Field, Schema};
use cobble_lake::left::{DataFile, Left};
use cobble_lake::manifest::Content;
use cobble_lake::order::{OrderKey, keys, sort_order};
use cobble_lake::replace::{KnownFile, Replacement};
use cobble_lake::table::LakeTable;
use cobble_plan::facts::FactRows;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::ScanTools;
use cobble_types::{Code, Result, SqlType, Value};

use super::again::{whole, write_again};
use super::call::Named;
use super::new_files::NewFiles;

/// How often the work is begun anew when others change the same files.
const TRIES: u32 = 3;
/// Files of a partition below which it is left alone, unless the call says otherwise.
const LEAST_FILES: usize = 2;

/// A file that may be put together with others.
struct Candidate {
    file: DataFile,
    known: KnownFile,
}

/// What is known of all files of a state.
struct State {
    left: Left,
    known: HashMap<String, KnownFile>,
    /// Files that tell of rows that are gone: as the table has them, and where they are.
    deletes: Vec<(String, std::path::PathBuf)>,
}

fn state(table: &LakeTable, tools: &ScanTools) -> Result<Option<State>> {
    let Some(snapshot) = table.head().cloned() else { return Ok(None) };
    let (memory, cancel) = (&tools.memory, &tools.cancel);
    let left = table.left(&snapshot, table.metadata.schema_id, &Default::default(), memory, cancel)?;
    let schema = table.schema()?;
    let (mut known, mut deletes) = (HashMap::new(), Vec::new());
    table.each_file(&snapshot, memory, cancel, |entry, _, spec| {
        match entry.content {
            Content::Rows => {
                let partition = entry.partition_values(spec, schema)?;
                let own = KnownFile { spec: spec.id, partition, rows: entry.rows, bytes: entry.bytes };
                known.insert(entry.path.to_owned(), own);
            }
            _ => {
                let stored = table.stored(entry.path, entry.bytes).map_err(|e| e.to_string())?;
                deletes.push((entry.path.to_owned(), stored.path));
            }
        }
        Ok(())
    })?;
    Ok(Some(State { left, known, deletes }))
}

/// The files that are worth putting together, in groups that each fill a file or more.
fn groups(state: &mut State, table: &LakeTable, file_bytes: u64, least: usize) -> Vec<Vec<Candidate>> {
    let mut partitions: BTreeMap<String, Vec<Candidate>> = BTreeMap::new();
    for file in std::mem::take(&mut state.left.files) {
        let Some(known) = state.known.get(&file.path).cloned() else { continue };
        let has_gone = !file.gone.places.is_empty() || !file.gone.values.is_empty();
        let fits = known.bytes >= file_bytes / 4 * 3 && known.bytes <= file_bytes / 5 * 9;
        if fits && !has_gone && known.spec == table.metadata.spec_id {
            continue;
        }
        let key = format!("{} {:?}", known.spec, known.partition);
        partitions.entry(key).or_default().push(Candidate { file, known });
    }
    let mut all = Vec::new();
    for mut candidates in partitions.into_values() {
        candidates.sort_by(|a, b| a.file.path.cmp(&b.file.path));
        let (mut group, mut bytes) = (Vec::new(), 0);
        let mut groups = Vec::new();
        for candidate in candidates {
            if bytes > 0 && bytes + candidate.known.bytes > file_bytes {
                groups.push(std::mem::take(&mut group));
                bytes = 0;
            }
            bytes += candidate.known.bytes;
            group.push(candidate);
        }
        groups.push(group);
        let is_worth = |group: &Vec<Candidate>| {
            let gone = |own: &Candidate| !own.file.gone.places.is_empty() || !own.file.gone.values.is_empty();
            let large = |own: &Candidate| own.known.bytes > file_bytes / 5 * 9;
            group.len() >= least || group.iter().any(|own| gone(own) || large(own))
        };
        all.extend(groups.into_iter().filter(is_worth));
    }
    all
}

/// Files of gone rows that speak of none of the files that stay.
fn dangling(state: &State, stays: &[&DataFile]) -> HashSet<String> {
    let mut needed = HashSet::new();
    for file in stays {
        needed.extend(file.gone.places.iter().map(|place| &state.left.gone.places[*place].stored.path));
        let values = file.gone.values.iter().flat_map(|place| &state.left.gone.values[*place].files);
        needed.extend(values.filter(|own| own.sequence > file.sequence).map(|own| &own.stored.path));
    }
    state.deletes.iter().filter(|(_, stored)| !needed.contains(stored)).map(|(path, _)| path.clone()).collect()
}

/// Rows that are held to be put in order.
struct Held {
    batches: Vec<RecordBatch>,
    room: Vec<Box<dyn std::any::Any + Send + Sync>>,
}

impl Held {
    fn push(&mut self, columns: Vec<ArrayRef>, tools: &ScanTools) -> Result<()> {
        let fields = columns.iter().enumerate();
        let fields = fields.map(|(place, own)| Field::new(place.to_string(), own.data_type().clone(), true));
        let batch = RecordBatch::try_new(Arc::new(Schema::new(fields.collect::<Vec<_>>())), columns)?;
        // Once as they come, and once in order.
        self.room.push(tools.memory.take(2 * batch.get_array_memory_size() as u64)?);
        self.batches.push(batch);
        Ok(())
    }

    fn in_order(&mut self, order: &[OrderKey], batch_rows: usize, into: &mut NewFiles) -> Result<()> {
        let batches = std::mem::take(&mut self.batches);
        let Some(first) = batches.first() else { return Ok(()) };
        let all = concat_batches(&first.schema(), &batches)?;
        drop(batches);
        let own = order.iter().map(|key| SortColumn {
            values: all.column(key.place).clone(),
            options: Some(SortOptions { descending: key.descending, nulls_first: key.nulls_first }),
        });
        let places = lexsort_to_indices(&own.collect::<Vec<_>>(), None)?;
        for start in (0..all.num_rows()).step_by(batch_rows) {
            let some = places.slice(start, batch_rows.min(all.num_rows() - start));
            let columns = all.columns().iter().map(|column| take(column.as_ref(), &some, None));
            into.write(columns.collect::<std::result::Result<_, _>>()?, some.len())?;
        }
        self.room.clear();
        Ok(())
    }
}

pub fn compact(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    let mut attempt = 1;
    loop {
        match once(named, call, tools) {
            Err(error) if error.code == Code::Conflict && attempt < TRIES => attempt += 1,
            outcome => return outcome,
        }
    }
}

fn once(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    let table = named.open()?;
    table.is_ours()?;
    let mut new = NewFiles::of_rows(named.lake, &table)?;
    new.use_memory(tools.memory.clone());
    if let Some(bytes) = call.number("file_bytes") {
        new.end_files_after(usize::try_from(bytes).map_err(|_| named.wrong("file_bytes is no number of bytes"))?);
    }
    let least = call.number("least_files").map_or(LEAST_FILES, |least| usize::try_from(least).unwrap_or(1).max(1));
    let order = match call.text("order_by") {
        Some(text) => keys(&sort_order(text, &new.schema).map_err(|what| named.wrong(what))?, &new.schema),
        None => table.metadata.order.clone(),
    };
    if call.text("order_by").is_none() && !order.is_empty() {
        new.order = Some(table.metadata.order_id);
    }
    let none = State { left: Left::default(), known: HashMap::new(), deletes: vec![] };
    let mut state = state(&table, tools)?.unwrap_or(none);
    let all: Vec<DataFile> = state.left.files.clone();
    let groups = groups(&mut state, &table, new.file_bytes() as u64, least);
    let ended: HashMap<String, KnownFile> =
        groups.iter().flatten().map(|own| (own.file.path.clone(), own.known.clone())).collect();
    let stays: Vec<&DataFile> = all.iter().filter(|file| !ended.contains_key(&file.path)).collect();
    let dangling = dangling(&state, &stays);
    let read = ended.values().map(|file| file.bytes).sum::<u64>();
    let is_idle = ended.is_empty() && dangling.is_empty();
    if !call.flag("dry_run") && !is_idle {
        let work = whole(&table, state.left.gone.clone())?;
        let count = groups.len();
        let written = groups.into_iter().enumerate().try_for_each(|(place, group)| {
            tools.counters.tell(format!("{place} of {count} groups of files put together"));
            let files = group.into_iter().map(|own| own.file).collect();
            if order.is_empty() {
                let mut take = |columns: Vec<ArrayRef>, rows: usize| new.write(columns, rows);
                write_again(named.lake, work.clone(), files, &|_, _| true, tools, &mut take)?;
            } else {
                let mut held = Held { batches: vec![], room: vec![] };
                let mut take = |columns: Vec<ArrayRef>, _: usize| held.push(columns, tools);
                write_again(named.lake, work.clone(), files, &|_, _| true, tools, &mut take)?;
                held.in_order(&order, tools.batch_rows, &mut new)?;
            }
            new.finish()
        });
        let change = Replacement {
            base: table.head().map(|snapshot| snapshot.id),
            added: &new.done,
            ended: &ended,
            told: &BTreeMap::new(),
            touched: &HashSet::new(),
            seen: None,
            rows_must_be_there: true,
            dangling: &dangling,
            keeps_rows: true,
        };
        let done = written.and_then(|()| table.replace(new.spec.id, &change, &tools.memory, &|| named.open()));
        if done.as_ref().is_err_and(|error| error.code != Code::InDoubt) {
            new.remove();
        }
        done?;
    }
    let mut rows = FactRows::new(&[
        ("files_read", SqlType::BigInt),
        ("files_written", SqlType::BigInt),
        ("bytes_read", SqlType::BigInt),
        ("bytes_written", SqlType::BigInt),
        ("delete_files_removed", SqlType::BigInt),
    ]);
    let number = |number: u64| Value::BigInt(number as i64);
    let written = [new.done.len() as u64, new.bytes()].map(number);
    let [files_written, bytes_written] = if call.flag("dry_run") { [Value::Null, Value::Null] } else { written };
    rows.push([number(ended.len() as u64), files_written, number(read), bytes_written, number(dangling.len() as u64)])?;
    Ok(rows)
}
