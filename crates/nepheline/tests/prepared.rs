//! Prepared queries: built once, run with the values of each run, under the policies of each caller.

#![allow(clippy::unwrap_used, reason = "tests")]

mod support;

use std::collections::BTreeSet;
use std::fmt::Debug;
use std::sync::LazyLock;
use std::thread;

use nepheline::blocking::{Database, RunsQueries};
use nepheline::bounds::Operand;
use nepheline::prelude::*;
use nepheline::{
    Alongside, Assignment, BindParameters, MappedRows, Paging, Prepared, Readable, RowsBeside,
    StatementLog, Update,
};
use nepheline_coreshed::{Assay, Borehole, InvoiceLine, Rock, Site, Specimen};
use support::shed::sheds;

/// Compares what both queries read, and returns the SQL that ran for the prepared one.
fn same<Q, B>(db: &Database, what: &str, prepared: &Q, built: &B) -> Vec<String>
where
    Q: Readable<Row = B::Row>,
    B: Readable<Row: Debug + PartialEq>,
{
    let log = StatementLog::new();
    let read = db.logging_to(&log).read(prepared).unwrap();
    assert_eq!(read, db.read(built).unwrap(), "{what}");
    assert_eq!(db.count(prepared).unwrap(), db.count(built).unwrap(), "{what}");
    assert_eq!(db.exists(prepared).unwrap(), !read.is_empty(), "{what}");
    assert_eq!(db.read_first(prepared).unwrap().as_ref(), read.first(), "{what}");
    log.all()
        .iter()
        .map(|logged| logged.sql().to_owned())
        .collect()
}

fn distinct_texts(log: &StatementLog) -> BTreeSet<String> {
    log.all()
        .iter()
        .map(|logged| logged.sql().to_owned())
        .collect()
}

#[derive(Debug, Clone, BindParameters)]
struct Wanted {
    metres: f64,
    rocks: Vec<Rock>,
    ids: Vec<i64>,
    analyst: Option<i64>,
    begins: String,
    rows: u32,
}

fn wanted(p: WantedParameters) -> Query<Specimen> {
    Specimen::rows()
        .filter(|s| s.top_m.gt(p.metres) & s.rock.one_of(p.rocks) & s.id.none_of(p.ids))
        .filter(|s| s.analyst_id.is_distinct_from(p.analyst) | s.label.ge(p.begins))
        .filter(|s| s.assays().any(|a| a.ppm.gt(p.metres / 2.0)))
        .order_by(|s| s.id.asc())
        .limit(p.rows)
}

fn built(w: &Wanted) -> Query<Specimen> {
    let Wanted { metres, rocks, ids, analyst, begins, rows } = w.clone();
    Specimen::rows()
        .filter(|s| s.top_m.gt(metres) & s.rock.one_of(rocks) & s.id.none_of(ids))
        .filter(|s| s.analyst_id.is_distinct_from(analyst) | s.label.ge(begins))
        .filter(|s| s.assays().any(|a| a.ppm.gt(bind(metres) / 2.0)))
        .order_by(|s| s.id.asc())
        .limit(u64::from(rows))
}

