//! What the parser reads: PostgreSQL's language, with its table of precedences (manual 4.1.6) exactly, and the forms that the
//! parser's own reading of it leaves out: BETWEEN SYMMETRIC, LIKE ANY and ALL, ISNULL. What is no operator there, such as `==`,
//! is refused instead of being taken for another.

use std::any::TypeId;

use sqlparser::ast::{
    BinaryOperator, CastKind, DataType, Expr, Function, FunctionArg, FunctionArgExpr, FunctionArgumentList,
    FunctionArguments, Ident, ObjectName, TrimWhereField, TypedString, UnaryOperator,
};
use sqlparser::dialect::{Dialect, PostgreSqlDialect, Precedence};
use sqlparser::keywords::Keyword;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::Token;

const POSTGRES: PostgreSqlDialect = PostgreSqlDialect {};

/// The call that `VARIADIC array` is read as.
pub(crate) const VARIADIC: &str = "\u{1}variadic";

/// How tightly operators bind, from the loosest.
const IS: u8 = 40;
const BETWEEN_IN_LIKE: u8 = 60;
const OTHER: u8 = 70;
/// Tighter than COLLATE, AT and `^`, looser than `[ ]` and `::`.
const SIGN: u8 = 125;

#[derive(Debug)]
pub(crate) struct OwnDialect;

macro_rules! as_in_postgres {
    ($($name:ident),* $(,)?) => { $(fn $name(&self) -> bool { POSTGRES.$name() })* };
}

impl Dialect for OwnDialect {
    // Where the parser asks which dialect it reads, it is PostgreSQL's.
    fn dialect(&self) -> TypeId {
        TypeId::of::<PostgreSqlDialect>()
    }

    fn identifier_quote_style(&self, identifier: &str) -> Option<char> {
        POSTGRES.identifier_quote_style(identifier)
    }

    fn is_delimited_identifier_start(&self, c: char) -> bool {
        POSTGRES.is_delimited_identifier_start(c)
    }

    fn is_identifier_start(&self, c: char) -> bool {
        POSTGRES.is_identifier_start(c)
    }

    fn is_identifier_part(&self, c: char) -> bool {
        POSTGRES.is_identifier_part(c)
    }

    fn is_custom_operator_part(&self, c: char) -> bool {
        POSTGRES.is_custom_operator_part(c)
    }

    fn is_reserved_for_identifier(&self, word: Keyword) -> bool {
        POSTGRES.is_reserved_for_identifier(word)
    }

    fn is_table_alias(&self, word: &Keyword, parser: &mut Parser) -> bool {
        POSTGRES.is_table_alias(word, parser)
    }

    as_in_postgres! {
        supports_unicode_string_literal,
        supports_filter_during_aggregation,
        supports_group_by_expr,
        allow_extract_custom,
        allow_extract_single_quotes,
        supports_factorial_operator,
        supports_bitwise_shift_operators,
        supports_named_fn_args_with_colon_operator,
        supports_named_fn_args_with_expr_name,
        supports_empty_projections,
        supports_nested_comments,
        supports_string_escape_constant,
        supports_numeric_literal_underscores,
        supports_array_typedef_with_brackets,
        supports_geometric_types,
        supports_order_by_using_operator,
        supports_left_associative_joins_without_parens,
        supports_notnull_operator,
        supports_interval_options,
        supports_insert_table_alias,
        supports_comma_separated_trim,
        supports_aliased_function_args,
    }

    /// `name := value` beside `name => value`.
    fn supports_named_fn_args_with_assignment_operator(&self) -> bool {
        true
    }

    /// FOR SYSTEM_TIME AS OF (SQL:2011, 7.6).
    fn supports_table_versioning(&self) -> bool {
        true
    }

    fn supports_window_function_null_treatment_arg(&self) -> bool {
        true
    }

    fn supports_window_clause_named_window_reference(&self) -> bool {
        true
    }

    /// 'a' and 'b' on two lines are one text (SQL:2016 part 2, 5.3).
    fn supports_string_literal_concatenation_with_newline(&self) -> bool {
        true
    }

    fn prec_value(&self, precedence: Precedence) -> u8 {
        POSTGRES.prec_value(precedence)
    }

