//! FROM: the tables of a query, its joins, and derived tables.

use smallvec::SmallVec;

use super::clauses::Naming;
use super::{Writer, push_number};
use crate::dialect::Collated;
use crate::model::{ColumnInfo, Error, Origin, SqlType, TableInfo, function};
use crate::sql::identifiers::{push_identifier, push_table};
use crate::tree::{
    CteQuery, FromSource, Join, JoinKind, Located, Node, Path, ROUND, RawColumn, Select,
    SetOperator, Sets, Source,
};

impl<'q> Writer<'q> {
    /// Writes FROM and WHERE.
    pub(super) fn write_from(&mut self, select: &'q Select) -> Result<(), Error> {
        if self.combines(select) {
            let what = "this form of a query over a full join";
            let way_out =
                "use `from(query)` around the join, with its values in a struct by `shape!`";
            return Err(Error::unsupported(what, self.grammar.name(), way_out));
        }
        self.write_tables(select, None)?;
        self.write_filters(select)
    }

    /// Writes a query without the clauses behind WHERE; `list` writes SELECT and the list. Where the dialect has no full
    /// join, it becomes two queries: the matched rows with those of the first table, and the others of the joined one.
    pub(super) fn write_rows(
        &mut self,
        select: &'q Select,
        between: &'static str,
        list: impl Fn(&mut Self) -> Result<(), Error>,
    ) -> Result<(), Error> {
        list(self)?;
        let Some(join) = select.full_join().filter(|_| self.combines(select)) else {
            return self.write_from(select);
        };
        if select.any_node(|node| node.summary().windows()) {
            let what = "a window function over a full join";
            let way_out =
                "use it over `from(query)`, with the joined values in a struct by `shape!`";
            return Err(Error::unsupported(what, self.grammar.name(), way_out));
        }
        self.write_tables(select, None)?;
        self.write_filters(select)?;
        self.push(between);
        list(self)?;
        self.write_tables(select, Some(join))?;
        self.push(" WHERE NOT EXISTS (SELECT 1 FROM ");
        self.names.enter_again(select.source, select.table);
        self.depth += 1;
        self.write_source(Source { id: select.source, path: Path::HERE }, &select.body)?;
        let on: Vec<&Node> = join.on.iter().flat_map(|on| on.what.terms()).collect();
        if !on.is_empty() {
            self.push(" WHERE ");
            self.write_brackets(&on, " AND ")?;
        }
        self.depth -= 1;
        self.names.leave();
        self.push(")");
        self.write_filters_after(select, " AND ")
    }

    /// Returns whether a query has a full join that the dialect does not have.
    pub(super) fn combines(&self, select: &Select) -> bool {
        let kind = |join| self.join_kind(select, join);
        let full = select.full_join().map(kind);
        full == Some(JoinKind::Full) && self.grammar.join(JoinKind::Full).is_none()
    }

    /// Returns the kind of a join, from the rows that may be missing.
    fn join_kind(&self, select: &Select, join: &Join) -> JoinKind {
        let may_miss = |id, otherwise| {
            let visible = self.names.find(Source { id, path: Path::HERE });
            visible.map_or(otherwise, |visible| visible.optional)
        };
        match (join.full && may_miss(select.source, true), may_miss(join.source, join.optional)) {
            (true, true) => JoinKind::Full,
            (true, false) => JoinKind::Right,
            (false, true) => JoinKind::Left,
            (false, false) => JoinKind::Inner,
        }
    }

    /// Writes FROM. Where the rows of a full join are combined, `unmatched` is that join for its unmatched rows, beside
    /// which the row of the first table is missing.
    fn write_tables(
        &mut self,
        select: &'q Select,
        unmatched: Option<&'q Join>,
    ) -> Result<(), Error> {
        self.clause(" FROM ", select.asked_at);
        let source = Source { id: select.source, path: Path::HERE };
        if let Some(join) = unmatched {
            self.write_source(Source { id: join.source, path: Path::HERE }, &join.body)?;
            self.open_join(JoinKind::Left, join.asked_at)?;
        }
        self.write_source(source, &select.body)?;
        if unmatched.is_some() {
            self.push(" ON ");
            self.push(self.grammar.form(&function::NEVER).unwrap_or("1 = 0"));
        }
        let mut joins = select.joins.iter();
        for index in self.names.innermost() {
            match self
                .names
                .get(index)
                .is_some_and(|visible| visible.followed.is_some())
            {
                true => self.write_followed(index, select)?,
                false => match joins.next() {
                    Some(join) if join.full && unmatched.is_some() => {}
                    Some(join) => self.write_join(select, join)?,
                    None => {}
                },
            }
        }
        Ok(())
    }

