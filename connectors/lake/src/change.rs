//! Changing rows: what comes tells which rows end and what takes their places. Files with rows that end are either written again without them,
//! or other files tell which of their rows are gone (table properties `write.delete.mode`, `write.update.mode` and `write.merge.mode`).

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use arrow::array::{Array, AsArray, BooleanArray, Int64Array, RecordBatch, StringArray};
use arrow::compute::{cast, filter_record_batch};
use arrow::datatypes::{DataType, Int64Type};
use async_trait::async_trait;
use cobble_lake::deletes::{PATH_ID, PLACE_ID};
use cobble_lake::left::DataFile;
use cobble_lake::manifest::Content;
use cobble_lake::manifest_out::{NewFile, kinds};
use cobble_lake::prune::Question;
use cobble_lake::replace::{KnownFile, Replacement};
use cobble_lake::schema::{Field, Kind};
use cobble_lake::table::LakeTable;
use cobble_plan::scan::{ScanTools, Unbounded};
use cobble_plan::sink::{NewRows, Outcome, Prepared, Replacing, RowsChange, TableWriter};
use cobble_types::{Code, Error, Result, SqlType};

use super::again::write_again;
use super::new_files::NewFiles;
use super::returned::Returned;
use super::scan::{FORM, Portion, Work};
use super::write::WholeRows;
use super::{Lake, apart};

/// Rows of a file by their places.
#[derive(Default)]
struct Places {
    bits: Vec<u64>,
    count: u64,
}

impl Places {
    /// Whether it was not in there yet.
    fn insert(&mut self, place: u64) -> bool {
        let (word, bit) = ((place / 64) as usize, 1 << (place % 64));
        if self.bits.len() <= word {
            self.bits.resize(word + 1, 0);
        }
        let is_new = self.bits[word] & bit == 0;
        self.bits[word] |= bit;
        self.count += u64::from(is_new);
        is_new
    }

    fn has(&self, place: u64) -> bool {
        self.bits.get((place / 64) as usize).is_some_and(|word| word & (1 << (place % 64)) != 0)
    }

    fn iter(&self) -> impl Iterator<Item = u64> {
        (0..self.bits.len() as u64 * 64).filter(|place| self.has(*place))
    }
}

pub struct LakeChanger {
    lake: Arc<Lake>,
    table: LakeTable,
    name: (String, String),
    change: RowsChange,
    identity: usize,
    /// What was read to find the rows, and the files that this was about.
    read: Option<Work>,
    files: HashMap<String, DataFile>,
    rows: Option<WholeRows>,
    returned: Option<Returned>,
    new: NewFiles,
    gone: HashMap<String, Places>,
    tools: Option<ScanTools>,
    outcome: Outcome,
    /// What is shown by the commit.
    ended: HashMap<String, KnownFile>,
    told: BTreeMap<i32, Vec<NewFile>>,
    touched: HashSet<String>,
    /// Writers of files that tell which rows are gone, kept to take these back.
    tellers: Vec<NewFiles>,
    is_shown: bool,
}

/// The number of rows of a batch of a file of places.
const PLACES: usize = 8192;

impl LakeChanger {
    pub fn new(lake: &Arc<Lake>, table: LakeTable, wanted: &NewRows, replacing: &Replacing) -> Result<LakeChanger> {
        let read: Option<Work> = replacing.read.as_ref().map(|spec| spec.unpack(FORM)).transpose()?;
        let portions: Vec<Portion> = match &replacing.read {
            Some(spec) => spec.unpack_portions()?,
            None => vec![],
        };
        // The rows were found in this state, and have its columns: where the table has others by now, the commit says so.
        let table = match &read {
            Some(work) => lake.at(work.name.clone(), work.metadata.clone())?.on_branch(&table.branch),
            None => table,
        };
        let new = NewFiles::of_rows(lake, &table)?;
        let rows = match replacing.change {
            RowsChange::Delete => None,
            RowsChange::Update | RowsChange::Merge | RowsChange::Replace => {
                Some(WholeRows::new(&new.schema, &wanted.columns)?)
            }
        };
        Ok(LakeChanger {
            lake: lake.clone(),
            name: (wanted.schema.clone(), wanted.table.clone()),
            change: replacing.change,
            identity: replacing.identity,
            read,
            // Where rows are told apart, planning leaves no manifest.
            files: portions
                .into_iter()
                .filter_map(Portion::file)
                .map(|own| (own.file.path.clone(), own.file))
                .collect(),
            rows,
            returned: Returned::of(&lake.connection, wanted),
            new,
            gone: HashMap::new(),
            tools: None,
            outcome: Outcome::default(),
            ended: HashMap::new(),
            told: BTreeMap::new(),
            touched: HashSet::new(),
            tellers: vec![],
            is_shown: false,
            table,
        })
    }

