//! The console in headless Chromium, against the real service.

use std::net::TcpListener;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

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
        let port = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).unwrap().port();
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
        client.goto(&format!("{}{path}", product().address)).await.unwrap();
        Browser { client, driver, _profile: profile }
    }

    async fn find(&self, css: &str) -> fantoccini::elements::Element {
        self.client
            .wait()
            .at_most(Duration::from_secs(20))
            .for_element(Locator::Css(css))
            .await
            .unwrap_or_else(|e| panic!("{css}: {e}"))
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
            if self.script(&format!("return !!({condition})")).await == true {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let page = self.script("return document.body.innerText").await;
        panic!("waited in vain for {condition}; the page shows: {page}");
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
