//! What SEARCH and CYCLE compute: columns that each row of a recursion carries beside its own. Where the clauses stand, and how the
//! step comes to give what it has read of them, is in `crate::reworded::search_cycle`.

use cobble_functions::Function;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::LogicalPlan;
use cobble_types::{Code, Error, Result, SqlType, Value};

use super::Binder;
use super::cte::Cte;
use super::operator::any_of_array;
use super::pattern::Comparison;
use super::scope::Scope;
use crate::coerce::{binary, unify_all};
use crate::function;
use crate::reworded::search_cycle::Cycle;

/// The columns of both clauses, found in the list of the recursion's own.
pub(super) struct Carried {
    names: Vec<String>,
    /// Depth first, and the places of the columns that order.
    search: Option<(bool, Vec<usize>)>,
    cycle: Option<Marks>,
}

struct Marks {
    /// The places of the columns that tell rows apart.
    by: Vec<usize>,
    to: Expr,
    default: Expr,
}

impl Carried {
    fn search_start(&self, columns: &[Column]) -> Result<Option<Expr>> {
        let Some((depth, by)) = &self.search else { return Ok(None) };
        let start = match depth {
            true => array_of(row(columns, by, None)?)?,
            false => row(columns, by, Some(Expr::literal(Value::BigInt(0))))?,
        };
        Ok(Some(start))
    }
}

/// The values of these columns as one, after another.
fn row(columns: &[Column], places: &[usize], first: Option<Expr>) -> Result<Expr> {
    let own = places.iter().filter_map(|place| columns.get(*place)).cloned().map(Expr::Column);
    function::call(Function::MakeRow, first.into_iter().chain(own).collect())
}

fn array_of(item: Expr) -> Result<Expr> {
    function::call(Function::MakeArray, vec![item])
}

impl<'a> Binder<'a> {
    /// What the recursion carries, with these columns of its own; none without a clause.
    pub(super) fn carried(&mut self, cte: &Cte<'a>, columns: &[Column]) -> Result<Option<Carried>> {
        let clauses = &cte.clauses;
        let names: Vec<String> = clauses.names().into_iter().map(str::to_owned).collect();
        if names.is_empty() {
            return Ok(None);
        }
        let own: Vec<&String> =
            columns.iter().enumerate().map(|(place, c)| cte.columns.get(place).unwrap_or(&c.name)).collect();
        let failed = |code, message: String| Error::new(code, message).at(clauses.position);
        for (place, name) in names.iter().enumerate() {
            if own.contains(&name) || names[..place].contains(name) {
                return Err(failed(Code::Syntax, format!("\"{}\" has a column \"{name}\" already", cte.name)));
            }
        }
        let places = |by: &[String]| -> Result<Vec<usize>> {
            let mut places = Vec::new();
            for name in by {
                let place = own.iter().position(|own| *own == name).ok_or_else(|| {
                    failed(Code::Syntax, format!("the recursive \"{}\" has no column \"{name}\"", cte.name))
                })?;
                if places.contains(&place) {
                    return Err(failed(Code::DuplicateColumn, format!("the column \"{name}\" is named twice")));
                }
                places.push(place);
            }
            Ok(places)
        };
        let search = clauses.search.as_ref().map(|search| Ok::<_, Error>((search.depth, places(&search.by)?)));
        let search = search.transpose()?;
        let cycle = match &clauses.cycle {
            None => None,
            Some(cycle) => Some((places(&cycle.by)?, self.marks(cycle).map_err(|e| e.at(clauses.position))?)),
        };
        let cycle = cycle.map(|(by, (to, default))| Marks { by, to, default });
        Ok(Some(Carried { names, search, cycle }))
    }

    /// The values that mark a row and leave it unmarked: constants of one type.
    fn marks(&mut self, cycle: &Cycle) -> Result<(Expr, Expr)> {
        let mut values = Vec::new();
        for written in [&cycle.to, &cycle.default] {
            let bound = self.constant_of(written)?;
            values.push((self.context.fold)(&bound).unwrap_or(bound));
        }
        let (values, common) = unify_all(values, "CYCLE")?;
        let text = if common == SqlType::Null { SqlType::Text } else { common };
        let mut values = values.into_iter().map(|value| value.cast(text.clone()));
        Ok((values.next().unwrap_or(Expr::boolean(true)), values.next().unwrap_or(Expr::boolean(false))))
    }

