//! The functions of docs/how-to/extend.md, as they are written there.

use std::sync::Arc;

use arrow::array::{Array, ArrayRef, AsArray, Float64Array, StringViewArray};
use arrow::datatypes::{DataType, Float64Type, Int64Type};
use cobble_functions::aggregate::accumulator::{Rule, slots, taken};
use cobble_functions::aggregate::{Aggregate, Aggregated};
use cobble_functions::table::{Made, RowsCall};
use cobble_functions::window::{Layout, Windowed};
use cobble_functions::{
    AggregateFunction, Call, Evaluated, Given, Overload, Ranking, Returns, Scalar, TableFunction, Takes,
};
use cobble_types::{Result, SqlType};

// In crates/cobble-functions/src/scalar/text.rs:
const INITIALS: Scalar = Scalar::new(
    "initials",
    "text [, separator]",
    "The first letter of each word.",
    ("initials('north quay', '.')", "n.q"),
    &[Overload::with_optional(&[Takes::Text, Takes::Text], 1, Returns::Text, |call| {
        let (text, separator) = (call.texts(0), call.texts_or(1, ""));
        call.make_strings(|row| {
            let Some((text, separator)) = text.get(row).zip(separator(row)) else { return Ok(None) };
            let letters = text.split_whitespace().filter_map(|word| word.chars().next());
            Ok(Some(letters.map(String::from).collect::<Vec<_>>().join(separator)))
        })
    })],
);

// In crates/cobble-functions/src/aggregate/extremes.rs:
const SPREAD: Aggregate = Aggregate::new(
    "spread",
    "number",
    "The distance from the least value to the greatest.",
    ("SELECT spread(v) FROM (VALUES (2), (7)) t (v)", "5"),
    &[Overload::of(&[Takes::Double], Returns::Double, |_| Ok(slots(Spread)))],
)
.ignoring_repetition();

struct Spread;

impl Rule for Spread {
    /// The least and the greatest value.
    type Slot = Option<(f64, f64)>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        // A state is two columns, arguments are one.
        let (low, high) =
            (values[0].as_primitive::<Float64Type>(), values[values.len() - 1].as_primitive::<Float64Type>());
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let slot = &mut slots[*group as usize];
            let (least, greatest) = slot.unwrap_or((f64::INFINITY, f64::NEG_INFINITY));
            *slot = Some((least.min(low.value(row)), greatest.max(high.value(row))));
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        let column = |end: fn((f64, f64)) -> f64| -> ArrayRef {
            Arc::new(slots.iter().map(|slot| slot.map(end)).collect::<Float64Array>())
        };
        Ok(vec![column(|ends| ends.0), column(|ends| ends.1)])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        self.update(slots, groups, state)
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        Ok(Arc::new(slots.iter().map(|slot| slot.map(|(least, greatest)| greatest - least)).collect::<Float64Array>()))
    }
}

fn text() -> Given {
    Given::of(SqlType::Text)
}

#[test]
fn arguments_are_checked_and_coerced() {
    // A quoted literal has no type yet and becomes text.
    let found = INITIALS.resolve(&[text(), Given::of(SqlType::Null)]).unwrap();
    assert_eq!((found.arguments, found.returns), (vec![SqlType::Text, SqlType::Text], SqlType::Text));
    assert!(INITIALS.resolve(&[text()]).is_some());
    assert!(INITIALS.resolve(&[Given::of(SqlType::Integer)]).is_none());
    assert!(INITIALS.resolve(&[text(), text(), text()]).is_none());
}

#[test]
fn a_kernel_computes_a_batch() {
    let names = Evaluated::Array(Arc::new(StringViewArray::from(vec![Some("north quay"), None, Some("steps")])));
    // A constant stands for all rows.
    let dot = Evaluated::Scalar(Arc::new(StringViewArray::from(vec!["."])));
    let kernel = INITIALS.resolve(&[text(), text()]).unwrap().overload.kernel;
    let call = Call { name: "initials", arguments: &[&names, &dot], rows: 3, result: &DataType::Utf8View };
    let made = kernel(&call).unwrap();
    let made: Vec<Option<&str>> = made.as_string_view().iter().collect();
    assert_eq!(made, [Some("n.q"), None, Some("s")]);
}

#[test]
fn states_are_kept_for_each_group_and_merged() {
    let found = SPREAD.resolve(&[Given::of(SqlType::Integer)]).unwrap();
    assert_eq!((&found.arguments[..], &found.returns), (&[SqlType::Double][..], &SqlType::Double));
    let call = Aggregated { arguments: &found.arguments, result: &found.returns, order: &[], distinct: false };
    let of = |groups: &[u32], values: Vec<Option<f64>>| {
        let mut state = (found.overload.kernel)(&call).unwrap();
        state.update(groups, 3, &[Arc::new(Float64Array::from(values)) as ArrayRef]).unwrap();
        state
    };
    let mut one = of(&[0, 1, 0], vec![Some(2.0), None, Some(7.0)]);
    let other = of(&[0, 1], vec![Some(9.5), Some(4.0)]);
    // The groups of another task have other numbers here.
    one.merge(&[0, 2, 1], 3, &other.state(3).unwrap()).unwrap();
    let result = one.finish(3).unwrap();
    assert_eq!(result.as_primitive::<Float64Type>().iter().collect::<Vec<_>>(), [Some(7.5), None, Some(0.0)]);
}

