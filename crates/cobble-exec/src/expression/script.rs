//! Functions in the script language, run for one row after another in a sandbox: no files, no network, no clock, no modules;
//! limited in steps, in depth and in the size of what they make.

use std::sync::Arc;

use arrow::array::{Array, ArrayRef, RecordBatch};
use arrow::compute::concat;
use cobble_plan::user_function::UserFunction;
use cobble_types::{Code, Error, Result, SqlType, Value, array_value_text};
use rhai::{AST, Dynamic, Engine, Scope};

use super::Compiled;

/// Steps of one call.
const MOST_STEPS: u64 = 1_000_000;
/// Bytes of a string that a script makes, and items of an array or map.
const LONGEST_TEXT: usize = 1 << 20;
const MOST_ITEMS: usize = 100_000;
/// Steps between looks at whether the run has been cancelled.
const STEPS_BETWEEN_LOOKS: u64 = 4096;

/// A script that has been read, ready to be called.
pub struct Script {
    function: Arc<UserFunction>,
    engine: Engine,
    body: AST,
}

impl std::fmt::Debug for Script {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Script({})", self.function.name)
    }
}

fn failed(function: &UserFunction, what: impl std::fmt::Display) -> Error {
    Error::new(Code::ScriptFailed, format!("the script of {}(): {what}", function.name))
}

/// Types that a script can take and give.
fn can_cross(sql_type: &SqlType) -> bool {
    !matches!(sql_type, SqlType::Array(_) | SqlType::Row(_) | SqlType::Bytea | SqlType::Null)
}

impl Script {
    pub fn read(function: &Arc<UserFunction>) -> Result<Script> {
        let types = function.parameters.iter().map(|(_, t)| t).chain([&function.result]);
        for sql_type in types {
            if !can_cross(sql_type) {
                return Err(Error::unsupported(format_args!("{sql_type} as a type of a script's argument or result"))
                    .hint("scripts know booleans, numbers, texts, dates and times"));
            }
        }
        let mut engine = Engine::new();
        engine
            .set_max_operations(MOST_STEPS)
            .set_max_call_levels(32)
            .set_max_expr_depths(64, 64)
            .set_max_string_size(LONGEST_TEXT)
            .set_max_array_size(MOST_ITEMS)
            .set_max_map_size(MOST_ITEMS)
            .set_max_functions(256)
            .disable_symbol("eval")
            .on_print(|_| {})
            .on_debug(|_, _, _| {})
            .on_progress(|steps| {
                (steps % STEPS_BETWEEN_LOOKS == 0 && crate::pipeline::is_cancelled())
                    .then(|| Dynamic::from("cancelled"))
            });
        let body = engine.compile(&function.body).map_err(|e| {
            failed(function, &e)
                .hint("the script's last expression is the function's value; arguments go by their names")
        })?;
        Ok(Script { function: function.clone(), engine, body })
    }

    pub fn call(&self, arguments: &[Compiled], batch: &RecordBatch) -> Result<ArrayRef> {
        let columns = arguments.iter().map(|a| a.array(batch)).collect::<Result<Vec<_>>>()?;
        let mut results = Vec::with_capacity(batch.num_rows());
        for row in 0..batch.num_rows() {
            let value = if self.function.strict && columns.iter().any(|c| c.is_null(row)) {
                Value::Null
            } else {
                self.one(&columns, row)?
            };
            results.push(value.to_array(&self.function.result));
        }
        let results: Vec<&dyn Array> = results.iter().map(AsRef::as_ref).collect();
        match results.is_empty() {
            true => Ok(arrow::array::new_empty_array(&self.function.result.to_arrow())),
            false => Ok(concat(&results)?),
        }
    }

    fn one(&self, columns: &[ArrayRef], row: usize) -> Result<Value> {
        let mut scope = Scope::new();
        for ((name, _), column) in self.function.parameters.iter().zip(columns) {
            scope.push_dynamic(name.as_str(), given(column, row));
        }
        match self.engine.eval_ast_with_scope::<Dynamic>(&mut scope, &self.body) {
            Ok(result) => self.taken(result),
            Err(_) if crate::pipeline::is_cancelled() => Err(Error::cancelled()),
            Err(error) => Err(failed(&self.function, error)),
        }
    }

    /// A script's value as one of the declared type.
    fn taken(&self, result: Dynamic) -> Result<Value> {
        let wanted = &self.function.result;
        if result.is_unit() {
            return Ok(Value::Null);
        }
        let wrong = || failed(&self.function, format!("it gave {result}, a {}, and not {wanted}", result.type_name()));
        Ok(match wanted {
            SqlType::Boolean => Value::Boolean(result.as_bool().map_err(|_| wrong())?),
            SqlType::Double => Value::Double(number(&result).ok_or_else(wrong)?),
            SqlType::Real => Value::Real(number(&result).ok_or_else(wrong)? as f32),
            SqlType::Text | SqlType::Json if !result.is_string() && *wanted == SqlType::Json => return Err(wrong()),
            SqlType::Text => Value::Text(result.to_string()),
            _ => cobble_types::parse::parse_value(&result.to_string(), wanted).map_err(|_| wrong())?,
        })
    }
}

fn number(result: &Dynamic) -> Option<f64> {
    result.as_float().ok().or_else(|| result.as_int().ok().map(|v| v as f64))
}

/// A value as scripts see it: whole numbers, floating-point numbers (numerics too), booleans, everything else as text.
fn given(column: &ArrayRef, row: usize) -> Dynamic {
    match Value::from_array(column.as_ref(), row) {
        None | Some(Value::Null) => Dynamic::UNIT,
        Some(Value::Boolean(v)) => v.into(),
        Some(Value::SmallInt(v)) => i64::from(v).into(),
        Some(Value::Integer(v)) => i64::from(v).into(),
        Some(Value::BigInt(v)) => v.into(),
        Some(Value::Real(v)) => f64::from(v).into(),
        Some(Value::Double(v)) => v.into(),
        Some(value @ Value::Numeric { .. }) => value.approximate().map_or(Dynamic::UNIT, Into::into),
        Some(_) => array_value_text(column.as_ref(), row).map_or(Dynamic::UNIT, Into::into),
    }
}
