//! The registry of scalar functions: name, what they take and return, how volatile they are, and whether PostgreSQL's
//! function of the same name is provably the same, which lets the function cross a gate.

use cobble_types::{RowField, SqlType};

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
    Cardinality, "cardinality", [], "array", Immutable, false;
    Ascii, "ascii", [], "text", Immutable, true;
    Chr, "chr", [], "number", Immutable, false;
    Md5, "md5", [], "text", Immutable, true;
    Sha224, "sha224", [], "bytea", Immutable, false;
    Sha256, "sha256", [], "bytea", Immutable, false;
    Sha384, "sha384", [], "bytea", Immutable, false;
    Sha512, "sha512", [], "bytea", Immutable, false;
    Encode, "encode", [], "bytea, form", Immutable, false;
    Decode, "decode", [], "text, form", Immutable, false;
    ConvertTo, "convert_to", [], "text, encoding", Immutable, false;
    ConvertFrom, "convert_from", [], "bytea, encoding", Immutable, false;
    Unistr, "unistr", [], "text", Immutable, false;
    ByteConcat, "byte_concat", [], "bytea, bytea", Immutable, false;
    GetByte, "get_byte", [], "bytea, place", Immutable, false;
    SetByte, "set_byte", [], "bytea, place, byte", Immutable, false;
    BitCount, "bit_count", [], "bytea", Immutable, false;
    GenRandomUuid, "gen_random_uuid", [], "", Volatile, false;
    Translate, "translate", [], "text, from, to", Immutable, true;
    Overlay, "overlay", [], "text, replacement, start [, count]", Immutable, false;
    BitLength, "bit_length", [], "text", Immutable, true;
    ToHex, "to_hex", [], "integer", Immutable, true;
    Normalize, "normalize", [], "text [, NFC, NFD, NFKC or NFKD]", Immutable, false;
    ParseIdent, "parse_ident", [], "text [, strict]", Immutable, false;
    QuoteIdent, "quote_ident", [], "text", Immutable, false;
    QuoteLiteral, "quote_literal", [], "any", Immutable, false;
    QuoteNullable, "quote_nullable", [], "any", Immutable, false;
    Format, "format", [], "text [, any, …]", Immutable, false;
    RegexpLike, "regexp_like", [], "text, pattern [, flags]", Immutable, false;
    LikeEscape, "like_escape", [], "pattern, escape", Immutable, false;
    RegexpReplace, "regexp_replace", [], "text, pattern, replacement [, start [, n]] [, flags]", Immutable, false;
    RegexpMatch, "regexp_match", [], "text, pattern [, flags]", Immutable, false;
    RegexpCount, "regexp_count", [], "text, pattern [, start [, flags]]", Immutable, false;
    RegexpInstr, "regexp_instr", [], "text, pattern [, start [, n [, end [, flags [, group]]]]]", Immutable, false;
    RegexpSubstr, "regexp_substr", [], "text, pattern [, start [, n [, flags [, group]]]]", Immutable, false;
    RegexpSplitToArray, "regexp_split_to_array", [], "text, pattern [, flags]", Immutable, false;
    SimilarTo, "similar_to", [], "text, pattern [, escape]", Immutable, false;
    SimilarSubstring, "similar_substring", [], "text, pattern, escape", Immutable, false;
    StringToArray, "string_to_array", [], "text, separator [, null text]", Immutable, false;
    ArrayToString, "array_to_string", [], "array, separator [, null text]", Immutable, false;
    Div, "div", [], "numeric, numeric", Immutable, false;
    Gcd, "gcd", [], "exact number, exact number", Immutable, false;
    Lcm, "lcm", [], "exact number, exact number", Immutable, false;
    Scale, "scale", [], "numeric", Immutable, false;
    MinScale, "min_scale", [], "numeric", Immutable, false;
    TrimScale, "trim_scale", [], "numeric", Immutable, false;
    Factorial, "factorial", [], "integer", Immutable, false;
    Cbrt, "cbrt", [], "number", Immutable, false;
    Degrees, "degrees", [], "number", Immutable, false;
    Radians, "radians", [], "number", Immutable, false;
    Pi, "pi", [], "", Immutable, false;
    Sin, "sin", [], "number", Immutable, false;
    Cos, "cos", [], "number", Immutable, false;
    Tan, "tan", [], "number", Immutable, false;
    Cot, "cot", [], "number", Immutable, false;
    Asin, "asin", [], "number", Immutable, false;
    Acos, "acos", [], "number", Immutable, false;
    Atan, "atan", [], "number", Immutable, false;
    Atan2, "atan2", [], "number, number", Immutable, false;
    Sinh, "sinh", [], "number", Immutable, false;
    Cosh, "cosh", [], "number", Immutable, false;
    Tanh, "tanh", [], "number", Immutable, false;
    Asinh, "asinh", [], "number", Immutable, false;
    Acosh, "acosh", [], "number", Immutable, false;
    Atanh, "atanh", [], "number", Immutable, false;
    SinDegrees, "sind", [], "degrees", Immutable, false;
    CosDegrees, "cosd", [], "degrees", Immutable, false;
    TanDegrees, "tand", [], "degrees", Immutable, false;
    CotDegrees, "cotd", [], "degrees", Immutable, false;
    AsinDegrees, "asind", [], "number", Immutable, false;
    AcosDegrees, "acosd", [], "number", Immutable, false;
    AtanDegrees, "atand", [], "number", Immutable, false;
    Atan2Degrees, "atan2d", [], "number, number", Immutable, false;
    WidthBucket, "width_bucket", [], "number, low, high, count", Immutable, false;
    BitAnd, "bitwise_and", [], "integer, integer", Immutable, false;
    BitOr, "bitwise_or", [], "integer, integer", Immutable, false;
    BitXor, "bitwise_xor", [], "integer, integer", Immutable, false;
    BitNot, "bitwise_not", [], "integer", Immutable, false;
    ShiftLeft, "shift_left", [], "integer, places", Immutable, false;
    ShiftRight, "shift_right", [], "integer, places", Immutable, false;
    IsFinite, "isfinite", [], "time or interval", Immutable, false;
    Overlaps, "overlaps", [], "start, end, start, end", Immutable, false;
    Age, "age", [], "timestamp [, timestamp]", Immutable, false;
    RoundTime, "round_time", [], "time or interval, digits", Immutable, false;
    DateBin, "date_bin", [], "interval, timestamp, origin", Immutable, false;
    MakeTime, "make_time", [], "hour, minute, second", Immutable, false;
    MakeTimestamp, "make_timestamp", [], "year, month, day, hour, minute, second", Immutable, false;
    MakeTimestampTz, "make_timestamptz", [], "year, month, day, hour, minute, second [, zone]", Immutable, false;
    MakeInterval, "make_interval", [], "[years [, months [, weeks [, days [, hours [, minutes [, seconds]]]]]]]", Immutable, false;
    ToTimestamp, "to_timestamp", [], "seconds, or text, format", Immutable, false;
    ToDate, "to_date", [], "text, format", Immutable, false;
    ToChar, "to_char", [], "time or number, format", Immutable, false;
    ToNumber, "to_number", [], "text, format", Immutable, false;
    JustifyDays, "justify_days", [], "interval", Immutable, false;
    JustifyHours, "justify_hours", [], "interval", Immutable, false;
    JustifyInterval, "justify_interval", [], "interval", Immutable, false;
    AtTimeZone, "timezone", [], "zone, time", Immutable, false;
    MomentText, "moment_text", [], "zone, timestamptz", Immutable, false;
    ReadMoment, "read_moment", [], "zone, text", Immutable, false;
    AddToMoment, "add_to_moment", [], "zone, timestamptz, interval", Immutable, false;
    MakeRow, "row", [], "any, …", Immutable, false;
    MakeArray, "array", [], "any, …", Immutable, false;
    ArrayLength, "array_length", ["array_upper"], "array, dimension", Immutable, false;
    ArrayLower, "array_lower", [], "array, dimension", Immutable, false;
    ArrayDims, "array_dims", [], "array", Immutable, false;
    ArrayNdims, "array_ndims", [], "array", Immutable, false;
    ArrayFlatten, "array_flatten", [], "array of arrays", Immutable, false;
    ArrayFill, "array_fill", [], "any, ARRAY[length, …]", Immutable, false;
    ArraySlice, "array_slice", [], "array, from, to, …", Immutable, false;
    TrimArray, "trim_array", [], "array, n", Immutable, false;
    ArrayPositions, "array_positions", [], "array, item", Immutable, false;
    ArrayReplace, "array_replace", [], "array, from, to", Immutable, false;
    ArrayAppend, "array_append", [], "array, item", Immutable, false;
    ArrayPrepend, "array_prepend", [], "item, array", Immutable, false;
    ArrayCat, "array_cat", [], "array, array", Immutable, false;
    ArrayPosition, "array_position", [], "array, item", Immutable, false;
    ArrayRemove, "array_remove", [], "array, item", Immutable, false;
    ArrayContains, "array_contains", [], "array, array", Immutable, false;
    ArrayOverlaps, "array_overlaps", [], "array, array", Immutable, false;
    AnyItem, "any_item", [], "operator, any, array", Immutable, false;
    JsonGet, "json_get", [], "json, key or place", Immutable, false;
    JsonGetText, "json_get_text", [], "json, key or place", Immutable, false;
    JsonPath, "json_extract_path", ["jsonb_extract_path"], "json, key, …", Immutable, false;
    JsonPathText, "json_extract_path_text", ["jsonb_extract_path_text"], "json, key, …", Immutable, false;
    JsonContains, "json_contains", [], "json, json", Immutable, false;
    JsonHasKey, "json_has_key", [], "json, key", Immutable, false;
    JsonHasAny, "json_has_any", [], "json, keys", Immutable, false;
    JsonHasAll, "json_has_all", [], "json, keys", Immutable, false;
    JsonDelete, "json_delete", [], "json, key, keys or place", Immutable, false;
    JsonDeletePath, "json_delete_path", ["jsonb_delete_path"], "json, path", Immutable, false;
    JsonSet, "jsonb_set", [], "json, path, value [, create]", Immutable, false;
    JsonSetLax, "jsonb_set_lax", [], "json, path, value [, create [, null treatment]]", Immutable, false;
    JsonInsert, "jsonb_insert", [], "json, path, value [, after]", Immutable, false;
    JsonConcat, "json_concat", ["jsonb_concat"], "json, json", Immutable, false;
    JsonStripNulls, "json_strip_nulls", ["jsonb_strip_nulls"], "json", Immutable, false;
    JsonPretty, "jsonb_pretty", [], "json", Immutable, false;
    JsonObject, "json_object", [], "text[] [, text[]]", Immutable, false;
    JsonbObject, "jsonb_object", [], "text[] [, text[]]", Immutable, false;
    JsonOrder, "json_order", [], "json", Immutable, false;
    JsonRecord, "json_record", [], "json", Immutable, false;
    JsonArrayLength, "json_array_length", ["jsonb_array_length"], "json", Immutable, false;
    JsonTypeof, "json_typeof", ["jsonb_typeof"], "json", Immutable, false;
    JsonBuildObject, "json_build_object", [], "key, any, …", Immutable, false;
    JsonBuildArray, "json_build_array", [], "any, …", Immutable, false;
    JsonbBuildObject, "jsonb_build_object", [], "key, any, …", Immutable, false;
    JsonbBuildArray, "jsonb_build_array", [], "any, …", Immutable, false;
    ToJson, "to_json", ["row_to_json", "array_to_json"], "any", Immutable, false;
    ToJsonb, "to_jsonb", [], "any", Immutable, false;
    JsonValue, "json_value", [], "json, path", Immutable, false;
    JsonQuery, "json_query", [], "json, path", Immutable, false;
    JsonExists, "json_exists", [], "json, path", Immutable, false;
    JsonPathExists, "json_path_exists", ["jsonb_path_exists"], "json, path [, variables [, silent]]", Immutable, false;
    JsonPathMatch, "json_path_match", ["jsonb_path_match"], "json, path [, variables [, silent]]", Immutable, false;
    JsonPathQueryArray, "json_path_query_array", ["jsonb_path_query_array"], "json, path [, variables [, silent]]", Immutable, false;
    JsonPathQueryFirst, "json_path_query_first", ["jsonb_path_query_first"], "json, path [, variables [, silent]]", Immutable, false;
    NumNulls, "num_nulls", [], "any, …", Immutable, false;
    NumNonNulls, "num_nonnulls", [], "any, …", Immutable, false;
}

