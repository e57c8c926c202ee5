//! `cobble sql`

use std::io::{IsTerminal, Read};
use std::path::PathBuf;
use std::time::Instant;

use clap::Args;
use cobble_engine::draw::seconds;

use crate::client::Client;
use crate::config::here;
use crate::output::{Format, Sink};
use crate::place::{Place, Running, ServiceSession, statements};
use crate::{Common, Failure, Outcome, shell};

#[derive(Args)]
pub struct Where {
    /// Run in this process, without a service
    #[arg(long)]
    here: bool,
    /// Configuration file for --here; cobble.toml if it exists
    #[arg(long, value_name = "FILE", requires = "here")]
    config: Option<PathBuf>,
    /// Default catalog, or catalog and schema
    #[arg(long, value_name = "NAME[.SCHEMA]")]
    catalog: Option<String>,
    /// A setting of the session; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
}

impl Where {
    pub fn place(&self, common: &Common) -> Outcome<Place> {
        let mut place = if self.here {
            Place::Here(Box::new(here(self.config.as_ref())?))
        } else {
            Place::Service(ServiceSession::new(Client::new(common)))
        };
        place.set(self.catalog.as_deref(), &self.set)?;
        Ok(place)
    }
}

#[derive(Args)]
pub struct Arguments {
    /// Statements, separated by semicolons; without any, a shell
    text: Option<String>,
    /// Read the statements from a file; - means standard input
    #[arg(short, long, value_name = "FILE", conflicts_with = "text")]
    file: Option<PathBuf>,
    /// Value of $1, then of $2, and so on; for a single statement
    #[arg(short, long = "parameter", value_name = "VALUE", allow_hyphen_values = true)]
    parameters: Vec<String>,
    /// Run a plan that `cobble plan --out` has written
    #[arg(long, value_name = "FILE", hide = true, requires = "here", conflicts_with_all = ["text", "file"])]
    plan: Option<PathBuf>,
    #[command(flatten)]
    place: Where,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    format: Format,
    /// Write the result to a file
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

/// Where results go.
pub struct Output {
    pub format: Format,
    pub out: Option<PathBuf>,
    /// Say how many rows there were and how long it took.
    pub talk: bool,
}

pub async fn run(common: &Common, arguments: Arguments) -> Outcome {
    let mut place = arguments.place.place(common)?;
    let format = match (common.json, arguments.format, &arguments.out) {
        (true, Format::Table, _) => Format::Json,
        // A file's ending says what is wanted of it.
        (false, Format::Table, Some(path)) => match path.extension().and_then(|e| e.to_str()) {
            Some("csv") => Format::Csv,
            Some("jsonl" | "ndjson") => Format::Jsonl,
            Some("json") => Format::Json,
            Some("arrow") => Format::Arrow,
            Some("parquet") => Format::Parquet,
            _ => Format::Table,
        },
        (_, given, _) => given,
    };
    if let Some(path) = &arguments.plan {
        let saved = std::fs::read(path).map_err(|e| Failure::Usage(format!("{}: {e}", path.display())))?;
        let output = Output { format, out: arguments.out, talk: false };
        let began = Instant::now();
        let running = place.start_saved(&saved).await?;
        return show(&mut place, running, &output, began).await;
    }
    let text = match (&arguments.text, &arguments.file) {
        (Some(text), _) => Some(text.clone()),
        (None, Some(path)) if path.as_os_str() == "-" => Some(from_stdin()?),
        (None, Some(path)) => {
            Some(std::fs::read_to_string(path).map_err(|e| Failure::Usage(format!("{}: {e}", path.display())))?)
        }
        (None, None) if !std::io::stdin().is_terminal() => Some(from_stdin()?),
        (None, None) => None,
    };
    let output = Output {
        format,
        out: arguments.out,
        talk: text.is_none() || (format == Format::Table && std::io::stderr().is_terminal()),
    };
    match text {
        None => {
            place.keep();
            let outcome = shell::run(&mut place, &output).await;
            place.end().await;
            outcome
        }
        Some(text) => {
            let all = statements(&text)?;
            if all.is_empty() {
                return Err(Failure::Usage("there is no statement in the text".into()));
            }
            if all.len() > 1 {
                if !arguments.parameters.is_empty() {
                    return Err(Failure::Usage("--parameter is for one statement".into()));
                }
                place.keep();
            }
            let mut outcome = Ok(());
            for statement in all {
                outcome = run_statement(&mut place, &statement, &arguments.parameters, &output).await;
                if outcome.is_err() {
                    break;
                }
            }
            place.end().await;
            outcome
        }
    }
}

fn from_stdin() -> Outcome<String> {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).map_err(|e| Failure::Usage(format!("standard input: {e}")))?;
    Ok(text)
}

pub async fn run_statement(place: &mut Place, statement: &str, parameters: &[String], output: &Output) -> Outcome {
    let began = Instant::now();
    let running = place.start(statement, parameters).await?;
    show(place, running, output, began).await.map_err(|failure| match failure {
        Failure::Failed { error, .. } => Failure::Failed { error, statement: Some(statement.to_owned()) },
        other => other,
    })
}

/// Writes the rows out as they come.
async fn show(place: &mut Place, mut running: Running, output: &Output, began: Instant) -> Outcome {
    if running.columns().is_empty() && running.message().is_some() {
        while running.next(place).await?.is_some() {}
        if output.format == Format::Table {
            println!("{}", running.message().unwrap_or_default());
        }
        return Ok(());
    }
    // A plan is text that must not be laid out again.
    let is_plan = running.columns() == ["plan"] && output.format == Format::Table;
    let mut sink = Sink::new(output.format, output.out.as_deref(), running.columns())?;
    loop {
        let Some(batch) = running.next(place).await? else { break };
        if is_plan {
            for row in 0..batch.num_rows() {
                println!("{}", cobble_types::array_value_text(batch.column(0).as_ref(), row).unwrap_or_default());
            }
        } else {
            sink.batch(&batch, output.out.as_deref())?;
        }
    }
    if is_plan {
        return Ok(());
    }
    let rows = sink.finish(&running.types(), output.out.as_deref())?;
    if output.format == Format::Table && rows > 1000 {
        eprintln!("the first 1000 of {rows} rows; --format csv or --out FILE gives all");
    }
    if output.talk {
        eprintln!("{rows} row{} in {}", if rows == 1 { "" } else { "s" }, seconds(began.elapsed().as_secs_f64()));
    }
    Ok(())
}
