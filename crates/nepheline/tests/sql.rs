//! The SQL of queries, in every dialect, beside its binds.

#![allow(dead_code, clippy::unwrap_used, reason = "tests")]

use nepheline::prelude::*;
use nepheline_coreshed::scopes::{deeper_than, overdue, unassigned};
use nepheline_coreshed::{Assay, Lab, Rock, Site, Specimen, SpecimenHazard};

/// The SQL of a query in each dialect, one clause a line.
fn in_all_dialects<T: Table>(query: &Query<T>) -> String {
    let each = Dialect::ALL.map(|dialect| match query.sql(dialect) {
        Ok(sql) => format!("-- {dialect}\n{}\n", sql.by_clause()),
        Err(err) => format!("-- {dialect}\n{err}\n"),
    });
    // The tests are about conditions: the list of columns says nothing new.
    let lines = each.concat();
    let shortened = lines.lines().map(|line| match line.starts_with("SELECT ") {
        true => line.split_once(", ").map_or(line, |(first, _)| first),
        false => line,
    });
    shortened.collect::<Vec<_>>().join("\n")
}

#[test]
fn five_clauses() {
    let query = Specimen::rows()
        .filter(unassigned)
        .filter(deeper_than(50.0))
        .filter(|s| s.rock.ne(Rock::Schist) & s.label.like("KP-%"))
        .order_by(|s| (s.taken_on.desc(), s.label.asc()))
        .limit(20)
        .offset(40);
    insta::assert_snapshot!(in_all_dialects(&query));
}

#[test]
fn text_is_compared_by_code_point_unless_the_column_is_declared_so() {
    #[derive(Debug, Table)]
    struct Note {
        #[nepheline(key)]
        id: i64,
        body: String,
        #[nepheline(by_code_point)]
        code: String,
    }
    let query = Note::rows()
        .filter(|n| n.body.eq("Ore") & n.body.ge("a") & n.body.like("50!%_") & n.body.eq(n.code))
        .filter(|n| n.code.eq("Ore") & n.code.ge("a") & n.code.one_of(["x"]))
        .filter(|n| n.body.one_of(["x", "y"]))
        .order_by(|n| (n.body.desc(), n.code.asc(), n.id.asc()));
    insta::assert_snapshot!(in_all_dialects(&query));
}

#[test]
fn lists_are_one_bind_or_two_where_items_may_be_null() {
    let query = Specimen::rows()
        .filter(|s| s.analyst_id.one_of([1, 4]))
        .filter(|s| s.analyst_id.one_of([Some(1), None]))
        .filter(|s| s.analyst_id.none_of([2]))
        .filter(|s| !s.label.one_of(["KP-001"]))
        .filter(|s| s.taken_on.one_of(Vec::<Date>::new()));
    insta::assert_snapshot!(in_all_dialects(&query));

    let text = |keys: Vec<i64>| {
        Dialect::ALL.map(|dialect| {
            let query = Specimen::rows().filter(|s| s.id.one_of(&keys));
            query.sql(dialect).unwrap().text().to_owned()
        })
    };
    assert_eq!(text(vec![]), text((0..10_000).collect()), "the text does not depend on the length");
}

#[test]
fn nulls_are_ordered_last_unless_said_otherwise() {
    let query = Specimen::rows()
        .order_by(|s| (s.analyst_id.asc(), s.withdrawn_at.desc()))
        .order_by(|s| (s.analyst_id.asc().nulls_first(), s.withdrawn_at.desc().nulls_first()))
        // A column that is never NULL needs no word about it.
        .order_by(|s| s.top_m.asc().nulls_first());
    insta::assert_snapshot!(in_all_dialects(&query));
}

#[test]
fn conditions_are_bracketed_where_they_must_be() {
    let query = Specimen::rows()
        .filter(|s| s.id.lt(1) | s.id.gt(2) & (s.id.ne(3) | !(s.id.eq(4) & s.id.eq(5))))
        .filter(|s| s.analyst_id.is_not_null() & !s.parent_id.is_null())
        .filter(|s| !!s.id.le(6));
    insta::assert_snapshot!(in_all_dialects(&query));
}

