//! `cobble connection …`

use std::collections::BTreeMap;
use std::io::Read;
use std::path::PathBuf;

use clap::{Args, Subcommand};
use cobble_api::{ConnectionBody, NewConnectionBody, NewCredentialsBody, TestStepBody};
use cobble_service::described_kinds;
use cobble_types::{Code, Error};

use crate::client::Client;
use crate::output::{print_json, text_table};
use crate::{Common, Failure, Outcome};

#[derive(Subcommand)]
pub enum Action {
    /// Add a connection
    #[command(
        after_help = "Example:\n  FLEET_SECRET=… cobble connection add fleet_two --kind postgres --address 127.0.0.1:7310 --database fleet --user reader --secret-env FLEET_SECRET"
    )]
    Add(New),
    /// List connections
    List,
    /// List kinds of connections, or the settings of one kind with their defaults
    #[command(after_help = "Example:\n  cobble connection kinds postgres")]
    Kinds { kind: Option<String> },
    /// Show a connection; its secret stays hidden
    Show { name: String },
    /// Test a connection step by step
    #[command(after_help = "Example:\n  cobble connection test fleet_db")]
    Test { name: String },
    /// Change settings; running queries finish with the old ones
    #[command(
        after_help = "Examples:\n  cobble connection change fleet_db --set pool_size=4\n  NEW=… cobble connection change fleet_db --secret-env NEW"
    )]
    Change(Changed),
    /// Set or remove a user's own credentials at a connection
    #[command(
        after_help = "Examples:\n  ADA=… cobble connection credentials fleet_db --for ada --user ada_reader --secret-env ADA\n  cobble connection credentials fleet_db --for ada --drop"
    )]
    Credentials(Own),
    /// Remove a connection that no catalog uses
    Drop { name: String },
}

#[derive(Args)]
pub struct Changed {
    /// The connection
    name: String,
    /// A folder, a file, or host:port
    #[arg(long)]
    address: Option<String>,
    /// Database; an empty text removes it
    #[arg(long)]
    database: Option<String>,
    /// User; an empty text removes it
    #[arg(long)]
    user: Option<String>,
    #[command(flatten)]
    secret: SecretFrom,
    /// Region, for the cost of moving data; an empty text removes it
    #[arg(long)]
    region: Option<String>,
    /// Another setting of this kind; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
    /// Remove a setting; repeatable
    #[arg(long, value_name = "NAME")]
    unset: Vec<String>,
}

#[derive(Args)]
pub struct Own {
    /// The connection
    name: String,
    /// The user of the service
    #[arg(long = "for", value_name = "USER")]
    of: String,
    /// Their user name at the source, if it differs from the connection's
    #[arg(long)]
    user: Option<String>,
    #[command(flatten)]
    secret: SecretFrom,
    /// Remove the credentials
    #[arg(long, conflicts_with_all = ["user", "secret_env", "secret_file"])]
    drop: bool,
}

/// Where a secret comes from: never from the command line, which others can see.
#[derive(Args)]
pub struct SecretFrom {
    /// Environment variable that holds the secret
    #[arg(long, value_name = "VARIABLE")]
    secret_env: Option<String>,
    /// File that holds the secret; - means standard input
    #[arg(long, value_name = "FILE", conflicts_with = "secret_env")]
    secret_file: Option<PathBuf>,
}

#[derive(Args)]
pub struct New {
    name: String,
    /// files, flight, generated, http, mariadb, postgres, redis, s3 or sqlite
    #[arg(long)]
    kind: String,
    /// A folder, a file, or host:port
    #[arg(long, default_value = "", hide_default_value = true)]
    address: String,
    #[arg(long)]
    database: Option<String>,
    #[arg(long)]
    user: Option<String>,
    #[command(flatten)]
    secret: SecretFrom,
    #[arg(long)]
    region: Option<String>,
    /// Another setting of this kind; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
}

/// Settings that are given as `NAME=VALUE`.
fn pairs(given: &[String]) -> Outcome<BTreeMap<String, String>> {
    let pair = |setting: &String| match setting.split_once('=') {
        Some((name, value)) => Ok((name.to_owned(), value.to_owned())),
        None => Err(Failure::Usage(format!("--set takes NAME=VALUE, not \"{setting}\""))),
    };
    given.iter().map(pair).collect()
}

