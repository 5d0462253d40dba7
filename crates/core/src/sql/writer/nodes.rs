//! Values and conditions, with the brackets that they need.

use std::borrow::Cow;

use super::{Writer, push_number};
use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;

use crate::dialect::{Collated, DistinctForm, PatternForm, TruthForm};
use crate::model::{BindValue, EnumType, Error, List, NativeType, SqlType, exact_text, function};
use crate::sql::form::{self, Part};
use crate::sql::identifiers::{push_column, push_identifier, push_type};
use crate::sql::pattern::glob_of;
use crate::tree::{Call, Case, ColumnsOf, Comparison, Like, Node, ROUND, RawColumn};

const NO_SCHEMA: &str =
    "`{schema}` is the schema of the handle, and this one has none; see `in_schema`";
const OUTSIDE_SCHEMA: &str = "this handle has a schema, and hand-written SQL finds names in it only where the engine has \
     a search path; write `{schema}.` before the names of tables";

/// The longest name in bytes that no engine cuts (PostgreSQL, "Identifiers and Key Words").
const LONGEST_NAME: usize = 63;

/// The form of the SQL standard.
const NOT_TRUE: &str = "{0} IS NOT TRUE";

impl<'q> Writer<'q> {
    /// Writes a condition beside others: in brackets if it combines conditions itself.
    pub(super) fn write_inner(&mut self, node: &'q Node) -> Result<(), Error> {
        match node {
            _ if self.has_no_truth && !node.is_condition() => self.write_condition(node),
            Node::All(..) | Node::Any(..) => self.write_bracketed(node),
            // Hand-written text may combine conditions too.
            Node::RawSql(trusted) if !trusted.closed => self.write_bracketed(node),
            Node::Call(_, call) if call.function.is_open_text() => self.write_bracketed(node),
            Node::Aggregate(_, of) if of.call.function.is_open_text() => self.write_bracketed(node),
            _ => self.write_node(node),
        }
    }

    /// Writes a condition, which some dialects must derive from a boolean value.
    pub(super) fn write_condition(&mut self, node: &'q Node) -> Result<(), Error> {
        match self.grammar.truth() {
            TruthForm::Number { is_true, .. } if self.has_no_truth && !node.is_condition() => {
                self.write_then(node, is_true)
            }
            _ => self.write_node(node),
        }
    }

    /// Writes a condition as an operand.
    fn write_condition_operand(&mut self, node: &'q Node) -> Result<(), Error> {
        match self.has_no_truth {
            false => self.write_operand(node),
            true => {
                self.push("(");
                self.write_condition(node)?;
                self.push(")");
                Ok(())
            }
        }
    }

    /// Writes that a condition is false or NULL.
    pub(super) fn write_not_true(
        &mut self,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let form = self
            .grammar
            .form(&function::IS_NOT_TRUE)
            .unwrap_or(NOT_TRUE);
        let mut write = Some(write);
        self.write_form(form, |this, _, _| {
            let Some(write) = write.take() else { return Ok(()) };
            this.push("(");
            write(this)?;
            this.push(")");
            Ok(())
        })
    }

    /// Writes a value, which some dialects must derive from a condition.
    pub(super) fn write_value(&mut self, node: &'q Node) -> Result<(), Error> {
        if !self.has_no_truth || !node.is_condition() {
            return self.write_node(node);
        }
        let TruthForm::Number { of_condition: [when, unless, end], .. } = self.grammar.truth()
        else {
            return self.write_node(node);
        };
        self.push(when);
        self.in_expression(|this| this.write_node(node))?;
        self.push(unless);
        self.in_expression(|this| this.write_node(node))?;
        self.push(end);
        Ok(())
    }

    pub(super) fn write_bracketed(&mut self, node: &'q Node) -> Result<(), Error> {
        self.push("(");
        self.write_node(node)?;
        self.push(")");
        Ok(())
    }

