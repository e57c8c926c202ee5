//! Errors over HTTP: one shape for all, those of the web framework included.

use cobble_types::{Code, Error};
use rocket::http::{ContentType, Header, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::serde::json::Json;
use rocket::{Catcher, catch, catchers};

use super::access::Refused;
use crate::line::COME_AGAIN;
use cobble_api::ErrorBody;

pub struct ApiError(pub Error);

pub type ApiResult<T> = Result<Json<T>, ApiError>;

impl From<Error> for ApiError {
    fn from(error: Error) -> Self {
        ApiError(error)
    }
}

fn status(code: Code) -> Status {
    match code {
        Code::Syntax
        | Code::UnknownName
        | Code::UnknownTable
        | Code::UnknownSchema
        | Code::UnknownCatalog
        | Code::UnknownFunction
        | Code::UnknownType
        | Code::UnknownParameter
        | Code::UnknownStatement
        | Code::UnknownObject
        | Code::AmbiguousName
        | Code::TypeMismatch
        | Code::Grouping
        | Code::Unsupported
        | Code::InvalidValue
        | Code::InvalidText
        | Code::InvalidTime
        | Code::InvalidRegex
        | Code::InvalidLogarithm
        | Code::InvalidPower
        | Code::InvalidNtile
        | Code::InvalidNthValue
        | Code::InvalidKey
        | Code::WrongKind
        | Code::DuplicateAlias
        | Code::DuplicateColumn
        | Code::WindowPlace
        | Code::InvalidRecursion
        | Code::CannotCast
        | Code::TimeOutOfRange
        | Code::SubstringLength
        | Code::LimitCount
        | Code::OffsetCount
        | Code::EscapeSequence
        | Code::EscapeCharacter
        | Code::FrameDistance
        | Code::JsonMember
        | Code::JsonNoObject
        | Code::JsonNoArray
        | Code::JsonPlace
        | Code::JsonNoNumber
        | Code::JsonOperand
        | Code::JsonNotOne
        | Code::ArraySubscript
        | Code::NullNotAllowed
        | Code::SampleShare
        | Code::WidthBucket
        | Code::Cardinality
        | Code::DivisionByZero
        | Code::Overflow
        | Code::ScriptFailed
        | Code::TooComplex
        | Code::BadSetting => Status::BadRequest,
        Code::NotFound => Status::NotFound,
        Code::NotSignedIn => Status::Unauthorized,
        Code::NotAllowed => Status::Forbidden,
        Code::AlreadyExists | Code::InUse | Code::Conflict | Code::Cancelled => Status::Conflict,
        Code::SourceUnreachable | Code::SourceSignIn | Code::SourceRefused | Code::SourceData | Code::InDoubt => {
            Status::BadGateway
        }
        Code::SourceTimeout => Status::GatewayTimeout,
        Code::MemoryLimit | Code::Busy | Code::TimeLimit | Code::Storage => Status::ServiceUnavailable,
        Code::Internal => Status::InternalServerError,
    }
}

impl<'r> Responder<'r, 'static> for ApiError {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let body = serde_json::to_vec(&ErrorBody::from(&self.0)).unwrap_or_default();
        let mut response = Response::build();
        if self.0.code == Code::Busy {
            response.header(Header::new("Retry-After", COME_AGAIN.to_string()));
        }
        response
            .status(status(self.0.code))
            .header(ContentType::JSON)
            .sized_body(body.len(), std::io::Cursor::new(body))
            .ok()
    }
}

/// A body of the engine's own form, or the other way round: both have the same names.
pub fn same_form<A: serde::Serialize, B: serde::de::DeserializeOwned>(value: &A) -> Result<B, ApiError> {
    let same = serde_json::to_value(value).and_then(serde_json::from_value);
    same.map_err(|e| Error::new(Code::BadSetting, format!("the request's body is not what is expected: {e}")).into())
}

pub fn not_found(what: &str, name: &str) -> ApiError {
    Error::new(Code::NotFound, format!("there is no {what} \"{name}\"")).into()
}

#[catch(default)]
fn any(status: Status, request: &Request<'_>) -> ApiError {
    let path = request.uri().path();
    if let Some(Refused(error)) = request.local_cache(|| None::<Refused>) {
        return ApiError(error.clone());
    }
    let error = match status.code {
        404 => Error::new(Code::NotFound, format!("there is nothing at {path}"))
            .hint("the calls are described at /api/v1/openapi.json"),
        413 => Error::new(Code::BadSetting, "the request's body is too large"),
        code @ 400..500 => Error::new(Code::BadSetting, format!("{path}: {} ({code})", status.reason_lossy())),
        _ => Error::internal(format!("{path} could not be answered")),
    };
    ApiError(error)
}

pub fn catchers() -> Vec<Catcher> {
    catchers![any]
}
