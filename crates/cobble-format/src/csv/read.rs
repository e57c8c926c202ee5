//! Reading CSV: RFC 4180 and its relatives (`dialect.rs`). An empty field is null. A row that does not fit is an error with its line.

use std::io::{BufReader, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow::array::*;
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::BATCH_BYTES;
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, Value};

use super::infer::{column_name, numbered};
use super::marks::Marks;
use crate::record_bound::RecordBound;
use crate::{FileBatches, OpenFile, Shape};

pub struct CsvBatches {
    reader: csv::Reader<BufReader<RecordBound<Box<dyn Read + Send>>>>,
    file: OpenFile,
    /// For each column of the result its place in the file, none where the file lacks it, its type and its name.
    columns: Vec<(Option<usize>, SqlType, String)>,
    /// Fields of a row; not known before the first one where there is no header.
    fields: Option<usize>,
    record: csv::StringRecord,
    batch_rows: usize,
    is_defined: bool,
    /// How values are written, where not as in SQL.
    marks: Option<Marks>,
    /// Where the record begins that is read next.
    begun: Arc<AtomicU64>,
}

impl CsvBatches {
    pub fn open(file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Self> {
        let dialect = &shape.dialect;
        let begun: Arc<AtomicU64> = Arc::default();
        let input = RecordBound::new(dialect.decoded(file.unpacked()?), begun.clone(), file.longest_record);
        let mut reader = dialect.reader().has_headers(false).from_reader(BufReader::with_capacity(1 << 17, input));
        let own: Vec<&TableColumn> = shape.of_files().collect();
        let mut record = csv::StringRecord::new();
        let mut header = None;
        if dialect.header {
            reader.read_record(&mut record).map_err(|e| file.text_error(&e, e.to_string()))?;
            let names = record.iter().enumerate().map(|(place, name)| match column_name(name) {
                name if name.is_empty() => numbered(place),
                name => name,
            });
            header = Some(names.collect::<Vec<String>>());
        }
        if let Some(header) = &header
            && !shape.is_defined
            && let Some(extra) = header.iter().find(|name| own.iter().all(|column| column.name != **name))
        {
            let what = format!("its column {extra} is not one of the table's, which are those of its largest file");
            return Err(file
                .error(Code::SourceData, what)
                .hint("discover the catalog's tables, which takes the columns of all files together"));
        }
        let columns = shape.wanted.iter().map(|place| {
            let name = &own[*place].name;
            let in_file = match &header {
                Some(header) => header.iter().position(|known| known == name),
                None => Some(*place),
            };
            (in_file, shape.types[*place].clone(), name.clone())
        });
        Ok(CsvBatches {
            columns: columns.collect(),
            reader,
            file: file.clone(),
            fields: header.map(|header| header.len()),
            record,
            batch_rows,
            is_defined: shape.is_defined,
            marks: Some(dialect.marks.clone()).filter(|marks| !marks.is_plain()),
            begun,
        })
    }

    fn bad_row(&self, what: String, hint: &str) -> Error {
        let line = self.record.position().map_or(0, csv::Position::line);
        self.file.error(Code::SourceData, format!("line {line}: {what}")).hint(hint)
    }
}

impl FileBatches for CsvBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        let mut builders: Vec<ColumnBuilder> = self
            .columns
            .iter()
            .map(|(_, sql_type, _)| ColumnBuilder::new(sql_type, self.batch_rows))
            .collect::<Result<_>>()?;
        let (mut rows, mut bytes) = (0, 0);
        while rows < self.batch_rows && bytes < BATCH_BYTES as usize {
            let begins = self.reader.position().clone();
            self.begun.store(begins.byte(), Ordering::Relaxed);
            let more = self.reader.read_record(&mut self.record).map_err(|e| {
                let line = e.position().unwrap_or(&begins).line();
                self.file.text_error(&e, format!("line {line}: {e}"))
            })?;
            if !more {
                break;
            }
            bytes += self.record.as_slice().len();
            let found = self.record.len();
            let wanted = *self.fields.get_or_insert(found);
            if found != wanted {
                return Err(self.bad_row(
                    format!("the row has {found} fields, the first line {wanted}"),
                    if found > wanted {
                        "put text that holds a delimiter into quotes"
                    } else {
                        "add the missing fields, empty ones are null"
                    },
                ));
            }
            for ((place, sql_type, name), builder) in self.columns.iter().zip(&mut builders) {
                let text = place.and_then(|place| self.record.get(place)).unwrap_or_default();
                if let Err(error) = builder.append(text, sql_type, self.marks.as_ref()) {
                    let shown: String = text.chars().take(40).collect();
                    let (why, hint) = match self.is_defined {
                        true => ("the type that it is defined with", "correct the value, or define another type"),
                        false => ("the type found in the first rows", "correct the value"),
                    };
                    return Err(self.bad_row(
                        format!("\"{shown}\" in column {name} is not {sql_type}, {why}"),
                        &format!("{hint} ({})", error.message),
                    ));
                }
            }
            rows += 1;
        }
        if rows == 0 {
            return Ok(None);
        }
        let arrays =
            builders.into_iter().zip(&self.columns).map(|(b, (_, t, _))| b.finish(t)).collect::<Result<_>>()?;
        Ok(Some((arrays, rows)))
    }
}

