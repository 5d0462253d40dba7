//! Groups, totals, windows, sets and pages: rows are generated, each question is asked of every engine
//! and of plain Rust, and all answers have to be equal.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

#[path = "../support/mod.rs"]
mod support;

mod choices;
mod collations;
mod groups;
mod kinds;
mod pages;
mod reports;
mod sets;
mod spreads;

use std::collections::BTreeMap;
use std::fmt::Debug;
use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{
    BindValue, Isolation, Level, Paging, Readable, StatementLog, Tables, TransactionOptions,
    recursive,
};
use nepheline_coreshed::{Borehole, Site, Specimen};
use proptest::collection::vec;
use proptest::option;
use proptest::prelude::*;
use proptest::sample::select;
use proptest::test_runner::{Config, TestCaseError, TestRunner};
use support::shed::{Shed, sheds};
use support::{Engine, engines};

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "totals_piece")]
struct Piece {
    #[nepheline(key)]
    id: i64,
    /// Compared by the engine's own rules, if it is left to it.
    kind: String,
    tray: Option<i64>,
    grams: i64,
    /// A multiple of a quarter, so that sums are exact in any order.
    metres: Option<f64>,
    cut_on: Date,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct PerKind {
    kind: String,
    pieces: i64,
    heavy: i64,
    trays: i64,
    grams: Option<i64>,
    mean: Option<f64>,
    longest: Option<f64>,
    all_long: Option<bool>,
}

#[derive(Debug, Clone, PartialEq, PartialOrd, RowShape)]
struct Name {
    name: String,
}

/// A generated query over pieces.
#[derive(Debug, Clone)]
struct Asked {
    at_least: i64,
    limit: u64,
    modulus: i64,
    descending: bool,
    nulls_first: bool,
    size: u32,
}

fn pieces() -> impl Strategy<Value = Vec<Piece>> {
    let kinds = ["a", "A", "a ", "", "é", "É", "q\"\\\n", "ß", "ss"];
    let days = ["2023-12-31", "2024-01-01", "2024-01-31", "2024-02-29"];
    let row = (
        select(kinds.map(str::to_owned).to_vec()),
        option::of(0..4_i64),
        -3..9_i64,
        option::of((0..9_i32).prop_map(|quarters| f64::from(quarters) / 4.0)),
        select(days.map(|day| day.parse::<Date>().unwrap()).to_vec()),
    );
    vec(row, 0..40).prop_map(|rows| {
        let numbered = rows.into_iter().zip(1..);
        numbered
            .map(|((kind, tray, grams, metres, cut_on), id)| Piece {
                id,
                kind,
                tray,
                grams,
                metres,
                cut_on,
            })
            .collect()
    })
}

fn asked() -> impl Strategy<Value = Asked> {
    (0..4_i64, 1..6_u64, 1..4_i64, any::<bool>(), any::<bool>(), 1..9_u32).prop_map(
        |(at_least, limit, modulus, descending, nulls_first, size)| Asked {
            at_least,
            limit,
            modulus,
            descending,
            nulls_first,
            size,
        },
    )
}

fn prepared(engine: Engine) -> (Engine, Database) {
    let db = engine.open();
    let types = engine.pick(
        "id INTEGER, kind TEXT COLLATE NOCASE, tray INTEGER, grams INTEGER, metres REAL, cut_on TEXT",
        "id bigint, kind varchar(9) COLLATE \"en-x-icu\", tray bigint, grams bigint, metres float8, cut_on date",
        "id BIGINT, kind VARCHAR(9) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci, tray BIGINT, \
         grams BIGINT, metres DOUBLE, cut_on DATE",
    );
    db.run_text("DROP TABLE IF EXISTS totals_piece", vec![])
        .unwrap();
    db.run_text(&format!("CREATE TABLE totals_piece ({types})"), vec![])
        .unwrap();
    (engine, db)
}

/// The table of pieces is for one test at a time.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

fn fill(engine: &Engine, db: &Database, pieces: &[Piece]) {
    use nepheline::{ColumnType, Storable};
    db.run_text("DELETE FROM totals_piece", vec![]).unwrap();
    let rows: Vec<String> = (0..pieces.len())
        .map(|row| {
            let places = (1..=6).map(|i| {
                engine
                    .pick("?", &format!("${}", row * 6 + i), "?")
                    .to_owned()
            });
            format!("({})", places.collect::<Vec<_>>().join(", "))
        })
        .collect();
    let binds = pieces.iter().flat_map(|p| -> [BindValue; 6] {
        [
            p.id.to_bind(),
            p.kind.to_bind(),
            p.tray.to_bind_or_null(),
            p.grams.to_bind(),
            p.metres.to_bind_or_null(),
            p.cut_on.to_bind(),
        ]
    });
    if !rows.is_empty() {
        let insert = format!("INSERT INTO totals_piece VALUES {}", rows.join(", "));
        db.run_text(&insert, binds.collect()).unwrap();
    }
}

/// Returns the difference between the result of an engine and the expected one.
struct Answers<'a> {
    engine: &'a Engine,
    db: &'a Database,
}

