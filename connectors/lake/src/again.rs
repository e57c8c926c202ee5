//! Rows of files that are written again, in other files.

use std::sync::Arc;

use arrow::array::{ArrayRef, AsArray, BooleanArray};
use arrow::compute::{cast, filter};
use arrow::datatypes::{DataType, Int64Type};
use cobble_lake::deletes::Gone;
use cobble_lake::left::DataFile;
use cobble_lake::table::LakeTable;
use cobble_plan::scan::ScanTools;
use cobble_types::{Error, Result};

use super::scan::{FilePart, Portion, Work, scan_of};
use super::{Lake, columns, row_places};

/// The work that reads whole rows of a table.
pub fn whole(table: &LakeTable, gone: Gone) -> Result<Work> {
    let schema = table.metadata.schema_id;
    let mut own = columns(table, schema)?;
    let first = own.len();
    own.extend(row_places::columns());
    Ok(Work {
        columns: own,
        tells_rows: Some(first),
        schema,
        snapshot: None,
        gone,
        metadata: table.file.clone(),
        name: table.name.clone(),
        output: vec![],
        conditions: vec![],
        limit: None,
    })
}

/// Reads the rows of files, without those that are gone, and gives those that stay, as the table's columns, to `take`. Whether one stays is
/// decided by the path of its file and its place there.
pub fn write_again(
    lake: &Arc<Lake>,
    work: Work,
    files: Vec<DataFile>,
    stays: &dyn Fn(&str, u64) -> bool,
    tools: &ScanTools,
    take: &mut dyn FnMut(Vec<ArrayRef>, usize) -> Result<()>,
) -> Result<()> {
    if files.is_empty() {
        return Ok(());
    }
    let first = work.tells_rows.ok_or_else(|| Error::internal("rows were found without their places"))?;
    // The table's columns, and which row it is.
    let work = Work { output: (0..first + 2).collect(), conditions: vec![], limit: None, ..work };
    let portions = files.into_iter().map(|file| Portion::File(FilePart { file, within: None })).collect();
    let scan = scan_of(lake, work, portions);
    let runtime = tokio::runtime::Handle::current();
    let portions = runtime.block_on(scan.open(tools))?;
    while let Some(mut reader) = runtime.block_on(portions.claim())? {
        while let Some(batch) = runtime.block_on(reader.next())? {
            if tools.cancel.is_cancelled() {
                return Err(Error::cancelled());
            }
            if batch.num_rows() == 0 {
                continue;
            }
            let path = cast(&batch.column(first).slice(0, 1), &DataType::Utf8)?;
            let path = path.as_string::<i32>().value(0);
            let places = batch.column(first + 1).as_primitive::<Int64Type>().values();
            let mask: BooleanArray = places.iter().map(|place| Some(stays(path, *place as u64))).collect();
            let left = mask.true_count();
            if left == 0 {
                continue;
            }
            let own = batch.columns()[..first].iter().map(|column| filter(column, &mask));
            take(own.collect::<std::result::Result<_, _>>()?, left)?;
        }
    }
    Ok(())
}
