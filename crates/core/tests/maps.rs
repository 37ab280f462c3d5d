//! Maps of a workspace: with `begin`, with other maps, with variables of steps, written as XML or records; and functions of the
//! workspace.

mod common;

use serde_json::{Map, Value, json};
use wirewatch_core::Document;
use wirewatch_core::map::scope_of;
use wirewatch_core::partner::Sending;
use wirewatch_core::trial::{MapTable, Tryout, map_table};
use wirewatch_core::workspace::{Files, Workspace};

fn files(own: &[(&str, &str)]) -> Files {
    let base = [
        ("workspace.toml", "format = 1\n"),
        (
            "schemas/order.schema.json",
            r#"{ "type": "object", "properties": { "no": { "type": "string" }, "placed_on": { "type": "string" }, "note_tmp": { "type": "string" },
                "buyer": { "type": "object", "properties": { "id": { "type": "string" }, "mail": { "type": "string" } } },
                "lines": { "type": "array", "items": { "type": "object", "properties": {
                    "sku": { "type": "string" }, "n": { "type": "number" }, "cost_tmp": { "type": "number" } } } } } }"#,
        ),
        (
            "schemas/row.schema.json",
            r#"{ "type": "object", "required": ["item"], "properties": { "item": { "type": "string" }, "pieces": { "type": "number" }, "name": { "type": "string" } } }"#,
        ),
        (
            "schemas/pick.schema.json",
            r##"{ "type": "object", "required": ["order"], "properties": {
                "order": { "type": "string", "xml": { "attribute": true } }, "placed": { "type": "string" },
                "to": { "type": "object", "properties": { "item": { "type": "string" }, "pieces": { "type": "number" }, "name": { "type": "string" } } },
                "rows": { "type": "array", "items": { "type": "object", "properties": { "item": { "type": "string" }, "pieces": { "type": "number" }, "name": { "type": "string" } } } },
                "lines": { "type": "array", "items": { "type": "object" } }, "buyer": { "type": "object" } } }"##,
        ),
    ];
    base.iter().chain(own).map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect()
}

/// Findings as `code: text`, without those for optional unfilled targets.
fn reported(own: &[(&str, &str)]) -> Vec<String> {
    let found = Workspace::read(&files(own)).findings.into_iter();
    found.filter(|one| one.code != "map::unfilled").map(|one| format!("{}: {}", one.code, one.says)).collect()
}

fn order() -> Document {
    let text = json!({
        "no": "QH-1", "placed_on": "2026-11-23T23:30:00Z", "note_tmp": "x", "buyer": { "id": "7", "mail": "ada@example.com" },
        "lines": [{ "sku": "00a", "n": 2, "cost_tmp": 1 }, { "sku": "b", "n": 3 }],
    });
    Document::json(text.to_string().as_bytes()).unwrap()
}

fn mapped(own: &[(&str, &str)], name: &str, variables: Value) -> Result<Value, String> {
    let workspace = common::workspace(&files(own));
    let Value::Object(variables) = variables else { panic!("an object") };
    let document = order();
    workspace.maps[name].apply(&scope_of(&document, &variables, &workspace.library)).map_err(|error| error.to_string())
}

const SHOWN: &str = "says = \"An article as the warehouse prints it\"\ntakes = [\"sku\"]\ngives = \"upper(zeros_off($sku)) & '-' & crate_of('x')\"\n\
                     [[example]]\ngiven = [\"00a\"]\ngives = \"A-x1\"\n";
const CRATE: &str = "takes = [\"kind\"]\ngives = \"$kind & 1\"\n[[example]]\ngiven = [\"y\"]\ngives = \"y1\"\n";

#[test]
fn functions_of_the_workspace_are_called_like_others() {
    let map = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"no\"\nplaced = \"join(of_each(lines, shown(sku)), ' ')\"\n";
    let own = [("functions/shown.toml", SHOWN), ("functions/crate_of.toml", CRATE), ("maps/m.toml", map)];
    assert_eq!(mapped(&own, "m", json!({})), Ok(json!({ "order": "QH-1", "placed": "A-x1 B-x1" })));
}