impl Answers<'_> {
    fn check<Q>(&self, query: &Q, expected: &[Q::Row]) -> Result<(), TestCaseError>
    where
        Q: Readable<Row: Debug + PartialEq>,
    {
        let found = self
            .db
            .read(query)
            .map_err(|err| TestCaseError::fail(format!("{err:#}")))?;
        prop_assert_eq!(&*found, expected, "on {} @ {}", self.engine.name, query.asked_at());
        let count = self
            .db
            .count(query)
            .map_err(|err| TestCaseError::fail(format!("{err:#}")))?;
        prop_assert_eq!(count, expected.len() as u64, "count on {}", self.engine.name);
        prop_assert_eq!(self.db.exists(query).unwrap(), !expected.is_empty());
        Ok(())
    }
}

fn grouped<K: Ord>(pieces: &[Piece], key: impl Fn(&Piece) -> K) -> BTreeMap<K, Vec<&Piece>> {
    let mut groups: BTreeMap<K, Vec<&Piece>> = BTreeMap::new();
    for piece in pieces {
        groups.entry(key(piece)).or_default().push(piece);
    }
    groups
}

/// NULL behind every value.
fn null_last(tray: Option<i64>) -> (bool, Option<i64>) {
    (tray.is_none(), tray)
}

#[test]
fn every_engine_totals_as_plain_rust_does() {
    let _alone = alone();
    let databases: Vec<_> = engines().into_iter().map(prepared).collect();
    let mut runner = TestRunner::new(Config { cases: 24, ..Config::default() });
    let outcome = runner.run(&(pieces(), vec(asked(), 3)), |(pieces, all_asked)| {
        for (engine, db) in &databases {
            fill(engine, db, &pieces);
            let answers = Answers { engine, db };
            for asked in &all_asked {
                groups::check(&answers, &pieces, asked)?;
                spreads::check(&answers, &pieces, asked)?;
                choices::check(&answers, &pieces, asked)?;
                reports::check(&answers, &pieces, asked)?;
                kinds::check(&answers, &pieces, asked)?;
                sets::check(&answers, &pieces, asked)?;
                pages::check(&answers, &pieces, asked)?;
            }
        }
        Ok(())
    });
    outcome.unwrap_or_else(|err| panic!("{err}"));

    // A sum beyond 64 bits is an error, and not a number.
    for (engine, db) in &databases {
        let row = |id| Piece {
            id,
            kind: String::new(),
            tray: None,
            grams: i64::MAX,
            metres: None,
            cut_on: "2024-01-01".parse().unwrap(),
        };
        fill(engine, db, &[row(1), row(2)]);
        let total = Piece::rows().select(|p| sum(p.grams));
        assert!(db.read(&total).is_err(), "on {}", engine.name);
    }
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Part {
    id: i64,
    label: String,
    level: i64,
}

#[test]
fn recursion_finds_the_tree_of_split_specimens() {
    let shed = Shed::read();
    let start = Specimen::rows()
        .filter(|s| s.parent_id.is_null() & s.parts().exists())
        .select(|s| shape!(Part { id: s.id, label: s.label, level: bind(0_i64) }));
    let tree = |rounds| {
        recursive(start.clone(), rounds, |whole| {
            Specimen::rows()
                .join(|s| whole.filter(|w| s.parent_id.eq(w.id)))
                .select(|(s, w)| shape!(Part { id: s.id, label: s.label, level: w.level + 1 }))
        })
    };
    let level =
        |s: &Specimen| std::iter::successors(Some(s), |s| shed.parent(s)).count() as i64 - 1;
    let in_trees = shed.specimens.iter().filter(|s| {
        s.parent_id.is_some()
            || shed
                .specimens
                .iter()
                .any(|part| part.parent_id == Some(s.id))
    });
    let mut all: Vec<Part> = in_trees
        .map(|s| Part { id: s.id, label: s.label.clone(), level: level(s) })
        .collect();
    all.sort_by_key(|part| (part.level, part.id));
    assert!(all.iter().any(|part| part.level == 2));
    for (engine, db) in sheds() {
        for rounds in [0, 1, 20] {
            let expected: Vec<_> = all
                .iter()
                .filter(|part| part.level <= i64::from(rounds))
                .cloned()
                .collect();
            let ordered = tree(rounds).order_by(|p| (p.level.asc(), p.id.asc()));
            assert_eq!(db.read(&ordered).unwrap(), expected, "on {}", engine.name);
        }
        // As a source of its own, twice in one query.
        let levels = tree(20)
            .join(|p| tree(20).filter(|other| other.id.eq(p.id)))
            .select(|(p, _)| (per(p.level), count()))
            .order_by(|(p, _)| per(p.level).asc());
        let on_level = |level| all.iter().filter(|part| part.level == level).count() as i64;
        let counts = [0, 1, 2].map(|level| (level, on_level(level)));
        assert_eq!(db.read(&levels).unwrap(), counts, "on {}", engine.name);
    }
}

#[test]
fn rows_are_locked_where_engines_lock_rows() {
    for (engine, db) in sheds() {
        let taken = Site::rows().filter(|s| s.id.le(2)).for_update();
        if engine.name == "SQLite" {
            let err = db.read(&taken).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::Unsupported);
            continue;
        }
        let outcome = db.transaction(|tx| {
            assert_eq!(tx.read(&taken)?.len(), 2);
            // Somebody else: an own handle, so an own connection.
            let other = engine.open();
            other.transaction(|tx| {
                let free = Site::rows().filter(|s| s.id.le(3)).for_update_skip_locked();
                let free: Vec<i64> = tx.read(&free)?.into_iter().map(|s| s.id).collect();
                assert_eq!(free, [3], "on {}", engine.name);
                Ok::<_, Error>(())
            })?;
            let refused = other.transaction(|tx| {
                tx.read(&Site::rows().filter(|s| s.id.le(3)).for_update_nowait())
            });
            assert_eq!(refused.unwrap_err().kind(), ErrorKind::Locked, "on {}", engine.name);
            Ok::<_, Error>(())
        });
        outcome.unwrap();
    }
}

