//! Maps tried by hand, with no service running.

use crate::edi::client;
use serde_json::Value;

const ORDER: &str = "demo/samples/marrowfield-850.edi";
const TRY: [&str; 6] = ["map", "run", "po-to-order", "--workspace", "demo/workspace", "--given"];

#[test]
fn a_map_is_tried_on_a_sample_and_says_what_each_rule_gave() {
    let (code, out, err) = client(&[&TRY[..], &[ORDER, "--json"]].concat(), "");
    assert_eq!((code, err.as_str()), (0, ""));
    let orders: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((orders[0]["reference"].as_str(), orders[1]["reference"].as_str()), (Some("MF-20417"), Some("MF-20418")));
    assert_eq!(orders[0]["account"], "marrowfield", "the sender is known by the interchange");
    let (code, out, _) = client(&[&TRY[..], &[ORDER, "--explain"]].concat(), "");
    assert_eq!(code, 0);
    insta::assert_snapshot!("map_explain", out);
}

#[test]
fn what_cannot_be_mapped_is_said() {
    let (code, _, err) = client(&["map", "run", "po-to-ordr", "--workspace", "demo/workspace", "--given", ORDER], "");
    assert_eq!(code, 2);
    assert!(err.contains("did you mean `po-to-order`?"), "{err}");
    let (code, _, err) = client(&[&TRY[..], &["demo/samples/quillhaven-855.edi"]].concat(), "");
    assert_eq!(code, 1);
    assert!(err.contains("no 850 in 004010"), "{err}");
    let (code, _, err) = client(&["map", "run", "purchase-to-order", "--workspace", "demo/workspace", "--given", "-"], "{");
    assert_eq!(code, 1);
    assert!(err.contains("not JSON"), "{err}");
}
