//! Who may call. Each call names its action by the guard that it takes; the guard lets nobody pass without a sign-in, and only those
//! whom the action is for.

use std::marker::PhantomData;
use std::ops::Deref;
use std::sync::Arc;

use cobble_types::{Code, Error, Result};
use rocket::http::{Method, Status};
use rocket::request::{FromRequest, Outcome, Request};

use crate::service::Service;
use crate::users::User;

/// What a call does.
pub trait Action: Send + Sync + 'static {
    /// As in "may not …".
    const WHAT: &'static str;
    const IS_FOR_ADMINISTRATORS: bool;
}

macro_rules! actions {
    ($($name:ident = $what:literal, $administrators:literal;)*) => {
        $(
            pub struct $name;

            impl Action for $name {
                const WHAT: &'static str = $what;
                const IS_FOR_ADMINISTRATORS: bool = $administrators;
            }
        )*
    };
}

actions! {
    SignedIn = "see who is signed in", false;
    Query = "run statements", false;
    Browse = "look at catalogs", false;
    OwnCredentials = "change their credentials", false;
    ChangeUsers = "see or change users", true;
    ChangeConnections = "change connections", true;
    ChangeCatalogs = "change catalogs", true;
    ChangeConfiguration = "read or change the configuration", true;
}

/// A user who may do this.
pub struct By<A> {
    user: Arc<User>,
    action: PhantomData<fn() -> A>,
}

impl<A> Deref for By<A> {
    type Target = User;

    fn deref(&self) -> &User {
        &self.user
    }
}

impl<A> By<A> {
    pub fn user(&self) -> Arc<User> {
        self.user.clone()
    }
}

/// Whether the user may do this.
pub fn allows<A: Action>(user: &User) -> Result<()> {
    if A::IS_FOR_ADMINISTRATORS { user.asker().administers(A::WHAT) } else { Ok(()) }
}

/// The secret that a call carries as `Authorization: Bearer …` (RFC 6750): a token, or that of a browser's sign-in.
pub fn bearer<'r>(request: &'r Request<'_>) -> Option<&'r str> {
    let header = request.headers().get_one("Authorization")?;
    header.split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer")).map(|(_, secret)| secret.trim())
}

/// Who makes a call.
pub fn caller(request: &Request<'_>) -> Result<Arc<User>> {
    let service = request.rocket().state::<Arc<Service>>().ok_or_else(|| Error::internal("no service"))?;
    if let Some(secret) = bearer(request) {
        return service.users.of_secret(secret);
    }
    if let Some(Ok(ticket)) = request.query_value::<&str>("ticket")
        && request.method() == Method::Get
    {
        return service.users.of_ticket(ticket, request.uri().path().as_str());
    }
    Err(Error::new(Code::NotSignedIn, "nobody is signed in")
        .hint("the console is opened by the link that \"cobble up\" or \"cobble access link\" prints; the command takes a token from COBBLE_TOKEN"))
}

/// Why a guard let a call not pass, for the answer.
#[derive(Clone)]
pub struct Refused(pub Error);

#[rocket::async_trait]
impl<'r, A: Action> FromRequest<'r> for By<A> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let allowed = caller(request).and_then(|user| allows::<A>(&user).map(|()| user));
        match allowed {
            Ok(user) => {
                let path = request.uri().path().as_str();
                let method = request.method().as_str();
                match A::IS_FOR_ADMINISTRATORS && request.method() != Method::Get {
                    true => tracing::info!(
                        user = user.name,
                        action = A::WHAT,
                        method,
                        path,
                        "a call that changes something"
                    ),
                    false => tracing::debug!(user = user.name, action = A::WHAT, method, path, "a call"),
                }
                Outcome::Success(By { user, action: PhantomData })
            }
            Err(error) => {
                let path = request.uri().path().as_str();
                tracing::warn!(path, action = A::WHAT, why = error.message, "a call was refused");
                let status = match error.code {
                    Code::NotAllowed => Status::Forbidden,
                    Code::NotSignedIn => Status::Unauthorized,
                    _ => Status::InternalServerError,
                };
                request.local_cache(|| Some(Refused(error)));
                Outcome::Error((status, ()))
            }
        }
    }
}

/// Refuses what belongs to somebody else.
pub fn owned(what: &str, owner: Option<i64>, caller: &User) -> Result<()> {
    match owner == Some(caller.id) {
        true => Ok(()),
        false => Err(Error::new(Code::NotAllowed, format!("{what} belongs to another user"))
            .hint("sign in as that user: the run used the user's own credentials")),
    }
}

/// Refuses what belongs to somebody else, unless an administrator asks.
pub fn known_to(what: &str, owner: Option<i64>, caller: &User) -> Result<()> {
    if caller.is_administrator() { Ok(()) } else { owned(what, owner, caller) }
}
