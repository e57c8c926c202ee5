//! Reading CSV: RFC 4180 with a header line. An empty field is null. A row that does not fit is an error with its line.

use std::io::{BufReader, Read};
use std::sync::Arc;

use arrow::array::*;
use cobble_plan::logical::TableColumn;
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, Value};

use super::listing::DataFile;
use super::scan::{FileBatches, ScanShape};
use super::{file_error, text_error};

pub struct CsvBatches {
    reader: csv::Reader<BufReader<Box<dyn Read + Send>>>,
    connection: String,
    file: DataFile,
    /// For each column of the result its place in the file and its type.
    columns: Vec<(usize, SqlType)>,
    names: Vec<String>,
    record: csv::StringRecord,
    batch_rows: usize,
}

impl CsvBatches {
    pub fn open(shape: &ScanShape, file: &DataFile, input: Box<dyn Read + Send>, batch_rows: usize) -> Result<Self> {
        let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(BufReader::with_capacity(1 << 17, input));
        let connection = shape.set.source.connection.clone();
        let header = reader.headers().map_err(|e| text_error(&connection, file, &e, e.to_string()))?;
        let header: Vec<String> = header.iter().map(|name| name.trim().to_lowercase()).collect();
        let own: Vec<&TableColumn> = shape.set.columns.iter().filter(|c| !c.partition).collect();
        if header.len() != own.len() {
            let what = format!("its header has {} columns, other files of the table have {}", header.len(), own.len());
            return Err(file_error(&connection, &file.path, Code::SourceData, what)
                .hint("keep one header for all files of a folder"));
        }
        let columns = shape.file_columns.iter().map(|place| (*place, shape.types[*place].clone())).collect();
        let names = own.iter().map(|c| c.name.clone()).collect();
        Ok(CsvBatches {
            reader,
            connection,
            file: file.clone(),
            columns,
            names,
            record: csv::StringRecord::new(),
            batch_rows,
        })
    }

    fn bad_row(&self, what: String, hint: &str) -> Error {
        let line = self.record.position().map_or(0, csv::Position::line);
        file_error(&self.connection, &self.file.path, Code::SourceData, format!("line {line}: {what}")).hint(hint)
    }
}

impl FileBatches for CsvBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        let mut builders: Vec<ColumnBuilder> = self
            .columns
            .iter()
            .map(|(_, sql_type)| ColumnBuilder::new(sql_type, self.batch_rows))
            .collect::<Result<_>>()?;
        let mut rows = 0;
        while rows < self.batch_rows {
            let more = self.reader.read_record(&mut self.record).map_err(|e| {
                let line = e.position().map_or(0, csv::Position::line);
                text_error(&self.connection, &self.file, &e, format!("line {line}: {e}"))
            })?;
            if !more {
                break;
            }
            if self.record.len() != self.names.len() {
                let (found, wanted) = (self.record.len(), self.names.len());
                return Err(self.bad_row(
                    format!("the row has {found} fields, the header {wanted}"),
                    if found > wanted {
                        "put text that holds a comma into double quotes"
                    } else {
                        "add the missing fields, empty ones are null"
                    },
                ));
            }
            for ((place, sql_type), builder) in self.columns.iter().zip(&mut builders) {
                let text = &self.record[*place];
                if let Err(error) = builder.append(text, sql_type) {
                    let shown: String = text.chars().take(40).collect();
                    return Err(self.bad_row(
                        format!(
                            "\"{shown}\" in column {} is not {sql_type}, the type found in the first rows",
                            self.names[*place]
                        ),
                        &format!("correct the value ({})", error.message),
                    ));
                }
            }
            rows += 1;
        }
        if rows == 0 {
            return Ok(None);
        }
        let arrays = builders.into_iter().zip(&self.columns).map(|(b, (_, t))| b.finish(t)).collect::<Result<_>>()?;
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
}

impl ColumnBuilder {
    fn new(sql_type: &SqlType, rows: usize) -> Result<Self> {
        Ok(match sql_type {
            SqlType::Boolean => ColumnBuilder::Boolean(BooleanBuilder::with_capacity(rows)),
            SqlType::BigInt => ColumnBuilder::BigInt(Int64Builder::with_capacity(rows)),
            SqlType::Double => ColumnBuilder::Double(Float64Builder::with_capacity(rows)),
            SqlType::Numeric { .. } => ColumnBuilder::Numeric(Decimal128Builder::with_capacity(rows)),
            SqlType::Date => ColumnBuilder::Date(Date32Builder::with_capacity(rows)),
            SqlType::Timestamp | SqlType::TimestampTz => {
                ColumnBuilder::Timestamp(TimestampMicrosecondBuilder::with_capacity(rows))
            }
            SqlType::Text => ColumnBuilder::Text(StringViewBuilder::with_capacity(rows)),
            other => return Err(Error::internal(format!("CSV was inferred to hold {other}"))),
        })
    }

    fn append(&mut self, text: &str, sql_type: &SqlType) -> Result<()> {
        if let ColumnBuilder::Text(builder) = self {
            builder.append_option((!text.is_empty()).then_some(text));
            return Ok(());
        }
        let value = if text.is_empty() { Value::Null } else { parse_value(text, sql_type)? };
        match (self, value) {
            (ColumnBuilder::Boolean(b), Value::Boolean(v)) => b.append_value(v),
            (ColumnBuilder::Boolean(b), _) => b.append_null(),
            (ColumnBuilder::BigInt(b), Value::BigInt(v)) => b.append_value(v),
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
        }
        Ok(())
    }

    fn finish(self, sql_type: &SqlType) -> Result<ArrayRef> {
        Ok(match self {
            ColumnBuilder::Boolean(mut b) => Arc::new(b.finish()),
            ColumnBuilder::BigInt(mut b) => Arc::new(b.finish()),
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
        })
    }
}
