//! Code tables: CSV files (RFC 4180) with two columns, a code and its meaning.

use crate::expr::{Shape, split_designator};
use crate::workspace::Workspace;
use serde_json::Value;
use std::collections::BTreeMap;

/// Reads a table. The first line is the header; blank lines and lines that begin with `#` are skipped.
///
/// # Errors
/// The line (from 1) and its fault: a single column, or a duplicate code.
pub fn read(text: &str) -> Result<BTreeMap<String, String>, (usize, String)> {
    let mut reader =
        csv::ReaderBuilder::new().comment(Some(b'#')).trim(csv::Trim::All).flexible(true).from_reader(text.as_bytes());
    let mut rows = BTreeMap::new();
    for row in reader.records() {
        let line = |position: Option<&csv::Position>| position.map_or(1, |position| position.line() as usize);
        let row = row.map_err(|error| (line(error.position()), error.to_string()))?;
        let at = line(row.position());
        let (Some(code), Some(meaning)) = (row.get(0), row.get(1)) else {
            return Err((at, "a row needs a comma between code and meaning".to_owned()));
        };
        if rows.insert(code.to_owned(), meaning.to_owned()).is_some() {
            return Err((at, format!("the code `{code}` is there twice")));
        }
    }
    Ok(rows)
}

/// A code with its meaning, if known.
pub type Code = (String, String);

/// The codes of a field, `SCHEMA:FIELD`: of an element of a transaction set (`x12/004010/850:PO103`) the standard's, of a field of an
/// schema (`order:rows[].unit`) those it lists, or the values that were seen there.
///
/// # Errors
/// A sentence: no such schema or field, or nothing known of its values.
pub fn codes_of(workspace: &Workspace, field: &str) -> Result<Vec<Code>, String> {
    let (schema, path) = field.split_once(':').ok_or_else(|| format!("`{field}` should be SCHEMA:FIELD"))?;
    let codes: Vec<Code> = match workspace.shape(schema).ok_or_else(|| format!("there is no schema {schema}"))? {
        Shape::Loop(set, _) => {
            let (id, n) = split_designator(path);
            let element = set.segment(id).and_then(|segment| segment.element(usize::from(n?)));
            let element = element.ok_or_else(|| format!("the {} has no element {path}", set.set))?;
            element.codes().iter().map(|(code, says)| (code.clone(), says.clone())).collect()
        }
        Shape::Json(schema, _) => {
            let mut found = None;
            schema.level().each("", &mut |known, leaf| {
                if known == path {
                    found = Some(leaf.examples.clone());
                }
            });
            let text = |value: &Value| (value.as_str().map_or_else(|| value.to_string(), str::to_owned), String::new());
            let seen = found.ok_or_else(|| format!("the schema {} has no field {path}", schema.name))?;
            seen.iter().map(text).collect()
        }
        Shape::Any | Shape::Value(_) | Shape::OneOf(_) | Shape::Segment(..) => Vec::new(),
    };
    if codes.is_empty() { Err(format!("no values of {field} are known")) } else { Ok(codes) }
}

/// Drafts a table between the codes of two sides: a row where both have the same word, a comment where a person has to decide.
/// Codes that no row leads to follow at the end.
#[must_use]
pub fn begun(from: &[Code], to: &[Code]) -> String {
    let plain = |text: &str| text.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect::<String>();
    let same = |a: &Code, b: &Code| {
        [&a.0, &a.1].into_iter().any(|one| !one.is_empty() && [&b.0, &b.1].into_iter().any(|other| plain(one) == plain(other)))
    };
    let mut text = "code,meaning\n".to_owned();
    let mut reached: Vec<&str> = Vec::new();
    let mut row = |cells: [&str; 2], comment: bool| {
        let mut writer = csv::Writer::from_writer(Vec::new());
        // Writing into memory does not fail.
        let _ = writer.write_record(cells);
        text += if comment { "# " } else { "" };
        text += &String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default();
    };
    for code in from {
        match to.iter().find(|other| same(code, other)) {
            Some(other) => {
                reached.push(&other.0);
                row([&code.0, &other.0], false);
            }
            None => row([&code.0, &code.1], true),
        }
    }
    for other in to.iter().filter(|other| !reached.contains(&other.0.as_str())) {
        row(["", &other.0], true);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::{Code, begun, read};

    #[test]
    fn a_table_is_begun_from_what_both_sides_have() {
        let side = |codes: &[(&str, &str)]| {
            codes.iter().map(|(code, says)| ((*code).to_owned(), (*says).to_owned())).collect::<Vec<Code>>()
        };
        let (from, to) =
            (side(&[("EA", "Each"), ("CA", "Case, full"), ("box", "")]), side(&[("each", ""), ("BOX", ""), ("pair", "")]));
        let text = begun(&from, &to);
        assert_eq!(text, "code,meaning\nEA,each\n# CA,\"Case, full\"\nbox,BOX\n# ,pair\n");
        assert_eq!(read(&text).unwrap().len(), 2);
    }
}
