//! Pages by number and by cursor, forwards and backwards.

use nepheline::blocking::RunsQueries as _;
use nepheline::prelude::*;
use nepheline::{Paging, Readable};
use proptest::test_runner::TestCaseError;
use proptest::{prop_assert, prop_assert_eq};

use crate::{Answers, Asked, Piece};

/// Reads all rows in pages, forwards and backwards.
pub(crate) fn walk<Q>(
    answers: &Answers<'_>,
    query: &Q,
    all: &[Q::Row],
    size: u32,
) -> Result<(), TestCaseError>
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

pub(crate) fn check(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
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
