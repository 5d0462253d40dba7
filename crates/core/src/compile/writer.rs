//! The one walker: it reads the tree and writes the text, the binds and the origins in one pass.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::dialect::{DistinctForm, Grammar, ListEncoding, PatternForm, Placeholder, QuoteMark};
use super::form::{self, Part};
use super::names::Names;
use super::pattern::glob_of;
use super::{Dialect, Mark, Statement, Wanted, list};
use crate::error::Error;
use crate::function;
use crate::origin::Origin;
use crate::storable::{BindValue, List, SqlType};
use crate::table::PerQuote;
use crate::tree::{
    Asked, Call, Case, Comparison, InQuery, Like, Node, OneOf, OrderTerm, RawColumn, Select,
};

/// SQLite refuses a thousand terms in a row because it reads them as a thousand nested pairs. In
/// brackets of this many, a level more for each power of it, any number passes on every engine.
const TERMS_IN_A_ROW: usize = 300;

pub(super) struct Writer<'q> {
    select: &'q Select,
    dialect: Dialect,
    grammar: &'static dyn Grammar,
    quote: usize,
    text: String,
    binds: SmallVec<[Cow<'q, BindValue>; 4]>,
    /// Where each clause begins, if somebody will look.
    marks: Option<Vec<Mark>>,
    /// Who asked for the clause that is being written.
    asked_at: Origin,
    /// The tables that columns can be of where the text is being written, and what they are called.
    names: Names,
    /// Whether what is being written stands below NOT or OR, or inside an expression.
    guarded: bool,
}

impl<'q> Writer<'q> {
    pub(super) fn new(select: &'q Select, dialect: Dialect) -> Writer<'q> {
        let grammar = dialect.grammar();
        let quote = match grammar.quote_mark() {
            QuoteMark::Double => 0,
            QuoteMark::Backtick => 1,
        };
        let clauses = select.filters.len() + select.orders.len();
        // Enough for the everyday query, so that the buffer is not moved while it grows.
        let room = select.table.select_list()[quote].len() + 96 + 64 * clauses;
        Writer {
            select,
            dialect,
            grammar,
            quote,
            text: String::with_capacity(room),
            binds: SmallVec::new(),
            marks: None,
            asked_at: select.asked_at,
            names: Names::default(),
            guarded: false,
        }
    }

    pub(super) fn with_marks(mut self) -> Self {
        self.marks = Some(Vec::new());
        self
    }

    pub(super) fn write(mut self, wanted: Wanted) -> Result<Statement<'q>, Error> {
        match self.write_wanted(wanted) {
            Ok(()) => Ok(Statement {
                dialect: self.dialect,
                text: self.text,
                binds: self.binds,
                marks: self.marks.unwrap_or_default(),
                origin: self.select.asked_at,
                most_rows: match wanted {
                    Wanted::Rows => usize::MAX,
                    Wanted::AtMost(_) if self.select.at_most_one => 1,
                    Wanted::AtMost(rows) => usize::from(rows),
                    Wanted::Count | Wanted::Presence => 1,
                },
            }),
            Err(err) => Err(err.asked_at(self.asked_at)),
        }
    }

