//! Bodies of requests: bounded one by one and together, and read within a time. Who sends more, or slowly, keeps nobody else out.

use std::sync::LazyLock;
use std::time::Duration;

use cobble_types::{Code, Error, Result};
use rocket::data::{Data, FromData, Outcome, ToByteUnit};
use rocket::request::Request;
use serde::de::DeserializeOwned;
use tokio::sync::Semaphore;
use tokio::time::timeout;

use super::errors::ApiError;
use crate::line::COME_AGAIN;

/// MiB of one body: room for the longest statement.
const MOST: u64 = 80;
/// KiB of all bodies that are being read or answered.
const TOGETHER: u32 = 256 << 10;
/// How long a body waits for room, and how long it may take to come.
const ROOM_WAIT: Duration = Duration::from_secs(10);
const TIME: Duration = Duration::from_secs(60);

static ROOM: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(TOGETHER as usize));

/// A body in JSON, or why it is none.
pub struct Body<T>(Result<T>);

impl<T> Body<T> {
    pub fn read(self) -> std::result::Result<T, ApiError> {
        self.0.map_err(ApiError)
    }

    pub fn taken(self) -> Result<T> {
        self.0
    }
}

#[rocket::async_trait]
impl<'r, T: DeserializeOwned + Send> FromData<'r> for Body<T> {
    type Error = std::convert::Infallible;

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        Outcome::Success(Body(given(request, data).await))
    }
}

async fn given<T: DeserializeOwned>(request: &Request<'_>, data: Data<'_>) -> Result<T> {
    let too_large = || Error::new(Code::TooComplex, format!("the request's body is larger than {MOST} MiB"));
    let unreadable = |what: String| Error::new(Code::BadSetting, format!("the request's body {what}"));
    let said = request.headers().get_one("Content-Length").and_then(|length| length.parse::<u64>().ok());
    let bytes = said.unwrap_or(MOST << 20);
    if bytes > MOST << 20 {
        return Err(too_large());
    }
    let size = u32::try_from(bytes >> 10).unwrap_or(TOGETHER).clamp(1, TOGETHER);
    let Ok(Ok(_room)) = timeout(ROOM_WAIT, ROOM.acquire_many(size)).await else {
        return Err(Error::new(Code::Busy, "too much is being sent to the service at the same time")
            .hint(format!("try again in {COME_AGAIN} seconds")));
    };
    let body = timeout(TIME, data.open(MOST.mebibytes()).into_bytes()).await;
    let body = body.map_err(|_| unreadable(format!("has not come within {} seconds", TIME.as_secs())))?;
    let body = body.map_err(|error| unreadable(format!("cannot be read: {error}")))?;
    if !body.is_complete() {
        return Err(too_large());
    }
    serde_json::from_slice(&body).map_err(|error| unreadable(format!("is not what is expected: {error}")))
}
