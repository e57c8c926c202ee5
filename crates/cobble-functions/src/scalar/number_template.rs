//! `to_char` of numbers: templates of nines, zeros, points and signs (PostgreSQL manual 9.8, table 9.31).

use cobble_types::parse::{parse_decimal, rescale_decimal};
use cobble_types::{Code, Error, Result, write_decimal};

use super::time_template::ordinal_ending;

/// Digits that a template may have.
const MOST_DIGITS: usize = 1000;

#[derive(Debug, Clone, PartialEq)]
enum Node {
    Nine,
    Zero,
    Point,
    Group,
    /// The locale's currency sign; the engine's locale has a blank.
    Currency,
    /// `SG`: the sign here.
    Sign,
    Minus,
    Plus,
    Ordinal {
        capitals: bool,
    },
    Roman,
    Literal(char),
    /// A pattern that writes nothing where it stands.
    Nothing,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Anchor {
    None,
    Before,
    After,
}

/// A template that has been read.
#[derive(Debug)]
pub(super) struct NumberTemplate {
    nodes: Vec<Node>,
    /// Digits before and after the point.
    whole: usize,
    fraction: usize,
    has_point: bool,
    /// Where the first zero before the point stands, if there is one, and the number of digits up to the last zero.
    first_zero: Option<usize>,
    last_zero: usize,
    fill: bool,
    /// `S`: the sign right beside the digits.
    anchor: Anchor,
    digits_before_sign: usize,
    brackets: bool,
    minus: bool,
    plus: bool,
    roman: bool,
    scientific: bool,
    /// `V`: the number is multiplied by ten for each digit behind it.
    shifted: Option<usize>,
}

impl NumberTemplate {
    /// # Errors
    /// When signs contradict each other, or a pattern stands where it may not.
    pub fn read(format: &str) -> Result<NumberTemplate> {
        let mut t = NumberTemplate {
            nodes: vec![],
            whole: 0,
            fraction: 0,
            has_point: false,
            first_zero: None,
            last_zero: 0,
            fill: true,
            anchor: Anchor::None,
            digits_before_sign: 0,
            brackets: false,
            minus: false,
            plus: false,
            roman: false,
            scientific: false,
            shifted: None,
        };
        let wrong = |what: &str| Error::new(Code::Syntax, format!("the template \"{format}\": {what}"));
        let mut rest = format;
        while let Some(first) = rest.chars().next() {
            let begins = |name: &str| rest.get(..name.len()).is_some_and(|r| r.eq_ignore_ascii_case(name));
            let name = ["EEEE", "FM", "SG", "MI", "PL", "PR", "RN", "TH"].into_iter().find(|name| begins(name));
            let (length, node) = match (name, first.to_ascii_uppercase()) {
                (Some("EEEE"), _) => {
                    t.scientific = true;
                    (4, Node::Nothing)
                }
                (Some("FM"), _) => {
                    t.fill = false;
                    (2, Node::Nothing)
                }
                (Some("SG"), _) => {
                    (t.minus, t.plus) = (true, true);
                    (2, Node::Sign)
                }
                (Some("MI"), _) => {
                    t.minus = true;
                    (2, Node::Minus)
                }
                (Some("PL"), _) => {
                    t.plus = true;
                    (2, Node::Plus)
                }
                (Some("PR"), _) => {
                    if t.anchor != Anchor::None || t.plus || t.minus {
                        return Err(wrong("PR does not go with other signs"));
                    }
                    t.brackets = true;
                    (2, Node::Nothing)
                }
                (Some("RN"), _) => {
                    t.roman = true;
                    (2, Node::Roman)
                }
                (Some("TH"), _) => (2, Node::Ordinal { capitals: first == 'T' }),
                (_, '"') => {
                    let mut characters = rest[1..].char_indices();
                    let mut end = rest.len();
                    while let Some((at, c)) = characters.next() {
                        match c {
                            '"' => {
                                end = at + 2;
                                break;
                            }
                            '\\' => {
                                if let Some((_, escaped)) = characters.next() {
                                    t.nodes.push(Node::Literal(escaped));
                                }
                            }
                            c => t.nodes.push(Node::Literal(c)),
                        }
                    }
                    (end, Node::Nothing)
                }
                (_, '9') => {
                    match (&mut t.shifted, t.has_point) {
                        (Some(shifted), _) => *shifted += 1,
                        (None, true) => t.fraction += 1,
                        (None, false) => t.whole += 1,
                    }
                    (1, Node::Nine)
                }
                (_, '0') => {
                    if t.first_zero.is_none() && !t.has_point {
                        t.first_zero = Some(t.whole);
                    }
                    if t.has_point {
                        t.fraction += 1;
                    } else {
                        t.whole += 1;
                    }
                    t.last_zero = t.whole + t.fraction;
                    (1, Node::Zero)
                }
                (_, '.' | 'D') => {
                    if t.has_point {
                        return Err(wrong("there is more than one point"));
                    }
                    t.has_point = true;
                    (1, Node::Point)
                }
                (_, ',' | 'G') => (1, Node::Group),
                (_, 'L') => (1, Node::Currency),
                (_, 'V') => {
                    if t.has_point {
                        return Err(wrong("V does not go with a point"));
                    }
                    t.shifted = Some(0);
                    (1, Node::Nothing)
                }
                (_, 'S') => {
                    if t.anchor != Anchor::None || t.plus || t.minus || t.brackets {
                        return Err(wrong("S stands once, without other signs"));
                    }
                    t.anchor = if t.has_point { Anchor::After } else { Anchor::Before };
                    t.digits_before_sign = t.whole;
                    (1, Node::Nothing)
                }
                (_, 'B' | 'C') => (1, Node::Nothing),
                (_, c) => (first.len_utf8(), Node::Literal(if first.is_ascii() { first } else { c })),
            };
            if node != Node::Nothing {
                t.nodes.push(node);
            }
            rest = rest.get(length..).unwrap_or("");
            if t.whole + t.fraction > MOST_DIGITS {
                return Err(wrong("it has too many digits"));
            }
        }
        if t.anchor == Anchor::Before && t.whole > 0 && t.whole == t.digits_before_sign {
            t.anchor = Anchor::After;
        }
        Ok(t)
    }

