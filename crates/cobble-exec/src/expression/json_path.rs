//! SQL/JSON paths (SQL:2016 part 2, 9.39; PostgreSQL manual 9.16.2): access, filters, arithmetic, the plain methods; lax and strict.

use std::borrow::Cow;
use std::cell::RefCell;
use std::cmp::Ordering;
use std::collections::HashMap;
use std::rc::Rc;

use cobble_types::{Code, Error, Result};
use serde_json::Value as Json;

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
    /// `.**`, the value and everything inside it.
    Everything,
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

/// How deep parentheses and filters may nest.
const DEEPEST: usize = 100;

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
            let path = Rc::new(Parser { text, at: 0, depth: 0 }.path()?);
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
        let look = Look { strict: self.strict, document, variables, last: None };
        look.values(&self.root, document)
    }
}

struct Parser<'t> {
    text: &'t str,
    at: usize,
    depth: usize,
}

impl Parser<'_> {
    fn wrong(&self, what: &str) -> Error {
        Error::new(
            Code::InvalidText,
            format!(
                "\"{}\" is not a JSON path: {what} at character {}",
                self.text,
                self.text[..self.at].chars().count() + 1
            ),
        )
        .hint("such as $.name, $.tags[0], $.tags[*], $.legs[*] ? (@.minutes > 20), $.\"two words\"")
    }

    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn blanks(&mut self) {
        let rest = self.rest();
        self.at += rest.len() - rest.trim_start().len();
    }

    fn takes(&mut self, sign: &str) -> bool {
        self.blanks();
        let found = self.rest().starts_with(sign);
        if found {
            self.at += sign.len();
        }
        found
    }

    /// A word of letters that is not the beginning of a longer one.
    fn takes_word(&mut self, word: &str) -> bool {
        self.blanks();
        let rest = self.rest();
        let found =
            rest.strip_prefix(word).is_some_and(|after| !after.starts_with(|c: char| c.is_alphanumeric() || c == '_'));
        if found {
            self.at += word.len();
        }
        found
    }

    fn expects(&mut self, sign: &str) -> Result<()> {
        if self.takes(sign) { Ok(()) } else { Err(self.wrong(&format!("\"{sign}\" is missing"))) }
    }

    fn deeper<T>(&mut self, read: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(Error::new(Code::TooComplex, format!("a JSON path nests more than {DEEPEST} deep")));
        }
        let value = read(self);
        self.depth -= 1;
        value
    }

    fn path(mut self) -> Result<Path> {
        let strict = self.takes_word("strict");
        if !strict {
            self.takes_word("lax");
        }
        let before = self.at;
        let root = match self.test() {
            Ok(test) if self.ended() => Node::Test(Box::new(test)),
            Err(error) if error.code == Code::TooComplex => return Err(error),
            _ => {
                (self.at, self.depth) = (before, 0);
                self.sum()?
            }
        };
        if !self.ended() {
            return Err(self.wrong("something is left over"));
        }
        Ok(Path { strict, root })
    }

    fn ended(&mut self) -> bool {
        self.blanks();
        self.rest().is_empty()
    }

    fn test(&mut self) -> Result<Test> {
        let mut left = self.and()?;
        while self.takes("||") {
            left = Test::Or(Box::new(left), Box::new(self.and()?));
        }
        Ok(left)
    }

    fn and(&mut self) -> Result<Test> {
        let mut left = self.single_test()?;
        while self.takes("&&") {
            left = Test::And(Box::new(left), Box::new(self.single_test()?));
        }
        Ok(left)
    }

    fn single_test(&mut self) -> Result<Test> {
        self.blanks();
        if self.rest().starts_with('!') && !self.rest().starts_with("!=") {
            self.at += 1;
            return Ok(Test::Not(Box::new(self.deeper(Self::enclosed_test)?)));
        }
        if self.takes_word("exists") {
            self.expects("(")?;
            let inner = self.deeper(Self::sum)?;
            self.expects(")")?;
            return Ok(Test::Exists(inner));
        }
        if self.rest().starts_with('(') {
            // A test in parentheses, or the beginning of a value.
            let (before, depth) = (self.at, self.depth);
            match self.deeper(Self::enclosed_test) {
                Ok(test) => {
                    if self.takes_word("is") {
                        if !self.takes_word("unknown") {
                            return Err(self.wrong("\"unknown\" is missing"));
                        }
                        return Ok(Test::IsUnknown(Box::new(test)));
                    }
                    self.blanks();
                    if self.rest().is_empty() || self.rest().starts_with([')', '&', '|']) {
                        return Ok(test);
                    }
                }
                Err(error) if error.code == Code::TooComplex => return Err(error),
                Err(_) => {}
            }
            (self.at, self.depth) = (before, depth);
        }
        let left = self.sum()?;
        let comparisons = [
            ("==", Comparison::Equal),
            ("!=", Comparison::NotEqual),
            ("<>", Comparison::NotEqual),
            ("<=", Comparison::LessOrEqual),
            (">=", Comparison::GreaterOrEqual),
            ("<", Comparison::Less),
            (">", Comparison::Greater),
        ];
        for (sign, comparison) in comparisons {
            if self.takes(sign) {
                return Ok(Test::Compare(left, comparison, self.sum()?));
            }
        }
        if self.takes_word("starts") {
            if !self.takes_word("with") {
                return Err(self.wrong("\"with\" is missing"));
            }
            return Ok(Test::StartsWith(left, self.primary()?));
        }
        if self.takes_word("like_regex") {
            self.blanks();
            let pattern = self.quoted()?;
            let mut flags = String::new();
            if self.takes_word("flag") {
                self.blanks();
                flags = self.quoted()?;
            }
            cached(&pattern, &flags)?;
            return Ok(Test::Regex { value: left, pattern, flags });
        }
        Err(self.wrong("a comparison is missing"))
    }

    fn enclosed_test(&mut self) -> Result<Test> {
        self.expects("(")?;
        let inner = self.deeper(Self::test)?;
        self.expects(")")?;
        Ok(inner)
    }

    fn sum(&mut self) -> Result<Node> {
        let mut left = self.product()?;
        loop {
            let sign = if self.takes("+") {
                '+'
            } else if self.takes("-") {
                '-'
            } else {
                return Ok(left);
            };
            left = Node::Arithmetic(Box::new(left), sign, Box::new(self.product()?));
        }
    }

    fn product(&mut self) -> Result<Node> {
        let mut left = self.primary()?;
        loop {
            let sign = if self.takes("*") {
                '*'
            } else if self.takes("/") {
                '/'
            } else if self.takes("%") {
                '%'
            } else {
                return Ok(left);
            };
            left = Node::Arithmetic(Box::new(left), sign, Box::new(self.primary()?));
        }
    }

    fn primary(&mut self) -> Result<Node> {
        self.blanks();
        let Some(first) = self.rest().chars().next() else { return Err(self.wrong("it ends too early")) };
        let node = match first {
            '-' | '+' => {
                self.at += 1;
                let inner = self.deeper(Self::primary)?;
                return Ok(Node::Signed(first == '-', Box::new(inner)));
            }
            '$' => {
                self.at += 1;
                if self.rest().starts_with('"') {
                    Node::Variable(self.quoted()?)
                } else {
                    let name = self.word();
                    if name.is_empty() { Node::Root } else { Node::Variable(name) }
                }
            }
            '@' => {
                self.at += 1;
                Node::Current
            }
            '"' => Node::Literal(Json::String(self.quoted()?)),
            '(' => {
                self.at += 1;
                let inner = self.deeper(Self::sum)?;
                self.expects(")")?;
                inner
            }
            '0'..='9' => {
                let rest = self.rest();
                let mut end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
                let fraction =
                    rest[end..].strip_prefix('.').filter(|after| after.starts_with(|c: char| c.is_ascii_digit()));
                if let Some(after) = fraction {
                    end += 1 + after.find(|c: char| !c.is_ascii_digit()).unwrap_or(after.len());
                }
                let number =
                    serde_json::from_str(&rest[..end]).map_err(|_| self.wrong("a number is not understood"))?;
                self.at += end;
                Node::Literal(number)
            }
            _ if self.takes_word("true") => Node::Literal(Json::Bool(true)),
            _ if self.takes_word("false") => Node::Literal(Json::Bool(false)),
            _ if self.takes_word("null") => Node::Literal(Json::Null),
            _ if self.takes_word("last") => Node::Last,
            _ => return Err(self.wrong(&format!("\"{first}\" is not understood"))),
        };
        let mut accessors = Vec::new();
        while let Some(accessor) = self.accessor()? {
            accessors.push(accessor);
        }
        Ok(if accessors.is_empty() { node } else { Node::Access(Box::new(node), accessors) })
    }

    fn accessor(&mut self) -> Result<Option<Accessor>> {
        if self.takes("?") {
            return Ok(Some(Accessor::Filter(self.deeper(Self::enclosed_test)?)));
        }
        if self.takes("[") {
            if self.takes("*") {
                self.expects("]")?;
                return Ok(Some(Accessor::AnyItem));
            }
            let mut places = Vec::new();
            loop {
                let from = self.deeper(Self::sum)?;
                let to = if self.takes_word("to") { Some(self.deeper(Self::sum)?) } else { None };
                places.push((from, to));
                if !self.takes(",") {
                    break;
                }
            }
            self.expects("]")?;
            return Ok(Some(Accessor::Items(places)));
        }
        if !self.takes(".") {
            return Ok(None);
        }
        if self.takes("**") {
            return Ok(Some(Accessor::Everything));
        }
        if self.takes("*") {
            return Ok(Some(Accessor::AnyMember));
        }
        self.blanks();
        if self.rest().starts_with('"') {
            return Ok(Some(Accessor::Member(self.quoted()?)));
        }
        let name = self.word();
        if name.is_empty() {
            return Err(self.wrong("a name is missing"));
        }
        if !self.takes("(") {
            return Ok(Some(Accessor::Member(name)));
        }
        self.expects(")")?;
        Ok(Some(Accessor::Method(match name.as_str() {
            "type" => Method::Type,
            "size" => Method::Size,
            "double" => Method::Double,
            "abs" => Method::Abs,
            "floor" => Method::Floor,
            "ceiling" => Method::Ceiling,
            "keyvalue" => Method::KeyValue,
            other => {
                let known = ["type", "size", "double", "abs", "floor", "ceiling", "keyvalue"];
                return Err(Error::unknown("method of a JSON path", other, known));
            }
        })))
    }

    fn word(&mut self) -> String {
        let rest = self.rest();
        let end = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
        let word = rest[..end].to_owned();
        self.at += end;
        word
    }

    /// A string in double quotes, with JSON's escapes.
    fn quoted(&mut self) -> Result<String> {
        let mut stream = serde_json::Deserializer::from_str(self.rest()).into_iter::<String>();
        match stream.next() {
            Some(Ok(text)) => {
                self.at += stream.byte_offset();
                Ok(text)
            }
            _ => Err(self.wrong("a string in double quotes is missing")),
        }
    }
}

