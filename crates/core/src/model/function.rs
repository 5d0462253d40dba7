//! SQL functions and operators: the text of each in every dialect. A new function is a new entry here.
//!
//! A form is SQL text in which `{0}`, `{1}` .. stand for the arguments, `{+}` for all of them between commas, and
//! `{{`, `}}` for braces. In aggregates `{~}` stands for the order of the rows, `{*}` for the filter and the
//! window, and `{?}` for the filter of a call that cannot have a window. A dialect without a form refuses the function. Under these forms all engines give the same answer; each was run on
//! SQLite, PostgreSQL and MariaDB.

use super::storable::SqlType;

/// A function or operator of SQL, or a hand-written fragment of a program.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct Function {
    /// The name in messages.
    what: &'static str,
    /// The next step on a dialect that has no form for it.
    way_out: &'static str,
    pub(crate) sqlite: Option<&'static str>,
    pub(crate) postgres: Option<&'static str>,
    pub(crate) mariadb: Option<&'static str>,
    pub(crate) mysql: Option<&'static str>,
    /// The text for decimals on engines without a type for them.
    pub(crate) of_decimals: Option<&'static str>,
    verbatim: bool,
    /// True for a function of the database, which `call!` names.
    named: bool,
    computes: bool,
    by_code_point: bool,
    is_condition: bool,
    takes_conditions: bool,
    picks: bool,
    can_fail: bool,
}

/// Two functions are equal only if they are the same static item.
impl PartialEq for Function {
    fn eq(&self, other: &Function) -> bool {
        std::ptr::eq(self, other)
    }
}

impl Function {
    const fn named(what: &'static str) -> Function {
        Function {
            what,
            way_out: "read the values and compute in Rust",
            sqlite: None,
            postgres: None,
            mariadb: None,
            mysql: None,
            of_decimals: None,
            verbatim: false,
            named: false,
            computes: true,
            by_code_point: false,
            is_condition: false,
            takes_conditions: false,
            picks: false,
            can_fail: false,
        }
    }

    /// Returns a fragment of the program, which the macro has checked.
    pub const fn verbatim() -> Function {
        let mut function = Function::named("a hand-written fragment");
        function.way_out = "add a variant for it";
        function.verbatim = true;
        function.can_fail = true;
        function.computes = false;
        function
    }

    /// Returns a function or procedure of the database that the program names. Its forms have `{+}` for all arguments.
    pub const fn of_database(what: &'static str, way_out: &'static str) -> Function {
        let mut function = Function::verbatim();
        function.what = what;
        function.way_out = way_out;
        function.named = true;
        function
    }

    /// Returns a collation or a constant of the program, by its forms on SQLite, PostgreSQL, MariaDB and MySQL. Its text
    /// needs no other collation.
    pub(crate) const fn of_program(
        [sqlite, postgres, mariadb, mysql]: [&'static str; 4],
    ) -> Function {
        let function = Function::named("a constant").by_code_point().any_type();
        function
            .sqlite(sqlite)
            .postgres(postgres)
            .mysql(mysql)
            .mariadb(mariadb)
    }

    pub const fn all(self, form: &'static str) -> Function {
        self.sqlite(form).postgres(form).mysql(form)
    }

    pub const fn sqlite(mut self, form: &'static str) -> Function {
        self.sqlite = Some(form);
        self
    }

    pub const fn postgres(mut self, form: &'static str) -> Function {
        self.postgres = Some(form);
        self
    }

    /// Sets the form for MySQL, and for MariaDB unless that has a form of its own.
    pub const fn mysql(mut self, form: &'static str) -> Function {
        self.mysql = Some(form);
        self.mariadb = Some(form);
        self
    }

    pub const fn mariadb(mut self, form: &'static str) -> Function {
        self.mariadb = Some(form);
        self
    }

    /// Sets the form for decimals on engines without a type for them.
    const fn of_decimals(mut self, form: &'static str) -> Function {
        self.of_decimals = Some(form);
        self
    }

    const fn or_else(mut self, way_out: &'static str) -> Function {
        self.way_out = way_out;
        self
    }

    /// Accepts arguments of any type, because it passes values on unchanged.
    const fn any_type(mut self) -> Function {
        self.computes = false;
        self
    }

    /// Marks a function that returns one of its values, by the order of their type.
    const fn picking(mut self) -> Function {
        self.picks = true;
        self
    }

    /// Marks a function that fails for some values on some engine: they are out of range or malformed.
    const fn fallible(mut self) -> Function {
        self.can_fail = true;
        self
    }

    /// Marks a function that returns a condition, which some dialects do not accept as a value.
    const fn condition(mut self) -> Function {
        self.is_condition = true;
        self
    }

    /// Marks a function whose arguments are conditions.
    const fn of_conditions(mut self) -> Function {
        self.takes_conditions = true;
        self.condition()
    }

    /// Marks a function whose text every engine compares by code point without a COLLATE.
    const fn by_code_point(mut self) -> Function {
        self.by_code_point = true;
        self
    }

    /// Returns whether the text of a whole statement begins like one that only reads.
    pub(crate) fn reads(&self) -> bool {
        let forms = [self.sqlite, self.postgres, self.mariadb, self.mysql];
        forms.into_iter().flatten().all(Function::begins_to_read)
    }

    /// Returns whether a text begins like a statement that only reads.
    pub(crate) fn begins_to_read(text: &str) -> bool {
        const WORDS: [&str; 8] =
            ["SELECT", "WITH", "VALUES", "TABLE", "SHOW", "EXPLAIN", "DESCRIBE", "PRAGMA"];
        WORDS
            .iter()
            .any(|word| word.eq_ignore_ascii_case(first_word(text)))
    }

    /// Returns a text without the brackets and comments that it begins with.
    pub(crate) fn without_comments(text: &str) -> &str {
        behind_comments(text)
    }

    /// Returns whether a text begins like a statement that begins or ends a transaction.
    pub fn is_of_transaction(text: &str) -> bool {
        const WORDS: [&str; 9] =
            ["ABORT", "BEGIN", "COMMIT", "END", "RELEASE", "ROLLBACK", "SAVEPOINT", "START", "XA"];
        let is = |wanted: &str, word: &str| wanted.eq_ignore_ascii_case(word);
        let mut words = behind_comments(text).split_ascii_whitespace();
        let second = words.nth(1).unwrap_or_default();
        WORDS.iter().any(|word| is(word, first_word(text)))
            || is("PREPARE", first_word(text)) && is("TRANSACTION", second)
    }

    pub fn what(&self) -> &'static str {
        self.what
    }

