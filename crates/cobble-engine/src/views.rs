//! Views of the service's own: made, dropped and renamed, and what each of them reads.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, PoisonError};

use cobble_plan::UserView;
use cobble_sql::{KnownView, TableReference, WrittenName, table_references};
use cobble_types::deep::with_room;
use cobble_types::{Code, Error, ObjectName, Position, Result};

use crate::catalogs::{Engine, SYSTEM_CATALOG};
use crate::resolve::{DEFAULT_SCHEMA, Place};

/// The schema of `lane` that has the views.
pub const VIEWS_SCHEMA: &str = "views";

/// Stands for the schema of views that one session has.
pub const TEMPORARY_SCHEMA: &str = "temporary";

/// Stands for the schema of a native query.
const NATIVE: &str = "native_query";

/// Views by name; a query keeps the set it began with.
pub type KnownViews = BTreeMap<String, Arc<KnownView>>;

/// The full name of a view.
pub fn full_name(name: &str) -> ObjectName {
    ObjectName::new(SYSTEM_CATALOG, VIEWS_SCHEMA, name)
}

/// The place that a view's own names are looked up in.
pub fn place_of(view: &UserView) -> Place {
    Place { catalog: view.catalog.clone(), schema: view.schema.clone() }
}

/// The view that a name with its schema means, when that schema is the one of views.
pub fn written_out<'n>(name: &'n [String], place: &Place) -> Option<&'n str> {
    match name {
        [catalog, schema, view] if catalog == SYSTEM_CATALOG && schema == VIEWS_SCHEMA => Some(view),
        [schema, view] if schema == VIEWS_SCHEMA && place.catalog.as_deref().is_none_or(|c| c == SYSTEM_CATALOG) => {
            Some(view)
        }
        _ => None,
    }
}

/// What the statement calls the view: views are all in one schema.
fn own_name(written: &WrittenName) -> Result<String> {
    let at = |error: Error| error.at(written.position);
    let name = match written.parts.as_slice() {
        [name] => name,
        [schema, name] if schema == VIEWS_SCHEMA => name,
        [catalog, schema, name] if catalog == SYSTEM_CATALOG && schema == VIEWS_SCHEMA => name,
        parts => {
            return Err(at(Error::new(
                Code::NotAllowed,
                format!("\"{}\" is no place for views of the service", parts.join(".")),
            )
            .hint(format!("they are all in {SYSTEM_CATALOG}.{VIEWS_SCHEMA}: give the view's own name alone"))));
        }
    };
    match name.is_empty() || name.chars().any(char::is_control) {
        true => Err(at(Error::new(Code::BadSetting, format!("{name:?} cannot be the name of a view")))),
        false => Ok(name.clone()),
    }
}

/// What a view's query reads. A name alone means what it would in the view's place, and a view where that has none: of those with one part
/// that are views, too, both are given.
fn reads(known: &KnownView, views: &KnownViews) -> BTreeSet<ObjectName> {
    let place = place_of(&known.view);
    let schema = place.schema.as_deref().unwrap_or(DEFAULT_SCHEMA);
    let mut found = BTreeSet::new();
    for reference in with_room(|| table_references(&known.query)) {
        match reference {
            TableReference::Native(native) => {
                found.insert(ObjectName::new(&native.catalog, NATIVE, &native.text));
            }
            TableReference::RowsAt(call) => {
                let catalog = call.path.split('/').next();
                let catalog = catalog.filter(|catalog| !catalog.is_empty() && !catalog.starts_with('.'));
                found.insert(ObjectName::new(catalog.unwrap_or("files"), "rows_at", &call.path));
            }
            TableReference::Name(name) | TableReference::Earlier(name, _) => {
                match (written_out(&name, &place), name.as_slice(), &place.catalog) {
                    (Some(view), ..) => drop(found.insert(full_name(view))),
                    (_, [catalog, schema, table], _) => drop(found.insert(ObjectName::new(catalog, schema, table))),
                    (_, [schema, table], Some(catalog)) => drop(found.insert(ObjectName::new(catalog, schema, table))),
                    (_, [table], catalog) => {
                        found.extend(views.contains_key(table).then(|| full_name(table)));
                        found.extend(catalog.as_ref().map(|catalog| ObjectName::new(catalog, schema, table)));
                    }
                    _ => {}
                }
            }
            // What they ask is asked again each time, of tables that are named by text.
            TableReference::Facts(_) | TableReference::Target | TableReference::Changed => {}
        }
    }
    found
}

