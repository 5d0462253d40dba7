//! Schemas that chance makes.

use std::fmt::Write as _;

use rand::seq::{IndexedRandom, SliceRandom};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// A schema, a change of it, and its end.
pub(super) struct Made {
    pub(super) schema: String,
    pub(super) change: String,
    pub(super) drop: String,
}

const TABLE_WORDS: [&str; 14] = [
    "self",
    " of rows",
    "\"q\"",
    "Row",
    "query",
    "Columns",
    "camelCase",
    "2",
    "type",
    "Option",
    "String",
    "Table",
    "é",
    "_new",
];

const COLUMN_WORDS: [&str; 30] = [
    "self",
    "type",
    "row",
    "columns",
    "fn",
    "async",
    "with space",
    "quo\"te",
    "camelCase",
    "camel_case",
    "1st",
    "_",
    "__",
    "é",
    "table",
    "rows",
    "insert",
    "none",
    "some",
    "i64",
    "String",
    "x-y",
    "where",
    "key",
    "Result",
    "gen",
    "update",
    "info",
    "clone",
    "id_",
];

/// Returns types of columns that a struct stores.
fn types(engine: &str) -> &'static [&'static str] {
    match engine {
        "sqlite" => &["INTEGER", "TEXT", "REAL", "BLOB", "BOOLEAN", "DATE", "TIME", "DATETIME"],
        "postgres" => &[
            "smallint",
            "integer",
            "bigint",
            "real",
            "double precision",
            "numeric(9, 2)",
            "text",
            "varchar(9)",
            "bytea",
            "boolean",
            "date",
            "time",
            "timestamp",
            "timestamptz",
            "uuid",
            "jsonb",
            "text[]",
            "integer[]",
            "inet",
            "interval",
            "daterange",
            "tstzrange",
            "int4range",
        ],
        _ => &[
            "TINYINT",
            "SMALLINT",
            "INT",
            "BIGINT",
            "INT UNSIGNED",
            "FLOAT",
            "DOUBLE",
            "DECIMAL(9, 2)",
            "TEXT",
            "VARCHAR(9)",
            "BLOB",
            "BOOLEAN",
            "BIT(1)",
            "DATE",
            "TIME(6)",
            "DATETIME(6)",
            "TIMESTAMP(6) NULL",
            "UUID",
            "ENUM('a', 'B b', '2')",
        ],
    }
}

/// Makes four tables and a change of each. The same seed makes the same.
pub(super) fn make(engine: &str, seed: u64) -> Made {
    let mut chance = ChaCha8Rng::seed_from_u64(seed);
    let quoted = |name: &str| match engine {
        "mariadb" => format!("`{name}`"),
        _ => format!("\"{}\"", name.replace('"', "\"\"")),
    };
    let whole = if engine == "sqlite" { "INTEGER" } else { "BIGINT" };
    let mut words = TABLE_WORDS.to_vec();
    words.shuffle(&mut chance);
    let tables: Vec<String> = words
        .iter()
        .take(4)
        .map(|word| quoted(&format!("draft{word}")))
        .collect();
    let mut made = Made { schema: String::new(), change: String::new(), drop: String::new() };
    for (number, table) in tables.iter().enumerate() {
        let mut names = COLUMN_WORDS.to_vec();
        names.shuffle(&mut chance);
        let mut names = names.into_iter().map(quoted);
        let mut name = || names.next().unwrap();
        // The second table has a key of two columns; the third and fourth refer to the first or themselves, and to the second.
        let mut columns = vec![format!("id {whole} NOT NULL")];
        let mut constraints = vec!["PRIMARY KEY (id)".to_owned()];
        if number == 1 {
            columns.push(format!("id_2 {whole} NOT NULL"));
            constraints = vec!["PRIMARY KEY (id, id_2)".to_owned()];
        }
        for place in 0..chance.random_range(2..9) {
            let column = name();
            let kind = *types(engine).choose(&mut chance).unwrap();
            let is_nullable = chance.random_bool(0.5) || kind.ends_with("NULL");
            columns.push(format!("{column} {kind}{}", if is_nullable { "" } else { " NOT NULL" }));
            if place == 0 {
                let _ = writeln!(made.change, "ALTER TABLE {table} DROP COLUMN {column};");
            }
        }
        if number > 1 {
            let [one, first, second] = [name(), name(), name()];
            columns.push(format!("{one} {whole}"));
            columns.extend([&first, &second].map(|column| format!("{column} {whole} NOT NULL")));
            let target = &tables[if chance.random_bool(0.5) { 0 } else { number }];
            constraints.push(format!("FOREIGN KEY ({one}) REFERENCES {target} (id)"));
            constraints.push(format!(
                "FOREIGN KEY ({first}, {second}) REFERENCES {} (id, id_2)",
                tables[1]
            ));
            if chance.random_bool(0.5) {
                constraints.push(format!("UNIQUE ({second}, {one})"));
            }
        }
        columns.extend(constraints);
        let _ = writeln!(made.schema, "CREATE TABLE {table} ({});", columns.join(", "));
        let kind = *types(engine).choose(&mut chance).unwrap();
        let _ = writeln!(made.change, "ALTER TABLE {table} ADD COLUMN {} {kind};", name());
        made.drop = format!("DROP TABLE IF EXISTS {table};{}", made.drop);
    }
    let _ = writeln!(
        made.change,
        "CREATE TABLE draft_later (id {whole} NOT NULL PRIMARY KEY, of_it {whole}, FOREIGN KEY (of_it) REFERENCES {} (id));",
        tables[0],
    );
    made.drop = format!("DROP TABLE IF EXISTS draft_later;{}", made.drop);
    made
}