    /// Writes a table, or the derived table that replaces it.
    pub(super) fn write_source(
        &mut self,
        source: Source,
        body: &'q FromSource,
    ) -> Result<(), Error> {
        let fields = match (body, self.names.find(source)) {
            (FromSource::Table, _) | (_, None) => {
                self.write_table(source);
                return Ok(());
            }
            (FromSource::RecursiveReference, Some(visible)) => {
                let name = visible
                    .alias
                    .as_deref()
                    .unwrap_or(visible.table.name())
                    .to_owned();
                self.push_name(ROUND.table());
                self.push(" AS ");
                self.push_name(&name);
                return Ok(());
            }
            (FromSource::Cte(named), Some(visible)) if !self.inlines => {
                let name = visible
                    .alias
                    .as_deref()
                    .unwrap_or(visible.table.name())
                    .to_owned();
                self.write_use_of(named);
                self.push(" AS ");
                self.push_name(&name);
                return Ok(());
            }
            (FromSource::Function(call), Some(visible)) => {
                let name = visible
                    .alias
                    .as_deref()
                    .unwrap_or(visible.table.name())
                    .to_owned();
                self.write_function(call)?;
                self.push(" AS ");
                self.push_name(&name);
                return Ok(());
            }
            (_, Some(visible)) => visible.table,
        };
        // A derived table does not see the state of the query around it.
        let inside = self.inside.take();
        let outer_guard = std::mem::replace(&mut self.in_expression, false);
        let (asked_at, hidden) = (self.asked_at, self.names.hide());
        self.depth += 1;
        self.push("(");
        match body {
            FromSource::Table | FromSource::RecursiveReference | FromSource::Function(_) => {}
            FromSource::Cte(named) => self.write_derived(&named.select, fields)?,
            FromSource::Query(select) => self.write_derived(select, fields)?,
            FromSource::Recursion(recursion) => {
                let Some(opening) = self.grammar.recursion() else {
                    let way_out = "read each round in Rust, from the rows of the previous one";
                    let what = "a query of its own rows";
                    return Err(Error::unsupported(what, self.grammar.name(), way_out));
                };
                self.push(opening);
                self.push_name(ROUND.table());
                self.push(" (");
                for column in fields.columns() {
                    self.push_name(column.name());
                    self.push(", ");
                }
                self.push_name(ROUND.name());
                self.push(") AS (");
                self.write_derived(&recursion.start, fields)?;
                self.open_operand(SetOperator::UnionAll)?;
                self.write_derived(&recursion.step, fields)?;
                self.push(") SELECT * FROM ");
                self.push_name(ROUND.table());
            }
            FromSource::Sets(sets) => self.write_sets(sets, fields)?,
            FromSource::Text(text) => self.write_node(text)?,
        }
        self.push(") AS ");
        self.depth -= 1;
        self.names.show(hidden);
        self.asked_at = asked_at;
        self.in_expression = outer_guard;
        self.inside = inside;
        let Some(visible) = self.names.find(source) else { return Ok(()) };
        let name = visible.alias.as_deref().unwrap_or(visible.table.name());
        push_identifier(&mut self.text, name, self.quotes);
        Ok(())
    }

    /// Writes a function that returns rows.
    fn write_function(&mut self, call: &'q Node) -> Result<(), Error> {
        if !self.grammar.has_table_functions() {
            let what = "a function that returns rows";
            let way_out =
                "call a procedure with a result set, or write its query as a `statement!`";
            return Err(Error::unsupported(what, self.grammar.name(), way_out));
        }
        self.write_node(call)
    }

    /// Writes the operator before an operand of a set.
    fn open_operand(&mut self, operator: SetOperator) -> Result<(), Error> {
        let Some(text) = self.grammar.set(operator) else {
            let what = format!("{operator} of queries");
            let way_out = "read both queries, and combine the rows in Rust";
            return Err(Error::unsupported(&what, self.grammar.name(), way_out));
        };
        self.push(text);
        Ok(())
    }

    /// Writes WITH: the common table expressions of the statement.
    pub(super) fn write_named(&mut self) -> Result<(), Error> {
        for number in 0..self.named.len() {
            let Some(named) = self.named.get(number).copied() else { break };
            self.clause(if number == 0 { "WITH " } else { ", " }, named.select.asked_at);
            self.defined = number;
            self.write_name(number);
            self.push(" AS (");
            self.depth += 1;
            self.write_derived(&named.select, named.fields)?;
            self.depth -= 1;
            self.push(")");
        }
        self.defined = self.named.len();
        self.push(" ");
        Ok(())
    }

