//! What can be read, and how rows that are read by several statements are put together: written once
//! for async handles and once for blocking ones, which differ in `.await`.

use std::future::Future;

use async_stream::try_stream;
use futures_util::stream::{BoxStream, TryStreamExt};
use nepheline_core::internal::{
    Companion, Companions, Found, Key, KeyPart, KeyedRow, Lookup, Selects, StandsAlongside,
};
use nepheline_core::{Alongside, Error, Level, MappedRows, Query, RowShape, Tables};

use crate::blocking;
use crate::handle;
use crate::verbs::Read;

/// A query that handles read: a [`Query`], one with others [`Alongside`], or one of whose rows
/// something else is made, [`MappedRows`].
///
/// Name it to write a function that takes any: `fn export(query: &impl Readable<Row = Specimen>)`.
pub trait Readable: sealed::Completes {}

impl<Q: sealed::Completes> Readable for Q {}

pub(crate) mod sealed {
    use std::future::Future;
    #[cfg(feature = "sqlite")]
    use std::ops::ControlFlow;

    use futures_util::stream::BoxStream;
    use nepheline_core::Error;
    use nepheline_core::internal::{KeyedRow, Lookup, Selects};

    use super::apart;
    use crate::{blocking, handle};

    /// A query whose rows are complete when what stands alongside has been read too.
    pub trait Completes: Selects + Send + Sync {
        fn complete<H: handle::sealed::Handle>(
            &self,
            handle: &H,
            rows: Vec<Self::Read>,
        ) -> impl Future<Output = Result<Vec<Self::Row>, Error>> + Send;

        fn complete_blocking<H: blocking::sealed::Handle>(
            &self,
            handle: &H,
            rows: Vec<Self::Read>,
        ) -> Result<Vec<Self::Row>, Error>;

        /// Completes one row, if there is one.
        fn complete_one<H: handle::sealed::Handle>(
            &self,
            handle: &H,
            row: Option<Self::Read>,
        ) -> impl Future<Output = Result<Option<Self::Row>, Error>> + Send {
            async move {
                let rows = self.complete(handle, row.into_iter().collect()).await?;
                Ok(rows.into_iter().next())
            }
        }

        fn complete_one_blocking<H: blocking::sealed::Handle>(
            &self,
            handle: &H,
            row: Option<Self::Read>,
        ) -> Result<Option<Self::Row>, Error> {
            let rows = self.complete_blocking(handle, row.into_iter().collect())?;
            Ok(rows.into_iter().next())
        }

        /// Completes rows that stand alongside others, and keeps each where it belongs.
        fn keep<H: handle::sealed::Handle>(
            &self,
            handle: &H,
            arrived: Vec<KeyedRow<Self::Base>>,
            lookup: &mut Lookup<Self::Row>,
        ) -> impl Future<Output = Result<(), Error>> + Send
        where
            Self::Row: Sync,
        {
            async move {
                let (keys, rows) = apart::<Self>(arrived, lookup.width());
                let rows = self.complete(handle, rows).await?;
                keys.iter().zip(rows).for_each(|(key, row)| lookup.put(key, row));
                Ok(())
            }
        }

        fn keep_blocking<H: blocking::sealed::Handle>(
            &self,
            handle: &H,
            arrived: Vec<KeyedRow<Self::Base>>,
            lookup: &mut Lookup<Self::Row>,
        ) -> Result<(), Error> {
            let (keys, rows) = apart::<Self>(arrived, lookup.width());
            let rows = self.complete_blocking(handle, rows)?;
            keys.iter().zip(rows).for_each(|(key, row)| lookup.put(key, row));
            Ok(())
        }

        fn stream<'a, H: handle::sealed::Handle>(
            &'a self,
            handle: &'a H,
        ) -> BoxStream<'a, Result<Self::Row, Error>>;

        /// On one connection of SQLite, where statements can run while the rows of another are read.
        #[cfg(feature = "sqlite")]
        fn each(
            &self,
            session: &blocking::Session<'_>,
            take: impl FnMut(Self::Row) -> ControlFlow<()>,
        ) -> Result<(), Error>;
    }
}
use sealed::Completes;

