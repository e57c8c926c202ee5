//! The whole configuration as a file: what comes out goes in again, differences are shown before they are made, and what cannot be
//! made changes nothing.

use std::process::Command;

use cobble_tests::{Product, SCALE, cobble};

fn run(service: &Product, arguments: &[&str], variables: &[(&str, &str)]) -> (bool, String) {
    let output = Command::new(cobble())
        .args(arguments)
        .env("COBBLE_SERVICE", &service.address)
        .envs(variables.iter().copied())
        .output()
        .expect("the command runs");
    let text = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    (output.status.success(), text)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_configuration_moves_to_another_service() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("lane.toml");
    let path = file.display().to_string();
    // A service of its own: others change the one that tests share.
    let first = Product::start(&folder.path().join("first"), SCALE);
    let secret = std::fs::read_to_string(first.folder.join("reader.secret")).unwrap();
    let secret = secret.trim();
    let (ok, text) = run(&first, &["export", "--out", &path], &[]);
    assert!(ok, "{text}");
    let exported = std::fs::read_to_string(&file).unwrap();
    assert!(!exported.contains(secret), "no secret leaves the service");
    assert!(exported.contains("env = \"FLEET_DB_SECRET\""), "{exported}");
    let (ok, text) = run(&first, &["apply", &path], &[]);
    assert!(ok && text.contains("no change: the service is as the file says"), "{text}");

    let other = Product::empty(&folder.path().join("other"));
    let (ok, text) = run(&other, &["apply", &path, "--preview"], &[]);
    assert!(!ok && text.contains("_SECRET is not set"), "{text}");
    let variables = ["FLEET_DB_SECRET", "YARD_DB_SECRET", "DEEP_STORE_SECRET"].map(|name| (name, secret));
    let (ok, text) = run(&other, &["apply", &path, "--preview"], &variables);
    assert!(ok && text.contains("added    connection fleet_db: postgres at 127.0.0.1:"), "{text}");
    assert!(text.contains("would be made") && !text.contains(secret), "{text}");
    assert_eq!(run(&other, &["--json", "catalog", "list"], &[]).1.trim(), "[]", "a preview changes nothing");
    let (ok, text) = run(&other, &["apply", &path], &variables);
    assert!(ok && text.contains("changes made"), "{text}");
    let (_, again) = run(&other, &["export"], &[]);
    assert_eq!(again, exported, "what came out there comes out here");
    let question = "SELECT (SELECT count(*) FROM fleet.public.ports) + (SELECT count(*) FROM yard.yard.parts), (SELECT count(*) > 0 FROM deep.ops.sailings)";
    let (_, there) = run(&first, &["sql", "--format", "csv", question], &[]);
    assert_eq!(run(&other, &["sql", "--format", "csv", question], &[]).1, there);

    // Changes, shown and made without a restart; the secret that is there stays.
    let changed = exported
        .replace("region = \"north\"", "region = \"east\"")
        .replace("[catalogs.till]\nconnection = \"till_file\"\n", "")
        .replace("[catalogs.fleet]\n", "[catalogs.harbour]\nconnection = \"fleet_db\"\n\n[catalogs.fleet]\n");
    let functions = "\n[functions]\ntwice = \"CREATE FUNCTION twice(n integer) RETURNS integer RETURN n * 2\"\n";
    std::fs::write(&file, format!("{changed}{functions}")).unwrap();
    let (ok, text) = run(&other, &["apply", &path], &[]);
    assert!(ok, "{text}");
    insta::assert_snapshot!("changes", text);
    let (_, text) =
        run(&other, &["sql", "--format", "csv", "SELECT twice(count(*)::integer) FROM harbour.public.ports"], &[]);
    assert_eq!(text.trim().lines().last(), Some("80"));
    assert!(!run(&other, &["sql", "SELECT count(*) FROM till.main.kiosk_sales"], &[]).0);

    // What is wrong is named, and nothing of it is made.
    let (_, before) = run(&other, &["export"], &[]);
    let mut shown = String::new();
    for (from, to) in [
        ("kind = \"postgres\"", "kind = \"postgre\""),
        ("[catalogs.harbour]\nconnection = \"fleet_db\"", "[catalogs.harbour]\nconnection = \"flet_db\""),
        ("[catalogs.harbour]", "[catalogs.\"Har bour\"]"),
        ("kind = \"sqlite\"", "kind = \"sqlite\"\ncolour = \"blue\""),
        ("[connections.till_file]", "[connections.till_file.options]\nbusy = \"1\"\n[connections.till_file]"),
        ("RETURN n * 2", "RETURN n * m"),
        ("twice = ", "thrice = "),
        ("[catalogs.harbour]", "[catalogs.harbour"),
    ] {
        assert!(before.contains(from), "{from}: {before}");
        std::fs::write(&file, before.replacen(from, to, 1)).unwrap();
        let (ok, text) = run(&other, &["apply", &path], &[]);
        assert!(!ok, "{to}: {text}");
        let text = text.trim().replace(&path, "lane.toml").replace('\n', "\n    ");
        shown.push_str(&format!("{to}\n    {text}\n"));
        assert_eq!(run(&other, &["export"], &[]).1, before, "{to}");
    }
    std::fs::write(&file, "# nothing\n").unwrap();
    assert!(run(&other, &["apply", &path], &[]).1.contains("is empty and would remove everything"));
    insta::assert_snapshot!("refused", shown);
    // It is kept: a service that starts again has it.
    let other = other.again();
    assert_eq!(run(&other, &["export"], &[]).1, before);
    other.stop();
    first.stop();
}
