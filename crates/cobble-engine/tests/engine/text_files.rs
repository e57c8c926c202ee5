//! Text files as they come: decimal commas, dates by a pattern, words for null, encodings; and files read without a definition.

use std::path::Path;

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Session, TableDefinition};
use cobble_types::array_value_text;
use tokio_util::sync::CancellationToken;

fn session(folder: &Path) -> Session {
    let engine = Engine::in_memory().unwrap();
    let files = ConnectionDefinition::new("pier_files", "files", folder.display().to_string());
    engine.add_connection(files).unwrap();
    engine.add_catalog(CatalogDefinition::new("pier", "pier_files")).unwrap();
    engine.session()
}

fn write(folder: &Path, name: &str, bytes: &[u8]) {
    let path = folder.join(name);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, bytes).unwrap();
}

fn fill(folder: &Path) {
    let texts: &[(&str, &[u8])] = &[
        (
            "fares/2025.csv",
            b"# fares of 2025\nday;fare;note;seats\n31.12.2025;1.234,50;Fl\xfcgel;3\n01.02.2025;n/a;;4\n",
        ),
        ("fares/2026.csv", b"# fares of 2026\nday;fare;note;seats\n15.01.2026;12,00;old;n/a\n"),
        ("either.csv", b"id,seen,total\n1,03/04/2025,\"1,234.50\"\n2,05/06/2025,7.00\n"),
        ("plain/a=1/x.csv", b"n\n1\n2\n"),
        ("plain/a=2/y.csv", b"n\n3\n"),
        ("plain/a=2/deep/z.csv", b"n\n4\n"),
        ("signs.txt", b"1|'it''s'|x\n2|'a\\'b'|NULL\n"),
    ];
    texts.iter().for_each(|(name, bytes)| write(folder, name, bytes));
    let wide = "\u{feff}name\tn\nM\u{f6}we\t1\n\u{6e21}\u{8239}\t2\n".encode_utf16().flat_map(u16::to_le_bytes);
    write(folder, "wide.csv", &wide.collect::<Vec<u8>>());
}

async fn said(session: &mut Session, sql: &str) -> String {
    let answer = async {
        let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
        let columns: Vec<String> = execution.columns.iter().map(|c| format!("{} {}", c.name, c.sql_type)).collect();
        let mut lines = vec![columns.join(", ")];
        while let Some(batch) = execution.next().await? {
            for row in 0..batch.num_rows() {
                let text = |c: &arrow::array::ArrayRef| array_value_text(c.as_ref(), row).unwrap_or("∅".into());
                lines.push(batch.columns().iter().map(text).collect::<Vec<_>>().join(" | "));
            }
        }
        Ok::<_, cobble_types::Error>(lines.join("\n"))
    };
    answer.await.unwrap_or_else(|e| format!("{} {e}", e.code.sqlstate()))
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_read_where_they_are() {
    let folder = tempfile::tempdir().unwrap();
    fill(folder.path());
    let mut session = session(folder.path());
    let here = folder.path().display().to_string();
    let mut all = String::new();
    for sql in [
        "SELECT * FROM rows_at('pier/fares') ORDER BY day",
        "SELECT * FROM rows_at('@/fares/*5.csv') ORDER BY day",
        "SELECT * FROM rows_at('pier/either.csv')",
        "SELECT r.seen, rows_at.seen FROM rows_at('pier/either.csv', dates => 'MM/DD/YYYY') r, rows_at('pier/either.csv', dates => 'DD/MM/YYYY') WHERE r.id = rows_at.id ORDER BY r.id",
        "SELECT * FROM rows_at('pier/either.csv', columns => 'total numeric(9,1), id integer')",
        "SELECT * FROM rows_at('pier/wide.csv')",
        r"SELECT * FROM rows_at('pier/signs.txt', format => 'csv', delimiter => '|', quote => '''', escape => '\', header => false, nulls => 'NULL, none')",
        "SELECT * FROM rows_at('pier/fares/2025.csv', encoding => 'windows-1251', nulls => '', decimal => ',')",
        "SELECT * FROM rows_at('pier/plain') ORDER BY n",
        "SELECT * FROM rows_at('pier/plain/*/*.csv') ORDER BY n",
        "SELECT * FROM rows_at('pier/plain/a=[2-9]') ORDER BY n",
        "SELECT n FROM rows_at('pier/**/z.csv')",
        "SELECT * FROM rows_at('pier/fares', dates => 'DD.MM.YY') ORDER BY fare",
        "SELECT * FROM rows_at('pier/fares', dates => 'DD.MM')",
        "SELECT * FROM rows_at('pier/fares', decimal => ';')",
        "SELECT * FROM rows_at('pier/fares', thousands => '..')",
        "SELECT * FROM rows_at('pier/fares', encoding => 'klingon')",
        "SELECT * FROM rows_at('pier/fares', delimeter => ';')",
        "SELECT * FROM rows_at('pier/fares', format => 'xls')",
        "SELECT * FROM rows_at('pier/nothing/*.csv')",
        "SELECT * FROM rows_at('nowhere/x.csv')",
        "SELECT * FROM rows_at('@/nothing.csv')",
        "SELECT * FROM rows_at(path => 'x')",
        "SELECT * FROM rows_at('a', 'b')",
        "SELECT * FROM rows_at('pier/' || 'fares')",
        "SELECT * FROM rows_at('pier/fares') WITH ORDINALITY",
    ] {
        let text = said(&mut session, &sql.replace("@", &here)).await.replace(&here, "@");
        all.push_str(&format!("> {sql}\n{text}\n"));
    }
    insta::assert_snapshot!(all);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_preview_shows_is_what_is_read() {
    let folder = tempfile::tempdir().unwrap();
    fill(folder.path());
    let session = session(folder.path());
    let engine = session.engine();
    let mut all = String::new();
    let said = TableDefinition { dates: Some("DD/MM/YYYY".into()), ..TableDefinition::default() };
    for (path, form) in [("", TableDefinition::default()), ("either.csv", said)] {
        let mut look = engine.discover("pier", path, None, &form.text_form(), &Default::default()).await.unwrap();
        engine.add_samples("pier", &mut look, &Default::default()).await.unwrap();
        for table in &look.tables {
            let form = serde_json::to_string(&table.definition.text_form()).unwrap();
            all.push_str(&format!("{} {form} {:?}\n", table.name, table.found.problem));
            for column in &table.sample {
                let values: Vec<&str> = column.values.iter().map(|v| v.as_deref().unwrap_or("∅")).collect();
                all.push_str(&format!("    {} {}: {}\n", column.name, column.sql_type, values.join(", ")));
            }
        }
    }
    let here = folder.path().display().to_string();
    insta::assert_snapshot!(all.replace(&here, "@"));
}
