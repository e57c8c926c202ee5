//! One error type for the whole core: a stable code, a message that names the thing at fault, its position in the
//! statement when that is known, and what to do about it.

use std::fmt;

use serde::{Deserialize, Serialize};

pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong, as a stable word that programs may compare. Never reworded, only added to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Code {
    Syntax,
    UnknownName,
    UnknownTable,
    UnknownSchema,
    UnknownCatalog,
    UnknownFunction,
    UnknownType,
    UnknownParameter,
    /// A prepared statement that does not exist.
    UnknownStatement,
    /// A setting or a collation that does not exist.
    UnknownObject,
    AmbiguousName,
    TypeMismatch,
    Grouping,
    Unsupported,
    InvalidValue,
    /// A text that does not read as a value of the type wanted.
    InvalidText,
    InvalidTime,
    InvalidRegex,
    InvalidLogarithm,
    InvalidPower,
    InvalidNtile,
    InvalidNthValue,
    /// A key of ORDER BY or DISTINCT ON that cannot stand there.
    InvalidKey,
    /// A function that is used as another kind of function.
    WrongKind,
    /// Two tables or common tables of one name.
    DuplicateAlias,
    /// Two columns of one name.
    DuplicateColumn,
    /// A window function where none may stand.
    WindowPlace,
    /// A recursion that does what a recursion may not.
    InvalidRecursion,
    /// Values of the one type have no form in the other.
    CannotCast,
    /// A date or time, or a part of one, that does not exist.
    TimeOutOfRange,
    SubstringLength,
    LimitCount,
    OffsetCount,
    /// A pattern that ends with its escape character.
    EscapeSequence,
    EscapeCharacter,
    /// A frame that begins or ends at a negative distance.
    FrameDistance,
    /// A JSON path that finds no member of this name.
    JsonMember,
    /// A JSON path that needs an object, an array, a place in an array, a number, a number to compute with, or one value alone.
    JsonNoObject,
    JsonNoArray,
    JsonPlace,
    JsonNoNumber,
    JsonOperand,
    JsonNotOne,
    ArraySubscript,
    NullNotAllowed,
    SampleShare,
    WidthBucket,
    /// More rows than the one that a value needs.
    Cardinality,
    DivisionByZero,
    /// A function in the script language came to grief.
    ScriptFailed,
    Overflow,
    BadSetting,
    AlreadyExists,
    InUse,
    /// Somebody else has changed the same first.
    Conflict,
    /// Nobody knows whether it was done.
    InDoubt,
    NotFound,
    SourceUnreachable,
    SourceSignIn,
    SourceRefused,
    SourceData,
    SourceTimeout,
    MemoryLimit,
    /// As much is under way as may be.
    Busy,
    TooComplex,
    TimeLimit,
    Cancelled,
    /// Nobody has signed in with this token.
    NotSignedIn,
    /// It belongs to somebody else.
    NotAllowed,
    Storage,
    Internal,
}

impl Code {
    /// The SQLSTATE of the same meaning (SQL:2016 part 2, table 38, with PostgreSQL's additions).
    pub fn sqlstate(self) -> &'static str {
        match self {
            Code::Syntax => "42601",
            Code::UnknownName => "42703",
            Code::UnknownTable => "42P01",
            Code::UnknownSchema => "3F000",
            Code::UnknownCatalog => "3D000",
            Code::UnknownFunction => "42883",
            Code::UnknownType => "42704",
            Code::UnknownParameter => "42P02",
            Code::UnknownStatement => "26000",
            Code::UnknownObject => "42704",
            Code::AmbiguousName => "42702",
            Code::TypeMismatch => "42804",
            Code::Grouping => "42803",
            Code::Unsupported => "0A000",
            Code::InvalidValue => "22023",
            Code::InvalidText => "22P02",
            Code::InvalidTime => "22007",
            Code::InvalidRegex => "2201B",
            Code::InvalidLogarithm => "2201E",
            Code::InvalidPower => "2201F",
            Code::InvalidNtile => "22014",
            Code::InvalidNthValue => "22016",
            Code::InvalidKey => "42P10",
            Code::WrongKind => "42809",
            Code::DuplicateAlias => "42712",
            Code::DuplicateColumn => "42701",
            Code::WindowPlace => "42P20",
            Code::InvalidRecursion => "42P19",
            Code::CannotCast => "42846",
            Code::TimeOutOfRange => "22008",
            Code::SubstringLength => "22011",
            Code::LimitCount => "2201W",
            Code::OffsetCount => "2201X",
            Code::EscapeSequence => "22025",
            Code::EscapeCharacter => "22019",
            Code::FrameDistance => "22013",
            Code::JsonMember => "2203A",
            Code::JsonNoObject => "2203C",
            Code::JsonNoArray => "22039",
            Code::JsonPlace => "22033",
            Code::JsonNoNumber => "22036",
            Code::JsonOperand => "2203B",
            Code::JsonNotOne => "22038",
            Code::ArraySubscript => "2202E",
            Code::NullNotAllowed => "22004",
            Code::SampleShare => "2202H",
            Code::WidthBucket => "2201G",
            Code::Cardinality => "21000",
            Code::DivisionByZero => "22012",
            Code::ScriptFailed => "38000",
            Code::Overflow => "22003",
            Code::BadSetting => "F0000",
            Code::AlreadyExists => "42710",
            Code::InUse => "2BP01",
            Code::Conflict => "40001",
            Code::InDoubt => "08007",
            Code::NotFound => "42704",
            Code::SourceUnreachable => "08001",
            Code::SourceSignIn => "28000",
            Code::SourceRefused => "08004",
            Code::SourceData => "22000",
            Code::SourceTimeout => "08006",
            Code::MemoryLimit => "53200",
            Code::Busy => "53300",
            Code::TooComplex => "54001",
            Code::TimeLimit => "57014",
            Code::Cancelled => "57014",
            Code::NotSignedIn => "28P01",
            Code::NotAllowed => "42501",
            Code::Storage => "58030",
            Code::Internal => "XX000",
        }
    }

    /// The word used in JSON, the same as the serialised form.
    pub fn word(self) -> String {
        serde_json::to_value(self).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default()
    }
}

