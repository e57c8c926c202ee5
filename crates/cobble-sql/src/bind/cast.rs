//! Explicit casts: which type can be cast to which.

use cobble_plan::expr::Expr;
use cobble_types::{Code, Error, Result, SqlType, Value};

use crate::coerce::{coerce, is_untyped};

/// An explicit cast. Constants are cast by the fold-constants rewrite, so that an error shows where it stands.
///
/// # Errors
/// When values of the one type have no form in the other.
pub(super) fn cast(operand: Expr, target: &SqlType) -> Result<Expr> {
    if is_untyped(&operand) || matches!(operand, Expr::Literal { value: Value::Null, .. }) {
        return coerce(operand, target);
    }
    // An empty ARRAY[] has the type that it is cast to.
    if let (Expr::Call { function, arguments, .. }, SqlType::Array(_)) = (&operand, target)
        && arguments.is_empty()
        && *function == cobble_plan::Function::MakeArray
    {
        return Ok(Expr::Call { function: *function, arguments: vec![], sql_type: target.clone() });
    }
    let own = operand.sql_type();
    if castable(&own, target) {
        Ok(operand.cast(target.clone()))
    } else {
        Err(Error::new(Code::CannotCast, format!("{own} cannot be cast to {target}")))
    }
}

fn castable(own: &SqlType, target: &SqlType) -> bool {
    use SqlType as T;
    match (own, target) {
        _ if own == target => true,
        (T::Array(own), T::Array(target)) => castable(own, target),
        (T::Row(own), T::Row(target)) => {
            own.len() == target.len() && own.iter().zip(target).all(|(o, t)| castable(&o.sql_type, &t.sql_type))
        }
        (T::Text, T::Array(item)) => !matches!(**item, T::Array(_) | T::Row(_)),
        (_, T::Array(_) | T::Row(_)) => false,
        (_, T::Text) | (T::Text, _) => true,
        (T::Timestamp | T::TimestampTz, T::Time)
        | (T::Boolean, T::Integer)
        | (T::Integer, T::Boolean)
        | (T::Time, T::Interval)
        | (T::Interval, T::Time)
        | (T::Json, T::Boolean) => true,
        (own, target) if own.is_number() || *own == T::Json => target.is_number(),
        (own, target) => own.is_time_point() && target.is_time_point(),
    }
}
