//! Typed scalar expressions. Every coercion is an explicit cast and every column is known by its id, so a rewrite
//! can move an expression anywhere its columns exist.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

pub use cobble_functions::BinaryOp;
use cobble_functions::Function;
use cobble_types::{ColumnId, SqlType, Value};
use serde::{Deserialize, Serialize};

use crate::user_function::UserFunction;

/// Evaluates an expression without columns to a literal; the engine's own evaluation, lent to the planner.
pub type Fold = dyn Fn(&Expr) -> Option<Expr> + Sync;

/// A column as an expression sees it. Two columns are the same when their ids are.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Column {
    pub id: ColumnId,
    /// The table or alias it was reached through, for display only.
    pub qualifier: Option<String>,
    pub name: String,
    pub sql_type: SqlType,
}

impl PartialEq for Column {
    fn eq(&self, other: &Self) -> bool {
        self.id == other.id
    }
}

impl Eq for Column {}

impl std::hash::Hash for Column {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.id.hash(state);
    }
}

impl fmt::Display for Column {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.qualifier {
            Some(qualifier) => write!(f, "{qualifier}.{}", self.name),
            None => f.write_str(&self.name),
        }
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum Expr {
    Column(Column),
    /// A constant. A quoted literal whose type is not settled yet has the type `SqlType::Null`.
    Literal {
        value: Value,
        sql_type: SqlType,
    },
    /// A parameter of a statement whose types are being found out: it has no value, and a plan that has one is not run. Like a quoted
    /// literal, it has the type `SqlType::Null` until it meets something.
    Parameter {
        number: usize,
        sql_type: SqlType,
    },
    Binary {
        op: BinaryOp,
        left: Box<Expr>,
        right: Box<Expr>,
        sql_type: SqlType,
    },
    Not(Box<Expr>),
    Negate(Box<Expr>),
    IsNull {
        operand: Box<Expr>,
        negated: bool,
    },
    Like {
        operand: Box<Expr>,
        pattern: Box<Expr>,
        negated: bool,
        case_insensitive: bool,
    },
    InList {
        operand: Box<Expr>,
        list: Vec<Expr>,
        negated: bool,
    },
    /// `CASE WHEN condition THEN value … ELSE otherwise END`; the branches are tried in order, each only on the rows left.
    Case {
        branches: Vec<(Expr, Expr)>,
        otherwise: Box<Expr>,
        sql_type: SqlType,
    },
    Cast {
        operand: Box<Expr>,
        sql_type: SqlType,
    },
    Call {
        function: Function,
        arguments: Vec<Expr>,
        sql_type: SqlType,
    },
    /// A call of a function in the script language.
    Script {
        function: Arc<UserFunction>,
        arguments: Vec<Expr>,
    },
    /// A named part of a row value.
    Field {
        operand: Box<Expr>,
        name: String,
        sql_type: SqlType,
    },
    /// An array's item, counted from one; null outside its bounds.
    Subscript {
        operand: Box<Expr>,
        index: Box<Expr>,
        sql_type: SqlType,
    },
}

impl Expr {
    pub fn literal(value: Value) -> Expr {
        let sql_type = value.sql_type();
        Expr::Literal { value, sql_type }
    }

    pub fn boolean(value: bool) -> Expr {
        Expr::literal(Value::Boolean(value))
    }

    pub fn compare(op: BinaryOp, left: Expr, right: Expr) -> Expr {
        Expr::Binary { op, left: Box::new(left), right: Box::new(right), sql_type: SqlType::Boolean }
    }

    pub fn cast(self, sql_type: SqlType) -> Expr {
        if self.sql_type() == sql_type { self } else { Expr::Cast { operand: Box::new(self), sql_type } }
    }

    pub fn sql_type(&self) -> SqlType {
        match self {
            Expr::Column(column) => column.sql_type.clone(),
            Expr::Literal { sql_type, .. }
            | Expr::Parameter { sql_type, .. }
            | Expr::Binary { sql_type, .. }
            | Expr::Case { sql_type, .. }
            | Expr::Cast { sql_type, .. }
            | Expr::Call { sql_type, .. }
            | Expr::Field { sql_type, .. }
            | Expr::Subscript { sql_type, .. } => sql_type.clone(),
            Expr::Not(_) | Expr::IsNull { .. } | Expr::Like { .. } | Expr::InList { .. } => SqlType::Boolean,
            Expr::Negate(operand) => operand.sql_type(),
            Expr::Script { function, .. } => function.result.clone(),
        }
    }

