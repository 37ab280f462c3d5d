//! The rules of `docs/values.md` as cases: `values/*.txt` in this folder. A line `given JSON` sets the document (`x12` an 850
//! without its envelope), and each line `expression => value` is one case: `nothing` means no value, `error: …` a part of the
//! error.

use proptest::prelude::*;
use serde_json::{Map, Value, json};
use wirewatch_core::Document;
use wirewatch_core::document::Form;
use wirewatch_core::expr::{Item, Library, Scope, Work, parse};
use wirewatch_core::x12::{Definitions, Delimiters};

fn gives(document: &Document, text: &str) -> String {
    let expr = match parse(text) {
        Ok(expr) => expr,
        Err(error) => return format!("error: {}", error.says),
    };
    let variables = Map::from_iter([("stock".to_owned(), json!({ "n": 2, "flag": true }))]);
    let tables = [("units".to_owned(), [("EA".to_owned(), "each".to_owned())].into())].into();
    let library = Library { tables, ..Library::default() };
    let (it, doc) = (Item::of(document), Item::of(document));
    let scope = Scope { it, doc, variables: &variables, library: &library, given: None, position: None, work: Work::default() };
    match expr.value(&scope) {
        Ok(None) => "nothing".to_owned(),
        Ok(Some(value)) => value.to_string(),
        Err(error) => format!("error: {error}"),
    }
}

/// Runs the cases of one file; returns the failed ones and the number of cases.
fn run(name: &str, text: &str) -> (Vec<String>, usize) {
    let mut document = Document::json(b"{}").unwrap();
    let (mut wrong, mut count) = (Vec::new(), 0);
    for (n, line) in text.lines().enumerate().filter(|(_, line)| !line.is_empty() && !line.starts_with('#')) {
        if let Some(given) = line.strip_prefix("given ") {
            document = Document::json(given.as_bytes()).unwrap_or_else(|error| panic!("{name}:{}: {error}", n + 1));
            continue;
        }
        if let Some(set) = line.strip_prefix("x12 ") {
            let form = Form::X12 { version: "004010".to_owned(), set: "850".to_owned(), delimiters: Delimiters::default() };
            let read = Document::read(Definitions::standard(), |_| None, &form, set.as_bytes());
            document = read.unwrap_or_else(|error| panic!("{name}:{}: {error}", n + 1));
            continue;
        }
        let (expression, expected) = line.split_once(" => ").unwrap_or_else(|| panic!("{name}:{}: no `=>`", n + 1));
        let received = gives(&document, expression);
        let holds = match expected.strip_prefix("error: ") {
            Some(part) => received.starts_with("error: ") && received.contains(part),
            None => received == expected,
        };
        if !holds {
            wrong.push(format!("{name}:{}: {expression} => {received}, not {expected}", n + 1));
        }
        count += 1;
    }
    (wrong, count)
}

#[test]
fn every_case_of_the_rules_holds() {
    let files = [
        ("paths", include_str!("values/paths.txt")),
        ("nothing", include_str!("values/nothing.txt")),
        ("numbers", include_str!("values/numbers.txt")),
        ("dates", include_str!("values/dates.txt")),
        ("texts", include_str!("values/texts.txt")),
        ("x12", include_str!("values/x12.txt")),
    ];
    let (mut wrong, mut count) = (Vec::new(), 0);
    for (name, text) in files {
        let (more, cases) = run(name, text);
        wrong.extend(more);
        count += cases;
    }
    assert!(wrong.is_empty(), "{} of {count} cases do not hold:\n{}", wrong.len(), wrong.join("\n"));
    println!("measured: {count} cases of values");
}

fn any_json() -> impl Strategy<Value = Value> {
    let number = "-?(0|[1-9][0-9]{0,30})(\\.[0-9]{1,30})?".prop_map(|text| serde_json::from_str(&text).unwrap());
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        (0..5).prop_map(Value::from),
        number,
        prop_oneof![Just(""), Just("a"), Just("20261123"), Just("2026-11-23T08:00:00Z"), Just("1.50"), Just("é")]
            .prop_map(Value::from),
    ];
    leaf.prop_recursive(4, 40, 5, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..5).prop_map(Value::Array),
            prop::collection::vec(("[a-c]", inner), 0..4).prop_map(|fields| Value::Object(fields.into_iter().collect())),
        ]
    })
}

