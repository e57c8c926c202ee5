//! Signing in, and users over HTTP.

use chrono::{Duration, Utc};
use cobble_types::{Code, Error, Result};
use rocket::request::{FromRequest, Outcome, Request};
use rocket::serde::json::Json;
use rocket::{delete, get, post, put};

use super::State;
use super::access::{By, ChangeUsers, SignedIn, bearer};
use super::body::Body;
use super::errors::ApiResult;
use crate::users::Role;
use cobble_api::{
    CallerBody, ChangeUserBody, ErrorBody, LinkBody, NewTokenBody, NewUserBody, SignInBody, SignedInBody, TicketBody,
    UserBody, WantedTicketBody, WantedTokenBody,
};

/// The moment so many seconds from now.
fn expiry(seconds: Option<u64>) -> Result<Option<chrono::DateTime<Utc>>> {
    let Some(seconds) = seconds else { return Ok(None) };
    let span = i64::try_from(seconds).ok().and_then(Duration::try_seconds);
    let at = span.and_then(|span| Utc::now().checked_add_signed(span));
    at.map(Some).ok_or_else(|| Error::new(Code::BadSetting, format!("{seconds} s from now is no date")))
}

/// Who calls.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = CallerBody), (status = 401, body = ErrorBody)))]
#[get("/caller")]
pub fn caller(caller: By<SignedIn>) -> Json<CallerBody> {
    Json(CallerBody { user: caller.name.clone(), role: caller.role.word().to_owned() })
}

/// Signs a browser in by a token or by the code of a link. It shows the answer's secret from then on, as other clients do their token.
#[utoipa::path(context_path = "/api/v1", request_body = SignInBody, responses((status = 200, body = SignedInBody), (status = 401, body = ErrorBody)))]
#[post("/caller", format = "json", data = "<given>")]
pub fn sign_in(service: &State, given: Body<SignInBody>) -> ApiResult<SignedInBody> {
    let given = given.read()?;
    let (user, secret) = service.users.sign_in(given.token.as_deref().map(str::trim), given.code.as_deref())?;
    Ok(Json(SignedInBody { user: user.name.clone(), role: user.role.word().to_owned(), secret }))
}

/// What a call shows.
pub struct Bearer(String);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Bearer {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        Outcome::Success(Bearer(bearer(request).unwrap_or_default().to_owned()))
    }
}

/// Ends the sign-in of a browser. A token stays as it is.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = CallerBody), (status = 401, body = ErrorBody)))]
#[delete("/caller")]
pub fn sign_out(service: &State, caller: By<SignedIn>, shown: Bearer) -> Json<CallerBody> {
    service.users.sign_out(&shown.0);
    self::caller(caller)
}

/// A code that signs a browser in as who calls; it serves once. The console takes it from the fragment of its address: `/#code=…`.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = LinkBody), (status = 401, body = ErrorBody)))]
#[post("/links")]
pub fn link(service: &State, caller: By<SignedIn>) -> Json<LinkBody> {
    Json(LinkBody { code: service.users.link(&caller) })
}

/// A ticket that stands for who calls in one GET of a path, as `?ticket=…`, within a minute: for downloads, which a browser begins
/// without headers.
#[utoipa::path(context_path = "/api/v1", request_body = WantedTicketBody, responses((status = 200, body = TicketBody), (status = 401, body = ErrorBody)))]
#[post("/tickets", format = "json", data = "<given>")]
pub fn ticket(service: &State, caller: By<SignedIn>, given: Body<WantedTicketBody>) -> ApiResult<TicketBody> {
    Ok(Json(TicketBody { ticket: service.users.ticket(&caller, &given.read()?.path) }))
}

/// All users.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<UserBody>), (status = 403, body = ErrorBody)))]
#[get("/users")]
pub fn list(service: &State, _caller: By<ChangeUsers>) -> Json<Vec<UserBody>> {
    Json(listed(service))
}

fn listed(service: &State) -> Vec<UserBody> {
    let all = service.users.all().into_iter().map(|listed| UserBody {
        name: listed.user.name.clone(),
        role: listed.user.role.word().to_owned(),
        expires_at: listed.expires_at.map(|at| at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true)),
    });
    all.collect()
}

/// Adds a user. The answer has the token, which is not stored and never shown again.
#[utoipa::path(context_path = "/api/v1", request_body = NewUserBody, responses((status = 200, body = NewTokenBody), (status = 403, body = ErrorBody), (status = 409, body = ErrorBody)))]
#[post("/users", format = "json", data = "<given>")]
pub async fn add(service: &State, _caller: By<ChangeUsers>, given: Body<NewUserBody>) -> ApiResult<NewTokenBody> {
    let given = given.read()?;
    let role = given.role.as_deref().map_or(Ok(Role::User), Role::parse)?;
    let token = service.users.add(&given.name, role, expiry(given.expires_in)?).await?;
    Ok(Json(NewTokenBody { name: given.name, token }))
}

/// Changes what a user may do, or how long their token is good.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), request_body = ChangeUserBody, responses((status = 200, body = Vec<UserBody>), (status = 404, body = ErrorBody), (status = 409, body = ErrorBody)))]
#[put("/users/<name>", format = "json", data = "<given>")]
pub async fn change(
    service: &State,
    _caller: By<ChangeUsers>,
    name: &str,
    given: Body<ChangeUserBody>,
) -> ApiResult<Vec<UserBody>> {
    let given = given.read()?;
    let role = given.role.as_deref().map(Role::parse).transpose()?;
    let expires_at = match (given.expires_in, given.never_expires) {
        (None, false) => None,
        (seconds, false) => Some(expiry(seconds)?),
        (None, true) => Some(None),
        (Some(_), true) => return Err(Error::new(Code::BadSetting, "a token expires or does not").into()),
    };
    service.users.set(name, role, expires_at).await?;
    if role.is_some() {
        // Their sessions were begun with what they might do then.
        service.sessions.end_all_of(service.users.named(name)?.id);
    }
    Ok(Json(listed(service)))
}

/// Gives a user another token; the one before, and the user's browsers, are no longer signed in.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), request_body = WantedTokenBody, responses((status = 200, body = NewTokenBody), (status = 404, body = ErrorBody)))]
#[post("/users/<name>/token", format = "json", data = "<given>")]
pub async fn renew(
    service: &State,
    _caller: By<ChangeUsers>,
    name: &str,
    given: Body<WantedTokenBody>,
) -> ApiResult<NewTokenBody> {
    let token = service.users.renew(name, expiry(given.read()?.expires_in)?).await?;
    Ok(Json(NewTokenBody { name: name.to_owned(), token }))
}

/// Removes a user with everything that is theirs: token, credentials, statistics, sessions and results. Their runs are cancelled.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = Vec<UserBody>), (status = 404, body = ErrorBody), (status = 409, body = ErrorBody)))]
#[delete("/users/<name>")]
pub async fn remove(service: &State, _caller: By<ChangeUsers>, name: &str) -> ApiResult<Vec<UserBody>> {
    service.drop_user(name).await?;
    Ok(Json(listed(service)))
}
