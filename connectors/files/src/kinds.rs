//! The kinds of connections that are files: in a folder, in a bucket, behind a web server.

use std::sync::Arc;
use std::time::Duration;

use cobble_connect::tls_settings::{CA_FILE, UNVERIFIED, certificates_of};
use cobble_connect::{ConnectionDefinition, Kind, SettingDescription, setting};
use cobble_storage::{AccessKey, Disk, HttpAddress, Limits, Objects, S3Address, SignIn};
use cobble_types::{Code, Error, Result};

use crate::FilesConnector;

const CONNECT_LIMIT: SettingDescription =
    setting("connect_limit", "Seconds to connect", "how long to wait for the server", Some("5"));
const REQUEST_LIMIT: SettingDescription =
    setting("request_limit", "Seconds for a request", "how long one request may take", Some("60"));
const LONGEST_RECORD: SettingDescription =
    setting("longest_record", "Longest record", "MiB that a record of a CSV or JSON file may have at most", Some("64"));
const REGION: SettingDescription =
    setting("region", "Region", "where the server is, for the cost of moving data", None);

pub const FILES: Kind = Kind {
    kind: "files",
    about: "CSV, JSON, Parquet, Avro, Arrow and ORC files in a folder",
    metadata_life: 0,
    connect: |definition| {
        let disk = Disk::new(&definition.name, &definition.address);
        Ok(FilesConnector::new(definition, Arc::new(disk))?)
    },
    settings: &[
        SettingDescription {
            required: true,
            ..setting(
                "address",
                "Folder",
                "the folder, for example /srv/ferries/drop; a single file or a pattern such as /srv/*.csv works too",
                None,
            )
        },
        setting(
            "writable",
            "Tables may be written",
            "true lets CREATE TABLE … AS and INSERT INTO … SELECT write into the folder",
            Some("false"),
        ),
        LONGEST_RECORD,
        setting("region", "Region", "where the files are, for the cost of moving data", None),
    ],
};

pub const S3: Kind = Kind {
    kind: "s3",
    about: "files in a bucket of an object store that speaks the S3 protocol",
    metadata_life: 20,
    connect: |definition| Ok(FilesConnector::new(definition, Arc::new(bucket(definition)?))?),
    settings: &[
        SettingDescription {
            required: true,
            ..setting("address", "Endpoint", "such as http://127.0.0.1:9000; https by default", None)
        },
        SettingDescription { required: true, ..setting("bucket", "Bucket", "the bucket that holds the files", None) },
        setting("folder", "Folder", "only what is below this folder of the bucket", None),
        setting(
            "writable",
            "Tables may be written",
            "true lets CREATE TABLE … AS and INSERT INTO … SELECT write into the bucket",
            Some("false"),
        ),
        setting("user", "Access key", "leave it out for a bucket that everyone may read", None),
        SettingDescription {
            secret: true,
            ..setting("secret", "Secret key", "sealed when stored; never shown again", None)
        },
        setting("path_style", "Bucket in the path", "false when the bucket is a part of the host's name", Some("true")),
        setting("signing_region", "Signing region", "the region that requests are signed for", Some("us-east-1")),
        CA_FILE,
        UNVERIFIED,
        CONNECT_LIMIT,
        REQUEST_LIMIT,
        LONGEST_RECORD,
        REGION,
    ],
};

pub const HTTP: Kind = Kind {
    kind: "http",
    about: "files that a web server gives, with no listing",
    metadata_life: 20,
    connect: |definition| Ok(FilesConnector::new(definition, Arc::new(web_server(definition)?))?),
    settings: &[
        SettingDescription {
            required: true,
            ..setting("address", "URL", "of a file, or of the folder that the files are in", None)
        },
        setting("user", "User", "where the server asks for a name and a password", None),
        SettingDescription {
            secret: true,
            ..setting(
                "secret",
                "Password or token",
                "without a user it is sent as a bearer token; sealed when stored",
                None,
            )
        },
        setting(
            "files",
            "Files",
            "their paths below the URL, separated by commas; key=value folders are columns",
            None,
        ),
        CA_FILE,
        UNVERIFIED,
        CONNECT_LIMIT,
        REQUEST_LIMIT,
        LONGEST_RECORD,
        REGION,
    ],
};

fn bad(definition: &ConnectionDefinition, what: impl std::fmt::Display, hint: &str) -> Error {
    Error::new(Code::BadSetting, format!("connection {}: {what}", definition.name)).hint(hint)
}

fn limits(definition: &ConnectionDefinition) -> Result<Limits> {
    Ok(Limits {
        connect: Duration::from_secs(definition.seconds("connect_limit", 5)?),
        request: Duration::from_secs(definition.seconds("request_limit", 60)?),
        tls: certificates_of(definition)?,
    })
}

fn bucket(definition: &ConnectionDefinition) -> Result<Objects> {
    let option = |name: &str| definition.option(name).unwrap_or_default().to_owned();
    let path_style = match definition.option("path_style") {
        None | Some("true") => true,
        Some("false") => false,
        Some(other) => {
            return Err(bad(definition, format!("path_style cannot be \"{other}\""), "give true or false"));
        }
    };
    let key = match (&definition.user, &definition.secret) {
        (Some(user), Some(secret)) => {
            Some(AccessKey { id: user.clone(), secret: secret.reveal().to_owned(), session: None })
        }
        (None, None) => None,
        (Some(_), None) => return Err(bad(definition, "an access key needs its secret key", "give the secret")),
        (None, Some(_)) => return Err(bad(definition, "a secret key needs its access key", "give the user")),
    };
    let address = S3Address {
        connection: definition.name.clone(),
        endpoint: definition.address.clone(),
        bucket: option("bucket"),
        folder: option("folder"),
        key,
        path_style,
        signing_region: definition.option("signing_region").unwrap_or("us-east-1").to_owned(),
    };
    Objects::s3(address, &limits(definition)?)
}

fn web_server(definition: &ConnectionDefinition) -> Result<Objects> {
    let files = definition.option("files").map(|list| {
        let names = list.split(',').map(|name| name.trim().trim_matches('/').to_owned());
        names.filter(|name| !name.is_empty()).collect()
    });
    let sign_in = match (&definition.user, &definition.secret) {
        (None, None) => None,
        (Some(_), None) => return Err(bad(definition, "a user needs a password", "give the secret")),
        (Some(user), Some(_)) if user.contains(':') => {
            return Err(bad(definition, "a user of a web server has no colon", "correct the user"));
        }
        (Some(user), Some(secret)) => {
            Some(SignIn::Password { user: user.clone(), password: secret.reveal().to_owned() })
        }
        (None, Some(secret)) => Some(SignIn::Token(secret.reveal().to_owned())),
    };
    let address = HttpAddress { connection: definition.name.clone(), url: definition.address.clone(), files, sign_in };
    Objects::http(address, &limits(definition)?)
}
