//! How text files are written, as options of commands that look at them.

use clap::Args;
use cobble_api::TableDefinitionBody;

#[derive(Args, Clone, Default)]
pub struct TextForm {
    /// Field delimiter of CSV
    #[arg(long, value_name = "SIGN")]
    delimiter: Option<String>,
    /// Quote character of CSV
    #[arg(long, value_name = "SIGN")]
    quote: Option<String>,
    /// Escape character before a quote inside a quoted field
    #[arg(long, value_name = "SIGN")]
    escape: Option<String>,
    /// Skip CSV lines that begin with this character
    #[arg(long, value_name = "SIGN")]
    comment: Option<String>,
    /// Whether the first line of CSV is a header
    #[arg(long, value_name = "BOOL")]
    header: Option<bool>,
    /// Encoding of CSV, such as windows-1252
    #[arg(long, value_name = "NAME")]
    encoding: Option<String>,
    /// Decimal separator: . or ,
    #[arg(long, value_name = "SIGN")]
    decimal: Option<String>,
    /// Thousands separator
    #[arg(long, value_name = "SIGN")]
    thousands: Option<String>,
    /// Date pattern, such as DD.MM.YYYY
    #[arg(long, value_name = "PATTERN")]
    dates: Option<String>,
    /// Words that mean null, separated by commas
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
