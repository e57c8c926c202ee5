//! PostgreSQL with TLS: wanted and absent, absent and wanted, and certificates of every kind of wrong.

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Secret};
use cobble_tests::product;

use crate::truth;
use crate::truth::encryption::{Authority, Identity};

/// Gives the server this certificate, from now on.
async fn certify(server: &tokio_postgres::Client, identity: &Identity) {
    // A key that others may read is refused by the server, so it is written by a program that hides it.
    for (file, text) in [("server.crt", &identity.certificate), ("server.key", &identity.key)] {
        let copy = format!("COPY (SELECT '{text}') TO PROGRAM 'umask 077; printf %b \"$(cat)\" > {file}'");
        server.batch_execute(&copy).await.expect("written");
    }
    for set in ["ALTER SYSTEM SET ssl = on", "SELECT pg_reload_conf()"] {
        server.batch_execute(set).await.expect("set");
    }
    // The server looks at its files again a moment later.
    tokio::time::sleep(std::time::Duration::from_millis(500)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_are_encrypted_where_it_is_wanted() {
    let admin = product().database("fleet").await;
    let role =
        "DROP ROLE IF EXISTS guarded; CREATE ROLE guarded LOGIN PASSWORD 'a secret'; GRANT pg_read_all_data TO guarded";
    admin.batch_execute(role).await.expect("made");
    let hba: String = admin.query_one("SHOW hba_file", &[]).await.unwrap().get(0);
    let rule = "COPY (SELECT 1) TO PROGRAM";
    let only = format!("{rule} 'f={hba}; sed -i \"1i hostnossl all guarded 127.0.0.1/32 reject\" $f'");
    admin.batch_execute(&only).await.expect("ruled");
    admin.batch_execute("SELECT pg_reload_conf()").await.expect("reloaded");
    let folder = tempfile::tempdir().unwrap();
    let (authority, other) = (Authority::new(), Authority::new());
    let (own_file, other_file) = (authority.file(folder.path()), other.file(folder.path()));
    let with = |name: &str, options: &[(&str, &str)]| ConnectionDefinition {
        database: Some("fleet".into()),
        user: Some("guarded".into()),
        secret: Some(Secret::new("a secret")),
        options: options.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect(),
        ..ConnectionDefinition::new(name, "postgres", format!("127.0.0.1:{}", product().postgres_port))
    };
    let good = [("tls", "true"), ("ca_file", own_file.as_str())];
    let mut shown = truth::steps("before the server can encrypt", &with("early", &good)).await;
    certify(&admin, &authority.identity("127.0.0.1", 2100)).await;
    for (heading, definition) in [
        ("in the clear", with("clear", &[])),
        ("encrypted", with("good", &good)),
        ("of nobody known", with("unknown", &[("tls", "true")])),
        ("of another", with("another", &[("tls", "true"), ("ca_file", &other_file)])),
        ("neither true nor false", with("odd", &[("tls", "maybe")])),
    ] {
        shown.push_str(&truth::steps(heading, &definition).await);
    }
    // A long statement on an encrypted connection is cancelled as well.
    let engine = Engine::in_memory().unwrap();
    let waiting = [good[0], good[1], ("native_functions", "any")];
    engine.add_connection(with("good", &waiting)).unwrap();
    engine.add_catalog(CatalogDefinition::new("fleet", "good")).unwrap();
    let mut session = engine.session();
    let count = "SELECT count(*) FROM fleet.public.ports";
    assert_eq!(truth::answer(&mut session, count).await.unwrap().0, ["40"]);
    let cancel = tokio_util::sync::CancellationToken::new();
    let slow =
        "SELECT a.id FROM native_query('fleet', $$ SELECT n AS id FROM generate_series(1, 3) n, pg_sleep(60) $$) a";
    let mut execution = session.run_text(slow, &cancel).await.unwrap();
    assert!(tokio::time::timeout(std::time::Duration::from_millis(500), execution.next()).await.is_err());
    cancel.cancel();
    assert!(execution.next().await.is_err());
    drop(execution);
    let running = "SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%pg_sleep(60)%' AND pid <> pg_backend_pid() AND state = 'active'";
    for round in 0.. {
        if admin.query_one(running, &[]).await.unwrap().get::<_, i64>(0) == 0 {
            break;
        }
        assert!(round < 100, "the statement goes on at the server");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    certify(&admin, &authority.identity("quay.example", 2100)).await;
    shown.push_str(&truth::steps("for another name", &with("misnamed", &good)).await);
    certify(&admin, &authority.identity("127.0.0.1", 2021)).await;
    shown.push_str(&truth::steps("of yesterday", &with("expired", &good)).await);
    let any = [("tls", "true"), ("unverified", "true")];
    shown.push_str(&truth::steps("of yesterday, and not looked at", &with("any", &any)).await);
    for reset in ["ALTER SYSTEM RESET ssl", "SELECT pg_reload_conf()"] {
        admin.batch_execute(reset).await.expect("reset");
    }
    assert!(!shown.contains("a secret"), "{shown}");
    insta::assert_snapshot!(shown.replace(&product().postgres_port.to_string(), "[port]"));
}