/// The table of boreholes as a program declared it before it knew of most columns.
#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "borehole")]
struct NamedHole {
    #[nepheline(key)]
    id: i64,
    #[nepheline(by_code_point)]
    name: String,
}

#[test]
fn a_cursor_belongs_to_the_order_and_may_be_encrypted() {
    let keys = |key: u8| nepheline::CursorKeys::new([key; 32]);
    for (engine, db) in sheds() {
        let narrow = NamedHole::rows().order_by(|b| b.name.asc());
        let wide = Borehole::rows().order_by(|b| b.name.asc());
        let all: Vec<i64> = db.read(&wide).unwrap().iter().map(|hole| hole.id).collect();
        let first = db.read_after(&narrow, None, 3).unwrap();
        let next = db.read_after(&wide, first.after(), 3).unwrap();
        let ids: Vec<i64> = next.rows().iter().map(|hole| hole.id).collect();
        assert_eq!(ids, all[3..6], "on {}", engine.name);
        let filtered = wide.clone().filter(|b| b.id.ne(all[3]));
        let next = db.read_after(&filtered, first.after(), 3).unwrap();
        let ids: Vec<i64> = next.rows().iter().map(|hole| hole.id).collect();
        assert_eq!(ids, all[4..7], "on {}", engine.name);

        let old = db.carrying(keys(1));
        let new = db.carrying(keys(2).accepting([1; 32]));
        let sealed = old.read_after(&wide, None, 3).unwrap();
        let same = old.read_after(&wide, None, 3).unwrap();
        assert_ne!(sealed.after(), same.after(), "it tells not even that it is the same place");
        for db in [&old, &new] {
            let next = db.read_after(&wide, sealed.after(), 3).unwrap();
            let ids: Vec<i64> = next.rows().iter().map(|hole| hole.id).collect();
            assert_eq!(ids, all[3..6], "on {}", engine.name);
        }
        for (db, cursor) in [(db, &sealed), (&old, &new.read_after(&wide, None, 3).unwrap())] {
            let err = db.read_after(&wide, cursor.after(), 3).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::InvalidPage, "on {}", engine.name);
        }
        let plain = db.read_after(&wide, None, 3).unwrap();
        let err = new.read_after(&wide, plain.after(), 3).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::InvalidPage, "on {}", engine.name);
    }
}

