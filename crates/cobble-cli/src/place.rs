//! Where statements run: in an engine of the client's own, or at the service. Both look the same to the commands.

use std::collections::BTreeMap;
use std::time::Duration;

use arrow::array::RecordBatch;
use arrow::datatypes::DataType;
use cobble_api::{FunctionBody, NameBody, NewSessionBody, RunBody, SessionBody, StatementBody};
use cobble_engine::{Execution, PlanDocument, SavedPlan, Session, parse_statements};
use cobble_types::{Code, Error};
use indicatif::{ProgressBar, ProgressStyle};
use tokio_util::sync::CancellationToken;

use crate::client::{Client, RowStream, error_of};
use crate::{Failure, Outcome};

pub enum Place {
    Here(Box<Session>),
    Service(ServiceSession),
}

/// The client's view of its session between statements.
pub struct ServiceSession {
    pub client: Client,
    /// Later statements depend on settings of earlier ones: the service keeps a session for them.
    pub is_kept: bool,
    /// Statements are previews, which are not recorded as runs.
    pub is_look: bool,
    id: Option<String>,
    pub catalog: Option<String>,
    pub schema: Option<String>,
    pub settings: BTreeMap<String, String>,
}

impl ServiceSession {
    pub fn new(client: Client) -> ServiceSession {
        let settings = BTreeMap::new();
        ServiceSession { client, is_kept: false, is_look: false, id: None, catalog: None, schema: None, settings }
    }

    async fn body(&mut self, statement: &str, parameters: &[String]) -> Outcome<StatementBody> {
        let (catalog, schema, settings) = (self.catalog.clone(), self.schema.clone(), self.settings.clone());
        let parameters = (!parameters.is_empty()).then(|| parameters.iter().map(|text| text.as_str().into()).collect());
        let record = self.is_look.then_some(false);
        let body = StatementBody { statement: statement.to_owned(), parameters, record, ..StatementBody::default() };
        if !self.is_kept {
            return Ok(StatementBody { catalog, schema, settings, ..body });
        }
        if self.id.is_none() {
            let begun: SessionBody =
                self.client.post("/sessions", &NewSessionBody { catalog, schema, settings }).await?;
            self.id = Some(begun.id);
        }
        Ok(StatementBody { session: self.id.clone(), ..body })
    }

    async fn started(&mut self, statement: &str, parameters: &[String]) -> Outcome<RunBody> {
        let body = self.body(statement, parameters).await?;
        match self.client.start(&body).await {
            // It was idle for too long, or the service has been started again.
            Err(Failure::Failed { error, .. })
                if error.code == Code::NotFound && body.session.is_some() && error.message.contains(" session ") =>
            {
                self.id = None;
                eprintln!(
                    "the session has expired; a new one starts, without its prepared statements and temporary views"
                );
                let body = self.body(statement, parameters).await?;
                self.client.start(&body).await
            }
            other => other,
        }
    }

    async fn end(&mut self) {
        if let Some(id) = self.id.take() {
            let _ = self.client.delete::<SessionBody>(&format!("/sessions/{id}")).await;
        }
    }
}

/// A running statement.
pub enum Running {
    Here { execution: Box<Execution>, cancel: CancellationToken },
    Service { id: String, columns: Vec<String>, message: Option<String>, rows: Box<RowStream> },
}

fn with_statement(statement: &str) -> impl Fn(Failure) -> Failure + '_ {
    move |failure| match failure {
        Failure::Failed { error, .. } => Failure::Failed { error, statement: Some(statement.to_owned()) },
        other => other,
    }
}

impl Place {
    pub fn set(&mut self, catalog: Option<&str>, settings: &[String]) -> Outcome {
        if let Some(name) = catalog {
            let (catalog, schema) = name.split_once('.').map_or((name, None), |(c, s)| (c, Some(s)));
            match self {
                Place::Here(session) => session.use_place(catalog, schema)?,
                Place::Service(session) => {
                    (session.catalog, session.schema) = (Some(catalog.to_owned()), schema.map(str::to_owned));
                }
            }
        }
        for setting in settings {
            let Some((name, value)) = setting.split_once('=') else {
                return Err(Failure::Usage(format!("--set takes NAME=VALUE, not \"{setting}\"")));
            };
            match self {
                Place::Here(session) => session.set(name.trim(), value.trim())?,
                Place::Service(session) => {
                    session.settings.insert(name.trim().to_owned(), value.trim().to_owned());
                }
            }
        }
        Ok(())
    }