    /// The number that a text is by the template, as its digits and their scale. Each pattern takes one character of the text, whether that
    /// fits or not, as PostgreSQL reads it.
    pub fn value(&self, text: &str) -> Result<(i128, i8)> {
        if self.roman || self.scientific {
            return Err(Error::unsupported("reading a number by RN or EEEE"));
        }
        let characters: Vec<char> = text.chars().collect();
        let (mut at, mut digits, mut negative, mut point) = (0, String::new(), false, false);
        while characters.get(at) == Some(&' ') {
            at += 1;
        }
        for node in &self.nodes {
            let Some(&next) = characters.get(at) else { break };
            match node {
                Node::Nine | Node::Zero | Node::Point => {
                    let mut next = next;
                    let mut skip = |wanted: bool| {
                        if wanted {
                            at += 1;
                        }
                        characters.get(at).copied().unwrap_or(' ')
                    };
                    next = skip(next == ' ');
                    if digits.is_empty() && !point {
                        negative |= next == '-' || (self.brackets && next == '<');
                        next = skip(matches!(next, '-' | '+') || (self.brackets && next == '<'));
                    }
                    if next.is_ascii_digit() {
                        digits.push(next);
                    } else if next == '.' && self.has_point && !point {
                        point = true;
                        digits.push('.');
                    }
                    at += 1;
                }
                Node::Group => at += usize::from(next == ','),
                Node::Sign | Node::Minus | Node::Plus => {
                    negative |= next == '-';
                    at += usize::from(matches!(next, '-' | '+'));
                }
                Node::Ordinal { .. } => at += 2,
                Node::Literal(_) | Node::Currency | Node::Roman | Node::Nothing => at += 1,
            }
        }
        if self.anchor != Anchor::None && characters.get(at) == Some(&'-') {
            negative = true;
        }
        let shifted = self.shifted.unwrap_or(0) as i8;
        let (unscaled, scale) = parse_decimal(&digits)
            .ok_or_else(|| Error::new(Code::InvalidText, format!("\"{text}\" has no number of this form")))?;
        Ok((if negative { -unscaled } else { unscaled }, scale.saturating_add(shifted)))
    }

