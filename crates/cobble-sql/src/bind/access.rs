//! What is reached inside a value: fields of rows, items and slices of arrays, members of JSON.

use cobble_functions::Function;
use cobble_plan::expr::Expr;
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::scope::Scope;
use super::{Binder, folded};
use crate::coerce::{coerce, is_untyped, settle};
use crate::function;

/// Dimensions that an array may have, as in PostgreSQL.
const MOST_DIMENSIONS: usize = 6;

/// A bound of a slice that is not written.
const OPEN: i32 = i32::MAX;

impl<'a> Binder<'a> {
    pub(super) fn reached(&mut self, root: &'a ast::Expr, chain: &'a [ast::AccessExpr], scope: &Scope) -> Result<Expr> {
        let mut value = self.expr(root, scope)?;
        let mut rest = chain;
        while let Some(first) = rest.first() {
            match first {
                ast::AccessExpr::Dot(ast::Expr::Identifier(field)) => {
                    value = row_field(value, &folded(field))?;
                    rest = &rest[1..];
                }
                ast::AccessExpr::Dot(other) => {
                    return Err(Error::new(Code::Syntax, format!("\"{other}\" is no name of a field")));
                }
                ast::AccessExpr::Subscript(_) => {
                    // All subscripts that follow each other belong together.
                    let subscript = |access: &'a ast::AccessExpr| match access {
                        ast::AccessExpr::Subscript(subscript) => Some(subscript),
                        ast::AccessExpr::Dot(_) => None,
                    };
                    let all: Vec<&'a ast::Subscript> = rest.iter().map_while(subscript).collect();
                    rest = &rest[all.len()..];
                    value = self.subscripted(value, &all, scope)?;
                }
            }
        }
        Ok(value)
    }

    fn subscripted(&mut self, value: Expr, all: &[&'a ast::Subscript], scope: &Scope) -> Result<Expr> {
        match value.sql_type() {
            SqlType::Json => self.json_member(value, all, scope),
            SqlType::Array(_) if all.iter().any(|s| matches!(s, ast::Subscript::Slice { .. })) => {
                self.slice(value, all, scope)
            }
            SqlType::Array(_) => self.item_at(value, all, scope),
            own => Err(Error::new(Code::TypeMismatch, format!("{value} is {own}, not an array"))),
        }
    }

    /// `document['key'][1]`, as PostgreSQL subscripts jsonb: places count from zero.
    fn json_member(&mut self, mut value: Expr, all: &[&'a ast::Subscript], scope: &Scope) -> Result<Expr> {
        for subscript in all {
            let ast::Subscript::Index { index } = subscript else {
                return Err(Error::new(Code::TypeMismatch, "JSON has no slices"));
            };
            let index = settle(self.expr(index, scope)?)?;
            value = function::call(Function::JsonPath, vec![value, index.cast(SqlType::Text)])?;
        }
        Ok(value)
    }

    /// The item under as many subscripts as the array has dimensions; with fewer or more there is none (manual 8.15.3).
    fn item_at(&mut self, value: Expr, all: &[&'a ast::Subscript], scope: &Scope) -> Result<Expr> {
        let mut indices = Vec::new();
        for subscript in all {
            let ast::Subscript::Index { index } = subscript else { return Err(Error::internal("a slice as an item")) };
            indices.push(place(self.expr(index, scope)?)?);
        }
        let (innermost, dimensions) = dimensions_of(&value.sql_type());
        if indices.len() != dimensions {
            return Ok(Expr::Literal { value: Value::Null, sql_type: innermost });
        }
        let mut value = value;
        for index in indices {
            let SqlType::Array(item) = value.sql_type() else { return Err(Error::internal("an item of no array")) };
            let index = coerce(index, &SqlType::BigInt)?;
            value = Expr::Subscript { operand: Box::new(value), index: Box::new(index), sql_type: *item };
        }
        Ok(value)
    }

    /// `array[2:3]`: with one slice among the subscripts, a plain one is a slice from one.
    fn slice(&mut self, value: Expr, all: &[&'a ast::Subscript], scope: &Scope) -> Result<Expr> {
        let own = value.sql_type();
        let (_, dimensions) = dimensions_of(&own);
        let mut arguments = vec![value];
        let open = || Expr::literal(Value::Integer(OPEN));
        for subscript in all {
            let mut bound = |written: &'a Option<ast::Expr>| match written {
                Some(written) => coerce(place(self.expr(written, scope)?)?, &SqlType::Integer),
                None => Ok(open()),
            };
            match subscript {
                ast::Subscript::Slice { lower_bound, upper_bound, stride: _ } => {
                    let (from, to) = (bound(lower_bound)?, bound(upper_bound)?);
                    arguments.extend([from, to]);
                }
                ast::Subscript::Index { index } => {
                    let to = coerce(place(self.expr(index, scope)?)?, &SqlType::Integer)?;
                    arguments.extend([Expr::literal(Value::Integer(1)), to]);
                }
            }
        }
        if all.len() > dimensions {
            let items = function::call(Function::MakeArray, vec![])?;
            return match items {
                Expr::Call { function, arguments, .. } => Ok(Expr::Call { function, arguments, sql_type: own }),
                other => Ok(other),
            };
        }
        Ok(Expr::Call { function: Function::ArraySlice, arguments, sql_type: own })
    }
}

/// A subscript of an array, which is an integer.
fn place(index: Expr) -> Result<Expr> {
    match index.sql_type() {
        own if own.is_integer() => Ok(index),
        _ if is_untyped(&index) => coerce(index, &SqlType::Integer),
        own => Err(Error::new(Code::TypeMismatch, format!("an array is subscripted by an integer, not {own}"))),
    }
}

/// The type of an array's innermost items, and the number of dimensions.
fn dimensions_of(sql_type: &SqlType) -> (SqlType, usize) {
    match sql_type {
        SqlType::Array(item) => {
            let (innermost, dimensions) = dimensions_of(item);
            (innermost, dimensions + 1)
        }
        other => (other.clone(), 0),
    }
}

/// Arrays have at most the dimensions that PostgreSQL allows.
pub(super) fn few_dimensions(expr: Expr) -> Result<Expr> {
    match dimensions_of(&expr.sql_type()).1 {
        0..=MOST_DIMENSIONS => Ok(expr),
        _ => Err(Error::new(Code::TooComplex, format!("an array has more than {MOST_DIMENSIONS} dimensions"))),
    }
}

pub(super) fn row_field(operand: Expr, name: &str) -> Result<Expr> {
    let own = operand.sql_type();
    let SqlType::Row(fields) = &own else {
        return Err(Error::new(Code::WrongKind, format!("{operand} is {own}, which has no field \"{name}\"")));
    };
    match fields.iter().find(|field| field.name == name) {
        Some(field) => {
            Ok(Expr::Field { operand: Box::new(operand), name: name.to_owned(), sql_type: field.sql_type.clone() })
        }
        None => Err(Error::unknown("field", name, fields.iter().map(|f| f.name.as_str()))),
    }
}

/// `row IS [NOT] NULL`: true if all its fields are. The two are not each other's negation (SQL:2016 part 2, 8.8).
pub(super) fn row_is_null(row: Expr, negated: bool) -> Result<Expr> {
    let SqlType::Row(fields) = row.sql_type() else {
        return Ok(Expr::IsNull { operand: Box::new(row), negated });
    };
    let parts = match row {
        // Written out, its parts are at hand.
        Expr::Call { function: Function::MakeRow, arguments, .. } => arguments,
        row => fields
            .into_iter()
            .map(|field| Expr::Field { operand: Box::new(row.clone()), name: field.name, sql_type: field.sql_type })
            .collect(),
    };
    let tests = parts.into_iter().map(|part| Expr::IsNull { operand: Box::new(part), negated });
    Ok(Expr::conjunction(tests).unwrap_or_else(|| Expr::boolean(true)))
}
