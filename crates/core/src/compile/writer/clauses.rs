//! Queries: their clauses in the order of SQL.

use std::borrow::Cow;
use std::ops::RangeFrom;

use super::{MARKS, Writer, push_identifier, push_number};
use crate::compile::Wanted;
use crate::error::Error;
use crate::query::{Path, Source};
use crate::storable::BindValue;
use crate::tree::{Asked, Join, Node, OrderTerm, RawColumn, Select};

/// SQLite refuses a thousand terms in a row because it reads them as a thousand nested pairs. In
/// brackets of this many, a level more for each power of it, any number passes on every engine.
const TERMS_IN_A_ROW: usize = 300;

impl<'q> Writer<'q> {
    pub(super) fn write_wanted(&mut self, wanted: Wanted) -> Result<(), Error> {
        let select = self.select;
        self.mark(select.asked_at);
        let in_rows = matches!(wanted, Wanted::Rows | Wanted::AtMost(_));
        self.enter(select, in_rows)?;
        match wanted {
            Wanted::Rows => self.write_rows(select, None),
            // A key matches one row at most, and without LIMIT the text is that of any read by key.
            Wanted::AtMost(rows) => self.write_rows(select, (!select.at_most_one).then_some(rows)),
            Wanted::Count if !select.is_limited() => {
                self.push("SELECT count(*)");
                self.write_from(select)
            }
            Wanted::Count => {
                self.push("SELECT count(*) FROM (SELECT 1 AS c0");
                self.write_from(select)?;
                self.write_limit(select, None)?;
                self.push(") AS q");
                Ok(())
            }
            Wanted::Presence => {
                self.push("SELECT EXISTS (SELECT 1");
                self.write_from(select)?;
                self.write_limit(select, None)?;
                self.push(")");
                Ok(())
            }
        }
    }

    pub(super) fn write_rows(&mut self, select: &'q Select, cap: Option<u8>) -> Result<(), Error> {
        if let Some(relation) = select.relation {
            self.mark_relation(relation);
        }
        if select.limited_by > 0 && select.is_limited() {
            return self.write_first_of_each(select);
        }
        self.push("SELECT ");
        match &select.values {
            None => self.write_whole_rows(select),
            Some(Asked { what, at }) => {
                self.asked_at = *at;
                self.guarded(|this| this.joined(what, ", ", Self::write_node))?;
            }
        }
        for key in &select.keys {
            self.push(", ");
            self.write_column(key)?;
        }
        self.write_from(select)?;
        self.write_orders(select)?;
        self.write_limit(select, cap)
    }

    /// The rows of which so many are wanted for each value of the first keys: numbered in a query
    /// inside, because what is numbered cannot be filtered beside it.
    fn write_first_of_each(&mut self, select: &'q Select) -> Result<(), Error> {
        let whole = self.whole_rows(select);
        let values = select.values.as_ref().map(|values| &*values.what);
        let width = values.map_or(whole.len(), <[Node]>::len) + select.keys.len();
        self.push("SELECT ");
        self.joined(0..width, ", ", |this, place| {
            this.push("q.c");
            push_number(&mut this.text, place);
            Ok(())
        })?;
        self.push(" FROM (SELECT ");
        let mut places = 0..;
        for value in values.unwrap_or_default() {
            self.write_named(&mut places, |this| this.guarded(|this| this.write_node(value)))?;
        }
        let whole = whole.iter().filter(|_| values.is_none());
        for column in whole.chain(&select.keys) {
            self.write_named(&mut places, |this| this.write_column(column))?;
        }
        self.push(", row_number() OVER (PARTITION BY ");
        for (i, key) in select.keys.iter().take(select.limited_by).enumerate() {
            if i > 0 {
                self.push(", ");
            }
            self.write_column(key)?;
            if key.needs_collation() {
                self.push(self.grammar.text_identity());
            }
        }
        self.depth += 1;
        self.write_orders(select)?;
        self.depth -= 1;
        self.push(") AS n");
        self.write_from(select)?;
        self.clause(") AS q WHERE q.n ", select.asked_at);
        let count = |asked: &Option<Asked<BindValue>>| match asked {
            Some(Asked { what: BindValue::Int(rows), .. }) => Some(*rows),
            _ => None,
        };
        let offset = count(&select.offset);
        if let Some(offset) = offset {
            self.push("> ");
            self.push_bind(Cow::Owned(BindValue::Int(offset)))?;
        }
        if let Some(limit) = count(&select.limit) {
            self.push(if offset.is_some() { " AND q.n <= " } else { "<= " });
            let last = limit.saturating_add(offset.unwrap_or(0));
            self.push_bind(Cow::Owned(BindValue::Int(last)))?;
        }
        self.push(" ORDER BY q.n");
        Ok(())
    }

