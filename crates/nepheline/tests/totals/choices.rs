//! `one_of` and `none_of` of queries over common table expressions, derived tables, joins and groups.

use std::collections::BTreeSet;

use nepheline::prelude::*;
use nepheline::{cte, from};
use proptest::prop_assert;

use proptest::test_runner::TestCaseError;

use crate::{Answers, Asked, Piece, PieceColumns, grouped};

/// A value that is never NULL fills a nullable field.
#[derive(Debug, Clone, PartialEq, RowShape)]
struct KindSize {
    kind: Option<String>,
    pieces: Option<i64>,
}

pub(crate) fn check(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
    let sizes =
        || Piece::rows().select(|p| shape!(KindSize { kind: per(p.kind), pieces: count() }));
    let large: BTreeSet<String> = grouped(pieces, |p| p.kind.clone())
        .into_iter()
        .filter(|(_, group)| group.len() as i64 > asked.at_least)
        .map(|(kind, _)| kind)
        .collect();
    let with = |keep: &dyn Fn(&Piece) -> bool| -> Vec<Piece> {
        pieces.iter().filter(|p| keep(p)).cloned().collect()
    };
    let in_order = |query: Query<Piece>| query.order_by(|p| p.id.asc());
    let (of_large, of_small) =
        (with(&|p| large.contains(&p.kind)), with(&|p| !large.contains(&p.kind)));

    let defined = cte(sizes());
    let of_cte = || {
        defined
            .rows()
            .filter(|k| k.pieces.gt(asked.at_least))
            .select(|k| k.kind)
    };
    answers.check(&in_order(Piece::rows().filter(|p| p.kind.one_of(of_cte()))), &of_large)?;
    answers.check(&in_order(Piece::rows().filter(|p| p.kind.none_of(of_cte()))), &of_small)?;

    let derived = || {
        from(sizes())
            .filter(|k| k.pieces.gt(asked.at_least))
            .select(|k| k.kind)
    };
    answers.check(&in_order(Piece::rows().filter(|p| p.kind.one_of(derived()))), &of_large)?;
    answers.check(&in_order(Piece::rows().filter(|p| p.kind.none_of(derived()))), &of_small)?;

    // The choices are those of a join: pieces beside another one, and trays with NULLs among them.
    let beside = || {
        Piece::rows()
            .join(|p| Piece::rows().filter(|other| other.tray.eq(p.tray) & other.id.ne(p.id)))
            .select(|(p, _)| p.id)
    };
    let is_beside = |p: &Piece| {
        pieces
            .iter()
            .any(|other| p.tray.is_some() && other.tray == p.tray && other.id != p.id)
    };
    answers.check(&in_order(Piece::rows().filter(|p| p.id.one_of(beside()))), &with(&is_beside))?;
    let trays = || {
        Piece::rows()
            .left_join(|p| Piece::rows().filter(|other| other.id.eq(p.id + 1)))
            .select(|(_, next)| next.map(|next| next.tray))
    };
    let next_trays: BTreeSet<i64> = pieces.iter().skip(1).filter_map(|p| p.tray).collect();
    answers.check(
        &in_order(Piece::rows().filter(|p| p.tray.none_of(trays()))),
        &with(&|p| p.tray.is_none_or(|tray| !next_trays.contains(&tray))),
    )?;

    // Subqueries that depend on a text, computed for each row: texts that only look equal are others.
    let same_kind = |p: PieceColumns| {
        Piece::rows().filter(move |other| other.kind.eq(p.kind) & other.id.ne(p.id))
    };
    let first = || {
        Piece::rows()
            .filter(|p| p.id.le(asked.at_least))
            .select(|p| p.kind)
    };
    let among = Piece::rows()
        .order_by(|p| p.id.asc())
        .select(|p| (same_kind(p).count(), same_kind(p).exists(), p.kind.one_of(first())));
    let expected: Vec<_> = pieces
        .iter()
        .map(|p| {
            let same = pieces.iter().filter(|other| other.kind == p.kind).count() as i64 - 1;
            let of_first = |other: &Piece| other.id <= asked.at_least && other.kind == p.kind;
            (same, Some(same > 0), Some(pieces.iter().any(of_first)))
        })
        .collect();
    answers.check(&among, &expected)?;
    prop_assert!(answers.db.explain(&among).is_ok(), "on {}", answers.engine.name);
    let alone = |p: &Piece| pieces.iter().filter(|other| other.kind == p.kind).count() == 1;
    let alone_found = Piece::rows().filter(|p| same_kind(p).not_exists());
    answers.check(&in_order(alone_found), &with(&alone))?;

    // The choices are those of a join with groups and a limit.
    let heaviest = Piece::rows()
        .join(|p| Piece::rows().filter(|other| other.kind.eq(p.kind)))
        .select(|(p, other)| shape!(IdGrams { id: per(p.id), grams: sum(other.grams) }))
        .order_by(|(p, other)| (sum(other.grams).desc(), per(p.id).asc()))
        .limit(2);
    let ids = from(heaviest).select(|h| h.id);
    let kinds = grouped(pieces, |p| p.kind.clone());
    let of_kind = |p: &Piece| kinds[&p.kind].iter().map(|other| other.grams).sum::<i64>();
    let mut first: Vec<&Piece> = pieces.iter().collect();
    first.sort_by_key(|p| (-of_kind(p), p.id));
    let first: BTreeSet<i64> = first.into_iter().take(2).map(|p| p.id).collect();
    answers.check(
        &in_order(Piece::rows().filter(|p| p.id.one_of(ids))),
        &with(&|p| first.contains(&p.id)),
    )
}

#[derive(Debug, Clone, PartialEq, RowShape)]
struct IdGrams {
    id: i64,
    grams: Option<i64>,
}
