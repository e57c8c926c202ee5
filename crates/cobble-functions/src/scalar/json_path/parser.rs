//! Reading a JSON path: its text as a tree (SQL:2016 part 2, 9.39; PostgreSQL manual 9.16.2).

use cobble_types::{Code, Error, Result};
use serde_json::Value as Json;

use super::super::pattern::cached;
use super::{Accessor, Comparison, Method, Node, Path, Test, whole_or};

/// How deep parentheses and filters may nest.
const DEEPEST: usize = 100;

pub(super) struct Parser<'t> {
    text: &'t str,
    at: usize,
    depth: usize,
}

impl<'t> Parser<'t> {
    pub(super) fn of(text: &'t str) -> Parser<'t> {
        Parser { text, at: 0, depth: 0 }
    }

    fn wrong(&self, what: &str) -> Error {
        Error::new(
            if self.text.trim().is_empty() { Code::InvalidText } else { Code::Syntax },
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

    pub(super) fn path(mut self) -> Result<Path> {
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
            if let Some(unknown) = flags.chars().find(|flag| !"ismxq".contains(*flag)) {
                return Err(self.wrong(&format!("\"{unknown}\" is not a flag of like_regex")));
            }
            if flags.contains('x') {
                return Err(Error::unsupported("the flag x of like_regex"));
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
            '0'..='9' => Node::Literal(self.number()?),
            '.' if self.rest()[1..].starts_with(|c: char| c.is_ascii_digit()) => Node::Literal(self.number()?),
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

    /// `7`, `.5`, `7.`, `7.25`, `7e3`, `7.5e-3`: the numbers of JavaScript.
    fn number(&mut self) -> Result<Json> {
        let rest = self.rest();
        let digits = |from: usize| from + rest[from..].find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len() - from);
        let whole = digits(0);
        let mut end = whole;
        if rest[end..].starts_with('.') {
            end = digits(end + 1);
        }
        if rest[end..].starts_with(['e', 'E']) {
            let sign = usize::from(rest[end + 1..].starts_with(['+', '-']));
            let after = digits(end + 1 + sign);
            if after == end + 1 + sign {
                return Err(self.wrong("a number is not understood"));
            }
            end = after;
        }
        let written = &rest[..end];
        let leading = whole > 1 && written.starts_with('0');
        let value = match written.parse::<i64>() {
            Ok(value) => Some(value.into()),
            Err(_) => written.parse::<f64>().ok().filter(|value| value.is_finite()).map(whole_or),
        };
        let runs_on = rest[end..].starts_with(|c: char| c.is_alphanumeric() || c == '_');
        let value = value.filter(|_| !leading && !runs_on).ok_or_else(|| self.wrong("a number is not understood"))?;
        self.at += end;
        Ok(value)
    }

    /// The levels behind `**`: `{2}`, `{last}`, `{1 to 3}`; all of them when nothing is written.
    fn levels(&mut self) -> Result<(usize, usize)> {
        if !self.takes("{") {
            return Ok((0, usize::MAX));
        }
        let level = |parser: &mut Self| -> Result<usize> {
            if parser.takes_word("last") {
                return Ok(usize::MAX);
            }
            parser.blanks();
            let rest = parser.rest();
            let end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
            let level = rest[..end].parse::<u32>().map_err(|_| parser.wrong("a level is missing"))?;
            parser.at += end;
            Ok(level as usize)
        };
        let first = level(self)?;
        let last = if self.takes_word("to") { level(self)? } else { first };
        self.expects("}")?;
        Ok((first, last))
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
            let (first, last) = self.levels()?;
            return Ok(Some(Accessor::Everything { first, last }));
        }
        if self.takes("*") {
            return Ok(Some(Accessor::AnyMember));
        }
        self.blanks();
        if self.rest().starts_with('"') {
            return Ok(Some(Accessor::Member(self.quoted()?)));
        }
        let name = self.word();
        if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) {
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
                return Err(Error { code: Code::Syntax, ..Error::unknown("method of a JSON path", other, known) });
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
