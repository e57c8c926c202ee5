//! Runs over HTTP: create, follow, look at the plan, cancel.

use std::sync::Arc;

use cobble_engine::PlanDocument;
use cobble_records::StoredRun;
use rocket::response::stream::{Event, EventStream};
use rocket::serde::json::Json;
use rocket::{delete, get, post};

use super::State;
use super::access::{By, Query, known_to};
use super::body::Body;
use super::errors::{ApiError, ApiResult, not_found};
use super::rows::page;
use super::sessions::wanted;
use crate::runs::{Run, RunState};
use crate::service::blocking;
use crate::users::User;
use cobble_api::{ColumnBody, ErrorBody, ProgressBody, RunBody, StatementBody};

pub fn run_body(run: &Run) -> RunBody {
    let s = run.snapshot();
    RunBody {
        id: run.id.clone(),
        state: s.state.word().to_owned(),
        waits: s.waits,
        statement: run.statement.clone(),
        started_at: run.started_at.to_rfc3339_opts(chrono::SecondsFormat::Millis, true),
        progress: ProgressBody::from(&s.progress),
        columns: s.columns.map(|columns| columns.iter().map(ColumnBody::from).collect()),
        message: s.message,
        error: s.error.as_ref().map(ErrorBody::from),
        catalog: s.place.catalog,
        schema: s.place.schema,
        settings: s.place.settings,
        rows_kept: true,
        user: Some(run.owner.name.clone()),
        page: None,
    }
}

fn stored_body(run: StoredRun) -> RunBody {
    let error = run.error.and_then(|e| serde_json::from_value::<cobble_types::Error>(e).ok());
    RunBody {
        id: run.id,
        state: run.state,
        waits: false,
        statement: run.statement,
        started_at: run.started_at.to_rfc3339_opts(chrono::SecondsFormat::Millis, true),
        progress: ProgressBody {
            rows_read: run.rows_read as u64,
            bytes_read: run.bytes_read as u64,
            rows_out: run.rows_out as u64,
            seconds: run.seconds,
            doing: None,
        },
        columns: None,
        message: None,
        error: error.as_ref().map(ErrorBody::from),
        catalog: None,
        schema: None,
        settings: Default::default(),
        rows_kept: false,
        user: run.user_name,
        page: None,
    }
}

/// A live run that the caller may know of: one of their own or, for an administrator, any.
fn live(service: &State, caller: &User, id: &str) -> Result<Option<Arc<Run>>, ApiError> {
    let Some(run) = service.runs.get(id) else { return Ok(None) };
    known_to(&format!("run {id}"), Some(run.owner.id), caller)?;
    Ok(Some(run))
}

/// The same of the records.
async fn stored(service: &State, caller: &User, id: &str) -> Result<Option<StoredRun>, ApiError> {
    service.runs.recorder.catch_up().await;
    let (records, wanted) = (service.records.clone(), id.to_owned());
    let Some(run) = blocking(move || records.run(&wanted)).await? else { return Ok(None) };
    known_to(&format!("run {id}"), run.user_id, caller)?;
    Ok(Some(run))
}

/// The longest that the start of a run is waited for, in milliseconds.
const LONGEST_WAIT: u64 = 10_000;

/// Starts a statement; several are separated by semicolons and run in order. Answers at once, or with `wait` when the run has
/// ended, at the latest after so many milliseconds; the run then has its first page with it.
#[utoipa::path(context_path = "/api/v1", params(("wait" = Option<u64>, Query, description = "milliseconds, at most 10000"), ("limit" = Option<u64>, Query, description = "rows of the page, at most 10000; 0 for none")), request_body = StatementBody, responses((status = 200, body = RunBody), (status = 400, body = ErrorBody)))]
#[post("/runs?<wait>&<limit>", format = "json", data = "<given>")]
pub async fn create(
    service: &State,
    caller: By<Query>,
    wait: Option<u64>,
    limit: Option<u64>,
    given: Body<StatementBody>,
) -> ApiResult<RunBody> {
    let given = given.read()?;
    let run = service.runs.start(wanted(service, &caller, given)?).await?;
    let Some(wait) = wait else { return Ok(Json(run_body(&run))) };
    let wait = std::time::Duration::from_millis(wait.min(LONGEST_WAIT));
    let finished = matches!(tokio::time::timeout(wait, run.ended()).await, Ok(Ok(())));
    let page = if finished && limit != Some(0) { Some(page(&run, 0, limit).await?) } else { None };
    Ok(Json(RunBody { page, ..run_body(&run) }))
}

