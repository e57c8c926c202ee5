//! What a database takes over: the offer is a SELECT under construction. A piece that does not fit the open SELECT any more
//! (a filter after a limit, say) makes it a derived table of a new one.

use std::any::Any;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use cobble_plan::aggregate::AggregateCall;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::key_pass::MOST_LISTED;
use cobble_plan::logical::{Join, JoinKey, JoinKind, Scan, SortKey};
use cobble_plan::offer::{Agreed, KeptReason, Offer, PartCount, Verdict};
use cobble_plan::scan::ScanSpec;
use cobble_plan::window::WindowCall;
use cobble_types::{ColumnId, Error, ObjectName, Result, SqlType};
use serde::{Deserialize, Serialize};

use super::scan::{FORM, Work, request_of};
use super::sql::{Refusal, Sql, VERBATIM};
use super::{Database, RemoteTable, window, wrap};

/// A SELECT under construction, as data.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Select {
    from: Sql,
    conditions: Vec<Sql>,
    /// `Some` once the SELECT groups; empty means one group of all rows.
    groups: Option<Vec<Sql>>,
    order: Vec<Sql>,
    limit: Option<(Option<u64>, u64)>,
    /// The text of every column that may be asked for.
    columns: HashMap<ColumnId, Sql>,
    /// Those of them that are texts.
    texts: HashSet<ColumnId>,
    /// The name of the first table.
    pub table: String,
    /// FROM has several tables, and needs parentheses inside of another one.
    is_joined: bool,
    /// FROM is a query, which no index helps to search.
    is_nested: bool,
    /// Number of tables so far, for aliases that do not collide.
    tables: usize,
    /// The table whose rows are changed, when it is part of this.
    pub target: Option<Arc<RemoteTable>>,
}

#[derive(Debug, Clone)]
pub struct DatabaseOffer {
    database: Arc<dyn Database>,
    /// The first table's name here.
    name: ObjectName,
    pub select: Select,
    /// As in [`RemoteTable::division`]; empty once the SELECT is of anything but the one table.
    division: Vec<String>,
}

/// Characters of a key from which it is written once and then has a name.
const LONG_KEY: usize = 100;

impl DatabaseOffer {
    pub fn new(database: Arc<dyn Database>, table: &RemoteTable, scan: &Scan) -> Self {
        let mut columns = HashMap::new();
        for (column, place) in &scan.columns {
            let remote = &table.columns[*place];
            let name = format!("t1.{}", database.dialect().quoted(&remote.name));
            let text = remote.written.replace("{}", &name);
            let listed = remote.checks.then_some(name);
            columns.insert(column.id, Sql { listed, ..Sql::column(text, remote.name.clone()) });
        }
        let texts = texts_of(scan.columns.iter().map(|(column, _)| column)).collect();
        let from = Sql::new(format!("{} AS t1", table.name));
        let select = Select { from, columns, texts, table: table.name.clone(), tables: 1, ..Select::default() };
        DatabaseOffer { database, name: scan.table.name.clone(), select, division: table.division.clone() }
    }