#[test]
fn a_prepared_query_reads_what_the_built_one_reads() {
    static WANTED: LazyLock<Prepared<Wanted, Query<Specimen>>> =
        LazyLock::new(|| Wanted::prepare(wanted));
    let rocks = [Rock::Basalt, Rock::Granite, Rock::Gneiss, Rock::NephelineSyenite];
    for (engine, db) in sheds() {
        let mut texts = Vec::new();
        for length in [0_i64, 1, 3, 5, 40, 100, 3] {
            for (analyst, rows) in [(Some(2), 7), (None, 2)] {
                let values = Wanted {
                    metres: 20.0 + length as f64,
                    rocks: rocks[..rocks.len().min(1 + length.unsigned_abs() as usize)].to_vec(),
                    ids: (1..=length).collect(),
                    analyst,
                    begins: "M".to_owned(),
                    rows,
                };
                let what = format!("on {}: {values:?}", engine.name);
                let query = WANTED.bind(values.clone());
                texts.extend(same(db, &what, &query, &built(&values)));
                // The pages of a query with a limit end where it does.
                for (number, size) in [(1, 1), (2, 2), (3, 3), (9, 1)] {
                    let paging = Paging::page_size(size).page(number);
                    assert_eq!(
                        db.read_page(&query, paging).unwrap().into_rows(),
                        db.read_page(&built(&values), paging).unwrap().into_rows(),
                        "{what}: {paging:?}"
                    );
                }
            }
        }
        texts.sort();
        texts.dedup();
        assert!(texts.len() <= 6, "on {}: {texts:#?}", engine.name);
        let skipped = <(u32, u32)>::prepare(|(rows, after)| {
            let all = Specimen::rows().order_by(|s| s.id.asc());
            all.limit(rows).offset(after)
        });
        let log = StatementLog::new();
        for (rows, after, number, size) in [(7, 2, 2, 3), (7, 2, 3, 3), (5, 0, 1, 9), (2, 3, 4, 1)]
        {
            let paging = Paging::page_size(size).page(number);
            let all = Specimen::rows().order_by(|s| s.id.asc());
            let built = all.limit(u64::from(rows)).offset(u64::from(after));
            let query = skipped.bind((rows, after));
            assert_eq!(
                db.logging_to(&log)
                    .read_page(&query, paging)
                    .unwrap()
                    .into_rows(),
                db.read_page(&built, paging).unwrap().into_rows(),
                "{rows} after {after} on {}: {paging:?}",
                engine.name
            );
        }
        assert!(distinct_texts(&log).len() <= 3, "on {}: {log:?}", engine.name);
    }
}

