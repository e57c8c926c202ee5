//! Window functions: OVER clauses, named windows and frames.

use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{LogicalPlan, SortKey};
use cobble_plan::window::{Frame, FrameBound, FrameExclusion, FrameUnit, Ranking, WindowCall, WindowFunction};
use cobble_types::{Code, Error, Result, SqlType};
use sqlparser::ast::{self, Spanned};

use super::scope::Scope;
use super::{Binder, folded, position_of};
use crate::coerce::{binary, coerce, settle};
use crate::reworded::exclude::exclusion_of;

/// One call, computed into a column, with what it is computed over.
#[derive(Clone)]
pub(super) struct WindowUse {
    pub partition: Vec<Expr>,
    pub order: Vec<SortKey>,
    pub column: Column,
    pub call: WindowCall,
}

/// A row number within the partition, as a call.
pub(super) fn ranking(function: Ranking) -> WindowCall {
    WindowCall {
        function: WindowFunction::Ranking { function, arguments: vec![], ignore_nulls: false },
        frame: Frame::default(),
        sql_type: SqlType::BigInt,
    }
}

/// The plan with one window step for each partition and order among the calls.
pub(super) fn windowed(mut plan: LogicalPlan, mut uses: Vec<WindowUse>) -> LogicalPlan {
    while let Some(first) = uses.first() {
        let (partition, order) = (first.partition.clone(), first.order.clone());
        let (same, rest): (Vec<_>, Vec<_>) =
            uses.into_iter().partition(|u| u.partition == partition && u.order == order);
        let calls = same.into_iter().map(|u| (u.column, u.call)).collect();
        plan = LogicalPlan::Window { input: plan.into(), partition, order, calls };
        uses = rest;
    }
    plan
}

/// What OVER says, bound.
struct Over<'a> {
    partition: Vec<Expr>,
    order: Vec<SortKey>,
    frame: Option<&'a ast::WindowFrame>,
    exclusion: FrameExclusion,
}

impl<'a> Binder<'a> {
    pub(super) fn window_call(
        &mut self,
        name: &str,
        call: &'a ast::Function,
        over: &'a ast::WindowType,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<Expr> {
        let position = position_of(call.name.span());
        let allowed = self.select.as_ref().is_some_and(|s| s.windows_allowed);
        if !allowed {
            // Inside an aggregate it is the aggregate's fault.
            let in_aggregate = self.select.as_ref().is_some_and(|s| s.in_aggregate);
            let code = if in_aggregate { Code::Grouping } else { Code::WindowPlace };
            return Err(Error::new(code, format!("the window function {name}() cannot stand here"))
                .hint("window functions belong in SELECT, ORDER BY and QUALIFY; filter them with QUALIFY or a subquery")
                .at(position));
        }
        if let Some(select) = &mut self.select {
            select.windows_allowed = false;
        }
        let bound = self.window_use(name, call, over, list, scope);
        if let Some(select) = &mut self.select {
            select.windows_allowed = true;
        }
        let (over, call) = bound?;
        let found = self.select.as_ref().and_then(|select| {
            let same = |u: &&WindowUse| u.call == call && u.partition == over.partition && u.order == over.order;
            select.windows.iter().find(same).map(|u| u.column.clone())
        });
        let column = match found {
            Some(column) => column,
            None => {
                let column = self.new_column(None, name, call.sql_type.clone());
                let own = WindowUse { partition: over.partition, order: over.order, column: column.clone(), call };
                if let Some(select) = &mut self.select {
                    select.windows.push(own);
                }
                column
            }
        };
        Ok(Expr::Column(column))
    }