    fn write_use_of(&mut self, named: &'q CteQuery) {
        match self.named.iter().position(|other| other.id == named.id) {
            Some(number) if number < self.defined => self.write_name(number),
            _ => {
                self.misplaced.get_or_insert((self.defined, named));
            }
        }
    }

    fn write_name(&mut self, number: usize) {
        match self
            .named
            .get(number)
            .and_then(|query| query.name.as_deref())
        {
            Some(name) => self.push_name(name),
            None => self.push_name(&format!("nepheline_{}", number + 1)),
        }
    }

    /// Refuses names of common table expressions that engines would refuse or take for something else.
    pub(super) fn check_names(&self) -> Result<(), Error> {
        let named = self.named.iter().enumerate();
        for (number, name) in
            named.filter_map(|(number, query)| Some((number, query.name.as_deref()?)))
        {
            let is_same = |other: &str| other.eq_ignore_ascii_case(name);
            let mut before = self
                .named
                .iter()
                .take(number)
                .filter_map(|query| query.name.as_deref());
            let fault = match name {
                "" => "is empty",
                _ if name.len() > 63 => "is longer than 63 bytes, so PostgreSQL would cut it",
                _ if name.contains('\0') => "has a NUL character",
                _ if self.tables.iter().any(|table| is_same(table)) => {
                    "is that of a table in the statement"
                }
                _ if before.any(is_same) => "is that of another one in the statement",
                _ => continue,
            };
            let message = format!(
                "the name {name:?} of a common table expression {fault}; give another to `called`"
            );
            return Err(Error::invalid_query(&message));
        }
        Ok(())
    }

    /// Writes a set operation. Its text has a collation by code point where rows are compared.
    fn write_sets(&mut self, sets: &'q Sets, fields: &'static TableInfo) -> Result<(), Error> {
        let grammar = self.grammar;
        let needs_collation = |column: &ColumnInfo| match column.sql_type() {
            SqlType::Text => !column.is_by_code_point(),
            sql_type => grammar.distinct_value(sql_type) != Collated::AS_IT_IS,
        };
        let compares = |(operator, _): &(SetOperator, Select)| *operator != SetOperator::UnionAll;
        let by_code_point =
            sets.others.iter().any(compares) && fields.columns().iter().any(needs_collation);
        self.write_set_operand(&sets.first, fields, by_code_point, 0)?;
        for (number, (operator, select)) in sets.others.iter().enumerate() {
            self.open_operand(*operator)?;
            self.write_set_operand(select, fields, by_code_point, number + 1)?;
        }
        Ok(())
    }

    /// Writes one query of a set. It becomes a derived table if it has an order or a limit, which would
    /// belong to the whole set otherwise, or if its text lacks the collation.
    fn write_set_operand(
        &mut self,
        select: &'q Select,
        fields: &'static TableInfo,
        by_code_point: bool,
        number: usize,
    ) -> Result<(), Error> {
        let is_plain = !select.is_limited() && select.lock.is_none();
        match &select.grouping {
            None if is_plain && select.full_join().is_none() => {
                self.enter(select, true)?;
                self.push("SELECT ");
                self.with_windows(select, |this| {
                    this.write_list(select, Naming::Fields(fields), by_code_point)
                })?;
                self.write_from(select)?;
                self.names.leave();
                return Ok(());
            }
            Some(grouping) if is_plain && !by_code_point && grouping.of_each.is_none() => {
                return self.write_derived(select, fields);
            }
            _ => {}
        }
        self.push("SELECT ");
        for (i, column) in fields.columns().iter().enumerate() {
            if i > 0 {
                self.push(", ");
            }
            let collated = match column.sql_type() {
                _ if !by_code_point => Collated::AS_IT_IS,
                SqlType::Text if column.is_by_code_point() => Collated::AS_IT_IS,
                SqlType::Text => self.grammar.text_order(),
                sql_type => self.grammar.distinct_value(sql_type),
            };
            let collates = collated != Collated::AS_IT_IS;
            self.push(collated.open);
            self.push("q");
            push_number(&mut self.text, number);
            self.push(".");
            self.push_name(column.name());
            self.push(collated.close);
            if collates {
                self.push(" AS ");
                self.push_name(column.name());
            }
        }
        self.push(" FROM (");
        self.write_derived(select, fields)?;
        self.push(") AS q");
        push_number(&mut self.text, number);
        Ok(())
    }

