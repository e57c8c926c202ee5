//! Trigonometry in degrees, exact where its values are rational (PostgreSQL manual, table 9.7): each angle is brought into the first quarter
//! of the circle, and there to where a quotient of two values, both computed alike, is exact.

const RADIANS: f64 = 0.017_453_292_519_943_295;

fn sine_to_30(x: f64) -> f64 {
    (x * RADIANS).sin() / (30.0 * RADIANS).sin() / 2.0
}

fn cosine_to_60(x: f64) -> f64 {
    1.0 - (1.0 - (x * RADIANS).cos()) / (1.0 - (60.0 * RADIANS).cos()) / 2.0
}

/// Of an angle from 0 to 90.
fn sine(x: f64) -> f64 {
    if x <= 30.0 { sine_to_30(x) } else { cosine_to_60(90.0 - x) }
}

/// Of an angle from 0 to 90.
fn cosine(x: f64) -> f64 {
    if x <= 60.0 { cosine_to_60(x) } else { sine_to_30(90.0 - x) }
}

/// The angle in the first quarter that has the same sine and cosine but for their signs, and those signs.
fn quarter(degrees: f64) -> (f64, f64, f64) {
    let (mut x, mut of_sine, mut of_cosine) = (degrees % 360.0, 1.0, 1.0);
    if x < 0.0 {
        (x, of_sine) = (-x, -of_sine);
    }
    if x > 180.0 {
        (x, of_sine) = (360.0 - x, -of_sine);
    }
    if x > 90.0 {
        (x, of_cosine) = (180.0 - x, -of_cosine);
    }
    (x, of_sine, of_cosine)
}

pub fn sind(degrees: f64) -> f64 {
    let (x, sign, _) = quarter(degrees);
    sign * sine(x)
}

pub fn cosd(degrees: f64) -> f64 {
    let (x, _, sign) = quarter(degrees);
    sign * cosine(x)
}

/// Without a negative zero.
fn unsigned_zero(value: f64) -> f64 {
    if value == 0.0 { 0.0 } else { value }
}

pub fn tand(degrees: f64) -> f64 {
    let (x, of_sine, of_cosine) = quarter(degrees);
    unsigned_zero(of_sine * of_cosine * (sine(x) / cosine(x) / (sine(45.0) / cosine(45.0))))
}

pub fn cotd(degrees: f64) -> f64 {
    let (x, of_sine, of_cosine) = quarter(degrees);
    unsigned_zero(of_sine * of_cosine * (cosine(x) / sine(x) / (cosine(45.0) / sine(45.0))))
}

/// Of a number from 0 to 1.
fn angle_of_sine(x: f64) -> f64 {
    if x <= 0.5 { x.asin() / 0.5f64.asin() * 30.0 } else { 90.0 - x.acos() / 0.5f64.acos() * 60.0 }
}

/// Of a number from 0 to 1.
fn angle_of_cosine(x: f64) -> f64 {
    if x <= 0.5 { 90.0 - x.asin() / 0.5f64.asin() * 30.0 } else { x.acos() / 0.5f64.acos() * 60.0 }
}

pub fn asind(x: f64) -> f64 {
    if x >= 0.0 { angle_of_sine(x) } else { -angle_of_sine(-x) }
}

pub fn acosd(x: f64) -> f64 {
    if x >= 0.0 { angle_of_cosine(x) } else { 90.0 + angle_of_sine(-x) }
}

pub fn atand(x: f64) -> f64 {
    x.atan() / 1f64.atan() * 45.0
}

pub fn atan2d(y: f64, x: f64) -> f64 {
    y.atan2(x) / 1f64.atan() * 45.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rational_values_are_exact() {
        for (degrees, sine, cosine) in [
            (0.0, 0.0, 1.0),
            (30.0, 0.5, cosd(-30.0)),
            (60.0, sind(120.0), 0.5),
            (90.0, 1.0, 0.0),
            (150.0, 0.5, -cosd(30.0)),
            (180.0, 0.0, -1.0),
            (270.0, -1.0, 0.0),
            (-90.0, -1.0, 0.0),
            (750.0, 0.5, cosd(30.0)),
        ] {
            assert_eq!((sind(degrees), cosd(degrees)), (sine, cosine), "{degrees}");
        }
        for (degrees, tangent) in [(0.0, 0.0), (45.0, 1.0), (135.0, -1.0), (180.0, 0.0), (225.0, 1.0), (-45.0, -1.0)] {
            assert_eq!(tand(degrees), tangent, "{degrees}");
        }
        assert_eq!((cotd(45.0), cotd(90.0), tand(90.0)), (1.0, 0.0, f64::INFINITY));
        assert_eq!((asind(0.5), asind(-1.0), acosd(0.5), acosd(-0.5)), (30.0, -90.0, 60.0, 120.0));
        assert_eq!((atand(1.0), atan2d(1.0, 0.0), atan2d(-1.0, -1.0)), (45.0, 90.0, -135.0));
    }
}
