//! Groups of rows: the keys, the totals, and where a key that is computed is used again.

use super::clauses::Naming;
use super::limits::Cap;
use super::{Writer, push_number};
use crate::dialect::TruthForm;
use crate::model::Error;
use crate::sql::form::Part;
use crate::tree::{Aggregate, Asked, Node, OrderTerm, Select, Special, Window};

/// The keys of a grouping, and whether one of them is used again.
#[derive(Debug, Default)]
struct Keys<'q> {
    /// The keys, each once: first those that are selected.
    all: Vec<&'q Node>,
    /// True if one that is computed stands somewhere else than alone in the list.
    again: bool,
}

/// A query inside that computes the keys, and what is totalled, for the one around it.
#[derive(Debug)]
pub(super) struct Inside<'q> {
    keys: Vec<&'q Node>,
    totalled: Vec<&'q Node>,
}

const STRANGE_KEY: &str = "a key in `having` or `order_by` is not one that the rows are grouped by; \
     select it, or name it in `group_by`";
const ORDERED_BEFORE: &str =
    "rows are ordered here and then grouped; order the groups, after `select`";
const WINDOW_IN_TOTAL: &str = "a function of a window cannot stand inside an aggregate or a key; \
     compute it in a query, and group `from(query)`";

impl<'q> Writer<'q> {
    pub(super) fn write_groups(
        &mut self,
        select: &'q Select,
        special: &'q Special,
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let listed = select
            .values
            .as_ref()
            .map_or(&[][..], |values| &*values.what);
        let keys = self.keys_of(select, special, listed)?;
        self.push("SELECT ");
        if let Some(values) = &select.values {
            self.asked_at = values.at;
        }
        let rolled_up: Vec<&Node> = keys
            .all
            .iter()
            .copied()
            .filter(|key| key.is_rolled_up())
            .collect();
        if !rolled_up.is_empty() {
            if keys.again {
                return Err(Error::unfit_parts(COMPUTED_ROLLUP));
            }
            return self.write_rollup(select, special, &keys.all, &rolled_up, naming, cap);
        }
        if keys.again {
            return self.write_groups_of_inside(select, special, keys.all, naming, cap);
        }
        self.write_list(select, naming, false)?;
        self.write_from(select)?;
        self.write_grouping(select, special, &keys.all)?;
        self.write_orders_by(select, |this, order| {
            let place = listed.iter().position(|value| *value == order.by);
            match place {
                Some(place) if this.has_place(order) || this.stands_alone(order) => {
                    this.write_order_at(order, place)
                }
                _ => this.write_order(order),
            }
        })?;
        self.write_limit(select, cap)
    }

    /// GROUP BY and HAVING.
    fn write_grouping(
        &mut self,
        select: &'q Select,
        special: &'q Special,
        keys: &[&'q Node],
    ) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
        let at = values.map_or(select.asked_at, |values| values.at);
        let mut opening = " GROUP BY ";
        for key in keys {
            if self.is_of_all(key) {
                continue;
            }
            match opening {
                ", " => self.push(opening),
                opening => self.clause(opening, at),
            }
            opening = ", ";
            self.write_key(key, listed)?;
        }
        self.write_having(special)
    }

    /// A key of GROUP BY: by its place in the list, so that a bind in it is one bind.
    fn write_key(&mut self, key: &'q Node, listed: &'q [Node]) -> Result<(), Error> {
        match listed.iter().position(|value| value == key) {
            Some(place) => {
                push_number(&mut self.text, place + 1);
                Ok(())
            }
            None => self.write_value(key),
        }
    }

