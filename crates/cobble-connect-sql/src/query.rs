//! A SELECT as a tree. Tables are known by numbers, so that two trees can be put together whatever their tables are called.

use cobble_plan::logical::JoinKind;
use serde::{Deserialize, Serialize};

use super::dialect::Dialect;
use super::sql::{Sql, StatementText, alias};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Query {
    pub list: Vec<Sql>,
    pub from: From,
    pub conditions: Vec<Sql>,
    /// `Some` once it groups; empty means one group of all rows.
    pub groups: Option<Vec<Sql>>,
    pub order: Vec<Sql>,
    /// Rows at most, and rows left out before them.
    pub limit: Option<(Option<u64>, u64)>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum From {
    /// A table by its full name, or a query of the user's in parentheses.
    Table {
        name: String,
        number: usize,
    },
    /// All rows of these queries.
    Derived {
        queries: Vec<Query>,
        number: usize,
    },
    Join {
        left: Box<From>,
        kind: JoinKind,
        right: Box<From>,
        on: Sql,
    },
}

impl Query {
    /// The rows of `from` for which all conditions hold.
    pub fn new(list: Vec<Sql>, from: From, conditions: Vec<Sql>) -> Query {
        Query { list, from, conditions, groups: None, order: vec![], limit: None }
    }

    /// Its pieces, those of its own queries left out.
    pub fn parts(&self) -> impl Iterator<Item = &Sql> {
        let groups = self.groups.iter().flatten();
        self.list.iter().chain(&self.conditions).chain(groups).chain(&self.order).chain(self.from.conditions())
    }

    pub fn renumber(&mut self, by: usize) {
        let groups = self.groups.iter_mut().flatten();
        let parts = self.list.iter_mut().chain(&mut self.conditions).chain(groups).chain(&mut self.order);
        parts.for_each(|part| part.renumber(by));
        self.from.renumber(by);
    }

    pub fn write(&self, out: &mut StatementText, dialect: &dyn Dialect) {
        let all = |out: &mut StatementText, word: &str, parts: &[Sql], separator: &str| {
            for (place, part) in parts.iter().enumerate() {
                out.text.push_str(if place == 0 { word } else { separator });
                part.write(out, dialect);
            }
        };
        out.text.push_str("SELECT ");
        if self.list.is_empty() {
            out.text.push_str(dialect.no_columns());
        }
        all(out, "", &self.list, ", ");
        out.text.push_str(" FROM ");
        self.from.write(out, dialect);
        all(out, " WHERE ", &self.conditions, " AND ");
        all(out, " GROUP BY ", self.groups.as_deref().unwrap_or_default(), ", ");
        all(out, " ORDER BY ", &self.order, ", ");
        if let Some((limit, offset)) = self.limit {
            out.text.push_str(&dialect.limit(limit, offset));
        }
    }
}

impl From {
    /// Begins with a query, which no index helps to search.
    pub fn is_derived(&self) -> bool {
        match self {
            From::Table { .. } => false,
            From::Derived { .. } => true,
            From::Join { left, .. } => left.is_derived(),
        }
    }

    /// The conditions of its joins.
    fn conditions(&self) -> impl Iterator<Item = &Sql> {
        let (mut found, mut open) = (Vec::new(), vec![self]);
        while let Some(from) = open.pop() {
            if let From::Join { left, right, on, .. } = from {
                found.push(on);
                open.extend([left.as_ref(), right.as_ref()]);
            }
        }
        found.into_iter()
    }

    pub fn renumber(&mut self, by: usize) {
        match self {
            From::Table { number, .. } => *number += by,
            From::Derived { queries, number } => {
                *number += by;
                queries.iter_mut().for_each(|query| query.renumber(by));
            }
            From::Join { left, right, on, .. } => {
                left.renumber(by);
                right.renumber(by);
                on.renumber(by);
            }
        }
    }

    fn write(&self, out: &mut StatementText, dialect: &dyn Dialect) {
        match self {
            From::Table { name, number } => out.text.push_str(&format!("{name} AS {}", alias(*number))),
            From::Derived { queries, number } => {
                for (place, query) in queries.iter().enumerate() {
                    out.text.push_str(if place == 0 { "(" } else { " UNION ALL " });
                    query.write(out, dialect);
                }
                out.text.push_str(&format!(") AS {}", alias(*number)));
            }
            From::Join { left, kind, right, on } => {
                left.write(out, dialect);
                let (open, close) = if matches!(**right, From::Join { .. }) { ("(", ")") } else { ("", "") };
                out.text.push_str(&format!(" {} {open}", word(*kind)));
                right.write(out, dialect);
                out.text.push_str(&format!("{close} ON "));
                on.write(out, dialect);
            }
        }
    }
}

/// The word for a join that stands in FROM.
fn word(kind: JoinKind) -> &'static str {
    match kind {
        JoinKind::Left => "LEFT JOIN",
        JoinKind::Right => "RIGHT JOIN",
        JoinKind::Full => "FULL JOIN",
        _ => "JOIN",
    }
}