/// The name of a view, when it is one of the service's own.
fn view_of(name: &ObjectName) -> Option<&str> {
    (name.catalog == SYSTEM_CATALOG && name.schema == VIEWS_SCHEMA).then_some(name.table.as_str())
}

/// Views that read this one, through others, too.
fn is_read_through(views: &KnownViews, from: &str, wanted: &str, seen: &mut BTreeSet<String>) -> bool {
    let Some(known) = views.get(from) else { return false };
    reads(known, views)
        .iter()
        .filter_map(view_of)
        .any(|view| view == wanted || (seen.insert(view.to_owned()) && is_read_through(views, view, wanted, seen)))
}

/// No view of the set reads itself, by whatever way.
pub fn check_circles(views: &KnownViews) -> Result<()> {
    match views.keys().find(|name| is_read_through(views, name, name, &mut BTreeSet::new())) {
        Some(name) => Err(Error::new(Code::InvalidRecursion, format!("the view {name} would read itself"))
            .hint("WITH RECURSIVE is for queries that build on their own rows")),
        None => Ok(()),
    }
}

pub fn list(names: &[ObjectName]) -> String {
    names.iter().map(ObjectName::to_string).collect::<Vec<_>>().join(", ")
}

impl Engine {
    pub fn views(&self) -> Arc<KnownViews> {
        self.views.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Takes views in, in the place of those of the same names.
    pub fn take_views(&self, views: impl IntoIterator<Item = (String, KnownView)>) {
        let mut all = self.views.write().unwrap_or_else(PoisonError::into_inner);
        Arc::make_mut(&mut all).extend(views.into_iter().map(|(name, view)| (name, Arc::new(view))));
    }

    pub(crate) fn put_views(&self, views: KnownViews) {
        *self.views.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(views);
    }

    /// What a view reads, by full names.
    pub fn read_by_view(&self, known: &KnownView) -> Vec<String> {
        reads(known, &self.views()).iter().map(ObjectName::to_string).collect()
    }

    fn readers(&self, wanted: impl Fn(&ObjectName) -> bool) -> Vec<ObjectName> {
        let views = self.views();
        let found = views.iter().filter(|(_, known)| reads(known, &views).iter().any(&wanted));
        found.map(|(name, _)| full_name(name)).collect()
    }

    /// The views whose queries name this table or view.
    pub fn readers_of(&self, full: &ObjectName) -> Vec<ObjectName> {
        self.readers(|name| name == full)
    }

    /// The views whose queries name something of this catalog.
    pub fn readers_of_catalog(&self, catalog: &str) -> Vec<ObjectName> {
        self.readers(|name| name.catalog == catalog)
    }

    /// What keeps a thing from going.
    pub(crate) fn unread(&self, what: &str, full: &ObjectName) -> Result<()> {
        match self.readers_of(full).as_slice() {
            [] => Ok(()),
            readers => Err(Error::new(Code::InUse, format!("{what} is read by {}", list(readers)))
                .hint("drop what reads it first")),
        }
    }

    /// Refuses to change a table in tiers of which rows are being moved.
    fn at_rest(&self, name: &str) -> Result<()> {
        match self.moving.lock().unwrap_or_else(PoisonError::into_inner).contains(name) {
            false => Ok(()),
            true => Err(Error::new(Code::InUse, format!("rows of {} are being moved", full_name(name)))
                .hint("wait for the end of that run, or cancel it")),
        }
    }

    async fn keep(&self, name: &str, view: Option<&UserView>) -> Result<()> {
        match self.state() {
            Some(state) => state.keep_view(name, view).await,
            None => Ok(()),
        }
    }

    /// The name under which a view can be made, or nothing when one is there and that is no fault.
    pub(crate) fn new_view_name(
        &self,
        written: &WrittenName,
        replace: bool,
        if_not_exists: bool,
    ) -> Result<Option<String>> {
        let name = own_name(written)?;
        match self.views().contains_key(&name) {
            true if if_not_exists => Ok(None),
            true if !replace => Err(Error::new(Code::AlreadyExists, format!("there is a view {name} already"))
                .hint("use CREATE OR REPLACE VIEW to replace it")
                .at(written.position)),
            _ => self.at_rest(&name).map(|()| Some(name)).map_err(|e| e.at(written.position)),
        }
    }

    /// Keeps a view that has been checked.
    pub(crate) async fn create_view(&self, name: &str, known: KnownView, position: Option<Position>) -> Result<()> {
        let mut next = self.views().as_ref().clone();
        next.insert(name.to_owned(), Arc::new(known.clone()));
        check_circles(&next).map_err(|e| e.at(position))?;
        self.keep(name, Some(&known.view)).await?;
        self.take_views([(name.to_owned(), known)]);
        Ok(())
    }

    /// Drops views; with `cascade` also those that read them. The names of those that are gone.
    pub(crate) async fn drop_views(
        &self,
        names: &[WrittenName],
        if_exists: bool,
        cascade: bool,
    ) -> Result<Vec<String>> {
        let views = self.views();
        let mut gone = Vec::new();
        for written in names {
            let name = own_name(written)?;
            if views.contains_key(&name) {
                self.at_rest(&name).map_err(|e| e.at(written.position))?;
                gone.push(name);
            } else if !if_exists {
                let mut error = Error::unknown("view", &name, views.keys().map(String::as_str));
                error.code = Code::UnknownTable;
                return Err(error.at(written.position));
            }
        }
        let mut at = 0;
        while let Some(name) = gone.get(at).cloned() {
            let readers = self.readers_of(&full_name(&name));
            let others: Vec<String> =
                readers.iter().map(|full| full.table.clone()).filter(|reader| !gone.contains(reader)).collect();
            if !others.is_empty() && !cascade {
                let position = names.iter().find(|n| n.parts.last() == Some(&name)).and_then(|n| n.position);
                return Err(Error::new(Code::InUse, format!("the view {name} is read by {}", list(&readers)))
                    .hint("drop those first, or use DROP VIEW … CASCADE")
                    .at(position));
            }
            gone.extend(others);
            at += 1;
        }
        for name in &gone {
            self.keep(name, None).await?;
            let mut all = self.views.write().unwrap_or_else(PoisonError::into_inner);
            Arc::make_mut(&mut all).remove(name);
        }
        Ok(gone)
    }

    /// Gives a view another name; nothing when there is no such view and that is no fault.
    pub(crate) async fn rename_view(
        &self,
        written: &WrittenName,
        to: &WrittenName,
        if_exists: bool,
    ) -> Result<Option<(String, String)>> {
        let views = self.views();
        let (name, new) = (own_name(written)?, own_name(to)?);
        let Some(known) = views.get(&name) else {
            if if_exists {
                return Ok(None);
            }
            let mut error = Error::unknown("view", &name, views.keys().map(String::as_str));
            error.code = Code::UnknownTable;
            return Err(error.at(written.position));
        };
        if views.contains_key(&new) {
            return Err(Error::new(Code::AlreadyExists, format!("there is a view {new} already")).at(to.position));
        }
        self.at_rest(&name).map_err(|e| e.at(written.position))?;
        // Their texts have its name.
        self.unread(&format!("the view {name}"), &full_name(&name)).map_err(|e| e.at(written.position))?;
        self.keep(&new, Some(&known.view)).await?;
        self.keep(&name, None).await?;
        let mut next = views.as_ref().clone();
        next.remove(&name);
        next.insert(new.clone(), known.clone());
        self.put_views(next);
        Ok(Some((name, new)))
    }
}
