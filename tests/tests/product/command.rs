//! The command against the service: what a user reads.

use cobble_tests::{cobble, product};

fn settings() -> insta::Settings {
    let mut settings = insta::Settings::clone_current();
    settings.add_filter(r"[\d.]+ (µs|ms|s)\b", "[time]");
    settings.add_filter(r"[\d.]+ (B|KiB|MiB)\b", "[size]");
    settings.add_filter(r"127\.0\.0\.1:\d+", "127.0.0.1:[port]");
    // Where a line breaks depends on the length of the folder's path.
    for _line in 0..4 {
        settings.add_filter(r"(\n  request   [^\n]*)\n {12}", "$1 ");
    }
    settings.add_filter(r"/\S*/target/tmp/product/drop", "[drop]");
    settings.add_filter(r" +\[", " [");
    settings
}

const EARNINGS: &str = "SELECT r.name, count(*) AS boardings, sum(b.fare) AS earned FROM drop.public.boardings b \
    JOIN fleet.public.routes r ON r.id = b.route_id WHERE b.month = '2025-07' AND r.active \
    GROUP BY r.name ORDER BY earned DESC, r.name LIMIT 4";

#[test]
fn a_joined_query_and_its_gates_read_well() {
    let product = product();
    settings().bind(|| {
        insta::assert_snapshot!("sql_table", product.stdout(&["sql", EARNINGS]));
        insta::assert_snapshot!("plan_gates", product.stdout(&["plan", "--as", "gates", "--measure", EARNINGS]));
    });
    let whole = "SELECT v.name, count(*) AS crew FROM fleet.public.vessels v JOIN fleet.public.crew c ON c.vessel_id = v.id \
                 WHERE c.hired < '2024-01-01' GROUP BY v.id, v.name ORDER BY crew DESC, v.id LIMIT 3";
    settings().bind(|| insta::assert_snapshot!("plan_pushed_whole", product.stdout(&["plan", whole])));
}

#[test]
fn looking_around_reads_well() {
    let product = product();
    let mut shown = String::new();
    for arguments in [
        &["connection", "show", "fleet_db"][..],
        &["connection", "test", "drop_files"],
        &["catalog", "show", "fleet"],
        &["browse", "fleet"],
        &["browse", "fleet.public"],
        &["browse", "fleet.public.vessels"],
        &["browse", "drop.public.tariffs", "--sample", "2"],
        &["browse", "--find", "fare"],
    ] {
        shown.push_str(&format!("$ cobble {}\n{}\n", arguments.join(" "), product.stdout(arguments)));
    }
    settings().bind(|| insta::assert_snapshot!("browse", shown));
    // Other tests add connections of their own meanwhile.
    for (listed, name) in [(&["connection", "list"], "drop_files"), (&["catalog", "list"], "fleet_db")] {
        assert!(product.stdout(listed).contains(name));
    }
}

#[test]
fn every_format_holds_the_same_rows() {
    let product = product();
    let sql = "SELECT id, name, opened, nautical_miles, active FROM fleet.public.routes WHERE id < 4 ORDER BY id";
    let mut shown = String::new();
    for format in ["table", "csv", "jsonl", "json"] {
        shown.push_str(&format!("{format}\n{}\n", product.stdout(&["sql", "--format", format, sql])));
    }
    insta::assert_snapshot!("formats", shown);
    let folder = tempfile::tempdir().unwrap();
    let config = folder.path().join("cobble.toml");
    std::fs::write(
        &config,
        "[connections.f]\nkind = \"files\"\naddress = \".\"\n[catalogs.here]\nconnection = \"f\"\n",
    )
    .unwrap();
    let parquet = folder.path().join("routes.parquet");
    product.stdout(&["sql", "--out", parquet.to_str().unwrap(), sql]);
    let again = product.stdout(&[
        "sql",
        "--here",
        "--config",
        config.to_str().unwrap(),
        "--format",
        "csv",
        "SELECT * FROM here.public.routes",
    ]);
    assert_eq!(
        again,
        product.stdout(&["sql", "--format", "csv", sql]),
        "a file that was written is read back without a service"
    );
    let arrow = product.cobble(&["sql", "--format", "arrow", sql]);
    assert!(arrow.stdout.starts_with(b"ARROW1"));
}

#[test]
fn scripts_shells_and_exit_codes() {
    let product = product();
    assert_eq!(
        product.stdout(&["sql", "--format", "csv", "USE fleet; SELECT count(*) FROM ports; SELECT 1 AS one"]),
        "count\n40\none\n1\n"
    );
    assert_eq!(
        product.stdout(&["sql", "--catalog", "fleet.public", "--format", "csv", "SELECT max(id) FROM vessels"]),
        "max\n60\n"
    );
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("q.sql");
    std::fs::write(&file, "SELECT 2 AS two;\n").unwrap();
    assert_eq!(product.stdout(&["sql", "-f", file.to_str().unwrap(), "--format", "csv"]), "two\n2\n");

    let wrong = product.cobble(&["sql", "SELECT id,\n       rout_id\nFROM drop.public.boardings"]);
    assert_eq!(wrong.status.code(), Some(1));
    insta::assert_snapshot!("error", String::from_utf8_lossy(&wrong.stderr));
    assert_eq!(product.cobble(&["sql", "--nonsense"]).status.code(), Some(2));
    let nobody = std::process::Command::new(cobble())
        .args(["--service", "http://127.0.0.1:9", "runs", "list"])
        .output()
        .unwrap();
    assert_eq!(nobody.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&nobody.stderr).contains("no service answers"));
}

#[test]
fn runs_are_listed_shown_and_stopped() {
    let product = product();
    product.stdout(&["sql", "SELECT count(*) AS marked_run FROM drop.public.tariffs"]);
    let runs: Vec<serde_json::Value> = serde_json::from_str(&product.stdout(&["runs", "list", "--json"])).unwrap();
    let run = runs.iter().find(|r| r["statement"].as_str().unwrap().contains("marked_run")).unwrap();
    assert_eq!(run["state"], "finished");
    let shown = product.stdout(&["runs", "show", run["id"].as_str().unwrap()]);
    assert!(shown.contains("gate A") && shown.contains("crossed   720 rows"), "{shown}");
}

#[test]
fn connections_and_catalogs_come_and_go_without_a_restart() {
    let product = product();
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("quays.csv"), "id,name\n1,Brent\n2,Teal\n").unwrap();
    let path = folder.path().to_str().unwrap();
    product.stdout(&["connection", "add", "extra_files", "--kind", "files", "--address", path]);
    product.stdout(&["catalog", "add", "extra", "--connection", "extra_files"]);
    assert_eq!(
        product.stdout(&["sql", "--format", "csv", "SELECT name FROM extra.public.quays WHERE id = 2"]),
        "name\nTeal\n"
    );
    std::fs::write(folder.path().join("boats.csv"), "id\n7\n").unwrap();
    assert_eq!(
        product.stdout(&["sql", "--format", "csv", "SELECT id FROM extra.public.boats"]),
        "id\n7\n",
        "a new file is a new table"
    );
    let refused = product.cobble(&["connection", "drop", "extra_files"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("used by catalog extra"));
    product.stdout(&["catalog", "drop", "extra"]);
    product.stdout(&["connection", "drop", "extra_files"]);
    assert_eq!(product.cobble(&["sql", "SELECT * FROM extra.public.quays"]).status.code(), Some(1));
}
