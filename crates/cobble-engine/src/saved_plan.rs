//! A planned query that leaves the process: any engine with the same connections runs it.

use std::collections::BTreeMap;
use std::time::Instant;

use cobble_plan::physical::PhysicalPlan;
use cobble_plan::serial;
use cobble_sql::{Parameters, Statement, parse_statements};
use cobble_types::deep::with_room;
use cobble_types::{Code, Error, Result};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::execution::{Execution, ResultColumn};
use crate::session::{Planned, Session};

#[derive(Debug, Serialize, Deserialize)]
pub struct SavedPlan {
    /// The names and types of the result.
    columns: Vec<ResultColumn>,
    /// The settings that were given to the session that planned it.
    settings: BTreeMap<String, String>,
    plan: PhysicalPlan,
}

impl SavedPlan {
    pub fn to_bytes(&self) -> Result<Vec<u8>> {
        serial::marked(self)
    }

    /// # Errors
    /// When the bytes are no plan, one in another form, or one that does not hold together.
    pub fn from_bytes(bytes: &[u8]) -> Result<SavedPlan> {
        let saved: SavedPlan = serial::unmarked(bytes)?;
        with_room(|| saved.plan.check())?;
        match saved.plan.root.columns.len() == saved.columns.len() {
            true => Ok(saved),
            false => Err(Error::new(Code::InvalidValue, "the plan does not hold together: its columns have no names")),
        }
    }
}

impl Session {
    /// Plans the only query of a text, to be run later or elsewhere.
    pub async fn save_plan(&self, text: &str) -> Result<SavedPlan> {
        let statements = parse_statements(text)?;
        match statements.as_slice() {
            [only] => match &only.statement {
                Statement::Query(query) => {
                    let Planned { plan, columns, held, .. } =
                        self.planned(query, Parameters::NONE, &CancellationToken::new()).await?;
                    if !held.is_empty() {
                        let what =
                            "a plan over tables in tiers cannot be saved: their boundary may move before it runs";
                        return Err(Error::new(Code::Unsupported, what));
                    }
                    Ok(SavedPlan { columns, settings: self.given_settings().clone(), plan })
                }
                _ => Err(Error::new(Code::Unsupported, "only the plan of a query can be saved")),
            },
            _ => Err(Error::new(Code::Syntax, "a plan is made of exactly one statement")),
        }
    }

    /// Starts a plan that was made before or elsewhere, by the connections of this session and with the settings of the one that planned.
    pub async fn run_saved(&self, saved: SavedPlan, cancel: &CancellationToken) -> Result<Execution> {
        let began = Instant::now();
        let mut session = self.clone();
        for (name, value) in &saved.settings {
            session.set(name, value)?;
        }
        let SavedPlan { plan, columns, .. } = saved;
        let planned = Planned {
            plan,
            set: session.catalogs()?,
            columns,
            seconds: began.elapsed().as_secs_f64(),
            writes_at: None,
            held: vec![],
        };
        session.started(planned, cancel).await
    }
}
