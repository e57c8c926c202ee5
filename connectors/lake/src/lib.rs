//! Connector for tables of the open table format, over the files of another connection. Which tables there are, the folders of that storage tell,
//! the service's own records, or another service's catalog.

mod add_files;
mod again;
mod call;
mod change;
mod cherry_pick;
mod compact;
mod expire;
mod facts;
mod fields;
mod file_form;
mod gone;
mod kinds;
mod later;
mod new_files;
mod offer;
mod orphans;
mod partitions;
mod returned;
mod rewrite_manifests;
mod row_places;
mod scan;
mod served;
mod served_views;
mod statistics;
mod views;
mod write;

use std::collections::{BTreeMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use async_trait::async_trait;
use cobble_connect::{
    Base, CatalogAnswer, CatalogCall, ConnectionDefinition, Connector, Kind, ListedColumns, SourceView, TableChange,
    TableDefinition, TableEntry, TableVersion, TestStep, ViewChange,
};
use cobble_format::{Footer, Known, OpenFile};
use cobble_lake::catalog::{Folders, Pointed, Rest, TableCatalog, TableName};
use cobble_lake::column_ranges::KnownRows;
use cobble_lake::decoded::Manifests;
use cobble_lake::left::{Budget, DataFile};
use cobble_lake::metadata::{Metadata, PartitionField, Ref, RefKind, Snapshot};
use cobble_lake::name_mapping;
use cobble_lake::order::OrderKey;
use cobble_lake::refs;
use cobble_lake::schema::Field;
use cobble_lake::table::{LakeTable, Tables};
use cobble_lake::transform::Transform;
use cobble_network::test_steps::{counted, reporter};
use cobble_plan::alter::{Alteration, OrderedColumn};
use cobble_plan::draft::answer;
use cobble_plan::expr::Column;
use cobble_plan::facts::{FactRows, Facts, Filtered};
use cobble_plan::fragment::{Answer, Fragment};
use cobble_plan::logical::{Origin, Table, TableColumn, TableKind};
use cobble_plan::offer::{Changeable, ChangedBy, DescribedTable, Source, Sources, Verdict};
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::{GateScan, ScanMemory, ScanSpec, ScanTools, Unbounded};
use cobble_plan::sink::{NewRows, TableWriter};
use cobble_storage::{Storage, StoredFile, file_error};
use cobble_types::{Code, Error, ObjectName, Result, quote_where_needed, write_timestamp};
use tokio_util::sync::CancellationToken;

use call::Named;
use kinds::Way;

pub use kinds::{FOLDERS, REST, SERVICE};

#[derive(Debug)]
pub struct LakeConnector {
    lake: Arc<Lake>,
}

/// The tables of a connection.
#[derive(Debug)]
pub struct Lake {
    kind: &'static str,
    way: Way,
    connection: String,
    region: Option<String>,
    writable: bool,
    /// Other tools that ask for keys of the storage are given those that this service has.
    gives_keys: bool,
    planning: Budget,
    /// The name of the connection that holds the files.
    storage_name: Option<String>,
    folder: Vec<String>,
    /// What it stands over, once that is there.
    base: Base,
    /// None until then.
    catalog: Option<Arc<dyn TableCatalog>>,
    tables: Mutex<Known<LakeTable>>,
    footers: Mutex<Known<Arc<dyn Footer>>>,
    known_rows: Mutex<Known<Arc<KnownRows>>>,
    decoded: Arc<Manifests>,
}

/// Footers that are read at the same time.
const AT_ONCE: usize = 16;

impl LakeConnector {
    fn new(definition: &ConnectionDefinition, kind: &'static Kind, way: Way) -> Result<Arc<Self>> {
        Ok(Arc::new(LakeConnector {
            lake: Arc::new(Lake {
                kind: kind.kind,
                way,
                connection: definition.name.clone(),
                region: definition.region.clone(),
                writable: definition.flag("writable")?,
                gives_keys: definition.flag("gives_keys")?,
                planning: kinds::planning(definition)?,
                storage_name: definition.option("storage").map(str::to_owned),
                folder: kinds::folder(definition),
                base: Base::default(),
                catalog: None,
                tables: Mutex::default(),
                footers: Mutex::default(),
                known_rows: Mutex::default(),
                decoded: Arc::default(),
            }),
        }))
    }
}

impl Lake {
    fn storage(&self) -> Result<&Arc<dyn Storage>> {
        self.base.storage.as_ref().ok_or_else(|| {
            let name = self.storage_name.as_deref().unwrap_or_default();
            let what = format!("connection {}: its storage {name} is not there", self.connection);
            Error::new(Code::BadSetting, what).hint("name a connection of kind files or s3 in the setting storage")
        })
    }

    /// What knows the tables, over what there is.
    fn catalog_over(&self, base: &Base) -> Option<Arc<dyn TableCatalog>> {
        let (connection, folder) = (self.connection.clone(), self.folder.clone());
        let storage = base.storage.clone();
        Some(match &self.way {
            Way::Folders => Arc::new(Folders { connection, storage: storage?, folder }),
            Way::Pointers => {
                Arc::new(Pointed { connection, storage: storage?, folder, pointers: base.pointers.clone()? })
            }
            // A storage that is named and is not there is no reason to ask for keys.
            Way::Protocol(..) if self.storage_name.is_some() && storage.is_none() => return None,
            Way::Protocol(protocol, nested) => Arc::new(Rest::new(protocol.clone(), storage, *nested)),
        })
    }

    /// What its tables share.
    fn shared(&self) -> Result<Tables> {
        let (connection, catalog) = (self.connection.clone(), self.catalog()?.clone());
        Ok(Tables { connection, catalog, decoded: self.decoded.clone() })
    }

    fn catalog(&self) -> Result<&Arc<dyn TableCatalog>> {
        let Some(catalog) = &self.catalog else {
            self.storage()?;
            let what = format!("connection {}: the last states of its tables are kept by a service", self.connection);
            return Err(Error::new(Code::Unsupported, what)
                .hint("leave --here out, or use a connection of kind lake, whose tables are found by their folders"));
        };
        Ok(catalog)
    }

    /// A location as the storage's files have it; one that is no whole one is below the storage's address.
    fn whole_location(&self, written: &str) -> Result<String> {
        let written = written.trim_end_matches('/');
        match self.base.storage.as_ref().filter(|_| !written.contains("://") && !written.starts_with('/')) {
            Some(storage) => {
                let names: Vec<String> = written.split('/').filter(|n| !n.is_empty()).map(str::to_owned).collect();
                storage.location_of(&names)
            }
            None => Ok(written.to_owned()),
        }
    }

    fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let of = |kind: TableKind| move |name: String| TableEntry { name, kind };
        let mut all: Vec<TableEntry> = self.catalog()?.tables(schema)?.into_iter().map(of(TableKind::Table)).collect();
        all.extend(self.view_names(schema)?.into_iter().map(of(TableKind::View)));
        all.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(all)
    }

    /// The table as it is now. A name with `@` is that of a table's branch or tag.
    fn open(&self, schema: &str, table: &str) -> Result<Option<LakeTable>> {
        let found = self.open_main(schema, table)?;
        let (None, Some((table, name))) = (&found, table.rsplit_once('@')) else { return Ok(found) };
        let Some(open) = self.open_main(schema, table)? else { return Ok(None) };
        match open.metadata.refs.contains_key(name) {
            true => Ok(Some(open.on_branch(name))),
            false => {
                let what = format!("connection {}: {table}: {}", self.connection, refs::unknown(&open.metadata, name));
                Err(Error::new(Code::NotFound, what).hint("CALL lake_branch() makes a branch"))
            }
        }
    }

    fn open_main(&self, schema: &str, table: &str) -> Result<Option<LakeTable>> {
        let (catalog, name) = (self.catalog()?, TableName::new(schema, table));
        let Some(current) = catalog.current(&name)? else { return Ok(None) };
        let file = current.file.clone();
        let known = || self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        let is_same = |known: &LakeTable| known.name == name && Arc::ptr_eq(&known.storage, &current.storage);
        if let Some(table) = known().get(&file.path, &file.version).filter(is_same) {
            return Ok(Some(table));
        }
        let open = LakeTable::open(&self.shared()?, name, current, false)?;
        // Decoded it takes about as much as its text.
        known().keep(&file.path, file.version, open.clone(), 2 * file.bytes as usize);
        Ok(Some(open))
    }

    fn described(self: &Arc<Self>, name: ObjectName, version: Option<TableVersion>) -> Result<Option<DescribedTable>> {
        let Some(table) = self.open(&name.schema, &name.table)? else { return Ok(None) };
        let (snapshot, schema) = match &version {
            None => (table.head().cloned(), table.schema_seen()),
            Some(version) => {
                let (snapshot, schema) = earlier(&table.metadata, &name, version)?;
                (Some(snapshot), schema)
            }
        };
        let columns = columns(&table, schema)?;
        let statistics = self.statistics(&table, snapshot.as_ref(), schema);
        let origin = Origin {
            version: snapshot.as_ref().map(|snapshot| snapshot.id.to_string()),
            // Beside the table as it is now, it is another one.
            definition: version.map(|version| format!("{version:?}")),
            ..Origin::new(&self.connection, self.kind, self.region.as_deref())
        };
        let source = LakeTableSource {
            table: Arc::new(Seen {
                lake: self.clone(),
                table,
                snapshot,
                schema,
                columns: columns.clone(),
                tells_rows: false,
            }),
        };
        let table = Table { name, columns, statistics, primary_key: vec![], kind: TableKind::Table, origin };
        Ok(Some(DescribedTable::new(table, source)))
    }

    /// A file of rows, opened.
    fn opened(
        &self,
        storage: &Arc<dyn Storage>,
        file: &StoredFile,
        cancel: &CancellationToken,
        read_bytes: &Arc<std::sync::atomic::AtomicU64>,
        memory: Arc<dyn ScanMemory>,
    ) -> Result<OpenFile> {
        Ok(OpenFile {
            connection: self.connection.clone(),
            file: file.clone(),
            blob: storage.open(file, cancel)?,
            read_bytes: read_bytes.clone(),
            longest_record: cobble_format::LONGEST_RECORD,
            memory,
        })
    }

    /// The footer of a file, read once: files of a lake do not change.
    fn footer(
        &self,
        storage: &Arc<dyn Storage>,
        file: &StoredFile,
        format: &str,
        rows: u64,
    ) -> Result<Arc<dyn Footer>> {
        let known = || self.footers.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(footer) = known().get(&file.path, &file.version) {
            return Ok(footer);
        }
        let format = cobble_format::named(format).map_err(|e| Error {
            message: format!("connection {}: {}: {}", self.connection, file.path.display(), e.message),
            ..e
        })?;
        let open = self.opened(storage, file, &CancellationToken::new(), &Arc::default(), Arc::new(Unbounded))?;
        let footer = format.by_ids(&open, rows)?;
        known().keep(&file.path, file.version.clone(), footer.clone(), footer.memory());
        Ok(footer)
    }

    fn file_error(&self, file: &StoredFile, what: impl std::fmt::Display) -> Error {
        file_error(&self.connection, &file.path, Code::SourceData, what)
    }

    fn no_ids(&self, file: &StoredFile) -> Error {
        file_error(
            &self.connection,
            &file.path,
            Code::Unsupported,
            "its columns have no ids, and the table tells none for their names",
        )
        .hint("set the table's property schema.name-mapping.default, or have the file written for the table")
    }

    /// The footers of these files, in their order, many at a time.
    fn footers(&self, storage: &Arc<dyn Storage>, files: &[DataFile]) -> Result<Vec<Arc<dyn Footer>>> {
        let step = files.len().div_ceil(AT_ONCE).max(1);
        let one = |file: &DataFile| self.footer(storage, &file.stored, &file.format, file.rows);
        let read = |files: &[DataFile]| files.iter().map(one).collect::<Result<Vec<_>>>();
        let mut parts: Vec<Result<Vec<Arc<dyn Footer>>>> = std::thread::scope(|scope| {
            let all: Vec<_> = files.chunks(step).map(|part| scope.spawn(|| read(part))).collect();
            let stopped = || Err(Error::internal("a thread that reads footers has stopped"));
            all.into_iter().map(|thread| thread.join().unwrap_or_else(|_| stopped())).collect()
        });
        let mut all = Vec::with_capacity(files.len());
        for part in parts.drain(..) {
            all.extend(part?);
        }
        Ok(all)
    }
}

