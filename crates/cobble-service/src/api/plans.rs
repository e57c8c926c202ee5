//! Plans without running.

use cobble_engine::PlanDocument;
use rocket::post;
use rocket::serde::json::Json;

use super::State;
use super::errors::{ApiResult, body};
use super::types::{ErrorBody, StatementBody};
use super::users::Caller;

/// The plan of a query: steps, gates with their verdicts, joins, and the trace of rewrites.
#[utoipa::path(context_path = "/api/v1", request_body = StatementBody, responses((status = 200, body = Object), (status = 400, body = ErrorBody)))]
#[post("/plans", format = "json", data = "<given>")]
pub async fn plan(
    service: &State,
    caller: Caller,
    given: Result<Json<StatementBody>, rocket::serde::json::Error<'_>>,
) -> ApiResult<PlanDocument> {
    let given = body(given)?;
    let mut session = service.engine.session_of(caller.name());
    if let Some(catalog) = &given.catalog {
        session.use_place(catalog, given.schema.as_deref())?;
    }
    for (name, value) in &given.settings {
        session.set(name, value)?;
    }
    Ok(Json(session.plan_text(&given.statement).await?))
}
