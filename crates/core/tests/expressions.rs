//! Results of expressions over the sample order and over JSON.

mod common;

use serde_json::{Map, Value, json};
use wirewatch_core::Document;
use wirewatch_core::expr::{Item, Library, Scope, Work, parse};

fn over(document: &Document, text: &str) -> Result<Option<Value>, String> {
    over_within(document, text, Work::default())
}

fn over_within(document: &Document, text: &str, work: Work) -> Result<Option<Value>, String> {
    let expr = parse(text).map_err(|error| format!("{}: {}", error.span.start, error.says))?;
    let variables = Map::from_iter([("stock".to_owned(), json!({ "n": 20 }))]);
    let tables = [("units".to_owned(), [("EA".to_owned(), "each".to_owned())].into())].into();
    let library = Library { tables, ..Library::default() };
    let scope = Scope {
        it: Item::of(document),
        doc: Item::of(document),
        variables: &variables,
        library: &library,
        given: None,
        position: None,
        work,
    };
    expr.one(&scope).map(|value| value.map(|value| value.into_owned())).map_err(|error| error.to_string())
}

#[test]
fn over_a_transaction_set() {
    let (_, order) = common::order(0);
    let cases = [
        ("BEG03", json!("MF-20417")),
        ("date(BEG05)", json!("2026-11-23")),
        ("N1[01 = 'ST'].02", json!("Marrowfield Store 12")),
        ("N1[01 = 'ST'].N402", json!("HV")),
        ("PO1[2].PO102", json!("48")),
        ("count(PO1)", json!(2)),
        ("sum(PO1.02)", json!(60)),
        ("join(PO1.PID05, ' + ')", json!("TEN FRAME HIVE + DEEP FRAME")),
        ("first(PO1).PID05", json!("TEN FRAME HIVE")),
        ("PO1[02 > '20'].04", json!("3.10")),
        ("CUR03 else 'none'", json!("none")),
        ("if exists(CUR) and not exists(FOB) then CUR02 else '-'", json!("USD")),
    ];
    for (text, expected) in cases {
        assert_eq!(over(&order, text), Ok(Some(expected)), "{text}");
    }
    assert_eq!(over(&order, "N1[01 = 'BT'].02"), Ok(None), "missing is no value");
}

