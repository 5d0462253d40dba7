//! Readable queries, and the loading of companions: as steps without I/O, each a statement and the sink of its rows,
//! which whoever reads runs one after the other.

use nepheline_core::internal::{
    Asking, Companion, Companions, Found, Key, KeyPart, KeyedRow, Lookup, Selects, StandsAlongside,
    Statement, Wanted,
};
use nepheline_core::{Alongside, Error, Level, MappedRows, Query, RowShape, Tables};

use super::ask::Ask;
use super::sink::{Gathering, Sink};

/// A query that handles read: a [`Query`], one with others [`Alongside`], or one of whose rows
/// something else is made, [`MappedRows`].
///
/// Name it to write a function that takes any: `fn export(query: &impl Readable<Row = Specimen>)`.
pub trait Readable: Completes {}

impl<Q: Completes> Readable for Q {}

/// The next statement of rows that are completed, and where its rows go.
#[expect(missing_debug_implementations, reason = "it borrows what has none")]
pub struct Step<'s> {
    pub(crate) ask: &'s dyn Ask,
    pub(crate) sink: &'s mut dyn Sink,
}

/// A query whose rows are complete when its companions have been read too.
pub trait Completes: Selects + Send + Sync {
    /// The progress of completing the rows.
    type Loading: Send;

    /// Tells whether there is anything to read besides its own rows.
    const HAS_COMPANIONS: bool;

    /// A row that is complete as it was read, or the row again.
    fn plain(&self, row: Self::Read) -> Result<Self::Row, Self::Read>;

    fn loading(&self, rows: Vec<Self::Read>) -> Self::Loading;

    /// Goes on to the next statement, after the rows of the last one have arrived; returns whether there is one.
    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error>;

    /// The statement that it has gone on to.
    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>>;

    fn finish(&self, loading: Self::Loading) -> Result<Vec<Self::Row>, Error>;

    /// Puts rows that stand beside others where they belong, or returns them if they have to be completed first.
    fn keep(
        &self,
        arrived: Vec<KeyedRow<Self::Base>>,
        lookup: &mut Lookup<Self::Row>,
    ) -> Option<(Vec<Key>, Self::Loading)> {
        let width = lookup.width();
        let each = arrived.into_iter().map(|KeyedRow { row, mut keys }| {
            let own: Key = keys.drain(..width.min(keys.len())).collect();
            (own, Self::with_keys(row, keys))
        });
        let (keys, rows): (Vec<Key>, Vec<Self::Read>) = each.unzip();
        Some((keys, self.loading(rows)))
    }
}

impl<T: Tables, R: RowShape + Send + 'static, L: Level> Completes for Query<T, R, L> {
    type Loading = Vec<R>;

    const HAS_COMPANIONS: bool = false;

    fn plain(&self, row: R) -> Result<R, R> {
        Ok(row)
    }

    fn loading(&self, rows: Vec<R>) -> Vec<R> {
        rows
    }

    fn advance(&self, _: &mut Vec<R>) -> Result<bool, Error> {
        Ok(false)
    }

    fn step<'s>(&'s self, _: &'s mut Vec<R>) -> Option<Step<'s>> {
        None
    }

    fn finish(&self, rows: Vec<R>) -> Result<Vec<R>, Error> {
        Ok(rows)
    }

    fn keep(
        &self,
        arrived: Vec<KeyedRow<R>>,
        lookup: &mut Lookup<R>,
    ) -> Option<(Vec<Key>, Vec<R>)> {
        lookup.put_all(arrived);
        None
    }
}

impl<T, R, B> Completes for Alongside<T, R, B>
where
    T: Tables,
    R: RowShape + Send + 'static,
    B: LoadsAll<R>,
{
    type Loading = (Vec<KeyedRow<R>>, B::Loading);

    const HAS_COMPANIONS: bool = true;

    fn plain(&self, row: KeyedRow<R>) -> Result<B::Row, KeyedRow<R>> {
        Err(row)
    }

    fn loading(&self, rows: Vec<KeyedRow<R>>) -> Self::Loading {
        let loading = self.companions().loading(&rows);
        (rows, loading)
    }

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
        self.companions().advance(&mut loading.1)
    }

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
        self.companions().step(&mut loading.1)
    }

    fn finish(&self, (rows, loading): Self::Loading) -> Result<Vec<B::Row>, Error> {
        self.companions().finish(rows, loading)
    }
}

impl<Q, F, P> Completes for MappedRows<Q, F>
where
    Q: Completes,
    F: Fn(Q::Row) -> P + Send + Sync,
    P: Send + 'static,
{
    type Loading = Q::Loading;

    const HAS_COMPANIONS: bool = Q::HAS_COMPANIONS;

    fn plain(&self, row: Q::Read) -> Result<P, Q::Read> {
        self.query().plain(row).map(self.make())
    }

    fn loading(&self, rows: Vec<Q::Read>) -> Q::Loading {
        self.query().loading(rows)
    }

    fn advance(&self, loading: &mut Q::Loading) -> Result<bool, Error> {
        self.query().advance(loading)
    }

    fn step<'s>(&'s self, loading: &'s mut Q::Loading) -> Option<Step<'s>> {
        self.query().step(loading)
    }

    fn finish(&self, loading: Q::Loading) -> Result<Vec<P>, Error> {
        let rows = self.query().finish(loading)?;
        Ok(rows.into_iter().map(self.make()).collect())
    }
}

