//! The logical plan: an immutable tree of relational operators over columns known by id.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use cobble_types::{ColumnId, ObjectName, SqlType};
use serde::{Deserialize, Serialize};

use crate::aggregate::AggregateCall;
use crate::expr::{BinaryOp, Column, Expr, comma_separated};
use crate::statistics::TableStatistics;
use crate::table_function::RowMaker;
use crate::window::WindowCall;

/// A table as its connector describes it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Table {
    pub name: ObjectName,
    pub columns: Vec<TableColumn>,
    pub statistics: TableStatistics,
    /// Column positions of the primary key, empty when there is none.
    pub primary_key: Vec<usize>,
    pub kind: TableKind,
    pub origin: Origin,
}

/// Where the rows of a table come from.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Origin {
    /// The name of the connection. Work on tables of one connection may be offered together.
    pub connection: String,
    /// The kind of connector, such as `postgres`.
    pub kind: String,
    pub region: Option<String>,
    /// True when fields of a column of rows can be read apart: the scan's column then has a type with only those wanted.
    pub reads_fields: bool,
    /// The state of the data that was described, where the source tells states apart.
    pub version: Option<String>,
    /// What a statement says of a table that has no name at the source: the text of a query, the options of files.
    pub definition: Option<String>,
    pub role: Role,
}

impl Origin {
    pub fn new(connection: &str, kind: &str, region: Option<&str>) -> Origin {
        let (connection, kind, region) = (connection.to_owned(), kind.to_owned(), region.map(str::to_owned));
        Origin { connection, kind, region, ..Origin::default() }
    }
}

/// What a statement does with a table.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Role {
    #[default]
    Read,
    /// Its rows are changed; it has further columns that tell them apart.
    Changed,
    /// It is made of the rows that a change gives back.
    Returned,
}

/// What tells the tables of one statement apart.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct TableKey {
    pub name: ObjectName,
    pub definition: Option<String>,
    pub role: Role,
}

