//! The file format of Arrow's interprocess communication.

use std::io::BufReader;

use arrow::ipc::reader::FileReaderBuilder;
use cobble_types::{Result, TextForm};

use crate::batches::{ArrowBatches, Opened, inferred};
use crate::{FileBatches, FileFormat, Inferred, OpenFile, Shape};

#[derive(Debug)]
pub struct Arrow;

impl FileFormat for Arrow {
    fn name(&self) -> &'static str {
        "arrow"
    }

    fn words(&self) -> &'static str {
        "Arrow"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["arrow", "ipc"]
    }

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        inferred(file, &opened(file, 1)?)
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(ArrowBatches::new(file, self, shape, opened(file, batch_rows)?)?))
    }
}

fn opened(file: &OpenFile, _: usize) -> Result<Opened> {
    let input = BufReader::with_capacity(1 << 17, file.ordered());
    let reader = FileReaderBuilder::new().build(input).map_err(|e| file.broken(Arrow.words(), &e))?;
    let schema = reader.schema();
    let names = schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
    Ok(Opened { names, schema, batches: Box::new(reader) })
}