crate::serial::serialised_by_name!(Function, "function");

impl Function {
    pub fn is_volatile(self) -> bool {
        self.volatility() == Volatility::Volatile
    }

    /// True when the answer is null as soon as an argument is.
    pub fn is_strict(self) -> bool {
        use Function::*;
        !matches!(
            self,
            Coalesce
                | Greatest
                | Least
                | Concat
                | ConcatWs
                | Format
                | MakeArray
                | MakeRow
                | ArrayAppend
                | ArrayPrepend
                | ArrayCat
                | ArrayPosition
                | ArrayRemove
                | ArrayToString
                | AnyItem
                | QuoteNullable
                | JsonBuildObject
                | JsonBuildArray
                | JsonbBuildObject
                | JsonbBuildArray
                | ArrayPositions
                | ArrayReplace
                | ArrayFill
                | Overlaps
                | NumNulls
                | NumNonNulls
        )
    }
}

/// The type to which constructs such as CASE and UNION bring values: as `wider_type`, and arrays by their items, which no operator
/// brings together (PostgreSQL manual 10.5).
pub fn united_type(left: &SqlType, right: &SqlType) -> Option<SqlType> {
    match (left, right) {
        (SqlType::Array(l), SqlType::Array(r)) => Some(SqlType::Array(Box::new(united_type(l, r)?))),
        _ => wider_type(left, right),
    }
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
        (Row(l), Row(r)) if l.len() == r.len() => {
            let fields = l
                .iter()
                .zip(r)
                .map(|(l, r)| Some(RowField { name: l.name.clone(), sql_type: wider_type(&l.sql_type, &r.sql_type)? }));
            Row(fields.collect::<Option<_>>()?)
        }
        (Date, Timestamp) | (Timestamp, Date) => Timestamp,
        (Date | Timestamp, TimestampTz) | (TimestampTz, Date | Timestamp) => TimestampTz,
        _ => return None,
    })
}
