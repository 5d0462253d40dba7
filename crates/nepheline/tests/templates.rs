//! Bind parameters whose values are given later, and which expressions can fail.

#![allow(clippy::unwrap_used, reason = "tests")]

use nepheline::internal::{
    CompileContext, ReadShape, Source, Template, can_fail, parameter, to_prepare,
};
use nepheline::prelude::*;
use nepheline::{BindValue, Carried, RowStruct};
use nepheline_coreshed::Specimen;

fn template(dialect: Dialect, query: &Query<Specimen>) -> Result<Template, Error> {
    let carried = Carried::new();
    to_prepare(query, CompileContext::to_show(dialect.grammar(), &carried), ReadShape::Rows)
}

#[test]
fn a_template_is_given_its_values_by_the_numbers_of_its_parameters() {
    let query = Specimen::rows().filter(|s| {
        s.top_m.gt(parameter::<f64>(1)) & s.borehole_id.eq(parameter::<i64>(0)) & s.id.ne(7)
    });
    for dialect in Dialect::ALL {
        let template = template(dialect, &query).unwrap();
        let statement = template
            .with_values(&[BindValue::Int(3), BindValue::Float(40.5)])
            .unwrap();
        assert_eq!(statement.text(), template.text());
        let binds: Vec<_> = statement.binds().map(|bind| bind.to_value()).collect();
        assert_eq!(binds, [BindValue::Float(40.5), BindValue::Int(3), BindValue::Int(7)]);
        assert!(template.text().contains(if dialect == Dialect::Postgres {
            "> $1"
        } else {
            "> ?"
        }));

        for values in [
            vec![BindValue::Int(3)],
            vec![BindValue::Float(3.0), BindValue::Float(40.5)],
            vec![BindValue::Int(3), BindValue::Float(f64::NAN)],
        ] {
            let err = template.with_values(&values).unwrap_err();
            assert_eq!(err.kind(), ErrorKind::RefusedValue, "{values:?}");
        }
    }
}

#[test]
fn a_query_whose_parameters_have_no_values_does_not_run() {
    let db = nepheline_coreshed::in_memory().unwrap();
    let err = db
        .read(&Specimen::rows().filter(|s| s.id.eq(parameter::<i64>(0))))
        .unwrap_err();
    assert_eq!(err.kind(), ErrorKind::RefusedValue, "{err:#}");
}

#[test]
fn an_expression_knows_whether_computing_it_can_fail() {
    let s = <Specimen as RowStruct>::columns(Source::NOWHERE);
    assert!(!can_fail(s.top_m.gt(50) & s.label.like("a%") | s.analyst_id.is_null()));
    assert!(!can_fail(s.label.lower()));
    assert!(!can_fail(s.assays().any(|a| a.ppm.gt(3))));
    assert!(can_fail(s.id + 1));
    assert!(can_fail((s.top_m / 2).gt(3)));
    assert!(can_fail(s.label.eq("a") & (s.id * 2).gt(7)));
    assert!(can_fail(s.assays().any(|a| (a.ppm * 2).gt(3))));
    assert!(can_fail(verbatim!("{} / 10 = 4", s.id).condition()));
}
