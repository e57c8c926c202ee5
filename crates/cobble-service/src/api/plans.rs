//! Plans without running.

use cobble_engine::PlanDocument;
use rocket::post;
use rocket::serde::json::Json;

use super::State;
use super::access::{By, Query};
use super::body::Body;
use super::errors::ApiResult;
use super::sessions::wanted;
use crate::runs::Within;
use cobble_api::{ErrorBody, StatementBody};

/// The plan of a query: steps, gates with their verdicts, joins, and the trace of rewrites.
#[utoipa::path(context_path = "/api/v1", request_body = StatementBody, responses((status = 200, body = PlanDocument), (status = 400, body = ErrorBody)))]
#[post("/plans", format = "json", data = "<given>")]
pub async fn plan(service: &State, caller: By<Query>, given: Body<StatementBody>) -> ApiResult<PlanDocument> {
    let given = given.read()?;
    let wanted = wanted(service, &caller, given)?;
    let mut session = match &wanted.within {
        Within::Alone(place) => {
            let mut session = service.engine.session_of(wanted.owner.asker());
            place.enter(&mut session)?;
            session
        }
        // As it is after the statements that have been asked for.
        Within::Session(held) => held.taken().await.session.clone(),
    };
    let planning = async move {
        match wanted.parameters {
            None => session.plan_text(&wanted.statement).await,
            Some(texts) => {
                let prepared = session.prepare(&wanted.statement, &[]).await?;
                session.plan_prepared(&prepared, &prepared.values(&texts)?).await
            }
        }
    };
    Ok(Json(service.engine.apart(planning).await?))
}