    pub(super) fn write_node(&mut self, node: &'q Node) -> Result<(), Error> {
        match node {
            Node::Column(column) if column.info.is_approximate() => {
                let form = self.grammar.form(&function::AS_FLOAT).unwrap_or("{0}");
                self.write_form(form, |this, _, _| this.write_column(column))
            }
            Node::Column(column) => self.write_column(column),
            Node::Bind(value) => match value.sql_type() {
                SqlType::Enum(kind) => self.write_enum_alone(value, kind),
                SqlType::Native(native) => self.write_native(value, *native),
                sql_type => self.write_bind(value, self.grammar.bind_alone(sql_type)),
            },
            Node::Compare(comparison, _, sides) => self.write_compare(*comparison, sides),
            Node::All(_, terms) => self.write_terms(terms, " AND ", false),
            Node::Any(_, terms) => {
                self.in_expression(|this| this.write_terms(terms, " OR ", false))
            }
            Node::Not(_, inner) => {
                self.push("NOT (");
                self.in_expression(|this| this.write_condition(inner))?;
                self.push(")");
                Ok(())
            }
            Node::IsNull(_, operand) => self.write_then(operand, " IS NULL"),
            Node::IsNotNull(_, operand) => self.write_then(operand, " IS NOT NULL"),
            Node::OneOf(_, one_of) => self.write_one_of(one_of),
            Node::InQuery(_, in_query) => self.write_in_query(in_query),
            Node::Subquery(_, subquery) => self.write_asked_of(subquery),
            Node::Like(_, like) => self.write_like(like),
            Node::Between(_, parts) => self.write_between(parts),
            Node::Call(_, call) if std::ptr::eq(call.function, &function::IS_SUBTOTAL) => {
                self.write_is_subtotal(call)
            }
            Node::Call(_, call) => self.write_call(call),
            Node::Case(_, case) => self.in_expression(|this| this.write_case(case)),
            Node::Aggregate(_, aggregate) => self.write_aggregate_node(node, aggregate),
            Node::Window(_, window) => self.write_aggregate(&window.of, Some(window)),
            Node::Key(..) if self.is_of_all(node) => {
                self.push("NULL");
                Ok(())
            }
            Node::Key(_, key) => match self.write_from_inside(node) {
                true => Ok(()),
                // The keys of the parent identify the group, so that text stands as it is stored.
                false if !key.decided_by.is_empty() => self.write_node(&key.of),
                false => match self.identity_key(&key.of) {
                    Collated::AS_IT_IS => self.write_node(&key.of),
                    _ => self.write_distinct_value(&key.of),
                },
            },
            Node::RawSql(trusted) => {
                self.note_text(false, trusted.closed || trusted.reads_arguments_only)?;
                self.push(&trusted.text);
                self.note_setting(&trusted.text);
                Ok(())
            }
            Node::SchemaName => match self.schema {
                Some(schema) => {
                    self.push_name(schema);
                    Ok(())
                }
                None => Err(Error::invalid_query(NO_SCHEMA)),
            },
            Node::ColumnsOf(columns) => self.write_columns_of(columns),
            Node::Refused(refused) => Err(Error::refused_value(&refused.value, refused.reason)),
            Node::Unfit(reason) => Err(Error::invalid_query(reason)),
            Node::TooDeep => Err(Error::too_deep()),
        }
    }

    /// Writes whether the current level of subtotals is over all values of a key.
    fn write_is_subtotal(&mut self, call: &'q Call) -> Result<(), Error> {
        if self.grammar.grouping_sets().is_some() {
            return self.write_call(call);
        }
        if let Some(level) = self.last_level_over(&call.arguments) {
            self.push("(q.level <= ");
            push_number(&mut self.text, level);
            self.push(")");
            return Ok(());
        }
        let is_of_all = call.arguments.iter().all(|key| self.is_of_all(key));
        let constant = if is_of_all { &function::ALWAYS } else { &function::NEVER };
        self.push(self.grammar.form(constant).unwrap_or_default());
        Ok(())
    }

    /// Notes that hand-written text stands in the statement. On a handle with a schema it must not find names elsewhere.
    fn note_text(&mut self, names_schema: bool, reads_arguments_only: bool) -> Result<(), Error> {
        self.needs_search_path |= !names_schema;
        let is_free = reads_arguments_only && !self.select.is_whole_text();
        match self.schema.is_some() && !self.grammar.has_search_path() && !names_schema && !is_free
        {
            true => Err(Error::invalid_query(OUTSIDE_SCHEMA)),
            false => Ok(()),
        }
    }