    fn window_use(
        &mut self,
        name: &str,
        call: &'a ast::Function,
        over: &'a ast::WindowType,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<(Over<'a>, WindowCall)> {
        let over = self.over(over, scope)?;
        let mut frame = self.frame(over.frame, over.exclusion, &over.order, scope)?;
        let ignore_nulls = null_treatment(call) == Some(ast::NullTreatment::IgnoreNulls);
        if null_treatment(call).is_some()
            && !Ranking::by_name(name).is_some_and(|function| function.entry().takes_a_value)
        {
            return Err(nulls_are_not_passed_over(name, call));
        }
        let (function, sql_type) = match Ranking::by_name(name) {
            Some(function) => {
                if let ast::FunctionArguments::List(list) = &call.args
                    && (list.duplicate_treatment.is_some() || list.clauses.iter().any(|c| !is_null_treatment(c)))
                {
                    return Err(Error::new(
                        Code::Syntax,
                        format!("DISTINCT and ORDER BY have no meaning for {name}()"),
                    )
                    .at(position_of(call.name.span())));
                }
                if call.filter.is_some() {
                    return Err(Error::new(Code::Syntax, format!("FILTER has no meaning for {name}")));
                }
                let mut arguments = Vec::new();
                for argument in list {
                    match argument {
                        ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(e)) => {
                            arguments.push(self.expr(e, scope)?)
                        }
                        other => return Err(Error::unsupported(format_args!("the argument {other} of {name}()"))),
                    }
                }
                let found = function.overload(arguments.iter().map(Expr::sql_type)).ok_or_else(|| {
                    let given: Vec<String> = arguments.iter().map(|a| a.sql_type().to_string()).collect();
                    let what = format!("{name}({}) does not exist", given.join(", "));
                    Error::new(Code::UnknownFunction, what)
                        .hint(format!("it is called as {name}({})", function.entry().arguments))
                })?;
                let arguments = crate::function::coerced(arguments, &found.arguments)?;
                if !function.entry().framed {
                    // Ranks look at the whole partition whatever the frame.
                    frame = Frame::default();
                }
                (WindowFunction::Ranking { function, arguments, ignore_nulls }, found.returns)
            }
            None => {
                let Some(function) = cobble_plan::AggregateFunction::by_name(name) else {
                    let known = Ranking::ALL.iter().map(|f| f.name());
                    let all = known.chain(cobble_plan::AggregateFunction::ALL.iter().map(|f| f.name()));
                    return Err(Error::unknown("window function", name, all.collect::<Vec<_>>()));
                };
                let aggregate = self.aggregate_call(function, call, list, scope)?;
                let sql_type = aggregate.sql_type.clone();
                (WindowFunction::Aggregate(aggregate), sql_type)
            }
        };
        Ok((over, WindowCall { function, frame, sql_type }))
    }

    /// Partition, order and frame, completed from the named window that is built upon.
    fn over(&mut self, over: &'a ast::WindowType, scope: &Scope) -> Result<Over<'a>> {
        let spec = match over {
            ast::WindowType::NamedWindow(name) => self.named_window(name)?,
            ast::WindowType::WindowSpec(spec) => spec,
        };
        let base = match &spec.window_name {
            Some(name) => Some(self.named_window(name)?),
            None => None,
        };
        let exclusion = spec.partition_by.iter().find_map(exclusion_of).unwrap_or(FrameExclusion::NoOthers);
        if let (Some(base), Some(name)) = (base, &spec.window_name) {
            let own_partition = spec.partition_by.iter().any(|key| exclusion_of(key).is_none());
            let twice = [
                (own_partition, "PARTITION BY"),
                (!base.order_by.is_empty() && !spec.order_by.is_empty(), "ORDER BY"),
                (base.window_frame.is_some(), "a frame"),
            ];
            if let Some((_, what)) = twice.into_iter().find(|(is_so, _)| *is_so) {
                let what = match what {
                    "PARTITION BY" => "a window that builds on another takes its PARTITION BY".to_owned(),
                    other => format!("the window \"{}\" has {other} already", folded(name)),
                };
                return Err(Error::new(Code::WindowPlace, what).at(position_of(name.span)));
            }
        }
        let partition = base.filter(|b| !b.partition_by.is_empty()).map_or(&spec.partition_by, |b| &b.partition_by);
        let order = base.filter(|b| !b.order_by.is_empty()).map_or(&spec.order_by, |b| &b.order_by);
        let mut bound = Vec::new();
        for key in partition.iter().filter(|key| exclusion_of(key).is_none()) {
            let key = settle(self.expr(key, scope)?)?;
            if !bound.contains(&key) {
                bound.push(key);
            }
        }
        let mut keys = Vec::new();
        for key in order {
            keys.push(self.inner_sort_key(key, scope)?);
        }
        Ok(Over { partition: bound, order: keys, frame: spec.window_frame.as_ref(), exclusion })
    }

    fn named_window(&self, name: &ast::Ident) -> Result<&'a ast::WindowSpec> {
        let wanted = folded(name);
        let known = self.select.as_ref().map(|s| s.named_windows.as_slice()).unwrap_or_default();
        match known.iter().find(|(name, _)| *name == wanted) {
            Some((_, spec)) => Ok(*spec),
            None => Err(Error::unknown("window", &wanted, known.iter().map(|(name, _)| name.as_str()))
                .at(position_of(name.span))),
        }
    }

    fn frame(
        &mut self,
        written: Option<&'a ast::WindowFrame>,
        exclusion: FrameExclusion,
        order: &[SortKey],
        scope: &Scope,
    ) -> Result<Frame> {
        let Some(written) = written else { return Ok(Frame::default()) };
        let unit = match written.units {
            ast::WindowFrameUnits::Rows => FrameUnit::Rows,
            ast::WindowFrameUnits::Range => FrameUnit::Range,
            ast::WindowFrameUnits::Groups => FrameUnit::Groups,
        };
        if unit == FrameUnit::Groups && order.is_empty() {
            return Err(Error::new(Code::WindowPlace, "GROUPS needs an ORDER BY in the window"));
        }
        let start = self.bound(&written.start_bound, unit, order, scope)?;
        let end = match &written.end_bound {
            Some(end) => self.bound(end, unit, order, scope)?,
            None => FrameBound::CurrentRow,
        };
        let order_of = |bound: &FrameBound| match bound {
            FrameBound::UnboundedPreceding => 0,
            FrameBound::Preceding(_) => 1,
            FrameBound::CurrentRow => 2,
            FrameBound::Following(_) => 3,
            FrameBound::UnboundedFollowing => 4,
        };
        if order_of(&start) > order_of(&end)
            || start == FrameBound::UnboundedFollowing
            || end == FrameBound::UnboundedPreceding
        {
            return Err(Error::new(Code::WindowPlace, format!("a frame cannot go from {start} to {end}")));
        }
        Ok(Frame { unit, start, end, exclusion })
    }

    fn bound(
        &mut self,
        written: &'a ast::WindowFrameBound,
        unit: FrameUnit,
        order: &[SortKey],
        scope: &Scope,
    ) -> Result<FrameBound> {
        let (distance, preceding) = match written {
            ast::WindowFrameBound::CurrentRow => return Ok(FrameBound::CurrentRow),
            ast::WindowFrameBound::Preceding(None) => return Ok(FrameBound::UnboundedPreceding),
            ast::WindowFrameBound::Following(None) => return Ok(FrameBound::UnboundedFollowing),
            ast::WindowFrameBound::Preceding(Some(distance)) => (distance, true),
            ast::WindowFrameBound::Following(Some(distance)) => (distance, false),
        };
        let bound = self.expr(distance, scope)?;
        let bound = if unit == FrameUnit::Range {
            let [key] = order else {
                return Err(Error::new(Code::WindowPlace, "RANGE with a distance needs exactly one ORDER BY key")
                    .at(position_of(distance.span())));
            };
            // The key's value at the bound, which the rows are compared with.
            let op = if preceding != key.descending { BinaryOp::Minus } else { BinaryOp::Plus };
            let distance_type = match key.expr.sql_type() {
                SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz | SqlType::Time => SqlType::Interval,
                other => other,
            };
            let bound = if crate::coerce::is_untyped(&bound) { coerce(bound, &distance_type)? } else { bound };
            binary(op, key.expr.clone(), bound)?
        } else {
            coerce(bound, &SqlType::BigInt)?
        };
        Ok(if preceding { FrameBound::Preceding(bound) } else { FrameBound::Following(bound) })
    }
}

fn is_null_treatment(clause: &ast::FunctionArgumentClause) -> bool {
    matches!(clause, ast::FunctionArgumentClause::IgnoreOrRespectNulls(_))
}

/// IGNORE or RESPECT NULLS, which may stand inside the parentheses or behind them.
pub(super) fn null_treatment(call: &ast::Function) -> Option<ast::NullTreatment> {
    let inside = match &call.args {
        ast::FunctionArguments::List(list) => list.clauses.iter().find_map(|clause| match clause {
            ast::FunctionArgumentClause::IgnoreOrRespectNulls(treatment) => Some(*treatment),
            _ => None,
        }),
        _ => None,
    };
    call.null_treatment.or(inside)
}

pub(super) fn nulls_are_not_passed_over(name: &str, call: &ast::Function) -> Error {
    Error::new(Code::Syntax, format!("IGNORE NULLS and RESPECT NULLS have no meaning for {name}()"))
        .hint("they belong to lag, lead, first_value, last_value and nth_value over a window")
        .at(position_of(call.name.span()))
}