/// A relative path is relative to the command's working folder, not the service's.
fn from_here(address: String, kind: &str) -> String {
    match std::fs::canonicalize(&address) {
        Ok(path) if ["files", "sqlite"].contains(&kind) => path.display().to_string(),
        _ => address,
    }
}

fn secret(new: &SecretFrom) -> Outcome<Option<String>> {
    let trimmed = |text: String| Some(text.trim_end_matches(['\r', '\n']).to_owned());
    match (&new.secret_env, &new.secret_file) {
        (Some(variable), _) => match std::env::var(variable) {
            Ok(text) => Ok(Some(text)),
            Err(_) => Err(Failure::Usage(format!("the environment variable {variable} is not set"))),
        },
        (None, Some(path)) if path.as_os_str() == "-" => {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text).map_err(|e| Failure::Usage(format!("standard input: {e}")))?;
            Ok(trimmed(text))
        }
        (None, Some(path)) => {
            std::fs::read_to_string(path).map(trimmed).map_err(|e| Failure::Usage(format!("{}: {e}", path.display())))
        }
        (None, None) => Ok(None),
    }
}

/// Known to the command itself: no service is asked.
fn kinds(common: &Common, wanted: Option<&str>) -> Outcome {
    let all = described_kinds();
    let Some(wanted) = wanted else {
        if common.json {
            return print_json(&all);
        }
        print!("{}", text_table(&["kind", ""], all.into_iter().map(|k| vec![k.kind, k.about]).collect()));
        println!("\nthe settings of one: cobble connection kinds KIND");
        return Ok(());
    };
    let Some(kind) = all.iter().find(|kind| kind.kind == wanted) else {
        return Err(Error::unknown("kind of connection", wanted, all.iter().map(|k| k.kind.as_str())).into());
    };
    if common.json {
        return print_json(kind);
    }
    println!("{}: {}\n", kind.kind, kind.about);
    // What every connection has goes by an option of its own.
    let own = ["address", "database", "user", "region"];
    let rows = kind.settings.iter().map(|s| {
        let given = match s.name.as_str() {
            _ if s.secret => "--secret-env".to_owned(),
            name if own.contains(&name) => format!("--{name}"),
            name => format!("--set {name}=…"),
        };
        let default = match (&s.default, s.required) {
            (Some(default), _) => default.clone(),
            (None, true) => "required".to_owned(),
            (None, false) => String::new(),
        };
        vec![given, default, s.help.clone()]
    });
    print!("{}", text_table(&["setting", "default", "meaning"], rows.collect()));
    Ok(())
}

