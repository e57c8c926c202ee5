//! All of the engine's connections, catalogs, functions and views as one description: written out, read back, and compared with what
//! there is. It never holds a secret, only where one is taken from. `cobble.toml` and what `cobble export` writes have this one form.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;
use std::sync::Arc;

use cobble_connect::{ConnectionDefinition, Credentials, Secret, TableDefinition};
use cobble_plan::{UserFunction, UserView};
use cobble_sql::{KnownFunction, KnownView, Statement, parse_statements};
use cobble_types::{Code, Error, Position, Result, closest_name};
use serde::{Deserialize, Serialize};

use crate::catalogs::{CatalogDefinition, CatalogSet, Engine, OpenConnection, Watch, check_catalog_name};
use crate::kinds::KINDS;
use crate::views::{KnownViews, check_circles};

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Configuration {
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub connections: BTreeMap<String, ConfiguredConnection>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub catalogs: BTreeMap<String, ConfiguredCatalog>,
    /// Functions with the statements that make them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub functions: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub views: BTreeMap<String, UserView>,
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
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretSource>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
    /// What users of the service sign in with, by their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub credentials: BTreeMap<String, ConfiguredCredentials>,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfiguredCredentials {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretSource>,
}

/// The key under which the secret of a user of a connection is found among all secrets.
pub fn secret_key(connection: &str, user: &str) -> String {
    format!("{connection}/{user}")
}

/// Where a secret is taken from when a configuration is read: an environment variable or a file. Where that is not there, the secret
/// that the connection has stays.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SecretSource {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub env: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
}

impl SecretSource {
    /// The secret, if it is there.
    fn read(&self, folder: &Path) -> Option<Secret> {
        match (&self.env, &self.file) {
            (Some(variable), None) => std::env::var(variable).ok().map(Secret::new),
            (None, Some(file)) => {
                let text = std::fs::read_to_string(folder.join(file)).ok()?;
                Some(Secret::new(text.trim_end_matches(['\r', '\n'])))
            }
            _ => None,
        }
    }

    fn missing(&self, connection: &str) -> Error {
        let (what, hint) = match (&self.env, &self.file) {
            (Some(variable), None) => {
                (format!("the variable {variable} is not set"), "set it to the connection's secret")
            }
            (None, Some(file)) => (format!("the secret's file {file} cannot be read"), "write the secret into it"),
            _ => ("secret needs either env or file".to_owned(), "such as secret = { env = \"FLEET_SECRET\" }"),
        };
        Error::new(Code::BadSetting, format!("connection {connection}: {what}")).hint(hint)
    }
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfiguredCatalog {
    pub connection: String,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch: Option<Watch>,
    /// Tables that it defines, by `schema.table`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tables: BTreeMap<String, TableDefinition>,
}

impl ConfiguredCatalog {
    pub fn of(definition: &CatalogDefinition) -> ConfiguredCatalog {
        let CatalogDefinition { connection, options, tables, watch, .. } = definition.clone();
        ConfiguredCatalog { connection, options, watch, tables }
    }

    pub fn definition(&self, name: &str) -> CatalogDefinition {
        let ConfiguredCatalog { connection, options, watch, tables } = self.clone();
        CatalogDefinition { name: name.to_owned(), connection, options, tables, watch }
    }