impl Table {
    pub fn key(&self) -> TableKey {
        let (name, definition) = (self.name.clone(), self.origin.definition.clone());
        TableKey { name, definition, role: self.origin.role }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum TableKind {
    Table,
    View,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TableColumn {
    pub name: String,
    pub sql_type: SqlType,
    pub nullable: bool,
    /// True for a column whose value is the name of a `key=value` folder.
    pub partition: bool,
    pub comment: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Scan {
    pub table: Arc<Table>,
    /// The columns read, with their position in the table.
    pub columns: Vec<(Column, usize)>,
}

impl Scan {
    fn column_names(&self) -> String {
        let whole = &self.table.columns;
        comma_separated(self.columns.iter().map(|(c, place)| part_name(&c.name, &c.sql_type, &whole[*place].sql_type)))
    }
}

/// The name of what is read of a column: its own, or with the fields that its type keeps of the whole type, such as
/// `seen.at.lat` or `seen(by, at.lat)`.
pub fn part_name(name: &str, kept: &SqlType, whole: &SqlType) -> String {
    let mut paths = Vec::new();
    field_paths("", kept, whole, &mut paths);
    match paths.as_slice() {
        [one] => format!("{name}{one}"),
        all => format!("{name}({})", comma_separated(all.iter().map(|path| path.trim_start_matches('.')))),
    }
}

fn field_paths(path: &str, kept: &SqlType, whole: &SqlType, into: &mut Vec<String>) {
    let (SqlType::Row(kept), SqlType::Row(all)) = (kept, whole) else { return into.push(path.to_owned()) };
    if kept == all {
        return into.push(path.to_owned());
    }
    for field in kept {
        let whole = all.iter().find(|f| f.name == field.name).unwrap_or(field);
        field_paths(&format!("{path}.{}", field.name), &field.sql_type, &whole.sql_type, into);
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum JoinKind {
    Inner,
    Left,
    Right,
    Full,
    /// Left rows with at least one partner.
    Semi,
    /// Left rows without a partner.
    Anti,
    /// `NOT IN`: left rows that certainly equal no right row.
    NullAwareAnti,
    /// Every left row once, with its only partner or nulls; a second partner is an error. A subquery used as a value.
    Single,
    /// Every left row once, with a truth value that says whether it has a partner. A subquery used as a condition.
    Mark,
}

impl JoinKind {
    pub fn words(self) -> &'static str {
        match self {
            JoinKind::Inner => "join",
            JoinKind::Left => "left join",
            JoinKind::Right => "right join",
            JoinKind::Full => "full join",
            JoinKind::Semi => "semi join",
            JoinKind::Anti => "anti join",
            JoinKind::NullAwareAnti => "null-aware anti join",
            JoinKind::Single => "single join",
            JoinKind::Mark => "mark join",
        }
    }

    /// True when only the left side's columns come out.
    pub fn left_only(self) -> bool {
        matches!(self, JoinKind::Semi | JoinKind::Anti | JoinKind::NullAwareAnti | JoinKind::Mark)
    }

    /// True when every left row comes out at least once, whatever its partners, so that the right side may not be
    /// evaluated for fewer rows than it is joined with.
    pub fn keeps_left(self) -> bool {
        matches!(self, JoinKind::Left | JoinKind::Full | JoinKind::Single | JoinKind::Mark)
    }
}

/// An equality between the sides of a join.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct JoinKey {
    pub left: Expr,
    pub right: Expr,
    /// Nulls equal each other; otherwise a null matches nothing.
    pub null_safe: bool,
}

impl JoinKey {
    /// An equality with one side of each input, left side first.
    pub fn of(condition: &Expr, left: &BTreeSet<ColumnId>, right: &BTreeSet<ColumnId>) -> Option<JoinKey> {
        let Expr::Binary { op: op @ (BinaryOp::Eq | BinaryOp::IsNotDistinctFrom), left: a, right: b, .. } = condition
        else {
            return None;
        };
        let null_safe = *op == BinaryOp::IsNotDistinctFrom;
        let key = |left: &Expr, right: &Expr| JoinKey { left: left.clone(), right: right.clone(), null_safe };
        let (in_a, in_b) = (a.columns(), b.columns());
        if in_a.is_empty() || in_b.is_empty() || condition.is_volatile() {
            None
        } else if in_a.is_subset(left) && in_b.is_subset(right) {
            Some(key(a, b))
        } else if in_a.is_subset(right) && in_b.is_subset(left) {
            Some(key(b, a))
        } else {
            None
        }
    }

    pub fn plain(left: Expr, right: Expr) -> JoinKey {
        JoinKey { left, right, null_safe: false }
    }

    pub fn null_safe(left: Expr, right: Expr) -> JoinKey {
        JoinKey { left, right, null_safe: true }
    }

    /// The same for the sides the other way round.
    pub fn swapped(&self) -> JoinKey {
        JoinKey { left: self.right.clone(), right: self.left.clone(), null_safe: self.null_safe }
    }

    pub fn as_condition(&self) -> Expr {
        let op = if self.null_safe { BinaryOp::IsNotDistinctFrom } else { BinaryOp::Eq };
        Expr::compare(op, self.left.clone(), self.right.clone())
    }

    pub fn sides(&self) -> [&Expr; 2] {
        [&self.left, &self.right]
    }
}

impl fmt::Display for JoinKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.as_condition().fmt(f)
    }
}

/// The truth value that a mark join adds to each left row.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Mark {
    pub column: Column,
    /// What is compared, with SQL's three values: true when it is true for some partner, unknown when it is unknown for
    /// some and true for none. Without it the mark says whether there is a partner.
    pub compare: Vec<Expr>,
    /// True when the mark is the outcome of the join's only key, with its three values.
    pub of_key: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Join {
    pub left: Arc<LogicalPlan>,
    pub right: Arc<LogicalPlan>,
    pub kind: JoinKind,
    pub on: Vec<JoinKey>,
    /// Conditions over both sides that are not equalities between them.
    pub residual: Vec<Expr>,
    /// Present for a mark join, and only there.
    pub mark: Option<Mark>,
}

impl Join {
    pub fn new(left: LogicalPlan, right: LogicalPlan, kind: JoinKind) -> Join {
        Join { left: left.into(), right: right.into(), kind, on: vec![], residual: vec![], mark: None }
    }

    /// Every expression of the join itself.
    pub fn expressions(&self) -> impl Iterator<Item = &Expr> {
        let compared = self.mark.iter().flat_map(|mark| &mark.compare);
        self.on.iter().flat_map(JoinKey::sides).chain(&self.residual).chain(compared)
    }

    /// The same join with its expressions changed.
    pub fn map_expressions(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> Join {
        let key = |k: &JoinKey| JoinKey { left: change(&k.left), right: change(&k.right), null_safe: k.null_safe };
        let on = self.on.iter().map(key).collect();
        let residual = self.residual.iter().map(&mut *change).collect();
        let mark = self
            .mark
            .as_ref()
            .map(|mark| Mark { compare: mark.compare.iter().map(&mut *change).collect(), ..mark.clone() });
        Join { on, residual, mark, ..self.clone() }
    }

    /// The columns that come out of these two sides.
    pub fn output(&self, left: Vec<Column>, right: Vec<Column>) -> Vec<Column> {
        let mut columns = left;
        if !self.kind.left_only() {
            columns.extend(right);
        }
        columns.extend(self.mark.iter().map(|mark| mark.column.clone()));
        columns
    }

    /// What the join does, in words.
    pub fn text(&self) -> String {
        let compared = self.mark.iter().flat_map(|mark| &mark.compare).map(|c| format!("whether {c}"));
        let conditions: Vec<String> = self
            .on
            .iter()
            .map(JoinKey::to_string)
            .chain(self.residual.iter().map(|c| match c {
                Expr::Binary { op: BinaryOp::Or, .. } => format!("({c})"),
                other => other.to_string(),
            }))
            .chain(compared)
            .collect();
        match (self.kind, conditions.is_empty()) {
            (JoinKind::Inner, true) => "combine every row with every row".to_owned(),
            (kind, true) => format!("{} with every row", kind.words()),
            (kind, false) => format!("{} on {}", kind.words(), conditions.join(" and ")),
        }
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SortKey {
    pub expr: Expr,
    pub descending: bool,
    pub nulls_first: bool,
}

impl fmt::Display for SortKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.expr)?;
        if self.descending {
            f.write_str(" desc")?;
        }
        // PostgreSQL's default: nulls are larger than everything.
        match (self.descending, self.nulls_first) {
            (false, true) => f.write_str(" nulls first"),
            (true, false) => f.write_str(" nulls last"),
            _ => Ok(()),
        }
    }
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub enum LogicalPlan {
    Scan(Scan),
    /// Constant rows; each expression is free of columns.
    Values {
        columns: Vec<Column>,
        rows: Vec<Vec<Expr>>,
    },
    /// Keeps the rows for which every conjunct is true.
    Filter {
        input: Arc<LogicalPlan>,
        conjuncts: Vec<Expr>,
    },
    Project {
        input: Arc<LogicalPlan>,
        columns: Vec<(Column, Expr)>,
    },
    Join(Join),
    /// Without group expressions the result is one row.
    Aggregate {
        input: Arc<LogicalPlan>,
        groups: Vec<(Column, Expr)>,
        aggregates: Vec<(Column, AggregateCall)>,
    },
    /// With `fetch`, only the first rows in that order are kept.
    Sort {
        input: Arc<LogicalPlan>,
        keys: Vec<SortKey>,
        fetch: Option<u64>,
    },
    Limit {
        input: Arc<LogicalPlan>,
        limit: Option<u64>,
        offset: u64,
    },
    /// All rows of all inputs.
    Union {
        inputs: Vec<UnionInput>,
        columns: Vec<Column>,
    },
    /// Adds columns computed over each row's neighbours. All calls of a node share partition and order.
    Window {
        input: Arc<LogicalPlan>,
        partition: Vec<Expr>,
        order: Vec<SortKey>,
        calls: Vec<(Column, WindowCall)>,
    },
    /// Each input row beside each row that the functions make of it; the shorter of several are filled with nulls. With `outer`,
    /// a row without any is kept with nulls.
    Expand {
        input: Arc<LogicalPlan>,
        makers: Vec<RowMaker>,
        outer: bool,
    },
    /// Computes named results once, in order, for the `CteScan`s in later ones and in the body.
    With {
        definitions: Vec<CteDefinition>,
        body: Arc<LogicalPlan>,
    },
    /// The rows of a definition, or of the last round of a recursion. Each column stands beside the definition's column, or
    /// the recursion's, that it repeats.
    CteScan {
        id: u32,
        name: String,
        columns: Vec<(Column, ColumnId)>,
    },
    /// The rows of `base`, then those of `step` over what came last, until nothing comes.
    Recursive {
        id: u32,
        name: String,
        base: UnionInput,
        step: UnionInput,
        columns: Vec<Column>,
        /// Rows that have come before are dropped (UNION rather than UNION ALL).
        distinct: bool,
    },
}

/// One of the plans whose rows a union or a recursion puts together.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct UnionInput {
    pub plan: Arc<LogicalPlan>,
    /// The input's column for each column of the union. The input may have others beside them, in any order.
    pub columns: Vec<Column>,
}

impl UnionInput {
    /// An input whose columns are all used, in order.
    pub fn whole(plan: LogicalPlan) -> UnionInput {
        UnionInput { columns: plan.columns(), plan: plan.into() }
    }
}

/// A result that is computed once and read several times.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct CteDefinition {
    pub id: u32,
    pub name: String,
    pub plan: Arc<LogicalPlan>,
}

impl LogicalPlan {
    /// The columns that come out, in order.
    pub fn columns(&self) -> Vec<Column> {
        match self {
            LogicalPlan::Scan(scan) => scan.columns.iter().map(|(column, _)| column.clone()).collect(),
            LogicalPlan::Values { columns, .. }
            | LogicalPlan::Union { columns, .. }
            | LogicalPlan::Recursive { columns, .. } => columns.clone(),
            LogicalPlan::Filter { input, .. }
            | LogicalPlan::Sort { input, .. }
            | LogicalPlan::Limit { input, .. }
            | LogicalPlan::With { body: input, .. } => input.columns(),
            LogicalPlan::CteScan { columns, .. } => columns.iter().map(|(column, _)| column.clone()).collect(),
            LogicalPlan::Window { input, calls, .. } => {
                input.columns().into_iter().chain(calls.iter().map(|(column, _)| column.clone())).collect()
            }
            LogicalPlan::Expand { input, makers, .. } => {
                input.columns().into_iter().chain(makers.iter().flat_map(|m| m.columns.iter().cloned())).collect()
            }
            LogicalPlan::Project { columns, .. } => columns.iter().map(|(column, _)| column.clone()).collect(),
            LogicalPlan::Join(join) => join.output(join.left.columns(), join.right.columns()),
            LogicalPlan::Aggregate { groups, aggregates, .. } => {
                groups.iter().map(|(c, _)| c.clone()).chain(aggregates.iter().map(|(c, _)| c.clone())).collect()
            }
        }
    }

