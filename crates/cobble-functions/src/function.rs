//! The list of scalar functions: a line for each, with the constant that says all about it.

use crate::scalar::{arrays, bytes, choice, json, numbers, pattern, text, times};
use crate::signature::{Scalar, Volatility};

crate::registered::registered! {
    /// A scalar function.
    Function of Scalar, crate::Kernel, "function";
    Lower => text::LOWER;
    Upper => text::UPPER;
    InitCap => text::INITCAP;
    Length => text::LENGTH;
    OctetLength => text::OCTET_LENGTH;
    Substring => text::SUBSTRING;
    Left => text::LEFT;
    Right => text::RIGHT;
    Trim => text::BTRIM;
    TrimStart => text::LTRIM;
    TrimEnd => text::RTRIM;
    Replace => text::REPLACE;
    Concat => text::CONCAT;
    ConcatWs => text::CONCAT_WS;
    Position => text::STRPOS;
    Levenshtein => text::LEVENSHTEIN;
    SplitPart => text::SPLIT_PART;
    PadStart => text::LPAD;
    PadEnd => text::RPAD;
    Reverse => text::REVERSE;
    Repeat => text::REPEAT;
    StartsWith => text::STARTS_WITH;
    Abs => numbers::ABS;
    Sign => numbers::SIGN;
    Round => numbers::ROUND;
    Trunc => numbers::TRUNC;
    Ceil => numbers::CEIL;
    Floor => numbers::FLOOR;
    Sqrt => numbers::SQRT;
    Power => numbers::POWER;
    Exp => numbers::EXP;
    Ln => numbers::LN;
    Log => numbers::LOG;
    Random => numbers::RANDOM;
    Coalesce => choice::COALESCE;
    Greatest => choice::GREATEST;
    Least => choice::LEAST;
    DatePart => times::DATE_PART;
    DateTrunc => times::DATE_TRUNC;
    MakeDate => times::MAKE_DATE;
    Cardinality => arrays::CARDINALITY;
    Ascii => text::ASCII;
    Chr => text::CHR;
    Md5 => text::MD5;
    Sha224 => bytes::SHA224;
    Sha256 => bytes::SHA256;
    Sha384 => bytes::SHA384;
    Sha512 => bytes::SHA512;
    Encode => bytes::ENCODE;
    Decode => bytes::DECODE;
    ConvertTo => bytes::CONVERT_TO;
    ConvertFrom => bytes::CONVERT_FROM;
    Unistr => text::UNISTR;
    ByteConcat => bytes::BYTE_CONCAT;
    GetByte => bytes::GET_BYTE;
    SetByte => bytes::SET_BYTE;
    BitCount => bytes::BIT_COUNT;
    GenRandomUuid => choice::GEN_RANDOM_UUID;
    Translate => text::TRANSLATE;
    Overlay => text::OVERLAY;
    BitLength => text::BIT_LENGTH;
    ToHex => text::TO_HEX;
    Normalize => text::NORMALIZE;
    ParseIdent => text::PARSE_IDENT;
    QuoteIdent => text::QUOTE_IDENT;
    QuoteLiteral => text::QUOTE_LITERAL;
    QuoteNullable => text::QUOTE_NULLABLE;
    Format => text::FORMAT;
    RegexpLike => pattern::REGEXP_LIKE;
    LikeEscape => pattern::LIKE_ESCAPE;
    RegexpReplace => pattern::REGEXP_REPLACE;
    RegexpMatch => pattern::REGEXP_MATCH;
    RegexpCount => pattern::REGEXP_COUNT;
    RegexpInstr => pattern::REGEXP_INSTR;
    RegexpSubstr => pattern::REGEXP_SUBSTR;
    RegexpSplitToArray => pattern::REGEXP_SPLIT_TO_ARRAY;
    SimilarTo => pattern::SIMILAR_TO;
    SimilarSubstring => pattern::SIMILAR_SUBSTRING;
    StringToArray => arrays::STRING_TO_ARRAY;
    ArrayToString => arrays::ARRAY_TO_STRING;
    Div => numbers::DIV;
    Gcd => numbers::GCD;
    Lcm => numbers::LCM;
    Scale => numbers::SCALE;
    MinScale => numbers::MIN_SCALE;
    TrimScale => numbers::TRIM_SCALE;
    Factorial => numbers::FACTORIAL;
    Cbrt => numbers::CBRT;
    Degrees => numbers::DEGREES;
    Radians => numbers::RADIANS;
    Pi => numbers::PI;
    Sin => numbers::SIN;
    Cos => numbers::COS;
    Tan => numbers::TAN;
    Cot => numbers::COT;
    Asin => numbers::ASIN;
    Acos => numbers::ACOS;
    Atan => numbers::ATAN;
    Atan2 => numbers::ATAN2;
    Sinh => numbers::SINH;
    Cosh => numbers::COSH;
    Tanh => numbers::TANH;
    Asinh => numbers::ASINH;
    Acosh => numbers::ACOSH;
    Atanh => numbers::ATANH;
    SinDegrees => numbers::SIND;
    CosDegrees => numbers::COSD;
    TanDegrees => numbers::TAND;
    CotDegrees => numbers::COTD;
    AsinDegrees => numbers::ASIND;
    AcosDegrees => numbers::ACOSD;
    AtanDegrees => numbers::ATAND;
    Atan2Degrees => numbers::ATAN2D;
    WidthBucket => numbers::WIDTH_BUCKET;
    BitAnd => numbers::BIT_AND;
    BitOr => numbers::BIT_OR;
    BitXor => numbers::BIT_XOR;
    BitNot => numbers::BIT_NOT;
    ShiftLeft => numbers::SHIFT_LEFT;
    ShiftRight => numbers::SHIFT_RIGHT;
    IsFinite => times::ISFINITE;
    Overlaps => times::OVERLAPS;
    Age => times::AGE;
    RoundTime => times::ROUND_TIME;
    DateBin => times::DATE_BIN;
    MakeTime => times::MAKE_TIME;
    MakeTimestamp => times::MAKE_TIMESTAMP;
    MakeTimestampTz => times::MAKE_TIMESTAMPTZ;
    MakeInterval => times::MAKE_INTERVAL;
    ToTimestamp => times::TO_TIMESTAMP;
    ToDate => times::TO_DATE;
    ToChar => times::TO_CHAR;
    ToNumber => times::TO_NUMBER;
    JustifyDays => times::JUSTIFY_DAYS;
    JustifyHours => times::JUSTIFY_HOURS;
    JustifyInterval => times::JUSTIFY_INTERVAL;
    AtTimeZone => times::TIMEZONE;
    MomentText => times::MOMENT_TEXT;
    ReadMoment => times::READ_MOMENT;
    AddToMoment => times::ADD_TO_MOMENT;
    MakeRow => arrays::ROW;
    MakeArray => arrays::ARRAY;
    ArrayLength => arrays::ARRAY_LENGTH;
    ArrayLower => arrays::ARRAY_LOWER;
    ArrayDims => arrays::ARRAY_DIMS;
    ArrayNdims => arrays::ARRAY_NDIMS;
    ArrayFlatten => arrays::ARRAY_FLATTEN;
    ArrayFill => arrays::ARRAY_FILL;
    ArraySlice => arrays::ARRAY_SLICE;
    TrimArray => arrays::TRIM_ARRAY;
    ArrayPositions => arrays::ARRAY_POSITIONS;
    ArrayReplace => arrays::ARRAY_REPLACE;
    ArrayAppend => arrays::ARRAY_APPEND;
    ArrayPrepend => arrays::ARRAY_PREPEND;
    ArrayCat => arrays::ARRAY_CAT;
    ArrayPosition => arrays::ARRAY_POSITION;
    ArrayRemove => arrays::ARRAY_REMOVE;
    ArrayContains => arrays::ARRAY_CONTAINS;
    ArrayOverlaps => arrays::ARRAY_OVERLAPS;
    AnyItem => arrays::ANY_ITEM;
    JsonGet => json::JSON_GET;
    JsonGetText => json::JSON_GET_TEXT;
    JsonPath => json::JSON_PATH;
    JsonPathText => json::JSON_PATH_TEXT;
    JsonContains => json::JSON_CONTAINS;
    JsonHasKey => json::JSON_HAS_KEY;
    JsonHasAny => json::JSON_HAS_ANY;
    JsonHasAll => json::JSON_HAS_ALL;
    JsonDelete => json::JSON_DELETE;
    JsonDeletePath => json::JSON_DELETE_PATH;
    JsonSet => json::JSONB_SET;
    JsonSetLax => json::JSONB_SET_LAX;
    JsonInsert => json::JSONB_INSERT;
    JsonConcat => json::JSON_CONCAT;
    JsonStripNulls => json::JSON_STRIP_NULLS;
    JsonPretty => json::JSONB_PRETTY;
    JsonObject => json::JSON_OBJECT;
    JsonbObject => json::JSONB_OBJECT;
    JsonOrder => json::JSON_ORDER;
    JsonRecord => json::JSON_RECORD;
    JsonArrayLength => json::JSON_ARRAY_LENGTH;
    JsonTypeof => json::JSON_TYPEOF;
    JsonBuildObject => json::JSON_BUILD_OBJECT;
    JsonBuildArray => json::JSON_BUILD_ARRAY;
    JsonbBuildObject => json::JSONB_BUILD_OBJECT;
    JsonbBuildArray => json::JSONB_BUILD_ARRAY;
    ToJson => json::TO_JSON;
    ToJsonb => json::TO_JSONB;
    JsonValue => json::JSON_VALUE;
    JsonQuery => json::JSON_QUERY;
    JsonExists => json::JSON_EXISTS;
    JsonPathExists => json::JSON_PATH_EXISTS;
    JsonPathMatch => json::JSON_PATH_MATCH;
    JsonPathQueryArray => json::JSON_PATH_QUERY_ARRAY;
    JsonPathQueryFirst => json::JSON_PATH_QUERY_FIRST;
    NumNulls => choice::NUM_NULLS;
    NumNonNulls => choice::NUM_NONNULLS;
}

