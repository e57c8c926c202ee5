//! Prepared statements: checked once, with the types of their parameters, and run as often as wanted. A program holds them itself; PREPARE
//! and EXECUTE keep them in the session under names.

use std::sync::Arc;

use cobble_plan::{LogicalPlan, PlanDocument, sink};
use cobble_sql::{
    Explained, ParameterTypes, Parameters, Prepare, Query, Statement, StatementText, Write, parameter_types,
    parse_statements,
};
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Position, Result, SqlType, Value};
use tokio_util::sync::CancellationToken;

use crate::execution::{Execution, ResultColumn};
use crate::session::{Own, RowOrder, Session, names};

/// Statements that a session keeps under names.
const MOST: usize = 1_000;

/// True for types whose values stay texts until the statement is bound.
fn is_read_later(sql_type: &SqlType) -> bool {
    matches!(sql_type, SqlType::Json | SqlType::Uuid | SqlType::Array(_))
}

/// A statement with typed parameters that has been checked.
#[derive(Debug, Clone)]
pub struct Prepared {
    statement: StatementText,
    /// Those that were given, and those that were found out.
    pub types: Vec<SqlType>,
    /// The columns of its result.
    pub columns: Vec<ResultColumn>,
}

impl Prepared {
    /// Values of the parameters from their texts, as they are written between quotes.
    pub fn values(&self, texts: &[Option<String>]) -> Result<Vec<Value>> {
        self.counted(texts.len())?;
        let value = |(place, (text, sql_type)): (usize, (&Option<String>, &SqlType))| match text {
            None => Ok(Value::Null),
            Some(text) if is_read_later(sql_type) => Ok(Value::Text(text.clone())),
            Some(text) => parse_value(text, sql_type)
                .map_err(|e| Error { message: format!("the parameter ${}: {}", place + 1, e.message), ..e }),
        };
        texts.iter().zip(&self.types).enumerate().map(value).collect()
    }

    /// The values with the types that they stand for.
    fn typed(&self, values: &[Value]) -> Result<Vec<(Value, SqlType)>> {
        self.counted(values.len())?;
        let mut parameters = Vec::new();
        for (number, (value, wanted)) in values.iter().zip(&self.types).enumerate() {
            let own = value.sql_type();
            let fits = value.is_null()
                || own == *wanted
                || matches!((value, wanted), (Value::Numeric { .. }, SqlType::Numeric { .. }))
                || (matches!(value, Value::Text(_)) && is_read_later(wanted));
            if !fits {
                return Err(Error::new(
                    Code::TypeMismatch,
                    format!("the parameter ${} is {wanted}, but the value is {own}", number + 1),
                ));
            }
            parameters.push((value.clone(), wanted.clone()));
        }
        Ok(parameters)
    }

    fn counted(&self, given: usize) -> Result<()> {
        match self.types.len() {
            wanted if wanted == given => Ok(()),
            wanted => {
                let plural = if wanted == 1 { "" } else { "s" };
                let what = format!("the statement has {wanted} parameter{plural}, not {given}");
                Err(Error::new(Code::UnknownParameter, what))
            }
        }
    }
}

impl Session {
    /// Checks one statement, and finds out the types of `$1`, `$2`, … that are not given. It is run with `run_prepared`.
    pub async fn prepare(&self, text: &str, types: &[Option<SqlType>]) -> Result<Prepared> {
        let mut statements = parse_statements(text)?;
        let (Some(statement), true) = (statements.pop(), statements.is_empty()) else {
            return Err(Error::new(Code::Syntax, "exactly one statement can be prepared"));
        };
        self.prepared_of(statement, types).await
    }

    async fn prepared_of(&self, statement: StatementText, given: &[Option<SqlType>]) -> Result<Prepared> {
        let mut given = given.to_vec();
        loop {
            let (plan, columns) = self.bound_statement(&statement.statement, &given).await?;
            match parameter_types(&plan, &given) {
                ParameterTypes::Settled(types) => return Ok(Prepared { statement, types, columns }),
                ParameterTypes::Given(number, sql_type) => {
                    given.resize(given.len().max(number), None);
                    given[number - 1] = Some(sql_type);
                }
            }
        }
    }

    /// The query of a write, bound with parameters without values.
    async fn bound_write(&self, write: &Write, given: &[Option<SqlType>]) -> Result<LogicalPlan> {
        let target = if write.create { None } else { Some(self.filled(write).await?) };
        Ok(self.bound_query(&write.query, given, target.as_deref()).await?.0)
    }

    /// The statement bound with parameters without values, and the columns of its result.
    async fn bound_statement(
        &self,
        statement: &Statement,
        given: &[Option<SqlType>],
    ) -> Result<(LogicalPlan, Vec<ResultColumn>)> {
        let wanted = Parameters::Wanted(given);
        let plan_text = || vec![ResultColumn { name: "plan".to_owned(), sql_type: SqlType::Text }];
        Ok(match statement {
            Statement::Query(query) => self.bound_query(query, given, None).await?,
            Statement::Explain(explain) => match &explain.explained {
                Explained::Query(query) => (self.bound_query(query, given, None).await?.0, plan_text()),
                Explained::Change(change) => (self.bound_change(change, wanted).await?.query.plan, plan_text()),
                Explained::Write(write) => (self.bound_write(write, given).await?, plan_text()),
            },
            Statement::Write(write) if write.returning.is_none() => {
                (self.bound_write(write, given).await?, names(sink::written_answer()))
            }
            Statement::Change(change) if change.returning.is_none() => {
                (self.bound_change(change, wanted).await?.query.plan, names(sink::changed_answer()))
            }
            Statement::Write(_) | Statement::Change(_) => {
                return Err(Error::unsupported("RETURNING in a prepared statement"));
            }
            _ => {
                return Err(Error::new(
                    Code::Unsupported,
                    "only statements that read, add or change rows can be prepared",
                )
                .hint("run such statements directly"));
            }
        })
    }