#[test]
fn companions_totals_sets_cursors_and_writes_have_parameters_too() {
    let companions = <(f64, f64, i64)>::prepare(|(deep, ppm, id)| {
        Borehole::rows()
            .filter(|b| b.depth_m.gt(deep) | b.id.eq(id))
            .order_by(|b| b.id.asc())
            .alongside(|b| b.specimens().filter(|s| s.assays().any(|a| a.ppm.gt(ppm))))
            .map_rows(|(b, specimens)| (b.name, specimens.len()))
    });
    let totals = <(f64, i64)>::prepare(|(metres, least)| {
        Specimen::rows()
            .filter(|s| s.top_m.gt(metres))
            .select(|s| (per(s.rock), count(), sum(s.base_m - metres)))
            .having(|_| count().ge(Expr::from(least).per_group()))
            .order_by_selected(|(rock, ..)| rock.asc())
    });
    let sets = <(i64, i64)>::prepare(|(one, other)| {
        let of = |id| Specimen::rows().filter(move |s| s.borehole_id.eq(id));
        of(one).union_all(of(other)).order_by(|s| s.id.asc())
    });
    let moved = <(i64, f64, Option<i64>)>::prepare(|(id, metres, analyst)| {
        Specimen::row(id).update(|s| {
            (
                s.top_m.set(s.top_m + metres),
                s.base_m.set(s.base_m + metres),
                s.analyst_id.set_maybe(analyst),
            )
        })
    });
    let removed =
        <(Vec<u8>, f64)>::prepare(|(_, ppm)| Assay::rows().filter(|a| a.ppm.gt(ppm)).delete());
    for (engine, db) in sheds() {
        let mut companion_texts = BTreeSet::new();
        for values in [(700.0, 900.0, 3), (100.0, 10.0, 1), (700.0, 900.0, 4)] {
            let (deep, ppm, id) = values;
            let built = Borehole::rows()
                .filter(|b| b.depth_m.gt(deep) | b.id.eq(id))
                .order_by(|b| b.id.asc())
                .alongside(|b| b.specimens().filter(|s| s.assays().any(|a| a.ppm.gt(ppm))))
                .map_rows(|(b, specimens)| (b.name, specimens.len()));
            let texts = same(db, engine.name, &companions.bind(values), &built);
            companion_texts.extend(texts.into_iter().filter(|text| text.contains("assay")));
        }
        // One for many rows, and one for the first.
        assert!(companion_texts.len() <= 2, "on {}: {companion_texts:#?}", engine.name);
        for (metres, least) in [(20.0, 1), (300.0, 3)] {
            let built = Specimen::rows()
                .filter(|s| s.top_m.gt(metres))
                .select(|s| (per(s.rock), count(), sum(s.base_m - metres)))
                .having(|_| count().ge(least))
                .order_by_selected(|(rock, ..)| rock.asc());
            same(db, engine.name, &totals.bind((metres, least)), &built);
        }
        let ids = |of: &[i64]| {
            let built = Specimen::rows().filter(|s| s.borehole_id.one_of(of.to_vec()));
            built.order_by(|s| s.id.asc())
        };
        same(db, engine.name, &sets.bind((3, 5)), &ids(&[3, 5]));
        let log = StatementLog::new();
        for (page, size) in [(1, 2), (2, 3), (1, 100), (3, 1)] {
            let paging = Paging::page_size(size).page(page);
            let read = db.logging_to(&log).read_page(&sets.bind((3, 5)), paging);
            let built = db.read_page(&ids(&[3, 5]), paging).unwrap();
            assert_eq!(read.unwrap().into_rows(), built.into_rows(), "on {}", engine.name);
        }
        let texts = distinct_texts(&log);
        assert_eq!(texts.len(), 2, "a count and a page on {}: {texts:#?}", engine.name);
        let cursor = db.read_after(&sets.bind((3, 5)), None, 2).unwrap();
        let rest = db
            .read_after(&sets.bind((3, 5)), cursor.after(), 100)
            .unwrap();
        let all = db.read(&ids(&[3, 5])).unwrap();
        assert_eq!([cursor.rows(), rest.rows()].concat(), all, "on {}", engine.name);
        let undone: Result<(), Error> = db.transaction(|tx| {
            let before = tx.read_one(&Specimen::row(7))?;
            assert_eq!(tx.write(&moved.bind((7, 1.5, None)))?, 1);
            assert_eq!(tx.write(&moved.bind((8, 0.5, Some(1))))?, 1);
            let after = tx.read_one(&Specimen::row(7))?;
            assert_eq!((after.top_m, after.analyst_id), (before.top_m + 1.5, None));
            assert_eq!(tx.read_one(&Specimen::row(8))?.analyst_id, Some(1));
            let many = tx.count(&Assay::rows().filter(|a| a.ppm.gt(990.0)))?;
            assert!(many > 0);
            assert_eq!(tx.write(&removed.bind((Vec::new(), 990.0)))?, many);
            Err(Error::closed())
        });
        assert_eq!(undone.unwrap_err().kind(), Error::closed().kind(), "on {}", engine.name);
    }
}

/// Reads all pages after one another, and back, and returns the rows of each.
fn pages<Q: Readable>(db: &Database, query: &Q, size: u32) -> Vec<Vec<Q::Row>> {
    let mut pages = Vec::new();
    let (mut next, mut last) = (None, None);
    loop {
        let page = db.read_after(query, next.as_ref(), size).unwrap();
        (next, last) = (page.after().cloned(), page.before().cloned().or(last));
        pages.push(page.into_rows());
        if next.is_none() {
            break;
        }
    }
    while let Some(before) = last {
        let page = db.read_before(query, Some(&before), size).unwrap();
        last = page.before().cloned();
        pages.push(page.into_rows());
    }
    pages
}

