//! Who calls, and users over HTTP. A call carries its token as `Authorization: Bearer …` (RFC 6750), or as the cookie that signing in
//! sets for a browser.

use std::sync::Arc;

use cobble_types::{Code, Error};
use rocket::http::{Cookie, CookieJar, SameSite, Status};
use rocket::request::{FromRequest, Outcome, Request};
use rocket::serde::json::Json;
use rocket::{delete, get, post};

use super::State;
use super::errors::{ApiResult, body};
use crate::service::Service;
use cobble_api::{CallerBody, ErrorBody, NewTokenBody, NewUserBody, TokenBody};

const COOKIE: &str = "cobble_token";

/// The user who makes a call; none when no token is shown.
pub struct Caller(pub Option<String>);

impl Caller {
    pub fn name(&self) -> Option<&str> {
        self.0.as_deref()
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Caller {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let header =
            request.headers().get_one("Authorization").map(|words| words.strip_prefix("Bearer ").unwrap_or(""));
        let cookie = request.cookies().get(COOKIE).map(Cookie::value);
        let Some(token) = header.or(cookie) else { return Outcome::Success(Caller(None)) };
        let known = request.rocket().state::<Arc<Service>>().and_then(|service| service.users.of_token(token).ok());
        match known {
            Some(name) => Outcome::Success(Caller(Some(name))),
            None => Outcome::Error((Status::Unauthorized, ())),
        }
    }
}

/// Who calls.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = CallerBody), (status = 401, body = ErrorBody)))]
#[get("/caller")]
pub fn caller(caller: Caller) -> Json<CallerBody> {
    Json(CallerBody { user: caller.0 })
}

/// Signs a browser in with a token, which it then shows by itself.
#[utoipa::path(context_path = "/api/v1", request_body = TokenBody, responses((status = 200, body = CallerBody), (status = 401, body = ErrorBody)))]
#[post("/caller", format = "json", data = "<given>")]
pub fn sign_in(
    service: &State,
    cookies: &CookieJar<'_>,
    given: Result<Json<TokenBody>, rocket::serde::json::Error<'_>>,
) -> ApiResult<CallerBody> {
    let token = body(given)?.token;
    let user = service.users.of_token(token.trim())?;
    let cookie = Cookie::build((COOKIE, token.trim().to_owned())).http_only(true).same_site(SameSite::Strict).path("/");
    cookies.add(cookie.build());
    Ok(Json(CallerBody { user: Some(user) }))
}

/// Lets a browser forget its token.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = CallerBody)))]
#[delete("/caller")]
pub fn sign_out(cookies: &CookieJar<'_>) -> Json<CallerBody> {
    cookies.remove(Cookie::build(COOKIE).path("/"));
    Json(CallerBody { user: None })
}

/// The names of all users.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<String>)))]
#[get("/users")]
pub fn list(service: &State) -> Json<Vec<String>> {
    Json(service.users.names())
}

/// Adds a user. The answer has the token, which is not stored and never shown again.
#[utoipa::path(context_path = "/api/v1", request_body = NewUserBody, responses((status = 200, body = NewTokenBody), (status = 409, body = ErrorBody)))]
#[post("/users", format = "json", data = "<given>")]
pub async fn add(
    service: &State,
    given: Result<Json<NewUserBody>, rocket::serde::json::Error<'_>>,
) -> ApiResult<NewTokenBody> {
    let name = body(given)?.name;
    let token = service.users.add(&name).await?;
    Ok(Json(NewTokenBody { name, token }))
}

/// Removes a user: the token opens nothing from now on. Credentials for the name stay with their connections.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = Vec<String>), (status = 404, body = ErrorBody)))]
#[delete("/users/<name>")]
pub async fn remove(service: &State, name: &str) -> ApiResult<Vec<String>> {
    service.users.remove(name).await?;
    Ok(list(service))
}

/// Refuses what belongs to somebody else.
pub fn owned(what: &str, owner: Option<&str>, caller: &Caller) -> Result<(), Error> {
    match owner {
        Some(owner) if caller.name() != Some(owner) => {
            Err(Error::new(Code::NotAllowed, format!("{what} belongs to another user"))
                .hint("sign in as that user: the run used the user's own credentials"))
        }
        _ => Ok(()),
    }
}
