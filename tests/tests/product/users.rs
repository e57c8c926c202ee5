//! Users with credentials of their own: each signs in at a source as themselves, sees what they may see there, and has their runs to
//! themselves. Connections are changed while all this goes on.

use cobble_tests::{Product, SCALE};

const WHO: &str = "SELECT who FROM native_query('fleet', 'SELECT current_user::text AS who')";

/// The status and the body of a call by somebody who has this token.
async fn call(product: &Product, method: reqwest::Method, path: &str, token: Option<&str>) -> (u16, String) {
    let request = cobble_tests::http().request(method, format!("{}/api/v1{path}", product.address));
    let request = token.iter().fold(request, |request, token| request.bearer_auth(token));
    let response = request.send().await.unwrap();
    (response.status().as_u16(), response.text().await.unwrap())
}

fn last_line(text: &str) -> &str {
    text.trim().lines().last().unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn users_sign_in_at_sources_as_themselves() {
    let folder = tempfile::tempdir().unwrap();
    let first = Product::start(&folder.path().join("first"), SCALE);
    let fleet = first.database("fleet").await;
    let roles = "CREATE ROLE ada_reader LOGIN PASSWORD 'ada-hush-1'; GRANT SELECT ON ports, routes TO ada_reader;
                 CREATE ROLE bo_reader LOGIN PASSWORD 'bo-hush-2'; GRANT pg_read_all_data TO bo_reader";
    fleet.batch_execute(roles).await.expect("made");
    let mut said = Vec::new();
    let mut by = |product: &Product, token: &str, arguments: &[&str], variables: &[(&str, &str)]| {
        let (ok, text) = product.cobble_as(token, arguments, variables);
        said.push(text.clone());
        (ok, text)
    };
    let sql = |text: &'static str| ["sql", "--format", "csv", text];

    let token = |product: &Product, name: &str| product.stdout(&["access", "add", name]).trim().to_owned();
    let (ada, bo) = (token(&first, "ada"), token(&first, "bo"));
    assert!(ada.len() == 40 && ada != bo);
    insta::assert_snapshot!(first.stdout(&["access", "list"]));
    let (ok, text) = by(&first, "", &["access", "add", "ada"], &[]);
    assert!(!ok && text.contains("there is a user named ada already"), "{text}");
    assert_eq!(by(&first, &ada, &["access", "me"], &[]).1, "ada (user)\n");
    // Without a token it is whoever has started the service.
    assert_eq!(by(&first, "", &["access", "me"], &[]).1, "admin (administrator)\n");
    let (ok, text) = by(&first, "made up", &sql("SELECT 1"), &[]);
    assert!(!ok && text.contains("the token is not valid"), "{text}");

    // Without anything of their own all sign in alike.
    assert_eq!(last_line(&by(&first, &ada, &sql(WHO), &[]).1), "reader");
    for (user, name, variable, secret) in
        [("ada", "ada_reader", "ADA", "ada-hush-1"), ("bo", "bo_reader", "BO", "wrong-hush-3")]
    {
        let give = ["connection", "credentials", "fleet_db", "--for", user, "--user", name, "--secret-env", variable];
        let (ok, text) = by(&first, "", &give, &[(variable, secret)]);
        assert!(ok && text.contains("signs in with their own credentials"), "{text}");
    }
    assert_eq!(last_line(&by(&first, &ada, &sql(WHO), &[]).1), "ada_reader");
    assert_eq!(last_line(&by(&first, "", &sql(WHO), &[]).1), "reader");
    let (ok, text) = by(&first, &bo, &sql(WHO), &[]);
    assert!(!ok && text.contains("refused the password of user bo_reader"), "{text}");

    // What each may see there is what the source says.
    let holders = "SELECT count(*) FROM fleet.public.pass_holders";
    let (ok, text) = by(&first, &ada, &sql(holders), &[]);
    assert!(!ok && text.contains("permission denied"), "{text}");
    assert!(by(&first, "", &sql(holders), &[]).0);
    // Nothing of what one has been told is told to another.
    let joined = "SELECT count(*) FROM fleet.public.ports p JOIN till.main.kiosk_sales k ON k.port_id = p.id";
    let both = [&ada, ""].map(|who| by(&first, who, &sql(joined), &[]).1);
    assert_eq!(both[0], both[1]);

    // Tests and settings are theirs too.
    let (ok, text) = by(&first, &ada, &["connection", "test", "fleet_db"], &[]);
    assert!(!ok && text.contains("as ada_reader"), "{text}");
    assert!(
        text.contains("permission denied for table crew") && text.contains("give user ada_reader the right"),
        "{text}"
    );
    let effective = ["catalog", "show", "fleet", "--effective", "--for", "ada"];
    let (_, text) = by(&first, "", &effective, &[]);
    let lines: Vec<&str> = text.lines().filter(|line| line.contains(" user ") || line.contains("secret")).collect();
    insta::assert_snapshot!("settings_of_a_user", lines.join("\n"));
    let (_, text) = by(&first, "", &["connection", "show", "fleet_db"], &[]);
    assert!(text.contains("for ada") && text.contains("as ada_reader, secret hidden"), "{text}");

    // A run is its owner's.
    let (_, runs) = by(&first, &ada, &["--json", "runs", "list"], &[]);
    let runs: serde_json::Value = serde_json::from_str(&runs).unwrap();
    let of = |who: &str| runs.as_array().unwrap().iter().find(|run| run["user"] == who && run["state"] == "finished");
    let id = of("ada").unwrap()["id"].as_str().unwrap().to_owned();
    for (path, method) in [("/rows", "GET"), ("/plan", "GET"), ("/events", "GET"), ("", "DELETE")] {
        let method: reqwest::Method = method.parse().unwrap();
        let path = format!("/runs/{id}{path}");
        for (who, expected) in
            [(Some(bo.as_str()), 403), (None, 401), (Some("made up"), 401), (Some(ada.as_str()), 200)]
        {
            let (status, body) = call(&first, method.clone(), &path, who).await;
            assert_eq!(status, expected, "{path} {who:?}: {body}");
            assert_eq!(expected == 403, body.contains("belongs to another user"), "{body}");
        }
    }

    // A changed connection keeps what it is not told to change.
    let change = ["connection", "change", "fleet_db", "--set", "pool_size=3", "--region", "east"];
    assert!(by(&first, "", &change, &[]).0);
    let (_, text) = by(&first, "", &["connection", "show", "fleet_db"], &[]);
    assert!(text.contains("pool_size") && text.contains("east") && text.contains("stored, hidden"), "{text}");
    assert_eq!(last_line(&by(&first, &ada, &sql(WHO), &[]).1), "ada_reader");
    assert_eq!(last_line(&by(&first, "", &sql(WHO), &[]).1), "reader");
    for (change, fault) in [
        (&["--set", "pool_sise=3"], "did you mean \"pool_size\"?"),
        (&["--unset", "tls"], "has no setting tls of its own"),
        (&["--address", "127.0.0.1:x"], "\"x\" is not a port"),
    ] {
        let (ok, text) = by(&first, "", &[&["connection", "change", "fleet_db"][..], &change[..]].concat(), &[]);
        assert!(!ok && text.contains(fault), "{change:?}: {text}");
    }
    let (ok, text) = by(&first, "", &["connection", "change", "fleat_db", "--region", "east"], &[]);
    assert!(!ok && text.contains("did you mean \"fleet_db\"?"), "{text}");
    for (arguments, fault) in [
        (&["--for", "Ada", "--secret-env", "ADA"][..], "there is no user named \"Ada\""),
        (&["--for", "ada"][..], "give the secret with --secret-env"),
        (&["--for", "cy", "--drop"][..], "user cy has no credentials of their own for connection fleet_db"),
    ] {
        let all = [&["connection", "credentials", "fleet_db"][..], arguments].concat();
        let (ok, text) = by(&first, "", &all, &[("ADA", "ada-hush-1")]);
        assert!(!ok && text.contains(fault), "{arguments:?}: {text}");
    }
    let files = ["connection", "credentials", "drop_files", "--for", "ada", "--secret-env", "ADA"];
    let (ok, text) = by(&first, "", &files, &[("ADA", "ada-hush-1")]);
    assert!(!ok && text.contains("kind files has no secret"), "{text}");

    // Another service can be made the same, and a restart forgets nothing.
    let file = folder.path().join("lane.toml").display().to_string();
    assert!(by(&first, "", &["export", "--out", &file], &[]).0);
    let exported = std::fs::read_to_string(&file).unwrap();
    assert!(exported.contains("[connections.fleet_db.credentials.ada]") && exported.contains("FLEET_DB_ADA_SECRET"));
    said.push(exported);
    let mut by = |product: &Product, token: &str, arguments: &[&str], variables: &[(&str, &str)]| {
        let (ok, text) = product.cobble_as(token, arguments, variables);
        said.push(text.clone());
        (ok, text)
    };
    let secret = std::fs::read_to_string(first.folder.join("reader.secret")).unwrap();
    let secrets = ["FLEET_DB_SECRET", "YARD_DB_SECRET", "DEEP_STORE_SECRET"].map(|name| (name, secret.trim()));
    let other = Product::empty(&folder.path().join("other"));
    let own = [("FLEET_DB_ADA_SECRET", "ada-hush-1"), ("FLEET_DB_BO_SECRET", "bo-hush-2")];
    let (ok, text) = by(&other, "", &["apply", &file], &[&secrets[..], &own[..]].concat());
    assert!(!ok && text.contains("add the user first: cobble access add ada"), "{text}");
    let (ada_there, bo_there) = (token(&other, "ada"), token(&other, "bo"));
    let (ok, text) = by(&other, "", &["apply", &file], &secrets);
    assert!(!ok && text.contains("the variable FLEET_DB_ADA_SECRET is not set"), "{text}");
    let (ok, text) = by(&other, "", &["apply", &file], &[&secrets[..], &own[..]].concat());
    assert!(ok, "{text}");
    let other = other.again();
    assert_eq!(last_line(&by(&other, &ada_there, &sql(WHO), &[]).1), "ada_reader");
    assert_eq!(last_line(&by(&other, &bo_there, &sql(WHO), &[]).1), "bo_reader");
    let renewed = [("FLEET_DB_BO_SECRET", "wrong-hush-3")];
    let (ok, text) = by(&other, "", &["apply", &file], &renewed);
    assert!(ok && text.contains("secret of user bo: another one"), "{text}");
    assert!(!by(&other, &bo_there, &sql(WHO), &[]).0);

    // What is taken away is gone at once.
    assert!(by(&other, "", &["connection", "credentials", "fleet_db", "--for", "ada", "--drop"], &[]).0);
    assert_eq!(last_line(&by(&other, &ada_there, &sql(WHO), &[]).1), "reader");
    assert!(by(&other, "", &["access", "drop", "ada"], &[]).0);
    assert!(!by(&other, &ada_there, &sql(WHO), &[]).0);
    let (ok, text) = by(&other, "", &["access", "drop", "ada"], &[]);
    assert!(!ok && text.contains("no user named \"ada\""), "{text}");

    for secret in ["ada-hush-1", "bo-hush-2", "wrong-hush-3", secret.trim()] {
        assert!(said.iter().all(|text| !text.contains(secret)), "{secret}");
    }
}
