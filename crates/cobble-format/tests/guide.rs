//! The format of the guide in `docs/how-to/extend.md`: files of lines, each one row of one text column. A real one stands in a file of
//! `src/` and in the list `ALL`.

use std::io::{BufRead, BufReader, Read};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use arrow::array::{Array, ArrayRef, AsArray, StringViewBuilder};
use cobble_format::{Dialect, FileBatches, FileFormat, Inferred, OpenFile, Shape, column};
use cobble_plan::scan::Unbounded;
use cobble_storage::{Disk, Storage};
use cobble_types::{Result, SqlType, TextForm};

#[derive(Debug)]
struct Lines;

impl FileFormat for Lines {
    fn name(&self) -> &'static str {
        "lines"
    }

    fn words(&self) -> &'static str {
        "Lines"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["log", "lines"]
    }

    fn is_text(&self) -> bool {
        true
    }

    fn takes(&self, sql_type: &SqlType) -> bool {
        *sql_type == SqlType::Text
    }

    fn infer(&self, _: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        let columns = vec![column("line", SqlType::Text)];
        Ok(Inferred { columns, row_width: Some(80.0), dialect: Dialect::default() })
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        let input = BufReader::new(file.unpacked()?);
        Ok(Box::new(LineBatches { file: file.clone(), input, batch_rows, is_wanted: !shape.wanted.is_empty() }))
    }
}

struct LineBatches {
    file: OpenFile,
    input: BufReader<Box<dyn Read + Send>>,
    batch_rows: usize,
    /// A query may count lines without reading them.
    is_wanted: bool,
}

impl FileBatches for LineBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        let (mut lines, mut rows, mut line) = (StringViewBuilder::new(), 0, String::new());
        while rows < self.batch_rows {
            line.clear();
            let read = self.input.read_line(&mut line).map_err(|e| self.file.text_error(&e, e.to_string()))?;
            if read == 0 {
                break;
            }
            lines.append_value(line.trim_end_matches(['\n', '\r']));
            rows += 1;
        }
        let columns = if self.is_wanted { vec![Arc::new(lines.finish()) as ArrayRef] } else { vec![] };
        Ok((rows > 0).then_some((columns, rows)))
    }
}

#[test]
fn a_format_of_ones_own_reads_files() {
    let folder = std::env::temp_dir().join(cobble_storage::unique());
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("harbour.log"), "in\nout\r\n\nin").unwrap();
    let disk = Disk::new("pier", &folder.display().to_string());
    let entry = disk.list().unwrap().entries.remove(0);
    let file = OpenFile {
        connection: "pier".to_owned(),
        blob: disk.open(&entry.file, &Default::default()).unwrap(),
        file: entry.file,
        read_bytes: Arc::new(AtomicU64::new(0)),
        longest_record: cobble_format::LONGEST_RECORD,
        memory: Arc::new(Unbounded),
    };
    let columns = Lines.infer(&file, &TextForm::default(), false).unwrap().columns;
    let types = columns.iter().map(|column| column.sql_type.clone()).collect();
    let shape = Shape { columns, types, wanted: vec![0], is_defined: false, dialect: Dialect::default() };
    let mut batches = Lines.read(&file, &shape, 3).unwrap();
    let mut read = Vec::new();
    while let Some((columns, rows)) = batches.next().unwrap() {
        let lines = columns[0].as_string_view();
        assert_eq!(lines.len(), rows);
        read.extend(lines.iter().map(|line| line.unwrap_or_default().to_owned()));
    }
    assert_eq!(read, ["in", "out", "", "in"]);
    // Counting reads no column.
    let mut count = Lines.read(&file, &Shape { wanted: vec![], ..shape }, 100).unwrap();
    assert!(matches!(count.next(), Ok(Some((columns, 4))) if columns.is_empty()));
    std::fs::remove_dir_all(&folder).unwrap();
}
