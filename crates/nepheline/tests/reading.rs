//! Queries run on every engine: the answers, and the errors.

#![allow(dead_code, clippy::unwrap_used, clippy::print_stdout, reason = "tests")]

mod support;

use std::collections::HashSet;
use std::error::Error as _;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::prelude::*;
use nepheline_coreshed::scopes::{deeper_than, overdue, unassigned};
use nepheline_coreshed::{Analyst, Assay, Borehole, Lab, Rock, Site, Specimen, SpecimenHazard};
use rusqlite::Connection;

/// Runs a check over the demo data on every engine.
fn on_each_engine(check: impl Fn(&Database)) {
    for engine in support::engines() {
        println!("on {}", engine.name);
        check(&engine.demo());
    }
}

fn labels(specimens: Vec<Specimen>) -> Vec<String> {
    specimens.into_iter().map(|s| s.label).collect()
}

#[test]
fn every_verb_reads_what_the_query_says() {
    on_each_engine(|db| {
        let deepest = Specimen::rows().order_by(|s| (s.top_m.desc(), s.id.asc()));

        let all = db.read(&deepest).unwrap();
        assert_eq!(all.len(), 600);
        assert!(all.is_sorted_by(|a, b| a.top_m >= b.top_m));
        assert_eq!(db.read_first(&deepest).unwrap().as_ref(), all.first());
        assert_eq!(db.read(&deepest.clone().limit(5).offset(5)).unwrap(), all[5..10]);
        assert_eq!(db.read(&deepest.clone().limit(10_000)).unwrap().len(), 600, "what there is");
        assert_eq!(
            db.read(&deepest.clone().limit(u64::MAX).offset(598))
                .unwrap(),
            all[598..]
        );
        assert_eq!(db.read(&deepest.clone().limit(0)).unwrap(), []);

        assert_eq!(db.count(&deepest).unwrap(), 600);
        assert_eq!(db.count(&deepest.clone().limit(7)).unwrap(), 7);
        assert_eq!(db.count(&deepest.clone().offset(590)).unwrap(), 10);
        assert_eq!(db.count(&deepest.clone().limit(20).offset(590)).unwrap(), 10);
        assert!(db.exists(&deepest).unwrap());
        assert!(!db.exists(&deepest.clone().offset(600)).unwrap());
        assert!(!db.exists(&deepest.filter(|s| s.top_m.lt(-1))).unwrap());

        assert_eq!(db.read_one(&Specimen::row(42)).unwrap().label, "O'Brien's piece");
        assert_eq!(db.read_one(&Specimen::row_by_label("100%")).unwrap().id, 17);
        assert_eq!(db.read_at_most_one(&Specimen::row(9999)).unwrap(), None);
        assert_eq!(
            db.read_one(&SpecimenHazard::row((15, 1)))
                .unwrap()
                .hazard_id,
            1
        );
    });
}