    pub(crate) fn way_out(&self) -> &'static str {
        self.way_out
    }

    /// Returns the aggregate that makes the value of a whole from the values of its groups, if there is one.
    pub(crate) fn combining(&'static self) -> Option<&'static Function> {
        let is = |others: &[&'static F]| others.iter().any(|other| std::ptr::eq(self, *other));
        let of_themselves = [
            [&SUM, &SUM_WHOLE],
            [&MIN, &MAX],
            [&MIN_BOOLEAN, &MAX_BOOLEAN],
            [&MIN_UUID, &MAX_UUID],
            [&MIN_BYTES, &MAX_BYTES],
            [&ALL_TRUE, &ANY_TRUE],
        ];
        match is(&[&COUNT_ROWS, &COUNT]) {
            true => Some(&COUNT_OF_GROUPS),
            false => is(of_themselves.as_flattened()).then_some(self),
        }
    }

    pub(crate) fn is_verbatim(&self) -> bool {
        self.verbatim
    }

    /// Returns whether its text is hand-written and may be anything, so that it needs brackets.
    pub(crate) fn is_open_text(&self) -> bool {
        self.verbatim && !self.named
    }

    /// Returns whether it is a function of the database that the program names.
    pub(crate) fn is_of_program(&self) -> bool {
        self.named
    }

    /// Returns whether the engine interprets the values, so that their type must be one it can compute with.
    pub(crate) fn computes(&self) -> bool {
        self.computes
    }

    pub(crate) fn is_condition(&self) -> bool {
        self.is_condition
    }

    /// Returns whether it returns one of its values, by the order of their type.
    pub(crate) fn picks(&self) -> bool {
        self.picks
    }

    /// Returns whether computing it can fail for some values.
    pub(crate) fn can_fail(&self) -> bool {
        self.can_fail
    }

    pub(crate) fn takes_conditions(&self) -> bool {
        self.takes_conditions
    }

    pub(crate) fn is_by_code_point(&self) -> bool {
        self.by_code_point
    }
}

fn first_word(text: &str) -> &str {
    behind_comments(text)
        .split(|character: char| !character.is_ascii_alphabetic())
        .next()
        .unwrap_or_default()
}

/// Returns the text after opening brackets and comments.
fn behind_comments(mut text: &str) -> &str {
    loop {
        text = text
            .trim_start_matches(|character: char| character.is_whitespace() || character == '(');
        let rest = match () {
            () if text.starts_with("--") || text.starts_with('#') => text.split_once('\n'),
            () if text.starts_with("/*") => text.split_once("*/"),
            () => break,
        };
        text = rest.map_or("", |(_, rest)| rest);
    }
    text
}

type F = Function;

// Conditions and NULL.

pub(crate) static ALWAYS: F = F::named("TRUE").all("TRUE").condition();
pub(crate) static NEVER: F = F::named("FALSE").all("FALSE").condition();
pub(crate) static IS_TRUE: F = F::named("IS TRUE").all("{0} IS TRUE").of_conditions();
pub(crate) static IS_FALSE: F = F::named("IS FALSE").all("{0} IS FALSE").of_conditions();
pub(crate) static IS_NOT_TRUE: F = F::named("IS NOT TRUE")
    .all("{0} IS NOT TRUE")
    .of_conditions();
pub(crate) static COALESCE: [F; 4] = [
    F::named("COALESCE").all("COALESCE({0}, {1})").any_type(),
    F::named("COALESCE")
        .all("COALESCE({0}, {1}, {2})")
        .any_type(),
    F::named("COALESCE")
        .all("COALESCE({0}, {1}, {2}, {3})")
        .any_type(),
    F::named("COALESCE")
        .all("COALESCE({0}, {1}, {2}, {3}, {4})")
        .any_type(),
];
/// A value that is computed only where a condition holds: `{0}` is the policies of a query. In MySQL, MariaDB and
/// SQLite it stands in a subquery, because they put constants in place of columns that other conditions fix, also
/// inside CASE (SQLite: "The WHERE-clause constant propagation optimization").
pub(crate) static BEHIND: F = F::named("a value behind policies")
    .sqlite("CASE WHEN EXISTS (SELECT 1 WHERE {0}) THEN {1} END")
    .postgres("CASE WHEN {0} THEN {1} END")
    .mysql("CASE WHEN EXISTS (SELECT 1 FROM DUAL WHERE {0}) THEN {1} END")
    .any_type();
pub(crate) static BEHIND_CONDITION: F = BEHIND.of_conditions();
pub(crate) static NULL_IF: F = F::named("NULLIF").all("NULLIF({0}, {1})").of_decimals(
    "CASE WHEN nepheline_decimal_key({0}) = nepheline_decimal_key({1}) THEN NULL ELSE {0} END",
);

// Decimals are computed to a number of digits after the point, with one rounding: halves away from zero. A quotient that is cut
// off at more digits and then rounded is right, one that is rounded twice is not. MariaDB and MySQL cut off a quotient at more
// digits than the dividend has; PostgreSQL cuts off with `div` only.

/// The numbers of digits that a decimal can have after the point.
pub(crate) const SCALES: usize = 29;

/// Writes a function for each number of digits: `$form` makes it of the number, and of as many zeros.
macro_rules! by_digits {
    ($form:ident) => {
        [
            $form!("0", ""),
            $form!("1", "0"),
            $form!("2", "00"),
            $form!("3", "000"),
            $form!("4", "0000"),
            $form!("5", "00000"),
            $form!("6", "000000"),
            $form!("7", "0000000"),
            $form!("8", "00000000"),
            $form!("9", "000000000"),
            $form!("10", "0000000000"),
            $form!("11", "00000000000"),
            $form!("12", "000000000000"),
            $form!("13", "0000000000000"),
            $form!("14", "00000000000000"),
            $form!("15", "000000000000000"),
            $form!("16", "0000000000000000"),
            $form!("17", "00000000000000000"),
            $form!("18", "000000000000000000"),
            $form!("19", "0000000000000000000"),
            $form!("20", "00000000000000000000"),
            $form!("21", "000000000000000000000"),
            $form!("22", "0000000000000000000000"),
            $form!("23", "00000000000000000000000"),
            $form!("24", "000000000000000000000000"),
            $form!("25", "0000000000000000000000000"),
            $form!("26", "00000000000000000000000000"),
            $form!("27", "000000000000000000000000000"),
            $form!("28", "0000000000000000000000000000"),
        ]
    };
}

macro_rules! round_decimal {
    ($digits:literal, $zeros:literal) => {
        F::named("round")
            .of_decimals(concat!("nepheline_decimal_round({0}, ", $digits, ")"))
            .postgres(concat!("round({0}, ", $digits, ")"))
            .mysql(concat!("CAST({0} AS DECIMAL(65, ", $digits, "))"))
    };
}

macro_rules! divide_decimal {
    ($digits:literal, $zeros:literal) => {
        F::named("a quotient of decimals")
            .fallible()
            .of_decimals(concat!("nepheline_decimal_divide({0}, {1}, ", $digits, ")"))
            .postgres(concat!(
                "round(div({0} * 1",
                $zeros,
                "0, NULLIF({1}, 0)) * 0.",
                $zeros,
                "1, ",
                $digits,
                ")"
            ))
            .mysql(concat!(
                "CAST({0} * 1.",
                $zeros,
                "0 / NULLIF({1}, 0) AS DECIMAL(65, ",
                $digits,
                "))"
            ))
    };
}

macro_rules! avg_decimal {
    ($digits:literal, $zeros:literal) => {
        F::named("an average of decimals")
            .fallible()
            .sqlite(concat!(
                "nepheline_decimal_divide(nepheline_decimal_sum({0}){*}, count({0}){*}, ",
                $digits,
                ")"
            ))
            .of_decimals(concat!(
                "nepheline_decimal_divide(nepheline_decimal_sum({0}){*}, count({0}){*}, ",
                $digits,
                ")"
            ))
            .postgres(concat!(
                "round(div(sum({0}){*} * 1",
                $zeros,
                "0, NULLIF(count({0}){*}, 0)) * 0.",
                $zeros,
                "1, ",
                $digits,
                ")"
            ))
            .mysql(concat!(
                "CAST(sum({0}){*} * 1.",
                $zeros,
                "0 / NULLIF(count({0}){*}, 0) AS DECIMAL(65, ",
                $digits,
                "))"
            ))
    };
}

// Numbers. Division by zero is NULL. PostgreSQL computes narrow integers in their own width, so they are
// widened first.

pub(crate) static ADD: F = F::named("+")
    .fallible()
    .all("{0} + {1}")
    .of_decimals("nepheline_decimal_add({0}, {1})");
pub(crate) static SUBTRACT: F = F::named("-")
    .fallible()
    .all("{0} - {1}")
    .of_decimals("nepheline_decimal_subtract({0}, {1})");
pub(crate) static MULTIPLY: F = F::named("*")
    .fallible()
    .all("{0} * {1}")
    .of_decimals("nepheline_decimal_multiply({0}, {1})");
pub(crate) static DIVIDE: F = F::named("/")
    .fallible()
    .all("{0} / {1}")
    .postgres("{0} / NULLIF({1}, 0)");
pub(crate) static DIVIDE_WHOLE: F = F::named("/")
    .fallible()
    .sqlite("{0} / {1}")
    .postgres("{0} / NULLIF({1}, 0)")
    .mysql("{0} DIV {1}");
pub(crate) static REMAINDER: F = F::named("%")
    .fallible()
    .all("{0} % {1}")
    .postgres("{0} % NULLIF({1}, 0)");
/// Division by a number that is never 0.
pub(crate) static DIVIDE_NON_ZERO: F = F::named("/")
    .fallible()
    .all("{0} / {1}")
    .mysql("{0} DIV {1}");
pub(crate) static DIVIDE_FLOAT_NON_ZERO: F = F::named("/").fallible().all("{0} / {1}");
pub(crate) static REMAINDER_NON_ZERO: F = F::named("%").fallible().all("{0} % {1}");
pub(crate) static NEGATE: F = F::named("unary minus")
    .fallible()
    .all("-{0}")
    .of_decimals("nepheline_decimal_negate({0})");
pub(crate) static WIDEN_WHOLE: F = F::named("a wider integer").all("{0}").postgres("{0}::int8");
pub(crate) static WIDEN_FLOAT: F = F::named("a wider float").all("{0}").postgres("{0}::float8");
/// An argument with the width of its Rust type; binds of every width are sent with 64 bits.
pub(crate) static AS_SMALLINT: F = F::named("a narrow integer")
    .all("{0}")
    .postgres("{0}::int2");
pub(crate) static AS_INTEGER: F = F::named("a narrow integer")
    .all("{0}")
    .postgres("{0}::int4");
pub(crate) static AS_REAL: F = F::named("a narrow float")
    .all("{0}")
    .postgres("{0}::float4");
/// The place of an OUT parameter in a call. MySQL and MariaDB require a bind there.
pub(crate) static OUT_PARAMETER: F = F::named("an OUT parameter")
    .any_type()
    .all("{0}")
    .postgres("NULL");
/// The default of a column, where it is assigned.
pub(crate) static DEFAULT: F = F::named("assigning a default")
    .or_else("set the value; in an insert the default can be left to the database")
    .postgres("DEFAULT")
    .mysql("DEFAULT");
pub(crate) static ABS: F = F::named("abs")
    .fallible()
    .all("abs({0})")
    .of_decimals("nepheline_decimal_abs({0})");
pub(crate) static FLOOR: F = F::named("floor")
    .all("floor({0})")
    .sqlite("nepheline_floor({0})")
    .of_decimals("nepheline_decimal_floor({0})");
pub(crate) static CEIL: F = F::named("ceil")
    .all("ceil({0})")
    .sqlite("nepheline_ceil({0})")
    .of_decimals("nepheline_decimal_ceil({0})");
pub(crate) static ROUND: [F; SCALES] = by_digits!(round_decimal);
pub(crate) static DIVIDE_DECIMAL: [F; SCALES] = by_digits!(divide_decimal);
pub(crate) static AVG_DECIMAL: [F; SCALES] = by_digits!(avg_decimal);
pub(crate) static ROUND_FLOAT: [F; SCALES] = [F::named("rounding a float").or_else(
    "engines round the halves of floats differently: round in Rust, or use `(x + 0.5).floor()`",
); SCALES];
pub(crate) static POWER: F = F::named("power").fallible()
    .all(
        "CASE WHEN {0} < 0 AND {1} <> floor({1}) OR {0} = 0 AND {1} < 0 THEN NULL ELSE power({0}, {1}) END",
    )
    .sqlite("nepheline_power({0}, {1})");
pub(crate) static LEAST: F = F::named("least")
    .picking()
    .sqlite("min({0}, {1})")
    .of_decimals("nepheline_decimal_shown(min(nepheline_decimal_sortable({0}), nepheline_decimal_sortable({1})))")
    .postgres("LEAST({0}, {1})")
    .mysql("LEAST({0}, {1})");
pub(crate) static GREATEST: F = F::named("greatest")
    .picking()
    .sqlite("max({0}, {1})")
    .of_decimals("nepheline_decimal_shown(max(nepheline_decimal_sortable({0}), nepheline_decimal_sortable({1})))")
    .postgres("GREATEST({0}, {1})")
    .mysql("GREATEST({0}, {1})");
// PostgreSQL's GREATEST and LEAST ignore NULL (manual, "GREATEST and LEAST"); on the other engines they are
// NULL then.
pub(crate) static LEAST_OR_NULL: F =
    LEAST.postgres("CASE WHEN {0} IS NULL OR {1} IS NULL THEN NULL ELSE LEAST({0}, {1}) END");
pub(crate) static GREATEST_OR_NULL: F =
    GREATEST.postgres("CASE WHEN {0} IS NULL OR {1} IS NULL THEN NULL ELSE GREATEST({0}, {1}) END");

// Totals. The servers sum integers as decimals; they are read as integers, with a range check.

pub(crate) static SUM: F = F::named("sum")
    .fallible()
    .all("sum({0}){*}")
    .of_decimals("nepheline_decimal_sum({0}){*}");
pub(crate) static SUM_WHOLE: F = F::named("sum")
    .fallible()
    .all("sum({0}){*}")
    .postgres("sum({0}){*}::int8");
pub(crate) static AVG: F = F::named("avg")
    .fallible()
    .all("avg({0}){*}")
    .of_decimals("avg(CAST({0} AS REAL)){*}")
    .postgres("avg({0}){*}::float8")
    .mysql("avg({0} + 0e0){*}");
pub(crate) static VAR_SAMP: F = F::named("var_samp")
    .fallible()
    .sqlite("nepheline_var_samp({0}){*}")
    .of_decimals("nepheline_var_samp(CAST({0} AS REAL)){*}")
    .postgres("var_samp({0}){*}::float8")
    .mysql("var_samp({0} + 0e0){*}");
pub(crate) static VAR_POP: F = F::named("var_pop")
    .fallible()
    .sqlite("nepheline_var_pop({0}){*}")
    .of_decimals("nepheline_var_pop(CAST({0} AS REAL)){*}")
    .postgres("var_pop({0}){*}::float8")
    .mysql("var_pop({0} + 0e0){*}");
pub(crate) static STDDEV_SAMP: F = F::named("stddev_samp")
    .fallible()
    .sqlite("nepheline_stddev_samp({0}){*}")
    .of_decimals("nepheline_stddev_samp(CAST({0} AS REAL)){*}")
    .postgres("stddev_samp({0}){*}::float8")
    .mysql("stddev_samp({0} + 0e0){*}");
pub(crate) static STDDEV_POP: F = F::named("stddev_pop")
    .fallible()
    .sqlite("nepheline_stddev_pop({0}){*}")
    .of_decimals("nepheline_stddev_pop(CAST({0} AS REAL)){*}")
    .postgres("stddev_pop({0}){*}::float8")
    .mysql("stddev_pop({0} + 0e0){*}");
// PostgreSQL has ordered-set aggregates without windows, MariaDB a median that is only a window.
pub(crate) static MEDIAN: F = F::named("median")
    .or_else("number the rows of each group by `row_number`, and keep those in the middle")
    .sqlite("nepheline_median({0}){*}")
    .of_decimals("nepheline_median(CAST({0} AS REAL)){*}")
    .postgres("percentile_cont(0.5) WITHIN GROUP (ORDER BY ({0})::float8){?}");
pub(crate) static MIN: F = F::named("min")
    .picking()
    .all("min({0}){*}")
    .of_decimals("nepheline_decimal_shown(min(nepheline_decimal_sortable({0})){*})");
pub(crate) static MAX: F = F::named("max")
    .picking()
    .all("max({0}){*}")
    .of_decimals("nepheline_decimal_shown(max(nepheline_decimal_sortable({0})){*})");
// PostgreSQL has no `min` of booleans, UUIDs and bytes. The order of hexadecimal texts is that of the bytes.
pub(crate) static MIN_BOOLEAN: F = F::named("min")
    .all("min({0}){*}")
    .postgres("bool_and({0}){*}");
pub(crate) static MAX_BOOLEAN: F = F::named("max")
    .all("max({0}){*}")
    .postgres("bool_or({0}){*}");
pub(crate) static MIN_UUID: F = F::named("min")
    .all("min({0}){*}")
    .postgres("(min({0}::text COLLATE \"C\"){*})::uuid")
    .mariadb("CAST(min(CAST({0} AS CHAR)){*} AS UUID)");
pub(crate) static MAX_UUID: F = F::named("max")
    .all("max({0}){*}")
    .postgres("(max({0}::text COLLATE \"C\"){*})::uuid")
    .mariadb("CAST(max(CAST({0} AS CHAR)){*} AS UUID)");
pub(crate) static MIN_BYTES: F = F::named("min")
    .all("min({0}){*}")
    .postgres("decode(min(encode({0}, 'hex') COLLATE \"C\"){*}, 'hex')");
pub(crate) static MAX_BYTES: F = F::named("max")
    .all("max({0}){*}")
    .postgres("decode(max(encode({0}, 'hex') COLLATE \"C\"){*}, 'hex')");

/// A value in the order in which the engine sorts it.
pub(crate) static AS_STORED: F = F::named("as stored").any_type().all("{0}");

/// Returns the function for the least value of a type, and that for the greatest.
pub(crate) fn ends(sql_type: SqlType) -> [&'static F; 2] {
    match sql_type {
        SqlType::Boolean => [&MIN_BOOLEAN, &MAX_BOOLEAN],
        SqlType::Uuid => [&MIN_UUID, &MAX_UUID],
        SqlType::Bytes => [&MIN_BYTES, &MAX_BYTES],
        _ => [&MIN, &MAX],
    }
}

// Without GROUPING SETS, the writer knows it for each level of subtotals.
pub(crate) static IS_SUBTOTAL: F = F::named("is_subtotal").postgres("(GROUPING({0}) = 1)");
pub(crate) static COUNT_ROWS: F = F::named("count").all("count(*){*}");
pub(crate) static COUNT: F = F::named("count").all("count({0}){*}").any_type();
static COUNT_OF_GROUPS: F = F::named("count")
    .sqlite("coalesce(sum({0}), 0)")
    .postgres("CAST(coalesce(sum({0}), 0) AS int8)")
    .mysql("CAST(coalesce(sum({0}), 0) AS SIGNED)");
pub(crate) static ALL_TRUE: F = F::named("all_true")
    .all("min({0}){*}")
    .postgres("bool_and({0}){*}");
pub(crate) static ANY_TRUE: F = F::named("any_true")
    .all("max({0}){*}")
    .postgres("bool_or({0}){*}");
// MySQL and MariaDB do not accept a bind as the separator of GROUP_CONCAT.
pub(crate) static JOINED: F = F::named("text of a group, joined")
    .sqlite("group_concat({0}, {1}{~}){*}")
    .postgres("string_agg({0}, {1}{~}){*}")
    .mysql("SUBSTR(GROUP_CONCAT(CONCAT({1}, {0}){~} SEPARATOR ''), CHAR_LENGTH({1}) + 1)");
// Engines disagree about an empty group: here it is an empty list everywhere.
pub(crate) static COLLECTED_TEXT: F = F::named("collecting")
    .sqlite("json_group_array({0}{~}){*}")
    .postgres("COALESCE(array_agg({0}{~}){*}, '{{}}')")
    .mysql("CONCAT('[', COALESCE(CAST(GROUP_CONCAT(JSON_QUOTE({0}){~} SEPARATOR ',') AS CHAR), ''), ']')");
pub(crate) static COLLECTED_WHOLE: F =
    COLLECTED_TEXT.mysql("CONCAT('[', COALESCE(GROUP_CONCAT({0}{~} SEPARATOR ','), ''), ']')");

// Windows.

pub(crate) static ROW_NUMBER: F = F::named("row_number").all("row_number(){*}");
pub(crate) static RANK: F = F::named("rank").all("rank(){*}");
pub(crate) static DENSE_RANK: F = F::named("dense_rank").all("dense_rank(){*}");
pub(crate) static NTILE: F = F::named("ntile").fallible().all("ntile({0}){*}");
pub(crate) static LAG: F = F::named("lag").all("lag({0}, {1}){*}").any_type();
pub(crate) static LEAD: F = F::named("lead").all("lead({0}, {1}){*}").any_type();
pub(crate) static FIRST_VALUE: F = F::named("first_value")
    .all("first_value({0}){*}")
    .any_type();
pub(crate) static LAST_VALUE: F = F::named("last_value").all("last_value({0}){*}").any_type();

// Text.

/// Text that is compared or ordered by code point.
pub(crate) static IN_CODE_POINT_ORDER: F = F::named("COLLATE")
    .sqlite("{0} COLLATE BINARY")
    .postgres("{0} COLLATE \"C\"")
    .mysql("CONVERT({0} USING utf8mb4) COLLATE utf8mb4_0900_bin")
    .mariadb("CONVERT({0} USING utf8mb4) COLLATE utf8mb4_nopad_bin")
    .by_code_point();
/// For functions that compare by collation themselves.
pub(crate) static BY_CODE_POINT: F = F::named("COLLATE")
    .all("{0}")
    .mysql("CONVERT({0} USING utf8mb4) COLLATE utf8mb4_0900_bin")
    .mariadb("CONVERT({0} USING utf8mb4) COLLATE utf8mb4_nopad_bin");
/// Lower case, letter by letter. The collations named here know the most letters; the binary ones know only
/// old ones. The Greek letter sigma has two lower-case forms, of which one engine picks by the neighbouring
/// letters.
pub(crate) static LOWER: F = F::named("lower case")
    .sqlite("nepheline_fold({0})")
    .postgres("translate(lower({0} COLLATE \"und-x-icu\") COLLATE \"C\", 'ς', 'σ')")
    .mysql("REPLACE(LOWER(CONVERT({0} USING utf8mb4) COLLATE utf8mb4_0900_as_ci) COLLATE utf8mb4_0900_bin, 'ς', 'σ')")
    .mariadb("REPLACE(LOWER(CONVERT({0} USING utf8mb4) COLLATE utf8mb4_unicode_520_nopad_ci) COLLATE utf8mb4_nopad_bin, 'ς', 'σ')")
    .by_code_point();
/// Upper case, letter by letter. A letter that an engine would turn into two stays as it is.
pub(crate) static UPPER: F = F::named("upper case")
    .sqlite("nepheline_upper({0})")
    .postgres(
        "COALESCE((SELECT string_agg(CASE WHEN length(upper(c COLLATE \"und-x-icu\")) = 1 \
         THEN upper(c COLLATE \"und-x-icu\") ELSE c END, '' ORDER BY i) \
         FROM unnest(string_to_array({0}, NULL)) WITH ORDINALITY AS letters(c, i)), {0}) COLLATE \"C\"",
    )
    .mysql("UPPER(CONVERT({0} USING utf8mb4) COLLATE utf8mb4_0900_as_ci) COLLATE utf8mb4_0900_bin")
    .mariadb("UPPER(CONVERT({0} USING utf8mb4) COLLATE utf8mb4_unicode_520_nopad_ci) COLLATE utf8mb4_nopad_bin")
    .by_code_point();
pub(crate) static LENGTH: F = F::named("length")
    .sqlite("length({0})")
    .postgres("length({0})::int8")
    .mysql("CHAR_LENGTH({0})");
pub(crate) static TRIM: F = F::named("trim").all("trim({0})");
pub(crate) static SUBSTRING: F = F::named("substring")
    .fallible()
    .all("substr({0}, {1}, {2})")
    .postgres("substr({0}, {1}::int4, {2}::int4)");
pub(crate) static REPLACE: F = F::named("replace").fallible().all("replace({0}, {1}, {2})");
pub(crate) static CONCAT: F = F::named("concatenation")
    .fallible()
    .all("{0} || {1}")
    .mysql("CONCAT({0}, {1})");
pub(crate) static POSITION: F = F::named("position")
    .sqlite("instr({0}, {1})")
    .postgres("strpos({0}, {1})::int8")
    .mysql("LOCATE({1}, {0})");
pub(crate) static CONTAINS: F = F::named("contains")
    .condition()
    .sqlite("instr({0}, {1}) > 0")
    .postgres("strpos({0}, {1}) > 0")
    .mysql("LOCATE({1}, {0}) > 0");
// This form is for a computed argument, from which a pattern would have to be built.
pub(crate) static STARTS_WITH: F = F::named("starts_with")
    .condition()
    .sqlite("substr({0}, 1, length({1})) = {1} COLLATE BINARY")
    .postgres("starts_with({0}, {1})")
    .mysql("LEFT({0}, CHAR_LENGTH({1})) = {1}");
pub(crate) static ENDS_WITH: F = F::named("ends_with")
    .condition()
    .sqlite("({1} = '' OR substr({0}, -length({1})) = {1} COLLATE BINARY)")
    .postgres("right({0}, length({1})) = {1}")
    .mysql("RIGHT({0}, CHAR_LENGTH({1})) = {1}");

// Dates and times. Engines without such types store ISO 8601 text. SQLite's own functions round six digits of
// the second, so the fraction is cut off first.

/// Converts a point in time to the date and time in UTC, and back.
pub(crate) static UTC: F = F::named("UTC")
    .all("{0}")
    .postgres("{0} AT TIME ZONE 'UTC'");

pub(crate) static YEAR: F = F::named("year")
    .fallible()
    .sqlite("CAST(substr({0}, 1, 4) AS INTEGER)")
    .postgres("extract(year FROM {0})::int4")
    .mysql("YEAR({0})");
pub(crate) static QUARTER: F = F::named("quarter")
    .sqlite("(substr({0}, 6, 2) + 2) / 3")
    .postgres("extract(quarter FROM {0})::int4")
    .mysql("QUARTER({0})");
pub(crate) static MONTH: F = F::named("month")
    .sqlite("CAST(substr({0}, 6, 2) AS INTEGER)")
    .postgres("extract(month FROM {0})::int4")
    .mysql("MONTH({0})");
pub(crate) static DAY: F = F::named("day")
    .sqlite("CAST(substr({0}, 9, 2) AS INTEGER)")
    .postgres("extract(day FROM {0})::int4")
    .mysql("DAYOFMONTH({0})");
pub(crate) static DAY_OF_YEAR: F = F::named("day of the year")
    .sqlite("CAST(strftime('%j', substr({0}, 1, 10)) AS INTEGER)")
    .postgres("extract(doy FROM {0})::int4")
    .mysql("DAYOFYEAR({0})");
pub(crate) static WEEKDAY: F = F::named("weekday")
    .sqlite("(strftime('%w', substr({0}, 1, 10)) + 6) % 7 + 1")
    .postgres("extract(isodow FROM {0})::int4")
    .mysql("WEEKDAY({0}) + 1");
pub(crate) static ISO_WEEK: F = F::named("ISO week")
    .sqlite("(strftime('%j', substr({0}, 1, 10), '-3 days', 'weekday 4') - 1) / 7 + 1")
    .postgres("extract(week FROM {0})::int4")
    .mysql("WEEK({0}, 3)");
pub(crate) static ISO_YEAR: F = F::named("ISO year")
    .fallible()
    .sqlite("CAST(strftime('%Y', substr({0}, 1, 10), '-3 days', 'weekday 4') AS INTEGER)")
    .postgres("extract(isoyear FROM {0})::int4")
    .mysql("YEARWEEK({0}, 3) DIV 100");
pub(crate) static HOUR: F = F::named("hour")
    .sqlite("CAST(substr({0}, 12, 2) AS INTEGER)")
    .postgres("extract(hour FROM {0})::int4")
    .mysql("HOUR({0})");
pub(crate) static MINUTE: F = F::named("minute")
    .sqlite("CAST(substr({0}, 15, 2) AS INTEGER)")
    .postgres("extract(minute FROM {0})::int4")
    .mysql("MINUTE({0})");
// Without trunc PostgreSQL rounds 59.5 to 60.
pub(crate) static SECOND: F = F::named("second")
    .sqlite("CAST(substr({0}, 18, 2) AS INTEGER)")
    .postgres("trunc(extract(second FROM {0}))::int4")
    .mysql("SECOND({0})");
pub(crate) static MICROSECOND: F = F::named("microsecond")
    .sqlite("CAST(substr({0}, 21, 6) AS INTEGER)")
    .postgres("extract(microseconds FROM {0})::int4 % 1000000")
    .mysql("MICROSECOND({0})");
pub(crate) static HOUR_OF_TIME: F = HOUR.sqlite("CAST(substr({0}, 1, 2) AS INTEGER)");
pub(crate) static MINUTE_OF_TIME: F = MINUTE.sqlite("CAST(substr({0}, 4, 2) AS INTEGER)");
pub(crate) static SECOND_OF_TIME: F = SECOND.sqlite("CAST(substr({0}, 7, 2) AS INTEGER)");
pub(crate) static MICROSECOND_OF_TIME: F =
    MICROSECOND.sqlite("CAST(substr({0}, 10, 6) AS INTEGER)");

pub(crate) static DATE_PLUS_DAYS: F = F::named("adding days")
    .fallible()
    .sqlite("date({0}, {1} || ' days')")
    .postgres("{0} + {1}::int4")
    .mysql("{0} + INTERVAL {1} DAY");
pub(crate) static PLUS_DAYS: F = F::named("adding days")
    .fallible()
    .sqlite("date(substr({0}, 1, 10), {1} || ' days') || substr({0}, 11)")
    .postgres("{0} + make_interval(days => {1}::int4)")
    .mysql("{0} + INTERVAL {1} DAY");
// SQLite turns January 31 plus one month into March 2, so the form takes the earlier of that day and the
// month's last day.
pub(crate) static DATE_PLUS_MONTHS: F = F::named("adding months").fallible()
    .sqlite(
        "min(date(substr({0}, 1, 7) || '-01', {1} || ' months', '+' || (substr({0}, 9, 2) - 1) || ' days'), \
         date(substr({0}, 1, 7) || '-01', ({1} + 1) || ' months', '-1 day'))",
    )
    .postgres("({0} + make_interval(months => {1}::int4))::date")
    .mysql("{0} + INTERVAL {1} MONTH");
pub(crate) static PLUS_MONTHS: F = F::named("adding months").fallible()
    .sqlite(
        "min(date(substr({0}, 1, 7) || '-01', {1} || ' months', '+' || (substr({0}, 9, 2) - 1) || ' days'), \
         date(substr({0}, 1, 7) || '-01', ({1} + 1) || ' months', '-1 day')) || substr({0}, 11)",
    )
    .postgres("{0} + make_interval(months => {1}::int4)")
    .mysql("{0} + INTERVAL {1} MONTH");
pub(crate) static PLUS_SECONDS: F = F::named("adding seconds")
    .fallible()
    .sqlite(
        "strftime('%Y-%m-%dT%H:%M:%S', substr({0}, 1, 19), {1} || ' seconds') || substr({0}, 20)",
    )
    .postgres("{0} + make_interval(secs => {1}::float8)")
    .mysql("{0} + INTERVAL {1} SECOND");
pub(crate) static DATE_DIFFERENCE: F = F::named("days between")
    .fallible()
    .sqlite("CAST(julianday({0}) - julianday({1}) AS INTEGER)")
    .postgres("({0} - {1})::int8")
    .mysql("DATEDIFF({0}, {1})");
pub(crate) static DAYS_BETWEEN: F = F::named("days between")
    .fallible()
    .sqlite("CAST(julianday(substr({0}, 1, 10)) - julianday(substr({1}, 1, 10)) AS INTEGER)")
    .postgres("({0}::date - {1}::date)::int8")
    .mysql("DATEDIFF({0}, {1})");
pub(crate) static MICROSECONDS_BETWEEN: F = F::named("microseconds between")
    .fallible()
    .sqlite(
        "(unixepoch(substr({0}, 1, 19)) - unixepoch(substr({1}, 1, 19))) * 1000000 \
         + substr({0}, 21, 6) - substr({1}, 21, 6)",
    )
    .postgres("(extract(epoch FROM {0} - {1}) * 1000000)::int8")
    .mysql("TIMESTAMPDIFF(MICROSECOND, {1}, {0})");

/// The forms of date_trunc for a date, a date with time, and a point in time.
#[derive(Debug)]
pub(crate) struct Truncation {
    pub(crate) date: Function,
    pub(crate) date_time: Function,
    pub(crate) timestamp: Function,
}

/// The forms for units of a day or more: the date in SQLite, the name of the unit in PostgreSQL, the date in
/// MySQL.
macro_rules! date_truncation {
    ($unit:literal, $sqlite:literal, $mysql:literal) => {
        Truncation {
            // PostgreSQL has dates that no timestamp can hold.
            date: F::named(concat!("truncation to the ", $unit))
                .fallible()
                .sqlite($sqlite)
                .postgres(concat!("date_trunc('", $unit, "', {0}::timestamp)::date"))
                .mysql(concat!("CAST(", $mysql, " AS DATE)")),
            date_time: F::named(concat!("truncation to the ", $unit))
                .sqlite(concat!($sqlite, " || 'T00:00:00.000000'"))
                .postgres(concat!("date_trunc('", $unit, "', {0})"))
                .mysql(concat!("CAST(", $mysql, " AS DATETIME(6))")),
            timestamp: F::named(concat!("truncation to the ", $unit))
                .sqlite(concat!($sqlite, " || 'T00:00:00.000000Z'"))
                .postgres(concat!("date_trunc('", $unit, "', {0}, 'UTC')"))
                .mysql(concat!("CAST(", $mysql, " AS DATETIME(6))")),
        }
    };
}

/// The forms for units below a day, which a date does not have: the number of characters that SQLite keeps,
/// the text after them, the name of the unit in PostgreSQL, and the format in MySQL.
macro_rules! time_truncation {
    ($unit:literal, $kept:literal, $rest:literal, $format:literal) => {
        Truncation {
            date: F::named(concat!("truncation to the ", $unit)).all("{0}"),
            date_time: F::named(concat!("truncation to the ", $unit))
                .sqlite(concat!("substr({0}, 1, ", $kept, ") || '", $rest, "'"))
                .postgres(concat!("date_trunc('", $unit, "', {0})"))
                .mysql(concat!("CAST(DATE_FORMAT({0}, '", $format, "') AS DATETIME(6))")),
            timestamp: F::named(concat!("truncation to the ", $unit))
                .sqlite(concat!("substr({0}, 1, ", $kept, ") || '", $rest, "Z'"))
                .postgres(concat!("date_trunc('", $unit, "', {0}, 'UTC')"))
                .mysql(concat!("CAST(DATE_FORMAT({0}, '", $format, "') AS DATETIME(6))")),
        }
    };
}

pub(crate) static TO_YEAR: Truncation =
    date_truncation!("year", "substr({0}, 1, 4) || '-01-01'", "DATE_FORMAT({0}, '%Y-01-01')");
pub(crate) static TO_QUARTER: Truncation = date_truncation!(
    "quarter",
    "substr({0}, 1, 5) || substr('01040710', (substr({0}, 6, 2) + 2) / 3 * 2 - 1, 2) || '-01'",
    "DATE_FORMAT({0}, '%Y-01-01') + INTERVAL QUARTER({0}) - 1 QUARTER"
);
pub(crate) static TO_MONTH: Truncation =
    date_truncation!("month", "substr({0}, 1, 7) || '-01'", "DATE_FORMAT({0}, '%Y-%m-01')");
pub(crate) static TO_WEEK: Truncation = date_truncation!(
    "week",
    "date(substr({0}, 1, 10), '-6 days', 'weekday 1')",
    "DATE({0}) - INTERVAL WEEKDAY({0}) DAY"
);
pub(crate) static TO_DAY: Truncation = date_truncation!("day", "substr({0}, 1, 10)", "DATE({0})");
pub(crate) static TO_HOUR: Truncation =
    time_truncation!("hour", "13", ":00:00.000000", "%Y-%m-%d %H:00:00");
pub(crate) static TO_MINUTE: Truncation =
    time_truncation!("minute", "16", ":00.000000", "%Y-%m-%d %H:%i:00");
pub(crate) static TO_SECOND: Truncation =
    time_truncation!("second", "19", ".000000", "%Y-%m-%d %H:%i:%s");

// Casts between types.

pub(crate) static SAME: F = F::named("the same value as another type")
    .all("{0}")
    .any_type();
pub(crate) static WHOLE_TO_FLOAT: F = F::named("integer to float")
    .sqlite("CAST({0} AS REAL)")
    .postgres("{0}::float8")
    .mysql("{0} + 0e0");
// Values beyond the range become the nearest integer, as on the other engines and in Rust.
pub(crate) static FLOAT_TO_WHOLE: F = F::named("float to integer")
    .fallible()
    .sqlite("CAST({0} AS INTEGER)")
    .postgres(
        "CASE WHEN {0} >= 9223372036854775807 THEN 9223372036854775807 \
         WHEN {0} <= -9223372036854775808 THEN -9223372036854775808 ELSE trunc({0})::int8 END",
    )
    .mysql("CAST(TRUNCATE({0}, 0) AS SIGNED)");
pub(crate) static BOOLEAN_TO_WHOLE: F = F::named("boolean to integer")
    .sqlite("{0}")
    .postgres("{0}::int4")
    .mysql("{0} + 0");
pub(crate) static WHOLE_TO_TEXT: F = F::named("integer to text")
    .sqlite("CAST({0} AS TEXT)")
    .postgres("{0}::text")
    .mysql("CAST({0} AS CHAR)");
pub(crate) static WHOLE_TO_DECIMAL: F = F::named("integer to decimal")
    .sqlite("{0}")
    .postgres("{0}::numeric")
    .mysql("CAST({0} AS DECIMAL(20, 0))");
pub(crate) static DECIMAL_TO_FLOAT: F = F::named("decimal to float")
    .fallible()
    .sqlite("CAST({0} AS REAL)")
    .of_decimals("CAST({0} AS REAL)")
    .postgres("{0}::float8")
    .mysql("{0} + 0e0");
// It stands wherever a column may stand, so that it is closed.
pub(crate) static AS_FLOAT: F = F::named("the nearest float")
    .sqlite("CAST({0} AS REAL)")
    .postgres("CAST({0} AS float8)")
    .mysql("CAST({0} AS DOUBLE)");
pub(crate) static UUID_TO_TEXT: F = F::named("UUID to text")
    .sqlite("{0}")
    .postgres("{0}::text")
    .mysql("BIN_TO_UUID({0})")
    .mariadb("CAST({0} AS CHAR(36))");
pub(crate) static DATE_TO_TEXT: F = F::named("date to text")
    .sqlite("{0}")
    .postgres("to_char({0}, 'YYYY-MM-DD')")
    .mysql("DATE_FORMAT({0}, '%Y-%m-%d')");
pub(crate) static DATE_TO_DATE_TIME: F = F::named("date to date and time")
    .fallible()
    .sqlite("{0} || 'T00:00:00.000000'")
    .postgres("{0}::timestamp")
    .mysql("CAST({0} AS DATETIME(6))");
pub(crate) static DATE_TO_TIMESTAMP: F = F::named("date to timestamp")
    .fallible()
    .sqlite("{0} || 'T00:00:00.000000Z'")
    .postgres("{0}::timestamp AT TIME ZONE 'UTC'")
    .mysql("CAST({0} AS DATETIME(6))");
pub(crate) static DATE_TIME_TO_DATE: F = F::named("date and time to date")
    .sqlite("substr({0}, 1, 10)")
    .postgres("{0}::date")
    .mysql("DATE({0})");
pub(crate) static DATE_TIME_TO_TIME: F = F::named("date and time to time")
    .sqlite("substr({0}, 12, 15)")
    .postgres("{0}::time")
    .mysql("TIME({0})");
pub(crate) static DATE_TIME_TO_TIMESTAMP: F = F::named("date and time to timestamp")
    .sqlite("{0} || 'Z'")
    .postgres("{0} AT TIME ZONE 'UTC'")
    .mysql("{0}");
pub(crate) static TIMESTAMP_TO_DATE_TIME: F = F::named("timestamp to date and time")
    .sqlite("substr({0}, 1, 26)")
    .postgres("{0} AT TIME ZONE 'UTC'")
    .mysql("{0}");
pub(crate) static NO_CAST: F = F::named("this cast")
    .or_else("engines disagree about it or lack it: read the value and convert it in Rust");

// JSON (RFC 8259). A key is a bind. Each step returns JSON, and the last one reads a type. A number beyond the range of
// the type is NULL, as a value of another type is.

pub(crate) static JSON_KEY: F = F::named("a key of JSON")
    .fallible()
    .sqlite("{0} -> ('$.\"' || {1} || '\"')")
    .postgres("{0} -> {1}")
    .mysql("JSON_EXTRACT({0}, CONCAT('$.\"', {1}, '\"'))");
// The servers treat a value that is no array as an array of one item.
pub(crate) static JSON_ITEM: F = F::named("an item of JSON")
    .fallible()
    .sqlite("{0} -> ('$[' || {1} || ']')")
    .postgres("CASE jsonb_typeof({0}::jsonb) WHEN 'array' THEN {0} -> {1}::int4 END")
    .mysql("CASE JSON_TYPE({0}) WHEN 'ARRAY' THEN JSON_EXTRACT({0}, CONCAT('$[', {1}, ']')) END");
// NULL in place of a value would be JSON's null on some engines, and would empty the whole document on others.
pub(crate) static JSON_WITH_KEY: F = F::named("JSON with a key")
    .fallible()
    .sqlite("CASE WHEN json_type({0}) = 'object' AND {2} IS NOT NULL THEN json_set({0}, '$.\"' || {1} || '\"', json({2})) ELSE {0} END")
    .postgres("CASE WHEN jsonb_typeof({0}::jsonb) = 'object' AND {2} IS NOT NULL THEN jsonb_set({0}::jsonb, ARRAY[{1}], {2}::jsonb) ELSE {0}::jsonb END")
    .mysql("CASE WHEN JSON_TYPE({0}) = 'OBJECT' AND {2} IS NOT NULL THEN JSON_SET({0}, CONCAT('$.\"', {1}, '\"'), JSON_EXTRACT({2}, '$')) ELSE {0} END");
// PostgreSQL would remove equal texts from an array, and refuses other values.
pub(crate) static JSON_WITHOUT_KEY: F = F::named("JSON without a key")
    .fallible()
    .sqlite("json_remove({0}, '$.\"' || {1} || '\"')")
    .postgres(
        "CASE jsonb_typeof({0}::jsonb) WHEN 'object' THEN {0}::jsonb - {1} ELSE {0}::jsonb END",
    )
    .mysql("JSON_REMOVE({0}, CONCAT('$.\"', {1}, '\"'))");
pub(crate) static JSON_CONTAINS: F = F::named("containment of JSON")
    .or_else("compare the values of paths with `json_value`")
    .condition()
    .postgres("{0}::jsonb @> {1}::jsonb");
pub(crate) static JSON_TEXT: F = F::named("text of JSON")
    .fallible()
    .sqlite("CASE json_type({0}) WHEN 'text' THEN {0} ->> '$' END")
    .postgres("CASE jsonb_typeof({0}::jsonb) WHEN 'string' THEN {0} #>> '{{}}' END")
    .mysql("CASE JSON_TYPE({0}) WHEN 'STRING' THEN JSON_UNQUOTE({0}) END");
pub(crate) static JSON_WHOLE: F = F::named("an integer of JSON").fallible()
    .sqlite("CASE WHEN json_type({0}) = 'integer' AND typeof({0} ->> '$') = 'integer' THEN {0} ->> '$' END")
    .postgres("CASE WHEN jsonb_typeof({0}::jsonb) = 'number' AND {0} #>> '{{}}' NOT LIKE '%.%' THEN CASE WHEN ({0} #>> '{{}}')::numeric BETWEEN -9223372036854775808 AND 9223372036854775807 THEN ({0} #>> '{{}}')::int8 END END")
    .mysql("CASE WHEN JSON_TYPE({0}) = 'INTEGER' AND JSON_UNQUOTE({0}) REGEXP '^-?[0-9]{{1,19}}$' COLLATE utf8mb4_bin AND CAST(JSON_UNQUOTE({0}) AS DECIMAL(19)) BETWEEN -9223372036854775808 AND 9223372036854775807 THEN CAST(JSON_UNQUOTE({0}) AS SIGNED) END");
pub(crate) static JSON_FLOAT: F = F::named("a number of JSON").fallible()
    .sqlite("CASE WHEN json_type({0}) IN ('integer', 'real') AND abs(CAST({0} ->> '$' AS REAL)) <= 1.7976931348623157e308 THEN CAST({0} ->> '$' AS REAL) END")
    .postgres("CASE jsonb_typeof({0}::jsonb) WHEN 'number' THEN CASE WHEN abs(({0} #>> '{{}}')::numeric) < 2.5e-324 THEN 0 WHEN abs(({0} #>> '{{}}')::numeric) <= 1.7976931348623157e308 THEN ({0} #>> '{{}}')::float8 END END")
    .mysql("CASE WHEN JSON_TYPE({0}) IN ('INTEGER', 'UNSIGNED INTEGER', 'DECIMAL', 'DOUBLE') AND JSON_UNQUOTE({0}) NOT REGEXP '[eE][+]?0*(309|3[1-9][0-9]|[4-9][0-9][0-9]|[1-9][0-9]{{3,}})$' COLLATE utf8mb4_bin THEN JSON_UNQUOTE({0}) + 0e0 END");
pub(crate) static JSON_BOOLEAN: F = F::named("a truth value of JSON")
    .fallible()
    .sqlite("CASE json_type({0}) WHEN 'true' THEN TRUE WHEN 'false' THEN FALSE END")
    .postgres("CASE jsonb_typeof({0}::jsonb) WHEN 'boolean' THEN ({0} #>> '{{}}')::boolean END")
    .mysql("CASE JSON_TYPE({0}) WHEN 'BOOLEAN' THEN JSON_CONTAINS({0}, 'true') END");

// Arrays. The second argument is a bind, never NULL. Without an array type they are JSON.

pub(crate) static ARRAY_CONTAINS: F = F::named("containment of array items")
    .condition()
    .sqlite("CASE WHEN {0} IS NOT NULL THEN NOT EXISTS (SELECT 1 FROM json_each({1}) WHERE value NOT IN (SELECT value FROM json_each({0}))) END")
    .postgres("{0} @> {1}")
    .mysql("JSON_CONTAINS({0}, {1})");
// JSON_OVERLAPS is in MariaDB since 10.9 only.
pub(crate) static ARRAY_OVERLAPS: F = F::named("common items of arrays")
    .condition()
    .sqlite("CASE WHEN {0} IS NOT NULL THEN EXISTS (SELECT 1 FROM json_each({1}) WHERE value IN (SELECT value FROM json_each({0}))) END")
    .postgres("{0} && {1}")
    .mysql("CASE WHEN {0} IS NOT NULL THEN EXISTS (SELECT 1 FROM JSON_TABLE({1}, '$[*]' COLUMNS (v JSON PATH '$')) AS nepheline_items WHERE JSON_CONTAINS({0}, v)) END");
pub(crate) static ARRAY_LENGTH: F = F::named("the length of an array")
    .sqlite("json_array_length({0})")
    .postgres("cardinality({0})")
    .mysql("JSON_LENGTH({0})");
// `NULL || array` is the array on PostgreSQL, and NULL elsewhere.
pub(crate) static ARRAY_APPEND: F = F::named("appending to an array")
    .sqlite("json_insert({0}, '$[#]', {1} -> '$[0]')")
    .postgres("CASE WHEN {0} IS NOT NULL THEN {0} || {1} END")
    .mysql("JSON_MERGE_PRESERVE({0}, {1})");

// Ranges.

const READ_BOUNDS: &str = "store the bounds in two columns, or read the ranges and compare in Rust";

pub(crate) static RANGE_CONTAINS: F = F::named("containment in a range")
    .or_else(READ_BOUNDS)
    .condition()
    .postgres("{0} @> {1}");
pub(crate) static RANGE_OVERLAPS: F = F::named("overlapping ranges")
    .or_else(READ_BOUNDS)
    .condition()
    .postgres("{0} && {1}");
pub(crate) static RANGE_LOWER: F = F::named("the lower bound of a range")
    .or_else(READ_BOUNDS)
    .postgres("lower({0})");
pub(crate) static RANGE_UPPER: F = F::named("the upper bound of a range")
    .or_else(READ_BOUNDS)
    .postgres("upper({0})");
pub(crate) static RANGE_IS_EMPTY: F = F::named("emptiness of a range")
    .or_else(READ_BOUNDS)
    .postgres("isempty({0})");