#[test]
fn pages_and_cursors_that_cannot_be_are_refused() {
    let by_name = Borehole::rows().order_by(|b| b.name.asc());
    for (engine, db) in sheds() {
        let first = db.read_after(&by_name, None, 5).unwrap();
        let cursor = first.after().unwrap().to_string();
        let refused = |result: Result<nepheline::CursoredRows<Borehole>, Error>| {
            let err = result.unwrap_err();
            assert_eq!(err.kind(), ErrorKind::InvalidPage, "on {}", engine.name);
        };
        refused(db.read_after(&by_name, None, 0));
        let other = Borehole::rows().order_by(|b| b.depth_m.asc());
        refused(db.read_after(&other, first.after(), 5));
        for i in 0..cursor.len() {
            let mut tampered = cursor.clone().into_bytes();
            tampered[i] = if tampered[i] == b'A' { b'B' } else { b'A' };
            let tampered = String::from_utf8(tampered).unwrap().parse().unwrap();
            refused(db.read_after(&by_name, Some(&tampered), 5));
        }
        for text in ["", "x", "?", "AAAAAAAAAAAAAAAA"] {
            refused(db.read_before(&by_name, Some(&text.parse().unwrap()), 5));
        }
        for paging in [Paging::page_size(0), Paging::page_size(5).page(0)] {
            assert_eq!(db.read_page(&by_name, paging).unwrap_err().kind(), ErrorKind::InvalidPage);
        }
        let groups = Specimen::rows().select(|s| (per(s.rock), count()));
        // A subtotal has the key of a group with NULL.
        let subtotals = Specimen::rows().select(|s| (rollup(s.rock), count()));
        assert_eq!(db.read_after(&subtotals, None, 5).unwrap_err().kind(), ErrorKind::InvalidQuery);
        let distinct = Specimen::rows().select(|s| s.rock).distinct();
        assert_eq!(db.read_after(&distinct, None, 5).unwrap_err().kind(), ErrorKind::InvalidQuery);
        assert_eq!(
            db.read_after(&by_name.clone().limit(9), None, 5)
                .unwrap_err()
                .kind(),
            ErrorKind::InvalidQuery
        );

        // A page costs two statements, and in a serializable transaction they are of one moment.
        let record = StatementLog::new();
        let options = TransactionOptions::new()
            .isolation(Isolation::Serializable)
            .read_only();
        let db = db.logging_to(&record);
        let page =
            db.transaction_with(options, |tx| tx.read_page(&groups, Paging::page_size(3).page(2)));
        assert_eq!(page.unwrap().total_rows(), 7);
        assert_eq!(record.len(), 2);
        // Beyond the end there is nothing to ask for.
        let beyond = db
            .read_page(&by_name, Paging::page_size(10).page(u64::MAX))
            .unwrap();
        assert_eq!((beyond.rows().len(), beyond.total_pages()), (0, 4));
        assert_eq!(record.len(), 3);
        // Companions are read for the rows of the page only.
        let beside = by_name.clone().alongside(|b| b.specimens());
        let page = db.read_after(&beside, None, 2).unwrap();
        let next = db.read_after(&beside, page.after(), 2).unwrap();
        assert_eq!(next.rows()[0].0, first.rows()[2]);
        assert_eq!(next.rows()[0].1.len() as u64, db.count(&next.rows()[0].0.specimens()).unwrap());
    }
}

