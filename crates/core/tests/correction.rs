//! One value replaced in documents of every form.

mod common;

use proptest::prelude::*;
use std::sync::{Arc, LazyLock};
use wirewatch_core::correction::{Correction, FieldValue, NotCorrected, named_in};
use wirewatch_core::document::Form;
use wirewatch_core::schema::Written;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::x12::Delimiters;

fn correction(replace: &str, with: &str, field: &str) -> Correction {
    let field = Some(field.to_owned()).filter(|field| !field.is_empty());
    Correction { replace: replace.into(), with: with.into(), field }
}

fn x12() -> Form {
    let delimiters = Delimiters { repetition: Some(b'^'), ..Delimiters::default() };
    Form::X12 { version: "004010".into(), set: "850".into(), delimiters }
}

/// A workspace with a schema in every written form.
fn workspace() -> Arc<Workspace> {
    let mut files = common::files();
    let item = r#"{ "type": "object", "properties": { "sku": { "type": "string" }, "n": { "type": "integer" } } }"#;
    files.insert("schemas/rows.schema.json".into(), format!(r#"{{ "type": "array", "items": {item} }}"#));
    files.insert("schemas/one.schema.json".into(), format!(r#"{{ "x-root": "one", {}"#, &item[1..]));
    common::workspace(&files)
}

/// The corrected document with the fields in which the value was replaced, or why it is left as it is.
type Expected<'a> = Result<(&'a str, &'a [&'a str]), &'a str>;

#[test]
fn a_value_is_replaced_wherever_it_stands_and_nothing_else() {
    let set = "ST*850*0001~\r\nBEG*00*SA*0001**20261201~PO1*1*2*EA*4.5**VP*A>B^A*IN*A~PO1**2~SE*4*0001~";
    let cases: &[(&str, &str, &str, Expected<'_>)] = &[
        (
            "A",
            "C",
            "",
            Ok((
                "ST*850*0001~\r\nBEG*00*SA*0001**20261201~PO1*1*2*EA*4.5**VP*C>B^C*IN*C~PO1**2~SE*4*0001~",
                &["PO107-1", "PO107", "PO109"],
            )),
        ),
        (
            "A",
            "C",
            "po109",
            Ok(("ST*850*0001~\r\nBEG*00*SA*0001**20261201~PO1*1*2*EA*4.5**VP*A>B^A*IN*C~PO1**2~SE*4*0001~", &["PO109"])),
        ),
        // The control number stays, although BEG03 is the same text.
        (
            "0001",
            "2",
            "",
            Ok(("ST*850*0001~\r\nBEG*00*SA*2**20261201~PO1*1*2*EA*4.5**VP*A>B^A*IN*A~PO1**2~SE*4*0001~", &["BEG03"])),
        ),
        (
            "4.5",
            "",
            "",
            Ok(("ST*850*0001~\r\nBEG*00*SA*0001**20261201~PO1*1*2*EA***VP*A>B^A*IN*A~PO1**2~SE*4*0001~", &["PO104"])),
        ),
        // A part of a value is not a value, and a segment id is none.
        ("4", "5", "", Err("no value of the document is `4`")),
        ("PO1", "PO2", "", Err("no value of the document is `PO1`")),
        ("A", "C", "PO101", Err("no PO101 is `A`")),
        ("A", "C*D", "", Err("`C*D` has the character *, which separates elements in this document")),
        ("A", "C~", "", Err("`C~` has the character ~, which separates segments in this document")),
        ("A", "C^", "", Err("`C^` has the character ^, which separates repetitions in this document")),
        ("", "C", "", Err("the value to replace is empty")),
        ("A", "A", "", Err("`A` would be replaced with itself")),
    ];
    let workspace = workspace();
    for (replace, with, field, expected) in cases {
        let corrected = correction(replace, with, field).apply(&workspace, &x12(), set.as_bytes());
        let corrected =
            corrected.as_ref().map(|one| (one.document.as_str(), one.fields.iter().map(String::as_str).collect::<Vec<_>>()));
        match expected {
            Ok((document, fields)) => assert_eq!(corrected, Ok((*document, fields.to_vec())), "{replace} {with} {field}"),
            Err(says) => assert_eq!(corrected.unwrap_err().to_string(), *says, "{replace} {with} {field}"),
        }
    }
}

#[test]
fn json_csv_and_xml_keep_their_other_values() {
    let workspace = workspace();
    let shaped = |written, schema: &str| Form::Shaped { written, schema: schema.into() };
    let cases: &[(Form, &str, Correction, Expected<'_>)] = &[
        (
            Form::Json,
            r#"{"b":"x","a":[{"b":"x","n":1.50},{"b":"xx"}],"id":12345678901234567890123}"#,
            correction("x", "y", ""),
            Ok((r#"{"b":"y","a":[{"b":"y","n":1.50},{"b":"xx"}],"id":12345678901234567890123}"#, &["b", "a.b"])),
        ),
        (Form::Json, r#"{"b":"x","a":[{"b":"x"}]}"#, correction("x", "y", "a.b"), Ok((r#"{"b":"x","a":[{"b":"y"}]}"#, &["a.b"]))),
        // A number stays a number, and a text that looks like one stays a text.
        (Form::Json, r#"{"n":5,"t":"5"}"#, correction("5", "6.0", ""), Ok((r#"{"n":6.0,"t":"6.0"}"#, &["n", "t"]))),
        (Form::Json, r#"{"n":5}"#, correction("5", "five", ""), Err("n is the number 5, and `five` is not a number")),
        (Form::Json, "{\"n\":", correction("5", "6", ""), Err("the document cannot be read: ")),
        (Form::Bytes, "5", correction("5", "6", ""), Err("the document cannot be read: it has no fields")),
        (
            shaped(Written::Csv, "rows"),
            "sku,n\r\n\"A\",1\r\nB,2\r\n",
            correction("A", "C,D", "sku"),
            Ok(("sku,n\r\n\"C,D\",1\r\nB,2\r\n", &["sku"])),
        ),
        (
            shaped(Written::Csv, "rows"),
            "sku,n\r\nA,1\r\n",
            correction("1", "one", ""),
            Err("n is the number 1, and `one` is not"),
        ),
        (shaped(Written::Xml, "one"), "<one><sku>A</sku><n>1</n></one>", correction("A", "<", ""), Ok(("&lt;", &["sku"]))),
    ];
    for (form, document, correction, expected) in cases {
        let corrected = correction.apply(&workspace, form, document.as_bytes());
        match (corrected, expected) {
            (Ok(corrected), Ok((document, fields))) => {
                assert!(corrected.document.contains(document), "{} for {document}", corrected.document);
                assert_eq!(corrected.fields, *fields, "{document}");
            }
            (Err(error), Err(says)) => assert!(error.to_string().starts_with(says), "{error} for {says}"),
            (corrected, expected) => panic!("{corrected:?} for {expected:?}"),
        }
    }
}

#[test]
fn the_values_that_a_sentence_names_are_found_with_their_fields() {
    let workspace = workspace();
    let named = |says: &str, form: &Form, document: &str| -> Vec<String> {
        let found = named_in(says, &workspace, form, document.as_bytes());
        found.into_iter().map(|FieldValue { field, value }| format!("{field}={value}")).collect()
    };
    let set = "ST*850*0001~PO1*1*2*EA*4.5**VP*QH-HIVE-12~PO1*2*2*EA*4.5**VP*QH-HIVE-1~SE*4*0001~";
    let says = "422: unknown item QH-HIVE-12, line 1";
    assert_eq!(named(says, &x12(), set), ["PO107=QH-HIVE-12"], "neither a part of a word nor a short value");
    let document = r#"{"lines":[{"sku":"QH-HIVE-12","n":422}],"other":"item"}"#;
    assert_eq!(named(says, &Form::Json, document), ["lines.sku=QH-HIVE-12", "other=item", "lines.n=422"]);
    assert_eq!(named(says, &Form::Bytes, set), [""; 0]);
    assert_eq!(named(says, &Form::Json, "{"), [""; 0]);
}

proptest! {
    /// Replacing a value and replacing it back gives the same bytes, unless the successor stood there already.
    #[test]
    fn a_replaced_value_is_replaced_back(values in prop::collection::vec("[A-C]{0,2}", 1..12), replace in "[A-C]{1,2}") {
        let set = format!("ST*850*0001~PO1*{}~SE*3*0001~", values.join("*"));
        static WORKSPACE: LazyLock<Arc<Workspace>> = LazyLock::new(workspace);
        let workspace = &*WORKSPACE;
        let there = correction(&replace, "new", "").apply(workspace, &x12(), set.as_bytes());
        let n = values.iter().filter(|value| **value == replace).count();
        if n == 0 {
            prop_assert!(matches!(there, Err(NotCorrected::Absent { .. })), "{there:?}");
        } else {
            let there = there.unwrap();
            prop_assert_eq!(there.fields.len(), n);
            let back = correction("new", &replace, "").apply(workspace, &x12(), there.document.as_bytes()).unwrap();
            prop_assert_eq!(back.document, set);
        }
    }
}