    /// Writes the columns of a struct for a select list of hand-written SQL.
    fn write_columns_of(&mut self, columns: &ColumnsOf) -> Result<(), Error> {
        for (number, column) in columns.table.columns().iter().enumerate() {
            self.push(if number > 0 { ", " } else { "" });
            self.push_name(columns.alias);
            self.push(".");
            self.push_name(column.name());
            if columns.prefixed {
                let name = format!("{}.{}", columns.alias, column.name());
                if name.len() > LONGEST_NAME {
                    let message = format!(
                        "the column name {name:?} is longer than {LONGEST_NAME} bytes; give `columns of` a shorter alias"
                    );
                    return Err(Error::invalid_query(&message));
                }
                self.push(" AS ");
                self.push_name(&name);
            }
        }
        Ok(())
    }

    /// Notes whether hand-written text changes a session setting.
    fn note_setting(&mut self, text: &str) {
        let function = self.grammar.setting_function();
        self.alters_session |= function.is_some_and(|function| text.contains(function));
    }

    pub(super) fn in_expression(
        &mut self,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let outside = std::mem::replace(&mut self.in_expression, true);
        let written = write(self);
        self.in_expression = outside;
        written
    }

    /// Writes a node as an operand: in brackets unless it is a name, a bind or a call.
    pub(super) fn write_operand(&mut self, node: &'q Node) -> Result<(), Error> {
        match self.is_closed(node) {
            true => self.write_node(node),
            false if self.has_no_truth && node.is_condition() => self.write_value(node),
            false => self.in_expression(|this| this.write_bracketed(node)),
        }
    }

    /// Writes an operand of a function of text, which no engine computes under a nondeterministic collation.
    pub(super) fn write_text_operand(&mut self, node: &'q Node) -> Result<(), Error> {
        match self
            .grammar
            .text_sameness()
            .filter(|_| node.is_nondeterministic())
        {
            Some(sameness) => self.write_collated(node, sameness, Self::write_operand),
            None => self.write_operand(node),
        }
    }

    /// Returns whether the text of a node needs no brackets as an operand.
    pub(super) fn is_closed(&self, node: &Node) -> bool {
        match node {
            Node::Column(_)
            | Node::Bind(_)
            | Node::Case(..)
            | Node::ColumnsOf(_)
            | Node::SchemaName => true,
            Node::RawSql(trusted) => trusted.closed,
            Node::Subquery(_, subquery) => subquery.asked.is_a_value(),
            Node::Aggregate(_, aggregate) => self.is_closed_call(&aggregate.call),
            Node::Window(_, window) => self.is_closed_call(&window.of.call),
            Node::Key(_, key) => {
                self.inside.is_some() || self.is_of_all(node) || self.is_closed(&key.of)
            }
            Node::Call(_, call) => self.is_closed_call(call),
            _ => false,
        }
    }

    fn is_closed_call(&self, call: &Call) -> bool {
        if call.function.is_verbatim() {
            return call.function.is_of_program();
        }
        match (self.text_of(call), &*call.arguments) {
            (Some(form::AS_IT_IS), [argument]) => self.is_closed(argument),
            (Some(form), _) => form::is_closed(form),
            (None, _) => true,
        }
    }

    pub(super) fn write_then(&mut self, node: &'q Node, ending: &str) -> Result<(), Error> {
        self.write_operand(node)?;
        self.push(ending);
        Ok(())
    }

    pub(super) fn write_column(&mut self, column: &RawColumn) -> Result<(), Error> {
        if self.depth > 0 && column.needs_collation() && self.names.is_around(column.source) {
            self.depends_on_text = true;
        }
        let Some(visible) = self.names.find(column.source) else {
            return Err(match column.source.path.is_too_long() {
                true => Error::too_many_references(),
                false => Error::column_not_in_query(column.info),
            });
        };
        match &visible.alias {
            _ if visible.is_new => {
                let [before, after] = self.grammar.upsert().map_or(["", ""], |form| form.new);
                self.text.push_str(before);
                push_identifier(&mut self.text, column.info.name(), self.quotes);
                self.text.push_str(after);
            }
            None if !std::ptr::eq(column.info, &ROUND) => {
                push_column(&mut self.text, column.info, self.quotes);
            }
            alias => {
                let name = alias.as_deref().unwrap_or(visible.table.name());
                push_identifier(&mut self.text, name, self.quotes);
                self.text.push('.');
                push_identifier(&mut self.text, column.info.name(), self.quotes);
            }
        }
        Ok(())
    }

