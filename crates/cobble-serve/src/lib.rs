//! Serve tables of any program to Cobble Lane: implement [`Tables`], and [`serve`] speaks the connector protocol over Arrow Flight for it.
//! `docs/CONNECTORS.md` describes the protocol, `examples/tide_tables.rs` is a whole program.

mod protocol;

use std::pin::Pin;
use std::sync::Arc;

use arrow::datatypes::{Schema, SchemaRef};
use arrow::record_batch::{RecordBatch, RecordBatchOptions};
use arrow_flight::encode::FlightDataEncoderBuilder;
use arrow_flight::error::FlightError;
use arrow_flight::flight_service_server::{FlightService, FlightServiceServer};
use arrow_flight::{
    Action, ActionType, Criteria, Empty, FlightData, FlightDescriptor, FlightEndpoint, FlightInfo, HandshakeRequest,
    HandshakeResponse, IpcMessage, PollInfo, PutResult, SchemaAsIpc, SchemaResult, Ticket,
};
use futures::{Stream, StreamExt, TryStreamExt, stream};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::net::TcpListener;
use tokio_stream::wrappers::TcpListenerStream;
use tonic::{Request as Call, Response, Status, Streaming};

pub use protocol::{
    Answer, Condition, Constant, GroupValue, Groups, LIST, Listing, OFFER, Offer, Order, Piece, Request, TableName, Top,
};

/// A table as it is described to the engine.
#[derive(Debug, Clone)]
pub struct Description {
    pub schema: SchemaRef,
    pub rows: Option<u64>,
    pub bytes: Option<u64>,
}

/// Reads the rows of one portion. An error is shown to the user.
pub type Rows = Box<dyn Iterator<Item = Result<RecordBatch, String>> + Send>;

/// What a program has to know of its tables.
pub trait Tables: Send + Sync + 'static {
    fn list(&self) -> Result<Vec<TableName>, String>;
    /// `None` when there is no such table.
    fn describe(&self, table: &TableName) -> Result<Option<Description>, String>;
    /// Whether a piece of work is taken over. Pushed work must have exactly the meaning that it has in SQL.
    fn offer(&self, offer: &Offer) -> Answer {
        let _ = offer;
        Answer::kept("this program takes no work over")
    }
    /// The number of portions that may be read at one time, by the same request.
    fn portions(&self, request: &Request) -> Result<usize, String> {
        let _ = request;
        Ok(1)
    }
    /// The columns of the rows that answer a request: those of the table that are wanted. A program that takes groups over says what
    /// else comes then.
    fn answered(&self, request: &Request, table: &Schema) -> Result<Schema, String> {
        let places = request.columns.iter().map(|column| table.index_of(column));
        let places = places.collect::<Result<Vec<usize>, _>>().map_err(|e| e.to_string())?;
        table.project(&places).map_err(|e| e.to_string())
    }
    /// Rows of a portion with the columns that are wanted, in their order, of the types that were described.
    fn rows(&self, request: &Request, portion: usize) -> Result<Rows, String>;
}

/// Serves until the listener fails. With a secret, only calls that carry it as a bearer token are answered.
pub async fn serve(
    listener: TcpListener,
    tables: Arc<dyn Tables>,
    secret: Option<String>,
) -> Result<(), tonic::transport::Error> {
    let service = FlightServiceServer::new(Server { tables, secret });
    tonic::transport::Server::builder().add_service(service).serve_with_incoming(TcpListenerStream::new(listener)).await
}

struct Server {
    tables: Arc<dyn Tables>,
    secret: Option<String>,
}

type Sent<T> = Pin<Box<dyn Stream<Item = Result<T, Status>> + Send>>;

fn failed(what: impl ToString) -> Status {
    Status::internal(what.to_string())
}

fn read<T: DeserializeOwned>(body: &[u8]) -> Result<T, Status> {
    serde_json::from_slice(body).map_err(|e| Status::invalid_argument(format!("the request is not understood: {e}")))
}

fn written(value: &impl Serialize) -> Result<Vec<u8>, Status> {
    serde_json::to_vec(value).map_err(failed)
}

/// A ticket: the request, and which of its portions.
#[derive(Serialize, serde::Deserialize)]
struct Portion {
    request: Request,
    portion: usize,
}

impl Server {
    fn check<T>(&self, call: &Call<T>) -> Result<(), Status> {
        let Some(secret) = &self.secret else { return Ok(()) };
        let given = call.metadata().get("authorization").and_then(|value| value.to_str().ok());
        match given.and_then(|value| value.strip_prefix("Bearer ")) {
            Some(token) if token == secret => Ok(()),
            Some(_) => Err(Status::unauthenticated("the secret is not the right one")),
            None => Err(Status::unauthenticated("a secret is needed")),
        }
    }

    fn described(&self, table: &TableName) -> Result<Description, Status> {
        let found = self.tables.describe(table).map_err(failed)?;
        found.ok_or_else(|| Status::not_found(format!("there is no table {}.{}", table.schema, table.name)))
    }

    fn answered(&self, request: &Request) -> Result<Schema, Status> {
        let described = self.described(&request.table)?;
        self.tables.answered(request, &described.schema).map_err(Status::invalid_argument)
    }

