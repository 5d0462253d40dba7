//! SELECT: the clauses in their order.

use std::borrow::Cow;
use std::ops::RangeFrom;

use super::limits::Cap;
use super::nodes::SortForm;
use super::{Writer, push_number};
use crate::dialect::{Collated, TruthForm};
use crate::model::{BindValue, Error, Origin, TableInfo};
use crate::plan::ReadShape;
use crate::sql::identifiers::{push_identifier, push_select_list};
use crate::tree::{FromSource, Located, Lock, Node, OrderTerm, Path, RawColumn, Select, Source};

/// SQLite parses a chain of a thousand terms as a thousand nested pairs, and refuses it. Brackets around this
/// number of terms, one more level for each power of it, make any number pass on every engine.
const TERMS_IN_A_ROW: usize = 300;

impl<'q> Writer<'q> {
    pub(super) fn write_wanted(&mut self, shape: ReadShape) -> Result<(), Error> {
        let select = self.select;
        self.mark(select.asked_at);
        let in_rows = !matches!(shape, ReadShape::Count | ReadShape::Presence);
        self.enter(select, in_rows)?;
        if let (true, FromSource::Text(text)) = (in_rows && select.is_whole_text(), &select.body) {
            self.write_node(text)?;
            let ReadShape::Page { after, rows } = shape else { return Ok(()) };
            let [after, rows] = [after, rows].map(|n| {
                let bound = BindValue::Int(i64::try_from(n).unwrap_or(i64::MAX));
                Some((Cow::Owned(bound), select.asked_at))
            });
            return self.write_limit_of(rows, after);
        }
        match shape {
            ReadShape::Rows => self.write_query(select, Naming::None, None),
            // A key matches at most one row, and without LIMIT the text is that of every read by key.
            ReadShape::AtMost(rows) => {
                let rows = i64::from(rows);
                let cap = (!select.at_most_one).then_some(Cap { after: None, rows });
                self.write_query(select, Naming::None, cap)
            }
            ReadShape::Page { after, rows } => {
                let [after, rows] = [after, rows].map(|n| i64::try_from(n).unwrap_or(i64::MAX));
                self.write_query(select, Naming::None, Some(Cap { after: Some(after), rows }))
            }
            ReadShape::Count
                if select.grouping.is_none() && !select.is_limited() && !self.combines(select) =>
            {
                self.push("SELECT count(*)");
                self.write_from(select)
            }
            ReadShape::Count => {
                self.push("SELECT count(*) FROM (");
                self.write_any_rows(select, " AS c0")?;
                self.push(") AS q");
                Ok(())
            }
            ReadShape::Presence => match self.grammar.truth() {
                TruthForm::Value => {
                    // As in `write_shaped_subquery`.
                    let is_skipped = select.grouping.is_some() && select.offset.is_some();
                    self.push("SELECT EXISTS (");
                    self.push(if is_skipped { "SELECT 1 FROM (" } else { "" });
                    self.write_any_rows(select, "")?;
                    self.push(if is_skipped { ") AS q)" } else { ")" });
                    Ok(())
                }
                // Dialects without a boolean type count the first row.
                TruthForm::Number { .. } => {
                    self.push("SELECT count(*) FROM (");
                    self.write_any_rows(select, " AS c0")?;
                    self.write_limit_of(
                        Some((Cow::Owned(BindValue::Int(1)), self.asked_at)),
                        None,
                    )?;
                    self.push(") AS q");
                    Ok(())
                }
            },
        }
    }

    /// Writes a query whose selected values do not matter.
    pub(super) fn write_any_rows(&mut self, select: &'q Select, named: &str) -> Result<(), Error> {
        if select.grouping.is_some() {
            return self.write_query(select, Naming::Places, None);
        }
        self.write_rows(select, " UNION ALL ", |this| {
            this.push("SELECT 1");
            this.push(named);
            Ok(())
        })?;
        self.write_limit(select, None)
    }

    /// Writes a whole query.
    pub(super) fn write_query(
        &mut self,
        select: &'q Select,
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        self.with_windows(select, |this| this.write_whole_query(select, naming, cap))
    }

