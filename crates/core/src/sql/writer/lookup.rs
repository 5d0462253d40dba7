//! IN: looks a value up in a list of values, or in a subquery.

use std::borrow::Cow;

use super::Writer;
use super::subqueries::Selected;
use crate::dialect::{Collated, ListEncoding, ListForm, TruthForm};
use crate::model::{BindValue, Error, List, NativeType, ParameterForm, SqlType};
use crate::sql::list;
use crate::tree::{InQuery, Node, OneOf, Subquery, SubqueryKind};

impl<'q> Writer<'q> {
    /// Writes `x IN (SELECT ..)`. NULLs are excluded from the subquery, because one NULL would make the
    /// result NULL for every other value.
    pub(super) fn write_in_query(&mut self, in_query: &'q InQuery) -> Result<(), Error> {
        match in_query.negated {
            false => self.write_in_rows(in_query, " IN ("),
            true if self.may_be_null(&in_query.operand) => {
                self.write_not_true(|this| this.write_in_rows(in_query, " IN ("))
            }
            true => self.write_in_rows(in_query, " NOT IN ("),
        }
    }

    fn write_in_rows(
        &mut self,
        in_query: &'q InQuery,
        operator: &'static str,
    ) -> Result<(), Error> {
        let InQuery { operand, select, may_be_null, negated, same } = in_query;
        // Where only TRUE keeps a row, FALSE and NULL have the same effect.
        let without_null = *may_be_null && (*negated || self.in_expression);
        self.check_comparable(operand.sql_type(), "looking up")?;
        let chosen = select
            .values
            .as_ref()
            .and_then(|values| values.what.first());
        self.depends_on_text |= operand.needs_collation();
        let needed = operand.needs_collation() || chosen.is_some_and(Node::needs_collation);
        let is_declared =
            operand.is_nondeterministic() || chosen.is_some_and(Node::is_nondeterministic);
        let [of_left, of_right] = match self.grammar.text_sameness() {
            _ if !needed => [self.identity_key(operand); 2],
            // PostgreSQL does not compare a column with a computed one whose collation is another.
            Some(sameness) if *same || is_declared || select.is_over_computed_rows() => {
                [sameness, sameness]
            }
            _ => self.grammar.text_lookup(),
        };
        self.write_collated(operand, of_left, Self::write_operand)?;
        self.push(operator);
        // MariaDB and MySQL refuse LIMIT directly in the subquery of IN, but not one level deeper.
        match select.is_limited() {
            true => {
                self.push("SELECT q.c0 FROM (");
                let selected =
                    Selected::Values { collated: of_right, named: " AS c0", without_null: false };
                self.write_subquery(select, selected)?;
                self.push(") AS q");
                if without_null {
                    self.push(" WHERE q.c0 IS NOT NULL");
                }
            }
            false => {
                let selected = Selected::Values { collated: of_right, named: "", without_null };
                self.write_subquery(select, selected)?;
            }
        }
        self.push(")");
        Ok(())
    }

    /// Returns whether a value may be NULL, as far as its own node tells.
    fn may_be_null(&self, node: &Node) -> bool {
        match node {
            Node::Column(column) => {
                let visible = self.names.find(column.source);
                column.info.is_nullable() || visible.is_none_or(|visible| visible.optional)
            }
            Node::Bind(BindValue::Parameter(value)) => value.form == ParameterForm::MaybeNull,
            Node::Bind(value) => matches!(value, BindValue::Null(_)),
            _ => true,
        }
    }

    /// Writes EXISTS, a count, or the value of a scalar subquery.
    pub(super) fn write_asked_of(&mut self, subquery: &'q Subquery) -> Result<(), Error> {
        let Subquery { select, asked } = subquery;
        let (opening, selected, closing) = match asked {
            SubqueryKind::Exists => ("EXISTS (", Selected::Text("1"), ")"),
            SubqueryKind::NotExists => ("NOT EXISTS (", Selected::Text("1"), ")"),
            // One row more than the limit is all that the engine must find.
            SubqueryKind::MoreThan(_) => ("(", Selected::Text("1"), ") IS NOT NULL"),
            SubqueryKind::AtMost(_) => ("(", Selected::Text("1"), ") IS NULL"),
            SubqueryKind::Count if select.is_limited() => {
                ("(SELECT count(*) FROM (", Selected::Text("1 AS c0"), ") AS q)")
            }
            SubqueryKind::Count => ("(", Selected::Text("count(*)"), ")"),
            SubqueryKind::Value => (
                "(",
                Selected::Values { collated: Collated::AS_IT_IS, named: "", without_null: false },
                ")",
            ),
        };
        self.push(opening);
        self.write_subquery(select, selected)?;
        if let SubqueryKind::MoreThan(rows) | SubqueryKind::AtMost(rows) = asked {
            self.write_one_after(rows)?;
        }
        self.push(closing);
        Ok(())
    }