    fn tools(&self) -> Result<&ScanTools> {
        self.tools.as_ref().ok_or_else(|| Error::internal("a change of a lake's rows outside of a run"))
    }

    fn property(&self, name: &str) -> Option<&str> {
        let word = match self.change {
            RowsChange::Update => "update",
            RowsChange::Delete | RowsChange::Replace => "delete",
            RowsChange::Merge => "merge",
        };
        self.table.metadata.properties.get(&format!("write.{word}.{name}")).map(String::as_str)
    }

    /// Notes which rows end. Says for each row that comes whether it is about one that no row before it was about.
    fn note(&mut self, batch: &RecordBatch) -> Result<BooleanArray> {
        let files = cast(batch.column(0), &DataType::Utf8)?;
        let (files, places) = (files.as_string::<i32>(), batch.column(1).as_primitive::<Int64Type>());
        let mut last: Option<(String, Places)> = None;
        let mut is_first = Vec::with_capacity(batch.num_rows());
        for row in 0..batch.num_rows() {
            if files.is_null(row) {
                is_first.push(true);
                continue;
            }
            let path = files.value(row);
            if last.as_ref().is_none_or(|(own, _)| own != path) {
                self.gone.extend(last.take());
                last = Some((path.to_owned(), self.gone.remove(path).unwrap_or_default()));
            }
            let place = u64::try_from(places.value(row)).map_err(|_| Error::internal("a row has no place"))?;
            is_first.push(last.as_mut().is_some_and(|(_, own)| own.insert(place)));
        }
        self.gone.extend(last);
        Ok(is_first.into())
    }

    /// Decides of each file what becomes of it, and writes what is needed for that.
    fn settle(&mut self) -> Result<()> {
        let Some(work) = self.read.clone().filter(|_| !self.gone.is_empty()) else { return Ok(()) };
        let tools = self.tools()?.clone();
        let base = self.table.clone();
        let paths: HashSet<String> = self.gone.keys().cloned().collect();
        let known = match base.head() {
            Some(snapshot) => base.known_files(snapshot, &paths, &tools.memory, &tools.cancel)?,
            None => HashMap::new(),
        };
        let tells = self.table.metadata.version > 1 && self.property("mode") == Some("merge-on-read");
        let mut again = Vec::new();
        let mut told: BTreeMap<String, (KnownFile, Vec<String>)> = BTreeMap::new();
        for (path, places) in &self.gone {
            let (Some(own), Some(file)) = (known.get(path), self.files.get(path)) else {
                return Err(Error::internal(format!("rows of {path} are changed, which the table does not have")));
            };
            let is_whole = places.count == own.rows;
            // A partitioning whose column is gone cannot be written any more.
            let is_told = tells && !is_whole && kinds(base.spec(own.spec)?, base.schema()?).is_ok();
            if is_told {
                let group = told.entry(format!("{} {:?}", own.spec, own.partition));
                group.or_insert_with(|| (own.clone(), vec![])).1.push(path.clone());
                continue;
            }
            if !is_whole {
                again.push(file.clone());
            }
            self.ended.insert(path.clone(), own.clone());
        }
        let stays = |path: &str, place: u64| !self.gone.get(path).is_some_and(|gone| gone.has(place));
        write_again(&self.lake, work, again, &stays, &tools, &mut |columns, rows| self.new.write(columns, rows))?;
        for (own, mut paths) in told.into_values() {
            paths.sort();
            let files = self.tell(&base, &own, &paths)?;
            self.told.entry(own.spec).or_default().extend(files);
            self.touched.extend(paths);
        }
        Ok(())
    }

    /// Writes which rows of files of one partition are gone, by path and place (table specification, "Position Delete Files").
    fn tell(&mut self, base: &LakeTable, own: &KnownFile, paths: &[String]) -> Result<Vec<NewFile>> {
        let field = |id, name: &str, kind| Field { id, name: name.to_owned(), required: true, kind, comment: None };
        let fields = vec![field(PATH_ID, "file_path", Kind::String), field(PLACE_ID, "pos", Kind::Long)];
        let spec = base.spec(own.spec)?.clone();
        let mut files = NewFiles::of(&self.lake, &self.table, Content::GonePositions, fields, spec);
        files.use_memory(self.tools()?.memory.clone());
        let mut written = Ok(());
        for path in paths {
            let Some(places) = self.gone.get(path) else { continue };
            let mut all = places.iter().map(|place| place as i64).peekable();
            while written.is_ok() && all.peek().is_some() {
                let some: Int64Array = all.by_ref().take(PLACES).collect::<Vec<i64>>().into();
                let rows = some.len();
                let names = StringArray::from_iter_values(std::iter::repeat_n(path.as_str(), rows));
                let names = cast(&names, &SqlType::Text.to_arrow())?;
                written = files.put(own.partition.clone(), vec![names, Arc::new(some)], rows);
            }
        }
        let written = written.and_then(|()| files.finish());
        let done = files.done.clone();
        self.tellers.push(files);
        written.map(|()| done)
    }