/// The latest runs of who calls, for an administrator those of all, newest first.
#[utoipa::path(context_path = "/api/v1", params(("most" = Option<i64>, Query)), responses((status = 200, body = Vec<RunBody>)))]
#[get("/runs?<most>")]
pub async fn list(service: &State, caller: By<Query>, most: Option<i64>) -> ApiResult<Vec<RunBody>> {
    service.runs.recorder.catch_up().await;
    let records = service.records.clone();
    let whose = (!caller.is_administrator()).then_some(caller.id);
    let stored = blocking(move || records.runs(whose, most.unwrap_or(100).clamp(1, 1000))).await?;
    // What is live knows more than its record.
    let bodies = stored
        .into_iter()
        .map(|run| match service.runs.get(&run.id) {
            Some(live) => run_body(&live),
            None => stored_body(run),
        })
        .collect();
    Ok(Json(bodies))
}

/// One run.
#[utoipa::path(context_path = "/api/v1", params(("id" = String, Path)), responses((status = 200, body = RunBody), (status = 404, body = ErrorBody)))]
#[get("/runs/<id>")]
pub async fn show(service: &State, caller: By<Query>, id: &str) -> ApiResult<RunBody> {
    if let Some(run) = live(service, &caller, id)? {
        return Ok(Json(run_body(&run)));
    }
    match stored(service, &caller, id).await? {
        Some(run) => Ok(Json(stored_body(run))),
        None => Err(not_found("run", id)),
    }
}

/// Server-sent events: `progress` while the run goes on, `end` when it has ended; each carries the run as it is then, after the first one
/// with an empty statement.
#[utoipa::path(context_path = "/api/v1", params(("id" = String, Path)), responses((status = 200, content_type = "text/event-stream", body = RunBody)))]
#[get("/runs/<id>/events")]
pub fn events(service: &State, caller: By<Query>, id: &str) -> Result<EventStream![Event], ApiError> {
    let Some(run) = live(service, &caller, id)? else { return Err(not_found("live run", id)) };
    Ok(EventStream! {
        let mut changed = run.watch();
        let mut statement = run.statement.clone();
        loop {
            let mut body = run_body(&run);
            let ended = body.state != RunState::Running.word();
            let name = if ended { "end" } else { "progress" };
            body.statement = std::mem::take(&mut statement);
            yield Event::json(&body).event(name);
            if ended {
                break;
            }
            // At most ten events a second, however fast batches come.
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
            if run.snapshot().state == RunState::Running && changed.changed().await.is_err() {
                break;
            }
        }
    })
}

/// The plan with what has been measured until now.
#[utoipa::path(context_path = "/api/v1", params(("id" = String, Path)), responses((status = 200, body = PlanDocument), (status = 404, body = ErrorBody)))]
#[get("/runs/<id>/plan")]
pub async fn plan(service: &State, caller: By<Query>, id: &str) -> ApiResult<PlanDocument> {
    if let Some(run) = live(service, &caller, id)? {
        return match run.snapshot().plan {
            Some(plan) => Ok(Json(Arc::unwrap_or_clone(plan))),
            None => Err(not_found("plan of run", id)),
        };
    }
    let stored = stored(service, &caller, id).await?.and_then(|run| run.plan);
    match stored.and_then(|plan| serde_json::from_value(plan).ok()) {
        Some(plan) => Ok(Json(plan)),
        None => Err(not_found("plan of run", id)),
    }
}

/// Cancels a run that is under way. An ended one stays as it is.
#[utoipa::path(context_path = "/api/v1", params(("id" = String, Path)), responses((status = 200, body = RunBody), (status = 404, body = ErrorBody)))]
#[delete("/runs/<id>")]
pub async fn cancel(service: &State, caller: By<Query>, id: &str) -> ApiResult<RunBody> {
    let Some(run) = live(service, &caller, id)? else { return Err(not_found("live run", id)) };
    let mut changed = run.watch();
    run.cancel();
    let ended = async { while run.snapshot().state == RunState::Running && changed.changed().await.is_ok() {} };
    // The answer tells the state it has come to, usually at once.
    let _ = tokio::time::timeout(std::time::Duration::from_secs(2), ended).await;
    Ok(Json(run_body(&run)))
}
