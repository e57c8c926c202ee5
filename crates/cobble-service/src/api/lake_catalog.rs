//! Lake tables for other tools, through the open protocol for catalogs (Iceberg REST catalog specification). A catalog of ours is a warehouse of the
//! protocol and the prefix of its calls; whoever calls sends a token as of the rest of the service, or exchanges a name and a token for it.

use std::io::Cursor;
use std::sync::Arc;

use cobble_engine::{CatalogAnswer, CatalogCall, Verb};
use cobble_types::{Code, Error, Result};
use rocket::form::{Form, FromForm};
use rocket::http::uri::Segments;
use rocket::http::uri::fmt::Path;
use rocket::http::{ContentType, Header, RawStr, Status};
use rocket::request::{FromRequest, FromSegments, Outcome, Request};
use rocket::response::{self, Responder, Response};
use rocket::{Route, delete, get, head, post, routes};
use serde_json::{Value as Json, json};

use super::State;
use super::access::{Query, allows, caller};
use super::body::Body;
use crate::users::User;

/// Calls that are answered, as the protocol tells clients.
const CALLS: &[&str] = &[
    "GET /v1/{prefix}/namespaces",
    "POST /v1/{prefix}/namespaces",
    "GET /v1/{prefix}/namespaces/{namespace}",
    "HEAD /v1/{prefix}/namespaces/{namespace}",
    "DELETE /v1/{prefix}/namespaces/{namespace}",
    "POST /v1/{prefix}/namespaces/{namespace}/properties",
    "GET /v1/{prefix}/namespaces/{namespace}/tables",
    "POST /v1/{prefix}/namespaces/{namespace}/tables",
    "GET /v1/{prefix}/namespaces/{namespace}/tables/{table}",
    "HEAD /v1/{prefix}/namespaces/{namespace}/tables/{table}",
    "POST /v1/{prefix}/namespaces/{namespace}/tables/{table}",
    "DELETE /v1/{prefix}/namespaces/{namespace}/tables/{table}",
    "POST /v1/{prefix}/namespaces/{namespace}/register",
    "POST /v1/{prefix}/namespaces/{namespace}/tables/{table}/metrics",
    "POST /v1/{prefix}/tables/rename",
    "GET /v1/{prefix}/namespaces/{namespace}/views",
    "POST /v1/{prefix}/namespaces/{namespace}/views",
    "GET /v1/{prefix}/namespaces/{namespace}/views/{view}",
    "HEAD /v1/{prefix}/namespaces/{namespace}/views/{view}",
    "POST /v1/{prefix}/namespaces/{namespace}/views/{view}",
    "DELETE /v1/{prefix}/namespaces/{namespace}/views/{view}",
    "POST /v1/{prefix}/namespaces/{namespace}/register-view",
    "POST /v1/{prefix}/views/rename",
];

struct Reply(CatalogAnswer);

impl<'r> Responder<'r, 'static> for Reply {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let CatalogAnswer { status, body, state } = self.0;
        let mut response = Response::build();
        response.status(Status::new(status));
        if let Some(state) = state {
            response.header(Header::new("ETag", format!("\"{}\"", RawStr::new(&state).percent_encode())));
        }
        if let Some(body) = body {
            let body = body.to_string().into_bytes();
            response.header(ContentType::JSON).sized_body(body.len(), Cursor::new(body));
        }
        response.ok()
    }
}

fn told(error: &Error) -> CatalogAnswer {
    let (status, kind) = match error.code {
        Code::NotSignedIn => (401, "NotAuthorizedException"),
        Code::NotAllowed => (403, "ForbiddenException"),
        Code::Busy => (503, "ServiceUnavailableException"),
        Code::BadSetting | Code::TooComplex => (400, "BadRequestException"),
        Code::UnknownName | Code::UnknownCatalog | Code::NotFound => (404, "NotFoundException"),
        Code::Unsupported => (406, "UnsupportedOperationException"),
        _ => (500, "InternalServerError"),
    };
    let hint = error.hint.as_deref().map(|hint| format!(" ({hint})")).unwrap_or_default();
    CatalogAnswer::fault(status, kind, &format!("{}{hint}", error.message))
}

