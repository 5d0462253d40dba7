//! Distinct rows, the first rows of each value, and windows.

use std::collections::{BTreeMap, BTreeSet};

use nepheline::prelude::*;
use proptest::test_runner::TestCaseError;

use crate::{Answers, Asked, Piece, null_last};

pub(crate) fn check(
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
