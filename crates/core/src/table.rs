//! Code tables: CSV files (RFC 4180) of two columns, a code and what it stands for.

use std::collections::BTreeMap;

/// Reads a table. The first line names the columns; blank lines and lines starting with `#` are passed over.
///
/// # Errors
/// The line (from 1) and what is wrong with it: one column, or a code that stood before.
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
            return Err((at, format!("the code `{code}` stood before")));
        }
    }
    Ok(rows)
}
