//! The verbs, written once over any [`Driver`]. The handles give them to users.

use nepheline_core::internal::{Single, Wanted};
use nepheline_core::{Error, Query, RowShape, Table};

use crate::driver::Driver;

pub(crate) async fn read<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<Vec<R>, Error>
where
    D: Driver,
    T: Table,
    R: RowShape + Send,
{
    fetch(driver, query, Wanted::Rows).await
}

pub(crate) async fn read_first<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<Option<R>, Error>
where
    D: Driver,
    T: Table,
    R: RowShape + Send,
{
    Ok(fetch(driver, query, Wanted::AtMost(1)).await?.pop())
}

pub(crate) async fn read_at_most_one<D, T, R>(
    driver: &D,
    query: &Query<T, R>,
) -> Result<Option<R>, Error>
where
    D: Driver,
    T: Table,
    R: RowShape + Send,
{
    // A second row is asked for only to learn that there is one.
    let mut rows = fetch(driver, query, Wanted::AtMost(2)).await?;
    match rows.len() {
        0 | 1 => Ok(rows.pop()),
        _ => Err(Error::more_than_one(T::INFO.name()).asked_at(query.origin())),
    }
}

pub(crate) async fn read_one<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<R, Error>
where
    D: Driver,
    T: Table,
    R: RowShape + Send,
{
    let row = read_at_most_one(driver, query).await?;
    row.ok_or_else(|| Error::not_found(T::INFO.name(), query.key_sought()).asked_at(query.origin()))
}

pub(crate) async fn count<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<u64, Error>
where
    D: Driver,
    T: Table,
{
    let statement = query.statement(driver.dialect(), Wanted::Count)?;
    let rows = driver.fetch::<Single<i64>>(&statement).await?;
    Ok(rows.first().map_or(0, |count| count.0.unsigned_abs()))
}

pub(crate) async fn has_rows<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<bool, Error>
where
    D: Driver,
    T: Table,
{
    let statement = query.statement(driver.dialect(), Wanted::Presence)?;
    let rows = driver.fetch::<Single<bool>>(&statement).await?;
    Ok(rows.first().is_some_and(|presence| presence.0))
}

async fn fetch<D, T, R>(driver: &D, query: &Query<T, R>, wanted: Wanted) -> Result<Vec<R>, Error>
where
    D: Driver,
    T: Table,
    R: RowShape + Send,
{
    let statement = query.statement(driver.dialect(), wanted)?;
    driver.fetch(&statement).await
}
