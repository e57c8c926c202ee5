//! Which manifests and files can hold a wanted row: by the partition values of a manifest, of a file, and by the bounds of a file's columns.
//! "No" is certain, "yes" is a maybe.

use cobble_format::prune::{Range, Ranges, all_match, may_match};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::{ColumnId, SqlType, Value};

use crate::bounds;
use crate::manifest::{Entry, EntryShape};
use crate::manifest_list::Summary;
use crate::metadata::{PartitionField, Spec};
use crate::schema::{Kind, Schema, Told};
use crate::transform::Transform;

/// What is asked of a table: conditions that all must hold, and which columns they speak of.
#[derive(Debug, Clone, Default)]
pub struct Question {
    pub conditions: Vec<Expr>,
    /// For each column its id in the table.
    pub columns: Vec<(ColumnId, i32)>,
}

/// A question to the files of one partitioning.
#[derive(Debug)]
pub struct Pruner<'q> {
    question: &'q Question,
    spec: &'q Spec,
    schema: &'q Schema,
    /// Fields of the partitioning that are made of a column that is asked for.
    fields: Vec<(usize, ColumnId, &'q Kind)>,
    /// Columns with the bounds that files may have of them.
    bounded: Vec<(ColumnId, i32, &'q Kind)>,
    /// The last partition, and whether it can hold a row.
    last: Option<(Vec<u8>, bool)>,
}

/// The conditions that all rows of the last partition fulfil.
#[derive(Debug, Default)]
pub struct OfPartition {
    values: Option<Vec<u8>>,
    certain: Vec<usize>,
}

/// What is known of the partition values of a field in all files of a manifest.
pub(crate) fn of_summary(summary: &Summary, kind: &Kind) -> Range {
    let bound = |bytes: &Option<Vec<u8>>| bounds::value(kind, bytes.as_deref()?);
    let (min, max) = (bound(&summary.lower), bound(&summary.upper));
    let may_be_nan = is_float(kind) && summary.has_nan != Some(false);
    let all_null = min.is_none() && summary.lower.is_none() && summary.has_null && !may_be_nan;
    Range { min, max, all_null, may_be_null: summary.has_null, may_be_nan }
}

fn is_float(kind: &Kind) -> bool {
    matches!(kind, Kind::Float | Kind::Double)
}

fn of_value(value: &Value) -> Range {
    match value.is_null() {
        true => Range { all_null: true, may_be_null: true, ..Range::default() },
        false => Range::single(value.clone()),
    }
}

impl<'q> Pruner<'q> {
    pub fn new(question: &'q Question, spec: &'q Spec, schema: &'q Schema) -> Pruner<'q> {
        let kind_of = |id: i32| schema.field(id).map(|field| &field.kind);
        let fields = spec
            .fields
            .iter()
            .enumerate()
            .filter_map(|(place, field)| {
                let (column, _) = question.columns.iter().find(|(_, id)| *id == field.source)?;
                Some((place, *column, kind_of(field.source)?))
            })
            .collect();
        let bounded = question.columns.iter().filter_map(|(column, id)| Some((*column, *id, kind_of(*id)?))).collect();
        Pruner { question, spec, schema, fields, bounded, last: None }
    }

    fn may(&self, ranges: &Ranges) -> bool {
        self.question.conditions.iter().all(|condition| may_match(condition, ranges))
    }

    /// Whether partition values in these ranges, one for each field, leave anything.
    fn partitions_may(&self, range_of: impl Fn(usize, &PartitionField) -> Option<Range>) -> bool {
        self.fields.iter().all(|(place, column, source)| {
            let field = &self.spec.fields[*place];
            let Some(partition) = range_of(*place, field) else { return true };
            if let Transform::Bucket(_) = field.transform {
                let conditions = &self.question.conditions;
                let hits = conditions.iter().all(|c| bucket_may_match(c, *column, source, field.transform, &partition));
                return hits && self.may(&Ranges::from([(*column, field.transform.source_range(source, &partition))]));
            }
            self.may(&Ranges::from([(*column, field.transform.source_range(source, &partition))]))
        })
    }

    /// Whether a manifest may name a file that may hold a wanted row.
    pub fn manifest_may(&self, summaries: Option<&[Summary]>) -> bool {
        let Some(all) = summaries else { return true };
        self.partitions_may(|place, field| {
            let source = self.schema.field(field.source)?;
            Some(of_summary(all.get(place)?, &field.transform.kind(&source.kind)))
        })
    }

    /// Whether a file may hold a wanted row, by its partition.
    pub fn partition_may(&mut self, entry: &Entry<'_>) -> Told<bool> {
        if self.fields.is_empty() {
            return Ok(true);
        }
        // Files of one partition mostly stand together.
        if let Some((last, may)) = self.last.as_ref().filter(|(last, _)| last == entry.partition) {
            debug_assert_eq!(last, entry.partition);
            return Ok(*may);
        }
        let may = self.values_may(&entry.partition_values(self.spec, self.schema)?);
        self.last = Some((entry.partition.to_vec(), may));
        Ok(may)
    }

    /// Whether a file of a partition with these values may hold a wanted row.
    pub fn values_may(&self, values: &[Value]) -> bool {
        self.partitions_may(|place, _| values.get(place).map(of_value))
    }

    /// The same of a partition as its bytes in a manifest.
    pub fn partition_values_may(&self, shape: &EntryShape, values: &[u8]) -> Told<bool> {
        Ok(self.values_may(&shape.partition_values(values, self.spec, self.schema)?))
    }

    /// Whether partitions decide anything.
    pub fn asks_partitions(&self) -> bool {
        !self.fields.is_empty()
    }

    /// Whether a file may hold a wanted row, by the bounds of its columns; if so, the conditions, by their places, that every row of it fulfils: by
    /// its partition, or by those bounds.
    pub fn certain(&self, entry: &Entry<'_>, of_partition: &mut OfPartition) -> Told<Option<Vec<usize>>> {
        let ranges = self.ranges(entry, None)?;
        if !self.may(&ranges) {
            return Ok(None);
        }
        // Files of one partition stand together.
        if of_partition.values.as_deref() != Some(entry.partition) {
            of_partition.certain.clear();
            of_partition.values = Some(entry.partition.to_vec());
            if !self.fields.is_empty() {
                let values = entry.partition_values(self.spec, self.schema)?;
                for (place, column, source) in &self.fields {
                    let Some(value) = values.get(*place).filter(|value| !value.is_null()) else { continue };
                    let range = self.spec.fields[*place].transform.source_range(source, &of_value(value));
                    let known = Ranges::from([(*column, range)]);
                    let conditions = self.question.conditions.iter().enumerate();
                    of_partition.certain.extend(conditions.filter(|(_, own)| all_match(own, &known)).map(|(at, _)| at));
                }
            }
        }
        let conditions = self.question.conditions.iter().enumerate();
        let is_certain =
            |(place, condition): &(usize, &Expr)| of_partition.certain.contains(place) || all_match(condition, &ranges);
        Ok(Some(conditions.filter(is_certain).map(|(place, _)| place).collect()))
    }

    /// Whether a file may hold a wanted row, by the bounds of its columns, or only of those of these ids.
    pub fn bounds_may(&self, entry: &Entry<'_>, only: Option<&[i32]>) -> Told<bool> {
        Ok(self.may(&self.ranges(entry, only)?))
    }

    fn ranges(&self, entry: &Entry<'_>, only: Option<&[i32]>) -> Told<Ranges> {
        let mut ranges = Ranges::new();
        for (column, id, kind) in self.bounded.iter().filter(|(_, id, _)| only.is_none_or(|only| only.contains(id))) {
            let known = entry.bounds(*id, kind)?;
            let all_null = known.values.is_some() && known.values == known.nulls;
            let may_be_nan = is_float(kind) && known.nans != Some(0);
            let may_be_null = known.nulls != Some(0);
            ranges.insert(*column, Range { min: known.min, max: known.max, all_null, may_be_null, may_be_nan });
        }
        Ok(ranges)
    }
}

/// Whether a row of these buckets can make a condition true: one that asks for values of the column does only in their buckets.
fn bucket_may_match(condition: &Expr, column: ColumnId, source: &Kind, transform: Transform, buckets: &Range) -> bool {
    let holds = |value: &Value| {
        // A value of another type may be hashed otherwise.
        let same = source.sql_type() == value.sql_type() || value.is_null();
        let bucket = transform.apply(value).filter(|_| same);
        let Some(bucket) = bucket.filter(|bucket| !bucket.is_null()) else { return true };
        let inside = |bound: &Option<Value>, wrong: std::cmp::Ordering| {
            bound.as_ref().and_then(|bound| bound.compare(&bucket)).is_none_or(|order| order != wrong)
        };
        inside(&buckets.min, std::cmp::Ordering::Greater) && inside(&buckets.max, std::cmp::Ordering::Less)
    };
    match condition {
        Expr::Binary { op: BinaryOp::And, left, right, .. } => {
            let each = |side: &Expr| bucket_may_match(side, column, source, transform, buckets);
            each(left) && each(right)
        }
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => {
            let each = |side: &Expr| bucket_may_match(side, column, source, transform, buckets);
            each(left) || each(right)
        }
        Expr::Binary { .. } => match condition.as_column_comparison() {
            Some((own, BinaryOp::Eq, value)) if own.id == column => holds(value),
            _ => true,
        },
        Expr::InList { operand, list, negated: false } => match operand.as_ref() {
            Expr::Column(own) if own.id == column => list.iter().any(|item| match item {
                Expr::Literal { value, .. } => holds(value),
                _ => true,
            }),
            _ => true,
        },
        _ => true,
    }
}

/// Whether ranges are kept of values of this type.
pub fn has_bounds(sql_type: &SqlType) -> bool {
    !matches!(sql_type, SqlType::Array(_) | SqlType::Row(_) | SqlType::Json)
}
