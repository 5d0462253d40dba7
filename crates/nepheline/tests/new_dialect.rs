//! A dialect that is written in one file, and differs from the others in every answer: what `docs/adding-a-dialect.md` goes
//! through. Its SQL is that of no engine, so that nobody runs it; the snapshot shows it over the tour's questions.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::fmt::Write as _;

use jiff::civil::date;
use nepheline::internal::dialect::{
    Collated, DistinctForm, Grammar, JoinKind, LimitForm, ListEncoding, ListForm, Lock, NullOrder,
    PatternForm, Placeholder, Quotes, ReturningForm, ReturningOf, SetOperator, TruthForm,
    UpsertForm,
};
use nepheline::internal::{
    CompileContext, Function, Part as WritePart, RowRange, Selects, Step, WriteShape,
};
use nepheline::prelude::*;
use nepheline::{Carried, SqlType, Writes, recursive};
use nepheline_coreshed::guarded::{self, AgencyId};
use nepheline_coreshed::scopes::{deeper_than, due_within, labelled, unassigned};
use nepheline_coreshed::{Assay, Borehole, Lab, LabToInsert, Rock, Site, Specimen};

#[derive(Debug)]
struct Bracketed;

impl Grammar for Bracketed {
    fn name(&self) -> &'static str {
        "Bracketed SQL"
    }

    fn system_name(&self) -> &'static str {
        "other_sql"
    }

    fn quotes(&self) -> Quotes {
        Quotes { open: '[', close: ']', ready: None }
    }

    fn placeholder(&self) -> Placeholder {
        Placeholder::Numbered("@p")
    }

    fn truth(&self) -> TruthForm {
        TruthForm::Number {
            of_condition: ["CASE WHEN ", " THEN 1 WHEN NOT (", ") THEN 0 END"],
            is_true: " = 1",
        }
    }

    fn limit(&self) -> LimitForm {
        LimitForm::OffsetFetch
    }

    fn join(&self, kind: JoinKind) -> Option<&'static str> {
        Some(match kind {
            JoinKind::Inner => " JOIN ",
            JoinKind::Left => " LEFT OUTER JOIN ",
            JoinKind::Right => " RIGHT OUTER JOIN ",
            JoinKind::Full => " FULL OUTER JOIN ",
            JoinKind::Cross => " CROSS JOIN ",
        })
    }

    fn set(&self, operator: SetOperator) -> Option<&'static str> {
        match operator {
            SetOperator::Union => Some(" UNION DISTINCT "),
            SetOperator::UnionAll => Some(" UNION ALL "),
            SetOperator::Intersect => None,
            SetOperator::Except => Some(" MINUS "),
        }
    }

    fn recursion(&self) -> Option<&'static str> {
        Some("WITH ")
    }

    fn grouping_sets(&self) -> Option<&'static str> {
        Some("GROUPING SETS ")
    }

    fn text_equality(&self) -> [Collated; 2] {
        [self.text_order(), self.text_order()]
    }

    fn bind_alone(&self, sql_type: SqlType) -> [&'static str; 2] {
        match sql_type {
            SqlType::Date => ["CAST(", " AS DATE)"],
            _ => ["", ""],
        }
    }

    fn text_order(&self) -> Collated {
        Collated::after(" COLLATE Code_Point")
    }

    fn form(&self, function: &Function) -> Option<&'static str> {
        match function.what() {
            "TRUE" => Some("1 = 1"),
            "FALSE" => Some("1 = 0"),
            "IS TRUE" => Some("CASE WHEN {0} THEN 1 ELSE 0 END = 1"),
            "IS FALSE" => Some("CASE WHEN {0} THEN 0 ELSE 1 END = 0"),
            "IS NOT TRUE" => Some("CASE WHEN {0} THEN 0 ELSE 1 END = 1"),
            // The nearest of the others.
            _ => Dialect::Postgres.grammar().form(function),
        }
    }

    fn distinct(&self) -> DistinctForm {
        DistinctForm { open: "NOT EXISTS (SELECT ", operator: " INTERSECT SELECT ", ..CLOSED }
    }

    fn not_distinct(&self, _guarded: bool) -> DistinctForm {
        DistinctForm { open: "EXISTS (SELECT ", operator: " INTERSECT SELECT ", ..CLOSED }
    }

    fn pattern(&self) -> PatternForm {
        PatternForm::Like { collate: " COLLATE Code_Point" }
    }

    fn list(&self, _item: SqlType, _in_expression: bool, _length: usize) -> ListForm {
        ListForm {
            left: self.text_order(),
            open: " IN (SELECT [value] FROM OPENJSON(",
            open_negated: Some(" NOT IN (SELECT [value] FROM OPENJSON("),
            open_both: None,
            close: "))",
            encoding: ListEncoding::Json { zone_mark: false, longest_text: usize::MAX },
            plans_for_values: false,
        }
    }

    fn null_order(&self, descending: bool, nulls_first: bool) -> NullOrder {
        let after =
            if nulls_first { " IS NULL THEN 0 ELSE 1 END" } else { " IS NULL THEN 1 ELSE 0 END" };
        NullOrder {
            first: Some(["CASE WHEN ", after]),
            then: if descending { " DESC" } else { "" },
        }
    }

    fn can_compute(&self, sql_type: SqlType) -> bool {
        sql_type != SqlType::Json
    }

    fn explain(&self, _analyze: bool) -> Option<&'static str> {
        None
    }

    fn lock(&self, lock: Lock) -> Option<[&'static str; 2]> {
        match lock {
            Lock::Wait => Some([" FOR UPDATE", " WAIT"]),
            Lock::Skip | Lock::NoWait | Lock::Share => None,
        }
    }

    fn has_filter(&self) -> bool {
        false
    }

    fn returning(&self, write: ReturningOf) -> Option<ReturningForm> {
        let (opening, column) = match write {
            ReturningOf::Insert | ReturningOf::Update => (" OUTPUT ", "inserted."),
            ReturningOf::Delete => (" OUTPUT ", "deleted."),
        };
        Some(ReturningForm::BeforeRows { opening, column })
    }

    fn default_row(&self) -> &'static str {
        " DEFAULT VALUES"
    }

    fn sets_in_turn(&self) -> bool {
        true
    }

    fn upsert(&self) -> Option<UpsertForm> {
        None
    }

    fn most_inserted(&self) -> [usize; 2] {
        [2_100, 1_000]
    }
}

