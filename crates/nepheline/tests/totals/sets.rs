//! Common table expressions, derived tables and set operations.

use std::collections::{BTreeMap, BTreeSet};

use nepheline::prelude::*;
use proptest::test_runner::TestCaseError;

use crate::{Answers, Asked, Name, PerKind, Piece, grouped};

pub(crate) fn check(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
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
