//! Expressions compiled for the columns of one operator. Every node works on whole arrays; a constant stays one value until
//! an array is needed. CASE, AND, OR and COALESCE evaluate later parts only on the rows that reach them.

mod arithmetic;
mod arrays;
mod bytes;
mod calendar;
mod cast;
mod conditional;
mod degrees;
mod exact_math;
mod functions;
mod in_list;
pub(crate) mod json;
mod json_path;
pub(crate) mod json_tree;
mod like;
mod number_template;
mod numbers;
mod pattern;
mod script;
mod text;

use std::collections::HashMap;
use std::sync::Arc;

use arrow::array::*;
use arrow::compute::kernels::cmp;
use arrow::compute::{self, SortOptions, and_kleene, or_kleene};
use arrow::datatypes::{DataType, Float32Type, Float64Type, IntervalMonthDayNano, IntervalMonthDayNanoType};
use arrow::row::{RowConverter, SortField};
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::function::Function;
use cobble_plan::scan::{BatchPredicate, PredicateCompiler};
use cobble_types::deep::level;
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value};

use self::in_list::ConstantSet;
use self::like::Segments;

pub(crate) use arithmetic::divide as arithmetic_divide;
pub(crate) use pattern::{all_matches, split as split_by_pattern};
pub use script::Script;

/// The outcome for a batch: one value per row, or one for all.
#[derive(Debug, Clone)]
pub enum Evaluated {
    Array(ArrayRef),
    /// An array of one row.
    Scalar(ArrayRef),
}

impl Evaluated {
    pub fn into_array(self, rows: usize) -> Result<ArrayRef> {
        match self {
            Evaluated::Array(array) => Ok(array),
            Evaluated::Scalar(one) if rows == 1 => Ok(one),
            Evaluated::Scalar(one) => {
                let places = UInt32Array::from(vec![0; rows]);
                Ok(compute::take(one.as_ref(), &places, None)?)
            }
        }
    }

    fn array(&self) -> &ArrayRef {
        match self {
            Evaluated::Array(array) | Evaluated::Scalar(array) => array,
        }
    }

    fn is_scalar(&self) -> bool {
        matches!(self, Evaluated::Scalar(_))
    }

    /// The place in `array()` that holds the value for `row`.
    fn place(&self, row: usize) -> usize {
        if self.is_scalar() { 0 } else { row }
    }

    /// Wraps a kernel's output, which has one row when all inputs were constants.
    fn like(array: ArrayRef, inputs: &[&Evaluated]) -> Evaluated {
        if inputs.iter().all(|input| input.is_scalar()) { Evaluated::Scalar(array) } else { Evaluated::Array(array) }
    }
}

impl Datum for Evaluated {
    fn get(&self) -> (&dyn Array, bool) {
        (self.array().as_ref(), self.is_scalar())
    }
}

/// An expression ready to be evaluated on batches of one shape.
#[derive(Debug)]
pub struct Compiled {
    node: Box<Node>,
    data_type: DataType,
}

#[derive(Debug)]
enum Node {
    Column(usize),
    Literal(ArrayRef),
    Arithmetic {
        op: BinaryOp,
        left: Compiled,
        right: Compiled,
    },
    /// The same with its text, for the error of a divisor that is 0.
    Division {
        op: BinaryOp,
        left: Compiled,
        right: Compiled,
        text: String,
    },
    Compare {
        op: BinaryOp,
        left: Compiled,
        right: Compiled,
    },
    Logic {
        or: bool,
        left: Compiled,
        right: Compiled,
        right_may_fail: bool,
    },
    Not(Compiled),
    Negate(Compiled),
    IsNull {
        operand: Compiled,
        negated: bool,
    },
    Like {
        operand: Compiled,
        pattern: Compiled,
        negated: bool,
        case_insensitive: bool,
    },
    InList {
        operand: Compiled,
        list: Vec<Compiled>,
        negated: bool,
    },
    InSet {
        operand: Compiled,
        set: Arc<ConstantSet>,
        negated: bool,
    },
    Case {
        branches: Vec<(Compiled, Compiled)>,
        otherwise: Compiled,
    },
    Cast {
        operand: Compiled,
        from: SqlType,
        to: SqlType,
    },
    Concat {
        left: Compiled,
        right: Compiled,
    },
    Coalesce(Vec<Compiled>),
    Call {
        function: Function,
        arguments: Vec<Compiled>,
    },
    Script {
        script: Box<Script>,
        arguments: Vec<Compiled>,
    },
    Field {
        operand: Compiled,
        name: String,
    },
    Subscript {
        operand: Compiled,
        index: Compiled,
    },
}