/// Everything that can be asked so far, against the same question asked of the rows in Rust.
#[test]
fn conditions_mean_in_sql_what_they_say_in_rust() {
    type Case = (&'static str, Query<Specimen>, fn(&Specimen) -> bool);
    let cases: [Case; 16] = [
        ("eq", Specimen::rows().filter(|s| s.rock.eq(Rock::Basalt)), |s| s.rock == Rock::Basalt),
        ("ne", Specimen::rows().filter(|s| s.rock.ne(Rock::Basalt)), |s| s.rock != Rock::Basalt),
        ("ne NULL", Specimen::rows().filter(|s| s.analyst_id.ne(3)), |s| {
            s.analyst_id.is_some_and(|id| id != 3)
        }),
        ("lt", Specimen::rows().filter(|s| s.top_m.lt(100)), |s| s.top_m < 100.0),
        ("le", Specimen::rows().filter(|s| s.top_m.le(s.base_m)), |s| s.top_m <= s.base_m),
        ("ge", Specimen::rows().filter(|s| s.top_m.ge(s.base_m)), |s| s.top_m >= s.base_m),
        ("text", Specimen::rows().filter(|s| s.label.gt("kp")), |s| s.label.as_str() > "kp"),
        ("text is not folded", Specimen::rows().filter(|s| s.label.eq("KP-041")), |s| {
            s.label == "KP-041"
        }),
        ("like", Specimen::rows().filter(|s| s.label.like("KP-_4%")), |s| {
            s.label.starts_with("KP-") && s.label.chars().nth(4) == Some('4')
        }),
        ("like is not folded", Specimen::rows().filter(|s| s.label.like("kp%")), |s| {
            s.label.starts_with("kp")
        }),
        (
            "like with GLOB's own wildcards",
            Specimen::rows().filter(|s| s.label.like("*[K]?%")),
            |_| false,
        ),
        ("one_of", Specimen::rows().filter(|s| s.analyst_id.one_of([Some(2), None])), |s| {
            matches!(s.analyst_id, Some(2) | None)
        }),
        ("none_of", Specimen::rows().filter(|s| s.analyst_id.none_of([2, 3])), |s| {
            !matches!(s.analyst_id, Some(2 | 3))
        }),
        (
            "empty lists",
            Specimen::rows().filter(|s| !s.id.one_of([0; 0]) & s.id.none_of([0; 0])),
            |_| true,
        ),
        ("or, not", Specimen::rows().filter(deeper_than(50.0).negated().or(unassigned)), |s| {
            s.top_m <= 50.0 || s.analyst_id.is_none()
        }),
        (
            "timestamps",
            Specimen::rows().filter(|s| {
                s.withdrawn_at
                    .gt("2020-01-01T00:00:00Z".parse::<Timestamp>().unwrap())
            }),
            |s| {
                s.withdrawn_at
                    .is_some_and(|at| at > "2020-01-01T00:00:00Z".parse().unwrap())
            },
        ),
    ];
    on_each_engine(|db| {
        let all = db.read(&Specimen::rows().order_by(|s| s.id.asc())).unwrap();
        for (name, query, holds) in &cases {
            let found = db.read(&query.clone().order_by(|s| s.id.asc())).unwrap();
            let expected: Vec<_> = all.iter().filter(|s| holds(s)).cloned().collect();
            assert_eq!(labels(found), labels(expected), "{name}");
        }
    });
}

#[test]
fn awkward_rows_of_the_demo_arrive_unchanged() {
    on_each_engine(|db| {
        for label in
            ["100%", "100_", "O'Brien's piece", r#"the "good" one"#, "岩芯-78", "back\\slash"]
        {
            assert_eq!(db.read_one(&Specimen::row_by_label(label)).unwrap().label, label);
        }
        assert_eq!(
            db.count(&Analyst::rows().filter(|a| a.name.eq("Robin Hale")))
                .unwrap(),
            2
        );
        assert!(
            db.exists(&Borehole::rows().filter(|b| b.rig.eq("")))
                .unwrap()
        );
        let cut = db.read_one(&Specimen::row(200)).unwrap();
        assert_eq!(cut.top_m, cut.base_m);
        let late = Assay::rows().filter(overdue("2026-06-15".parse().unwrap()));
        assert!(db.count(&late).unwrap() > 20);
    });
}

#[test]
fn rows_are_ordered_by_code_point_with_nulls_last() {
    on_each_engine(|db| {
        let by_label = labels(
            db.read(&Specimen::rows().order_by(|s| s.label.asc()))
                .unwrap(),
        );
        assert!(by_label.is_sorted());
        let closed = |query| -> Vec<bool> {
            db.read(&query)
                .unwrap()
                .iter()
                .map(|site: &Site| site.closed_on.is_some())
                .collect()
        };
        assert!(closed(Site::rows().order_by(|s| s.closed_on.asc())).is_sorted_by(|a, b| a >= b));
        assert!(closed(Site::rows().order_by(|s| s.closed_on.desc())).is_sorted_by(|a, b| a >= b));
        let first = Site::rows().order_by(|s| s.closed_on.desc().nulls_first());
        assert!(closed(first).is_sorted_by(|a, b| a <= b));
    });
}

#[test]
fn any_number_of_conditions_runs() {
    on_each_engine(|db| {
        let many = (0..10_000).fold(Specimen::rows(), |query, i| query.filter(|s| s.id.ne(i)));
        assert_eq!(db.count(&many).unwrap(), 0);
    });
}

#[test]
fn a_query_has_few_texts_for_lists_of_any_length() {
    on_each_engine(|db| {
        let all = db.read(&Specimen::rows().order_by(|s| s.id.asc())).unwrap();
        let mut texts = HashSet::new();
        for length in [0, 1, 2, 4, 5, 16, 17, 32, 33, 64, 65, 200, 1_000_000] {
            let ids = 1..=length;
            let labels = all
                .iter()
                .take(ids.clone().count())
                .map(|s| s.label.clone());
            let labels: Vec<_> = labels.collect();
            let days: HashSet<_> = all.iter().take(labels.len()).map(|s| s.taken_on).collect();
            let on_days = all.iter().filter(|s| days.contains(&s.taken_on)).count();
            let of_nobody = all.iter().filter(|s| s.analyst_id.is_none()).count();
            let count = |query: &Query<Specimen>| db.count(query).unwrap() as usize;

            let by_id = Specimen::rows().filter(|s| s.id.one_of(ids.clone()));
            assert_eq!(count(&by_id), labels.len());
            texts.insert(by_id.sql(db.dialect()).unwrap().text().to_owned());
            let by_label = Specimen::rows().filter(|s| s.label.one_of(labels.clone()));
            assert_eq!(count(&by_label), labels.len());
            let by_day = Specimen::rows().filter(|s| s.taken_on.one_of(days));
            assert_eq!(count(&by_day), on_days);
            let others = Specimen::rows().filter(|s| s.label.none_of(labels.clone()));
            assert_eq!(count(&others), 600 - labels.len());
            // The shorter of two lists is written for the length of the longer one.
            let both =
                Specimen::rows().filter(|s| s.id.one_of([1, 600]) | s.label.one_of(labels.clone()));
            let first = usize::from(labels.is_empty());
            assert_eq!(count(&both), labels.len() + first + usize::from(labels.len() < 600));
            let none =
                Specimen::rows().filter(|s| s.id.one_of([-1]) & s.label.one_of(labels.clone()));
            assert_eq!(
                db.write(&none.clone().update(|s| s.top_m.set(0.0)))
                    .unwrap(),
                0
            );
            assert_eq!(db.write(&none.delete()).unwrap(), 0);
            // NULL is in no list, and out of each.
            let theirs =
                Specimen::rows().filter(|s| s.analyst_id.one_of(ids.clone().map(|id| id + 100)));
            assert_eq!(count(&theirs), 0);
            let not_theirs = Specimen::rows().filter(|s| s.analyst_id.none_of(ids.clone()));
            assert!(count(&not_theirs) >= of_nobody);
        }
        assert!(texts.len() <= 5, "{texts:?}");
    });
}

/// One row of every type, `n` of each narrower than what the column holds.
#[derive(Debug, Table)]
struct Reading {
    #[nepheline(key)]
    id: i64,
    small: i16,
    ratio: f64,
    good: bool,
    taken_on: Date,
    taken_at: Option<Timestamp>,
    rock: Rock,
}

fn reading(values: &str) -> Result<Vec<Reading>, Error> {
    let connection = Connection::open_in_memory().unwrap();
    // Columns without a type, so that every value goes in as it is.
    connection
        .execute_batch("CREATE TABLE reading (id, small, ratio, good, taken_on, taken_at, rock)")
        .unwrap();
    let good = "(1, 7, 1.5, 1, '2026-01-31', NULL, 'basalt')";
    connection
        .execute_batch(&format!("INSERT INTO reading VALUES {good}, {values}"))
        .unwrap();
    Database::over(connection).unwrap().read(&Reading::rows())
}

#[test]
fn every_row_is_checked_on_arrival() {
    let cases = [
        "('x', 7, 1.5, 1, '2026-01-31', NULL, 'basalt')",
        "(2, 40000, 1.5, 1, '2026-01-31', NULL, 'basalt')",
        "(2, NULL, 1.5, 1, '2026-01-31', NULL, 'basalt')",
        "(2, 7.5, 1.5, 1, '2026-01-31', NULL, 'basalt')",
        "(2, 7, 9007199254740993, 1, '2026-01-31', NULL, 'basalt')",
        "(2, 7, 1.5, 2, '2026-01-31', NULL, 'basalt')",
        "(2, 7, 1.5, 1, '2026-02-30', NULL, 'basalt')",
        "(2, 7, 1.5, 1, '2026-01-31', '2026-01-31T10:00:00Z', 'basalt')",
        "(2, 7, 1.5, 1, '2026-01-31', NULL, 'Basalt')",
        "(2, 7, 1.5, 1, '2026-01-31', NULL, x'00ff')",
    ];
    let mut seen = String::new();
    for case in cases {
        let err = reading(case).unwrap_err();
        assert_eq!((err.kind(), err.row()), (ErrorKind::Mismatch, Some(2)));
        seen += &format!("{err}\n");
    }
    insta::with_settings!({filters => vec![(r"asked for at \S+:\d+", "asked for at N")]}, {
        insta::assert_snapshot!(seen);
    });
    let whole =
        reading("(2, 7, 3, 0, '2026-01-31', '2026-01-31T10:00:00.000000Z', 'gneiss')").unwrap();
    assert_eq!((whole[1].ratio, whole[1].good), (3.0, false), "a whole number is a float too");
}

#[test]
fn failures_say_what_and_where() {
    let db = nepheline_coreshed::in_memory().unwrap();
    let missing_table = {
        #[derive(Debug, Table)]
        #[nepheline(table = "thin_section")]
        struct ThinSection {
            id: i64,
        }
        db.read(&ThinSection::rows()).map(drop)
    };
    let missing_column = {
        #[derive(Debug, Table)]
        #[nepheline(table = "lab")]
        struct Lab {
            id: i64,
            phone: String,
        }
        db.read(&Lab::rows()).map(drop)
    };
    let outcomes = [
        db.read_one(&Specimen::row(9999)).map(drop),
        db.read_one(&SpecimenHazard::row((1, 77))).map(drop),
        db.read_one(&Specimen::row_by_label("it's not there"))
            .map(drop),
        db.read_one(&Lab::rows().filter(|l| l.country.eq("Nowhere")))
            .map(drop),
        db.read_one(&Lab::rows()).map(drop),
        db.read_at_most_one(&Lab::rows().filter(|l| l.country.eq("Norland")))
            .map(drop),
        missing_table,
        missing_column,
        Database::open("sqlite:there/is/no/such.db").map(drop),
        Database::open("sqlite:core.db?mode=fast").map(drop),
        Database::open("core.db").map(drop),
    ];
    let seen = outcomes.map(|outcome| {
        let err = outcome.unwrap_err();
        format!("{:?}: {err:#}", err.kind())
    });
    insta::with_settings!({filters => vec![(r"asked for at \S+:\d+", "asked for at N")]}, {
        insta::assert_snapshot!(seen.join("\n"));
    });
}

#[test]
fn a_locked_database_is_an_error_of_its_own() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("locked.db");
    let url = format!("sqlite:{}?mode=rwc&lock_timeout=200ms", path.display());
    let db = Database::open(&url).unwrap();
    nepheline_coreshed::load(&db).unwrap();
    let writer = Connection::open(&path).unwrap();
    writer.execute_batch("BEGIN EXCLUSIVE").unwrap();

    let started = std::time::Instant::now();
    let err = db.read(&Site::rows()).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::Locked);
    assert!(started.elapsed().as_millis() >= 200, "it waits for the lock first");
    assert!(err.source().unwrap().to_string().contains("locked"));
    assert!(err.sql().unwrap().starts_with("SELECT "));
    assert_eq!(err.origin().unwrap().file(), file!());

    writer.execute_batch("COMMIT").unwrap();
    assert_eq!(db.count(&Site::rows()).unwrap(), 10, "and the handle works again");
}

#[test]
fn a_file_is_opened_as_its_url_says() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("core.db");
    let url = |mode: &str| format!("sqlite:{}{mode}", path.display());
    assert_eq!(Database::open(&url("")).unwrap_err().kind(), ErrorKind::Connection);
    assert!(!path.exists(), "nothing is made by the failure");
    nepheline_coreshed::load(&Database::open(&url("?mode=rwc")).unwrap()).unwrap();
    for mode in ["", "?mode=ro", "?mode=rw"] {
        assert_eq!(
            Database::open(&url(mode))
                .unwrap()
                .count(&Lab::rows())
                .unwrap(),
            5
        );
    }
    assert!(
        Database::open("sqlite::memory:")
            .unwrap()
            .count(&Lab::rows())
            .is_err(),
        "it is empty"
    );
}

#[test]
fn threads_may_share_a_handle_and_functions_may_take_any() {
    on_each_engine(|db| {
        fn labs(db: &impl RunsQueries) -> u64 {
            db.count(&Lab::rows()).unwrap()
        }
        std::thread::scope(|scope| {
            let counts: Vec<_> = (0..4).map(|_| scope.spawn(|| labs(db))).collect();
            assert!(counts.into_iter().all(|count| count.join().unwrap() == 5));
        });
    });
}
