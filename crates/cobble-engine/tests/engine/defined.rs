//! Tables that catalogs define, and files of one table that are not alike: columns that came later, types that became wider, CSV
//! written in other ways.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Looking, Session, TableDefinition, Take};
use cobble_types::{Error, array_value_text};
use tokio_util::sync::CancellationToken;

async fn rows(session: &mut Session, sql: &str) -> Result<Vec<String>, Error> {
    let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
    let mut all = Vec::new();
    while let Some(batch) = execution.next().await? {
        for row in 0..batch.num_rows() {
            let text = |c: &arrow::array::ArrayRef| array_value_text(c.as_ref(), row).unwrap_or("null".into());
            all.push(batch.columns().iter().map(text).collect::<Vec<_>>().join("|"));
        }
    }
    all.sort();
    Ok(all)
}

fn engine(folder: &Path) -> Arc<Engine> {
    let engine = Engine::in_memory().unwrap();
    let mut files = ConnectionDefinition::new("pier_files", "files", folder.display().to_string());
    files.options.insert("writable".into(), "true".into());
    engine.add_connection(files).unwrap();
    engine.add_catalog(CatalogDefinition::new("pier", "pier_files")).unwrap();
    engine
}

fn session(engine: &Arc<Engine>) -> Session {
    let mut session = engine.session();
    session.use_place("pier", None).unwrap();
    session
}

fn define(engine: &Engine, tables: &[(&str, TableDefinition)]) -> Result<(), Error> {
    let tables = tables.iter().map(|(name, table)| ((*name).to_owned(), table.clone())).collect();
    engine.replace_catalog(CatalogDefinition { tables, ..CatalogDefinition::new("pier", "pier_files") })
}

fn files(path: &str, format: &str, columns: &[&str]) -> TableDefinition {
    let columns = columns.iter().map(|column| column.parse().unwrap()).collect();
    TableDefinition { path: Some(path.into()), format: Some(format.into()), columns, ..Default::default() }
}