impl<T: Tables, R: RowShape + Send + 'static, L: Level> Completes for Query<T, R, L> {
    async fn complete<H: handle::sealed::Handle>(
        &self,
        _: &H,
        rows: Vec<R>,
    ) -> Result<Vec<R>, Error> {
        Ok(rows)
    }

    async fn complete_one<H: handle::sealed::Handle>(
        &self,
        _: &H,
        row: Option<R>,
    ) -> Result<Option<R>, Error> {
        Ok(row)
    }

    fn complete_one_blocking<H: blocking::sealed::Handle>(
        &self,
        _: &H,
        row: Option<R>,
    ) -> Result<Option<R>, Error> {
        Ok(row)
    }

    // Nothing stands beside them that would have to be read first.
    async fn keep<H: handle::sealed::Handle>(
        &self,
        _: &H,
        arrived: Vec<KeyedRow<R>>,
        lookup: &mut Lookup<R>,
    ) -> Result<(), Error>
    where
        R: Sync,
    {
        lookup.put_all(arrived);
        Ok(())
    }

    fn keep_blocking<H: blocking::sealed::Handle>(
        &self,
        _: &H,
        arrived: Vec<KeyedRow<R>>,
        lookup: &mut Lookup<R>,
    ) -> Result<(), Error> {
        lookup.put_all(arrived);
        Ok(())
    }

    fn complete_blocking<H: blocking::sealed::Handle>(
        &self,
        _: &H,
        rows: Vec<R>,
    ) -> Result<Vec<R>, Error> {
        Ok(rows)
    }

    fn stream<'a, H: handle::sealed::Handle>(
        &'a self,
        handle: &'a H,
    ) -> BoxStream<'a, Result<R, Error>> {
        handle.stream(self)
    }

    #[cfg(feature = "sqlite")]
    fn each(
        &self,
        session: &blocking::Session<'_>,
        take: impl FnMut(R) -> std::ops::ControlFlow<()>,
    ) -> Result<(), Error> {
        session.each_read(self, take)
    }
}

/// For how many rows of a stream the rows alongside are read together.
const ROWS_IN_CHUNK: usize = 500;

impl<T, R, B> Completes for Alongside<T, R, B>
where
    T: Tables,
    R: RowShape + Send + 'static,
    B: Brings<R>,
{
    async fn complete<H: handle::sealed::Handle>(
        &self,
        handle: &H,
        rows: Vec<KeyedRow<R>>,
    ) -> Result<Vec<B::Row>, Error> {
        self.companions().bring(handle, rows).await
    }

    fn complete_blocking<H: blocking::sealed::Handle>(
        &self,
        handle: &H,
        rows: Vec<KeyedRow<R>>,
    ) -> Result<Vec<B::Row>, Error> {
        self.companions().bring_blocking(handle, rows)
    }

    fn stream<'a, H: handle::sealed::Handle>(
        &'a self,
        handle: &'a H,
    ) -> BoxStream<'a, Result<B::Row, Error>> {
        Box::pin(try_stream! {
            handle.check_beside_stream().map_err(|err| err.asked_at(self.asked_at()))?;
            let mut chunks = handle.stream(self).try_chunks(ROWS_IN_CHUNK);
            while let Some(chunk) = chunks.try_next().await.map_err(|failed| failed.1)? {
                for row in self.complete(handle, chunk).await? {
                    yield row;
                }
            }
        })
    }

    #[cfg(feature = "sqlite")]
    fn each(
        &self,
        session: &blocking::Session<'_>,
        mut take: impl FnMut(B::Row) -> std::ops::ControlFlow<()>,
    ) -> Result<(), Error> {
        use std::ops::ControlFlow::{Break, Continue};

        let mut chunk = Vec::with_capacity(ROWS_IN_CHUNK);
        // What ended it early: the caller, or a failure to complete a chunk.
        let mut ended = None;
        let mut hand_over = |chunk: &mut Vec<KeyedRow<R>>| {
            match self.complete_blocking(session, std::mem::take(chunk)) {
                Ok(rows) => rows.into_iter().try_for_each(&mut take).map_break(|()| Ok(())),
                Err(err) => Break(Err(err)),
            }
        };
        session.each_read(self, |row| {
            chunk.push(row);
            if chunk.len() < ROWS_IN_CHUNK {
                return Continue(());
            }
            match hand_over(&mut chunk) {
                Continue(()) => Continue(()),
                Break(outcome) => {
                    ended = Some(outcome);
                    Break(())
                }
            }
        })?;
        match ended {
            Some(outcome) => outcome,
            None => hand_over(&mut chunk).break_value().unwrap_or(Ok(())),
        }
    }
}

impl<Q, F, P> Completes for MappedRows<Q, F>
where
    Q: Completes,
    F: Fn(Q::Row) -> P + Send + Sync,
    P: Send + 'static,
{
    async fn complete<H: handle::sealed::Handle>(
        &self,
        handle: &H,
        rows: Vec<Q::Read>,
    ) -> Result<Vec<P>, Error> {
        let rows = self.query().complete(handle, rows).await?;
        Ok(rows.into_iter().map(self.make()).collect())
    }

    fn complete_blocking<H: blocking::sealed::Handle>(
        &self,
        handle: &H,
        rows: Vec<Q::Read>,
    ) -> Result<Vec<P>, Error> {
        let rows = self.query().complete_blocking(handle, rows)?;
        Ok(rows.into_iter().map(self.make()).collect())
    }

    fn stream<'a, H: handle::sealed::Handle>(
        &'a self,
        handle: &'a H,
    ) -> BoxStream<'a, Result<P, Error>> {
        Box::pin(self.query().stream(handle).map_ok(self.make()))
    }

    #[cfg(feature = "sqlite")]
    fn each(
        &self,
        session: &blocking::Session<'_>,
        mut take: impl FnMut(P) -> std::ops::ControlFlow<()>,
    ) -> Result<(), Error> {
        self.query().each(session, |row| take(self.make()(row)))
    }
}