/// Where each column stands in the batches of one operator.
pub struct Places(HashMap<ColumnId, usize>);

impl Places {
    pub fn of(columns: &[Column]) -> Places {
        Places(columns.iter().enumerate().map(|(i, column)| (column.id, i)).collect())
    }

    pub fn compile(&self, expr: &Expr) -> Result<Compiled> {
        let data_type = expr.sql_type().to_arrow();
        let node = match expr {
            Expr::Column(column) => match self.0.get(&column.id) {
                Some(place) => Node::Column(*place),
                None => {
                    return Err(Error::internal(format!("the column {column} does not reach the step that uses it")));
                }
            },
            Expr::Literal { value, sql_type } => Node::Literal(value.to_array(sql_type)),
            Expr::Parameter { .. } => return Err(Error::internal(format!("{expr} has no value"))),
            Expr::Binary { op, left, right, .. } => {
                let right_may_fail = may_fail(right);
                let (left, right) = (self.compile(left)?, self.compile(right)?);
                match op {
                    BinaryOp::And => Node::Logic { or: false, left, right, right_may_fail },
                    BinaryOp::Or => Node::Logic { or: true, left, right, right_may_fail },
                    BinaryOp::Concat => Node::Concat { left, right },
                    op if op.is_comparison() => Node::Compare { op: *op, left, right },
                    BinaryOp::Divide | BinaryOp::Modulo => {
                        Node::Division { op: *op, left, right, text: expr.to_string() }
                    }
                    op => Node::Arithmetic { op: *op, left, right },
                }
            }
            Expr::Not(operand) => Node::Not(self.compile(operand)?),
            Expr::Negate(operand) => Node::Negate(self.compile(operand)?),
            Expr::IsNull { operand, negated } => Node::IsNull { operand: self.compile(operand)?, negated: *negated },
            Expr::Like { operand, pattern, negated, case_insensitive } => Node::Like {
                operand: self.compile(operand)?,
                pattern: self.compile(pattern)?,
                negated: *negated,
                case_insensitive: *case_insensitive,
            },
            Expr::InList { operand, list, negated } => match ConstantSet::of(operand, list)? {
                Some(set) => Node::InSet { operand: self.compile(operand)?, set: Arc::new(set), negated: *negated },
                None => {
                    Node::InList { operand: self.compile(operand)?, list: self.compile_all(list)?, negated: *negated }
                }
            },
            Expr::Case { branches, otherwise, .. } => Node::Case {
                branches: branches
                    .iter()
                    .map(|(when, then)| Ok((self.compile(when)?, self.compile(then)?)))
                    .collect::<Result<_>>()?,
                otherwise: self.compile(otherwise)?,
            },
            Expr::Cast { operand, sql_type } => {
                Node::Cast { from: operand.sql_type(), operand: self.compile(operand)?, to: sql_type.clone() }
            }
            Expr::Call { function: Function::Coalesce, arguments, .. } => Node::Coalesce(self.compile_all(arguments)?),
            Expr::Call { function, arguments, .. } => {
                Node::Call { function: *function, arguments: self.compile_all(arguments)? }
            }
            Expr::Script { function, arguments } => {
                Node::Script { script: Box::new(Script::read(function)?), arguments: self.compile_all(arguments)? }
            }
            Expr::Field { operand, name, .. } => Node::Field { operand: self.compile(operand)?, name: name.clone() },
            Expr::Subscript { operand, index, .. } => {
                Node::Subscript { operand: self.compile(operand)?, index: self.compile(index)? }
            }
        };
        Ok(Compiled { node: Box::new(node), data_type })
    }

    fn compile_all(&self, all: &[Expr]) -> Result<Vec<Compiled>> {
        all.iter().map(|expr| self.compile(expr)).collect()
    }
}

