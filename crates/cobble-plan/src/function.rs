//! The registry of scalar functions: name, what they take and return, how volatile they are, and whether PostgreSQL's
//! function of the same name is provably the same, which lets the function cross a gate.

use cobble_types::SqlType;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Volatility {
    /// Same arguments, same answer, always.
    Immutable,
    /// A new answer for each row.
    Volatile,
}

macro_rules! functions {
    ($($variant:ident, $name:literal, [$($alias:literal),*], $arguments:literal, $volatility:ident, $postgres:literal;)*) => {
        /// A scalar function of the engine.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum Function { $($variant),* }

        impl Function {
            pub const ALL: &[Function] = &[$(Function::$variant),*];

            pub fn name(self) -> &'static str {
                match self { $(Function::$variant => $name),* }
            }

            /// The function called by this name, in lower case.
            pub fn by_name(name: &str) -> Option<Function> {
                match name { $($name $(| $alias)* => Some(Function::$variant),)* _ => None }
            }

            /// Argument types in words, for error messages and documentation.
            pub fn arguments(self) -> &'static str {
                match self { $(Function::$variant => $arguments),* }
            }

            pub fn volatility(self) -> Volatility {
                match self { $(Function::$variant => Volatility::$volatility),* }
            }

            /// True when PostgreSQL's function of this name gives the same answer for every argument.
            pub fn same_in_postgres(self) -> bool {
                match self { $(Function::$variant => $postgres),* }
            }
        }
    };
}

// `lower` and `upper` follow the database's locale in PostgreSQL and Unicode here; `ln`, `exp`, `power` and the like may
// differ in the last digit between two mathematical libraries: these stay in the engine.
functions! {
    Lower, "lower", [], "text", Immutable, false;
    Upper, "upper", [], "text", Immutable, false;
    InitCap, "initcap", [], "text", Immutable, false;
    Length, "length", ["char_length", "character_length"], "text", Immutable, true;
    OctetLength, "octet_length", [], "text", Immutable, true;
    Substring, "substring", ["substr"], "text, start [, count]", Immutable, true;
    Left, "left", [], "text, count", Immutable, true;
    Right, "right", [], "text, count", Immutable, true;
    Trim, "btrim", ["trim"], "text [, characters]", Immutable, true;
    TrimStart, "ltrim", [], "text [, characters]", Immutable, true;
    TrimEnd, "rtrim", [], "text [, characters]", Immutable, true;
    Replace, "replace", [], "text, from, to", Immutable, true;
    Concat, "concat", [], "any, …", Immutable, false;
    ConcatWs, "concat_ws", [], "separator, any, …", Immutable, false;
    Position, "strpos", ["position"], "text, part", Immutable, true;
    SplitPart, "split_part", [], "text, separator, n", Immutable, true;
    PadStart, "lpad", [], "text, length [, fill]", Immutable, true;
    PadEnd, "rpad", [], "text, length [, fill]", Immutable, true;
    Reverse, "reverse", [], "text", Immutable, true;
    Repeat, "repeat", [], "text, count", Immutable, true;
    StartsWith, "starts_with", [], "text, prefix", Immutable, true;
    Abs, "abs", [], "number", Immutable, true;
    Sign, "sign", [], "number", Immutable, true;
    Round, "round", [], "number [, digits]", Immutable, true;
    Trunc, "trunc", [], "number [, digits]", Immutable, true;
    Ceil, "ceil", ["ceiling"], "number", Immutable, true;
    Floor, "floor", [], "number", Immutable, true;
    Sqrt, "sqrt", [], "number", Immutable, false;
    Power, "power", ["pow"], "number, number", Immutable, false;
    Exp, "exp", [], "number", Immutable, false;
    Ln, "ln", [], "number", Immutable, false;
    Log, "log", ["log10"], "number", Immutable, false;
    Random, "random", [], "", Volatile, false;
    Coalesce, "coalesce", [], "any, …", Immutable, true;
    Greatest, "greatest", [], "any, …", Immutable, true;
    Least, "least", [], "any, …", Immutable, true;
    DatePart, "date_part", [], "part, time", Immutable, false;
    DateTrunc, "date_trunc", [], "part, time", Immutable, true;
    MakeDate, "make_date", [], "year, month, day", Immutable, true;
    Cardinality, "cardinality", ["array_length"], "array", Immutable, false;
}

impl Function {
    pub fn is_volatile(self) -> bool {
        self.volatility() == Volatility::Volatile
    }
}

/// The common type of the arguments of a function or a list that needs one (SQL:2016 9.5, PostgreSQL manual 10.5),
/// or `None` when there is none.
pub fn common_type(types: &[SqlType]) -> Option<SqlType> {
    types.iter().try_fold(SqlType::Null, |common, next| wider_type(&common, next))
}

/// The type both values can be turned into without loss, following PostgreSQL's implicit casts.
pub fn wider_type(left: &SqlType, right: &SqlType) -> Option<SqlType> {
    use SqlType::*;
    if left == right {
        return Some(left.clone());
    }
    Some(match (left, right) {
        (Null, other) | (other, Null) => other.clone(),
        (Double, n) | (n, Double) if n.is_number() => Double,
        // PostgreSQL prefers double precision when a real meets an exact number.
        (Real, n) | (n, Real) if n.is_number() => {
            if n.is_integer() && *n == SmallInt {
                Real
            } else {
                Double
            }
        }
        (Numeric { .. }, n) | (n, Numeric { .. }) if n.is_number() => {
            let ((p, s), (q, t)) = (left.digits()?, right.digits()?);
            let scale = s.max(t);
            let whole = (i16::from(p) - i16::from(s)).max(i16::from(q) - i16::from(t));
            Numeric { precision: (whole + i16::from(scale)).clamp(1, 38) as u8, scale }
        }
        (BigInt, n) | (n, BigInt) if n.is_integer() => BigInt,
        (Integer, n) | (n, Integer) if n.is_integer() => Integer,
        (Date, Timestamp) | (Timestamp, Date) => Timestamp,
        (Date | Timestamp, TimestampTz) | (TimestampTz, Date | Timestamp) => TimestampTz,
        _ => return None,
    })
}
