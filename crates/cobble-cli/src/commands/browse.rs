//! `cobble browse`

use clap::Args;
use cobble_api::{CatalogBody, NameBody, SchemaBody, TableBody};
use cobble_engine::draw::{bytes, count};

use super::sql::{Output, run_statement};
use crate::client::Client;
use crate::output::{Format, print_json, text_table};
use crate::place::{Place, ServiceSession};
use crate::{Common, Failure, Outcome};

#[derive(Args)]
pub struct Arguments {
    /// catalog, catalog.schema or catalog.schema.table
    name: Option<String>,
    /// Show this many rows of a table
    #[arg(long, value_name = "N")]
    sample: Option<u32>,
    /// Tables and columns whose name contains this text
    #[arg(long, value_name = "TEXT", conflicts_with_all = ["name", "sample"])]
    find: Option<String>,
}

pub async fn run(common: &Common, arguments: Arguments) -> Outcome {
    let client = Client::new(common);
    if let Some(text) = arguments.find {
        return find(common, &client, &text.to_lowercase()).await;
    }
    let name = arguments.name.unwrap_or_default();
    let parts: Vec<&str> = name.split('.').filter(|p| !p.is_empty()).collect();
    match parts.as_slice() {
        [] => {
            let mut all: Vec<CatalogBody> = client.get("/catalogs").await?;
            all.push(CatalogBody {
                name: "lane".to_owned(),
                connection: String::new(),
                kind: "the service".to_owned(),
            });
            if common.json {
                return print_json(&all.into_iter().map(|c| c.name).collect::<Vec<_>>());
            }
            let rows = all.into_iter().map(|c| vec![c.name, c.connection, c.kind]).collect();
            print!("{}", text_table(&["catalog", "connection", "kind"], rows));
            Ok(())
        }
        [catalog] => {
            let all: Vec<SchemaBody> = client.get(&format!("/catalogs/{catalog}/overview")).await?;
            if common.json {
                return print_json(&all);
            }
            let number = |n: u64| if n == 0 { String::new() } else { count(n as f64) };
            let rows = all.into_iter().map(|s| vec![s.schema, count(s.tables as f64), number(s.views)]).collect();
            print!("{}", text_table(&["schema", "tables", "views"], rows));
            Ok(())
        }
        [catalog, schema] => {
            list(common, "table", client.get(&format!("/catalogs/{catalog}/schemas/{schema}/tables")).await?)
        }
        [catalog, schema, table] => {
            let body: TableBody = client.get(&format!("/catalogs/{catalog}/schemas/{schema}/tables/{table}")).await?;
            show(common, &body)?;
            let Some(rows) = arguments.sample else { return Ok(()) };
            println!();
            let quoted = [catalog, schema, table].map(|part| cobble_types::quote_identifier(part)).join(".");
            let mut session = ServiceSession::new(client);
            session.is_look = true;
            let mut place = Place::Service(session);
            let format = if common.json { Format::Json } else { Format::Table };
            run_statement(
                &mut place,
                &format!("SELECT * FROM {quoted} LIMIT {rows}"),
                &[],
                &Output { format, out: None, talk: false },
            )
            .await
        }
        _ => Err(Failure::Usage(format!("\"{name}\" has more than three parts"))),
    }
}

fn list(common: &Common, what: &str, names: Vec<String>) -> Outcome {
    if common.json {
        return print_json(&names);
    }
    print!("{}", text_table(&[what], names.into_iter().map(|n| vec![n]).collect()));
    Ok(())
}

fn show(common: &Common, table: &TableBody) -> Outcome {
    if common.json {
        return print_json(table);
    }
    let rows = table.estimated_rows.map_or("unknown size".to_owned(), |n| format!("about {} rows", count(n)));
    let size = table.bytes.map(|b| format!(", {}", bytes(b))).unwrap_or_default();
    let from = table.statistics_from.as_ref().map(|s| format!(" (by {s})")).unwrap_or_default();
    let known = if table.definition.is_some() { String::new() } else { format!(": {rows}{size}{from}") };
    println!("{} {}.{}.{}{known}\n", table.kind, table.catalog, table.schema, table.name);
    let rows = table
        .columns
        .iter()
        .map(|c| {
            let mut notes = Vec::new();
            notes.extend(c.key.then(|| "key".to_owned()));
            notes.extend(c.partition.then(|| "folder".to_owned()));
            notes.extend(c.comment.clone().filter(|_| !c.partition));
            let range = match (&c.min, &c.max) {
                (Some(min), Some(max)) => format!("{min} … {max}"),
                _ => String::new(),
            };
            let distinct = c.distinct.map(|d| count(d.round())).unwrap_or_default();
            vec![
                c.name.clone(),
                c.sql_type.clone(),
                if c.nullable { "" } else { "not null" }.to_owned(),
                distinct,
                range,
                notes.join(", "),
            ]
        })
        .collect();
    print!("{}", text_table(&["column", "type", "", "distinct", "range", "notes"], rows));
    if let Some(definition) = &table.definition {
        println!("\n{definition}");
    }
    for (what, names) in [("reads", &table.reads), ("read by", &table.used_by)] {
        if !names.is_empty() {
            println!("\n{what} {}", names.join(", "));
        }
    }
    Ok(())
}

async fn find(common: &Common, client: &Client, text: &str) -> Outcome {
    let names: Vec<NameBody> = client.get("/names").await?;
    let mut found = Vec::new();
    for name in names {
        let table = format!("{}.{}.{}", name.catalog, name.schema, name.table);
        if name.table.to_lowercase().contains(text) {
            found.push(vec![table.clone(), String::new()]);
        }
        for column in name.columns.into_iter().filter(|c| c.to_lowercase().contains(text)) {
            found.push(vec![table.clone(), column]);
        }
    }
    if common.json {
        return print_json(&found);
    }
    if found.is_empty() {
        println!("no table or column has \"{text}\" in its name");
        return Ok(());
    }
    print!("{}", text_table(&["table", "column"], found));
    Ok(())
}
