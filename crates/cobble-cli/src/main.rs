//! The `cobble` command.

mod client;
mod commands;
mod config;
mod output;
mod place;
mod shell;

use std::process::ExitCode;

use clap::{Args, Parser, Subcommand};
use cobble_types::Error;
use cobble_types::deep::ROOM;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Query data across files and databases with one SQL engine, and see what is pushed down to each source.
#[derive(Parser)]
#[command(name = "cobble", version, propagate_version = true, max_term_width = 100)]
#[command(
    after_help = "Example:\n  cobble up --demo\n  cobble sql \"SELECT count(*) FROM drop.public.boardings WHERE month = '2025-07'\""
)]
struct Cli {
    #[command(flatten)]
    common: Common,
    #[command(subcommand)]
    command: Command,
}

#[derive(Args, Clone)]
pub struct Common {
    /// Address of the service
    #[arg(long, global = true, env = "COBBLE_SERVICE", default_value = "http://127.0.0.1:7300", value_name = "URL")]
    service: String,
    /// Print JSON
    #[arg(long, global = true)]
    json: bool,
    /// Token to sign in with
    #[arg(long, global = true, env = "COBBLE_TOKEN", hide_env_values = true, value_name = "TOKEN")]
    token: Option<String>,
}

#[derive(Subcommand)]
enum Command {
    /// Start the service in the foreground
    #[command(after_help = "Example:\n  cobble up --demo --scale 0.1")]
    Up(commands::up::Arguments),
    /// Run statements, or open a shell
    #[command(
        after_help = "Examples:\n  cobble sql \"SELECT name, active FROM fleet.public.routes LIMIT 5\"\n  cobble sql --catalog drop --format csv --out july.csv \"SELECT * FROM boardings WHERE month = '2025-07'\"\n  cobble sql --here \"SELECT count(*) FROM tariffs\""
    )]
    Sql(commands::sql::Arguments),
    /// Show the plan of a query, and what is pushed down to each source
    #[command(
        after_help = "Example:\n  cobble plan --measure \"SELECT count(*) FROM drop.public.boardings WHERE month = '2025-07'\""
    )]
    Plan(commands::plan::Arguments),
    /// Connections: how to reach a system
    #[command(subcommand, after_help = "Example:\n  cobble connection test fleet_db")]
    Connection(commands::connection::Action),
    /// Catalogs: the names of connections in SQL
    #[command(subcommand, after_help = "Example:\n  cobble catalog add harbour --connection fleet_db")]
    Catalog(commands::catalog::Action),
    /// Discover tables in the files of a catalog or a folder
    #[command(
        after_help = "Examples:\n  cobble discover deep --preview\n  cobble discover ./exports --into exports\n  cobble discover drop/buoys --into drop.readings --every 3600"
    )]
    Discover(commands::discover::Arguments),
    /// Browse catalogs, schemas and tables
    #[command(
        after_help = "Examples:\n  cobble browse fleet.public\n  cobble browse fleet.public.routes --sample 5\n  cobble browse --find fare"
    )]
    Browse(commands::browse::Arguments),
    /// Lake tables: how they are put together, names of their states, care for their files
    #[command(
        after_help = "Examples:\n  cobble lake show deep.ops.sailings snapshots\n  cobble lake compact deep.ops.sailings --dry-run"
    )]
    Lake(commands::lake::Arguments),
    /// Users of the service, and their tokens
    #[command(subcommand, after_help = "Example:\n  cobble access add ada")]
    Access(commands::access::Action),
    /// Runs: current and past executions
    #[command(subcommand, after_help = "Example:\n  cobble runs list")]
    Runs(commands::runs::Action),
    /// Replace the configuration (connections, catalogs, functions, views) with that of a file
    #[command(after_help = "Examples:\n  cobble apply lane.toml --preview\n  FLEET_DB_SECRET=… cobble apply lane.toml")]
    Apply(commands::configuration::Apply),
    /// Write the configuration to one file, without secrets
    #[command(after_help = "Example:\n  cobble export --out lane.toml")]
    Export(commands::configuration::Export),
}

/// How a command fails.
#[derive(Debug)]
pub enum Failure {
    /// The query or action failed; with the statement, to show where.
    Failed {
        error: Error,
        statement: Option<String>,
    },
    Usage(String),
    Unreachable(String),
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Failure::Failed { error, statement: None }
    }
}

pub type Outcome<T = ()> = Result<T, Failure>;

/// A command ends quietly when its reader, such as `head`, has closed the pipe.
fn end_with_the_reader() {
    use nix::sys::signal::{SigHandler, Signal, signal};
    // SAFETY: the default action of a signal is installed before any thread has been started; no handler of ours runs.
    let _ = unsafe { signal(Signal::SIGPIPE, SigHandler::SigDfl) };
}

/// The allocator keeps what has been freed for up to a second, by which a busy service takes more than its bound. It is told otherwise by a
/// variable that it reads once, as the process begins: the process begins again with that.
fn give_memory_back_at_once() {
    use std::os::unix::process::CommandExt;
    const DELAY: &str = "MIMALLOC_PURGE_DELAY";
    if std::env::var_os(DELAY).is_some() {
        return;
    }
    if let Ok(own) = std::env::current_exe() {
        // It comes back only where this cannot be done, and the service starts all the same.
        let _ = std::process::Command::new(own).args(std::env::args_os().skip(1)).env(DELAY, "0").exec();
    }
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    match cli.command {
        Command::Up(_) => give_memory_back_at_once(),
        _ => end_with_the_reader(),
    }
    let threads = tokio::runtime::Builder::new_multi_thread().enable_all().thread_stack_size(ROOM).build();
    let runtime = match threads {
        Ok(runtime) => runtime,
        Err(error) => {
            eprintln!("error: no threads could be started: {error}");
            return ExitCode::from(1);
        }
    };
    let common = cli.common;
    let outcome = runtime.block_on(async {
        match cli.command {
            Command::Up(arguments) => commands::up::run(arguments).await,
            Command::Sql(arguments) => commands::sql::run(&common, arguments).await,
            Command::Plan(arguments) => commands::plan::run(&common, arguments).await,
            Command::Connection(action) => commands::connection::run(&common, action).await,
            Command::Catalog(action) => commands::catalog::run(&common, action).await,
            Command::Discover(arguments) => commands::discover::run(&common, arguments).await,
            Command::Lake(arguments) => commands::lake::run(&common, arguments).await,
            Command::Browse(arguments) => commands::browse::run(&common, arguments).await,
            Command::Access(action) => commands::access::run(&common, action).await,
            Command::Runs(action) => commands::runs::run(&common, action).await,
            Command::Apply(arguments) => commands::configuration::apply(&common, arguments).await,
            Command::Export(arguments) => commands::configuration::export(&common, arguments).await,
        }
    });
    runtime.shutdown_background();
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(Failure::Failed { error, statement }) => {
            output::print_error(&error, statement.as_deref(), common.json);
            ExitCode::from(1)
        }
        Err(Failure::Usage(message)) => {
            eprintln!("error: {message}");
            ExitCode::from(2)
        }
        Err(Failure::Unreachable(message)) => {
            eprintln!("error: {message}");
            ExitCode::from(3)
        }
    }
}
