//! `cobble catalog …`

use std::collections::BTreeMap;

use clap::{Args, Subcommand};
use cobble_api::{CatalogBody, ConfiguredCatalogBody, EffectiveBody, PastLookBody, TableDefinitionBody};
use cobble_types::Error;

use super::discover::print_drift;
use super::text_form::TextForm;
use crate::client::Client;
use crate::output::{print_json, text_table};
use crate::{Common, Failure, Outcome};

#[derive(Subcommand)]
pub enum Action {
    /// Give a connection's tables a name in SQL
    Add {
        name: String,
        #[arg(long)]
        connection: String,
    },
    /// List catalogs
    List,
    /// Show a catalog with its schemas, settings and defined tables
    #[command(after_help = "Example:\n  cobble catalog show fleet --effective")]
    Show {
        name: String,
        /// Show every effective setting and its origin
        #[arg(long)]
        effective: bool,
        /// Show the settings of this table
        #[arg(long, value_name = "SCHEMA.TABLE", requires = "effective")]
        table: Option<String>,
        /// Effective settings for this user; by default for you
        #[arg(long = "for", value_name = "USER", requires = "effective")]
        user: Option<String>,
    },
    /// Change settings that override those of the connection
    #[command(after_help = "Example:\n  cobble catalog change fleet --set statement_limit=60")]
    Change {
        name: String,
        /// A setting; repeatable
        #[arg(long, value_name = "NAME=VALUE")]
        set: Vec<String>,
        /// Reset a setting to the connection's; repeatable
        #[arg(long, value_name = "NAME")]
        unset: Vec<String>,
    },
    /// Define a table: a stored query in the source's own language, or files below a path
    #[command(
        after_help = "Examples:\n  cobble catalog define fleet.reports.long_routes --query \"SELECT name, nautical_miles FROM routes WHERE nautical_miles > 20\"\n  cobble catalog define drop.public.fares --path tariffs.csv --column \"route_id text\""
    )]
    Define(Box<Define>),
    /// Remove a defined table; its source is not touched
    Undefine {
        #[arg(value_name = "CATALOG.SCHEMA.TABLE")]
        table: String,
    },
    /// Show what each discovery of its files found
    History { name: String },
    /// Discard cached metadata of its source
    Refresh { name: String },
    /// Remove a catalog; its source is not touched
    Drop { name: String },
}

#[derive(Args)]
pub struct Define {
    #[arg(value_name = "CATALOG.SCHEMA.TABLE")]
    table: String,
    #[arg(long, required_unless_present = "path", conflicts_with = "path")]
    query: Option<String>,
    /// Fetch the query's rows in portions by the ranges of this column
    #[arg(long, value_name = "COLUMN", requires = "split_into")]
    split_on: Option<String>,
    /// Number of portions
    #[arg(long, value_name = "PORTIONS", requires = "split_on")]
    split_into: Option<u32>,
    /// The folder or file below the connection's address
    #[arg(long)]
    path: Option<String>,
    /// File name patterns, separated by commas
    #[arg(long)]
    files: Option<String>,
    /// csv, json, parquet, avro or arrow
    #[arg(long)]
    format: Option<String>,
    #[command(flatten)]
    form: TextForm,
    /// A column and its type; repeatable. Without any, columns are inferred
    #[arg(long, value_name = "NAME TYPE")]
    column: Vec<String>,
    /// A setting that overrides the catalog's; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
}

/// A table's name in parts, the last two together.
fn split(name: &str) -> Outcome<(&str, &str)> {
    let parts = name.split_once('.').filter(|(_, table)| table.contains('.'));
    parts.ok_or_else(|| Failure::Usage(format!("\"{name}\" is not the name of a table; write catalog.schema.table")))
}

fn settings(given: &[String]) -> Outcome<BTreeMap<String, String>> {
    let one = |setting: &String| {
        let (name, value) = setting
            .split_once('=')
            .ok_or_else(|| Failure::Usage(format!("--set takes NAME=VALUE, not \"{setting}\"")))?;
        Ok((name.to_owned(), value.to_owned()))
    };
    given.iter().map(one).collect()
}

