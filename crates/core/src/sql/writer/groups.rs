//! GROUP BY, HAVING and aggregates, and computed keys that are used more than once.

use super::clauses::Naming;
use super::limits::Cap;
use super::{Writer, push_number};
use crate::dialect::Collated;
use crate::dialect::TruthForm;
use crate::model::{Error, function};
use crate::sql::form::{self, Part};
use crate::tree::{
    Aggregate, Call, GroupingClauses, Located, Node, OrderTerm, RawColumn, Select, Window,
};

/// The group keys, and whether a computed one is used more than once.
#[derive(Debug, Default)]
struct Keys<'q> {
    /// The keys, each once: first those that are selected.
    all: Vec<&'q Node>,
    /// True if a computed key stands anywhere but alone in the select list.
    again: bool,
}

/// A derived table that computes the keys and the arguments of aggregates for the query around it.
#[derive(Debug, Clone)]
pub(super) struct PrecomputedKeys<'q> {
    keys: Vec<&'q Node>,
    totalled: Totalled<'q>,
}

/// The columns of a derived table beside the keys.
#[derive(Debug, Clone)]
enum Totalled<'q> {
    /// The arguments of all aggregates, for each row.
    Arguments(Vec<&'q Node>),
    /// The aggregates of each group. The query around them combines these for subtotals.
    Groups(Vec<&'q Node>),
}

impl<'q> Totalled<'q> {
    fn nodes(&self) -> &[&'q Node] {
        let (Totalled::Arguments(nodes) | Totalled::Groups(nodes)) = self;
        nodes
    }

    fn is_of_groups(&self) -> bool {
        matches!(self, Totalled::Groups(_))
    }
}

const STRANGE_KEY: &str = "a key in `having` or `order_by` is not a key of the query; select it, or name it in `group_by`";
const ORDERED_BEFORE: &str =
    "the query is ordered by row and then grouped; call `order_by` after `select`";
const WINDOW_IN_HAVING: &str = "a window function cannot stand in `having`, because it is computed later; filter `from(query)`";
const WINDOW_IN_TOTAL: &str = "a window function cannot stand inside an aggregate or a key; compute it in a query, and group \
     `from(query)`";

impl<'q> Writer<'q> {
    pub(super) fn write_groups(
        &mut self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let listed = select
            .values
            .as_ref()
            .map_or(&[][..], |values| &*values.what);
        let mut keys = self.keys_of(select, grouping, listed)?;
        keys.again |= self.combines(select);
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
        let are_repeated = !rolled_up.is_empty() && self.grammar.grouping_sets().is_none();
        check_beside_groups(select, grouping, &keys, keys.again || are_repeated)?;
        if let Some(having) = grouping
            .having
            .iter()
            .find(|having| having.what.summary().windows())
        {
            return Err(Error::invalid_query(WINDOW_IN_HAVING).asked_at(having.at));
        }
        if !rolled_up.is_empty() {
            return self.write_rollup(select, grouping, &keys, &rolled_up, naming, cap);
        }
        if keys.again {
            return self.write_groups_of_inside(select, grouping, keys.all, naming, cap);
        }
        let is_outside = |order: &OrderTerm| {
            order.selected && !self.has_place(order) && !self.takes_ordinal(order)
        };
        if select.orders.iter().any(|order| is_outside(&order.what)) {
            return self.write_outside(select, naming, cap, |this| {
                this.write_inner_list(select)?;
                this.write_from(select)?;
                this.write_grouping(select, grouping, &keys.all)
            });
        }
        self.write_list(select, naming, false)?;
        self.write_from(select)?;
        self.write_grouping(select, grouping, &keys.all)?;
        self.write_orders_by(select, |this, order| {
            let place = listed.iter().position(|value| *value == order.by);
            match place {
                Some(place)
                    if this.has_place(order)
                        || this.stands_alone(order)
                        || order.selected && this.takes_ordinal(order) =>
                {
                    this.write_order_at(order, place)
                }
                _ => this.write_order(order),
            }
        })?;
        self.write_limit(select, cap)
    }

    /// Writes GROUP BY and HAVING.
    fn write_grouping(
        &mut self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        keys: &[&'q Node],
    ) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
        let at = values.map_or(select.asked_at, |values| values.at);
        let mut opening = " GROUP BY ";
        for key in keys {
            if self.is_of_all(key) || key.is_decided() && self.grammar.groups_by_key_alone() {
                continue;
            }
            match opening {
                ", " => self.push(opening),
                opening => self.clause(opening, at),
            }
            opening = ", ";
            self.write_key(key, listed)?;
        }
        self.write_having(grouping)
    }

    /// Writes a key of GROUP BY, as an ordinal where it is selected, so that a bind in it stays one bind.
    fn write_key(&mut self, key: &'q Node, listed: &'q [Node]) -> Result<(), Error> {
        match listed.iter().position(|value| value == key) {
            Some(place) => {
                push_number(&mut self.text, place + 1);
                Ok(())
            }
            None => self.write_value(key),
        }
    }

    /// Writes a query with subtotals.
    fn write_rollup(
        &mut self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        keys: &Keys<'q>,
        rolled_up: &[&'q Node],
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let is_combined = !self.combines(select)
            && combined_aggregates(select).is_some()
            && check_beside_groups(select, grouping, keys, true).is_ok();
        let around = || match is_combined {
            true => PrecomputedKeys::of_groups(select, &keys.all),
            false => PrecomputedKeys::of(select, &keys.all),
        };
        self.write_outside(select, naming, cap, |this| match this.grammar.grouping_sets() {
            Some(opening) if keys.again || is_combined => {
                this.inside(around(), |this| this.write_inner_list(select))?;
                this.push(" FROM (");
                this.write_precomputed(select, &around())?;
                this.push(") AS q");
                this.inside(around(), |this| {
                    this.write_grouping_sets(select, grouping, &keys.all, rolled_up, opening)
                })
            }
            Some(opening) => {
                this.write_inner_list(select)?;
                this.write_from(select)?;
                this.write_grouping_sets(select, grouping, &keys.all, rolled_up, opening)
            }
            None if is_combined => {
                this.write_levels_of_groups(select, grouping, around(), rolled_up)
            }
            None => this.write_levels(select, grouping, around(), rolled_up),
        })
    }

    /// Writes a query as a derived table after SELECT, and its orders and limit outside. `inner` begins with
    /// [`write_inner_list`](Self::write_inner_list).
    pub(super) fn write_outside(
        &mut self,
        select: &'q Select,
        naming: Naming,
        cap: Option<Cap>,
        inner: impl FnOnce(&mut Self) -> Result<(), Error>,
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
        inner(self)?;
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

    /// Writes SELECT and the list of a query that is ordered outside, with the orders that are not in it.
    pub(super) fn write_inner_list(&mut self, select: &'q Select) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
        self.push("SELECT ");
        self.write_list(select, Naming::Places, false)?;
        for (number, order) in select.orders.iter().enumerate() {
            if !listed.contains(&order.what.by) {
                self.push(", ");
                self.in_expression(|this| this.write_value(&order.what.by))?;
                self.push(" AS o");
                push_number(&mut self.text, number);
            }
        }
        Ok(())
    }

    /// Writes GROUP BY with GROUPING SETS, and HAVING.
    fn write_grouping_sets(
        &mut self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        keys: &[&'q Node],
        rolled_up: &[&'q Node],
        opening: &'static str,
    ) -> Result<(), Error> {
        let values = select.values.as_ref();
        let listed = values.map_or(&[][..], |values| &*values.what);
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
        self.write_having(grouping)
    }

    /// Writes one query for each level of subtotals, over a common table expression with the keys and what is
    /// totalled, so that the rows are read once.
    ///
    /// MariaDB's WITH ROLLUP is no way out: it gives no grand total of an empty table, and mixes up subtotals with groups
    /// whose key is NULL.
    fn write_levels(
        &mut self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        around: PrecomputedKeys<'q>,
        rolled_up: &[&'q Node],
    ) -> Result<(), Error> {
        let values = select.values.as_ref();
        let at = values.map_or(select.asked_at, |values| values.at);
        let keys = around.keys.clone();
        self.push("WITH nepheline_keys AS (");
        self.write_precomputed(select, &around)?;
        self.push(") ");
        self.inside(around, |this| {
            for level in (0..=rolled_up.len()).rev() {
                let of_all = rolled_up.get(level..).unwrap_or_default().to_vec();
                let outside = std::mem::replace(&mut this.of_all, of_all);
                if level < rolled_up.len() {
                    this.clause(" UNION ALL ", at);
                }
                this.write_inner_list(select)?;
                this.push(" FROM nepheline_keys AS q");
                let mut opening = " GROUP BY ";
                for key in &keys {
                    if !this.is_of_all(key) {
                        this.push(opening);
                        opening = ", ";
                        this.write_from_inside(key);
                    }
                }
                this.write_having(grouping)?;
                // Without keys, an aggregate in the list is what makes the rows one group.
                let listed = values.map_or(&[][..], |values| &*values.what);
                if opening != ", "
                    && grouping.having.is_empty()
                    && !listed.iter().any(Node::holds_aggregates)
                {
                    this.push(" HAVING count(*) >= 0");
                }
                this.of_all = outside;
            }
            Ok(())
        })
    }

    /// Writes the subtotals of groups that are computed once. Each group is joined with every level, and has none of the keys
    /// that the level is over all values of.
    fn write_levels_of_groups(
        &mut self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        around: PrecomputedKeys<'q>,
        rolled_up: &[&'q Node],
    ) -> Result<(), Error> {
        let number_of_keys = around.keys.len();
        // The total of an empty table is a row. The totals of each group of other keys are none.
        let [join, close] = match rolled_up.len() == number_of_keys {
            true => [") AS l LEFT JOIN (", ") AS g ON TRUE WHERE g.is_group = 1 OR l.level = 0"],
            false => [") AS l CROSS JOIN (", ") AS g"],
        };
        self.inside(around.clone(), |this| this.write_inner_list(select))?;
        self.push(" FROM (");
        self.write_list_at_levels(&around);
        for level in 0..=rolled_up.len() {
            self.push(if level == 0 { " FROM (SELECT " } else { " UNION ALL SELECT " });
            push_number(&mut self.text, level);
            self.push(if level == 0 { " AS level" } else { "" });
        }
        self.push(join);
        self.write_precomputed(select, &around)?;
        self.push(close);
        self.push(") AS q GROUP BY q.level");
        for number in 0..number_of_keys {
            self.push(", q.k");
            push_number(&mut self.text, number);
        }
        self.inside(around, |this| this.write_having(grouping))
    }

    /// Writes SELECT and the columns of a group at a level of subtotals.
    fn write_list_at_levels(&mut self, around: &PrecomputedKeys<'q>) {
        self.push("SELECT l.level");
        for (number, key) in around.keys.iter().enumerate() {
            let level = around.level_of(key);
            if let Some(level) = level {
                self.push(", CASE WHEN l.level > ");
                push_number(&mut self.text, level);
            }
            self.push(if level.is_some() { " THEN g.k" } else { ", g.k" });
            push_number(&mut self.text, number);
            self.push(if level.is_some() { " END AS k" } else { " AS k" });
            push_number(&mut self.text, number);
        }
        for number in 0..around.totalled.nodes().len() {
            self.push(", g.a");
            push_number(&mut self.text, number);
        }
    }

    /// Returns the last level of subtotals over all values of these keys, if one query has all levels.
    pub(super) fn last_level_over(&self, keys: &[Node]) -> Option<usize> {
        let around = self.inside.as_ref()?;
        let levels = keys.iter().map(|key| around.level_of(key));
        levels.min().flatten()
    }

    /// Returns whether it is a key that is rolled up at this level.
    pub(super) fn is_of_all(&self, node: &Node) -> bool {
        self.of_all.contains(&node)
    }

    /// Returns whether an order can be written as an ordinal alone.
    fn has_place(&self, order: &OrderTerm) -> bool {
        let form = order
            .nullable
            .then(|| self.grammar.null_order(order.descending, order.nulls_first));
        let is_key = matches!(order.by, Node::Key(..));
        is_key
            && !(order.by.is_decided() && order.by.needs_collation())
            && form.is_none_or(|form| form.first.is_none())
    }

    fn keys_of(
        &self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        listed: &'q [Node],
    ) -> Result<Keys<'q>, Error> {
        let mut keys = Keys::default();
        let mut add = |key: &'q Node| {
            let decided_by = match key {
                Node::Key(_, key) => key.decided_by.as_slice(),
                _ => &[],
            };
            for key in std::iter::once(key).chain(decided_by) {
                if !keys.all.contains(&key) {
                    keys.all.push(key);
                }
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
        for Located { what, .. } in &grouping.group_keys {
            what.visit_keys(&mut add);
        }
        for Located { what, .. } in &grouping.having {
            what.visit_keys(&mut |key| inside.push(key));
        }
        for Located { what, .. } in &select.orders {
            let mut others = 0;
            what.by.visit_keys(&mut |key| {
                others += 1;
                let of_list = self.has_place(what) || key.is_rolled_up();
                if !(of_list && listed.contains(key)) {
                    inside.push(key);
                }
            });
            if others == 0 && what.by.holds_columns() {
                return Err(Error::invalid_query(ORDERED_BEFORE));
            }
        }
        if keys.all.iter().any(|key| key.summary().windows()) {
            return Err(Error::invalid_query(WINDOW_IN_TOTAL));
        }
        if inside.iter().any(|key| !keys.all.contains(key)) {
            return Err(Error::invalid_query(STRANGE_KEY));
        }
        let is_computed =
            |key: &&Node| !matches!(key, Node::Key(_, key) if matches!(key.of, Node::Column(_)));
        keys.again = inside.iter().any(is_computed);
        Ok(keys)
    }

    fn write_having(&mut self, grouping: &'q GroupingClauses) -> Result<(), Error> {
        let mut opening = " HAVING ";
        for Located { what, at } in &grouping.having {
            self.clause(opening, *at);
            opening = " AND ";
            self.write_inner(what)?;
        }
        Ok(())
    }

    /// Writes groups whose keys are computed once, in a derived table.
    fn write_groups_of_inside(
        &mut self,
        select: &'q Select,
        grouping: &'q GroupingClauses,
        keys: Vec<&'q Node>,
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        let around = PrecomputedKeys::of(select, &keys);
        self.inside(around, |this| this.write_list(select, naming, false))?;
        self.clause(" FROM (", select.asked_at);
        let around = PrecomputedKeys::of(select, &keys);
        self.write_precomputed(select, &around)?;
        self.push(") AS q");
        self.clause(" GROUP BY ", select.asked_at);
        for number in 0..keys.len() {
            self.push(if number > 0 { ", q.k" } else { "q.k" });
            push_number(&mut self.text, number);
        }
        self.inside(around, |this| {
            this.write_having(grouping)?;
            this.write_orders(select)
        })?;
        self.write_limit(select, cap)
    }

    /// Writes the query of the rows to group, or of the groups to combine: keys and what is totalled in full.
    fn write_precomputed(
        &mut self,
        select: &'q Select,
        around: &PrecomputedKeys<'q>,
    ) -> Result<(), Error> {
        self.write_rows(select, " UNION ALL ", |this| this.write_precomputed_list(around))?;
        if around.totalled.is_of_groups() {
            for number in 1..=around.keys.len() {
                self.push(if number == 1 { " GROUP BY " } else { ", " });
                push_number(&mut self.text, number);
            }
        }
        Ok(())
    }

    fn write_precomputed_list(&mut self, around: &PrecomputedKeys<'q>) -> Result<(), Error> {
        self.push("SELECT ");
        let keys = around.keys.iter().map(|node| (" AS k", node));
        let totalled = around.totalled.nodes().iter().map(|node| (" AS a", node));
        let numbers = (0..).zip(keys).chain((0..).zip(totalled));
        let mut between = "";
        for (number, (named, node)) in numbers {
            self.push(between);
            between = ", ";
            self.in_expression(|this| this.write_value(node))?;
            self.push(named);
            push_number(&mut self.text, number);
        }
        if around.totalled.is_of_groups() && self.grammar.grouping_sets().is_none() {
            self.push(", 1 AS is_group");
        }
        Ok(())
    }

    /// Writes with keys and arguments as columns of the table around.
    fn inside(
        &mut self,
        around: PrecomputedKeys<'q>,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let before = self.inside.replace(around);
        let written = write(self);
        self.inside = before;
        written
    }

    /// Writes a column of the derived table, if that computes this node.
    pub(super) fn write_from_inside(&mut self, node: &Node) -> bool {
        let Some(PrecomputedKeys { keys, .. }) = &self.inside else { return false };
        let (name, number) = match node {
            Node::Key(..) => ("q.k", keys.iter().position(|key| *key == node)),
            _ => ("q.a", self.place_inside(node)),
        };
        let Some(number) = number else { return false };
        self.push(name);
        push_number(&mut self.text, number);
        true
    }

    /// Returns the place of an argument of an aggregate in the derived table.
    fn place_inside(&self, node: &Node) -> Option<usize> {
        match &self.inside.as_ref()?.totalled {
            Totalled::Arguments(arguments) => {
                arguments.iter().position(|own| std::ptr::eq(*own, node))
            }
            Totalled::Groups(aggregates) => aggregates.iter().position(|own| *own == node),
        }
    }

    /// Writes an aggregate of a select, which combines those of the groups where the table around has them.
    pub(super) fn write_aggregate_node(
        &mut self,
        node: &'q Node,
        aggregate: &'q Aggregate,
    ) -> Result<(), Error> {
        let combining = aggregate.call.function.combining();
        let (Some(place), Some(combining)) = (self.place_inside(node), combining) else {
            return self.write_aggregate(aggregate, None);
        };
        let form = match std::ptr::eq(combining, aggregate.call.function) {
            true => self.form_of(&aggregate.call)?,
            false => self.grammar.form(combining).unwrap_or(form::AS_IT_IS),
        };
        self.in_expression(|this| {
            this.write_form(form, |this, part, _| {
                if part == 0 {
                    this.push("q.a");
                    push_number(&mut this.text, place);
                }
                Ok(())
            })
        })
    }

    pub(super) fn write_aggregate(
        &mut self,
        aggregate: &'q Aggregate,
        over: Option<&'q Window>,
    ) -> Result<(), Error> {
        let form = self.form_of(&aggregate.call)?;
        let Call { function, sql_type, .. } = aggregate.call;
        let is_extreme = [&function::MIN, &function::MAX].map(|end| std::ptr::eq(function, end));
        if is_extreme.contains(&true) && !self.grammar.has_extremes(sql_type) {
            let what = format!("{} of values of type {sql_type}", function.what());
            let way_out = "order the rows in Rust, or store the value in a column of another type";
            return Err(Error::unsupported(&what, self.grammar.name(), way_out));
        }
        if over.is_none() && aggregate.nodes().any(|node| node.summary().windows()) {
            return Err(Error::invalid_query(WINDOW_IN_TOTAL));
        }
        if over.is_some() && !form.contains("{*}") {
            let way_out = "compute it in groups, and join these";
            let what = format!("{} as a window", aggregate.call.function.what());
            return Err(Error::unsupported(&what, self.grammar.name(), way_out));
        }
        let filters = self.grammar.has_filter();
        if let (Some(filter), false, true) =
            (&aggregate.filter, filters, aggregate.call.arguments.is_empty())
        {
            self.push("count(CASE WHEN ");
            self.write_totalled_condition(filter)?;
            self.push(" THEN 1 END)");
            return over.map_or(Ok(()), |window| self.write_over(window));
        }
        self.in_expression(|this| {
            this.write_form(form, |this, part, alone| match part {
                Part::ARGUMENT_ORDERS if aggregate.orders.is_empty() => Ok(()),
                Part::ARGUMENT_ORDERS => {
                    this.push(" ORDER BY ");
                    this.joined(&aggregate.orders, ", ", |this, order| {
                        match this.place_inside(&order.by) {
                            Some(place) => this.write_order_outside(order, "q.a", place),
                            None => this.write_order(order),
                        }
                    })
                }
                Part::AROUND | Part::FILTER => {
                    if let (Some(filter), true) = (&aggregate.filter, filters) {
                        this.push(" FILTER (WHERE ");
                        this.write_totalled_condition(filter)?;
                        this.push(")");
                    }
                    over.map_or(Ok(()), |window| this.write_over(window))
                }
                number => {
                    let Some(argument) = aggregate.call.arguments.get(number) else {
                        return Ok(());
                    };
                    let is_distinct = number == 0 && aggregate.distinct;
                    if is_distinct {
                        this.push("DISTINCT ");
                    }
                    match &aggregate.filter {
                        Some(filter) if number == 0 && !filters => {
                            this.push("CASE WHEN ");
                            this.write_totalled_condition(filter)?;
                            this.push(" THEN ");
                            this.write_totalled(argument)?;
                            this.push(" END");
                            Ok(())
                        }
                        None if is_distinct
                            && this.identity_key(argument) != Collated::AS_IT_IS =>
                        {
                            this.write_within(
                                this.grammar.distinct_value(argument.sql_type()),
                                |this| this.write_totalled(argument),
                            )
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

/// Refuses columns of each row beside groups, also in subqueries. Some engines would take them from any row of the
/// group. A subquery may use a column that is a key, unless a derived table stands between.
fn check_beside_groups(
    select: &Select,
    grouping: &GroupingClauses,
    keys: &Keys<'_>,
    are_inside: bool,
) -> Result<(), Error> {
    let is_key = |column: &RawColumn| {
        let column_of =
            |key: &&Node| matches!(key, Node::Key(_, key) if key.of == Node::Column(*column));
        !are_inside && !column.needs_collation() && keys.all.iter().any(column_of)
    };
    let values = select.values.iter().flat_map(|values| &values.what);
    let having = grouping.having.iter().map(|having| &having.what);
    let orders = select.orders.iter().map(|order| &order.what.by);
    let mut of_rows = false;
    for node in values.chain(having).chain(orders) {
        node.visit_beside_groups(&mut |column| {
            of_rows |= select.is_over(column.source.id) && !is_key(column);
        });
    }
    match of_rows {
        true => Err(Error::invalid_query(ROWS_BESIDE_GROUPS)),
        false => Ok(()),
    }
}

const ROWS_BESIDE_GROUPS: &str = "a column of each row stands beside groups, which have many values of it; make it a key by `per(..)`, \
     total it, as in `sum(s.assays().count())`, or ask over `from(query)`";

impl<'q> PrecomputedKeys<'q> {
    /// Returns the keys and the arguments of all aggregates of a query.
    fn of(select: &'q Select, keys: &[&'q Node]) -> PrecomputedKeys<'q> {
        let mut totalled = Vec::new();
        for node in select.nodes() {
            node.visit_aggregates(&mut |node| {
                // A bind is the same for all rows, so it is not computed for each.
                let Node::Aggregate(_, aggregate) = node else { return };
                let arguments = aggregate.nodes();
                totalled.extend(arguments.filter(|node| !matches!(node, Node::Bind(_))));
            });
        }
        PrecomputedKeys { keys: keys.to_vec(), totalled: Totalled::Arguments(totalled) }
    }

    /// Returns the number of a key among those that are rolled up, where groups are combined. The levels up to it are over all
    /// values of the key.
    fn level_of(&self, key: &Node) -> Option<usize> {
        let mut rolled_up = self.keys.iter().filter(|key| key.is_rolled_up());
        let level = rolled_up.position(|own| *own == key);
        level.filter(|_| self.totalled.is_of_groups())
    }

    /// Returns the keys and the aggregates of a query, each once.
    fn of_groups(select: &'q Select, keys: &[&'q Node]) -> PrecomputedKeys<'q> {
        let aggregates = combined_aggregates(select).unwrap_or_default();
        PrecomputedKeys { keys: keys.to_vec(), totalled: Totalled::Groups(aggregates) }
    }
}

/// Returns the aggregates of a query, each once, if all follow from the ones of smaller groups: a sum of sums, the
/// least of the least.
fn combined_aggregates(select: &Select) -> Option<Vec<&Node>> {
    let mut all = Vec::new();
    let mut are_combined = true;
    for node in select.nodes() {
        node.visit_aggregates(&mut |node| {
            let Node::Aggregate(_, aggregate) = node else { return };
            are_combined &= !aggregate.distinct && aggregate.call.function.combining().is_some();
            if !all.contains(&node) {
                all.push(node);
            }
        });
    }
    are_combined.then_some(all)
}

impl Node {
    pub(crate) fn is_rolled_up(&self) -> bool {
        matches!(self, Node::Key(_, key) if key.rolled_up)
    }

    /// Returns whether it is a column of a parent, whose keys decide it.
    fn is_decided(&self) -> bool {
        matches!(self, Node::Key(_, key) if !key.decided_by.is_empty())
    }

    pub(super) fn holds_aggregates(&self) -> bool {
        let mut holds = matches!(self, Node::Aggregate(..));
        self.children(&mut |child| holds |= child.holds_aggregates());
        holds
    }

    /// Visits the keys in it that are not inside aggregates.
    fn visit_keys<'n>(&'n self, see: &mut dyn FnMut(&'n Node)) {
        match self {
            Node::Key(..) => see(self),
            Node::Aggregate(..) => {}
            other => other.children(&mut |child| child.visit_keys(see)),
        }
    }

    /// Visits the columns in it, also those that subqueries use, outside keys and aggregates. Hand-written text may
    /// hold aggregates itself.
    fn visit_beside_groups(&self, see: &mut dyn FnMut(&RawColumn)) {
        match self {
            Node::Key(..) | Node::Aggregate(..) => return,
            Node::Call(_, call) if call.function.is_verbatim() => return,
            Node::Column(column) => return see(column),
            Node::Subquery(_, subquery) => subquery.select.visit_columns(see),
            Node::InQuery(_, in_query) => in_query.select.visit_columns(see),
            _ => {}
        }
        self.children(&mut |child| child.visit_beside_groups(see));
    }

    /// Visits its aggregates.
    fn visit_aggregates<'n>(&'n self, see: &mut dyn FnMut(&'n Node)) {
        match self {
            Node::Aggregate(..) => see(self),
            other => other.children(&mut |child| child.visit_aggregates(see)),
        }
    }

    /// Returns whether it has a column outside keys and aggregates.
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
