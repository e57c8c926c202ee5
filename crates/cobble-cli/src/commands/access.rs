//! `cobble access …`: users, who are known by their tokens.

use clap::Subcommand;
use cobble_api::{CallerBody, NewTokenBody, NewUserBody};

use crate::client::Client;
use crate::output::print_json;
use crate::{Common, Outcome};

#[derive(Subcommand)]
pub enum Action {
    /// Add a user and print the token; it is shown only once
    #[command(after_help = "Example:\n  cobble access add ada\n  export COBBLE_TOKEN=…")]
    Add { name: String },
    /// List users
    List,
    /// Show the user that the service takes you for
    Me,
    /// Remove a user; the token stops working
    Drop { name: String },
}

pub async fn run(common: &Common, action: Action) -> Outcome {
    let client = Client::new(common);
    match action {
        Action::Add { name } => {
            let added: NewTokenBody = client.post("/users", &NewUserBody { name }).await?;
            if common.json {
                return print_json(&added);
            }
            // The token alone on standard output, so that it can be kept without being copied.
            println!("{}", added.token);
            eprintln!("user {} added; the token is not shown again: COBBLE_TOKEN=… cobble access me", added.name);
            Ok(())
        }
        Action::List => {
            let names: Vec<String> = client.get("/users").await?;
            if common.json {
                return print_json(&names);
            }
            match names.is_empty() {
                true => println!("no user yet; add one with: cobble access add NAME"),
                false => names.iter().for_each(|name| println!("{name}")),
            }
            Ok(())
        }
        Action::Me => {
            let me: CallerBody = client.get("/caller").await?;
            if common.json {
                return print_json(&me);
            }
            println!("{}", me.user.as_deref().unwrap_or("nobody: no token is given"));
            Ok(())
        }
        Action::Drop { name } => {
            let left: Vec<String> = client.delete(&format!("/users/{name}")).await?;
            if common.json {
                return print_json(&left);
            }
            println!("user {name} dropped");
            Ok(())
        }
    }
}
