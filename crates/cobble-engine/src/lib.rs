//! The engine as a library: connections and catalogs in, statements in, batches, plans and measures out. No HTTP, no command
//! line, no database of its own.

mod analyze;
mod call;
mod catalogs;
mod changing;
mod configuration;
mod discovery;
mod execution;
mod files_at;
mod filtered;
mod kinds;
mod memory_table;
mod objects;
mod prepared;
mod resolve;
mod returning;
mod routed;
mod sampling;
mod saved_plan;
mod session;
mod shown;
mod source_views;
mod system_tables;
mod tiers;
mod under_way;
mod views;

pub use analyze::CollectedStatistics;
pub use catalogs::{Asker, CatalogDefinition, Engine, OpenConnection, StateTables, Watch};
pub use cobble_connect::{
    CatalogAnswer, CatalogCall, ConnectionDefinition, DefinedColumn, Effective, Looking, MemoryPointers, Secret,
    TableDefinition, TableEntry, TestStep, Verb,
};
pub use cobble_exec::{Held, ServiceMemory, SpillPlace};
pub use cobble_functions::{Entry as FunctionEntry, Kind as FunctionKind, entries as own_functions};
pub use cobble_optimize::{Settings, rewrites, settings};
pub use cobble_plan::document::PlanDocument;
pub use cobble_plan::draw;
pub use cobble_plan::logical::{Table, TableColumn, TableKind};
pub use cobble_plan::{FunctionLanguage, UserFunction, UserView};
pub use cobble_sql::{KnownFunction, KnownView, Statement, StatementText, parse_statements};
pub use configuration::{
    Change, Configuration, ConfiguredCatalog, ConfiguredConnection, ConfiguredCredentials, Reconfiguration,
    SecretSource, secret_key,
};
pub use discovery::{Drift, FoundTable, Look, SampleColumn, Take};
pub use execution::{Execution, Progress, ResultColumn};
pub use kinds::KINDS;
pub use memory_table::{MemoryTable, text_rows};
pub use prepared::Prepared;
pub use resolve::Relation;
pub use saved_plan::SavedPlan;
pub use session::Session;
pub use under_way::UnderWay;
pub use views::full_name as view_name;
