//! The session's time zone. Binding speaks of moments and clocks in UTC; where the session lives elsewhere, what turns one
//! into the other is made explicit here, in the bound plan. A database is always queried in UTC, so what depends on the zone is
//! computed by the engine.

use cobble_functions::Function;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::LogicalPlan;
use cobble_types::{SqlType, Value};

pub fn in_zone(plan: &LogicalPlan, zone: &str) -> LogicalPlan {
    plan.map_all_expressions(&mut |e| moved(e, zone))
}

fn moved(expr: &Expr, zone: &str) -> Expr {
    use SqlType::{Date, Interval, Text, Time, Timestamp, TimestampTz};
    let expr = expr.map_children(&mut |child| moved(child, zone));
    let call = |function, mut arguments: Vec<Expr>, sql_type| {
        arguments.insert(0, Expr::literal(Value::Text(zone.to_owned())));
        Expr::Call { function, arguments, sql_type }
    };
    let clock = |moment| call(Function::AtTimeZone, vec![moment], Timestamp);
    let moment = |clock| call(Function::AtTimeZone, vec![clock], TimestampTz);
    match expr {
        Expr::Cast { operand, sql_type } => match (operand.sql_type(), &sql_type) {
            (TimestampTz, Timestamp | Date | Time) => clock(*operand).cast(sql_type),
            (TimestampTz, Text) => call(Function::MomentText, vec![*operand], Text),
            (Timestamp, TimestampTz) => moment(*operand),
            (Date, TimestampTz) => moment(operand.cast(Timestamp)),
            (Text, TimestampTz) => call(Function::ReadMoment, vec![*operand], TimestampTz),
            _ => Expr::Cast { operand, sql_type },
        },
        Expr::Binary { op, left, right, sql_type } => match (op, left.sql_type(), right.sql_type()) {
            (BinaryOp::Plus, TimestampTz, Interval) => call(Function::AddToMoment, vec![*left, *right], TimestampTz),
            (BinaryOp::Plus, Interval, TimestampTz) => call(Function::AddToMoment, vec![*right, *left], TimestampTz),
            (BinaryOp::Minus, TimestampTz, Interval) => {
                call(Function::AddToMoment, vec![*left, Expr::Negate(right)], TimestampTz)
            }
            _ => Expr::Binary { op, left, right, sql_type },
        },
        Expr::Call { function, arguments, sql_type } => {
            let zoned = |place: usize| arguments.get(place).is_some_and(|a| a.sql_type() == TimestampTz);
            let epoch =
                matches!(arguments.first(), Some(Expr::Literal { value: Value::Text(part), .. }) if part == "epoch");
            let on_the_clock = |arguments: Vec<Expr>| -> Vec<Expr> {
                arguments.into_iter().map(|a| if a.sql_type() == TimestampTz { clock(a) } else { a }).collect()
            };
            match function {
                Function::DateTrunc if zoned(1) => {
                    moment(Expr::Call { function, arguments: on_the_clock(arguments), sql_type: Timestamp })
                }
                Function::DatePart if epoch => Expr::Call { function, arguments, sql_type },
                Function::DatePart | Function::ToChar | Function::Age => {
                    Expr::Call { function, arguments: on_the_clock(arguments), sql_type }
                }
                _ => Expr::Call { function, arguments, sql_type },
            }
        }
        other => other,
    }
}
