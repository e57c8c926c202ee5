//! What a lake takes over: columns, every condition (by partitions and bounds where they decide, then row by row), and a limit as a hint.

use std::collections::HashMap;
use std::sync::Arc;

use cobble_format::prune::{self, Range, Ranges, uses_ranges};
use cobble_format::{Dialect, Footer, Shape};
use cobble_lake::deletes::Gone;
use cobble_lake::left::{Budget, DataFile, Left, Parts};
use cobble_lake::manifest_list::Manifest;
use cobble_lake::prune::has_bounds;
use cobble_lake::schema::Field;
use cobble_plan::draft::Draft;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::Asked;
use cobble_plan::logical::Scan;
use cobble_plan::offer::{Agreed, KeptReason, PartCount, Request, Verdict, at_most, pass_through, places_of};
use cobble_plan::scan::{ScanMemory, ScanSpec, Unbounded};
use cobble_types::{ColumnId, ObjectName, Result};
use tokio_util::sync::CancellationToken;

use super::fields::FileFields;
use super::later::{part, parts_of};
use super::row_places;
use super::scan::{FORM, FilePart, Portion, RowCondition, Work};
use super::{Seen, apart, column_of};

/// Of more files than this the footers are read when the files are.
const FOOTERS_AT_ONCE: usize = 64;

#[derive(Debug)]
pub struct LakeDraft {
    name: ObjectName,
    seen: Arc<Seen>,
    /// For each column of the plan its place in the table.
    places: HashMap<ColumnId, usize>,
    conditions: Vec<Expr>,
    limit: Option<u64>,
}

impl LakeDraft {
    pub fn new(seen: Arc<Seen>, scan: &Scan) -> Self {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        LakeDraft { name: scan.table.name.clone(), seen, places, conditions: vec![], limit: None }
    }

    fn columns_of(&self, expr: &Expr) -> Vec<(Column, usize)> {
        let mut found: Vec<(Column, usize)> = Vec::new();
        collect(expr, &mut |column| {
            if let Some(place) = self.places.get(&column.id)
                && !found.iter().any(|(known, _)| known == column)
            {
                found.push((column.clone(), *place));
            }
        });
        found
    }

    fn filter(&mut self, conjunct: &Expr) -> Verdict {
        if conjunct.is_volatile() {
            return Verdict::kept(KeptReason::Volatile, "its value changes from row to row");
        }
        if self.columns_of(conjunct).is_empty() {
            return Verdict::kept(KeptReason::NoSuchAbility, "it uses no column of the table");
        }
        self.conditions.push(conjunct.clone());
        let rows = rows_when(self.seen.tells_rows);
        Verdict::pushed_with(match uses_ranges(conjunct) {
            true => format!("manifests and files by partitions and bounds, row groups by min and max, then {rows}"),
            false => rows.to_owned(),
        })
    }
}

/// When conditions are tested on rows: where these are counted, all of them are decoded.
pub fn rows_when(tells_rows: bool) -> &'static str {
    if tells_rows { "rows after decoding" } else { "rows while decoding" }
}

fn collect(expr: &Expr, found: &mut dyn FnMut(&Column)) {
    if let Expr::Column(column) = expr {
        found(column);
    }
    expr.children().into_iter().for_each(|child| collect(child, found));
}

/// What is known of a column in each row group of a file; none of one that the file lacks, or has in another form.
pub fn ranges_of(footer: &dyn Footer, fields: &FileFields, work: &Work, place: usize) -> Option<Arc<Vec<Range>>> {
    let of_table = &work.columns[place];
    // Values that stand in another form in the file have other bounds there.
    let is_plain = has_bounds(&of_table.sql_type) && of_table.sql_type != cobble_types::SqlType::Uuid;
    let name = fields.name(place).filter(|_| is_plain)?;
    Some(footer.ranges(&cobble_plan::logical::TableColumn { name: name.to_owned(), ..of_table.clone() }))
}

/// The row groups of a file that may hold a wanted row.
pub fn groups_left(footer: &dyn Footer, fields: &FileFields, work: &Work) -> Vec<usize> {
    let columns = work.conditions.iter().flat_map(|condition| &condition.columns);
    let known: Vec<(ColumnId, Arc<Vec<Range>>)> =
        columns.filter_map(|(column, place)| Some((column.id, ranges_of(footer, fields, work, *place)?))).collect();
    (0..footer.parts())
        .filter(|group| {
            let ranges: Ranges = known.iter().filter_map(|(id, all)| Some((*id, all.get(*group)?.clone()))).collect();
            work.conditions.iter().all(|condition| prune::may_match(&condition.condition, &ranges))
        })
        .collect()
}

