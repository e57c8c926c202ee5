//! Views of the service's own: made, dropped and renamed, and what each of them reads.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, PoisonError};

use cobble_plan::UserView;
use cobble_sql::{KnownView, WrittenName, relation_names};
use cobble_types::deep::with_room;
use cobble_types::{Code, Error, ObjectName, Position, Result};

use crate::catalogs::{Engine, SYSTEM_CATALOG};
use crate::resolve::{DEFAULT_SCHEMA, Place};

/// The schema of `lane` that has the views.
pub const VIEWS_SCHEMA: &str = "views";

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

/// The full names of what a view's query reads. A name alone means what it would in the view's place, and a view where that has none: of
/// those with one part that are views, too, both are given.
fn reads(known: &KnownView, views: &KnownViews) -> BTreeSet<String> {
    let place = place_of(&known.view);
    let mut found = BTreeSet::new();
    for name in with_room(|| relation_names(&known.query)) {
        let schema = place.schema.as_deref().unwrap_or(DEFAULT_SCHEMA);
        match (name.as_slice(), &place.catalog) {
            (parts, _) if written_out(parts, &place).is_some() => {
                found.extend(written_out(parts, &place).map(|view| full_name(view).to_string()));
            }
            ([_, _, _], _) => drop(found.insert(name.join("."))),
            ([schema, table], Some(catalog)) => drop(found.insert(format!("{catalog}.{schema}.{table}"))),
            ([table], catalog) => {
                if views.contains_key(table) {
                    found.insert(full_name(table).to_string());
                }
                found.extend(catalog.as_ref().map(|catalog| format!("{catalog}.{schema}.{table}")));
            }
            _ => {}
        }
    }
    found
}

/// Views that read this one, through others, too.
fn is_read_through(views: &KnownViews, from: &str, wanted: &str, seen: &mut BTreeSet<String>) -> bool {
    let wanted_name = full_name(wanted).to_string();
    let Some(known) = views.get(from) else { return false };
    let read = reads(known, views);
    read.contains(&wanted_name)
        || read.iter().any(|name| {
            let view = name.strip_prefix("lane.views.");
            view.is_some_and(|view| seen.insert(view.to_owned()) && is_read_through(views, view, wanted, seen))
        })
}

/// No view of the set reads itself, by whatever way.
pub fn check_circles(views: &KnownViews) -> Result<()> {
    match views.keys().find(|name| is_read_through(views, name, name, &mut BTreeSet::new())) {
        Some(name) => Err(Error::new(Code::InvalidRecursion, format!("the view {name} would read itself"))
            .hint("WITH RECURSIVE is for queries that build on their own rows")),
        None => Ok(()),
    }
}

fn list(names: &[String]) -> String {
    names.join(", ")
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

    /// What a view reads, and the views that read it, by their full names.
    pub fn lineage_of_view(&self, name: &str) -> (Vec<String>, Vec<String>) {
        let views = self.views();
        let read = views.get(name).map(|known| reads(known, &views).into_iter().collect()).unwrap_or_default();
        (read, self.readers_of(&full_name(name).to_string()))
    }

    /// The views whose queries name this table or view, by their full names.
    pub fn readers_of(&self, full: &str) -> Vec<String> {
        let views = self.views();
        let found = views.iter().filter(|(_, known)| reads(known, &views).contains(full));
        found.map(|(name, _)| full_name(name).to_string()).collect()
    }

    /// The views whose queries name a table of this catalog.
    pub fn readers_of_catalog(&self, catalog: &str) -> Vec<String> {
        let (views, before) = (self.views(), format!("{catalog}."));
        let found = views.iter().filter(|(_, known)| reads(known, &views).iter().any(|name| name.starts_with(&before)));
        found.map(|(name, _)| full_name(name).to_string()).collect()
    }

    /// What keeps a thing from going.
    pub(crate) fn unread(&self, what: &str, full: &str) -> Result<()> {
        match self.readers_of(full).as_slice() {
            [] => Ok(()),
            readers => Err(Error::new(Code::InUse, format!("{what} is read by {}", list(readers)))
                .hint("drop what reads it first")),
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
                .hint("CREATE OR REPLACE VIEW takes its place")
                .at(written.position)),
            _ => Ok(Some(name)),
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
                gone.push(name);
            } else if !if_exists {
                let mut error = Error::unknown("view", &name, views.keys().map(String::as_str));
                error.code = Code::UnknownTable;
                return Err(error.at(written.position));
            }
        }
        let mut at = 0;
        while let Some(name) = gone.get(at).cloned() {
            let readers = self.readers_of(&full_name(&name).to_string());
            let others: Vec<String> = readers
                .iter()
                .filter_map(|full| full.strip_prefix("lane.views.").map(str::to_owned))
                .filter(|reader| !gone.contains(reader))
                .collect();
            if !others.is_empty() && !cascade {
                let position = names.iter().find(|n| n.parts.last() == Some(&name)).and_then(|n| n.position);
                return Err(Error::new(Code::InUse, format!("the view {name} is read by {}", list(&readers)))
                    .hint("drop those first, or DROP VIEW … CASCADE takes them along")
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
        // Their texts have its name.
        self.unread(&format!("the view {name}"), &full_name(&name).to_string()).map_err(|e| e.at(written.position))?;
        self.keep(&new, Some(&known.view)).await?;
        self.keep(&name, None).await?;
        let mut next = views.as_ref().clone();
        next.remove(&name);
        next.insert(new.clone(), known.clone());
        self.put_views(next);
        Ok(Some((name, new)))
    }
}
