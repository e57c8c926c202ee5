//! An engine inside the client, for `--here`: connections and catalogs from `cobble.toml`, or just the working folder.

use std::path::{Path, PathBuf};

use cobble_engine::{CatalogDefinition, Configuration, ConnectionDefinition, Engine, Session};

use crate::Outcome;

/// The name of the working folder's catalog where there is no `cobble.toml`.
const HERE: &str = "here";

pub fn here(config: Option<&PathBuf>) -> Outcome<Session> {
    let engine = Engine::in_memory()?;
    let default = Path::new("cobble.toml");
    let file = config.map(PathBuf::as_path).or(default.exists().then_some(default));
    match file {
        Some(path) => {
            let wanted = Configuration::read(path)?;
            let secrets = wanted.secrets(path.parent().unwrap_or(Path::new(".")));
            engine.reconfigure(engine.compare(&wanted, &secrets)?);
            Ok(engine.session())
        }
        None => {
            engine.add_connection(ConnectionDefinition::new(HERE, "files", "."))?;
            engine.add_catalog(CatalogDefinition::new(HERE, HERE))?;
            let mut session = engine.session();
            session.use_place(HERE, None)?;
            Ok(session)
        }
    }
}
