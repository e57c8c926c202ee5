//! `cobble export` and `cobble apply`: all connections, catalogs, functions and views as one file.

use std::path::{Path, PathBuf};

use clap::Args;
use cobble_api::{ApplyBody, ChangeBody, ConfigurationBody};
use cobble_engine::Configuration;
use cobble_types::{Code, Error};

use crate::client::Client;
use crate::output::print_json;
use crate::{Common, Outcome};

#[derive(Args)]
pub struct Export {
    /// Write to this file instead of the terminal
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

#[derive(Args)]
pub struct Apply {
    /// A file in the form of `cobble export`; what it does not name is removed
    file: PathBuf,
    /// Only show what would change
    #[arg(long)]
    preview: bool,
}

const HEAD: &str = "# Connections, catalogs, functions and views of a Cobble Lane service. Put it in place with: cobble apply FILE
# Secrets are not in here: apply takes them from the variables or files that are named, and keeps those that are there already.

";

fn failed(path: &Path, error: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("{}: {error}", path.display()))
}

fn configuration(body: &ConfigurationBody) -> Outcome<Configuration> {
    let value = serde_json::to_value(body).map_err(|e| Error::internal(e.to_string()))?;
    Ok(serde_json::from_value(value).map_err(|e| Error::internal(e.to_string()))?)
}

pub async fn export(common: &Common, export: Export) -> Outcome {
    let body: ConfigurationBody = Client::new(common).get("/configuration").await?;
    if common.json {
        return print_json(&body);
    }
    let text = format!("{HEAD}{}", configuration(&body)?.to_toml()?);
    match export.out {
        None => print!("{text}"),
        Some(path) => {
            std::fs::write(&path, text).map_err(|e| failed(&path, e))?;
            println!("written to {}", path.display());
        }
    }
    Ok(())
}

pub async fn apply(common: &Common, apply: Apply) -> Outcome {
    let wanted = Configuration::read(&apply.file)?;
    let found = wanted.secrets(apply.file.parent().unwrap_or(Path::new(".")));
    let secrets = found.into_iter().map(|(name, secret)| (name, secret.reveal().to_owned())).collect();
    let value = serde_json::to_value(&wanted).map_err(|e| Error::internal(e.to_string()))?;
    let configuration = serde_json::from_value(value).map_err(|e| Error::internal(e.to_string()))?;
    let body = ApplyBody { configuration, secrets, preview: apply.preview };
    let changes: Vec<ChangeBody> = Client::new(common).post("/configuration", &body).await?;
    if common.json {
        return print_json(&changes);
    }
    for change in &changes {
        let (what, name) = (&change.what, &change.name);
        match (change.change.as_str(), change.details.as_slice()) {
            ("added", details) => println!("added    {what} {name}: {}", details.join(", ")),
            ("removed", _) => println!("removed  {what} {name}"),
            (_, details) => {
                println!("changed  {what} {name}");
                details.iter().for_each(|detail| println!("           {detail}"));
            }
        }
    }
    let count = match changes.len() {
        0 => "no change".to_owned(),
        1 => "1 change".to_owned(),
        n => format!("{n} changes"),
    };
    match (changes.is_empty(), apply.preview) {
        (true, _) => println!("{count}: the service is as the file says"),
        (_, true) => println!("{count} would be made; leave out --preview to make them"),
        (_, false) => println!("{count} made"),
    }
    Ok(())
}