#[test]
fn what_cannot_be_grouped_is_refused() {
    let refused = |sql: Result<nepheline::Sql, Error>| {
        let err = sql.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::InvalidQuery);
        err.to_string()
            .split("; asked for at")
            .next()
            .unwrap()
            .to_owned()
    };
    let rows = Specimen::rows;
    let messages = [
        refused(
            rows()
                .order_by(|s| s.id.asc())
                .select(|_| count())
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .select(|s| (per(s.rock), count()))
                .order_by(|s| per(s.id).asc())
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .select(|s| s.rock)
                .distinct()
                .order_by(|s| s.id.asc())
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .filter(|s| row_number().over(|w| w.order_by(s.id.asc())).le(3))
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .limit_each(1, |s| s.rock)
                .select(|_| count())
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .select(|s| s.rock)
                .distinct()
                .limit_each(1, |s| s.rock)
                .sql(Dialect::Sqlite),
        ),
        refused(rows().distinct().for_update().sql(Dialect::Postgres)),
        refused(
            rows()
                .select(|s| (per(s.rock), (s.top_m + 1).per_group()))
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .select(|s| (per(s.rock), s.assays().count().per_group()))
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .select(|s| (per(s.rock), count()))
                .having(|_| rank().over_groups(|w| w.order_by(count().desc())).le(3))
                .sql(Dialect::Sqlite),
        ),
        refused(
            rows()
                .select(|s| (is_subtotal(per(s.rock)), count()))
                .sql(Dialect::Sqlite),
        ),
    ];
    insta::assert_snapshot!(messages.join("\n"));
}