/// Three files that became more: in the second a column is wider and one is new, in the third the columns stand in another order and
/// one is gone.
#[tokio::test(flavor = "multi_thread")]
async fn parquet_files_that_differ_are_one_table() {
    let folder = tempfile::tempdir().unwrap();
    let engine = engine(folder.path());
    let mut writer = session(&engine);
    for (name, query) in [
        ("a", "SELECT n::integer AS id, n % 3 AS grade, 'a' || n AS name FROM generate_series(1, 9) s(n)"),
        (
            "b",
            "SELECT n::bigint AS id, n % 3 AS grade, 'b' || n AS name, n * 1.5 AS fare, date '2025-07-01' + n::integer AS day FROM generate_series(10, 19) s(n)",
        ),
        ("c", "SELECT 'c' || n AS name, n * 2.25 AS fare, n::smallint AS id FROM generate_series(20, 29) s(n)"),
    ] {
        rows(&mut writer, &format!("CREATE TABLE {name} AS {query}")).await.unwrap();
        std::fs::create_dir_all(folder.path().join("all")).unwrap();
        for file in std::fs::read_dir(folder.path().join(name)).unwrap() {
            std::fs::rename(file.unwrap().path(), folder.path().join(format!("all/{name}.parquet"))).unwrap();
        }
        std::fs::remove_dir(folder.path().join(name)).unwrap();
    }
    let mut handed = session(&engine);
    let mut kept = session(&engine);
    kept.set("planner.off", "push-filters, prune-columns, push-limit, key-pass").unwrap();
    for (query, count) in [
        ("SELECT * FROM all_files", 29),
        ("SELECT id, fare FROM all_files WHERE fare IS NULL", 9),
        ("SELECT id FROM all_files WHERE fare > 27", 11),
        ("SELECT id, day FROM all_files WHERE coalesce(fare, 0) < 20 AND id > 5", 8),
        ("SELECT name FROM all_files WHERE grade IS DISTINCT FROM 1 AND day IS NULL", 16),
        ("SELECT count(*), count(fare), count(grade), sum(id), min(fare), max(day) FROM all_files", 1),
        ("SELECT a.id FROM all_files a JOIN all_files b ON a.fare = b.fare WHERE b.id IN (10, 20)", 2),
        ("SELECT grade, count(*) FROM all_files GROUP BY grade", 4),
    ] {
        let query = query.replace("all_files", "\"all\"");
        let found = rows(&mut handed, &query).await.unwrap_or_else(|e| panic!("{query}: {e}"));
        assert_eq!(found.len(), count, "{query}: {found:?}");
        assert_eq!(found, rows(&mut kept, &query).await.unwrap(), "{query}");
    }
    let columns = engine.session().columns(&["pier", "public", "all"].map(str::to_owned)).await.unwrap();
    let shown: Vec<String> = columns.iter().map(|c| format!("{} {}", c.name, c.sql_type)).collect();
    assert_eq!(shown.join(", "), "id bigint, grade integer, name text, fare numeric(13,2), day date");
    // A definition says what is read, and with which types.
    define(
        &engine,
        &[("public.some", files("all", "parquet", &["id numeric(20,0)", "fare numeric(30,4)", "never text"]))],
    )
    .unwrap();
    let found = rows(&mut session(&engine), "SELECT * FROM some WHERE id IN (9, 10)").await.unwrap();
    assert_eq!(found, ["10|15.0000|null", "9|null|null"]);
    define(&engine, &[("public.some", files("all", "parquet", &["id integer"]))]).unwrap();
    let error = rows(&mut session(&engine), "SELECT * FROM some").await.unwrap_err().to_string();
    assert!(error.contains("b.parquet: column id is bigint, and defined as integer"), "{error}");
    assert_eq!(
        rows(&mut session(&engine), "SELECT * FROM \"all\"").await.unwrap_err().code,
        cobble_types::Code::UnknownTable
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn texts_are_read_as_they_are_written_and_defined() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| {
        let path = folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    };
    write("semi.csv", "id;paid;note\n1;2,50;\"a;b\"\n2;3;x\n");
    write("tabs.tsv", "id\tnote\n1\ta, b\n");
    write("bare.csv", "1,2025-07-01,07:30\n2,2025-07-02,08:00\n");
    write("single.csv", "'name','note'\n'Heron','small, old'\n'Tern','x'\n");
    write("later/1.csv", "id,fare\n1,2.50\n");
    write("later/2.csv", "fare,id\n3.50,2\n4.50,3\n,9\n");
    write("typed/a.txt", "id|u|at|j\n7|6ECD8C99-4036-403D-BF84-CF8400F67836|07:30|{\"a\": 1}\n");
    write("parts/day=2025-07-01/a.json", "[{\"n\": 1}]");
    write("parts/day=2025-07-02/b.json", "{\"n\": 2, \"x\": true}\n");
    let engine = engine(folder.path());
    let mut all = session(&engine);
    for (query, expected) in [
        ("SELECT * FROM semi", &["1|2.50|a;b", "2|3.00|x"][..]),
        ("SELECT note, id + 1 FROM tabs", &["a, b|2"]),
        ("SELECT column1, column2 + 1, column3 FROM bare", &["1|2025-07-02|07:30", "2|2025-07-03|08:00"]),
        ("SELECT * FROM single", &["Heron|small, old", "Tern|x"]),
        ("SELECT id, fare FROM later", &["1|2.50", "2|3.50", "3|4.50", "9|null"]),
    ] {
        assert_eq!(rows(&mut all, query).await.unwrap_or_else(|e| panic!("{query}: {e}")), expected, "{query}");
    }
    write("later/3.csv", "id,fare,clerk\n4,5,A\n");
    let error = rows(&mut session(&engine), "SELECT * FROM later").await;
    let error = error.unwrap_err().to_string();
    assert!(error.contains("3.csv: its column clerk is not one of the table's"), "{error}");

    let look = engine.discover("pier", "", None, &Default::default(), &Arc::default()).await.unwrap();
    let catalog = look.taken(&CatalogDefinition::new("pier", "pier_files"), Take::All);
    engine.replace_catalog(catalog.clone()).unwrap();
    insta::assert_snapshot!("discovered", toml_of(&catalog));
    let mut found = session(&engine);
    for (query, expected) in [
        (
            "SELECT id, fare, clerk FROM later",
            &["1|2.50|null", "2|3.50|null", "3|4.50|null", "4|5.00|A", "9|null|null"][..],
        ),
        ("SELECT n, x, day FROM parts WHERE day > date '2025-07-01'", &["2|true|2025-07-02"]),
        ("SELECT count(*) FROM single", &["2"]),
    ] {
        assert_eq!(rows(&mut found, query).await.unwrap_or_else(|e| panic!("{query}: {e}")), expected, "{query}");
    }
    let typed = TableDefinition {
        delimiter: Some("|".into()),
        ..files("typed", "csv", &["id smallint", "u uuid", "at time", "j json", "more date"])
    };
    define(&engine, &[("public.typed", typed.clone())]).unwrap();
    let typed_rows =
        rows(&mut session(&engine), "SELECT id + 1::smallint, u, at, j ->> 'a', more FROM typed").await.unwrap();
    assert_eq!(typed_rows, ["8|6ecd8c99-4036-403d-bf84-cf8400f67836|07:30:00|1|null"]);
    write("typed/b.txt", "id|u|at|j\nseven|||\n");
    let error = rows(&mut session(&engine), "SELECT * FROM typed").await.unwrap_err().to_string();
    assert!(
        error.contains("b.txt: line 2: \"seven\" in column id is not smallint, the type that it is defined with"),
        "{error}"
    );
}

fn toml_of(catalog: &CatalogDefinition) -> String {
    let mut text = String::new();
    for (name, table) in &catalog.tables {
        let columns: Vec<String> = table.columns.iter().map(ToString::to_string).collect();
        let form = [&table.path, &table.files, &table.format, &table.delimiter, &table.quote]
            .map(|part| part.clone().unwrap_or_default().escape_debug().to_string());
        let header = table.header.map(|h| h.to_string()).unwrap_or_default();
        text.push_str(&format!("{name}: {} {header}\n    {}\n", form.join(" "), columns.join(", ")));
    }
    text
}

#[test]
fn what_does_not_belong_together_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let engine = engine(folder.path());
    let path = || files("a", "csv", &[]);
    let query = TableDefinition { query: Some("SELECT 1".into()), ..Default::default() };
    let mut refused = String::new();
    for (name, definition) in [
        ("public.t", TableDefinition::default()),
        ("public.t", TableDefinition { path: Some(String::new()), ..query.clone() }),
        ("public.t", query),
        ("t", path()),
        ("public.t", files("a", "cvs", &[])),
        ("public.t", TableDefinition { delimiter: Some("::".into()), ..path() }),
        ("public.t", files("a", "csv", &["id bigint", "id text"])),
        ("public.t", files("a", "json", &["id uuid"])),
        ("public.t", TableDefinition { options: [("pool".to_owned(), "1".to_owned())].into(), ..path() }),
    ] {
        let error = define(&engine, &[(name, definition)]).unwrap_err();
        refused.push_str(&format!("{error}\n"));
    }
    insta::assert_snapshot!("refused_definitions", refused);
    assert!(engine.set().catalogs["pier"].tables.is_empty());
}

