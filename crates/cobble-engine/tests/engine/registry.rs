//! The registry of functions: its examples give what they say, and `docs/FUNCTIONS.md` is made of it and of what the dialects do.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use cobble_connect_sql::{Dialect, Sql};
use cobble_engine::{Engine, Session};
use cobble_functions::{AggregateFunction, Function, Given, Nulls, Ranking, TableFunction, Volatility, WRITTEN};
use cobble_plan::expr::{Column, Expr};
use cobble_types::{ColumnId, SqlType, Value};

use super::core::rows;

fn session() -> Session {
    Engine::in_memory().unwrap().session()
}

#[tokio::test]
async fn every_example_gives_what_it_says() {
    let mut session = session();
    let scalars = Function::ALL.iter().map(|f| f.entry().example).chain(WRITTEN.iter().map(|(.., example)| *example));
    let scalars = scalars.filter(|(call, _)| !call.is_empty()).map(|(call, answer)| {
        // Through a row, so that it is computed as for tables and not folded.
        (format!("SELECT coalesce(({call})::text, '') FROM generate_series(1, 1)"), answer.to_owned())
    });
    let aggregates = AggregateFunction::ALL.iter().map(|f| f.entry().example);
    let aggregates = aggregates.map(|(query, answer)| (format!("SELECT ({query})::text"), answer.to_owned()));
    let windows = Ranking::ALL.iter().map(|f| f.entry().example).map(|(call, answer)| {
        let values = "(VALUES (1), (2), (2), (4)) t (v)";
        (
            format!("SELECT string_agg(w::text, ',') FROM (SELECT {call} AS w FROM {values} ORDER BY v) s"),
            answer.to_owned(),
        )
    });
    let tables = TableFunction::ALL.iter().map(|f| f.entry().example);
    let tables = tables.map(|(call, answer)| (format!("SELECT * FROM {call} AS f"), answer.to_owned()));
    let mut wrong = Vec::new();
    for (sql, answer) in scalars.chain(aggregates).chain(windows).chain(tables) {
        match rows(&mut session, &sql).await {
            Ok(found) if found.join(",") == answer || answer.is_empty() => {}
            Ok(found) => wrong.push(format!("{sql}: {answer} expected, not {}", found.join(" "))),
            Err(error) => wrong.push(format!("{sql}: {error}")),
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

fn types() -> Vec<SqlType> {
    vec![
        SqlType::Text,
        SqlType::Bytea,
        SqlType::Integer,
        SqlType::Numeric { precision: 12, scale: 2 },
        SqlType::Double,
        SqlType::Date,
        SqlType::Timestamp,
        SqlType::TimestampTz,
        SqlType::Interval,
        SqlType::Json,
        SqlType::Array(Box::new(SqlType::Text)),
    ]
}

fn column(number: usize, sql_type: &SqlType) -> Expr {
    let name = format!("c{number}");
    Expr::Column(Column { id: ColumnId(number as u32), qualifier: None, name, sql_type: sql_type.clone() })
}

fn constant(function: Function, sql_type: &SqlType) -> Option<Expr> {
    let is_part = matches!(function, Function::DatePart | Function::DateTrunc);
    let value = match sql_type {
        SqlType::Text => Value::Text(if is_part { "month" } else { "a" }.to_owned()),
        SqlType::Integer => Value::Integer(1),
        _ => return None,
    };
    Some(Expr::Literal { value, sql_type: sql_type.clone() })
}

/// What a source takes over of a function: the types of a column for which it does, marked where further arguments must be constants.
fn taken(function: Function, dialect: &dyn Dialect) -> String {
    let takes = |arguments: Vec<Expr>, returns: &SqlType| {
        let call = Expr::Call { function, arguments, sql_type: returns.clone() };
        dialect.translate(&call, &|column: &Column| Some(Sql::new(column.name.clone()))).is_ok()
    };
    let name = |own: &SqlType| match own {
        SqlType::Numeric { .. } => "numeric".to_owned(),
        other => other.to_string(),
    };
    let (mut always, mut with_constants, mut all) = (Vec::new(), Vec::new(), BTreeSet::new());
    let mut lists: Vec<Vec<SqlType>> = vec![vec![]];
    for _ in 0..3 {
        lists = lists.iter().flat_map(|list| types().into_iter().map(|own| [&list[..], &[own]].concat())).collect();
        for list in &lists {
            let given: Vec<Given> = list.iter().cloned().map(Given::of).collect();
            let Some(found) = function.entry().resolve(&given).filter(|found| found.arguments == *list) else {
                continue;
            };
            // As with a constant part, of which most are whole numbers.
            let whole = SqlType::Numeric { precision: 20, scale: 0 };
            let returns = if function == Function::DatePart { &whole } else { &found.returns };
            let columns: Vec<Expr> = list.iter().enumerate().map(|(i, own)| column(i, own)).collect();
            let first = name(&list[0]);
            all.insert(first.clone());
            if takes(columns.clone(), returns) {
                if !always.contains(&first) {
                    always.push(first);
                }
                continue;
            }
            for place in 0..list.len() {
                let mixed: Option<Vec<Expr>> = (list.iter().enumerate())
                    .map(|(i, own)| if i == place { Some(columns[i].clone()) } else { constant(function, own) })
                    .collect();
                if list.len() > 1 && mixed.is_some_and(|mixed| takes(mixed, returns)) {
                    let own = name(&list[place]);
                    if !with_constants.contains(&own) {
                        with_constants.push(own);
                    }
                }
            }
        }
    }
    with_constants.retain(|own| !always.contains(own));
    if always.len() == all.len() && all.len() > 2 {
        return "all types".to_owned();
    }
    let marked = with_constants.into_iter().map(|own| format!("{own}\\*"));
    always.into_iter().chain(marked).collect::<Vec<_>>().join(", ")
}

/// Text as it stands in a cell of a table, or as code there.
fn cell(text: &str) -> String {
    text.replace('|', "\\|").replace('\n', " ")
}

fn code(text: &str) -> String {
    if text.is_empty() { String::new() } else { format!("`{}`", cell(text)) }
}

/// A function with what it returns, and an example with its answer.
fn row((name, arguments, about, (example, answer)): (&str, &str, &str, (&str, &str))) -> String {
    format!("| `{name}({arguments})` | {} | {} | {} |\n", cell(about), code(example), code(answer))
}

fn page() -> String {
    let (postgres, mariadb) = (cobble_postgres::PostgresDialect, cobble_mariadb::MariaDialect);
    let sqlite = cobble_sqlite::SqliteDialect { utf8: true };
    let mut out = String::from(
        "# Functions\n\n\
         `make types` writes this page from the registry of functions, and a test runs every example. `SHOW FUNCTIONS` lists the \
         same functions in a session, beside those that you have made with `CREATE FUNCTION`.\n\n\
         ## Scalar functions\n\n\
         The last columns say for which types a source computes the function itself, so that a condition on it can be pushed down. \
         `*` means: only if the other arguments are constants. A Parquet scan evaluates every function that is not volatile while it \
         decodes; CSV and JSON scans evaluate none.\n\n\
         A function is strict unless its row says otherwise: a null argument makes the result null.\n\n\
         | function | returns | example | result | PostgreSQL | MariaDB | SQLite |\n|---|---|---|---|---|---|---|\n",
    );
    let mut all: Vec<Function> = Function::ALL.to_vec();
    all.sort_by_key(|f| f.name());
    for function in all {
        let f = function.entry();
        let aliases = match f.aliases {
            [] => String::new(),
            names => format!(" Also called {}.", names.iter().map(|name| code(name)).collect::<Vec<_>>().join(", ")),
        };
        let volatile = if f.volatility == Volatility::Volatile { " Volatile." } else { "" };
        let nulls = if f.nulls == Nulls::Seen { " Not strict." } else { "" };
        let called = if f.callable { format!("`{}({})`", f.name, f.arguments) } else { format!("`{}`", f.name) };
        let [a, b, c] = [taken(function, &postgres), taken(function, &mariadb), taken(function, &sqlite)];
        let (example, answer) = (code(f.example.0), code(f.example.1));
        let about = cell(f.about);
        writeln!(out, "| {called} | {about}{aliases}{volatile}{nulls} | {example} | {answer} | {a} | {b} | {c} |")
            .unwrap();
    }
    out.push_str(
        "\n## Functions that the planner replaces\n\nThese are constants of a statement, or stand for other expressions.\n\n\
         | function | returns | example | result |\n|---|---|---|---|\n",
    );
    WRITTEN.iter().for_each(|function| out.push_str(&row(*function)));
    out.push_str("\n## Aggregate functions\n\n| function | returns | example | result |\n|---|---|---|---|\n");
    let mut all: Vec<AggregateFunction> = AggregateFunction::ALL.to_vec();
    all.sort_by_key(|f| f.name());
    for f in all {
        let entry = f.entry();
        out.push_str(&row((entry.name, entry.arguments, entry.about, entry.example)));
    }
    out.push_str(
        "\n## Window functions\n\nEvery aggregate function can be used over a window, and so can these. The examples run over four \
         rows with `v` = 1, 2, 2 and 4.\n\n| function | returns | example | results |\n|---|---|---|---|\n",
    );
    for f in Ranking::ALL {
        let entry = f.entry();
        out.push_str(&row((entry.name, entry.arguments, entry.about, entry.example)));
    }
    out.push_str(
        "\n## Table functions\n\nThey stand in FROM. The names that begin with `json_`, but for `json_table`, are also written `jsonb_`.\n\n\
         | function | returns | example | rows |\n|---|---|---|---|\n",
    );
    for f in TableFunction::ALL {
        let entry = f.entry();
        out.push_str(&row((entry.name, entry.arguments, entry.about, entry.example)));
    }
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
