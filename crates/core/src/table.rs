//! Code tables: CSV files of two columns, a code and what it stands for.

use std::collections::BTreeMap;

/// Reads a table. The first line names the columns; blank lines and lines starting with `#` are passed over.
///
/// # Errors
/// The line (from 1) and what is wrong with it: no comma, or a code that stood before.
pub fn read(text: &str) -> Result<BTreeMap<String, String>, (usize, String)> {
    let mut rows = BTreeMap::new();
    let lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty() && !line.starts_with('#'));
    for (n, line) in lines.skip(1) {
        let Some((code, meaning)) = line.split_once(',') else {
            return Err((n + 1, "a row needs a comma between code and meaning".to_owned()));
        };
        let code = code.trim().to_owned();
        if rows.insert(code.clone(), meaning.trim().trim_matches('"').to_owned()).is_some() {
            return Err((n + 1, format!("the code `{code}` stood before")));
        }
    }
    Ok(rows)
}
