//! All of the engine's connections, catalogs and functions as one description: written out, read back, and compared with what
//! there is. It never holds a secret, only the name of the variable that one is taken from.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use cobble_connect::{ConnectionDefinition, Secret, connector};
use cobble_plan::UserFunction;
use cobble_sql::{KnownFunction, Statement, parse_statements};
use cobble_types::{Code, Error, Result};
use serde::{Deserialize, Serialize};

use crate::catalogs::{CatalogDefinition, Engine, OpenConnection, check_catalog_name};

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Configuration {
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub connections: BTreeMap<String, ConfiguredConnection>,
    /// Catalogs with their connections.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub catalogs: BTreeMap<String, String>,
    /// Functions with the statements that make them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub functions: BTreeMap<String, String>,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfiguredConnection {
    pub kind: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub address: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The environment variable that the secret is taken from when this is applied. Where it is not set, the secret that the
    /// connection has stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret_from: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
}

/// One difference between what is wanted and what there is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// `connection`, `catalog` or `function`.
    pub what: String,
    pub name: String,
    /// `added`, `changed` or `removed`.
    pub change: String,
    /// What is new or other, setting by setting; of a secret only that it is another one.
    pub details: Vec<String>,
}

/// Everything that is to be, checked, with the changes that lead there.
#[derive(Debug)]
pub struct Reconfiguration {
    pub changes: Vec<Change>,
    pub connections: BTreeMap<String, Arc<OpenConnection>>,
    pub catalogs: BTreeMap<String, CatalogDefinition>,
    pub functions: HashMap<String, KnownFunction>,
}

impl Configuration {
    /// Reads TOML.
    pub fn parse(text: &str) -> Result<Configuration> {
        toml::from_str(text).map_err(|e| {
            let line = e.span().map(|span| text[..span.start].lines().count().max(1));
            let place = line.map(|line| format!("line {line}: ")).unwrap_or_default();
            Error::new(Code::BadSetting, format!("the configuration cannot be read: {place}{}", e.message().trim()))
                .hint("`cobble export` shows the form")
        })
    }

    /// The same as TOML.
    pub fn to_toml(&self) -> Result<String> {
        toml::to_string_pretty(self).map_err(|e| Error::internal(format!("the configuration cannot be written: {e}")))
    }
}

impl ConfiguredConnection {
    fn of(definition: &ConnectionDefinition) -> ConfiguredConnection {
        ConfiguredConnection {
            kind: definition.kind.clone(),
            address: definition.address.clone(),
            database: definition.database.clone(),
            user: definition.user.clone(),
            secret_from: definition.secret.as_ref().map(|_| format!("{}_SECRET", definition.name.to_uppercase())),
            region: definition.region.clone(),
            options: definition.options.clone(),
        }
    }

    /// What differs, in words; the secret is looked at elsewhere.
    fn differences(&self, before: &ConfiguredConnection) -> Vec<String> {
        let mut found = Vec::new();
        let none = || "nothing".to_owned();
        let mut compare = |name: &str, before: Option<&String>, after: Option<&String>| {
            if before != after {
                let (before, after) = (before.cloned().unwrap_or_else(none), after.cloned().unwrap_or_else(none));
                found.push(format!("{name}: {before} → {after}"));
            }
        };
        compare("kind", Some(&before.kind), Some(&self.kind));
        compare("address", Some(&before.address), Some(&self.address));
        compare("database", before.database.as_ref(), self.database.as_ref());
        compare("user", before.user.as_ref(), self.user.as_ref());
        compare("region", before.region.as_ref(), self.region.as_ref());
        let names: std::collections::BTreeSet<&String> = before.options.keys().chain(self.options.keys()).collect();
        for name in names {
            compare(name, before.options.get(name), self.options.get(name));
        }
        found
    }
}

fn change(what: &str, name: &str, change: &str, details: Vec<String>) -> Change {
    Change { what: what.to_owned(), name: name.to_owned(), change: change.to_owned(), details }
}

/// Adds the changes of one kind of thing, in order of names.
fn compare<A, B>(
    what: &str,
    before: &BTreeMap<String, A>,
    after: &BTreeMap<String, B>,
    differences: impl Fn(&str, Option<&A>, &B) -> Vec<String>,
    into: &mut Vec<Change>,
) {
    for (name, wanted) in after {
        let known = before.get(name);
        let details = differences(name, known, wanted);
        match known {
            None => into.push(change(what, name, "added", details)),
            Some(_) if !details.is_empty() => into.push(change(what, name, "changed", details)),
            Some(_) => {}
        }
    }
    into.extend(before.keys().filter(|name| !after.contains_key(*name)).map(|n| change(what, n, "removed", vec![])));
}

