//! Connections over HTTP: kinds with their settings, add, show without secret, test in steps, remove.

use std::sync::Arc;

use cobble_connect::{COMMON, ConnectionDefinition, Credentials, Kind, Secret, TestStep};
use cobble_engine::{Asker, KINDS, OpenConnection};
use cobble_types::{Code, Error};
use rocket::response::stream::{Event, EventStream};
use rocket::serde::json::Json;
use rocket::{delete, get, post, put};

use super::State;
use super::access::{Browse, By, ChangeConnections, ChangeUsers, OwnCredentials, allows};
use super::body::Body;
use super::errors::{ApiError, ApiResult};
use crate::users::User;
use cobble_api::{
    ConnectionBody, CredentialsBody, DependentsBody, ErrorBody, KindBody, NewConnectionBody, NewCredentialsBody,
    SettingBody, TestStepBody,
};

fn connection_body(definition: &ConnectionDefinition) -> ConnectionBody {
    ConnectionBody {
        closed: None,
        forgotten: vec![],
        name: definition.name.clone(),
        kind: definition.kind.clone(),
        address: definition.address.clone(),
        database: definition.database.clone(),
        user: definition.user.clone(),
        region: definition.region.clone(),
        options: definition.options.clone(),
        has_secret: definition.secret.is_some(),
        credentials: definition
            .credentials
            .iter()
            .map(|(user, own)| (user.clone(), CredentialsBody { user: own.user.clone() }))
            .collect(),
    }
}

fn open_body(open: &OpenConnection) -> ConnectionBody {
    ConnectionBody { closed: open.closed.as_ref().map(|why| why.message.clone()), ..connection_body(&open.definition) }
}

fn definition(given: NewConnectionBody) -> ConnectionDefinition {
    // A form's empty field means that the setting is not given.
    let filled = |text: Option<String>| text.filter(|t| !t.trim().is_empty());
    let c = given.connection;
    ConnectionDefinition {
        name: c.name,
        kind: c.kind,
        address: c.address,
        database: filled(c.database),
        user: filled(c.user),
        secret: filled(given.secret).map(Secret::new),
        region: filled(c.region),
        options: c.options.into_iter().filter(|(_, v)| !v.trim().is_empty()).collect(),
        // They are put one by one, as each has a secret of its own.
        credentials: Default::default(),
    }
}

fn step_body(step: TestStep) -> TestStepBody {
    TestStepBody {
        step: step.step,
        passed: step.passed,
        detail: step.detail,
        setting: step.setting,
        fix: step.fix,
        seconds: step.seconds,
    }
}

fn find(service: &State, name: &str) -> Result<Arc<OpenConnection>, ApiError> {
    let set = service.engine.set();
    match set.connections.get(name) {
        Some(connection) => Ok(connection.clone()),
        None => {
            let mut error = Error::unknown("connection", name, set.connections.keys().map(String::as_str));
            error.code = cobble_types::Code::NotFound;
            Err(error.into())
        }
    }
}

/// Every kind of connection with the settings it takes.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<KindBody>)))]
#[get("/kinds")]
pub fn kinds(_caller: By<Browse>) -> Json<Vec<KindBody>> {
    Json(described_kinds())
}

pub fn described_kinds() -> Vec<KindBody> {
    let setting = |s: &'static str| s.to_owned();
    let described = |kind: &Kind| KindBody {
        kind: setting(kind.kind),
        about: setting(kind.about),
        settings: kind
            .settings
            .iter()
            .chain(COMMON)
            .map(|s| SettingBody {
                name: setting(s.name),
                label: setting(s.label),
                help: setting(s.help),
                required: s.required,
                secret: s.secret,
                default: kind.default_of(s),
            })
            .collect(),
    };
    KINDS.all().map(described).collect()
}

/// All connections, without their secrets.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<ConnectionBody>)))]
#[get("/connections")]
pub fn list(service: &State, _caller: By<Browse>) -> Json<Vec<ConnectionBody>> {
    Json(listed(service))
}

fn listed(service: &State) -> Vec<ConnectionBody> {
    service.engine.set().connections.values().map(|open| open_body(open)).collect()
}

/// Adds a connection. Nothing is contacted; test it to know that it works.
#[utoipa::path(context_path = "/api/v1", request_body = NewConnectionBody, responses((status = 200, body = ConnectionBody), (status = 400, body = ErrorBody)))]
#[post("/connections", format = "json", data = "<given>")]
pub async fn add(
    service: &State,
    _caller: By<ChangeConnections>,
    given: Body<NewConnectionBody>,
) -> ApiResult<ConnectionBody> {
    let definition = definition(given.read()?);
    let shown = connection_body(&definition);
    service.add_connection(definition).await?;
    Ok(Json(shown))
}

/// One connection, without its secret.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = ConnectionBody), (status = 404, body = ErrorBody)))]
#[get("/connections/<name>")]
pub fn show(service: &State, _caller: By<Browse>, name: &str) -> ApiResult<ConnectionBody> {
    Ok(Json(open_body(find(service, name)?.as_ref())))
}

/// Puts a definition in the place of a connection's own; queries that run go on with the old one. Without a secret it keeps the one it
/// has, and it keeps those of users, unless they would go elsewhere than they were given for: with another kind, address, user or other
/// settings of TLS the stored secrets are dropped, and the answer says which.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), request_body = NewConnectionBody, responses((status = 200, body = ConnectionBody), (status = 400, body = ErrorBody), (status = 404, body = ErrorBody)))]
#[put("/connections/<name>", format = "json", data = "<given>")]
pub async fn change(
    service: &State,
    _caller: By<ChangeConnections>,
    name: &str,
    given: Body<NewConnectionBody>,
) -> ApiResult<ConnectionBody> {
    let mut wanted = definition(given.read()?);
    wanted.name = name.to_owned();
    let mut forgotten = Vec::new();
    let changed = service.change_connection(name, |before| {
        forgotten = wanted.keep_secrets_of(before);
        Ok(wanted)
    });
    let changed = changed.await?;
    Ok(Json(ConnectionBody { forgotten, ..connection_body(&changed) }))
}

