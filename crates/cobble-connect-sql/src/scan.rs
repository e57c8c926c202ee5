//! An agreed statement, and the same with the keys of joins.

use std::sync::{Arc, PoisonError};

use arrow::datatypes::{Field, Schema};
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::key_pass::MOST_LISTED;
use cobble_plan::offer::{
    GateScan, KeptReason, Offer, PartCount, Portions, Request, RowChange, ScanTools, SourceChange, Verdict,
};
use cobble_types::Result;

use super::Database;
use super::change::DatabaseChange;
use super::offer::DatabaseOffer;
use super::sql::Sql;

#[derive(Debug)]
pub struct DatabaseScan {
    database: Arc<dyn Database>,
    /// Several are portions of one.
    statements: Vec<Sql>,
    /// The source's columns that the result is made of.
    columns_read: Vec<String>,
    /// The offer that the statement was made of, to which keys may be added, and the columns that come out.
    offer: DatabaseOffer,
    columns: Vec<Column>,
}

impl DatabaseScan {
    pub fn new(
        database: Arc<dyn Database>,
        statements: Vec<Sql>,
        columns_read: Vec<String>,
        offer: DatabaseOffer,
        columns: Vec<Column>,
    ) -> Self {
        DatabaseScan { database, statements, columns_read, offer, columns }
    }

    fn request_of(&self, statements: &[Sql]) -> Request {
        let Some(sql) = statements.first() else { return Request::default() };
        let dialect = self.database.dialect();
        let plain = sql.parameters.is_empty() && !self.columns.is_empty();
        let mut text = dialect.sent(sql.numbered(dialect), plain);
        if statements.len() > 1 {
            text.push_str(&format!(" (the first of {} ranges, of one snapshot)", statements.len()));
        }
        Request { text, parameters: sql.parameters.iter().map(|p| p.0.to_string()).collect() }
    }

    /// The statement with the keys of joins as conditions, as far as they can be said there.
    fn with_keys(&self, tools: &ScanTools) -> Result<Vec<Sql>> {
        let mut offer = self.offer.clone();
        let mut added = false;
        for keys in &tools.keys {
            if let Some((condition, form)) = keys.condition()
                && offer.filter(&condition).is_pushed()
            {
                tools.counters.used(keys, form, 0);
                added = true;
            }
        }
        if !added {
            return Ok(self.statements.clone());
        }
        let statements = offer.statements(&self.columns)?;
        *tools.counters.sent.lock().unwrap_or_else(PoisonError::into_inner) = Some(self.request_of(&statements));
        Ok(statements)
    }
}

#[async_trait]
impl GateScan for DatabaseScan {
    fn request(&self) -> Request {
        self.request_of(&self.statements)
    }

    fn columns_read(&self) -> Vec<String> {
        self.columns_read.clone()
    }

    fn parts(&self) -> Vec<PartCount> {
        let ranges = self.statements.len() as u64;
        if ranges < 2 { vec![] } else { vec![PartCount { parts: "ranges".into(), read: ranges, total: ranges }] }
    }

    fn estimated_bytes(&self) -> Option<f64> {
        None
    }

    fn key_pass(&self, place: usize, keys: f64) -> Verdict {
        let column = &self.columns[place];
        if self.offer.is_limited() {
            return Verdict::kept(KeptReason::BelowKept, "the statement has a limit, which would come after");
        }
        if !self.database.dialect().takes_keys(&column.sql_type) {
            return Verdict::kept(KeptReason::TypeDiffers, format!("keys of type {} are not sent", column.sql_type));
        }
        if keys > MOST_LISTED as f64 {
            return Verdict::Prunes { note: Some("as a range, there being too many for a list".into()) };
        }
        Verdict::Prunes { note: Some("as a list in the statement".into()) }
    }

    fn change(&self, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        Ok(Arc::new(DatabaseChange::new(self.database.clone(), &self.offer, &self.columns, change)?))
    }

    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let fields: Vec<Field> = self
            .columns
            .iter()
            .enumerate()
            .map(|(i, c)| Field::new(i.to_string(), c.sql_type.to_arrow(), true))
            .collect();
        let statements = self.with_keys(tools)?;
        let (table, schema) = (self.offer.table.clone(), Arc::new(Schema::new(fields)));
        self.database.clone().run(statements, table, self.columns.clone(), schema, tools.clone()).await
    }
}
