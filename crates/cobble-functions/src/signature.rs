//! What a function takes and returns, and what a scalar function is: names, overloads, volatility, what it does with nulls, what
//! it is for.

use arrow::array::ArrayRef;
use cobble_types::{Result, SqlType};

use crate::{Call, united_type};

/// Computes a function for a batch.
pub type Kernel = fn(&Call) -> Result<ArrayRef>;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Volatility {
    /// Same arguments, same answer, always.
    Immutable,
    /// A new answer for each row.
    Volatile,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Nulls {
    /// The answer is null as soon as an argument is.
    Strict,
    /// The function sees nulls and may answer something else.
    Seen,
}

/// An argument as a call gives it.
#[derive(Debug, Clone)]
pub struct Given {
    /// `Null` for a quoted literal and a parameter whose type is still open.
    pub sql_type: SqlType,
    /// The value of a constant whole number.
    pub number: Option<i32>,
}

impl Given {
    pub fn of(sql_type: SqlType) -> Given {
        Given { sql_type, number: None }
    }

    pub fn is_open(&self) -> bool {
        self.sql_type == SqlType::Null
    }
}

/// What a parameter accepts, and the type that the kernel receives. An argument without a type takes the parameter's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    Text,
    Bytes,
    Boolean,
    /// Whole numbers, as `integer`.
    Integer,
    /// Whole numbers, as `bigint`.
    BigInt,
    /// Whole numbers of any size, as they are.
    Whole,
    /// Any number, as `double precision`.
    Double,
    /// Any number, as it is.
    Number,
    /// Exact numbers, as `numeric`.
    Exact,
    /// Documents, and texts that are read as documents.
    Json,
    TextArray,
    /// Arrays of anything.
    Array,
    /// Intervals, and times of day as such.
    Interval,
    /// Dates and timestamps, as `timestamptz`.
    Moment,
    /// Dates and timestamps, as they are.
    TimePoint,
    /// What has microseconds: timestamps, times of day, intervals.
    Clock,
    /// A value of any type.
    Any,
    /// A value of any type, as text.
    AsText,
    /// What `min` and `max` compare.
    Ordered,
    /// Arrays of numbers, as arrays of `double precision`.
    DoubleArray,
}

impl Takes {
    fn accept(self, given: &SqlType) -> Option<SqlType> {
        use SqlType as T;
        let open = *given == T::Null;
        let fits = |fits: bool, becomes: SqlType| (fits || open).then_some(becomes);
        let own = |fits: bool, otherwise: SqlType| match open {
            true => Some(otherwise),
            false => fits.then(|| given.clone()),
        };
        match self {
            Takes::Text => fits(*given == T::Text, T::Text),
            Takes::Bytes => fits(*given == T::Bytea, T::Bytea),
            Takes::Boolean => fits(*given == T::Boolean, T::Boolean),
            Takes::Integer => fits(given.is_integer(), T::Integer),
            Takes::BigInt => fits(given.is_integer(), T::BigInt),
            Takes::Whole => own(given.is_integer(), T::Integer),
            Takes::Double => fits(given.is_number(), T::Double),
            Takes::Number => own(given.is_number(), T::Double),
            Takes::Exact => match given {
                T::Numeric { .. } => Some(given.clone()),
                whole => whole.is_integer().then_some(T::WIDE_NUMERIC),
            },
            Takes::Json => fits(matches!(given, T::Json | T::Text), T::Json),
            Takes::TextArray => {
                let texts = T::Array(Box::new(T::Text));
                fits(*given == texts, texts)
            }
            Takes::Array => matches!(given, T::Array(_)).then(|| given.clone()),
            Takes::Interval => fits(matches!(given, T::Interval | T::Time), T::Interval),
            Takes::Moment => fits(given.is_time_point(), T::TimestampTz),
            Takes::TimePoint => own(given.is_time_point(), T::Timestamp),
            Takes::Clock => {
                matches!(given, T::Timestamp | T::TimestampTz | T::Time | T::Interval).then(|| given.clone())
            }
            Takes::Any => Some(if open { T::Text } else { given.clone() }),
            Takes::AsText => Some(T::Text),
            Takes::Ordered => {
                own(given.is_ordered() && !matches!(given, T::Null | T::Boolean | T::Bytea | T::Uuid), T::Text)
            }
            Takes::DoubleArray => match given {
                T::Array(item) => item.is_number().then(|| array_of(T::Double)),
                _ => None,
            },
        }
    }
}

