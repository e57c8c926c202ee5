//! Loads the demo's data and serves its object store. `cobble up --demo` starts it for both.

use std::error::Error;
use std::io::{BufRead, Read, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Parser, Subcommand};
use cobble_ferry::Ferry;
use cobble_ferry_load::{load_fleet, load_yard, make_deep, serve_store, write_drop, write_till};
use mysql_async::prelude::Queryable;
use serde::Deserialize;
use tokio::net::TcpListener;

#[derive(Parser)]
#[command(about = "The data of Saltmarsh Ferries, a made-up company", disable_help_subcommand = true)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Write the folder of files
    Files {
        folder: PathBuf,
        /// 1 is six million boardings
        #[arg(long, default_value_t = 0.1)]
        scale: f64,
    },
    /// Load files and both databases; standard input says how to sign in, as JSON
    Load {
        folder: PathBuf,
        #[arg(long)]
        scale: f64,
    },
    /// Serve a folder as an object store; prints its address, and ends with standard input, whose first line is the secret
    Store { folder: PathBuf },
}

/// How the databases are reached, and what the reader of both signs in with.
#[derive(Deserialize)]
struct SignIn {
    fleet: Server,
    yard: Server,
    reader: String,
    /// Letters and digits, so that it can stand in a statement.
    reader_secret: String,
}

#[derive(Deserialize)]
struct Server {
    port: u16,
    user: String,
    secret: String,
}

type Outcome = Result<(), Box<dyn Error + Send + Sync>>;

fn main() -> ExitCode {
    let outcome = match Arguments::parse().command {
        Command::Files { folder, scale } => write_drop(Ferry::new(scale), &folder).map_err(Into::into),
        Command::Load { folder, scale } => running(load(&folder, Ferry::new(scale))),
        Command::Store { folder } => running(store(&folder)),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("the ferry data: {error}");
            ExitCode::FAILURE
        }
    }
}

fn running(work: impl Future<Output = Outcome>) -> Outcome {
    tokio::runtime::Builder::new_multi_thread().enable_all().build()?.block_on(work)
}

async fn load(folder: &Path, ferry: Ferry) -> Outcome {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text)?;
    let sign_in: SignIn = serde_json::from_str(&text)?;
    let (target, till, store) = (folder.join("drop"), folder.join("till.db"), folder.join("store"));
    let files = tokio::task::spawn_blocking(move || -> Outcome {
        write_drop(ferry, &target)?;
        make_deep(&store)?;
        write_till(ferry, &till)
    });
    tokio::try_join!(into_fleet(&sign_in, ferry), into_yard(&sign_in, ferry))?;
    files.await?
}

/// The fleet's tables and who may read them.
async fn into_fleet(sign_in: &SignIn, ferry: Ferry) -> Outcome {
    let (SignIn { fleet, reader, reader_secret, .. }, mut config) = (sign_in, tokio_postgres::Config::new());
    config.host("127.0.0.1").port(fleet.port).user(&fleet.user).password(&fleet.secret).dbname("fleet");
    let (client, connection) = config.connect(tokio_postgres::NoTls).await?;
    // An error of the connection shows at the client's next call.
    tokio::spawn(connection);
    load_fleet(&client, ferry).await?;
    let there = client.query_opt("SELECT FROM pg_roles WHERE rolname = $1", &[reader]).await?;
    let verb = if there.is_some() { "ALTER" } else { "CREATE" };
    let grant = format!(
        "{verb} ROLE {reader} LOGIN PASSWORD '{reader_secret}'; GRANT USAGE ON SCHEMA public TO {reader};
         GRANT SELECT ON ALL TABLES IN SCHEMA public TO {reader}"
    );
    Ok(client.batch_execute(&grant).await?)
}

/// The yard's tables and who may read them.
async fn into_yard(sign_in: &SignIn, ferry: Ferry) -> Outcome {
    let SignIn { yard, reader, reader_secret, .. } = sign_in;
    let options = mysql_async::OptsBuilder::default()
        .ip_or_hostname("127.0.0.1")
        .tcp_port(yard.port)
        .user(Some(&yard.user))
        .pass(Some(&yard.secret));
    let mut client = mysql_async::Conn::new(options).await?;
    load_yard(&mut client, ferry).await?;
    for statement in [
        format!("CREATE OR REPLACE USER '{reader}'@'127.0.0.1' IDENTIFIED BY '{reader_secret}'"),
        format!("GRANT SELECT ON yard.* TO '{reader}'@'127.0.0.1'"),
    ] {
        client.query_drop(statement).await?;
    }
    Ok(client.disconnect().await?)
}

async fn store(folder: &Path) -> Outcome {
    let mut secret = String::new();
    std::io::stdin().lock().read_line(&mut secret)?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let server = serve_store(folder, listener, Some(("reader", secret.trim())))?;
    println!("http://{address}");
    std::io::stdout().flush()?;
    // Who started it holds the other end: it ends with them, however they end.
    tokio::task::spawn_blocking(|| std::io::stdin().read_to_end(&mut Vec::new())).await??;
    server.abort();
    Ok(())
}