/// What was found of a question: the files, and the footers if there are few enough of them; none of files whose rows are known without.
struct Found {
    left: Left,
    footers: Option<Vec<Option<Arc<dyn Footer>>>>,
}

impl LakeDraft {
    async fn found(&self, work: &Work) -> Result<Found> {
        let seen = self.seen.clone();
        let Some(snapshot) = seen.snapshot.clone() else {
            return Ok(Found { left: Left::default(), footers: Some(vec![]) });
        };
        let question = work.question(&seen.table);
        // A change has to know all files whose rows it may change.
        let budget = if seen.tells_rows { Budget::ALL } else { seen.lake.planning };
        let reads_columns = !work.places_read().is_empty();
        let work = work.clone();
        apart(move || {
            let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
            let cancel = CancellationToken::new();
            let looking = seen.table.looking(&snapshot, seen.schema, &question, &memory, &cancel)?;
            let left = looking.left(budget, &memory, &cancel)?;
            let few = left.files.len() <= FOOTERS_AT_ONCE && reads_columns;
            let of_files = |left: &Left| -> Result<Vec<Option<Arc<dyn Footer>>>> {
                let read: Vec<DataFile> = left.files.iter().filter(|file| !work.knows_rows(file)).cloned().collect();
                let mut footers = seen.lake.footers(&seen.table.storage, &read)?.into_iter();
                Ok(left.files.iter().map(|file| if work.knows_rows(file) { None } else { footers.next() }).collect())
            };
            let footers = few.then(|| of_files(&left)).transpose()?;
            Ok(Found { left, footers })
        })
        .await
    }
}