    /// The number `unscaled / 10^scale` as the template says.
    /// For NaN, infinity and numbers larger than any decimal: `#` stands for each digit.
    pub fn write_beyond(&self, value: f64) -> String {
        if !self.scientific {
            return self.write(if value < 0.0 { i128::MIN + 1 } else { i128::MAX }, 0);
        }
        let places = self.fraction;
        if value.is_finite() {
            let text = format!("{value:.places$e}");
            let (mantissa, exponent) = text.split_once('e').unwrap_or((&text, "0"));
            let sign = if value < 0.0 { "" } else { " " };
            return format!("{sign}{mantissa}e+{exponent:0>2}");
        }
        // Room for a sign, the point and the exponent.
        let mut signs = vec!['#'; self.whole + places + 6];
        signs[0] = ' ';
        signs[self.whole + 1] = '.';
        signs.into_iter().collect()
    }

    pub fn write(&self, unscaled: i128, scale: i8) -> String {
        if self.roman {
            let roman = rescale_decimal(unscaled, scale, 0).and_then(roman).unwrap_or_else(|| "#".repeat(15));
            return if self.fill { format!("{roman:>15}") } else { roman };
        }
        if self.scientific {
            let text = scientific(unscaled, scale, self.fraction);
            return if unscaled < 0 { text } else { format!(" {text}") };
        }
        let shifted = self.shifted.unwrap_or(0);
        let whole = self.whole + shifted;
        let power = u32::try_from(shifted).ok().and_then(|n| 10i128.checked_pow(n));
        let places = self.fraction.min(38);
        let rounded = power
            .and_then(|power| unscaled.checked_mul(power))
            .and_then(|moved| rescale_decimal(moved, scale, places as i8));
        let negative = rounded.map_or(unscaled < 0, |rounded| rounded < 0);
        let mut number = match rounded {
            Some(rounded) => write_decimal(rounded.abs(), places as i8),
            None => "#".repeat(whole + 1),
        };
        number.push_str(&"0".repeat(self.fraction - places));
        let digits = number.find('.').unwrap_or(number.len());
        if digits > whole {
            number = "#".repeat(whole);
            if self.has_point {
                number.push('.');
                number.push_str(&"#".repeat(self.fraction));
            }
        } else if self.has_point && self.fraction == 0 {
            number.push('.');
        }
        Writer::new(self, &number, negative, whole.saturating_sub(digits), whole).written()
    }
}

fn scientific(unscaled: i128, scale: i8, places: usize) -> String {
    if scale == 0 && unscaled.unsigned_abs() < 1 << 53 {
        // PostgreSQL writes integers by way of doubles, which round a half to even.
        let text = format!("{:.places$e}", unscaled as f64);
        let (mantissa, exponent) = text.split_once('e').unwrap_or((&text, "0"));
        let exponent: i32 = exponent.parse().unwrap_or(0);
        return format!("{mantissa}e{}{:02}", if exponent < 0 { '-' } else { '+' }, exponent.abs());
    }
    if unscaled == 0 {
        let fraction = if places > 0 { format!(".{}", "0".repeat(places)) } else { String::new() };
        return format!("0{fraction}e+00");
    }
    let digits = unscaled.unsigned_abs().to_string();
    let mut exponent = digits.len() as i32 - 1 - i32::from(scale);
    // So many digits as are wanted, the last one rounded.
    let wanted = places + 1;
    let mut mantissa = match rescale_decimal(unscaled.abs(), digits.len() as i8 - 1, places.min(38) as i8) {
        Some(rounded) => rounded.to_string(),
        None => digits.clone(),
    };
    if mantissa.len() > wanted {
        exponent += 1;
        mantissa.truncate(wanted);
    }
    let (first, rest) = mantissa.split_at(1);
    let fraction = if places > 0 { format!(".{rest:0<places$}") } else { String::new() };
    let sign = if unscaled < 0 { "-" } else { "" };
    format!("{sign}{first}{fraction}e{}{:02}", if exponent < 0 { '-' } else { '+' }, exponent.abs())
}

fn roman(number: i128) -> Option<String> {
    const VALUES: [(i128, &str); 13] = [
        (1000, "M"),
        (900, "CM"),
        (500, "D"),
        (400, "CD"),
        (100, "C"),
        (90, "XC"),
        (50, "L"),
        (40, "XL"),
        (10, "X"),
        (9, "IX"),
        (5, "V"),
        (4, "IV"),
        (1, "I"),
    ];
    let mut left = Some(number).filter(|n| (1..4000).contains(n))?;
    let mut out = String::new();
    for (value, letters) in VALUES {
        while left >= value {
            out.push_str(letters);
            left -= value;
        }
    }
    Some(out)
}

/// The digits on their way into the template.
struct Writer<'a> {
    template: &'a NumberTemplate,
    number: &'a [u8],
    /// The next digit of the number.
    at: usize,
    /// The place in the template, counted in digits and the point.
    place: usize,
    /// Places before the number's first digit.
    blanks: usize,
    /// The last digit that is written without fill, or the point.
    last: Option<usize>,
    negative: bool,
    sign_written: bool,
    in_number: bool,
    places: usize,
    out: String,
}

