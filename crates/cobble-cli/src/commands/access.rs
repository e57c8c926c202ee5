//! `cobble access …`: users, what they may do, and their tokens.

use clap::{Subcommand, ValueEnum};
use cobble_api::{CallerBody, ChangeUserBody, LinkBody, NewTokenBody, NewUserBody, UserBody, WantedTokenBody};

use crate::client::Client;
use crate::output::{print_json, text_table};
use crate::{Common, Failure, Outcome};

#[derive(Subcommand)]
pub enum Action {
    /// Add a user and print the token; it is shown only once
    #[command(after_help = "Example:\n  cobble access add ada --expires-in 90d\n  export COBBLE_TOKEN=…")]
    Add {
        name: String,
        /// What the user may do
        #[arg(long, default_value = "user")]
        role: Role,
        /// When the token stops working, such as 12h or 90d
        #[arg(long, value_name = "TIME", value_parser = seconds)]
        expires_in: Option<u64>,
    },
    /// List users with their roles
    List,
    /// Show the user that the service takes you for
    Me,
    /// Print a link that opens the console, signed in as you; it works once
    Link,
    /// Change what a user may do
    Role { name: String, role: Role },
    /// Change when the token of a user stops working
    #[command(after_help = "Examples:\n  cobble access expiry ada 30d\n  cobble access expiry ada never")]
    Expiry {
        name: String,
        /// Such as 12h or 90d, from now on, or never
        #[arg(value_name = "TIME")]
        when: String,
    },
    /// Print another token for a user; the one before stops working
    Token {
        name: String,
        /// When it stops working, such as 12h or 90d
        #[arg(long, value_name = "TIME", value_parser = seconds)]
        expires_in: Option<u64>,
    },
    /// Remove a user with their token, credentials and results
    Drop { name: String },
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Role {
    /// Everything
    Administrator,
    /// Running statements and looking at catalogs
    User,
}

impl Role {
    fn word(self) -> String {
        let word = match self {
            Role::Administrator => "administrator",
            Role::User => "user",
        };
        word.to_owned()
    }
}

/// `90d`, `12h`, `30m` or `45s` in seconds.
fn seconds(text: &str) -> Result<u64, String> {
    let wrong = || format!("\"{text}\" is no time: write 12h or 90d");
    let unit = text.chars().next_back().ok_or_else(wrong)?;
    let of_unit: u64 = match unit {
        'd' => 24 * 60 * 60,
        'h' => 60 * 60,
        'm' => 60,
        's' => 1,
        _ => return Err(wrong()),
    };
    let number: u64 = text[..text.len() - unit.len_utf8()].parse().map_err(|_| wrong())?;
    number.checked_mul(of_unit).ok_or_else(wrong)
}

fn print_token(common: &Common, given: &NewTokenBody, what: &str) -> Outcome {
    if common.json {
        return print_json(given);
    }
    // The token alone on standard output, so that it can be kept without being copied.
    println!("{}", given.token);
    eprintln!("{what}; the token is not shown again: COBBLE_TOKEN=… cobble access me");
    Ok(())
}

pub async fn run(common: &Common, action: Action) -> Outcome {
    let client = Client::new(common);
    match action {
        Action::Add { name, role, expires_in } => {
            let wanted = NewUserBody { name, role: Some(role.word()), expires_in };
            let added: NewTokenBody = client.post("/users", &wanted).await?;
            print_token(common, &added, &format!("{} {} added", role.word(), added.name))
        }
        Action::Token { name, expires_in } => {
            let renewed: NewTokenBody =
                client.post(&format!("/users/{name}/token"), &WantedTokenBody { expires_in }).await?;
            print_token(common, &renewed, &format!("user {name} has another token"))
        }
        Action::List => {
            let all: Vec<UserBody> = client.get("/users").await?;
            if common.json {
                return print_json(&all);
            }
            let rows: Vec<Vec<String>> = all
                .into_iter()
                .map(|user| vec![user.name, user.role, user.expires_at.unwrap_or_else(|| "never".into())])
                .collect();
            println!("{}", text_table(&["user", "role", "token expires"], rows));
            Ok(())
        }
        Action::Me => {
            let me: CallerBody = client.get("/caller").await?;
            if common.json {
                return print_json(&me);
            }
            println!("{} ({})", me.user, me.role);
            Ok(())
        }
        Action::Link => {
            let link: LinkBody = client.post("/links", &()).await?;
            if common.json {
                return print_json(&link);
            }
            println!("{}/#code={}", client.base(), link.code);
            Ok(())
        }
        Action::Role { name, role } => {
            let wanted = ChangeUserBody { role: Some(role.word()), ..ChangeUserBody::default() };
            change(common, &client, &name, &wanted, &format!("user {name} is now {}", role.word())).await
        }
        Action::Expiry { name, when } => {
            let never_expires = when == "never";
            let expires_in = if never_expires { None } else { Some(seconds(&when).map_err(Failure::Usage)?) };
            let wanted = ChangeUserBody { role: None, expires_in, never_expires };
            let what = if never_expires { "does not expire".to_owned() } else { format!("expires in {when}") };
            change(common, &client, &name, &wanted, &format!("the token of user {name} {what}")).await
        }
        Action::Drop { name } => {
            let left: Vec<UserBody> = client.delete(&format!("/users/{name}")).await?;
            if common.json {
                return print_json(&left);
            }
            println!("user {name} dropped");
            Ok(())
        }
    }
}

async fn change(common: &Common, client: &Client, name: &str, wanted: &ChangeUserBody, said: &str) -> Outcome {
    let all: Vec<UserBody> = client.put(&format!("/users/{name}"), wanted).await?;
    if common.json {
        return print_json(&all);
    }
    println!("{said}");
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read() {
        assert_eq!(["45s", "30m", "12h", "90d"].map(|text| seconds(text).unwrap()), [45, 1800, 43_200, 7_776_000]);
        for wrong in ["", "90", "d", "1.5h", "-1d", "90ä", "999999999999999999d"] {
            assert!(seconds(wrong).is_err(), "{wrong}");
        }
    }
}