    /// What differs, in words.
    fn differences(&self, before: &ConfiguredCatalog) -> Vec<String> {
        let mut found = Vec::new();
        if before.connection != self.connection {
            found.push(format!("connection: {} → {}", before.connection, self.connection));
        }
        compare_options(&before.options, &self.options, &mut found);
        let watched = |watch: &Option<Watch>| match watch {
            Some(watch) => {
                format!("{} every {} s", if watch.path.is_empty() { "all" } else { &watch.path }, watch.every)
            }
            None => NOTHING.to_owned(),
        };
        if before.watch != self.watch {
            found.push(format!("watch: {} → {}", watched(&before.watch), watched(&self.watch)));
        }
        for name in union(&before.tables, &self.tables) {
            found.extend(match (before.tables.get(name), self.tables.get(name)) {
                (None, Some(_)) => Some(format!("table {name}: added")),
                (Some(_), None) => Some(format!("table {name}: removed")),
                (a, b) => (a != b).then(|| format!("table {name}: changed")),
            });
        }
        found
    }
}

const NOTHING: &str = "nothing";

fn union<'a, V>(a: &'a BTreeMap<String, V>, b: &'a BTreeMap<String, V>) -> BTreeSet<&'a String> {
    a.keys().chain(b.keys()).collect()
}

fn compare_values(name: &str, before: Option<&String>, after: Option<&String>, found: &mut Vec<String>) {
    if before != after {
        let shown = |value: Option<&String>| value.map_or(NOTHING, String::as_str).to_owned();
        found.push(format!("{name}: {} → {}", shown(before), shown(after)));
    }
}

fn compare_options(before: &BTreeMap<String, String>, after: &BTreeMap<String, String>, found: &mut Vec<String>) {
    for name in union(before, after) {
        compare_values(name, before.get(name), after.get(name), found);
    }
}

/// One difference between the wanted configuration and the current one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// `connection`, `catalog`, `function` or `view`.
    pub what: String,
    pub name: String,
    /// `added`, `changed` or `removed`.
    pub change: String,
    /// What is new or changed, setting by setting. Of a secret only that it changed.
    pub details: Vec<String>,
}

/// Everything that is to be, checked, with the changes that lead there.
#[derive(Debug)]
pub struct Reconfiguration {
    pub changes: Vec<Change>,
    pub set: Arc<CatalogSet>,
    pub functions: HashMap<String, KnownFunction>,
    pub views: KnownViews,
}

impl Configuration {
    /// Reads TOML; `name` is how errors call it.
    pub fn parse(text: &str, name: &str) -> Result<Configuration> {
        toml::from_str(text).map_err(|e| toml_error(text, name, &e))
    }

    /// Reads a file. Relative folders in it start where it stands.
    pub fn read(path: &Path) -> Result<Configuration> {
        let text = std::fs::read_to_string(path)
            .map_err(|e| Error::new(Code::NotFound, format!("{}: {e}", path.display())))?;
        let mut all = Configuration::parse(&text, &path.display().to_string())?;
        let folder = path.parent().unwrap_or(Path::new("."));
        for connection in all.connections.values_mut() {
            let is_local = ["files", "sqlite"].contains(&connection.kind.as_str());
            if is_local && let Ok(found) = std::fs::canonicalize(folder.join(&connection.address)) {
                connection.address = found.display().to_string();
            } else if is_local && Path::new(&connection.address).is_relative() {
                connection.address = folder.join(&connection.address).display().to_string();
            }
        }
        Ok(all)
    }

