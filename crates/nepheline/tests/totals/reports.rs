//! Questions of reports: windows over groups, values of other queries beside groups, orders by selected values.

use nepheline::prelude::*;
use nepheline::{bind, count_of, dense_rank, from, is_subtotal, lag, literal, rank, rollup};
use proptest::test_runner::TestCaseError;

use crate::{Answers, Asked, Piece, PieceColumns, grouped, null_last};

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Placed {
    kind: String,
    grams: Option<i64>,
    rest: Option<i64>,
    is_first: Option<bool>,
    /// Never NULL in the step before.
    kinds: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct KindGrams {
    kind: String,
    grams: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Share {
    kind: String,
    grams: Option<i64>,
    of_all: Option<i64>,
    place: i64,
    kinds: i64,
    year: Option<i64>,
    note: Option<String>,
}

pub(crate) fn check(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
    windows_over_groups(answers, pieces, asked)?;
    values_beside_groups(answers, pieces, asked)?;
    orders_by_selected(answers, pieces, asked)?;
    subtotals(answers, pieces, asked)?;
    full_joins(answers, pieces, asked)?;
    many_windows(answers, pieces, asked)
}

fn grams(group: &[&Piece]) -> i64 {
    group.iter().map(|p| p.grams).sum()
}

fn windows_over_groups(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
    let kinds = grouped(pieces, |p| p.kind.clone());
    let of_all = pieces.iter().map(|p| p.grams).sum::<i64>();
    let place = |grams: i64| 1 + kinds.values().filter(|of| self::grams(of) > grams).count() as i64;
    let shares = Piece::rows()
        .select(|p| {
            shape!(Share {
                kind: per(p.kind),
                grams: sum(p.grams),
                of_all: sum(sum(p.grams)).over_groups(|w| w),
                place: rank().over_groups(|w| w.order_by(sum(p.grams).desc())),
                kinds: count_of(count()).over_groups(|w| w),
                year: 2024,
                note: None,
            })
        })
        .order_by_selected(|s| s.kind.asc());
    let expected: Vec<Share> = kinds
        .iter()
        .map(|(kind, group)| Share {
            kind: kind.clone(),
            grams: Some(grams(group)),
            of_all: Some(of_all),
            place: place(grams(group)),
            kinds: kinds.len() as i64,
            year: Some(2024),
            note: None,
        })
        .collect();
    answers.check(&shares, &expected)?;

    // Each step takes the columns of the one before, and adds its own.
    let steps = from(
        from(shares.clone())
            .select(|s| shape!(Placed { is_first: s.place.eq(1), rest: s.of_all - s.grams, ..s })),
    )
    .filter(|s| s.is_first.is_true())
    .order_by(|s| s.kind.asc());
    let placed: Vec<Placed> = expected
        .iter()
        .filter(|share| share.place == 1)
        .map(|share| Placed {
            kind: share.kind.clone(),
            grams: share.grams,
            rest: share
                .of_all
                .zip(share.grams)
                .map(|(all, grams)| all - grams),
            is_first: Some(true),
            kinds: Some(share.kinds),
        })
        .collect();
    answers.check(&steps, &placed)?;

    // Totals of a derived table, in one group. The statement runs again and again.
    let of_derived =
        from(Piece::rows().select(|p| shape!(KindGrams { kind: p.kind, grams: p.grams })))
            .select(|k| (literal!(1).per_group(), sum(k.grams), max(k.kind)));
    let total = (!pieces.is_empty()).then_some(of_all);
    answers.check(&of_derived, &[(1, total, kinds.keys().last().cloned())])?;

    // The groups of each tray in order, beside the one before; a computed key, and windows that use it again.
    let modulus = asked.modulus;
    let steps = Piece::rows()
        .select(|p| {
            let part = per(p.grams % modulus);
            let within = lag(count(), 1)
                .over_groups(|w| w.partition_by(per(p.tray)).order_by(part.clone().asc()));
            let so_far = sum(count()).over_groups(|w| {
                w.partition_by(per(p.tray))
                    .order_by(part.clone().asc())
                    .rows(..=0)
            });
            (per(p.tray), part, count(), within, so_far)
        })
        .order_by_selected(|(tray, part, ..)| (tray.asc(), part.asc()));
    let by_step = grouped(pieces, |p| (null_last(p.tray), p.grams % modulus));
    let mut expected = Vec::new();
    let mut before: Option<(Option<i64>, i64, i64)> = None;
    for (((_, tray), part), group) in &by_step {
        let count = group.len() as i64;
        let last = before.filter(|(other, ..)| other == tray);
        let so_far = count + last.map_or(0, |(.., so_far)| so_far);
        expected.push((*tray, Some(*part), count, last.map(|(_, count, _)| count), Some(so_far)));
        before = Some((*tray, count, so_far));
    }
    answers.check(&steps, &expected)
}

fn values_beside_groups(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
    let kinds = grouped(pieces, |p| p.kind.clone());
    let most = || {
        Piece::rows()
            .filter(|p| p.grams.ge(asked.at_least))
            .select(|p| max(p.grams))
            .value()
    };
    let greatest = pieces
        .iter()
        .map(|p| p.grams)
        .filter(|grams| *grams >= asked.at_least)
        .max();
    let above = Piece::rows()
        .select(|p| {
            (
                per(p.kind),
                sum(p.grams),
                most().per_group(),
                literal!("all").per_group(),
                bind(asked.at_least).per_group(),
            )
        })
        .having(|p| sum(p.grams).ge(most().per_group()))
        .order_by_selected(|(kind, ..)| kind.asc());
    let expected: Vec<_> = kinds
        .iter()
        .filter(|(_, group)| greatest.is_some_and(|greatest| grams(group) >= greatest))
        .map(|(kind, group)| {
            (kind.clone(), Some(grams(group)), greatest, "all".to_owned(), asked.at_least)
        })
        .collect();
    answers.check(&above, &expected)?;

    // A key that holds a subquery, used again; and a subquery that uses a key.
    let beside = |p: PieceColumns| Piece::rows().filter(|other| other.tray.eq(p.tray)).count();
    let by_size = Piece::rows()
        .select(|p| (per(beside(p)), count()))
        .having(|p| per(beside(p)).ge(1))
        .order_by(|p| per(beside(p)).desc());
    let size = |p: &Piece| {
        let same = pieces
            .iter()
            .filter(|other| p.tray.is_some() && other.tray == p.tray);
        same.count() as i64
    };
    let expected: Vec<_> = grouped(pieces, size)
        .into_iter()
        .rev()
        .filter(|(size, _)| *size >= 1)
        .map(|(size, group)| (size, group.len() as i64))
        .collect();
    answers.check(&by_size, &expected)?;
    let with_lightest = Piece::rows()
        .select(|p| {
            let lightest = Piece::rows()
                .filter(|other| other.tray.eq(p.tray))
                .min(|other| other.grams);
            (per(p.tray), lightest.per_group())
        })
        .order_by_selected(|(tray, _)| tray.asc());
    let expected: Vec<_> = grouped(pieces, |p| null_last(p.tray))
        .into_iter()
        .map(|((_, tray), group)| (tray, tray.and_then(|_| group.iter().map(|p| p.grams).min())))
        .collect();
    answers.check(&with_lightest, &expected)
}

fn orders_by_selected(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
    // A computed text, and a computed value that may be NULL, in each direction, with a limit outside.
    let rows = Piece::rows()
        .select(|p| (p.kind.concat("!"), p.tray % asked.modulus, p.id))
        .order_by_selected(|(kind, part, id)| {
            let part = if asked.descending { part.desc() } else { part.asc() };
            let part = if asked.nulls_first { part.nulls_first() } else { part };
            (part, kind.asc(), id.desc())
        })
        .limit(asked.limit);
    let mut expected: Vec<(String, Option<i64>, i64)> = pieces
        .iter()
        .map(|p| (format!("{}!", p.kind), p.tray.map(|tray| tray % asked.modulus), p.id))
        .collect();
    expected.sort_by_key(|(kind, part, id)| {
        let rank = part.map(|part| if asked.descending { -part } else { part });
        ((rank.is_none() != asked.nulls_first, rank), kind.clone(), -id)
    });
    expected.truncate(asked.limit as usize);
    answers.check(&rows, &expected)?;

    let ranked = Piece::rows()
        .select(|p| (p.id, dense_rank().over(|w| w.order_by((p.tray.asc(), p.kind.asc())))))
        .order_by_selected(|(id, place)| (place.asc(), id.asc()));
    let places = grouped(pieces, |p| (null_last(p.tray), p.kind.clone()));
    let expected: Vec<_> = places
        .values()
        .zip(1..)
        .flat_map(|(group, place)| group.iter().map(move |p| (p.id, place)))
        .collect();
    answers.check(&ranked, &expected)?;

    // Whole rows: of a join, and one that may be missing beside values.
    let beside = || Piece::rows().left_join(|p| Piece::rows().filter(|q| q.id.eq(p.tray + 1)));
    let joined = beside().order_by_selected(|(p, q)| (q.map(|q| q.kind).desc(), p.id.asc()));
    let next = |p: &Piece| pieces.iter().find(|q| Some(q.id - 1) == p.tray).cloned();
    let mut expected: Vec<_> = pieces.iter().map(|p| (p.clone(), next(p))).collect();
    let last = |q: &Option<Piece>| std::cmp::Reverse(q.as_ref().map(|q| q.kind.clone()));
    expected.sort_by_key(|(p, q)| (last(q), p.id));
    answers.check(&joined, &expected)?;
    let with_value = beside()
        .select(|(p, q)| (p.grams * 2, q, p.id))
        .order_by_selected(|(twice, q, id)| (q.map(|q| q.id).desc(), twice.asc(), id.desc()));
    let mut expected: Vec<_> = pieces
        .iter()
        .map(|p| (p.grams * 2, next(p), p.id))
        .collect();
    let last = |q: &Option<Piece>| std::cmp::Reverse(q.as_ref().map(|q| q.id));
    expected.sort_by_key(|(twice, q, id)| (last(q), *twice, -id));
    answers.check(&with_value, &expected)?;

    let kinds = Piece::rows()
        .select(|p| p.kind)
        .distinct()
        .order_by_selected(|kind| kind.desc());
    let expected: Vec<_> = grouped(pieces, |p| p.kind.clone())
        .into_keys()
        .rev()
        .collect();
    answers.check(&kinds, &expected)
}

/// Subtotals over keys that may be NULL and are computed, used again in conditions, with texts in order and a limit.
fn subtotals(answers: &Answers<'_>, pieces: &[Piece], asked: &Asked) -> Result<(), TestCaseError> {
    let modulus = asked.modulus;
    let part = |p: PieceColumns| p.tray % modulus;
    let rolled = Piece::rows()
        .filter(|p| p.grams.ge(0))
        .select(|p| {
            let kinds = listagg(p.kind, "+").ordered_by((p.kind.desc(), p.id.asc()));
            (
                rollup(part(p)),
                is_subtotal(rollup(part(p))),
                count(),
                kinds,
                is_subtotal(rollup(p.kind)),
            )
        })
        .group_by(|p| p.cut_on.year())
        .having(|p| is_subtotal(rollup(p.kind)).is_true() | rollup(part(p)).is_null())
        .order_by(|p| {
            let years = (min(p.cut_on).asc(), is_subtotal(rollup(part(p))).desc());
            (
                years,
                (rollup(part(p)).asc(), is_subtotal(rollup(p.kind)).desc(), rollup(p.kind).asc()),
            )
        })
        .limit(asked.limit * 4);
    let kept: Vec<Piece> = pieces.iter().filter(|p| p.grams >= 0).cloned().collect();
    let row = |group: &[&Piece], part: Option<i64>, of_parts: bool, of_kinds: bool| {
        let mut kinds: Vec<&str> = group.iter().map(|p| p.kind.as_str()).collect();
        kinds.sort_unstable();
        kinds.reverse();
        let kinds = (!group.is_empty()).then(|| kinds.join("+"));
        (part, of_parts, group.len() as i64, kinds, of_kinds)
    };
    let mut expected = Vec::new();
    for of_year in grouped(&kept, |p| p.cut_on.year()).values() {
        let first = of_year.iter().map(|p| p.cut_on).min();
        expected.push(((first, 0, (false, None), 0, None), row(of_year, None, true, true)));
        let of_year: Vec<Piece> = of_year.iter().copied().cloned().collect();
        let part = |p: &Piece| null_last(p.tray.map(|tray| tray % modulus));
        for ((is_null, part), of_part) in grouped(&of_year, part) {
            let first = of_part.iter().map(|p| p.cut_on).min();
            let key = (is_null, part);
            expected.push(((first, 1, key, 0, None), row(&of_part, part, false, true)));
            let of_part: Vec<Piece> = of_part.iter().copied().cloned().collect();
            for (kind, of_kind) in grouped(&of_part, |p| p.kind.clone()) {
                if is_null {
                    let first = of_kind.iter().map(|p| p.cut_on).min();
                    let order = (first, 1, key, 1, Some(kind));
                    expected.push((order, row(&of_kind, part, false, false)));
                }
            }
        }
    }
    expected.sort_by(|(a, _), (b, _)| a.cmp(b));
    let expected: Vec<_> = expected.into_iter().map(|(_, row)| row).collect();
    let cut = expected.len().min(asked.limit as usize * 4);
    answers.check(&rolled, &expected[..cut])
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct Side {
    id: i64,
    kind: String,
    grams: Option<i64>,
}

/// Full joins: rows of both sides without a match, in conditions, groups, orders, pages, and inside other queries.
fn full_joins(answers: &Answers<'_>, pieces: &[Piece], asked: &Asked) -> Result<(), TestCaseError> {
    let modulus = asked.modulus;
    let light = |p: &Piece| p.grams < asked.at_least;
    let joined = || {
        Piece::rows()
            .filter(|p| p.grams.lt(asked.at_least))
            .full_join(|p| {
                Piece::rows().filter(|q| q.tray.eq(p.tray) & q.grams.gt(p.grams) & q.kind.ne("a"))
            })
    };
    let is_match = |p: &Piece, q: &Piece| {
        p.tray.is_some() && p.tray == q.tray && q.grams > p.grams && q.kind != "a"
    };
    let mut rows: Vec<(Option<Piece>, Option<Piece>)> = Vec::new();
    for p in pieces.iter().filter(|p| light(p)) {
        let matches: Vec<_> = pieces.iter().filter(|q| is_match(p, q)).collect();
        if matches.is_empty() {
            rows.push((Some(p.clone()), None));
        }
        rows.extend(
            matches
                .into_iter()
                .map(|q| (Some(p.clone()), Some(q.clone()))),
        );
    }
    for q in pieces {
        if !pieces.iter().any(|p| light(p) && is_match(p, q)) {
            rows.push((None, Some(q.clone())));
        }
    }
    let id = |p: &Option<Piece>| p.as_ref().map_or((true, 0), |p| (false, p.id));
    rows.sort_by_key(|(p, q)| (id(p), id(q)));
    let in_order = || joined().order_by(|(p, q)| (p.map(|p| p.id).asc(), q.map(|q| q.id).asc()));
    answers.check(&in_order(), &rows)?;
    crate::pages::walk(answers, &joined(), &rows, asked.size)?;
    crate::pages::walk(answers, &in_order(), &rows, asked.size)?;
    let limited = in_order().offset(1).limit(asked.limit);
    let (first, last) = (1.min(rows.len()), (1 + asked.limit as usize).min(rows.len()));
    answers.check(&limited, &rows[first..last])?;

    let unmatched = in_order()
        .filter(|(p, q)| p.is_none() | q.is_none())
        .select(|(p, q)| (p.map(|p| p.id), q.map(|q| (q.grams + asked.at_least) % modulus)));
    let expected: Vec<_> = rows
        .iter()
        .filter(|(p, q)| p.is_none() || q.is_none())
        .map(|(p, q)| {
            let part = q.as_ref().map(|q| (q.grams + asked.at_least) % modulus);
            (p.as_ref().map(|p| p.id), part)
        })
        .collect();
    answers.check(&unmatched, &expected)?;
    let both = in_order().filter(|(p, q)| p.required().id.lt(100) & q.required().id.lt(100));
    let is_both = |(p, q): &&(Option<Piece>, Option<Piece>)| p.is_some() && q.is_some();
    answers.check(&both, &rows.iter().filter(is_both).cloned().collect::<Vec<_>>())?;
    let right = in_order().filter(|(_, q)| q.required().id.lt(100));
    let is_right = |(_, q): &&(Option<Piece>, Option<Piece>)| q.is_some();
    answers.check(&right, &rows.iter().filter(is_right).cloned().collect::<Vec<_>>())?;

    let by_kind = joined()
        .select(|(p, q)| (per(p.map(|p| p.kind)), count(), sum(q.map(|q| q.grams + modulus))))
        .order_by_selected(|(kind, ..)| kind.asc());
    let mut groups: std::collections::BTreeMap<_, (i64, Option<i64>)> = Default::default();
    for (p, q) in &rows {
        let kind = p.as_ref().map(|p| p.kind.clone());
        let group = groups.entry((kind.is_none(), kind)).or_default();
        group.0 += 1;
        if let Some(q) = q {
            group.1 = Some(group.1.unwrap_or(0) + q.grams + modulus);
        }
    }
    let expected: Vec<_> = groups
        .into_iter()
        .map(|((_, kind), (count, sum))| (kind, count, sum))
        .collect();
    answers.check(&by_kind, &expected)?;

    // Around it, `from` gives what the form itself has not on every engine.
    let sides = from(joined().select(|(p, q)| {
        shape!(Side {
            id: p.map(|p| p.id).coalesce(q.map(|q| q.id)).coalesce(0),
            kind: p.map(|p| p.kind).coalesce("none"),
            grams: q.map(|q| q.grams),
        })
    }));
    let kinds = sides
        .select(|s| s.kind)
        .distinct()
        .order_by_selected(|kind| kind.asc());
    let kind = |p: &Option<Piece>| p.as_ref().map_or("none".to_owned(), |p| p.kind.clone());
    let expected: std::collections::BTreeSet<_> = rows.iter().map(|(p, _)| kind(p)).collect();
    answers.check(&kinds, &expected.into_iter().collect::<Vec<_>>())
}

/// Several windows in different orders beside each other, one of them over everything.
fn many_windows(
    answers: &Answers<'_>,
    pieces: &[Piece],
    _asked: &Asked,
) -> Result<(), TestCaseError> {
    let query = Piece::rows().order_by(|p| p.id.asc()).select(|p| {
        (
            sum(p.grams).over(|w| w),
            rank().over(|w| w.partition_by(p.kind).order_by(p.tray.asc())),
            lag(p.grams, 1).over(|w| w.order_by((p.tray.asc(), p.id.desc(), p.grams.desc()))),
            rank().over(|w| {
                w.partition_by(p.grams)
                    .order_by((p.id.desc(), p.grams.desc()))
            }),
            sum(p.grams).over(|w| w.partition_by(p.kind)),
        )
    });
    let all = pieces.iter().map(|p| p.grams).sum::<i64>();
    let mut in_order: Vec<&Piece> = pieces.iter().collect();
    in_order.sort_by_key(|p| (null_last(p.tray), -p.id));
    let expected: Vec<_> = pieces
        .iter()
        .map(|p| {
            let count =
                |of: &dyn Fn(&Piece) -> bool| pieces.iter().filter(|q| of(q)).count() as i64;
            let before = |q: &Piece| q.kind == p.kind && null_last(q.tray) < null_last(p.tray);
            let place = in_order
                .iter()
                .position(|q| q.id == p.id)
                .unwrap_or_default();
            let of_kind = pieces.iter().filter(|q| q.kind == p.kind);
            (
                Some(all),
                1 + count(&before),
                place.checked_sub(1).map(|place| in_order[place].grams),
                1 + count(&|q| q.grams == p.grams && q.id > p.id),
                Some(of_kind.map(|q| q.grams).sum::<i64>()),
            )
        })
        .collect();
    answers.check(&query, &expected)
}