/// All that stands alongside rows of `R`, and can be read.
pub trait Brings<R>: Companions<R> + Send + Sync {
    fn bring<H: handle::sealed::Handle>(
        &self,
        handle: &H,
        rows: Vec<KeyedRow<R>>,
    ) -> impl Future<Output = Result<Vec<Self::Row>, Error>> + Send;

    fn bring_blocking<H: blocking::sealed::Handle>(
        &self,
        handle: &H,
        rows: Vec<KeyedRow<R>>,
    ) -> Result<Vec<Self::Row>, Error>;
}

/// A query alongside, and what it puts beside a row.
pub trait Brought: StandsAlongside + Send + Sync {
    type Lookup: Send;

    /// Reads the rows that belong to any row with these keys.
    fn look_up<H: handle::sealed::Handle>(
        &self,
        handle: &H,
        wanted: Self::Lookup,
    ) -> impl Future<Output = Result<Self::Lookup, Error>> + Send;

    fn look_up_blocking<H: blocking::sealed::Handle>(
        &self,
        handle: &H,
        wanted: Self::Lookup,
    ) -> Result<Self::Lookup, Error>;

    fn wanted<'k>(&self, keys: impl Iterator<Item = &'k [KeyPart]>) -> Self::Lookup;

    fn take(&self, lookup: &mut Self::Lookup, keys: &[KeyPart]) -> Result<Self::Beside, Error>;
}

impl<Q, A> Brought for Companion<Q, A>
where
    Q: Completes + Clone,
    Q::Row: Sync,
    A: Found<Q::Row>,
{
    type Lookup = Lookup<Q::Row>;

    async fn look_up<H: handle::sealed::Handle>(
        &self,
        handle: &H,
        mut wanted: Lookup<Q::Row>,
    ) -> Result<Lookup<Q::Row>, Error> {
        if !wanted.is_empty() {
            let query = self.among(&wanted)?;
            let arrived = handle.run(Read::all(&query)).await?;
            query.keep(handle, arrived, &mut wanted).await?;
        }
        Ok(wanted)
    }

    fn look_up_blocking<H: blocking::sealed::Handle>(
        &self,
        handle: &H,
        mut wanted: Lookup<Q::Row>,
    ) -> Result<Lookup<Q::Row>, Error> {
        if !wanted.is_empty() {
            let query = self.among(&wanted)?;
            let arrived = handle.run(Read::all(&query))?;
            query.keep_blocking(handle, arrived, &mut wanted)?;
        }
        Ok(wanted)
    }

    fn wanted<'k>(&self, keys: impl Iterator<Item = &'k [KeyPart]>) -> Lookup<Q::Row> {
        Lookup::of(self, keys)
    }

    fn take(&self, lookup: &mut Lookup<Q::Row>, keys: &[KeyPart]) -> Result<A::Beside, Error> {
        lookup.take(self, keys)
    }
}

/// The rows that arrived without the keys that tell to which rows they belong, and these.
fn apart<Q: Selects + ?Sized>(
    arrived: Vec<KeyedRow<Q::Base>>,
    width: usize,
) -> (Vec<Key>, Vec<Q::Read>) {
    let each = arrived.into_iter().map(|KeyedRow { row, mut keys }| {
        let own: Key = keys.drain(..width.min(keys.len())).collect();
        (own, Q::with_keys(row, keys))
    });
    each.unzip()
}

macro_rules! brings {
    ($($name:ident)+) => {
        impl<Row: Send + 'static, $($name: Brought),+> Brings<Row> for ($($name,)+) {
            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            async fn bring<Over: handle::sealed::Handle>(
                &self,
                handle: &Over,
                rows: Vec<KeyedRow<Row>>,
            ) -> Result<Vec<Self::Row>, Error> {
                let ($($name,)+) = self;
                $(
                    let wanted = $name.wanted(rows.iter().map(|row| &*row.keys));
                    let mut $name = ($name, $name.look_up(handle, wanted).await?);
                )+
                let each = rows.into_iter().map(|KeyedRow { row, keys }| {
                    Ok((row, $($name.0.take(&mut $name.1, &keys)?,)+))
                });
                each.collect()
            }

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn bring_blocking<Over: blocking::sealed::Handle>(
                &self,
                handle: &Over,
                rows: Vec<KeyedRow<Row>>,
            ) -> Result<Vec<Self::Row>, Error> {
                let ($($name,)+) = self;
                $(
                    let wanted = $name.wanted(rows.iter().map(|row| &*row.keys));
                    let mut $name = ($name, $name.look_up_blocking(handle, wanted)?);
                )+
                let each = rows.into_iter().map(|KeyedRow { row, keys }| {
                    Ok((row, $($name.0.take(&mut $name.1, &keys)?,)+))
                });
                each.collect()
            }
        }
    };
}

brings! { A }
brings! { A B }
brings! { A B C }
brings! { A B C D }
brings! { A B C D E }
brings! { A B C D E F }
brings! { A B C D E F G }
brings! { A B C D E F G H }
