//! The JSON that goes over HTTP. The console's types are generated from these.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};

use cobble_functions::Entry;
use cobble_plan::result::{Progress, ResultColumn};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Every error has this one shape.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ErrorBody {
    /// A stable word that programs may compare.
    #[schema(example = "unknown_name")]
    pub code: String,
    #[schema(example = "42703")]
    pub sqlstate: String,
    pub message: String,
    /// Line and column in the statement, counted from one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub position: Option<PositionBody>,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
}

#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
pub struct PositionBody {
    pub line: u64,
    pub column: u64,
}

impl From<&cobble_types::Error> for ErrorBody {
    fn from(error: &cobble_types::Error) -> Self {
        ErrorBody {
            code: error.code.word(),
            sqlstate: error.code.sqlstate().to_owned(),
            message: error.message.clone(),
            position: error.position.map(|p| PositionBody { line: p.line, column: p.column }),
            hint: error.hint.clone(),
        }
    }
}

/// A statement to run or to plan: in a session, or by itself from a place and with settings that are given.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct StatementBody {
    #[schema(example = "SELECT count(*) FROM fleet.public.routes WHERE id < $1")]
    pub statement: String,
    /// Values of `$1`, `$2`, …: texts, numbers, truth values, null, or documents. Their types are found out from the statement.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<Object>>)]
    pub parameters: Option<Vec<serde_json::Value>>,
    /// False for a look at some rows, which does not appear among the runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub record: Option<bool>,
    /// A session that has been begun, with its place and settings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub catalog: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
}

/// Where a new session begins.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewSessionBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub catalog: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
}

/// A session, as it is after its last statement.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SessionBody {
    pub id: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    pub started_at: String,
    /// Seconds since its last statement.
    pub idle: f64,
    pub catalog: Option<String>,
    pub schema: Option<String>,
    pub settings: BTreeMap<String, String>,
    /// The names of prepared statements.
    pub prepared: Vec<String>,
    /// The names of views that only this session has.
    pub views: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ColumnBody {
    pub name: String,
    /// The SQL type as text.
    #[serde(rename = "type")]
    pub sql_type: String,
}

impl From<&ResultColumn> for ColumnBody {
    fn from(column: &ResultColumn) -> Self {
        ColumnBody { name: column.name.clone(), sql_type: column.sql_type.to_string() }
    }
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ProgressBody {
    pub rows_read: u64,
    pub bytes_read: u64,
    pub rows_out: u64,
    pub seconds: f64,
    /// What a call is doing, in words with counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doing: Option<String>,
}

impl From<&Progress> for ProgressBody {
    fn from(p: &Progress) -> Self {
        ProgressBody {
            rows_read: p.rows_read,
            bytes_read: p.bytes_read,
            rows_out: p.rows_out,
            seconds: p.seconds,
            doing: p.doing.clone(),
        }
    }
}

/// A run as it is now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunBody {
    pub id: String,
    /// `running`, `finished`, `failed`, `cancelled`, or `lost` when the service was stopped meanwhile.
    pub state: String,
    /// It is running, but has not begun: other runs go before it.
    #[serde(default)]
    pub waits: bool,
    pub statement: String,
    pub started_at: String,
    pub progress: ProgressBody,
    /// Known once the statement has been planned.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub columns: Option<Vec<ColumnBody>>,
    /// What a statement without rows has done.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub message: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub error: Option<ErrorBody>,
    /// The session's catalog, schema and settings after the statement.
    pub catalog: Option<String>,
    pub schema: Option<String>,
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
    /// False once the rows have been dropped.
    pub rows_kept: bool,
    /// Whose run it is, when somebody had signed in: only they see its plan and its rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The first rows, where the run was waited for and has finished.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<PageBody>,
}

/// A page of a result.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PageBody {
    pub columns: Vec<ColumnBody>,
    /// One array per row. Numbers that JSON would round are text.
    #[schema(value_type = Vec<Vec<Object>>)]
    pub rows: Vec<Vec<serde_json::Value>>,
    pub offset: u64,
    /// True when no row follows this page.
    pub last: bool,
}

/// A connection without its secret.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectionBody {
    pub name: String,
    #[schema(example = "postgres")]
    pub kind: String,
    pub address: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
    /// True when a secret is stored. Ignored when sent.
    #[serde(default)]
    pub has_secret: bool,
    /// What users of the service sign in with there, by their names, without their secrets. Ignored when sent.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub credentials: BTreeMap<String, CredentialsBody>,
    /// Why it cannot be used: its secret cannot be opened, and has to be given again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed: Option<String>,
    /// Stored secrets that this change has dropped, as they would have gone elsewhere.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub forgotten: Vec<String>,
}

/// What a user of the service signs in with at a system, without the secret.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct CredentialsBody {
    /// Their name there, when it is not the connection's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
}

#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewCredentialsBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Sealed when stored; never sent back.
    pub secret: String,
}

/// Who calls.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CallerBody {
    pub user: String,
    /// `administrator` or `user`.
    pub role: String,
}