#[test]
fn a_function_is_tried_by_its_examples_and_sees_nothing_else() {
    let one = |text: &str| reported(&[("functions/one.toml", text)]);
    assert_eq!(one("gives = \"1\"\n"), ["function::example: `one` has no example"]);
    let wrong = "takes = [\"a\"]\ngives = \"$a + 1\"\n[[example]]\ngiven = [1]\ngives = 3\n[[example]]\ngiven = [1.50]\ngives = 2.5\n\
                 [[example]]\ngiven = [\"x\"]\n[[example]]\ngiven = []\n";
    assert_eq!(
        one(wrong),
        [
            "function::example: the example fails: it gives 2, not 3",
            "function::example: the example fails: expected a number, found `x`",
            "function::example: `one(a)` takes 1 values, but the example has 0",
        ]
    );
    let outside = "gives = \"$meta.received & no & $b\"\n[[example]]\ngiven = []\ngives = \"\"\n";
    assert_eq!(
        one(outside),
        [
            "function::outside: a function can use only its parameters, and $meta is not one of them",
            "expr::unknown-path: a single value has no field `no`",
            "expr::unknown-name: no earlier step has `as = \"b\"`",
        ]
    );
    assert_eq!(
        reported(&[("functions/trim.toml", CRATE), ("functions/Big.toml", CRATE)]),
        [
            "function::name: `Big` cannot name a function: use lower-case letters, digits and _",
            "function::name: `trim` cannot name a function: there is a function of that name already"
        ]
    );
    let round = |other: &str| format!("gives = \"{other}()\"\n[[example]]\ngiven = []\n");
    let (a, b) = (round("b"), round("a"));
    assert!(
        reported(&[("functions/a.toml", &a), ("functions/b.toml", &b)])[0]
            .starts_with("function::round: `a` calls itself by way of b")
    );
    let map = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"crate_of(no, 1)\"\nplaced = \"crate_off(no)\"\n";
    assert_eq!(
        reported(&[("functions/crate_of.toml", CRATE), ("maps/m.toml", map)])[..2],
        ["expr::arguments: `crate_of` does not take 2 values", "expr::unknown-function: there is no function `crate_off`"]
    );
}

#[test]
fn what_steps_kept_is_joined_by_a_key() {
    let map = "from = \"order\"\nto = \"pick\"\n[with]\nitems = \"\"\n[set]\norder = \"no\"\n[[each]]\nof = \"lines\"\ninto = \"rows\"\n\
               [each.set]\nitem = \"sku\"\nname = \"matching($items.all, code, sku).name\"\n";
    let items =
        json!({ "items": { "all": [{ "code": "b", "name": "Bee" }, { "code": "00a", "name": "Ant" }, { "name": "nobody" }] } });
    let rows = json!([{ "item": "00a", "name": "Ant" }, { "item": "b", "name": "Bee" }]);
    assert_eq!(mapped(&[("maps/m.toml", map)], "m", items), Ok(json!({ "order": "QH-1", "rows": rows })));
    let without = map.replace("[with]\nitems = \"\"\n", "");
    assert!(
        reported(&[("maps/m.toml", &without)]).contains(&"expr::unknown-name: no earlier step has `as = \"items\"`".to_owned())
    );
    let flow = "[[intake]]\nfrom = \"in\"\ntakes = \"order\"\n[[step]]\nname = \"m\"\nmap = \"m\"\n";
    let own = [("connections/in.toml", "kind = \"folder\"\npath = \"in\"\n"), ("flows/f.toml", flow), ("maps/m.toml", map)];
    assert!(
        reported(&own)
            .contains(&"flow::unknown-variable: the map m reads $items, but no earlier step has `as = \"items\"`".to_owned())
    );
}

const ROW: &str = "from = \"order\"\nto = \"row\"\n[set]\nitem = \"sku\"\npieces = \"n\"\nname = \"upper(sku)\"\n";