    /// Writes `x IN list`. Where items may be NULL, a second condition looks for NULL. The opposite is `IS
    /// NOT TRUE` where the value may be NULL, because NOT IN would lose the rows with NULL.
    pub(super) fn write_one_of(&mut self, one_of: &'q OneOf) -> Result<(), Error> {
        let OneOf { operand, list, with_null, negated, same } = one_of;
        let same = *same || operand.identifies() || operand.is_nondeterministic();
        let in_expression = self.in_expression || *negated || with_null.is_some();
        match (with_null, *negated) {
            (None, false) => self.write_in_list(operand, list, same, in_expression, false),
            (None, true) if !self.may_be_null(operand) => {
                self.write_in_list(operand, list, same, in_expression, true)
            }
            (None, true) => self.write_not_true(|this| {
                this.write_in_list(operand, list, same, in_expression, false)
            }),
            (Some(with_null), true) => self
                .write_not_true(|this| this.write_in_list_or_null(operand, list, same, with_null)),
            (Some(with_null), false) => {
                self.push("(");
                self.write_in_list_or_null(operand, list, same, with_null)?;
                self.push(")");
                Ok(())
            }
        }
    }

    fn write_in_list_or_null(
        &mut self,
        operand: &'q Node,
        list: &'q BindValue,
        same: bool,
        with_null: &'q BindValue,
    ) -> Result<(), Error> {
        self.write_in_list(operand, list, same, true, false)?;
        self.push(" OR (");
        self.write_operand(operand)?;
        self.push(" IS NULL AND ");
        self.push_bind(Cow::Borrowed(with_null))?;
        if let TruthForm::Number { is_true, .. } = self.grammar.truth() {
            self.push(is_true);
        }
        self.push(")");
        Ok(())
    }

    /// Writes `x IN list`; with `same`, a second condition compares text by code point, whatever the collation of
    /// the column treats as equal.
    fn write_in_list(
        &mut self,
        operand: &'q Node,
        values: &'q BindValue,
        same: bool,
        in_expression: bool,
        negated: bool,
    ) -> Result<(), Error> {
        self.check_comparable(operand.sql_type(), "looking up")?;
        if let SqlType::Native(NativeType::Array(_)) = operand.sql_type() {
            return Err(Error::unsupported(
                "looking up an array in a list of arrays",
                self.grammar.name(),
                "join the comparisons with `any_of`",
            ));
        }
        let sameness = self
            .grammar
            .text_sameness()
            .filter(|_| same && operand.needs_collation());
        let Some(sameness) = sameness else {
            return self.write_list_lookup(operand, values, None, in_expression, negated);
        };
        if negated {
            return self.write_list_lookup(operand, values, Some(sameness), in_expression, true);
        }
        self.push("(");
        let length = self.list_length(values, operand.sql_type());
        let form = self.grammar.list(operand.sql_type(), in_expression, length);
        if let Some(open) = form.open_both {
            self.write_operand(operand)?;
            self.push(", ");
            self.write_collated(operand, sameness, Self::write_operand)?;
            self.push(open);
            return self.write_items_of(operand, values, form, length);
        }
        self.write_list_lookup(operand, values, None, in_expression, false)?;
        self.push(" AND ");
        self.write_list_lookup(operand, values, Some(sameness), in_expression, false)?;
        self.push(")");
        Ok(())
    }

