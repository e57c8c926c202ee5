//! The kinds of connections to tables of a lake: by what knows which tables there are.

use cobble_connect::{ConnectionDefinition, Kind, SettingDescription, setting};
use cobble_types::Result;

use super::LakeConnector;

const STORAGE: SettingDescription = SettingDescription {
    required: true,
    ..setting("storage", "Storage", "the connection of kind files or s3 that holds the tables' files", None)
};
const WRITABLE: SettingDescription = setting(
    "writable",
    "Tables may be written",
    "true lets CREATE TABLE, INSERT INTO, UPDATE, DELETE, MERGE INTO, TRUNCATE and DROP TABLE change the lake",
    Some("false"),
);
const GIVES_KEYS: SettingDescription = setting(
    "gives_keys",
    "Keys for other tools",
    "true gives other tools that open the tables through this service the keys of the storage",
    Some("false"),
);
const REGION: SettingDescription =
    setting("region", "Region", "where the files are, for the cost of moving data", None);

/// How the tables of a connection are known.
#[derive(Debug, Clone)]
pub enum Way {
    Folders,
    Pointers,
}

pub const FOLDERS: Kind = Kind {
    kind: "lake",
    about: "tables of the open table format in the folders of a storage",
    metadata_life: 0,
    connect: |definition| Ok(LakeConnector::new(definition, &FOLDERS, Way::Folders)?),
    settings: &[
        STORAGE,
        setting(
            "address",
            "Folder",
            "the folder below the storage's address that holds the tables; empty for all of it",
            None,
        ),
        WRITABLE,
        GIVES_KEYS,
        REGION,
    ],
};

pub const SERVICE: Kind = Kind {
    kind: "lake_service",
    about: "tables of the open table format whose last states this service keeps, for itself and for other tools",
    metadata_life: 0,
    connect: |definition| Ok(LakeConnector::new(definition, &SERVICE, Way::Pointers)?),
    settings: &[
        STORAGE,
        setting(
            "address",
            "Folder",
            "the folder below the storage's address that new tables come into; empty for the address itself",
            None,
        ),
        WRITABLE,
        GIVES_KEYS,
        REGION,
    ],
};

/// The folder that a definition names, as names below its storage's address.
pub fn folder(definition: &ConnectionDefinition) -> Result<Vec<String>> {
    let names = definition.address.split('/').map(str::trim).filter(|name| !name.is_empty());
    Ok(names.map(str::to_owned).collect())
}
