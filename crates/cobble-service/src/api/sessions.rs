//! Sessions over HTTP: begun, looked at and ended. Statements name theirs.

use std::sync::Arc;

use cobble_types::{Code, Error};
use rocket::serde::json::Json;
use rocket::{delete, get, post};

use super::State;
use super::access::{By, Query, owned};
use super::body::Body;
use super::errors::{ApiError, ApiResult};
use crate::runs::{Wanted, Within};
use crate::service::Service;
use crate::sessions::{HeldSession, Place};
use crate::users::User;
use cobble_api::{ErrorBody, NewSessionBody, SessionBody, StatementBody};

fn session_body(held: &HeldSession) -> SessionBody {
    let state = held.state();
    SessionBody {
        id: held.id.clone(),
        user: Some(held.owner.name.clone()),
        started_at: held.started_at.to_rfc3339_opts(chrono::SecondsFormat::Millis, true),
        idle: state.idle().as_secs_f64(),
        catalog: state.place.catalog,
        schema: state.place.schema,
        settings: state.place.settings,
        prepared: state.prepared,
        views: state.views,
    }
}

/// A session of the caller.
pub fn session_of(service: &Service, caller: &User, id: &str) -> Result<Arc<HeldSession>, ApiError> {
    let held = service.sessions.get(id)?;
    owned(&format!("session {id}"), Some(held.owner.id), caller)?;
    Ok(held)
}

/// What a call wants to be run, with its parameters as texts.
pub fn wanted(service: &Service, caller: &By<Query>, given: StatementBody) -> Result<Wanted, ApiError> {
    let place = Place { catalog: given.catalog, schema: given.schema, settings: given.settings };
    let within = match &given.session {
        None => Within::Alone(place),
        Some(_) if !place.is_empty() => {
            return Err(Error::new(Code::BadSetting, "a session has a place and settings of its own")
                .hint("change them by USE and SET, or run the statement without a session")
                .into());
        }
        Some(id) => Within::Session(session_of(service, caller, id)?),
    };
    let text = |value: serde_json::Value| match value {
        serde_json::Value::Null => None,
        serde_json::Value::String(text) => Some(text),
        other => Some(other.to_string()),
    };
    let parameters = given.parameters.map(|all| all.into_iter().map(text).collect());
    let is_recorded = given.record.unwrap_or(true);
    Ok(Wanted { statement: given.statement, parameters, within, owner: caller.user(), is_recorded })
}

/// Begins a session: it keeps what USE, SET, PREPARE and CREATE TEMPORARY VIEW do, runs one statement after the other, and ends when it
/// has had none for an hour.
#[utoipa::path(context_path = "/api/v1", request_body = NewSessionBody, responses((status = 200, body = SessionBody), (status = 400, body = ErrorBody)))]
#[post("/sessions", format = "json", data = "<given>")]
pub fn begin(service: &State, caller: By<Query>, given: Body<NewSessionBody>) -> ApiResult<SessionBody> {
    let given = given.read()?;
    let place = Place { catalog: given.catalog, schema: given.schema, settings: given.settings };
    let held = service.sessions.begin(&service.engine, caller.user(), &place)?;
    Ok(Json(session_body(&held)))
}

/// The caller's sessions.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<SessionBody>)))]
#[get("/sessions")]
pub fn list(service: &State, caller: By<Query>) -> Json<Vec<SessionBody>> {
    Json(service.sessions.of_user(&caller).iter().map(|held| session_body(held)).collect())
}

/// One session.
#[utoipa::path(context_path = "/api/v1", params(("id" = String, Path)), responses((status = 200, body = SessionBody), (status = 404, body = ErrorBody)))]
#[get("/sessions/<id>")]
pub fn show(service: &State, caller: By<Query>, id: &str) -> ApiResult<SessionBody> {
    Ok(Json(session_body(session_of(service, &caller, id)?.as_ref())))
}

/// Ends a session. A statement under way goes on to its end.
#[utoipa::path(context_path = "/api/v1", params(("id" = String, Path)), responses((status = 200, body = SessionBody), (status = 404, body = ErrorBody)))]
#[delete("/sessions/<id>")]
pub fn end(service: &State, caller: By<Query>, id: &str) -> ApiResult<SessionBody> {
    session_of(service, &caller, id)?;
    Ok(Json(session_body(service.sessions.end(id)?.as_ref())))
}
