//! `cobble runs …`

use clap::Subcommand;
use cobble_api::RunBody;
use cobble_engine::draw::{self, bytes, count, seconds};

use crate::client::{Client, error_of};
use crate::output::{print_error, print_json, text_table};
use crate::{Common, Outcome};

#[derive(Subcommand)]
pub enum Action {
    /// The latest runs, newest first
    List {
        #[arg(long, default_value_t = 20)]
        most: u32,
    },
    /// One run with its measured plan
    Show { id: String },
    /// Stop a run
    Stop { id: String },
}

pub async fn run(common: &Common, action: Action) -> Outcome {
    let client = Client::new(common);
    match action {
        Action::List { most } => {
            let runs: Vec<RunBody> = client.get(&format!("/runs?most={most}")).await?;
            if common.json {
                return print_json(&runs);
            }
            let rows = runs
                .into_iter()
                .map(|r| {
                    let line: String = r.statement.split_whitespace().collect::<Vec<_>>().join(" ");
                    let short: String =
                        if line.chars().count() > 44 { line.chars().take(43).chain(['…']).collect() } else { line };
                    let p = r.progress;
                    vec![
                        r.id,
                        r.state,
                        seconds(p.seconds),
                        count(p.rows_out as f64),
                        count(p.rows_read as f64),
                        bytes(p.bytes_read as f64),
                        short,
                    ]
                })
                .collect();
            print!("{}", text_table(&["run", "state", "time", "rows out", "read", "bytes", "statement"], rows));
            Ok(())
        }
        Action::Show { id } => {
            let run: RunBody = client.get(&format!("/runs/{id}")).await?;
            if common.json {
                return print_json(&run);
            }
            println!("run {} {}, started {}\n\n{}\n", run.id, run.state, run.started_at, run.statement.trim());
            if let Some(error) = &run.error {
                print_error(&error_of(error), Some(&run.statement), false);
            }
            if let Ok(plan) = client.plan_of(&id).await {
                print!("{}", draw::tree(&plan));
            }
            Ok(())
        }
        Action::Stop { id } => {
            let run: RunBody = client.delete(&format!("/runs/{id}")).await?;
            if common.json {
                return print_json(&run);
            }
            println!("run {} is {}", run.id, run.state);
            Ok(())
        }
    }
}
