//! The service's records against a real PostgreSQL: what is written comes back, secrets only sealed, and two stores on one
//! database agree.

use chrono::{TimeDelta, Utc};
use cobble_records::{
    NewUser, Records, RestoredConnection, SealingKey, StoredCatalog, StoredConfiguration, StoredConnection, StoredRun,
};
use cobble_tests::product;
use serde_json::json;

/// A store in a database of its own.
async fn store(name: &str) -> (Records, String, tempfile::TempDir) {
    let admin = product().database("postgres").await;
    admin.batch_execute(&format!("DROP DATABASE IF EXISTS {name} WITH (FORCE)")).await.unwrap();
    admin.batch_execute(&format!("CREATE DATABASE {name}")).await.unwrap();
    let secret = std::fs::read_to_string(product().folder.join("records.secret")).unwrap();
    let url = format!("postgres://cobble:{}@127.0.0.1:{}/{name}", secret.trim(), product().postgres_port);
    let folder = tempfile::tempdir().unwrap();
    (open(&url, &folder).await, url, folder)
}

/// Diesel waits for its database, which a thread of the tests' runtime must not.
async fn open(url: &str, folder: &tempfile::TempDir) -> Records {
    let (url, key) = (url.to_owned(), folder.path().join("sealing.key"));
    tokio::task::spawn_blocking(move || Records::open(&url, SealingKey::load_or_create(&key).unwrap(), bound).unwrap())
        .await
        .unwrap()
}

async fn on_thread<T: Send + 'static>(records: &Records, work: impl FnOnce(&Records) -> T + Send + 'static) -> T {
    let records = records.clone();
    tokio::task::spawn_blocking(move || work(&records)).await.unwrap()
}

/// What secrets are given for, in these tests.
fn bound(definition: &serde_json::Value) -> [String; 2] {
    [definition["address"].to_string(), definition["user"].to_string()]
}

/// The connections, whose secrets can all be opened.
fn opened(records: &Records) -> Vec<StoredConnection> {
    let all = records.connections().unwrap().into_iter();
    all.map(|one| {
        assert_eq!(one.unopened, None);
        one.stored
    })
    .collect()
}

fn connection(name: &str, secret: Option<&str>) -> StoredConnection {
    StoredConnection {
        name: name.into(),
        definition: json!({ "name": name, "kind": "postgres", "address": "harbour.example.test:5432" }),
        secret: secret.map(str::to_owned),
        credentials: secret.map(|own| ("ada".to_owned(), format!("{own} of ada"))).into_iter().collect(),
    }
}

