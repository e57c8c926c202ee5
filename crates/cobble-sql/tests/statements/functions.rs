//! `docs/FUNCTIONS.md` is what the registry says.

use cobble_plan::{AggregateFunction, Function, Ranking, TableFunction};

fn page() -> String {
    let mut out = String::from(
        "# Functions\n\nMade from the registry (`make types`). Where nothing else is said a function is immutable: the same \
         arguments give the same answer.\n\n## Of one row\n\n| function | arguments | volatility | null arguments | PostgreSQL takes it | files test with it |\n|---|---|---|---|---|---|\n",
    );
    let mut all: Vec<Function> = Function::ALL.to_vec();
    all.sort_by_key(|f| f.name());
    for f in all {
        let volatility = if f.is_volatile() { "volatile" } else { "immutable" };
        let handed = if f.same_in_postgres() { "yes" } else { "no" };
        let nulls = if f.is_strict() { "give null" } else { "are looked at" };
        let tested = if f.is_volatile() { "no" } else { "Parquet" };
        out.push_str(&format!(
            "| `{}` | {} | {volatility} | {nulls} | {handed} | {tested} |\n",
            f.name(),
            f.arguments()
        ));
    }
    out.push_str("\nParquet files are read only where a condition holds, whatever functions it uses, as long as they are immutable; they compute nothing else. CSV and JSON lines test nothing.\n\n## Aggregates\n\n| aggregate | arguments |\n|---|---|\n");
    let mut all: Vec<AggregateFunction> = AggregateFunction::ALL.to_vec();
    all.sort_by_key(|f| f.name());
    for f in all {
        out.push_str(&format!("| `{}` | {} |\n", f.name(), f.arguments()));
    }
    out.push_str("\n## Of a window\n\nAll aggregates, and:\n\n| function | arguments |\n|---|---|\n");
    for f in Ranking::ALL {
        out.push_str(&format!("| `{}` | {} |\n", f.name(), f.arguments()));
    }
    out.push_str("\n## That make rows\n\n");
    let names: Vec<String> = TableFunction::ALL.iter().map(|f| format!("`{}`", f.name())).collect();
    out.push_str(&format!("{}\n", names.join(", ")));
    out
}

#[test]
fn the_page_of_functions_is_up_to_date() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/FUNCTIONS.md");
    let page = page();
    if std::env::var_os("UPDATE_FUNCTIONS").is_some() {
        std::fs::write(path, &page).unwrap();
    }
    assert!(std::fs::read_to_string(path).unwrap_or_default() == page, "docs/FUNCTIONS.md is old: run make types");
}
