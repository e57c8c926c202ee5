//! The console in headless Chromium, against the real service.

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use cobble_ferry::QUESTIONS;
use cobble_tests::{for_judge, judge, judged, plain, product};
use fantoccini::{Client, ClientBuilder, Locator};

struct Browser {
    client: Client,
    driver: Child,
    _profile: tempfile::TempDir,
}

impl Browser {
    async fn open(path: &str) -> Browser {
        let port = cobble_network::ports::free_port().unwrap();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed; make setup installs it");
        let profile = tempfile::tempdir().unwrap();
        let options = serde_json::json!({ "args": [
            "--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--no-first-run",
            "--window-size=1280,900", format!("--user-data-dir={}", profile.path().display())
        ] });
        let mut capabilities = serde_json::Map::new();
        capabilities.insert("goog:chromeOptions".into(), options);
        let mut client = None;
        for _ in 0..100 {
            let url = format!("http://127.0.0.1:{port}");
            match ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
                .capabilities(capabilities.clone())
                .connect(&url)
                .await
            {
                Ok(connected) => {
                    client = Some(connected);
                    break;
                }
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
        let client = client.expect("Chromium starts");
        client.goto(&product().link(path)).await.unwrap();
        Browser { client, driver, _profile: profile }
    }

    async fn find(&self, css: &str) -> fantoccini::elements::Element {
        let began = Instant::now();
        loop {
            let limit = Duration::from_secs(20);
            match self.client.wait().at_most(limit).for_element(Locator::Css(css)).await {
                Ok(found) => return found,
                // A page that is left while it is looked at gives an error of its own.
                Err(_) if began.elapsed() < limit => tokio::time::sleep(Duration::from_millis(100)).await,
                Err(error) => panic!("{css}: {error}"),
            }
        }
    }

    async fn click(&self, css: &str) {
        self.find(css).await.click().await.unwrap();
    }

    async fn script(&self, text: &str) -> serde_json::Value {
        self.client.execute(text, vec![]).await.unwrap()
    }

    /// Waits until a condition in JavaScript holds.
    async fn until(&self, condition: &str) {
        for _ in 0..200 {
            let holds = self.client.execute(&format!("return !!({condition})"), vec![]).await;
            if holds.is_ok_and(|holds| holds == true) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let page = self.script("return document.body.innerText").await;
        panic!("waited in vain for {condition}; the page shows: {page}");
    }

    /// A dialog that opens takes the keyboard when it is there, from whoever types before.
    async fn in_dialog(&self) {
        self.until("document.activeElement?.closest('[role=dialog]')").await;
    }

    async fn close(mut self) {
        let _ = self.client.close().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn query_path(sql: &str) -> String {
    let mut encoded = String::from("/query?sql=");
    sql.bytes().for_each(|b| encoded.push_str(&format!("%{b:02X}")));
    encoded
}

const CELLS: &str = "return [...document.querySelectorAll('.grid tbody tr')].map(r => [...r.querySelectorAll('td')].slice(1).map(c => c.textContent.trim()))";

#[tokio::test(flavor = "multi_thread")]
async fn a_question_is_answered_and_its_plan_stands_beside_it() {
    let judge = judge().await;
    let (_, sql) = QUESTIONS[0];
    let browser = Browser::open(&query_path(sql)).await;
    browser.click("#run").await;
    browser.until("document.querySelectorAll('.grid tbody tr').length == 8 && !document.querySelector('.grid').textContent.includes('…')").await;
    let cells: Vec<Vec<String>> = serde_json::from_value(browser.script(CELLS).await).unwrap();
    let shown: Vec<String> =
        cells.iter().map(|row| row.iter().map(|c| plain(c)).collect::<Vec<_>>().join("|")).collect();
    assert_eq!(shown, judged(&judge, &for_judge(sql)).await.unwrap(), "the console shows the judge's rows");

    browser.click("#plan-view").await;
    browser
        .until("document.querySelectorAll('.gate').length == 2 && document.querySelectorAll('.graph .box').length >= 4")
        .await;
    let gates = browser.find(".gates").await.text().await.unwrap();
    for part in ["by the folders' names", "1 of 36 files", "r.active", "different connections", "SELECT t1.\"id\""] {
        assert!(gates.contains(part), "{part} in {gates}");
    }
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_error_is_marked_at_its_place() {
    let browser = Browser::open(&query_path("SELECT id,\n  rout_id\nFROM drop.public.boardings")).await;
    browser.click("#run").await;
    browser.until("document.querySelector('.error')").await;
    let error = browser.find(".error").await.text().await.unwrap();
    assert!(error.contains("line 2, column 3") && error.contains("did you mean \"route_id\"?"), "{error}");
    assert_eq!(browser.find(".cm-lintRange-error").await.text().await.unwrap(), "rout_id");
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tab_keeps_its_session() {
    let browser = Browser::open(&query_path("USE fleet.public; SET timezone = 'Europe/Paris'")).await;
    browser.click("#run").await;
    browser
        .until("document.querySelector('.session-place')?.textContent == 'fleet.public · timezone = Europe/Paris'")
        .await;
    // The next statement of the tab finds what the one before has set, also after the page was loaded again.
    for _visit in 0..2 {
        let editor = browser.find(".cm-content").await;
        // Ctrl+A, and over it.
        editor.send_keys("\u{e009}a\u{e000}SHOW timezone").await.unwrap();
        browser.click("#run").await;
        browser.until("document.querySelector('.grid tbody')?.textContent.includes('Europe/Paris')").await;
        browser.client.refresh().await.unwrap();
        browser.until("document.querySelector('.cm-content')").await;
    }
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_result_stays_quick_and_a_long_run_can_be_stopped() {
    let sql =
        "SELECT a.id, a.fare, r.name FROM drop.public.boardings a JOIN fleet.public.routes r ON true LIMIT 100000";
    let browser = Browser::open(&query_path(sql)).await;
    browser.click("#run").await;
    browser.until("document.querySelector('.state strong')?.textContent == 'finished'").await;
    browser.script("document.querySelector('.grid').scrollTop = 27 * 90000").await;
    browser.until("[...document.querySelectorAll('.grid td.index')].some(c => c.textContent == '90005')").await;
    browser.until("!document.querySelector('.grid tbody').textContent.includes('…')").await;
    let rows = browser.script("return document.querySelectorAll('.grid tbody tr').length").await;
    assert!(rows.as_u64().unwrap() < 100, "only the rows on the screen are in the page: {rows}");

    let slow = "SELECT count(*) FROM drop.public.boardings a JOIN drop.public.boardings b ON a.fare < b.fare";
    browser.client.goto(&format!("{}{}", product().address, query_path(slow))).await.unwrap();
    browser.click("#run").await;
    browser.click("#stop").await;
    browser.until("document.querySelector('.state strong')?.textContent == 'cancelled'").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn catalogs_are_tested_and_tables_shown() {
    let browser = Browser::open("/catalogs").await;
    browser.until("document.querySelectorAll('.catalog ul').length >= 2").await;
    browser.script("document.querySelector('section[aria-label=\"Connection fleet_db\"] button').click()").await;
    browser.until("document.querySelectorAll('.steps li .pi-check').length == 5").await;
    browser.client.goto(&format!("{}/catalogs/drop/public/boardings", product().address)).await.unwrap();
    browser.until("document.querySelectorAll('.scroll tbody tr').length == 20").await;
    let columns = browser.find("section .plain-table").await.text().await.unwrap();
    assert!(columns.contains("numeric(8,2)") && columns.contains("folder"), "{columns}");
    browser.client.goto(&format!("{}/runs", product().address)).await.unwrap();
    browser.until("document.querySelectorAll('tbody tr').length >= 1").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_table_of_a_lake_is_walked_from_its_history_to_a_row_group() {
    let browser = Browser::open("/catalogs/deep/ops/boardings").await;
    browser.until("document.querySelector('.pi-sitemap')").await;
    browser.script("document.querySelector('.pi-sitemap').closest('button').click()").await;
    // Two states of the main branch, and one of a branch of its own.
    browser.until("document.querySelectorAll('.dot').length == 3 && document.querySelector('.dot.chosen')").await;
    let page = browser.script("return document.body.innerText").await.to_string();
    for part in ["month of scanned_at", "old_tariff", "half_fare", "main"] {
        assert!(page.contains(part), "{part} in {page}");
    }
    // Down to a row group of a file of the second manifest.
    browser.until("document.querySelectorAll('.column:nth-child(3) button').length == 2").await;
    browser.until("document.querySelectorAll('.column:nth-child(4) button').length == 12").await;
    browser.click(".column:nth-child(4) button").await;
    browser.until("document.querySelectorAll('.chunks tbody tr').length == 8").await;
    let chunks = browser.find(".chunks").await.text().await.unwrap();
    assert!(chunks.contains("fare") && chunks.contains("2025-01-0"), "{chunks}");
    // The tag's state is walked, too, and asked.
    browser.click(".dot circle").await;
    browser.until("document.querySelector('.told')?.textContent.includes('24 files')").await;
    browser.until("document.querySelectorAll('.column:nth-child(4) button').length == 24").await;
    browser.script("document.querySelector('.page-head .pi-code').closest('button').click()").await;
    browser.until("document.querySelector('.cm-content')?.textContent.includes('FOR VERSION AS OF')").await;
    browser.click("#run").await;
    browser.until("document.querySelectorAll('.grid tbody tr').length > 5").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_filter_shows_its_row_groups_and_a_lake_is_cared_for() {
    let browser = Browser::open("/catalogs/drop/public/boardings").await;
    browser.find("[aria-label=Condition]").await.send_keys("month >= '2025-11' AND fare > 4").await.unwrap();
    browser.click(".asks button").await;
    browser.until("document.querySelector('.asks')?.textContent.includes('2 of 36 row groups are read')").await;
    let why = browser.find(".groups").await.text().await.unwrap();
    assert!(why.contains("boardings.month >= '2025-11' is true of no row: month is 2023-01"), "{why}");
    browser.click(".groups .link").await;
    browser.until("document.body.innerText.includes('Row group 0 of')").await;
    let condition = browser.find("[aria-label=Condition]").await;
    condition.clear().await.unwrap();
    condition.send_keys("fair > 4").await.unwrap();
    browser.click(".asks button").await;
    browser.until("document.body.innerText.includes('did you mean \"fare\"?')").await;

    let folder = tempfile::tempdir().unwrap();
    let (product, address) = (product(), folder.path().display().to_string());
    product.stdout(&["connection", "add", "sheds_files", "--kind", "files", "--address", &address]);
    let options = ["--set", "storage=sheds_files", "--set", "writable=true"];
    product.stdout(&[&["connection", "add", "sheds", "--kind", "lake"], options.as_slice()].concat());
    product.stdout(&["catalog", "add", "sheds", "--connection", "sheds"]);
    let insert = "INSERT INTO sheds.ops.tools SELECT n, 'tool ' || n FROM generate_series(1, 100) AS s (n)";
    let made = "CREATE TABLE sheds.ops.tools (id bigint, name text)";
    product.stdout(&["sql", &std::iter::once(made).chain([insert; 6]).collect::<Vec<_>>().join("; ")]);
    browser.client.goto(&product.link("/catalogs/sheds/ops/tools/lake")).await.unwrap();
    browser.until("document.querySelectorAll('.column:nth-child(3) button').length == 6").await;
    let press = async |label: &str| {
        let own = format!("[...document.querySelectorAll('button')].find((b) => b.textContent.trim() == '{label}')");
        browser.until(&own).await;
        browser.script(&format!("{own}.click()")).await;
    };
    // First what would be done, and then that.
    press("Compact…").await;
    press("Compact now").await;
    browser.until("document.querySelector('.done')?.textContent.includes('done')").await;
    browser.until("document.querySelector('.told')?.textContent.includes('600 rows in 1 files')").await;
    press("Remove orphans…").await;
    browser.until("document.body.innerText.includes('There is nothing to do.')").await;
    assert!(product.stdout(&["sql", "--format", "csv", "SELECT count(*) FROM sheds.ops.tools"]).contains("600"));
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_discovered_and_their_types_corrected_before_they_are_tables() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("tolls")).unwrap();
    std::fs::write(folder.path().join("tolls/july.csv"), "berth;paid\n1;2.50\n").unwrap();
    std::fs::write(folder.path().join("berths.csv"), "berth,depth\n1,4.5\n").unwrap();
    let (product, address) = (product(), folder.path().display().to_string());
    product.stdout(&["connection", "add", "mooring_files", "--kind", "files", "--address", &address]);
    product.stdout(&["catalog", "add", "mooring", "--connection", "mooring_files"]);
    let browser = Browser::open("/catalogs/mooring").await;
    browser.click("[aria-label='Discover tables'] button[type=submit]").await;
    browser.click("[aria-label='Columns of public.tolls']").await;
    let kind = browser.find("[aria-label='Type of public.tolls.berth']").await;
    kind.clear().await.unwrap();
    kind.send_keys("text").await.unwrap();
    let name = browser.find("[aria-label='Name of public.tolls']").await;
    name.clear().await.unwrap();
    name.send_keys("money.tolls").await.unwrap();
    browser.script("document.querySelector(\"[aria-label='Define public.berths'] input, input[aria-label='Define public.berths']\").click()").await;
    browser.until("[...document.querySelectorAll('button')].some(b => b.textContent.includes('Define 1 table'))").await;
    browser
        .script("[...document.querySelectorAll('button')].find(b => b.textContent.includes('Define 1 table')).click()")
        .await;
    browser.until("document.querySelector(\"[aria-label='Define money.tolls no more']\")").await;
    browser.until("document.querySelector('[aria-label=History]').textContent.includes('asked for')").await;
    let rows = product.stdout(&["sql", "--format", "csv", "SELECT berth || '!' FROM mooring.money.tolls"]);
    assert!(rows.contains("1!"), "{rows}");
    // A setting of the catalog's own, and where it comes from.
    let life = browser.find("[aria-label='metadata_life of this catalog']").await;
    life.send_keys("7").await.unwrap();
    browser.click("[aria-label=Settings] button[type=submit]").await;
    browser.until("document.querySelector('[aria-label=Settings] .accent')?.textContent == 'catalog'").await;
    // What depends on it is said before it is dropped.
    browser.click("[aria-label='Drop catalog mooring']").await;
    browser
        .until("document.querySelector('[role=dialog]')?.textContent.includes('its definition of money.tolls')")
        .await;
    browser.script("[...document.querySelectorAll('[role=dialog] button')].at(-1).click()").await;
    browser.until("location.pathname == '/catalogs'").await;
    assert!(!product.stdout(&["catalog", "list"]).contains("mooring "));
    product.stdout(&["connection", "drop", "mooring_files"]);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_are_changed_and_users_sign_in() {
    let product = product();
    let admin = product.database("fleet").await;
    let role = "DROP ROLE IF EXISTS dee_reader; CREATE ROLE dee_reader LOGIN PASSWORD 'dee-hush'";
    admin.batch_execute(role).await.unwrap();
    let place = format!("127.0.0.1:{}", product.postgres_port);
    product.stdout(&[
        "connection",
        "add",
        "quay_db",
        "--kind",
        "postgres",
        "--address",
        &place,
        "--database",
        "fleet",
        "--user",
        "nobody_there",
    ]);
    product.stdout(&["catalog", "add", "quay", "--connection", "quay_db"]);
    let token = product.stdout(&["access", "add", "dee"]).trim().to_owned();
    let browser = Browser::open("/catalogs").await;
    // A change, with the steps of its test beside it; the form shows what there is.
    browser.click("[aria-label='Change connection quay_db']").await;
    browser.in_dialog().await;
    let user = browser.find("[role=dialog] #user").await;
    assert_eq!(user.prop("value").await.unwrap().as_deref(), Some("nobody_there"));
    user.clear().await.unwrap();
    user.send_keys("reader").await.unwrap();
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).unwrap();
    browser.find("[role=dialog] #secret").await.send_keys(secret.trim()).await.unwrap();
    browser.click("[role=dialog] button[type=submit]").await;
    browser
        .until(
            "document.querySelectorAll('section[aria-label=\"Connection quay_db\"] .steps li .pi-check').length == 5",
        )
        .await;
    // Credentials of a user's own.
    browser.click("[aria-label='Who signs in at quay_db']").await;
    browser.in_dialog().await;
    browser.click("[role=dialog] [role=combobox]").await;
    browser.click("[role=option][aria-label=dee]").await;
    browser.find("#name-there").await.send_keys("dee_reader").await.unwrap();
    browser.find("#own-secret").await.send_keys("dee-hush").await.unwrap();
    browser.click("[role=dialog] button[type=submit]").await;
    browser.until("document.querySelector('[aria-label=\"Forget the credentials of dee\"]')").await;
    // Somebody else signs in: the source is read as them, and what is for administrators is not offered.
    let who = query_path("SELECT who FROM native_query('quay', 'SELECT current_user::text AS who')");
    // The dialog is still open.
    browser.client.refresh().await.unwrap();
    browser.click("[aria-label^='Signed in as admin']").await;
    browser.find("#token").await.send_keys("not a token").await.unwrap();
    browser.click("button[type=submit]").await;
    browser.until("document.querySelector('.error')?.textContent.includes('the token is not valid')").await;
    browser.client.refresh().await.unwrap();
    browser.find("#token").await.send_keys(&token).await.unwrap();
    browser.click("button[type=submit]").await;
    browser.find("[aria-label^='Signed in as dee (user)']").await;
    browser.client.goto(&format!("{}/catalogs", product.address)).await.unwrap();
    browser.find("section[aria-label='Connection quay_db']").await;
    let offered =
        "return document.querySelectorAll('[aria-label^=\"Change connection\"], [aria-label^=\"Drop\"]').length";
    assert_eq!(browser.script(offered).await, 0);
    browser.client.goto(&format!("{}{who}", product.address)).await.unwrap();
    browser.click("#run").await;
    browser.until("document.querySelector('.grid tbody')?.textContent.includes('dee_reader')").await;
    // A link signs in as whoever has asked for it, and does not stay in the address.
    browser.client.goto(&product.link(&who)).await.unwrap();
    browser.find("[aria-label^='Signed in as admin']").await;
    assert!(!browser.script("return location.href").await.to_string().contains("code="));
    browser.click("#run").await;
    browser.until("document.querySelector('.grid tbody tr td:last-child')?.textContent.trim() == 'reader'").await;
    browser.close().await;
    product.stdout(&["access", "drop", "dee"]);
    product.stdout(&["catalog", "drop", "quay"]);
    product.stdout(&["connection", "drop", "quay_db"]);
}