    /// The groups for all values of the keys, and those where the last are added up.
    fn write_rollup(
        &mut self,
        select: &'q Select,
        special: &'q Special,
        keys: &[&'q Node],
        rolled_up: &[&'q Node],
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
        let place = |order: &OrderTerm| listed.iter().position(|value| *value == order.by);
        let mut places = 0..;
        for cell in 0..self.width(select) {
            self.named(naming, &mut places, |this| {
                this.push("q.c");
                push_number(&mut this.text, cell);
                Ok(())
            })?;
        }
        self.push(" FROM (");
        match self.grammar.grouping_sets() {
            Some(opening) => self.write_grouping_sets(select, special, keys, rolled_up, opening)?,
            None => self.write_levels(select, special, keys, rolled_up)?,
        }
        self.push(") AS q");
        self.write_orders_by(select, |this, order| {
            let number = select
                .orders
                .iter()
                .position(|asked| std::ptr::eq(&asked.what, order));
            let (name, number) = match place(order) {
                Some(place) => ("q.c", place),
                None => ("q.o", number.unwrap_or_default()),
            };
            this.write_order_outside(order, name, number)
        })?;
        self.write_limit(select, cap)
    }

    /// The SELECT list of a group, with the orders that are not in it.
    fn write_level_list(&mut self, select: &'q Select) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
        self.push("SELECT ");
        self.write_list(select, Naming::Places, false)?;
        for (number, order) in select.orders.iter().enumerate() {
            if !listed.contains(&order.what.by) {
                self.push(", ");
                self.guarded(|this| this.write_value(&order.what.by))?;
                self.push(" AS o");
                push_number(&mut self.text, number);
            }
        }
        Ok(())
    }

    /// One query for all levels.
    fn write_grouping_sets(
        &mut self,
        select: &'q Select,
        special: &'q Special,
        keys: &[&'q Node],
        rolled_up: &[&'q Node],
        opening: &'static str,
    ) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
        self.write_level_list(select)?;
        self.write_from(select)?;
        self.clause(" GROUP BY ", values.map_or(select.asked_at, |values| values.at));
        self.push(opening);
        for level in (0..=rolled_up.len()).rev() {
            self.push(if level == rolled_up.len() { "((" } else { ", (" });
            let of_all = rolled_up.get(level..).unwrap_or_default();
            let grouped = keys.iter().filter(|key| !of_all.contains(key));
            self.joined(grouped, ", ", |this, key| this.write_key(key, listed))?;
            self.push(")");
        }
        self.push(")");
        self.write_having(special)
    }

    /// A query for each level.
    fn write_levels(
        &mut self,
        select: &'q Select,
        special: &'q Special,
        keys: &[&'q Node],
        rolled_up: &[&'q Node],
    ) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
        for level in (0..=rolled_up.len()).rev() {
            let outside = std::mem::replace(&mut self.of_all, rolled_up[level..].to_vec());
            if level < rolled_up.len() {
                self.clause(" UNION ALL ", values.map_or(select.asked_at, |values| values.at));
            }
            self.write_level_list(select)?;
            self.write_from(select)?;
            self.write_grouping(select, special, keys)?;
            let groups = keys.len() > self.of_all.len();
            // Without keys, what makes it one group is an aggregate.
            if !groups && special.having.is_empty() && !listed.iter().any(Node::holds_aggregates) {
                self.push(" HAVING count(*) >= 0");
            }
            self.of_all = outside;
        }
        Ok(())
    }

    /// Returns whether it is a key of which all values together are one group here.
    pub(super) fn is_of_all(&self, node: &Node) -> bool {
        self.of_all.contains(&node)
    }

    /// Returns whether an order can be written as a place alone.
    fn has_place(&self, order: &OrderTerm) -> bool {
        let form = order
            .nullable
            .then(|| self.grammar.null_order(order.descending, order.nulls_first));
        matches!(order.by, Node::Key(..)) && form.is_none_or(|form| form.first.is_none())
    }

    fn keys_of(
        &self,
        select: &'q Select,
        special: &'q Special,
        listed: &'q [Node],
    ) -> Result<Keys<'q>, Error> {
        let mut keys = Keys::default();
        let mut add = |key: &'q Node| {
            if !keys.all.contains(&key) {
                keys.all.push(key);
            }
        };
        let mut inside = Vec::new();
        for value in listed {
            match value {
                Node::Key(..) => add(value),
                other => other.visit_keys(&mut |key| inside.push(key)),
            }
        }
        inside.iter().for_each(|key| add(key));
        for Asked { what, .. } in &special.group_keys {
            what.visit_keys(&mut add);
        }
        for Asked { what, .. } in &special.having {
            what.visit_keys(&mut |key| inside.push(key));
        }
        for Asked { what, .. } in &select.orders {
            let mut others = 0;
            what.by.visit_keys(&mut |key| {
                others += 1;
                let of_list = self.has_place(what) || key.is_rolled_up();
                if !(of_list && listed.contains(key)) {
                    inside.push(key);
                }
            });
            if others == 0 && what.by.holds_columns() {
                return Err(Error::unfit_parts(ORDERED_BEFORE));
            }
        }
        if keys.all.iter().any(|key| key.facts().windows()) {
            return Err(Error::unfit_parts(WINDOW_IN_TOTAL));
        }
        if inside.iter().any(|key| !keys.all.contains(key)) {
            return Err(Error::unfit_parts(STRANGE_KEY));
        }
        let is_computed =
            |key: &&Node| !matches!(key, Node::Key(_, key) if matches!(key.of, Node::Column(_)));
        keys.again = inside.iter().any(is_computed);
        Ok(keys)
    }

    fn write_having(&mut self, special: &'q Special) -> Result<(), Error> {
        let mut opening = " HAVING ";
        for Asked { what, at } in &special.having {
            self.clause(opening, *at);
            opening = " AND ";
            self.write_inner(what)?;
        }
        Ok(())
    }

    /// Groups whose keys are computed once, in a query inside.
    fn write_groups_of_inside(
        &mut self,
        select: &'q Select,
        special: &'q Special,
        keys: Vec<&'q Node>,
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let mut totalled = Vec::new();
        for node in select.nodes() {
            node.visit_totalled(&mut |node| totalled.push(node));
        }
        let around = Inside { keys, totalled };
        let before = self.inside.replace(around);
        self.write_list(select, naming, false)?;
        self.clause(" FROM (SELECT ", select.asked_at);
        // Inside, keys and totals are what they are.
        let around = std::mem::replace(&mut self.inside, before);
        let Some(Inside { keys, totalled }) = &around else { return Ok(()) };
        for (number, key) in keys.iter().enumerate() {
            self.push(if number > 0 { ", " } else { "" });
            self.guarded(|this| this.write_value(key))?;
            self.push(" AS k");
            push_number(&mut self.text, number);
        }
        for (number, node) in totalled.iter().enumerate() {
            self.push(", ");
            self.guarded(|this| this.write_value(node))?;
            self.push(" AS a");
            push_number(&mut self.text, number);
        }
        self.write_from(select)?;
        self.push(") AS q");
        self.clause(" GROUP BY ", select.asked_at);
        for number in 0..keys.len() {
            self.push(if number > 0 { ", q.k" } else { "q.k" });
            push_number(&mut self.text, number);
        }
        let before = std::mem::replace(&mut self.inside, around);
        self.write_having(special)?;
        self.write_orders(select)?;
        self.inside = before;
        self.write_limit(select, cap)
    }

    /// Writes a column of the query inside, if that computed this node.
    pub(super) fn write_from_inside(&mut self, node: &Node) -> bool {
        let Some(Inside { keys, totalled }) = &self.inside else { return false };
        let (name, number) = match node {
            Node::Key(..) => ("q.k", keys.iter().position(|key| *key == node)),
            _ => ("q.a", totalled.iter().position(|own| std::ptr::eq(*own, node))),
        };
        let Some(number) = number else { return false };
        self.push(name);
        push_number(&mut self.text, number);
        true
    }

    pub(super) fn write_aggregate(
        &mut self,
        aggregate: &'q Aggregate,
        over: Option<&'q Window>,
    ) -> Result<(), Error> {
        let form = self.form_of(&aggregate.call)?;
        if over.is_none() && aggregate.nodes().any(|node| node.facts().windows()) {
            return Err(Error::unfit_parts(WINDOW_IN_TOTAL));
        }
        if over.is_some() && !form.contains("{*}") {
            let way_out = "compute it in groups, and join them";
            let what = format!("{} as a window", aggregate.call.function.what());
            return Err(Error::unsupported(&what, self.grammar.name(), way_out));
        }
        let filters = self.grammar.has_filter();
        if let (Some(among), false, true) =
            (&aggregate.among, filters, aggregate.call.arguments.is_empty())
        {
            self.push("count(CASE WHEN ");
            self.write_totalled_condition(among)?;
            self.push(" THEN 1 END)");
            return over.map_or(Ok(()), |window| self.write_over(window));
        }
        self.guarded(|this| {
            this.write_form(form, |this, part, alone| match part {
                Part::ARGUMENT_ORDERS if aggregate.orders.is_empty() => Ok(()),
                Part::ARGUMENT_ORDERS => {
                    this.push(" ORDER BY ");
                    this.joined(&aggregate.orders, ", ", |this, order| {
                        match this.inside.is_some() {
                            true => Err(Error::unfit_parts(ORDERED_INSIDE)),
                            false => this.write_order(order),
                        }
                    })
                }
                Part::AROUND => {
                    if let (Some(among), true) = (&aggregate.among, filters) {
                        this.push(" FILTER (WHERE ");
                        this.write_totalled_condition(among)?;
                        this.push(")");
                    }
                    over.map_or(Ok(()), |window| this.write_over(window))
                }
                number => {
                    let Some(argument) = aggregate.call.arguments.get(number) else {
                        return Ok(());
                    };
                    if number == 0 && aggregate.distinct {
                        this.push("DISTINCT ");
                    }
                    match &aggregate.among {
                        Some(among) if number == 0 && !filters => {
                            this.push("CASE WHEN ");
                            this.write_totalled_condition(among)?;
                            this.push(" THEN ");
                            this.write_totalled(argument)?;
                            this.push(" END");
                            Ok(())
                        }
                        _ if alone => this.write_totalled(argument),
                        _ => this.write_totalled_operand(argument),
                    }
                }
            })
        })
    }

    fn write_totalled(&mut self, node: &'q Node) -> Result<(), Error> {
        match self.write_from_inside(node) {
            true => Ok(()),
            false => self.write_value(node),
        }
    }

    fn write_totalled_condition(&mut self, node: &'q Node) -> Result<(), Error> {
        match (self.write_from_inside(node), self.grammar.truth()) {
            (true, TruthForm::Value) => Ok(()),
            (true, TruthForm::Number { is_true, .. }) => {
                self.push(is_true);
                Ok(())
            }
            (false, _) => self.write_condition(node),
        }
    }

    fn write_totalled_operand(&mut self, node: &'q Node) -> Result<(), Error> {
        match self.write_from_inside(node) {
            true => Ok(()),
            false => self.write_operand(node),
        }
    }
}

const ORDERED_INSIDE: &str = "a joined text with an order cannot stand beside a computed key that is used \
     again; group by a column, or compute the key in a query and group `from(query)`";

const COMPUTED_ROLLUP: &str = "a computed key with subtotals cannot be used again inside an expression; \
     compute it in a query, and group `from(query)`";

impl Node {
    fn is_rolled_up(&self) -> bool {
        matches!(self, Node::Key(_, key) if key.rolled_up)
    }

    fn holds_aggregates(&self) -> bool {
        let mut holds = matches!(self, Node::Aggregate(..));
        self.children(&mut |child| holds |= child.holds_aggregates());
        holds
    }

    /// Shows the keys in it that are not inside of aggregates.
    fn visit_keys<'n>(&'n self, see: &mut dyn FnMut(&'n Node)) {
        match self {
            Node::Key(..) => see(self),
            Node::Aggregate(..) => {}
            other => other.children(&mut |child| child.visit_keys(see)),
        }
    }

    /// Shows what its aggregates are of.
    fn visit_totalled<'n>(&'n self, see: &mut dyn FnMut(&'n Node)) {
        match self {
            // A bind is the same for all rows, so that it need not be computed for each.
            Node::Aggregate(_, aggregate) => {
                let binds = |node: &&Node| matches!(node, Node::Bind(_));
                aggregate.nodes().filter(|node| !binds(node)).for_each(see);
            }
            other => other.children(&mut |child| child.visit_totalled(see)),
        }
    }

    /// Returns whether a column stands in it outside of keys and aggregates.
    fn holds_columns(&self) -> bool {
        match self {
            Node::Column(_) => true,
            Node::Key(..) | Node::Aggregate(..) => false,
            other => {
                let mut holds = false;
                other.children(&mut |child| holds |= child.holds_columns());
                holds
            }
        }
    }
}