/// Specimens in an order with NULLs, with their assays.
fn by_analyst_of<M, N>(metres: M, most: N) -> Alongside<Specimen, Specimen, (RowsBeside<Assay>,)>
where
    M: Operand<f64> + Copy,
    N: Operand<i64>,
{
    Specimen::rows()
        .filter(|s| s.top_m.ge(metres) & s.assays().count().le(most))
        .order_by(|s| (s.analyst_id.desc().nulls_first(), s.rock.asc(), s.label.desc()))
        .alongside(|s| {
            s.assays()
                .filter(|a| a.ppm.gt(metres))
                .order_by(|a| a.id.asc())
        })
}

#[test]
fn pages_after_a_cursor_are_those_of_the_built_query() {
    let by_analyst = <(f64, i64)>::prepare(|(metres, most)| by_analyst_of(metres, most));
    let by_price = <(i64,)>::prepare(|(most,)| {
        let lines = InvoiceLine::rows().filter(|l| l.id.le(most));
        lines.order_by(|l| (l.unit_price.desc(), l.tax_rate.asc()))
    });
    let by_rock = <(f64,)>::prepare(|(metres,)| {
        Specimen::rows()
            .select(|s| (per(s.rock), count(), max(s.top_m)))
            .having(|s| max(s.top_m).gt(Expr::from(metres).per_group()))
            .order_by_selected(|(_, specimens, _)| specimens.desc())
    });
    for (engine, db) in sheds() {
        let mut texts = BTreeSet::new();
        for (metres, most, size) in [(0.0, 9, 4), (20.0, 2, 1), (0.0, 9, 3), (1e6, 1, 2)] {
            let log = StatementLog::new();
            let read = pages(&db.logging_to(&log), &by_analyst.bind((metres, most)), size);
            texts.extend(distinct_texts(&log));
            let built = by_analyst_of(metres, most);
            assert_eq!(read, pages(db, &built, size), "on {}", engine.name);
            // A cursor of one is a cursor of the other.
            let first = db.read_after(&built, None, size).unwrap();
            let rest = db
                .read_after(&by_analyst.bind((metres, most)), first.after(), 100)
                .unwrap();
            assert_eq!(rest.rows(), db.read_after(&built, first.after(), 100).unwrap().rows());
            let prices = by_price.bind((most,));
            let built = InvoiceLine::rows().filter(|l| l.id.le(most));
            let built = built.order_by(|l| (l.unit_price.desc(), l.tax_rate.asc()));
            assert_eq!(pages(db, &prices, size), pages(db, &built, size), "on {}", engine.name);
            let rocks = by_rock.bind((metres,));
            let built = Specimen::rows()
                .select(|s| (per(s.rock), count(), max(s.top_m)))
                .having(|s| max(s.top_m).gt(metres))
                .order_by_selected(|(_, specimens, _)| specimens.desc());
            assert_eq!(pages(db, &rocks, size), pages(db, &built, size), "on {}", engine.name);
        }
        // The first page, those after and before a row with an analyst or without, and the assays of one and of many.
        assert!(texts.len() <= 7, "on {}: {texts:#?}", engine.name);
    }
}

#[derive(Debug, BindParameters)]
struct Moves {
    ids: Vec<i64>,
    metres: f64,
    analyst: Option<i64>,
}