/// One evaluation.
#[derive(Clone, Copy)]
struct Look<'a> {
    strict: bool,
    document: &'a Json,
    variables: &'a Json,
    /// The last place of the array whose subscripts are being read.
    last: Option<usize>,
}

type Found<'a> = Vec<Cow<'a, Json>>;

fn fault(what: impl Into<String>) -> Error {
    Error::new(Code::InvalidValue, format!("a JSON path: {}", what.into()))
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

fn everything<'a>(value: &'a Json, out: &mut Vec<&'a Json>) {
    out.push(value);
    match value {
        Json::Array(items) => items.iter().for_each(|item| everything(item, out)),
        Json::Object(members) => members.values().for_each(|member| everything(member, out)),
        _ => {}
    }
}

impl<'a> Look<'a> {
    fn values(&self, node: &Node, current: &'a Json) -> Result<Found<'a>> {
        Ok(match node {
            Node::Root => vec![Cow::Borrowed(self.document)],
            Node::Current => vec![Cow::Borrowed(current)],
            Node::Variable(name) => match self.variables.get(name) {
                Some(value) => vec![Cow::Borrowed(value)],
                None => return Err(fault(format!("there is no variable \"{name}\""))),
            },
            Node::Literal(value) => vec![Cow::Owned(value.clone())],
            Node::Last => match self.last {
                Some(last) => vec![Cow::Owned(last.into())],
                None => return Err(fault("\"last\" belongs between [ and ]")),
            },
            Node::Access(from, accessors) => {
                let mut values = self.values(from, current)?;
                for accessor in accessors {
                    values = self.accessed(values, accessor)?;
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
                        _ => return Err(fault("the sign of what is no number")),
                    }));
                }
                out
            }
            Node::Arithmetic(left, sign, right) => {
                let single = |values: Found<'a>| match <[Cow<'a, Json>; 1]>::try_from(values) {
                    Ok([Cow::Borrowed(Json::Number(n))]) => Ok(n.clone()),
                    Ok([Cow::Owned(Json::Number(n))]) => Ok(n),
                    _ => Err(fault(format!("a side of {sign} is not one number"))),
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
                    if self.strict && value.get(name).is_none() {
                        return Err(fault(format!("there is no member \"{name}\"")));
                    }
                    out.extend(parts(value, |v| {
                        v.as_object().and_then(|members| members.get(name)).into_iter().collect()
                    }));
                }
            }
            Accessor::AnyMember => {
                for value in apart(values) {
                    if self.strict && !value.is_object() {
                        return Err(fault("the members of what is no object"));
                    }
                    out.extend(parts(value, |v| v.as_object().map(|m| m.values().collect()).unwrap_or_default()));
                }
            }
            Accessor::Everything => {
                for value in values {
                    out.extend(parts(value, |v| {
                        let mut all = Vec::new();
                        everything(v, &mut all);
                        all
                    }));
                }
            }
            Accessor::AnyItem => {
                for value in values {
                    match value.as_ref() {
                        Json::Array(_) => out.extend(unwrapped(vec![value])),
                        _ if self.strict => return Err(fault("the items of what is no array")),
                        _ => out.push(value),
                    }
                }
            }
            Accessor::Items(places) => {
                for value in values {
                    let length = match value.as_ref() {
                        Json::Array(items) => items.len(),
                        _ if self.strict => return Err(fault("the items of what is no array")),
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
                        return Err(fault("keyvalue() of what is no object"));
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
                    Some(place) => Ok(place.trunc() as i64),
                    None => Err(fault("a subscript is not one number")),
                },
                _ => Err(fault("a subscript is not one number")),
            }
        };
        let mut out = Vec::new();
        for (from, to) in places {
            let first = place(from)?;
            let last = to.as_ref().map(&place).transpose()?.unwrap_or(first);
            if self.strict && (first < 0 || first > last || last >= length as i64) {
                return Err(fault(format!("there is no item {last}")));
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
                _ if self.strict => return Err(fault("the size of what is no array")),
                _ => 1.into(),
            },
            Method::Double => match value {
                Json::Number(n) => Json::Number(n.clone()),
                Json::String(text) => match text.trim().parse::<f64>() {
                    Ok(value) if value.is_finite() => whole_or(value),
                    _ => return Err(fault(format!("\"{text}\" is not a number"))),
                },
                _ => return Err(fault("double() of what is neither number nor string")),
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
                _ => return Err(fault("a method of numbers on what is no number")),
            },
            Method::KeyValue => return Err(fault("keyvalue() makes several values")),
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
