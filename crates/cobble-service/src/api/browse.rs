//! Catalogs, schemas, tables and columns over HTTP.

use std::collections::HashMap;
use std::time::Duration;

use cobble_engine::{CatalogDefinition, Relation, Session, Table, TableColumn, TableKind};
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, ObjectName, SqlType, Value};
use futures::{StreamExt, TryStreamExt};
use rocket::serde::json::Json;
use rocket::{delete, get, post};

use super::State;
use super::access::{Browse, By, ChangeCatalogs};
use super::body::Body;
use super::errors::ApiResult;
use cobble_api::{CatalogBody, ErrorBody, FunctionBody, NameBody, SchemaBody, TableBody, TableColumnBody};

/// All catalogs.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<CatalogBody>)))]
#[get("/catalogs")]
pub async fn catalogs(service: &State, _caller: By<Browse>) -> ApiResult<Vec<CatalogBody>> {
    Ok(Json(listed(service)))
}

fn listed(service: &State) -> Vec<CatalogBody> {
    let set = service.engine.set();
    let kind =
        |connection: &str| set.connections.get(connection).map(|c| c.definition.kind.clone()).unwrap_or_default();
    let body = |c: &CatalogDefinition| CatalogBody {
        name: c.name.clone(),
        connection: c.connection.clone(),
        kind: kind(&c.connection),
    };
    set.catalogs.values().map(body).collect()
}

/// Gives a connection's tables a name in SQL.
#[utoipa::path(context_path = "/api/v1", request_body = CatalogBody, responses((status = 200, body = Vec<CatalogBody>), (status = 409, body = ErrorBody)))]
#[post("/catalogs", format = "json", data = "<given>")]
pub async fn add_catalog(
    service: &State,
    _caller: By<ChangeCatalogs>,
    given: Body<CatalogBody>,
) -> ApiResult<Vec<CatalogBody>> {
    let given = given.read()?;
    service.add_catalog(CatalogDefinition::new(given.name, given.connection)).await?;
    Ok(Json(listed(service)))
}

/// Forgets what is cached of the catalog's source.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = Vec<String>)))]
#[post("/catalogs/<name>/refresh")]
pub async fn refresh_catalog(service: &State, caller: By<Browse>, name: &str) -> ApiResult<Vec<String>> {
    service.engine.set().connector(name)?.refresh();
    service.engine.set_for(&caller.asker())?.connector(name)?.refresh();
    schemas(service, caller, name).await
}

/// Removes a catalog; its source is not touched.
#[utoipa::path(context_path = "/api/v1", params(("name" = String, Path)), responses((status = 200, body = Vec<CatalogBody>), (status = 400, body = ErrorBody)))]
#[delete("/catalogs/<name>")]
pub async fn drop_catalog(service: &State, _caller: By<ChangeCatalogs>, name: &str) -> ApiResult<Vec<CatalogBody>> {
    service.remove_catalog(name).await?;
    Ok(Json(listed(service)))
}

/// How long a look around waits for a source; its answer is remembered when it comes later.
const LOOK: Duration = Duration::from_secs(3);

/// What a source answers to a look around, unless it takes too long. It is asked on meanwhile, so that the next look finds its answer.
async fn looked<T: Send + 'static>(
    catalog: &str,
    ask: impl Future<Output = cobble_types::Result<T>> + Send + 'static,
) -> cobble_types::Result<T> {
    match tokio::time::timeout(LOOK, tokio::spawn(ask)).await {
        Ok(answer) => answer.map_err(|e| Error::internal(format!("a look around ended: {e}")))?,
        Err(_) => Err(Error::new(
            Code::SourceTimeout,
            format!("the source of catalog {catalog} has not answered for {} s", LOOK.as_secs()),
        )
        .hint("the service keeps asking it: look again in a moment, or test its connection")),
    }
}

/// Schemas of a catalog.
#[utoipa::path(context_path = "/api/v1", params(("catalog" = String, Path)), responses((status = 200, body = Vec<String>)))]
#[get("/catalogs/<catalog>/schemas")]
pub async fn schemas(service: &State, caller: By<Browse>, catalog: &str) -> ApiResult<Vec<String>> {
    let (session, name) = (service.engine.session_of(caller.asker()), catalog.to_owned());
    let ask = async move { session.schemas(session.catalogs()?.as_ref(), &name).await };
    Ok(Json(looked(catalog, ask).await?))
}

