//! Plans that travel: one process plans a statement and writes the plan to a file, another reads it and runs it, and its rows are those
//! of the statement.

use std::path::Path;
use std::process::Command;

use cobble_ferry::QUESTIONS;
use cobble_tests::{Product, cobble, product};

use super::random::Dice;

#[path = "../../src/bin/bench/questions.rs"]
mod bench;

/// What a command says, or how it fails.
fn said(product: &Product, arguments: &[&str]) -> Result<String, String> {
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).expect("the demo has a secret");
    let variables = ["FLEET_DB_SECRET", "YARD_DB_SECRET", "DEEP_STORE_SECRET"].map(|name| (name, secret.trim()));
    let output = Command::new(cobble()).args(arguments).envs(variables).output().expect("the command runs");
    match output.status.success() {
        true => Ok(String::from_utf8_lossy(&output.stdout).into_owned()),
        false => Err(String::from_utf8_lossy(&output.stderr).into_owned()),
    }
}

/// The demo's connections and catalogs as a file, for engines of other processes.
fn configuration(product: &Product, folder: &Path) -> String {
    let path = folder.join("lane.toml").display().to_string();
    product.stdout(&["export", "--out", &path]);
    path
}

/// The rows of a statement, in order, that one process has planned and another has run.
fn travelled(product: &Product, config: &str, folder: &Path, sql: &str) -> Result<Vec<String>, String> {
    let plan = folder.join("plan.bin").display().to_string();
    said(product, &["plan", "--here", "--config", config, "--out", &plan, "--", sql])?;
    let rows = said(product, &["sql", "--here", "--config", config, "--format", "csv", "--plan", &plan])?;
    Ok(sorted(&rows))
}

/// The same, planned and run by one.
fn at_once(product: &Product, config: &str, sql: &str) -> Result<Vec<String>, String> {
    said(product, &["sql", "--here", "--config", config, "--format", "csv", "--", sql]).map(|rows| sorted(&rows))
}

fn sorted(rows: &str) -> Vec<String> {
    let mut all: Vec<String> = rows.lines().map(str::to_owned).collect();
    all.sort();
    all
}

#[test]
fn the_questions_are_planned_by_one_process_and_run_by_another() {
    let (product, folder) = (product(), tempfile::tempdir().unwrap());
    let config = configuration(product, folder.path());
    // The bench reads the fleet's tables from files, which the demo has in its database.
    let of_bench = bench::QUESTIONS.iter().map(|(name, sql)| (*name, sql.replace("dims.public", "fleet.public")));
    let of_demo = QUESTIONS.iter().map(|(name, sql)| (*name, (*sql).to_owned()));
    for (name, sql) in of_demo.chain(of_bench) {
        let wanted = at_once(product, &config, &sql).unwrap_or_else(|e| panic!("{name}: {e}"));
        assert_eq!(travelled(product, &config, folder.path(), &sql).as_ref(), Ok(&wanted), "{name}");
    }
}

#[test]
fn what_is_no_plan_of_these_connections_is_refused() {
    let (product, folder) = (product(), tempfile::tempdir().unwrap());
    let config = configuration(product, folder.path());
    let plan = folder.path().join("plan.bin");
    let sql = "SELECT name FROM fleet.public.ports";
    travelled(product, &config, folder.path(), sql).unwrap();
    let run =
        |config: &str| said(product, &["sql", "--here", "--config", config, "--plan", &plan.display().to_string()]);
    // The catalog stands for another connection.
    let exported = std::fs::read_to_string(&config).unwrap();
    let other = folder.path().join("other.toml").display().to_string();
    let changed = exported
        .replace("[catalogs.fleet]\nconnection = \"fleet_db\"", "[catalogs.fleet]\nconnection = \"drop_files\"");
    assert_ne!(changed, exported);
    std::fs::write(&other, changed).unwrap();
    let error = run(&other).unwrap_err();
    assert!(
        error.contains("by connection fleet_db of kind postgres") && error.contains("plan the statement again"),
        "{error}"
    );
    // Half a plan, and none.
    let whole = std::fs::read(&plan).unwrap();
    std::fs::write(&plan, &whole[..whole.len() / 2]).unwrap();
    let error = run(&config).unwrap_err();
    assert!(error.contains("a plan cannot be read"), "{error}");
    std::fs::write(&plan, "SELECT 1").unwrap();
    let error = run(&config).unwrap_err();
    assert!(error.contains("not a saved plan"), "{error}");
}

/// As many statements of the first judge, seeded, as travel between two processes.
fn random_statements_travel(seed: u64, number: usize) {
    let (product, folder) = (product(), tempfile::tempdir().unwrap());
    let config = configuration(product, folder.path());
    let mut dice = Dice::new(seed);
    let mut refused = 0;
    for done in 0..number {
        let sql = dice.whole_statement();
        match (at_once(product, &config, &sql), travelled(product, &config, folder.path(), &sql)) {
            (Err(_), Err(_)) => refused += 1,
            (wanted, got) => assert_eq!(got, wanted, "{sql}\nis the statement {done} of seed {seed}"),
        }
    }
    assert!(refused * 5 <= number, "{refused} of {number} fail in any case: the grammar is wrong");
}

#[test]
fn statements_made_at_random_travel() {
    random_statements_travel(5, 20);
}

/// `make fuzz-travel`: as many as are asked for.
#[test]
#[ignore = "takes long"]
fn travel_fuzz() {
    let number = std::env::var("COBBLE_FUZZ").ok().and_then(|n| n.parse().ok()).unwrap_or(2_000);
    let seed = std::env::var("COBBLE_SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(1);
    random_statements_travel(seed, number);
}
