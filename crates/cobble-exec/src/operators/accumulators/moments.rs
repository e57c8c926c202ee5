//! Variance, standard deviation, correlation and regression. Floating-point sums are kept as deviations from the mean
//! (Youngs and Cramer, "Some Results Relevant to Choice of Sum and Sum-of-Product Algorithms", 1971), as PostgreSQL keeps
//! them; exact numbers are summed exactly.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::cast;
use arrow::datatypes::*;
use cobble_plan::aggregate::AggregateFunction;
use cobble_types::{Result, SqlType};

use super::{Rule, real, taken, too_large, whole, wide};

pub struct FloatMoments {
    pub function: AggregateFunction,
}

/// Count, sum, and sum of squared deviations.
#[derive(Default, Clone, Copy)]
pub struct Moments {
    n: f64,
    sum: f64,
    squares: f64,
}

impl Moments {
    fn add(&mut self, value: f64) {
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

    fn merge(&mut self, other: Moments) {
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
        use AggregateFunction as F;
        let sample = matches!(self.function, F::VarSamp | F::StddevSamp);
        let root = matches!(self.function, F::StddevPop | F::StddevSamp);
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
pub struct ExactMoments {
    pub function: AggregateFunction,
    pub scale: i8,
    pub result: SqlType,
}

#[derive(Default, Clone, Copy)]
pub struct ExactSquares {
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
        use AggregateFunction as F;
        let sample = matches!(self.function, F::VarSamp | F::StddevSamp);
        let root = matches!(self.function, F::StddevPop | F::StddevSamp);
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
        use AggregateFunction as F;
        let (precision, scale) = self.result.digits().unwrap_or((38, 16));
        let least = if matches!(self.function, F::VarSamp | F::StddevSamp) { 2 } else { 1 };
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

/// Aggregates over pairs of a dependent y and an independent x.
pub struct Regression {
    pub function: AggregateFunction,
}

#[derive(Default, Clone, Copy)]
pub struct Pairs {
    x: Moments,
    y: Moments,
    products: f64,
}

impl Rule for Regression {
    type Slot = Pairs;

    fn update(&self, slots: &mut [Pairs], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let (ys, xs) = (values[0].as_primitive::<Float64Type>(), values[1].as_primitive::<Float64Type>());
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let (slot, y, x) = (&mut slots[*group as usize], ys.value(row), xs.value(row));
            slot.x.add(x);
            slot.y.add(y);
            let n = slot.x.n;
            if n > 1.0 {
                slot.products += (x * n - slot.x.sum) * (y * n - slot.y.sum) / (n * (n - 1.0));
            }
        }
        Ok(())
    }

    fn state(&self, slots: &[Pairs]) -> Result<Vec<ArrayRef>> {
        let part = |f: fn(&Pairs) -> f64| real(slots.iter().map(f));
        Ok(vec![
            part(|s| s.x.n),
            part(|s| s.x.sum),
            part(|s| s.x.squares),
            part(|s| s.y.sum),
            part(|s| s.y.squares),
            part(|s| s.products),
        ])
    }

    fn merge(&self, slots: &mut [Pairs], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        let value = |place: usize, row: usize| state[place].as_primitive::<Float64Type>().value(row);
        for (row, group) in groups.iter().enumerate() {
            let slot = &mut slots[*group as usize];
            let n = value(0, row);
            let x = Moments { n, sum: value(1, row), squares: value(2, row) };
            let y = Moments { n, sum: value(3, row), squares: value(4, row) };
            if slot.x.n > 0.0 && n > 0.0 {
                let (dx, dy) = (slot.x.sum / slot.x.n - x.sum / n, slot.y.sum / slot.y.n - y.sum / n);
                slot.products += value(5, row) + slot.x.n * n * dx * dy / (slot.x.n + n);
            } else {
                slot.products += value(5, row);
            }
            slot.x.merge(x);
            slot.y.merge(y);
        }
        Ok(())
    }

    fn finish(&self, slots: &[Pairs]) -> Result<ArrayRef> {
        use AggregateFunction as F;
        if self.function == F::RegrCount {
            return Ok(whole(slots.iter().map(|s| s.x.n as i64)));
        }
        let results = slots.iter().map(|Pairs { x, y, products }| {
            let n = x.n;
            let some = n > 0.0;
            let x_varies = some && x.squares != 0.0;
            match self.function {
                F::CovarPop => some.then(|| products / n),
                F::CovarSamp => (n > 1.0).then(|| products / (n - 1.0)),
                F::Corr => (x_varies && y.squares != 0.0).then(|| products / (x.squares * y.squares).sqrt()),
                F::RegrAvgX => some.then(|| x.sum / n),
                F::RegrAvgY => some.then(|| y.sum / n),
                F::RegrSxx => some.then_some(x.squares),
                F::RegrSyy => some.then_some(y.squares),
                F::RegrSxy => some.then_some(*products),
                F::RegrSlope => x_varies.then(|| products / x.squares),
                F::RegrIntercept => x_varies.then(|| (y.sum - x.sum * products / x.squares) / n),
                F::RegrR2 if !x_varies => None,
                F::RegrR2 if y.squares == 0.0 => Some(1.0),
                F::RegrR2 => Some(products * products / (x.squares * y.squares)),
                _ => None,
            }
        });
        Ok(Arc::new(results.collect::<Float64Array>()))
    }
}
