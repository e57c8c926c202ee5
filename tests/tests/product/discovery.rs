//! Tables that are discovered in folders, from the command to the history of what changed.

use std::time::{Duration, Instant};

use cobble_tests::product;

fn settings() -> insta::Settings {
    let mut settings = insta::Settings::clone_current();
    settings.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC", "[time] UTC");
    settings.add_filter(r"/\S*/jetty", "[folder]");
    settings.add_filter(r"127\.0\.0\.1:\d+", "127.0.0.1:[port]");
    settings
}

#[test]
fn a_folder_becomes_tables_and_its_changes_are_told() {
    let product = product();
    let temporary = tempfile::tempdir().unwrap();
    let folder = temporary.path().join("jetty");
    let write = |name: &str, text: &str| {
        let path = folder.join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    };
    write("tolls/2025/july.csv", "berth;paid\n1;2.50\n2;3.00\n");
    write("log/day=2025-07-01/a.jsonl", "{\"vessel\": \"Heron\", \"waves\": 1}\n");
    write("berths-north.csv", "berth,depth\n1,4.5\n");
    write("berths-south.csv", "berth,depth\n2,shallow\n");
    write("vessels.json", "[{\"name\": \"Heron\", \"knots\": 12}]");
    write("notes.txt", "hello");
    let mut shown = String::new();
    let mut run = |arguments: &[&str]| {
        let output = product.cobble(arguments);
        let text = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        shown.push_str(&format!("$ cobble {}\n{text}\n", arguments.join(" ")));
    };
    let path = folder.display().to_string();
    run(&["discover", &path, "--into", "jetty"]);
    run(&["sql", "SELECT * FROM jetty.tolls._2025 ORDER BY berth"]);
    run(&["sql", "SELECT * FROM jetty.public.berths ORDER BY berth"]);
    run(&["sql", "SELECT vessel, day FROM jetty.public.log"]);
    write("tolls/2025/august.csv", "berth;paid;clerk\nB3;3.00;Ann\n");
    std::fs::remove_file(folder.join("vessels.json")).unwrap();
    write("weather.csv", "day,wind\n2025-07-01,5\n");
    run(&["discover", "jetty", "--preview"]);
    run(&["discover", "jetty/tolls"]);
    run(&["sql", "SELECT * FROM jetty.tolls._2025 ORDER BY berth"]);
    run(&["catalog", "change", "jetty", "--set", "metadata_life=3"]);
    run(&[
        "catalog",
        "define",
        "jetty.public.tolls",
        "--path",
        "tolls",
        "--column",
        "berth text",
        "--set",
        "metadata_life=7",
    ]);
    run(&["sql", "SELECT count(*) FROM jetty.public.tolls"]);
    run(&["catalog", "show", "jetty"]);
    run(&["catalog", "show", "jetty", "--effective", "--table", "public.tolls"]);
    run(&["catalog", "undefine", "jetty.public.tolls"]);
    run(&["discover", "fleet"]);
    run(&["discover", "jetty/nowhere"]);
    run(&["discover", &path, "--into", "fleet"]);
    run(&["discover", "jetty", "--every", "1", "--preview"]);
    settings().bind(|| insta::assert_snapshot!("discover", shown));

    // Looked at on its own time: new tables are there, the rest is told.
    product.stdout(&["discover", "jetty", "--every", "1"]);
    write("weather.csv", "day,wind\n2025-07-01,calm\n");
    write("signals.csv", "at,sign\n2025-07-01 09:00:00,red\n");
    let began = Instant::now();
    loop {
        let history = product.stdout(&["catalog", "history", "jetty"]);
        if history.contains("on its time") && history.contains("public.weather: wind bigint holds text by now") {
            assert!(history.contains("new table      jetty.public.signals: csv, 1 file, 2 columns"), "{history}");
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(30), "{history}");
        std::thread::sleep(Duration::from_millis(200));
    }
    assert!(product.stdout(&["sql", "SELECT sign FROM jetty.public.signals"]).contains("red"));
    std::fs::remove_dir_all(&folder).unwrap();
    let began = Instant::now();
    while !product.stdout(&["catalog", "history", "jetty"]).contains("failed         jetty:") {
        assert!(began.elapsed() < Duration::from_secs(30));
        std::thread::sleep(Duration::from_millis(200));
    }
    product.stdout(&["catalog", "drop", "jetty"]);
}

