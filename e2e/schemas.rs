//! Schemas from samples, tables of positions, other schemas, a database, and typed fields.

use crate::scene::client;
use serde_json::{Value, json};
use std::path::Path;
use wirewatch_testkit::Database;

/// A workspace with nothing in it.
fn empty() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("workspace.toml"), "format = 1\n").expect("written");
    folder
}

fn write(folder: &Path, name: &str, text: &str) -> String {
    let path = folder.join(name);
    std::fs::write(&path, text).expect("written");
    path.to_str().expect("text").to_owned()
}

/// The schema that a command made under that name.
fn made(folder: &Path, name: &str) -> Value {
    let text = std::fs::read_to_string(folder.join(format!("schemas/{name}.schema.json"))).expect("written");
    serde_json::from_str(&text).expect("JSON")
}

#[test]
fn records_are_outlined_by_a_table_of_positions_and_made_up() {
    let folder = empty();
    let at = folder.path().to_str().expect("text");
    let table = ["--positions", "demo/samples/shipment-positions.csv", "demo/samples/shipment.txt"];
    let (code, out, err) = client(&[&["schema", "from"], &table[..], &["--name", "shipment", "--workspace", at]].concat(), "");
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.ends_with("8 fields from the table of positions, 1 sample read by it\n"), "{out}");
    let (code, out, _) = client(&["schema", "sample", "shipment", "--as", "records", "--count", "9", "--workspace", at], "");
    assert!(code == 0 && out.starts_with("SHPQ-100007") && out.contains("\nPCLSW-Q-100007-"), "{out}");
    let broken = write(folder.path(), "broken.txt", "SHPQ-1\nXYZ\n");
    let (code, _, err) = client(&["schema", "from", "--positions", table[1], &broken], "");
    assert!(code == 1 && err.contains("line 2: a record XYZ is not allowed here"), "{err}");
    let (code, _, err) = client(&["schema", "sample", "shipment", "--as", "csv", "--workspace", at], "");
    assert!(code == 1 && err.contains("CSV needs a list of rows"), "{err}");
}

#[test]
fn schemas_are_taken_at_their_word() {
    let folder = empty();
    let at = folder.path().to_str().expect("text");
    let yaml = "openapi: 3.1.0\ncomponents:\n  schemas:\n    Order:\n      type: object\n      required: [no]\n      properties:\n        \
                no: { type: string }\n        lines:\n          type: array\n          items: { $ref: '#/components/schemas/Line' }\n    \
                Line: { type: object, properties: { pieces: { type: integer } } }\n";
    let api = write(folder.path(), "api.yaml", yaml);
    let (code, _, err) = client(&["schema", "from", &api, "--name", "order", "--workspace", at], "");
    assert!(code == 1 && err.contains("it has several schemas; name one of Order, Line"), "{err}");
    let (code, out, err) = client(&["schema", "from", &api, "--of", "Order", "--name", "order", "--workspace", at], "");
    assert!(code == 0 && out.ends_with("2 fields from the OpenAPI document\n"), "{out}{err}");
    assert_eq!(made(folder.path(), "order")["$defs"]["Line"]["properties"]["pieces"], json!({ "type": "integer" }));
    let other = write(folder.path(), "other.yaml", "a: 1\n");
    let (code, _, err) = client(&["schema", "from", &other], "");
    assert!(code == 1 && err.contains("YAML is read as an OpenAPI document"), "{err}");

    let xsd = r#"<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="Pick"><xs:complexType><xs:sequence>
        <xs:element name="Line" type="xs:int" maxOccurs="unbounded"/></xs:sequence></xs:complexType></xs:element></xs:schema>"#;
    let xsd = write(folder.path(), "pick.xsd", xsd);
    let (code, out, err) = client(&["schema", "from", &xsd, "--name", "pick", "--workspace", at], "");
    assert!(code == 0 && out.ends_with("1 field from the XML Schema\n"), "{out}{err}");
    let (_, out, err) = client(&["schema", "sample", "pick", "--as", "xml", "--workspace", at], "");
    assert!(out.contains("<Pick><Line>"), "{out}{err}");
    let sample = write(folder.path(), "pick.json", "{}");
    let (code, _, err) = client(&["schema", "from", &sample, "--of", "Pick"], "");
    assert!(code == 2 && err.contains("--of is for an OpenAPI document"), "{err}");
}

