//! Pages of a row group that cannot hold a wanted row, by the page index that stands before the footer (Parquet format, "Parquet page
//! index").

use std::sync::{Arc, OnceLock};

use arrow::array::{Array, ArrayRef};
use arrow::compute::cast;
use bytes::{Buf, Bytes};
use cobble_plan::scan::GateCounters;
use cobble_storage::Blob;
use parquet::arrow::arrow_reader::statistics::StatisticsConverter;
use parquet::arrow::arrow_reader::{ArrowReaderMetadata, RowSelection, RowSelector};
use parquet::file::metadata::{PageIndexPolicy, ParquetMetaData, ParquetMetaDataReader};
use parquet::file::reader::{ChunkReader, Length};

use super::bound_of;
use crate::footer::PageCondition;
use crate::prune::{Range, Ranges, may_match};

/// The page index of a file, read when it is first asked for; nothing when the file has none.
#[derive(Default)]
pub struct Pages(OnceLock<Option<ParquetMetaData>>);

impl Pages {
    fn index(
        &self,
        arrow: &ArrowReaderMetadata,
        blob: &Arc<dyn Blob>,
        counters: &GateCounters,
    ) -> Option<&ParquetMetaData> {
        let read = || {
            let chunks = arrow.metadata().row_groups().iter().flat_map(|group| group.columns());
            let lengths = chunks.flat_map(|c| [c.column_index_length(), c.offset_index_length()]).flatten();
            GateCounters::add(&counters.bytes, lengths.map(|n| n.max(0) as u64).sum());
            let mut reader = ParquetMetaDataReader::new_with_metadata(arrow.metadata().as_ref().clone())
                .with_page_index_policy(PageIndexPolicy::Optional);
            // A damaged index is no reason to fail: it only saves work.
            reader.read_page_indexes(&Whole(blob.clone())).ok()?;
            let whole = reader.finish().ok()?;
            (whole.column_index().is_some() && whole.offset_index().is_some()).then_some(whole)
        };
        self.0.get_or_init(read).as_ref()
    }

    /// The rows of a row group that may satisfy all conditions; `None` when that is all of them.
    pub fn selection(
        &self,
        arrow: &ArrowReaderMetadata,
        blob: &Arc<dyn Blob>,
        row_group: usize,
        conditions: &[PageCondition],
        counters: &GateCounters,
    ) -> Option<RowSelection> {
        let index = (!conditions.is_empty()).then(|| self.index(arrow, blob, counters))??;
        let mut selection: Option<RowSelection> = None;
        for condition in conditions {
            let Some(own) = rows_that_may_match(arrow, index, row_group, condition) else { continue };
            selection = Some(match selection {
                Some(before) => before.intersection(&own),
                None => own,
            });
        }
        selection.filter(|selection| selection.skipped_row_count() > 0)
    }
}

/// A file as the Parquet crate reads it, without anything kept.
struct Whole(Arc<dyn Blob>);

impl Length for Whole {
    fn len(&self) -> u64 {
        self.0.size()
    }
}

impl ChunkReader for Whole {
    type T = bytes::buf::Reader<Bytes>;

    fn get_read(&self, start: u64) -> parquet::errors::Result<Self::T> {
        let rest = self.0.size().saturating_sub(start) as usize;
        Ok(self.get_bytes(start, rest.min(1 << 16))?.reader())
    }

    fn get_bytes(&self, start: u64, length: usize) -> parquet::errors::Result<Bytes> {
        Ok(self.0.read(start, length)?)
    }
}

fn rows_that_may_match(
    arrow: &ArrowReaderMetadata,
    index: &ParquetMetaData,
    row_group: usize,
    condition: &PageCondition,
) -> Option<RowSelection> {
    let converter =
        StatisticsConverter::try_new(&condition.column.name, arrow.schema(), arrow.parquet_schema()).ok()?;
    let groups = [row_group];
    let (columns, offsets) = (index.column_index()?, index.offset_index()?);
    let rows = converter.data_page_row_counts(offsets, arrow.metadata().row_groups(), &groups).ok()??;
    let target = condition.column.sql_type.to_arrow();
    let bound = |array: parquet::errors::Result<ArrayRef>| cast(&array.ok()?, &target).ok();
    let mins = bound(converter.data_page_mins(columns, offsets, &groups))?;
    let maxes = bound(converter.data_page_maxes(columns, offsets, &groups))?;
    let nulls = converter.data_page_null_counts(columns, offsets, &groups).ok()?;
    let pages = rows.len();
    if rows.null_count() > 0 || pages < 2 || mins.len() != pages || maxes.len() != pages || nulls.len() != pages {
        return None;
    }
    let selectors = (0..pages).map(|page| {
        let null_count = nulls.is_valid(page).then(|| nulls.value(page));
        let range = Range {
            min: bound_of(&mins, page),
            max: bound_of(&maxes, page),
            all_null: null_count == Some(rows.value(page)),
            may_be_null: null_count != Some(0),
            may_be_nan: condition.column.sql_type.is_float(),
        };
        let count = rows.value(page) as usize;
        match may_match(&condition.condition, &Ranges::from([(condition.id, range)])) {
            true => RowSelector::select(count),
            false => RowSelector::skip(count),
        }
    });
    Some(RowSelection::from(selectors.collect::<Vec<_>>()))
}