/// The number of rows, whether there are any, and a page, of queries of many forms and limits: all tell the same.
#[test]
fn rows_counts_and_presence_agree() {
    const CUTS: [(Option<u64>, Option<u64>); 11] = [
        (None, None),
        (None, Some(1)),
        (None, Some(2)),
        (None, Some(4)),
        (None, Some(30)),
        (Some(0), None),
        (Some(1), None),
        (Some(1), Some(1)),
        (Some(2), Some(3)),
        (Some(3), Some(0)),
        (Some(40), Some(5)),
    ];

    fn cut<T: Tables, R, L: Level>(
        query: Query<T, R, L>,
        (limit, offset): (Option<u64>, Option<u64>),
    ) -> Query<T, R, L> {
        let query = match limit {
            Some(limit) => query.limit(limit),
            None => query,
        };
        match offset {
            Some(offset) => query.offset(offset),
            None => query,
        }
    }

    let _alone = alone();
    let day: Date = "2024-01-01".parse().unwrap();
    let pieces: Vec<Piece> = (1..=7)
        .map(|id| Piece {
            id,
            kind: ["a", "b", "a"][id as usize % 3].to_owned(),
            tray: (id % 4 > 0).then_some(id % 2),
            grams: id / 3,
            metres: None,
            cut_on: day,
        })
        .collect();
    for engine in engines() {
        let (engine, db) = prepared(engine);
        fill(&engine, &db, &pieces);
        for at in CUTS {
            macro_rules! agree {
                ($($query:expr;)*) => {$({
                    let query = cut($query, at);
                    let context = format!("on {}: {} with {at:?}", engine.name, stringify!($query));
                    let rows = db.read(&query).unwrap_or_else(|err| panic!("{context}: {err:#}")).len();
                    assert_eq!(db.count(&query).unwrap(), rows as u64, "{context}");
                    assert_eq!(db.exists(&query).unwrap(), rows > 0, "{context}");
                    let page = db.read_page(&query, Paging::page_size(3).page(1)).unwrap();
                    assert_eq!(page.rows().len(), rows.min(3), "{context}");
                    assert_eq!(page.total_rows(), rows as u64, "{context}");
                    let there = Piece::rows().filter(|p| query.clone().exists() & p.id.eq(1));
                    assert_eq!(db.count(&there).unwrap(), u64::from(rows > 0), "{context}, EXISTS");
                    let missing = Piece::rows().filter(|p| query.clone().not_exists() & p.id.eq(1));
                    assert_eq!(db.count(&missing).unwrap(), u64::from(rows == 0), "{context}, NOT EXISTS");
                })*};
            }
            agree! {
                Piece::rows().order_by(|p| p.id.asc());
                Piece::rows().filter(|p| p.grams.gt(1));
                Piece::rows().filter(|p| p.grams.gt(90));
                Piece::rows().distinct();
                Piece::rows().select(|p| p.kind);
                Piece::rows().select(|p| p.kind).distinct();
                Piece::rows().select(|p| p.tray).distinct();
                Piece::rows().select(|p| p.metres).distinct();
                Piece::rows().select(|p| (p.kind, p.tray)).distinct();
                Piece::rows().select(|p| (p.kind, p.grams)).distinct().order_by(|p| (p.kind.asc(), p.grams.desc()));
                Piece::rows().filter(|p| p.grams.gt(90)).select(|p| p.tray).distinct();
                Piece::rows().select(|p| per(p.kind));
                Piece::rows().select(|p| (per(p.kind), count()));
                Piece::rows().select(|p| (per(p.tray), sum(p.grams)));
                Piece::rows().select(|p| (per(p.kind), count())).having(|_| count().gt(2));
                Piece::rows().select(|p| (per(p.kind), count())).having(|_| count().gt(20));
                Piece::rows().select(|_| count());
                Piece::rows().filter(|p| p.grams.gt(90)).select(|p| max(p.grams));
                Piece::rows().order_by(|p| p.id.asc()).limit_each(1, |p| p.kind);
                Piece::rows().order_by(|p| p.id.asc()).limit_each(2, |p| p.tray);
                Piece::rows().select(|p| shape!(Name { name: p.kind })).union(Piece::rows().select(|p| shape!(Name { name: p.kind })));
                Piece::rows().select(|p| shape!(Name { name: p.kind })).union_all(Piece::rows().select(|p| shape!(Name { name: p.kind })));
                Piece::rows().select(|p| shape!(Name { name: p.kind })).intersect(Piece::rows().filter(|p| p.grams.gt(1)).select(|p| shape!(Name { name: p.kind })));
                Piece::rows().select(|p| shape!(Name { name: p.kind })).except(Piece::rows().filter(|p| p.grams.gt(1)).select(|p| shape!(Name { name: p.kind })));
                nepheline::from(Piece::rows().select(|p| shape!(Name { name: p.kind })).distinct());
                nepheline::from(Piece::rows().order_by(|p| p.id.asc()).limit(3)).select(|p| p.kind).distinct();
                Piece::rows().join(|p| Piece::rows().filter(|o| o.grams.eq(p.grams) & o.id.gt(p.id))).select(|(p, _)| p.kind).distinct();
                Piece::rows().left_join(|p| Piece::rows().filter(|o| o.id.eq(p.id + 5))).select(|(p, _)| p.tray).distinct();
                Piece::rows().left_join(|p| Piece::rows().filter(|o| o.id.eq(p.id + 5)));
                nepheline::cte(Piece::rows().select(|p| shape!(Name { name: p.kind }))).rows().distinct();
            }
        }
    }
}