    fn info(&self, descriptor: FlightDescriptor) -> Result<FlightInfo, Status> {
        if let [schema, name] = descriptor.path.as_slice() {
            let described = self.described(&TableName { schema: schema.clone(), name: name.clone() })?;
            let info = FlightInfo::new().try_with_schema(&described.schema).map_err(failed)?;
            let counted = |count: Option<u64>| count.and_then(|n| i64::try_from(n).ok()).unwrap_or(-1);
            return Ok(info
                .with_descriptor(descriptor)
                .with_total_records(counted(described.rows))
                .with_total_bytes(counted(described.bytes)));
        }
        let request: Request = read(&descriptor.cmd)?;
        let schema = self.answered(&request)?;
        let mut info = FlightInfo::new().try_with_schema(&schema).map_err(failed)?.with_descriptor(descriptor);
        for portion in 0..self.tables.portions(&request).map_err(failed)? {
            let ticket = written(&Portion { request: request.clone(), portion })?;
            info = info.with_endpoint(FlightEndpoint::new().with_ticket(Ticket::new(ticket)));
        }
        Ok(info)
    }
}

#[tonic::async_trait]
impl FlightService for Server {
    type HandshakeStream = Sent<HandshakeResponse>;
    type ListFlightsStream = Sent<FlightInfo>;
    type DoGetStream = Sent<FlightData>;
    type DoPutStream = Sent<PutResult>;
    type DoActionStream = Sent<arrow_flight::Result>;
    type ListActionsStream = Sent<ActionType>;
    type DoExchangeStream = Sent<FlightData>;

    async fn handshake(&self, _: Call<Streaming<HandshakeRequest>>) -> Result<Response<Self::HandshakeStream>, Status> {
        Err(Status::unimplemented("send the secret as a bearer token with each call"))
    }

    async fn list_flights(&self, call: Call<Criteria>) -> Result<Response<Self::ListFlightsStream>, Status> {
        self.check(&call)?;
        let tables = self.tables.list().map_err(failed)?;
        let all = tables.into_iter().map(|t| self.info(FlightDescriptor::new_path(vec![t.schema, t.name])));
        Ok(Response::new(stream::iter(all.collect::<Vec<_>>()).boxed()))
    }

    async fn get_flight_info(&self, call: Call<FlightDescriptor>) -> Result<Response<FlightInfo>, Status> {
        self.check(&call)?;
        self.info(call.into_inner()).map(Response::new)
    }

    async fn poll_flight_info(&self, _: Call<FlightDescriptor>) -> Result<Response<PollInfo>, Status> {
        Err(Status::unimplemented("ask for the flight's info"))
    }

    async fn get_schema(&self, call: Call<FlightDescriptor>) -> Result<Response<SchemaResult>, Status> {
        self.check(&call)?;
        let schema = self.info(call.into_inner())?.try_decode_schema().map_err(failed)?;
        let options = arrow::ipc::writer::IpcWriteOptions::default();
        let IpcMessage(schema) = SchemaAsIpc::new(&schema, &options).try_into().map_err(failed)?;
        Ok(Response::new(SchemaResult { schema }))
    }

    async fn do_get(&self, call: Call<Ticket>) -> Result<Response<Self::DoGetStream>, Status> {
        self.check(&call)?;
        let Portion { request, portion } = read(&call.into_inner().ticket)?;
        let schema = Arc::new(self.answered(&request)?);
        let (tables, own) = (self.tables.clone(), schema.clone());
        let fitting = move |batch: RecordBatch| {
            let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
            let fitted = RecordBatch::try_new_with_options(own.clone(), batch.columns().to_vec(), &options);
            fitted.map_err(|e| format!("rows are not as they were described: {e}"))
        };
        // Rows are made where it may take a while; a reader that goes away ends it, as nobody takes them any more.
        let (send, batches) = tokio::sync::mpsc::channel(2);
        tokio::task::spawn_blocking(move || match tables.rows(&request, portion) {
            Err(error) => drop(send.blocking_send(Err(FlightError::from_external_error(error.into())))),
            Ok(rows) => {
                for batch in rows {
                    let batch = batch.and_then(&fitting).map_err(|e| FlightError::from_external_error(e.into()));
                    let is_last = batch.is_err();
                    if send.blocking_send(batch).is_err() || is_last {
                        return;
                    }
                }
            }
        });
        let batches = tokio_stream::wrappers::ReceiverStream::new(batches);
        let data = FlightDataEncoderBuilder::new().with_schema(schema).build(batches);
        Ok(Response::new(data.map_err(|e| failed(told(e))).boxed()))
    }

    async fn do_put(&self, _: Call<Streaming<FlightData>>) -> Result<Response<Self::DoPutStream>, Status> {
        Err(Status::unimplemented("tables are only read"))
    }

    async fn do_action(&self, call: Call<Action>) -> Result<Response<Self::DoActionStream>, Status> {
        self.check(&call)?;
        let action = call.into_inner();
        let body = match action.r#type.as_str() {
            LIST => written(&Listing { tables: self.tables.list().map_err(failed)? })?,
            OFFER => written(&self.tables.offer(&read(&action.body)?))?,
            other => return Err(Status::unimplemented(format!("there is no action {other}"))),
        };
        Ok(Response::new(stream::iter([Ok(arrow_flight::Result { body: body.into() })]).boxed()))
    }

    async fn list_actions(&self, _: Call<Empty>) -> Result<Response<Self::ListActionsStream>, Status> {
        let all = [(LIST, "lists tables"), (OFFER, "answers an offer of work")];
        let all = all.map(|(r#type, about)| Ok(ActionType { r#type: r#type.into(), description: about.into() }));
        Ok(Response::new(stream::iter(all).boxed()))
    }

    async fn do_exchange(&self, _: Call<Streaming<FlightData>>) -> Result<Response<Self::DoExchangeStream>, Status> {
        Err(Status::unimplemented("tables are only read"))
    }
}

fn told(error: FlightError) -> String {
    match error {
        FlightError::ExternalError(own) => own.to_string(),
        other => other.to_string(),
    }
}
