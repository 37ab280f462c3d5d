//! Reads the columns of PostgreSQL tables from the database's catalogue.

use sea_orm::{ConnectOptions, ConnectionTrait, Database, DatabaseConnection, DbErr, Statement};
use serde_json::Value;
use wirewatch_core::nearest::nearest;
use wirewatch_core::schema::{TableColumn, of_columns};

/// The schema of a table's rows, with those of the tables that refer to it.
pub async fn schema(address: &str, table: Option<&str>) -> Result<Value, String> {
    let mut options = ConnectOptions::new(address);
    options.max_connections(1).sqlx_logging(false);
    let database = Database::connect(options).await.map_err(|error| format!("the database cannot be reached: {error}"))?;
    read(&database, table).await.map_err(|error| error.to_string())?
}

async fn read(database: &DatabaseConnection, table: Option<&str>) -> Result<Result<Value, String>, DbErr> {
    let known: Vec<String> = names(
        database,
        "select table_name::text from information_schema.tables
         where table_schema not in ('pg_catalog', 'information_schema') order by 1",
        "",
    )
    .await?;
    let Some(table) = table else { return Ok(Err(format!("choose a table with --of: {}", known.join(", ")))) };
    if !known.iter().any(|name| name == table) {
        let near = nearest(table, known.iter().map(String::as_str));
        let help = near.map_or_else(|| known.join(", "), |near| format!("did you mean {near}?"));
        return Ok(Err(format!("there is no table {table}; {help}")));
    }
    let below = names(
        database,
        "select distinct child.relname::text from pg_constraint c join pg_class child on child.oid = c.conrelid
         join pg_class parent on parent.oid = c.confrelid where c.contype = 'f' and parent.relname = $1 and child.relname <> $1
         order by 1",
        table,
    )
    .await?;
    let mut lists = Vec::new();
    for name in below {
        let columns = columns(database, &name).await?;
        lists.push((name, columns));
    }
    Ok(Ok(of_columns(&columns(database, table).await?, &lists, table)))
}

async fn names(database: &DatabaseConnection, sql: &str, table: &str) -> Result<Vec<String>, DbErr> {
    let values: Vec<sea_orm::Value> = if table.is_empty() { Vec::new() } else { vec![table.into()] };
    let rows = database.query_all_raw(Statement::from_sql_and_values(database.get_database_backend(), sql, values)).await?;
    rows.iter().map(|row| row.try_get_by_index(0)).collect()
}

async fn columns(database: &DatabaseConnection, table: &str) -> Result<Vec<TableColumn>, DbErr> {
    let sql = "select column_name::text, data_type::text, is_nullable = 'YES', character_maximum_length::int4,
               coalesce(col_description(to_regclass(quote_ident(table_schema) || '.' || quote_ident(table_name)), ordinal_position), '')
               from information_schema.columns where table_name = $1 and table_schema not in ('pg_catalog', 'information_schema')
               order by ordinal_position";
    let rows =
        database.query_all_raw(Statement::from_sql_and_values(database.get_database_backend(), sql, [table.into()])).await?;
    let column = |row: &sea_orm::QueryResult| {
        let length: Option<i32> = row.try_get_by_index(3)?;
        Ok(TableColumn {
            name: row.try_get_by_index(0)?,
            kind: row.try_get_by_index(1)?,
            nullable: row.try_get_by_index(2)?,
            length: length.and_then(|length| u32::try_from(length).ok()),
            comment: row.try_get_by_index(4)?,
        })
    };
    rows.iter().map(column).collect()
}