/// A snapshot that a statement names, and the schema in which it is seen: its own, and for a branch the table's, which is written in it next.
fn earlier(metadata: &Metadata, name: &ObjectName, version: &TableVersion) -> Result<(Snapshot, i32)> {
    let none = |what: String, hint: String| Err(Error::new(Code::NotFound, format!("{name} {what}")).hint(hint));
    let number = |snapshot: &Snapshot| format!("{} of {}", snapshot.id, moment(snapshot.at));
    let own = |snapshot: &Snapshot| (snapshot.clone(), snapshot.schema_id.unwrap_or(metadata.schema_id));
    match version {
        TableVersion::Time(at) => match metadata.as_of(at.div_euclid(1000)) {
            Some(snapshot) => Ok(own(snapshot)),
            None => none(
                format!("had no state yet at {}", moment(at.div_euclid(1000))),
                match metadata.log.first() {
                    Some(first) => format!("its first one that is known is of {}", moment(first.at)),
                    None => "it has never had rows".to_owned(),
                },
            ),
        },
        TableVersion::Number(id) => match metadata.snapshot(*id) {
            Some(snapshot) => Ok(own(snapshot)),
            None => {
                let last: Vec<String> = metadata.snapshots.iter().rev().take(5).map(number).collect();
                none(format!("has no snapshot {id}"), format!("its last ones are {}", last.join(", ")))
            }
        },
        TableVersion::Name(wanted) => match (metadata.named(wanted), metadata.refs.get(wanted)) {
            (Some(snapshot), Some(Ref { kind: RefKind::Tag, .. })) => Ok(own(snapshot)),
            (Some(snapshot), _) => Ok((snapshot.clone(), metadata.schema_id)),
            (None, _) => {
                let error = Error::unknown("branch or tag", wanted, metadata.refs.keys().map(String::as_str));
                let known: Vec<&str> = metadata.refs.keys().map(String::as_str).collect();
                let hint = error.hint.unwrap_or_else(|| format!("it has {}", known.join(", ")));
                none(format!("has no branch or tag {wanted}"), hint)
            }
        },
    }
}