impl Function {
    /// The function that a statement calls by this name, in lower case.
    pub fn callable(name: &str) -> Option<Function> {
        Function::by_name(name).filter(|function| function.entry().callable)
    }

    pub fn is_volatile(self) -> bool {
        self.entry().volatility == Volatility::Volatile
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use cobble_types::SqlType;

    use super::*;
    use crate::signature::Nulls;
    use crate::{Call, Evaluated};
    use arrow::array::Array;
    use cobble_types::Value;

    #[test]
    fn names_are_those_of_one_function() {
        let mut seen: HashMap<&str, &str> = HashMap::new();
        for function in Function::ALL {
            let entry = function.entry();
            for name in std::iter::once(&entry.name).chain(entry.aliases) {
                if let Some(other) = seen.insert(name, entry.name) {
                    panic!("{name} is a name of {other} and of {}", entry.name);
                }
                assert_eq!(*name, name.to_lowercase());
            }
            assert!(entry.about.ends_with('.') && !entry.example.0.is_empty(), "{} is not documented", entry.name);
        }
    }

    #[test]
    fn arguments_brought_to_their_types_find_the_same_overload() {
        let types = [
            SqlType::Null,
            SqlType::Text,
            SqlType::Bytea,
            SqlType::SmallInt,
            SqlType::BigInt,
            SqlType::Numeric { precision: 8, scale: 2 },
            SqlType::Double,
            SqlType::Date,
            SqlType::TimestampTz,
            SqlType::Time,
            SqlType::Interval,
            SqlType::Json,
            SqlType::Array(Box::new(SqlType::Integer)),
            SqlType::Array(Box::new(SqlType::Text)),
            SqlType::Array(Box::new(SqlType::Array(Box::new(SqlType::Integer)))),
        ];
        for function in Function::ALL {
            let (mut found, mut lists): (usize, Vec<Vec<SqlType>>) = (0, vec![vec![]]);
            for _ in 0..3 {
                lists = lists
                    .iter()
                    .flat_map(|list| types.iter().map(|own| [&list[..], std::slice::from_ref(own)].concat()))
                    .collect();
                for list in &lists {
                    let Some(first) = function.overload(list.iter().cloned()) else { continue };
                    found += 1;
                    let again = function.overload(first.arguments.clone()).unwrap();
                    assert_eq!(
                        (again.number, &again.arguments),
                        (first.number, &first.arguments),
                        "{} of {list:?}",
                        function.name()
                    );
                }
            }
            let none = function.entry().overloads.is_empty() || function.overload([]).is_some();
            assert!(found > 0 || none || function.entry().arguments.matches(',').count() > 2, "{}", function.name());
        }
    }

    /// A value of a type, to call kernels with beside a null.
    fn sample(sql_type: &SqlType) -> Value {
        match sql_type {
            SqlType::Bytea => Value::Bytea(vec![1]),
            SqlType::Boolean => Value::Boolean(true),
            SqlType::SmallInt => Value::SmallInt(1),
            SqlType::Integer => Value::Integer(1),
            SqlType::BigInt => Value::BigInt(1),
            SqlType::Double => Value::Double(1.0),
            SqlType::Numeric { precision, scale } => {
                Value::Numeric { unscaled: 1, precision: *precision, scale: *scale }
            }
            SqlType::Date => Value::Date(1),
            SqlType::Time => Value::Time(1),
            SqlType::Timestamp => Value::Timestamp(1),
            SqlType::TimestampTz => Value::TimestampTz(1),
            SqlType::Interval => Value::Interval { months: 0, days: 1, microseconds: 0 },
            SqlType::Json => Value::Text("{}".to_owned()),
            SqlType::Text => Value::Text("a".to_owned()),
            _ => Value::Null,
        }
    }

    #[test]
    fn a_strict_function_of_a_null_is_null() {
        let types = [
            SqlType::Text,
            SqlType::Bytea,
            SqlType::Integer,
            SqlType::Numeric { precision: 8, scale: 2 },
            SqlType::Double,
            SqlType::Boolean,
            SqlType::Date,
            SqlType::Timestamp,
            SqlType::TimestampTz,
            SqlType::Interval,
            SqlType::Json,
        ];
        let (mut wrong, mut called): (std::collections::BTreeSet<String>, usize) = Default::default();
        for function in Function::ALL.iter().filter(|function| function.entry().nulls == Nulls::Strict) {
            let mut lists: Vec<Vec<SqlType>> = vec![vec![]];
            for _ in 0..3 {
                lists = lists
                    .iter()
                    .flat_map(|list| types.iter().map(|own| [&list[..], std::slice::from_ref(own)].concat()))
                    .collect();
                for list in &lists {
                    let Some(found) = function.overload(list.clone()).filter(|found| found.arguments == *list) else {
                        continue;
                    };
                    for null in 0..list.len() {
                        let value = |(place, own): (usize, &SqlType)| {
                            let value = if place == null { Value::Null } else { sample(own) };
                            Evaluated::Scalar(value.to_array(own))
                        };
                        let values: Vec<Evaluated> = list.iter().enumerate().map(value).collect();
                        let arguments: Vec<&Evaluated> = values.iter().collect();
                        let result = found.returns.to_arrow();
                        let call = Call { name: function.name(), arguments: &arguments, rows: 1, result: &result };
                        called += 1;
                        // A value beside the null may be one that the function refuses.
                        if (found.overload.kernel)(&call).is_ok_and(|made| made.is_valid(0)) {
                            wrong.insert(format!("{} with a null in place {}", function.name(), null + 1));
                        }
                    }
                }
            }
        }
        assert!(wrong.is_empty() && called > 300, "{called} calls, wrong: {wrong:#?}");
    }
}