    fn write_wanted(&mut self, wanted: Wanted) -> Result<(), Error> {
        let select = self.select;
        self.mark(select.asked_at);
        self.names.enter(select)?;
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

    fn write_rows(&mut self, select: &'q Select, cap: Option<u8>) -> Result<(), Error> {
        match &select.values {
            None => {
                self.push("SELECT ");
                self.push_per_quote(select.table.select_list());
            }
            Some(Asked { what, at }) => {
                self.asked_at = *at;
                self.push("SELECT ");
                self.guarded(|this| this.joined(what, ", ", Self::write_node))?;
            }
        }
        self.write_from(select)?;
        self.write_orders(select)?;
        self.write_limit(select, cap)
    }

    /// FROM and WHERE: which rows there are, whatever is wanted of them.
    fn write_from(&mut self, select: &'q Select) -> Result<(), Error> {
        self.clause(" FROM ", select.asked_at);
        self.push_per_quote(select.table.from_clause());
        if let Some(alias) = self.names.alias(select.source) {
            self.text.push_str(" AS ");
            push_identifier(&mut self.text, alias, MARKS[self.quote]);
        }
        self.write_filters(select)
    }

    fn write_filters(&mut self, select: &'q Select) -> Result<(), Error> {
        let filters = &select.filters;
        let terms: usize = filters.iter().map(|filter| filter.what.terms().len()).sum();
        if terms > TERMS_IN_A_ROW {
            return self.write_many_filters(select);
        }
        let mut opening = " WHERE ";
        for Asked { what, at } in filters {
            self.clause(opening, *at);
            opening = " AND ";
            let alone = terms == 1;
            self.write_terms(what.terms(), " AND ", alone)?;
        }
        Ok(())
    }

    /// So many that they need brackets, which no longer follow the calls of `filter`.
    #[cold]
    fn write_many_filters(&mut self, select: &'q Select) -> Result<(), Error> {
        let filters = &select.filters;
        if let Some(first) = filters.first() {
            self.clause(" WHERE ", first.at);
        }
        let terms: Vec<&Node> = filters
            .iter()
            .flat_map(|filter| filter.what.terms())
            .collect();
        self.write_brackets(&terms, " AND ")
    }

    fn write_brackets(&mut self, terms: &[&'q Node], between: &str) -> Result<(), Error> {
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

    fn write_terms(
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

    fn joined<T>(
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

    fn write_orders(&mut self, select: &'q Select) -> Result<(), Error> {
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

    fn write_order(&mut self, order: &'q OrderTerm) -> Result<(), Error> {
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
    fn write_ordered(&mut self, node: &'q Node) -> Result<(), Error> {
        match node.needs_collation() {
            true => self.write_then(node, self.grammar.text_order()),
            false => self.write_node(node),
        }
    }

    fn write_limit(&mut self, select: &'q Select, cap: Option<u8>) -> Result<(), Error> {
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

    /// A node that stands beside others: in brackets if it joins conditions itself.
    fn write_inner(&mut self, node: &'q Node) -> Result<(), Error> {
        match node {
            Node::All(..) | Node::Any(..) => self.write_bracketed(node),
            // What the program wrote may join conditions too.
            Node::Trusted(_) => self.write_bracketed(node),
            Node::Call(_, call) if call.function.is_verbatim() => self.write_bracketed(node),
            _ => self.write_node(node),
        }
    }

    fn write_bracketed(&mut self, node: &'q Node) -> Result<(), Error> {
        self.push("(");
        self.write_node(node)?;
        self.push(")");
        Ok(())
    }

    fn write_node(&mut self, node: &'q Node) -> Result<(), Error> {
        match node {
            Node::Column(column) => self.write_column(column),
            Node::Bind(value) => self.write_bind(value, self.grammar.bind_alone(value.sql_type())),
            Node::Compare(comparison, _, sides) => self.write_compare(*comparison, sides),
            Node::All(_, terms) => self.write_terms(terms, " AND ", false),
            Node::Any(_, terms) => self.guarded(|this| this.write_terms(terms, " OR ", false)),
            Node::Not(_, inner) => {
                self.push("NOT ");
                self.guarded(|this| this.write_bracketed(inner))
            }
            Node::IsNull(_, operand) => self.write_then(operand, " IS NULL"),
            Node::IsNotNull(_, operand) => self.write_then(operand, " IS NOT NULL"),
            Node::OneOf(_, one_of) => self.write_one_of(one_of),
            Node::InQuery(_, in_query) => self.write_in_query(in_query),
            Node::Like(_, like) => self.write_like(like),
            Node::Between(_, parts) => self.write_between(parts),
            Node::Call(_, call) => self.write_call(call),
            Node::Case(_, case) => self.guarded(|this| this.write_case(case)),
            Node::Trusted(trusted) => {
                self.push(&trusted.text);
                Ok(())
            }
            Node::Refused(refused) => Err(Error::refused_value(&refused.value, refused.reason)),
            Node::TooDeep => Err(Error::too_deep()),
        }
    }

    fn guarded(&mut self, write: impl FnOnce(&mut Self) -> Result<(), Error>) -> Result<(), Error> {
        let outside = std::mem::replace(&mut self.guarded, true);
        let written = write(self);
        self.guarded = outside;
        written
    }

    /// A node that an operator binds: in brackets unless it is a name, a bind or a call.
    fn write_operand(&mut self, node: &'q Node) -> Result<(), Error> {
        match self.is_closed(node) {
            true => self.write_node(node),
            false => self.guarded(|this| this.write_bracketed(node)),
        }
    }

    /// Whether the text of a node hangs together without brackets.
    fn is_closed(&self, node: &Node) -> bool {
        match node {
            Node::Column(_) | Node::Bind(_) | Node::Case(..) => true,
            Node::Call(_, call) if call.function.is_verbatim() => false,
            Node::Call(_, call) => match (self.grammar.form(call.function), &*call.arguments) {
                (Some(form::AS_IT_IS), [argument]) => self.is_closed(argument),
                (Some(form), _) => form::is_closed(form),
                (None, _) => true,
            },
            _ => false,
        }
    }

    fn write_then(&mut self, node: &'q Node, ending: &str) -> Result<(), Error> {
        self.write_operand(node)?;
        self.push(ending);
        Ok(())
    }

    fn write_column(&mut self, column: &RawColumn) -> Result<(), Error> {
        match self.names.find(column.source) {
            Some(None) => self.push_per_quote(column.info.qualified()),
            Some(Some(alias)) => {
                push_identifier(&mut self.text, alias, MARKS[self.quote]);
                self.text.push('.');
                push_identifier(&mut self.text, column.info.name(), MARKS[self.quote]);
            }
            None => return Err(Error::foreign_column(column.info)),
        }
        Ok(())
    }

    fn write_compare(&mut self, comparison: Comparison, sides: &'q [Node; 2]) -> Result<(), Error> {
        self.check_comparable(sides[0].sql_type(), "comparing")?;
        let operator = match comparison {
            Comparison::Equal => " = ",
            Comparison::NotEqual => " <> ",
            Comparison::Less => " < ",
            Comparison::LessOrEqual => " <= ",
            Comparison::Greater => " > ",
            Comparison::GreaterOrEqual => " >= ",
            Comparison::Distinct => return self.write_distinct(sides, self.grammar.distinct()),
            Comparison::NotDistinct => {
                let form = self.grammar.not_distinct(self.guarded);
                return self.write_distinct(sides, form);
            }
        };
        let collations = match comparison {
            Comparison::Equal | Comparison::NotEqual => self.grammar.text_equality(),
            _ => [self.grammar.text_order(), ""],
        };
        self.write_sides(sides, collations, operator)
    }

    /// Two operands with an operator between, and told to be compared by code point if need be.
    fn write_sides(
        &mut self,
        [left, right]: &'q [Node; 2],
        collations: [&'static str; 2],
        operator: &'static str,
    ) -> Result<(), Error> {
        let needed = left.needs_collation() || right.needs_collation();
        let [after_left, after_right] = if needed { collations } else { ["", ""] };
        self.write_compared(left)?;
        self.push(after_left);
        self.push(operator);
        self.write_compared(right)?;
        self.push(after_right);
        Ok(())
    }

    /// An operand of a comparison, whose other side tells the engine the type of a bind.
    fn write_compared(&mut self, node: &'q Node) -> Result<(), Error> {
        match node {
            Node::Bind(value) => self.write_bind(value, self.grammar.bind_beside(value.sql_type())),
            node => self.write_operand(node),
        }
    }

    fn write_bind(
        &mut self,
        value: &'q BindValue,
        [before, after]: [&'static str; 2],
    ) -> Result<(), Error> {
        self.push(before);
        self.push_bind(Cow::Borrowed(value))?;
        self.push(after);
        Ok(())
    }

    fn write_distinct(&mut self, sides: &'q [Node; 2], form: DistinctForm) -> Result<(), Error> {
        self.push(form.open);
        self.write_sides(sides, self.grammar.text_equality(), form.operator)?;
        if form.or_both_null {
            let [left, right] = sides;
            self.push(" OR (");
            self.write_then(left, " IS NULL AND ")?;
            self.write_then(right, " IS NULL)")?;
        }
        self.push(form.close);
        Ok(())
    }

    fn write_between(&mut self, parts: &'q [Node; 3]) -> Result<(), Error> {
        let [operand, low, high] = parts;
        self.check_comparable(operand.sql_type(), "comparing")?;
        let needed = parts.iter().any(Node::needs_collation);
        let collation = if needed { self.grammar.text_order() } else { "" };
        self.write_compared(operand)?;
        self.push(collation);
        self.push(" BETWEEN ");
        self.write_compared(low)?;
        self.push(" AND ");
        self.write_compared(high)
    }

    fn write_call(&mut self, call: &'q Call) -> Result<(), Error> {
        let function = call.function;
        let Some(form) = self.grammar.form(function) else {
            let err = Error::unsupported(function.what(), self.dialect, function.way_out());
            return Err(match call.asked_at {
                Some(origin) => err.asked_at(origin),
                None => err,
            });
        };
        if function.computes() {
            let mut types = call.arguments.iter().map(Node::sql_type);
            if let Some(sql_type) = types.find(|sql_type| !self.grammar.can_compute(*sql_type)) {
                return Err(self.uncomputable(sql_type));
            }
        }
        // What is written alone between brackets, or in place of the whole, needs no brackets of its own.
        self.guarded(|this| {
            this.write_form(form, |this, argument, alone| match call.arguments.get(argument) {
                Some(node) if alone => this.write_node(node),
                Some(node) => this.write_operand(node),
                None => Ok(()),
            })
        })
    }

    fn write_form(
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

    fn write_case(&mut self, case: &'q Case) -> Result<(), Error> {
        self.push("CASE");
        for [condition, value] in &case.branches {
            self.push(" WHEN ");
            self.write_node(condition)?;
            self.push(" THEN ");
            self.write_node(value)?;
        }
        if let Some(otherwise) = &case.otherwise {
            self.push(" ELSE ");
            self.write_node(otherwise)?;
        }
        self.push(" END");
        Ok(())
    }

    /// `x IN (SELECT ..)`, without the NULLs among what is selected, which would make the answer
    /// for every other value unknown.
    fn write_in_query(&mut self, in_query: &'q InQuery) -> Result<(), Error> {
        let InQuery { operand, select, may_be_null, negated } = in_query;
        self.check_comparable(operand.sql_type(), "looking up")?;
        let chosen = select
            .values
            .as_ref()
            .and_then(|values| values.what.first());
        let needed = operand.needs_collation() || chosen.is_some_and(Node::needs_collation);
        let [after_left, after_right] = if needed { self.grammar.text_lookup() } else { ["", ""] };
        if *negated {
            self.push("(");
        }
        self.write_then(operand, after_left)?;
        self.push(" IN (");
        // Some engines refuse LIMIT in this place, but not one level deeper.
        match select.is_limited() {
            true => {
                self.push("SELECT q.c0 FROM (");
                self.write_subquery(select, |this| this.push(after_right), " AS c0", false)?;
                self.push(") AS q");
                if *may_be_null {
                    self.push(" WHERE q.c0 IS NOT NULL");
                }
            }
            false => {
                self.write_subquery(select, |this| this.push(after_right), "", *may_be_null)?
            }
        }
        self.push(")");
        if *negated {
            self.push(") IS NOT TRUE");
        }
        Ok(())
    }

    /// A query inside the query, which sees the columns of those around it.
    fn write_subquery(
        &mut self,
        select: &'q Select,
        after_value: impl FnOnce(&mut Self),
        named: &'static str,
        without_null: bool,
    ) -> Result<(), Error> {
        let outer_marks = self.marks.take();
        let outer_origin = self.asked_at;
        let outer_guard = std::mem::replace(&mut self.guarded, false);
        self.names.enter(select)?;
        self.push("SELECT ");
        let values = select
            .values
            .as_ref()
            .map_or(&[][..], |values| &values.what);
        self.guarded(|this| this.joined(values, ", ", Self::write_node))?;
        after_value(self);
        self.push(named);
        self.write_from(select)?;
        if without_null && let [value] = values {
            self.push(if select.filters.is_empty() { " WHERE " } else { " AND " });
            self.write_then(value, " IS NOT NULL")?;
        }
        if select.is_limited() {
            self.write_orders(select)?;
        }
        self.write_limit(select, None)?;
        self.names.leave();
        self.guarded = outer_guard;
        self.asked_at = outer_origin;
        self.marks = outer_marks;
        Ok(())
    }

    /// `x IN list`, so that the rows kept are those that a reader of the list expects: where the
    /// items may be NULL, NULL is looked up apart, and what is not in the list is `IS NOT TRUE`,
    /// since NOT IN would lose the rows with NULL.
    fn write_one_of(&mut self, one_of: &'q OneOf) -> Result<(), Error> {
        let OneOf { operand, list, with_null, negated } = one_of;
        let guarded = self.guarded || *negated || with_null.is_some();
        if *negated || with_null.is_some() {
            self.push("(");
        }
        self.write_in_list(operand, list, guarded)?;
        if let Some(with_null) = with_null {
            self.push(" OR (");
            self.write_operand(operand)?;
            self.push(" IS NULL AND ");
            self.push_bind(Cow::Borrowed(with_null))?;
            self.push(")");
        }
        if *negated || with_null.is_some() {
            self.push(")");
        }
        if *negated {
            self.push(" IS NOT TRUE");
        }
        Ok(())
    }

    fn write_in_list(
        &mut self,
        operand: &'q Node,
        values: &'q BindValue,
        guarded: bool,
    ) -> Result<(), Error> {
        self.check_comparable(operand.sql_type(), "looking up")?;
        let form = self.grammar.list(operand.sql_type(), guarded);
        self.write_operand(operand)?;
        if operand.needs_collation() {
            self.push(form.left);
        }
        self.push(form.open);
        match (values, form.encoding) {
            (BindValue::List(items), ListEncoding::Json { zone_mark, longest_text }) => {
                self.push_json_list(items, values, zone_mark, longest_text)?;
            }
            _ => self.push_bind(Cow::Borrowed(values))?,
        }
        self.push(form.close);
        Ok(())
    }

    fn push_json_list(
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

    fn write_like(&mut self, like: &'q Like) -> Result<(), Error> {
        self.write_operand(&like.operand)?;
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

    /// A pattern, in lower case where case is ignored.
    fn write_pattern(&mut self, pattern: Cow<'q, BindValue>, any_case: bool) -> Result<(), Error> {
        match self.grammar.form(&function::LOWER) {
            Some(form) if any_case => {
                self.write_form(form, |this, _, _| this.push_bind(pattern.clone()))
            }
            _ => self.push_bind(pattern),
        }
    }

    #[cold]
    fn uncomputable(&self, sql_type: SqlType) -> Error {
        Error::unsupported(
            &format!("computing with values of type {sql_type}"),
            self.dialect,
            "read the values and compute in Rust, or keep them in a column of another type",
        )
    }

    fn check_comparable(&self, sql_type: SqlType, doing: &str) -> Result<(), Error> {
        match self.grammar.can_compare(sql_type) {
            true => Ok(()),
            false => Err(Error::unsupported(
                &format!("{doing} values of type {sql_type}"),
                self.dialect,
                "read the rows and compare in Rust, or keep the value in a column of another type",
            )),
        }
    }

    fn check_bind(&self, value: &BindValue) -> Result<(), Error> {
        let reason = match value {
            BindValue::Float(x) if x.is_infinite() && !self.grammar.has_infinity() => {
                Some("this dialect has no infinity")
            }
            value => value.refusal(),
        };
        match reason {
            Some(reason) => Err(Error::refused_value(value, reason)),
            None => Ok(()),
        }
    }

    fn push_bind(&mut self, value: Cow<'q, BindValue>) -> Result<(), Error> {
        self.check_bind(&value)?;
        self.binds.push(value);
        match self.grammar.placeholder() {
            Placeholder::QuestionMark => self.text.push('?'),
            Placeholder::Numbered => {
                self.text.push('$');
                push_number(&mut self.text, self.binds.len());
            }
        }
        Ok(())
    }

    fn push(&mut self, text: &str) {
        self.text.push_str(text);
    }

    fn push_per_quote(&mut self, text: PerQuote) {
        self.text.push_str(text[self.quote]);
    }

    /// Begins a clause: what follows was asked for by `origin`.
    fn clause(&mut self, opening: &str, origin: Origin) {
        self.mark(origin);
        self.push(opening);
    }

    fn mark(&mut self, origin: Origin) {
        self.asked_at = origin;
        if let Some(marks) = &mut self.marks {
            marks.push(Mark { at: self.text.len(), origin });
        }
    }
}

impl Node {
    /// The terms of a conjunction, or the one condition that this is.
    fn terms(&self) -> &[Node] {
        match self {
            Node::All(_, terms) => terms,
            other => std::slice::from_ref(other),
        }
    }
}

impl Select {
    fn is_limited(&self) -> bool {
        self.limit.is_some() || self.offset.is_some()
    }
}

/// The quote marks, in the order of [`PerQuote`].
const MARKS: [char; 2] = ['"', '`'];

fn push_identifier(text: &mut String, name: &str, mark: char) {
    text.push(mark);
    for character in name.chars() {
        if character == mark {
            text.push(mark);
        }
        text.push(character);
    }
    text.push(mark);
}

/// Digits without the machinery of `format!`, which would be a tenth of compiling a small query.
fn push_number(text: &mut String, number: usize) {
    if number >= 10 {
        push_number(text, number / 10);
    }
    text.push(char::from(b'0' + (number % 10) as u8));
}