#[test]
fn another_map_makes_the_items_of_a_list_or_an_object() {
    // A line is not an order: the source of a map is checked by its file, so this one reads a schema of lines.
    let row = ROW.replace("from = \"order\"", "from = \"line\"");
    let line = r#"{ "type": "object", "properties": { "sku": { "type": "string" }, "n": { "type": "number" } } }"#;
    let map = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"no\"\n[[each]]\nof = \"lines\"\ninto = \"rows\"\nby = \"z-row\"\n\
               [[each]]\nof = \"last(lines)\"\ninto = \"to\"\nby = \"z-row\"\n";
    let own = [("schemas/line.schema.json", line), ("maps/a.toml", map), ("maps/z-row.toml", &row)];
    let expected = json!({
        "order": "QH-1", "rows": [{ "item": "00a", "pieces": 2, "name": "00A" }, { "item": "b", "pieces": 3, "name": "B" }],
        "to": { "item": "b", "pieces": 3, "name": "B" },
    });
    assert_eq!(mapped(&own, "a", json!({})), Ok(expected));
    let round = row.clone() + "[[each]]\nof = \"it\"\ninto = \"more\"\nby = \"a\"\n";
    let found = reported(&[("schemas/line.schema.json", line), ("maps/a.toml", map), ("maps/z-row.toml", &round)]);
    assert!(
        found.iter().any(|one| one.starts_with("name::unknown: there is no map (one that does not use this map again")),
        "{found:?}"
    );
    let both = map.replace("into = \"to\"\nby = \"z-row\"", "into = \"to\"\nby = \"z-row\"\n[each.set]\nitem = \"sku\"");
    let found = reported(&[("schemas/line.schema.json", line), ("maps/a.toml", &both), ("maps/z-row.toml", &row)]);
    assert!(found.iter().any(|one| one.starts_with("map::by: another map makes these items")), "{found:?}");
}

#[test]
fn a_map_can_begin_with_its_source() {
    let map = "from = \"order\"\nto = \"pick\"\nbegin = \"as-is\"\ndrop = [\"**.*_tmp\", \"buyer.mail\"]\n\
               [rename]\nno = \"order\"\n\"placed_*\" = \"placed\"\n\"lines.sku\" = \"item\"\n\
               [change]\nplaced_on = \"left(local(it, 'Europe/Vienna'), 10)\"\n\"lines.n\" = \"it * 10\"\n[set]\nto.item = \"no\"\n";
    let expected = json!({
        "order": "QH-1", "placed": "2026-11-24", "buyer": { "id": "7" }, "lines": [{ "item": "00a", "n": 20 }, { "item": "b", "n": 30 }],
        "to": { "item": "QH-1" },
    });
    assert_eq!(mapped(&[("maps/m.toml", map)], "m", json!({})), Ok(expected));
    // A rule replaces the copied content.
    let again = format!("{map}\n[[each]]\nof = \"lines\"\ninto = \"lines\"\n[each.set]\nn = \"n\"\n");
    assert_eq!(mapped(&[("maps/m.toml", &again)], "m", json!({})).unwrap()["lines"], json!([{ "n": 2 }, { "n": 3 }]));
    let broken = map.replace("it * 10", "date(it)");
    let says = mapped(&[("maps/m.toml", &broken)], "m", json!({})).unwrap_err();
    assert_eq!(says, "lines.n (lines.n) = date(it) (line 11 of the map): expected a date, found `2`");
}

#[test]
fn what_a_beginning_cannot_be_is_reported() {
    let begun =
        |text: &str| reported(&[("maps/m.toml", &format!("from = \"order\"\nto = \"pick\"\n{text}\n[set]\norder = \"no\"\n"))]);
    assert!(begun("drop = [\"a\"]").contains(&"map::begin: `drop` needs `begin = \"as-is\"`".to_owned()));
    let found = begun("begin = \"as-is\"\ndrop = [\"a..b\"]\nrename = { no = \"a.b\" }");
    assert!(found.contains(&"map::pattern: `a..b`: a name is missing".to_owned()), "{found:?}");
    assert!(
        found.contains(&"map::pattern: a field gets one new name, in which * stands for the matched part".to_owned()),
        "{found:?}"
    );
    assert!(
        found.contains(&"map::carried: `note_tmp` is copied as it is, but the schema pick has no such field".to_owned()),
        "{found:?}"
    );
    let set =
        reported(&[("maps/m.toml", "from = \"x12/004010/850\"\nto = \"pick\"\nbegin = \"as-is\"\n[set]\norder = \"BEG03\"\n")]);
    assert!(set.iter().any(|one| one.starts_with("map::begin: a transaction set is built")), "{set:?}");
}

