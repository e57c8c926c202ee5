//! SQL/JSON paths (SQL:2016 part 2, 9.39; PostgreSQL manual 9.16.2): access, filters, arithmetic, the plain methods; lax and strict.

mod parser;

use std::borrow::Cow;
use std::cell::RefCell;
use std::cmp::Ordering;
use std::collections::HashMap;
use std::rc::Rc;

use cobble_types::{Code, Error, Result};
use serde_json::Value as Json;

use self::parser::Parser;
use super::pattern::cached;

/// A parsed path.
#[derive(Debug)]
pub struct Path {
    strict: bool,
    root: Node,
}

#[derive(Debug)]
enum Node {
    /// `$`, the whole document.
    Root,
    /// `@`, what a filter looks at.
    Current,
    Variable(String),
    Literal(Json),
    /// `last` inside a subscript.
    Last,
    Access(Box<Node>, Vec<Accessor>),
    /// With a sign before it: negative, or as it is.
    Signed(bool, Box<Node>),
    Arithmetic(Box<Node>, char, Box<Node>),
    Test(Box<Test>),
}

#[derive(Debug)]
enum Accessor {
    Member(String),
    AnyMember,
    /// `.**`, the value and everything inside it, between two levels; the deepest one is `usize::MAX`.
    Everything {
        first: usize,
        last: usize,
    },
    AnyItem,
    Items(Vec<(Node, Option<Node>)>),
    Filter(Test),
    Method(Method),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Method {
    Type,
    Size,
    Double,
    Abs,
    Floor,
    Ceiling,
    KeyValue,
}

#[derive(Debug)]
enum Test {
    Compare(Node, Comparison, Node),
    And(Box<Test>, Box<Test>),
    Or(Box<Test>, Box<Test>),
    Not(Box<Test>),
    IsUnknown(Box<Test>),
    Exists(Node),
    StartsWith(Node, Node),
    Regex { value: Node, pattern: String, flags: String },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

/// Paths of a statement are few: the last ones stay parsed.
const REMEMBERED: usize = 50;

thread_local! {
    static KNOWN: RefCell<HashMap<String, Rc<Path>>> = RefCell::default();
}

impl Path {
    pub fn parsed(text: &str) -> Result<Rc<Path>> {
        KNOWN.with_borrow_mut(|known| {
            if let Some(path) = known.get(text) {
                return Ok(path.clone());
            }
            let path = Rc::new(Parser::of(text).path()?);
            if known.len() >= REMEMBERED {
                known.clear();
            }
            known.insert(text.to_owned(), path.clone());
            Ok(path)
        })
    }

    /// Everything that the path finds. In lax mode what is not there is left out; in strict mode it is an error, as is arithmetic on
    /// what is no number in either.
    pub fn find<'a>(&self, document: &'a Json, variables: &'a Json) -> Result<Vec<Cow<'a, Json>>> {
        let look = Look { strict: self.strict, document, variables, passes_over: false, last: None };
        look.values(&self.root, document)
    }
}

/// One evaluation.
#[derive(Clone, Copy)]
struct Look<'a> {
    strict: bool,
    document: &'a Json,
    variables: &'a Json,
    /// What has not the form that strict mode demands is passed over, and no error.
    passes_over: bool,
    /// The last place of the array whose subscripts are being read.
    last: Option<usize>,
}

type Found<'a> = Vec<Cow<'a, Json>>;

fn fault(code: Code, what: impl Into<String>) -> Error {
    Error::new(code, format!("a JSON path: {}", what.into()))
}

fn number(value: f64) -> Json {
    serde_json::Number::from_f64(value).map_or(Json::Null, Json::Number)
}

/// The items of arrays in their place, one level deep.
fn unwrapped(values: Found<'_>) -> Found<'_> {
    let mut out = Vec::with_capacity(values.len());
    for value in values {
        match value {
            Cow::Borrowed(Json::Array(items)) => out.extend(items.iter().map(Cow::Borrowed)),
            Cow::Owned(Json::Array(items)) => out.extend(items.into_iter().map(Cow::Owned)),
            other => out.push(other),
        }
    }
    out
}

/// The parts of a value that is borrowed or owned, in the same way.
fn parts<'a>(value: Cow<'a, Json>, take: impl Fn(&Json) -> Vec<&Json>) -> Found<'a> {
    match value {
        Cow::Borrowed(value) => take(value).into_iter().map(Cow::Borrowed).collect(),
        Cow::Owned(value) => take(&value).into_iter().map(|part| Cow::Owned(part.clone())).collect(),
    }
}

