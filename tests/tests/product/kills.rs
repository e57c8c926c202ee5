//! The service is killed in the middle of what it writes: either all of a statement is there afterwards or nothing, and nothing is left over.

use std::path::Path;
use std::time::Duration;

use cobble_tests::Product;
use rand::Rng;

/// Kills in a run of the tests; `COBBLE_KILLS` asks for others.
const KILLS: usize = 6;

/// Hidden files and folders anywhere below.
fn hidden(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.starts_with('.') {
            found.push(entry.path().display().to_string());
        }
        if entry.path().is_dir() {
            found.extend(hidden(&entry.path()));
        }
    }
    found
}

#[test]
fn a_killed_write_into_a_folder_is_whole_or_not_there() {
    let kills = std::env::var("COBBLE_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(KILLS);
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    std::fs::create_dir(&data).unwrap();
    let mut product = Product::empty(&folder.path().join("lane"));
    let address = data.display().to_string();
    product.stdout(&["connection", "add", "out", "--kind", "files", "--address", &address, "--set", "writable=true"]);
    product.stdout(&["catalog", "add", "out", "--connection", "out"]);
    let rows = |rows: usize| format!("SELECT n, n % 60 AS part FROM generate_series(1, {rows}) AS s(n)");
    product.stdout(&["sql", &format!("CREATE TABLE out.public.tides WITH (partition_by = 'part') AS {}", rows(600))]);
    let count = |product: &Product, table: &str| -> Option<usize> {
        let (ok, said) = product.cobble_as(
            "",
            &["sql", "--format", "csv", &format!("SELECT count(*) FROM out.public.{table}")],
            &[],
        );
        ok.then(|| said.trim().lines().last().unwrap().parse().unwrap())
    };
    let mut before = 600;
    for number in 0..kills {
        let inserts = number % 3 > 0;
        let statement = match inserts {
            true => format!("INSERT INTO out.public.tides {}", rows(1200)),
            false => format!("CREATE TABLE out.public.made_{number} WITH (partition_by = 'part') AS {}", rows(1200)),
        };
        let mut writing = std::process::Command::new(cobble_tests::cobble())
            .args(["sql", &statement])
            .env("COBBLE_SERVICE", &product.address)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(rand::rng().random_range(20..400)));
        product.kill();
        writing.wait().unwrap();
        product = Product::empty(&folder.path().join("lane"));
        assert_eq!(hidden(&data), Vec::<String>::new(), "after kill {number}");
        if inserts {
            let now = count(&product, "tides").unwrap();
            assert!(now == before || now == before + 1200, "kill {number}: {before}, then {now}");
            before = now;
        } else {
            assert!(matches!(count(&product, &format!("made_{number}")), None | Some(1200)), "kill {number}");
        }
    }
    product.stop();
}
