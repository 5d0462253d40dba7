//! What reports ask: windows over groups, values of other queries beside groups, orders by selected values.

use nepheline::prelude::*;
use nepheline::{bind, count_of, dense_rank, from, is_subtotal, lag, literal, rank, rollup};
use proptest::test_runner::TestCaseError;

use crate::{Answers, Asked, Piece, PieceColumns, grouped, null_last};

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
    subtotals(answers, pieces, asked)
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
