//! Prepared updates and deletes.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::texts::{Texts, Verb, Wanted, WriteKind};
use super::{Bound, Kept, ParameterValues, Prepares, fill};
use crate::build::table::Table;
use crate::build::write::{Delete, Update, Writes};
use crate::dialect::Dialect;
use crate::model::{BindValue, ColumnInfo, Error, ErrorKind, Origin, TableInfo};
use crate::plan::CompileContext;
use crate::plan::write::{Added, Change, Checks, Part, Parts, Stamps, Step, Target, WriteShape};
use crate::sql::{Sql, Statement, Template};
use crate::tree::{Assignment, Inner};

/// An update or a delete, whose text may serve for other values.
pub(crate) trait KeepsText: Writes + Clone {
    /// Visits the value of every bind for changes.
    fn each_bind(&mut self, change: &mut dyn FnMut(&mut BindValue));

    fn change(&self) -> &Change;

    fn change_mut(&mut self) -> &mut Change;

    /// Returns its assignments; `None` for a delete.
    fn sets(&self) -> Option<&[Assignment]>;

    fn kind(&self) -> WriteKind;

    /// Returns the values that it adds by itself.
    fn stamps(&self, context: CompileContext<'_>) -> Stamps;

    /// Returns the rows that it changes, under their policies, and all assignments.
    fn target_with(&self, added: Added, context: CompileContext<'_>) -> Result<Target, Error>;

    /// Returns the rows that it changes now, and all assignments.
    fn target(&self, context: CompileContext<'_>) -> Result<Target, Error> {
        self.target_with(Added::default(), context)
    }

    /// Returns whether neither its rows nor its values come from tables with policies.
    fn is_free_of_policies(&self) -> bool {
        self.change().select.is_free_of_policies() && self.sets_are_free_of_policies()
    }

    /// Returns whether its values do not come from tables with policies.
    fn sets_are_free_of_policies(&self) -> bool {
        let mut is_free = true;
        for set in self.sets().unwrap_or_default() {
            set.value.each_inner(&mut |inner| {
                is_free &= match inner {
                    Inner::Query(select) => select.is_free_of_policies(),
                    Inner::Cte(cte) => cte.select.is_free_of_policies(),
                };
            });
        }
        is_free
    }
}

/// Returns the statement of a write without writing it anew, if its text is known or can be kept. `columns` are those of a
/// write by key, the keys first. `prepared` returns the write with bind parameters.
pub(super) fn known_write<'s, W: KeepsText>(
    write: &'s W,
    texts: &'s Texts,
    values: &[&'s BindValue],
    (columns, number_of_keys): (&[&'static ColumnInfo], usize),
    (context, step): (CompileContext<'_>, &Step<'_>),
    prepared: impl FnOnce() -> Cow<'s, W>,
) -> Result<Option<Statement<'s>>, Error> {
    let is_free = texts.is_free_of_policies(|| write.is_free_of_policies());
    let is_kept = step.part == Part::All
        && context.carried.required().is_empty()
        && (is_free || write.sets_are_free_of_policies());
    if !is_kept {
        return Ok(None);
    }
    let returning = step.shape == WriteShape::Rows;
    let verb = Verb::Write { returning, kind: write.kind(), number_of_keys };
    let Change { select, at, .. } = write.change();
    let wanted = Wanted { context, columns, stands_nowhere: !columns.is_empty(), at: *at };
    let stamps = write.stamps(context);
    texts.write(select, values, stamps, verb, &wanted, |added, list_length| {
        let target = prepared().target_with(added, context)?;
        Template::of_change(&target, context.grammar, returning, list_length)
    })
}

macro_rules! prepares_writes {
    ($($write:ident)*) => {$(
        impl<T: Table> Prepares for $write<T> {
            type Bound<'p> = Bound<'p, Self> where Self: 'p;
            type Shown = Sql;

            fn bound(kept: &Kept<Self>, values: ParameterValues) -> Bound<'_, Self> {
                Bound::new(kept, values)
            }

            fn shown(&self, dialect: Dialect) -> Result<Sql, Error> {
                Writes::sql(self, dialect)
            }
        }
    )*};
}

prepares_writes! { Update Delete }

/// Returns a write with its values.
fn filled<'b, W: KeepsText>(bound: &'b Bound<'_, W>) -> &'b W {
    bound.filled.get_or_init(|| {
        let mut write = Box::new(bound.kept.query.clone());
        write.each_bind(&mut |bind| fill(bind, &bound.values));
        write
    })
}

impl<W: KeepsText> Writes for Bound<'_, W> {
    type Row = W::Row;
    type Read = W::Read;

    fn row_of(read: W::Read) -> W::Row {
        W::row_of(read)
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        filled(self).shown(context)
    }

    fn parts(
        &self,
        context: CompileContext<'_>,
        shape: WriteShape,
        keyed: bool,
    ) -> Result<Parts, Error> {
        self.kept.query.parts(context, shape, keyed)
    }

    fn checks(&self, context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        match self.table().is_checked() {
            true => filled(self).checks(context),
            false => Ok(None),
        }
    }

    fn foreign_key(&self, table: Option<&str>) -> ErrorKind {
        self.kept.query.foreign_key(table)
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        let Kept { query: write, texts } = self.kept;
        let values: SmallVec<[&BindValue; 4]> = self.values.iter().collect();
        let prepared = || Cow::Borrowed(write);
        let known = known_write(write, texts, &values, (&[], 0), (context, step), prepared)?;
        match known {
            Some(statement) => Ok(statement),
            None => filled(self).statement(context, step),
        }
    }

    fn finds_rows(&self) -> bool {
        self.kept.query.finds_rows()
    }

    fn expects_a_version(&self) -> bool {
        self.kept.query.expects_a_version()
    }

    fn origin(&self) -> Origin {
        self.kept.query.origin()
    }

    fn table(&self) -> &'static TableInfo {
        self.kept.query.table()
    }
}