/// A folder that has the name of a defined table is not what the definition means, so nothing is written there.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_defined_is_only_read() {
    let folder = tempfile::tempdir().unwrap();
    let engine = engine(folder.path());
    let mut own = session(&engine);
    rows(&mut own, "CREATE TABLE fares AS SELECT 1 AS n").await.unwrap();
    rows(&mut own, "CREATE TABLE old AS SELECT 2 AS n").await.unwrap();
    define(&engine, &[("public.fares", files("old", "parquet", &["n integer"]))]).unwrap();
    for sql in ["INSERT INTO fares SELECT 3", "CREATE TABLE more AS SELECT 4 AS n"] {
        let error = rows(&mut session(&engine), sql).await.unwrap_err().to_string();
        assert!(error.contains("is among tables that the catalog defines, which are only read"), "{sql}: {error}");
    }
    assert_eq!(rows(&mut session(&engine), "SELECT n FROM fares").await.unwrap(), ["2"]);
    define(&engine, &[]).unwrap();
    assert_eq!(rows(&mut session(&engine), "SELECT n FROM fares").await.unwrap(), ["1"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_look_tells_how_far_it_is_and_can_be_given_up() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("log")).unwrap();
    for n in 0..500 {
        std::fs::write(folder.path().join(format!("log/{n}.csv")), "id,fare\n1,2.50\n").unwrap();
    }
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(ConnectionDefinition::new("pier", "files", folder.path().display().to_string())).unwrap();
    engine.add_catalog(CatalogDefinition::new("pier", "pier")).unwrap();
    let looking = Arc::<Looking>::default();
    let look = engine.discover("pier", "", None, &Default::default(), &looking).await.unwrap();
    assert_eq!((look.tables.len(), look.tables[0].found.files), (1, 500));
    // Of so many files every third is looked into.
    assert_eq!((looking.looked.load(Ordering::Relaxed), looking.files.load(Ordering::Relaxed)), (167, 167));
    let looking = Arc::<Looking>::default();
    looking.cancel.cancel();
    let error = engine.discover("pier", "", None, &Default::default(), &looking).await.unwrap_err();
    assert_eq!((error.code, looking.looked.load(Ordering::Relaxed)), (cobble_types::Code::Cancelled, 0), "{error}");
}

