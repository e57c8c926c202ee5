//! The draft of a request to a database: a SELECT under construction. A piece that no longer fits the open SELECT (such as a filter after a limit) turns
//! it into a derived table of a new one.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use cobble_plan::aggregate::AggregateCall;
use cobble_plan::draft::Draft;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::Asked;
use cobble_plan::logical::{Join, JoinKey, JoinKind, Scan, SortKey};
use cobble_plan::offer::{Agreed, KeptReason, PartCount, Verdict};
use cobble_plan::scan::ScanSpec;
use cobble_plan::window::WindowCall;
use cobble_types::{ColumnId, Error, ObjectName, Result, SqlType};
use serde::{Deserialize, Serialize};

use super::query::{From, Query};
use super::scan::{FORM, Work, request_of};
use super::sql::{Refusal, Sql, StatementText};
use super::{Database, RemoteTable, window, wrap};

/// A SELECT under construction, as data.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Select {
    from: From,
    conditions: Vec<Sql>,
    /// As in [`Query::groups`].
    groups: Option<Vec<Sql>>,
    order: Vec<Sql>,
    limit: Option<(Option<u64>, u64)>,
    /// What stands for every column that may be asked for.
    columns: HashMap<ColumnId, Sql>,
    /// Those of them that are texts.
    texts: HashSet<ColumnId>,
    /// The name of the first table.
    pub table: String,
    /// Tables have the numbers from one to this.
    tables: usize,
    /// The table whose rows are changed, when it is part of this.
    pub target: Option<Arc<RemoteTable>>,
}

impl Select {
    /// True when a further condition would change which rows a limit lets through.
    pub fn is_limited(&self) -> bool {
        self.limit.is_some()
    }

    fn new(from: From, columns: HashMap<ColumnId, Sql>, texts: HashSet<ColumnId>, table: String) -> Select {
        let (conditions, groups, order, limit) = (vec![], None, vec![], None);
        Select { from, conditions, groups, order, limit, columns, texts, table, tables: 1, target: None }
    }

    /// The query that gives this list.
    fn query(&self, list: Vec<Sql>) -> Query {
        Query {
            list,
            from: self.from.clone(),
            conditions: self.conditions.clone(),
            groups: self.groups.clone(),
            order: self.order.clone(),
            limit: self.limit,
        }
    }
}

#[derive(Debug, Clone)]
pub struct DatabaseDraft {
    database: Arc<dyn Database>,
    /// The first table's name here.
    name: ObjectName,
    pub select: Select,
    /// As in [`RemoteTable::division`]; empty once the SELECT is of anything but the one table.
    division: Vec<String>,
}

/// Characters of a key from which it is written once and then has a name.
const LONG_KEY: usize = 100;

impl DatabaseDraft {
    pub fn new(database: Arc<dyn Database>, table: &RemoteTable, scan: &Scan) -> Self {
        let mut columns = HashMap::new();
        for (column, place) in &scan.columns {
            let remote = &table.columns[*place];
            let own = Sql::column(1, &database.dialect().quoted(&remote.name));
            columns.insert(column.id, remote.sql(own));
        }
        let texts = texts_of(scan.columns.iter().map(|(column, _)| column)).collect();
        let from = From::Table { name: table.name.clone(), number: 1 };
        let select = Select::new(from, columns, texts, table.name.clone());
        DatabaseDraft { database, name: scan.table.name.clone(), select, division: table.division.clone() }
    }

    /// To go on with a SELECT that was agreed.
    pub fn resumed(database: Arc<dyn Database>, name: ObjectName, select: Select) -> Self {
        DatabaseDraft { database, name, select, division: vec![] }
    }

    fn translate(&self, expr: &Expr) -> Result<Sql, Refusal> {
        self.database.dialect().translate(expr, &|column| self.select.columns.get(&column.id).cloned())
    }

    fn key(&self, expr: &Expr) -> Result<Sql, Refusal> {
        self.database.dialect().key(expr, &|column| self.select.columns.get(&column.id).cloned())
    }

    /// True while the SELECT has only FROM and WHERE.
    fn is_plain(&self) -> bool {
        self.select.groups.is_none() && self.select.limit.is_none() && self.select.order.is_empty()
    }

