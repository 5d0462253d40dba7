//! The code of the derives: names, keys, types, and independence of the scope around it.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod elsewhere;
mod hostile_names;
mod lints;
mod unique;

use nepheline::SqlType;
use nepheline::prelude::*;

#[test]
fn names_come_from_rust_unless_given() {
    #[derive(Debug, Table)]
    #[nepheline(schema = "survey", table = "thin sections")]
    struct ThinSection {
        #[nepheline(key)]
        r#type: i64,
        #[nepheline(column = "Thickness µm")]
        thickness: Option<f32>,
    }
    let query = ThinSection::rows().filter(|t| t.thickness.is_null() & t.r#type.eq(3));
    insta::assert_snapshot!(query.sql(Dialect::MySql).unwrap());
    let info = ThinSection::INFO;
    assert_eq!((info.schema(), info.name()), (Some("survey"), "thin sections"));
    assert_eq!(info.key().map(|column| column.name()).collect::<Vec<_>>(), ["type"]);
    let thickness = &info.columns()[1];
    assert_eq!((thickness.sql_type(), thickness.is_nullable()), (SqlType::Real, true));
}

#[test]
fn names_are_said_once_for_reading_and_for_writing_out() {
    #[derive(Debug, Clone, Copy, Storable)]
    #[nepheline(serialize)]
    enum Cut {
        #[nepheline(text = "along the axis")]
        Axial,
    }

    #[derive(Debug, Storable)]
    #[nepheline(serialize)]
    struct SectionId(i64);

    #[derive(Debug, Table)]
    #[nepheline(table = "thin sections", serialize)]
    struct ThinSection {
        #[nepheline(key)]
        id: SectionId,
        #[nepheline(column = "Thickness µm")]
        thickness: Option<f64>,
        cut: Cut,
        #[nepheline(column = "polishedOn")]
        polished_on: Date,
    }

    #[derive(Debug, RowShape)]
    #[nepheline(serialize)]
    struct PerCut {
        cut: Cut,
        #[nepheline(column = "sectionCount")]
        sections: i64,
    }

    let section = ThinSection {
        id: SectionId(4),
        thickness: None,
        cut: Cut::Axial,
        polished_on: Date::constant(2024, 2, 29),
    };
    assert_eq!(
        serde_json::to_string(&section).unwrap(),
        r#"{"id":4,"Thickness µm":null,"cut":"along the axis","polishedOn":"2024-02-29"}"#,
    );
    let total = PerCut { cut: Cut::Axial, sections: 2 };
    assert_eq!(
        serde_json::to_string(&total).unwrap(),
        r#"{"cut":"along the axis","sectionCount":2}"#,
    );
    let totals =
        ThinSection::rows().select(|t| shape!(PerCut { cut: per(t.cut), sections: count() }));
    let text = totals.sql(Dialect::Sqlite).unwrap();
    assert!(text.text().contains(r#"AS "sectionCount""#), "{text}");
}
