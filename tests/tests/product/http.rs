//! The service over HTTP.

use std::time::{Duration, Instant};

use cobble_tests::{Product, over_http, product};
use reqwest::Response;
use serde_json::{Value, json};

fn url(path: &str) -> String {
    format!("{}/api/v1{path}", product().address)
}

async fn start(sql: &str) -> Value {
    product().http().post(url("/runs")).json(&json!({ "statement": sql })).send().await.unwrap().json().await.unwrap()
}

async fn get(path: &str) -> Response {
    product().http().get(url(path)).send().await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_created_followed_and_fetched_in_pages() {
    let run = start("SELECT id, channel FROM drop.public.boardings ORDER BY id").await;
    let id = run["id"].as_str().unwrap();
    let events = get(&format!("/runs/{id}/events")).await.text().await.unwrap();
    assert!(events.contains("event:end") && events.contains("\"state\":\"finished\""), "{events}");
    let page: Value = get(&format!("/runs/{id}/rows?offset=1000&limit=3")).await.json().await.unwrap();
    assert_eq!(page["columns"], json!([{ "name": "id", "type": "bigint" }, { "name": "channel", "type": "text" }]));
    assert_eq!(page["rows"][0][0], 1001);
    assert_eq!(
        (page["offset"].as_u64(), page["last"].as_bool(), page["rows"].as_array().unwrap().len()),
        (Some(1000), Some(false), 3)
    );
    let plan: Value = get(&format!("/runs/{id}/plan")).await.json().await.unwrap();
    assert_eq!(plan["gates"][0]["measure"]["rows"], plan["measures"]["rows"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn results_come_in_the_form_that_is_accepted() {
    let run = start("SELECT id, name FROM fleet.public.ports WHERE id <= 2 ORDER BY id").await;
    let path = format!("/runs/{}/rows", run["id"].as_str().unwrap());
    let accept = async |form: &str| product().http().get(url(&path)).header("Accept", form).send().await.unwrap();
    assert_eq!(accept("text/csv").await.text().await.unwrap(), "id,name\n1,Brent Quay\n2,Marram Quay\n");
    assert_eq!(
        accept("application/x-ndjson").await.text().await.unwrap(),
        "{\"id\":1,\"name\":\"Brent Quay\"}\n{\"id\":2,\"name\":\"Marram Quay\"}\n"
    );
    let arrow = accept("application/vnd.apache.arrow.stream").await;
    assert_eq!(arrow.headers()["content-type"], "application/vnd.apache.arrow.stream");
    let bytes = arrow.bytes().await.unwrap();
    let mut reader = arrow::ipc::reader::StreamReader::try_new(std::io::Cursor::new(bytes), None).unwrap();
    assert_eq!(reader.next().unwrap().unwrap().num_rows(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn moments_are_shown_in_the_sessions_zone_in_every_form() {
    let moment = "timestamptz '2025-07-01 12:00+00'";
    let sql = format!("SELECT {moment} AS at, ARRAY[{moment}] AS list, ROW({moment}, 1) AS pair");
    let body = json!({ "statement": sql, "settings": { "timezone": "Europe/Paris" } });
    let run: Value = product().http().post(url("/runs")).json(&body).send().await.unwrap().json().await.unwrap();
    let path = format!("/runs/{}/rows", run["id"].as_str().unwrap());
    let mut forms = vec![get(&path).await.json::<Value>().await.unwrap()["rows"].to_string()];
    for form in ["csv", "jsonl"] {
        forms.push(get(&format!("{path}?format={form}")).await.text().await.unwrap());
    }
    let arrow = get(&format!("{path}?format=arrow")).await.bytes().await.unwrap();
    let mut reader = arrow::ipc::reader::StreamReader::try_new(std::io::Cursor::new(arrow), None).unwrap();
    let batch = reader.next().unwrap().unwrap();
    forms.extend(batch.columns().iter().map(|column| format!("{}", column.data_type())));
    let command = ["sql", "--set", "timezone=Europe/Paris", "--format", "csv", &sql];
    forms.push(product().stdout(&command));
    insta::assert_snapshot!(forms.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_is_waited_for_brings_its_first_page() {
    let send = |query: &str, sql: &str| {
        product().http().post(url(&format!("/runs?{query}"))).json(&json!({ "statement": sql })).send()
    };
    let run: Value = send("wait=10000", "SELECT 7 AS n").await.unwrap().json().await.unwrap();
    assert_eq!(
        (&run["state"], &run["page"]["rows"], &run["page"]["last"]),
        (&json!("finished"), &json!([[7]]), &json!(true))
    );
    let many = "SELECT n FROM generate_series(1, 5000) AS s(n)";
    let run: Value = send("wait=10000&limit=3", many).await.unwrap().json().await.unwrap();
    assert_eq!((&run["page"]["rows"], &run["page"]["last"]), (&json!([[1], [2], [3]]), &json!(false)));
    let rest = get(&format!("/runs/{}/rows?offset=4999", run["id"].as_str().unwrap())).await;
    assert_eq!(rest.json::<Value>().await.unwrap()["rows"], json!([[5000]]));
    let run: Value = send("wait=10000", "SELECT 1 / 0").await.unwrap().json().await.unwrap();
    assert_eq!((&run["state"], &run["error"]["sqlstate"], run.get("page")), (&json!("failed"), &json!("22012"), None));
    // What takes longer than it is waited for goes on.
    let long = "SELECT count(*) FROM generate_series(1, 100000) a(n), generate_series(1, 100000) b(m) WHERE n + m < 0";
    let run: Value = send("wait=50", long).await.unwrap().json().await.unwrap();
    assert_eq!((&run["state"], run.get("page")), (&json!("running"), None));
    product().http().delete(url(&format!("/runs/{}", run["id"].as_str().unwrap()))).send().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn every_answer_comes_however_many_clients_there_are() {
    let seen = cobble_tests::clients::clients(product(), 200, |round| round < 8).await;
    assert_eq!((seen.answers, seen.wrong.first()), (1600, None));
}

/// Results that nobody fetches fill the room for them: from then on new runs are refused, and nothing that waits is lost.
#[tokio::test(flavor = "multi_thread")]
async fn no_promised_answer_is_dropped_when_the_room_is_full() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::small(folder.path(), "16MB");
    let (client, base) = (product.http(), format!("{}/api/v1/runs", product.address));
    let start = |n: usize| client.post(&base).json(&json!({ "statement": format!("SELECT {n} AS n") })).send();
    let mut waiting = Vec::new();
    let refused: Value = loop {
        let response = start(waiting.len()).await.unwrap();
        let good = response.status().is_success();
        let body: Value = response.json().await.unwrap();
        if !good {
            break body;
        }
        waiting.push(body["id"].as_str().unwrap().to_owned());
    };
    assert!(waiting.len() > 100, "{} results found room", waiting.len());
    assert_eq!(refused["sqlstate"], "53200", "{refused}");
    for (n, id) in waiting.iter().enumerate() {
        let page: Value = client.get(format!("{base}/{id}/rows")).send().await.unwrap().json().await.unwrap();
        assert_eq!(page["rows"], json!([[n]]), "{page}");
    }
    // What was read gives way.
    for n in 0..waiting.len() {
        assert!(start(n).await.unwrap().status().is_success());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_fails_late_gives_no_part_of_its_rows_as_a_whole() {
    let run = start("SELECT 100000 / (70000 - g) FROM generate_series(1, 80000) AS s(g)").await;
    let path = format!("/runs/{}/rows", run["id"].as_str().unwrap());
    for form in ["csv", "jsonl"] {
        let response = get(&format!("{path}?format={form}")).await;
        assert_eq!(response.status().as_u16(), 400, "{form}");
        assert_eq!(response.json::<Value>().await.unwrap()["sqlstate"], "22012");
    }
    let arrow = get(&format!("{path}?format=arrow")).await.bytes().await.unwrap();
    assert!(!arrow.ends_with(&[0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0]));
}

#[tokio::test(flavor = "multi_thread")]
async fn cancelling_a_run_ends_it_at_once() {
    let run =
        start("SELECT count(*) FROM drop.public.boardings a JOIN drop.public.boardings b ON a.fare < b.fare").await;
    let id = run["id"].as_str().unwrap().to_owned();
    tokio::time::sleep(Duration::from_millis(500)).await;
    let began = Instant::now();
    let ended: Value = product().http().delete(url(&format!("/runs/{id}"))).send().await.unwrap().json().await.unwrap();
    assert_eq!(ended["state"], "cancelled", "after {:?}", began.elapsed());
    let rows = get(&format!("/runs/{id}/rows")).await;
    assert_eq!(rows.status(), 409);
    assert_eq!(rows.json::<Value>().await.unwrap()["code"], "cancelled");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_error_has_one_shape() {
    let body: Value = over_http("SELECT rout_id FROM drop.public.boardings").await.unwrap_err();
    assert_eq!(
        body,
        json!({
            "code": "unknown_name", "sqlstate": "42703", "message": "there is no column named \"rout_id\"",
            "position": { "line": 1, "column": 8 }, "hint": "did you mean \"route_id\"?"
        })
    );
    let long = "q".repeat(5 << 20);
    let answer = over_http(&format!("SELECT length('{long}')")).await.unwrap();
    assert_eq!(answer, [[json!(5 << 20)]], "a statement of megabytes goes through");
    let client = product().http();
    for (response, status) in [
        (get("/nothing").await, 404),
        (get("/runs/zzz").await, 404),
        (get("/catalogs/nowhere/schemas").await, 400),
        (get("/connections/nowhere").await, 404),
        (client.post(url("/runs")).header("Content-Type", "application/json").body("{").send().await.unwrap(), 400),
        (client.post(url("/plans")).json(&json!({ "statement": "SELECT" })).send().await.unwrap(), 400),
        (
            client
                .post(url("/connections"))
                .json(&json!({ "name": "X", "kind": "files", "address": "/" }))
                .send()
                .await
                .unwrap(),
            400,
        ),
    ] {
        let path = response.url().path().to_owned();
        assert_eq!(response.status(), status, "{path}");
        let body: Value = response.json().await.unwrap();
        assert!(
            body["code"].is_string() && body["message"].is_string() && body["sqlstate"].is_string(),
            "{path}: {body}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn catalogs_tables_and_plans_are_served() {
    let tables: Value = get("/catalogs/fleet/schemas/public/tables").await.json().await.unwrap();
    assert_eq!(tables, json!(["crew", "pass_holders", "ports", "routes", "vessels"]));
    let table: Value = get("/catalogs/fleet/schemas/public/tables/vessels").await.json().await.unwrap();
    assert_eq!((table["estimated_rows"].as_f64(), &table["columns"][0]["key"]), (Some(60.0), &json!(true)));
    let functions: Value = get("/functions").await.json().await.unwrap();
    let split = functions.as_array().unwrap().iter().find(|f| f["name"] == "split_part").unwrap();
    assert_eq!((&split["arguments"], &split["kind"]), (&json!("text, separator, n"), &json!("scalar")));
    let status: Value = get("/status").await.json().await.unwrap();
    assert!(status["memory_limit"].as_u64() > status["memory_used"].as_u64(), "{status}");
    let body = json!({ "statement": "SELECT name FROM ports", "catalog": "fleet" });
    let plan: Value = product().http().post(url("/plans")).json(&body).send().await.unwrap().json().await.unwrap();
    let sent = "COPY (SELECT t1.\"name\" FROM \"public\".\"ports\" AS t1) TO STDOUT (FORMAT binary)";
    assert_eq!(plan["gates"][0]["request"]["text"], sent);
    let steps: Vec<Value> =
        product().http().post(url("/connections/fleet_db/test")).send().await.unwrap().json().await.unwrap();
    let names: Vec<&str> = steps.iter().map(|s| s["step"].as_str().unwrap()).collect();
    assert_eq!(names, ["resolve", "reach", "sign in", "list", "read"]);
    assert!(steps.iter().all(|s| s["passed"] == true));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_document_describes_every_call_and_is_the_consoles() {
    let served = get("/openapi.json").await.text().await.unwrap();
    let kept =
        std::fs::read_to_string(std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../console/openapi.json"))
            .unwrap();
    assert_eq!(served.trim(), kept.trim(), "make the console's types again: make types");
    let document: Value = serde_json::from_str(&served).unwrap();
    assert!(document["paths"].as_object().unwrap().len() >= 16);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schema_of_thousands_of_tables_is_listed_and_completed() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::empty(folder.path());
    let admin = product.database("postgres").await;
    admin.batch_execute("CREATE DATABASE wharf").await.unwrap();
    admin.batch_execute("CREATE ROLE reader LOGIN PASSWORD 'a secret'").await.unwrap();
    let wharf = product.database("wharf").await;
    for first in (1..=3000).step_by(500) {
        let last = first + 499;
        let each = "EXECUTE format('CREATE TABLE berth_%s (id integer)', n)";
        wharf
            .batch_execute(&format!("DO $$ BEGIN FOR n IN {first}..{last} LOOP {each}; END LOOP; END $$"))
            .await
            .unwrap();
    }
    std::fs::write(folder.path().join("secret"), "a secret").unwrap();
    let secret = folder.path().join("secret").display().to_string();
    let place = format!("127.0.0.1:{}", product.postgres_port);
    let kind = ["--kind", "postgres", "--address", &place, "--database", "wharf", "--user", "reader"];
    product.stdout(&[&["connection", "add", "wharf_db", "--secret-file", &secret], &kind[..]].concat());
    product.stdout(&["catalog", "add", "wharf", "--connection", "wharf_db"]);
    let get = async |path: &str| -> Value {
        let url = format!("{}/api/v1{path}", product.address);
        product.http().get(url).send().await.unwrap().json().await.unwrap()
    };
    let tables = get("/catalogs/wharf/schemas/public/tables").await;
    assert_eq!(tables.as_array().unwrap().len(), 3000);
    // All names are completed, by one question for all columns: describing each table would keep the editor waiting.
    let names = get("/names").await;
    let berths: Vec<&Value> = names.as_array().unwrap().iter().filter(|name| name["schema"] == "public").collect();
    let with_columns = berths.iter().filter(|name| name["columns"] == json!(["id"])).count();
    assert_eq!((berths.len(), with_columns), (3000, 3000));
    let columns = "SELECT count(*), count(DISTINCT table_name) FROM wharf.information_schema.columns WHERE table_schema = 'public'";
    assert_eq!(product.stdout(&["sql", "--format", "csv", columns]).lines().last(), Some("3000,3000"));
    product.stop();
}
