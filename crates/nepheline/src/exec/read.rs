//! The reading verbs, each written once.

use std::marker::PhantomData;

use async_stream::try_stream;
use futures_util::stream::Stream;
use nepheline_core::Error;

use super::access::{Access, Cursor as _, complete, complete_one, run};
use super::ask::{
    Count, Explain, Exists, Read, ReadAtMostOne, ReadFirst, ReadCursored, not_found, places_apart,
};
use super::companions::{Explainable, Readable};
use super::describe::Describable;
use super::page::{self, Cursor, Page, Paging, CursoredRows, Way};
use super::sink::Gathering;

pub(crate) async fn all<A: Access, Q: Readable>(access: A, query: &Q) -> Result<Vec<Q::Row>, Error> {
    let rows = run(&access, Read::all(query)).await?;
    complete(&access, query, rows).await
}

pub(crate) async fn first<A: Access, Q: Readable>(
    access: A,
    query: &Q,
) -> Result<Option<Q::Row>, Error> {
    let row = run(&access, ReadFirst(query)).await?;
    complete_one(&access, query, row).await
}

pub(crate) async fn at_most_one<A: Access, Q: Readable>(
    access: A,
    query: &Q,
) -> Result<Option<Q::Row>, Error> {
    let row = run(&access, ReadAtMostOne(query)).await?;
    complete_one(&access, query, row).await
}

pub(crate) async fn one<A: Access, Q: Readable>(access: A, query: &Q) -> Result<Q::Row, Error> {
    let row = at_most_one(access, query).await?;
    row.ok_or_else(|| not_found(query))
}

pub(crate) async fn count<A: Access, Q: Readable>(access: A, query: &Q) -> Result<u64, Error> {
    run(&access, Count(query)).await
}

pub(crate) async fn exists<A: Access, Q: Readable>(access: A, query: &Q) -> Result<bool, Error> {
    run(&access, Exists(query)).await
}

pub(crate) async fn explain<A: Access, Q: Explainable>(
    access: A,
    explained: &Q,
    analyze: bool,
) -> Result<String, Error> {
    if Q::IS_OUTSIDE {
        return run(&access, Explain { query: explained.query(), analyze }).await;
    }
    plan(access, explained.query(), analyze).await
}

/// Returns the plan of a query, unless it would tell of rows that policies hide.
pub(crate) async fn plan<A: Access>(
    access: A,
    query: &dyn Describable,
    analyze: bool,
) -> Result<String, Error> {
    if access.context().carried.requires_policies() {
        return Err(Error::plan_outside_policies().asked_at(query.asked_at()));
    }
    run(&access, Explain { query, analyze }).await
}

pub(crate) async fn page<A: Access, Q: Readable>(
    access: A,
    query: &Q,
    paging: Paging,
) -> Result<Page<Q::Row>, Error> {
    let after = paging
        .offset()
        .map_err(|err| err.asked_at(query.asked_at()))?;
    let all = run(&access, Count(query)).await?;
    let rows = match after < all {
        true => run(&access, Read::page(query, after, paging.size())).await?,
        false => Vec::new(),
    };
    Ok(Page::new(complete(&access, query, rows).await?, paging, all))
}

pub(crate) async fn cursored<A: Access, Q: Readable>(
    access: A,
    query: &Q,
    cursor: Option<&Cursor>,
    rows: u32,
    way: Way,
) -> Result<CursoredRows<Q::Row>, Error> {
    let asked = page::KeysetRead::new(query, access.context(), cursor, rows, way)?;
    let verb = ReadCursored::<Q::Base> { asked: &asked, rows: PhantomData };
    let mut arrived = run(&access, verb).await?;
    let more = asked.has_more(&mut arrived);
    let (places, rows) = places_apart::<Q>(&asked, arrived);
    asked.cursored(complete(&access, query, rows).await?, &places, more)
}

/// The number of rows of a stream that are read at a time: few at first, so that the first rows arrive soon.
const FIRST_ROWS: usize = 16;
const MOST_ROWS: usize = 500;

/// Returns the rows of a query in chunks.
pub(crate) fn chunks<'q, A: Access + 'q, Q: Readable>(
    access: A,
    query: &'q Q,
) -> impl Stream<Item = Result<Vec<Q::Row>, Error>> + use<'q, A, Q> {
    try_stream! {
        if Q::HAS_COMPANIONS {
            access.check_beside_stream().map_err(|err| err.asked_at(query.asked_at()))?;
        }
        let read = Read::<Q, Q::Read>::all(query);
        let mut cursor = access.open(&read).await?;
        // Companions are read for as many rows together as possible. Without companions, rows are passed on
        // as they arrive.
        let mut most = if Q::HAS_COMPANIONS { MOST_ROWS } else { FIRST_ROWS };
        let mut more = true;
        let mut arrived = 0;
        while more {
            let mut rows: Vec<Q::Read> = Vec::new();
            while more && (rows.is_empty() || Q::HAS_COMPANIONS && rows.len() < MOST_ROWS) {
                let mut sink = Gathering::<Q::Read, Vec<Q::Read>>::after(arrived);
                more = cursor.next(&mut sink, most - rows.len()).await?;
                let mut new = sink.finish();
                arrived += new.len() as u64;
                rows.append(&mut new);
            }
            most = (most * 2).min(MOST_ROWS);
            yield complete(&access, query, rows).await?;
        }
    }
}