/// Keeps what a user of the service signs in with there, in the place of what was before.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path), ("user" = String, Path)), request_body = NewCredentialsBody, responses((status = 200, body = ConnectionBody), (status = 400, body = ErrorBody), (status = 404, body = ErrorBody)))]
#[put("/connections/<name>/credentials/<user>", format = "json", data = "<given>")]
pub async fn put_credentials(
    service: &State,
    caller: By<OwnCredentials>,
    name: &str,
    user: &str,
    given: Body<NewCredentialsBody>,
) -> ApiResult<ConnectionBody> {
    if user != caller.name {
        allows::<ChangeUsers>(&caller)?;
    }
    let given = given.read()?;
    let own = Credentials { user: given.user.filter(|own| !own.is_empty()), secret: Some(Secret::new(given.secret)) };
    let changed = service.change_connection(name, |before| {
        // A name that nobody has could be given to anybody later.
        service.users.named(user)?;
        let mut next = before.clone();
        next.credentials.insert(user.to_owned(), own);
        Ok(next)
    });
    Ok(Json(connection_body(&changed.await?)))
}

/// Forgets what a user signs in with there.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path), ("user" = String, Path)), responses((status = 200, body = ConnectionBody), (status = 404, body = ErrorBody)))]
#[delete("/connections/<name>/credentials/<user>")]
pub async fn drop_credentials(
    service: &State,
    caller: By<OwnCredentials>,
    name: &str,
    user: &str,
) -> ApiResult<ConnectionBody> {
    if user != caller.name {
        allows::<ChangeUsers>(&caller)?;
    }
    let changed = service.change_connection(name, |before| {
        let mut next = before.clone();
        match next.credentials.remove(user) {
            Some(_) => Ok(next),
            None => {
                let what = format!("user {user} has no credentials of their own for connection {name}");
                Err(Error::new(Code::NotFound, what))
            }
        }
    });
    Ok(Json(connection_body(&changed.await?)))
}

/// The definition with a user's credentials, where there are some.
fn find_for(service: &State, name: &str, user: &User) -> Result<ConnectionDefinition, ApiError> {
    let open = find(service, name)?;
    match &open.closed {
        Some(why) => Err(why.clone().into()),
        None => Ok(open.definition.of_user(&user.name).unwrap_or_else(|| open.definition.clone())),
    }
}

/// Tests a connection step by step, as who calls signs in; a failed step is the last.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = Vec<TestStepBody>), (status = 404, body = ErrorBody)))]
#[post("/connections/<name>/test")]
pub async fn test(service: &State, caller: By<Browse>, name: &str) -> ApiResult<Vec<TestStepBody>> {
    run_test(service, &caller.asker(), find_for(service, name, &caller)?).await
}

/// The same as server-sent events, each step as soon as it is known, then `end`.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, content_type = "text/event-stream", body = TestStepBody)))]
#[get("/connections/<name>/test/events")]
pub fn test_events(service: &State, caller: By<Browse>, name: &str) -> Result<EventStream![Event], ApiError> {
    let definition = find_for(service, name, &caller)?;
    let (sender, mut steps) = tokio::sync::mpsc::unbounded_channel();
    let (engine, asker) = (service.engine.clone(), caller.asker());
    tokio::spawn(async move {
        let mut report = |step: TestStep| {
            let _ = sender.send(step_body(step));
        };
        engine.test_connection(&definition, &asker, &mut report).await
    });
    Ok(EventStream! {
        while let Some(step) = steps.recv().await {
            yield Event::json(&step).event("step");
        }
        yield Event::data("").event("end");
    })
}

/// Tests a definition that has not been added.
#[utoipa::path(context_path = "/api/v1", request_body = NewConnectionBody, responses((status = 200, body = Vec<TestStepBody>), (status = 400, body = ErrorBody)))]
#[post("/tests", format = "json", data = "<given>")]
pub async fn test_new(
    service: &State,
    caller: By<ChangeConnections>,
    given: Body<NewConnectionBody>,
) -> ApiResult<Vec<TestStepBody>> {
    run_test(service, &caller.asker(), definition(given.read()?)).await
}

async fn run_test(service: &State, asker: &Asker, definition: ConnectionDefinition) -> ApiResult<Vec<TestStepBody>> {
    let mut steps = Vec::new();
    let mut report = |step: TestStep| steps.push(step_body(step));
    service.engine.test_connection(&definition, asker, &mut report).await?;
    Ok(Json(steps))
}

/// Removes a connection that no catalog uses.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = Vec<ConnectionBody>), (status = 409, body = ErrorBody)))]
#[delete("/connections/<name>")]
pub async fn remove(service: &State, _caller: By<ChangeConnections>, name: &str) -> ApiResult<Vec<ConnectionBody>> {
    find(service, name)?;
    service.remove_connection(name).await?;
    Ok(Json(listed(service)))
}

/// What depends on a connection.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = DependentsBody), (status = 404, body = ErrorBody)))]
#[get("/connections/<name>/dependents")]
pub fn dependents(service: &State, _caller: By<Browse>, name: &str) -> ApiResult<DependentsBody> {
    find(service, name)?;
    let set = service.engine.set();
    let users = set.catalogs.values().filter(|catalog| catalog.connection == name);
    Ok(Json(DependentsBody {
        blocking: users.map(|catalog| format!("catalog {}", catalog.name)).collect(),
        lost: vec![],
    }))
}
