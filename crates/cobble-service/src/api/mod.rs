//! HTTP: `/api/v1/…` in JSON, described by a document generated from these handlers, and the console.

mod access;
mod body;
mod browse;
mod configuration;
mod connections;
mod console;
mod discovery;
mod errors;
mod lake_catalog;
mod own_site;
mod plans;
mod rows;
mod runs;
mod sessions;
mod users;

pub use connections::described_kinds;
use std::net::Ipv4Addr;
use std::sync::Arc;

use rocket::{Build, Config, Rocket, get, routes};
use utoipa::OpenApi;

use crate::quiet::Quiet;
use crate::service::Service;

pub type State = rocket::State<Arc<Service>>;

/// The list of calls, once for the description and once for the routes.
macro_rules! calls {
    ($($($part:ident)::+),* $(,)?) => {
        #[derive(OpenApi)]
        #[openapi(
            info(
                title = "Cobble Lane",
                description = "Query data across files and databases, and see what each source took over."
            ),
            paths($($($part)::+),*),
            components(schemas(
                cobble_api::ErrorBody,
                cobble_api::StatementBody,
                cobble_api::NewSessionBody,
                cobble_api::SessionBody,
                cobble_api::RunBody,
                cobble_api::PageBody,
                cobble_api::ConnectionBody,
                cobble_api::NewConnectionBody,
                cobble_api::CredentialsBody,
                cobble_api::NewCredentialsBody,
                cobble_api::ConfiguredCredentialsBody,
                cobble_api::CallerBody,
                cobble_api::SignInBody,
                cobble_api::SignedInBody,
                cobble_api::LinkBody,
                cobble_api::WantedTicketBody,
                cobble_api::TicketBody,
                cobble_api::UserBody,
                cobble_api::NewUserBody,
                cobble_api::ChangeUserBody,
                cobble_api::WantedTokenBody,
                cobble_api::NewTokenBody,
                cobble_api::TestStepBody,
                cobble_api::ConfigurationBody,
                cobble_api::ConfiguredConnectionBody,
                cobble_api::ConfiguredCatalogBody,
                cobble_api::SecretSourceBody,
                cobble_api::WatchBody,
                cobble_api::TableDefinitionBody,
                cobble_api::DiscoverBody,
                cobble_api::LookBody,
                cobble_api::FoundTableBody,
                cobble_api::DriftBody,
                cobble_api::PastLookBody,
                cobble_api::EffectiveBody,
                cobble_api::DependentsBody,
                cobble_api::ApplyBody,
                cobble_api::ChangeBody,
                cobble_api::CatalogBody,
                cobble_api::TableBody,
                cobble_api::NameBody,
                cobble_api::FunctionBody,
                cobble_api::KindBody,
                cobble_api::StatusBody,
                cobble_engine::PlanDocument
            ))
        )]
        struct Document;

        fn described_routes() -> Vec<rocket::Route> {
            routes![$($($part)::+),*]
        }
    };
}

calls! {
    runs::create,
    runs::list,
    runs::show,
    runs::events,
    runs::plan,
    runs::cancel,
    sessions::begin,
    sessions::list,
    sessions::show,
    sessions::end,
    rows::rows,
    plans::plan,
    browse::catalogs,
    browse::add_catalog,
    browse::refresh_catalog,
    browse::drop_catalog,
    browse::schemas,
    browse::overview,
    browse::tables,
    browse::table,
    browse::names,
    browse::functions,
    connections::kinds,
    connections::list,
    connections::add,
    connections::show,
    connections::change,
    connections::put_credentials,
    connections::drop_credentials,
    connections::test,
    connections::test_events,
    connections::test_new,
    connections::remove,
    configuration::show,
    configuration::apply,
    discovery::catalog,
    discovery::change_catalog,
    discovery::settings,
    discovery::discover,
    discovery::looking,
    discovery::stop_looking,
    discovery::looks,
    discovery::dependents,
    connections::dependents,
    users::caller,
    users::sign_in,
    users::sign_out,
    users::link,
    users::ticket,
    users::list,
    users::add,
    users::change,
    users::renew,
    users::remove,
    status,
}

/// The OpenAPI document.
pub fn openapi_json() -> String {
    Document::openapi().to_pretty_json().unwrap_or_default()
}

/// The OpenAPI document of this service.
#[get("/openapi.json")]
fn openapi() -> (rocket::http::ContentType, String) {
    (rocket::http::ContentType::JSON, openapi_json())
}

/// Version and size of the service.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = cobble_api::StatusBody)))]
#[get("/status")]
fn status(service: &State, _caller: access::By<access::Browse>) -> rocket::serde::json::Json<cobble_api::StatusBody> {
    let set = service.engine.set();
    let (memory_used, memory_limit) = service.engine.memory();
    rocket::serde::json::Json(cobble_api::StatusBody {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        seconds_up: service.started.elapsed().as_secs_f64(),
        connections: set.connections.len(),
        catalogs: set.catalogs.len(),
        memory_used,
        memory_limit,
    })
}

/// The service on this port of the loopback address. Requests may also name it by one of these `hosts`, as behind a proxy.
pub fn rocket(service: Arc<Service>, port: u16, hosts: &[String]) -> Rocket<Build> {
    let config = Config {
        address: Ipv4Addr::LOCALHOST.into(),
        port,
        log_level: rocket::config::LogLevel::Off,
        shutdown: rocket::config::Shutdown { ctrlc: false, grace: 1, mercy: 1, ..Default::default() },
        ident: rocket::config::Ident::none(),
        ..Config::default()
    };
    rocket::custom(config)
        .manage(service)
        .attach(Quiet::watch(port))
        .attach(own_site::OwnSite::new(port, hosts))
        .mount("/", own_site::routes())
        .mount("/api/v1", routes![openapi])
        .mount("/api/v1", described_routes())
        .mount("/lake/v1", lake_catalog::routes())
        .register("/", errors::catchers())
        .mount("/", console::routes())
}
