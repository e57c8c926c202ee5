//! What files take over: columns, conditions on folders, conditions on Parquet rows, and a limit as a hint.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_plan::draft::Draft;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::Asked;
use cobble_plan::logical::{Scan, TableColumn};
use cobble_plan::offer::{Agreed, KeptReason, PartCount, Request, Verdict, at_most, pass_through, places_of};
use cobble_plan::scan::ScanSpec;
use cobble_types::{ColumnId, ObjectName, Result, SqlType};

use super::FileSet;
use cobble_format::prune::{self, Range, Ranges, uses_ranges};
use cobble_format::{Footer, Layout};

use super::listing::DataFile;
use super::scan::{FORM, Part, Portion, RowCondition, Work, footers};

#[derive(Debug)]
pub struct FileDraft {
    name: ObjectName,
    set: Arc<FileSet>,
    /// As in [`Shape::types`].
    types: Vec<SqlType>,
    /// For each column of the plan its place in the table.
    places: HashMap<ColumnId, usize>,
    /// Conditions on folder values alone, decided per file while planning.
    folder_conditions: Vec<Expr>,
    row_conditions: Vec<Expr>,
    limit: Option<u64>,
}

impl FileDraft {
    pub fn new(set: Arc<FileSet>, scan: &Scan) -> Self {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        let mut types: Vec<SqlType> = set.columns.iter().map(|column| column.sql_type.clone()).collect();
        scan.columns.iter().for_each(|(column, place)| types[*place] = column.sql_type.clone());
        let name = scan.table.name.clone();
        FileDraft { name, set, types, places, folder_conditions: vec![], row_conditions: vec![], limit: None }
    }

    fn columns_of(&self, expr: &Expr) -> Vec<(Column, usize)> {
        let mut found: Vec<(Column, usize)> = Vec::new();
        collect_columns(expr, &mut |column| {
            if let Some(place) = self.places.get(&column.id)
                && !found.iter().any(|(known, _)| known == column)
            {
                found.push((column.clone(), *place));
            }
        });
        found
    }

    /// The files and row groups that may hold rows that satisfy all conditions.
    async fn left(&self) -> Result<Left> {
        let set = &self.set;
        // Conditions of either kind may skip: a folder's value is the same in all its rows.
        let all: Vec<&Expr> = self.folder_conditions.iter().chain(&self.row_conditions).collect();
        let used: BTreeSet<ColumnId> = all.iter().flat_map(|c| c.columns()).collect();
        let first_folder = set.columns.iter().position(|c| c.partition).unwrap_or(set.columns.len());
        let of_folder = |file: usize| -> Ranges {
            let value = |place: &usize| set.files[file].partition.get(place.checked_sub(first_folder)?).cloned();
            let known = self.places.iter().filter(|(id, _)| used.contains(id));
            known.filter_map(|(id, place)| Some((*id, Range::single(value(place)?)))).collect()
        };
        let may = |ranges: &Ranges| all.iter().all(|condition| prune::may_match(condition, ranges));
        let files: Vec<usize> = (0..set.files.len()).filter(|file| may(&of_folder(*file))).collect();
        let footers = match &set.footers {
            Some(known) if known.is_empty() => HashMap::new(),
            Some(known) => files.iter().map(|file| (*file, known[*file].clone())).collect(),
            None => {
                let wanted: Vec<DataFile> = files.iter().map(|file| set.files[*file].clone()).collect();
                let read = footers(&set.source, set.format, &wanted).await?;
                let of_files: Vec<TableColumn> = set.columns.iter().filter(|c| !c.partition).cloned().collect();
                cobble_format::check_columns(&set.source.connection, &read, &of_files)?;
                files.iter().copied().zip(read).collect()
            }
        };
        let mut left = Left { parts: vec![], files: 0, footers };
        for file in files {
            let Some(footer) = left.footers.get(&file) else {
                left.files += 1;
                left.parts.push(Part { file, within: None });
                continue;
            };
            let columns: Vec<(ColumnId, Arc<Vec<Range>>)> = self
                .places
                .iter()
                .filter(|(id, place)| used.contains(id) && **place < first_folder)
                .map(|(id, place)| (*id, footer.ranges(&set.columns[*place])))
                .collect();
            let (mut ranges, before) = (of_folder(file), left.parts.len());
            for part in 0..footer.parts() {
                for (id, known) in &columns {
                    if let Some(range) = known.get(part) {
                        ranges.insert(*id, range.clone());
                    }
                }
                if may(&ranges) {
                    left.parts.push(Part { file, within: Some(part) });
                }
            }
            left.files += u64::from(left.parts.len() > before);
        }
        Ok(left)
    }
}

/// What conditions leave to read.
struct Left {
    parts: Vec<Part>,
    /// Files with a part among them.
    files: u64,
    /// The footers of the files that their folders leave, by the files' places; none for a format without.
    footers: HashMap<usize, Arc<dyn Footer>>,
}

fn collect_columns(expr: &Expr, found: &mut dyn FnMut(&Column)) {
    if let Expr::Column(column) = expr {
        found(column);
    }
    expr.children().into_iter().for_each(|child| collect_columns(child, found));
}

