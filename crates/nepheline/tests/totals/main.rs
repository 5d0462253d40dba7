//! Groups, totals, windows, sets and pages: rows are generated, each question is asked of every engine
//! and of plain Rust, and all answers have to be equal.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

#[path = "../support/mod.rs"]
mod support;

mod choices;
mod collations;
mod reports;
mod spreads;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Debug;
use std::sync::{Mutex, MutexGuard, PoisonError};

use nepheline::blocking::{Database, RunsQueries};
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{
    Array, BindValue, Isolation, Level, Paging, Readable, StatementLog, Tables, TransactionOptions,
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

fn groups(answers: &Answers<'_>, pieces: &[Piece], asked: &Asked) -> Result<(), TestCaseError> {
    let Asked { at_least, limit, modulus, .. } = *asked;
    let by_kind = Piece::rows()
        .select(|p| {
            shape!(PerKind {
                kind: per(p.kind),
                pieces: count(),
                heavy: count().filter(p.grams.gt(4)),
                trays: count_distinct(p.tray),
                grams: sum(p.grams).filter(p.tray.is_not_null()),
                mean: avg(p.metres),
                longest: max(p.metres),
                all_long: all_true(p.metres.gt(0.5)),
            })
        })
        .having(|_| count().ge(at_least))
        .order_by(|p| (count().desc(), per(p.kind).asc()))
        .limit(limit);
    let mut expected: Vec<PerKind> = grouped(pieces, |p| p.kind.clone())
        .into_iter()
        .map(|(kind, group)| {
            let metres: Vec<f64> = group.iter().filter_map(|p| p.metres).collect();
            let in_trays: Vec<i64> = group
                .iter()
                .filter(|p| p.tray.is_some())
                .map(|p| p.grams)
                .collect();
            PerKind {
                kind,
                pieces: group.len() as i64,
                heavy: group.iter().filter(|p| p.grams > 4).count() as i64,
                trays: group
                    .iter()
                    .filter_map(|p| p.tray)
                    .collect::<BTreeSet<_>>()
                    .len() as i64,
                grams: (!in_trays.is_empty()).then(|| in_trays.iter().sum()),
                mean: (!metres.is_empty())
                    .then(|| metres.iter().sum::<f64>() / metres.len() as f64),
                longest: metres.iter().copied().reduce(f64::max),
                all_long: (!metres.is_empty()).then(|| metres.iter().all(|m| *m > 0.5)),
            }
        })
        .filter(|group| group.pieces >= at_least)
        .collect();
    expected.sort_by_key(|group| std::cmp::Reverse(group.pieces));
    expected.truncate(limit as usize);
    answers.check(&by_kind, &expected)?;

    // A computed key with a bind in it, used again in the list, in HAVING and in the order.
    let by_rest = Piece::rows()
        .select(|p| (per(p.grams % modulus), per(p.grams % modulus) * 10, count_of(p.metres)))
        .having(|p| per(p.grams % modulus).is_not_distinct_from(Some(0)) | count().gt(at_least))
        .order_by(|p| per(p.grams % modulus).desc());
    let expected = grouped(pieces, |p| p.grams % modulus).into_iter().rev();
    let expected: Vec<_> = expected
        .filter(|(rest, group)| *rest == 0 || group.len() as i64 > at_least)
        .map(|(rest, group)| {
            let known = group.iter().filter(|p| p.metres.is_some()).count() as i64;
            (Some(rest), Some(rest * 10), known)
        })
        .collect();
    answers.check(&by_rest, &expected)?;

    // Two keys, one of them NULL in places and one hidden, and text of each group in its order.
    let by_month = Piece::rows()
        .select(|p| {
            (per(p.tray), listagg(p.kind, "+").ordered_by((p.kind.desc(), p.id.asc())), min(p.kind))
        })
        .group_by(|p| p.cut_on.month())
        .order_by(|p| (per(p.tray).asc(), min(p.id).asc()));
    let mut expected: Vec<_> = grouped(pieces, |p| (null_last(p.tray), p.cut_on.month()))
        .into_iter()
        .map(|((tray, _), group)| {
            let mut kinds: Vec<&str> = group.iter().map(|p| p.kind.as_str()).collect();
            kinds.sort_unstable();
            let least = kinds.first().map(|kind| (*kind).to_owned());
            kinds.reverse();
            let first = group.iter().map(|p| p.id).min();
            ((tray.0, tray.1, first), (tray.1, Some(kinds.join("+")), least))
        })
        .collect();
    expected.sort_by_key(|(order, _)| *order);
    let expected: Vec<_> = expected.into_iter().map(|(_, row)| row).collect();
    answers.check(&by_month, &expected)?;

    // Subtotals: of each kind and rest of a division, of each kind, and of all.
    let rest = |p: PieceColumns| (p.grams % modulus).coalesce(0);
    let rolled = Piece::rows()
        .select(|p| (rollup(p.kind), rollup(rest(p)), count(), sum(p.grams)))
        .having(|_| count().ge(at_least))
        .order_by(|p| (rollup(p.kind).asc(), rollup(rest(p)).asc(), max(p.id).asc()));
    let group = |kind: Option<&str>, rest: Option<i64>| {
        let of = |p: &&Piece| {
            kind.is_none_or(|kind| p.kind == kind)
                && rest.is_none_or(|rest| p.grams % modulus == rest)
        };
        let grams: Vec<i64> = pieces.iter().filter(of).map(|p| p.grams).collect();
        let sum = (!grams.is_empty()).then(|| grams.iter().sum::<i64>());
        (kind.map(str::to_owned), rest, grams.len() as i64, sum)
    };
    let mut expected = Vec::new();
    for kind in pieces.iter().map(|p| &*p.kind).collect::<BTreeSet<_>>() {
        let of_kind = pieces.iter().filter(|p| p.kind == kind);
        let rests: BTreeSet<i64> = of_kind.map(|p| p.grams % modulus).collect();
        expected.extend(rests.into_iter().map(|rest| group(Some(kind), Some(rest))));
        expected.push(group(Some(kind), None));
    }
    expected.push(group(None, None));
    expected.retain(|row| row.2 >= at_least);
    answers.check(&rolled, &expected)?;

    // Collected in an order, NULLs left out, and nothing of no rows.
    let lists = Piece::rows()
        .select(|p| {
            let trays = array_agg(p.tray).ordered_by(p.id.desc());
            let light = array_agg(p.kind)
                .filter(p.grams.lt(at_least))
                .ordered_by(p.id.asc());
            (per(p.grams), trays, light)
        })
        .order_by(|p| per(p.grams).asc());
    let expected: Vec<_> = grouped(pieces, |p| p.grams)
        .into_iter()
        .map(|(grams, group)| {
            let trays: Vec<i64> = group.iter().rev().filter_map(|p| p.tray).collect();
            let light = group
                .iter()
                .filter(|p| p.grams < at_least)
                .map(|p| p.kind.clone());
            (grams, Array::from(trays), Array::from(light.collect::<Vec<_>>()))
        })
        .collect();
    answers.check(&lists, &expected)?;

    // Without a key: one row, also of nothing.
    let all = Piece::rows()
        .filter(|p| p.grams.gt(at_least))
        .select(|p| (count(), sum(p.grams), any_true(p.tray.eq(1)), count_distinct(p.kind)));
    let kept: Vec<&Piece> = pieces.iter().filter(|p| p.grams > at_least).collect();
    let trays: Vec<i64> = kept.iter().filter_map(|p| p.tray).collect();
    let expected = (
        kept.len() as i64,
        (!kept.is_empty()).then(|| kept.iter().map(|p| p.grams).sum()),
        (!trays.is_empty()).then(|| trays.contains(&1)),
        kept.iter().map(|p| &p.kind).collect::<BTreeSet<_>>().len() as i64,
    );
    answers.check(&all, &[expected])
}

fn kinds_of_rows(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
    let distinct = Piece::rows()
        .select(|p| (p.kind, p.tray))
        .distinct()
        .order_by(|p| (p.tray.asc(), p.kind.desc()));
    let mut expected: Vec<_> = pieces.iter().map(|p| (p.kind.clone(), p.tray)).collect();
    expected.sort_by(|a, b| null_last(a.1).cmp(&null_last(b.1)).then(b.0.cmp(&a.0)));
    expected.dedup();
    answers.check(&distinct, &expected)?;

    let longest_of_each = Piece::rows()
        .order_by(|p| (p.metres.desc(), p.id.asc()))
        .limit_each(asked.limit, |p| (p.kind, p.tray))
        .select(|p| p.id);
    let mut in_order: Vec<&Piece> = pieces.iter().collect();
    in_order.sort_by(|a, b| {
        let by = |p: &Piece| (p.metres.is_none(), -p.metres.unwrap_or(0.0));
        by(a).partial_cmp(&by(b)).unwrap()
    });
    let mut seen: BTreeMap<_, u64> = BTreeMap::new();
    let kept = in_order.iter().filter(|p| {
        let seen = seen.entry((p.kind.clone(), p.tray)).or_default();
        *seen += 1;
        *seen <= asked.limit
    });
    let expected: Vec<i64> = kept.map(|p| p.id).collect();
    answers.check(&longest_of_each, &expected)?;

    let windows = Piece::rows().order_by(|p| p.id.asc()).select(|p| {
        (
            p.id,
            row_number().over(|w| w.partition_by(p.kind).order_by((p.grams.asc(), p.id.asc()))),
            rank().over(|w| w.partition_by(p.kind).order_by(p.grams.asc())),
            dense_rank().over(|w| w.order_by(p.grams.desc())),
            lag(p.grams, 2).over(|w| w.order_by(p.id.asc())),
            lag_or(p.tray, 1, 7).over(|w| w.order_by(p.id.asc())),
            lead_or(p.grams, 2, -1).over(|w| w.order_by(p.id.asc())),
            sum(p.grams).over(|w| w.order_by(p.id.asc()).rows(-1..=1)),
            count()
                .filter(p.tray.eq(1))
                .over(|w| w.order_by(p.id.asc()).rows(..=0)),
            last_value(p.grams).over(|w| w.order_by((p.grams.asc(), p.id.asc()))),
        )
    });
    let greatest = pieces.iter().map(|p| p.grams).max();
    let expected: Vec<_> = pieces
        .iter()
        .enumerate()
        .map(|(i, p)| {
            let alike = || pieces.iter().filter(|other| other.kind == p.kind);
            let before = alike()
                .filter(|o| (o.grams, o.id) < (p.grams, p.id))
                .count();
            let lighter = alike().filter(|o| o.grams < p.grams).count();
            let heavier = pieces
                .iter()
                .map(|o| o.grams)
                .filter(|grams| *grams > p.grams);
            let around = &pieces[i.saturating_sub(1)..(i + 2).min(pieces.len())];
            (
                p.id,
                before as i64 + 1,
                lighter as i64 + 1,
                heavier.collect::<BTreeSet<_>>().len() as i64 + 1,
                i.checked_sub(2).map(|i| pieces[i].grams),
                i.checked_sub(1).map_or(Some(7), |i| pieces[i].tray),
                pieces.get(i + 2).map_or(-1, |p| p.grams),
                Some(around.iter().map(|p| p.grams).sum()),
                pieces[..=i].iter().filter(|p| p.tray == Some(1)).count() as i64,
                greatest,
            )
        })
        .collect();
    answers.check(&windows, &expected)
}

fn sets(answers: &Answers<'_>, pieces: &[Piece], asked: &Asked) -> Result<(), TestCaseError> {
    let of_names = |query: Query<Piece>| query.select(|p| shape!(Name { name: p.kind }));
    let light = || of_names(Piece::rows().filter(|p| p.grams.le(asked.at_least)));
    let in_tray = || of_names(Piece::rows().filter(|p| p.tray.eq(asked.modulus)));
    let names = |keep: &dyn Fn(&&Piece) -> bool| -> BTreeSet<String> {
        pieces.iter().filter(keep).map(|p| p.kind.clone()).collect()
    };
    let few = names(&|p| p.grams <= asked.at_least);
    let there = names(&|p| p.tray == Some(asked.modulus));
    let rows = |names: BTreeSet<String>| -> Vec<Name> {
        names.into_iter().map(|name| Name { name }).collect()
    };
    let order = |query: Query<Name>| query.order_by(|n| n.name.asc());
    answers.check(&order(light().union(in_tray())), &rows(&few | &there))?;
    answers.check(&order(light().intersect(in_tray())), &rows(&few & &there))?;
    answers.check(&order(light().except(in_tray())), &rows(&few - &there))?;
    // Bound from left to right, whatever the engine makes of INTERSECT beside UNION.
    let three = light().union(in_tray()).intersect(light().limit(u64::MAX));
    answers.check(&order(three), &rows(&(&few | &there) & &few))?;
    // Capped per group, an operand's text is told apart by code point all the same.
    let each = of_names(
        Piece::rows()
            .order_by(|p| p.id.asc())
            .limit_each(1, |p| p.kind),
    );
    answers.check(&order(each.union(in_tray())), &rows(names(&|_| true)))?;
    // A fragment about a group stands wherever an aggregate does, also beside a computed key.
    let modulus = asked.modulus;
    let last_of_each = Piece::rows()
        .select(|p| (per(p.grams % modulus), max(p.id)))
        .order_by(|p| verbatim!("max({})", p.id).typed_per_group::<i64>().desc());
    let mut last: BTreeMap<i64, i64> = BTreeMap::new();
    for piece in pieces {
        let id = last.entry(piece.grams % modulus).or_insert(piece.id);
        *id = piece.id.max(*id);
    }
    let mut last: Vec<_> = last
        .into_iter()
        .map(|(rest, id)| (Some(rest), Some(id)))
        .collect();
    last.sort_by_key(|(_, id)| std::cmp::Reverse(*id));
    answers.check(&last_of_each, &last)?;
    let mut all: Vec<Name> = pieces
        .iter()
        .map(|p| Name { name: p.kind.clone() })
        .collect();
    all.extend(all.clone());
    all.sort_by(|a, b| a.name.cmp(&b.name));
    let twice = of_names(Piece::rows()).union_all(of_names(Piece::rows()));
    answers.check(&order(twice), &all)?;

    // One query in three places of a statement, and one that uses another.
    let kinds = cte(Piece::rows().select(|p| {
        shape!(PerKind {
            kind: per(p.kind),
            pieces: count(),
            heavy: count().filter(p.grams.gt(asked.at_least)),
            trays: count_distinct(p.tray),
            grams: sum(p.grams),
            mean: avg(p.metres),
            longest: max(p.metres),
            all_long: all_true(p.metres.gt(0.5)),
        })
    }));
    let large = cte(kinds
        .rows()
        .filter(|k| k.pieces.eq(kinds.rows().select(|k| max(k.pieces)).value()))
        .select(|k| shape!(Name { name: k.kind })));
    let largest = kinds
        .rows()
        .filter(|k| {
            let same = large.rows().filter(|l| l.name.eq(k.kind));
            same.exists() & large.rows().exists()
        })
        .order_by(|k| k.kind.asc())
        .select(|k| (k.kind, k.heavy));
    let sizes = grouped(pieces, |p| p.kind.clone());
    let most = sizes.values().map(Vec::len).max();
    let expected: Vec<_> = sizes
        .iter()
        .filter(|(_, group)| Some(group.len()) == most)
        .map(|(kind, group)| {
            let heavy = group.iter().filter(|p| p.grams > asked.at_least).count();
            (kind.clone(), heavy as i64)
        })
        .collect();
    answers.check(&largest, &expected)?;

    // Groups of groups: how many kinds there are with so many pieces.
    let sizes = from(Piece::rows().select(|p| {
        shape!(PerKind {
            kind: per(p.kind),
            pieces: count(),
            heavy: count(),
            trays: count(),
            grams: sum(p.grams),
            mean: avg(p.metres),
            longest: max(p.metres),
            all_long: all_true(p.grams.gt(0)),
        })
    }))
    .filter(|k| k.pieces.gt(asked.at_least))
    .select(|k| (per(k.pieces), count()))
    .order_by(|k| per(k.pieces).asc());
    let mut expected: BTreeMap<i64, i64> = BTreeMap::new();
    for group in grouped(pieces, |p| p.kind.clone()).into_values() {
        *expected.entry(group.len() as i64).or_default() += 1;
    }
    let expected: Vec<_> = expected
        .into_iter()
        .filter(|(size, _)| *size > asked.at_least)
        .collect();
    answers.check(&sizes, &expected)
}

/// Reads all rows in pages, forwards and backwards.
fn walk<Q>(answers: &Answers<'_>, query: &Q, all: &[Q::Row], size: u32) -> Result<(), TestCaseError>
where
    Q: Readable<Row: PartialEq + std::fmt::Debug>,
{
    let db = answers.db;
    let fail = |err: Error| TestCaseError::fail(format!("{err:#}"));
    let (mut forwards, mut cursor) = (Vec::new(), None);
    loop {
        let page = db.read_after(query, cursor.as_ref(), size).map_err(fail)?;
        prop_assert_eq!(page.before().is_some(), cursor.is_some() && !page.rows().is_empty());
        // Through text, as it would go to a browser and back.
        cursor = page
            .after()
            .map(|cursor| cursor.to_string().parse().unwrap());
        forwards.extend(page.into_rows());
        if cursor.is_none() {
            break;
        }
    }
    prop_assert_eq!(&forwards, all, "forwards on {}", answers.engine.name);

    let (mut backwards, mut cursor) = (Vec::new(), None);
    loop {
        let page = db.read_before(query, cursor.as_ref(), size).map_err(fail)?;
        cursor = page.before().cloned();
        backwards.splice(0..0, page.into_rows());
        if cursor.is_none() {
            break;
        }
    }
    prop_assert_eq!(&backwards, all, "backwards on {}", answers.engine.name);
    Ok(())
}

fn pages(answers: &Answers<'_>, pieces: &[Piece], asked: &Asked) -> Result<(), TestCaseError> {
    let query = Piece::rows().order_by(|p| {
        let tray = if asked.descending { p.tray.desc() } else { p.tray.asc() };
        let tray = if asked.nulls_first { tray.nulls_first() } else { tray };
        let kind = if asked.nulls_first { p.kind.desc() } else { p.kind.asc() };
        (tray, kind, p.metres.desc())
    });
    let db = answers.db;
    let fail = |err: Error| TestCaseError::fail(format!("{err:#}"));
    let all = db
        .read(&query.clone().order_by(|p| p.id.asc()))
        .map_err(fail)?;
    prop_assert_eq!(all.len(), pieces.len());
    let size = asked.size as usize;
    walk(answers, &query, &all, asked.size)?;

    // Groups have positions too: by a total, which groups share and which may be NULL, and by the keys.
    let groups = Piece::rows()
        .select(|p| (per(p.kind), per(p.tray), count(), max(p.metres)))
        .having(|_| count().ge(1));
    let groups = match asked.descending {
        true => groups.order_by(|p| (max(p.metres).desc(), count().asc())),
        false => groups.order_by(|_| count().desc()),
    };
    let in_order = groups
        .clone()
        .order_by(|p| (per(p.kind).asc(), per(p.tray).asc()));
    walk(answers, &groups, &db.read(&in_order).map_err(fail)?, asked.size)?;

    for number in 1..=all.len().div_ceil(size) as u64 + 1 {
        let paging = Paging::page_size(size as u64).page(number);
        let page = db
            .read_page(&query.clone().order_by(|p| p.id.asc()), paging)
            .map_err(fail)?;
        let expected = all.iter().skip((number as usize - 1) * size).take(size);
        prop_assert!(page.rows().iter().eq(expected));
        prop_assert_eq!(page.total_rows(), all.len() as u64);
        prop_assert_eq!(page.total_pages(), all.len().div_ceil(size) as u64);
        prop_assert_eq!(page.has_after(), number < page.total_pages());
        prop_assert_eq!(page.has_before(), number > 1 && !all.is_empty());
    }
    Ok(())
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
                groups(&answers, &pieces, asked)?;
                spreads::check(&answers, &pieces, asked)?;
                choices::check(&answers, &pieces, asked)?;
                reports::check(&answers, &pieces, asked)?;
                kinds_of_rows(&answers, &pieces, asked)?;
                sets(&answers, &pieces, asked)?;
                pages(&answers, &pieces, asked)?;
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