/// The value and what is inside it, as far as it lies between these levels. The level `usize::MAX` as the first one means values
/// without anything inside.
fn everything<'a>(value: &'a Json, level: usize, between: (usize, usize), out: &mut Vec<&'a Json>) {
    let (first, last) = between;
    let is_leaf = level > 0 && !value.is_array() && !value.is_object();
    if (level >= first || first == usize::MAX && is_leaf) && level <= last {
        out.push(value);
    }
    let mut inside = |part| everything(part, level + 1, between, out);
    match value {
        Json::Array(items) if level < last => items.iter().for_each(&mut inside),
        Json::Object(members) if level < last => members.values().for_each(&mut inside),
        _ => {}
    }
}

impl<'a> Look<'a> {
    /// Whether a value that has not the expected form is an error.
    fn demands(&self) -> bool {
        self.strict && !self.passes_over
    }

    fn values(&self, node: &Node, current: &'a Json) -> Result<Found<'a>> {
        Ok(match node {
            Node::Root => vec![Cow::Borrowed(self.document)],
            Node::Current => vec![Cow::Borrowed(current)],
            Node::Variable(name) => match self.variables.get(name) {
                Some(value) => vec![Cow::Borrowed(value)],
                None => return Err(fault(Code::UnknownObject, format!("there is no variable \"{name}\""))),
            },
            Node::Literal(value) => vec![Cow::Owned(value.clone())],
            Node::Last => match self.last {
                Some(last) => vec![Cow::Owned(last.into())],
                None => return Err(fault(Code::Syntax, "\"last\" is allowed only in a subscript")),
            },
            Node::Access(from, accessors) => {
                let mut values = self.values(from, current)?;
                // Not every value that `**` finds can have what is looked for in it.
                let mut look = *self;
                for accessor in accessors {
                    values = look.accessed(values, accessor)?;
                    look.passes_over |= matches!(accessor, Accessor::Everything { .. });
                }
                values
            }
            Node::Signed(negative, inner) => {
                let mut out = Vec::new();
                for value in self.operands(inner, current)? {
                    out.push(Cow::Owned(match value.as_ref() {
                        Json::Number(n) if !negative => Json::Number(n.clone()),
                        Json::Number(n) => match n.as_i64().and_then(i64::checked_neg) {
                            Some(whole) => whole.into(),
                            None => number(-n.as_f64().unwrap_or_default()),
                        },
                        _ => return Err(fault(Code::JsonOperand, "a sign needs a number")),
                    }));
                }
                out
            }
            Node::Arithmetic(left, sign, right) => {
                let single = |values: Found<'a>| match <[Cow<'a, Json>; 1]>::try_from(values) {
                    Ok([Cow::Borrowed(Json::Number(n))]) => Ok(n.clone()),
                    Ok([Cow::Owned(Json::Number(n))]) => Ok(n),
                    _ => Err(fault(Code::JsonNotOne, format!("{sign} needs a single number on each side"))),
                };
                let left = single(self.operands(left, current)?)?;
                let right = single(self.operands(right, current)?)?;
                vec![Cow::Owned(arithmetic(&left, *sign, &right)?)]
            }
            Node::Test(test) => vec![Cow::Owned(self.truth(test, current).map_or(Json::Null, Json::Bool))],
        })
    }

