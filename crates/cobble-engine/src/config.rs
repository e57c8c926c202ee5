//! The declarative file `cobble.toml`: connections and catalogs. Secrets stand elsewhere, in an environment variable or a
//! file, and are read when the file is.

use std::collections::BTreeMap;
use std::path::Path;

use cobble_connect::{ConnectionDefinition, Secret};
use cobble_types::{Code, Error, Position, Result, closest_name};
use serde::Deserialize;

use crate::catalogs::CatalogDefinition;

#[derive(Debug, Default)]
pub struct Config {
    pub connections: Vec<ConnectionDefinition>,
    pub catalogs: Vec<CatalogDefinition>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    #[serde(default)]
    connections: BTreeMap<String, WrittenConnection>,
    #[serde(default)]
    catalogs: BTreeMap<String, WrittenCatalog>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenConnection {
    kind: String,
    address: String,
    database: Option<String>,
    user: Option<String>,
    secret: Option<WrittenSecret>,
    region: Option<String>,
    connect_limit: Option<u64>,
    statement_limit: Option<u64>,
    pool_size: Option<u64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenSecret {
    env: Option<String>,
    file: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenCatalog {
    connection: String,
}

impl Config {
    pub fn read(path: &Path) -> Result<Config> {
        let text = std::fs::read_to_string(path)
            .map_err(|e| Error::new(Code::NotFound, format!("{}: {e}", path.display())))?;
        Config::parse(&text, &path.display().to_string())
    }

    /// Reads the text of a file; `name` is how errors call it.
    pub fn parse(text: &str, name: &str) -> Result<Config> {
        let written: Written = toml::from_str(text).map_err(|e| toml_error(text, name, &e))?;
        let mut config = Config::default();
        for (connection, w) in written.connections {
            let secret = w.secret.map(|secret| read_secret(name, &connection, secret)).transpose()?;
            let options = [
                ("connect_limit", w.connect_limit),
                ("statement_limit", w.statement_limit),
                ("pool_size", w.pool_size),
            ];
            config.connections.push(ConnectionDefinition {
                name: connection,
                kind: w.kind,
                address: w.address,
                database: w.database,
                user: w.user,
                secret,
                region: w.region,
                options: options.into_iter().filter_map(|(k, v)| Some((k.to_owned(), v?.to_string()))).collect(),
            });
        }
        for (catalog, w) in written.catalogs {
            config.catalogs.push(CatalogDefinition { name: catalog, connection: w.connection });
        }
        Ok(config)
    }
}

fn read_secret(file: &str, connection: &str, secret: WrittenSecret) -> Result<Secret> {
    let bad = |what: String| Error::new(Code::BadSetting, format!("{file}: connection {connection}: {what}"));
    match (secret.env, secret.file) {
        (Some(variable), None) => std::env::var(&variable).map(Secret::new).map_err(|_| {
            bad(format!("the environment variable {variable} is not set")).hint("set it to the connection's password")
        }),
        (None, Some(path)) => std::fs::read_to_string(&path)
            .map(|text| Secret::new(text.trim_end_matches(['\r', '\n'])))
            .map_err(|e| bad(format!("the secret's file {path} cannot be read: {e}"))),
        _ => Err(bad("secret needs either env or file".into()).hint("such as secret = { env = \"FLEET_SECRET\" }")),
    }
}

fn toml_error(text: &str, name: &str, error: &toml::de::Error) -> Error {
    let position = error.span().map(|span| {
        let before = &text[..span.start.min(text.len())];
        let line = before.matches('\n').count() as u64 + 1;
        let column = before.rsplit('\n').next().map_or(0, |l| l.chars().count()) as u64 + 1;
        Position { line, column }
    });
    let message = error.message().to_owned();
    let mut own = Error::new(Code::BadSetting, format!("{name}: {}", message.replace('`', "\""))).at(position);
    // "unknown field `adress`, expected one of `kind`, `address`, …"
    if let Some(rest) = message.strip_prefix("unknown field `") {
        let mut words = rest.split('`');
        let unknown = words.next().unwrap_or_default();
        let known: Vec<&str> = words.skip(1).step_by(2).collect();
        own.message = format!("{name}: there is no setting \"{unknown}\"");
        if let Some(close) = closest_name(unknown, known.iter().copied()) {
            own = own.hint(format!("did you mean \"{close}\"?"));
        } else {
            own = own.hint(format!("known are {}", known.join(", ")));
        }
    }
    own
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_gives_connections_and_catalogs() {
        let config = Config::parse(
            "[connections.drop_files]\nkind = \"files\"\naddress = \"drop\"\n\n[catalogs.drop]\nconnection = \"drop_files\"\n",
            "cobble.toml",
        )
        .unwrap();
        assert_eq!(config.connections[0].address, "drop");
        assert_eq!(config.catalogs[0].connection, "drop_files");
    }

    #[test]
    fn mistakes_name_line_column_and_the_closest_key() {
        for (text, expected) in [
            (
                "[connections.a]\nkind = \"files\"\nadress = \"drop\"\n",
                "cobble.toml: there is no setting \"adress\" (line 3, column 1); did you mean \"address\"?",
            ),
            ("[catalogs.drop]\n", "cobble.toml: missing field \"connection\" (line 1, column 1)"),
            (
                "[connections.a]\nkind = \"postgres\"\naddress = \"x\"\nsecret = { env = \"NO_SUCH_VARIABLE_HERE\" }\n",
                "cobble.toml: connection a: the environment variable NO_SUCH_VARIABLE_HERE is not set; set it to the connection's password",
            ),
        ] {
            assert_eq!(Config::parse(text, "cobble.toml").unwrap_err().to_string(), expected);
        }
    }
}