    /// A value of a query inside another, with a name that tells its place.
    fn write_named(
        &mut self,
        places: &mut RangeFrom<usize>,
        write: impl FnOnce(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let place = places.next().unwrap_or_default();
        if place > 0 {
            self.push(", ");
        }
        write(self)?;
        self.push(" AS c");
        push_number(&mut self.text, place);
        Ok(())
    }

    /// All columns of the tables whose rows are meant.
    fn whole_rows(&self, select: &Select) -> Vec<RawColumn> {
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

    /// Goes into a query: from here on its tables have names.
    fn enter(&mut self, select: &Select, in_rows: bool) -> Result<(), Error> {
        let beyond = |source: &Source| source.path != Path::HERE;
        let of_keys = select.keys.iter().map(|key| &key.source);
        let follows = select.rows.iter().chain(of_keys).any(beyond) || select.facts().follows;
        let followed = if follows { select.followed(in_rows) } else { Vec::new() };
        self.names.enter(select, followed)
    }

    /// All columns of the tables whose rows are meant.
    fn write_whole_rows(&mut self, select: &Select) {
        for (i, source) in select.rows.iter().enumerate() {
            if i > 0 {
                self.text.push_str(", ");
            }
            let Some(visible) = self.names.find(*source) else { continue };
            match &visible.alias {
                None => self.text.push_str(visible.table.select_list()[self.quote]),
                Some(alias) => {
                    for (i, column) in visible.table.columns().iter().enumerate() {
                        if i > 0 {
                            self.text.push_str(", ");
                        }
                        push_identifier(&mut self.text, alias, MARKS[self.quote]);
                        self.text.push('.');
                        push_identifier(&mut self.text, column.name(), MARKS[self.quote]);
                    }
                }
            }
        }
    }

    /// FROM and WHERE: which rows there are, whatever is wanted of them.
    fn write_from(&mut self, select: &'q Select) -> Result<(), Error> {
        self.clause(" FROM ", select.asked_at);
        let source = Source { id: select.source, path: Path::HERE };
        self.write_table(source);
        let mut joins = select.joins.iter();
        for index in self.names.innermost() {
            match self
                .names
                .get(index)
                .is_some_and(|visible| visible.followed.is_some())
            {
                true => self.write_followed(index)?,
                false => {
                    if let Some(join) = joins.next() {
                        self.write_join(join)?;
                    }
                }
            }
        }
        self.write_filters(select)
    }

    fn write_table(&mut self, source: Source) {
        let Some(visible) = self.names.find(source) else { return };
        self.text.push_str(visible.table.from_clause()[self.quote]);
        if let Some(alias) = &visible.alias {
            self.text.push_str(" AS ");
            push_identifier(&mut self.text, alias, MARKS[self.quote]);
        }
    }

    /// A table beside the others. Where its conditions follow its own parents, which are joined after
    /// it, they stand with the filters.
    fn write_join(&mut self, join: &'q Join) -> Result<(), Error> {
        let on = join.on.iter().filter(|on| !on.what.facts().follows);
        let on: Vec<&Node> = on.flat_map(|on| on.what.terms()).collect();
        let opening = match (join.optional, on.is_empty()) {
            (true, _) => " LEFT JOIN ",
            (false, false) => " INNER JOIN ",
            (false, true) => " CROSS JOIN ",
        };
        self.clause(opening, join.asked_at);
        self.write_table(Source { id: join.source, path: Path::HERE });
        match on.as_slice() {
            [] if join.optional => self.push(" ON TRUE"),
            [] => {}
            on => {
                self.push(" ON ");
                self.write_brackets(on, " AND ")?;
            }
        }
        Ok(())
    }

    /// A parent that is followed.
    fn write_followed(&mut self, index: usize) -> Result<(), Error> {
        let Some(visible) = self.names.get(index) else { return Ok(()) };
        let (source, optional) = (visible.source, visible.optional);
        let (Some(Asked { what: reference, at }), Some((path, _))) =
            (visible.followed.clone(), source.path.last())
        else {
            return Ok(());
        };
        self.clause(if optional { " LEFT JOIN " } else { " INNER JOIN " }, at);
        let from = self.names.find(Source { path, ..source });
        if let Some(from) = from.map(|from| from.table.name()) {
            self.mark_relation([from, reference.name()]);
        }
        self.write_table(source);
        let mut between = " ON ";
        for [own, target] in reference.pairs(Source { path, ..source }, source) {
            self.push(between);
            between = " AND ";
            let needed = own.needs_collation() || target.needs_collation();
            let [after_target, after_own] =
                if needed { self.grammar.text_equality() } else { ["", ""] };
            self.write_column(&target)?;
            self.push(after_target);
            self.push(" = ");
            self.write_column(&own)?;
            self.push(after_own);
        }
        Ok(())
    }

    pub(super) fn write_filters(&mut self, select: &'q Select) -> Result<(), Error> {
        let terms: usize = select
            .conditions()
            .map(|filter| filter.what.terms().len())
            .sum();
        if terms > TERMS_IN_A_ROW {
            return self.write_many_filters(select);
        }
        let mut opening = " WHERE ";
        for Asked { what, at } in select.conditions() {
            self.clause(opening, *at);
            opening = " AND ";
            let alone = terms == 1;
            self.write_terms(what.terms(), " AND ", alone)?;
        }
        Ok(())
    }

    /// So many that they need brackets, which no longer follow the calls of `filter`.
    #[cold]
    pub(super) fn write_many_filters(&mut self, select: &'q Select) -> Result<(), Error> {
        if let Some(first) = select.conditions().next() {
            self.clause(" WHERE ", first.at);
        }
        let terms: Vec<&Node> = select
            .conditions()
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
        let write = if alone { Self::write_node } else { Self::write_inner };
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
        let mut opening = " ORDER BY ";
        let mut asked_at = None;
        for Asked { what, at } in &select.orders {
            // The parts of one tuple are one clause.
            match asked_at == Some(*at) {
                true => self.push(opening),
                false => self.clause(opening, *at),
            }
            asked_at = Some(*at);
            opening = ", ";
            self.write_order(what)?;
        }
        Ok(())
    }

    pub(super) fn write_order(&mut self, order: &'q OrderTerm) -> Result<(), Error> {
        let sql_type = order.by.sql_type();
        self.check_comparable(sql_type, "ordering by")?;
        if order.nullable {
            let form = self.grammar.null_order(order.descending, order.nulls_first);
            if let Some(first) = form.first {
                self.write_then(&order.by, first)?;
                self.push(", ");
            }
            self.write_ordered(&order.by)?;
            self.push(form.then);
        } else {
            self.write_ordered(&order.by)?;
            if order.descending {
                self.push(" DESC");
            }
        }
        Ok(())
    }

    /// An expression that is about to be ordered or found greater than another.
    pub(super) fn write_ordered(&mut self, node: &'q Node) -> Result<(), Error> {
        match node.needs_collation() {
            true => self.write_then(node, self.grammar.text_order()),
            false => self.write_node(node),
        }
    }

    pub(super) fn write_limit(&mut self, select: &'q Select, cap: Option<u8>) -> Result<(), Error> {
        match (&select.limit, cap) {
            (Some(Asked { what: BindValue::Int(rows), at }), Some(cap)) => {
                let rows = BindValue::Int(i64::from(cap).min(*rows));
                self.clause(" LIMIT ", *at);
                self.push_bind(Cow::Owned(rows))?;
            }
            (Some(Asked { what, at }), _) => {
                self.clause(" LIMIT ", *at);
                self.push_bind(Cow::Borrowed(what))?;
            }
            (None, Some(cap)) => {
                self.clause(" LIMIT ", select.asked_at);
                self.push_bind(Cow::Owned(BindValue::Int(i64::from(cap))))?;
            }
            (None, None) => {}
        }
        if let Some(Asked { what, at }) = &select.offset {
            self.clause(" ", *at);
            if select.limit.is_none() && cap.is_none() && !self.grammar.no_limit().is_empty() {
                self.push(self.grammar.no_limit());
                self.push(" ");
            }
            self.push("OFFSET ");
            self.push_bind(Cow::Borrowed(what))?;
        }
        Ok(())
    }

    /// A query inside the query, which sees the columns of those around it.
    pub(super) fn write_subquery(
        &mut self,
        select: &'q Select,
        selected: Selected,
    ) -> Result<(), Error> {
        if let Some(relation) = select.relation {
            self.mark_relation(relation);
        }
        self.depth += 1;
        let outer_origin = self.asked_at;
        let outer_guard = std::mem::replace(&mut self.guarded, false);
        let values = select
            .values
            .as_ref()
            .map_or(&[][..], |values| &values.what);
        let in_rows = !matches!(selected, Selected::Text(_));
        self.enter(select, in_rows)?;
        self.push("SELECT ");
        match selected {
            Selected::Text(text) => self.push(text),
            Selected::Values { after, named, .. } => {
                self.guarded(|this| this.joined(values, ", ", Self::write_node))?;
                self.push(after);
                self.push(named);
            }
        }
        self.write_from(select)?;
        if let (Selected::Values { without_null: true, .. }, [value]) = (selected, values) {
            let is_first = select.conditions().next().is_none();
            self.push(if is_first { " WHERE " } else { " AND " });
            self.write_then(value, " IS NOT NULL")?;
        }
        if select.is_limited() && in_rows {
            self.write_orders(select)?;
        }
        self.write_limit(select, None)?;
        self.names.leave();
        self.guarded = outer_guard;
        self.asked_at = outer_origin;
        self.depth -= 1;
        Ok(())
    }
}

/// What a query inside another selects.
#[derive(Debug, Clone, Copy)]
pub(super) enum Selected {
    /// This, whatever its values are.
    Text(&'static str),
    /// Its values, with a collation and a name after them, all of them or only what is not NULL.
    Values { after: &'static str, named: &'static str, without_null: bool },
}