#[test]
fn a_map_can_write_its_target() {
    let map = "from = \"order\"\nto = \"pick\"\nwritten = \"xml\"\n[set]\norder = \"no\"\n[[each]]\nof = \"lines\"\ninto = \"rows\"\n[each.set]\nitem = \"sku\"\n";
    let workspace = common::workspace(&files(&[("maps/m.toml", map)]));
    let (document, variables) = (order(), Map::new());
    let written =
        workspace.maps["m"].document(&scope_of(&document, &variables, &workspace.library), &Sending::default()).unwrap();
    let expected = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<pick order=\"QH-1\"><rows><item>00a</item></rows><rows><item>b</item></rows></pick>";
    assert_eq!(String::from_utf8(written.document.to_bytes()).unwrap(), expected);
    let records = map.replace("\"xml\"", "\"records\"");
    assert_eq!(reported(&[("maps/m.toml", &records)])[0], "schema::form: the schema pick has no positions of fields in records");
    let set = "from = \"order\"\nto = \"x12/004010/855\"\nwritten = \"xml\"\n[set]\nBAK03 = \"no\"\n";
    assert!(
        reported(&[("maps/m.toml", set)])
            .contains(&"map::written: `written` needs a schema: X12 and text have one form only".to_owned())
    );
}

#[test]
fn what_another_map_gives_is_held_against_what_it_meets() {
    let line = r#"{ "type": "object", "properties": { "sku": { "type": "string" }, "n": { "type": "number" } } }"#;
    let map = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"no\"\n[[each]]\nof = \"lines\"\ninto = \"rows\"\nby = \"z\"\n";
    let inner = |rules: &str| format!("from = \"any\"\nto = \"free\"\n[set]\n{rules}\n");
    let any = r#"{ "type": "object" }"#;
    let all = |rules: &str| {
        let z = inner(rules);
        let own = [
            ("schemas/line.schema.json", line),
            ("schemas/any.schema.json", any),
            ("schemas/free.schema.json", any),
            ("maps/a.toml", map),
            ("maps/z.toml", &z),
        ];
        reported(&own)
    };
    assert_eq!(all("item = \"sku\""), Vec::<String>::new());
    assert_eq!(all("item = \"sku_2\""), ["map::by: `z` cannot be used here: `order` has no field `sku_2` (its line 4)"]);
    assert_eq!(all("article = \"sku\""), ["map::unknown-target: the schema pick has no field `article` here"]);
}

#[test]
fn an_error_in_another_map_names_it_and_its_line() {
    let line = r#"{ "type": "object", "properties": { "sku": { "type": "string" }, "n": { "type": "number" } } }"#;
    let row = "# One line.\nfrom = \"line\"\nto = \"row\"\n[set]\nitem = \"sku\"\npieces = \"number(sku)\"\n";
    let map = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"no\"\n[[each]]\nof = \"lines\"\ninto = \"rows\"\nby = \"row\"\n";
    let own = [("schemas/line.schema.json", line), ("maps/m.toml", map), ("maps/row.toml", row)];
    let says = mapped(&own, "m", json!({})).unwrap_err();
    assert_eq!(says, "rows[1].pieces = number(sku) (line 6 of the map row): expected a number, found `00a`");
    // The list itself is this map's own matter.
    let of = map.replace("of = \"lines\"", "of = \"lines[n * sku > 1]\"");
    let says = mapped(&[own[0], ("maps/m.toml", &of), own[2]], "m", json!({})).unwrap_err();
    assert!(says.starts_with("rows = lines[n * sku > 1] (line 6 of the map): "), "{says}");
}

