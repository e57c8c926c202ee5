//! The service over HTTP.

use arrow::array::RecordBatch;
use arrow::buffer::Buffer;
use arrow::datatypes::DataType;
use arrow::ipc::reader::StreamDecoder;
use cobble_api::{ErrorBody, RunBody, StatementBody};
use cobble_engine::PlanDocument;
use cobble_network::local_access;
use cobble_types::{Code, Error, Position};
use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::{Common, Failure, Outcome};

#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    base: String,
    token: Option<String>,
}

/// The error that a body carries.
pub fn error_of(body: &ErrorBody) -> Error {
    let code = serde_json::from_value(serde_json::Value::String(body.code.clone())).unwrap_or(Code::Internal);
    Error {
        code,
        message: body.message.clone(),
        position: body.position.map(|p| Position { line: p.line, column: p.column }),
        hint: body.hint.clone(),
    }
}

/// The port of an address that is one of this machine's own.
fn loopback_port(base: &str) -> Option<u16> {
    let url = base.parse::<reqwest::Url>().ok()?;
    let host = url.host_str()?;
    let is_own = host == "localhost"
        || host.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback());
    if is_own { url.port_or_known_default() } else { None }
}

impl Client {
    pub fn new(common: &Common) -> Client {
        let given = common.token.clone().filter(|token| !token.is_empty());
        cobble_network::tls::provider();
        let base = common.service.trim_end_matches('/').to_owned();
        let port = loopback_port(&base);
        // A service that the same user has started on this machine leaves a token for them.
        let token = given.or_else(|| port.and_then(local_access::token));
        // A proxy that the environment names would see the token, and reach another machine's loopback address.
        let http = match port {
            Some(_) => reqwest::Client::builder().no_proxy().build().unwrap_or_default(),
            None => reqwest::Client::new(),
        };
        Client { http, base, token }
    }

    pub fn base(&self) -> &str {
        &self.base
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}/api/v1{path}", self.base));
        match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        }
    }

    fn unreachable(&self, error: &reqwest::Error) -> Failure {
        if error.is_connect() || error.is_timeout() {
            Failure::Unreachable(format!("no service answers at {}; start one with: cobble up --demo", self.base))
        } else {
            Failure::Unreachable(format!("the service at {} broke off: {error}", self.base))
        }
    }

    async fn answered(&self, request: RequestBuilder) -> Outcome<Response> {
        let response = request.send().await.map_err(|e| self.unreachable(&e))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let text = response.text().await.unwrap_or_default();
        Err(match serde_json::from_str::<ErrorBody>(&text) {
            Ok(body) => error_of(&body).into(),
            Err(_) => Failure::Unreachable(format!("{} answered {status}: is it a Cobble Lane service?", self.base)),
        })
    }

    async fn decoded<T: DeserializeOwned>(&self, request: RequestBuilder) -> Outcome<T> {
        let text = self.answered(request).await?.text().await.map_err(|e| self.unreachable(&e))?;
        serde_json::from_str(&text).map_err(|e| {
            Failure::Unreachable(format!("the service at {} gave an answer of another version: {e}", self.base))
        })
    }

    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Outcome<T> {
        self.decoded(self.request(Method::GET, path)).await
    }

    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Outcome<T> {
        self.decoded(self.request(Method::POST, path).json(body)).await
    }

    pub async fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Outcome<T> {
        self.decoded(self.request(Method::PUT, path).json(body)).await
    }

    pub async fn delete<T: DeserializeOwned>(&self, path: &str) -> Outcome<T> {
        self.decoded(self.request(Method::DELETE, path)).await
    }

    /// Starts a run. A quick one has ended when this comes back.
    pub async fn start(&self, body: &StatementBody) -> Outcome<RunBody> {
        self.post("/runs?wait=100&limit=0", body).await
    }

    pub async fn run(&self, id: &str) -> Outcome<RunBody> {
        self.get(&format!("/runs/{id}")).await
    }

    pub async fn plan_of(&self, id: &str) -> Outcome<PlanDocument> {
        self.get(&format!("/runs/{id}/plan")).await
    }

    /// The run's rows as they come.
    pub async fn rows(&self, id: &str) -> Outcome<RowStream> {
        let request = self.request(Method::GET, &format!("/runs/{id}/rows?format=arrow"));
        let response = self.answered(request).await?;
        Ok(RowStream {
            client: self.clone(),
            id: id.to_owned(),
            response,
            decoder: StreamDecoder::new(),
            rest: Buffer::from(Vec::<u8>::new()),
        })
    }
}

pub struct RowStream {
    client: Client,
    id: String,
    response: Response,
    decoder: StreamDecoder,
    rest: Buffer,
}

impl RowStream {
    /// The types of the columns, once the stream has told them.
    pub fn types(&self) -> Vec<DataType> {
        let schema = self.decoder.schema();
        schema.map(|schema| schema.fields().iter().map(|f| f.data_type().clone()).collect()).unwrap_or_default()
    }

    pub async fn next(&mut self) -> Outcome<Option<RecordBatch>> {
        loop {
            let broken =
                |e: arrow::error::ArrowError| Failure::from(Error::internal(format!("the rows cannot be read: {e}")));
            if let Some(batch) = self.decoder.decode(&mut self.rest).map_err(broken)? {
                return Ok(Some(batch));
            }
            match self.response.chunk().await.map_err(|e| self.client.unreachable(&e))? {
                Some(chunk) => {
                    let mut bytes = self.rest.to_vec();
                    bytes.extend_from_slice(&chunk);
                    self.rest = Buffer::from(bytes);
                }
                None => {
                    // The end of the stream is the end of the rows only if the run says so.
                    let run = self.client.run(&self.id).await?;
                    return match run.error {
                        Some(error) => Err(error_of(&error).into()),
                        None => Ok(None),
                    };
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use cobble_api::PositionBody;

    use super::*;

    #[test]
    fn an_error_comes_back_as_it_was() {
        let error = Error::new(Code::UnknownTable, "there is no table piers").hint("did you mean \"ports\"?");
        let error = error.at(Some(Position { line: 3, column: 15 }));
        assert_eq!(error_of(&ErrorBody::from(&error)), error);
        // A later service may have codes that this command does not know.
        let body = ErrorBody {
            code: "ran_aground".into(),
            sqlstate: "58000".into(),
            message: "it ran aground".into(),
            position: Some(PositionBody { line: 1, column: 2 }),
            hint: None,
        };
        let read = error_of(&body);
        assert_eq!((read.code, read.message.as_str()), (Code::Internal, "it ran aground"));
    }

    #[test]
    fn addresses_of_this_machine_are_told_from_others() {
        for (own, port) in [
            ("http://127.0.0.1:7300", 7300),
            ("http://localhost:7301", 7301),
            ("http://[::1]:7300", 7300),
            ("http://127.9.9.9", 80),
        ] {
            assert_eq!(loopback_port(own), Some(port), "{own}");
        }
        for other in [
            "http://lane.example:7300",
            "https://127.0.0.1.example",
            "http://10.0.0.1",
            "http://localhost.example",
            "x",
        ] {
            assert_eq!(loopback_port(other), None, "{other}");
        }
    }
}
