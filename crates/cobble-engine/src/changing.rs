//! UPDATE, DELETE, MERGE and INSERT … REPLACING: the query that finds the rows is planned like any other. Where the source changes rows itself, the plan must be one
//! gate with nothing above it: then the source changes the rows it would have given, in one statement. Otherwise the rows are found here, and
//! the table's writer takes what they become.

use std::sync::Arc;

use cobble_exec::fold_constant;
use cobble_plan::LogicalPlan;
use cobble_plan::expr::Expr;
use cobble_plan::logical::{Role, Table};
use cobble_plan::offer::{Changeable, ChangedBy, DescribedTable, Verdict};
use cobble_plan::physical::{Operator, PhysicalPlan};
use cobble_plan::scan::Scans;
use cobble_plan::sink::{Added, NewRows, NewValue, Replacing, Returning, RowChange, RowsChange, SinkSpec};
use cobble_plan::statistics::ColumnStatistics;
use cobble_sql::{Action, BoundQuery, CatalogReader, Change, Query, TableReference};
use cobble_types::deep::Deep;
use cobble_types::{Code, ColumnId, Error, ObjectName, Result, SqlType};

/// The table whose rows are changed, with the columns that tell them apart at its end.
pub struct Target {
    pub found: DescribedTable,
    pub by: ChangedBy,
    /// Columns of the query that tell the table's rows apart.
    pub identity: usize,
    /// The query that finds the rows.
    pub query: Deep<Query>,
    /// The columns of the query.
    pub wanted: Vec<(String, SqlType)>,
}

impl Target {
    /// `returned` are the columns that RETURNING uses.
    pub fn new(found: &DescribedTable, change: &Change, returned: &[String]) -> Result<Target> {
        let Changeable { identity, source, by } = found.source.changeable(&found.table)?;
        let found = &found.table;
        let names: Vec<&str> = found.columns.iter().map(|column| column.name.as_str()).collect();
        change.check(&names)?;
        let named = |wanted: &dyn Fn(&str) -> bool| -> Vec<(String, SqlType)> {
            let own = found.columns.iter().filter(|column| wanted(&column.name));
            own.map(|column| (column.name.clone(), column.sql_type.clone())).collect()
        };
        let known: Vec<String> = identity.iter().map(|column| column.name.clone()).collect();
        let mut wanted: Vec<_> = identity.iter().map(|column| (column.name.clone(), column.sql_type.clone())).collect();
        let query = match (by, &change.action) {
            (ChangedBy::Source, action @ (Action::Merge(_) | Action::Replace(_))) => {
                let (connection, word) = (&found.origin.connection, action.word());
                let what = format!("connection {connection} does not take {word}");
                return Err(Error::new(Code::Unsupported, what).hint(match action {
                    Action::Merge(_) => "MERGE is for tables of a lake; write an UPDATE and an INSERT here",
                    _ => "REPLACING is for tables of a lake; write a DELETE and an INSERT here",
                }));
            }
            (ChangedBy::Source, action) => {
                for (name, _) in action.named().into_iter().flatten() {
                    wanted.extend(named(&|own| own == name));
                }
                change.query_with(&known)
            }
            (ChangedBy::Writer, action) => {
                let rows = match action {
                    Action::Delete => named(&|own| returned.iter().any(|name| name == own)),
                    Action::Update(_) | Action::Merge(_) | Action::Replace(_) => named(&|_| true),
                };
                if matches!(action, Action::Merge(_) | Action::Replace(_)) {
                    wanted.push(("\u{1}keeps".to_owned(), SqlType::Boolean));
                }
                let query = change.rows_with(&known, &rows)?;
                wanted.extend(rows);
                query
            }
        };
        let mut table = found.as_ref().clone();
        table.origin.role = Role::Changed;
        table.statistics.columns.extend(identity.iter().map(|_| ColumnStatistics::default()));
        table.columns.extend(identity);
        let found = DescribedTable { table: Arc::new(table), source };
        Ok(Target { found, by, identity: known.len(), query, wanted })
    }

    /// The plan that finds the rows, with a step on top that takes what they become.
    pub fn written(&self, change: &Change, plan: PhysicalPlan, returning: Option<Returning>) -> PhysicalPlan {
        let table = &self.found.table.name;
        let own = &self.found.table.columns[self.found.table.columns.len() - self.identity].name;
        let gates = plan.document.gates.iter().zip(&plan.gates);
        let mut of_table = gates.filter(|(gate, _)| gate.columns_read.contains(own));
        let read = of_table.next().map(|(_, gate)| gate.spec.clone());
        let kind = match change.action {
            Action::Delete => RowsChange::Delete,
            Action::Update(_) => RowsChange::Update,
            Action::Merge(_) => RowsChange::Merge,
            Action::Replace(_) => RowsChange::Replace,
        };
        if read.is_none() && !kind.has_mark() {
            return plan.changes_nothing(table, returning);
        }
        let marks = usize::from(kind.has_mark());
        let set = change.action.named().into_iter().flatten().map(|(name, _)| name.clone());
        let returned = returning.as_ref();
        let rows = NewRows {
            schema: table.schema.clone(),
            table: table.table.clone(),
            create: false,
            columns: self.wanted[self.identity + marks..].to_vec(),
            not_null: vec![],
            primary_key: vec![],
            options: Default::default(),
            returned: returned.map(|made| Added { list: String::new(), columns: made.columns.clone() }),
            replacing: Some(Replacing { change: kind, identity: self.identity, set: set.collect(), read }),
        };
        plan.written_to(SinkSpec { table: table.clone(), rows, routes: None }, returning)
    }
}