#[test]
fn what_is_filled_is_reported_rule_by_rule_whoever_fills_it() {
    let line = r#"{ "type": "object", "properties": { "sku": { "type": "string" }, "n": { "type": "number" } } }"#;
    let row = "from = \"line\"\nto = \"row\"\n[set]\nitem = \"sku\"\n";
    let map = "from = \"order\"\nto = \"pick\"\nbegin = \"as-is\"\ndrop = [\"note_tmp\", \"placed_on\", \"buyer.mail\"]\n[rename]\nno = \"order\"\n\
               [[each]]\nof = \"lines\"\ninto = \"rows\"\nby = \"row\"\n";
    let own = [("schemas/line.schema.json", line), ("maps/m.toml", map), ("maps/row.toml", row)];
    let workspace = common::workspace(&files(&own));
    let (document, variables) = (order(), Map::new());
    let (_, filled) = workspace.maps["m"].explain(&scope_of(&document, &variables, &workspace.library)).unwrap();
    let reported: Vec<String> = filled.iter().map(|one| format!("{} {} {}", one.target, one.line, one.expression)).collect();
    let expected = [
        "order 3 as it is",
        "buyer.id 3 as it is",
        "lines[1].sku 3 as it is",
        "lines[1].n 3 as it is",
        "lines[1].cost_tmp 3 as it is",
        "lines[2].sku 3 as it is",
        "lines[2].n 3 as it is",
        "rows[1].item 8 sku",
        "rows[2].item 8 sku",
    ];
    assert_eq!(reported, expected, "lines are those of this map, where one can go");
    assert_eq!(workspace.maps["m"].unused(&document), Vec::new());
}

#[test]
fn the_map_table_knows_what_a_beginning_and_objects_fill() {
    let own = "from = \"order\"\nto = \"pick\"\nbegin = \"as-is\"\n[rename]\nno = \"order\"\n";
    let open = |text: &str| -> Vec<String> {
        let files = files(&[("maps/m.toml", text)]);
        let table = map_table(&files, None, "m", text, &Tryout::default());
        table.open.into_iter().map(|field| field.path).collect()
    };
    assert_eq!(open(own), ["placed", "to.item", "to.pieces", "to.name", "rows[].item", "rows[].pieces", "rows[].name"]);
    let object = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"no\"\nplaced = \"no\"\n[[each]]\nof = \"lines\"\ninto = \"to\"\n[each.set]\nitem = \"sku\"\n";
    assert_eq!(open(object), ["to.pieces", "to.name", "lines", "buyer", "rows[].item", "rows[].pieces", "rows[].name"]);
    // A file with an error reports all findings that can be determined.
    assert_eq!(open("from = \"order\"\nto = \"pick\"\n[set]\nplaced = \"\"\n")[0], "order");
    assert_eq!(open("from = ").len(), 0);
}