    /// The conditions, when there is nothing else but one table of the database.
    pub fn conditions_alone(&self) -> Option<&[Sql]> {
        (self.is_plain() && self.select.tables == 1 && !self.select.from.is_derived())
            .then_some(&self.select.conditions)
    }

    /// What stands for a column in the list of a SELECT.
    pub fn listed(&self, column: &Column) -> Result<Sql> {
        let item = self.select.columns.get(&column.id).cloned();
        Ok(item.ok_or_else(|| Error::internal(format!("the statement has no column {column}")))?.listed())
    }

    /// The query for these columns under these names.
    pub fn named(&self, columns: &[(Column, String)]) -> Result<Query> {
        let items = columns.iter().map(|(column, name)| {
            let mut item = self.listed(column)?;
            item.text(&format!(" AS {name}"));
            Ok(item)
        });
        Ok(self.select.query(items.collect::<Result<_>>()?))
    }

    /// The query for these columns, and the names of the source's columns in them.
    fn query(&self, columns: &[Column]) -> Result<(Query, Vec<String>)> {
        let items: Vec<Sql> = columns.iter().map(|column| self.listed(column)).collect::<Result<_>>()?;
        let names = Sql::joined(&items, "").columns.into_iter().collect();
        Ok((self.select.query(items), names))
    }

    /// Conditions that cut the scan into portions; none if the SELECT reads more than one table.
    fn portions(&self) -> &[String] {
        if self.is_plain() && self.select.tables == 1 { &self.division } else { &[] }
    }

    /// The statement for each of these portions, one for all rows when there are none.
    pub fn statements(&self, columns: &[Column], portions: &[String]) -> Result<Vec<StatementText>> {
        let (query, _) = self.query(columns)?;
        let printed = |query: Query| StatementText::of(&Sql::query(query), self.database.dialect());
        if portions.is_empty() {
            return Ok(vec![printed(query)]);
        }
        let portion = |condition: &String| {
            let mut query = query.clone();
            query.conditions.push(Sql::new(format!("({condition})")));
            printed(query)
        };
        Ok(portions.iter().map(portion).collect())
    }

    /// Makes what there is a derived table, so that more can be put on top.
    fn nest(&mut self) {
        let mut ids: Vec<ColumnId> = self.select.columns.keys().copied().collect();
        ids.sort_unstable();
        let items = ids.iter().map(|id| {
            let mut item = self.select.columns[id].clone();
            item.text(&format!(" AS c{}", id.0));
            item
        });
        let inner = self.select.query(items.collect());
        self.division.clear();
        self.select.from = From::Derived { queries: vec![inner], number: self.select.tables };
        self.select.conditions.clear();
        self.select.groups = None;
        self.select.order.clear();
        self.select.limit = None;
        for id in ids {
            let used = self.select.columns.get(&id).map(|sql| sql.columns.clone()).unwrap_or_default();
            let derived = self.derived(id, used, self.select.tables, self.select.texts.contains(&id));
            self.select.columns.insert(id, derived);
        }
    }

    /// A column of a derived table.
    fn derived(&self, id: ColumnId, used: BTreeSet<String>, number: usize, is_text: bool) -> Sql {
        let column = Sql::column(number, &format!("c{}", id.0)).using(used);
        if is_text { self.database.dialect().derived_text(column) } else { column }
    }

    /// The same draft with the numbers of its tables raised, so that two drafts can stand in one FROM.
    fn renumbered(&self, by: usize) -> DatabaseDraft {
        let mut draft = self.clone();
        let Select { from, conditions, groups, order, columns, .. } = &mut draft.select;
        from.renumber(by);
        let parts = conditions.iter_mut().chain(groups.iter_mut().flatten()).chain(order).chain(columns.values_mut());
        parts.for_each(|part| part.renumber(by));
        draft
    }

    /// `key IN (query)` for a join that only asks whether there is a partner: a query that is made once, where EXISTS could make it for
    /// each row. For whole numbers, which are compared in one way only.
    fn among(left: &DatabaseDraft, right: &DatabaseDraft, join: &Join) -> Option<Sql> {
        let [JoinKey { left: own, right: other, null_safe: false }] = join.on.as_slice() else { return None };
        if !join.residual.is_empty() || !own.sql_type().is_integer() || own.sql_type() != other.sql_type() {
            return None;
        }
        let own = left.translate(own).ok()?;
        let other = right.translate(other).ok()?;
        let mut conditions = right.select.conditions.clone();
        if join.kind != JoinKind::NullAwareAnti {
            conditions.push(wrap(&[&other], "? IS NOT NULL"));
        }
        let keys = Sql::query(Query::new(vec![other], right.select.from.clone(), conditions));
        Some(match join.kind {
            JoinKind::Semi => wrap(&[&own, &keys], "(? IN (?))"),
            JoinKind::NullAwareAnti => wrap(&[&own, &keys], "(? NOT IN (?))"),
            _ => wrap(&[&own, &own, &keys], "(? IS NULL OR ? NOT IN (?))"),
        })
    }