/// Each of a table's texts is asked for by several values, columns and verbs, in a changing order.
#[test]
fn writes_by_key_and_prepared_writes_change_what_a_model_changes() {
    let moved = Moves::prepare(|p| {
        Specimen::rows()
            .filter(|s| s.id.one_of(p.ids))
            .update(|s| (s.base_m.set(s.base_m + p.metres), s.analyst_id.set_maybe(p.analyst)))
    });
    let deleted = <(i64,)>::prepare(|(id,)| Assay::row(id).delete());
    for (engine, db) in sheds() {
        let log = StatementLog::new();
        let undone: Result<(), Error> = db.logging_to(&log).transaction(|tx| {
            let read = || tx.read(&Specimen::rows().order_by(|s| s.id.asc()));
            let mut model = read()?;
            let assays: Vec<i64> =
                tx.read(&Assay::rows().order_by(|a| a.id.asc()).select(|a| a.id))?;
            for turn in 0..60_usize {
                let metres = turn as f64 / 2.0;
                let place = turn * 7 % model.len();
                let one = Specimen::row(model[place].id);
                let (row, label) = (&mut model[place], format!("turn {turn}"));
                let written = match turn % 6 {
                    0 => {
                        row.label = label.clone();
                        tx.write(&one.update(|s| s.label.set(label)))?
                    }
                    1 => {
                        (row.label, row.top_m) = (label.clone(), -metres);
                        tx.write(&one.update(|s| (s.label.set(label), s.top_m.set(-metres))))?
                    }
                    2 => {
                        row.analyst_id = (turn % 4 == 0).then_some(1);
                        let analyst = row.analyst_id;
                        tx.write(&one.update(|s| s.analyst_id.set_maybe(analyst)))?
                    }
                    3 => {
                        row.top_m -= metres;
                        tx.write(&one.update(|s| s.top_m.set(s.top_m - metres)))?
                    }
                    4 => {
                        row.top_m = -metres;
                        let rows = tx.write_returning(&one.update(|s| s.top_m.set(-metres)))?;
                        assert_eq!(rows, std::slice::from_ref(row), "on {}", engine.name);
                        1
                    }
                    _ => {
                        let rows = &mut model[..turn % 5 * 9];
                        let analyst = (turn % 2 == 0).then_some(2);
                        for row in &mut *rows {
                            row.base_m += metres;
                            row.analyst_id = analyst;
                        }
                        let ids: Vec<i64> = rows.iter().map(|row| row.id).collect();
                        let written = tx.write(&moved.bind(Moves { ids, metres, analyst }))?;
                        assert_eq!(written, rows.len() as u64, "on {}", engine.name);
                        1
                    }
                };
                assert_eq!(written, 1, "on {}: turn {turn}", engine.name);
            }
            assert_eq!(read()?, model, "on {}", engine.name);
            let unknown = Specimen::row(-7);
            assert_eq!(tx.write(&unknown.update(|s| s.top_m.set(1.0)))?, 0);
            // A delete and an update without assignments have the same columns.
            assert_eq!(tx.write(&Assay::row(assays[0]).delete())?, 1, "on {}", engine.name);
            let nothing = Assay::row(assays[1]).update(|_| Vec::<Assignment>::new());
            assert_eq!(tx.write(&nothing).unwrap_err().kind(), ErrorKind::InvalidQuery);
            assert_eq!(tx.write(&deleted.bind((assays[1],)))?, 1, "on {}", engine.name);
            assert_eq!(tx.write(&deleted.bind((assays[1],)))?, 0, "on {}", engine.name);
            assert_eq!(tx.count(&Assay::rows())?, assays.len() as u64 - 2, "on {}", engine.name);
            let texts = distinct_texts(&log);
            // A list has up to five texts.
            assert!(texts.len() <= 18, "on {}: {texts:#?}", engine.name);
            Err(Error::closed())
        });
        assert_eq!(undone.unwrap_err().kind(), Error::closed().kind(), "on {}", engine.name);
    }
}