    /// The first rows with what they carry.
    pub(super) fn beginning(
        &mut self,
        plan: LogicalPlan,
        columns: Vec<Column>,
        carried: &Carried,
    ) -> Result<(LogicalPlan, Vec<Column>)> {
        let mut values: Vec<Expr> = carried.search_start(&columns)?.into_iter().collect();
        if let Some(marks) = &carried.cycle {
            values.extend([marks.default.clone(), array_of(row(&columns, &marks.by, None)?)?]);
        }
        Ok(self.with_carried(plan, columns, values, carried))
    }

    /// The rows of a round with what they carry, made from what the rows before them did: a row that closes a cycle is marked, and
    /// none comes after it.
    pub(super) fn going_on(
        &mut self,
        plan: LogicalPlan,
        mut columns: Vec<Column>,
        base: &[Column],
        carried: &Carried,
    ) -> Result<(LogicalPlan, Vec<Column>)> {
        let before = columns.split_off(columns.len().saturating_sub(carried.names.len()));
        // Rows are compared in the types of the recursion's columns.
        let typed = columns.iter().zip(base).map(|(own, wanted)| {
            let column = self.new_column(None, own.name.clone(), wanted.sql_type.clone());
            (column, Expr::Column(own.clone()).cast(wanted.sql_type.clone()))
        });
        let mut typed: Vec<(Column, Expr)> = typed.collect();
        let own: Vec<Column> = typed.iter().map(|(column, _)| column.clone()).collect();
        typed.extend(before.iter().map(|column| (column.clone(), Expr::Column(column.clone()))));
        let mut plan = LogicalPlan::Project { input: plan.into(), columns: typed };
        let mut read = before.into_iter().map(Expr::Column);
        let mut next = || read.next().ok_or_else(|| Error::internal("a step that does not give what it carries"));
        let mut values = Vec::new();
        match &carried.search {
            Some((true, by)) => {
                values.push(function::call(Function::ArrayCat, vec![next()?, array_of(row(&own, by, None)?)?])?)
            }
            Some((false, by)) => {
                let order = next()?;
                let SqlType::Row(fields) = order.sql_type() else {
                    return Err(Error::internal("an order that is no row"));
                };
                let depth = fields.first().map(|field| field.name.clone()).unwrap_or_default();
                let depth = Expr::Field { operand: Box::new(order), name: depth, sql_type: SqlType::BigInt };
                let deeper = binary(BinaryOp::Plus, depth, Expr::literal(Value::BigInt(1)))?;
                values.push(row(&own, by, Some(deeper))?);
            }
            None => {}
        }
        if let Some(marks) = &carried.cycle {
            let (mark, path) = (next()?, next()?);
            plan = plan.filtered(vec![binary(BinaryOp::NotEq, mark, marks.to.clone())?]);
            let here = row(&own, &marks.by, None)?;
            let seen = any_of_array(Comparison::Order(BinaryOp::Eq), here.clone(), path.clone())?;
            values.push(Expr::Case {
                sql_type: marks.to.sql_type(),
                branches: vec![(seen, marks.to.clone())],
                otherwise: Box::new(marks.default.clone()),
            });
            values.push(function::call(Function::ArrayCat, vec![path, array_of(here)?])?);
        }
        Ok(self.with_carried(plan, own, values, carried))
    }

    fn with_carried(
        &mut self,
        plan: LogicalPlan,
        mut columns: Vec<Column>,
        values: Vec<Expr>,
        carried: &Carried,
    ) -> (LogicalPlan, Vec<Column>) {
        let mut out: Vec<(Column, Expr)> = columns.iter().map(|c| (c.clone(), Expr::Column(c.clone()))).collect();
        for (name, value) in carried.names.iter().zip(values) {
            let column = self.new_column(None, name.clone(), value.sql_type());
            columns.push(column.clone());
            out.push((column, value));
        }
        (LogicalPlan::Project { input: plan.into(), columns: out }, columns)
    }

    /// A constant that stands in no statement.
    fn constant_of(&mut self, written: &sqlparser::ast::Expr) -> Result<Expr> {
        let mut binder = Binder::new(self.context);
        binder.expr(written, &Scope::default())
    }
}