/// A moment for people, of milliseconds since 1970-01-01 UTC.
fn moment(at: i64) -> String {
    format!("{}Z", write_timestamp(at.saturating_mul(1000)))
}

/// The columns of a schema. Names are those of SQL: in small letters.
fn columns(table: &LakeTable, schema: i32) -> Result<Vec<TableColumn>> {
    let wrong = |what: String| {
        Error::new(Code::SourceData, format!("connection {}: {}: {what}", table.connection, table.file.path.display()))
    };
    let schema = table.metadata.schema(schema).map_err(wrong)?;
    let mut names = HashSet::new();
    schema
        .fields
        .iter()
        .map(|field| {
            let name = field.name.to_lowercase();
            if !names.insert(name.clone()) {
                return Err(wrong(format!("it has two columns named {name} but for small and large letters")));
            }
            Ok(column_of(field, name))
        })
        .collect()
}

fn column_of(field: &Field, name: String) -> TableColumn {
    TableColumn {
        name,
        sql_type: field.kind.sql_type(),
        nullable: !field.required,
        partition: false,
        comment: field.comment.clone(),
    }
}

/// A table in one state: what an offer works on.
#[derive(Debug)]
pub struct Seen {
    lake: Arc<Lake>,
    table: LakeTable,
    /// None of a table that has never had rows.
    snapshot: Option<Snapshot>,
    /// The schema in which it is seen.
    schema: i32,
    /// Of the schema, and behind them those that tell which row one is, if these are asked for.
    columns: Vec<TableColumn>,
    tells_rows: bool,
}

