//! A catalog's own definition over HTTP: its settings and where they come from, its tables, and looks for tables in its files.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use cobble_engine::{CatalogDefinition, ConfiguredCatalog, FoundTable, Looking, SampleColumn, Take};
use cobble_types::{Code, Error};
use rocket::serde::json::Json;
use rocket::{delete, get, post, put};

use super::State;
use super::access::{Browse, By, ChangeCatalogs, ChangeUsers, allows};
use super::body::Body;
use super::errors::{ApiError, ApiResult, same_form};
use crate::service::{Wish, blocking};
use cobble_api::{
    ConfiguredCatalogBody, DependentsBody, DiscoverBody, EffectiveBody, ErrorBody, FoundTableBody, LookBody,
    LookingBody, PastLookBody, SampleColumnBody,
};

/// Discoveries that report their progress.
const SHOWN_LOOKS: i64 = 100;

fn find(service: &State, name: &str) -> Result<CatalogDefinition, ApiError> {
    let set = service.engine.set();
    let known = set.catalogs.get(name).cloned();
    known.ok_or_else(|| {
        let error = Error::unknown("catalog", name, set.catalogs.keys().map(String::as_str));
        Error { code: Code::NotFound, ..error }.into()
    })
}

/// One catalog with its own settings and tables.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = ConfiguredCatalogBody), (status = 404, body = ErrorBody)))]
#[get("/catalogs/<name>")]
pub fn catalog(service: &State, _caller: By<Browse>, name: &str) -> ApiResult<ConfiguredCatalogBody> {
    Ok(Json(same_form(&ConfiguredCatalog::of(&find(service, name)?))?))
}

/// Puts a definition in the place of a catalog's own.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), request_body = ConfiguredCatalogBody, responses((status = 200, body = ConfiguredCatalogBody), (status = 400, body = ErrorBody)))]
#[put("/catalogs/<name>", format = "json", data = "<given>")]
pub async fn change_catalog(
    service: &State,
    _caller: By<ChangeCatalogs>,
    name: &str,
    given: Body<ConfiguredCatalogBody>,
) -> ApiResult<ConfiguredCatalogBody> {
    find(service, name)?;
    let wanted: ConfiguredCatalog = same_form(&given.read()?)?;
    service.change_catalog(name, |_| Ok(wanted.definition(name))).await?;
    Ok(Json(same_form(&ConfiguredCatalog::of(&find(service, name)?))?))
}

/// The settings that work for a catalog, or for one of its tables, for a user or for who calls, and where each comes from.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path), ("table" = Option<String>, Query), ("user" = Option<String>, Query)), responses((status = 200, body = Vec<EffectiveBody>), (status = 404, body = ErrorBody)))]
#[get("/catalogs/<name>/settings?<table>&<user>")]
pub fn settings(
    service: &State,
    caller: By<Browse>,
    name: &str,
    table: Option<&str>,
    user: Option<&str>,
) -> ApiResult<Vec<EffectiveBody>> {
    find(service, name)?;
    let user = user.unwrap_or(&caller.name);
    if user != caller.name {
        allows::<ChangeUsers>(&caller)?;
    }
    Ok(Json(same_form(&service.engine.effective(name, table, Some(user))?)?))
}

