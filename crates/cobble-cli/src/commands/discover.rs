//! `cobble discover`

use std::time::Duration;

use clap::Args;
use cobble_api::{
    CatalogBody, ConnectionBody, DiscoverBody, DriftBody, FoundTableBody, LookBody, LookingBody, NewConnectionBody,
    TableDefinitionBody,
};
use cobble_engine::draw::bytes;
use cobble_types::{Code, Error};
use indicatif::ProgressBar;

use super::text_form::TextForm;
use crate::client::Client;
use crate::output::{print_json, text_table};
use crate::{Common, Failure, Outcome};

#[derive(Args)]
pub struct Arguments {
    /// A catalog of files, or a folder in it as catalog/folder; or a folder of this machine, beginning with / or .
    location: String,
    /// Catalog and schema for new tables; a new catalog is added for a folder if none has this name
    #[arg(long, value_name = "CATALOG[.SCHEMA]")]
    into: Option<String>,
    /// Only show what was found and what would change
    #[arg(long)]
    preview: bool,
    #[command(flatten)]
    form: TextForm,
    /// Look again every so many seconds; 0 stops it
    #[arg(long, value_name = "SECONDS")]
    every: Option<u64>,
}

/// Where to look: the catalog, the path in it, and the schema for new tables.
async fn place(client: &Client, arguments: &Arguments) -> Outcome<(String, String, Option<String>)> {
    let (into, schema) = match arguments.into.as_deref().map(|into| into.split_once('.').unwrap_or((into, ""))) {
        Some((catalog, schema)) => (Some(catalog), Some(schema.to_owned()).filter(|schema| !schema.is_empty())),
        None => (None, None),
    };
    let location = arguments.location.trim();
    if !location.starts_with(['/', '.']) {
        let (catalog, path) = location.split_once('/').unwrap_or((location, ""));
        if let Some(other) = into.filter(|into| *into != catalog) {
            return Err(Failure::Usage(format!("the tables of catalog {catalog} cannot be put into {other}")));
        }
        return Ok((catalog.to_owned(), path.to_owned(), schema));
    }
    let folder = std::fs::canonicalize(location)
        .map_err(|e| Error::new(Code::NotFound, format!("{location}: {e}")).hint("give a folder that is there"))?;
    let Some(catalog) = into else {
        return Err(Failure::Usage("a folder needs --into CATALOG, the name for it in SQL".into()));
    };
    let address = folder.display().to_string();
    let known: Vec<CatalogBody> = client.get("/catalogs").await?;
    if let Some(known) = known.iter().find(|known| known.name == catalog) {
        let connection: ConnectionBody = client.get(&format!("/connections/{}", known.connection)).await?;
        let inside = folder.strip_prefix(&connection.address).ok().filter(|_| connection.kind == "files");
        let Some(path) = inside else {
            let what = format!("catalog {catalog} is at {}, which {address} is not below", connection.address);
            return Err(Error::new(Code::AlreadyExists, what).hint("give another name with --into").into());
        };
        return Ok((catalog.to_owned(), path.display().to_string(), schema));
    }
    if arguments.preview {
        let what = format!("there is no catalog named {catalog}, and a preview adds none");
        return Err(Error::new(Code::NotFound, what)
            .hint("add the folder as a connection and a catalog first, or leave out --preview")
            .into());
    }
    let connection = ConnectionBody {
        name: format!("{catalog}_files"),
        kind: "files".into(),
        address,
        database: None,
        user: None,
        region: None,
        options: Default::default(),
        has_secret: false,
        closed: None,
        forgotten: vec![],
        credentials: Default::default(),
    };
    let name = connection.name.clone();
    client.post::<ConnectionBody>("/connections", &NewConnectionBody { connection, secret: None }).await?;
    let body = CatalogBody { name: catalog.to_owned(), connection: name, kind: String::new() };
    client.post::<Vec<CatalogBody>>("/catalogs", &body).await?;
    Ok((catalog.to_owned(), String::new(), schema))
}