/// True when evaluating may raise an error on some row, such as a division or a cast from text.
fn may_fail(expr: &Expr) -> bool {
    expr.any(&|e| match e {
        Expr::Binary { op, .. } => op.is_arithmetic(),
        Expr::Cast { .. } | Expr::Negate(_) | Expr::Call { .. } | Expr::Script { .. } => true,
        _ => false,
    })
}

impl Compiled {
    pub fn data_type(&self) -> &DataType {
        &self.data_type
    }

    /// The place of the column this expression is, when it is nothing more.
    pub fn as_column(&self) -> Option<usize> {
        if let Node::Column(place) = *self.node { Some(place) } else { None }
    }

    /// One value per row of the batch.
    pub fn array(&self, batch: &RecordBatch) -> Result<ArrayRef> {
        self.evaluate(batch)?.into_array(batch.num_rows())
    }

    pub fn evaluate(&self, batch: &RecordBatch) -> Result<Evaluated> {
        level(|| self.evaluated(batch))
    }

    fn evaluated(&self, batch: &RecordBatch) -> Result<Evaluated> {
        Ok(match self.node.as_ref() {
            Node::Column(place) => Evaluated::Array(batch.column(*place).clone()),
            Node::Literal(one) => Evaluated::Scalar(one.clone()),
            Node::Arithmetic { op, left, right } => {
                let (l, r) = (left.evaluate(batch)?, right.evaluate(batch)?);
                let array = arithmetic::compute(*op, &l, &r, &self.data_type)?;
                Evaluated::like(array, &[&l, &r])
            }
            Node::Division { op, left, right, text } => {
                let (l, r) = (left.evaluate(batch)?, right.evaluate(batch)?);
                let array = arithmetic::compute(*op, &l, &r, &self.data_type).map_err(|error| match error.code {
                    Code::DivisionByZero => {
                        error.hint(format!("the divisor of {text} was 0; nullif(divisor, 0) makes such a value null"))
                    }
                    _ => error,
                })?;
                Evaluated::like(array, &[&l, &r])
            }
            Node::Compare { op, left, right } => {
                let (l, r) = (left.evaluate(batch)?, right.evaluate(batch)?);
                let array = compare(*op, &l, &r)?;
                Evaluated::like(Arc::new(array), &[&l, &r])
            }
            Node::Logic { or, left, right, right_may_fail } => {
                conditional::logic(*or, left, right, *right_may_fail, batch)?
            }
            Node::Not(operand) => {
                let value = operand.evaluate(batch)?;
                let array = compute::not(value.array().as_boolean())?;
                Evaluated::like(Arc::new(array), &[&value])
            }
            Node::Negate(operand) => {
                let value = operand.evaluate(batch)?;
                let array = match value.array().as_primitive_opt::<IntervalMonthDayNanoType>() {
                    Some(spans) => arithmetic::negated(spans)?,
                    None => compute::kernels::numeric::neg(value.array().as_ref())?,
                };
                Evaluated::like(array, &[&value])
            }
            Node::IsNull { operand, negated } => {
                let value = operand.evaluate(batch)?;
                let array = value.array();
                let array = if *negated { compute::is_not_null(array)? } else { compute::is_null(array)? };
                Evaluated::like(Arc::new(array), &[&value])
            }
            Node::Like { operand, pattern, negated, case_insensitive } => {
                let (text, pattern) = (operand.evaluate(batch)?, pattern.evaluate(batch)?);
                let segments = match pattern.array().as_string_view_opt() {
                    Some(one) if pattern.is_scalar() && one.is_valid(0) && !case_insensitive => {
                        Segments::of(one.value(0))
                    }
                    _ => None,
                };
                if let (Some(segments), Some(texts)) = (segments, text.array().as_string_view_opt()) {
                    return Ok(Evaluated::like(Arc::new(segments.like(texts, *negated)), &[&text]));
                }
                let array = match (case_insensitive, negated) {
                    (false, false) => compute::like(&text, &pattern)?,
                    (false, true) => compute::nlike(&text, &pattern)?,
                    (true, false) => compute::ilike(&text, &pattern)?,
                    (true, true) => compute::nilike(&text, &pattern)?,
                };
                Evaluated::like(Arc::new(array), &[&text, &pattern])
            }
            Node::InList { operand, list, negated } => {
                // x IN (a, b) is x = a OR x = b, with SQL's nulls.
                let mut value = operand.evaluate(batch)?;
                let items = list.iter().map(|item| item.evaluate(batch)).collect::<Result<Vec<_>>>()?;
                // A constant is looked for in each row's own list.
                if value.is_scalar() && items.iter().any(|item| !item.is_scalar()) {
                    value = Evaluated::Array(value.into_array(batch.num_rows())?);
                }
                let mut found: Option<BooleanArray> = None;
                for item in items {
                    let item = item.into_array(if value.is_scalar() { 1 } else { batch.num_rows() })?;
                    let equal = compare(BinaryOp::Eq, &value, &as_operand(item, &value))?;
                    found = Some(match found {
                        Some(before) => or_kleene(&before, &equal)?,
                        None => equal,
                    });
                }
                let found = found.ok_or_else(|| Error::internal("IN without a list"))?;
                let found = if *negated { compute::not(&found)? } else { found };
                Evaluated::like(Arc::new(found), &[&value])
            }
            Node::InSet { operand, set, negated } => {
                let value = operand.evaluate(batch)?;
                Evaluated::like(Arc::new(set.contains(value.array(), *negated)?), &[&value])
            }
            Node::Case { branches, otherwise } => {
                Evaluated::Array(conditional::case(branches, otherwise, &self.data_type, batch)?)
            }
            Node::Coalesce(arguments) => Evaluated::Array(conditional::coalesce(arguments, &self.data_type, batch)?),
            Node::Cast { operand, from, to } => {
                let value = operand.evaluate(batch)?;
                let array = cast::cast(value.array(), from, to)?;
                Evaluated::like(array, &[&value])
            }
            Node::Concat { left, right } => {
                let (l, r) = (left.evaluate(batch)?, right.evaluate(batch)?);
                let rows = if l.is_scalar() && r.is_scalar() { 1 } else { batch.num_rows() };
                Evaluated::like(text::concat_pair(&l, &r, rows), &[&l, &r])
            }
            Node::Script { script, arguments } => Evaluated::Array(script.call(arguments, batch)?),
            Node::Call { function, arguments } => {
                let values = arguments.iter().map(|a| a.evaluate(batch)).collect::<Result<Vec<_>>>()?;
                let all: Vec<&Evaluated> = values.iter().collect();
                let constant = all.iter().all(|v| v.is_scalar()) && !function.is_volatile();
                let rows = if constant { 1 } else { batch.num_rows() };
                let array = functions::call(*function, &all, rows, &self.data_type)?;
                if constant { Evaluated::Scalar(array) } else { Evaluated::Array(array) }
            }
            Node::Field { operand, name } => {
                let value = operand.evaluate(batch)?;
                let parts = value.array().as_struct();
                let field = parts
                    .column_by_name(name)
                    .ok_or_else(|| Error::internal(format!("the row has no field {name}")))?;
                // A null row has null fields, whatever its children hold.
                let nulls = arrow::buffer::NullBuffer::union(parts.nulls(), field.nulls());
                let data = field.to_data().into_builder().nulls(nulls).build()?;
                Evaluated::like(make_array(data), &[&value])
            }
            Node::Subscript { operand, index } => {
                let (array, index) = (operand.evaluate(batch)?, index.evaluate(batch)?);
                let rows = if array.is_scalar() && index.is_scalar() { 1 } else { batch.num_rows() };
                Evaluated::like(subscript(&array, &index, rows)?, &[&array, &index])
            }
        })
    }
}