    /// Writes a query whose columns have the names of the fields.
    fn write_derived(
        &mut self,
        select: &'q Select,
        fields: &'static TableInfo,
    ) -> Result<(), Error> {
        self.enter(select, true)?;
        self.write_query(select, Naming::Fields(fields), None)?;
        self.names.leave();
        Ok(())
    }

    pub(super) fn write_table(&mut self, source: Source) {
        let Some(visible) = self.names.find(source) else { return };
        push_table(&mut self.text, visible.table, self.schema, self.quotes);
        let name = visible.table.name();
        if !self.tables.contains(&name) {
            self.tables.push(name);
        }
        if let Some(alias) = &visible.alias {
            self.text.push_str(" AS ");
            push_identifier(&mut self.text, alias, self.quotes);
        }
    }

    /// Writes a joined table. If its conditions follow its own parents, which are joined after it, they move
    /// to WHERE.
    fn write_join(&mut self, select: &'q Select, join: &'q Join) -> Result<(), Error> {
        let on = join.on.iter().filter(|on| !on.what.summary().follows());
        let on: Vec<&Node> = on.flat_map(|on| on.what.terms()).collect();
        let kind = match self.join_kind(select, join) {
            JoinKind::Inner if on.is_empty() => JoinKind::Cross,
            JoinKind::Full if self.combines(select) => JoinKind::Left,
            kind => kind,
        };
        self.open_join(kind, join.asked_at)?;
        self.write_source(Source { id: join.source, path: Path::HERE }, &join.body)?;
        match on.as_slice() {
            [] if kind != JoinKind::Cross => {
                self.push(" ON ");
                self.push(self.grammar.form(&function::ALWAYS).unwrap_or("1 = 1"));
            }
            [] => {}
            on => {
                self.push(" ON ");
                self.write_brackets(on, " AND ")?;
            }
        }
        Ok(())
    }

    fn open_join(&mut self, kind: JoinKind, at: Origin) -> Result<(), Error> {
        let Some(opening) = self.grammar.join(kind) else {
            let what = format!("{kind} JOIN");
            let way_out = "read the other rows with `alongside`";
            return Err(Error::unsupported(&what, self.grammar.name(), way_out).asked_at(at));
        };
        self.clause(opening, at);
        Ok(())
    }

    /// Writes the join of a parent that is followed.
    fn write_followed(&mut self, index: usize, select: &'q Select) -> Result<(), Error> {
        let Some(visible) = self.names.get(index) else { return Ok(()) };
        let (source, optional) = (visible.source, visible.optional);
        let (Some(Located { what: reference, at }), Some((path, _))) =
            (visible.followed.clone(), source.path.last())
        else {
            return Ok(());
        };
        let kind = if optional { JoinKind::Left } else { JoinKind::Inner };
        self.open_join(kind, at)?;
        let from = self.names.find(Source { path, ..source });
        if let Some(from) = from.map(|from| from.table.name()) {
            self.mark_relation([from, reference.name()]);
        }
        match select.parents.iter().find(|(place, _)| *place == source) {
            Some((_, body)) => self.write_source(source, body)?,
            None => self.write_table(source),
        }
        let mut between = " ON ";
        for [own, target] in reference.pairs_at(Source { path, ..source }, source) {
            self.push(between);
            between = " AND ";
            if own.needs_collation() || target.needs_collation() {
                self.write_text_pair(&target, &own)?;
                continue;
            }
            let key = self.identity_key(&Node::Column(own));
            self.write_within(key, |this| this.write_column(&target))?;
            self.push(" = ");
            self.write_within(key, |this| this.write_column(&own))?;
        }
        Ok(())
    }

    /// Writes that two columns have the same text.
    fn write_text_pair(&mut self, target: &RawColumn, own: &RawColumn) -> Result<(), Error> {
        let is_declared = own.info.is_nondeterministic() || target.info.is_nondeterministic();
        let sameness = self.grammar.text_sameness();
        let mut equalities: SmallVec<[[Collated; 2]; 2]> = SmallVec::new();
        if sameness.is_none() || !is_declared {
            equalities.push(self.grammar.text_equality());
        }
        // The columns' own collation may treat different keys as equal.
        equalities.extend(sameness.map(|sameness| [sameness, Collated::AS_IT_IS]));
        for (number, [of_target, of_own]) in equalities.into_iter().enumerate() {
            self.push(if number > 0 { " AND " } else { "" });
            self.write_within(of_target, |this| this.write_column(target))?;
            self.push(" = ");
            self.write_within(of_own, |this| this.write_column(own))?;
        }
        Ok(())
    }
}