pub async fn run(common: &Common, action: Action) -> Outcome {
    let client = Client::new(common);
    match action {
        Action::Add { name, connection } => {
            let body = CatalogBody { name: name.clone(), connection, kind: String::new() };
            let all: Vec<CatalogBody> = client.post("/catalogs", &body).await?;
            if common.json {
                return print_json(&all);
            }
            println!("catalog {name} added; look around with: cobble browse {name}");
            Ok(())
        }
        Action::List => {
            let all: Vec<CatalogBody> = client.get("/catalogs").await?;
            if common.json {
                return print_json(&all);
            }
            if all.is_empty() {
                println!("no catalog yet; add one with: cobble catalog add NAME --connection CONNECTION");
                return Ok(());
            }
            let rows = all.into_iter().map(|c| vec![c.name, c.kind, c.connection]).collect();
            print!("{}", text_table(&["catalog", "kind", "connection"], rows));
            Ok(())
        }
        Action::Show { name, effective: true, table, user } => {
            let given = [("table", table), ("user", user)].into_iter();
            let query: Vec<String> = given.filter_map(|(name, value)| Some(format!("{name}={}", value?))).collect();
            let all: Vec<EffectiveBody> = client.get(&format!("/catalogs/{name}/settings?{}", query.join("&"))).await?;
            if common.json {
                return print_json(&all);
            }
            let rows = all.into_iter().map(|s| vec![s.name, s.value.unwrap_or_default(), s.from]).collect();
            print!("{}", text_table(&["setting", "value", "from"], rows));
            Ok(())
        }
        Action::Show { name, .. } => {
            let own: ConfiguredCatalogBody = client.get(&format!("/catalogs/{name}")).await?;
            let schemas: Vec<String> = client.get(&format!("/catalogs/{name}/schemas")).await?;
            if common.json {
                return print_json(&serde_json::json!({ "name": name, "catalog": own, "schemas": schemas }));
            }
            println!("{name} is {}, with the schemas {}", own.connection, schemas.join(", "));
            own.options.iter().for_each(|(setting, value)| println!("  {setting} = {value}"));
            if let Some(watch) = &own.watch {
                let path = if watch.path.is_empty() { "all files" } else { &watch.path };
                println!("  {path}: looked at every {} s", watch.every);
            }
            let rows: Vec<Vec<String>> = own
                .tables
                .into_iter()
                .map(|(name, table)| {
                    let form = match (table.format, &table.query) {
                        (Some(format), _) => format,
                        (None, Some(_)) => "query".to_owned(),
                        (None, None) => "by ending".to_owned(),
                    };
                    let place = match (table.path, table.files) {
                        (Some(path), Some(files)) if path.is_empty() => files,
                        (Some(path), Some(files)) => format!("{path}/{files}"),
                        (Some(path), None) => path,
                        _ => table.query.unwrap_or_default(),
                    };
                    vec![name, form, place]
                })
                .collect();
            if !rows.is_empty() {
                print!("{}", text_table(&["defined table", "format", "path or query"], rows));
            }
            Ok(())
        }
        Action::Change { name, set, unset } => {
            let mut own: ConfiguredCatalogBody = client.get(&format!("/catalogs/{name}")).await?;
            own.options.extend(settings(&set)?);
            for setting in unset {
                if own.options.remove(&setting).is_none() {
                    return Err(Error::unknown("setting", &setting, own.options.keys().map(String::as_str)).into());
                }
            }
            let own: ConfiguredCatalogBody = client.put(&format!("/catalogs/{name}"), &own).await?;
            if common.json {
                return print_json(&own);
            }
            println!("catalog {name} changed; see: cobble catalog show {name} --effective");
            Ok(())
        }
        Action::Define(define) => {
            let (catalog, table) = split(&define.table)?;
            let mut own: ConfiguredCatalogBody = client.get(&format!("/catalogs/{catalog}")).await?;
            let definition = TableDefinitionBody {
                path: define.path,
                files: define.files,
                format: define.format,
                columns: define.column,
                query: define.query,
                split_on: define.split_on,
                split_into: define.split_into,
                options: settings(&define.set)?,
                ..define.form.body()
            };
            let before = own.tables.insert(table.to_owned(), definition);
            let own: ConfiguredCatalogBody = client.put(&format!("/catalogs/{catalog}"), &own).await?;
            if common.json {
                return print_json(&own);
            }
            let done = if before.is_some() { "defined anew" } else { "defined" };
            println!("{} {done}; look at it with: cobble browse {}", define.table, define.table);
            Ok(())
        }
        Action::Undefine { table: name } => {
            let (catalog, table) = split(&name)?;
            let mut own: ConfiguredCatalogBody = client.get(&format!("/catalogs/{catalog}")).await?;
            if own.tables.remove(table).is_none() {
                return Err(Error::unknown("defined table", table, own.tables.keys().map(String::as_str)).into());
            }
            let own: ConfiguredCatalogBody = client.put(&format!("/catalogs/{catalog}"), &own).await?;
            if common.json {
                return print_json(&own);
            }
            println!("{name} is not defined any more; its source is untouched");
            Ok(())
        }
        Action::History { name } => {
            let looks: Vec<PastLookBody> = client.get(&format!("/catalogs/{name}/looks")).await?;
            if common.json {
                return print_json(&looks);
            }
            if looks.is_empty() {
                println!("no look has found anything new yet; look with: cobble discover {name}");
            }
            for look in looks {
                let at = look.looked_at.format("%Y-%m-%d %H:%M:%S");
                println!("{at} UTC, {}", if look.asked { "asked for" } else { "on its time" });
                print_drift(&name, look.drift.iter());
            }
            Ok(())
        }
        Action::Refresh { name } => {
            let schemas: Vec<String> = client.post(&format!("/catalogs/{name}/refresh"), &()).await?;
            if common.json {
                return print_json(&schemas);
            }
            println!("catalog {name} refreshed: {}", schemas.join(", "));
            Ok(())
        }
        Action::Drop { name } => {
            let left: Vec<CatalogBody> = client.delete(&format!("/catalogs/{name}")).await?;
            if common.json {
                return print_json(&left);
            }
            println!("catalog {name} dropped; its connection and its source are untouched");
            Ok(())
        }
    }
}
