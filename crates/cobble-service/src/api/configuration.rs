//! The whole configuration over HTTP: read it, compare another one with it, put that one in its place.

use cobble_connect::Secret;
use cobble_engine::{Configuration, ConfiguredConnection};
use rocket::serde::json::Json;
use rocket::{get, post};

use super::State;
use super::errors::{ApiResult, body};
use super::types::{ApplyBody, ChangeBody, ConfigurationBody, ConfiguredConnectionBody, ErrorBody};

/// All connections, catalogs and functions, without secrets.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = ConfigurationBody)))]
#[get("/configuration")]
pub fn show(service: &State) -> Json<ConfigurationBody> {
    let all = service.engine.configuration();
    let connection = |c: ConfiguredConnection| ConfiguredConnectionBody {
        kind: c.kind,
        address: c.address,
        database: c.database,
        user: c.user,
        secret_from: c.secret_from,
        region: c.region,
        options: c.options,
    };
    Json(ConfigurationBody {
        connections: all.connections.into_iter().map(|(name, c)| (name, connection(c))).collect(),
        catalogs: all.catalogs,
        functions: all.functions,
    })
}

/// Puts a configuration in the place of what there is, all of it or nothing, and says what changed. Nothing is contacted.
#[utoipa::path(context_path = "/api/v1", request_body = ApplyBody, responses((status = 200, body = Vec<ChangeBody>), (status = 400, body = ErrorBody)))]
#[post("/configuration", format = "json", data = "<given>")]
pub async fn apply(
    service: &State,
    given: Result<Json<ApplyBody>, rocket::serde::json::Error<'_>>,
) -> ApiResult<Vec<ChangeBody>> {
    let given = body(given)?;
    let connection = |c: ConfiguredConnectionBody| ConfiguredConnection {
        kind: c.kind,
        address: c.address,
        database: c.database,
        user: c.user,
        secret_from: c.secret_from,
        region: c.region,
        options: c.options,
    };
    let all = given.configuration;
    let wanted = Configuration {
        connections: all.connections.into_iter().map(|(name, c)| (name, connection(c))).collect(),
        catalogs: all.catalogs,
        functions: all.functions,
    };
    let secrets = given.secrets.into_iter().map(|(name, secret)| (name, Secret::new(secret))).collect();
    let changes = service.apply(&wanted, &secrets, given.preview).await?;
    let shown =
        changes.into_iter().map(|c| ChangeBody { what: c.what, name: c.name, change: c.change, details: c.details });
    Ok(Json(shown.collect()))
}
