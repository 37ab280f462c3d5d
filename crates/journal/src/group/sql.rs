//! A statement that grows part by part, each over the rows of one table given as arrays.

use super::Me;
use sea_orm::sea_query::ArrayType;
use sea_orm::{DbBackend, Statement, Value};

/// Type of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Big,
    Int,
    Text,
    Bytes,
    Bool,
}

impl Kind {
    fn array(self) -> (ArrayType, &'static str) {
        match self {
            Self::Big => (ArrayType::BigInt, "bigint[]"),
            Self::Int => (ArrayType::Int, "int[]"),
            Self::Text => (ArrayType::String, "text[]"),
            Self::Bytes => (ArrayType::Bytes, "bytea[]"),
            Self::Bool => (ArrayType::Bool, "bool[]"),
        }
    }
}

/// Rows of one table, stored by column. No cell is NULL: arrays with NULLs cannot be bound.
#[derive(Debug, Clone)]
pub struct Rows {
    columns: &'static [(&'static str, Kind)],
    cells: Vec<Vec<Value>>,
}

impl Rows {
    /// No rows of these columns.
    pub fn of(columns: &'static [(&'static str, Kind)]) -> Self {
        Self { columns, cells: columns.iter().map(|_| Vec::new()).collect() }
    }

    /// Adds a row, its cells in the order of the columns.
    pub fn push(&mut self, row: impl IntoIterator<Item = Value>) {
        let mut row = row.into_iter();
        self.cells.iter_mut().for_each(|column| column.push(row.next().expect("a row has a cell for each column")));
        assert!(row.next().is_none(), "a row has a column for each cell");
    }

    fn is_empty(&self) -> bool {
        self.cells.first().is_none_or(Vec::is_empty)
    }
}

/// The process's own writer row, as every statement begins.
const ME: &str = "with me as materialized (select id from writer where id = $1 and epoch = $2 and turn = $3";

/// The statement. Every part hangs on `me`, the process's own writer row.
pub struct Sql {
    text: String,
    values: Vec<Value>,
}

impl Sql {
    /// Begins with the writer row.
    pub fn new(me: Me) -> Self {
        Self { text: format!("{ME} for share)"), values: vec![me.writer.into(), me.epoch.into(), me.turn.into()] }
    }

    /// The same, on condition that none of these was seen before; else nothing at all is written.
    pub fn unless_seen(me: Me, scopes: Vec<String>, keys: Vec<String>) -> Self {
        if keys.is_empty() {
            return Self::new(me);
        }
        let mut sql = Self::new(me);
        let (scopes, keys) = (sql.arg(scopes, "text[]"), sql.arg(keys, "text[]"));
        // Looked up one by one through the index, whatever row count the server estimates.
        sql.text = format!(
            "{ME} and not exists (select 1 from unnest({scopes}, {keys}) as u(scope, key), \
             lateral (select 1 from seen where seen.scope = u.scope and seen.key = u.key limit 1) as known) for share)"
        );
        sql
    }

    /// Adds an argument; gives its place, cast to `kind`.
    pub fn arg(&mut self, value: impl Into<Value>, kind: &str) -> String {
        self.values.push(value.into());
        format!("${}::{kind}", self.values.len())
    }

    /// Adds a part as it is.
    pub fn part(&mut self, name: &str, text: &str) {
        self.text.push_str(&format!(",\n{name} as ({text})"));
    }

    /// Inserts rows into `table`. `more` are columns that are worked out, with their expression over `u` and `me`;
    /// `after` is a conflict clause.
    pub fn insert(&mut self, table: &str, rows: Rows, more: &[(&str, &str)], after: &str) {
        let own = rows.columns.iter().map(|(name, _)| (*name, format!("u.{name}")));
        let more = more.iter().map(|(name, value)| (*name, (*value).to_owned()));
        let (names, values): (Vec<&str>, Vec<String>) = own.chain(more).unzip();
        let insert = format!("insert into {table} ({}) select {} <from> {after}", names.join(", "), values.join(", "));
        self.over(&format!("into_{table}"), rows, &insert);
    }

    /// Adds a part in which `<from>` stands for `from` the rows as `u`, and `me`.
    ///
    /// A table without rows is left out: most groups touch a few tables, and each empty part costs as much as a small full one.
    /// There are few resulting texts, and each is prepared once.
    pub fn over(&mut self, name: &str, rows: Rows, part: &str) {
        if rows.is_empty() {
            return;
        }
        let mut cells = Vec::with_capacity(rows.columns.len());
        for ((name, kind), column) in rows.columns.iter().zip(rows.cells) {
            let (array, cast) = kind.array();
            let column = self.arg(Value::Array(array, Some(Box::new(column))), cast);
            cells.push(format!("unnest({column}) as {name}"));
        }
        // Cells are unnested in the select list: as functions in `from`, the server would first materialise each array.
        let from = format!("from (select {}) as u, me", cells.join(", "));
        self.part(name, &part.replace("<from>", &from));
    }

    /// Returns the statement; its result says whether the process may still write.
    pub fn statement(mut self) -> Statement {
        self.text.push_str("\nselect count(*) from me");
        Statement::from_sql_and_values(DbBackend::Postgres, self.text, self.values)
    }
}
