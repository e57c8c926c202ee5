//! Variance and standard deviation. Floating-point sums are kept as deviations from the mean
//! (Youngs and Cramer, "Some Results Relevant to Choice of Sum and Sum-of-Product Algorithms", 1971), as PostgreSQL keeps
//! them; exact numbers are summed exactly.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::cast;
use arrow::datatypes::*;
use cobble_types::{Result, SqlType};

use super::accumulator::{Accumulator, Rule, real, slots, taken, too_large, whole, wide};
use super::signature::{Aggregate, Aggregated, as_it_is};
use super::sums::quotient;
use crate::signature::Overload;

/// The overloads of a variance, of a sample or not, or of its square root.
macro_rules! moments {
    ($sample:literal, $root:literal) => {
        [
            Overload::together(
                |given| as_it_is(given, |own| own.is_float().then_some(SqlType::Double)),
                |_| Ok(slots(FloatMoments { measure: Measure { sample: $sample, root: $root } })),
            ),
            Overload::together(
                |given| as_it_is(given, quotient),
                |call| Ok(exact(call, Measure { sample: $sample, root: $root })),
            ),
        ]
    };
}

pub(super) const VAR_POP: Aggregate = Aggregate::new(
    "var_pop",
    "number",
    "The variance of all values as a whole population.",
    ("SELECT var_pop(v) FROM (VALUES (1.0), (3.0)) t (v)", "1.0000000000000000"),
    &moments!(false, false),
);

pub(super) const VAR_SAMP: Aggregate = Aggregate::new(
    "var_samp",
    "number",
    "The variance estimated from a sample.",
    ("SELECT var_samp(v) FROM (VALUES (1.0), (3.0)) t (v)", "2.0000000000000000"),
    &moments!(true, false),
)
.also(&["variance"]);

pub(super) const STDDEV_POP: Aggregate = Aggregate::new(
    "stddev_pop",
    "number",
    "The standard deviation of a whole population.",
    ("SELECT stddev_pop(v) FROM (VALUES (1.0), (3.0)) t (v)", "1.0000000000000000"),
    &moments!(false, true),
);

pub(super) const STDDEV_SAMP: Aggregate = Aggregate::new(
    "stddev_samp",
    "number",
    "The standard deviation estimated from a sample.",
    ("SELECT stddev_samp(v::double precision) FROM (VALUES (2), (2)) t (v)", "0"),
    &moments!(true, true),
)
.also(&["stddev"]);

/// What is made of the sum of squared deviations.
#[derive(Clone, Copy)]
struct Measure {
    /// Divides by one less than the number of values.
    sample: bool,
    /// Takes the square root.
    root: bool,
}

fn exact(call: &Aggregated, measure: Measure) -> Box<dyn Accumulator> {
    let scale = call.arguments[0].digits().map_or(0, |(_, scale)| scale);
    slots(ExactMoments { measure, scale, result: call.result.clone() })
}

struct FloatMoments {
    measure: Measure,
}

/// Count, sum, and sum of squared deviations.
#[derive(Default, Clone, Copy)]
pub(super) struct Moments {
    pub n: f64,
    pub sum: f64,
    pub squares: f64,
}

impl Moments {
    pub fn add(&mut self, value: f64) {
        let before = self.n;
        self.n += 1.0;
        self.sum += value;
        if before > 0.0 {
            let deviation = value * self.n - self.sum;
            self.squares += deviation * deviation / (self.n * before);
        } else if !value.is_finite() {
            self.squares = f64::NAN;
        }
    }

    pub fn merge(&mut self, other: Moments) {
        if self.n == 0.0 {
            *self = other;
        } else if other.n > 0.0 {
            let n = self.n + other.n;
            let difference = self.sum / self.n - other.sum / other.n;
            self.squares += other.squares + self.n * other.n * difference * difference / n;
            self.sum += other.sum;
            self.n = n;
        }
    }
}

impl Rule for FloatMoments {
    type Slot = Moments;

    fn update(&self, slots: &mut [Moments], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let doubles = cast(&values[0], &DataType::Float64)?;
        let taken = taken(values);
        let doubles = doubles.as_primitive::<Float64Type>();
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            slots[*group as usize].add(doubles.value(row));
        }
        Ok(())
    }

    fn state(&self, slots: &[Moments]) -> Result<Vec<ArrayRef>> {
        Ok(vec![
            real(slots.iter().map(|s| s.n)),
            real(slots.iter().map(|s| s.sum)),
            real(slots.iter().map(|s| s.squares)),
        ])
    }

    fn merge(&self, slots: &mut [Moments], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        let value = |place: usize, row: usize| state[place].as_primitive::<Float64Type>().value(row);
        for (row, group) in groups.iter().enumerate() {
            let other = Moments { n: value(0, row), sum: value(1, row), squares: value(2, row) };
            slots[*group as usize].merge(other);
        }
        Ok(())
    }

    fn finish(&self, slots: &[Moments]) -> Result<ArrayRef> {
        let Measure { sample, root } = self.measure;
        let results = slots.iter().map(|s| {
            let over = if sample { s.n - 1.0 } else { s.n };
            (over > 0.0).then(|| {
                let variance = s.squares / over;
                if root { variance.sqrt() } else { variance }
            })
        });
        Ok(Arc::new(results.collect::<Float64Array>()))
    }
}

