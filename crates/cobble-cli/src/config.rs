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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_configuration_is_read_and_what_is_wrong_with_it_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lane.toml");
        std::fs::write(&path, "[connections.drop_files]\nkind = \"files\"\naddress = \".\"\n\n[catalogs.drop]\nconnection = \"drop_files\"\n").unwrap();
        let session = here(Some(&path)).unwrap();
        assert!(session.catalogs().unwrap().catalogs.contains_key("drop"));
        for (text, part) in [
            ("[connections.drop_files]\nkind = \"fils\"\naddress = \".\"\n", "did you mean \"files\""),
            ("[catalogs.drop]\nconnection = \"nothing\"\n", "nothing"),
            ("[connections", "line 1"),
        ] {
            std::fs::write(&path, text).unwrap();
            match here(Some(&path)) {
                Err(crate::Failure::Failed { error, .. }) => {
                    assert!(error.to_string().contains(part), "{error}");
                }
                other => panic!("{text}: {}", other.is_ok()),
            }
        }
        assert!(here(Some(&folder.path().join("none.toml"))).is_err());
    }
}