    fn refused((reason, note): Refusal) -> Verdict {
        Verdict::kept(reason, note)
    }
}

/// The columns that are texts.
fn texts_of<'a>(columns: impl IntoIterator<Item = &'a Column>) -> impl Iterator<Item = ColumnId> {
    columns.into_iter().filter(|column| column.sql_type == SqlType::Text).map(|column| column.id)
}

impl DatabaseDraft {
    /// Takes a condition on the rows so far.
    pub fn filter(&mut self, conjunct: &Expr) -> Verdict {
        match (&self.select.groups, self.select.limit, self.select.order.is_empty()) {
            // An order of all rows is that of those that stay.
            (None, None, _) => {}
            (Some(_), None, false) => {
                return Verdict::kept(
                    KeptReason::BelowKept,
                    "it comes after an order, which a derived table would lose",
                );
            }
            _ => self.nest(),
        }
        let dialect = self.database.dialect();
        match dialect.condition(conjunct, &|column| self.select.columns.get(&column.id).cloned()) {
            Ok(sql) => {
                self.select.conditions.push(sql);
                Verdict::pushed()
            }
            Err(refusal) => Self::refused(refusal),
        }
    }

    fn project(&mut self, columns: &[(Column, Expr)]) -> Verdict {
        let mut translated = Vec::new();
        for (column, expr) in columns {
            match self.translate(expr) {
                Ok(sql) => translated.push((column.id, sql)),
                Err(refusal) => return Self::refused(refusal),
            }
        }
        self.select.columns.extend(translated);
        self.select.texts.extend(texts_of(columns.iter().map(|(column, _)| column)));
        Verdict::pushed()
    }

    fn aggregate(&mut self, groups: &[(Column, Expr)], aggregates: &[(Column, AggregateCall)]) -> Verdict {
        let mut next = self.clone();
        if !next.is_plain() {
            next.nest();
        }
        let (mut keys, mut columns) = (Vec::new(), HashMap::new());
        let unordered = |expr: &Expr| !expr.sql_type().is_ordered();
        let distinct = || aggregates.iter().filter(|(_, call)| call.distinct).flat_map(|(_, call)| &call.arguments);
        if groups.iter().any(|(_, expr)| unordered(expr)) || distinct().any(unordered) {
            return Self::refused((KeptReason::TypeDiffers, "documents are told apart in another way there".into()));
        }
        for (column, expr) in groups {
            if let Err(refusal) = next.database.dialect().groups(expr) {
                return Self::refused(refusal);
            }
            match next.key(expr) {
                Ok(sql) => keys.push((column.id, sql.whole())),
                Err(refusal) => return Self::refused(refusal),
            }
        }
        next.select.texts.extend(texts_of(groups.iter().map(|(column, _)| column)));
        next.select.texts.extend(texts_of(aggregates.iter().map(|(column, _)| column)));
        // A constant key would be read as a column's number, two parameters are never the same, and long texts would be written again and
        // again: such keys become columns first.
        let comes_first = |sql: &Sql| !sql.of_rows || sql.binds() || sql.size() > LONG_KEY;
        if keys.iter().any(|(_, sql)| comes_first(sql)) {
            next.select.columns.extend(keys.iter().cloned());
            next.nest();
            for (id, sql) in &mut keys {
                *sql = next.select.columns[id].clone();
            }
        }
        columns.extend(keys.iter().cloned());
        let keys: Vec<Sql> = keys.into_iter().map(|(_, sql)| sql).collect();
        for (column, call) in aggregates {
            let written =
                next.database.dialect().aggregate(call, &|column| next.select.columns.get(&column.id).cloned(), None);
            match written {
                Ok(sql) => {
                    columns.insert(column.id, sql);
                }
                Err(refusal) => return Self::refused(refusal),
            }
        }
        next.select.groups = Some(keys);
        next.select.columns = columns;
        *self = next;
        Verdict::pushed()
    }