/// The type of a result.
#[derive(Debug, Clone, Copy)]
pub enum Returns {
    Text,
    Bytes,
    Boolean,
    Integer,
    BigInt,
    Double,
    Numeric(u8, i8),
    Json,
    Uuid,
    Date,
    Time,
    Timestamp,
    TimestampTz,
    Interval,
    TextArray,
    IntegerArray,
    /// That of an argument, counted from zero.
    Same(usize),
    /// An array of items of that argument's type.
    ArrayOf(usize),
}

impl Returns {
    fn sql_type(self, arguments: &[SqlType]) -> SqlType {
        match self {
            Returns::Text => SqlType::Text,
            Returns::Bytes => SqlType::Bytea,
            Returns::Boolean => SqlType::Boolean,
            Returns::Integer => SqlType::Integer,
            Returns::BigInt => SqlType::BigInt,
            Returns::Double => SqlType::Double,
            Returns::Numeric(precision, scale) => SqlType::Numeric { precision, scale },
            Returns::Json => SqlType::Json,
            Returns::Uuid => SqlType::Uuid,
            Returns::Date => SqlType::Date,
            Returns::Time => SqlType::Time,
            Returns::Timestamp => SqlType::Timestamp,
            Returns::TimestampTz => SqlType::TimestampTz,
            Returns::Interval => SqlType::Interval,
            Returns::TextArray => array_of(SqlType::Text),
            Returns::IntegerArray => array_of(SqlType::Integer),
            Returns::Same(place) => arguments.get(place).cloned().unwrap_or(SqlType::Null),
            Returns::ArrayOf(place) => array_of(arguments.get(place).cloned().unwrap_or(SqlType::Null)),
        }
    }
}

pub(crate) fn array_of(item: SqlType) -> SqlType {
    SqlType::Array(Box::new(item))
}

/// The argument types that the kernel receives, and the result type.
pub type Types = (Vec<SqlType>, SqlType);

