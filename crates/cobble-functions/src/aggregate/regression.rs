//! Correlation, covariance and linear regression: aggregates over pairs of a dependent y and an independent x. Pairs with a null are
//! left out. Sums are kept as deviations from the mean, as those of a variance are.

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_types::Result;

use super::accumulator::{Rule, real, slots, taken, whole};
use super::moments::Moments;
use super::signature::Aggregate;
use crate::signature::{Overload, Returns, Takes};

/// A function of the pairs of a group that has any.
macro_rules! of_pairs {
    ($finish:expr) => {
        &[Overload::of(&[Takes::Double, Takes::Double], Returns::Double, |_| {
            Ok(slots(Regression { finish: Finish::Value($finish) }))
        })]
    };
}

pub(super) const CORR: Aggregate = Aggregate::new(
    "corr",
    "y, x",
    "The correlation coefficient.",
    ("SELECT corr(y, x) FROM (VALUES (1, 1), (2, 2)) t (y, x)", "1"),
    of_pairs!(|p| (p.x_varies() && p.y.squares != 0.0).then(|| p.products / (p.x.squares * p.y.squares).sqrt())),
);

pub(super) const COVAR_POP: Aggregate = Aggregate::new(
    "covar_pop",
    "y, x",
    "The covariance of a whole population.",
    ("SELECT covar_pop(y, x) FROM (VALUES (1, 1), (3, 3)) t (y, x)", "1"),
    of_pairs!(|p| Some(p.products / p.n())),
);

pub(super) const COVAR_SAMP: Aggregate = Aggregate::new(
    "covar_samp",
    "y, x",
    "The covariance estimated from a sample.",
    ("SELECT covar_samp(y, x) FROM (VALUES (1, 1), (3, 3)) t (y, x)", "2"),
    of_pairs!(|p| (p.n() > 1.0).then(|| p.products / (p.n() - 1.0))),
);

pub(super) const REGR_AVGX: Aggregate = Aggregate::new(
    "regr_avgx",
    "y, x",
    "The mean of x over pairs without nulls.",
    ("SELECT regr_avgx(y, x) FROM (VALUES (1, 2), (3, 4)) t (y, x)", "3"),
    of_pairs!(|p| Some(p.x.sum / p.n())),
);

pub(super) const REGR_AVGY: Aggregate = Aggregate::new(
    "regr_avgy",
    "y, x",
    "The mean of y over pairs without nulls.",
    ("SELECT regr_avgy(y, x) FROM (VALUES (1, 2), (3, 4)) t (y, x)", "2"),
    of_pairs!(|p| Some(p.y.sum / p.n())),
);

pub(super) const REGR_INTERCEPT: Aggregate = Aggregate::new(
    "regr_intercept",
    "y, x",
    "Where the fitted line crosses the y axis.",
    ("SELECT regr_intercept(y, x) FROM (VALUES (3, 1), (5, 2)) t (y, x)", "1"),
    of_pairs!(|p| p.x_varies().then(|| (p.y.sum - p.x.sum * p.products / p.x.squares) / p.n())),
);

pub(super) const REGR_R2: Aggregate = Aggregate::new(
    "regr_r2",
    "y, x",
    "The square of the correlation coefficient.",
    ("SELECT regr_r2(y, x) FROM (VALUES (3, 1), (5, 2)) t (y, x)", "1"),
    of_pairs!(|p| p.x_varies().then(|| match p.products * p.products / (p.x.squares * p.y.squares) {
        _ if p.y.squares == 0.0 => 1.0,
        share => share,
    })),
);

pub(super) const REGR_SLOPE: Aggregate = Aggregate::new(
    "regr_slope",
    "y, x",
    "The slope of the fitted line.",
    ("SELECT regr_slope(y, x) FROM (VALUES (3, 1), (5, 2)) t (y, x)", "2"),
    of_pairs!(|p| p.x_varies().then(|| p.products / p.x.squares)),
);

pub(super) const REGR_SXX: Aggregate = Aggregate::new(
    "regr_sxx",
    "y, x",
    "The sum of the squared distances of x from its mean.",
    ("SELECT regr_sxx(y, x) FROM (VALUES (3, 1), (5, 3)) t (y, x)", "2"),
    of_pairs!(|p| Some(p.x.squares)),
);

pub(super) const REGR_SXY: Aggregate = Aggregate::new(
    "regr_sxy",
    "y, x",
    "The sum of the products of the distances of x and y from their means.",
    ("SELECT regr_sxy(y, x) FROM (VALUES (3, 1), (5, 3)) t (y, x)", "2"),
    of_pairs!(|p| Some(p.products)),
);

pub(super) const REGR_SYY: Aggregate = Aggregate::new(
    "regr_syy",
    "y, x",
    "The sum of the squared distances of y from its mean.",
    ("SELECT regr_syy(y, x) FROM (VALUES (3, 1), (5, 3)) t (y, x)", "2"),
    of_pairs!(|p| Some(p.y.squares)),
);

pub(super) const REGR_COUNT: Aggregate = Aggregate::new(
    "regr_count",
    "y, x",
    "The number of pairs without nulls.",
    ("SELECT regr_count(y, x) FROM (VALUES (1, 2), (3, NULL)) t (y, x)", "1"),
    &[Overload::of(&[Takes::Double, Takes::Double], Returns::BigInt, |_| {
        Ok(slots(Regression { finish: Finish::Count }))
    })],
)
.counting();

struct Regression {
    finish: Finish,
}

/// What comes out of a group.
enum Finish {
    Count,
    /// Of at least one pair.
    Value(fn(&Pairs) -> Option<f64>),
}

#[derive(Default, Clone, Copy)]
struct Pairs {
    x: Moments,
    y: Moments,
    products: f64,
}

impl Pairs {
    fn n(&self) -> f64 {
        self.x.n
    }

    fn x_varies(&self) -> bool {
        self.x.squares != 0.0
    }
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
        Ok(match self.finish {
            Finish::Count => whole(slots.iter().map(|pairs| pairs.n() as i64)),
            Finish::Value(value) => {
                let values = slots.iter().map(|pairs| if pairs.n() > 0.0 { value(pairs) } else { None });
                Arc::new(values.collect::<Float64Array>())
            }
        })
    }
}