/// Runs work that waits for the storage on a thread where it may wait.
async fn apart<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(|e| Error::internal(format!("a task of a lake stopped: {e}")))?
}

#[async_trait]
impl Connector for LakeConnector {
    fn over(&self, base: &Base) -> Option<Arc<dyn Connector>> {
        let own = &self.lake;
        let lake = Lake {
            kind: own.kind,
            way: own.way.clone(),
            connection: own.connection.clone(),
            region: own.region.clone(),
            writable: own.writable,
            gives_keys: own.gives_keys,
            planning: own.planning,
            storage_name: own.storage_name.clone(),
            folder: own.folder.clone(),
            base: base.clone(),
            catalog: own.catalog_over(base),
            tables: Mutex::default(),
            footers: Mutex::default(),
            known_rows: Mutex::default(),
            decoded: Arc::default(),
        };
        Some(Arc::new(LakeConnector { lake: Arc::new(lake) }))
    }

    async fn schemas(&self) -> Result<Vec<String>> {
        let lake = self.lake.clone();
        apart(move || lake.catalog()?.schemas()).await
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let (lake, schema) = (self.lake.clone(), schema.to_owned());
        apart(move || lake.tables(&schema)).await
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        let (lake, name) = (self.lake.clone(), ObjectName::new(catalog, schema, table));
        apart(move || lake.described(name, None)).await
    }