    fn get_next_precedence(&self, parser: &Parser) -> Option<Result<u8, ParserError>> {
        match &parser.peek_token_ref().token {
            Token::Tilde
            | Token::TildeAsterisk
            | Token::ExclamationMarkTilde
            | Token::ExclamationMarkTildeAsterisk
            | Token::DoubleTilde
            | Token::DoubleTildeAsterisk
            | Token::ExclamationMarkDoubleTilde
            | Token::ExclamationMarkDoubleTildeAsterisk
            | Token::Spaceship => Some(Ok(OTHER)),
            Token::Word(word) if word.keyword == Keyword::OPERATOR => Some(Ok(OTHER)),
            Token::Word(word) if is_isnull(word) => Some(Ok(IS)),
            // A label of a named argument, and no operator.
            Token::Assignment => Some(Ok(self.prec_unknown())),
            _ => POSTGRES.get_next_precedence(parser),
        }
    }

    fn parse_prefix(&self, parser: &mut Parser) -> Option<Result<Expr, ParserError>> {
        let next = &parser.peek_nth_token_ref(1).token;
        let (op, precedence) = match &parser.peek_token_ref().token {
            Token::Word(word) if word.keyword == Keyword::TRIM && *next == Token::LParen => return Some(trim(parser)),
            Token::Word(word) if word.keyword == Keyword::SUBSTRING && *next == Token::LParen => {
                return parser.maybe_parse(similar_substring).transpose();
            }
            Token::Word(word) if word.keyword == Keyword::INTERVAL && *next == Token::LParen => {
                return parser.maybe_parse(interval_of_digits).transpose();
            }
            Token::Word(word) if word.keyword == Keyword::VARIADIC => {
                parser.advance_token();
                return Some(parser.parse_expr().map(|array| called(VARIADIC, vec![array])));
            }
            // `"timestamp" '2025-07-01'`: a literal of a type by its quoted name.
            Token::Word(word) if word.quote_style.is_some() && matches!(next, Token::SingleQuotedString(_)) => {
                return Some(quoted_type(parser));
            }
            Token::Plus => (UnaryOperator::Plus, SIGN),
            Token::Minus => (UnaryOperator::Minus, SIGN),
            Token::Tilde => (UnaryOperator::BitwiseNot, OTHER),
            Token::PGSquareRoot => (UnaryOperator::PGSquareRoot, OTHER),
            Token::PGCubeRoot => (UnaryOperator::PGCubeRoot, OTHER),
            Token::AtSign => (UnaryOperator::PGAbs, OTHER),
            Token::DoubleExclamationMark => (UnaryOperator::PGPrefixFactorial, OTHER),
            _ => return None,
        };
        parser.advance_token();
        Some(parser.parse_subexpr(precedence).map(|expr| Expr::UnaryOp { op, expr: Box::new(expr) }))
    }

    fn parse_infix(&self, parser: &mut Parser, left: &Expr, _precedence: u8) -> Option<Result<Expr, ParserError>> {
        let token = parser.peek_token_ref();
        let fail = |what: &str| {
            let start = token.span.start;
            let place = format!(" at Line: {}, Column: {}", start.line, start.column);
            Some(Err(ParserError::ParserError(format!("{what}{place}"))))
        };
        match &token.token {
            Token::DoubleEq => fail("there is no operator \"==\": equality is written ="),
            Token::Eq | Token::Neq | Token::Lt | Token::LtEq | Token::Gt | Token::GtEq if is_comparison(left) => {
                fail("a comparison of a comparison needs parentheses")
            }
            Token::Word(word) => match word.keyword {
                Keyword::DIV | Keyword::XOR | Keyword::REGEXP | Keyword::RLIKE | Keyword::MATCH | Keyword::GLOB => {
                    fail(&format!("\"{}\" is not an operator", word.value))
                }
                _ if is_isnull(word) => {
                    parser.advance_token();
                    Some(Ok(Expr::IsNull(Box::new(left.clone()))))
                }
                Keyword::NOT
                | Keyword::IN
                | Keyword::LIKE
                | Keyword::ILIKE
                | Keyword::SIMILAR
                | Keyword::BETWEEN
                | Keyword::OVERLAPS => {
                    let is_not = word.keyword == Keyword::NOT;
                    let nulls = is_not && is_keyword(parser, 1, Keyword::NULL);
                    if is_membership(left) && !nulls {
                        return fail("a comparison of a comparison needs parentheses");
                    }
                    between_symmetric(parser, left).or_else(|| like_quantified(parser, left))
                }
                _ => None,
            },
            _ => None,
        }
    }
}

