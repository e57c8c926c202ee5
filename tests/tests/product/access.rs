//! Who may do what: signing in, roles, and what becomes of a user who is dropped.

use std::time::Duration;

use cobble_tests::{Product, SCALE, http, http_as, product};
use reqwest::{Client, Method, Response, StatusCode};
use serde_json::{Value, json};

fn url(product: &Product, path: &str) -> String {
    format!("{}/api/v1{path}", product.address)
}

async fn json_of(response: Response) -> Value {
    response.json().await.expect("JSON")
}

fn token(product: &Product, name: &str, more: &[&str]) -> String {
    product.stdout(&[&["access", "add", name], more].concat()).trim().to_owned()
}

/// Every call that the service describes.
async fn calls(product: &Product) -> Vec<(Method, String)> {
    let described = json_of(http().get(url(product, "/openapi.json")).send().await.unwrap()).await;
    let paths = described["paths"].as_object().unwrap();
    let all = paths.iter().flat_map(|(path, methods)| {
        let methods = methods.as_object().unwrap().keys().map(|method| method.to_uppercase().parse().unwrap());
        methods.map(|method: Method| (method, path.trim_start_matches("/api/v1").to_owned()))
    });
    all.collect()
}

/// Makes a call with nothing much in it.
async fn made(client: &Client, product: &Product, method: &Method, path: &str) -> (StatusCode, String) {
    let filled: Vec<&str> = path.split('/').map(|part| if part.starts_with('{') { "nothing" } else { part }).collect();
    let mut request = client.request(method.clone(), url(product, &filled.join("/")));
    if matches!(*method, Method::POST | Method::PUT) {
        request = request.header("Content-Type", "application/json").body("{}");
    }
    let response = request.send().await.unwrap();
    (response.status(), response.text().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn every_call_asks_who_calls() {
    let product = product();
    let all = calls(product).await;
    assert!(all.len() > 50, "{}", all.len());
    for (method, path) in &all {
        for client in [http(), http_as("made up")] {
            let (status, body) = made(&client, product, method, path).await;
            // Signing in is how one gets past all others.
            let wanted = if (method, path.as_str()) == (&Method::POST, "/caller") { 400 } else { 401 };
            assert_eq!(status, wanted, "{method} {path}: {body}");
        }
    }
    // The cookie of an earlier version, or anything else than a token in its header, is nobody's.
    let (token, status) = (product.token(), url(product, "/status"));
    let shown = [("Cookie", format!("cobble_token={token}")), ("Authorization", token.clone())];
    for (header, value) in shown {
        assert_eq!(http().get(&status).header(header, value).send().await.unwrap().status(), 401, "{header}");
    }
    let lower = http().get(&status).header("Authorization", format!("bearer {token}"));
    assert_eq!(lower.send().await.unwrap().status(), 200, "a scheme has no case");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_for_administrators_is_for_them_alone() {
    let product = product();
    let user = http_as(&token(product, "access_user", &[]));
    let mut refused = Vec::new();
    for (method, path) in calls(product).await {
        let (status, body) = made(&user, product, &method, &path).await;
        assert_ne!(status, 401, "{method} {path}: {body}");
        if status == 403 {
            assert!(body.contains("that is for administrators"), "{body}");
            refused.push(format!("{method} {path}"));
        }
    }
    refused.sort();
    insta::assert_snapshot!(refused.join("\n"));
    // What others do for a user: their credentials, and the settings that work for them.
    let put = user.put(url(product, "/connections/fleet_db/credentials/admin")).json(&json!({ "secret": "x" }));
    let read = user.get(url(product, "/catalogs/fleet/settings?user=admin"));
    // Functions are made by SQL.
    let make = user.post(url(product, "/runs?wait=10000"));
    let make = |sql: &str| make.try_clone().unwrap().json(&json!({ "statement": sql })).send();
    for request in [put, read] {
        let response = request.send().await.unwrap();
        assert_eq!(response.status(), 403);
    }
    for sql in ["CREATE FUNCTION access_one() RETURNS int RETURN 1", "DROP FUNCTION access_one"] {
        let run = json_of(make(sql).await.unwrap()).await;
        assert_eq!(run["error"]["code"], "not_allowed", "{run}");
    }
    assert_eq!(json_of(make("SELECT 1").await.unwrap()).await["state"], "finished");
    product.stdout(&["access", "drop", "access_user"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn links_tickets_and_tokens_serve_as_long_as_they_should() {
    let product = product();
    let first = token(product, "access_ada", &["--expires-in", "1h"]);
    let ada = http_as(&first);
    let caller = async |client: &Client| {
        let response = client.get(url(product, "/caller")).send().await.unwrap();
        (response.status().as_u16(), json_of(response).await)
    };
    assert_eq!(caller(&ada).await, (200, json!({ "user": "access_ada", "role": "user" })));

    // A link serves once; what the browser has then serves until it is given up.
    let code = json_of(ada.post(url(product, "/links")).send().await.unwrap()).await["code"].clone();
    let trade = async |body: Value| {
        let response = http().post(url(product, "/caller")).json(&body).send().await.unwrap();
        assert!(response.headers().get("set-cookie").is_none());
        (response.status().as_u16(), json_of(response).await)
    };
    let (status, signed_in) = trade(json!({ "code": code })).await;
    assert_eq!((status, &signed_in["user"]), (200, &json!("access_ada")));
    assert_eq!(trade(json!({ "code": code })).await.0, 401, "it has served");
    let browser = http_as(signed_in["secret"].as_str().unwrap());
    assert_eq!(caller(&browser).await.0, 200);
    assert_eq!(browser.delete(url(product, "/caller")).send().await.unwrap().status(), 200);
    assert_eq!(caller(&browser).await.0, 401);
    assert_eq!(trade(json!({ "token": "made up" })).await.0, 401);
    assert_eq!(trade(json!({ "token": first, "code": code })).await.0, 400);
    let by_token = trade(json!({ "token": first })).await.1;
    let browser = http_as(by_token["secret"].as_str().unwrap());

    // A ticket serves once, for the path that it was made for.
    let body = json!({ "statement": "SELECT 7 AS n" });
    let run = json_of(ada.post(url(product, "/runs?wait=10000")).json(&body).send().await.unwrap()).await;
    let rows = format!("/runs/{}/rows", run["id"].as_str().unwrap());
    let ticket = async || {
        let wanted = json!({ "path": format!("/api/v1{rows}") });
        let given = json_of(ada.post(url(product, "/tickets")).json(&wanted).send().await.unwrap()).await;
        given["ticket"].as_str().unwrap().to_owned()
    };
    let with = async |path: &str, ticket: &str| {
        http().get(format!("{}?format=csv&ticket={ticket}", url(product, path))).send().await.unwrap()
    };
    let good = ticket().await;
    let response = with(&rows, &good).await;
    assert_eq!((response.status().as_u16(), response.text().await.unwrap().as_str()), (200, "n\n7\n"));
    assert_eq!(with(&rows, &good).await.status(), 401, "it has served");
    assert_eq!(with("/runs", &ticket().await).await.status(), 401, "it is for another path");

    // Another token ends the one before and what browsers have.
    let second = product.stdout(&["access", "token", "access_ada"]).trim().to_owned();
    assert_eq!([caller(&ada).await.0, caller(&browser).await.0], [401, 401]);
    let ada = http_as(&second);
    assert_eq!(caller(&ada).await.0, 200);
    product.stdout(&["access", "expiry", "access_ada", "1s"]);
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let (status, error) = caller(&ada).await;
    assert_eq!((status, &error["message"]), (401, &json!("the token of user access_ada has expired")));
    product.stdout(&["access", "expiry", "access_ada", "never"]);
    assert_eq!(caller(&ada).await.0, 200);
    product.stdout(&["access", "role", "access_ada", "administrator"]);
    assert_eq!(caller(&ada).await.1["role"], "administrator");
    assert_eq!(ada.get(url(product, "/users")).send().await.unwrap().status(), 200);
    // With the role go the sessions that were begun with it.
    let session = json_of(ada.post(url(product, "/sessions")).json(&json!({})).send().await.unwrap()).await;
    product.stdout(&["access", "role", "access_ada", "user"]);
    let session = format!("/sessions/{}", session["id"].as_str().unwrap());
    assert_eq!(ada.get(url(product, &session)).send().await.unwrap().status(), 404);
    assert_eq!(ada.get(url(product, "/users")).send().await.unwrap().status(), 403);
    product.stdout(&["access", "drop", "access_ada"]);
    assert_eq!(caller(&ada).await.0, 401);
}

#[test]
fn the_last_administrator_stays() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::empty(folder.path());
    let refused = |arguments: &[&str]| {
        let output = product.cobble(arguments);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(
            !output.status.success() && said.contains("the last administrator whose token does not expire"),
            "{said}"
        );
    };
    let ways: [&[&str]; 4] = [
        &["access", "drop", "admin"],
        &["access", "role", "admin", "user"],
        &["access", "expiry", "admin", "1d"],
        &["access", "token", "admin", "--expires-in", "1d"],
    ];
    ways.iter().for_each(|way| refused(way));
    token(&product, "second", &["--role", "administrator", "--expires-in", "1d"]);
    ways.iter().for_each(|way| refused(way));
    let second = token(&product, "third", &["--role", "administrator"]);
    product.stdout(&["access", "drop", "admin"]);
    // The operator's own token was that user's.
    assert!(!product.cobble(&["access", "list"]).status.success());
    assert!(product.cobble_as(&second, &["access", "list"], &[]).1.contains("third"));

    // With the token's file lost, the next start makes a new one only for a user of its own.
    let product = product.again();
    assert!(!product.cobble(&["access", "list"]).status.success(), "others are administrators");
    let (ok, said) = product.cobble_as(&second, &["access", "drop", "second"], &[]);
    assert!(ok, "{said}");
    std::fs::remove_file(product.folder.join("administrator.token")).unwrap();
    assert!(product.cobble_as(&second, &["access", "add", "admin"], &[]).0);
    let product = product.again();
    assert!(!product.folder.join("administrator.token").exists(), "a user of that name is no administrator by it");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_later_user_of_the_same_name_gets_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::start(folder.path(), SCALE);
    let fleet = product.database("fleet").await;
    let made = "CREATE ROLE ada_reader LOGIN PASSWORD 'ada-hush'; GRANT pg_read_all_data TO ada_reader";
    fleet.batch_execute(made).await.unwrap();
    let first = token(&product, "ada", &[]);
    let give = ["connection", "credentials", "fleet_db", "--for", "ada", "--user", "ada_reader", "--secret-env", "ADA"];
    // Users give themselves what they sign in with.
    let (ok, said) = product.cobble_as(&first, &give, &[("ADA", "ada-hush")]);
    assert!(ok, "{said}");
    let for_other = give.map(|word| if word == "ada" { "admin" } else { word });
    let (ok, said) = product.cobble_as(&first, &for_other, &[("ADA", "ada-hush")]);
    assert!(!ok && said.contains("that is for administrators"), "{said}");

    let rows = async |token: &str, sql: &str| -> Value {
        let request = http_as(token).post(url(&product, "/runs?wait=10000")).json(&json!({ "statement": sql }));
        let run = json_of(request.send().await.unwrap()).await;
        assert_eq!(run["state"], "finished", "{run}");
        run["page"]["rows"].clone()
    };
    let who = "SELECT who FROM native_query('fleet', 'SELECT current_user::text AS who')";
    assert_eq!(rows(&first, who).await, json!([["ada_reader"]]));

    // What is found with these credentials is hers.
    rows(&first, "ANALYZE fleet.public.ports").await;
    let known = "SELECT count(*) FROM lane.state.statistics WHERE \"table\" = 'fleet.public.ports'";
    assert_ne!(rows(&first, known).await, json!([[0]]));
    assert_eq!(rows(&product.token(), known).await, json!([[0]]));
    let origin = async |token: &str| {
        let path = url(&product, "/catalogs/fleet/schemas/public/tables/ports");
        json_of(http_as(token).get(path).send().await.unwrap()).await["statistics_from"].clone()
    };
    assert!(origin(&first).await.as_str().unwrap().starts_with("ANALYZE of"));
    assert!(!origin(&product.token()).await.to_string().contains("ANALYZE of"));

    let session = http_as(&first).post(url(&product, "/sessions")).json(&json!({})).send().await.unwrap();
    let session = json_of(session).await["id"].as_str().unwrap().to_owned();
    let slow = "SELECT count(*) FROM generate_series(1, 4000000000)";
    let slow = http_as(&first).post(url(&product, "/runs")).json(&json!({ "statement": slow })).send().await.unwrap();
    let slow = json_of(slow).await["id"].as_str().unwrap().to_owned();
    let own_runs = "SELECT count(*) FROM lane.state.runs";
    assert_ne!(rows(&first, own_runs).await, json!([[0]]));

    product.stdout(&["access", "drop", "ada"]);
    let state = |id: &str| {
        let run: Value = serde_json::from_str(&product.stdout(&["--json", "runs", "show", id])).unwrap();
        run["state"].clone()
    };
    for _ in 0..100 {
        if state(&slow) == "cancelled" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(state(&slow), "cancelled", "what she ran is stopped");

    let second = token(&product, "ada", &[]);
    assert_eq!(rows(&second, who).await, json!([["reader"]]), "the credentials are gone");
    assert_eq!(rows(&second, known).await, json!([[0]]), "and the statistics");
    let ada = http_as(&second);
    let status = async |path: String| ada.get(url(&product, &path)).send().await.unwrap().status().as_u16();
    assert_eq!(status(format!("/sessions/{session}")).await, 404);
    for path in ["", "/plan", "/events"] {
        let status = status(format!("/runs/{slow}{path}")).await;
        assert!(matches!(status, 403 | 404), "{path}: {status}");
    }
    let (_, listed) = product.cobble_as(&second, &["runs", "list"], &[]);
    assert!(!listed.contains("4000000000") && !listed.contains("ANALYZE"), "{listed}");

    // A restart brings nothing of it back, and refuses to let a name have something before it is a user.
    let product = product.again();
    let (_, shown) = product.cobble_as(&product.token(), &["connection", "show", "fleet_db"], &[]);
    assert!(!shown.contains("ada_reader"), "{shown}");
    let for_nobody = give.map(|word| if word == "ada" { "nobody_yet" } else { word });
    let (ok, said) = product.cobble_as(&product.token(), &for_nobody, &[("ADA", "ada-hush")]);
    assert!(!ok && said.contains("no user named \"nobody_yet\""), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stored_secret_never_goes_elsewhere() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::start(&folder.path().join("lane"), SCALE);
    let ada = token(&product, "ada", &[]);
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).unwrap();
    let give = |user: &str| {
        let arguments = ["connection", "credentials", "fleet_db", "--for", user, "--secret-env", "OWN"];
        assert!(product.cobble_as("", &arguments, &[("OWN", secret.trim())]).0);
    };
    give("ada");
    let file = folder.path().join("lane.toml").display().to_string();
    product.stdout(&["export", "--out", &file]);
    let exported = std::fs::read_to_string(&file).unwrap();
    let works = |token: &str| product.cobble_as(token, &["sql", "SELECT count(*) FROM fleet.public.ports"], &[]).0;
    let change = |more: &[&str]| product.stdout(&[&["connection", "change", "fleet_db"], more].concat());
    let elsewhere = format!("localhost:{}", product.postgres_port);

    // What does not say where the secret goes leaves it as it is.
    assert!(!change(&["--set", "pool_size=3", "--region", "east"]).contains("no longer stored"));
    assert!(works("") && works(&ada));
    for more in [&["--address", elsewhere.as_str()][..], &["--user", "cobble"], &["--set", "tls=true"]] {
        let said = change(more);
        let forgotten = ["the connection's secret is no longer stored", "the secret of user ada is no longer stored"];
        assert!(forgotten.iter().all(|line| said.contains(line)), "{more:?}: {said}");
        assert!(!works("") && !works(&ada), "{more:?}");
        // As it was, with the secrets given again.
        let (ok, said) = product.cobble_as(
            "",
            &["apply", &file],
            &[("FLEET_DB_SECRET", secret.trim()), ("FLEET_DB_ADA_SECRET", secret.trim())],
        );
        assert!(ok, "{said}");
        assert!(works("") && works(&ada), "{more:?}");
    }
    // The same secret, given again with the change, is kept: servers move.
    let give_again = ["connection", "change", "fleet_db", "--address", &elsewhere, "--secret-env", "SAME"];
    let (ok, said) = product.cobble_as("", &give_again, &[("SAME", secret.trim())]);
    assert!(ok && !said.contains("the connection's secret is no longer stored"), "{said}");
    assert!(works(""));
    let (ok, said) = product.cobble_as(
        "",
        &["apply", &file],
        &[("FLEET_DB_SECRET", secret.trim()), ("FLEET_DB_ADA_SECRET", secret.trim())],
    );
    assert!(ok, "{said}");
    // A configuration that moves a connection needs its secrets again, or changes nothing.
    let moved = exported.replace(&format!("127.0.0.1:{}", product.postgres_port), &elsewhere);
    assert_ne!(moved, exported);
    std::fs::write(&file, moved).unwrap();
    let (ok, said) = product.cobble_as("", &["apply", &file], &[]);
    assert!(!ok && said.contains("SECRET is not set"), "{said}");
    assert!(works(""));
    // An address is shown to everybody.
    for address in [
        "reader:hush@127.0.0.1:5432",
        "postgres://reader@127.0.0.1",
        "https://files.example.test/a?X-Amz-Signature=hush",
    ] {
        let (ok, said) = product.cobble_as("", &["connection", "change", "fleet_db", "--address", address], &[]);
        assert!(!ok && said.contains("the address holds") && !said.contains("hush"), "{said}");
    }

    // With another key the secrets stay closed: these connections say so, the others work, and nothing is lost.
    let kept = std::fs::read(product.folder.join("sealing.key")).unwrap();
    std::fs::write(product.folder.join("sealing.key"), [7u8; 32]).unwrap();
    let product = product.again();
    let said = |arguments: &[&str]| product.cobble_as("", arguments, &[]);
    assert!(said(&["sql", "SELECT count(*) FROM drop.public.boardings"]).0, "files have no secret");
    for arguments in [
        &["sql", "SELECT count(*) FROM fleet.public.ports"][..],
        &["connection", "test", "fleet_db"],
        &["connection", "show", "fleet_db"],
        &["connection", "change", "fleet_db", "--region", "west"],
    ] {
        let (_, text) = said(arguments);
        assert!(text.contains("the stored secret cannot be opened"), "{arguments:?}: {text}");
    }
    std::fs::write(product.folder.join("sealing.key"), kept).unwrap();
    let product = product.again();
    assert!(!product.stdout(&["connection", "show", "fleet_db"]).contains("cannot be used"));
}

/// Files outside of the folders that the operator allows are not read, whatever links say, and what cannot be read does not hide the rest.
#[test]
fn only_files_below_the_roots_are_used() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let folder = tempfile::tempdir().unwrap();
    let place = |name: &str| folder.path().join(name);
    for name in ["data/good", "data/mixed", "data/locked", "outside/deep"] {
        std::fs::create_dir_all(place(name)).unwrap();
    }
    let csv = |name: &str| std::fs::write(place(name), "id,name\n1,low water\n").unwrap();
    let files = ["data/good/a.csv", "data/mixed/a.csv", "data/locked/a.csv", "data/single.csv", "outside/b.csv"];
    files.into_iter().for_each(csv);
    std::fs::write(place("data/mixed/b.jsonl"), "{\"id\": 1}\n").unwrap();
    symlink(place("outside/b.csv"), place("data/good/link.csv")).unwrap();
    symlink(place("outside"), place("data/good/folder")).unwrap();
    symlink(place("nowhere"), place("data/good/dangling.csv")).unwrap();
    symlink(place("data"), place("data/good/round")).unwrap();
    symlink(place("lane"), place("data/own")).unwrap();
    symlink(place("outside"), place("data/away")).unwrap();
    assert!(std::process::Command::new("mkfifo").arg(place("data/good/pipe.csv")).status().unwrap().success());
    std::fs::set_permissions(place("data/locked"), std::fs::Permissions::from_mode(0o000)).unwrap();

    let product = Product::below(&place("lane"), &place("data"));
    let said = |arguments: &[&str]| product.cobble_as("", arguments, &[]);
    let text = |name: &str| place(name).display().to_string();
    product.stdout(&[
        "connection",
        "add",
        "data",
        "--kind",
        "files",
        "--address",
        &text("data"),
        "--set",
        "writable=true",
    ]);
    product.stdout(&["catalog", "add", "data", "--connection", "data"]);
    let tables = product.stdout(&["browse", "data.public"]);
    assert!(["good", "mixed", "single"].iter().all(|name| tables.contains(name)), "{tables}");
    assert!(!tables.contains("away") && !tables.contains("own"), "{tables}");
    let count = product.stdout(&["sql", "--format", "csv", "SELECT count(*) FROM data.public.good"]);
    assert_eq!(count, "count\n1\n", "one file of the folder is a file below the root");
    let (ok, error) = said(&["sql", "SELECT * FROM data.public.mixed"]);
    assert!(!ok && error.contains("files of two formats"), "{error}");
    let (_, steps) = said(&["connection", "test", "data"]);
    assert!(steps.contains("passed over") && steps.contains("outside of the folders"), "{steps}");

    // Nor is anything written there, by way of a link.
    let (ok, error) = said(&["sql", "CREATE TABLE data.public.away AS SELECT 1 AS n"]);
    assert!(!ok, "{error}");
    symlink(place("outside"), place("data/good/day=1")).unwrap();
    assert_eq!(std::fs::read_dir(place("outside")).unwrap().count(), 2, "nothing has come there");

    // Other ways to a file.
    for (name, kind, address) in [
        ("one", "files", text("outside")),
        ("two", "files", text("data/away")),
        ("three", "files", text("data/../outside/*.csv")),
        ("three_b", "files", text("data/*/../../outside/*.csv")),
        ("four", "files", text("lane")),
        ("five", "sqlite", text("lane/sealing.key")),
        ("six", "sqlite", text("outside/b.csv")),
    ] {
        product.stdout(&["connection", "add", name, "--kind", kind, "--address", &address]);
        let (ok, error) = said(&["connection", "test", name]);
        assert!(
            !ok && ["outside of the folders", "no data files", ".. behind a pattern"]
                .iter()
                .any(|why| error.contains(why)),
            "{address}: {error}"
        );
    }
    for path in [text("outside/b.csv"), text("lane/administrator.token"), "/etc/passwd".to_owned()] {
        let (ok, error) = said(&["sql", &format!("SELECT * FROM rows_at('{path}')")]);
        assert!(!ok && !error.contains("low water"), "{path}: {error}");
    }
    let (ok, error) = said(&[
        "connection",
        "add",
        "seven",
        "--kind",
        "postgres",
        "--address",
        "127.0.0.1:1",
        "--database",
        "x",
        "--user",
        "x",
        "--set",
        "tls=true",
        "--set",
        &format!("ca_file={}", text("lane/sealing.key")),
    ]);
    assert!(!ok && error.contains("outside of the folders"), "{error}");
    std::fs::set_permissions(place("data/locked"), std::fs::Permissions::from_mode(0o700)).unwrap();
}