/// Schemas of a catalog with the number of tables in each.
#[utoipa::path(context_path = "/api/v1", params(("catalog" = String, Path)), responses((status = 200, body = Vec<SchemaBody>)))]
#[get("/catalogs/<catalog>/overview")]
pub async fn overview(service: &State, caller: By<Browse>, catalog: &str) -> ApiResult<Vec<SchemaBody>> {
    let (session, name) = (service.engine.session_of(caller.asker()), catalog.to_owned());
    let ask = async move {
        let schemas = session.schemas(session.catalogs()?.as_ref(), &name).await?;
        let counted = schemas.into_iter().map(|schema| {
            let (session, name) = (&session, &name);
            async move {
                let entries = session.entries(name, &schema).await?;
                let views = entries.iter().filter(|entry| entry.kind == TableKind::View).count() as u64;
                Ok(SchemaBody { schema, tables: entries.len() as u64 - views, views })
            }
        });
        futures::stream::iter(counted).buffered(PARALLEL_DESCRIPTIONS).try_collect().await
    };
    Ok(Json(looked(catalog, ask).await?))
}

/// Tables and views of a schema.
#[utoipa::path(context_path = "/api/v1", params(("catalog" = String, Path), ("schema" = String, Path)), responses((status = 200, body = Vec<String>)))]
#[get("/catalogs/<catalog>/schemas/<schema>/tables")]
pub async fn tables(service: &State, caller: By<Browse>, catalog: &str, schema: &str) -> ApiResult<Vec<String>> {
    let (session, name) = (service.engine.session_of(caller.asker()), (catalog.to_owned(), schema.to_owned()));
    let ask = async move { session.tables(&name.0, &name.1).await };
    Ok(Json(looked(catalog, ask).await?))
}

/// A table with its columns and what is known of them.
#[utoipa::path(
    context_path = "/api/v1",
    params(("catalog" = String, Path), ("schema" = String, Path), ("table" = String, Path)),
    responses((status = 200, body = TableBody), (status = 404, body = ErrorBody))
)]
#[get("/catalogs/<catalog>/schemas/<schema>/tables/<table>")]
pub async fn table(
    service: &State,
    caller: By<Browse>,
    catalog: &str,
    schema: &str,
    table: &str,
) -> ApiResult<TableBody> {
    let name = [catalog.to_owned(), schema.to_owned(), table.to_owned()];
    let session = service.engine.session_of(caller.asker());
    let full = ObjectName::new(catalog, schema, table);
    let used_by = service.engine.readers_of(&full).iter().map(ToString::to_string).collect();
    Ok(Json(match session.relation(&name).await? {
        Relation::Table(found) => TableBody { used_by, ..table_body(&found.table) },
        Relation::View(full, known) => {
            let columns = session.columns(&name).await?.iter().map(column_body).collect();
            let reads = service.engine.read_by_view(&known);
            TableBody {
                catalog: full.catalog,
                schema: full.schema,
                name: full.table,
                kind: "view".to_owned(),
                source: None,
                columns,
                estimated_rows: None,
                bytes: None,
                statistics_from: None,
                definition: Some(known.view.text().into_owned()),
                reads,
                used_by,
            }
        }
    }))
}

fn column_body(column: &TableColumn) -> TableColumnBody {
    TableColumnBody {
        name: column.name.clone(),
        sql_type: column.sql_type.to_string(),
        nullable: column.nullable,
        partition: column.partition,
        key: false,
        comment: column.comment.clone(),
        distinct: None,
        min: None,
        max: None,
        null_fraction: None,
    }
}

