//! The type of texts, guessed from the texts themselves.

use cobble_types::SqlType;
use cobble_types::parse::{parse_decimal, parse_timestamp, parse_value};

/// What texts have in common so far.
#[derive(Debug, Clone, PartialEq)]
pub enum Guess {
    Nothing,
    Boolean,
    BigInt,
    /// Most digits before and after the point.
    Numeric {
        whole: usize,
        scale: usize,
    },
    Double,
    Date,
    Timestamp,
    TimestampTz,
    Text,
}

impl Guess {
    pub fn of(text: &str) -> Guess {
        let first = text.as_bytes().first().copied().unwrap_or(b' ');
        if first.is_ascii_digit() || b"+-.".contains(&first) {
            if text.len() < 20 && text.parse::<i64>().is_ok() {
                // A leading zero is a code, not a number: 00420 must stay what it is.
                let digits = text.trim_start_matches(['+', '-']);
                return if digits.len() > 1 && digits.starts_with('0') { Guess::Text } else { Guess::BigInt };
            }
            if let Some((_, scale)) = parse_decimal(text)
                && !text.contains(['e', 'E'])
            {
                let digits = text.bytes().filter(u8::is_ascii_digit).count();
                let scale = usize::from(scale.unsigned_abs());
                return Guess::Numeric { whole: digits.saturating_sub(scale), scale };
            }
            if text.parse::<f64>().is_ok() {
                return Guess::Double;
            }
            // Only the ISO form says by itself whether day or month comes first.
            let standard = text.as_bytes().get(4) == Some(&b'-');
            if standard && text.len() == 10 && parse_value(text, &SqlType::Date).is_ok() {
                return Guess::Date;
            }
            return match parse_timestamp(text).filter(|_| standard && text.len() > 10) {
                Some((_, None)) => Guess::Timestamp,
                Some((_, Some(_))) => Guess::TimestampTz,
                None => Guess::Text,
            };
        }
        match text {
            "true" | "false" | "TRUE" | "FALSE" | "True" | "False" => Guess::Boolean,
            _ => Guess::Text,
        }
    }

    pub fn with(self, other: Guess) -> Guess {
        use Guess::*;
        match (self, other) {
            (Nothing, g) | (g, Nothing) => g,
            (a, b) if a == b => a,
            (Numeric { whole: a, scale: s }, Numeric { whole: b, scale: t }) => {
                Numeric { whole: a.max(b), scale: s.max(t) }
            }
            (BigInt, Numeric { whole, scale }) | (Numeric { whole, scale }, BigInt) => {
                Numeric { whole: whole.max(19), scale }
            }
            (Double, BigInt | Numeric { .. }) | (BigInt | Numeric { .. }, Double) => Double,
            (Date, Timestamp) | (Timestamp, Date) => Timestamp,
            _ => Text,
        }
    }

    pub fn sql_type(&self) -> SqlType {
        match self {
            Guess::Nothing | Guess::Text => SqlType::Text,
            Guess::Boolean => SqlType::Boolean,
            Guess::BigInt => SqlType::BigInt,
            // Room for larger values further down than the sample: numeric(18, scale) at least.
            Guess::Numeric { whole, scale } if whole + scale <= 38 => {
                let precision = (whole + scale).max(18).max(scale + 1) as u8;
                SqlType::Numeric { precision: precision.min(38), scale: *scale as i8 }
            }
            Guess::Numeric { .. } | Guess::Double => SqlType::Double,
            Guess::Date => SqlType::Date,
            Guess::Timestamp => SqlType::Timestamp,
            Guess::TimestampTz => SqlType::TimestampTz,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn csv_values_agree_on_the_narrowest_type() {
        let n = |p, s| SqlType::Numeric { precision: p, scale: s };
        for (values, expected) in [
            (vec!["1", "22", ""], SqlType::BigInt),
            (vec!["1.5", "22.25"], n(18, 2)),
            (vec!["1", "2.50"], n(21, 2)),
            (vec!["1.5", "1e9"], SqlType::Double),
            (vec!["007", "12"], SqlType::Text),
            (vec!["2025-07-01"], SqlType::Date),
            (vec!["2025-07-01", "2025-07-01 09:00"], SqlType::Timestamp),
            (vec!["2025-07-01T09:00:00Z"], SqlType::TimestampTz),
            (vec!["true", "false"], SqlType::Boolean),
            (vec!["12", "n/a"], SqlType::Text),
            (vec!["", ""], SqlType::Text),
        ] {
            let guess =
                values.iter().filter(|v| !v.is_empty()).fold(Guess::Nothing, |guess, v| guess.with(Guess::of(v)));
            assert_eq!(guess.sql_type(), expected, "{values:?}");
        }
    }
}