#[cfg(test)]
mod tests {
    use cobble_plan::aggregate::AggregateCall;
    use cobble_plan::expr::{BinaryOp, Expr};
    use cobble_plan::logical::SortKey;
    use cobble_types::{SqlType, Value};

    use super::*;
    use crate::change::ChangeForm;
    use crate::dialect::{Columns, wrap};
    use crate::sql::{Parameter, Refusal};
    use cobble_functions::Function;

    /// Writes parameters as `:1`, `:2`, and takes nothing else.
    #[derive(Debug)]
    struct Paper;

    fn refused<T>() -> Result<T, Refusal> {
        Err((cobble_plan::offer::KeptReason::NoSuchAbility, "it is only paper".to_owned()))
    }

    impl Dialect for Paper {
        fn kind(&self) -> &'static str {
            "paper"
        }
        fn parser(&self) -> &'static dyn sqlparser::dialect::Dialect {
            &sqlparser::dialect::GenericDialect {}
        }
        fn quote(&self) -> char {
            '"'
        }
        fn reference(&self, _: &Parameter, number: usize) -> String {
            format!(":{number}")
        }
        fn literal(&self, value: &Value, sql_type: &SqlType) -> Result<Sql, Refusal> {
            Ok(Sql::parameter(Parameter(value.clone(), sql_type.clone())))
        }
        fn compared(&self, _: BinaryOp, _: [&Expr; 2], _: Columns<'_>) -> Result<Sql, Refusal> {
            refused()
        }
        fn computed(&self, _: BinaryOp, _: [&Expr; 2], _: &SqlType, _: Columns<'_>) -> Result<Sql, Refusal> {
            refused()
        }
        fn negated(&self, _: &Expr, _: Columns<'_>) -> Result<Sql, Refusal> {
            refused()
        }
        fn letter_case(&self) -> &'static str {
            "there are no letters"
        }
        fn like(&self, _: [&Expr; 2], _: bool, _: Columns<'_>) -> Result<Sql, Refusal> {
            refused()
        }
        fn listed(&self, _: &Expr, _: &[Expr], _: Columns<'_>) -> Result<(Sql, Vec<Sql>), Refusal> {
            refused()
        }
        fn case_type(&self, _: &SqlType) -> Result<String, Refusal> {
            refused()
        }
        fn cast(&self, _: &Expr, _: &SqlType, _: Columns<'_>) -> Result<Sql, Refusal> {
            refused()
        }
        fn call(&self, _: Function, _: &[Expr], _: &SqlType, _: Columns<'_>) -> Result<Sql, Refusal> {
            refused()
        }
        fn aggregate(&self, _: &AggregateCall, _: Columns<'_>, _: Option<&Sql>) -> Result<Sql, Refusal> {
            refused()
        }
        fn groups(&self, _: &Expr) -> Result<(), Refusal> {
            refused()
        }
        fn sort_key(&self, _: &SortKey, _: Sql) -> Result<Sql, Refusal> {
            refused()
        }
        fn limit(&self, limit: Option<u64>, offset: u64) -> String {
            format!(" FIRST {limit:?} AFTER {offset}")
        }
        fn joins(&self, _: JoinKind) -> bool {
            true
        }
        fn takes_keys(&self, _: &SqlType) -> bool {
            false
        }
        fn change_form(&self) -> ChangeForm {
            ChangeForm::FromUsing
        }
    }

    fn number(n: i32) -> Sql {
        Sql::parameter(Parameter(Value::Integer(n), SqlType::Integer))
    }

    fn table(name: &str) -> From {
        From::Table { name: name.to_owned(), number: 1 }
    }

    fn above(n: i32) -> Sql {
        wrap(&[&Sql::column(1, "\"id\""), &number(n)], "(? > ?)")
    }

    fn printed(query: &Query) -> (String, Vec<String>) {
        let statement = StatementText::of(&Sql::query(query.clone()), &Paper);
        let shown = statement.shown_parameters();
        (statement.text, shown)
    }

    #[test]
    fn clauses_stand_in_their_order() {
        let mut query = Query::new(vec![Sql::column(1, "\"id\"")], table("\"ports\""), vec![above(3), above(4)]);
        query.groups = Some(vec![Sql::column(1, "\"id\"")]);
        query.order = vec![Sql::column(1, "\"id\"")];
        query.limit = Some((Some(5), 2));
        assert_eq!(
            printed(&query).0,
            "SELECT t1.\"id\" FROM \"ports\" AS t1 WHERE (t1.\"id\" > :1) AND (t1.\"id\" > :2) GROUP BY t1.\"id\" ORDER BY t1.\"id\" FIRST Some(5) AFTER 2"
        );
        // One group of all rows needs no word, and a list of nothing has something in it.
        let counted = Query { groups: Some(vec![]), ..Query::new(vec![], table("\"ports\""), vec![]) };
        assert_eq!(printed(&counted).0, "SELECT 1 FROM \"ports\" AS t1");
    }

    #[test]
    fn values_are_numbered_as_they_stand_in_the_text() {
        let inner =
            Query::new(vec![Sql::new("1")], From::Table { name: "\"calls\"".to_owned(), number: 2 }, vec![above(8)]);
        let right = From::Derived { queries: vec![inner.clone(), inner], number: 3 };
        let from = From::Join {
            left: Box::new(table("\"ports\"")),
            kind: JoinKind::Left,
            right: Box::new(right),
            on: above(1),
        };
        let query = Query::new(vec![number(7)], from, vec![above(9)]);
        let (text, parameters) = printed(&query);
        assert_eq!(parameters, ["7", "8", "8", "1", "9"]);
        assert!(text.starts_with(
            "SELECT :1 FROM \"ports\" AS t1 LEFT JOIN (SELECT 1 FROM \"calls\" AS t2 WHERE (t1.\"id\" > :2) UNION ALL "
        ));
        assert!(text.ends_with(") AS t3 ON (t1.\"id\" > :4) WHERE (t1.\"id\" > :5)"), "{text}");
    }

    #[test]
    fn tables_are_renumbered_and_text_is_left_alone() {
        // Text of the user's own that looks like names of ours.
        let own = From::Table { name: "(SELECT t1.t2, '\" AS t1' FROM t1)".to_owned(), number: 1 };
        let inner = Query::new(vec![Sql::new("t1.c1")], table("\"t1\""), vec![above(1)]);
        let exists = wrap(&[&Sql::query(inner)], "EXISTS (?)");
        let mut query = Query::new(vec![Sql::column(1, "\"t1\"").whole()], own, vec![exists]);
        query.renumber(2);
        let wanted = "SELECT t3.\"t1\" FROM (SELECT t1.t2, '\" AS t1' FROM t1) AS t3 WHERE EXISTS (SELECT t1.c1 FROM \"t1\" AS t3 WHERE (t3.\"id\" > :1))";
        assert_eq!(printed(&query).0, wanted);
        // The round trip through the serial form changes nothing.
        let copy: Query = cobble_plan::serial::from_bytes(&cobble_plan::serial::to_bytes(&query).unwrap()).unwrap();
        assert_eq!(copy, query);
    }

    #[test]
    fn a_join_on_the_right_stands_in_parentheses() {
        let join = |left: From, right: From| From::Join {
            left: Box::new(left),
            kind: JoinKind::Inner,
            right: Box::new(right),
            on: Sql::new("TRUE"),
        };
        let text = |from: From| printed(&Query::new(vec![], from, vec![])).0;
        let inner = || join(table("a"), table("b"));
        assert_eq!(text(join(inner(), table("c"))), "SELECT 1 FROM a AS t1 JOIN b AS t1 ON TRUE JOIN c AS t1 ON TRUE");
        assert_eq!(
            text(join(table("c"), inner())),
            "SELECT 1 FROM c AS t1 JOIN (a AS t1 JOIN b AS t1 ON TRUE) ON TRUE"
        );
        assert!(!inner().is_derived());
        let derived = From::Derived { queries: vec![], number: 1 };
        assert!(join(derived, table("c")).is_derived());
    }

    #[test]
    fn pieces_know_what_they_hold() {
        let query = Query::new(vec![Sql::new("1")], table("a"), vec![above(1)]);
        assert!(Sql::query(query).binds() && !Sql::new("1").binds());
        let column = Sql::column(1, "x").in_lists(Sql::column(1, "y"));
        assert!(column.of_rows && !Sql::new("1").of_rows);
        let shown = |sql: &Sql| StatementText::of(sql, &Paper).text;
        assert_eq!(
            (shown(&column), shown(&column.clone().listed()), shown(&column.whole())),
            ("t1.x".into(), "t1.y".into(), "t1.x".into())
        );
        let (long, short) = (Sql::new("abcdef"), number(1));
        assert!(long.size() > short.size());
    }
}