const CLOSED: DistinctForm =
    DistinctForm { open: "", operator: "", or_both_null: false, close: ")" };

#[derive(Debug, RowShape)]
struct RegionTotal {
    region: String,
    specimens: i64,
    unassigned: i64,
}

#[derive(Debug, RowShape)]
struct Part {
    id: i64,
    label: String,
    level: i64,
}

/// The texts of a query and its binds, or the reason why there are none.
fn shown(out: &mut String, what: &str, query: &impl Selects) {
    let carried = Carried::new().with(AgencyId(1));
    let mut statements = Vec::new();
    let shown = query.show(CompileContext::to_show(&Bracketed, &carried), &mut statements);
    writeln!(out, "# {what}").unwrap();
    match shown {
        Ok(()) => {
            for sql in statements {
                writeln!(out, "{}", sql.by_clause()).unwrap();
            }
        }
        Err(err) => writeln!(out, "{err}").unwrap(),
    }
    writeln!(out).unwrap();
}

/// The text of a write whose rows are given back.
fn shown_write(out: &mut String, what: &str, write: &impl Writes, part: WritePart) {
    let carried = Carried::new().with(AgencyId(1));
    let step = Step { part, shape: WriteShape::Rows, found: None };
    writeln!(out, "# {what}").unwrap();
    match write.statement(CompileContext::to_show(&Bracketed, &carried), &step) {
        Ok(statement) => writeln!(out, "{}\n", statement.text()).unwrap(),
        Err(err) => writeln!(out, "{err}\n").unwrap(),
    }
}

