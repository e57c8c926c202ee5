//! Avro object container files (Avro specification 1.11).

use std::io::{BufReader, Read, Seek, SeekFrom};

use arrow::error::ArrowError;
use arrow_avro::reader::ReaderBuilder;
use cobble_storage::{Ordered, own_error};
use cobble_types::{Result, TextForm};

use crate::batches::{ArrowBatches, Opened, inferred};
use crate::{FileBatches, FileFormat, Inferred, OpenFile, Shape};

#[derive(Debug)]
pub struct Avro;

impl FileFormat for Avro {
    fn name(&self) -> &'static str {
        "avro"
    }

    fn words(&self) -> &'static str {
        "Avro"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["avro"]
    }

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        inferred(file, &opened(file, 1)?)
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(ArrowBatches::new(file, self, shape, batch_rows, opened(file, batch_rows)?)?))
    }
}

/// The last bytes of a file, which goes back to its start.
fn last_bytes(input: &mut Ordered) -> std::io::Result<[u8; 16]> {
    let mut last = [0; 16];
    input.seek(SeekFrom::End(-16))?;
    input.read_exact(&mut last)?;
    input.seek(SeekFrom::Start(0))?;
    Ok(last)
}

fn opened(file: &OpenFile, batch_rows: usize) -> Result<Opened> {
    let cut = || file.broken(Avro.words(), &ArrowError::ParseError("it ends within a block".into()));
    let mut input = file.ordered();
    let last = last_bytes(&mut input).map_err(|e| own_error(&e).unwrap_or_else(cut))?;
    let reader = file.held(Avro.words(), || {
        let builder = ReaderBuilder::new().with_batch_size(batch_rows);
        builder.build(BufReader::with_capacity(1 << 17, input)).map_err(|e| file.broken(Avro.words(), &e))
    })?;
    // Header and blocks end with the same marker ("Object Container Files"). The reader takes a file that is cut within a block for
    // one that ends before it.
    if reader.avro_header().sync() != last {
        return Err(cut());
    }
    let schema = reader.schema();
    let names = schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
    Ok(Opened { names, schema, batches: Box::new(reader) })
}
