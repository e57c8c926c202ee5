//! How text files are written, as options of commands that look at them.

use clap::Args;
use cobble_service::types::TableDefinitionBody;

#[derive(Args, Clone, Default)]
pub struct TextForm {
    /// What stands between the fields of CSV
    #[arg(long, value_name = "SIGN")]
    delimiter: Option<String>,
    /// What stands around fields of CSV
    #[arg(long, value_name = "SIGN")]
    quote: Option<String>,
    /// What stands before a quote within such a field
    #[arg(long, value_name = "SIGN")]
    escape: Option<String>,
    /// Lines of CSV that begin with it are left out
    #[arg(long, value_name = "SIGN")]
    comment: Option<String>,
    /// Whether the first line of CSV names the columns
    #[arg(long, value_name = "BOOL")]
    header: Option<bool>,
    /// Encoding of CSV, such as windows-1252
    #[arg(long, value_name = "NAME")]
    encoding: Option<String>,
    /// What begins the fraction of a number: . or ,
    #[arg(long, value_name = "SIGN")]
    decimal: Option<String>,
    /// What stands between groups of three digits
    #[arg(long, value_name = "SIGN")]
    thousands: Option<String>,
    /// How dates are written, such as DD.MM.YYYY
    #[arg(long, value_name = "PATTERN")]
    dates: Option<String>,
    /// Words that stand for null, with commas between them
    #[arg(long, value_name = "WORDS")]
    nulls: Option<String>,
}

impl TextForm {
    pub fn body(self) -> TableDefinitionBody {
        let TextForm { delimiter, quote, escape, comment, header, encoding, decimal, thousands, dates, nulls } = self;
        TableDefinitionBody {
            delimiter,
            quote,
            escape,
            comment,
            header,
            encoding,
            decimal,
            thousands,
            dates,
            nulls,
            ..TableDefinitionBody::default()
        }
    }
}