/// A token, or the code of a link.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Who has signed in, and what the browser shows from then on.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignedInBody {
    pub user: String,
    pub role: String,
    pub secret: String,
}

/// The code of a link to the console.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct LinkBody {
    pub code: String,
}

/// The path that a ticket is wanted for, from `/api/v1` on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WantedTicketBody {
    pub path: String,
}

#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct TicketBody {
    pub ticket: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UserBody {
    pub name: String,
    /// `administrator` or `user`.
    pub role: String,
    /// When the token stops working, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_at: Option<String>,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewUserBody {
    pub name: String,
    /// `administrator` or `user`; without it `user`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// Seconds until the token stops working; without it never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in: Option<u64>,
}

/// What is not given stays as it is.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeUserBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// Seconds until the token stops working, from now on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in: Option<u64>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub never_expires: bool,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct WantedTokenBody {
    /// Seconds until the token stops working; without it never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in: Option<u64>,
}

/// A user's token, which is not kept.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewTokenBody {
    pub name: String,
    pub token: String,
}

/// A connection to add or to test, with its secret.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewConnectionBody {
    #[serde(flatten)]
    pub connection: ConnectionBody,
    /// Sealed when stored; never sent back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
}

/// All connections, catalogs, functions and views. Holds no secret.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ConfigurationBody {
    #[serde(default)]
    pub connections: BTreeMap<String, ConfiguredConnectionBody>,
    #[serde(default)]
    pub catalogs: BTreeMap<String, ConfiguredCatalogBody>,
    /// Functions with the statements that make them.
    #[serde(default)]
    pub functions: BTreeMap<String, String>,
    #[serde(default)]
    pub views: BTreeMap<String, ViewBody>,
}

/// A view of the service's own: a query, names in the place of its columns' own, and where its names are looked up; or the two sides of a table in
/// tiers.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ViewBody {
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub query: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tiers: Option<TiersBody>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub catalog: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
}

/// A table in tiers: rows from the boundary on are in one table, those before it in another.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct TiersBody {
    pub recent: String,
    pub older: String,
    /// The column that the boundary is about.
    pub by: String,
    /// Rows without a value are recent ones.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub nullable: bool,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<String>,
    /// Where it begins; of a table that is there already it stays where it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boundary: Option<String>,
}

/// An environment variable or a file.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SecretSourceBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub env: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ConfiguredCatalogBody {
    pub connection: String,
    /// Settings that override those of the connection.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch: Option<WatchBody>,
    /// Tables that the catalog defines, by `schema.table`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tables: BTreeMap<String, TableDefinitionBody>,
}

/// Files that are looked through again and again.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WatchBody {
    #[serde(default)]
    pub path: String,
    /// Seconds from one time to the next.
    pub every: u64,
}

/// A table of files below a path, or of a stored query.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct TableDefinitionBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Patterns of the files' names, with commas between them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<String>,
    /// `csv`, `json`, `parquet`, `avro`, `arrow` or `orc`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quote: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub escape: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub header: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// What begins the fraction of a number, and what stands between groups of three digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decimal: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub thousands: Option<String>,
    /// Such as `DD.MM.YYYY`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dates: Option<String>,
    /// Words that stand for null, with commas between them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nulls: Option<String>,
    /// Each like `fare numeric(8,2)`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<String>,
    /// A query in the source's own language.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// Of a query: a column of whole numbers by whose ranges its rows are fetched at the same time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub split_on: Option<String>,
    /// The number of those ranges.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub split_into: Option<u32>,
    /// Settings that stand in the place of the catalog's.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
}

/// Where to discover tables, and what to do with them.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct DiscoverBody {
    /// Below the connection's address; empty for all of it.
    #[serde(default)]
    pub path: String,
    /// The schema of new tables; without it, one named for the folders that they are in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
    /// Only look, and change nothing.
    #[serde(default)]
    pub preview: bool,
    /// Definitions to take rather than what was found, by `schema.table`; when there are any, no others are taken.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tables: BTreeMap<String, TableDefinitionBody>,
    /// Look again every so many seconds from now on; 0 stops it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every: Option<u64>,
    /// How texts are written, where it is known; the rest of it is passed over.
    #[serde(default)]
    pub form: TableDefinitionBody,
}

/// How far a look for tables is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LookingBody {
    /// Files looked into, of so many; none are known while the files are listed.
    pub looked: u64,
    pub files: u64,
}

