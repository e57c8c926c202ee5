//! `cobble plan`

use clap::{Args, ValueEnum};
use cobble_engine::draw;

use super::sql::Where;
use crate::output::print_json;
use crate::{Common, Outcome};

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// Steps as lanes, gates and joins
    Tree,
    /// What each source took over, and why not more
    Gates,
    /// How each join is done, and what else it could have been
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
    /// Run the query, and show what was measured
    #[arg(long)]
    measure: bool,
}

pub async fn run(common: &Common, arguments: Arguments) -> Outcome {
    let mut place = arguments.place.place(common)?;
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
