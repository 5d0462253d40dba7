//! Groups by keys of all kinds, with aggregates, subtotals and lists.

use std::collections::BTreeSet;

use nepheline::Array;
use nepheline::prelude::*;
use proptest::test_runner::TestCaseError;

use crate::{Answers, Asked, PerKind, Piece, PieceColumns, grouped, null_last};

pub(crate) fn check(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
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

    // The total of nothing is a row; beside another key there is no group that it could be of.
    let nothing = || Piece::rows().filter(|p| p.grams.lt(0) & p.grams.gt(0));
    let total = nothing().select(|p| (rollup(p.kind), count(), sum(p.grams)));
    answers.check(&total, &[(None, 0, None)])?;
    let totals = nothing().select(|p| (per(p.tray), rollup(p.kind), count()));
    answers.check(&totals, &[])?;

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
