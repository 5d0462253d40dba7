//! Window functions, and limits of rows for each value of an expression.

use std::borrow::Cow;

use super::clauses::Naming;
use super::limits::Cap;
use super::{Writer, push_number};
use crate::dialect::Collated;
use crate::model::{BindValue, Error};
use crate::tree::{Frame, Node, OrderTerm, Select, TopPerGroup, Window};

impl<'q> Writer<'q> {
    pub(super) fn write_over(&mut self, window: &'q Window) -> Result<(), Error> {
        self.push(" OVER (");
        let mut between = "";
        let number = self.windows.iter().position(|other| window.is_alike(other));
        if let Some(number) = number {
            self.push("PARTITION BY ");
            self.write_lead(number);
            between = if window.partition.is_empty() { " " } else { ", " };
        }
        if !window.partition.is_empty() {
            self.push(if between.is_empty() { "PARTITION BY " } else { between });
            self.joined(&window.partition, ", ", Self::write_identity)?;
            between = " ";
        }
        if !window.orders.is_empty() {
            self.push(between);
            self.push("ORDER BY ");
            self.joined(&window.orders, ", ", Self::write_order)?;
            between = " ";
        }
        if let Some(Frame { first, last }) = window.frame {
            self.push(between);
            self.push("ROWS BETWEEN ");
            self.write_bound(first, "UNBOUNDED PRECEDING");
            self.push(" AND ");
            self.write_bound(last, "UNBOUNDED FOLLOWING");
        }
        self.push(")");
        Ok(())
    }