    async fn table_at(&self, name: &ObjectName, version: &TableVersion) -> Result<Option<DescribedTable>> {
        let (lake, name, version) = (self.lake.clone(), name.clone(), version.clone());
        apart(move || lake.described(name, Some(version))).await
    }

    async fn facts(
        &self,
        name: &ObjectName,
        _: Option<&TableDefinition>,
        wanted: Facts,
        filtered: Option<&Filtered>,
    ) -> Result<Option<FactRows>> {
        let (lake, name, filtered) = (self.lake.clone(), name.clone(), filtered.cloned());
        apart(move || {
            let table = lake.open(&name.schema, &name.table)?;
            table.map(|table| facts::facts(&lake, &table, wanted, filtered.as_ref())).transpose()
        })
        .await
    }

    async fn columns(&self, schema: &str) -> Result<Option<Vec<ListedColumns>>> {
        let (lake, schema) = (self.lake.clone(), schema.to_owned());
        apart(move || {
            let mut all = Vec::new();
            for name in lake.catalog()?.tables(&schema)? {
                let Some(table) = lake.open(&schema, &name)? else { continue };
                all.push(ListedColumns { columns: columns(&table, table.metadata.schema_id)?, table: name });
            }
            Ok(Some(all))
        })
        .await
    }

    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        let lake = self.lake.clone();
        apart(move || lake.writer(rows)).await
    }

    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        let (lake, schema, table) = (self.lake.clone(), schema.to_owned(), table.to_owned());
        apart(move || lake.change_table(&schema, &table, change)).await
    }

    async fn alter_table(&self, schema: &str, table: &str, changes: Vec<Alteration>) -> Result<()> {
        let (lake, schema, table) = (self.lake.clone(), schema.to_owned(), table.to_owned());
        apart(move || lake.alter_table(&schema, &table, &changes)).await
    }

    async fn call(&self, schema: &str, table: &str, call: ProcedureCall, tools: ScanTools) -> Result<FactRows> {
        let (lake, schema, table) = (self.lake.clone(), schema.to_owned(), table.to_owned());
        apart(move || call::call(Named { lake: &lake, schema: &schema, table: &table }, &call, &tools)).await
    }

    async fn view(&self, schema: &str, name: &str) -> Result<Option<SourceView>> {
        let (lake, schema, name) = (self.lake.clone(), schema.to_owned(), name.to_owned());
        apart(move || lake.view(&schema, &name)).await
    }

    async fn change_view(&self, schema: &str, name: &str, change: ViewChange) -> Result<()> {
        let (lake, schema, name) = (self.lake.clone(), schema.to_owned(), name.to_owned());
        apart(move || lake.change_view(&schema, &name, &change)).await
    }

    async fn serve(&self, call: CatalogCall) -> Result<CatalogAnswer> {
        let lake = self.lake.clone();
        apart(move || Ok(served::serve(&lake, &call))).await
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        scan::scan(&self.lake, spec)
    }

    fn refresh(&self) {
        *self.lake.tables.lock().unwrap_or_else(PoisonError::into_inner) = Known::default();
        self.lake.decoded.forget();
    }

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        let lake = self.lake.clone();
        let (send, mut steps) = tokio::sync::mpsc::unbounded_channel();
        let taken = tokio::task::spawn_blocking(move || lake.test(&mut |step| drop(send.send(step))));
        while let Some(step) = steps.recv().await {
            report(step);
        }
        let _ = taken.await;
    }
}

