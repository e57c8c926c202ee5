//! `cobble catalog …`

use clap::Subcommand;
use cobble_service::types::CatalogBody;
use cobble_types::{Code, Error};

use crate::client::Client;
use crate::output::{print_json, text_table};
use crate::{Common, Outcome};

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
    /// Show one with its schemas
    Show { name: String },
    /// Forget what is cached of its source
    Refresh { name: String },
    /// Remove one; its source is not touched
    Drop { name: String },
}

pub async fn run(common: &Common, action: Action) -> Outcome {
    let client = Client::new(&common.service);
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
        Action::Show { name } => {
            let all: Vec<CatalogBody> = client.get("/catalogs").await?;
            let Some(catalog) = all.iter().find(|c| c.name == name) else {
                let mut error = Error::unknown("catalog", &name, all.iter().map(|c| c.name.as_str()));
                error.code = Code::NotFound;
                return Err(error.into());
            };
            let schemas: Vec<String> = client.get(&format!("/catalogs/{name}/schemas")).await?;
            if common.json {
                return print_json(&serde_json::json!({ "catalog": catalog, "schemas": schemas }));
            }
            println!(
                "{} is {} of kind {}, with the schemas {}",
                catalog.name,
                catalog.connection,
                catalog.kind,
                schemas.join(", ")
            );
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