    /// Values that are computed with: lax mode takes arrays apart.
    fn operands(&self, node: &Node, current: &'a Json) -> Result<Found<'a>> {
        let values = self.values(node, current)?;
        Ok(if self.strict { values } else { unwrapped(values) })
    }

    fn accessed(&self, values: Found<'a>, accessor: &Accessor) -> Result<Found<'a>> {
        let apart = |values| if self.strict { values } else { unwrapped(values) };
        let mut out: Found<'a> = Vec::new();
        match accessor {
            Accessor::Member(name) => {
                for value in apart(values) {
                    if self.demands() && value.get(name).is_none() {
                        return Err(fault(Code::JsonMember, format!("there is no member \"{name}\"")));
                    }
                    out.extend(parts(value, |v| {
                        v.as_object().and_then(|members| members.get(name)).into_iter().collect()
                    }));
                }
            }
            Accessor::AnyMember => {
                for value in apart(values) {
                    if self.demands() && !value.is_object() {
                        return Err(fault(Code::JsonNoObject, "\".*\" needs an object"));
                    }
                    out.extend(parts(value, |v| v.as_object().map(|m| m.values().collect()).unwrap_or_default()));
                }
            }
            Accessor::Everything { first, last } => {
                for value in values {
                    out.extend(parts(value, |v| {
                        let mut all = Vec::new();
                        everything(v, 0, (*first, *last), &mut all);
                        all
                    }));
                }
            }
            Accessor::AnyItem => {
                for value in values {
                    match value.as_ref() {
                        Json::Array(_) => out.extend(unwrapped(vec![value])),
                        _ if self.demands() => return Err(fault(Code::JsonNoArray, "a subscript needs an array")),
                        _ if self.strict => {}
                        _ => out.push(value),
                    }
                }
            }
            Accessor::Items(places) => {
                for value in values {
                    let length = match value.as_ref() {
                        Json::Array(items) => items.len(),
                        _ if self.demands() => return Err(fault(Code::JsonNoArray, "a subscript needs an array")),
                        _ if self.strict => continue,
                        _ => 1,
                    };
                    let chosen = self.places(places, length)?;
                    match value.as_ref() {
                        Json::Array(_) => out.extend(parts(value, |v| {
                            chosen.iter().filter_map(|place| v.as_array().and_then(|items| items.get(*place))).collect()
                        })),
                        _ => out.extend(chosen.iter().map(|_| value.clone())),
                    }
                }
            }
            Accessor::Filter(test) => {
                for value in apart(values) {
                    let holds = self.truth(test, value.as_ref());
                    if holds == Some(true) {
                        out.push(value);
                    }
                }
            }
            Accessor::Method(Method::KeyValue) => {
                for (id, value) in apart(values).into_iter().enumerate() {
                    let Json::Object(members) = value.as_ref() else {
                        return Err(fault(Code::JsonNoObject, "keyvalue() needs an object"));
                    };
                    let mut members: Vec<(&String, &Json)> = members.iter().collect();
                    members.sort_by_key(|(key, _)| (key.len(), *key));
                    out.extend(
                        members.into_iter().map(|(key, value)| {
                            Cow::Owned(serde_json::json!({ "id": id, "key": key, "value": value }))
                        }),
                    );
                }
            }
            Accessor::Method(method) => {
                let values = if matches!(method, Method::Type | Method::Size) { values } else { apart(values) };
                for value in values {
                    if *method == Method::Size && self.strict && self.passes_over && !value.is_array() {
                        continue;
                    }
                    out.push(Cow::Owned(self.method(*method, &value)?));
                }
            }
        }
        Ok(out)
    }

    fn places(&self, places: &[(Node, Option<Node>)], length: usize) -> Result<Vec<usize>> {
        let look = Look { last: Some(length.saturating_sub(1)), ..*self };
        let place = |node: &Node| -> Result<i64> {
            match look.values(node, self.document)?.as_slice() {
                [one] => match one.as_f64() {
                    Some(place) if place.abs() <= f64::from(i32::MAX) => Ok(place.trunc() as i64),
                    Some(_) => Err(fault(Code::JsonPlace, "a subscript is out of the range of integers")),
                    None => Err(fault(Code::JsonPlace, "a subscript must be a single number")),
                },
                _ => Err(fault(Code::JsonPlace, "a subscript must be a single number")),
            }
        };
        let mut out = Vec::new();
        for (from, to) in places {
            let first = place(from)?;
            let last = to.as_ref().map(&place).transpose()?.unwrap_or(first);
            if self.demands() && (first < 0 || first > last || last >= length as i64) {
                return Err(fault(Code::JsonPlace, format!("there is no item {last}")));
            }
            out.extend((first.max(0)..=last.min(length as i64 - 1)).map(|place| place as usize));
        }
        Ok(out)
    }

    fn method(&self, method: Method, value: &Json) -> Result<Json> {
        Ok(match method {
            Method::Type => super::json::type_name(value).into(),
            Method::Size => match value {
                Json::Array(items) => items.len().into(),
                _ if self.strict => return Err(fault(Code::JsonNoArray, "size() needs an array")),
                _ => 1.into(),
            },
            Method::Double => match value {
                Json::Number(n) => Json::Number(n.clone()),
                Json::String(text) => match text.trim().parse::<f64>() {
                    Ok(value) if value.is_finite() => whole_or(value),
                    _ => return Err(fault(Code::JsonNoNumber, format!("\"{text}\" is not a number"))),
                },
                _ => return Err(fault(Code::JsonNoNumber, "double() needs a number or a string")),
            },
            Method::Abs | Method::Floor | Method::Ceiling => match (value, value.as_i64()) {
                (_, Some(whole)) if method != Method::Abs || whole >= 0 => whole.into(),
                (Json::Number(n), _) => {
                    let n = n.as_f64().unwrap_or_default();
                    whole_or(match method {
                        Method::Abs => n.abs(),
                        Method::Floor => n.floor(),
                        _ => n.ceil(),
                    })
                }
                _ => return Err(fault(Code::JsonNoNumber, "abs(), floor() and ceiling() need a number")),
            },
            Method::KeyValue => return Err(fault(Code::Internal, "keyvalue() gives several values")),
        })
    }

    /// Whether a test holds; nothing when that is unknown.
    fn truth(&self, test: &Test, current: &'a Json) -> Option<bool> {
        match test {
            Test::And(left, right) => match self.truth(left, current) {
                Some(false) => Some(false),
                left => match (left, self.truth(right, current)) {
                    (_, Some(false)) => Some(false),
                    (Some(true), Some(true)) => Some(true),
                    _ => None,
                },
            },
            Test::Or(left, right) => match self.truth(left, current) {
                Some(true) => Some(true),
                left => match (left, self.truth(right, current)) {
                    (_, Some(true)) => Some(true),
                    (Some(false), Some(false)) => Some(false),
                    _ => None,
                },
            },
            Test::Not(inner) => self.truth(inner, current).map(|truth| !truth),
            Test::IsUnknown(inner) => Some(self.truth(inner, current).is_none()),
            Test::Exists(node) => self.values(node, current).ok().map(|values| !values.is_empty()),
            Test::Compare(left, comparison, right) => {
                let (left, right) = (self.operands(left, current).ok()?, self.operands(right, current).ok()?);
                let pairs = left.iter().flat_map(|l| right.iter().map(move |r| compare(l, *comparison, r)));
                self.any(pairs)
            }
            Test::StartsWith(value, beginning) => {
                let beginning = self.values(beginning, current).ok()?;
                let beginning = beginning.first()?.as_str()?.to_owned();
                let values = self.operands(value, current).ok()?;
                self.any(values.iter().map(|v| v.as_str().map(|text| text.starts_with(&beginning))))
            }
            Test::Regex { value, pattern, flags } => {
                let regex = cached(pattern, flags).ok()?;
                let values = self.operands(value, current).ok()?;
                self.any(values.iter().map(|v| v.as_str().and_then(|text| regex.is_match(text).ok())))
            }
        }
    }

    /// True when one is; a truth that is unknown spoils the answer, in strict mode even then.
    fn any(&self, truths: impl Iterator<Item = Option<bool>>) -> Option<bool> {
        let (mut found, mut unknown) = (false, false);
        for truth in truths {
            match truth {
                Some(true) if !self.strict => return Some(true),
                Some(true) => found = true,
                Some(false) => {}
                None if self.strict => return None,
                None => unknown = true,
            }
        }
        if unknown { None } else { Some(found) }
    }
}

/// A number without a fraction is written as a whole one.
fn whole_or(value: f64) -> Json {
    if value.fract() == 0.0 && value.abs() < 9e15 { Json::from(value as i64) } else { number(value) }
}

fn arithmetic(left: &serde_json::Number, sign: char, right: &serde_json::Number) -> Result<Json> {
    let zero = right.as_f64() == Some(0.0);
    if matches!(sign, '/' | '%') && zero {
        return Err(Error::new(Code::DivisionByZero, "division by zero in a JSON path"));
    }
    if let (Some(l), Some(r)) = (left.as_i64(), right.as_i64()) {
        let whole = match sign {
            '+' => l.checked_add(r),
            '-' => l.checked_sub(r),
            '*' => l.checked_mul(r),
            '%' => l.checked_rem(r),
            _ if l.checked_rem(r) == Some(0) => l.checked_div(r),
            _ => None,
        };
        if let Some(whole) = whole {
            return Ok(whole.into());
        }
    }
    let (l, r) = (left.as_f64().unwrap_or_default(), right.as_f64().unwrap_or_default());
    Ok(number(match sign {
        '+' => l + r,
        '-' => l - r,
        '*' => l * r,
        '/' => l / r,
        _ => l % r,
    }))
}

/// Scalars of one kind compare, null with anything; everything else is unknown.
fn compare(left: &Json, comparison: Comparison, right: &Json) -> Option<bool> {
    let order = match (left, right) {
        (Json::Null, Json::Null) => Ordering::Equal,
        (Json::Null, _) | (_, Json::Null) => return Some(comparison == Comparison::NotEqual),
        (Json::Bool(l), Json::Bool(r)) => l.cmp(r),
        (Json::Number(l), Json::Number(r)) => match (l.as_i64(), r.as_i64()) {
            (Some(l), Some(r)) => l.cmp(&r),
            _ => l.as_f64()?.partial_cmp(&r.as_f64()?)?,
        },
        (Json::String(l), Json::String(r)) => l.cmp(r),
        _ => return None,
    };
    Some(match comparison {
        Comparison::Equal => order.is_eq(),
        Comparison::NotEqual => order.is_ne(),
        Comparison::Less => order.is_lt(),
        Comparison::LessOrEqual => order.is_le(),
        Comparison::Greater => order.is_gt(),
        Comparison::GreaterOrEqual => order.is_ge(),
    })
}