#[test]
fn an_absent_condition_is_none_at_all() {
    let nothing: Option<Condition> = None;
    let all = Specimen::rows().filter(|_| None::<Condition>);
    assert!(
        all.sql(Dialect::Sqlite)
            .unwrap()
            .text()
            .ends_with(r#"FROM "specimen""#)
    );

    let sides = Specimen::rows()
        .filter(|s| nothing.clone() & s.id.eq(1))
        .filter(|s| s.id.eq(2) | nothing.clone());
    let text = sides.sql(Dialect::Postgres).unwrap().text().to_owned();
    assert!(text.ends_with(r#"WHERE "specimen"."id" = $1 AND "specimen"."id" = $2"#), "{text}");
}

#[test]
fn the_order_of_calls_does_not_matter() {
    let one = Lab::rows()
        .limit(5)
        .offset(2)
        .order_by(|l| l.name.asc())
        .filter(|l| l.accredited)
        .limit(9)
        .offset(1);
    let other = Lab::rows()
        .offset(1)
        .filter(|l| l.accredited)
        .limit(9)
        .offset(2)
        .order_by(|l| l.name.asc())
        .limit(5);
    for dialect in Dialect::ALL {
        let [one, other] = [&one, &other].map(|query| query.sql(dialect).unwrap().to_string());
        assert_eq!(one, other);
    }
    insta::assert_snapshot!(in_all_dialects(&one));
}

#[test]
fn counting_and_looking_for_rows() {
    let query = Lab::rows()
        .filter(|l| l.country.eq("Norland"))
        .order_by(|l| l.name.asc());
    let page = query.clone().offset(3);
    let mut seen = String::new();
    for dialect in Dialect::ALL {
        for sql in [
            query.count_sql(dialect),
            page.count_sql(dialect),
            query.exists_sql(dialect),
            page.exists_sql(dialect),
        ] {
            seen += &format!("{}\n", sql.unwrap().text());
        }
    }
    insta::assert_snapshot!(seen);
}

#[test]
fn rows_by_key_and_by_unique_column() {
    let by_key = SpecimenHazard::row((7, 2)).sql(Dialect::Postgres).unwrap();
    let by_label = Specimen::row_by_label("KP-041")
        .sql(Dialect::Sqlite)
        .unwrap();
    insta::assert_snapshot!(format!("{by_key}\n\n{}", by_label.by_clause()));
}

#[test]
fn every_clause_names_the_line_that_asked_for_it() {
    let line = line!();
    let query = Assay::rows()
        .filter(overdue("2026-06-15".parse().unwrap()))
        .filter(|a| a.ppm.gt(10))
        .order_by(|a| a.due_on.asc())
        .limit(3);
    let sql = query.sql(Dialect::Sqlite).unwrap();
    let lines: Vec<_> = sql
        .clauses()
        .map(|(_, origin)| origin.line() - line)
        .collect();
    // SELECT, FROM, the two conditions of one filter as one clause, the other, ORDER BY, LIMIT.
    assert_eq!(lines, [1, 1, 2, 3, 4, 5]);
    assert!(sql.clauses().all(|(_, origin)| origin.file() == file!()));
    let joined: Vec<_> = sql.clauses().map(|(clause, _)| clause).collect();
    assert_eq!(joined.join(" "), sql.text());

    let printed = sql.with_origins().to_string();
    insta::with_settings!({filters => vec![(r"@ .*sql\.rs:\d+", "@ sql.rs:N")]}, {
        insta::assert_snapshot!(printed);
    });
}

#[test]
fn long_values_are_cut_when_printed_and_stay_on_their_line() {
    let query = Specimen::rows()
        .filter(|s| s.label.eq("ø".repeat(500_000)))
        .filter(|s| s.label.ne("a\n'b'"))
        .filter(|s| s.id.one_of(0..1_000_000_i64));
    insta::assert_snapshot!(query.sql(Dialect::Postgres).unwrap().by_clause());
}

#[test]
fn what_no_database_should_be_sent_is_refused() {
    #[derive(Debug, Table)]
    struct Sample {
        #[nepheline(key)]
        id: i64,
        grade: f64,
        notes: Json,
        taken_at: Option<Timestamp>,
    }
    let long_ago = Timestamp::from_second(-62_135_596_801).unwrap();
    let queries = [
        Sample::rows().filter(|s| s.grade.lt(f64::NAN)),
        Sample::rows().filter(|s| s.grade.one_of([1.0, f64::NAN])),
        Sample::rows().filter(|s| s.grade.lt(f64::INFINITY)),
        Sample::rows().filter(|s| s.taken_at.gt(long_ago)),
        Sample::rows().filter(|s| s.notes.eq(Json::Null)),
    ];
    let mut seen = String::new();
    for query in queries {
        for dialect in Dialect::ALL {
            let outcome = match query.sql(dialect) {
                Ok(_) => "compiles".to_owned(),
                Err(err) => format!("{:?}: {err}", err.kind()),
            };
            seen += &format!("{dialect}: {outcome}\n");
        }
    }
    insta::with_settings!({filters => vec![(r"asked for at \S+:\d+", "asked for at N")]}, {
        insta::assert_snapshot!(seen);
    });
}

#[test]
fn a_tree_that_is_too_deep_is_an_error_and_a_long_one_is_not() {
    let deep = Site::rows().filter(|s| {
        let mut condition = s.id.eq(0);
        for i in 0..100_000 {
            condition = !(condition & s.id.eq(i)) | s.id.eq(i);
        }
        condition
    });
    let err = deep.sql(Dialect::Sqlite).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::TooDeep);
    assert_eq!(err.origin().unwrap().file(), file!());

    let long = Site::rows().filter(|s| {
        let left = (1..5_000).fold(s.id.eq(0), |all, i| all | s.id.eq(i));
        let right = (1..5_000).fold(s.id.eq(0), |all, i| s.id.eq(i) | all);
        left | right
    });
    for dialect in Dialect::ALL {
        assert_eq!(long.sql(dialect).unwrap().binds().len(), 10_000);
    }
}

#[test]
fn a_column_of_another_query_is_refused() {
    let mut stolen = None;
    let _ = Site::rows().filter(|s| {
        stolen = Some(s.region);
        None::<Condition>
    });
    let err = Lab::rows()
        .filter(|l| l.country.eq(stolen.unwrap()))
        .sql(Dialect::Sqlite)
        .unwrap_err();
    assert_eq!(err.kind(), ErrorKind::ColumnNotInQuery);
    assert!(
        err.to_string()
            .starts_with("column `region` belongs to a query over `site`"),
        "{err}"
    );
}

#[test]
fn a_query_is_a_value() {
    fn sendable<T: Send + Sync + Clone>(value: T) -> T {
        value
    }
    let base = sendable(Specimen::rows().filter(unassigned));
    let deep = base.clone().filter(deeper_than(500.0));
    let text = |query: &Query<Specimen>| query.sql(Dialect::Sqlite).unwrap().text().to_owned();
    let in_thread = std::thread::spawn({
        let base = base.clone();
        move || base.sql(Dialect::Sqlite).unwrap().text().to_owned()
    });
    assert_eq!(in_thread.join().unwrap(), text(&base));
    assert_ne!(text(&base), text(&deep), "the base is not changed by what is made of it");
}