impl Lake {
    /// The way to the tables, in two halves: what lists them, and the storage that holds their files.
    fn test(self: &Arc<Self>, report: &mut (dyn FnMut(TestStep) + Send)) {
        let mut step = reporter(report);
        let started = Instant::now();
        if let Way::Protocol(protocol, _) = &self.way {
            protocol.forget();
            let told = protocol.told().map(|told| match told.properties.get("prefix") {
                Some(prefix) => format!("{}, as {prefix}", protocol.settings.url),
                None => protocol.settings.url.clone(),
            });
            let told = told.map_err(Error::from);
            let setting = match &told {
                Err(error) if error.code == Code::SourceSignIn => "secret",
                Err(error) if error.code == Code::NotFound => "warehouse",
                _ => "address",
            };
            if !step("catalog", started, told, setting) {
                return;
            }
        }
        let started = Instant::now();
        if let Some(name) = &self.storage_name {
            let found = self.storage().map(|storage| format!("{name} at {}", storage.address()));
            if !step("storage", started, found, "storage") {
                return;
            }
        }
        let started = Instant::now();
        let listed = self.listed();
        let count = listed.as_ref().map(|all| counted(all.len(), "table")).map_err(Clone::clone);
        if !step("list", started, count, "address") {
            return;
        }
        for (schema, table) in listed.unwrap_or_default() {
            let started = Instant::now();
            let read = self.first_rows(&schema, &table).map(|rows| format!("{schema}.{table}: {rows}"));
            if !step("read", started, read, "storage") {
                return;
            }
        }
    }

    /// Schemas and names of all tables.
    fn listed(&self) -> Result<Vec<(String, String)>> {
        let catalog = self.catalog()?;
        let mut all = Vec::new();
        for schema in catalog.schemas()? {
            all.extend(catalog.tables(&schema)?.into_iter().map(|table| (schema.clone(), table)));
        }
        match all.is_empty() && matches!(self.way, Way::Folders) {
            true => {
                let place: Vec<String> = [self.storage()?.address()].into_iter().chain(self.folder.clone()).collect();
                let what = format!("connection {}: no folder below {} is a table", self.connection, place.join("/"));
                Err(Error::new(Code::NotFound, what)
                    .hint("a table's folder has a folder metadata in it; correct the address, or the storage"))
            }
            false => Ok(all),
        }
    }

    /// Reads the metadata of a table and the footer of one of its files.
    fn first_rows(&self, schema: &str, table: &str) -> Result<String> {
        let Some(open) = self.open(schema, table)? else { return Ok("no table".to_owned()) };
        let columns = counted(columns(&open, open.metadata.schema_id)?.len(), "column");
        let Some(snapshot) = open.metadata.current() else { return Ok(format!("{columns}, no rows yet")) };
        let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
        let (schema, cancel) = (open.metadata.schema_id, CancellationToken::new());
        let looking = open.looking(snapshot, schema, &Default::default(), &memory, &cancel)?;
        let left = looking.left(self.planning, &memory, &cancel)?;
        let more = if left.later.is_empty() { "" } else { " and more" };
        let files = format!("{}{more}", counted(left.files.len(), "file"));
        let at_fault = |e: Error| {
            let storage = self.storage_name.as_deref().unwrap_or("(given by the catalog)");
            let hint = format!("listing works, reading does not: look at the settings of connection {storage}");
            Error { hint: Some(hint), ..e }
        };
        if let Some(file) = left.files.first() {
            self.footer(&open.storage, &file.stored, &file.format, file.rows).map_err(at_fault)?;
        }
        Ok(format!("{columns}, {files}"))
    }
}

