//! Subqueries, which see the columns of the queries around them.

use super::Writer;
use super::clauses::Naming;
use crate::dialect::Collated;
use crate::model::Error;
use crate::tree::Select;

impl<'q> Writer<'q> {
    /// Writes a subquery, which sees the columns of the queries around it.
    pub(super) fn write_subquery(
        &mut self,
        select: &'q Select,
        selected: Selected,
    ) -> Result<(), Error> {
        if let Some(relation) = select.relation {
            self.mark_relation(relation);
        }
        self.depth += 1;
        let inside = self.inside.take();
        let outer_origin = self.asked_at;
        let outer_guard = std::mem::replace(&mut self.in_expression, false);
        let in_rows = !matches!(selected, Selected::Text(_));
        self.enter(select, in_rows)?;
        self.with_windows(select, |this| match select.grouping {
            None => this.write_plain_subquery(select, selected),
            Some(_) => this.write_shaped_subquery(select, selected),
        })?;
        self.names.leave();
        self.in_expression = outer_guard;
        self.asked_at = outer_origin;
        self.depth -= 1;
        self.inside = inside;
        Ok(())
    }

    fn write_plain_subquery(
        &mut self,
        select: &'q Select,
        selected: Selected,
    ) -> Result<(), Error> {
        let values = select
            .values
            .as_ref()
            .map_or(&[][..], |values| &values.what);
        self.push("SELECT ");
        match selected {
            Selected::Text(text) => self.push(text),
            Selected::Values { collated, named, .. } => {
                self.in_expression(|this| {
                    this.joined(values, ", ", |this, value| {
                        this.write_collated(value, collated, Self::write_value)
                    })
                })?;
                self.push(named);
            }
        }
        self.write_from(select)?;
        if let (Selected::Values { without_null: true, .. }, [value]) = (selected, values) {
            let is_first = select.conditions().next().is_none();
            self.push(if is_first { " WHERE " } else { " AND " });
            self.write_then(value, " IS NOT NULL")?;
        }
        if select.is_limited() && !matches!(selected, Selected::Text(_)) {
            self.write_orders(select)?;
        }
        self.write_limit(select, None)
    }

    /// Writes a subquery with groups, DISTINCT and the like: the result is selected from it as a derived
    /// table.
    fn write_shaped_subquery(
        &mut self,
        select: &'q Select,
        selected: Selected,
    ) -> Result<(), Error> {
        match selected {
            // In EXISTS some engines drop DISTINCT and GROUP BY, and would then skip other rows than are meant.
            Selected::Text("1") if select.offset.is_none() => {
                self.write_query(select, Naming::Places, None)
            }
            Selected::Text(text) => {
                self.push("SELECT ");
                self.push(text);
                self.push(" FROM (");
                self.write_query(select, Naming::Places, None)?;
                self.push(") AS q");
                Ok(())
            }
            Selected::Values { collated, named, without_null } => {
                if collated.close.is_empty() && named.is_empty() && !without_null {
                    return self.write_query(select, Naming::None, None);
                }
                self.push("SELECT ");
                self.push(collated.open);
                self.push("q.c0");
                self.push(collated.close);
                self.push(named);
                self.push(" FROM (");
                self.write_query(select, Naming::Places, None)?;
                self.push(") AS q");
                self.push(if without_null { " WHERE q.c0 IS NOT NULL" } else { "" });
                Ok(())
            }
        }
    }
}

/// The select list of a subquery.
#[derive(Debug, Clone, Copy)]
pub(super) enum Selected {
    /// This text.
    Text(&'static str),
    /// Its values, with a collation and an alias, without NULLs if asked.
    Values { collated: Collated, named: &'static str, without_null: bool },
}
