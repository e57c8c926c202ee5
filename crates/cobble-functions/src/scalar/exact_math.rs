//! Roots, powers and logarithms of exact numbers, to more digits than a double has: in pairs of doubles whose sum is the value
//! (Dekker, "A Floating-Point Technique for Extending the Available Precision", 1971), about 31 decimal digits.

use arrow::array::ArrayRef;
use arrow::datatypes::DataType;
use cobble_types::{Code, Error, Result};

use crate::Call;

#[derive(Debug, Clone, Copy)]
struct Pair(f64, f64);

const LN_2: Pair = Pair(std::f64::consts::LN_2, 2.319_046_813_846_299_6e-17);
const LN_10: Pair = Pair(std::f64::consts::LN_10, -2.170_756_223_382_249_4e-16);

fn sum(a: f64, b: f64) -> Pair {
    let s = a + b;
    let v = s - a;
    Pair(s, (a - (s - v)) + (b - v))
}

fn product(a: f64, b: f64) -> Pair {
    let p = a * b;
    Pair(p, a.mul_add(b, -p))
}

impl Pair {
    fn of(v: f64) -> Pair {
        Pair(v, 0.0)
    }

    fn plus(self, other: Pair) -> Pair {
        let (s, t) = (sum(self.0, other.0), sum(self.1, other.1));
        let s = sum(s.0, s.1 + t.0);
        sum(s.0, s.1 + t.1)
    }

    fn minus(self, other: Pair) -> Pair {
        self.plus(Pair(-other.0, -other.1))
    }

    fn times(self, other: Pair) -> Pair {
        let p = product(self.0, other.0);
        sum(p.0, p.1 + (self.0 * other.1 + self.1 * other.0))
    }

    fn over(self, other: Pair) -> Pair {
        let first = self.0 / other.0;
        let rest = self.minus(other.times(Pair::of(first)));
        let second = rest.0 / other.0;
        let rest = rest.minus(other.times(Pair::of(second)));
        let s = sum(first, second);
        s.plus(Pair::of(rest.0 / other.0))
    }

    /// `unscaled · 10^-scale`.
    fn decimal(unscaled: i128, scale: i8) -> Pair {
        let high = unscaled as f64;
        let low = (unscaled - high as i128) as f64;
        let v = sum(high, low);
        if scale == 0 { v } else { v.over(Pair::power_of_ten(scale.unsigned_abs())) }
    }

    fn power_of_ten(n: u8) -> Pair {
        (0..n).fold(Pair::of(1.0), |p, _| p.times(Pair::of(10.0)))
    }

    /// Rounded to this many places; nothing where that is out of range.
    fn to_decimal(self, scale: i8) -> Option<i128> {
        let v = self.times(Pair::power_of_ten(scale.unsigned_abs()));
        // Of what has so many digits all are whole.
        if !v.0.is_finite() || v.0.abs() >= 1e38 {
            return None;
        }
        let whole = Pair(v.0.trunc(), 0.0);
        let rest = v.minus(whole);
        let units = rest.0.trunc();
        let rest = rest.minus(Pair::of(units));
        let total = whole.0 as i128 + units as i128;
        let part = rest.0 + rest.1;
        Some(if part >= 0.5 {
            total + 1
        } else if part <= -0.5 {
            total - 1
        } else {
            total
        })
    }

    fn sqrt(self) -> Pair {
        if self.0 == 0.0 {
            return self;
        }
        let root = self.0.sqrt();
        let rest = self.minus(product(root, root));
        sum(root, rest.0 / (2.0 * root))
    }

    fn exp(self) -> Pair {
        let k = (self.0 / LN_2.0).round();
        let r = self.minus(LN_2.times(Pair::of(k)));
        // The series of a small part, whose square is taken as often as it was halved; without the 1, which would cost digits.
        let small = Pair(r.0 / 512.0, r.1 / 512.0);
        let (mut term, mut s) = (small, small);
        for n in 2..12 {
            term = term.times(small).over(Pair::of(f64::from(n)));
            s = s.plus(term);
        }
        for _ in 0..9 {
            s = s.plus(s).plus(s.times(s));
        }
        let e = s.plus(Pair::of(1.0));
        let scale = 2f64.powi(k as i32);
        Pair(e.0 * scale, e.1 * scale)
    }

    fn ln(self) -> Pair {
        // One step of Halley's method from what a double knows: three times its digits.
        let y = Pair::of(self.0.ln());
        let e = y.exp();
        let step = self.minus(e).over(self.plus(e));
        y.plus(step).plus(step)
    }

    fn power(self, exponent: Pair) -> Pair {
        let whole = exponent.0 + exponent.1;
        if whole.fract() == 0.0 && whole.abs() <= 1024.0 {
            let (mut base, mut n, mut p) = (self, whole.abs() as u32, Pair::of(1.0));
            while n > 0 {
                if n & 1 == 1 {
                    p = p.times(base);
                }
                base = base.times(base);
                n >>= 1;
            }
            return if whole < 0.0 { Pair::of(1.0).over(p) } else { p };
        }
        if self.0 == 0.0 {
            return Pair::of(0.0);
        }
        exponent.times(self.ln()).exp()
    }
}