/// A described table, of which fragments are answered.
#[derive(Debug)]
struct LakeTableSource {
    table: Arc<Seen>,
}

#[async_trait]
impl Source for LakeTableSource {
    fn kept_as(&self) -> BTreeMap<String, String> {
        let (table, mut all) = (&self.table.table, BTreeMap::new());
        let Ok(schema) = table.schema() else { return all };
        let spec = table.metadata.spec(table.metadata.spec_id).map(|spec| spec.fields.as_slice()).unwrap_or_default();
        let part = |field: &PartitionField| {
            let source = schema.fields.iter().find(|own| own.id == field.source)?;
            let name = quote_where_needed(&source.name.to_lowercase());
            match field.transform {
                Transform::Void => None,
                Transform::Identity => Some(name),
                Transform::Bucket(number) => Some(format!("bucket({number}, {name})")),
                Transform::Truncate(width) => Some(format!("truncate({width}, {name})")),
                other => Some(format!("{other}({name})")),
            }
        };
        let key = |key: &OrderKey| {
            let direction = if key.descending { "DESC" } else { "ASC" };
            let nulls = if key.nulls_first { "FIRST" } else { "LAST" };
            format!("{} {direction} NULLS {nulls}", quote_where_needed(&schema.fields[key.place].name.to_lowercase()))
        };
        let partitions: Vec<String> = spec.iter().filter_map(part).collect();
        let order: Vec<String> = table.metadata.order.iter().map(key).collect();
        for (name, list) in [("partition_by", partitions), ("order_by", order)] {
            if !list.is_empty() {
                all.insert(name.to_owned(), list.join(", "));
            }
        }
        // Names of others are not those of new properties, and which columns are which another table's fields say.
        let properties = table.metadata.properties.iter();
        let own = properties.filter(|(name, _)| name.contains('.') && *name != name_mapping::PROPERTY);
        all.extend(own.map(|(name, value)| (name.clone(), value.clone())));
        all
    }

    fn row_order(&self) -> Vec<OrderedColumn> {
        let table = &self.table.table;
        let Ok(schema) = table.schema() else { return vec![] };
        let one = |key: &OrderKey| OrderedColumn {
            name: schema.fields[key.place].name.to_lowercase(),
            descending: key.descending,
            nulls_first: key.nulls_first,
        };
        table.metadata.order.iter().map(one).collect()
    }

    fn added(&self, _: &Table, columns: &[Column]) -> Result<String> {
        Ok(columns.iter().map(|column| column.name.clone()).collect::<Vec<_>>().join(", "))
    }

    fn changeable(&self, table: &Table) -> Result<Changeable> {
        let Seen { lake, table: open, snapshot, schema, columns, .. } = self.table.as_ref();
        lake.checked_to_write()?;
        open.is_ours()?;
        if table.origin.definition.is_some() {
            return Err(Error::new(Code::Unsupported, format!("an earlier state of {} cannot be changed", table.name)));
        }
        let identity = row_places::columns();
        let seen = Seen {
            lake: lake.clone(),
            table: open.clone(),
            snapshot: snapshot.clone(),
            schema: *schema,
            columns: columns.iter().chain(&identity).cloned().collect(),
            tells_rows: true,
        };
        let source = Arc::new(LakeTableSource { table: Arc::new(seen) });
        Ok(Changeable { identity, source, by: ChangedBy::Writer })
    }

    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<Answer> {
        answer(fragment, |scan| Ok(offer::LakeDraft::new(self.table.clone(), scan))).await
    }

    async fn takes_keys(&self, _: &ScanSpec, _: usize, _: &Column, _: f64) -> Result<Verdict> {
        let pages = if self.table.tells_rows { "" } else { "row groups and pages by min and max, then " };
        Ok(Verdict::Prunes { note: Some(format!("{pages}{}", offer::rows_when(self.table.tells_rows))) })
    }
}
