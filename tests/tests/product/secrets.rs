//! Secrets are looked for in everything that leaves the service: answers, errors, plans, runs, exports, logs and the records.

use cobble_tests::{over_http, product};

/// All texts of a folder's files but those that are there to hold a secret, and the servers' own data.
fn texts_below(folder: &std::path::Path, into: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let kept_there = name.ends_with(".secret") || ["cluster", "tables", "drop", "store"].contains(&name.as_str());
        if path.is_dir() && !kept_there {
            texts_below(&path, into);
        } else if path.is_file() && !kept_there {
            into.push((
                path.display().to_string(),
                String::from_utf8_lossy(&std::fs::read(&path).unwrap()).into_owned(),
            ));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_secret_leaves_the_service() {
    let product = product();
    let demo = std::fs::read_to_string(product.folder.join("reader.secret")).unwrap().trim().to_owned();
    let own = "hush-4711-quay";
    let secrets = [demo.as_str(), own];
    let secret_file = product.folder.join("own.secret");
    std::fs::write(&secret_file, own).unwrap();
    let secret_file = secret_file.display().to_string();
    let postgres = format!("127.0.0.1:{}", product.postgres_port);
    let mut said: Vec<(String, String)> = Vec::new();
    let mut run = |arguments: &[&str]| {
        let output = product.cobble(arguments);
        let text = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        said.push((arguments.join(" "), text));
    };
    // Connections whose secret is wrong or whose server is not there, of every kind that takes one.
    for (name, kind, address, more) in [
        ("hush_postgres", "postgres", postgres.as_str(), vec!["--database", "fleet", "--user", "reader"]),
        ("hush_gone", "postgres", "127.0.0.1:9", vec!["--database", "fleet", "--user", "reader"]),
        ("hush_maria", "mariadb", "127.0.0.1:9", vec!["--user", "reader"]),
        ("hush_store", "s3", "127.0.0.1:9", vec!["--user", "reader", "--set", "bucket=deep"]),
        ("hush_keys", "redis", "127.0.0.1:9", vec![]),
    ] {
        let mut add =
            vec!["connection", "add", name, "--kind", kind, "--address", address, "--secret-file", &secret_file];
        add.extend(more);
        run(&add);
        run(&["catalog", "add", name, "--connection", name]);
        run(&["connection", "show", name, "--json"]);
        run(&["connection", "test", name]);
        run(&["browse", name]);
        run(&["sql", &format!("SELECT * FROM {name}.public.routes")]);
        run(&["plan", &format!("SELECT * FROM {name}.public.routes")]);
        run(&["sql", &format!("SELECT * FROM native_query('{name}', 'SELECT 1 AS a')")]);
    }
    let question = "SELECT count(*) FROM fleet.public.routes r, yard.yard.parts p, deep.ops.sailings s WHERE r.id = p.id AND p.id = s.id";
    run(&["sql", question]);
    for form in ["tree", "gates"] {
        run(&["plan", "--measure", "--as", form, question]);
    }
    run(&["--json", "plan", "--measure", question]);
    for arguments in [["connection", "list"], ["catalog", "list"], ["runs", "list"]] {
        run(&arguments);
        run(&["--json", arguments[0], arguments[1]]);
    }
    run(&["export"]);
    run(&["--json", "export"]);
    let client = product.http();
    for path in [
        "connections",
        "connections/fleet_db",
        "configuration",
        "catalogs",
        "kinds",
        "runs",
        "status",
        "openapi.json",
        "names?find=secret",
    ] {
        let url = format!("{}/api/v1/{path}", product.address);
        said.push((path.to_owned(), client.get(url).send().await.unwrap().text().await.unwrap()));
    }
    for table in ["lane.state.runs", "lane.state.statistics", "fleet.information_schema.columns"] {
        said.push((table.to_owned(), format!("{:?}", over_http(&format!("SELECT * FROM {table}")).await)));
    }
    // The records as someone reads them who has the database: only the sealed form is there.
    let records = product.database("cobble").await;
    for table in ["connections", "runs", "catalogs", "functions", "table_statistics"] {
        let rows = records.simple_query(&format!("SELECT t::text FROM {table} t")).await.unwrap();
        said.push((format!("records: {table}"), format!("{rows:?}")));
    }
    texts_below(&product.folder, &mut said);
    assert!(said.len() > 70, "{} texts were looked through", said.len());
    for (place, text) in &said {
        for secret in secrets {
            assert!(!text.contains(secret), "{place} has a secret: {text}");
        }
    }
    for name in ["hush_postgres", "hush_gone", "hush_maria", "hush_store", "hush_keys"] {
        product.stdout(&["catalog", "drop", name]);
        product.stdout(&["connection", "drop", name]);
    }
}