#[test]
fn a_dialect_of_one_file_writes_the_questions_of_the_tour() {
    let mut out = String::new();
    let text = &mut out;
    shown(text, "all rows", &Specimen::rows().order_by(|s| (s.analyst_id.asc(), s.label.asc())));
    shown(text, "by key", &Specimen::row(42));
    shown(
        text,
        "scopes",
        &Specimen::rows()
            .filter(deeper_than(50.0).negated().or(unassigned))
            .filter(labelled(vec!["ød-1".to_owned()]))
            .limit(5)
            .offset(10),
    );
    shown(text, "an offset alone", &Specimen::rows().offset(10));
    shown(
        text,
        "truth values",
        &Lab::rows()
            .filter(|l| l.accredited)
            .select(|l| (l.accredited, l.name.eq("Ostra Assays"), l.country.like("N%").is_true())),
    );
    shown(
        text,
        "lists",
        &Specimen::rows()
            .filter(|s| s.rock.one_of([Rock::Basalt]) & s.analyst_id.none_of([1, 2]))
            .filter(|s| s.id.none_of([3]) & s.analyst_id.is_not_distinct_from(Some(4))),
    );
    let today = date(2024, 6, 15);
    shown(
        text,
        "dates",
        &Assay::rows()
            .filter(due_within(30, today))
            .select(|a| (a.due_on, bind(today))),
    );
    shown(
        text,
        "parents",
        &Specimen::rows()
            .filter(|s| s.borehole().site().region.eq("Upper Tarn"))
            .select(|s| (s.label, s.borehole().name, s.analyst().map(|a| a.name))),
    );
    shown(
        text,
        "children",
        &Specimen::rows()
            .filter(|s| s.assays().count().ge(8) & s.hazards().not_exists())
            .select(|s| (s.label, s.assays().count(), s.assays().exists())),
    );
    shown(
        text,
        "alongside",
        &Borehole::rows()
            .select(|b| b.name)
            .alongside(|b| b.specimens().order_by(|s| s.top_m.desc()).limit(2)),
    );
    shown(
        text,
        "joins",
        &Specimen::rows()
            .join(|s| s.borehole())
            .join(|(s, _)| Lab::rows().filter(move |l| l.name.eq(s.label))),
    );
    shown(
        text,
        "totals",
        &Specimen::rows()
            .select(|s| {
                shape!(RegionTotal {
                    region: per(s.borehole().site().region),
                    specimens: nepheline::count(),
                    unassigned: nepheline::count().filter(s.analyst_id.is_null()),
                })
            })
            .having(|_| nepheline::count().gt(100))
            .order_by(|s| per(s.borehole().site().region).asc()),
    );
    shown(
        text,
        "windows",
        &Specimen::rows().select(|s| {
            (s.label, rank().over(|w| w.partition_by(s.rock).order_by(s.top_m.desc())))
        }),
    );
    let whole = Specimen::rows()
        .filter(|s| s.parent_id.is_null())
        .select(|s| shape!(Part { id: s.id, label: s.label, level: bind(0_i64) }));
    let parts = recursive(whole, 20, |before| {
        Specimen::rows()
            .join(|s| before.filter(|b| s.parent_id.eq(b.id)))
            .select(|(s, b)| shape!(Part { id: s.id, label: s.label, level: b.level + 1 }))
    });
    shown(text, "recursion", &parts);
    let labels = || {
        Specimen::rows().select(|s| shape!(Part { id: s.id, label: s.label, level: bind(0_i64) }))
    };
    shown(text, "sets", &labels().union(labels()).except(labels()));
    shown(text, "a set that there is not", &labels().intersect(labels()));
    shown(text, "policies", &guarded::Site::rows());
    shown(text, "a lock", &Site::rows().for_update());
    shown(text, "a lock that there is not", &Site::rows().for_update_skip_locked());
    shown_write(
        text,
        "an update",
        &Specimen::row(7).update(|s| (s.top_m.set(s.top_m + 0.5), s.analyst_id.set_null())),
        WritePart::All,
    );
    let lab = || {
        Lab::insert(LabToInsert {
            name: "Ostra Assays".into(),
            country: "NO".into(),
            accredited: true,
        })
    };
    let one = WritePart::New(RowRange { first: 0, end: 1 });
    shown_write(text, "an insert", &lab(), one);
    shown_write(text, "an upsert that there is not", &lab().or_keep(|l| l.name), one);
    shown_write(
        text,
        "a delete",
        &Lab::rows().filter(|l| l.country.eq("NO")).delete(),
        WritePart::All,
    );
    insta::assert_snapshot!(out);
}