/// A place in the text of a statement, both counted from one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Position {
    pub line: u64,
    pub column: u64,
}

#[derive(Debug, Clone, PartialEq, thiserror::Error, Serialize, Deserialize)]
pub struct Error {
    pub code: Code,
    pub message: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub position: Option<Position>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub hint: Option<String>,
}

impl Error {
    pub fn new(code: Code, message: impl Into<String>) -> Self {
        Error { code, message: message.into(), position: None, hint: None }
    }

    /// What is left of a run that has panicked.
    pub fn panicked(panic: &(dyn std::any::Any + Send)) -> Error {
        let texts = (panic.downcast_ref::<&str>().copied(), panic.downcast_ref::<String>());
        let what = texts.0.or(texts.1.map(String::as_str)).unwrap_or("for an unknown reason");
        Error::internal(format!("the run stopped: {what}"))
    }

    pub fn internal(message: impl Into<String>) -> Self {
        Error::new(Code::Internal, message)
            .hint("this is a fault of the engine; please report the statement that led here")
    }

    pub fn unsupported(what: impl fmt::Display) -> Self {
        Error::new(Code::Unsupported, format!("{what} is not supported"))
    }

    pub fn cancelled() -> Self {
        Error::new(Code::Cancelled, "the run was cancelled")
    }

    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// Sets the position, unless an inner place has been named already.
    #[must_use]
    pub fn at(mut self, position: Option<Position>) -> Self {
        if self.position.is_none() {
            self.position = position;
        }
        self
    }

    /// An error for a name nobody knows, with the closest known one as the hint.
    pub fn unknown<'a>(kind: &str, name: &str, known: impl IntoIterator<Item = &'a str>) -> Self {
        let code = match kind {
            "table" | "table or alias" => Code::UnknownTable,
            "schema" => Code::UnknownSchema,
            "catalog" => Code::UnknownCatalog,
            "function" => Code::UnknownFunction,
            "type" => Code::UnknownType,
            _ => Code::UnknownName,
        };
        let error = Error::new(code, format!("there is no {kind} named \"{name}\""));
        match crate::closest_name(name, known) {
            Some(close) => error.hint(format!("did you mean \"{close}\"?")),
            None => error,
        }
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.message)?;
        if let Some(Position { line, column }) = self.position {
            write!(f, " (line {line}, column {column})")?;
        }
        if let Some(hint) = &self.hint {
            write!(f, "; {hint}")?;
        }
        Ok(())
    }
}

/// Kernel errors keep the meaning that SQL gives them: overflow and division by zero are the user's to fix.
impl From<arrow::error::ArrowError> for Error {
    fn from(error: arrow::error::ArrowError) -> Self {
        use arrow::error::ArrowError;
        match error {
            ArrowError::DivideByZero => Error::new(Code::DivisionByZero, "division by zero"),
            ArrowError::ArithmeticOverflow(what) => {
                Error::new(Code::Overflow, format!("a value is out of the range of its type: {what}"))
            }
            ArrowError::CastError(what) | ArrowError::ParseError(what) => Error::new(Code::InvalidValue, what),
            ArrowError::InvalidArgumentError(what) if what.contains("is too large to store in a Decimal128") => {
                Error::new(Code::Overflow, "a numeric value has more than its type's digits")
            }
            ArrowError::ExternalError(inner) => match inner.downcast::<Error>() {
                Ok(own) => *own,
                Err(other) => Error::internal(other.to_string()),
            },
            other => Error::internal(other.to_string()),
        }
    }
}