fn any_expression() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("a"),
        Just("b"),
        Just("c"),
        Just("it"),
        Just("$doc"),
        Just("$stock.n"),
        Just("1"),
        Just("''"),
        Just("'x'"),
        Just("null"),
        Just("true"),
        Just("0.5"),
        Just("$position"),
        Just("[]"),
        Just("'2026-11-23'"),
    ]
    .prop_map(str::to_owned);
    let one = prop::sample::select(vec![
        "abs",
        "base64",
        "count",
        "csv",
        "date",
        "digits",
        "distinct",
        "exists",
        "filled",
        "first",
        "hash",
        "json",
        "last",
        "length",
        "list",
        "lower",
        "max",
        "min",
        "number",
        "reverse",
        "sort",
        "sum",
        "text",
        "title",
        "trim",
        "upper",
        "url_part",
        "uuid",
        "zeros_off",
        "any",
        "all",
    ]);
    let two = prop::sample::select(vec![
        "all",
        "any",
        "contains",
        "date_as",
        "date_from",
        "date_plus",
        "days_between",
        "group",
        "join",
        "left",
        "local",
        "of_each",
        "right",
        "round",
        "skip",
        "sort",
        "split",
        "take",
        "utc",
        "xml",
    ]);
    let operator = prop::sample::select(vec!["+", "-", "*", "/", "&", "=", "!=", "<", "<=", ">", ">=", "and", "or", "else"]);
    leaf.prop_recursive(4, 24, 3, move |inner| {
        let pair = (inner.clone(), inner.clone());
        prop_oneof![
            (one.clone(), inner.clone()).prop_map(|(name, of)| format!("{name}({of})")),
            (two.clone(), pair.clone()).prop_map(|(name, (of, by))| format!("{name}({of}, {by})")),
            (operator.clone(), pair.clone()).prop_map(|(operator, (a, b))| format!("({a} {operator} {b})")),
            (inner.clone(), "[a-c]").prop_map(|(of, name)| format!("({of}).{name}")),
            pair.clone().prop_map(|(of, by)| format!("({of})[{by}]")),
            pair.clone().prop_map(|(a, b)| format!("[{a}, {b}]")),
            (inner.clone(), pair).prop_map(|(test, (a, b))| format!("(if {test} then {a} else {b})")),
            inner.clone().prop_map(|of| format!("matching({of}, a, 'x')")),
            inner.prop_map(|of| format!("(-{of})")),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    /// Flattening: what a path selects is what it selects from each item.
    #[test]
    fn a_path_through_lists_counts_what_each_item_has(value in any_json()) {
        let document = Document::json(value.to_string().as_bytes()).unwrap();
        for (whole, each) in [
            ("count(a.b)", "sum(of_each(a, count(b)))"),
            ("count(a.b.c)", "sum(of_each(a, sum(of_each(b, count(c)))))"),
            ("count(a.b.c)", "sum(of_each(a, count(b.c)))"),
            ("json(list(a.b))", "json(list(of_each(a, b)))"),
            ("count(a)", "count(list(a))"),
            ("exists(a.b)", "count(a.b) > 0"),
        ] {
            prop_assert_eq!(gives(&document, whole), gives(&document, each), "{} over {}", whole, value);
        }
    }

    /// Any expression over any document has a value or an error, and the same one each time.
    #[test]
    fn no_expression_panics(text in any_expression(), value in any_json()) {
        let document = Document::json(value.to_string().as_bytes()).unwrap();
        prop_assert_eq!(gives(&document, &text), gives(&document, &text));
    }

    /// Sorting keeps every item and orders all kinds of values.
    #[test]
    fn sorting_anything_keeps_it_and_is_in_order(items in prop::collection::vec(any_json(), 0..40)) {
        let document = Document::json(json!({ "a": items }).to_string().as_bytes()).unwrap();
        prop_assert_eq!(gives(&document, "count(sort(a, json(it)))"), gives(&document, "count(a)"));
        prop_assert_eq!(gives(&document, "json(sort(sort(a, json(it)), json(it)))"), gives(&document, "json(sort(a, json(it)))"));
        let singles: Vec<&Value> = items.iter().filter(|item| !item.is_array()).collect();
        let document = Document::json(json!({ "a": singles }).to_string().as_bytes()).unwrap();
        prop_assert_eq!(gives(&document, "json(sort(sort(a)))"), gives(&document, "json(sort(a))"));
        prop_assert_eq!(gives(&document, "count(sort(a))"), gives(&document, "count(a)"));
    }

    /// Digits of any number come through unchanged.
    #[test]
    fn digits_of_numbers_are_exact(text in "-?(0|[1-9][0-9]{0,60})(\\.[0-9]{1,60})?") {
        let document = Document::json(format!("{{\"a\":{text}}}").as_bytes()).unwrap();
        prop_assert_eq!(gives(&document, "a"), text.clone());
        prop_assert_eq!(gives(&document, "text(a)"), format!("\"{text}\""));
        prop_assert_eq!(gives(&document, "number(text(a)) = a"), "true");
        prop_assert_eq!(gives(&document, "first([a])"), text);
    }
}

#[test]
fn what_nests_too_deeply_is_refused_before_anything_runs() {
    for text in [
        "(".repeat(100_000),
        "[".repeat(100_000),
        "-".repeat(60_000),
        "not ".repeat(15_000),
        "a.".repeat(30_000) + "a",
        "a[1]".repeat(15_000),
        "1+".repeat(30_000) + "1",
        "a & ".repeat(15_000) + "a",
        "a else ".repeat(8_000) + "a",
        "f(".repeat(30_000),
        "if a then b else ".repeat(3_000) + "c",
    ] {
        let error = parse(&text).expect_err("it is too deep");
        assert_eq!(error.code, "expr::syntax", "{}", &text[..20]);
    }
    let chain = "a & ".repeat(200) + "a";
    assert!(parse(&chain).is_ok(), "a chain of two hundred is no trouble");
}