    fn write_whole_query(
        &mut self,
        select: &'q Select,
        naming: Naming,
        cap: Option<Cap>,
    ) -> Result<(), Error> {
        if let Some(relation) = select.relation {
            self.mark_relation(relation);
        }
        let naming = match (naming, select.named) {
            (Naming::None, Some(fields)) => Naming::Fields(fields),
            (naming, _) => naming,
        };
        let mut distinct = false;
        if let Some(grouping) = &select.grouping {
            if grouping.distinct.is_some() && (grouping.grouped || grouping.of_each.is_some()) {
                return Err(Error::invalid_query(DISTINCT_TWICE));
            }
            if let Some(lock) = &select.lock {
                return Err(Error::invalid_query(LOCKED_OTHERS).asked_at(lock.at));
            }
            match &grouping.of_each {
                Some(each) if !grouping.grouped => {
                    return self.write_first_of_each(select, each, naming, cap);
                }
                Some(_) => return Err(Error::invalid_query(GROUPS_OF_EACH)),
                None if grouping.grouped => {
                    return self.write_groups(select, grouping, naming, cap);
                }
                None => distinct = grouping.distinct.is_some(),
            }
        }
        let combines = self.combines(select);
        if combines && distinct {
            return Err(Error::unsupported(DISTINCT_FULL, self.grammar.name(), DISTINCT_OUTSIDE));
        }
        self.push(if distinct { "SELECT DISTINCT " } else { "SELECT " });
        let is_outside = |order: &OrderTerm| {
            order.selected && !order.by.is_plain() && !self.takes_ordinal(order)
        };
        let orders_outside = || select.orders.iter().any(|order| is_outside(&order.what));
        if combines || !distinct && select.lock.is_none() && orders_outside() {
            return self.write_outside(select, naming, cap, |this| {
                this.write_rows(select, " UNION ALL ", |this| this.write_inner_list(select))
            });
        }
        self.write_list(select, naming, distinct)?;
        self.write_from(select)?;
        match (&select.values, distinct) {
            (_, true) => self.write_orders_of_listed(select)?,
            (Some(values), false) => self.write_orders_by_place(select, &values.what)?,
            (None, false) => self.write_orders(select)?,
        }
        self.write_limit(select, cap)?;
        match &select.lock {
            Some(Located { what, at }) => self.write_lock(select, *what, *at),
            None => Ok(()),
        }
    }

    fn write_lock(&mut self, select: &'q Select, lock: Lock, at: Origin) -> Result<(), Error> {
        let Some(text) = self.grammar.lock(lock) else {
            let way_out = "use a version column and `expecting` instead";
            return Err(
                Error::unsupported("locking rows", self.grammar.name(), way_out).asked_at(at)
            );
        };
        if !matches!(select.body, FromSource::Table) {
            return Err(Error::invalid_query(LOCKED_OTHERS).asked_at(at));
        }
        let [opening, closing] = text;
        self.clause(opening, at);
        if self.grammar.locks_named_tables() {
            self.push(" OF ");
            let root = self
                .names
                .find(Source { id: select.source, path: Path::HERE });
            let name = root.map(|root| root.alias.as_deref().unwrap_or(root.table.name()));
            let name = name.unwrap_or_default().to_owned();
            self.push_name(&name);
        }
        self.push(closing);
        Ok(())
    }

    /// Writes the select list.
    pub(super) fn write_list(
        &mut self,
        select: &'q Select,
        naming: Naming,
        by_code_point: bool,
    ) -> Result<(), Error> {
        let mut places = 0..;
        match &select.values {
            None if matches!(naming, Naming::None) && !by_code_point => {
                self.write_whole_rows(select);
                places.start = match select.keys.is_empty() {
                    true => 1,
                    false => self.whole_rows(select).len(),
                };
            }
            None => {
                for column in self.whole_rows(select) {
                    self.named(naming, &mut places, |this| {
                        let collated = match by_code_point {
                            true => this.distinct_value(&Node::Column(column)),
                            false => Collated::AS_IT_IS,
                        };
                        this.write_within(collated, |this| this.write_column(&column))
                    })?;
                }
            }
            Some(Located { what, at }) => {
                self.asked_at = *at;
                for value in what {
                    self.named(naming, &mut places, |this| {
                        this.in_expression(|this| match by_code_point {
                            true => this.write_distinct_value(value),
                            false => this.write_value(value),
                        })
                    })?;
                }
            }
        }
        let naming = if matches!(naming, Naming::Places) { naming } else { Naming::None };
        for (key, cell) in select.keys.iter().zip(self.key_cells(select)) {
            if cell >= places.start {
                self.named(naming, &mut places, |this| {
                    this.in_expression(|this| this.write_node(key))
                })?;
            }
        }
        Ok(())
    }

