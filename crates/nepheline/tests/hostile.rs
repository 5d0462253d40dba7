//! Names and values that would be an attack where text is glued together: here they are data.

#![allow(clippy::unwrap_used, reason = "tests")]

use nepheline::blocking::Database;
use nepheline::prelude::*;
use rusqlite::Connection;

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

fn database() -> Database {
    let connection = Connection::open_in_memory().unwrap();
    connection
        .execute_batch(
            r#"CREATE TABLE lab (id INTEGER);
               CREATE TABLE "core""; DROP TABLE lab; -- `x` 岩" (
                   "id"" OR 1=1 --" INTEGER PRIMARY KEY,
                   "a`b'c\?$1:x
/*" TEXT NOT NULL,
                   "select" BLOB
               )"#,
        )
        .unwrap();
    let insert = r#"INSERT INTO "core""; DROP TABLE lab; -- `x` 岩" VALUES (?, ?, ?)"#;
    for (i, value) in VALUES.iter().enumerate() {
        connection.execute(insert, (i as i64, value, value.as_bytes())).unwrap();
    }
    let long = "x'\"`".repeat(250_000);
    connection.execute(insert, (99, &long, None::<Vec<u8>>)).unwrap();
    Database::over(connection).unwrap()
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
    let db = database();
    for (i, value) in VALUES.iter().enumerate() {
        let row = db.read_one(&Hostile::row_by_text(*value)).unwrap();
        assert_eq!((row.id, row.text.as_str()), (i as i64, *value));
        assert_eq!(row.keyword.as_deref(), Some(value.as_bytes()));

        let listed = Hostile::rows().filter(|h| h.text.one_of([value]));
        assert_eq!(db.read(&listed).unwrap(), std::slice::from_ref(&row));
        let bytes = Hostile::rows().filter(|h| h.keyword.one_of([value.as_bytes()]));
        assert_eq!(db.read(&bytes).unwrap(), [row]);
        // As a pattern it may match more, but itself it matches.
        let matching = Hostile::rows().filter(|h| h.text.like(value) & h.text.eq(*value));
        assert_eq!(db.count(&matching).unwrap(), 1, "{value:?}");
    }
    let long = db.read_one(&Hostile::row(99)).unwrap();
    assert_eq!(db.read_one(&Hostile::row_by_text(&long.text)).unwrap(), long);
    assert_eq!(db.count(&Hostile::rows()).unwrap(), VALUES.len() as u64 + 1, "nothing was dropped");
}

#[test]
fn text_with_nul_is_refused_before_it_is_sent() {
    let db = database();
    for query in [
        Hostile::row_by_text("a\0b"),
        Hostile::rows().filter(|h| h.text.like("a\0%")),
        Hostile::rows().filter(|h| h.text.one_of(["fine", "a\0b"])),
    ] {
        assert_eq!(db.read(&query).unwrap_err().kind(), ErrorKind::RefusedValue);
    }
}
