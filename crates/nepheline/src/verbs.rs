//! The verbs, written once over any [`Driver`]. The handles give them to users.

use nepheline_core::internal::{Single, Statement, Wanted};
use nepheline_core::{Error, Query, RowShape, Table};

use crate::driver::Driver;

pub(crate) async fn read<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<Vec<R>, Error>
where
    D: Driver,
    T: Table,
    R: RowShape + Send,
{
    let statement = query.statement(driver.dialect(), Wanted::Rows)?;
    let mut rows = Vec::new();
    driver.fetch(&statement, |row| rows.push(row)).await?;
    Ok(rows)
}

pub(crate) async fn read_first<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<Option<R>, Error>
where
    D: Driver,
    T: Table,
    R: RowShape + Send,
{
    single(driver, query.statement(driver.dialect(), Wanted::AtMost(1))?).await
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
    let statement = query.statement(driver.dialect(), Wanted::AtMost(2))?;
    let (mut found, mut more) = (None, false);
    driver.fetch(&statement, |row| more = found.replace(row).is_some()).await?;
    match more {
        false => Ok(found),
        true => Err(Error::more_than_one(T::INFO.name()).asked_at(query.origin())),
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
    let count = single::<_, Single<i64>>(driver, statement).await?;
    Ok(count.map_or(0, |count| count.0.unsigned_abs()))
}

pub(crate) async fn has_rows<D, T, R>(driver: &D, query: &Query<T, R>) -> Result<bool, Error>
where
    D: Driver,
    T: Table,
{
    let statement = query.statement(driver.dialect(), Wanted::Presence)?;
    let presence = single::<_, Single<bool>>(driver, statement).await?;
    Ok(presence.is_some_and(|presence| presence.0))
}

/// The row of a statement that gives one at most.
async fn single<D, R>(driver: &D, statement: Statement<'_>) -> Result<Option<R>, Error>
where
    D: Driver,
    R: RowShape + Send,
{
    let mut found = None;
    driver.fetch(&statement, |row| found = Some(row)).await?;
    Ok(found)
}