    /// To go on with a SELECT that was agreed.
    pub fn resumed(database: Arc<dyn Database>, name: ObjectName, select: Select) -> Self {
        DatabaseOffer { database, name, select, division: vec![] }
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

    /// The SELECT with these columns, as text.
    fn select(&self, columns: &[Sql]) -> Sql {
        let mut out = Sql::new("SELECT ");
        if columns.is_empty() {
            out.text(self.database.dialect().no_columns());
        }
        out.push(&Sql::joined(columns, ", ")).text(" FROM ").push(&self.select.from);
        if !self.select.conditions.is_empty() {
            out.text(" WHERE ").push(&Sql::joined(&self.select.conditions, " AND "));
        }
        if let Some(groups) = &self.select.groups
            && !groups.is_empty()
        {
            out.text(" GROUP BY ").push(&Sql::joined(groups, ", "));
        }
        if !self.select.order.is_empty() {
            out.text(" ORDER BY ").push(&Sql::joined(&self.select.order, ", "));
        }
        if let Some((limit, offset)) = self.select.limit {
            out.text(&self.database.dialect().limit(limit, offset));
        }
        out
    }

    /// The conditions, when there is nothing else but one table of the database.
    pub fn conditions_alone(&self) -> Option<&[Sql]> {
        (self.is_plain() && self.select.tables == 1 && !self.select.is_nested).then_some(&self.select.conditions)
    }

    /// What stands for a column in the list of a SELECT.
    pub fn listed(&self, column: &Column) -> Result<Sql> {
        let text = self.select.columns.get(&column.id);
        let mut item = text.cloned().ok_or_else(|| Error::internal(format!("the statement has no column {column}")))?;
        if let Some(listed) = item.listed.take() {
            item.text = listed;
        }
        Ok(item)
    }

    /// The SELECT of these columns under these names.
    pub fn named(&self, columns: &[(Column, String)]) -> Result<Sql> {
        let items = columns.iter().map(|(column, name)| {
            let mut item = self.listed(column)?;
            item.text(&format!(" AS {name}"));
            Ok(item)
        });
        Ok(self.select(&items.collect::<Result<Vec<_>>>()?))
    }

    /// The statement for these columns, and the names of the source's columns in them.
    pub fn statement(&self, columns: &[Column]) -> Result<(Sql, Vec<String>)> {
        let items: Vec<Sql> = columns.iter().map(|column| self.listed(column)).collect::<Result<_>>()?;
        let names = Sql::joined(&items, "").columns.into_iter().collect();
        Ok((self.select(&items), names))
    }

    /// Conditions by which portions may be read apart; none where the SELECT is of more than one table's rows.
    fn portions(&self) -> &[String] {
        if self.is_plain() && self.select.tables == 1 { &self.division } else { &[] }
    }

    /// The statement for each of these portions, itself alone when there are none.
    pub fn statements(&self, columns: &[Column], portions: &[String]) -> Result<Vec<Sql>> {
        if portions.is_empty() {
            return Ok(vec![self.statement(columns)?.0]);
        }
        let portion = |condition: &String| {
            let mut offer = self.clone();
            offer.select.conditions.push(Sql::new(format!("({condition})")));
            Ok(offer.statement(columns)?.0)
        };
        portions.iter().map(portion).collect()
    }

    /// True when a further condition would change which rows a limit lets through.
    pub fn is_limited(&self) -> bool {
        self.select.limit.is_some()
    }

    /// Makes what there is a derived table, so that more can be put on top.
    fn nest(&mut self) {
        let mut ids: Vec<ColumnId> = self.select.columns.keys().copied().collect();
        ids.sort_unstable();
        let alias = format!("t{}", self.select.tables);
        let items: Vec<Sql> = ids
            .iter()
            .map(|id| {
                let mut item = self.select.columns[id].clone();
                item.text(&format!(" AS c{}", id.0));
                item
            })
            .collect();
        let inner = self.select(&items);
        self.division.clear();
        let mut from = Sql::new("(");
        from.push(&inner).text(&format!(") AS {alias}"));
        self.select.from = from;
        (self.select.is_joined, self.select.is_nested) = (false, true);
        self.select.conditions.clear();
        self.select.groups = None;
        self.select.order.clear();
        self.select.limit = None;
        for id in ids {
            let used = self.select.columns.get(&id).map(|sql| sql.columns.clone()).unwrap_or_default();
            let derived = Sql { columns: used, of_rows: true, ..Sql::new(format!("{alias}.c{}", id.0)) };
            let is_text = self.select.texts.contains(&id);
            self.select
                .columns
                .insert(id, if is_text { self.database.dialect().derived_text(derived) } else { derived });
        }
    }

    /// The same offer with its table aliases moved up by `by`, so that two offers can stand in one FROM.
    fn shifted(&self, by: usize) -> DatabaseOffer {
        let shift = |sql: &Sql| Sql {
            text: shift_aliases(&sql.text, by),
            listed: sql.listed.as_ref().map(|text| shift_aliases(text, by)),
            ..sql.clone()
        };
        let all = |list: &[Sql]| list.iter().map(shift).collect::<Vec<_>>();
        let select = Select {
            from: shift(&self.select.from),
            conditions: all(&self.select.conditions),
            groups: self.select.groups.as_ref().map(|g| all(g)),
            order: all(&self.select.order),
            columns: self.select.columns.iter().map(|(id, sql)| (*id, shift(sql))).collect(),
            ..self.select.clone()
        };
        DatabaseOffer { select, ..self.clone() }
    }

    /// `key IN (query)` for a join that only asks whether there is a partner: a query that is made once, where EXISTS could make it for
    /// each row. For whole numbers, which are compared in one way only.
    fn among(left: &DatabaseOffer, right: &DatabaseOffer, join: &Join) -> Option<Sql> {
        let [JoinKey { left: own, right: other, null_safe: false }] = join.on.as_slice() else { return None };
        if !join.residual.is_empty() || !own.sql_type().is_integer() || own.sql_type() != other.sql_type() {
            return None;
        }
        let own = left.translate(own).ok()?;
        let other = right.translate(other).ok()?;
        let mut keys = Sql::default();
        keys.push(&other).text(" FROM ").push(&right.select.from);
        let mut conditions = right.select.conditions.clone();
        if join.kind != JoinKind::NullAwareAnti {
            conditions.push(wrap(&[&other], "? IS NOT NULL"));
        }
        if !conditions.is_empty() {
            keys.text(" WHERE ").push(&Sql::joined(&conditions, " AND "));
        }
        Some(match join.kind {
            JoinKind::Semi => wrap(&[&own, &keys], "(? IN (SELECT ?))"),
            JoinKind::NullAwareAnti => wrap(&[&own, &keys], "(? NOT IN (SELECT ?))"),
            _ => wrap(&[&own, &own, &keys], "(? IS NULL OR ? NOT IN (SELECT ?))"),
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

/// `t3.` and ` AS t3` with the number raised. Aliases are ours, so nothing else in the text looks like them outside quotes.
fn shift_aliases(text: &str, by: usize) -> String {
    let mut out = String::with_capacity(text.len() + 8);
    let (mut quoted, mut ours) = (false, true);
    let mut characters = text.char_indices().peekable();
    let mut before = ' ';
    while let Some((at, c)) = characters.next() {
        if VERBATIM.contains(&c) {
            ours = c == VERBATIM[1];
        } else if ours && (c == '"' || c == '`') {
            quoted = !quoted;
        }
        out.push(c);
        let starts_alias = ours && !quoted && c == 't' && !before.is_alphanumeric() && before != '_' && before != '.';
        if starts_alias {
            let digits: String = text[at + 1..].chars().take_while(char::is_ascii_digit).collect();
            if let Ok(number) = digits.parse::<usize>() {
                out.push_str(&(number + by).to_string());
                for _ in 0..digits.len() {
                    characters.next();
                }
            }
        }
        before = c;
    }
    out
}

impl Offer for DatabaseOffer {
    fn filter(&mut self, conjunct: &Expr) -> Verdict {
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
                Ok(sql) => keys.push((column.id, Sql { listed: None, ..sql })),
                Err(refusal) => return Self::refused(refusal),
            }
        }
        next.select.texts.extend(texts_of(groups.iter().map(|(column, _)| column)));
        next.select.texts.extend(texts_of(aggregates.iter().map(|(column, _)| column)));
        // A constant key would be read as a column's number, two parameters are never the same, and long texts would be written again and
        // again: such keys become columns first.
        let comes_first = |sql: &Sql| !sql.of_rows || !sql.parameters.is_empty() || sql.text.len() > LONG_KEY;
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

    fn union(&mut self, own: &[Column], others: &[(&dyn Offer, Vec<Column>)], columns: &[Column]) -> Verdict {
        let others = others.iter().map(|(other, own)| (other.as_any().downcast_ref::<DatabaseOffer>(), own.as_slice()));
        let mut texts = Vec::new();
        for (offer, own) in std::iter::once((Some(&*self), own)).chain(others) {
            let Some(offer) = offer else {
                return Verdict::kept(KeptReason::DifferentConnections, "another input is of another kind");
            };
            let mut offer = offer.clone();
            if offer.select.limit.is_some() || !offer.select.order.is_empty() {
                offer.nest();
            }
            let mut items = Vec::new();
            for (own, column) in own.iter().zip(columns) {
                let Some(sql) = offer.select.columns.get(&own.id).cloned() else {
                    return Verdict::kept(KeptReason::NoSuchAbility, format!("{own} is not at hand there"));
                };
                let mut item = offer.database.dialect().united(Sql { listed: None, ..sql }, &column.sql_type);
                item.text(&format!(" AS c{}", column.id.0));
                items.push(item);
            }
            texts.push(offer.select(&items));
        }
        let mut from = Sql::new("(");
        from.push(&Sql::joined(&texts, " UNION ALL ")).text(") AS t1");
        let used = from.columns.clone();
        let texts: HashSet<ColumnId> = texts_of(columns).collect();
        let column = |id: ColumnId| {
            let derived = Sql { columns: used.clone(), of_rows: true, ..Sql::new(format!("t1.c{}", id.0)) };
            if texts.contains(&id) { self.database.dialect().derived_text(derived) } else { derived }
        };
        let columns = columns.iter().map(|c| (c.id, column(c.id))).collect();
        let table = std::mem::take(&mut self.select.table);
        self.select = Select { from, columns, texts, table, is_nested: true, tables: 1, ..Select::default() };
        self.division.clear();
        Verdict::pushed()
    }

    fn join(&mut self, right: &dyn Offer, join: &Join) -> Verdict {
        let kind = join.kind;
        let Some(right) = right.as_any().downcast_ref::<DatabaseOffer>() else {
            return Verdict::kept(KeptReason::DifferentConnections, "the other side is of another kind");
        };
        if !self.database.dialect().joins(kind) {
            return Verdict::kept(KeptReason::NoSuchAbility, format!("a {} is not handed over", kind.words()));
        }
        let word = match kind {
            JoinKind::Inner => "JOIN",
            JoinKind::Left => "LEFT JOIN",
            JoinKind::Right => "RIGHT JOIN",
            JoinKind::Full
                if join.residual.is_empty() && !join.on.is_empty() && join.on.iter().all(|k| !k.null_safe) =>
            {
                "FULL JOIN"
            }
            JoinKind::Full => {
                return Verdict::kept(KeptReason::NoSuchAbility, "a full join is handed over with equalities alone");
            }
            JoinKind::NullAwareAnti => "NOT IN",
            JoinKind::Single | JoinKind::Mark => {
                return Verdict::kept(KeptReason::NoSuchAbility, format!("a {} is not handed over", kind.words()));
            }
            JoinKind::Semi => "EXISTS",
            JoinKind::Anti => "NOT EXISTS",
        };
        let mut left = self.clone();
        let mut right = right.shifted(left.select.tables);
        right.select.tables += left.select.tables;
        let tables = right.select.tables;
        // Conditions of a side that may be filled with nulls must apply before the join.
        let side = |offer: &mut DatabaseOffer, conditions_may_move: bool| {
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
        let mut condition = if conditions.is_empty() { Sql::new("1 = 1") } else { Sql::joined(&conditions, " AND ") };
        let is_null_aware = kind == JoinKind::NullAwareAnti;
        let among =
            (kind.left_only() && (right.select.is_nested || is_null_aware)).then(|| Self::among(&left, &right, join));
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
            let inner: Vec<Sql> = right.select.conditions.iter().cloned().chain([condition]).collect();
            condition = Sql::joined(&inner, " AND ");
            let mut exists = Sql::new(format!("{word} (SELECT 1 FROM "));
            exists.push(&right.select.from).text(" WHERE ").push(&condition).text(")");
            left.select.conditions.push(exists);
            left.select.tables = tables;
            left.select.target = left.select.target.or(right.select.target);
            *self = left;
            return Verdict::pushed();
        }
        // Parameters follow the order of the text: FROM with its ON conditions stands before WHERE.
        let mut from = left.select.from.clone();
        let (open, close) = if right.select.is_joined { ("(", ")") } else { ("", "") };
        from.text(&format!(" {word} {open}")).push(&right.select.from).text(&format!("{close} ON ")).push(&condition);
        left.select.from = from;
        left.select.is_joined = true;
        left.select.conditions.extend(right.select.conditions);
        left.select.columns.extend(right.select.columns);
        left.select.texts.extend(right.select.texts);
        left.select.tables = tables;
        left.select.target = left.select.target.or(right.select.target);
        *self = left;
        Verdict::pushed()
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn key_pass(&self, column: &Column, keys: f64) -> Verdict {
        if self.is_limited() {
            return Verdict::kept(KeptReason::BelowKept, "the statement has a limit, which would come after");
        }
        if !self.database.dialect().takes_keys(&column.sql_type) {
            return Verdict::kept(KeptReason::TypeDiffers, format!("keys of type {} are not sent", column.sql_type));
        }
        if keys > MOST_LISTED as f64 {
            return Verdict::Prunes { note: Some("as a range, there being too many for a list".into()) };
        }
        Verdict::Prunes { note: Some("as a list in the statement".into()) }
    }

    fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let (_, names) = self.statement(columns)?;
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

#[cfg(test)]
mod tests {
    use super::shift_aliases;

    #[test]
    fn only_aliases_are_renumbered() {
        assert_eq!(
            shift_aliases("\"public\".\"t1\" AS t1 WHERE t1.\"t2\" = t12.c3 AND extract(day FROM t1.\"at\")", 2),
            "\"public\".\"t1\" AS t3 WHERE t3.\"t2\" = t14.c3 AND extract(day FROM t3.\"at\")"
        );
        let native = super::super::sql::verbatim("SELECT t1.t2, '\"' FROM t1");
        assert_eq!(shift_aliases(&format!("({native}) AS t1"), 1), format!("({native}) AS t2"));
    }
}
