//! The names visible at one place of a query, and how a written name finds its column.

use cobble_plan::expr::Column;
use cobble_types::{Code, Error, ObjectName, Position, Result};

#[derive(Debug, Clone, Default)]
pub(super) struct Scope {
    pub columns: Vec<ScopeColumn>,
}

#[derive(Debug, Clone)]
pub(super) struct ScopeColumn {
    /// Alias or table name.
    pub qualifier: Option<String>,
    /// The full name of the table, for references that spell it out.
    pub table: Option<ObjectName>,
    pub name: String,
    pub column: Column,
    pub reach: Reach,
    /// True when an outer join may put nulls in the place of its table's row.
    pub may_be_missing: bool,
}

/// What reaches a column besides a name with its table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Reach {
    /// Its name alone, and `*`.
    Open,
    /// Nothing: USING has merged it away. An alias for the join leaves it out.
    Merged,
    /// Its name alone: what SEARCH or CYCLE carry through a recursion.
    Carried,
}

/// Outcome of a look-up that may fall through to an outer query.
pub(super) enum Found<'a> {
    /// The column, and how many parts of the name were used up; the rest are fields of a row value.
    Column(&'a ScopeColumn, usize),
    Nothing,
}

impl Scope {
    /// Finds `qualifier.column` or `column`, with any further parts left as fields.
    pub fn find(&self, parts: &[String], position: Option<Position>) -> Result<Found<'_>> {
        // The longest reading first: catalog.schema.table.column, then schema.table.column, table.column, column.
        for qualifiers in (0..parts.len().min(4)).rev() {
            let (qualifier, name) = (&parts[..qualifiers], &parts[qualifiers]);
            let mut matches = self.columns.iter().filter(|c| c.name == *name && c.is_reached_by(qualifier));
            if let Some(first) = matches.next() {
                if let Some(second) = matches.next() {
                    let qualifiers: Vec<String> = [first, second].iter().filter_map(|c| c.qualifier.clone()).collect();
                    return Err(Error::new(Code::AmbiguousName, format!("the column \"{name}\" is ambiguous"))
                        .hint(format!(
                            "name its table: {}",
                            qualifiers.iter().map(|q| format!("{q}.{name}")).collect::<Vec<_>>().join(" or ")
                        ))
                        .at(position));
                }
                return Ok(Found::Column(first, qualifiers + 1));
            }
        }
        Ok(Found::Nothing)
    }

    /// The columns of a table or alias, in their order; `None` when there is none of this name.
    pub fn row_of(&self, parts: &[String]) -> Option<Vec<ScopeColumn>> {
        let of_row = |c: &&ScopeColumn| c.reach != Reach::Carried && c.is_reached_by(parts);
        let columns: Vec<ScopeColumn> = self.columns.iter().filter(of_row).cloned().collect();
        (!parts.is_empty() && !columns.is_empty()).then_some(columns)
    }

    /// The error for a name that nothing answers to.
    pub fn unknown<'s>(&'s self, parts: &[String], outer: impl Iterator<Item = &'s Scope> + Clone) -> Error {
        let shown = parts.join(".");
        let all = || std::iter::once(self).chain(outer.clone()).flat_map(|scope| &scope.columns);
        if let [qualifier, name] = parts {
            let known_qualifier = all().any(|c| c.qualifier.as_ref() == Some(qualifier));
            if !known_qualifier && !all().any(|c| c.name == *qualifier) {
                let qualifiers: Vec<&str> = all().filter_map(|c| c.qualifier.as_deref()).collect();
                return Error::unknown("table or alias", qualifier, qualifiers);
            }
            let names = all().filter(|c| c.qualifier.as_ref() == Some(qualifier)).map(|c| c.name.as_str());
            return match cobble_types::closest_name(name, names) {
                Some(close) => Error::new(Code::UnknownName, format!("there is no column named \"{shown}\""))
                    .hint(format!("did you mean \"{qualifier}.{close}\"?")),
                None => Error::new(Code::UnknownName, format!("there is no column named \"{shown}\"")),
            };
        }
        let error = Error::unknown("column", &shown, all().map(|c| c.name.as_str()));
        if error.hint.is_none() && self.columns.is_empty() {
            return error.hint("this query reads no table; text values stand in single quotes");
        }
        error
    }

    pub fn with_qualifier(mut self, qualifier: &str, names: &[String]) -> Result<Scope> {
        if names.len() > self.columns.len() {
            return Err(Error::new(
                Code::Syntax,
                format!("\"{qualifier}\" has {} columns, but {} names are given", self.columns.len(), names.len()),
            ));
        }
        self.columns.retain(|c| c.reach != Reach::Merged);
        for (i, column) in self.columns.iter_mut().enumerate() {
            column.qualifier = Some(qualifier.to_owned());
            column.table = None;
            if let Some(name) = names.get(i) {
                column.name = name.clone();
                column.column.name = name.clone();
            }
            column.column.qualifier = Some(qualifier.to_owned());
        }
        Ok(self)
    }
}

impl ScopeColumn {
    fn is_reached_by(&self, qualifier: &[String]) -> bool {
        match (qualifier, &self.table) {
            ([], _) => self.reach != Reach::Merged,
            ([table], _) => self.qualifier.as_ref() == Some(table),
            ([schema, table], Some(full)) => full.schema == *schema && full.table == *table,
            ([catalog, schema, table], Some(full)) => {
                full.catalog == *catalog && full.schema == *schema && full.table == *table
            }
            _ => false,
        }
    }
}
