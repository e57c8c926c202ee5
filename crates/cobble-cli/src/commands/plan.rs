//! `cobble plan`

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use cobble_engine::draw;

use super::sql::Where;
use crate::output::print_json;
use crate::{Common, Failure, Outcome};

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// Steps as lanes, gates and joins
    Tree,
    /// What was pushed down to each source, and why not more
    Gates,
    /// How each join is executed, and the alternatives
    Joins,
    /// Each rewrite with the plan before and after
    Rewrites,
    Json,
}

#[derive(Args)]
pub struct Arguments {
    /// One query
    text: String,
    #[command(flatten)]
    place: Where,
    /// What to show
    #[arg(long = "as", value_enum, default_value = "tree")]
    form: Form,
    /// Run the query, and show measures
    #[arg(long)]
    measure: bool,
    /// Write the plan to a file, for `cobble sql --here --plan FILE`
    #[arg(long, value_name = "FILE", hide = true, requires = "here", conflicts_with = "measure")]
    out: Option<PathBuf>,
}

pub async fn run(common: &Common, arguments: Arguments) -> Outcome {
    let mut place = arguments.place.place(common)?;
    if let Some(path) = &arguments.out {
        let saved = place.save_plan(&arguments.text).await?;
        return std::fs::write(path, saved).map_err(|e| Failure::Usage(format!("{}: {e}", path.display())));
    }
    let plan = place.plan(&arguments.text, arguments.measure).await?;
    let text = match arguments.form {
        _ if common.json => return print_json(&plan),
        Form::Json => return print_json(&plan),
        Form::Tree => draw::tree(&plan),
        Form::Gates => draw::gates(&plan),
        Form::Joins => draw::joins(&plan),
        Form::Rewrites => draw::rewrites(&plan),
    };
    print!("{text}");
    Ok(())
}
