//! A statement that grows CTE by CTE, each over arrays of one table's rows.

use super::Me;
use sea_orm::{DbBackend, Statement, Value};

/// A column: its name, the type of its array, and the array.
pub type Column = (&'static str, &'static str, Value);

pub const BIG: &str = "bigint[]";
pub const INT: &str = "int[]";
pub const TEXT: &str = "text[]";
pub const BYTES: &str = "bytea[]";
pub const BOOL: &str = "bool[]";

/// A statement that grows CTE by CTE.
pub struct Sql {
    pub text: String,
    values: Vec<Value>,
}

impl Sql {
    /// Begins with the writer row.
    pub fn new(me: Me) -> Self {
        let text = "with me as materialized (select id from writer where id = $1 and epoch = $2 for share)".to_owned();
        Self { text, values: vec![me.writer.into(), me.epoch.into()] }
    }

    /// Adds an argument; gives its place, cast to `kind`.
    pub fn arg(&mut self, value: impl Into<Value>, kind: &str) -> String {
        self.values.push(value.into());
        format!("${}::{kind}", self.values.len())
    }

    /// Adds a CTE that selects from arrays as `u(columns)`: `before` + select + `after`.
    ///
    /// A table without rows is left out: most groups touch a few of them, and each empty part costs as much as a
    /// small full one. The texts that arise are few, and each is prepared once.
    pub fn over(&mut self, name: &str, columns: Vec<Column>, before: &str, select: &str, after: &str) {
        if matches!(columns.first(), Some((_, _, Value::Array(_, Some(rows)))) if rows.is_empty()) {
            return;
        }
        let names: Vec<&str> = columns.iter().map(|(name, ..)| *name).collect();
        let arrays: Vec<String> = columns.into_iter().map(|(_, kind, value)| self.arg(value, kind)).collect();
        let select = if select.is_empty() {
            names.iter().map(|name| format!("u.{name}")).collect::<Vec<_>>().join(", ")
        } else {
            select.to_owned()
        };
        let before = before.replace("(*)", &format!("({})", names.join(", ")));
        let arrays = arrays.join(", ");
        let from = format!("from unnest({arrays}) as u({}), me", names.join(", "));
        self.text.push_str(&match before.starts_with("insert") {
            true => format!(",\n{name} as ({before} select {select} {from} {after} returning 1)"),
            false => format!(",\n{name} as ({} returning 1)", before.replace("<from>", &from) + " " + after),
        });
    }

    /// The statement; its one number says whether the process may still write.
    pub fn statement(mut self) -> Statement {
        self.text.push_str("\nselect count(*) from me");
        Statement::from_sql_and_values(DbBackend::Postgres, self.text, self.values)
    }
}