/// Tables by their names, and the target by the one that stands for it.
pub struct WithTarget<'a> {
    pub tables: &'a dyn CatalogReader,
    pub target: &'a Arc<Table>,
}

impl CatalogReader for WithTarget<'_> {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>> {
        match name {
            TableReference::Target => Ok(self.target.clone()),
            _ => self.tables.table(name),
        }
    }
}

/// The expression over what is below all projections.
pub fn made_of(plan: &LogicalPlan, expr: &Expr) -> Expr {
    let LogicalPlan::Project { input, columns } = plan else { return expr.clone() };
    let made = expr.replace(&|part| match part {
        Expr::Column(own) => columns.iter().find(|(column, _)| column.id == own.id).map(|(_, made)| made.clone()),
        _ => None,
    });
    made_of(input, &made)
}

/// The bound query without the columns that are the same in all rows, and what these are, by place.
pub fn without_constants(bound: BoundQuery, identity: usize) -> (LogicalPlan, Vec<(ColumnId, Option<NewValue>)>) {
    let mut left = Vec::new();
    let mut values = Vec::new();
    for (place, column) in bound.columns.iter().enumerate() {
        let expr = made_of(&bound.plan, &Expr::Column(column.clone()));
        let folded = (place >= identity && expr.is_constant()).then(|| fold_constant(&expr)).flatten();
        match folded {
            Some(Expr::Literal { value, sql_type }) => values.push((column.id, Some(NewValue::Given(value, sql_type)))),
            _ => {
                values.push((column.id, None));
                left.push((column.clone(), Expr::Column(column.clone())));
            }
        }
    }
    (LogicalPlan::Project { input: Arc::new(bound.plan), columns: left }, values)
}

/// Why not all of it can be done at the source.
fn refusal(word: &str, plan: &PhysicalPlan) -> Error {
    let gates = &plan.document.gates;
    let kept = gates.iter().flat_map(|gate| &gate.pieces).find_map(|piece| match &piece.verdict {
        Verdict::Kept { reason, note } => {
            let note = note.as_ref().map(|note| format!(": {note}")).unwrap_or_default();
            Some(format!("{} {} ({}{note})", piece.piece, piece.text, reason.words()))
        }
        _ => None,
    });
    let mut connections: Vec<&str> = gates.iter().map(|gate| gate.connection.as_str()).collect();
    connections.sort_unstable();
    connections.dedup();
    let why = match (connections.as_slice(), kept) {
        ([_, _, ..], _) => format!("it needs tables of the connections {}", connections.join(", ")),
        (_, Some(kept)) => format!("this would stay in the engine: {kept}"),
        (_, None) => {
            let steps = plan.document.steps.iter().filter(|step| step.kind != "gate");
            let steps: Vec<&str> = steps.map(|step| step.text.as_str()).collect();
            format!("this would stay in the engine: {}", steps.join("; "))
        }
    };
    Error::new(Code::Unsupported, format!("{word} is handed over whole or not at all, and {why}"))
        .hint("use only work that the source takes over, or store the rows to change in a table there first")
}

/// The plan as a change, when all of it is one gate; one without rows when no row can be meant.
pub fn planned(
    table: &ObjectName,
    change: &Change,
    plan: PhysicalPlan,
    scans: &dyn Scans,
    values: Vec<(ColumnId, Option<NewValue>)>,
    returning: Option<Returning>,
) -> Result<PhysicalPlan> {
    let word = change.action.word();
    if matches!(&plan.root.operator, Operator::Values { rows } if rows.is_empty()) {
        return Ok(plan.changes_nothing(table, returning));
    }
    let (Operator::Gate { gate, .. }, [only]) = (&plan.root.operator, plan.gates.as_slice()) else {
        return Err(refusal(word, &plan));
    };
    let place = |id: ColumnId| {
        let found = plan.root.columns.iter().position(|column| column.id == id);
        found.ok_or_else(|| Error::internal(format!("{word}: a column is missing in the gate")))
    };
    let names: Vec<Option<&String>> = match &change.action {
        Action::Update(set) => {
            let identity = values.len() - set.len();
            std::iter::repeat_n(None, identity).chain(set.iter().map(|(name, _)| Some(name))).collect()
        }
        _ => vec![None; values.len()],
    };
    let (mut identity, mut set) = (Vec::new(), Vec::new());
    for ((id, value), name) in values.into_iter().zip(names) {
        match (name, value) {
            (None, _) => identity.push(place(id)?),
            (Some(name), Some(given)) => set.push((name.clone(), given)),
            (Some(name), None) => set.push((name.clone(), NewValue::Found(place(id)?))),
        }
    }
    let returned = returning.as_ref().map(|returning| returning.columns.clone());
    let sets = matches!(change.action, Action::Update(_));
    let made = RowChange { identity, set: sets.then_some(set), returned };
    let (gate, request) = (*gate, scans.change(&only.spec, &made)?.request());
    Ok(plan.changed_by(gate, (table, made), request, returning))
}