enum ColumnBuilder {
    Boolean(BooleanBuilder),
    BigInt(Int64Builder),
    Double(Float64Builder),
    Numeric(Decimal128Builder),
    Date(Date32Builder),
    Timestamp(TimestampMicrosecondBuilder),
    Text(StringViewBuilder),
    /// Types that only a definition gives to a column.
    Other(Vec<Value>),
}

impl ColumnBuilder {
    fn new(sql_type: &SqlType, rows: usize) -> Result<Self> {
        Ok(match sql_type {
            SqlType::Boolean => ColumnBuilder::Boolean(BooleanBuilder::with_capacity(rows)),
            SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => {
                ColumnBuilder::BigInt(Int64Builder::with_capacity(rows))
            }
            SqlType::Double => ColumnBuilder::Double(Float64Builder::with_capacity(rows)),
            SqlType::Numeric { .. } => ColumnBuilder::Numeric(Decimal128Builder::with_capacity(rows)),
            SqlType::Date => ColumnBuilder::Date(Date32Builder::with_capacity(rows)),
            SqlType::Timestamp | SqlType::TimestampTz => {
                ColumnBuilder::Timestamp(TimestampMicrosecondBuilder::with_capacity(rows))
            }
            SqlType::Text => ColumnBuilder::Text(StringViewBuilder::with_capacity(rows)),
            SqlType::Array(_) | SqlType::Row(_) | SqlType::Null => {
                return Err(Error::new(Code::Unsupported, format!("a CSV field cannot be of type {sql_type}"))
                    .hint("define the column as text or json"));
            }
            _ => ColumnBuilder::Other(Vec::with_capacity(rows)),
        })
    }

    fn append(&mut self, text: &str, sql_type: &SqlType, marks: Option<&Marks>) -> Result<()> {
        let text = if marks.is_some_and(|marks| marks.is_null(text)) { "" } else { text };
        if let ColumnBuilder::Text(builder) = self {
            builder.append_option((!text.is_empty()).then_some(text));
            return Ok(());
        }
        let value = match sql_type {
            _ if text.is_empty() => Value::Null,
            SqlType::Json => {
                let json: serde_json::Value = serde_json::from_str(text)
                    .map_err(|e| Error::new(Code::InvalidText, format!("it is not JSON: {e}")))?;
                Value::Text(json.to_string())
            }
            _ => match marks {
                Some(marks) => marks.value(text, sql_type)?,
                None => parse_value(text, sql_type)?,
            },
        };
        match (self, value) {
            (ColumnBuilder::Boolean(b), Value::Boolean(v)) => b.append_value(v),
            (ColumnBuilder::Boolean(b), _) => b.append_null(),
            (ColumnBuilder::BigInt(b), Value::BigInt(v)) => b.append_value(v),
            (ColumnBuilder::BigInt(b), Value::Integer(v)) => b.append_value(v.into()),
            (ColumnBuilder::BigInt(b), Value::SmallInt(v)) => b.append_value(v.into()),
            (ColumnBuilder::BigInt(b), _) => b.append_null(),
            (ColumnBuilder::Double(b), Value::Double(v)) => b.append_value(v),
            (ColumnBuilder::Double(b), _) => b.append_null(),
            (ColumnBuilder::Numeric(b), Value::Numeric { unscaled, .. }) => b.append_value(unscaled),
            (ColumnBuilder::Numeric(b), _) => b.append_null(),
            (ColumnBuilder::Date(b), Value::Date(v)) => b.append_value(v),
            (ColumnBuilder::Date(b), _) => b.append_null(),
            (ColumnBuilder::Timestamp(b), Value::Timestamp(v) | Value::TimestampTz(v)) => b.append_value(v),
            (ColumnBuilder::Timestamp(b), _) => b.append_null(),
            (ColumnBuilder::Text(b), _) => b.append_null(),
            (ColumnBuilder::Other(values), value) => values.push(value),
        }
        Ok(())
    }

    fn finish(self, sql_type: &SqlType) -> Result<ArrayRef> {
        Ok(match self {
            ColumnBuilder::Boolean(mut b) => Arc::new(b.finish()),
            ColumnBuilder::BigInt(mut b) => arrow::compute::cast(&b.finish(), &sql_type.to_arrow())?,
            ColumnBuilder::Double(mut b) => Arc::new(b.finish()),
            ColumnBuilder::Numeric(mut b) => match sql_type {
                SqlType::Numeric { precision, scale } => {
                    Arc::new(b.finish().with_precision_and_scale(*precision, *scale)?)
                }
                _ => Arc::new(b.finish()),
            },
            ColumnBuilder::Date(mut b) => Arc::new(b.finish()),
            ColumnBuilder::Timestamp(mut b) => {
                let zone = (*sql_type == SqlType::TimestampTz).then(|| "UTC".into());
                Arc::new(b.finish().with_timezone_opt::<Arc<str>>(zone))
            }
            ColumnBuilder::Text(mut b) => Arc::new(b.finish()),
            ColumnBuilder::Other(values) => {
                let each: Vec<ArrayRef> = values.iter().map(|value| value.to_array(sql_type)).collect();
                let each: Vec<&dyn Array> = each.iter().map(AsRef::as_ref).collect();
                arrow::compute::concat(&each)?
            }
        })
    }
}