/// Who calls, and what else stands in the head of the request.
struct Head {
    caller: Result<Arc<User>>,
    query: Vec<(String, String)>,
    wants_keys: bool,
    known: Option<String>,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Head {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let caller = caller(request).and_then(|user| allows::<Query>(&user).map(|()| user));
        if let Err(error) = &caller {
            tracing::warn!(path = request.uri().path().as_str(), why = error.message, "a call was refused");
        }
        let delegation = request.headers().get_one("X-Iceberg-Access-Delegation").unwrap_or_default();
        let known = request.headers().get_one("If-None-Match").map(|tag| {
            let tag = tag.trim().trim_start_matches("W/").trim_matches('"');
            RawStr::new(tag).percent_decode_lossy().into_owned()
        });
        Outcome::Success(Head {
            caller,
            query: request.query_fields().map(|field| (field.name.to_string(), field.value.to_owned())).collect(),
            wants_keys: delegation.split(',').any(|way| way.trim() == "vended-credentials"),
            known,
        })
    }
}

struct Parts(Vec<String>);

impl<'r> FromSegments<'r> for Parts {
    type Error = std::convert::Infallible;

    fn from_segments(segments: Segments<'r, Path>) -> std::result::Result<Self, Self::Error> {
        Ok(Parts(segments.map(str::to_owned).collect()))
    }
}

async fn answered(service: &State, head: Head, prefix: &str, parts: Parts, verb: Verb, body: Json) -> Reply {
    let Head { caller, query, wants_keys, known } = head;
    let call = CatalogCall { verb, path: parts.0, query, body, wants_keys, known };
    let answer = match caller {
        Ok(user) => service.engine.serve_catalog(&user.asker(), prefix, call).await,
        Err(error) => Err(error),
    };
    Reply(answer.unwrap_or_else(|error| told(&error)))
}

/// Which catalog is meant, and what can be called.
#[get("/config?<warehouse>")]
fn config(service: &State, head: Head, warehouse: Option<&str>) -> Reply {
    let prefix = head.caller.and_then(|user| service.engine.lake_catalog(&user.asker(), warehouse));
    Reply(match prefix {
        Ok(prefix) => CatalogAnswer::of(json!({
            "defaults": {}, "overrides": { "prefix": prefix }, "endpoints": CALLS,
        })),
        Err(error) => told(&error),
    })
}

#[derive(FromForm)]
struct TokenForm<'r> {
    grant_type: &'r str,
    client_id: Option<&'r str>,
    client_secret: Option<&'r str>,
}

/// Gives whoever has a token the token (RFC 6749, section 4.4): the client is the user, its secret the token.
#[post("/oauth/tokens", data = "<form>")]
fn token(service: &State, form: Option<Form<TokenForm<'_>>>) -> Reply {
    let refused = |error: &str, what: &str| {
        let body = json!({ "error": error, "error_description": what });
        Reply(CatalogAnswer {
            status: if error == "invalid_client" { 401 } else { 400 },
            body: Some(body),
            state: None,
        })
    };
    let Some(form) = form else { return refused("invalid_request", "grant_type and client_secret are expected") };
    if form.grant_type != "client_credentials" {
        return refused("unsupported_grant_type", "the grant_type is client_credentials");
    }
    let secret = form.client_secret.unwrap_or_default();
    let named = form.client_id.filter(|name| !name.is_empty());
    match service.users.of_secret(secret) {
        Ok(user) if named.is_none_or(|name| name == user.name) => Reply(CatalogAnswer::of(json!({
            "access_token": secret,
            "token_type": "bearer",
            "issued_token_type": "urn:ietf:params:oauth:token-type:access_token",
        }))),
        _ => refused("invalid_client", "the client is a user of this service, and its secret the user's token"),
    }
}

#[get("/<prefix>/<parts..>", rank = 5)]
async fn read(service: &State, head: Head, prefix: &str, parts: Parts) -> Reply {
    answered(service, head, prefix, parts, Verb::Get, Json::Null).await
}

#[head("/<prefix>/<parts..>", rank = 5)]
async fn look(service: &State, head: Head, prefix: &str, parts: Parts) -> Reply {
    answered(service, head, prefix, parts, Verb::Head, Json::Null).await
}

#[post("/<prefix>/<parts..>", data = "<body>", rank = 5)]
async fn change(service: &State, head: Head, prefix: &str, parts: Parts, body: Body<Json>) -> Reply {
    // Who may not call is told so first.
    let body = match (&head.caller, body.taken()) {
        (Ok(_), Err(error)) => return Reply(told(&error)),
        (_, body) => body.unwrap_or_default(),
    };
    answered(service, head, prefix, parts, Verb::Post, body).await
}

#[delete("/<prefix>/<parts..>", rank = 5)]
async fn remove(service: &State, head: Head, prefix: &str, parts: Parts) -> Reply {
    answered(service, head, prefix, parts, Verb::Delete, Json::Null).await
}

pub fn routes() -> Vec<Route> {
    routes![config, token, read, look, change, remove]
}