/// Looks for tables in a catalog's files, and takes them into its definition unless it is a preview.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), request_body = DiscoverBody, responses((status = 200, body = LookBody), (status = 400, body = ErrorBody), (status = 404, body = ErrorBody)))]
#[post("/catalogs/<name>/discover", format = "json", data = "<given>")]
pub async fn discover(
    service: &State,
    _caller: By<ChangeCatalogs>,
    name: &str,
    given: Body<DiscoverBody>,
) -> ApiResult<LookBody> {
    find(service, name)?;
    let given = given.read()?;
    let wish = Wish {
        path: given.path,
        schema: given.schema,
        take: (!given.preview).then_some(Take::All),
        tables: same_form(&given.tables)?,
        every: given.every,
        asked: true,
        form: same_form(&given.form)?,
    };
    let look = service.discover(name, &wish).await?;
    let table = |table: FoundTable| {
        Ok(FoundTableBody {
            name: table.name,
            definition: same_form(&table.definition)?,
            partitions: table.found.partitions.iter().map(ToString::to_string).collect(),
            files: table.found.files as u64,
            bytes: table.found.bytes,
            notes: table.found.notes,
            problem: table.found.problem,
            state: table.state.to_owned(),
            sample: table.sample.into_iter().map(sample).collect(),
        })
    };
    Ok(Json(LookBody {
        drift: same_form(&look.drift)?,
        others: look.others,
        tables: look.tables.into_iter().map(table).collect::<Result<_, ApiError>>()?,
    }))
}

fn under_way(service: &State, name: &str) -> Result<Arc<Looking>, ApiError> {
    find(service, name)?;
    let none = || Error::new(Code::NotFound, format!("no discovery in catalog {name} is running"));
    Ok(service.looking(name).ok_or_else(none)?)
}

fn progress(looking: &Looking) -> LookingBody {
    LookingBody { looked: looking.looked.load(Ordering::Relaxed), files: looking.files.load(Ordering::Relaxed) }
}

/// How far the catalog's look for tables is.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = LookingBody), (status = 404, body = ErrorBody)))]
#[get("/catalogs/<name>/discover")]
pub fn looking(service: &State, _caller: By<Browse>, name: &str) -> ApiResult<LookingBody> {
    Ok(Json(progress(under_way(service, name)?.as_ref())))
}

/// Gives up the catalog's look for tables; nothing is defined by it.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = LookingBody), (status = 404, body = ErrorBody)))]
#[delete("/catalogs/<name>/discover")]
pub fn stop_looking(service: &State, _caller: By<ChangeCatalogs>, name: &str) -> ApiResult<LookingBody> {
    let looking = under_way(service, name)?;
    looking.cancel.cancel();
    Ok(Json(progress(looking.as_ref())))
}

/// Past looks that have found something else than the one before, newest first.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = Vec<PastLookBody>), (status = 404, body = ErrorBody)))]
#[get("/catalogs/<name>/looks")]
pub async fn looks(service: &State, _caller: By<Browse>, name: &str) -> ApiResult<Vec<PastLookBody>> {
    find(service, name)?;
    let (records, name) = (service.records.clone(), name.to_owned());
    let past = blocking(move || records.discoveries(&name, SHOWN_LOOKS)).await?;
    let shown = past.into_iter().map(|look| {
        let drift = same_form(&look.changes)?;
        Ok(PastLookBody { looked_at: look.looked_at, path: look.path, asked: look.asked, drift })
    });
    Ok(Json(shown.collect::<Result<_, ApiError>>()?))
}

/// What depends on a catalog.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = DependentsBody), (status = 404, body = ErrorBody)))]
#[get("/catalogs/<name>/dependents")]
pub fn dependents(service: &State, caller: By<Browse>, name: &str) -> ApiResult<DependentsBody> {
    let catalog = find(service, name)?;
    let mut lost: Vec<String> = catalog.tables.keys().map(|table| format!("its definition of {table}")).collect();
    lost.extend(catalog.watch.map(|watch| format!("its looks for tables every {} s, with their history", watch.every)));
    let collected = service.engine.collected_statistics(&caller.asker());
    let collected = collected.iter().filter(|one| one.table.catalog == name);
    lost.extend(collected.map(|one| format!("what ANALYZE has found of {}", one.table)));
    Ok(Json(DependentsBody { blocking: vec![], lost }))
}

fn sample(column: SampleColumn) -> SampleColumnBody {
    SampleColumnBody { name: column.name, sql_type: column.sql_type.to_string(), values: column.values }
}
