//! Names and values that would be an attack where text is glued together: here they are data.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use nepheline::blocking::Database;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{BindValue, SqlType};
use support::{Engine, engines};

/// A table whose every name tries to end the text around it.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "core\"; DROP TABLE lab; -- `x` 岩")]
struct Hostile {
    #[nepheline(key, column = "id\" OR 1=1 --")]
    id: i64,
    #[nepheline(unique, column = "a`b'c\\?$1:x\n/*")]
    text: String,
    #[nepheline(column = "select")]
    keyword: Option<Vec<u8>>,
}

const VALUES: [&str; 10] = [
    "'; DROP TABLE lab; --",
    "\" OR \"\"=\"",
    "`",
    "\\",
    "% _ * ? [a] !",
    "$1 ? :x @y",
    "/* -- */",
    "é É ß 岩 🪨 \u{202e}",
    "line\nline\ttab",
    "",
];

/// The table on an engine, with a row for each value, and a long one.
fn database(engine: &Engine) -> Database {
    let db = engine.open();
    let names = [
        r#""core""; DROP TABLE lab; -- `x` 岩""#,
        r#""id"" OR 1=1 --""#,
        "\"a`b'c\\?$1:x\n/*\"",
        r#""select""#,
    ];
    // For the engine with the other quote mark, by hand too.
    let backticked = [
        "`core\"; DROP TABLE lab; -- ``x`` 岩`",
        "`id\" OR 1=1 --`",
        "`a``b'c\\?$1:x\n/*`",
        "`select`",
    ];
    let [table, id, text, keyword] =
        if engine.dialect() == Dialect::MariaDb { backticked } else { names };
    let types = [engine.pick("TEXT", "text", "LONGTEXT"), engine.pick("BLOB", "bytea", "LONGBLOB")];
    for statement in [
        format!("DROP TABLE IF EXISTS {table}"),
        format!(
            "CREATE TABLE {table} ({id} BIGINT PRIMARY KEY, {text} {} NOT NULL, {keyword} {})",
            types[0], types[1]
        ),
    ] {
        db.run_text(&statement, vec![]).unwrap();
    }
    let places = engine.pick("?, ?, ?", "$1, $2, $3", "?, ?, ?");
    let insert = format!("INSERT INTO {table} VALUES ({places})");
    for (i, value) in VALUES.iter().enumerate() {
        let bytes = value.as_bytes().to_vec();
        let binds = vec![(i as i64).to_bind(), value.to_string().to_bind(), bytes.to_bind()];
        db.run_text(&insert, binds).unwrap();
    }
    let long = "x'\"`".repeat(250_000);
    let none = BindValue::Null(SqlType::Bytes);
    db.run_text(&insert, vec![99_i64.to_bind(), long.to_bind(), none])
        .unwrap();
    db
}

#[test]
fn hostile_names_are_quoted_in_every_dialect() {
    let query = Hostile::rows()
        .filter(|h| h.text.eq("'; DROP TABLE lab; --") & h.keyword.is_not_null())
        .order_by(|h| h.keyword.desc());
    let all = Dialect::ALL.map(|dialect| format!("{dialect}\n{}\n", query.sql(dialect).unwrap()));
    insta::assert_snapshot!(all.concat());
}

#[test]
fn hostile_values_are_found_as_they_are() {
    for engine in engines() {
        let db = database(&engine);
        for (i, value) in VALUES.iter().enumerate() {
            let row = db
                .read_one(&Hostile::rows().filter(|h| h.text.eq(*value)))
                .unwrap();
            assert_eq!((row.id, row.text.as_str()), (i as i64, *value), "on {}", engine.name);
            assert_eq!(row.keyword.as_deref(), Some(value.as_bytes()));

            let listed = Hostile::rows().filter(|h| h.text.one_of([value]));
            assert_eq!(db.read(&listed).unwrap(), std::slice::from_ref(&row));
            let bytes = Hostile::rows().filter(|h| h.keyword.one_of([value.as_bytes()]));
            assert_eq!(db.read(&bytes).unwrap(), [row]);
            // As a pattern it may match more, but itself it matches.
            let matching = Hostile::rows().filter(|h| h.text.like(*value) & h.text.eq(*value));
            assert_eq!(db.count(&matching).unwrap(), 1, "{value:?} on {}", engine.name);
        }
        let long = db.read_one(&Hostile::row(99)).unwrap();
        assert_eq!(db.read_one(&Hostile::row_by_text(&long.text)).unwrap(), long);
        assert_eq!(db.count(&Hostile::rows()).unwrap(), VALUES.len() as u64 + 1);
    }
}

#[test]
fn text_with_nul_is_refused_before_it_is_sent() {
    for engine in engines() {
        for query in [
            Hostile::row_by_text("a\0b"),
            Hostile::rows().filter(|h| h.text.like("a\0%")),
            Hostile::rows().filter(|h| h.text.one_of(["fine", "a\0b"])),
        ] {
            assert_eq!(engine.open().read(&query).unwrap_err().kind(), ErrorKind::RefusedValue);
        }
    }
}