fn is_isnull(word: &sqlparser::tokenizer::Word) -> bool {
    word.quote_style.is_none() && word.value.eq_ignore_ascii_case("isnull")
}

fn is_keyword(parser: &Parser, ahead: usize, keyword: Keyword) -> bool {
    matches!(&parser.peek_nth_token_ref(ahead).token, Token::Word(word) if word.keyword == keyword)
}

/// A comparison without parentheses around it: these do not associate.
fn is_comparison(expr: &Expr) -> bool {
    use BinaryOperator as B;
    matches!(expr, Expr::BinaryOp { op: B::Eq | B::NotEq | B::Lt | B::LtEq | B::Gt | B::GtEq, .. })
}

fn is_membership(expr: &Expr) -> bool {
    matches!(
        expr,
        Expr::InList { .. }
            | Expr::InSubquery { .. }
            | Expr::Between { .. }
            | Expr::Like { .. }
            | Expr::ILike { .. }
            | Expr::SimilarTo { .. }
    )
}

/// `x [NOT] BETWEEN SYMMETRIC low AND high`: the bounds in either order (SQL:2016 part 2, 8.3). ASYMMETRIC is the usual form.
fn between_symmetric(parser: &mut Parser, left: &Expr) -> Option<Result<Expr, ParserError>> {
    let ahead = usize::from(is_keyword(parser, 0, Keyword::NOT));
    if !is_keyword(parser, ahead, Keyword::BETWEEN) {
        return None;
    }
    let symmetric = is_keyword(parser, ahead + 1, Keyword::SYMMETRIC);
    if !symmetric && !is_keyword(parser, ahead + 1, Keyword::ASYMMETRIC) {
        return None;
    }
    (0..ahead + 2).for_each(|_| parser.advance_token());
    Some((|| {
        let low = Box::new(parser.parse_subexpr(BETWEEN_IN_LIKE)?);
        parser.expect_keyword(Keyword::AND)?;
        let high = Box::new(parser.parse_subexpr(BETWEEN_IN_LIKE)?);
        let (expr, negated) = (Box::new(left.clone()), ahead > 0);
        let usual = Expr::Between { expr: expr.clone(), negated, low: low.clone(), high: high.clone() };
        if !symmetric {
            return Ok(usual);
        }
        let op = if negated { BinaryOperator::And } else { BinaryOperator::Or };
        let turned = Expr::Between { expr, negated, low: high, high: low };
        let either = Expr::BinaryOp { left: Box::new(usual), op, right: Box::new(turned) };
        Ok(Expr::Nested(Box::new(either)))
    })())
}

/// `TRIM ([BOTH | LEADING | TRAILING] [characters] [FROM] text [, characters])` (SQL:2016 part 2, 6.32; PostgreSQL manual 9.4).
fn trim(parser: &mut Parser) -> Result<Expr, ParserError> {
    parser.advance_token();
    parser.expect_token(&Token::LParen)?;
    let sides = [Keyword::BOTH, Keyword::LEADING, Keyword::TRAILING];
    let trim_where = match parser.parse_one_of_keywords(&sides) {
        Some(Keyword::BOTH) => Some(TrimWhereField::Both),
        Some(Keyword::LEADING) => Some(TrimWhereField::Leading),
        Some(_) => Some(TrimWhereField::Trailing),
        None => None,
    };
    let mut trim_what = None;
    let mut text = None;
    if !parser.parse_keyword(Keyword::FROM) {
        let first = parser.parse_expr()?;
        match parser.parse_keyword(Keyword::FROM) {
            true => trim_what = Some(Box::new(first)),
            false => text = Some(first),
        }
    }
    let text = match text {
        Some(text) => text,
        None => parser.parse_expr()?,
    };
    if trim_what.is_none() && parser.consume_token(&Token::Comma) {
        trim_what = Some(Box::new(parser.parse_expr()?));
    }
    parser.expect_token(&Token::RParen)?;
    Ok(Expr::Trim { expr: Box::new(text), trim_where, trim_what, trim_characters: None })
}