    fn sort(&mut self, keys: &[SortKey], fetch: Option<u64>) -> Verdict {
        let mut order = Vec::new();
        if self.select.limit.is_some() {
            self.nest();
        }
        for key in keys {
            match self.key(&key.expr) {
                Ok(sql) => {
                    // What is the same in all rows puts them in no order, and would be read as a column's number.
                    if !sql.of_rows {
                        continue;
                    }
                    match self.database.dialect().sort_key(key, sql) {
                        Ok(sql) => order.push(sql),
                        Err(refusal) => return Self::refused(refusal),
                    }
                }
                Err(refusal) => return Self::refused(refusal),
            }
        }
        self.select.order = order;
        self.select.limit = fetch.map(|n| (Some(n), 0));
        Verdict::pushed()
    }

    fn limit(&mut self, limit: Option<u64>, offset: u64) -> Verdict {
        if self.select.limit.is_some() {
            // Rows of an ordered derived table keep their order only by grace, so the order stays outermost.
            if !self.select.order.is_empty() {
                if let Some((Some(fetch), 0)) = self.select.limit {
                    let left = fetch.saturating_sub(offset);
                    self.select.limit = Some((Some(limit.map_or(left, |n| n.min(left))), offset));
                    return Verdict::pushed();
                }
                return Verdict::kept(KeptReason::NoSuchAbility, "there is a limit already");
            }
            self.nest();
        }
        self.select.limit = Some((limit, offset));
        Verdict::pushed()
    }

    fn window(&mut self, partition: &[Expr], order: &[SortKey], calls: &[(Column, WindowCall)]) -> Verdict {
        let mut next = self.clone();
        if !next.is_plain() {
            next.nest();
        }
        let dialect = next.database.dialect();
        let written =
            window::written(dialect, partition, order, calls, &|column| next.select.columns.get(&column.id).cloned());
        match written {
            Ok(written) => next.select.columns.extend(calls.iter().map(|(column, _)| column.id).zip(written)),
            Err(refusal) => return Self::refused(refusal),
        }
        next.select.texts.extend(texts_of(calls.iter().map(|(column, _)| column)));
        // What comes next looks at whole rows with what was computed.
        next.nest();
        *self = next;
        Verdict::pushed()
    }
}

impl Draft for DatabaseDraft {
    async fn take(&mut self, piece: Asked<'_>) -> Verdict {
        match piece {
            Asked::Filter(conjunct) => self.filter(conjunct),
            Asked::Project(columns) => self.project(columns),
            Asked::Aggregate { groups, aggregates } => self.aggregate(groups, aggregates),
            Asked::Sort { keys, fetch } => self.sort(keys, fetch),
            Asked::Limit { limit, offset } => self.limit(limit, offset),
            Asked::Window { partition, order, calls } => self.window(partition, order, calls),
        }
    }

    fn union(&mut self, own: &[Column], others: &[(&Self, &[Column])], columns: &[Column]) -> Verdict {
        let (mut queries, mut used) = (Vec::new(), BTreeSet::new());
        for (draft, own) in std::iter::once((&*self, own)).chain(others.iter().copied()) {
            let mut draft = draft.clone();
            if draft.select.limit.is_some() || !draft.select.order.is_empty() {
                draft.nest();
            }
            let mut items = Vec::new();
            for (own, column) in own.iter().zip(columns) {
                let Some(sql) = draft.select.columns.get(&own.id).cloned() else {
                    return Verdict::kept(KeptReason::NoSuchAbility, format!("{own} is not at hand there"));
                };
                let mut item = draft.database.dialect().united(sql.whole(), &column.sql_type);
                item.text(&format!(" AS c{}", column.id.0));
                used.extend(item.columns.iter().cloned());
                items.push(item);
            }
            queries.push(draft.select.query(items));
        }
        let texts: HashSet<ColumnId> = texts_of(columns).collect();
        let column = |id: ColumnId| (id, self.derived(id, used.clone(), 1, texts.contains(&id)));
        let columns = columns.iter().map(|c| column(c.id)).collect();
        let table = std::mem::take(&mut self.select.table);
        self.select = Select::new(From::Derived { queries, number: 1 }, columns, texts, table);
        self.division.clear();
        Verdict::pushed()
    }