/// A power of exact numbers whose exponent is whole, where no digit of it is lost.
fn exact_power(base: i128, base_scale: i8, exponent: i128, exponent_scale: i8, scale: i8) -> Option<i128> {
    let unit = 10i128.checked_pow(u32::from(exponent_scale.unsigned_abs()))?;
    if exponent % unit != 0 || exponent < 0 {
        return None;
    }
    let n = u32::try_from(exponent / unit).ok()?;
    let unscaled = base.checked_pow(n)?;
    let own = i32::from(base_scale) * i32::try_from(n).ok()?;
    let more = i32::from(scale) - own;
    match u32::try_from(more) {
        Ok(more) => unscaled.checked_mul(10i128.checked_pow(more)?),
        Err(_) => {
            let unit = 10i128.checked_pow(more.unsigned_abs())?;
            let (quotient, rest) = (unscaled / unit, unscaled % unit);
            Some(quotient + if rest.abs() * 2 >= unit { rest.signum() } else { 0 })
        }
    }
}

fn refused(code: Code, what: &str) -> Error {
    Error::new(code, what)
}

/// Each row's result from the arguments' unscaled values, in the digits of the result.
fn computed(call: &Call, f: impl Fn(&[i128], i8) -> Result<Option<i128>>) -> Result<ArrayRef> {
    let DataType::Decimal128(precision, scale) = *call.result else {
        return Err(Error::internal("exact numbers with another result"));
    };
    let values: Vec<_> = (0..call.count()).map(|i| call.decimals(i)).collect();
    let limit = 10i128.pow(u32::from(precision));
    call.make_decimals(|row| {
        let Some(arguments) = values.iter().map(|own| own.get(row)).collect::<Option<Vec<i128>>>() else {
            return Ok(None);
        };
        let found = f(&arguments, scale)?.filter(|v| -limit < *v && *v < limit);
        found.map(Some).ok_or_else(|| {
            let what = format!("{}() is out of the range of numeric({precision},{scale})", call.name);
            Error::new(Code::Overflow, what).hint("cast the argument to double precision")
        })
    })
}

pub(super) fn sqrt(call: &Call) -> Result<ArrayRef> {
    computed(call, |arguments, scale| match arguments[0] {
        negative if negative < 0 => Err(refused(Code::InvalidPower, "the square root of a negative number")),
        value => Ok(Pair::decimal(value, call.scale(0)).sqrt().to_decimal(scale)),
    })
}

pub(super) fn exp(call: &Call) -> Result<ArrayRef> {
    computed(call, |arguments, scale| {
        let x = Pair::decimal(arguments[0], call.scale(0));
        Ok(if x.0 < -700.0 { Some(0) } else { x.exp().to_decimal(scale) })
    })
}

/// A number whose logarithm is taken.
fn positive(value: i128, scale: i8) -> Result<Pair> {
    match value > 0 {
        true => Ok(Pair::decimal(value, scale)),
        false => Err(refused(Code::InvalidLogarithm, "the logarithm of a number that is not positive")),
    }
}

pub(super) fn ln(call: &Call) -> Result<ArrayRef> {
    computed(call, |arguments, scale| Ok(positive(arguments[0], call.scale(0))?.ln().to_decimal(scale)))
}

pub(super) fn log10(call: &Call) -> Result<ArrayRef> {
    computed(call, |arguments, scale| Ok(positive(arguments[0], call.scale(0))?.ln().over(LN_10).to_decimal(scale)))
}

/// To a base, which comes first.
pub(super) fn log(call: &Call) -> Result<ArrayRef> {
    computed(call, |arguments, scale| {
        let (base, value) = (positive(arguments[0], call.scale(0))?, positive(arguments[1], call.scale(1))?);
        if arguments[0] == 10i128.pow(u32::from(call.scale(0).unsigned_abs())) {
            return Err(refused(Code::DivisionByZero, "division by zero"));
        }
        Ok(value.ln().over(base.ln()).to_decimal(scale))
    })
}

pub(super) fn power(call: &Call) -> Result<ArrayRef> {
    let (base_scale, exponent_scale) = (call.scale(0), call.scale(1));
    computed(call, |arguments, scale| {
        let (base, exponent) = (arguments[0], arguments[1]);
        let (x, y) = (Pair::decimal(base, base_scale), Pair::decimal(exponent, exponent_scale));
        if base == 0 && exponent < 0 {
            return Err(refused(Code::InvalidPower, "zero to a negative power is undefined"));
        }
        if base < 0 && (y.0 + y.1).fract() != 0.0 {
            return Err(refused(Code::InvalidPower, "a negative number to a power that is not whole is not real"));
        }
        Ok(exact_power(base, base_scale, exponent, exponent_scale, scale).or_else(|| x.power(y).to_decimal(scale)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_digits_than_a_double_has() {
        let shown = |v: Pair| v.to_decimal(28).unwrap();
        assert_eq!(shown(Pair::of(2.0).sqrt()), 14_142_135_623_730_950_488_016_887_242);
        assert_eq!(shown(Pair::of(1.0).exp()), 27_182_818_284_590_452_353_602_874_714);
        assert_eq!(shown(Pair::of(2.0).ln()), 6_931_471_805_599_453_094_172_321_215);
        assert_eq!(shown(Pair::of(1000.0).ln().over(LN_10)), 30_000_000_000_000_000_000_000_000_000);
        assert_eq!(shown(Pair::of(2.0).power(Pair::of(0.5))), 14_142_135_623_730_950_488_016_887_242);
        assert_eq!(Pair::of(10.0).power(Pair::of(-3.0)).to_decimal(16), Some(10_000_000_000_000));
        assert_eq!(Pair::of(-10.5).exp().to_decimal(20), Some(2_753_644_934_974_716));
        assert_eq!(exact_power(15, 1, 3, 0, 16), Some(33_750_000_000_000_000));
        assert_eq!(exact_power(123_456_789, 4, 20, 1, 4), Some(1_524_157_875_019));
    }
}