#[test]
fn a_stored_query_is_a_table() {
    let product = product();
    let mut shown = String::new();
    let mut run = |arguments: &[&str]| {
        let output = product.cobble(arguments);
        let text = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        shown.push_str(&format!("$ cobble {}\n{text}\n", arguments.join(" ")));
    };
    run(&["catalog", "add", "office", "--connection", "fleet_db"]);
    let query = "SELECT r.name, count(*) AS calls FROM routes r JOIN ports p ON p.id IN (r.from_port, r.to_port) GROUP BY r.name";
    run(&["catalog", "define", "office.reports.calls", "--query", query]);
    run(&["browse", "office.reports.calls"]);
    run(&["plan", "--as", "gates", "SELECT calls, count(*) FROM office.reports.calls WHERE name < 'B' GROUP BY calls"]);
    let split = ["--query", "SELECT id, name FROM pass_holders", "--split-on", "id", "--split-into", "4"];
    run(&[&["catalog", "define", "office.reports.holders"][..], &split].concat());
    run(&[
        "sql",
        "SELECT count(*), count(DISTINCT id), min(id), max(id) = count(*) AS whole FROM office.reports.holders",
        "--set",
        "planner.off=offer-aggregates",
    ]);
    run(&["plan", "--as", "gates", "SELECT name FROM office.reports.holders WHERE name < 'B'"]);
    run(&[
        "catalog",
        "define",
        "office.reports.odd",
        "--query",
        "SELECT name FROM ports",
        "--split-on",
        "name",
        "--split-into",
        "4",
    ]);
    run(&["browse", "office.reports.odd"]);
    run(&["catalog", "undefine", "office.reports.odd"]);
    run(&["catalog", "define", "office.reports.wipe", "--query", "DELETE FROM routes"]);
    run(&["catalog", "define", "office.public.routes_file", "--path", "routes.csv"]);
    run(&["catalog", "change", "office", "--set", "statement_limit=60", "--set", "user=root"]);
    run(&["catalog", "change", "office", "--set", "statement_limit=60"]);
    run(&["catalog", "show", "office", "--effective"]);
    run(&["catalog", "change", "office", "--unset", "statement_limit"]);
    run(&["catalog", "drop", "office"]);
    settings().bind(|| insta::assert_snapshot!("stored_query", shown));
}

/// A look into files behind a server that takes its time is told of while it goes on, and stopped.
#[tokio::test(flavor = "multi_thread")]
async fn a_look_is_followed_and_stopped() {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((mut socket, _)) = listener.accept().await {
            tokio::spawn(async move {
                let mut head = vec![0; 4096];
                while let Ok(count @ 1..) = socket.read(&mut head).await {
                    let is_head = head[..count].starts_with(b"HEAD");
                    if !is_head {
                        tokio::time::sleep(Duration::from_millis(300)).await;
                    }
                    let body = "id,fare\n1,2\n";
                    let answer = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\nETag: \"1\"\r\n\r\n", body.len());
                    let answer = if is_head { answer } else { answer + body };
                    if socket.write_all(answer.as_bytes()).await.is_err() {
                        return;
                    }
                }
            });
        }
    });
    let product = product();
    let names: Vec<String> = (0..60).map(|n| format!("{n}.csv")).collect();
    let (address, files) = (format!("http://127.0.0.1:{port}"), format!("files={}", names.join(",")));
    product.stdout(&["connection", "add", "slow_web", "--kind", "http", "--address", &address, "--set", &files]);
    product.stdout(&["catalog", "add", "slow", "--connection", "slow_web"]);
    let url = format!("{}/api/v1/catalogs/slow/discover", product.address);
    let client = product.http();
    assert_eq!(client.get(&url).send().await.unwrap().status(), 404);
    let look = tokio::spawn(client.post(&url).json(&serde_json::json!({ "preview": true })).send());
    let began = Instant::now();
    let far: serde_json::Value = loop {
        assert!(began.elapsed() < Duration::from_secs(30), "nothing is told");
        let told: serde_json::Value = client.get(&url).send().await.unwrap().json().await.unwrap();
        if told["looked"].as_u64() > Some(2) {
            break told;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    assert_eq!(far["files"], 60, "{far}");
    let second = client.post(&url).json(&serde_json::json!({ "preview": true })).send().await.unwrap();
    assert_eq!(second.status(), 409);
    assert_eq!(client.delete(&url).send().await.unwrap().status(), 200);
    let error: serde_json::Value = look.await.unwrap().unwrap().json().await.unwrap();
    assert_eq!(error["message"], "catalog slow: the discovery was cancelled", "{error}");
    assert!(began.elapsed() < Duration::from_secs(12), "{:?}", began.elapsed());
    product.stdout(&["catalog", "drop", "slow"]);
    product.stdout(&["connection", "drop", "slow_web"]);
}