impl<'a> Writer<'a> {
    fn new(template: &'a NumberTemplate, number: &'a str, negative: bool, blanks: usize, whole: usize) -> Self {
        let number = number.as_bytes();
        let mut last = None;
        if !template.fill && template.has_point {
            last = number
                .iter()
                .position(|b| *b == b'.')
                .map(|point| number.iter().rposition(|b| *b != b'0').map_or(point, |digit| digit.max(point)));
            if let Some(last) = &mut last
                && template.last_zero > blanks
            {
                // A zero of the template keeps its digit.
                let kept = (template.last_zero - blanks).min(number.len() - 1);
                *last = (*last).max(kept);
            }
        }
        let own_sign = template.plus || template.minus;
        let sign_written = match own_sign {
            true => template.minus,
            false => !negative && !template.fill && template.anchor == Anchor::None,
        };
        let places = whole + template.fraction + usize::from(template.has_point);
        Writer {
            template,
            number,
            at: 0,
            place: 0,
            blanks,
            last,
            negative,
            sign_written,
            in_number: false,
            places,
            out: String::new(),
        }
    }

    fn brackets(&self) -> bool {
        self.template.brackets && (self.negative || self.template.fill)
    }

    /// A zero before the point that is left out: `.5` for a template without zeros.
    fn leads_with_zero(&self) -> bool {
        self.template.first_zero.is_none()
            && self.at == 0
            && self.number.first() == Some(&b'0')
            && self.template.fraction != 0
    }

    fn ends_at_point(&self) -> bool {
        self.last.is_some_and(|last| self.number[last] == b'.')
    }

    fn written(mut self) -> String {
        let template = self.template;
        for node in &template.nodes {
            match node {
                Node::Nine | Node::Zero | Node::Point => self.digit(*node == Node::Zero),
                Node::Group if self.in_number => self.out.push(','),
                Node::Group if template.fill => self.out.push(' '),
                Node::Currency => self.out.push(' '),
                Node::Sign => self.out.push(if self.negative { '-' } else { '+' }),
                Node::Minus if self.negative => self.out.push('-'),
                Node::Plus if !self.negative => self.out.push('+'),
                Node::Minus | Node::Plus if template.fill => self.out.push(' '),
                Node::Ordinal { capitals } if !self.negative && !template.has_point && self.number[0] != b'#' => {
                    let digits = std::str::from_utf8(self.number).unwrap_or_default();
                    let ending = ordinal_ending(digits.parse().unwrap_or(0));
                    self.out.push_str(&if *capitals { ending.to_uppercase() } else { ending.to_owned() });
                }
                Node::Literal(c) => self.out.push(*c),
                Node::Group | Node::Minus | Node::Plus | Node::Ordinal { .. } | Node::Roman | Node::Nothing => {}
            }
        }
        self.out
    }