    async fn bound_query(
        &self,
        query: &Query,
        given: &[Option<SqlType>],
        target: Option<&[(String, SqlType)]>,
    ) -> Result<(LogicalPlan, Vec<ResultColumn>)> {
        let (_, tables) = self.resolved(query).await?;
        let bound = self.bound_with(query, &tables, Parameters::Wanted(given), target)?;
        let columns = bound.columns.into_iter().map(|c| ResultColumn { name: c.name, sql_type: c.sql_type });
        Ok((bound.plan, columns.collect()))
    }

    /// Starts a prepared statement with these values, which must be of the types it was prepared for or null.
    pub async fn run_prepared(
        &mut self,
        prepared: &Prepared,
        values: &[Value],
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let parameters = prepared.typed(values)?;
        self.run_with(&prepared.statement, Parameters::Known(&parameters), cancel).await
    }

    /// The plan of a prepared query with these values, not run.
    pub async fn plan_prepared(&self, prepared: &Prepared, values: &[Value]) -> Result<PlanDocument> {
        let parameters = prepared.typed(values)?;
        match &prepared.statement.statement {
            Statement::Query(query) => {
                let parameters = Parameters::Known(&parameters);
                Ok(self.planned(query, parameters, &CancellationToken::new()).await?.plan.document)
            }
            _ => Err(Error::new(Code::Unsupported, "of prepared statements only a query has a plan")),
        }
    }

    /// `PREPARE name AS …`
    pub(crate) async fn keep_prepared(&mut self, wanted: &Prepare) -> Result<Execution> {
        let at = |error: Error| error.at(wanted.position);
        if self.prepared.contains_key(&wanted.name) {
            return Err(at(Error::new(Code::AlreadyExists, format!("{} is prepared already", wanted.name))
                .hint(format!("DEALLOCATE {} removes it", wanted.name))));
        }
        if self.prepared.len() >= MOST {
            return Err(at(Error::new(
                Code::TooComplex,
                format!("the session keeps {MOST} prepared statements already"),
            )
            .hint("DEALLOCATE ALL removes them")));
        }
        let given: Vec<Option<SqlType>> = wanted.types.iter().cloned().map(Some).collect();
        let prepared = self.prepared_of(wanted.statement.as_ref().clone(), &given).await?;
        let types: Vec<String> = prepared.types.iter().map(SqlType::to_string).collect();
        self.hold(Own::Statement, &wanted.name, &wanted.statement.text).map_err(at)?;
        self.prepared.insert(wanted.name.clone(), Arc::new(prepared));
        Ok(Execution::done(format!("{}({}) is prepared", wanted.name, types.join(", "))))
    }

    fn prepared_as(&self, name: &str, position: Option<Position>) -> Result<Arc<Prepared>> {
        self.prepared.get(name).cloned().ok_or_else(|| {
            let error = Error::unknown("prepared statement", name, self.prepared.keys().map(String::as_str));
            let hint = error.hint.unwrap_or_else(|| "PREPARE name AS … makes one, for this session".to_owned());
            Error { code: Code::UnknownStatement, hint: Some(hint), ..error }.at(position)
        })
    }

    /// `EXECUTE name(…)`
    pub(crate) async fn execute_prepared(
        &mut self,
        name: &str,
        values: Option<&Query>,
        position: Option<Position>,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let prepared = self.prepared_as(name, position)?;
        let Some(written) = values else { return self.run_prepared(&prepared, &[], cancel).await };
        // The values are assigned to the parameters' types, as those of a row are to a table's columns.
        let wanted: Vec<(String, SqlType)> =
            prepared.types.iter().enumerate().map(|(place, t)| (format!("${}", place + 1), t.clone())).collect();
        let (_, tables) = self.resolved(written).await?;
        let given = self.bound_with(written, &tables, Parameters::NONE, None).map_err(|e| e.at(position))?;
        prepared.counted(given.columns.len()).map_err(|e| e.at(position))?;
        let planned = self.planned_into(written, Parameters::NONE, Some(&wanted), &RowOrder::default(), cancel).await?;
        let mut row = self.started(planned, cancel).await?;
        let batches = row.collect().await?;
        let Some(batch) = batches.iter().find(|batch| batch.num_rows() > 0) else {
            return Err(Error::internal("the values of parameters are no row"));
        };
        let value = |column: &arrow::array::ArrayRef| {
            Value::from_array(column.as_ref(), 0)
                .ok_or_else(|| Error::unsupported(format_args!("a parameter of type {}", column.data_type())))
        };
        let values = batch.columns().iter().map(value).collect::<Result<Vec<_>>>()?;
        self.run_prepared(&prepared, &values, cancel).await
    }

    /// `DEALLOCATE name`
    pub(crate) fn forget_prepared(&mut self, name: Option<&str>, position: Option<Position>) -> Result<Execution> {
        let Some(name) = name else {
            self.prepared.clear();
            self.release(Own::Statement, |_| true);
            return Ok(Execution::done("all prepared statements removed".to_owned()));
        };
        self.prepared_as(name, position)?;
        self.prepared.remove(name);
        self.release(Own::Statement, |own| own == name);
        Ok(Execution::done(format!("{name} removed")))
    }
}
