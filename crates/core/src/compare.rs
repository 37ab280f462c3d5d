//! Two JSON documents compared field by field.

use serde::Serialize;
use serde_json::Value;

/// A difference.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Difference {
    /// The field, items counted from 1: `rows[2].quantity`; empty for the whole document.
    pub at: String,
    /// Value in the first document; `None` where only the second has it.
    pub before: Option<Value>,
    pub after: Option<Value>,
}

/// Returns the differences of two documents, in the order of the first. The order of fields does not count; numbers are equal
/// when their digits are. Equal items of a list are matched when others were inserted or removed before them.
#[must_use]
pub fn differences(before: &Value, after: &Value) -> Vec<Difference> {
    let mut all = Vec::new();
    compare(before, after, "", &mut all);
    all
}

fn compare(before: &Value, after: &Value, at: &str, all: &mut Vec<Difference>) {
    match (before, after) {
        (Value::Object(old), Value::Object(new)) => {
            let within = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
            for (name, value) in old {
                match new.get(name) {
                    Some(other) => compare(value, other, &within(name), all),
                    None => all.push(Difference { at: within(name), before: Some(value.clone()), after: None }),
                }
            }
            for (name, value) in new.iter().filter(|(name, _)| !old.contains_key(*name)) {
                all.push(Difference { at: within(name), before: None, after: Some(value.clone()) });
            }
        }
        (Value::Array(old), Value::Array(new)) => lists(old, new, at, all),
        _ if before == after => {}
        _ => all.push(Difference { at: at.to_owned(), before: Some(before.clone()), after: Some(after.clone()) }),
    }
}

fn lists(old: &[Value], new: &[Value], at: &str, all: &mut Vec<Difference>) {
    let texts = |items: &[Value]| items.iter().map(ToString::to_string).collect::<Vec<_>>();
    let only = |items: &[Value], from: usize, first: bool, all: &mut Vec<Difference>| {
        for (n, item) in items.iter().enumerate() {
            let (before, after) = if first { (Some(item.clone()), None) } else { (None, Some(item.clone())) };
            all.push(Difference { at: format!("{at}[{}]", from + n + 1), before, after });
        }
    };
    for change in similar::capture_diff_slices(similar::Algorithm::Myers, &texts(old), &texts(new)) {
        let (before, after) = (change.old_range(), change.new_range());
        if change.tag() == similar::DiffTag::Equal {
            continue;
        }
        // Items that both have are compared as changed items; the rest exists in one only.
        let both = before.len().min(after.len());
        for n in 0..both {
            compare(&old[before.start + n], &new[after.start + n], &format!("{at}[{}]", after.start + n + 1), all);
        }
        only(&old[before.start + both..before.end], before.start + both, true, all);
        only(&new[after.start + both..after.end], after.start + both, false, all);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn lines(before: &Value, after: &Value) -> Vec<String> {
        let text = |value: &Option<Value>| value.as_ref().map_or("-".to_owned(), ToString::to_string);
        differences(before, after).iter().map(|one| format!("{} {} > {}", one.at, text(&one.before), text(&one.after))).collect()
    }

    #[test]
    fn fields_are_compared_by_name_and_items_by_likeness() {
        let before = json!({ "a": 1, "gone": true, "rows": [{ "n": 1 }, { "n": 2 }, { "n": 3, "q": "x" }] });
        let after = json!({ "rows": [{ "n": 2 }, { "n": 3, "q": "y" }, { "n": 4 }], "a": 1, "new": null });
        assert_eq!(
            lines(&before, &after),
            ["gone true > -", r#"rows[1] {"n":1} > -"#, r#"rows[2].q "x" > "y""#, r#"rows[3] - > {"n":4}"#, "new - > null"]
        );
        assert_eq!(lines(&json!(1), &json!("1")), [r#" 1 > "1""#]);
    }

    fn any_json() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![Just(Value::Null), any::<bool>().prop_map(Value::from), (0..5).prop_map(Value::from)];
        leaf.prop_recursive(3, 20, 4, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..4).prop_map(Value::Array),
                prop::collection::vec(("[a-c]", inner), 0..4).prop_map(|fields| Value::Object(fields.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn only_equal_documents_have_no_difference(before in any_json(), after in any_json()) {
            prop_assert!(differences(&before, &before).is_empty());
            prop_assert_eq!(differences(&before, &after).is_empty(), before == after);
        }
    }
}