#[test]
fn values_that_decide_the_text_are_compiled_with_it() {
    let lines = <(Decimal, Decimal)>::prepare(|(price, tax)| {
        InvoiceLine::rows()
            .filter(|l| l.unit_price.eq(price) | l.tax_rate.lt(tax))
            .order_by(|l| l.id.asc())
    });
    let rocks = <(Rock,)>::prepare(|(rock,)| {
        Specimen::rows()
            .filter(|s| s.rock.eq(rock))
            .order_by(|s| s.id.asc())
    });
    for (engine, db) in sheds() {
        for values in [(dec!(12.50), dec!(0.19)), (dec!(12.5000), dec!(0.07)), (dec!(1), dec!(0))] {
            let (price, tax) = values;
            let built = InvoiceLine::rows()
                .filter(|l| l.unit_price.eq(price) | l.tax_rate.lt(tax))
                .order_by(|l| l.id.asc());
            same(db, engine.name, &lines.bind(values), &built);
        }
        for rock in [Rock::Basalt, Rock::NephelineSyenite] {
            let built = Specimen::rows()
                .filter(|s| s.rock.eq(rock))
                .order_by(|s| s.id.asc());
            same(db, engine.name, &rocks.bind((rock,)), &built);
        }
    }
    // A value that no engine stores is refused, and the error names the line.
    let labelled = <(String,)>::prepare(|(label,)| Specimen::rows().filter(|s| s.label.eq(label)));
    let twice = <(u32, u32)>::prepare(|(rows, others)| Specimen::rows().limit(rows).limit(others));
    let db = nepheline_coreshed::in_memory().unwrap();
    let err = db.read(&labelled.bind(("a\0b".to_owned(),))).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::RefusedValue, "{err:#}");
    assert!(err.to_string().contains("prepared.rs"), "{err:#}");
    let err = db.read(&twice.bind((3, 4))).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::RefusedValue, "{err:#}");
}

/// Who asks.
#[derive(Debug, Clone, Copy)]
enum Caller {
    Admin,
    Agency(i64),
    Several([i64; 2]),
    WithSpecimens(i64),
}

/// A policy of another structure for each kind of caller.
fn visible(b: SeenBoreholeColumns, caller: &Caller) -> Condition {
    match *caller {
        Caller::Admin => b.id.ge(i64::MIN),
        Caller::Agency(id) => b.site_id.eq(id),
        Caller::Several(ids) => b.site_id.one_of(ids),
        Caller::WithSpecimens(id) => b.id.one_of(
            Specimen::rows()
                .filter(|s| s.id.le(id))
                .select(|s| s.borehole_id),
        ),
    }
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "borehole", policies(visible))]
struct SeenBorehole {
    #[nepheline(key)]
    id: i64,
    site_id: i64,
    depth_m: f64,
}

