//! Looking around: catalogs with their counts, views with what they read, sources that say nothing, kinds of connections; and that views
//! outlive the service.

use std::net::TcpListener;
use std::time::{Duration, Instant};

use cobble_tests::{Product, product};

fn said(product: &Product, arguments: &[&str]) -> String {
    let output = product.cobble(arguments);
    [output.stdout, output.stderr].map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).concat()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_says_nothing_is_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let own = Product::empty(folder.path());
    // Connections are taken by the system and never answered.
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = silent.local_addr().unwrap().to_string();
    let place =
        ["--kind", "postgres", "--address", &address, "--database", "x", "--user", "x", "--set", "connect_limit=60"];
    let added = [&["connection", "add", "silent_db"][..], &place].concat();
    assert!(said(&own, &added).contains("added"));
    own.stdout(&["catalog", "add", "silent", "--connection", "silent_db"]);
    let began = Instant::now();
    for (arguments, expected) in [
        (&["browse", "silent"][..], "has not answered for 3 s"),
        (&["browse", "silent.public"], "has not answered for 3 s"),
        (&["browse"], "silent_db"),
        (&["browse", "lane"], "views"),
        (&["browse", "--find", "runs"], "lane.state.runs"),
    ] {
        let text = said(&own, arguments);
        assert!(text.contains(expected), "{arguments:?}: {text}");
    }
    assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
}

#[tokio::test(flavor = "multi_thread")]
async fn views_are_shown_and_kept() {
    let folder = tempfile::tempdir().unwrap();
    let own = Product::empty(folder.path());
    own.stdout(&["connection", "add", "tides_maker", "--kind", "generated"]);
    own.stdout(&["catalog", "add", "tides", "--connection", "tides_maker"]);
    own.stdout(&["sql", "CREATE VIEW quays AS SELECT id, name FROM tides.creek.ports WHERE name LIKE '%Quay'"]);
    own.stdout(&["sql", "CREATE VIEW first_quay AS SELECT min(id) AS id FROM quays"]);
    let shown = own.stdout(&["browse", "lane.views.quays"]);
    for part in
        ["view lane.views.quays", "WHERE name LIKE '%Quay'", "reads tides.creek.ports", "read by lane.views.first_quay"]
    {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    assert!(own.stdout(&["browse", "tides.creek.ports"]).contains("read by lane.views.quays"));
    let count = own.stdout(&["sql", "--format", "csv", "SELECT count(*) FROM quays"]);
    let own = own.again();
    assert_eq!(own.stdout(&["sql", "--format", "csv", "SELECT count(*) FROM quays"]), count);
    assert!(said(&own, &["sql", "DROP VIEW quays"]).contains("is read by lane.views.first_quay"));
    assert!(said(&own, &["catalog", "drop", "tides"]).contains("is read by lane.views.quays"));
    own.stdout(&["sql", "DROP VIEW quays CASCADE"]);
    own.stdout(&["catalog", "drop", "tides"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn kinds_are_told_with_their_settings() {
    let all = product().stdout(&["connection", "kinds"]);
    for kind in ["files", "postgres", "mariadb", "sqlite", "redis", "s3", "http", "flight", "generated"] {
        assert!(all.contains(&format!(" {kind} ")), "{kind}: {all}");
    }
    let one = product().stdout(&["connection", "kinds", "postgres"]);
    for part in ["--address", "required", "--secret-env", "--set pool_size=…", "metadata_life"] {
        assert!(one.contains(part), "{part}: {one}");
    }
    assert!(said(product(), &["connection", "kinds", "postgre"]).contains("did you mean \"postgres\"?"));
    let catalogs = product().stdout(&["browse"]);
    assert!(catalogs.contains("fleet_db") && catalogs.contains("lane"), "{catalogs}");
    let listed = product().stdout(&[
        "sql",
        "--format",
        "csv",
        "SELECT table_name FROM lane.information_schema.tables WHERE table_schema = 'state' ORDER BY 1",
    ]);
    assert_eq!(
        listed.lines().collect::<Vec<_>>(),
        ["table_name", "catalogs", "connections", "runs", "statistics", "tiers"]
    );
}