/// The function that a statement makes.
fn function(name: &str, text: &str) -> Result<UserFunction> {
    let statements = parse_statements(text)?;
    match statements.as_slice() {
        [one] => match &one.statement {
            Statement::CreateFunction { function, .. } if function.name == name => Ok(function.clone()),
            Statement::CreateFunction { function, .. } => Err(Error::new(
                Code::BadSetting,
                format!("the statement of function {name} makes one named {}", function.name),
            )),
            _ => Err(Error::new(Code::BadSetting, format!("function {name} is not made by CREATE FUNCTION"))),
        },
        _ => Err(Error::new(Code::BadSetting, format!("function {name} needs exactly one statement"))),
    }
}

impl Engine {
    /// All that can be configured, as it is now.
    pub fn configuration(&self) -> Configuration {
        let set = self.set();
        let connections = set.connections.iter();
        let catalogs = set.catalogs.values();
        let functions = self.functions();
        Configuration {
            connections: connections.map(|(name, c)| (name.clone(), ConfiguredConnection::of(&c.definition))).collect(),
            catalogs: catalogs.map(|c| (c.name.clone(), c.connection.clone())).collect(),
            functions: functions.iter().map(|(name, known)| (name.clone(), known.function.to_string())).collect(),
        }
    }

    /// Checks what is wanted and compares it with what there is; nothing is changed or contacted. `secrets` has those that were
    /// found in the variables, by connection.
    pub fn compare(&self, wanted: &Configuration, secrets: &BTreeMap<String, Secret>) -> Result<Reconfiguration> {
        let (set, before) = (self.set(), self.configuration());
        if *wanted == Configuration::default() && before != *wanted {
            return Err(Error::new(Code::BadSetting, "the configuration is empty and would remove everything")
                .hint("remove connections one by one if that is meant"));
        }
        let mut connections = BTreeMap::new();
        for (name, given) in &wanted.connections {
            let known = set.connections.get(name);
            let secret = match (&given.secret_from, secrets.get(name)) {
                (None, _) => None,
                (Some(_), Some(secret)) => Some(secret.clone()),
                (Some(variable), None) => {
                    let kept = known.and_then(|known| known.definition.secret.clone());
                    Some(kept.ok_or_else(|| {
                        Error::new(Code::BadSetting, format!("connection {name}: the variable {variable} is not set"))
                            .hint("set it to the connection's secret, or leave out secret_from")
                    })?)
                }
            };
            let definition = ConnectionDefinition {
                name: name.clone(),
                kind: given.kind.clone(),
                address: given.address.clone(),
                database: given.database.clone(),
                user: given.user.clone(),
                secret,
                region: given.region.clone(),
                options: given.options.clone(),
            };
            let open = match known {
                // What stays as it is keeps its open connections.
                Some(known) if known.definition == definition => known.clone(),
                _ => {
                    let connector = connector(&definition).map_err(|error| match error.message.contains(name) {
                        true => error,
                        false => Error { message: format!("connection {name}: {}", error.message), ..error },
                    })?;
                    Arc::new(OpenConnection { connector, definition })
                }
            };
            connections.insert(name.clone(), open);
        }
        let mut catalogs = BTreeMap::new();
        for (name, connection) in &wanted.catalogs {
            check_catalog_name(name)?;
            if !connections.contains_key(connection) {
                let known = connections.keys().map(String::as_str);
                let error = Error::unknown("connection", connection, known);
                return Err(Error { message: format!("catalog {name}: {}", error.message), ..error });
            }
            let definition = CatalogDefinition { name: name.clone(), connection: connection.clone() };
            catalogs.insert(name.clone(), definition);
        }
        let mut functions = HashMap::new();
        for (name, text) in &wanted.functions {
            functions.insert(name.clone(), KnownFunction::new(function(name, text)?)?);
        }
        for known in functions.values() {
            self.check_function(known, &functions)?;
        }
        let mut changes = Vec::new();
        let of_connection = |name: &str, before: Option<&ConfiguredConnection>, after: &ConfiguredConnection| {
            let Some(before) = before else {
                let place = if after.address.is_empty() { String::new() } else { format!(" at {}", after.address) };
                return vec![format!("{}{place}", after.kind)];
            };
            let mut details = after.differences(before);
            let secret = |c: Option<&Arc<OpenConnection>>| c.and_then(|c| c.definition.secret.clone());
            if secret(set.connections.get(name)) != secret(connections.get(name)) {
                details.push("secret: another one".to_owned());
            }
            details
        };
        compare("connection", &before.connections, &wanted.connections, of_connection, &mut changes);
        let of_catalog = |_: &str, before: Option<&String>, after: &String| match before {
            None => vec![format!("of connection {after}")],
            Some(before) if before != after => vec![format!("connection: {before} → {after}")],
            Some(_) => vec![],
        };
        compare("catalog", &before.catalogs, &wanted.catalogs, of_catalog, &mut changes);
        let written: BTreeMap<String, String> =
            functions.iter().map(|(name, known)| (name.clone(), known.function.to_string())).collect();
        let of_function = |_: &str, before: Option<&String>, after: &String| match before {
            Some(before) if before == after => vec![],
            _ => vec![after.clone()],
        };
        compare("function", &before.functions, &written, of_function, &mut changes);
        Ok(Reconfiguration { changes, connections, catalogs, functions })
    }
}