/// A constant list item stays a scalar to a kernel that takes arrays on the left.
fn as_operand(item: ArrayRef, beside: &Evaluated) -> Evaluated {
    if beside.is_scalar() { Evaluated::Scalar(item) } else { Evaluated::Array(item) }
}

fn subscript(array: &Evaluated, index: &Evaluated, rows: usize) -> Result<ArrayRef> {
    let lists = array.array().as_list::<i32>();
    let index_values = index.array().as_primitive::<arrow::datatypes::Int64Type>();
    let offsets = lists.value_offsets();
    let places: UInt32Array = (0..rows)
        .map(|row| {
            let (list, at) = (array.place(row), index.place(row));
            if lists.is_null(list) || index_values.is_null(at) {
                return None;
            }
            let (start, end) = (i64::from(offsets[list]), i64::from(offsets[list + 1]));
            let place = start.checked_add(index_values.value(at))?.checked_sub(1)?;
            (index_values.value(at) >= 1 && place < end).then_some(place as u32)
        })
        .collect();
    Ok(compute::take(lists.values().as_ref(), &places, None)?)
}

/// Minus zero as zero: SQL's numbers have one zero, and the comparison kernels order the two.
pub(crate) fn one_zero(array: &ArrayRef) -> ArrayRef {
    match array.data_type() {
        DataType::Float64 => Arc::new(array.as_primitive::<Float64Type>().unary::<_, Float64Type>(|v| v + 0.0)),
        DataType::Float32 => Arc::new(array.as_primitive::<Float32Type>().unary::<_, Float32Type>(|v| v + 0.0)),
        _ => array.clone(),
    }
}