    /// Returns the cell number of each key: that of a selected value, or of an additional column.
    pub(super) fn key_cells(&self, select: &'q Select) -> impl Iterator<Item = usize> + use<'q> {
        let listed = match (&select.values, select.keys.is_empty()) {
            (_, true) => Vec::new(),
            (Some(values), _) => values.what.to_vec(),
            (None, _) => self
                .whole_rows(select)
                .into_iter()
                .map(Node::Column)
                .collect(),
        };
        let mut further = listed.len()..;
        select.keys.iter().filter_map(move |key| {
            let value = listed.iter().position(|value| value == key);
            value.or_else(|| further.next())
        })
    }

    /// Writes an item of the select list, with its alias.
    pub(super) fn named(
        &mut self,
        naming: Naming,
        places: &mut RangeFrom<usize>,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let place = places.next().unwrap_or_default();
        if place > 0 {
            self.push(", ");
        }
        write(self)?;
        match naming {
            Naming::None => {}
            Naming::Places => {
                self.push(" AS c");
                push_number(&mut self.text, place);
            }
            Naming::Fields(fields) => {
                if let Some(column) = fields.columns().get(place) {
                    self.push(" AS ");
                    self.push_name(column.name());
                }
            }
        }
        Ok(())
    }

    /// Returns the number of items in the select list.
    pub(super) fn width(&self, select: &'q Select) -> usize {
        let values = select.values.as_ref().map(|values| values.what.len());
        let values = values.unwrap_or_else(|| self.whole_rows(select).len());
        self.key_cells(select)
            .fold(values, |width, cell| width.max(cell + 1))
    }

    /// Writes the orders of a DISTINCT query. Only the select list can be ordered by then, so each order is
    /// an ordinal.
    fn write_orders_of_listed(&mut self, select: &'q Select) -> Result<(), Error> {
        let whole: Vec<Node> = self
            .whole_rows(select)
            .into_iter()
            .map(Node::Column)
            .collect();
        let listed = select
            .values
            .as_ref()
            .map_or(&*whole, |values| &*values.what);
        self.write_orders_by(select, |this, order| {
            let Some(place) = listed.iter().position(|value| *value == order.by) else {
                return Err(Error::invalid_query(ORDERED_BY_ANOTHER));
            };
            this.write_order_at(order, place)
        })
    }

    /// Writes the orders, each as an ordinal if it repeats a computed item of the select list.
    fn write_orders_by_place(
        &mut self,
        select: &'q Select,
        listed: &'q [Node],
    ) -> Result<(), Error> {
        self.write_orders_by(select, |this, order| {
            // A column has a name, which says more than an ordinal.
            let place = listed.iter().position(|value| *value == order.by);
            let takes_ordinal =
                this.stands_alone(order) || order.selected && this.takes_ordinal(order);
            match place.filter(|_| !order.by.is_plain() && takes_ordinal) {
                Some(place) => this.write_order_at(order, place),
                None => this.write_order(order),
            }
        })
    }

    /// Returns whether only a direction follows the expression of an order.
    pub(super) fn stands_alone(&self, order: &OrderTerm) -> bool {
        if order.by.needs_collation() || self.order_form(order).is_some() {
            return false;
        }
        let form = order
            .nullable
            .then(|| self.grammar.null_order(order.descending, order.nulls_first));
        form.is_none_or(|form| form.first.is_none() && matches!(form.then, "" | " DESC"))
    }

    /// Returns whether an order of a selected value means the same by its ordinal: without a collation, and with at most a
    /// direction and the place of NULLs behind it.
    pub(super) fn takes_ordinal(&self, order: &OrderTerm) -> bool {
        let form = order
            .nullable
            .then(|| self.grammar.null_order(order.descending, order.nulls_first));
        !order.by.needs_collation()
            && self.order_form(order).is_none()
            && form.is_none_or(|form| form.first.is_none())
    }

    /// Writes an order by the ordinal of an item.
    pub(super) fn write_order_at(
        &mut self,
        order: &'q OrderTerm,
        place: usize,
    ) -> Result<(), Error> {
        if self.order_form(order).is_some() {
            return self.write_order(order);
        }
        self.write_order_as(
            order,
            |this| this.write_operand(&order.by),
            |this| {
                push_number(&mut this.text, place + 1);
                Ok(())
            },
        )
    }

    /// Returns all columns of the tables that are read.
    pub(super) fn whole_rows(&self, select: &Select) -> Vec<RawColumn> {
        let tables = select.rows.iter().filter_map(|source| {
            let visible = self.names.find(*source)?;
            Some((*source, visible.table))
        });
        let columns = tables.flat_map(|(source, table)| {
            let columns = table.columns().iter();
            columns.map(move |info| RawColumn { source, info })
        });
        columns.collect()
    }

    /// Enters a query, so that its tables have names.
    pub(super) fn enter(&mut self, select: &Select, in_rows: bool) -> Result<(), Error> {
        let beyond = |source: &Source| source.path != Path::HERE;
        // For the outermost query the plan knows it.
        let asks_others = self.asks_others || !std::ptr::eq(select, self.select);
        let follows = asks_others && (select.rows.iter().any(beyond) || select.follows());
        let followed = if follows { select.followed(in_rows) } else { Vec::new() };
        self.names.enter(select, followed)
    }

    /// Writes all columns of the tables that are read.
    pub(super) fn write_whole_rows(&mut self, select: &Select) {
        for (i, source) in select.rows.iter().enumerate() {
            if i > 0 {
                self.text.push_str(", ");
            }
            let Some(visible) = self.names.find(*source) else { continue };
            match &visible.alias {
                None => push_select_list(&mut self.text, visible.table, self.quotes),
                Some(alias) => {
                    for (i, column) in visible.table.columns().iter().enumerate() {
                        if i > 0 {
                            self.text.push_str(", ");
                        }
                        push_identifier(&mut self.text, alias, self.quotes);
                        self.text.push('.');
                        push_identifier(&mut self.text, column.name(), self.quotes);
                    }
                }
            }
        }
    }

    pub(super) fn write_filters(&mut self, select: &'q Select) -> Result<(), Error> {
        self.write_filters_after(select, " WHERE ")
    }

    /// Writes the filters after ` WHERE `, or after ` AND ` behind other conditions.
    pub(super) fn write_filters_after(
        &mut self,
        select: &'q Select,
        mut opening: &'static str,
    ) -> Result<(), Error> {
        let terms: usize = self
            .conditions(select)
            .map(|filter| filter.what.terms().len())
            .sum();
        if terms > TERMS_IN_A_ROW {
            return self.write_many_filters(select, opening);
        }
        let is_alone = terms == 1 && opening == " WHERE ";
        if !self.names.requires() {
            for Located { what, at } in self.conditions(select) {
                self.clause(opening, *at);
                opening = " AND ";
                self.write_terms(what.terms(), " AND ", is_alone)?;
            }
            return Ok(());
        }
        for Located { what, at } in self.conditions(select) {
            let mut between = opening;
            for term in what.terms() {
                // The INNER JOIN already tests this.
                if self.is_joined(select, term) {
                    continue;
                }
                match between {
                    "" => self.push(" AND "),
                    between => self.clause(between, *at),
                }
                (opening, between) = (" AND ", "");
                if is_alone {
                    self.write_condition(term)?;
                } else {
                    self.write_inner(term)?;
                }
            }
        }
        Ok(())
    }

    /// Returns whether a condition only tests that the row of a parent exists, which its INNER JOIN tests
    /// too.
    fn is_joined(&self, select: &Select, term: &Node) -> bool {
        let parent = term.required_parent();
        let visible = parent.filter(|parent| select.is_over(parent.id));
        let visible = visible.and_then(|parent| self.names.find(parent));
        visible.is_some_and(|visible| !visible.optional)
    }

    /// Writes so many filters that they need brackets, so that they no longer match the calls of `filter` one
    /// to one.
    #[cold]
    fn write_many_filters(
        &mut self,
        select: &'q Select,
        opening: &'static str,
    ) -> Result<(), Error> {
        if let Some(first) = self.conditions(select).next() {
            self.clause(opening, first.at);
        }
        let terms: Vec<&Node> = self
            .conditions(select)
            .flat_map(|filter| filter.what.terms())
            .collect();
        self.write_brackets(&terms, " AND ")
    }

    pub(super) fn write_brackets(
        &mut self,
        terms: &[&'q Node],
        between: &str,
    ) -> Result<(), Error> {
        if terms.len() <= TERMS_IN_A_ROW {
            return self.joined(terms.iter().copied(), between, Self::write_inner);
        }
        let mut size = TERMS_IN_A_ROW;
        while terms.len().div_ceil(size) > TERMS_IN_A_ROW {
            size *= TERMS_IN_A_ROW;
        }
        self.joined(terms.chunks(size), between, |this, bracket| {
            this.push("(");
            this.write_brackets(bracket, between)?;
            this.push(")");
            Ok(())
        })
    }

    pub(super) fn write_terms(
        &mut self,
        terms: &'q [Node],
        between: &'static str,
        alone: bool,
    ) -> Result<(), Error> {
        if terms.len() > TERMS_IN_A_ROW {
            let terms: Vec<&Node> = terms.iter().collect();
            return self.write_brackets(&terms, between);
        }
        let write = if alone { Self::write_condition } else { Self::write_inner };
        self.joined(terms, between, write)
    }

    pub(super) fn joined<T>(
        &mut self,
        items: impl IntoIterator<Item = T>,
        between: &str,
        write: impl Fn(&mut Self, T) -> Result<(), Error>,
    ) -> Result<(), Error> {
        for (i, item) in items.into_iter().enumerate() {
            if i > 0 {
                self.push(between);
            }
            write(self, item)?;
        }
        Ok(())
    }

    pub(super) fn write_orders(&mut self, select: &'q Select) -> Result<(), Error> {
        self.write_orders_by(select, Self::write_order)
    }

    pub(super) fn write_orders_by(
        &mut self,
        select: &'q Select,
        write: impl Fn(&mut Self, &'q OrderTerm) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let mut opening = " ORDER BY ";
        let mut asked_at = None;
        for Located { what, at } in &select.orders {
            // The parts of one tuple form one clause.
            match asked_at == Some(*at) {
                true => self.push(opening),
                false => self.clause(opening, *at),
            }
            asked_at = Some(*at);
            opening = ", ";
            write(self, what)?;
        }
        Ok(())
    }

    /// Returns how an order is written, if the engine would order its values in another way.
    pub(super) fn order_form(&self, order: &OrderTerm) -> Option<SortForm> {
        match order.as_stored {
            true => None,
            false => self.sort_form(order.by.sql_type()),
        }
    }

    pub(super) fn write_order(&mut self, order: &'q OrderTerm) -> Result<(), Error> {
        self.write_order_as(
            order,
            |this| this.write_operand(&order.by),
            |this| match this.order_form(order) {
                Some(form) => this.write_sorted(&order.by, form),
                None => this.write_ordered(&order.by),
            },
        )
    }

    /// Writes an order with NULLs first or last: its expression as an operand, and as what is ordered.
    pub(super) fn write_order_as(
        &mut self,
        order: &OrderTerm,
        operand: impl FnOnce(&mut Self) -> Result<(), Error>,
        ordered: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let sql_type = order.by.sql_type();
        self.check_comparable(sql_type, "ordering by")?;
        self.check_ordered(sql_type)?;
        let form = order
            .nullable
            .then(|| self.grammar.null_order(order.descending, order.nulls_first));
        if let Some([before, after]) = form.and_then(|form| form.first) {
            self.push(before);
            operand(self)?;
            self.push(after);
            self.push(", ");
        }
        ordered(self)?;
        match form {
            Some(form) => self.push(form.then),
            None if order.descending => self.push(" DESC"),
            None => {}
        }
        Ok(())
    }

    /// Writes a value of which equal ones have one text.
    pub(super) fn write_distinct_value(&mut self, node: &'q Node) -> Result<(), Error> {
        match self.distinct_value(node) {
            Collated::AS_IT_IS => self.write_value(node),
            collated => self.write_collated(node, collated, Self::write_operand),
        }
    }

    /// Writes an expression that is ordered, or compared for the greater one.
    pub(super) fn write_ordered(&mut self, node: &'q Node) -> Result<(), Error> {
        match node.needs_collation() {
            true => self.write_collated(node, self.grammar.text_order(), Self::write_operand),
            false => self.write_value(node),
        }
    }
}

/// The aliases of the select list.
#[derive(Debug, Clone, Copy)]
pub(super) enum Naming {
    /// No aliases.
    None,
    /// `c0`, `c1` and so on.
    Places,
    /// The names of a struct's fields.
    Fields(&'static TableInfo),
}

const LOCKED_OTHERS: &str = "only rows of a table can be locked, not a query with groups, `distinct`, `limit_each` or \
     `from(..)`";
const DISTINCT_FULL: &str = "`distinct` over a full join";
const DISTINCT_OUTSIDE: &str =
    "call it on `from(query)`, with the joined values in a struct by `shape!`";
const DISTINCT_TWICE: &str =
    "`distinct` does not apply to groups or `limit_each`; call it on `from(query)`";
const GROUPS_OF_EACH: &str =
    "`limit_each` applies to rows before they are grouped; call it on `from(query)` for groups";
const ORDERED_BY_ANOTHER: &str = "a query with `distinct` can only be ordered by selected values";