#[test]
fn a_schema_is_typed_from_nothing_and_changed_only_on_request() {
    let folder = empty();
    let at = folder.path().to_str().expect("text");
    let typed =
        |more: &[&str]| client(&[&["schema", "new", "pick", "no:text(10)! Order number", "--workspace", at], more].concat(), "");
    assert_eq!(typed(&[]).0, 0);
    assert_eq!(
        made(folder.path(), "pick")["properties"]["no"],
        json!({ "type": "string", "maxLength": 10, "title": "Order number" })
    );
    assert!(typed(&[]).1.contains("has the same content"));
    let (code, out, err) = typed(&["lines[].pieces:integer"]);
    assert!(code == 1 && out.contains("properties.lines") && err.contains("--replace overwrites it"), "{out}{err}");
    assert_eq!(typed(&["lines[].pieces:integer", "--replace"]).0, 0);
    let (code, _, err) = typed(&["day:dat"]);
    assert!(code == 2 && err.contains("`dat` is not a type"), "{err}");
}

#[test]
fn xml_and_csv_keep_how_they_are_written() {
    let folder = empty();
    let xml = write(folder.path(), "a.xml", "<p:a xmlns:p='urn:x' no='7'><p:b>1</p:b></p:a>");
    let (code, out, _) = client(&["schema", "from", &xml], "");
    let node: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((code, &node["xml"]), (0, &json!({ "name": "a", "namespace": "urn:x", "prefix": "p" })));
    assert_eq!(node["properties"]["no"]["xml"], json!({ "attribute": true }));
    let csv = write(folder.path(), "a.csv", "a;b\n1;2\n");
    let (_, out, _) = client(&["schema", "from", &csv], "");
    assert_eq!(serde_json::from_str::<Value>(&out).expect("JSON")["x-csv"], json!({ "separator": ";" }));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_tables_of_a_database_are_a_schema() {
    let database = Database::new();
    database
        .run(
            "create table orders (no varchar(12) primary key, placed date not null, total numeric); comment on column orders.no is 'Order number'; \
             create table order_lines (order_no varchar(12) not null references orders, pieces int not null)",
        )
        .await;
    let from = |table: &str| client(&["schema", "from", &database.url, "--of", table], "");
    let (code, out, err) = from("orders");
    assert_eq!((code, err.as_str()), (0, ""));
    let node: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!(node["properties"]["no"], json!({ "type": "string", "maxLength": 12, "title": "Order number" }));
    assert_eq!(node["properties"]["total"]["type"], json!(["number", "null"]));
    assert_eq!(node["properties"]["order_lines"]["items"]["required"], json!(["order_no", "pieces"]));
    let (code, _, err) = from("order");
    assert!(code == 1 && err.contains("there is no table order; did you mean orders?"), "{err}");
    let (code, _, err) = client(&["schema", "from", &database.url], "");
    assert!(code == 1 && err.contains("choose a table with --of: order_lines, orders"), "{err}");
    let (code, _, err) = client(&["schema", "from", "postgres://nobody@127.0.0.1:1/none", "--of", "a"], "");
    assert!(code == 1 && err.contains("the database cannot be reached"), "{err}");
}

#[test]
fn a_code_table_is_begun_from_both_sides() {
    let begin = |more: &[&str]| client(&[&["table", "begin"], more, &["--workspace", "demo/workspace"]].concat(), "");
    let (code, out, err) = begin(&["x12/004010/850:PO103", "moved-date:because"]);
    assert!(code == 1 && out.is_empty() && err.contains("no values of moved-date:because are known"), "{err}");
    let (code, out, _) = begin(&["x12/004010/850:PO103", "shipment:parcels[].lines[].item"]);
    assert!(
        code == 0 && out.starts_with("code,meaning\n#") && out.contains("# EA,Each\n") && out.contains("# ,QH-HIVE-10\n"),
        "{out}"
    );
    let (code, _, err) = begin(&["x12/004010/850:PO199", "order:rows[].unit"]);
    assert!(code == 1 && err.contains("the 850 has no element PO199"), "{err}");
    let (code, _, err) = begin(&["order", "order:rows[].unit"]);
    assert!(code == 1 && err.contains("`order` should be SCHEMA:FIELD"), "{err}");
}
