//! Sessions over connections that a program already has.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

use futures_util::TryStreamExt;
use mysql_async::prelude::Queryable;
use nepheline::RunsQueries;
use nepheline::internal::{BlockingRunText as _, RunText as _};
use nepheline::prelude::*;
use nepheline_coreshed::{Lab, Specimen};
use support::server;

/// One function for whatever handle: a pool, a transaction, somebody's own connection.
async fn check(db: &impl RunsQueries) {
    let labs = db
        .read(&Lab::rows().order_by(|l| l.id.asc()))
        .await
        .unwrap();
    assert_eq!(labs.len(), 5);
    assert_eq!(db.read_one(&Specimen::row(42)).await.unwrap().label, "O'Brien's piece");
    let listed = Lab::rows().filter(|l| l.id.one_of([1, 2, 99]));
    assert_eq!(db.count(&listed).await.unwrap(), 2);
    let streamed: Vec<Lab> = db.read_stream(&listed).try_collect().await.unwrap();
    assert_eq!(streamed.len(), 2);
    let err = db.read_one(&Specimen::row(9999)).await.unwrap_err();
    assert_eq!(err.kind(), ErrorKind::NotFound);
}

#[tokio::test]
async fn over_a_client_or_transaction_of_tokio_postgres() {
    let Some(engine) = server("PostgreSQL") else { return };
    let loaded = engine.clone();
    tokio::task::spawn_blocking(move || drop(loaded.demo()))
        .await
        .unwrap();
    let (mut client, connection) = tokio_postgres::connect(&engine.url, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    check(&nepheline::postgres::Session::over(&client).await.unwrap()).await;

    let transaction = client.transaction().await.unwrap();
    transaction
        .execute("UPDATE lab SET name = 'Renamed' WHERE id = 1", &[])
        .await
        .unwrap();
    let session = nepheline::postgres::Session::over(&transaction)
        .await
        .unwrap();
    assert_eq!(session.read_one(&Lab::row(1)).await.unwrap().name, "Renamed");
    transaction.rollback().await.unwrap();
    let zone = client.query_one("SHOW TIME ZONE", &[]).await.unwrap();
    assert_eq!(zone.get::<_, &str>(0), "UTC");
}

#[tokio::test]
async fn over_a_connection_of_mysql_async() {
    let Some(engine) = server("MariaDB") else { return };
    let loaded = engine.clone();
    tokio::task::spawn_blocking(move || drop(loaded.demo()))
        .await
        .unwrap();
    let mut conn = mysql_async::Conn::from_url(&engine.url).await.unwrap();
    conn.query_drop("SET SESSION sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT'")
        .await
        .unwrap();
    let session = nepheline::mysql::Session::over(conn).await.unwrap();
    check(&session).await;
    let mut conn = session.into_inner().await.unwrap();
    let mode: Option<String> = conn.query_first("SELECT @@sql_mode").await.unwrap();
    assert!(!mode.unwrap().contains("ANSI_QUOTES"), "the session was set up");
    conn.disconnect().await.unwrap();
}

#[test]
fn over_a_connection_or_transaction_of_rusqlite() {
    use nepheline::blocking::{Database, RunsQueries, Session};
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("own.db");
    let url = format!("sqlite:{}?mode=rwc", path.display());
    nepheline_coreshed::load(&Database::open(&url).unwrap()).unwrap();

    let mut connection = rusqlite::Connection::open(&path).unwrap();
    let session = Session::over(&connection).unwrap();
    assert_eq!(session.count(&Specimen::rows()).unwrap(), 600);
    let transaction = connection.transaction().unwrap();
    transaction
        .execute("UPDATE lab SET name = 'Renamed' WHERE id = 1", [])
        .unwrap();
    let session = Session::over(&transaction).unwrap();
    assert_eq!(session.read_one(&Lab::row(1)).unwrap().name, "Renamed");
    // A misspelt column in double quotes is an error now, also in the program's own SQL.
    assert!(transaction.prepare("SELECT \"nmae\" FROM lab").is_err());
}

#[derive(Debug, Clone, PartialEq, Table)]
struct Place {
    #[nepheline(key)]
    id: i64,
    /// Kept in latin1 on MariaDB.
    name: String,
    /// Kept in the old UTF-8 of three bytes on MariaDB.
    region: String,
}

/// Ordering and comparing failed with "COLLATION .. is not valid for CHARACTER SET".
#[tokio::test]
async fn text_columns_of_other_character_sets_are_compared_by_code_point() {
    let Some(engine) = server("MariaDB") else { return };
    let db = engine.open_async().await;
    for text in [
        "DROP TABLE IF EXISTS place",
        "CREATE TABLE place (id BIGINT PRIMARY KEY, name VARCHAR(40) CHARACTER SET latin1 NOT NULL, \
         region VARCHAR(40) CHARACTER SET utf8mb3 NOT NULL)",
    ] {
        db.run_text(text, vec![]).await.unwrap();
    }
    let names = ["Øst", "ost", "Ost", "€ast", "zinc", "Ost "];
    let rows = names.iter().enumerate().map(|(i, name)| {
        let (id, name, region) = (i as i64, (*name).to_owned(), (*name).to_owned());
        PlaceToInsert { id, name, region }
    });
    db.write(&Place::insert_all(rows)).await.unwrap();
    let mut expected = names.map(str::to_owned);
    expected.sort();
    let by_name = Place::rows().order_by(|p| p.name.asc()).select(|p| p.name);
    assert_eq!(db.read(&by_name).await.unwrap(), expected);
    let by_region = Place::rows()
        .order_by(|p| p.region.asc())
        .select(|p| p.region);
    assert_eq!(db.read(&by_region).await.unwrap(), expected);
    let below = |text: &str| expected.iter().filter(|name| name.as_str() < text).count() as u64;
    for text in ["ost", "Ost ", "Ø", "€"] {
        assert_eq!(
            db.count(&Place::rows().filter(|p| p.name.lt(text)))
                .await
                .unwrap(),
            below(text)
        );
        assert_eq!(
            db.count(&Place::rows().filter(|p| p.region.lt(text)))
                .await
                .unwrap(),
            below(text)
        );
    }
    for same in [
        Place::rows().filter(|p| p.name.eq("€ast") & p.region.eq("€ast")),
        Place::rows().filter(|p| p.name.one_of(["€ast", "Zinc"])),
        Place::rows().filter(|p| p.region.none_of(["ost", "Ost", "Ost ", "Øst", "zinc"])),
        Place::rows().filter(|p| p.name.contains("€") & p.region.starts_with("€")),
        Place::rows().filter(|p| p.name.eq(p.region) & p.name.any_case().eq("€AST")),
        Place::rows().filter(|p| p.name.between("€", "€z")),
    ] {
        assert_eq!(
            db.read_one(&same).await.unwrap().name,
            "€ast",
            "{}",
            same.sql(Dialect::MariaDb).unwrap()
        );
    }
    let groups = Place::rows().select(|p| (per(p.name), per(p.region), count()));
    assert_eq!(db.read(&groups).await.unwrap().len(), names.len());
    let twice = Place::rows().filter(|p| p.name.one_of(Place::rows().select(|q| q.region)));
    assert_eq!(db.count(&twice).await.unwrap(), 6);
}

/// Text that was sent in another encoding was stored as something else.
#[tokio::test]
async fn a_lent_client_of_another_encoding_is_set_to_utf_8() {
    let Some(engine) = server("PostgreSQL") else { return };
    let (client, connection) = tokio_postgres::connect(&engine.url, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    client
        .batch_execute("SET client_encoding TO 'LATIN1'")
        .await
        .unwrap();
    let session = nepheline::postgres::Session::over(&client).await.unwrap();
    let create = "CREATE TEMPORARY TABLE place (id BIGINT PRIMARY KEY, name text NOT NULL, region text NOT NULL)";
    session.run_text(create, vec![]).await.unwrap();
    let stored = PlaceToInsert { id: 1, name: "Øst".into(), region: "€".into() };
    session.write(&Place::insert(stored)).await.unwrap();
    let sizes = client
        .query_one("SELECT octet_length(name), octet_length(region) FROM place", &[])
        .await
        .unwrap();
    assert_eq!((sizes.get::<_, i32>(0), sizes.get::<_, i32>(1)), (4, 3));
}

#[derive(Debug, Clone, PartialEq, Table)]
struct Room {
    #[nepheline(key)]
    id: i64,
}

/// Settings of hand-written text were found by the next borrower of the connection.
#[tokio::test]
async fn settings_that_hand_written_text_changes_end_with_the_loan() {
    let verbatim_setting = |engine: &support::Engine| match engine.name {
        "SQLite" => Room::rows().select(|_| {
            verbatim!("(SELECT CAST(foreign_keys AS TEXT) FROM pragma_foreign_keys)")
                .typed::<String>()
        }),
        "PostgreSQL" => Room::rows().select(|_| {
            verbatim!(
                "concat_ws(' ', current_setting('timezone'), current_setting('search_path'), \
                 current_setting('statement_timeout'), to_regclass('pg_temp.room'))"
            )
            .typed::<String>()
        }),
        _ => Room::rows().select(|_| {
            verbatim!(
                "(SELECT group_concat(variable_value) FROM information_schema.session_variables \
                 WHERE variable_name IN ('TIME_ZONE', 'SQL_MODE', 'MAX_STATEMENT_TIME'))"
            )
            .typed::<String>()
        }),
    };
    for engine in support::engines_with("settings") {
        let options = engine.with("pool_size=1&statement_timeout=7s");
        let db = nepheline::Database::open(&options).await.unwrap();
        for text in [
            "DROP TABLE IF EXISTS room",
            "CREATE TABLE room (id BIGINT PRIMARY KEY)",
            "INSERT INTO room VALUES (1)",
        ] {
            db.run_text(text, vec![]).await.unwrap();
        }
        let setting = verbatim_setting(&engine);
        let usual = db.read_one(&setting).await.unwrap();
        let changes: &[&str] = match engine.name {
            "SQLite" => &["PRAGMA foreign_keys = OFF"],
            "PostgreSQL" => &[
                "SET TIME ZONE 'Asia/Tokyo'",
                "SET search_path TO nowhere, public",
                "SET statement_timeout TO 0",
                "CREATE TEMPORARY TABLE room (id bigint)",
            ],
            _ => &["SET time_zone = '+09:00', sql_mode = '', max_statement_time = 0"],
        };
        for change in changes {
            db.run_text(change, vec![]).await.unwrap();
            assert_eq!(
                db.read_one(&setting).await.unwrap(),
                usual,
                "{} after {change}",
                engine.name
            );
            // Within a transaction the change holds; it ends with it.
            let inside = db.transaction(async |tx| {
                tx.run_text(change, vec![]).await?;
                tx.read_at_most_one(&setting).await
            });
            // SQLite takes it for no change while a transaction is open.
            let inside = inside.await.unwrap();
            assert_eq!(inside.as_ref() == Some(&usual), engine.name == "SQLite", "{inside:?}");
            assert_eq!(
                db.read_one(&setting).await.unwrap(),
                usual,
                "{} after {change}",
                engine.name
            );
        }
        if engine.name == "PostgreSQL" {
            let altering = Room::rows().select(|_| {
                verbatim!("set_config('TimeZone', 'Asia/Tokyo', false)").typed::<String>()
            });
            assert_eq!(db.read_one(&altering).await.unwrap(), "Asia/Tokyo");
            assert_eq!(db.read_one(&setting).await.unwrap(), usual);
        }
    }
    let db = nepheline::blocking::Database::open("sqlite::memory:").unwrap();
    for text in [
        "CREATE TABLE room (id BIGINT PRIMARY KEY)",
        "INSERT INTO room VALUES (1)",
        "PRAGMA foreign_keys = OFF",
    ] {
        db.run_text(text, vec![]).unwrap();
    }
    let setting = Room::rows().select(|_| {
        verbatim!("(SELECT CAST(foreign_keys AS TEXT) FROM pragma_foreign_keys)").typed::<String>()
    });
    assert_eq!(db.read_one(&setting).unwrap(), "1");
}

/// After a reset the connection kept the time limit of the call before, and nobody told it another.
#[tokio::test]
async fn a_reset_leaves_no_time_limit_of_another_handle() {
    for engine in support::engines_with("limits") {
        let db = nepheline::Database::open(&engine.with("pool_size=1"))
            .await
            .unwrap();
        let hurried = db.time_limit(std::time::Duration::from_millis(100));
        let slow = engine.pick(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000000) SELECT count(*) FROM n",
            "SELECT pg_sleep(0.4)",
            "SELECT SLEEP(0.4)",
        );
        hurried.run_text("SELECT 1", vec![]).await.unwrap();
        db.run_text(slow, vec![])
            .await
            .unwrap_or_else(|err| panic!("on {}: {err:#}", engine.name));
        let stopped = hurried.run_text(slow, vec![]).await.unwrap_err();
        assert_eq!(stopped.kind(), ErrorKind::StatementTimeout, "on {}", engine.name);
        assert!(stopped.to_string().contains(slow), "on {}: {stopped}", engine.name);
        let long = format!("{slow} -- {}", "long ".repeat(200));
        let told = hurried
            .run_text(&long, vec![])
            .await
            .unwrap_err()
            .to_string();
        assert!(
            told.contains(&format!("the SQL began with `{}`", &long[..500])),
            "on {}: {told}",
            engine.name
        );
        db.run_text(slow, vec![])
            .await
            .unwrap_or_else(|err| panic!("on {}: {err:#}", engine.name));
    }
}

/// The runs of a prepared query by a plan for any values, and by plans for its values; `None` if it is not prepared.
async fn plans_of(db: &nepheline::Database, query: &Query<Lab>) -> Option<(i64, i64)> {
    for _ in 0..8 {
        db.read(query).await.unwrap();
    }
    let kept = nepheline::statement!(
        "SELECT generic_plans, custom_plans FROM pg_prepared_statements WHERE statement LIKE 'SELECT \"lab\"%'"
    );
    db.read_at_most_one(&kept.rows_as::<(i64, i64)>())
        .await
        .unwrap()
}

#[tokio::test]
async fn postgresql_plans_for_the_values_where_it_is_told_to() {
    let Some(engine) = server("PostgreSQL") else { return };
    let loaded = engine.clone();
    tokio::task::spawn_blocking(move || drop(loaded.demo()))
        .await
        .unwrap();
    let open = async |parameters: &str| {
        nepheline::Database::open(&engine.with(parameters))
            .await
            .unwrap()
    };
    let query = Lab::rows().filter(|l| l.id.ge(1));
    assert_eq!(plans_of(&open("pool_size=1").await, &query).await, Some((3, 5)));
    let custom = open("pool_size=1&plans=custom").await;
    assert_eq!(plans_of(&custom, &query).await, Some((0, 8)));
    let always_planned = query.clone().custom_plan();
    assert_eq!(plans_of(&open("pool_size=1").await, &always_planned).await, None);
    let err = nepheline::blocking::Database::open("sqlite::memory:?plans=custom").unwrap_err();
    assert!(
        err.to_string()
            .contains("names `plans`, which only PostgreSQL reuses"),
        "{err}"
    );
}