    pub fn column_ids(&self) -> BTreeSet<ColumnId> {
        self.columns().into_iter().map(|column| column.id).collect()
    }

    pub fn inputs(&self) -> Vec<&Arc<LogicalPlan>> {
        match self {
            LogicalPlan::Scan(_) | LogicalPlan::Values { .. } | LogicalPlan::CteScan { .. } => vec![],
            LogicalPlan::Filter { input, .. }
            | LogicalPlan::Project { input, .. }
            | LogicalPlan::Aggregate { input, .. }
            | LogicalPlan::Sort { input, .. }
            | LogicalPlan::Limit { input, .. }
            | LogicalPlan::Window { input, .. }
            | LogicalPlan::Expand { input, .. } => vec![input],
            LogicalPlan::Join(join) => vec![&join.left, &join.right],
            LogicalPlan::Union { inputs, .. } => inputs.iter().map(|input| &input.plan).collect(),
            LogicalPlan::With { definitions, body } => definitions.iter().map(|d| &d.plan).chain([body]).collect(),
            LogicalPlan::Recursive { base, step, .. } => vec![&base.plan, &step.plan],
        }
    }

    /// The same operator over inputs changed by `change`.
    pub fn map_inputs(&self, change: &mut dyn FnMut(&LogicalPlan) -> LogicalPlan) -> LogicalPlan {
        let mut shared = |plan: &Arc<LogicalPlan>| Arc::new(change(plan));
        match self {
            LogicalPlan::Scan(_) | LogicalPlan::Values { .. } | LogicalPlan::CteScan { .. } => self.clone(),
            LogicalPlan::Filter { input, conjuncts } => {
                LogicalPlan::Filter { input: shared(input), conjuncts: conjuncts.clone() }
            }
            LogicalPlan::Project { input, columns } => {
                LogicalPlan::Project { input: shared(input), columns: columns.clone() }
            }
            LogicalPlan::Join(join) => {
                LogicalPlan::Join(Join { left: shared(&join.left), right: shared(&join.right), ..join.clone() })
            }
            LogicalPlan::Aggregate { input, groups, aggregates } => {
                LogicalPlan::Aggregate { input: shared(input), groups: groups.clone(), aggregates: aggregates.clone() }
            }
            LogicalPlan::Sort { input, keys, fetch } => {
                LogicalPlan::Sort { input: shared(input), keys: keys.clone(), fetch: *fetch }
            }
            LogicalPlan::Limit { input, limit, offset } => {
                LogicalPlan::Limit { input: shared(input), limit: *limit, offset: *offset }
            }
            LogicalPlan::Union { inputs, columns } => LogicalPlan::Union {
                inputs: inputs
                    .iter()
                    .map(|i| UnionInput { plan: shared(&i.plan), columns: i.columns.clone() })
                    .collect(),
                columns: columns.clone(),
            },
            LogicalPlan::Recursive { id, name, base, step, columns, distinct } => LogicalPlan::Recursive {
                id: *id,
                name: name.clone(),
                base: UnionInput { plan: shared(&base.plan), columns: base.columns.clone() },
                step: UnionInput { plan: shared(&step.plan), columns: step.columns.clone() },
                columns: columns.clone(),
                distinct: *distinct,
            },
            LogicalPlan::Window { input, partition, order, calls } => LogicalPlan::Window {
                input: shared(input),
                partition: partition.clone(),
                order: order.clone(),
                calls: calls.clone(),
            },
            LogicalPlan::Expand { input, makers, outer } => {
                LogicalPlan::Expand { input: shared(input), makers: makers.clone(), outer: *outer }
            }
            LogicalPlan::With { definitions, body } => LogicalPlan::With {
                definitions: definitions.iter().map(|d| CteDefinition { plan: shared(&d.plan), ..d.clone() }).collect(),
                body: shared(body),
            },
        }
    }