/// An array whose values compare as SQL compares them: one zero, intervals by their length.
pub(crate) fn comparable(array: &ArrayRef) -> ArrayRef {
    match array.data_type() {
        DataType::Interval(_) => {
            let spans = array.as_primitive::<IntervalMonthDayNanoType>();
            Arc::new(spans.unary::<_, IntervalMonthDayNanoType>(|span| {
                let (day, length) = (86_400_000_000_000, interval_length(span));
                let days = length.div_euclid(day).clamp(i32::MIN.into(), i32::MAX.into()) as i32;
                IntervalMonthDayNano::new(0, days, length.rem_euclid(day) as i64)
            }))
        }
        _ => one_zero(array),
    }
}

/// Nanoseconds of an interval at 30 days to a month and 24 hours to a day.
pub(crate) fn interval_length(v: IntervalMonthDayNano) -> i128 {
    (i128::from(v.months) * 30 + i128::from(v.days)) * 86_400_000_000_000 + i128::from(v.nanoseconds)
}

/// Arrays and rows are compared part by part, by way of the row format; a null inside is greater than any value.
fn compare_nested(op: BinaryOp, left: &Evaluated, right: &Evaluated) -> Result<BooleanArray> {
    let last = SortOptions { descending: false, nulls_first: false };
    let field = SortField::new_with_options(left.array().data_type().clone(), last);
    let converter = RowConverter::new(vec![field])?;
    let (l, r) =
        (converter.convert_columns(&[left.array().clone()])?, converter.convert_columns(&[right.array().clone()])?);
    let rows = if left.is_scalar() { right.array().len() } else { left.array().len() };
    Ok((0..rows)
        .map(|row| {
            let (i, j) = (left.place(row), right.place(row));
            let (a, b) = (left.array().is_null(i), right.array().is_null(j));
            let order = l.row(i).cmp(&r.row(j));
            match op {
                BinaryOp::IsDistinctFrom => Some(order.is_ne()),
                BinaryOp::IsNotDistinctFrom => Some(order.is_eq()),
                _ if a || b => None,
                BinaryOp::Eq => Some(order.is_eq()),
                BinaryOp::NotEq => Some(order.is_ne()),
                BinaryOp::Lt => Some(order.is_lt()),
                BinaryOp::LtEq => Some(order.is_le()),
                BinaryOp::Gt => Some(order.is_gt()),
                _ => Some(order.is_ge()),
            }
        })
        .collect())
}

fn compare(op: BinaryOp, left: &Evaluated, right: &Evaluated) -> Result<BooleanArray> {
    if matches!(left.array().data_type(), DataType::List(_) | DataType::Struct(_)) {
        return compare_nested(op, left, right);
    }
    let normal = |side: &Evaluated| match side {
        Evaluated::Array(array) => Evaluated::Array(comparable(array)),
        Evaluated::Scalar(array) => Evaluated::Scalar(comparable(array)),
    };
    let (l, r) = (&normal(left), &normal(right));
    Ok(match op {
        BinaryOp::Eq => cmp::eq(l, r)?,
        BinaryOp::NotEq => cmp::neq(l, r)?,
        BinaryOp::Lt => cmp::lt(l, r)?,
        BinaryOp::LtEq => cmp::lt_eq(l, r)?,
        BinaryOp::Gt => cmp::gt(l, r)?,
        BinaryOp::GtEq => cmp::gt_eq(l, r)?,
        BinaryOp::IsDistinctFrom => cmp::distinct(l, r)?,
        BinaryOp::IsNotDistinctFrom => cmp::not_distinct(l, r)?,
        other => return Err(Error::internal(format!("{} is no comparison", other.symbol()))),
    })
}