#[test]
fn the_map_table_is_given_what_steps_would_have_set() {
    let text = "from = \"order\"\nto = \"pick\"\n[with]\nitems = \"\"\n[set]\norder = \"first(matching($items, no, no)).name\"\nplaced = \"$meta.by\"\n";
    let mut on = Tryout { given: br#"{ "no": "7" }"#.to_vec(), ..Tryout::default() };
    let shown = |on: &Tryout| map_table(&files(&[("maps/m.toml", text)]), None, "m", text, on);
    let value = |table: &MapTable, n: usize| table.rules[n].value.clone();
    let without = shown(&on);
    assert_eq!((&without.with[..], value(&without, 0), value(&without, 1)), (&["items".to_owned()][..], None, None));
    on.with.insert("items".into(), json!([{ "no": "6", "name": "Ant" }, { "no": "7", "name": "Bee" }]));
    on.meta.insert("by".into(), json!("post"));
    let with = shown(&on);
    assert_eq!((value(&with, 0), value(&with, 1)), (Some(json!("Bee")), Some(json!("post"))));
    // The documents that a map reads are known before any is given.
    on.given.clear();
    assert_eq!((shown(&on).with, shown(&on).rules.len()), (vec!["items".to_owned()], 0));
}

#[test]
fn a_rule_without_a_value_is_a_finding_at_its_place() {
    let text = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"no\"\nplaced = \"no & date(placed_on)\"\n";
    let on = Tryout { given: br#"{ "no": "7", "placed_on": "soon" }"#.to_vec(), ..Tryout::default() };
    let table = map_table(&files(&[("maps/m.toml", text)]), None, "m", text, &on);
    let failed: Vec<_> = table.findings.iter().filter(|one| one.code == "map::failed").collect();
    let [finding] = failed[..] else { panic!("{:?}", table.findings) };
    assert_eq!((finding.line, finding.column), (5, 21), "{finding:?}");
    assert!(finding.says.starts_with("placed = no & date(placed_on): ") && finding.says.contains("soon"), "{}", finding.says);
    // A rule of another map has no line here.
    let schema = r#"{ "type": "object", "properties": { "sku": { "type": "string" } } }"#;
    let by = "from = \"order\"\nto = \"pick\"\n[set]\norder = \"no\"\n[[each]]\nof = \"lines\"\ninto = \"rows\"\nby = \"line\"\n";
    let line = "from = \"line\"\nto = \"row\"\n[set]\nitem = \"date(sku)\"\n";
    let on = Tryout { given: br#"{ "no": "7", "lines": [{ "sku": "soon" }] }"#.to_vec(), ..Tryout::default() };
    let table = map_table(
        &files(&[("schemas/line.schema.json", schema), ("maps/m.toml", by), ("maps/line.toml", line)]),
        None,
        "m",
        by,
        &on,
    );
    assert!(
        table.findings.iter().all(|one| one.code != "map::failed") && table.says.contains("line 4 of the map line"),
        "{table:?}"
    );
}

#[test]
fn what_uses_a_map_does_not_keep_it_from_being_tried() {
    let text = "from = \"order\"\nto = \"pick\"\n[with]\nitems = \"\"\n[set]\norder = \"no\"\nplaced = \"no\"\n";
    let flow = "key = \"no\"\n[[intake]]\nfrom = \"in\"\ntakes = \"order\"\n[[step]]\nname = \"m\"\nmap = \"m\"\n";
    let with_flow =
        files(&[("maps/m.toml", text), ("flows/f.toml", flow), ("connections/in.toml", "kind = \"folder\"\npath = \"in\"\n")]);
    let on = Tryout { given: br#"{ "no": "7" }"#.to_vec(), ..Tryout::default() };
    let table = map_table(&with_flow, None, "m", text, &on);
    let reported = table.findings.iter().filter(|one| one.code != "map::unfilled");
    let reported: Vec<_> = reported.map(|one| (one.severity, one.file.as_str(), one.code.as_str())).collect();
    assert_eq!(reported, [(wirewatch_core::Severity::Warning, "flows/f.toml", "flow::unknown-variable")]);
    assert_eq!((table.rules.len(), table.says.as_str()), (2, ""));
}

#[test]
fn a_case_of_a_map_has_what_steps_would_have_set() {
    let map = "from = \"order\"\nto = \"pick\"\n[with]\nitems = \"\"\n[set]\norder = \"first(matching($items, no, no)).name\"\n";
    let case = |with: &str| format!("map = \"m\"\ngiven = \"given.json\"\n{with}");
    let sound = case("[with]\nitems = \"items.json\"\n");
    let own = [
        ("maps/m.toml", map),
        ("cases/c/given.json", r#"{ "no": "7" }"#),
        ("cases/c/items.json", r#"[{ "no": "6", "name": "Ant" }, { "no": "7", "name": "Bee" }]"#),
        ("cases/c/expect.json", r#"[{ "order": "Bee" }]"#),
        ("cases/c/case.toml", &sound),
    ];
    let workspace = std::sync::Arc::new(Workspace::read(&files(&own)).workspace.expect("sound"));
    let checked = workspace.cases["c"].check(&workspace).unwrap();
    assert!(checked.holds(), "{checked:?}");
    let without = case("[with]\nitems = \"none.json\"\n");
    let missing = [own[0], own[1], own[2], own[3], ("cases/c/case.toml", &without)];
    assert_eq!(reported(&missing), ["case::with: there is no file cases/c/none.json"]);
}