impl Draft for LakeDraft {
    async fn take(&mut self, piece: Asked<'_>) -> Verdict {
        match piece {
            Asked::Filter(conjunct) => self.filter(conjunct),
            Asked::Project(columns) => pass_through(&mut self.places, columns),
            Asked::Limit { limit: Some(limit), offset } => {
                let wanted = at_most(&mut self.limit, limit, offset);
                Verdict::Prunes { note: Some(format!("no portion gives more than {wanted} rows")) }
            }
            other => other.kept(),
        }
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let seen = &self.seen;
        let conditions = self
            .conditions
            .iter()
            .map(|condition| RowCondition { columns: self.columns_of(condition), condition: condition.clone() });
        let mut work = Work {
            columns: seen.columns.clone(),
            tells_rows: seen.tells_rows.then(|| seen.columns.len() - row_places::columns().len()),
            schema: seen.schema,
            snapshot: seen.snapshot.as_ref().map(|snapshot| snapshot.id),
            gone: Gone::default(),
            metadata: seen.table.file.clone(),
            name: seen.table.name.clone(),
            output: places_of(&self.places, columns)?,
            conditions: conditions.collect(),
            limit: self.limit,
        };
        let Found { left, footers } = self.found(&work).await?;
        // A column of a condition that all rows fulfil is not read.
        let knows_all = left.later.is_empty();
        let untested = |place: usize| knows_all && left.files.iter().all(|file| file.certain.contains(&place));
        let places = work.places_tested(|place| !untested(place));
        let fields: Arc<[Field]> = seen.lake.all_fields(&seen.table, seen.schema, &left.gone, seen.tells_rows)?.into();
        work.columns.extend(fields[seen.columns.len()..].iter().map(|field| column_of(field, field.name.clone())));
        work.gone = left.gone.clone();
        let mapping = seen.lake.mapping(&seen.table)?;
        let names: Vec<String> = places.iter().map(|place| seen.columns[*place].name.clone()).collect();
        let mut counts = vec![part("manifests", left.manifests)];
        if !left.later.is_empty() {
            let (read, total) = (left.manifests.read - left.later.len() as u64, left.manifests.read);
            counts.push(part("of these looked through while planning", Parts { read, total }));
        }
        counts.extend(parts_of(&left.counts).into_iter().filter(|own| knows_all || own.total > 0));
        let tested = left.files.iter().filter(|file| file.certain.len() < work.conditions.len()).count() as u64;
        let all = left.files.len() as u64;
        if knows_all && !work.conditions.is_empty() && tested < all {
            counts.push(PartCount { parts: "files whose rows are tested".to_owned(), read: tested, total: all });
        }
        if left.deletes.total > 0 {
            counts.push(part("files of deleted rows", left.deletes));
        }
        let shape = work.shape(&work.output);
        let mut bytes = 0.0;
        let mut most_rows: u64 = left.files.iter().map(|file| file.rows).sum();
        let parts: Vec<FilePart> = match &footers {
            None => {
                bytes += left.files.iter().map(|file| file.stored.bytes as f64).sum::<f64>();
                left.files.iter().map(|file| FilePart { file: file.clone(), within: None }).collect()
            }
            Some(footers) => {
                most_rows = 0;
                let (mut parts, mut total) = (Vec::new(), 0);
                for (file, footer) in left.files.iter().zip(footers) {
                    let Some(footer) = footer else {
                        most_rows += file.rows;
                        parts.push(FilePart { file: file.clone(), within: None });
                        continue;
                    };
                    let fields = seen.lake.fields(file, footer.as_ref(), &fields, mapping.as_deref())?;
                    let layout = fields.layout();
                    total += footer.parts() as u64;
                    for group in groups_left(footer.as_ref(), &fields, &work) {
                        most_rows += footer.rows(group);
                        bytes += footer.bytes(group, &shape, &layout, &places);
                        parts.push(FilePart { file: file.clone(), within: Some(group) });
                    }
                }
                let read = parts.iter().filter(|part| part.within.is_some()).count() as u64;
                if knows_all || total > 0 {
                    counts.push(PartCount { parts: "row groups in those".into(), read, total });
                }
                parts
            }
        };
        let (later_rows, later_bytes) = expected_later(&left);
        let state = match &seen.snapshot {
            Some(snapshot) => format!("snapshot {}", snapshot.id),
            None => "no snapshot".to_owned(),
        };
        let what = if names.is_empty() { "no column".to_owned() } else { names.join(", ") };
        let files = cobble_network::test_steps::counted(left.files.len(), "file");
        let more = match left.later.len() {
            0 => String::new(),
            later => format!(", and those found later in {},", cobble_network::test_steps::counted(later, "manifest")),
        };
        let text = format!("read {files}{more} of {state}, column chunks of {what}");
        let portions = parts.into_iter().map(Portion::File).chain(left.later.into_iter().map(Portion::Manifest));
        let spec = ScanSpec::new((seen.lake.connection.as_str(), seen.lake.kind), &self.name, FORM, &work)?;
        Ok(Agreed {
            parts: counts,
            most_rows: later_rows.map(|later| most_rows as f64 + later),
            all_rows_come_out: work.conditions.is_empty() && work.limit.is_none() && left.deletes.read == 0,
            estimated_bytes: later_bytes.map(|later| bytes + later),
            ..Agreed::new(spec.with_portions(portions)?, Request { text, parameters: vec![] }, names)
        })
    }
}

/// The rows, and the bytes to be read, of files that manifests name which were left for later: the most rows, and as many bytes as those that were
/// looked at let expect. None where that is not known.
fn expected_later(left: &Left) -> (Option<f64>, Option<f64>) {
    let sum =
        |of: fn(&Manifest) -> Option<u64>| left.later.iter().map(of).try_fold(0.0, |sum, own| Some(sum + own? as f64));
    if left.later.is_empty() {
        return (Some(0.0), Some(0.0));
    }
    let looked = left.counts.partitioned.total as f64;
    let bytes: f64 = left.files.iter().map(|file| file.stored.bytes as f64).sum();
    let of_files = sum(Manifest::files).filter(|_| looked > 0.0);
    (sum(Manifest::rows), of_files.map(|files| files * bytes / looked))
}

/// What is read of files of a lake, as the readers of files take it.
pub fn shape_of(columns: &[cobble_plan::logical::TableColumn], wanted: &[usize]) -> Shape {
    let mut wanted = wanted.to_vec();
    wanted.sort_unstable();
    wanted.dedup();
    Shape {
        columns: columns.to_vec(),
        types: columns.iter().map(|column| column.sql_type.clone()).collect(),
        wanted,
        is_defined: true,
        dialect: Dialect::default(),
    }
}