pub async fn run(common: &Common, arguments: Arguments) -> Outcome {
    let client = Client::new(common);
    let (catalog, path, schema) = place(&client, &arguments).await?;
    let spinner = ProgressBar::new_spinner();
    spinner.set_message(format!("looking into the files of {catalog}"));
    spinner.enable_steady_tick(Duration::from_millis(120));
    let (preview, every, form) = (arguments.preview, arguments.every, arguments.form.clone().body());
    let body = DiscoverBody { path, schema, preview, every, form, ..Default::default() };
    let look = followed(&client, &catalog, &body, &spinner).await;
    spinner.finish_and_clear();
    let look = look?;
    if common.json {
        return print_json(&look);
    }
    let rows = look.tables.iter().map(|table| {
        let columns = table.definition.columns.len() + table.partitions.len();
        let state = if table.problem.is_some() { "problem" } else { &table.state };
        vec![
            format!("{catalog}.{}", table.name),
            table.definition.format.clone().unwrap_or_default(),
            table.files.to_string(),
            bytes(table.bytes as f64),
            columns.to_string(),
            table.partitions.join(", "),
            state.to_owned(),
        ]
    });
    print!("{}", text_table(&["table", "format", "files", "size", "columns", "folders", "state"], rows.collect()));
    if arguments.preview {
        look.tables.iter().filter(|t| !t.sample.is_empty()).for_each(|table| print_sample(&catalog, table));
        println!();
    }
    for table in &look.tables {
        table.notes.iter().for_each(|note| println!("{catalog}.{}: {note}", table.name));
    }
    print_drift(&catalog, look.drift.iter().filter(|drift| drift.change != "new table"));
    if !look.others.is_empty() {
        println!("no data: {}", look.others.join(", "));
    }
    match (arguments.preview, look.drift.is_empty()) {
        (_, true) => println!("all as it is defined"),
        (true, _) => println!("nothing was changed; leave out --preview to define the tables so"),
        (false, _) => println!("defined; look at one with: cobble browse {catalog}.{}", first_name(&look)),
    }
    match arguments.every {
        Some(0) => println!("not looked at again"),
        Some(seconds) if !arguments.preview => {
            println!("looked at again every {seconds} s: cobble catalog history {catalog}")
        }
        _ => {}
    }
    Ok(())
}

/// The columns of a table that would be defined, with values of its first rows.
fn print_sample(catalog: &str, table: &FoundTableBody) {
    let form = written(&table.definition);
    println!("\n{catalog}.{}{}", table.name, if form.is_empty() { String::new() } else { format!("  ({form})") });
    let value = |value: &Option<String>| value.as_ref().map_or("∅".to_owned(), |text| short(text));
    let rows = table.sample.iter().map(|column| {
        vec![
            column.name.clone(),
            column.sql_type.clone(),
            column.values.iter().map(value).collect::<Vec<_>>().join(", "),
        ]
    });
    print!("{}", text_table(&["column", "type", "first values"], rows.collect()));
}

/// Characters of a value that are shown.
const SHOWN: usize = 24;

fn short(text: &str) -> String {
    let mut shown: String = text.chars().take(SHOWN).map(|c| if c.is_control() { ' ' } else { c }).collect();
    if text.chars().nth(SHOWN).is_some() {
        shown.push('…');
    }
    shown
}

/// How its texts are written, where not as usual.
fn written(definition: &TableDefinitionBody) -> String {
    let plain = |name: &str, value: &Option<String>, usual: &str| {
        value.as_ref().filter(|v| *v != usual).map(|v| format!("{name} {}", v.escape_debug()))
    };
    let header = (definition.header == Some(false)).then(|| "no header".to_owned());
    let parts = [
        plain("delimiter", &definition.delimiter, ","),
        plain("quote", &definition.quote, "\""),
        plain("escape", &definition.escape, ""),
        plain("comment", &definition.comment, ""),
        header,
        plain("encoding", &definition.encoding, "utf-8"),
        plain("decimal", &definition.decimal, "."),
        plain("thousands", &definition.thousands, ""),
        plain("dates", &definition.dates, ""),
        plain("nulls", &definition.nulls, ""),
    ];
    parts.into_iter().flatten().collect::<Vec<_>>().join("; ")
}

/// Waits for what a look finds, and shows how far it is. Ctrl+C gives it up.
async fn followed(client: &Client, catalog: &str, body: &DiscoverBody, spinner: &ProgressBar) -> Outcome<LookBody> {
    let place = format!("/catalogs/{catalog}/discover");
    let mut look = std::pin::pin!(client.post::<LookBody>(&place, body));
    let mut stopped = false;
    loop {
        tokio::select! {
            found = &mut look => return found,
            _ = tokio::signal::ctrl_c(), if !stopped => {
                stopped = true;
                // Gone already, it has found something after all.
                let _: Outcome<LookingBody> = client.delete(&place).await;
            }
            () = tokio::time::sleep(Duration::from_millis(300)) => {
                if let Ok(LookingBody { looked, files: files @ 1.. }) = client.get(&place).await {
                    spinner.set_message(format!("looked into {looked} of {files} files of {catalog}"));
                }
            }
        }
    }
}

fn first_name(look: &LookBody) -> &str {
    look.tables.iter().find(|table| table.problem.is_none()).map_or("", |table| table.name.as_str())
}

pub fn print_drift<'a>(catalog: &str, drift: impl Iterator<Item = &'a DriftBody>) {
    for one in drift {
        let table = if one.table.is_empty() { catalog.to_owned() } else { format!("{catalog}.{}", one.table) };
        println!("{:<14} {table}: {}", one.change, one.detail);
    }
}