    /// Writes a query whose windows the engine keeps apart, if it would mix them up: from three functions over two windows on.
    pub(super) fn with_windows(
        &mut self,
        select: &'q Select,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        if self.grammar.window_lead().is_none() {
            return write(self);
        }
        let mut windows: Vec<&'q Window> = Vec::new();
        let grouping = select.grouping.as_ref();
        // A limit for each value numbers the rows in a window of its own.
        let own = usize::from(grouping.is_some_and(|grouping| grouping.of_each.is_some()));
        let mut functions = own;
        let values = select.values.iter().flat_map(|values| &values.what);
        let orders = select.orders.iter().map(|order| &order.what.by);
        for node in values.chain(orders) {
            node.visit_windows(&mut |window| {
                functions += 1;
                if !windows.iter().any(|other| window.is_alike(other)) {
                    windows.push(window);
                }
            });
        }
        if functions < 3 || windows.len() + own < 2 {
            windows.clear();
        }
        let around = std::mem::replace(&mut self.windows, windows);
        let written = write(self);
        self.windows = around;
        written
    }

    /// Writes the text that leads the partition of a window.
    fn write_lead(&mut self, number: usize) {
        self.push(self.grammar.window_lead().unwrap_or_default());
        push_number(&mut self.text, number);
    }

    // Frame bounds are part of the text, because some engines refuse a bind there.
    fn write_bound(&mut self, bound: Option<i32>, unbounded: &str) {
        let Some(rows) = bound else { return self.push(unbounded) };
        match rows {
            0 => self.push("CURRENT ROW"),
            rows => {
                push_number(&mut self.text, rows.unsigned_abs() as usize);
                self.push(if rows < 0 { " PRECEDING" } else { " FOLLOWING" });
            }
        }
    }

    /// Writes an expression that identifies a group or partition: text by code point.
    pub(super) fn write_identity(&mut self, node: &'q Node) -> Result<(), Error> {
        self.check_comparable(node.sql_type(), "grouping by")?;
        match node.needs_collation() {
            true => {
                let sameness = self
                    .grammar
                    .text_sameness()
                    .filter(|_| node.is_nondeterministic());
                let collated = sameness.unwrap_or_else(|| self.grammar.text_identity());
                self.write_collated(node, collated, Self::write_operand)
            }
            false => match self.identity_key(node) {
                Collated::AS_IT_IS => self.write_value(node),
                key => self.write_collated(node, key, Self::write_operand),
            },
        }
    }

    /// Writes a limit of rows for each value: the rows are numbered in a derived table, because SQL cannot
    /// filter by a window function in the same query.
    pub(super) fn write_first_of_each(
        &mut self,
        select: &'q Select,
        each: &'q TopPerGroup,
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let mut places = 0..;
        self.push("SELECT ");
        for place in 0..self.width(select) {
            self.named(naming, &mut places, |this| {
                this.push("q.c");
                push_number(&mut this.text, place);
                Ok(())
            })?;
        }
        self.push(" FROM (SELECT ");
        self.write_list(select, Naming::Places, false)?;
        let outside: &[_] = if each.order_apart { &[] } else { &select.orders };
        for (number, order) in outside.iter().enumerate() {
            self.push(", ");
            self.in_expression(|this| this.write_value(&order.what.by))?;
            self.push(" AS o");
            push_number(&mut self.text, number);
        }
        self.push(", row_number() OVER (PARTITION BY ");
        if !self.windows.is_empty() {
            self.write_lead(self.windows.len());
            self.push(", ");
        }
        self.joined(&each.alike_in, ", ", Self::write_identity)?;
        self.depth += 1;
        self.write_orders(select)?;
        self.depth -= 1;
        self.push(") AS n");
        self.write_from(select)?;
        self.push(") AS q");
        self.clause(" WHERE q.n ", each.asked_at);
        let count = |bind: &Option<BindValue>| match bind {
            Some(BindValue::Int(rows)) => Some(*rows),
            _ => None,
        };
        let offset = count(&each.offset);
        if let Some(offset) = offset {
            self.push("> ");
            self.push_bind(Cow::Owned(BindValue::Int(offset)))?;
        }
        if let Some(limit) = count(&each.limit) {
            self.push(if offset.is_some() { " AND q.n <= " } else { "<= " });
            let last = limit.saturating_add(offset.unwrap_or(0));
            self.push_bind(Cow::Owned(BindValue::Int(last)))?;
        }
        if each.order_apart {
            self.push(" ORDER BY q.n");
        }
        for (number, order) in outside.iter().enumerate() {
            let before = number.checked_sub(1).and_then(|before| outside.get(before));
            // The parts of one tuple form one clause.
            match before {
                Some(before) if before.at == order.at => self.push(", "),
                Some(_) => self.clause(", ", order.at),
                None => self.clause(" ORDER BY ", order.at),
            }
            self.write_order_outside(&order.what, "q.o", number)?;
        }
        self.write_limit(select, cap)
    }

    /// Writes an order by a column that the derived table computed.
    pub(super) fn write_order_outside(
        &mut self,
        order: &OrderTerm,
        name: &'static str,
        number: usize,
    ) -> Result<(), Error> {
        let place = move |this: &mut Self| {
            this.push(name);
            push_number(&mut this.text, number);
            Ok(())
        };
        let form = self.order_form(order);
        self.write_order_as(order, place, |this| {
            if let Some(form) = form {
                return this.write_sorted_text(form, place);
            }
            let collated = match order.by.needs_collation() {
                true => this.grammar.text_order(),
                false => Collated::AS_IT_IS,
            };
            this.write_within(collated, place)
        })
    }
}

impl Node {
    /// Visits the windows in it, without those of subqueries.
    fn visit_windows<'n>(&'n self, see: &mut dyn FnMut(&'n Window)) {
        if !self.summary().windows() {
            return;
        }
        if let Node::Window(_, window) = self {
            see(window);
        }
        self.children(&mut |child| child.visit_windows(see));
    }
}

impl Window {
    /// Returns whether it has the partition and the order of another.
    fn is_alike(&self, other: &Window) -> bool {
        (&self.partition, &self.orders) == (&other.partition, &other.orders)
    }
}