#[test]
fn a_text_never_serves_another_callers_policies() {
    static DEEP: LazyLock<Prepared<(f64,), Query<SeenBorehole>>> = LazyLock::new(|| {
        <(f64,)>::prepare(|(metres,)| {
            SeenBorehole::rows()
                .filter(|b| b.depth_m.gt(metres))
                .order_by(|b| b.id.asc())
        })
    });
    type Ids = fn((Site, Vec<SeenBorehole>)) -> (i64, Vec<i64>);
    type Sites = MappedRows<Alongside<Site, Site, (RowsBeside<SeenBorehole>,)>, Ids>;
    static SITES: LazyLock<Prepared<(f64,), Sites>> = LazyLock::new(|| {
        <(f64,)>::prepare(|(metres,)| {
            let deep = SeenBorehole::rows().filter(|b| b.depth_m.gt(metres));
            let ids: Ids = |(site, deep)| (site.id, deep.iter().map(|b| b.id).collect());
            Site::rows()
                .alongside(|s| deep.filter(|b| b.site_id.eq(s.id)))
                .map_rows(ids)
        })
    });
    static SAME: LazyLock<Prepared<(i64, f64), Update<SeenBorehole>>> = LazyLock::new(|| {
        <(i64, f64)>::prepare(|(id, depth)| SeenBorehole::row(id).update(|b| b.depth_m.set(depth)))
    });
    let callers = [
        Caller::Agency(1),
        Caller::Admin,
        Caller::Agency(2),
        Caller::Several([1, 3]),
        Caller::WithSpecimens(20),
        Caller::Agency(1),
        Caller::Several([2, 2]),
        Caller::WithSpecimens(3),
        Caller::Admin,
    ];
    for (engine, db) in sheds() {
        let all = db.read(&Borehole::rows().order_by(|b| b.id.asc())).unwrap();
        let with_specimens = |id: i64| {
            let specimens = Specimen::rows()
                .filter(|s| s.id.le(id))
                .select(|s| s.borehole_id);
            db.read(&specimens).unwrap()
        };
        let ask = |caller: Caller, metres: f64| {
            let read = db.carrying(caller).read(&DEEP.bind((metres,))).unwrap();
            let is_seen = |b: &&Borehole| match caller {
                Caller::Admin => true,
                Caller::Agency(id) => b.site_id == id,
                Caller::Several(ids) => ids.contains(&b.site_id),
                Caller::WithSpecimens(id) => with_specimens(id).contains(&b.id),
            };
            let expected = all.iter().filter(|b| b.depth_m > metres).filter(is_seen);
            let expected: Vec<i64> = expected.map(|b| b.id).collect();
            // Nor does that of a companion, or of a page after a cursor.
            let sites = SITES.bind((metres,));
            let beside = db.carrying(caller).read(&sites).unwrap();
            let beside: BTreeSet<i64> = beside.into_iter().flat_map(|(_, ids)| ids).collect();
            assert_eq!(beside, expected.iter().copied().collect(), "{caller:?} on {}", engine.name);
            let pages = pages(&db.carrying(caller), &DEEP.bind((metres,)), 2);
            let pages: BTreeSet<i64> = pages.iter().flatten().map(|b| b.id).collect();
            assert_eq!(pages, beside, "{caller:?} on {}", engine.name);
            // Queries by key are prepared by themselves.
            for b in all.iter().filter(|b| b.id < 6) {
                let found = db
                    .carrying(caller)
                    .read_at_most_one(&SeenBorehole::row(b.id))
                    .unwrap();
                assert_eq!(found.is_some(), is_seen(&b), "{caller:?} on {}: {}", engine.name, b.id);
            }
            let read: Vec<i64> = read.iter().map(|b| b.id).collect();
            assert_eq!(read, expected, "{caller:?} on {}", engine.name);
            // A write by key is too. It leaves the depth as it is.
            let b = &all[usize::from(metres > 0.0)];
            let same = SeenBorehole::row(b.id).update(|s| s.depth_m.set(b.depth_m));
            let written = db.carrying(caller).write(&same).unwrap();
            assert_eq!(written, u64::from(is_seen(&b)), "{caller:?} on {}: {}", engine.name, b.id);
            let same = SAME.bind((b.id, b.depth_m));
            let written = db.carrying(caller).write(&same).unwrap();
            assert_eq!(written, u64::from(is_seen(&b)), "{caller:?} on {}: {}", engine.name, b.id);
        };
        thread::scope(|scope| {
            for turn in 0..4_usize {
                let ask = &ask;
                scope.spawn(move || {
                    for (number, _) in callers.iter().enumerate() {
                        ask(callers[(number + turn * 2) % callers.len()], 100.0 * turn as f64);
                    }
                });
            }
        });
        // Nobody is not somebody else.
        let err = db.read(&DEEP.bind((0.0,))).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::MissingCarried, "on {}", engine.name);
        let strict = db.policies_required::<String>().carrying(Caller::Admin);
        let err = strict.read(&DEEP.bind((0.0,))).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::PoliciesRequired, "on {}", engine.name);
    }
}

#[test]
fn the_sql_of_a_prepared_query_names_its_parameters() {
    let with_assays = Wanted::prepare(|p| {
        Specimen::rows()
            .filter(|s| s.rock.one_of(p.rocks) & s.top_m.gt(p.metres))
            .limit(p.rows)
            .alongside(|s| s.assays().filter(|a| a.ppm.gt(p.metres)))
    });
    let renamed =
        <(i64, String)>::prepare(|(id, label)| Specimen::row(id).update(|s| s.label.set(label)));
    let mut shown = String::new();
    for dialect in Dialect::ALL {
        shown.push_str(&format!("-- {dialect}\n"));
        for sql in with_assays.sql(dialect).unwrap() {
            shown.push_str(&format!("{sql}\n"));
        }
        shown.push_str(&format!("{}\n", renamed.sql(dialect).unwrap()));
    }
    insta::assert_snapshot!(shown);
}