    /// The operator's own expressions.
    pub fn expressions(&self) -> Vec<&Expr> {
        match self {
            LogicalPlan::Scan(_)
            | LogicalPlan::Limit { .. }
            | LogicalPlan::Union { .. }
            | LogicalPlan::With { .. }
            | LogicalPlan::CteScan { .. }
            | LogicalPlan::Recursive { .. } => vec![],
            LogicalPlan::Values { rows, .. } => rows.iter().flatten().collect(),
            LogicalPlan::Filter { conjuncts, .. } => conjuncts.iter().collect(),
            LogicalPlan::Project { columns, .. } => columns.iter().map(|(_, e)| e).collect(),
            LogicalPlan::Join(join) => join.expressions().collect(),
            LogicalPlan::Aggregate { groups, aggregates, .. } => groups
                .iter()
                .map(|(_, e)| e)
                .chain(aggregates.iter().flat_map(|(_, call)| call.expressions()))
                .collect(),
            LogicalPlan::Sort { keys, .. } => keys.iter().map(|key| &key.expr).collect(),
            LogicalPlan::Window { partition, order, calls, .. } => partition
                .iter()
                .chain(order.iter().map(|key| &key.expr))
                .chain(calls.iter().flat_map(|(_, call)| call.expressions()))
                .collect(),
            LogicalPlan::Expand { makers, .. } => makers.iter().flat_map(|m| &m.arguments).collect(),
        }
    }

