//! The function of docs/how-to/extend.md, as it is written there.

use std::sync::Arc;

use arrow::array::{AsArray, StringViewArray};
use arrow::datatypes::DataType;
use cobble_functions::{Call, Evaluated, Given, Overload, Returns, Scalar, Takes};
use cobble_types::SqlType;

// In crates/cobble-functions/src/scalar/text.rs:
const INITIALS: Scalar = Scalar::new(
    "initials",
    "text [, separator]",
    "The first letter of each word.",
    ("initials('north quay', '.')", "n.q"),
    &[Overload::with_optional(&[Takes::Text, Takes::Text], 1, Returns::Text, |call| {
        let (text, separator) = (call.texts(0), call.texts_or(1, ""));
        call.make_strings(|row| {
            let Some((text, separator)) = text.get(row).zip(separator(row)) else { return Ok(None) };
            let letters = text.split_whitespace().filter_map(|word| word.chars().next());
            Ok(Some(letters.map(String::from).collect::<Vec<_>>().join(separator)))
        })
    })],
);

fn text() -> Given {
    Given::of(SqlType::Text)
}

#[test]
fn arguments_are_checked_and_coerced() {
    // A quoted literal has no type yet and becomes text.
    let found = INITIALS.resolve(&[text(), Given::of(SqlType::Null)]).unwrap();
    assert_eq!((found.arguments, found.returns), (vec![SqlType::Text, SqlType::Text], SqlType::Text));
    assert!(INITIALS.resolve(&[text()]).is_some());
    assert!(INITIALS.resolve(&[Given::of(SqlType::Integer)]).is_none());
    assert!(INITIALS.resolve(&[text(), text(), text()]).is_none());
}

#[test]
fn a_kernel_computes_a_batch() {
    let names = Evaluated::Array(Arc::new(StringViewArray::from(vec![Some("north quay"), None, Some("steps")])));
    // A constant stands for all rows.
    let dot = Evaluated::Scalar(Arc::new(StringViewArray::from(vec!["."])));
    let kernel = INITIALS.resolve(&[text(), text()]).unwrap().overload.kernel;
    let call = Call { name: "initials", arguments: &[&names, &dot], rows: 3, result: &DataType::Utf8View };
    let made = kernel(&call).unwrap();
    let made: Vec<Option<&str>> = made.as_string_view().iter().collect();
    assert_eq!(made, [Some("n.q"), None, Some("s")]);
}