    /// Keeps settings between statements, until `end`.
    pub fn keep(&mut self) {
        if let Place::Service(session) = self {
            session.is_kept = true;
        }
    }

    pub async fn end(&mut self) {
        if let Place::Service(session) = self {
            session.end().await;
        }
    }

    /// Starts a statement, with the values of its parameters as texts, and waits until its columns are known, showing progress meanwhile.
    pub async fn start(&mut self, statement: &str, parameters: &[String]) -> Outcome<Running> {
        self.start_plain(statement, parameters).await.map_err(with_statement(statement))
    }

    async fn start_plain(&mut self, statement: &str, parameters: &[String]) -> Outcome<Running> {
        match self {
            Place::Here(session) => {
                let cancel = CancellationToken::new();
                let execution = match parameters {
                    [] => session.run_text(statement, &cancel).await?,
                    texts => {
                        let prepared = session.prepare(statement, &[]).await?;
                        let texts: Vec<Option<String>> = texts.iter().cloned().map(Some).collect();
                        session.run_prepared(&prepared, &prepared.values(&texts)?, &cancel).await?
                    }
                };
                Ok(Running::Here { execution: Box::new(execution), cancel })
            }
            Place::Service(session) => {
                let started = session.started(statement, parameters).await?;
                let progress = Spinner::new();
                let rows = {
                    let wait = session.client.rows(&started.id);
                    let mut wait = std::pin::pin!(wait);
                    loop {
                        tokio::select! {
                            rows = &mut wait => break rows,
                            () = tokio::time::sleep(Duration::from_millis(250)) => {
                                if let Ok(now) = session.client.run(&started.id).await {
                                    progress.show(&now);
                                }
                            }
                            _ = tokio::signal::ctrl_c() => {
                                let _ = session.client.delete::<serde_json::Value>(&format!("/runs/{}", started.id)).await;
                                return Err(Error::cancelled().into());
                            }
                        }
                    }
                };
                let now = match started.state.as_str() {
                    "running" => session.client.run(&started.id).await?,
                    _ => started.clone(),
                };
                if let Some(error) = &now.error {
                    return Err(error_of(error).into());
                }
                if now.state == "finished" {
                    (session.catalog, session.schema, session.settings) = (now.catalog, now.schema, now.settings);
                }
                let columns = now.columns.unwrap_or_default().into_iter().map(|c| c.name).collect();
                Ok(Running::Service { id: started.id, columns, message: now.message, rows: Box::new(rows?) })
            }
        }
    }

    /// The plan of one query as bytes that any engine with the same connections runs.
    pub async fn save_plan(&self, statement: &str) -> Outcome<Vec<u8>> {
        match self {
            Place::Here(session) => Ok(session.save_plan(statement).await?.to_bytes()?),
            Place::Service(_) => Err(Failure::Usage("a plan is written with --here".into())),
        }
    }

    /// Starts a saved plan.
    pub async fn start_saved(&self, saved: &[u8]) -> Outcome<Running> {
        match self {
            Place::Here(session) => {
                let cancel = CancellationToken::new();
                let execution = session.run_saved(SavedPlan::from_bytes(saved)?, &cancel).await?;
                Ok(Running::Here { execution: Box::new(execution), cancel })
            }
            Place::Service(_) => Err(Failure::Usage("a plan is run with --here".into())),
        }
    }

    /// The plan of one query; with `measure` it is run to its end first.
    pub async fn plan(&mut self, statement: &str, measure: bool) -> Outcome<PlanDocument> {
        let plain = async {
            if measure {
                let mut running = self.start_plain(statement, &[]).await?;
                while running.next(self).await?.is_some() {}
                return running.plan(self).await;
            }
            match self {
                Place::Here(session) => Ok(session.plan_text(statement).await?),
                Place::Service(session) => {
                    let body = session.body(statement, &[]).await?;
                    session.client.post("/plans", &body).await
                }
            }
        };
        plain.await.map_err(with_statement(statement))
    }

    /// Tables and columns for completion.
    pub async fn names(&self) -> Vec<NameBody> {
        match self {
            Place::Here(_) => Vec::new(),
            Place::Service(session) => session.client.get("/names").await.unwrap_or_default(),
        }
    }