#[test]
fn over_json_numbers_keep_their_text() {
    let text = r#"{"price":1.10,"id":12345678901234567890,"qty":3,"none":null,"empty":"","lines":[{"sku":"a","n":1},{"sku":"b","n":2}]}"#;
    let document = Document::json(text.as_bytes()).unwrap();
    let cases = [
        ("price", "1.10"),
        ("id", "12345678901234567890"),
        ("price * qty", "3.30"),
        ("0.1 + 0.2", "0.3"),
        ("round(2.345, 2)", "2.35"),
        ("round(qty / 7, 4)", "0.4286"),
        ("$stock.n - 1", "19"),
        ("text(price) & 'x'", "\"1.10x\""),
        ("pad(qty, 4, '0')", "\"0003\""),
        ("lines[sku = 'b'].n", "2"),
        ("list(lines[n > 1].sku)", "[\"b\"]"),
        ("sum(lines.n)", "3"),
        ("none else empty else 'x'", "\"x\""),
        ("local('2026-07-01T22:30:00Z', 'Europe/Vienna')", "\"2026-07-02T00:30:00+02:00\""),
        ("date_as(local('2026-01-01T00:00:00Z', 'America/New_York'), '%d.%m.%Y %H:%M %z')", "\"31.12.2025 19:00 -0500\""),
        ("date_as('20261123', '%y%m%d')", "\"261123\""),
        ("utc('2026-11-23T08:00', 'Europe/Vienna')", "\"2026-11-23T07:00:00Z\""),
        ("utc('2026-03-29T02:30', 'Europe/Vienna')", "\"2026-03-29T01:30:00Z\""),
        ("utc('2026-10-25T02:30:00', 'Europe/Vienna')", "\"2026-10-25T00:30:00Z\""),
        ("date_plus('2026-12-30', 3)", "\"2027-01-02\""),
        ("date_plus('20261230', -30.0)", "\"2026-11-30\""),
        ("days_between('2026-12-30', '2027-01-02')", "3"),
        ("local(none, 'Europe/Vienna') else date_plus(none, 1) else days_between(none, '2026-12-30') else 'x'", "\"x\""),
        ("matching(lines, sku, 'b').n", "2"),
        ("count(matching(lines, n, none))", "0"),
        ("exists(none)", "false"),
        ("exists(nothing)", "false"),
        ("table('units', 'EA')", "\"each\""),
        ("table('units', 'ZZ', '?')", "\"?\""),
        ("qty = 3.0 and not (price > 2)", "true"),
        ("-qty + 2 * 5", "7"),
        ("it.lines[1].sku", "\"a\""),
        ("'it''s'", "\"it's\""),
        ("it.'price' * 2", "2.20"),
        ("list(sort(lines.sku))", "[\"a\",\"b\"]"),
        ("list(take(sort(lines, -n), 1).sku)", "[\"b\"]"),
        ("list(skip(reverse(lines.n), 1))", "[1]"),
        ("list(of_each(lines, n * 2 & sku))", "[\"2a\",\"4b\"]"),
        ("first(group(lines, n > 1)).key", "\"false\""),
        ("list(distinct(split('b,a,b', ',')))", "[\"b\",\"a\"]"),
        ("join(filled(split('b,,a', ',')), '+')", "\"b+a\""),
        ("max(lines.n) - min(lines.n)", "1"),
        ("zeros_off('00470') & zeros_off('000') & zeros_off('07x')", "\"47007x\""),
        ("digits('+1 (555) 01')", "\"155501\""),
        ("title('ten frame HIVE')", "\"Ten Frame Hive\""),
        ("url_part('a b/é')", "\"a%20b%2F%C3%A9\""),
        ("uuid('x') = uuid('x') and uuid('x') != uuid('y')", "true"),
        ("hash('')", "\"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855\""),
        ("base64('bee')", "\"YmVl\""),
        ("date_as('2026-11-23', '%d.%m.%Y')", "\"23.11.2026\""),
        ("date_from('23/11/26', '%d/%m/%y')", "\"2026-11-23\""),
        ("number_as(-1234567.5, 2, '.', ',')", "\"-1.234.567,50\""),
        ("round(2.5, 0, 'even') & round(2.1, 0, 'up') & round(2.9, 0, 'down')", "\"232\""),
    ];
    for (text, expected) in cases {
        assert_eq!(
            over(&document, text).map(|value| value.map(|value| value.to_string())),
            Ok(Some(expected.to_owned())),
            "{text}"
        );
    }
}

