//! LIMIT and OFFSET.

use std::borrow::Cow;

use super::Writer;
use crate::dialect::LimitForm;
use crate::model::{BindValue, Error, Origin, ParameterForm};
use crate::tree::{Located, Select, rows_left};

/// A limit that a verb adds to a query, and the number of rows to skip.
#[derive(Debug, Clone, Copy)]
pub(super) struct Cap {
    pub(super) after: Option<i64>,
    pub(super) rows: i64,
}

impl<'q> Writer<'q> {
    /// Writes LIMIT and OFFSET: those of the query, combined with those of `cap`.
    pub(super) fn write_limit(
        &mut self,
        select: &'q Select,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let at = select.asked_at;
        let bound = |rows| Cow::Owned(BindValue::Int(rows));
        let limit = match (&select.limit, cap) {
            (Some(Located { what: BindValue::Int(own), at }), Some(Cap { after, rows })) => {
                Some((bound(rows_left(*own, after.unwrap_or(0), rows)), *at))
            }
            (Some(Located { what: BindValue::Parameter(own), at }), Some(Cap { rows, .. })) => {
                // A page of a prepared query has its own limit and offset in the query, and no cap.
                Some((Cow::Owned(own.in_form(ParameterForm::AtMost(rows))), *at))
            }
            (Some(Located { what, at }), _) => Some((Cow::Borrowed(what), *at)),
            (None, Some(Cap { rows, .. })) => Some((bound(rows), at)),
            (None, None) => None,
        };
        let offset = match (&select.offset, cap.and_then(|cap| cap.after)) {
            (None, None) => None,
            (None, Some(after)) => Some((bound(after), at)),
            (Some(Located { what: BindValue::Int(own), at }), Some(after)) => {
                Some((bound(own.saturating_add(after)), *at))
            }
            (Some(Located { what, at }), _) => Some((Cow::Borrowed(what), *at)),
        };
        self.write_limit_of(limit, offset)
    }

    pub(super) fn write_limit_of(
        &mut self,
        limit: Option<(Cow<'q, BindValue>, Origin)>,
        offset: Option<(Cow<'q, BindValue>, Origin)>,
    ) -> Result<(), Error> {
        match self.grammar.limit() {
            LimitForm::LimitOffset { before_rows, no_limit } => {
                let alone = limit.is_none();
                if let Some((rows, at)) = limit {
                    self.clause(" LIMIT ", at);
                    self.push(before_rows);
                    self.push_bind(rows)?;
                }
                if let Some((rows, at)) = offset {
                    self.clause(" ", at);
                    if alone && !no_limit.is_empty() {
                        self.push(no_limit);
                        self.push(" ");
                    }
                    self.push("OFFSET ");
                    self.push_bind(rows)?;
                }
            }
            LimitForm::OffsetFetch => {
                if let Some((rows, at)) = offset {
                    self.clause(" OFFSET ", at);
                    self.push_bind(rows)?;
                    self.push(" ROWS");
                }
                if let Some((rows, at)) = limit {
                    self.clause(" FETCH NEXT ", at);
                    self.push_bind(rows)?;
                    self.push(" ROWS ONLY");
                }
            }
        }
        Ok(())
    }

    /// Writes the limit for one row after a bound number of rows.
    pub(super) fn write_one_after(&mut self, rows: &'q BindValue) -> Result<(), Error> {
        match self.grammar.limit() {
            LimitForm::LimitOffset { .. } => {
                self.push(" LIMIT 1 OFFSET ");
                self.push_bind(Cow::Borrowed(rows))
            }
            LimitForm::OffsetFetch => {
                self.push(" OFFSET ");
                self.push_bind(Cow::Borrowed(rows))?;
                self.push(" ROWS FETCH NEXT 1 ROWS ONLY");
                Ok(())
            }
        }
    }
}
