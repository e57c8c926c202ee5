//! What files take over: columns, conditions on folders, conditions on Parquet rows, and a limit as a hint.

use std::any::Any;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::Scan;
use cobble_plan::offer::{GateScan, KeptReason, Offer, Verdict, pass_through, places_of};
use cobble_types::{ColumnId, Result, SqlType};

use super::FileSet;
use cobble_format::Shape;
use cobble_format::prune::{self, Range, Ranges, uses_ranges};

use super::scan::{FileScan, Part, RowCondition};

#[derive(Debug)]
pub struct FileOffer {
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

impl FileOffer {
    pub fn new(set: Arc<FileSet>, scan: &Scan) -> Self {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        let mut types: Vec<SqlType> = set.columns.iter().map(|column| column.sql_type.clone()).collect();
        scan.columns.iter().for_each(|(column, place)| types[*place] = column.sql_type.clone());
        FileOffer { set, types, places, folder_conditions: vec![], row_conditions: vec![], limit: None }
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
    fn parts(&self) -> (Vec<Part>, u64) {
        let mut parts = Vec::new();
        let mut files_left = 0;
        // Conditions of either kind may skip: a folder's value is the same in all its rows.
        let all: Vec<&Expr> = self.folder_conditions.iter().chain(&self.row_conditions).collect();
        let used: BTreeSet<ColumnId> = all.iter().flat_map(|c| c.columns()).collect();
        let first_folder = self.set.columns.iter().position(|c| c.partition).unwrap_or(self.set.columns.len());
        for (index, file) in self.set.files.iter().enumerate() {
            let mut ranges = Ranges::new();
            for (id, place) in self.places.iter().filter(|(id, _)| used.contains(id)) {
                if let Some(value) = place.checked_sub(first_folder).and_then(|i| file.partition.get(i)) {
                    ranges.insert(*id, Range::single(value.clone()));
                }
            }
            if !all.iter().all(|condition| prune::may_match(condition, &ranges)) {
                continue;
            }
            let Some(footer) = self.set.footers.get(index) else {
                files_left += 1;
                parts.push(Part { file: index, within: None });
                continue;
            };
            let columns: Vec<(ColumnId, Arc<Vec<Range>>)> = self
                .places
                .iter()
                .filter(|(id, place)| used.contains(id) && **place < first_folder)
                .map(|(id, place)| (*id, footer.ranges(&self.set.columns[*place])))
                .collect();
            let before = parts.len();
            for part in 0..footer.parts() {
                for (id, known) in &columns {
                    if let Some(range) = known.get(part) {
                        ranges.insert(*id, range.clone());
                    }
                }
                if all.iter().all(|condition| prune::may_match(condition, &ranges)) {
                    parts.push(Part { file: index, within: Some(part) });
                }
            }
            files_left += u64::from(parts.len() > before);
        }
        (parts, files_left)
    }
}

fn collect_columns(expr: &Expr, found: &mut dyn FnMut(&Column)) {
    if let Expr::Column(column) = expr {
        found(column);
    }
    expr.children().into_iter().for_each(|child| collect_columns(child, found));
}

impl Offer for FileOffer {
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

    fn project(&mut self, columns: &[(Column, Expr)]) -> Verdict {
        pass_through(&mut self.places, columns)
    }

    fn limit(&mut self, limit: Option<u64>, offset: u64) -> Verdict {
        match limit {
            Some(n) => {
                let wanted = n.saturating_add(offset);
                self.limit = Some(self.limit.map_or(wanted, |known| known.min(wanted)));
                Verdict::Prunes { note: Some(format!("no portion gives more than {wanted} rows")) }
            }
            None => Verdict::kept(KeptReason::NoSuchAbility, "files do not count rows"),
        }
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn finish(&self, columns: &[Column]) -> Result<Arc<dyn GateScan>> {
        let output = places_of(&self.places, columns)?;
        let (parts, files_read) = self.parts();
        let conditions = self
            .row_conditions
            .iter()
            .map(|condition| RowCondition { columns: self.columns_of(condition), condition: condition.clone() })
            .collect();
        let mut file_columns: Vec<usize> = output.iter().copied().filter(|p| !self.set.columns[*p].partition).collect();
        file_columns.sort_unstable();
        file_columns.dedup();
        let shape = Shape {
            columns: self.set.columns.clone(),
            types: self.types.clone(),
            wanted: file_columns,
            is_defined: self.set.is_defined,
            dialect: self.set.dialect.clone(),
        };
        let set = self.set.clone();
        Ok(Arc::new(FileScan { set, shape: Arc::new(shape), output, parts, files_read, conditions, limit: self.limit }))
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