    /// What of the table others might add in the meantime that the statement would have had to look at.
    fn question(&self) -> Question {
        self.read.as_ref().map(|work| work.question(&self.table)).unwrap_or_default()
    }

    fn publish(mut self) -> Result<()> {
        if self.new.done.is_empty() && self.ended.is_empty() && self.told.is_empty() {
            self.is_shown = true;
            return Ok(());
        }
        let (lake, (schema, table)) = (self.lake.clone(), self.name.clone());
        let again = || lake.opened_again(&schema, &table);
        let question = self.question();
        let alone = self.property("isolation-level") != Some("snapshot");
        let change = Replacement {
            base: self.table.head().map(|snapshot| snapshot.id),
            added: &self.new.done,
            ended: &self.ended,
            told: &self.told,
            touched: &self.touched,
            seen: (alone && self.read.is_some()).then_some(&question),
            // Rows may be deleted twice; rows that take the places of others, and those of files written again, may not come back.
            rows_must_be_there: self.change != RowsChange::Delete || !self.ended.is_empty(),
            dangling: &HashSet::new(),
            keeps_rows: false,
        };
        let memory = self.tools.as_ref().map_or_else(|| Arc::new(Unbounded) as _, |tools| tools.memory.clone());
        let done = self.table.replace(self.new.spec.id, &change, &memory, &again);
        self.is_shown = done.is_ok() || done.as_ref().is_err_and(|error| error.code == Code::InDoubt);
        done.map(drop)
    }
}

impl Drop for LakeChanger {
    fn drop(&mut self) {
        if !self.is_shown {
            self.new.remove();
            self.tellers.iter_mut().for_each(NewFiles::remove);
        }
    }
}

fn twice() -> Error {
    Error::new(Code::Cardinality, "a row of the table has several in the source")
        .hint("let the source have one row at most for each of the table's")
}

impl TableWriter for LakeChanger {
    fn begin(&mut self, tools: ScanTools) {
        self.new.use_memory(tools.memory.clone());
        self.tools = Some(tools);
    }

    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        let is_first = self.note(batch)?;
        let mut batch = batch.clone();
        if is_first.true_count() < batch.num_rows() {
            if self.change == RowsChange::Merge {
                return Err(twice());
            }
            batch = filter_record_batch(&batch, &is_first)?;
        }
        let mut rest = self.identity;
        if self.change.has_mark() {
            let keeps = batch.column(rest).as_boolean().clone();
            if self.change == RowsChange::Replace && keeps.null_count() > 0 {
                let what = format!(
                    "connection {}: the condition of REPLACING is not true of {} of the new rows",
                    self.lake.connection,
                    keeps.null_count()
                );
                return Err(Error::new(Code::InvalidValue, what)
                    .hint("it must be true of the rows that come as well as of those that go; nothing was changed"));
            }
            let changed = if self.change == RowsChange::Replace { keeps.true_count() } else { batch.num_rows() };
            self.outcome.rows += changed as u64;
            batch = filter_record_batch(&batch, &keeps)?;
            rest += 1;
        } else {
            self.outcome.rows += batch.num_rows() as u64;
        }
        let (columns, rows) = (&batch.columns()[rest..], batch.num_rows());
        if let Some(returned) = &mut self.returned {
            returned.push(columns, rows)?;
        }
        let Some(whole) = self.rows.as_ref().filter(|_| rows > 0) else { return Ok(()) };
        let columns = whole.columns(columns, rows)?;
        self.new.write(columns, rows)
    }

    fn prepare(mut self: Box<Self>) -> Result<Box<dyn Prepared>> {
        self.settle()?;
        self.new.finish()?;
        if let Some(returned) = self.returned.take() {
            returned.put_into(&mut self.outcome);
        }
        let told = self.told.values().flatten();
        self.outcome.files = self.new.done.len() as u64 + told.clone().count() as u64;
        self.outcome.bytes = self.new.bytes() + told.map(|file| file.bytes).sum::<u64>();
        Ok(self)
    }
}

#[async_trait]
impl Prepared for LakeChanger {
    fn outcome(&mut self) -> Outcome {
        std::mem::take(&mut self.outcome)
    }

    async fn commit(self: Box<Self>) -> Result<()> {
        apart(move || self.publish()).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_noted_once() {
        let mut places = Places::default();
        let news: Vec<bool> = [5, 64, 5, 1000, 0].into_iter().map(|place| places.insert(place)).collect();
        assert_eq!(news, [true, true, false, true, true]);
        assert_eq!(places.iter().collect::<Vec<_>>(), [0, 5, 64, 1000]);
        assert!(!places.has(1001) && !places.has(1 << 40) && places.count == 4);
    }
}