    /// Functions for completion.
    pub async fn functions(&self) -> Vec<FunctionBody> {
        match self {
            Place::Here(session) => session.engine().function_list().into_iter().map(FunctionBody::from).collect(),
            Place::Service(session) => session.client.get("/functions").await.unwrap_or_default(),
        }
    }

    /// The default place, for the prompt.
    pub fn prompt(&self) -> String {
        let (catalog, schema) = match self {
            Place::Here(session) => {
                let (c, s) = session.place();
                (c.map(str::to_owned), s.map(str::to_owned))
            }
            Place::Service(session) => (session.catalog.clone(), session.schema.clone()),
        };
        match (catalog, schema) {
            (Some(c), Some(s)) => format!("{c}.{s}"),
            (Some(c), None) => c,
            _ => "lane".to_owned(),
        }
    }
}

impl Running {
    pub fn columns(&self) -> Vec<String> {
        match self {
            Running::Here { execution, .. } => execution.columns.iter().map(|c| c.name.clone()).collect(),
            Running::Service { columns, .. } => columns.clone(),
        }
    }

    /// The types of the columns, known at the latest when all rows have come.
    pub fn types(&self) -> Vec<DataType> {
        match self {
            Running::Here { execution, .. } => execution.columns.iter().map(|c| c.sql_type.to_arrow()).collect(),
            Running::Service { rows, .. } => rows.types(),
        }
    }

    pub fn message(&self) -> Option<&str> {
        match self {
            Running::Here { execution, .. } => execution.message.as_deref(),
            Running::Service { message, .. } => message.as_deref(),
        }
    }

    /// The next batch. Ctrl+C cancels the run.
    pub async fn next(&mut self, place: &Place) -> Outcome<Option<RecordBatch>> {
        match self {
            Running::Here { execution, cancel } => {
                tokio::select! {
                    batch = execution.next() => Ok(batch?),
                    _ = tokio::signal::ctrl_c() => {
                        cancel.cancel();
                        Err(Error::cancelled().into())
                    }
                }
            }
            Running::Service { id, rows, .. } => {
                tokio::select! {
                    batch = rows.next() => batch,
                    _ = tokio::signal::ctrl_c() => {
                        if let Place::Service(session) = place {
                            let _ = session.client.delete::<serde_json::Value>(&format!("/runs/{id}")).await;
                        }
                        Err(Error::cancelled().into())
                    }
                }
            }
        }
    }

    pub async fn plan(&self, place: &Place) -> Outcome<PlanDocument> {
        match (self, place) {
            (Running::Service { id, .. }, Place::Service(session)) => session.client.plan_of(id).await,
            (Running::Here { execution, .. }, _) => {
                execution.plan().ok_or_else(|| Error::unsupported("a plan of a statement that is not a query").into())
            }
            _ => Err(Error::internal("a run and its session are in two places").into()),
        }
    }
}

/// Progress of a run, on stderr if that is a terminal.
struct Spinner(ProgressBar);

impl Spinner {
    fn new() -> Spinner {
        let bar = ProgressBar::new_spinner();
        if let Ok(style) = ProgressStyle::with_template("{spinner} {msg}") {
            bar.set_style(style);
        }
        Spinner(bar)
    }

    fn show(&self, run: &RunBody) {
        use cobble_engine::draw::{bytes, count, seconds};
        let progress = &run.progress;
        self.0.set_message(match run.waits {
            true => "waits for its turn: other runs go before it".to_owned(),
            false if progress.doing.is_some() => {
                format!("{}, {}", progress.doing.as_deref().unwrap_or_default(), seconds(progress.seconds))
            }
            false => format!(
                "{} rows, {} read, {}",
                count(progress.rows_read as f64),
                bytes(progress.bytes_read as f64),
                seconds(progress.seconds)
            ),
        });
        self.0.tick();
    }
}

impl Drop for Spinner {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}

/// The statements of a text, each on its own.
pub fn statements(text: &str) -> Outcome<Vec<String>> {
    let parsed = parse_statements(text).map_err(|error| Failure::Failed { error, statement: Some(text.to_owned()) })?;
    Ok(parsed.into_iter().map(|s| s.text).collect())
}