    fn digit(&mut self, is_zero: bool) {
        let template = self.template;
        self.in_number = false;
        let zero_here = template.first_zero.is_some_and(|first| first == self.place);
        if !self.sign_written
            && (self.place >= self.blanks || zero_here)
            && (!self.leads_with_zero() || self.ends_at_point())
        {
            self.sign();
        }
        let zeros = template.first_zero.is_some_and(|first| first <= self.place);
        if self.place < self.blanks {
            if zeros {
                self.out.push('0');
                self.in_number = true;
            } else if template.fill {
                self.out.push(' ');
            }
        } else {
            match self.number.get(self.at) {
                Some(b'.') if !self.ends_at_point() || !template.fill => self.out.push('.'),
                Some(b'.') | None => {}
                Some(_) if self.last.is_some_and(|last| self.at > last) && !is_zero => {}
                Some(_) if self.leads_with_zero() => {
                    if template.fill {
                        self.out.push(' ');
                    } else if self.ends_at_point() {
                        self.out.push('0');
                    }
                }
                Some(digit) => {
                    self.out.push(char::from(*digit));
                    self.in_number = true;
                }
            }
            if self.at < self.number.len() {
                self.at += 1;
            }
        }
        let mut end = self.places;
        if self.last.is_some_and(|last| last == self.at) {
            end = self.place;
        }
        if self.place + 1 == end {
            if self.sign_written && self.brackets() {
                self.out.push(if self.negative { '>' } else { ' ' });
            } else if template.anchor == Anchor::After {
                self.out.push(if self.negative { '-' } else { '+' });
            }
        }
        self.place += 1;
    }

    fn sign(&mut self) {
        match self.template.anchor {
            Anchor::Before => self.out.push(if self.negative { '-' } else { '+' }),
            Anchor::After => return,
            Anchor::None if self.brackets() => self.out.push(if self.negative { '<' } else { ' ' }),
            Anchor::None if self.negative => self.out.push('-'),
            Anchor::None if self.template.fill => self.out.push(' '),
            Anchor::None => {}
        }
        self.sign_written = true;
    }
}

/// A binary fraction by its certain digits.
pub(super) fn decimal_of(value: f64) -> Option<(i128, i8)> {
    parse_decimal(&format!("{value:.14e}")).or_else(|| (value.abs() < 1e-20).then_some((0, 0)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_follow_their_templates() {
        for (text, template, expected) in [
            ("485", "RN", "        CDLXXXV"),
            ("485", "FMRN", "CDLXXXV"),
            ("0.0004859", "9.99EEEE", " 4.86e-04"),
            ("-485", "9.99EEEE", "-4.85e+02"),
            ("12.45", "99V9", " 125"),
            ("482", "999th", " 482nd"),
            ("485", "\"Good number:\"999", "Good number: 485"),
            ("-485", "SG999", "-485"),
            ("-485", "999S", "485-"),
            ("-485", "999MI", "485-"),
            ("-12", "999PR", " <12>"),
            ("0", "FM9.99", "0."),
            ("12", "FM9990999.9", "0012."),
            ("148.5", "FM999.990", "148.500"),
            ("-0.1", "99.99", "  -.10"),
            ("1234567", "999", " ###"),
            ("1.5", ".99", " .##"),
        ] {
            let (unscaled, scale) = parse_decimal(text).unwrap();
            assert_eq!(
                NumberTemplate::read(template).unwrap().write(unscaled, scale),
                expected,
                "{text} as {template}"
            );
        }
        assert!(NumberTemplate::read("SS9").is_err() && NumberTemplate::read("9.9.9").is_err());
    }
}
