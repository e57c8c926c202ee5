//! An engine inside the client, for `--here`: connections and catalogs from `cobble.toml`, or just the working folder.

use std::path::{Path, PathBuf};

use cobble_engine::{CatalogDefinition, Config, ConnectionDefinition, Engine, Session};

use crate::Outcome;

/// The name of the working folder's catalog where there is no `cobble.toml`.
const HERE: &str = "here";

pub fn here(config: Option<&PathBuf>) -> Outcome<Session> {
    let engine = Engine::in_memory()?;
    let default = Path::new("cobble.toml");
    let file = config.map(PathBuf::as_path).or(default.exists().then_some(default));
    match file {
        Some(path) => {
            let config = Config::read(path)?;
            for mut connection in config.connections {
                // Relative folders start where the file stands.
                if connection.kind == "files" && Path::new(&connection.address).is_relative() {
                    let base = path.parent().unwrap_or(Path::new("."));
                    connection.address = base.join(&connection.address).display().to_string();
                }
                engine.add_connection(connection)?;
            }
            for catalog in config.catalogs {
                engine.add_catalog(catalog)?;
            }
            Ok(engine.session())
        }
        None => {
            let definition = ConnectionDefinition {
                name: HERE.into(),
                kind: "files".into(),
                address: ".".into(),
                database: None,
                user: None,
                secret: None,
                region: None,
                options: Default::default(),
            };
            engine.add_connection(definition)?;
            engine.add_catalog(CatalogDefinition { name: HERE.into(), connection: HERE.into() })?;
            let mut session = engine.session();
            session.use_place(HERE, None)?;
            Ok(session)
        }
    }
}