#[derive(Debug, Clone, Copy)]
enum Parameters {
    /// One by one; as many as `optional` may be left out at the end.
    Listed { takes: &'static [Takes], optional: usize, returns: Returns },
    /// Any number of one kind behind the first ones, `least` of them at least.
    Repeated { first: &'static [Takes], rest: Takes, least: usize, returns: Returns },
    /// Where the types depend on one another.
    Together(fn(&[Given]) -> Option<Types>),
}

/// One way to call a function, and the kernel for it.
#[derive(Debug, Clone, Copy)]
pub struct Overload<K = Kernel> {
    parameters: Parameters,
    pub kernel: K,
}

impl<K> Overload<K> {
    pub const fn of(takes: &'static [Takes], returns: Returns, kernel: K) -> Overload<K> {
        Overload { parameters: Parameters::Listed { takes, optional: 0, returns }, kernel }
    }

    /// As many as `optional` of the listed parameters may be left out at the end.
    pub const fn with_optional(takes: &'static [Takes], optional: usize, returns: Returns, kernel: K) -> Overload<K> {
        Overload { parameters: Parameters::Listed { takes, optional, returns }, kernel }
    }

    /// Any number of arguments like `rest` behind the first ones, `least` of them at least.
    pub const fn repeated(
        first: &'static [Takes],
        rest: Takes,
        least: usize,
        returns: Returns,
        kernel: K,
    ) -> Overload<K> {
        Overload { parameters: Parameters::Repeated { first, rest, least, returns }, kernel }
    }

    /// Where the types depend on one another.
    pub const fn together(types: fn(&[Given]) -> Option<Types>, kernel: K) -> Overload<K> {
        Overload { parameters: Parameters::Together(types), kernel }
    }

    /// What the arguments become and what comes out, where the overload takes them.
    pub fn types(&self, given: &[Given]) -> Option<Types> {
        let accepted = |takes: &[Takes], given: &[Given]| -> Option<Vec<SqlType>> {
            takes.iter().zip(given).map(|(takes, given)| takes.accept(&given.sql_type)).collect()
        };
        match self.parameters {
            Parameters::Listed { takes, optional, returns } => {
                if given.len() > takes.len() || given.len() + optional < takes.len() {
                    return None;
                }
                let arguments = accepted(takes, given)?;
                let result = returns.sql_type(&arguments);
                Some((arguments, result))
            }
            Parameters::Repeated { first, rest, least, returns } => {
                let others = given.len().checked_sub(first.len()).filter(|n| *n >= least)?;
                let mut arguments = accepted(first, given)?;
                arguments.extend(accepted(&vec![rest; others], &given[first.len()..])?);
                let result = returns.sql_type(&arguments);
                Some((arguments, result))
            }
            Parameters::Together(types) => types(given),
        }
    }
}

/// A scalar function.
#[derive(Debug, Clone, Copy)]
pub struct Scalar {
    pub name: &'static str,
    /// Other names of the same function.
    pub aliases: &'static [&'static str],
    /// Arguments in words.
    pub arguments: &'static str,
    /// The names of parameters, for calls such as `make_interval(days => 3)`.
    pub parameters: &'static [&'static str],
    /// What it returns, in a sentence.
    pub about: &'static str,
    /// A call, and the text of what comes out; nothing where that is another value each time.
    pub example: (&'static str, &'static str),
    pub volatility: Volatility,
    pub nulls: Nulls,
    /// False where only the planner makes calls of it, such as for an operator that no name stands for.
    pub callable: bool,
    /// In the order in which they are tried. None where the binder writes every call in other words.
    pub overloads: &'static [Overload],
}

impl Scalar {
    pub const fn new(
        name: &'static str,
        arguments: &'static str,
        about: &'static str,
        example: (&'static str, &'static str),
        overloads: &'static [Overload],
    ) -> Scalar {
        Scalar {
            name,
            aliases: &[],
            arguments,
            parameters: &[],
            about,
            example,
            volatility: Volatility::Immutable,
            nulls: Nulls::Strict,
            callable: true,
            overloads,
        }
    }

    pub const fn also(self, aliases: &'static [&'static str]) -> Scalar {
        Scalar { aliases, ..self }
    }

    pub const fn named(self, parameters: &'static [&'static str]) -> Scalar {
        Scalar { parameters, ..self }
    }

    pub const fn volatile(self) -> Scalar {
        Scalar { volatility: Volatility::Volatile, ..self }
    }

    pub const fn sees_nulls(self) -> Scalar {
        Scalar { nulls: Nulls::Seen, ..self }
    }

    pub const fn only_planned(self) -> Scalar {
        Scalar { callable: false, ..self }
    }
}

/// What a call comes to.
#[derive(Debug, Clone)]
pub struct Resolved<K: 'static = Kernel> {
    pub overload: &'static Overload<K>,
    /// The place of the overload among those of the function.
    pub number: usize,
    /// The type that each argument must have for the kernel.
    pub arguments: Vec<SqlType>,
    pub returns: SqlType,
}

impl Scalar {
    /// The first overload that takes these arguments.
    pub fn resolve(&self, given: &[Given]) -> Option<Resolved> {
        resolve(self.overloads, given)
    }
}

/// The first overload that takes these arguments.
pub(crate) fn resolve<K>(overloads: &'static [Overload<K>], given: &[Given]) -> Option<Resolved<K>> {
    overloads.iter().enumerate().find_map(|(number, overload)| {
        let (arguments, returns) = overload.types(given)?;
        Some(Resolved { overload, number, arguments, returns })
    })
}

/// All arguments in their common type.
pub(crate) fn unified(given: &[Given]) -> Option<SqlType> {
    let common = given.iter().try_fold(SqlType::Null, |common, own| united_type(&common, &own.sql_type))?;
    Some(if common == SqlType::Null { SqlType::Text } else { common })
}
