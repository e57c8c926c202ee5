//! Files whose decoder returns Arrow batches of all their columns; the wanted columns are picked here.

use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch, new_null_array};
use arrow::compute::cast;
use arrow::datatypes::{DataType, SchemaRef};
use arrow::error::ArrowError;
use cobble_types::{Code, Result};

use crate::infer::{Inferred, column};
use crate::{Dialect, FileBatches, FileFormat, OpenFile, Shape};

pub type Decoded = Box<dyn Iterator<Item = std::result::Result<RecordBatch, ArrowError>> + Send>;

/// A file of such a format that has been opened.
pub struct Opened {
    /// The names of all its columns, in lower case.
    pub names: Vec<String>,
    /// The columns of its batches, the wanted ones at least.
    pub schema: SchemaRef,
    pub batches: Decoded,
}

pub struct ArrowBatches {
    batches: Decoded,
    /// What is left of a batch that the file has in one piece.
    rest: Option<RecordBatch>,
    batch_rows: usize,
    file: OpenFile,
    format: &'static str,
    /// For each column of the result its place in the file, none where the file lacks it, and its type.
    columns: Vec<(Option<usize>, DataType)>,
}

/// The columns of a file that says them itself.
pub fn inferred(file: &OpenFile, opened: &Opened) -> Result<Inferred> {
    let own = |field: &Arc<arrow::datatypes::Field>| Ok(column(&field.name().to_lowercase(), file.sql_type(field)?));
    let columns = opened.schema.fields().iter().map(own).collect::<Result<_>>()?;
    Ok(Inferred { columns, row_width: None, dialect: Dialect::default() })
}

/// The names of the wanted columns, as a file of the table has them.
pub fn wanted(shape: &Shape) -> Vec<&str> {
    shape.wanted.iter().map(|place| shape.columns[*place].name.as_str()).collect()
}

impl ArrowBatches {
    pub fn new(
        file: &OpenFile,
        format: &dyn FileFormat,
        shape: &Shape,
        batch_rows: usize,
        opened: Opened,
    ) -> Result<Self> {
        let known = |name: &str| shape.of_files().any(|column| column.name == name);
        if !shape.is_defined
            && let Some(extra) = opened.names.iter().find(|name| !known(name))
        {
            let what = format!("its column {extra} is not one of the table's, which are those of its largest file");
            return Err(file
                .error(Code::SourceData, what)
                .hint("discover the catalog's tables, which takes the columns of all files together"));
        }
        let in_file: Vec<String> = opened.schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
        let place = |place: &usize| in_file.iter().position(|name| *name == shape.columns[*place].name);
        let columns = shape.wanted.iter().map(|p| (place(p), shape.types[*p].to_arrow())).collect();
        let (batches, format) = (opened.batches, format.words());
        Ok(ArrowBatches { batches, rest: None, batch_rows, file: file.clone(), format, columns })
    }
}

impl FileBatches for ArrowBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        let whole = match self.rest.take() {
            Some(rest) => rest,
            None => match self.file.held(self.format, || Ok(self.batches.next()))? {
                Some(batch) => batch.map_err(|e| self.file.broken(self.format, &e))?,
                None => return Ok(None),
            },
        };
        let batch = whole.slice(0, self.batch_rows.min(whole.num_rows()));
        if batch.num_rows() < whole.num_rows() {
            self.rest = Some(whole.slice(batch.num_rows(), whole.num_rows() - batch.num_rows()));
        }
        let rows = batch.num_rows();
        let arrays = self.columns.iter().map(|(place, data_type)| match place {
            Some(place) => cast(batch.column(*place), data_type),
            None => Ok(new_null_array(data_type, rows)),
        });
        Ok(Some((arrays.collect::<std::result::Result<_, _>>()?, rows)))
    }
}
