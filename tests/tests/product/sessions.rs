//! Sessions over HTTP and in the command: what one statement sets, the next one finds.

use cobble_tests::{http_as, product};
use reqwest::Method;
use serde_json::{Value, json};

struct Caller {
    token: Option<String>,
}

impl Caller {
    async fn call(&self, method: Method, path: &str, body: Option<Value>) -> (u16, Value) {
        let token = self.token.clone().unwrap_or_else(|| product().token());
        let mut request = http_as(&token).request(method, format!("{}/api/v1{path}", product().address));
        if let Some(body) = body {
            request = request.json(&body);
        }
        let response = request.send().await.expect("an answer");
        (response.status().as_u16(), response.json().await.expect("JSON"))
    }

    async fn begin(&self, place: Value) -> String {
        let (status, session) = self.call(Method::POST, "/sessions", Some(place)).await;
        assert_eq!(status, 200, "{session}");
        session["id"].as_str().expect("an id").to_owned()
    }

    /// Runs a statement in a session; its first page, or its error.
    async fn run(&self, session: &str, statement: &str, parameters: Value) -> Value {
        let mut body = json!({ "statement": statement, "session": session });
        if !parameters.is_null() {
            body["parameters"] = parameters;
        }
        let (status, run) = self.call(Method::POST, "/runs?wait=10000&limit=100", Some(body)).await;
        assert_eq!(status, 200, "{run}");
        if run["error"].is_null() { run } else { run["error"].clone() }
    }

    async fn rows(&self, session: &str, statement: &str) -> Value {
        self.run(session, statement, Value::Null).await["page"]["rows"].clone()
    }
}

const OPERATOR: Caller = Caller { token: None };