impl FileDraft {
    fn filter(&mut self, conjunct: &Expr) -> Verdict {
        if conjunct.is_volatile() {
            return Verdict::kept(KeptReason::Volatile, "its value changes from row to row");
        }
        let columns = self.columns_of(conjunct);
        let on_folders = !columns.is_empty() && columns.iter().all(|(_, place)| self.set.columns[*place].partition);
        if on_folders && decides_single_values(conjunct) {
            self.folder_conditions.push(conjunct.clone());
            return Verdict::pushed_with("by the folders' names");
        }
        if self.set.format.parts().is_none() {
            let note = format!("{} keeps nothing to skip rows by", self.set.format.words());
            return Verdict::kept(KeptReason::NoSuchAbility, note);
        }
        if columns.is_empty() {
            return Verdict::kept(KeptReason::NoSuchAbility, "it uses no column of the file");
        }
        self.row_conditions.push(conjunct.clone());
        if on_folders {
            return Verdict::pushed_with("by the folders' names where they decide it, then row by row");
        }
        Verdict::pushed_with(if uses_ranges(conjunct) {
            "row groups by min and max, then rows while decoding"
        } else {
            "rows while decoding"
        })
    }
}

/// Whether the files' scan would read less with keys for the column at this place.
pub fn takes_keys(set: &FileSet, spec: &ScanSpec, place: usize) -> Result<Verdict> {
    let work: Work = spec.unpack(FORM)?;
    let column = work.output.get(place).and_then(|place| set.columns.get(*place));
    if column.is_some_and(|column| column.partition) {
        return Ok(Verdict::Prunes { note: Some("files by the folders' names".into()) });
    }
    if set.format.parts().is_none() {
        let note = format!("{} keeps nothing to skip rows by", set.format.words());
        return Ok(Verdict::kept(KeptReason::NoSuchAbility, note));
    }
    Ok(Verdict::Prunes { note: Some("row groups by min and max, then rows while decoding".into()) })
}

impl Draft for FileDraft {
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
        let set = &self.set;
        let Left { parts, files: files_read, footers } = self.left().await?;
        let conditions = self
            .row_conditions
            .iter()
            .map(|condition| RowCondition { columns: self.columns_of(condition), condition: condition.clone() })
            .collect();
        let work = Work {
            format: set.format.name().to_owned(),
            columns: set.columns.clone(),
            types: self.types.clone(),
            is_defined: set.is_defined,
            dialect: set.dialect.clone(),
            output: places_of(&self.places, columns)?,
            conditions,
            limit: self.limit,
        };
        let (shape, places) = (work.shape(), work.places_read());
        let names = |all: &[usize]| all.iter().map(|place| shape.name(*place)).collect::<Vec<String>>();
        let in_files: Vec<usize> = places.iter().copied().filter(|p| !set.columns[*p].partition).collect();
        let what = match set.files.as_slice() {
            [one] => one.stored.path.display().to_string(),
            _ => {
                let address = set.source.storage.address();
                format!("{files_read} file{} below {address}", if files_read == 1 { "" } else { "s" })
            }
        };
        let text = format!("read {what}{}", set.format.reading(&names(&in_files)));
        let mut counts = vec![PartCount { parts: "files".into(), read: files_read, total: set.files.len() as u64 }];
        if let Some(name) = set.format.parts() {
            // Of files that their folders rule out the footers may never have been read.
            let (parts_name, total) = match &set.footers {
                Some(all) => (name.to_owned(), all.iter().map(|footer| footer.parts() as u64).sum()),
                None => (format!("{name} in them"), footers.values().map(|footer| footer.parts() as u64).sum()),
            };
            counts.push(PartCount { parts: parts_name, read: parts.len() as u64, total });
        }
        let layouts: HashMap<usize, Layout> =
            footers.iter().map(|(file, footer)| (*file, footer.layout(&set.columns))).collect();
        let rows = |part: &Part| part.within.map_or(0, |within| footers[&part.file].rows(within)) as f64;
        let bytes = |part: &Part| match part.within {
            None => set.files[part.file].stored.bytes as f64,
            Some(within) => footers[&part.file].bytes(within, &shape, &layouts[&part.file], &places),
        };
        let portions = parts.iter().map(|part| Portion { file: set.files[part.file].clone(), within: part.within });
        let place = (set.source.connection.as_str(), set.source.kind.as_str());
        Ok(Agreed {
            parts: counts,
            most_rows: set.format.parts().map(|_| parts.iter().map(rows).sum()),
            all_rows_come_out: work.conditions.is_empty() && work.limit.is_none(),
            estimated_bytes: Some(parts.iter().map(bytes).sum()),
            ..Agreed::new(
                ScanSpec::new(place, &self.name, FORM, &work)?.with_portions(portions)?,
                Request { text, parameters: vec![] },
                names(&places),
            )
        })
    }
}

/// True when `may_match` is exact for a part in which every column has one value and no nulls.
fn decides_single_values(condition: &Expr) -> bool {
    use cobble_plan::BinaryOp;
    match condition {
        Expr::Binary { op: BinaryOp::And | BinaryOp::Or, left, right, .. } => {
            decides_single_values(left) && decides_single_values(right)
        }
        Expr::Binary { .. } => condition
            .as_column_comparison()
            .is_some_and(|(column, op, value)| op != BinaryOp::IsDistinctFrom && value.sql_type() == column.sql_type),
        Expr::InList { operand, list, negated: false } => {
            let own = operand.sql_type();
            matches!(operand.as_ref(), Expr::Column(_))
                && list.iter().all(|item| matches!(item, Expr::Literal { value, .. } if value.sql_type() == own))
        }
        _ => false,
    }
}