    pub(super) fn write_compare(
        &mut self,
        comparison: Comparison,
        sides: &'q [Node; 2],
    ) -> Result<(), Error> {
        // Both sides have one type.
        let sql_type = sides[0].sql_type();
        self.check_comparable(sql_type, "comparing")?;
        let operator = match comparison {
            Comparison::Equal | Comparison::Same => " = ",
            Comparison::NotEqual => " <> ",
            Comparison::Less => " < ",
            Comparison::LessOrEqual => " <= ",
            Comparison::Greater => " > ",
            Comparison::GreaterOrEqual => " >= ",
            Comparison::Distinct => return self.write_distinct(sides, self.grammar.distinct()),
            Comparison::NotDistinct => {
                let form = self.grammar.not_distinct(self.in_expression);
                return self.write_distinct(sides, form);
            }
        };
        if let SqlType::Enum(_) | SqlType::Native(_) | SqlType::Uuid | SqlType::Decimal = sql_type {
            return self.write_compared_special(comparison, sides, operator, sql_type);
        }
        let needed = sides.iter().any(Node::needs_collation);
        let collations = match comparison {
            _ if !needed => [Collated::AS_IT_IS; 2],
            Comparison::Equal | Comparison::Same | Comparison::NotEqual => {
                return self.write_text_equality(comparison, sides, operator);
            }
            _ => [self.grammar.text_order(), Collated::AS_IT_IS],
        };
        self.write_sides(sides, collations, operator)
    }

    /// Writes `=` or `<>` of texts. Where a column's own collation may treat different texts as equal, a second
    /// comparison is by code point; the first keeps the column's index in use.
    fn write_text_equality(
        &mut self,
        comparison: Comparison,
        sides: &'q [Node; 2],
        operator: &'static str,
    ) -> Result<(), Error> {
        let is_same = comparison == Comparison::Same
            || comparison == Comparison::Equal && sides.iter().any(Node::identifies);
        let is_declared = sides.iter().any(Node::is_nondeterministic);
        let sameness = self
            .grammar
            .text_sameness()
            .filter(|_| is_same || is_declared);
        let Some(sameness) = sameness else {
            return self.write_sides(sides, self.grammar.text_equality(), operator);
        };
        let by_code_point = [sameness, Collated::AS_IT_IS];
        let beside_a_bind = sides.iter().any(|side| matches!(side, Node::Bind(_)));
        match comparison {
            // Two columns may have collations that PostgreSQL does not compare with each other.
            _ if is_declared && !beside_a_bind => self.write_sides(sides, by_code_point, operator),
            Comparison::NotEqual => self.write_sides(sides, by_code_point, operator),
            _ => {
                self.push("(");
                self.write_sides(sides, self.grammar.text_equality(), operator)?;
                self.push(" AND ");
                self.write_sides(sides, by_code_point, operator)?;
                self.push(")");
                Ok(())
            }
        }
    }

    /// Writes two operands with an operator between, each with its collation.
    pub(super) fn write_sides(
        &mut self,
        [left, right]: &'q [Node; 2],
        [of_left, of_right]: [Collated; 2],
        operator: &'static str,
    ) -> Result<(), Error> {
        self.write_collated(left, of_left, Self::write_compared)?;
        self.push(operator);
        self.write_collated(right, of_right, Self::write_compared)
    }