fn table_body(table: &Table) -> TableBody {
    // A bound as plain text, without the literal's quotes and type.
    let shown = |value: &Value| match value {
        Value::Text(text) => text.clone(),
        other => {
            let literal = other.to_string();
            let plain = literal.split_once('\'').map(|(_, rest)| rest.trim_end_matches('\'').to_owned());
            plain.filter(|p| parse_value(p, &SqlType::Text).is_ok()).unwrap_or(literal)
        }
    };
    let columns = table
        .columns
        .iter()
        .enumerate()
        .map(|(place, column)| {
            let known = table.statistics.columns.get(place).cloned().unwrap_or_default();
            TableColumnBody {
                key: table.primary_key.contains(&place),
                distinct: known.distinct,
                min: known.min.as_ref().map(shown),
                max: known.max.as_ref().map(shown),
                null_fraction: known.null_fraction,
                ..column_body(column)
            }
        })
        .collect();
    TableBody {
        catalog: table.name.catalog.clone(),
        schema: table.name.schema.clone(),
        name: table.name.table.clone(),
        kind: if table.kind == TableKind::View { "view".into() } else { "table".into() },
        source: Some(table.origin.kind.clone()).filter(|kind| !kind.is_empty()),
        columns,
        estimated_rows: table.statistics.rows,
        bytes: table.statistics.bytes,
        statistics_from: table.statistics.origin.clone(),
        definition: None,
        reads: vec![],
        used_by: vec![],
    }
}

/// Tables of a schema that are described one by one for the completion of names; of the others the names are known.
const MOST_DESCRIBED: usize = 200;
/// Tables described at one time.
const PARALLEL_DESCRIPTIONS: usize = 8;

/// Every table with its columns, for completion of names. Sources that do not answer are left out, and so are the columns of tables
/// after the first 200 of a schema where the source tells them only table by table.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<NameBody>)))]
#[get("/names")]
pub async fn names(service: &State, caller: By<Browse>) -> ApiResult<Vec<NameBody>> {
    let catalogs: Vec<String> = service.engine.set().catalogs.keys().cloned().chain(["lane".to_owned()]).collect();
    let asked = catalogs.into_iter().map(|catalog| {
        let session = service.engine.session_of(caller.asker());
        let own = catalog.clone();
        async move { looked(&catalog, async move { names_of(&session, &own).await }).await.unwrap_or_default() }
    });
    Ok(Json(futures::future::join_all(asked).await.into_iter().flatten().collect()))
}

async fn names_of(session: &Session, catalog: &str) -> cobble_types::Result<Vec<NameBody>> {
    let set = session.catalogs()?;
    let mut all = Vec::new();
    for schema in session.schemas(&set, catalog).await? {
        if schema == "information_schema" {
            continue;
        }
        let Ok(tables) = session.tables(catalog, &schema).await else { continue };
        let at_once = match set.connector(catalog) {
            Ok(connector) => connector.columns(&schema).await.ok().flatten().unwrap_or_default(),
            Err(_) => vec![],
        };
        let at_once: HashMap<String, Vec<TableColumn>> =
            at_once.into_iter().map(|listed| (listed.table, listed.columns)).collect();
        let at_once = &at_once;
        let described = tables.into_iter().enumerate().map(|(place, table)| {
            let (catalog, schema) = (catalog.to_owned(), schema.clone());
            async move {
                let name = [catalog.clone(), schema.clone(), table.clone()];
                let named = |columns: &[TableColumn]| columns.iter().map(|c| c.name.clone()).collect();
                let columns = match at_once.get(&table) {
                    Some(columns) => named(columns),
                    None if place < MOST_DESCRIBED => named(&session.columns(&name).await.ok()?),
                    None => vec![],
                };
                Some(NameBody { catalog, schema, table, columns })
            }
        });
        let mut described = futures::stream::iter(described).buffered(PARALLEL_DESCRIPTIONS);
        while let Some(name) = described.next().await {
            all.extend(name);
        }
    }
    Ok(all)
}

/// Every function that a statement can call, for completion and lists.
#[utoipa::path(context_path = "/api/v1", responses((status = 200, body = Vec<FunctionBody>)))]
#[get("/functions")]
pub async fn functions(service: &State, _caller: By<Browse>) -> ApiResult<Vec<FunctionBody>> {
    Ok(Json(service.engine.function_list().into_iter().map(FunctionBody::from).collect()))
}
