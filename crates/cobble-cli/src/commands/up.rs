//! `cobble up`

use std::io::Write;
use std::path::PathBuf;

use clap::Args;
use cobble_engine::settings::parse_bytes;
use cobble_service::{Up, up};

use crate::Outcome;

#[derive(Args)]
pub struct Arguments {
    /// Load the demo data: Saltmarsh Ferries
    #[arg(long)]
    demo: bool,
    /// Scale of the demo data; 1 is six million boardings
    #[arg(long, default_value_t = 0.1, env = "COBBLE_SCALE", requires = "demo")]
    scale: f64,
    /// Where the service keeps its data
    #[arg(long, default_value = ".cobble", env = "COBBLE_FOLDER", value_name = "FOLDER")]
    folder: PathBuf,
    /// Port of HTTP and the console, on loopback
    #[arg(long, default_value_t = 7300, env = "COBBLE_PORT")]
    port: u16,
    /// Further host name that requests may use, such as that of a proxy; with its port unless that is 80 or 443; repeatable
    #[arg(long = "host", env = "COBBLE_HOSTS", value_delimiter = ',', value_name = "NAME")]
    hosts: Vec<String>,
    /// Folder whose files connections may use, by default the working folder; repeatable
    #[arg(long = "root", env = "COBBLE_ROOTS", value_delimiter = ':', value_name = "FOLDER")]
    roots: Vec<PathBuf>,
    /// PostgreSQL database for the records; by default a private server
    #[arg(long, env = "COBBLE_RECORDS", value_name = "URL", hide_env_values = true)]
    records: Option<String>,
    /// Port of the private PostgreSQL server, on loopback
    #[arg(long, default_value_t = 7310, env = "COBBLE_RECORDS_PORT")]
    records_port: u16,
    /// Memory limit of all runs together, such as 8GB; by default three quarters of the machine's
    #[arg(long, env = "COBBLE_MEMORY", value_name = "SIZE", value_parser = |text: &str| parse_bytes("--memory", text))]
    memory: Option<u64>,
    /// What is logged to standard error, one line a fact: error, warn, info (runs and changes), debug (also calls)
    #[arg(long, default_value = "warn", env = "COBBLE_LOG", value_name = "LEVEL")]
    log: tracing::Level,
    /// Stop when standard input ends
    #[arg(long, hide = true)]
    stop_with_stdin: bool,
}

/// Facts of this level and above become lines of `field=value` on standard error. A panic is one of them.
fn log(level: tracing::Level) {
    let lines = tracing_subscriber::fmt().with_max_level(level).with_ansi(false).with_writer(std::io::stderr);
    if lines.try_init().is_err() {
        return;
    }
    std::panic::set_hook(Box::new(|panic| {
        let place = panic.location().map_or_else(String::new, ToString::to_string);
        // What it says may hold a value: the run's error tells it to its owner.
        tracing::error!(place, "a task panicked");
    }));
}

pub async fn run(arguments: Arguments) -> Outcome {
    if arguments.demo && !(0.001..=100.0).contains(&arguments.scale) {
        return Err(crate::Failure::Usage("--scale goes from 0.001 to 100".into()));
    }
    log(arguments.log);
    let settings = Up {
        folder: arguments.folder,
        http_port: arguments.port,
        hosts: arguments.hosts,
        roots: arguments.roots,
        records: arguments.records,
        records_port: arguments.records_port,
        demo: arguments.demo.then_some(arguments.scale),
        memory: arguments.memory,
        stop_with_stdin: arguments.stop_with_stdin,
    };
    // Whoever started the service may have stopped listening to it.
    let say = |line: &str| drop(writeln!(std::io::stdout(), "{line}"));
    let ready = |address: &str| say(&format!("Cobble Lane is up: {address}  (Ctrl+C stops it)"));
    up(settings, |line| drop(writeln!(std::io::stderr(), "{line}")), ready).await?;
    say("stopped");
    Ok(())
}