#[tokio::test(flavor = "multi_thread")]
async fn a_session_keeps_what_statements_set() {
    let session = OPERATOR.begin(json!({ "catalog": "fleet", "schema": "public" })).await;
    assert_eq!(OPERATOR.rows(&session, "SELECT count(*) FROM ports").await, json!([[40]]));
    OPERATOR
        .run(&session, "SET timezone = 'Europe/Paris'; USE drop; SET application_name = 'tides'", Value::Null)
        .await;
    assert_eq!(OPERATOR.rows(&session, "SHOW timezone").await, json!([["Europe/Paris"]]));
    OPERATOR.run(&session, "PREPARE far AS SELECT name FROM fleet.public.ports WHERE id = $1", Value::Null).await;
    OPERATOR
        .run(&session, "CREATE TEMP VIEW first_port AS SELECT name FROM fleet.public.ports WHERE id = 1", Value::Null)
        .await;
    let first = OPERATOR.rows(&session, "SELECT name FROM first_port").await;
    assert_eq!(OPERATOR.rows(&session, "EXECUTE far(1)").await, first);
    // The plan is made in it, too.
    let body = json!({ "statement": "SELECT name FROM first_port", "session": session });
    let (status, plan) = OPERATOR.call(Method::POST, "/plans", Some(body)).await;
    assert_eq!((status, plan["gates"].as_array().map(Vec::len)), (200, Some(1)), "{plan}");
    // A failure leaves it as it is.
    assert_eq!(OPERATOR.run(&session, "SELECT 1 / 0", Value::Null).await["sqlstate"], "22012");
    let (_, state) = OPERATOR.call(Method::GET, &format!("/sessions/{session}"), None).await;
    assert_eq!(state["catalog"], "drop");
    assert_eq!(state["settings"]["timezone"], "Europe/Paris");
    assert_eq!((&state["prepared"], &state["views"]), (&json!(["far"]), &json!(["first_port"])));
    let (_, all) = OPERATOR.call(Method::GET, "/sessions", None).await;
    assert!(all.as_array().unwrap().iter().any(|own| own["id"] == session.as_str()));

    // Another session knows nothing of it.
    let other = OPERATOR.begin(json!({})).await;
    assert_eq!(OPERATOR.run(&other, "EXECUTE far(1)", Value::Null).await["sqlstate"], "26000");
    assert_eq!(OPERATOR.rows(&other, "SHOW timezone").await, json!([["UTC"]]));

    let (status, ended) = OPERATOR.call(Method::DELETE, &format!("/sessions/{session}"), None).await;
    assert_eq!((status, &ended["id"]), (200, &json!(session)));
    let body = json!({ "statement": "SELECT 1", "session": session });
    let (status, error) = OPERATOR.call(Method::POST, "/runs", Some(body)).await;
    assert_eq!(
        (status, error["hint"].as_str().is_some_and(|hint| hint.contains("begin another one"))),
        (404, true),
        "{error}"
    );
    let body = json!({ "statement": "SELECT 1", "session": other, "catalog": "fleet" });
    let (status, error) = OPERATOR.call(Method::POST, "/runs", Some(body)).await;
    assert_eq!(status, 400, "{error}");
    let (status, error) = OPERATOR.call(Method::POST, "/sessions", Some(json!({ "catalog": "nowhere" }))).await;
    assert_eq!(status, 400, "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn parameters_are_values_and_never_text() {
    let session = OPERATOR.begin(json!({})).await;
    let sql = "SELECT name FROM fleet.public.ports WHERE id = $1 OR name = $2 ORDER BY name";
    let run = OPERATOR.run(&session, sql, json!([1, "x' OR 'a' = 'a"])).await;
    assert_eq!(run["page"]["rows"].as_array().map(Vec::len), Some(1), "{run}");
    let run =
        OPERATOR.run(&session, "SELECT $1 + 1, $2 || '!', $3 IS TRUE, $4::date", json!(["41", "a", true, null])).await;
    assert_eq!(run["page"]["rows"], json!([[42, "a!", true, null]]), "{run}");
    for (sql, parameters, state) in [
        ("SELECT $1 + 1", json!(["x"]), "22P02"),
        ("SELECT $1 + 1", json!([1, 2]), "42P02"),
        ("SELECT 1; SELECT $1", json!([1]), "42601"),
        ("SELECT $1", Value::Null, "42P02"),
    ] {
        assert_eq!(OPERATOR.run(&session, sql, parameters).await["sqlstate"], state, "{sql}");
    }
    // Without a session they are given as well.
    let body =
        json!({ "statement": "SELECT count(*) FROM ports WHERE id < $1", "catalog": "fleet", "parameters": [3] });
    let (_, run) = OPERATOR.call(Method::POST, "/runs?wait=10000", Some(body)).await;
    assert_eq!(run["page"]["rows"], json!([[2]]), "{run}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_look_at_rows_leaves_no_run() {
    let run = async |record: bool| {
        let body = json!({ "statement": "SELECT name FROM fleet.public.ports LIMIT 2", "record": record });
        let (_, run) = OPERATOR.call(Method::POST, "/runs?wait=10000", Some(body)).await;
        assert_eq!(run["page"]["rows"].as_array().map(Vec::len), Some(2), "{run}");
        run["id"].as_str().unwrap().to_owned()
    };
    let (look, recorded) = (run(false).await, run(true).await);
    for _ in 0..100 {
        let (_, all) = OPERATOR.call(Method::GET, "/runs?most=1000", None).await;
        let has = |id: &str| all.as_array().unwrap().iter().any(|run| run["id"] == id);
        assert!(!has(&look), "the look is among the runs");
        if has(&recorded) {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("a run that is recorded does not appear");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_is_its_users_alone() {
    let output = product().stdout(&["--json", "access", "add", "sessions_ada"]);
    let token = serde_json::from_str::<Value>(&output).unwrap()["token"].as_str().unwrap().to_owned();
    let ada = Caller { token: Some(token) };
    let session = ada.begin(json!({})).await;
    assert_eq!(ada.rows(&session, "SELECT current_user").await, json!([["sessions_ada"]]));
    for (method, path, body) in [
        (Method::GET, format!("/sessions/{session}"), None),
        (Method::DELETE, format!("/sessions/{session}"), None),
        (Method::POST, "/runs".to_owned(), Some(json!({ "statement": "SELECT 1", "session": session }))),
        (Method::POST, "/plans".to_owned(), Some(json!({ "statement": "SELECT 1", "session": session }))),
    ] {
        let (status, error) = OPERATOR.call(method, &path, body).await;
        assert_eq!((status, &error["code"]), (403, &json!("not_allowed")), "{path}: {error}");
    }
    let (_, all) = OPERATOR.call(Method::GET, "/sessions", None).await;
    assert!(all.as_array().unwrap().iter().all(|own| own["id"] != session.as_str()));
    product().stdout(&["access", "drop", "sessions_ada"]);
}

#[test]
fn the_command_keeps_a_session_for_several_statements() {
    let product = product();
    let shown = product.stdout(&[
        "sql",
        "--format",
        "csv",
        "USE fleet; PREPARE port AS SELECT name FROM ports WHERE id = $1; CREATE TEMP VIEW few AS SELECT id FROM ports WHERE id < 3; EXECUTE port(2); SELECT count(*) FROM few",
    ]);
    let alone = product.stdout(&["sql", "--format", "csv", "SELECT name FROM fleet.public.ports WHERE id = 2"]);
    assert!(shown.contains(&alone) && shown.trim_end().ends_with("2"), "{shown}");
    let by_value =
        product.stdout(&["sql", "--format", "csv", "SELECT name FROM fleet.public.ports WHERE id = $1", "-p", "2"]);
    assert_eq!(by_value, alone);
    let failed = product.cobble(&["sql", "SELECT $1; SELECT 2", "-p", "2"]);
    assert!(String::from_utf8_lossy(&failed.stderr).contains("--parameter is for one statement"));
}