    /// Columns that the plan uses and that nothing in it brings: those of the query around a subquery.
    pub fn free_columns(&self) -> BTreeSet<ColumnId> {
        let mut free: BTreeSet<ColumnId> = self.inputs().into_iter().flat_map(|input| input.free_columns()).collect();
        self.expressions().into_iter().for_each(|e| e.collect_columns(&mut free));
        for input in self.inputs() {
            input.column_ids().iter().for_each(|id| {
                free.remove(id);
            });
        }
        free
    }

    /// The same operator with each of its own expressions changed.
    pub fn map_expressions(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> LogicalPlan {
        let mut plan = self.clone();
        match &mut plan {
            LogicalPlan::Scan(_)
            | LogicalPlan::Limit { .. }
            | LogicalPlan::Union { .. }
            | LogicalPlan::With { .. }
            | LogicalPlan::CteScan { .. }
            | LogicalPlan::Recursive { .. } => {}
            LogicalPlan::Values { rows, .. } => rows.iter_mut().flatten().for_each(|e| *e = change(e)),
            LogicalPlan::Filter { conjuncts, .. } => conjuncts.iter_mut().for_each(|e| *e = change(e)),
            LogicalPlan::Project { columns, .. } => columns.iter_mut().for_each(|(_, e)| *e = change(e)),
            LogicalPlan::Join(join) => {
                for key in &mut join.on {
                    key.left = change(&key.left);
                    key.right = change(&key.right);
                }
                join.residual.iter_mut().for_each(|e| *e = change(e));
                join.mark.iter_mut().flat_map(|mark| &mut mark.compare).for_each(|e| *e = change(e));
            }
            LogicalPlan::Aggregate { groups, aggregates, .. } => {
                groups.iter_mut().for_each(|(_, e)| *e = change(e));
                aggregates.iter_mut().for_each(|(_, call)| *call = call.map(change));
            }
            LogicalPlan::Sort { keys, .. } => keys.iter_mut().for_each(|key| key.expr = change(&key.expr)),
            LogicalPlan::Window { partition, order, calls, .. } => {
                partition.iter_mut().for_each(|e| *e = change(e));
                order.iter_mut().for_each(|key| key.expr = change(&key.expr));
                calls.iter_mut().for_each(|(_, call)| *call = call.map(change));
            }
            LogicalPlan::Expand { makers, .. } => {
                makers.iter_mut().flat_map(|m| &mut m.arguments).for_each(|e| *e = change(e));
            }
        }
        plan
    }

    /// Every expression of the whole tree changed.
    pub fn map_all_expressions(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> LogicalPlan {
        self.map_inputs(&mut |input| input.map_all_expressions(change)).map_expressions(change)
    }

    /// Wraps the plan in a filter, joining it with one that is there already.
    pub fn filtered(self, conjuncts: Vec<Expr>) -> LogicalPlan {
        if conjuncts.is_empty() {
            return self;
        }
        match self {
            LogicalPlan::Filter { input, conjuncts: mut present } => {
                for conjunct in conjuncts {
                    if !present.contains(&conjunct) {
                        present.push(conjunct);
                    }
                }
                LogicalPlan::Filter { input, conjuncts: present }
            }
            other => LogicalPlan::Filter { input: Arc::new(other), conjuncts },
        }
    }

    /// What this operator does, in one line of words.
    pub fn line(&self) -> String {
        match self {
            LogicalPlan::Scan(scan) => {
                format!("read {} ({})", scan.table.name, scan.column_names())
            }
            LogicalPlan::Values { rows, .. } => {
                format!("{} constant row{}", rows.len(), if rows.len() == 1 { "" } else { "s" })
            }
            LogicalPlan::Filter { conjuncts, .. } => format!("keep rows where {}", conjunct_text(conjuncts)),
            LogicalPlan::Project { columns, .. } => format!("compute {}", project_text(columns)),
            LogicalPlan::Join(join) => join.text(),
            LogicalPlan::Aggregate { groups, aggregates, .. } => aggregate_text(groups, aggregates),
            LogicalPlan::Sort { keys, fetch, .. } => sort_text(keys, *fetch),
            LogicalPlan::Limit { limit, offset, .. } => limit_text(*limit, *offset),
            LogicalPlan::Union { inputs, .. } => format!("all rows of {} inputs", inputs.len()),
            LogicalPlan::Window { partition, order, calls, .. } => window_text(partition, order, calls),
            LogicalPlan::Expand { makers, outer, .. } => RowMaker::text(makers, *outer),
            LogicalPlan::With { definitions, .. } => {
                format!("compute once: {}", comma_separated(definitions.iter().map(|d| &d.name)))
            }
            LogicalPlan::CteScan { name, columns, .. } => {
                format!("rows of {name} ({})", comma_separated(columns.iter().map(|(column, _)| &column.name)))
            }
            LogicalPlan::Recursive { name, .. } => format!("repeat {name} until nothing new comes"),
        }
    }

    fn write_indented(&self, f: &mut fmt::Formatter<'_>, depth: usize) -> fmt::Result {
        writeln!(f, "{}{}", "  ".repeat(depth), self.line())?;
        self.inputs().into_iter().try_for_each(|input| input.write_indented(f, depth + 1))
    }
}

pub fn conjunct_text(conjuncts: &[Expr]) -> String {
    conjuncts
        .iter()
        .map(|c| {
            if conjuncts.len() > 1 && matches!(c, Expr::Binary { op: crate::BinaryOp::Or, .. }) {
                format!("({c})")
            } else {
                c.to_string()
            }
        })
        .collect::<Vec<_>>()
        .join(" and ")
}

pub fn project_text(columns: &[(Column, Expr)]) -> String {
    comma_separated(columns.iter().map(|(column, expr)| match expr {
        Expr::Column(source) if source.name == column.name => source.to_string(),
        other => format!("{other} as {}", column.name),
    }))
}

pub fn window_text(partition: &[Expr], order: &[SortKey], calls: &[(Column, WindowCall)]) -> String {
    let mut over = Vec::new();
    if !partition.is_empty() {
        over.push(format!("within {}", comma_separated(partition)));
    }
    if !order.is_empty() {
        over.push(format!("by {}", comma_separated(order)));
    }
    let over = if over.is_empty() { "over all rows".to_owned() } else { over.join(" ") };
    format!("window {over}: {}", comma_separated(calls.iter().map(|(_, call)| call)))
}

pub fn aggregate_text(groups: &[(Column, Expr)], aggregates: &[(Column, AggregateCall)]) -> String {
    let calls = comma_separated(aggregates.iter().map(|(_, call)| call));
    let keys = comma_separated(groups.iter().map(|(_, expr)| expr));
    match (groups.is_empty(), aggregates.is_empty()) {
        (true, _) => format!("summarise: {calls}"),
        (false, true) => format!("distinct rows of {keys}"),
        (false, false) => format!("group by {keys}: {calls}"),
    }
}

pub fn sort_text(keys: &[SortKey], fetch: Option<u64>) -> String {
    match fetch {
        Some(n) => format!("first {n} by {}", comma_separated(keys)),
        None => format!("sort by {}", comma_separated(keys)),
    }
}

pub fn limit_text(limit: Option<u64>, offset: u64) -> String {
    match (limit, offset) {
        (Some(n), 0) => format!("first {n} rows"),
        (Some(n), skip) => format!("{n} rows after the first {skip}"),
        (None, skip) => format!("all but the first {skip} rows"),
    }
}

/// The plan as indented lines, result first. Two plans are the same to a reader when these texts are.
impl fmt::Display for LogicalPlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write_indented(f, 0)
    }
}
