//! Calls of functions that users have made. A SQL function's expression is put in the place of the call, with the arguments
//! in the places of the parameters; a script's call stays a call.

use std::collections::HashMap;
use std::sync::Arc;

use cobble_functions::wider_type;
use cobble_plan::expr::Expr;
use cobble_plan::{FunctionLanguage, UserFunction};
use cobble_types::{Code, ColumnId, Error, Result, SqlType};
use sqlparser::ast;

use super::scope::{Reach, Scope, ScopeColumn};
use super::{BindContext, Binder, CatalogReader, Parameters, SessionNames};
use crate::coerce::{coerce, is_untyped, settle};

/// SQL functions may call each other so deep.
const DEEPEST: usize = 32;

/// A function as the binder knows it: a SQL function's body has been parsed.
#[derive(Debug, Clone)]
pub struct KnownFunction {
    pub function: Arc<UserFunction>,
    body: Option<ast::Expr>,
}

/// Functions by name.
pub type KnownFunctions = HashMap<String, KnownFunction>;

impl KnownFunction {
    /// Reads the function's body.
    pub fn new(function: UserFunction) -> Result<KnownFunction> {
        let body = match function.language {
            FunctionLanguage::Sql => Some(crate::statement::parse_expression(&function.body)?),
            FunctionLanguage::Script => None,
        };
        Ok(KnownFunction { function: Arc::new(function), body })
    }

    /// Binds the function as a call would, so that mistakes show when it is made.
    pub fn check(&self, functions: &KnownFunctions, catalog: &dyn CatalogReader) -> Result<()> {
        let mut all = functions.clone();
        all.insert(self.function.name.clone(), self.clone());
        let context = BindContext {
            catalog,
            now: 0,
            parameters: Parameters::NONE,
            functions: &all,
            zone: "UTC",
            target: None,
            session: SessionNames::NONE,
            fold: &|_| None,
        };
        let mut binder = Binder::new(&context);
        let Some(known) = context.functions.get(&self.function.name) else { return Ok(()) };
        let arguments =
            self.function.parameters.iter().map(|(name, t)| Expr::Column(binder.new_column(None, name, t.clone())));
        let arguments = arguments.collect();
        binder.user_call(known, arguments).map(drop)
    }
}

impl<'a> Binder<'a> {
    pub(super) fn user_call(&mut self, known: &'a KnownFunction, arguments: Vec<Expr>) -> Result<Expr> {
        let function = &known.function;
        let name = &function.name;
        if arguments.len() != function.parameters.len() {
            return Err(Error::new(
                Code::UnknownFunction,
                format!("{name}() takes {} arguments, not {}", function.parameters.len(), arguments.len()),
            )
            .hint(format!("it is called as {name}({})", function.arguments())));
        }
        let converted = arguments.into_iter().zip(&function.parameters).map(|(given, (parameter, wanted))| {
            assigned(given, wanted).map_err(|mut error| {
                error.message = format!("argument {parameter} of {name}(): {}", error.message);
                error
            })
        });
        let arguments = converted.collect::<Result<Vec<_>>>()?;
        let Some(body) = &known.body else {
            return Ok(Expr::Script { function: function.clone(), arguments });
        };
        if self.call_depth >= DEEPEST {
            return Err(Error::new(
                Code::Syntax,
                format!("{name}() calls itself, or goes deeper than {DEEPEST} functions"),
            ));
        }
        let mut scope = Scope::default();
        let mut places = Vec::new();
        for (parameter, sql_type) in &function.parameters {
            let column = self.new_column(None, parameter, sql_type.clone());
            places.push(column.id);
            scope.columns.push(ScopeColumn {
                qualifier: Some(name.clone()),
                table: None,
                name: parameter.clone(),
                column,
                reach: Reach::Open,
                may_be_missing: false,
            });
        }
        // The body sees its parameters and nothing of the query that calls it.
        let outer = std::mem::take(&mut self.outer);
        let select = self.select.take();
        let before = self.pending.len();
        self.call_depth += 1;
        let bound = self.expr(body, &scope);
        self.call_depth -= 1;
        (self.outer, self.select) = (outer, select);
        let within = |mut error: Error| {
            error.message = format!("in {name}(): {}", error.message);
            // Places in the body are none of the statement.
            error.position = None;
            error
        };
        let bound = bound.map_err(within)?;
        if self.pending.len() > before {
            self.pending.truncate(before);
            return Err(Error::unsupported(format_args!("a subquery in the body of {name}()")));
        }
        let bound = assigned(bound, &function.result).map_err(within)?;
        let place = |id: ColumnId| places.iter().position(|p| *p == id);
        for (argument, id) in arguments.iter().zip(&places) {
            if argument.is_volatile() && uses(&bound, *id) > 1 {
                return Err(Error::unsupported(format_args!(
                    "{argument} as an argument that {name}() uses more than once"
                ))
                .hint("compute it in a subquery first"));
            }
        }
        Ok(bound.replace(&|e| match e {
            Expr::Column(column) => place(column.id).map(|i| arguments[i].clone()),
            _ => None,
        }))
    }
}

/// A value for a place of this type, converted as PostgreSQL converts in an assignment (manual 10.4).
fn assigned(given: Expr, wanted: &SqlType) -> Result<Expr> {
    if is_untyped(&given) {
        return coerce(given, wanted);
    }
    let given = settle(given)?;
    let own = given.sql_type();
    let fits = own == *wanted
        || (own.is_number() && wanted.is_number())
        || wider_type(&own, wanted).as_ref() == Some(wanted)
        || *wanted == SqlType::Text
        || matches!((&own, wanted), (SqlType::Timestamp | SqlType::TimestampTz, SqlType::Date | SqlType::Timestamp));
    if fits {
        return coerce(given, wanted);
    }
    Err(Error::new(Code::TypeMismatch, format!("{given} is {own}, and not {wanted}")).hint("cast it"))
}

fn uses(expr: &Expr, id: ColumnId) -> usize {
    let own = usize::from(matches!(expr, Expr::Column(column) if column.id == id));
    own + expr.children().into_iter().map(|child| uses(child, id)).sum::<usize>()
}