/// Every aggregate gives the same whether its rows come at once, or in two states that are merged, and leaves out nothing of a state
/// that was taken out and read again.
#[test]
fn a_state_that_travels_is_the_same() {
    let numbers: ArrayRef =
        Arc::new(Float64Array::from(vec![Some(3.0), Some(1.5), None, Some(3.0), Some(-2.0), Some(8.0)]));
    let shares: ArrayRef = Arc::new(Float64Array::from(vec![0.5; 6]));
    let groups = [0u32, 1, 0, 0, 1, 0];
    let mut tried = 0;
    for function in AggregateFunction::ALL {
        let given = vec![SqlType::Double; 2];
        let Some(found) = (1..=2).find_map(|n| function.overload(given[..n].iter().cloned())) else { continue };
        let columns = &[numbers.clone(), shares.clone()][..found.arguments.len()];
        if found.arguments.iter().any(|own| *own != SqlType::Double) {
            continue;
        }
        tried += 1;
        let call = Aggregated { arguments: &found.arguments, result: &found.returns, order: &[], distinct: false };
        let make = found.overload.kernel;
        let mut whole = make(&call).unwrap();
        whole.update(&groups, 2, columns).unwrap();
        let mut together = make(&call).unwrap();
        for (start, rows) in [(0, 2), (2, 4)] {
            let mut part = make(&call).unwrap();
            let cut: Vec<ArrayRef> = columns.iter().map(|column| column.slice(start, rows)).collect();
            part.update(&groups[start..start + rows], 2, &cut).unwrap();
            together.merge(&[0, 1], 2, &part.state(2).unwrap()).unwrap();
        }
        assert_eq!(&whole.finish(2).unwrap(), &together.finish(2).unwrap(), "{}", function.name());
        assert!(whole.finish(2).unwrap().data_type() == &found.returns.to_arrow(), "{}", function.name());
    }
    assert!(tried > 20, "{tried}");
}

#[test]
fn a_window_function_sees_partitions_peers_and_frames() {
    // Two partitions, of three rows and of two; the second and third row are peers.
    let layout = Layout {
        partition: vec![0, 0, 0, 1, 1],
        partitions: vec![0, 3, 5],
        peer: vec![0, 1, 1, 2, 3],
        peers: vec![0, 1, 3, 4, 5],
    };
    let values: ArrayRef = Arc::new(Float64Array::from(vec![Some(1.0), None, Some(3.0), Some(4.0), Some(5.0)]));
    let run = |function: Ranking, arguments: &[ArrayRef], ignore_nulls| {
        let found = function.overload(arguments.iter().map(|_| SqlType::Double)).unwrap();
        let frame = |row: usize| [(layout.partition_of(row).0, row + 1), (0, 0), (0, 0)];
        (found.overload.kernel)(&Windowed { layout: &layout, arguments, frame: &frame, ignore_nulls }).unwrap()
    };
    let ranks = run(Ranking::Rank, &[], false);
    assert_eq!(ranks.as_primitive::<Int64Type>().values(), &[1, 2, 2, 1, 2]);
    let values_of = |found: ArrayRef| found.as_primitive::<Float64Type>().iter().collect::<Vec<_>>();
    let own = std::slice::from_ref(&values);
    assert_eq!(values_of(run(Ranking::Lag, own, false)), [None, Some(1.0), None, None, Some(4.0)]);
    assert_eq!(values_of(run(Ranking::Lag, own, true)), [None, Some(1.0), Some(1.0), None, Some(4.0)]);
    assert_eq!(values_of(run(Ranking::LastValue, own, false)), [Some(1.0), None, Some(3.0), Some(4.0), Some(5.0)]);
    assert_eq!(values_of(run(Ranking::LastValue, own, true)), [Some(1.0), Some(1.0), Some(3.0), Some(4.0), Some(5.0)]);
}

#[test]
fn a_table_function_makes_columns_and_says_where_rows_end() {
    let entry = TableFunction::JsonEach.entry();
    let found = entry.resolve(&[Given::of(SqlType::Json)]).unwrap();
    let columns = (entry.columns)(&found.arguments, &found.returns);
    assert_eq!(columns, [("key", SqlType::Text), ("value", SqlType::Json)]);
    let documents: ArrayRef =
        Arc::new(StringViewArray::from(vec![Some(r#"{"quay": 4, "boat": null}"#), None, Some("{}")]));
    let made = [DataType::Utf8View, DataType::Utf8View];
    let Made::Lists { columns, offsets } =
        (found.overload.kernel)(&RowsCall { arguments: &[documents], made: &made, rows: 3 }).unwrap()
    else {
        panic!("a series");
    };
    assert_eq!(&offsets[..], &[0, 2, 2, 2]);
    assert_eq!(columns[0].as_string_view().iter().collect::<Vec<_>>(), [Some("quay"), Some("boat")]);
    // A text is no document by itself.
    assert!(entry.resolve(&[Given::of(SqlType::Text)]).is_none());
}
