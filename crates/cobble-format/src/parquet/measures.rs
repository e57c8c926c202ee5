//! What the footer of a file that was just written says of its columns, by the ids of their fields.

use std::collections::BTreeMap;
use std::fs::File;
use std::io;

use parquet::file::metadata::ParquetMetaDataReader;
use parquet::file::statistics::Statistics;

/// What is known of a file.
#[derive(Debug, Clone, Default)]
pub struct FileMeasures {
    pub rows: u64,
    /// Where its row groups begin.
    pub splits: Vec<u64>,
    pub columns: BTreeMap<i32, ColumnMeasures>,
}

/// What is known of a column of values without others in them.
#[derive(Debug, Clone, Default)]
pub struct ColumnMeasures {
    /// Bytes in the file.
    pub bytes: u64,
    /// Values with the nulls among them.
    pub values: u64,
    pub nulls: Option<u64>,
    /// Of each row group the least and the greatest value, none where the group tells none. Of lists and maps none are told.
    pub bounds: Vec<Option<(Bound, Bound)>>,
    /// Row groups that have nothing but nulls tell no bounds, and need none.
    pub all_null: Vec<bool>,
}

/// A value as the file has it (Parquet format, "Types").
#[derive(Debug, Clone, PartialEq)]
pub enum Bound {
    Boolean(bool),
    Int(i32),
    Long(i64),
    Float(f32),
    Double(f64),
    Bytes(Vec<u8>),
}

/// # Errors
/// Where it has no footer.
pub fn measures(file: &File) -> io::Result<FileMeasures> {
    let metadata = ParquetMetaDataReader::new().parse_and_finish(file).map_err(io::Error::other)?;
    let mut found = FileMeasures::default();
    for group in metadata.row_groups() {
        found.rows += u64::try_from(group.num_rows()).unwrap_or(0);
        found.splits.extend(group.columns().first().map(|first| first.byte_range().0));
        for chunk in group.columns() {
            let description = chunk.column_descr();
            let info = description.self_type().get_basic_info();
            if !info.has_id() {
                continue;
            }
            let column = found.columns.entry(info.id()).or_default();
            let values = u64::try_from(chunk.num_values()).unwrap_or(0);
            let statistics = chunk.statistics().filter(|_| description.max_rep_level() == 0);
            let nulls = statistics.and_then(Statistics::null_count_opt);
            column.bytes += u64::try_from(chunk.compressed_size()).unwrap_or(0);
            column.nulls = match column.bounds.is_empty() {
                true => nulls,
                false => column.nulls.zip(nulls).map(|(before, own)| before + own),
            };
            column.values += values;
            column.all_null.push(nulls == Some(values));
            column.bounds.push(statistics.and_then(bounds));
        }
    }
    Ok(found)
}

fn bounds(statistics: &Statistics) -> Option<(Bound, Bound)> {
    macro_rules! both {
        ($own:expr, $make:expr) => {
            $own.min_opt().zip($own.max_opt()).map(|(min, max)| ($make(min), $make(max)))
        };
    }
    match statistics {
        Statistics::Boolean(own) => both!(own, |v: &bool| Bound::Boolean(*v)),
        Statistics::Int32(own) => both!(own, |v: &i32| Bound::Int(*v)),
        Statistics::Int64(own) => both!(own, |v: &i64| Bound::Long(*v)),
        Statistics::Float(own) => both!(own, |v: &f32| Bound::Float(*v)),
        Statistics::Double(own) => both!(own, |v: &f64| Bound::Double(*v)),
        Statistics::ByteArray(own) => both!(own, |v: &parquet::data_type::ByteArray| Bound::Bytes(v.data().to_vec())),
        Statistics::FixedLenByteArray(own) => {
            both!(own, |v: &parquet::data_type::FixedLenByteArray| Bound::Bytes(v.data().to_vec()))
        }
        Statistics::Int96(_) => None,
    }
}