fn run(id: &str, state: &str, minutes_ago: i64) -> StoredRun {
    StoredRun {
        id: id.into(),
        statement: format!("SELECT '{id}'"),
        state: state.into(),
        error: (state == "failed").then(|| json!({ "code": "syntax" })),
        plan: Some(json!({ "steps": [] })),
        rows_out: 3,
        rows_read: 7,
        bytes_read: 1024,
        seconds: 0.25,
        started_at: Utc::now() - TimeDelta::minutes(minutes_ago),
        finished_at: None,
        user_name: None,
        user_id: (state != "failed").then_some(7),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_keep_their_secrets_sealed() {
    let (records, url, folder) = store("records_secrets").await;
    on_thread(&records, |r| {
        r.add_connection(&connection("fleet_db", Some("tide-and-time"))).unwrap();
        r.add_connection(&connection("yard_db", None)).unwrap();
    })
    .await;
    // The database itself never sees the secret, however it is looked at.
    let client = product().database("records_secrets").await;
    let rows = client.query("SELECT c::text FROM connections c", &[]).await.unwrap();
    for row in &rows {
        let text: String = row.get(0);
        assert!(!text.contains("tide-and-time"), "{text}");
        let hidden: String = "tide-and-time".bytes().map(|b| format!("{b:02x}")).collect();
        assert!(!text.contains(&hidden), "{text}");
    }
    // Another store with the same key reads it; one with another key does not.
    let again = open(&url, &folder).await;
    let stored = on_thread(&again, |r| r.connections().unwrap()).await;
    let secrets: Vec<_> = stored.iter().map(|c| (c.stored.name.as_str(), c.stored.secret.as_deref())).collect();
    assert_eq!(secrets, [("fleet_db", Some("tide-and-time")), ("yard_db", None)]);
    let stranger = tempfile::tempdir().unwrap();
    let other = open(&url, &stranger).await;
    let unopened = |all: Vec<RestoredConnection>| -> Vec<Option<String>> {
        all.into_iter().map(|one| one.unopened.map(|why| why.to_string())).collect()
    };
    let errors = unopened(on_thread(&other, |r| r.connections().unwrap()).await);
    let error = errors[0].as_deref().unwrap();
    assert!(error.contains("fleet_db") && !error.contains("tide") && errors[1].is_none(), "{errors:?}");

    // Nor is it opened for another server, another user, or another connection, by whoever can write into the records.
    for change in [
        "UPDATE connections SET definition = jsonb_set(definition, '{address}', '\"evil.example.test:5432\"')",
        "UPDATE connections SET definition = jsonb_set(definition, '{user}', '\"somebody\"')",
        "UPDATE connections SET sealed_secret = (SELECT sealed_credentials FROM connections WHERE name = 'fleet_db')",
        "UPDATE connections SET sealed_secret = (SELECT sealed_secret FROM connections WHERE name = 'fleet_db')",
    ] {
        client.batch_execute(&format!("CREATE TABLE before AS SELECT * FROM connections; {change}")).await.unwrap();
        let found = on_thread(&again, |r| r.connections().unwrap()).await;
        assert!(found.iter().any(|one| one.unopened.is_some()), "{change}");
        assert!(found.iter().all(|one| one.unopened.is_none() || one.stored.secret.is_none()), "{change}");
        let back = "UPDATE connections c SET definition = b.definition, sealed_secret = b.sealed_secret FROM before b
                    WHERE b.name = c.name; DROP TABLE before";
        client.batch_execute(back).await.unwrap();
    }
    assert_eq!(unopened(on_thread(&again, |r| r.connections().unwrap()).await), [None, None]);
}

#[tokio::test(flavor = "multi_thread")]
async fn one_service_at_a_time_has_the_records() {
    let (_records, url, _folder) = store("records_held").await;
    let hold = async || {
        let url = url.clone();
        tokio::task::spawn_blocking(move || cobble_records::hold(&url)).await.unwrap()
    };
    let first = hold().await.unwrap();
    let error = hold().await.unwrap_err();
    assert_eq!(error.code, cobble_types::Code::InUse);
    assert!(error.message.contains("a service on 127.0.0.1 has had these records since 20"), "{error}");
    drop(first);
    // The server hears of it a moment later.
    for _ in 0..50 {
        if hold().await.is_ok() {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    panic!("the records are held by nobody");
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_and_catalogs_are_changed_and_removed() {
    let (records, ..) = store("records_changes").await;
    on_thread(&records, |r| {
        r.add_connection(&connection("fleet_db", Some("one"))).unwrap();
        assert!(r.add_connection(&connection("fleet_db", Some("two"))).is_err(), "a name is taken once");
        r.replace_connection(&connection("fleet_db", Some("three"))).unwrap();
        assert_eq!(r.connections().unwrap()[0].stored.secret.as_deref(), Some("three"));
        let catalog =
            StoredCatalog { name: "fleet".into(), connection: "fleet_db".into(), definition: serde_json::json!({}) };
        r.put_catalog(&catalog).unwrap();
        let changed = StoredCatalog { definition: serde_json::json!({"options": {}}), ..catalog };
        r.put_catalog(&changed).unwrap();
        assert_eq!(r.catalogs().unwrap(), [changed], "a name is taken once");
        let nowhere =
            StoredCatalog { name: "lost".into(), connection: "no_such".into(), definition: serde_json::json!({}) };
        assert!(r.put_catalog(&nowhere).is_err(), "a catalog needs its connection");
        assert!(r.remove_connection("fleet_db").is_err(), "a connection in use stays");
        r.remove_catalog("fleet").unwrap();
        r.remove_connection("fleet_db").unwrap();
        assert!(r.connections().unwrap().is_empty() && r.catalogs().unwrap().is_empty());
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn users_are_kept_with_a_digest_alone() {
    let (records, url, folder) = store("records_users").await;
    let user = |name: &str, digest: u8| NewUser {
        name: name.into(),
        role: "user".into(),
        token_digest: vec![digest; 32],
        expires_at: None,
    };
    let known = |r: &Records| -> Vec<(String, String, u8)> {
        r.users().unwrap().into_iter().map(|user| (user.name, user.role, user.token_digest[0])).collect()
    };
    let one = |name: &str, role: &str, digest: u8| (name.to_owned(), role.to_owned(), digest);
    on_thread(&records, move |r| {
        assert!(r.users().unwrap().is_empty());
        let bo = r.add_user(&user("bo", 2)).unwrap();
        let ada = r.add_user(&user("ada", 1)).unwrap();
        // Neither a name nor a token is given twice.
        for twice in [user("ada", 3), user("cy", 1)] {
            let error = r.add_user(&twice).unwrap_err();
            assert_eq!(error.code, cobble_types::Code::AlreadyExists, "{error}");
        }
        assert_eq!(known(r), [one("ada", "user", 1), one("bo", "user", 2)]);
        r.change_user(ada.id, &NewUser { role: "administrator".into(), ..user("ada", 4) }).unwrap();
        // With a user go their credentials and what was collected with them.
        let with = connection("fleet_db", Some("gangway"));
        r.add_connection(&with).unwrap();
        let fleet = StoredCatalog { name: "fleet".into(), connection: "fleet_db".into(), definition: json!({}) };
        r.put_catalog(&fleet).unwrap();
        let ports = cobble_types::ObjectName::new("fleet", "public", "ports");
        r.put_statistics(None, &ports, &json!({ "rows": 12 })).unwrap();
        r.put_statistics(Some("bo"), &ports, &json!({ "rows": 3 })).unwrap();
        assert_eq!(r.statistics().unwrap().len(), 2);
        let without = StoredConnection { credentials: Default::default(), ..with };
        r.remove_user(bo.id, "bo", std::slice::from_ref(&without)).unwrap();
        assert_eq!((r.statistics().unwrap(), opened(r)), (vec![json!({ "rows": 12 })], vec![without]));
        assert_eq!(known(r), [one("ada", "administrator", 4)]);
        assert!(r.add_user(&user("bo", 2)).unwrap().id > ada.id.max(bo.id), "an id is given once");
    })
    .await;
    drop(records);
    let again = open(&url, &folder).await;
    assert_eq!(on_thread(&again, move |r| known(r)).await, [one("ada", "administrator", 4), one("bo", "user", 2)]);
}

/// The secrets of users are sealed together, under another name than that of the connection.
#[tokio::test(flavor = "multi_thread")]
async fn credentials_of_users_are_sealed_and_go_with_their_connection() {
    let (records, _, _folder) = store("records_credentials").await;
    on_thread(&records, |r| {
        let mut stored = connection("fleet_db", Some("spring"));
        stored.credentials.insert("bo".into(), "neap".into());
        r.add_connection(&stored).unwrap();
        assert_eq!(opened(r), [stored.clone()]);
        stored.credentials.remove("ada");
        stored.secret = None;
        r.replace_connection(&stored).unwrap();
        assert_eq!(opened(r), [stored.clone()]);
        let wanted = StoredConfiguration { connections: vec![stored.clone()], ..Default::default() };
        r.put_configuration(&wanted).unwrap();
        assert_eq!(opened(r), [stored]);
        let without = connection("fleet_db", None);
        r.put_configuration(&StoredConfiguration { connections: vec![without.clone()], ..Default::default() }).unwrap();
        assert_eq!(opened(r), [without]);
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_are_written_again_and_listed_latest_first() {
    let (records, url, folder) = store("records_runs").await;
    on_thread(&records, |r| {
        for (id, state, ago) in [("old", "finished", 30), ("middle", "failed", 20), ("new", "running", 10)] {
            assert_eq!(r.put_runs(&[run(id, state, ago)]).unwrap(), 0);
        }
        // A run is put again when it ends.
        let ended = StoredRun { rows_out: 99, finished_at: Some(Utc::now()), ..run("new", "finished", 10) };
        assert_eq!(r.put_runs(&[ended]).unwrap(), 0);
        // One that the database refuses is kept without its details, and takes no other with it.
        let zero = StoredRun { statement: "SELECT '\0'".into(), ..run("zero", "failed", 40) };
        assert_eq!(r.put_runs(&[run("beside", "finished", 41), zero]).unwrap(), 1);
        let zero = r.run("zero").unwrap().unwrap();
        assert_eq!((zero.statement.as_str(), zero.state.as_str()), ("SELECT '\u{fffd}'", "failed"));
        assert!(r.run("beside").unwrap().is_some());
        let listed: Vec<_> = r.runs(None, 2).unwrap().into_iter().map(|r| (r.id, r.state, r.rows_out)).collect();
        assert_eq!(
            listed,
            [("new".to_owned(), "finished".to_owned(), 99), ("middle".to_owned(), "failed".to_owned(), 3)]
        );
        let middle = r.run("middle").unwrap().unwrap();
        assert_eq!(middle.error, Some(json!({ "code": "syntax" })));
        assert!(r.run("no such run").unwrap().is_none());
    })
    .await;
    // Opening once more finds everything and migrates nothing twice.
    let again = open(&url, &folder).await;
    assert_eq!(
        on_thread(&again, |r| (r.runs(None, 10).unwrap().len(), r.runs(Some(7), 10).unwrap().len())).await,
        (5, 3)
    );
}
