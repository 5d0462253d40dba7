//! The one walker: it reads the tree and writes the text, the binds and the origins in one pass.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::dialect::{Grammar, ListEncoding, PatternForm, Placeholder, QuoteMark};
use super::pattern::glob_of;
use super::{Dialect, Mark, Statement, Wanted, list};
use crate::error::Error;
use crate::origin::Origin;
use crate::storable::{BindValue, List, SqlType};
use crate::table::PerQuote;
use crate::tree::{Asked, Comparison, Like, Node, OneOf, OrderTerm, RawColumn, Select};

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
    /// Whether what is being written stands below NOT or OR.
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
        match wanted {
            Wanted::Rows => self.write_rows(None),
            // A key matches one row at most, and without LIMIT the text is that of any read by key.
            Wanted::AtMost(rows) => self.write_rows((!select.at_most_one).then_some(rows)),
            Wanted::Count if select.limit.is_none() && select.offset.is_none() => {
                self.push("SELECT count(*)");
                self.write_from()
            }
            Wanted::Count => {
                self.push("SELECT count(*) FROM (SELECT 1 AS c0");
                self.write_from()?;
                self.write_limit(None)?;
                self.push(") AS q");
                Ok(())
            }
            Wanted::Presence => {
                self.push("SELECT EXISTS (SELECT 1");
                self.write_from()?;
                self.write_limit(None)?;
                self.push(")");
                Ok(())
            }
        }
    }

    fn write_rows(&mut self, cap: Option<u8>) -> Result<(), Error> {
        self.push("SELECT ");
        self.push_per_quote(self.select.table.select_list());
        self.write_from()?;
        self.write_orders()?;
        self.write_limit(cap)
    }

    /// FROM and WHERE: which rows there are, whatever is wanted of them.
    fn write_from(&mut self) -> Result<(), Error> {
        self.clause(" FROM ", self.select.asked_at);
        self.push_per_quote(self.select.table.from_clause());
        self.write_filters()
    }

    fn write_filters(&mut self) -> Result<(), Error> {
        let filters = &self.select.filters;
        let terms: usize = filters.iter().map(|filter| filter.what.terms().len()).sum();
        if terms > TERMS_IN_A_ROW {
            return self.write_many_filters();
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
    fn write_many_filters(&mut self) -> Result<(), Error> {
        let filters = &self.select.filters;
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

    fn write_orders(&mut self) -> Result<(), Error> {
        let mut opening = " ORDER BY ";
        let mut asked_at = None;
        for Asked { what, at } in &self.select.orders {
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
                self.write_node(&order.by)?;
                self.push(first);
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
        self.write_node(node)?;
        if node.needs_collation() {
            self.push(self.grammar.text_order());
        }
        Ok(())
    }

    fn write_limit(&mut self, cap: Option<u8>) -> Result<(), Error> {
        let select = self.select;
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
            Node::Bind(value) => self.push_bind(Cow::Borrowed(value)),
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
            Node::Like(_, like) => self.write_like(like),
            Node::TooDeep => Err(Error::too_deep()),
        }
    }

    fn guarded(&mut self, write: impl FnOnce(&mut Self) -> Result<(), Error>) -> Result<(), Error> {
        let outside = std::mem::replace(&mut self.guarded, true);
        let written = write(self);
        self.guarded = outside;
        written
    }

    /// A node that an operator binds: in brackets unless it is a name or a bind.
    fn write_operand(&mut self, node: &'q Node) -> Result<(), Error> {
        match node {
            Node::Column(column) => self.write_column(column),
            Node::Bind(value) => self.push_bind(Cow::Borrowed(value)),
            _ => self.guarded(|this| this.write_bracketed(node)),
        }
    }

    fn write_then(&mut self, node: &'q Node, ending: &str) -> Result<(), Error> {
        self.write_operand(node)?;
        self.push(ending);
        Ok(())
    }

    fn write_column(&mut self, column: &RawColumn) -> Result<(), Error> {
        if column.source != self.select.source {
            return Err(Error::foreign_column(column.info));
        }
        self.push_per_quote(column.info.qualified());
        Ok(())
    }

    fn write_compare(
        &mut self,
        comparison: Comparison,
        [left, right]: &'q [Node; 2],
    ) -> Result<(), Error> {
        self.check_comparable(left.sql_type(), "comparing")?;
        let [mut after_left, mut after_right] = match comparison {
            Comparison::Equal | Comparison::NotEqual => self.grammar.text_equality(),
            _ => [self.grammar.text_order(), ""],
        };
        if !left.needs_collation() && !right.needs_collation() {
            [after_left, after_right] = ["", ""];
        }
        self.write_operand(left)?;
        self.push(after_left);
        self.push(match comparison {
            Comparison::Equal => " = ",
            Comparison::NotEqual => " <> ",
            Comparison::Less => " < ",
            Comparison::LessOrEqual => " <= ",
            Comparison::Greater => " > ",
            Comparison::GreaterOrEqual => " >= ",
        });
        self.write_operand(right)?;
        self.push(after_right);
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
        match (self.grammar.pattern(), &like.pattern) {
            (PatternForm::Glob, BindValue::Text(pattern)) => {
                self.push(" GLOB ");
                self.push_bind(Cow::Owned(BindValue::Text(glob_of(pattern).into())))
            }
            (PatternForm::Glob, other) => {
                self.push(" GLOB ");
                self.push_bind(Cow::Borrowed(other))
            }
            (PatternForm::Like { collate }, pattern) => {
                self.push(" LIKE ");
                self.push_bind(Cow::Borrowed(pattern))?;
                self.push(collate);
                self.push(" ESCAPE '!'");
                Ok(())
            }
        }
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

    /// Whether a dialect has to be told to compare this by code point.
    fn needs_collation(&self) -> bool {
        match self {
            Node::Column(column) => {
                column.info.sql_type() == SqlType::Text && !column.info.is_by_code_point()
            }
            Node::Bind(_) => false,
            other => other.sql_type() == SqlType::Text,
        }
    }
}

/// Digits without the machinery of `format!`, which would be a tenth of compiling a small query.
fn push_number(text: &mut String, number: usize) {
    if number >= 10 {
        push_number(text, number / 10);
    }
    text.push(char::from(b'0' + (number % 10) as u8));
}
