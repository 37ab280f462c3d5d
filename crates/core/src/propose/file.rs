//! A proposal as a map file.

use super::Proposal;
use std::fmt::Write;

impl Proposal {
    /// Writes the map file: one rule a line, each with its confidence and reason; targets without a proposal are comments.
    #[must_use]
    pub fn to_file(&self, from: &str, to: &str) -> String {
        let mut text =
            format!("# Proposed: read every line before you trust it.\nfrom = {}\nto   = {}\n", quoted(from), quoted(to));
        self.level(&mut text, "");
        text
    }

    /// `table` is the path of the enclosing `each`; empty for the document.
    fn level(&self, text: &mut String, table: &str) {
        let set = if table.is_empty() { "set".to_owned() } else { format!("{table}.set") };
        let _ = writeln!(text, "\n[{set}]");
        let rows: Vec<(String, String, String)> = self
            .rules
            .iter()
            .map(|rule| {
                let why = format!("{}: {}", rule.confidence.as_str(), rule.because);
                (key(&rule.target), quoted(&rule.expression), why)
            })
            .collect();
        let width = |of: fn(&(String, String, String)) -> usize| rows.iter().map(of).max().unwrap_or(0);
        let (first, second) = (width(|row| row.0.chars().count()), width(|row| row.1.chars().count()));
        for (target, expression, why) in &rows {
            let _ = writeln!(text, "{target:<first$} = {expression:<second$}  # {why}");
        }
        for (target, required) in &self.unfilled {
            let says = if *required { "required, but no similar field was found" } else { "no similar field was found" };
            let _ = writeln!(text, "# {} = \"\"  # {says}", key(target));
        }
        for list in &self.lists {
            let own = if table.is_empty() { "each".to_owned() } else { format!("{table}.each") };
            let into = list.into.join(".");
            let _ = writeln!(text, "\n[[{own}]]\nof   = {}\ninto = {}", quoted(&list.of), quoted(&into));
            list.rules.level(text, &own);
        }
    }
}

fn key(target: &[String]) -> String {
    target.iter().map(|name| toml_edit::Key::new(name).to_string()).collect::<Vec<_>>().join(".")
}

fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}