/// `SUBSTRING (text SIMILAR pattern ESCAPE character)`, as a call with the three of them.
fn similar_substring(parser: &mut Parser) -> Result<Expr, ParserError> {
    let name = parser.parse_object_name(false)?;
    parser.expect_token(&Token::LParen)?;
    let text = parser.parse_subexpr(BETWEEN_IN_LIKE)?;
    parser.expect_keyword(Keyword::SIMILAR)?;
    let pattern = parser.parse_subexpr(BETWEEN_IN_LIKE)?;
    parser.expect_keyword(Keyword::ESCAPE)?;
    let escape = parser.parse_expr()?;
    parser.expect_token(&Token::RParen)?;
    Ok(call_of(name, vec![text, pattern, escape]))
}

/// `interval(digits) 'text'`, as a cast to it.
fn interval_of_digits(parser: &mut Parser) -> Result<Expr, ParserError> {
    let data_type = parser.parse_data_type()?;
    let value = parser.parse_value()?;
    Ok(Expr::Cast { kind: CastKind::DoubleColon, expr: Box::new(Expr::Value(value)), data_type, format: None })
}

/// A call of a name that nobody can write.
fn called(name: &str, arguments: Vec<Expr>) -> Expr {
    call_of(ObjectName::from(vec![Ident::with_quote('"', name)]), arguments)
}

fn call_of(name: ObjectName, arguments: Vec<Expr>) -> Expr {
    let args = arguments.into_iter().map(|e| FunctionArg::Unnamed(FunctionArgExpr::Expr(e))).collect();
    let list = FunctionArgumentList { duplicate_treatment: None, args, clauses: vec![] };
    Expr::Function(Function {
        name,
        uses_odbc_syntax: false,
        parameters: FunctionArguments::None,
        args: FunctionArguments::List(list),
        within_group: vec![],
        filter: None,
        null_treatment: None,
        over: None,
    })
}

fn quoted_type(parser: &mut Parser) -> Result<Expr, ParserError> {
    let name = parser.parse_object_name(false)?;
    let value = parser.parse_value()?;
    let data_type = DataType::Custom(name, vec![]);
    Ok(Expr::TypedString(TypedString { data_type, value, uses_odbc_syntax: false }))
}

/// `x [NOT] LIKE ANY (…)` and `ALL`: a comparison with each item of an array, or each row of a subquery.
fn like_quantified(parser: &mut Parser, left: &Expr) -> Option<Result<Expr, ParserError>> {
    let ahead = usize::from(is_keyword(parser, 0, Keyword::NOT));
    let compare_op = match (ahead > 0, is_keyword(parser, ahead, Keyword::LIKE)) {
        (false, true) => BinaryOperator::PGLikeMatch,
        (true, true) => BinaryOperator::PGNotLikeMatch,
        (negated, false) if is_keyword(parser, ahead, Keyword::ILIKE) => match negated {
            true => BinaryOperator::PGNotILikeMatch,
            false => BinaryOperator::PGILikeMatch,
        },
        _ => return None,
    };
    let all = is_keyword(parser, ahead + 1, Keyword::ALL);
    let some = is_keyword(parser, ahead + 1, Keyword::SOME);
    if !all && !some && !is_keyword(parser, ahead + 1, Keyword::ANY) {
        return None;
    }
    (0..ahead + 2).for_each(|_| parser.advance_token());
    Some((|| {
        // What stands in the parentheses, a subquery among it, is read as an expression in parentheses is.
        let right = Box::new(parser.parse_subexpr(BETWEEN_IN_LIKE)?);
        let left = Box::new(left.clone());
        Ok(match all {
            true => Expr::AllOp { left, compare_op, right },
            false => Expr::AnyOp { left, compare_op, right, is_some: some },
        })
    })())
}

const _: () = assert!(IS < BETWEEN_IN_LIKE && BETWEEN_IN_LIKE < OTHER && OTHER < SIGN);