#[test]
fn what_cannot_be_worked_out_says_why() {
    let document = Document::json(br#"{"a":"x"}"#).unwrap();
    let cases = [
        ("number(a)", "expected a number, found `x`"),
        ("a * 2", "expected a number, found `x`"),
        ("b + 1", "expected a number, found no value"),
        ("1 / 0", "division by zero"),
        ("date(a)", "expected a date, found `x`"),
        ("table('units', 'ZZ')", "table `units` has no row for `ZZ`"),
        ("round(1, 0, 'sideways')", "`sideways` is not a way to round: write 'even', 'up' or 'down'"),
        ("split(a, '')", "the separator is empty"),
        ("date_from(a, '%Y')", "`x` is not a date of the form `%Y`"),
        ("date_as(a, '%Y')", "expected a date, found `x`"),
        ("a +", "2: expected a value"),
        ("(a", "1: expected `)`"),
        ("'open", "0: this text has no closing quote"),
        ("a ? b", "2: unexpected `?`"),
    ];
    for (text, expected) in cases {
        assert_eq!(over(&document, text), Err(expected.to_owned()), "{text}");
    }
    let deep = "(".repeat(200) + "1" + &")".repeat(200);
    assert!(over(&document, &deep).unwrap_err().contains("nested too deeply"));
}

proptest::proptest! {
    #[test]
    fn no_text_makes_the_parser_panic(text in "[ a-zA-Z0-9'$.,()\\[\\]+*/&<>=!{}é-]{0,40}") {
        let _ = parse(&text);
        let _ = wirewatch_core::expr::Template::parse(&text);
    }
}

#[test]
fn length_and_work_have_an_end() {
    let long = format!("'{}'", "x".repeat(70_000));
    assert!(parse(&long).unwrap_err().says.starts_with("an expression has at most 64 KB"));
    let items: Vec<Value> = (0..100).map(|n| json!({ "n": n })).collect();
    let document = Document::json(json!({ "a": items }).to_string().as_bytes()).unwrap();
    // A filter in a filter in a filter would be a million times some steps.
    let deep = "count($doc.a[count($doc.a[count($doc.a[n < 0]) > 0]) > 0])";
    let says = over_within(&document, deep, Work::up_to(100_000)).unwrap_err();
    assert!(says.starts_with("this takes more than 100000 steps"), "{says}");
    assert_eq!(over_within(&document, "count($doc.a[n >= 90])", Work::up_to(1000)), Ok(Some(json!(10))));
}

mod times {
    use super::over;
    use proptest::prelude::*;
    use serde_json::{Value, json};
    use wirewatch_core::Document;

    fn give(text: &str) -> Option<String> {
        let given = over(&Document::json(b"{}").unwrap(), text).expect("it has a value");
        given.and_then(|value| value.as_str().map(str::to_owned))
    }

    proptest! {
        #[test]
        fn a_moment_shown_anywhere_is_the_same_moment(
            seconds in 0i64..4_000_000_000,
            zone in prop::sample::select(vec!["Europe/Vienna", "America/New_York", "Asia/Kolkata", "Pacific/Auckland", "UTC"]),
        ) {
            let utc = jiff::Timestamp::from_second(seconds).unwrap().to_string();
            let local = give(&format!("local('{utc}', '{zone}')")).unwrap();
            prop_assert_eq!(local.parse::<jiff::Timestamp>().unwrap().as_second(), seconds);
            // When clocks go back, one hour occurs twice; the first one is used.
            let back = give(&format!("utc('{}', '{zone}')", &local[..19])).unwrap().parse::<jiff::Timestamp>().unwrap();
            prop_assert!([0, 3600].contains(&(seconds - back.as_second())), "{} {}", local, back);
        }

        #[test]
        fn days_are_counted_as_they_are_added(day in 0i32..40_000, days in -9999i32..9999) {
            let from = jiff::civil::date(1970, 1, 1).checked_add(jiff::Span::new().days(day)).unwrap();
            let counted = format!("days_between('{from}', date_plus('{from}', {days}))");
            let counted = over(&Document::json(b"{}").unwrap(), &counted).unwrap();
            prop_assert_eq!(counted, Some(json!(days)));
        }

        #[test]
        fn what_matches_is_what_a_filter_finds(keys in prop::collection::vec(0u8..5, 0..20), wanted in 0u8..5) {
            let items: Vec<Value> = keys.iter().enumerate().map(|(n, key)| json!({ "key": key, "n": n })).collect();
            let document = Document::json(json!({ "items": items }).to_string().as_bytes()).unwrap();
            let matching = over(&document, &format!("list(matching(items, key, {wanted}))")).unwrap();
            prop_assert_eq!(matching, over(&document, &format!("list(items[key = {wanted}])")).unwrap());
        }
    }

    #[test]
    fn what_is_no_time_is_reported() {
        let says = |text: &str| over(&Document::json(b"{}").unwrap(), text).unwrap_err();
        assert!(says("local('2026-11-23', 'Europe/Vienna')").contains("expected a time with an offset"));
        assert!(
            says("local('2026-11-23T08:00:00Z', 'Vienna')")
                .contains("expected a time zone such as Europe/Vienna, found `Vienna`")
        );
        assert!(says("utc('soon', 'Europe/Vienna')").contains("expected a date with a time"));
        assert!(says("date_plus('2026-11-23', 1.5)").contains("expected a whole number of days, found 1.5"));
        assert!(says("date_plus('2026-13-23', 1)").contains("expected a date, found `2026-13-23`"));
        assert!(says("days_between('2026-11-23', 'x')").contains("expected a date, found `x`"));
    }
}
