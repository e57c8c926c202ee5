//! Bad settings, dead sources and broken files: a clear error everywhere, and the service goes on.

use cobble_tests::{Product, over_http, product};

/// Text that every error about a source must hold: what is at fault, and what to do.
#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_setting_is_named_in_every_interface() {
    let product = product();
    let port = product.postgres_port.to_string();
    let address = format!("127.0.0.1:{port}");
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("wide.csv"), "a,b\n1,2\n3,4,5\n").unwrap();
    std::fs::write(folder.path().join("cut.parquet"), b"PAR1 and then nothing").unwrap();
    let path = folder.path().to_str().unwrap();
    let secret_file = folder.path().join("secret").display().to_string();
    std::fs::write(&secret_file, "not the password\n").unwrap();
    let database = |address: &str, database: &str, user: &str| -> Vec<String> {
        [
            "--kind",
            "postgres",
            "--address",
            address,
            "--database",
            database,
            "--user",
            user,
            "--secret-file",
            &secret_file,
        ]
        .map(str::to_owned)
        .to_vec()
    };
    let files =
        |address: &str| -> Vec<String> { ["--kind", "files", "--address", address].map(str::to_owned).to_vec() };
    for (name, settings, table, setting, expected) in [
        (
            "wrong_password",
            database(&address, "fleet", "reader"),
            "routes",
            "secret",
            "refused the password of user reader",
        ),
        (
            "closed_port",
            database("127.0.0.1:9", "fleet", "reader"),
            "routes",
            "address",
            "nothing listens at 127.0.0.1:9",
        ),
        (
            "wrong_host",
            database("no-such-host.invalid:5432", "fleet", "reader"),
            "routes",
            "address",
            "no-such-host.invalid",
        ),
        (
            "missing_folder",
            files("/no/such/folder"),
            "routes",
            "address",
            "/no/such/folder: there is no such file or folder",
        ),
        ("broken_files", files(path), "wide", "", "line 3: the row has 3 fields, the first line 2"),
        ("broken_parquet", files(path), "cut", "address", "cut.parquet: not readable as Parquet"),
    ] {
        let mut add = vec!["connection", "add", name];
        add.extend(settings.iter().map(String::as_str));
        product.stdout(&add);
        product.stdout(&["catalog", "add", name, "--connection", name]);
        let sql = format!("SELECT * FROM {name}.public.{table}");

        let command = product.cobble(&["sql", &sql]);
        let said = String::from_utf8_lossy(&command.stderr).into_owned();
        assert_eq!(command.status.code(), Some(1), "{name}: {said}");
        assert!(
            said.contains(expected) && said.contains(&format!("connection {name}")) && said.contains("hint:"),
            "{name}: {said}"
        );

        let http = over_http(&sql).await.unwrap_err();
        assert!(http["message"].as_str().unwrap().contains(expected) && http["hint"].is_string(), "{name}: {http}");

        if !setting.is_empty() {
            let test = product.cobble(&["connection", "test", name]);
            let shown =
                String::from_utf8_lossy(&test.stdout).into_owned() + String::from_utf8_lossy(&test.stderr).as_ref();
            assert!(!test.status.success() && shown.contains(&format!("look at {setting}")), "{name}: {shown}");
        }
        assert_eq!(
            product.stdout(&["sql", "--format", "csv", "SELECT count(*) FROM fleet.public.ports"]),
            "count\n40\n"
        );
        product.stdout(&["catalog", "drop", name]);
        product.stdout(&["connection", "drop", name]);
    }
}

#[test]
fn secrets_never_show() {
    let product = product();
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).unwrap();
    for arguments in [
        &["connection", "show", "fleet_db"][..],
        &["connection", "list", "--json"],
        &["plan", "--as", "json", "SELECT * FROM fleet.public.ports"],
        &["sql", "--format", "csv", "SELECT * FROM lane.state.connections"],
    ] {
        assert!(!product.stdout(arguments).contains(secret.trim()), "{arguments:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_records_hold_sealed_secrets_and_runs_with_plans() {
    let product = product();
    product.stdout(&["sql", "SELECT count(*) AS kept_in_records FROM fleet.public.ports"]);
    let records = product.database("cobble").await;
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).unwrap();
    let row = records
        .query_one("SELECT sealed_secret, definition::text FROM connections WHERE name = 'fleet_db'", &[])
        .await
        .unwrap();
    let (sealed, definition): (Vec<u8>, String) = (row.get(0), row.get(1));
    assert!(!sealed.is_empty() && !sealed.windows(8).any(|w| secret.as_bytes().windows(8).any(|s| s == w)));
    assert!(!definition.contains(secret.trim()));
    let sql = "SELECT state, plan IS NOT NULL, rows_out FROM runs WHERE statement LIKE '%kept_in_records%' ORDER BY started_at DESC LIMIT 1";
    let mut written = None;
    for _ in 0..50 {
        written = records.query_opt(sql, &[]).await.unwrap().filter(|r| r.get::<_, String>(0) == "finished");
        if written.is_some() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let row = written.expect("the run is recorded");
    assert_eq!((row.get::<_, bool>(1), row.get::<_, i64>(2)), (true, 1));
}

/// A service of its own: killed, started again, and everything is found as it was left.
#[test]
fn a_crash_leaves_nothing_that_blocks_the_next_start() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/tmp/crash");
    let _ = std::fs::remove_dir_all(&folder);
    std::fs::create_dir_all(&folder).unwrap();
    let folder = folder.canonicalize().unwrap();
    let first = Product::start(&folder, 0.002);
    first.stdout(&["connection", "add", "kept", "--kind", "files", "--address", "/tmp"]);
    let loaded = std::fs::metadata(folder.join("demo.json")).unwrap().modified().unwrap();
    let second =
        std::process::Command::new(cobble_tests::cobble()).args(["up", "--folder"]).arg(&folder).output().unwrap();
    assert!(String::from_utf8_lossy(&second.stderr).contains("a service is running on"), "one service per folder");
    first.kill();
    let again = Product::start(&folder, 0.002);
    assert!(again.stdout(&["connection", "list"]).contains("kept"));
    assert_eq!(again.stdout(&["sql", "--format", "csv", "SELECT count(*) FROM fleet.public.ports"]), "count\n40\n");
    assert_eq!(
        std::fs::metadata(folder.join("demo.json")).unwrap().modified().unwrap(),
        loaded,
        "nothing is loaded twice"
    );
    again.stop();
}