/// All companions of rows of `R`.
pub trait LoadsAll<R>: Companions<R> + Send + Sync {
    type Loading: Send;

    fn loading(&self, rows: &[KeyedRow<R>]) -> Self::Loading;

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error>;

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>>;

    fn finish(
        &self,
        rows: Vec<KeyedRow<R>>,
        loading: Self::Loading,
    ) -> Result<Vec<Self::Row>, Error>;
}

/// One companion, and what it puts beside a row.
pub trait Loads: StandsAlongside + Send + Sync {
    type Loading: Send;

    fn loading<'k>(&self, keys: impl Iterator<Item = &'k [KeyPart]>) -> Self::Loading;

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error>;

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>>;

    /// Returns whether a statement has been gone on to.
    fn waits(loading: &Self::Loading) -> bool;

    fn take(&self, loading: &mut Self::Loading, keys: &[KeyPart]) -> Result<Self::Beside, Error>;
}

/// A query that its question owns.
struct Rows<Q>(Q);

impl<Q: Selects + Sync> Ask for Rows<Q> {
    fn statement<'s>(&'s self, asking: Asking<'s>) -> Result<Statement<'s>, Error> {
        self.0.statement(asking, Wanted::Rows)
    }
}

/// The progress of loading one companion.
#[expect(missing_debug_implementations, reason = "rows need not have one")]
pub struct CompanionLoading<Q: Completes> {
    lookup: Lookup<Q::Row>,
    stage: Stage<Q>,
}

enum Stage<Q: Completes> {
    /// Nothing has been read.
    New,
    /// Its rows are read.
    Arriving(Box<Rows<Q>>, Gathering<KeyedRow<Q::Base>, Vec<KeyedRow<Q::Base>>>),
    /// Its rows have companions of their own.
    Completing(Box<Rows<Q>>, Vec<Key>, Q::Loading),
    Done,
}

impl<Q, A> Loads for Companion<Q, A>
where
    Q: Completes + Clone,
    Q::Row: Sync,
    A: Found<Q::Row>,
{
    type Loading = CompanionLoading<Q>;

    fn loading<'k>(&self, keys: impl Iterator<Item = &'k [KeyPart]>) -> Self::Loading {
        CompanionLoading { lookup: Lookup::of(self, keys), stage: Stage::New }
    }

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
        let CompanionLoading { lookup, stage } = loading;
        *stage = match std::mem::replace(stage, Stage::Done) {
            Stage::New if lookup.is_empty() => Stage::Done,
            Stage::New => {
                let query = Box::new(Rows(self.among(lookup)?));
                Stage::Arriving(query, Gathering::default())
            }
            Stage::Arriving(query, arrived) => match query.0.keep(arrived.finish(), lookup) {
                Some((keys, loading)) => Stage::Completing(query, keys, loading),
                None => Stage::Done,
            },
            other => other,
        };
        if let Stage::Completing(query, keys, rows) = stage
            && !query.0.advance(rows)?
        {
            let (keys, rows) = (std::mem::take(keys), std::mem::replace(rows, query.0.loading(Vec::new())));
            let rows = query.0.finish(rows)?;
            for (key, row) in keys.iter().zip(rows) {
                lookup.put(key, row);
            }
            *stage = Stage::Done;
        }
        Ok(Self::waits(loading))
    }

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
        match &mut loading.stage {
            Stage::Arriving(query, arrived) => Some(Step { ask: &**query, sink: arrived }),
            Stage::Completing(query, _, rows) => query.0.step(rows),
            Stage::New | Stage::Done => None,
        }
    }

    fn waits(loading: &Self::Loading) -> bool {
        matches!(loading.stage, Stage::Arriving(..) | Stage::Completing(..))
    }

    fn take(&self, loading: &mut Self::Loading, keys: &[KeyPart]) -> Result<A::Beside, Error> {
        loading.lookup.take(self, keys)
    }
}

macro_rules! loads_all {
    ($($name:ident $loading:ident)+) => {
        impl<Row: Send + 'static, $($name: Loads),+> LoadsAll<Row> for ($($name,)+) {
            type Loading = ($($name::Loading,)+);

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn loading(&self, rows: &[KeyedRow<Row>]) -> Self::Loading {
                let ($($name,)+) = self;
                ($($name.loading(rows.iter().map(|row| &*row.keys)),)+)
            }

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
                let (($($name,)+), ($($loading,)+)) = (self, loading);
                Ok(false $(|| $name.advance($loading)?)+)
            }

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
                let (($($name,)+), ($($loading,)+)) = (self, loading);
                $(
                    if $name::waits($loading) {
                        return $name.step($loading);
                    }
                )+
                None
            }

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn finish(
                &self,
                rows: Vec<KeyedRow<Row>>,
                loading: Self::Loading,
            ) -> Result<Vec<Self::Row>, Error> {
                let (($($name,)+), ($(mut $loading,)+)) = (self, loading);
                let each = rows.into_iter().map(|KeyedRow { row, keys }| {
                    Ok((row, $($name.take(&mut $loading, &keys)?,)+))
                });
                each.collect()
            }
        }
    };
}

loads_all! { A a }
loads_all! { A a B b }
loads_all! { A a B b C c }
loads_all! { A a B b C c D d }
loads_all! { A a B b C c D d E e }
loads_all! { A a B b C c D d E e F f }
loads_all! { A a B b C c D d E e F f G g }
loads_all! { A a B b C c D d E e F f G g H h }