/// Several conditions that must all hold; cheap ones first. One that may fail is evaluated only on the rows that have
/// passed those before it, so `n <> 0 AND x / n > 1` is safe.
#[derive(Debug)]
pub struct Conjunction(Vec<Conjunct>);

#[derive(Debug)]
struct Conjunct {
    condition: Compiled,
    may_fail: bool,
}

impl Conjunction {
    pub fn compile(conjuncts: &[Expr], columns: &[Column]) -> Result<Conjunction> {
        let places = Places::of(columns);
        let mut ordered: Vec<&Expr> = conjuncts.iter().collect();
        ordered.sort_by_key(|conjunct| cost(conjunct));
        let compiled = ordered
            .into_iter()
            .map(|c| Ok(Conjunct { condition: places.compile(c)?, may_fail: may_fail(c) }))
            .collect::<Result<_>>()?;
        Ok(Conjunction(compiled))
    }

    /// The rows for which all conditions are true, in one mask.
    pub fn mask(&self, batch: &RecordBatch) -> Result<BooleanArray> {
        let certain = |m: BooleanArray| if m.null_count() > 0 { compute::prep_null_mask_filter(&m) } else { m };
        let mut mask: Option<BooleanArray> = None;
        for Conjunct { condition, may_fail } in &self.0 {
            mask = Some(match mask {
                None => certain(condition.array(batch)?.as_boolean().clone()),
                Some(before) if before.true_count() == 0 => return Ok(before),
                Some(before) if *may_fail => certain(conditional::among(condition, batch, &before)?),
                Some(before) => certain(and_kleene(&before, condition.array(batch)?.as_boolean())?),
            });
        }
        Ok(mask.unwrap_or_else(|| BooleanArray::from(vec![true; batch.num_rows()])))
    }
}

/// How much work a condition is, roughly: text patterns and functions after plain comparisons, what can fail last.
fn cost(expr: &Expr) -> u32 {
    let own = match expr {
        Expr::Like { .. } => 20,
        Expr::Call { .. } => 15,
        Expr::Script { .. } => 500,
        Expr::Cast { .. } => 10,
        Expr::InList { list, .. } => 2 + list.len() as u32,
        Expr::Case { .. } => 10,
        _ if expr.sql_type() == SqlType::Text => 3,
        _ => 1,
    };
    own + expr.children().into_iter().map(cost).sum::<u32>()
}

/// The engine's expressions as connectors borrow them.
#[derive(Debug, Default)]
pub struct Compiler;

struct CompiledPredicate(Compiled);

impl BatchPredicate for CompiledPredicate {
    fn evaluate(&self, batch: &RecordBatch) -> Result<BooleanArray> {
        let array = self.0.array(batch)?;
        let mask = array.as_boolean();
        Ok(if mask.null_count() > 0 { compute::prep_null_mask_filter(mask) } else { mask.clone() })
    }
}

impl PredicateCompiler for Compiler {
    fn compile(&self, condition: &Expr, columns: &[Column]) -> Result<Arc<dyn BatchPredicate>> {
        Ok(Arc::new(CompiledPredicate(Places::of(columns).compile(condition)?)))
    }
}

/// The value of an expression without columns, or `None` when it cannot be computed: then it fails where a row meets it.
pub fn fold_constant(expr: &Expr) -> Option<Expr> {
    let sql_type = expr.sql_type();
    let compiled = Places::of(&[]).compile(expr).ok()?;
    let schema = Arc::new(arrow::datatypes::Schema::empty());
    let one = crate::batch::batch_of(&schema, vec![], 1).ok()?;
    let array = compiled.array(&one).ok()?;
    let value = Value::from_array(array.as_ref(), 0)?;
    Some(Expr::Literal { value, sql_type })
}
