//! The kinds of connections to tables of a lake: by what knows which tables there are.

use std::sync::Arc;
use std::time::Duration;

use cobble_connect::tls_settings::{CA_FILE, UNVERIFIED, certificates_of};
use cobble_connect::{ConnectionDefinition, Kind, SettingDescription, setting};
use cobble_lake::catalog::{Protocol, ProtocolSettings, SignIn};
use cobble_lake::left::Budget;
use cobble_types::{Code, Error, Result};

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
const PLANNED_FILES: SettingDescription = setting(
    "planned_files",
    "Files found while planning",
    "files of a table that are looked for before a statement runs; those beyond are found while it runs",
    Some("50000"),
);
const REGION: SettingDescription =
    setting("region", "Region", "where the files are, for the cost of moving data", None);

/// Bytes that a manifest has for a file, roughly.
const FILE_BYTES: u64 = 350;

/// How far the files of a table are looked for when a statement is planned.
pub fn planning(definition: &ConnectionDefinition) -> Result<Budget> {
    let files = definition.number("planned_files", 50_000)?;
    Ok(Budget { manifest_bytes: files.saturating_mul(FILE_BYTES), files })
}

/// How the tables of a connection are known.
#[derive(Debug, Clone)]
pub enum Way {
    Folders,
    Pointers,
    /// By a catalog that is asked. Whether its schemas have schemas in them.
    Protocol(Arc<Protocol>, bool),
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
        PLANNED_FILES,
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
        PLANNED_FILES,
        REGION,
    ],
};

pub const REST: Kind = Kind {
    kind: "lake_rest",
    about: "tables of the open table format that another service's catalog knows, by the open REST protocol",
    metadata_life: 0,
    connect: |definition| {
        let way = Way::Protocol(Arc::new(protocol(definition)?), definition.flag("nested")?);
        Ok(LakeConnector::new(definition, &REST, way)?)
    },
    settings: &[
        SettingDescription {
            required: true,
            ..setting("address", "URL of the catalog", "what stands before /v1; https by default", None)
        },
        setting("warehouse", "Warehouse", "which of the catalog's warehouses, where it has several", None),
        setting(
            "storage",
            "Storage",
            "the connection of kind files or s3 that holds the tables' files; without it the catalog gives keys",
            None,
        ),
        setting("user", "Client", "the client's id, where the secret is exchanged for tokens (OAuth 2)", None),
        SettingDescription {
            secret: true,
            ..setting(
                "secret",
                "Secret or token",
                "without a client it is sent as a bearer token; sealed when stored",
                None,
            )
        },
        setting(
            "token_address",
            "URL of tokens",
            "where client and secret are exchanged; by default the catalog's own",
            None,
        ),
        setting("scope", "Scope", "what tokens are asked for", Some("catalog")),
        setting("nested", "Schemas in schemas", "true lists them too, with points between their names", Some("false")),
        WRITABLE,
        PLANNED_FILES,
        CA_FILE,
        UNVERIFIED,
        setting("connect_limit", "Seconds to connect", "how long to wait for the catalog", Some("5")),
        setting("request_limit", "Seconds for a request", "how long one request may take", Some("60")),
        REGION,
    ],
};

fn protocol(definition: &ConnectionDefinition) -> Result<Protocol> {
    let option = |name: &str| definition.option(name).map(str::to_owned);
    let sign_in = match (&definition.user, &definition.secret) {
        (None, None) => SignIn::Nobody,
        (None, Some(secret)) => SignIn::Token(secret.reveal().to_owned()),
        (Some(_), None) => {
            let what = format!("connection {}: a client needs its secret", definition.name);
            return Err(Error::new(Code::BadSetting, what).hint("give the secret"));
        }
        (Some(user), Some(secret)) => SignIn::Client {
            id: user.clone(),
            secret: secret.reveal().to_owned(),
            scope: option("scope").unwrap_or_else(|| "catalog".to_owned()),
            url: option("token_address"),
        },
    };
    Protocol::new(ProtocolSettings {
        connection: definition.name.clone(),
        url: definition.address.clone(),
        warehouse: option("warehouse"),
        sign_in,
        wants_keys: definition.option("storage").is_none(),
        connect_limit: Duration::from_secs(definition.seconds("connect_limit", 5)?),
        request_limit: Duration::from_secs(definition.seconds("request_limit", 60)?),
        tls: certificates_of(definition)?,
    })
}

/// The folder that a definition names, as names below its storage's address.
pub fn folder(definition: &ConnectionDefinition) -> Vec<String> {
    let names = definition.address.split('/').map(str::trim).filter(|name| !name.is_empty());
    names.map(str::to_owned).collect()
}