    /// The direct parts of this expression.
    pub fn children(&self) -> Vec<&Expr> {
        match self {
            Expr::Column(_) | Expr::Literal { .. } | Expr::Parameter { .. } => vec![],
            Expr::Binary { left, right, .. } => vec![left, right],
            Expr::Not(operand)
            | Expr::Negate(operand)
            | Expr::IsNull { operand, .. }
            | Expr::Cast { operand, .. }
            | Expr::Field { operand, .. } => vec![operand],
            Expr::Like { operand, pattern, .. } => vec![operand, pattern],
            Expr::InList { operand, list, .. } => std::iter::once(operand.as_ref()).chain(list).collect(),
            Expr::Case { branches, otherwise, .. } => {
                branches.iter().flat_map(|(when, then)| [when, then]).chain([otherwise.as_ref()]).collect()
            }
            Expr::Call { arguments, .. } | Expr::Script { arguments, .. } => arguments.iter().collect(),
            Expr::Subscript { operand, index, .. } => vec![operand, index],
        }
    }

    /// The same expression with each direct part replaced by what `change` returns for it.
    pub fn map_children(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> Expr {
        let mut boxed = |e: &Expr| Box::new(change(e));
        match self {
            Expr::Column(_) | Expr::Literal { .. } | Expr::Parameter { .. } => self.clone(),
            Expr::Binary { op, left, right, sql_type } => {
                Expr::Binary { op: *op, left: boxed(left), right: boxed(right), sql_type: sql_type.clone() }
            }
            Expr::Not(operand) => Expr::Not(boxed(operand)),
            Expr::Negate(operand) => Expr::Negate(boxed(operand)),
            Expr::IsNull { operand, negated } => Expr::IsNull { operand: boxed(operand), negated: *negated },
            Expr::Like { operand, pattern, negated, case_insensitive } => Expr::Like {
                operand: boxed(operand),
                pattern: boxed(pattern),
                negated: *negated,
                case_insensitive: *case_insensitive,
            },
            Expr::InList { operand, list, negated } => {
                Expr::InList { operand: boxed(operand), list: list.iter().map(change).collect(), negated: *negated }
            }
            Expr::Case { branches, otherwise, sql_type } => Expr::Case {
                branches: branches.iter().map(|(when, then)| (*boxed(when), *boxed(then))).collect(),
                otherwise: boxed(otherwise),
                sql_type: sql_type.clone(),
            },
            Expr::Cast { operand, sql_type } => Expr::Cast { operand: boxed(operand), sql_type: sql_type.clone() },
            Expr::Call { function, arguments, sql_type } => Expr::Call {
                function: *function,
                arguments: arguments.iter().map(change).collect(),
                sql_type: sql_type.clone(),
            },
            Expr::Script { function, arguments } => {
                Expr::Script { function: function.clone(), arguments: arguments.iter().map(change).collect() }
            }
            Expr::Field { operand, name, sql_type } => {
                Expr::Field { operand: boxed(operand), name: name.clone(), sql_type: sql_type.clone() }
            }
            Expr::Subscript { operand, index, sql_type } => {
                Expr::Subscript { operand: boxed(operand), index: boxed(index), sql_type: sql_type.clone() }
            }
        }
    }

    /// Rebuilds the expression with `change` tried on every node from the top; where it returns something, that stands instead.
    pub fn replace(&self, change: &dyn Fn(&Expr) -> Option<Expr>) -> Expr {
        change(self).unwrap_or_else(|| self.map_children(&mut |child| child.replace(change)))
    }

    /// True when `test` holds for this expression or any part of it.
    pub fn any(&self, test: &dyn Fn(&Expr) -> bool) -> bool {
        test(self) || self.children().into_iter().any(|child| child.any(test))
    }

    pub fn collect_columns(&self, into: &mut BTreeSet<ColumnId>) {
        if let Expr::Column(column) = self {
            into.insert(column.id);
        }
        for child in self.children() {
            child.collect_columns(into);
        }
    }

    pub fn columns(&self) -> BTreeSet<ColumnId> {
        let mut ids = BTreeSet::new();
        self.collect_columns(&mut ids);
        ids
    }

    pub fn is_constant(&self) -> bool {
        !self.is_volatile() && !self.any(&|e| matches!(e, Expr::Column(_) | Expr::Parameter { .. }))
    }

    pub fn is_volatile(&self) -> bool {
        self.any(&|e| match e {
            Expr::Call { function, .. } => function.is_volatile(),
            Expr::Script { function, .. } => function.volatile,
            _ => false,
        })
    }

    /// True for a condition that is the constant false or null: no row meets it.
    pub fn is_never_true(&self) -> bool {
        matches!(self, Expr::Literal { value: Value::Boolean(false) | Value::Null, .. })
    }

    /// The conjuncts of a condition: `a AND (b AND c)` as `[a, b, c]`.
    pub fn into_conjuncts(self, into: &mut Vec<Expr>) {
        match self {
            Expr::Binary { op: BinaryOp::And, left, right, .. } => {
                left.into_conjuncts(into);
                right.into_conjuncts(into);
            }
            other => into.push(other),
        }
    }

    pub fn conjunction(conjuncts: impl IntoIterator<Item = Expr>) -> Option<Expr> {
        Expr::combined(BinaryOp::And, conjuncts.into_iter().collect())
    }

    /// `a op b op …` of AND or OR, in this order; a long one as a balanced tree, so that it is not deep.
    pub fn combined(op: BinaryOp, mut parts: Vec<Expr>) -> Option<Expr> {
        if parts.len() > 32 {
            let later = parts.split_off(parts.len() / 2);
            let (left, right) = (Expr::combined(op, parts)?, Expr::combined(op, later)?);
            return Some(Expr::compare(op, left, right));
        }
        parts.into_iter().reduce(|left, right| Expr::compare(op, left, right))
    }

    /// `column op constant`, whichever side the column stands on in the text.
    pub fn as_column_comparison(&self) -> Option<(&Column, BinaryOp, &Value)> {
        let Expr::Binary { op, left, right, .. } = self else { return None };
        match (left.as_ref(), right.as_ref()) {
            (Expr::Column(column), Expr::Literal { value, .. }) if op.is_comparison() => Some((column, *op, value)),
            (Expr::Literal { value, .. }, Expr::Column(column)) => Some((column, op.mirrored()?, value)),
            _ => None,
        }
    }

    fn strength(&self) -> u8 {
        match self {
            Expr::Binary { op, .. } => op.binding_strength(),
            Expr::Not(_) => 2,
            Expr::IsNull { .. } | Expr::Like { .. } | Expr::InList { .. } => 3,
            _ => 10,
        }
    }
}

/// Writes the part in parentheses when it binds weaker than its surroundings.
struct Within<'a>(&'a Expr, u8);

impl fmt::Display for Within<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.0.strength() < self.1 { write!(f, "({})", self.0) } else { write!(f, "{}", self.0) }
    }
}