    fn write_list_lookup(
        &mut self,
        operand: &'q Node,
        values: &'q BindValue,
        sameness: Option<Collated>,
        in_expression: bool,
        negated: bool,
    ) -> Result<(), Error> {
        let length = self.list_length(values, operand.sql_type());
        let form = self.grammar.list(operand.sql_type(), in_expression, length);
        let left = match sameness {
            Some(sameness) => sameness,
            None if operand.needs_collation() => form.left,
            None => self.identity_key(operand),
        };
        self.write_collated(operand, left, Self::write_operand)?;
        match (negated, form.open_negated) {
            (false, _) => self.push(form.open),
            (true, Some(open)) => self.push(open),
            (true, None) => {
                self.push(" NOT");
                self.push(form.open);
            }
        }
        self.write_items_of(operand, values, form, length)
    }

    /// Writes the items of a list that counts as `length` long, and what follows them.
    fn write_items_of(
        &mut self,
        operand: &Node,
        values: &'q BindValue,
        form: ListForm,
        length: usize,
    ) -> Result<(), Error> {
        self.plans_for_values |= form.plans_for_values;
        match (values, form.encoding) {
            (BindValue::List(items), ListEncoding::Json { zone_mark, longest_text }) => {
                self.push_json_list(items, values, zone_mark, longest_text)?;
            }
            (BindValue::List(items), ListEncoding::Each) => {
                let item = |number| items.items().get(number).or(items.items().last());
                self.write_items(operand, length, |number| item(number).map(Cow::Borrowed))?;
            }
            (BindValue::Parameter(list), ListEncoding::Json { zone_mark, longest_text }) => {
                let json = ParameterForm::Json { zone_mark, longest_text };
                self.push_bind(Cow::Owned(list.in_form(json)))?;
            }
            (BindValue::Parameter(list), ListEncoding::Each) => {
                let item = |number| list.in_form(ParameterForm::Item(number));
                self.write_items(operand, length, |number| {
                    u16::try_from(number)
                        .ok()
                        .map(|number| Cow::Owned(item(number)))
                })?;
            }
            _ => self.push_bind(Cow::Borrowed(values))?,
        }
        self.push(form.close);
        Ok(())
    }

    /// Returns the length that a list counts as. It is one for all lists of a statement, so that a query has few texts.
    fn list_length(&mut self, values: &BindValue, item: SqlType) -> usize {
        let lengths = self.grammar.list_lengths(item);
        let length = match values {
            // Its value was counted before the statement was written.
            BindValue::Parameter(_) if !lengths.is_empty() && self.list_length > 0 => {
                Some(self.list_length)
            }
            BindValue::List(list) => list::counted_length(list, lengths),
            _ => None,
        };
        let Some(length) = length else { return usize::MAX };
        if length > self.list_length {
            self.lists_differ = self.list_length > 0;
            self.list_length = length;
        }
        self.list_length
    }

    /// Begins the statement again, if its lists were written for different lengths. Returns whether it did.
    pub(super) fn begins_again_for_lists(&mut self) -> bool {
        if self.lists_differ {
            self.lists_differ = false;
            self.begin_again();
            return true;
        }
        false
    }

    /// Has the lists that are bind parameters count as lists of this length.
    pub(in crate::sql) fn with_lists_of(mut self, length: usize) -> Self {
        self.list_length = length;
        self
    }

    /// Writes each list as a long one, because the text before it stays as it is.
    pub(super) fn with_long_lists(mut self) -> Self {
        self.list_length = usize::MAX;
        self
    }

    /// Writes a bind for each item.
    fn write_items(
        &mut self,
        operand: &Node,
        length: usize,
        item: impl Fn(usize) -> Option<Cow<'q, BindValue>>,
    ) -> Result<(), Error> {
        let collated = match operand.needs_collation() {
            true => self.grammar.text_lookup()[1],
            false => Collated::AS_IT_IS,
        };
        let around = self.grammar.bind_beside(operand.sql_type());
        for number in 0..length {
            let Some(item) = item(number) else { break };
            self.push(if number > 0 { ", " } else { "" });
            self.push(collated.before_bind);
            self.write_lent_bind(item, around)?;
            self.push(collated.after_bind);
        }
        Ok(())
    }

    pub(super) fn push_json_list(
        &mut self,
        items: &List,
        values: &BindValue,
        zone_mark: bool,
        longest_text: usize,
    ) -> Result<(), Error> {
        self.check_bind(values)?;
        let json = list::to_json(items, zone_mark, longest_text)?;
        self.push_bind(Cow::Owned(BindValue::Text(json.into())))
    }
}
