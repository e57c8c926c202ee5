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

/// Runs the `sh` and `sql` blocks of a page.
fn run(product: &Product, folder: &Path, name: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs").join(name);
    let page = std::fs::read_to_string(path).unwrap();
    let own = cobble();
    let paths = format!("{}:{}", own.parent().unwrap().display(), std::env::var("PATH").unwrap_or_default());
    let mut ran = 0;
    for (language, text, line) in blocks(&page) {
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
            .stdin(Stdio::null())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "docs/{name}, line {line}:\n{text}\n{said}");
        ran += 1;
    }
    assert!(ran > 0, "docs/{name} has no examples");
}

#[test]
fn the_examples_of_the_pages_work() {
    let folder = tempfile::tempdir().unwrap();
    let product = Product::start(&folder.path().join("lane"), SCALE);
    for page in ["quick-start.md", "tutorial.md", "explanation/plans.md", "how-to/native-queries.md", "how-to/write.md"]
    {
        run(&product, folder.path(), page);
    }
    product.stop();
}