    /// The secrets that are in the variables and files that the connections name, by connection, and for a user of one by
    /// [`secret_key`]; files start at this folder.
    pub fn secrets(&self, folder: &Path) -> BTreeMap<String, Secret> {
        let mut found = BTreeMap::new();
        let mut read = |key: String, source: &Option<SecretSource>| {
            found.extend(source.as_ref().and_then(|source| source.read(folder)).map(|secret| (key, secret)));
        };
        for (name, connection) in &self.connections {
            read(name.clone(), &connection.secret);
            for (user, own) in &connection.credentials {
                read(secret_key(name, user), &own.secret);
            }
        }
        found
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
            secret: definition
                .secret
                .as_ref()
                .map(|_| SecretSource { env: Some(format!("{}_SECRET", definition.name.to_uppercase())), file: None }),
            region: definition.region.clone(),
            options: definition.options.clone(),
            credentials: definition
                .credentials
                .iter()
                .map(|(user, own)| {
                    let variable = format!("{}_{}_SECRET", definition.name, user).to_uppercase();
                    let secret = Some(SecretSource { env: Some(variable), file: None });
                    (user.clone(), ConfiguredCredentials { user: own.user.clone(), secret })
                })
                .collect(),
        }
    }

    /// What differs, in words; the secret is looked at elsewhere.
    fn differences(&self, before: &ConfiguredConnection) -> Vec<String> {
        let mut found = Vec::new();
        let mut compare = |name: &str, before: Option<&String>, after: Option<&String>| {
            compare_values(name, before, after, &mut found);
        };
        compare("kind", Some(&before.kind), Some(&self.kind));
        compare("address", Some(&before.address), Some(&self.address));
        compare("database", before.database.as_ref(), self.database.as_ref());
        compare("user", before.user.as_ref(), self.user.as_ref());
        compare("region", before.region.as_ref(), self.region.as_ref());
        compare_options(&before.options, &self.options, &mut found);
        for user in union(&before.credentials, &self.credentials) {
            match (before.credentials.get(user), self.credentials.get(user)) {
                (None, Some(_)) => found.push(format!("credentials of user {user}: added")),
                (Some(_), None) => found.push(format!("credentials of user {user}: removed")),
                (a, b) => {
                    let own = |c: Option<&ConfiguredCredentials>| c.and_then(|c| c.user.clone());
                    let label = format!("credentials of user {user}");
                    compare_values(&label, own(a).as_ref(), own(b).as_ref(), &mut found);
                }
            }
        }
        found
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
            catalogs: catalogs.map(|c| (c.name.clone(), ConfiguredCatalog::of(c))).collect(),
            functions: functions.iter().map(|(name, known)| (name.clone(), known.function.to_string())).collect(),
            views: self.views().iter().map(|(name, known)| (name.clone(), known.view.clone())).collect(),
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
            let named = |error: Error| match error.message.contains(name) {
                true => error,
                false => Error { message: format!("connection {name}: {}", error.message), ..error },
            };
            // What is stored is kept only where it goes to the same place as before.
            let to = ConnectionDefinition {
                kind: given.kind.clone(),
                address: given.address.clone(),
                user: given.user.clone(),
                options: given.options.clone(),
                ..ConnectionDefinition::new(name, "", "")
            };
            KINDS.kind_of(&to).map_err(named)?;
            let same =
                known.filter(|known| known.closed.is_none() && known.definition.destination() == to.destination());
            let secret =
                |key: &str, source: &Option<SecretSource>, kept: Option<Secret>| match (source, secrets.get(key)) {
                    (None, _) => Ok(None),
                    (Some(_), Some(secret)) => Ok(Some(secret.clone())),
                    (Some(source), None) => kept.ok_or_else(|| source.missing(name)).map(Some),
                };
            let mut credentials = BTreeMap::new();
            for (user, own) in &given.credentials {
                let kept = same.and_then(|known| known.definition.credentials.get(user)?.secret.clone());
                let secret = secret(&secret_key(name, user), &own.secret, kept)?;
                credentials.insert(user.clone(), Credentials { user: own.user.clone(), secret });
            }
            let secret = secret(name, &given.secret, same.and_then(|known| known.definition.secret.clone()))?;
            let definition = ConnectionDefinition {
                database: given.database.clone(),
                secret,
                region: given.region.clone(),
                credentials,
                ..to
            };
            let open = match known {
                // What stays as it is keeps its open connections.
                Some(known) if known.definition == definition && known.closed.is_none() => known.clone(),
                _ => Arc::new(OpenConnection::new(definition).map_err(named)?),
            };
            connections.insert(name.clone(), open);
        }
        let mut catalogs = BTreeMap::new();
        for (name, given) in &wanted.catalogs {
            check_catalog_name(name)?;
            catalogs.insert(name.clone(), given.definition(name));
        }
        let next = Arc::new(CatalogSet::new(connections, catalogs, &set)?);
        let mut functions = HashMap::new();
        for (name, text) in &wanted.functions {
            functions.insert(name.clone(), KnownFunction::new(function(name, text)?)?);
        }
        for known in functions.values() {
            self.check_function(known, &functions)?;
        }
        let mut views = KnownViews::new();
        for (name, view) in &wanted.views {
            let mut view = view.clone();
            // How far rows have been moved is no setting.
            if let (Some(wanted), Some(UserView { tiers: Some(own), .. })) = (&view.tiers, before.views.get(name))
                && own.is_same(wanted)
            {
                view.tiers = Some(own.clone());
            }
            let known = KnownView::new(view).map_err(|e| Error {
                message: format!("view {name}: {}", e.message),
                position: None,
                ..e
            })?;
            views.insert(name.clone(), Arc::new(known));
        }
        check_circles(&views)?;
        let mut changes = Vec::new();
        let of_connection = |name: &str, before: Option<&ConfiguredConnection>, after: &ConfiguredConnection| {
            let Some(before) = before else {
                let place = if after.address.is_empty() { String::new() } else { format!(" at {}", after.address) };
                return vec![format!("{}{place}", after.kind)];
            };
            let mut details = after.differences(before);
            let secret = |c: Option<&Arc<OpenConnection>>| c.and_then(|c| c.definition.secret.clone());
            if secret(set.connections.get(name)) != secret(next.connections.get(name)) {
                details.push("secret: another one".to_owned());
            }
            let of_users =
                |c: Option<&Arc<OpenConnection>>| c.map(|c| c.definition.credentials.clone()).unwrap_or_default();
            let (old, new) = (of_users(set.connections.get(name)), of_users(next.connections.get(name)));
            let is_other = |user: &&String| old.get(*user).is_some_and(|own| own.secret != new[*user].secret);
            details.extend(new.keys().filter(is_other).map(|user| format!("secret of user {user}: another one")));
            details
        };
        compare("connection", &before.connections, &wanted.connections, of_connection, &mut changes);
        let of_catalog = |_: &str, before: Option<&ConfiguredCatalog>, after: &ConfiguredCatalog| match before {
            Some(before) => after.differences(before),
            None if after.tables.is_empty() => vec![format!("of connection {}", after.connection)],
            None => vec![format!("of connection {} with {} defined tables", after.connection, after.tables.len())],
        };
        compare("catalog", &before.catalogs, &wanted.catalogs, of_catalog, &mut changes);
        let written: BTreeMap<String, String> =
            functions.iter().map(|(name, known)| (name.clone(), known.function.to_string())).collect();
        let of_function = |_: &str, before: Option<&String>, after: &String| match before {
            Some(before) if before == after => vec![],
            _ => vec![after.clone()],
        };
        compare("function", &before.functions, &written, of_function, &mut changes);
        let of_view = |_: &str, before: Option<&UserView>, after: &UserView| match before {
            Some(before) if before == after => vec![],
            _ => vec![after.to_string()],
        };
        let after = views.iter().map(|(name, known)| (name.clone(), known.view.clone())).collect();
        compare("view", &before.views, &after, of_view, &mut changes);
        Ok(Reconfiguration { changes, set: next, functions, views })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mistakes_name_line_column_and_the_closest_key() {
        for (text, expected) in [
            (
                "[connections.a]\nkind = \"files\"\nadress = \"drop\"\n",
                "cobble.toml: there is no setting \"adress\" (line 3, column 1); did you mean \"address\"?",
            ),
            ("[catalogs.drop]\n", "cobble.toml: missing field \"connection\" (line 1, column 1)"),
            (
                "[catalogs.a]\nconnection = \"b\"\n[catalogs.a.tables.\"x.y\"]\npath = \"\"\ncolumns = [\"fare mony\"]\n",
                "cobble.toml: there is no type named \"mony\" (line 5, column 11)",
            ),
        ] {
            assert_eq!(Configuration::parse(text, "cobble.toml").unwrap_err().to_string(), expected);
        }
    }

    #[test]
    fn a_secret_that_is_not_there_is_named() {
        let engine = Engine::in_memory().unwrap();
        for (secret, expected) in [
            (
                "{ env = \"NO_SUCH_VARIABLE_HERE\" }",
                "connection a: the variable NO_SUCH_VARIABLE_HERE is not set; set it to the connection's secret",
            ),
            (
                "{ file = \"/no/such\" }",
                "connection a: the secret's file /no/such cannot be read; write the secret into it",
            ),
            ("{}", "connection a: secret needs either env or file; such as secret = { env = \"FLEET_SECRET\" }"),
        ] {
            let text = format!("[connections.a]\nkind = \"postgres\"\naddress = \"x\"\nsecret = {secret}\n");
            let wanted = Configuration::parse(&text, "cobble.toml").unwrap();
            let error = engine.compare(&wanted, &wanted.secrets(Path::new("."))).unwrap_err();
            assert_eq!(error.to_string(), expected);
        }
    }
}
