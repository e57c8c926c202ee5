//! An agreed statement, and the same with the keys of joins.

use std::sync::{Arc, PoisonError};

use arrow::datatypes::{Field, Schema};
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::key_pass::MOST_LISTED;
use cobble_plan::offer::{KeptReason, Request, Verdict};
use cobble_plan::scan::{GateScan, Portions, ScanSpec, ScanTools};
use cobble_plan::sink::{RowChange, SourceChange};
use cobble_types::Result;
use serde::{Deserialize, Serialize};

use super::change::DatabaseChange;
use super::offer::{DatabaseDraft, Select};
use super::sql::StatementText;
use super::{Database, Dialect};

/// The form of [`Work`].
pub const FORM: u16 = 2;

/// What a database was given to do. Its portions are conditions.
#[derive(Debug, Serialize, Deserialize)]
pub struct Work {
    /// As in [`Database::facts`].
    pub facts: String,
    pub select: Select,
    /// The columns that come out, in order.
    pub columns: Vec<Column>,
}

#[derive(Debug)]
pub struct DatabaseScan {
    database: Arc<dyn Database>,
    /// The agreed SELECT, to which keys may be added, and the columns that come out.
    offer: DatabaseDraft,
    columns: Vec<Column>,
    portions: Vec<String>,
}

/// What is sent, as it is shown.
pub fn request_of(database: &dyn Database, statements: &[StatementText], columns: &[Column]) -> Request {
    let Some(first) = statements.first() else { return Request::default() };
    let dialect = database.dialect();
    let plain = first.parameters.is_empty() && !columns.is_empty();
    let mut text = dialect.sent(first.text.clone(), plain);
    if statements.len() > 1 {
        text.push_str(&format!(" (the first of {} ranges, of one snapshot)", statements.len()));
    }
    Request { text, parameters: first.shown_parameters() }
}

/// The scan of agreed work. `facts` is what was known of the database then.
pub fn scan(spec: &ScanSpec, database: impl FnOnce(&str) -> Arc<dyn Database>) -> Result<Arc<dyn GateScan>> {
    let Work { facts, select, columns } = spec.unpack(FORM)?;
    let (database, portions) = (database(&facts), spec.unpack_portions()?);
    let offer = DatabaseDraft::resumed(database.clone(), spec.table.clone(), select);
    Ok(Arc::new(DatabaseScan { database, offer, columns, portions }))
}

/// Whether the keys of a join can become part of the agreed statement.
pub fn takes_keys(dialect: &dyn Dialect, spec: &ScanSpec, column: &Column, keys: f64) -> Result<Verdict> {
    let work: Work = spec.unpack(FORM)?;
    Ok(if work.select.is_limited() {
        Verdict::kept(KeptReason::BelowKept, "the statement has a limit, which would come after")
    } else if !dialect.takes_keys(&column.sql_type) {
        Verdict::kept(KeptReason::TypeDiffers, format!("keys of type {} are not sent", column.sql_type))
    } else if keys > MOST_LISTED as f64 {
        Verdict::Prunes { note: Some("as a range, there being too many for a list".into()) }
    } else {
        Verdict::Prunes { note: Some("as a list in the statement".into()) }
    })
}

/// Work that was agreed as a statement that changes the rows it would find.
pub fn change(
    spec: &ScanSpec,
    change: &RowChange,
    database: impl FnOnce(&str) -> Arc<dyn Database>,
) -> Result<Arc<dyn SourceChange>> {
    let Work { facts, select, columns } = spec.unpack(FORM)?;
    let database = database(&facts);
    let offer = DatabaseDraft::resumed(database.clone(), spec.table.clone(), select);
    Ok(Arc::new(DatabaseChange::new(database, &offer, &columns, change)?))
}

impl DatabaseScan {
    /// The statements, with the keys of joins as conditions as far as they can be said there.
    fn statements(&self, tools: &ScanTools) -> Result<Vec<StatementText>> {
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
        let statements = offer.statements(&self.columns, &self.portions)?;
        if added {
            let request = request_of(self.database.as_ref(), &statements, &self.columns);
            *tools.counters.sent.lock().unwrap_or_else(PoisonError::into_inner) = Some(request);
        }
        Ok(statements)
    }
}

#[async_trait]
impl GateScan for DatabaseScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let fields: Vec<Field> = self
            .columns
            .iter()
            .enumerate()
            .map(|(i, c)| Field::new(i.to_string(), c.sql_type.to_arrow(), true))
            .collect();
        let statements = self.statements(tools)?;
        let (table, schema) = (self.offer.select.table.as_str().into(), Arc::new(Schema::new(fields)));
        self.database.clone().run(statements, table, self.columns.clone(), schema, tools.clone()).await
    }
}
