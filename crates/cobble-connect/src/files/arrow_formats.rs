//! Reading Avro, Arrow and ORC files: they give batches of their columns, of which the wanted ones are taken.

use std::io::{BufReader, Read, Seek, SeekFrom};
use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch, new_null_array};
use arrow::compute::cast;
use arrow::datatypes::{DataType, SchemaRef};
use arrow::error::ArrowError;
use arrow::ipc::reader::FileReaderBuilder;
use arrow_avro::reader::ReaderBuilder;
use cobble_plan::offer::GateCounters;
use cobble_types::{Code, Error, Result};

use super::dialect::Dialect;
use super::format::Format;
use super::infer::{Inferred, column};
use super::listing::DataFile;
use super::scan::{FileBatches, ScanShape};
use super::storage::{Blob, Ordered};
use super::{file_error, orc, own_error, sql_type};

type Batches = Box<dyn Iterator<Item = std::result::Result<RecordBatch, ArrowError>> + Send>;

pub struct ArrowBatches {
    batches: Batches,
    connection: String,
    file: DataFile,
    /// For each column of the result its place in the file, none where the file lacks it, and its type.
    columns: Vec<(Option<usize>, DataType)>,
}

fn broken(connection: &str, file: &DataFile, format: Format, error: &ArrowError) -> Error {
    own_error(error).unwrap_or_else(|| {
        let what = format!("not readable as {}: {error}", format.words());
        file_error(connection, &file.path, Code::SourceData, what)
            .hint("the file may be cut short or still being written; write it again, or move it out of the folder")
    })
}

/// The last bytes of a file, which goes back to its start.
fn last_bytes(input: &mut Ordered) -> std::io::Result<[u8; 16]> {
    let mut last = [0; 16];
    input.seek(SeekFrom::End(-16))?;
    input.read_exact(&mut last)?;
    input.seek(SeekFrom::Start(0))?;
    Ok(last)
}

/// The names of all columns in lower case, and the batches, which have the wanted ones at least.
fn opened(
    connection: &str,
    file: &DataFile,
    format: Format,
    (blob, counters): (Arc<dyn Blob>, Arc<GateCounters>),
    batch_rows: usize,
    wanted: Option<&[&str]>,
) -> Result<(Vec<String>, SchemaRef, Batches)> {
    let bad = |error: ArrowError| broken(connection, file, format, &error);
    if format == Format::Orc {
        return orc::batches(blob, counters, batch_rows, wanted).map_err(bad);
    }
    let mut input = Ordered::new(blob, counters);
    let (schema, batches): (SchemaRef, Batches) = match format {
        Format::Avro => {
            let cut = || bad(ArrowError::ParseError("it ends within a block".into()));
            let last = last_bytes(&mut input).map_err(|e| own_error(&e).unwrap_or_else(cut))?;
            let reader = ReaderBuilder::new()
                .with_batch_size(batch_rows)
                .build(BufReader::with_capacity(1 << 17, input))
                .map_err(bad)?;
            // Header and blocks end with the same marker (Avro specification 1.11, "Object Container Files"). The reader takes a
            // file that is cut within a block for one that ends before it.
            if reader.avro_header().sync() != last {
                return Err(cut());
            }
            (reader.schema(), Box::new(reader))
        }
        _ => {
            let reader = FileReaderBuilder::new().build(BufReader::with_capacity(1 << 17, input)).map_err(bad)?;
            (reader.schema(), Box::new(reader))
        }
    };
    let names = schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
    Ok((names, schema, batches))
}

/// Columns of a file, by what it says itself.
pub fn columns(connection: &str, file: &DataFile, format: Format, blob: Arc<dyn Blob>) -> Result<Inferred> {
    let (_, schema, _) = opened(connection, file, format, (blob, Arc::default()), 1, None)?;
    let columns = schema
        .fields()
        .iter()
        .map(|field| Ok(column(&field.name().to_lowercase(), sql_type(connection, file, field)?)))
        .collect::<Result<_>>()?;
    Ok(Inferred { columns, row_width: None, dialect: Dialect::default() })
}

impl ArrowBatches {
    pub fn open(
        shape: &ScanShape,
        file: &DataFile,
        blob: Arc<dyn Blob>,
        counters: Arc<GateCounters>,
        batch_rows: usize,
    ) -> Result<Self> {
        let connection = shape.set.source.connection.clone();
        let own: Vec<&str> = shape.set.columns.iter().filter(|c| !c.partition).map(|c| c.name.as_str()).collect();
        let wanted: Vec<&str> = shape.file_columns.iter().map(|place| own[*place]).collect();
        let format = shape.set.format;
        let (all, schema, batches) = opened(&connection, file, format, (blob, counters), batch_rows, Some(&wanted))?;
        let names: Vec<String> = schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
        if !shape.set.is_defined
            && let Some(extra) = all.iter().find(|name| !own.contains(&name.as_str()))
        {
            let what = format!("its column {extra} is not one of the table's, which are those of its largest file");
            return Err(file_error(&connection, &file.path, Code::SourceData, what)
                .hint("discover the catalog's tables, which takes the columns of all files together"));
        }
        let in_file = |place: &usize| names.iter().position(|name| name == own[*place]);
        let columns = shape.file_columns.iter().map(|place| (in_file(place), shape.types[*place].to_arrow())).collect();
        Ok(ArrowBatches { batches, connection, file: file.clone(), columns })
    }
}

impl FileBatches for ArrowBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        let format = Format::of(&self.file.path).map_or(Format::Arrow, |(format, _)| format);
        let Some(batch) = self.batches.next() else { return Ok(None) };
        let batch = batch.map_err(|e| broken(&self.connection, &self.file, format, &e))?;
        let rows = batch.num_rows();
        let arrays = self.columns.iter().map(|(place, data_type)| match place {
            Some(place) => cast(batch.column(*place), data_type),
            None => Ok(new_null_array(data_type, rows)),
        });
        Ok(Some((arrays.collect::<std::result::Result<_, _>>()?, batch.num_rows())))
    }
}
