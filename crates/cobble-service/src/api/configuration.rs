//! The whole configuration over HTTP: read it, compare another one with it, put that one in its place.

use cobble_connect::Secret;
use cobble_engine::Configuration;
use rocket::serde::json::Json;
use rocket::{get, post};

use super::State;
use super::access::{By, ChangeConfiguration};
use super::body::Body;
use super::errors::{ApiResult, same_form};
use cobble_api::{ApplyBody, ChangeBody, ConfigurationBody, ErrorBody};

/// All connections, catalogs, functions and views, without secrets.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = ConfigurationBody)))]
#[get("/configuration")]
pub fn show(service: &State, _caller: By<ChangeConfiguration>) -> ApiResult<ConfigurationBody> {
    Ok(Json(same_form(&service.engine.configuration())?))
}

/// Puts a configuration in the place of what there is, all of it or nothing, and says what changed. Nothing is contacted.
#[utoipa::path(context_path = "/api/v1", request_body = ApplyBody, responses((status = 200, body = Vec<ChangeBody>), (status = 400, body = ErrorBody)))]
#[post("/configuration", format = "json", data = "<given>")]
pub async fn apply(
    service: &State,
    _caller: By<ChangeConfiguration>,
    given: Body<ApplyBody>,
) -> ApiResult<Vec<ChangeBody>> {
    let given = given.read()?;
    let wanted: Configuration = same_form(&given.configuration)?;
    let secrets = given.secrets.into_iter().map(|(name, secret)| (name, Secret::new(secret))).collect();
    let changes = service.apply(&wanted, &secrets, given.preview).await?;
    Ok(Json(same_form(&changes)?))
}
