//! The contract of connectors: what the definition of a connection says, what every connector can be asked, the registry of kinds, and
//! the cache of metadata that stands before each connector.

mod catalog_call;
mod closed;
mod connector;
mod defined;
mod definition;
mod kind;
mod remembered;
mod returned;
mod table_definition;
pub mod tls_settings;

pub use catalog_call::{CatalogAnswer, CatalogCall, Verb};
pub use closed::Closed;
pub use cobble_network::TestStep;
pub use cobble_storage::{MemoryPointers, Pointer, PointerName, Pointers, SchemaProperties, taken};
pub use connector::{
    Base, Connector, ListedColumns, NewSourceView, SourceView, TableChange, TableEntry, TableVersion, ViewChange,
};
pub use defined::Defined;
pub use definition::{
    COMMON, ConnectionDefinition, Credentials, Effective, Secret, SettingDescription, TUNABLE, check_name, setting,
};
pub use kind::{Kind, Registry};
pub use returned::Returned;
pub use table_definition::{DefinedColumn, Discovered, Discovery, Forms, Looking, NativeQuery, TableDefinition};