/// What a look for tables has found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LookBody {
    pub tables: Vec<FoundTableBody>,
    /// How that differs from what is defined.
    pub drift: Vec<DriftBody>,
    /// Files that are no data that the engine reads.
    pub others: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FoundTableBody {
    /// `schema.table`.
    pub name: String,
    pub definition: TableDefinitionBody,
    /// Columns that are `key=value` folders.
    pub partitions: Vec<String>,
    pub files: u64,
    pub bytes: u64,
    pub notes: Vec<String>,
    /// Why it cannot be a table as it stands.
    pub problem: Option<String>,
    /// `new`, `changed` or `same`.
    pub state: String,
    /// Its columns with values of its first rows, when it is a preview.
    #[serde(default)]
    pub sample: Vec<SampleColumnBody>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SampleColumnBody {
    pub name: String,
    #[serde(rename = "type")]
    pub sql_type: String,
    pub values: Vec<Option<String>>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DriftBody {
    /// `schema.table`.
    pub table: String,
    /// `new table`, `vanished table`, `new column`, `lost column`, `changed type`, `changed form`, `problem` or `failed`.
    pub change: String,
    pub detail: String,
}

/// A look for tables that has found something else than before.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PastLookBody {
    pub looked_at: DateTime<Utc>,
    pub path: String,
    /// A user cancelled it; otherwise it ran out of time.
    pub asked: bool,
    pub drift: Vec<DriftBody>,
}

/// What depends on a connection or a catalog, in words.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct DependentsBody {
    /// What has to go first.
    pub blocking: Vec<String>,
    /// What goes with it, or fails without it.
    pub lost: Vec<String>,
}

/// A setting as it works.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EffectiveBody {
    pub name: String,
    /// Of a secret only that it is there.
    pub value: Option<String>,
    /// `default`, `connection`, `catalog` or `table`.
    pub from: String,
    /// Whether a catalog or a table may have another one than its connection.
    pub tunable: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfiguredConnectionBody {
    pub kind: String,
    #[serde(default)]
    pub address: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where the secret is taken from; the secret itself goes into `secrets`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretSourceBody>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub credentials: BTreeMap<String, ConfiguredCredentialsBody>,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ConfiguredCredentialsBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretSourceBody>,
}

/// A configuration to apply. What it does not name is removed.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ApplyBody {
    pub configuration: ConfigurationBody,
    /// Secrets by connection, and for a user of one by `connection/user`. A connection that is there keeps its secret when none is given.
    #[serde(default)]
    pub secrets: BTreeMap<String, String>,
    /// Only say what would change.
    #[serde(default)]
    pub preview: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangeBody {
    /// `connection`, `catalog` or `function`.
    pub what: String,
    pub name: String,
    /// `added`, `changed` or `removed`.
    pub change: String,
    pub details: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestStepBody {
    /// `resolve`, `reach`, `sign in`, `list`, `read`.
    pub step: String,
    pub passed: bool,
    pub detail: String,
    /// The setting at fault.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub setting: Option<String>,
    /// The likely fix.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fix: Option<String>,
    pub seconds: f64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CatalogBody {
    pub name: String,
    pub connection: String,
    /// The connection's kind. Ignored when sent.
    #[serde(default)]
    pub kind: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TableColumnBody {
    pub name: String,
    #[serde(rename = "type")]
    pub sql_type: String,
    pub nullable: bool,
    pub partition: bool,
    pub key: bool,
    pub comment: Option<String>,
    pub distinct: Option<f64>,
    pub min: Option<String>,
    pub max: Option<String>,
    pub null_fraction: Option<f64>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TableBody {
    pub catalog: String,
    pub schema: String,
    pub name: String,
    /// `table` or `view`.
    pub kind: String,
    /// The kind of connection that it comes by; none of what the service has itself.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub source: Option<String>,
    pub columns: Vec<TableColumnBody>,
    pub estimated_rows: Option<f64>,
    pub bytes: Option<f64>,
    /// Where the estimates come from.
    pub statistics_from: Option<String>,
    /// The query of a view of the service's own.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub definition: Option<String>,
    /// What such a view reads.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub reads: Vec<String>,
    /// Views of the service's own that read it.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub used_by: Vec<String>,
}

/// A schema with the number of its tables and views.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaBody {
    pub schema: String,
    pub tables: u64,
    pub views: u64,
}

/// A table with the names of its columns, for completion.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NameBody {
    pub catalog: String,
    pub schema: String,
    pub table: String,
    pub columns: Vec<String>,
}

/// A function and what it takes, for completion.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FunctionBody {
    pub name: String,
    pub arguments: String,
    pub result: Option<String>,
    /// `scalar`, `aggregate`, `window`, `table`, or how a user wrote it.
    pub kind: String,
    /// What it returns, in a sentence.
    pub about: String,
}

impl From<Entry> for FunctionBody {
    fn from(entry: Entry) -> Self {
        FunctionBody {
            name: entry.name.into(),
            arguments: entry.arguments.into(),
            result: entry.returns,
            kind: entry.kind.word().to_owned(),
            about: entry.about.into(),
        }
    }
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SettingBody {
    pub name: String,
    pub label: String,
    pub help: String,
    pub required: bool,
    pub secret: bool,
    pub default: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KindBody {
    pub kind: String,
    pub about: String,
    pub settings: Vec<SettingBody>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StatusBody {
    pub version: String,
    pub seconds_up: f64,
    pub connections: usize,
    pub catalogs: usize,
    /// Bytes that all runs hold in memory now.
    pub memory_used: u64,
    /// Bytes that all runs may hold together.
    pub memory_limit: u64,
}