    fn join(&mut self, right: &Self, join: &Join) -> Verdict {
        let kind = join.kind;
        if !self.database.dialect().joins(kind) {
            return Verdict::kept(KeptReason::NoSuchAbility, format!("a {} is not handed over", kind.words()));
        }
        match kind {
            JoinKind::Full
                if join.on.is_empty() || !join.residual.is_empty() || join.on.iter().any(|k| k.null_safe) =>
            {
                return Verdict::kept(KeptReason::NoSuchAbility, "a full join is handed over with equalities alone");
            }
            JoinKind::Single | JoinKind::Mark => {
                return Verdict::kept(KeptReason::NoSuchAbility, format!("a {} is not handed over", kind.words()));
            }
            _ => {}
        }
        let mut left = self.clone();
        let mut right = right.renumbered(left.select.tables);
        right.select.tables += left.select.tables;
        let tables = right.select.tables;
        // Conditions of a side that may be filled with nulls must apply before the join.
        let side = |offer: &mut DatabaseDraft, conditions_may_move: bool| {
            if !offer.is_plain() || (!conditions_may_move && !offer.select.conditions.is_empty()) {
                offer.nest();
            }
        };
        side(&mut left, !matches!(kind, JoinKind::Right | JoinKind::Full));
        side(&mut right, matches!(kind, JoinKind::Inner | JoinKind::Right) || kind.left_only());
        let both = |column: &Column| {
            left.select.columns.get(&column.id).or_else(|| right.select.columns.get(&column.id)).cloned()
        };
        let mut conditions = Vec::new();
        let equalities = join.on.iter().map(JoinKey::as_condition);
        for condition in equalities.chain(join.residual.iter().cloned()) {
            match self.database.dialect().translate(&condition, &both) {
                Ok(sql) => conditions.push(sql),
                Err(refusal) => return Self::refused(refusal),
            }
        }
        let condition = if conditions.is_empty() { Sql::new("1 = 1") } else { Sql::joined(&conditions, " AND ") };
        let is_null_aware = kind == JoinKind::NullAwareAnti;
        let among = (kind.left_only() && (right.select.from.is_derived() || is_null_aware))
            .then(|| Self::among(&left, &right, join));
        if among == Some(None) && is_null_aware {
            let note = "NOT IN is handed over for one key of whole numbers";
            return Verdict::kept(KeptReason::TypeDiffers, note);
        }
        if let Some(Some(condition)) = among {
            left.select.conditions.push(condition);
            left.select.tables = tables;
            left.select.target = left.select.target.or(right.select.target);
            *self = left;
            return Verdict::pushed();
        }
        if kind.left_only() {
            let inner = right.select.conditions.iter().cloned().chain([condition]).collect();
            let partners = Sql::query(Query::new(vec![Sql::new("1")], right.select.from, inner));
            let pattern = if kind == JoinKind::Semi { "EXISTS (?)" } else { "NOT EXISTS (?)" };
            left.select.conditions.push(wrap(&[&partners], pattern));
            left.select.tables = tables;
            left.select.target = left.select.target.or(right.select.target);
            *self = left;
            return Verdict::pushed();
        }
        let (own, other) = (Box::new(left.select.from), Box::new(right.select.from));
        left.select.from = From::Join { left: own, kind, right: other, on: condition };
        left.select.conditions.extend(right.select.conditions);
        left.select.columns.extend(right.select.columns);
        left.select.texts.extend(right.select.texts);
        left.select.tables = tables;
        left.select.target = left.select.target.or(right.select.target);
        *self = left;
        Verdict::pushed()
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let (_, names) = self.query(columns)?;
        let portions = self.portions();
        let request = request_of(self.database.as_ref(), &self.statements(columns, portions)?, columns);
        let facts = self.database.facts().to_owned();
        let work = Work { facts, select: self.select.clone(), columns: columns.to_vec() };
        let place = (self.database.connection(), self.database.dialect().kind());
        let spec = ScanSpec::new(place, &self.name, FORM, &work)?.with_portions(portions)?;
        let ranges = portions.len() as u64;
        let parts = match ranges < 2 {
            true => vec![],
            false => vec![PartCount { parts: "ranges".into(), read: ranges, total: ranges }],
        };
        Ok(Agreed { parts, ..Agreed::new(spec, request, names) })
    }
}