    /// Writes a text with its collation.
    pub(super) fn write_collated(
        &mut self,
        node: &'q Node,
        collated: Collated,
        write: impl FnOnce(&mut Self, &'q Node) -> Result<(), Error>,
    ) -> Result<(), Error> {
        match node {
            Node::Bind(_) => {
                self.push(collated.before_bind);
                write(self, node)?;
                self.push(collated.after_bind);
                Ok(())
            }
            _ => self.write_within(collated, |this| write(this, node)),
        }
    }

    /// Writes anything but a bind with its collation.
    pub(super) fn write_within(
        &mut self,
        collated: Collated,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        self.push(collated.open);
        write(self)?;
        self.push(collated.close);
        Ok(())
    }

    /// Writes an operand of a comparison, whose other side tells the engine the type of a bind.
    pub(super) fn write_compared(&mut self, node: &'q Node) -> Result<(), Error> {
        match node {
            Node::Bind(value) => match value.sql_type() {
                SqlType::Native(native) => self.write_native(value, *native),
                sql_type => self.write_bind(value, self.grammar.bind_beside(sql_type)),
            },
            node => self.write_operand(node),
        }
    }

    pub(super) fn write_bind(
        &mut self,
        value: &'q BindValue,
        around: [&'static str; 2],
    ) -> Result<(), Error> {
        self.write_lent_bind(Cow::Borrowed(value), around)
    }

    pub(super) fn write_lent_bind(
        &mut self,
        value: Cow<'q, BindValue>,
        around: [&'static str; 2],
    ) -> Result<(), Error> {
        let [before, after] = match &*value {
            BindValue::Decimal(value) => self.grammar.decimal_bind(value).unwrap_or(around),
            BindValue::Parameter(parameter) if parameter.sql_type == SqlType::Decimal => {
                self.depends_on_values |= self.grammar.decimal_bind(&Decimal::ZERO).is_some();
                around
            }
            _ => around,
        };
        self.push(before);
        self.push_bind(value)?;
        self.push(after);
        Ok(())
    }

    /// Writes a bind of an enum type beside which nothing stands from which the server could tell the type.
    #[cold]
    fn write_enum_alone(
        &mut self,
        value: &'q BindValue,
        kind: &'static EnumType,
    ) -> Result<(), Error> {
        if !self.grammar.has_enum_types() {
            return self.write_bind(value, ["", ""]);
        }
        self.write_bind(value, ["CAST(", " AS "])?;
        push_type(&mut self.text, kind, self.quotes);
        self.push(")");
        Ok(())
    }

    /// Writes a bind of a type of PostgreSQL with its type, because integers are sent with 64 bits, also in arrays.
    #[cold]
    fn write_native(&mut self, value: &'q BindValue, native: NativeType) -> Result<(), Error> {
        let Some((name, is_array)) = self.grammar.native_type(native) else {
            return self.write_bind(value, ["", ""]);
        };
        self.write_bind(value, ["CAST(", " AS "])?;
        self.push(name);
        self.push(if is_array { "[])" } else { ")" });
        Ok(())
    }

    pub(super) fn write_distinct(
        &mut self,
        sides: &'q [Node; 2],
        form: DistinctForm,
    ) -> Result<(), Error> {
        self.push(form.open);
        let needed = sides.iter().any(Node::needs_collation);
        let is_declared = sides.iter().any(Node::is_nondeterministic);
        let collations = match self.grammar.text_sameness() {
            _ if !needed => [self.identity_key(&sides[0]); 2],
            Some(sameness) if is_declared => [sameness, Collated::AS_IT_IS],
            _ => self.grammar.text_equality(),
        };
        self.write_sides(sides, collations, form.operator)?;
        if form.or_both_null {
            let [left, right] = sides;
            self.push(" OR (");
            self.write_then(left, " IS NULL AND ")?;
            self.write_then(right, " IS NULL)")?;
        }
        self.push(form.close);
        Ok(())
    }

    pub(super) fn write_between(&mut self, parts: &'q [Node; 3]) -> Result<(), Error> {
        let [operand, low, high] = parts;
        let sql_type = operand.sql_type();
        self.check_comparable(sql_type, "comparing")?;
        self.check_ordered(sql_type)?;
        if let Some(form) = self.sort_form(sql_type) {
            self.write_sorted(operand, form)?;
            self.push(" BETWEEN ");
            self.write_sorted(low, form)?;
            self.push(" AND ");
            return self.write_sorted(high, form);
        }
        let needed = parts.iter().any(Node::needs_collation);
        let collated = if needed { self.grammar.text_order() } else { Collated::AS_IT_IS };
        self.write_collated(operand, collated, Self::write_compared)?;
        self.push(" BETWEEN ");
        self.write_compared(low)?;
        self.push(" AND ");
        self.write_compared(high)
    }

    /// Returns how values of a type are ordered, if the engine would order them in another way.
    #[inline]
    pub(super) fn sort_form(&self, sql_type: SqlType) -> Option<SortForm> {
        match sql_type {
            SqlType::Enum(kind) if !self.grammar.has_enum_types() => Some(SortForm::Rank(kind)),
            SqlType::Uuid | SqlType::Decimal => match self.grammar.order_key(sql_type) {
                Collated::AS_IT_IS => None,
                key => Some(SortForm::Around(key)),
            },
            _ => None,
        }
    }

    /// Writes a comparison of two values of a type that some engine orders in its own way, or not at all.
    #[cold]
    fn write_compared_special(
        &mut self,
        comparison: Comparison,
        sides: &'q [Node; 2],
        operator: &'static str,
        sql_type: SqlType,
    ) -> Result<(), Error> {
        if matches!(comparison, Comparison::Equal | Comparison::Same | Comparison::NotEqual) {
            let key = self.grammar.identity_key(sql_type);
            return match sides {
                [operand, Node::Bind(BindValue::Decimal(value))]
                    if key != Collated::AS_IT_IS && comparison != Comparison::NotEqual =>
                {
                    self.write_spellings(operand, *value)
                }
                [_, Node::Bind(BindValue::Parameter(_))] if key != Collated::AS_IT_IS => {
                    self.depends_on_values = true;
                    self.write_sides(sides, [key; 2], operator)
                }
                _ => self.write_sides(sides, [key; 2], operator),
            };
        }
        self.check_ordered(sql_type)?;
        let Some(form) = self.sort_form(sql_type) else {
            return self.write_sides(sides, [Collated::AS_IT_IS; 2], operator);
        };
        self.write_sorted(&sides[0], form)?;
        self.push(operator);
        self.write_sorted(&sides[1], form)
    }

    /// Writes a value as it is ordered.
    #[cold]
    pub(super) fn write_sorted(&mut self, node: &'q Node, form: SortForm) -> Result<(), Error> {
        match (node, form) {
            (Node::Bind(BindValue::Enum(_, number)), SortForm::Rank(_)) => {
                self.push_bind(Cow::Owned(BindValue::Int(i64::from(*number))))
            }
            (Node::Bind(value), SortForm::Around(key)) => {
                self.write_bind(value, [key.before_bind, key.after_bind])
            }
            (Node::Bind(BindValue::Parameter(_)), SortForm::Rank(_)) => {
                self.depends_on_values = true;
                self.write_sorted_text(form, |this| this.write_operand(node))
            }
            _ => self.write_sorted_text(form, |this| this.write_operand(node)),
        }
    }

    /// Writes the text of a value as it is ordered: the number of an enum's text in the order of its type, or a key.
    #[cold]
    pub(super) fn write_sorted_text(
        &mut self,
        form: SortForm,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let kind = match form {
            SortForm::Rank(kind) => kind,
            SortForm::Around(key) => return self.write_within(key, write),
        };
        self.push("CASE ");
        write(self)?;
        for (number, value) in kind.values().iter().enumerate() {
            self.push(" WHEN '");
            self.push(&value.replace('\'', "''"));
            self.push("' THEN ");
            push_number(&mut self.text, number);
        }
        self.push(" END");
        Ok(())
    }

    /// Returns the key by which values are the same, for types of which the engine would not treat equal ones as equal.
    #[inline]
    pub(super) fn identity_key(&self, node: &Node) -> Collated {
        match node.sql_type() {
            SqlType::Decimal => self.grammar.identity_key(SqlType::Decimal),
            _ => Collated::AS_IT_IS,
        }
    }

    /// Returns the text around a value in a list of which each row is kept once.
    pub(super) fn distinct_value(&self, node: &Node) -> Collated {
        match node.needs_collation() {
            true => self.grammar.text_order(),
            false => self.grammar.distinct_value(node.sql_type()),
        }
    }

    /// Writes that a decimal has the value of a bind, by a list of its spellings: an index serves it, and engines
    /// without decimals compare texts.
    #[cold]
    fn write_spellings(&mut self, operand: &'q Node, value: Decimal) -> Result<(), Error> {
        let list = List::new(SqlType::Text, spellings(value));
        let form = self
            .grammar
            .list(SqlType::Text, self.in_expression, usize::MAX);
        self.write_operand(operand)?;
        self.push(form.open);
        self.push_json_list(&list, &BindValue::Decimal(value), true, usize::MAX)?;
        self.push(form.close);
        Ok(())
    }

    /// Returns the text of a function, if the dialect has one for its arguments.
    fn text_of(&self, call: &Call) -> Option<&'static str> {
        let is_decimal = |node: &Node| node.sql_type() == SqlType::Decimal;
        match call.function.of_decimals {
            Some(form) if !self.grammar.has_decimals() && call.arguments.iter().any(is_decimal) => {
                Some(form)
            }
            _ => self.grammar.form(call.function),
        }
    }

    /// Returns the text of a call, if the dialect has one and can compute with its arguments.
    pub(super) fn form_of(&self, call: &Call) -> Result<&'static str, Error> {
        let function = call.function;
        let Some(form) = self.text_of(call) else {
            let err = Error::unsupported(function.what(), self.grammar.name(), function.way_out());
            return Err(match call.asked_at {
                Some(origin) => err.asked_at(origin),
                None => err,
            });
        };
        if function.computes() {
            let mut types = call.arguments.iter().map(Node::sql_type);
            if function.picks()
                && let Some(sql_type) = types.clone().find(|sql_type| !self.picks(*sql_type))
            {
                return Err(Error::unsupported(
                    &format!("the least or greatest of values of type {sql_type}"),
                    self.grammar.name(),
                    "order by it, and take the first row",
                ));
            }
            let cannot = |sql_type: &SqlType| match sql_type {
                SqlType::Decimal if !self.grammar.has_decimals() => function.of_decimals.is_none(),
                sql_type => !self.grammar.can_compute(*sql_type),
            };
            if let Some(sql_type) = types.find(cannot) {
                return Err(self.uncomputable(sql_type));
            }
        }
        Ok(form)
    }

    /// Returns whether the engine finds the least and the greatest of values of a type.
    fn picks(&self, sql_type: SqlType) -> bool {
        match sql_type {
            // Functions have a form for them.
            SqlType::Decimal => true,
            // No engine has `min` of ranges.
            SqlType::Native(NativeType::Range(_)) => false,
            SqlType::Native(_) => {
                self.grammar.can_compare(sql_type) && self.grammar.can_order(sql_type)
            }
            _ => self.sort_form(sql_type).is_none() && self.grammar.can_compare(sql_type),
        }
    }

    pub(super) fn write_call(&mut self, call: &'q Call) -> Result<(), Error> {
        let form = self.form_of(call)?;
        if call.function.is_verbatim() && self.schema.is_some() {
            let names_schema = call.arguments.contains(&Node::SchemaName);
            self.note_text(names_schema, call.reads_arguments_only)?;
        }
        if call.asked_at.is_some() {
            self.note_setting(form);
        }
        if let Some([from, close]) = self.grammar.computed_once()
            && let Some(repeated) = repeated_query(call, form)
        {
            return self.in_expression(|this| {
                this.push("(SELECT ");
                this.write_call_of(call, form, Some(repeated))?;
                this.push(from);
                this.write_value(repeated)?;
                this.push(close);
                Ok(())
            });
        }
        self.in_expression(|this| this.write_call_of(call, form, None))
    }

    /// Writes a call. An argument that is `computed` stands in a derived table.
    fn write_call_of(
        &mut self,
        call: &'q Call,
        form: &'static str,
        computed: Option<&'q Node>,
    ) -> Result<(), Error> {
        let is_computed =
            |node: &Node| computed.is_some_and(|computed| std::ptr::eq(computed, node));
        // An argument that stands alone between brackets, or is the whole form, needs no brackets of its own.
        self.write_form(form, |this, argument, alone| match call.arguments.get(argument) {
            Some(node) if is_computed(node) => {
                this.push("c.v");
                Ok(())
            }
            None if argument == Part::EVERY_ARGUMENT => this.write_arguments(&call.arguments),
            Some(node) if call.function.takes_conditions() => match alone {
                true => this.write_condition(node),
                false => this.write_condition_operand(node),
            },
            Some(node) if node.is_nondeterministic() && !call.function.is_verbatim() => {
                this.write_text_operand(node)
            }
            Some(node) if alone => this.write_value(node),
            Some(node) => this.write_operand(node),
            None => Ok(()),
        })
    }

    fn write_arguments(&mut self, arguments: &'q [Node]) -> Result<(), Error> {
        for (number, argument) in arguments.iter().enumerate() {
            self.push(if number > 0 { ", " } else { "" });
            self.write_value(argument)?;
        }
        Ok(())
    }

    pub(super) fn write_form(
        &mut self,
        form: &'static str,
        mut argument: impl FnMut(&mut Self, usize, bool) -> Result<(), Error>,
    ) -> Result<(), Error> {
        for part in form::parts(form) {
            match part {
                Part::Text(text) => self.push(text),
                Part::Argument { number, alone } => argument(self, number, alone)?,
            }
        }
        Ok(())
    }

    pub(super) fn write_case(&mut self, case: &'q Case) -> Result<(), Error> {
        self.push("CASE");
        for [condition, value] in &case.branches {
            self.push(" WHEN ");
            self.write_condition(condition)?;
            self.push(" THEN ");
            self.write_value(value)?;
        }
        if let Some(otherwise) = &case.otherwise {
            self.push(" ELSE ");
            self.write_value(otherwise)?;
        }
        self.push(" END");
        Ok(())
    }

    pub(super) fn write_like(&mut self, like: &'q Like) -> Result<(), Error> {
        self.write_text_operand(&like.operand)?;
        if like.negated {
            self.push(" NOT");
        }
        match (self.grammar.pattern(), &like.pattern) {
            (PatternForm::Glob, BindValue::Text(pattern)) => {
                let glob = BindValue::Text(glob_of(pattern).into());
                self.push(" GLOB ");
                self.write_pattern(Cow::Owned(glob), like.any_case)
            }
            (PatternForm::Glob, pattern) => {
                self.push(" GLOB ");
                self.write_pattern(Cow::Borrowed(pattern), like.any_case)
            }
            (PatternForm::Like { collate }, pattern) => {
                self.push(" LIKE ");
                self.write_pattern(Cow::Borrowed(pattern), like.any_case)?;
                if !like.any_case {
                    self.push(collate);
                }
                self.push(" ESCAPE '!'");
                Ok(())
            }
        }
    }

    /// Writes a pattern, in lower case where case is ignored.
    pub(super) fn write_pattern(
        &mut self,
        pattern: Cow<'q, BindValue>,
        any_case: bool,
    ) -> Result<(), Error> {
        match self.grammar.form(&function::LOWER) {
            Some(form) if any_case => {
                self.write_form(form, |this, _, _| this.push_bind(pattern.clone()))
            }
            _ => self.push_bind(pattern),
        }
    }

    #[cold]
    pub(super) fn uncomputable(&self, sql_type: SqlType) -> Error {
        Error::unsupported(
            &format!("computing with values of type {sql_type}"),
            self.grammar.name(),
            "read the values and compute in Rust, or store them in a column of another type",
        )
    }
}

/// The order of values that the engine itself orders in another way.
#[derive(Debug, Clone, Copy)]
pub(super) enum SortForm {
    /// By their places in an enum type.
    Rank(&'static EnumType),
    /// By a key.
    Around(Collated),
}

/// Returns the forms in which a decimal may be stored where there is no type for it: an integer, a float, and the texts with
/// each number of digits after the point.
fn spellings(value: Decimal) -> Vec<BindValue> {
    let shortest = value.normalize();
    let mut spellings = Vec::new();
    if let Some(whole) = shortest.to_i64().filter(|_| shortest.scale() == 0) {
        spellings.push(BindValue::Int(whole));
    }
    let float = shortest.to_f64();
    spellings.extend(
        float
            .filter(|float| exact_text(*float).and_then(|text| text.parse().ok()) == Some(shortest))
            .map(BindValue::Float),
    );
    spellings.extend((shortest.scale()..=Decimal::MAX_SCALE).map_while(|scale| {
        let mut spelled = shortest;
        spelled.rescale(scale);
        (spelled.scale() == scale).then(|| BindValue::Text(spelled.to_string().into()))
    }));
    spellings
}

/// Returns an argument with a subquery that the form of a call computes more than once. Aggregates are computed once
/// wherever they stand, and hand-written text stays as it is.
fn repeated_query<'q>(call: &'q Call, form: &'static str) -> Option<&'q Node> {
    let times = |asked: usize| {
        let is_asked =
            |part: &Part| matches!(part, Part::Argument { number, .. } if *number == asked);
        form::parts(form).filter(is_asked).count()
    };
    let mut arguments = call.arguments.iter().enumerate();
    let is_repeated = |(number, node): &(usize, &'q Node)| {
        let summary = node.summary();
        let may_move =
            !summary.windows() && !node.holds_aggregates() && !node.is_nondeterministic();
        summary.queries() && may_move && !call.function.is_verbatim() && times(*number) > 1
    };
    arguments.find(is_repeated).map(|(_, node)| node)
}