/// Variance of integers and numerics.
struct ExactMoments {
    measure: Measure,
    scale: i8,
    result: SqlType,
}

#[derive(Default, Clone, Copy)]
struct ExactSquares {
    n: i64,
    sum: i128,
    squares: i256,
}

fn power_of_ten(n: u32) -> Option<i256> {
    (0..n).try_fold(i256::ONE, |power, _| power.checked_mul(i256::from_i128(10)))
}

/// The nearest whole number to a quotient of positive numbers.
fn divided(a: i256, b: i256) -> Option<i256> {
    let quotient = a.checked_div(b)?;
    let rest = a.checked_sub(quotient.checked_mul(b)?)?;
    if rest.checked_mul(i256::from_i128(2))? >= b { quotient.checked_add(i256::ONE) } else { Some(quotient) }
}

/// The nearest whole number to a square root (Newton's method from above).
fn square_root(value: i256) -> Option<i256> {
    if value <= i256::ZERO {
        return Some(i256::ZERO);
    }
    let two = i256::from_i128(2);
    let mut guess = i256::ONE;
    while guess.checked_mul(guess).is_some_and(|square| square < value) {
        guess = guess.checked_mul(two)?;
    }
    loop {
        let next = guess.checked_add(value.checked_div(guess)?)?.checked_div(two)?;
        if next >= guess {
            break;
        }
        guess = next;
    }
    let rest = value.checked_sub(guess.checked_mul(guess)?)?;
    if rest > guess { guess.checked_add(i256::ONE) } else { Some(guess) }
}

impl ExactMoments {
    fn result(&self, s: &ExactSquares, scale: u32) -> Option<i128> {
        let Measure { sample, root } = self.measure;
        let (n, sum) = (i256::from_i128(s.n.into()), i256::from_i128(s.sum));
        // n Σx² − (Σx)², over n² or n (n − 1), both with twice the values' scale.
        let above = n.checked_mul(s.squares)?.checked_sub(sum.checked_mul(sum)?)?;
        let over = n.checked_mul(if sample { n.checked_sub(i256::ONE)? } else { n })?;
        let wanted = if root { scale * 2 } else { scale };
        let own = 2 * u32::try_from(self.scale).ok()?;
        let variance = if wanted >= own {
            divided(above.checked_mul(power_of_ten(wanted - own)?)?, over)?
        } else {
            divided(above, over.checked_mul(power_of_ten(own - wanted)?)?)?
        };
        if root { square_root(variance)?.to_i128() } else { variance.to_i128() }
    }
}

impl Rule for ExactMoments {
    type Slot = ExactSquares;

    fn update(&self, slots: &mut [ExactSquares], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let value = |row: usize| -> i128 {
            match values[0].data_type() {
                DataType::Int16 => values[0].as_primitive::<Int16Type>().value(row).into(),
                DataType::Int32 => values[0].as_primitive::<Int32Type>().value(row).into(),
                DataType::Int64 => values[0].as_primitive::<Int64Type>().value(row).into(),
                _ => values[0].as_primitive::<Decimal128Type>().value(row),
            }
        };
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let (slot, value) = (&mut slots[*group as usize], value(row));
            let square = i256::from_i128(value).checked_mul(i256::from_i128(value)).ok_or_else(too_large)?;
            slot.n += 1;
            slot.sum = slot.sum.checked_add(value).ok_or_else(too_large)?;
            slot.squares = slot.squares.checked_add(square).ok_or_else(too_large)?;
        }
        Ok(())
    }

    fn state(&self, slots: &[ExactSquares]) -> Result<Vec<ArrayRef>> {
        let squares: Decimal256Array = slots.iter().map(|s| Some(s.squares)).collect();
        Ok(vec![whole(slots.iter().map(|s| s.n)), wide(slots.iter().map(|s| s.sum)), Arc::new(squares)])
    }

    fn merge(&self, slots: &mut [ExactSquares], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        for (row, group) in groups.iter().enumerate() {
            let slot = &mut slots[*group as usize];
            slot.n += state[0].as_primitive::<Int64Type>().value(row);
            let sum = state[1].as_primitive::<Decimal128Type>().value(row);
            let squares = state[2].as_primitive::<Decimal256Type>().value(row);
            slot.sum = slot.sum.checked_add(sum).ok_or_else(too_large)?;
            slot.squares = slot.squares.checked_add(squares).ok_or_else(too_large)?;
        }
        Ok(())
    }

    fn finish(&self, slots: &[ExactSquares]) -> Result<ArrayRef> {
        let (precision, scale) = self.result.digits().unwrap_or((38, 16));
        let least = if self.measure.sample { 2 } else { 1 };
        let mut out = Decimal128Builder::with_capacity(slots.len());
        for slot in slots {
            out.append_option(if slot.n < least {
                None
            } else {
                Some(self.result(slot, u32::try_from(scale).unwrap_or(0)).ok_or_else(too_large)?)
            });
        }
        Ok(Arc::new(out.finish().with_precision_and_scale(precision, scale)?))
    }
}
