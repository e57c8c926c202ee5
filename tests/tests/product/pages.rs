//! The examples of the pages are run, in their order, against a service of their own: a page whose commands or statements fail is old.

use std::path::Path;
use std::process::{Command, Stdio};

use cobble_tests::{Product, SCALE, cobble};

/// The blocks of a page with their language, and the line at which each begins.
fn blocks(page: &str) -> Vec<(&str, String, usize)> {
    let mut found = Vec::new();
    let mut open: Option<(&str, String, usize)> = None;
    for (number, line) in page.lines().enumerate() {
        match (line.trim_start().strip_prefix("```"), &mut open) {
            (Some(_), Some(_)) => found.extend(open.take()),
            (Some(language), None) => open = Some((language.trim(), String::new(), number + 1)),
            (None, Some((_, text, _))) => {
                text.push_str(line);
                text.push('\n');
            }
            (None, None) => {}
        }
    }
    assert!(open.is_none(), "a block without an end");
    found
}

/// Runs the `sh` and `sql` blocks of a page. The addresses that pages show are those of the service and of its PostgreSQL server.
fn run(product: &Product, folder: &Path, name: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs").join(name);
    let page = std::fs::read_to_string(path).unwrap();
    let own = cobble();
    let paths = format!("{}:{}", own.parent().unwrap().display(), std::env::var("PATH").unwrap_or_default());
    let mut ran = 0;
    for (language, text, line) in blocks(&page) {
        let text = text.replace("http://127.0.0.1:7300", &product.address);
        let text = text.replace("db.example.test:5432", &format!("127.0.0.1:{}", product.postgres_port));
        let mut command = match language {
            "sql" => {
                let mut command = Command::new(&own);
                command.args(["sql", text.as_str()]);
                command
            }
            "sh" => {
                let mut command = Command::new("sh");
                command.args(["-e", "-c", text.as_str()]);
                command
            }
            _ => continue,
        };
        let output = command
            .current_dir(folder)
            .env("COBBLE_SERVICE", &product.address)
            .env("PATH", &paths)
            .env("HARBOUR_SECRET", SECRET)
            .env("ADA_SECRET", SECRET)
            .stdin(Stdio::null())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "docs/{name}, line {line}:\n{text}\n{said}");
        ran += 1;
    }
    assert!(ran > 0, "docs/{name} has no examples");
}

/// Of the users that the pages sign in as at PostgreSQL.
const SECRET: &str = "low water";

/// In the order in which a reader would: later ones use what earlier ones have added.
const PAGES: &[&str] = &[
    "quick-start.md",
    "tutorial.md",
    "explanation/plans.md",
    "how-to/native-queries.md",
    "how-to/write.md",
    "how-to/lakes.md",
    "how-to/lake-catalogs.md",
    "how-to/http.md",
    "LANGUAGE.md",
    "how-to/connect.md",
    "how-to/users.md",
    "how-to/configuration.md",
    "how-to/operate.md",
    "how-to/tables.md",
];

#[tokio::test(flavor = "multi_thread")]
async fn the_examples_of_the_pages_work() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::start(&folder.path().join("lane"), SCALE);
    let owner = product.database("fleet").await;
    for user in ["harbour_reader", "ada_reader"] {
        let made = format!("CREATE ROLE {user} LOGIN PASSWORD '{SECRET}'; GRANT pg_read_all_data TO {user}");
        owner.batch_execute(&made).await.unwrap();
    }
    for page in PAGES {
        run(&product, folder.path(), page);
    }
    product.stop();
}

/// Pages whose examples need more than the demo: the programs of this one are what the engine's tests of programs start.
const OTHERS: &[&str] = &["CONNECTORS.md"];

/// A page with examples that no test runs would grow old unseen.
#[test]
fn every_page_with_examples_is_run() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs");
    for folder in ["", "how-to", "explanation"] {
        for entry in std::fs::read_dir(docs.join(folder)).unwrap() {
            let path = entry.unwrap().path();
            if path.extension().is_none_or(|extension| extension != "md") {
                continue;
            }
            let page = std::fs::read_to_string(&path).unwrap();
            let has_examples = blocks(&page).iter().any(|(language, ..)| matches!(*language, "sh" | "sql"));
            let name = path.strip_prefix(&docs).unwrap().display().to_string();
            let known = PAGES.iter().chain(OTHERS).any(|page| *page == name);
            assert!(!has_examples || known, "the examples of docs/{name} are not run");
        }
    }
}