pub(crate) fn comma_separated<T: fmt::Display>(items: impl IntoIterator<Item = T>) -> String {
    items.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(", ")
}

impl fmt::Display for Expr {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let not = |negated: bool| if negated { "not " } else { "" };
        match self {
            Expr::Column(column) => column.fmt(f),
            Expr::Literal { value, .. } => value.fmt(f),
            Expr::Parameter { number, .. } => write!(f, "${number}"),
            Expr::Binary { op, left, right, .. } => {
                let strength = op.binding_strength();
                // The right side of a chain of one non-associative operator needs its parentheses.
                write!(
                    f,
                    "{} {} {}",
                    Within(left, strength),
                    op.symbol(),
                    Within(right, strength + u8::from(op.is_arithmetic()))
                )
            }
            Expr::Not(operand) => write!(f, "not {}", Within(operand, 4)),
            Expr::Negate(operand) => write!(f, "-{}", Within(operand, 7)),
            Expr::IsNull { operand, negated } => write!(f, "{} is {}null", Within(operand, 4), not(*negated)),
            Expr::Like { operand, pattern, negated, case_insensitive } => {
                let word = if *case_insensitive { "ilike" } else { "like" };
                write!(f, "{} {}{word} {}", Within(operand, 4), not(*negated), Within(pattern, 4))
            }
            Expr::InList { operand, list, negated } => {
                write!(f, "{} {}in ({})", Within(operand, 4), not(*negated), comma_separated(list))
            }
            Expr::Case { branches, otherwise, .. } => {
                f.write_str("case")?;
                for (when, then) in branches {
                    write!(f, " when {when} then {then}")?;
                }
                if !matches!(otherwise.as_ref(), Expr::Literal { value: Value::Null, .. }) {
                    write!(f, " else {otherwise}")?;
                }
                f.write_str(" end")
            }
            Expr::Cast { operand, sql_type } => write!(f, "{}::{sql_type}", Within(operand, 10)),
            Expr::Call { function: Function::DatePart, arguments, .. } => match arguments.as_slice() {
                [Expr::Literal { value: Value::Text(part), .. }, from] => write!(f, "extract({part} from {from})"),
                _ => write!(f, "date_part({})", comma_separated(arguments)),
            },
            Expr::Call { function, arguments, .. } => write!(f, "{}({})", function.name(), comma_separated(arguments)),
            Expr::Script { function, arguments } => write!(f, "{}({})", function.name, comma_separated(arguments)),
            Expr::Field { operand, name, .. } => write!(f, "{}.{name}", Within(operand, 10)),
            Expr::Subscript { operand, index, .. } => write!(f, "{}[{index}]", Within(operand, 10)),
        }
    }
}