/// Of a table whose columns are defined, footers of files that their folders rule out are not read: here they are broken, but for the
/// few of a sample.
#[tokio::test(flavor = "multi_thread")]
async fn footers_are_read_of_the_files_that_folders_leave() {
    let folder = tempfile::tempdir().unwrap();
    let engine = engine(folder.path());
    let mut writer = session(&engine);
    rows(&mut writer, "CREATE TABLE one AS SELECT n AS id, n * 1.5 AS fare FROM generate_series(1, 20) s(n)")
        .await
        .unwrap();
    let whole = std::fs::read_dir(folder.path().join("one")).unwrap().next().unwrap().unwrap().path();
    let of_day = |day: i32| folder.path().join(format!("tickets/day={day}/part.parquet"));
    for day in 100..200 {
        std::fs::create_dir_all(of_day(day).parent().unwrap()).unwrap();
        std::fs::copy(&whole, of_day(day)).unwrap();
    }
    let is_sampled = |place: i32| (0..16).any(|n| n * 100 / 16 == place);
    for day in (100..200).filter(|day| *day != 103 && !is_sampled(day - 100)) {
        std::fs::write(of_day(day), b"no longer a data file").unwrap();
    }
    let definition = files("tickets", "parquet", &["id bigint", "fare numeric(22, 1)"]);
    define(&engine, &[("public.tickets", definition)]).unwrap();
    let mut session = session(&engine);
    let query = "SELECT id, fare, day FROM tickets WHERE day = 103 AND id >= 19";
    assert_eq!(rows(&mut session, query).await.unwrap(), ["19|28.5|103", "20|30.0|103"]);
    let plan = rows(&mut session, &format!("EXPLAIN {query}")).await.unwrap().join("\n");
    assert!(plan.contains("1 of 100 files") && plan.contains("1 of 1 row groups in them"), "{plan}");
    // What is really needed is read, and said to be broken by its name.
    let error = rows(&mut session, "SELECT count(*) FROM tickets WHERE day <= 103").await.unwrap_err();
    assert!(error.to_string().contains("day=101"), "{error}");
    // Once all are known, nothing is estimated by a sample.
    for day in 100..200 {
        std::fs::copy(&whole, of_day(day)).unwrap();
    }
    assert_eq!(rows(&mut session, "SELECT count(*), sum(fare) FROM tickets").await.unwrap(), ["2000|31500.0"]);
}
