//! Several independent reads, which are sent together where the driver can.

use nepheline_core::Error;
use nepheline_core::internal::{CompileContext, PolicySlot, Statement};

use super::access::Access;
use super::ask::{Ask, Read};
use super::companions::{Readable, Step};
use super::sink::{Gathering, Sink};

/// A read that is sent with others, and the sink of its rows.
pub(crate) struct Together<'f> {
    pub(crate) ask: &'f dyn Ask,
    pub(crate) sink: &'f mut dyn Sink,
}

/// A compiled read that is sent with others.
pub(crate) struct Sent<'s> {
    pub(crate) statement: Statement<'s>,
    pub(crate) sink: &'s mut dyn Sink,
    pub(crate) counts: bool,
}

/// Compiles reads; each has a slot for its policies.
pub(crate) fn compiled<'s>(
    reads: &'s mut [Together<'_>],
    context: CompileContext<'s>,
    slots: &'s [PolicySlot],
) -> Result<Vec<Sent<'s>>, Error> {
    let each = reads.iter_mut().zip(slots).map(|(read, kept)| {
        let statement = read.ask.statement(context.keeping(kept))?;
        Ok(Sent { statement, counts: read.ask.counts(), sink: &mut *read.sink })
    });
    each.collect()
}

/// The queries that `read_together` reads: a tuple of references to [`Readable`] ones.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a tuple of queries",
    label = "expected `(&first, &second)`, up to eight queries"
)]
#[expect(private_bounds, reason = "only the verb uses the steps")]
pub trait ReadsTogether: Steps<Results = Self::Rows> {
    /// A tuple with the rows of each.
    type Rows: Send;
}

/// The steps of reading several queries.
pub(crate) trait Steps: Send {
    type Results: Send;
    /// The reads and their sinks.
    type Reads: Send;
    type Loading: Send;

    fn reads(&self) -> Self::Reads;

    fn parts(reads: &mut Self::Reads) -> Vec<Together<'_>>;

    fn loading(&self, reads: Self::Reads) -> Self::Loading;

    /// Continues with the next statement of a companion; returns whether there is one.
    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error>;

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>>;

    fn finish(&self, loading: Self::Loading) -> Result<Self::Results, Error>;
}

/// A read and the sink of its rows.
type Reading<'q, Q> = (Read<'q, Q, <Q as nepheline_core::internal::Selects>::Read>, Gathered<Q>);

type Gathered<Q> = Gathering<
    <Q as nepheline_core::internal::Selects>::Read,
    Vec<<Q as nepheline_core::internal::Selects>::Read>,
>;

macro_rules! steps {
    ($($name:ident $place:tt)+) => {
        impl<'q, $($name: Readable),+> ReadsTogether for ($(&'q $name,)+) {
            type Rows = ($(Vec<$name::Row>,)+);
        }

        impl<'q, $($name: Readable),+> Steps for ($(&'q $name,)+) {
            type Results = ($(Vec<$name::Row>,)+);
            type Reads = ($(Reading<'q, $name>,)+);
            type Loading = ($($name::Loading,)+);

            fn reads(&self) -> Self::Reads {
                ($((Read::all(self.$place), Gathering::default()),)+)
            }

            fn parts(reads: &mut Self::Reads) -> Vec<Together<'_>> {
                vec![$(Together { ask: &reads.$place.0, sink: &mut reads.$place.1 }),+]
            }

            fn loading(&self, reads: Self::Reads) -> Self::Loading {
                ($(self.$place.loading(reads.$place.1.finish()),)+)
            }

            fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
                Ok(false $(|| self.$place.advance(&mut loading.$place)?)+)
            }

            fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
                $(
                    if let Some(step) = self.$place.step(&mut loading.$place) {
                        return Some(step);
                    }
                )+
                None
            }

            fn finish(&self, loading: Self::Loading) -> Result<Self::Results, Error> {
                Ok(($(self.$place.finish(loading.$place)?,)+))
            }
        }
    };
}

steps! { A 0 }
steps! { A 0 B 1 }
steps! { A 0 B 1 C 2 }
steps! { A 0 B 1 C 2 D 3 }
steps! { A 0 B 1 C 2 D 3 E 4 }
steps! { A 0 B 1 C 2 D 3 E 4 F 5 }
steps! { A 0 B 1 C 2 D 3 E 4 F 5 G 6 }
steps! { A 0 B 1 C 2 D 3 E 4 F 5 G 6 H 7 }

/// Reads several queries, and then their companions.
pub(crate) async fn read<A: Access, Q: ReadsTogether>(access: A, queries: Q) -> Result<Q::Rows, Error> {
    let mut reads = queries.reads();
    access.fetch_together(Q::parts(&mut reads)).await?;
    let mut loading = queries.loading(reads);
    while queries.advance(&mut loading)? {
        if let Some(step) = queries.step(&mut loading) {
            access.fetch(step.ask, step.sink).await?;
        }
    }
    queries.finish(loading)
}
