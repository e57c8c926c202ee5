//! Kinds of connections, and the registry that knows them all.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use cobble_types::{Error, Result};
use serde::Serialize;

use crate::connector::Connector;
use crate::definition::{ConnectionDefinition, SettingDescription};
use crate::remembered::Remembered;

/// A kind of connection: the settings it takes, and what makes its connector. One constant in the crate of each kind.
#[derive(Clone, Copy, Serialize)]
pub struct Kind {
    pub kind: &'static str,
    pub about: &'static str,
    pub settings: &'static [SettingDescription],
    /// Default lifetime of cached names and columns, in seconds: files tell at once what has changed, but asking a server takes
    /// its time.
    pub metadata_life: u64,
    /// Makes the connector; nothing is contacted yet.
    #[serde(skip)]
    pub connect: fn(&ConnectionDefinition) -> Result<Arc<dyn Connector>>,
}

impl fmt::Debug for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.kind)
    }
}

impl Kind {
    /// The default of a setting.
    pub fn default_of(&self, setting: &SettingDescription) -> Option<String> {
        match setting.name {
            "metadata_life" => Some(self.metadata_life.to_string()),
            _ => setting.default.map(str::to_owned),
        }
    }
}

/// All kinds that an engine knows.
#[derive(Debug, Clone, Copy)]
pub struct Registry(&'static [&'static Kind]);

impl Registry {
    pub const fn new(kinds: &'static [&'static Kind]) -> Registry {
        Registry(kinds)
    }

    pub fn all(&self) -> impl Iterator<Item = &'static Kind> {
        self.0.iter().copied()
    }

    /// The kind of a connection.
    pub fn kind_of(&self, definition: &ConnectionDefinition) -> Result<&'static Kind> {
        self.all().find(|kind| kind.kind == definition.kind).ok_or_else(|| {
            let error = Error::unknown("kind of connection", &definition.kind, self.all().map(|k| k.kind));
            let known = self.all().map(|k| k.kind).collect::<Vec<_>>().join(", ");
            if error.hint.is_some() { error } else { error.hint(format!("known kinds: {known}")) }
        })
    }

    /// The connector for a definition, whose settings are checked. Nothing is contacted yet.
    pub fn connect(&self, definition: &ConnectionDefinition) -> Result<Arc<dyn Connector>> {
        let kind = self.kind_of(definition)?;
        definition.check(kind)?;
        let life = Duration::from_secs(definition.seconds("metadata_life", kind.metadata_life)?);
        Ok(Remembered::new((kind.connect)(definition)?, life))
    }
}