pub async fn run(common: &Common, action: Action) -> Outcome {
    let client = Client::new(common);
    match action {
        Action::Add(new) => {
            let secret = secret(&new.secret)?;
            let options = pairs(&new.set)?;
            let address = from_here(new.address, &new.kind);
            let connection = ConnectionBody {
                name: new.name,
                kind: new.kind,
                address,
                database: new.database,
                user: new.user,
                region: new.region,
                options,
                has_secret: false,
                credentials: BTreeMap::new(),
                closed: None,
                forgotten: vec![],
            };
            let added: ConnectionBody = client.post("/connections", &NewConnectionBody { connection, secret }).await?;
            if common.json {
                return print_json(&added);
            }
            println!("connection {} added; try it with: cobble connection test {}", added.name, added.name);
            Ok(())
        }
        Action::List => {
            let all: Vec<ConnectionBody> = client.get("/connections").await?;
            if common.json {
                return print_json(&all);
            }
            if all.is_empty() {
                println!("no connection yet; add one with: cobble connection add NAME --kind files --address FOLDER");
                return Ok(());
            }
            let rows = all
                .into_iter()
                .map(|c| vec![c.name, c.kind, c.address, c.database.unwrap_or_default(), c.region.unwrap_or_default()])
                .collect();
            print!("{}", text_table(&["connection", "kind", "address", "database", "region"], rows));
            Ok(())
        }
        Action::Kinds { kind } => kinds(common, kind.as_deref()),
        Action::Show { name } => {
            let c: ConnectionBody = client.get(&format!("/connections/{name}")).await?;
            if common.json {
                return print_json(&c);
            }
            let mut rows = vec![vec!["kind".to_owned(), c.kind], vec!["address".to_owned(), c.address]];
            let mut more = |label: &str, value: Option<String>| {
                if let Some(value) = value {
                    rows.push(vec![label.to_owned(), value]);
                }
            };
            more("database", c.database);
            more("user", c.user);
            more("secret", c.has_secret.then(|| "stored, hidden".to_owned()));
            more("region", c.region);
            more("cannot be used", c.closed);
            for (user, own) in c.credentials {
                let own = own.user.map(|own| format!("as {own}, secret hidden"));
                more(&format!("for {user}"), Some(own.unwrap_or_else(|| "secret hidden".to_owned())));
            }
            c.options.into_iter().for_each(|(name, value)| more(&name, Some(value)));
            print!("{}", text_table(&["setting", "value"], rows));
            Ok(())
        }
        Action::Test { name } => {
            let steps: Vec<TestStepBody> = client.post(&format!("/connections/{name}/test"), &()).await?;
            if common.json {
                print_json(&steps)?;
            } else {
                for step in &steps {
                    println!("{} {:<8} {}", if step.passed { "ok    " } else { "failed" }, step.step, step.detail);
                }
            }
            match steps.iter().find(|step| !step.passed) {
                None => Ok(()),
                Some(step) => {
                    let setting = step.setting.as_deref().unwrap_or("its settings");
                    let error = Error::new(
                        Code::SourceRefused,
                        format!("connection {name}: the step \"{}\" failed; look at {setting}", step.step),
                    );
                    Err(match &step.fix {
                        Some(fix) => error.hint(fix.clone()).into(),
                        None => error.into(),
                    })
                }
            }
        }
        Action::Change(changed) => {
            let path = format!("/connections/{}", changed.name);
            let mut connection: ConnectionBody = client.get(&path).await?;
            let secret = secret(&changed.secret)?;
            if let Some(address) = changed.address {
                connection.address = from_here(address, &connection.kind);
            }
            let fields = [
                (&mut connection.database, changed.database),
                (&mut connection.user, changed.user),
                (&mut connection.region, changed.region),
            ];
            for (field, given) in fields {
                if let Some(given) = given {
                    *field = Some(given).filter(|text| !text.is_empty());
                }
            }
            connection.options.extend(pairs(&changed.set)?);
            for name in &changed.unset {
                if connection.options.remove(name).is_none() {
                    return Err(Failure::Usage(format!(
                        "connection {} has no setting {name} of its own",
                        changed.name
                    )));
                }
            }
            let now: ConnectionBody = client.put(&path, &NewConnectionBody { connection, secret }).await?;
            if common.json {
                return print_json(&now);
            }
            for secret in &now.forgotten {
                println!("{secret} is no longer stored, as it was given for another place or user: give it again");
            }
            println!("connection {} changed; try it with: cobble connection test {}", now.name, now.name);
            Ok(())
        }
        Action::Credentials(own) => {
            let path = format!("/connections/{}/credentials/{}", own.name, own.of);
            let now: ConnectionBody = match (own.drop, secret(&own.secret)?) {
                (true, _) => client.delete(&path).await?,
                (false, Some(secret)) => client.put(&path, &NewCredentialsBody { user: own.user, secret }).await?,
                (false, None) => {
                    return Err(Failure::Usage("give the secret with --secret-env or --secret-file, or --drop".into()));
                }
            };
            if common.json {
                return print_json(&now);
            }
            println!(
                "connection {}: user {} {}",
                own.name,
                own.of,
                if own.drop { "has no credentials of their own" } else { "signs in with their own credentials" }
            );
            Ok(())
        }
        Action::Drop { name } => {
            let left: Vec<ConnectionBody> = client.delete(&format!("/connections/{name}")).await?;
            if common.json {
                return print_json(&left);
            }
            println!("connection {name} dropped");
            Ok(())
        }
    }
}
